package source

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/demo"
	"yardbroom/internal/directory"
	"yardbroom/internal/practice"
)

// What may not be read stays known with a kept survey, and the survey is not
// called whole.
func TestAKeptSurveyHoldsWhatWasHidden(t *testing.T) {
	for name, c := range map[string]struct {
		deny  func(d *practice.Directory)
		whole bool
	}{
		"nothing":                  {nil, true},
		"sign-ins of one account":  {func(d *practice.Directory) { d.Deny("CN=svc-dome,OU=Service Accounts,"+demo.Base, false, "lastLogon") }, false},
		"the domain's own affairs": {func(d *practice.Directory) { d.Deny("CN=System,"+demo.Base, true) }, true},
	} {
		url := observatory(t, "dc1.larkmoor.example", demoText(t), c.deny)
		live := connectTo(t, "", url)
		folder := t.TempDir()
		m, err := Keep(t.Context(), live, Keeping{Dir: folder, Name: "kept", Now: time.Now})
		require.NoError(t, err, name)
		assert.True(t, m.RightsRead, name)
		assert.Equal(t, c.whole, m.Complete, name)
		kept, err := OpenKept(folder, "kept")
		require.NoError(t, err)
		again, err := kept.Survey(t.Context())
		require.NoError(t, err)
		fresh, err := live.Survey(t.Context())
		require.NoError(t, err)
		assert.True(t, again.RightsRead)
		assert.Equal(t, fresh.HiddenAttributes(directory.AttrSet{}), again.HiddenAttributes(directory.AttrSet{}), name)
		assert.Equal(t, fresh.Hiding(), again.Hiding(), name)
		assert.Equal(t, c.whole, again.Whole(), name)
		if name == "sign-ins of one account" {
			assert.NotEmpty(t, again.HiddenAttributes(directory.AttrSet{}))
		}
	}
}

// All entries are asked at once when there are many doubtful ones, for a directory of that
// size, or when asking for some has taken longer than asking for all would.
func TestWhenAllAreAskedAtOnce(t *testing.T) {
	whole := map[directory.Key]struct{}{}
	for i := range 80_000 {
		whole[directory.Key{uint64(i)}] = struct{}{}
	}
	mail := directory.Attrs(directory.AttrMail)
	for name, c := range map[string]struct {
		v    seer
		many bool
	}{
		"nothing was met":                  {seer{took: time.Second}, false},
		"five pages":                       {seer{asked: 5000}, false},
		"more than five pages":             {seer{asked: 5001}, true},
		"more than five pages, but few":    {seer{asked: 5001, whole: whole}, false},
		"one for eight that hide nothing":  {seer{asked: 10_001, whole: whole}, true},
		"sooner than all would be":         {seer{asked: 50, took: time.Second, spent: 2 * time.Second, often: mail}, false},
		"later than all would be":          {seer{asked: 50, took: time.Second, spent: 2*time.Second + 1, often: mail}, true},
		"how long all take was not looked": {seer{asked: 50, spent: time.Hour}, false},
	} {
		c.v.server = &Server{}
		assert.Equal(t, c.many, c.v.many(), name)
	}
}
