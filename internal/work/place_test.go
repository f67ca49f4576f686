package work

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/settings"
)

func TestWhereEntriesComeFrom(t *testing.T) {
	y := newYard(t)
	small := y.Settings.Yards["small"]
	small.Scope, small.TimeZone = []string{"OU=Staff," + base}, "Europe/Berlin"
	y.Settings.Yards["small"] = small
	_, err := y.KeepSurvey(t.Context(), y.open(t), "kept", false)
	require.NoError(t, err)
	file := filepath.Join(t.TempDir(), "larkmoor.ldif")
	require.NoError(t, os.WriteFile(file, []byte("dn: "+base+"\nobjectClass: domainDNS\n\nnonsense\n\n"), 0o600))
	url := small.Servers[0]
	for where, want := range map[string]struct {
		name  string
		live  bool
		scope int
		zone  string
	}{
		"":      {"small", true, 1, "Europe/Berlin"},
		"small": {"small", true, 1, "Europe/Berlin"},
		url:     {"small", true, 1, "Europe/Berlin"}, // a server of a yard keeps the yard's bounds
		"kept":  {"kept", false, 1, "Europe/Berlin"},
		file:    {file, false, 1, "Europe/Berlin"},
	} {
		p, err := y.Open(t.Context(), From{Where: where})
		if !assert.NoError(t, err, where) {
			continue
		}
		_, live := p.Server()
		assert.Equal(t, want.name, p.Name, where)
		assert.Equal(t, want.live, live, where)
		assert.Len(t, p.Yard.Scope, want.scope, where)
		assert.Equal(t, want.zone, p.Location().String(), where)
		p.Close()
	}
	for _, from := range []From{{Where: "nowhere"}, {Where: "http://larkmoor.example"}, {Where: file, Access: Access{Dialect: "x500"}}} {
		_, err := y.Open(t.Context(), from)
		assert.ErrorAs(t, err, new(RequestError), "%+v", from)
	}
	y.Settings.Default = ""
	_, err = y.Open(t.Context(), From{})
	assert.ErrorAs(t, err, new(RequestError))
	_, err = y.OpenServer(t.Context(), From{Where: file})
	assert.ErrorAs(t, err, new(RequestError))

	// What cannot be read of a file is counted, and nothing is staged from it.
	p, err := y.Open(t.Context(), From{Where: file, KeepGoing: true})
	require.NoError(t, err)
	defer p.Close()
	_, err = p.Survey(t.Context())
	require.NoError(t, err)
	assert.Equal(t, 1, p.Broken)
}

func TestForWhichTimeIsJudged(t *testing.T) {
	y := newYard(t)
	survey, err := y.open(t).Survey(t.Context())
	require.NoError(t, err)
	survey.Taken = now.AddDate(0, 0, -3)
	berlin, err := time.LoadLocation("Europe/Berlin")
	require.NoError(t, err)
	for text, want := range map[string]time.Time{"": survey.Taken, "2026-07-01": time.Date(2026, 7, 1, 23, 59, 59, 0, berlin), "2026-07-01T10:00:00Z": time.Date(2026, 7, 1, 10, 0, 0, 0, time.UTC)} {
		got, err := y.asOf(text, berlin, survey)
		require.NoError(t, err)
		assert.Equal(t, want.Unix(), got.Unix(), text)
	}
	got, err := y.asOf("", berlin, nil)
	require.NoError(t, err)
	assert.Equal(t, now, got)
	_, err = y.asOf("soon", berlin, nil)
	assert.ErrorAs(t, err, new(RequestError))
}

func TestSettingsThatCannotBe(t *testing.T) {
	for name, change := range map[string]func(*settings.Settings){
		"an action that there is not": func(s *settings.Settings) {
			s.Audit.Filters = map[string]settings.Filter{"odd": {Filter: "(l=Tarn)", Text: "odd", Suggest: []string{"explode"}}}
		},
		"an attribute that decides on rights": func(s *settings.Settings) { s.Batch.Attributes = []string{"memberOf"} },
		"a filter that is none": func(s *settings.Settings) {
			s.Audit.Filters = map[string]settings.Filter{"odd": {Filter: "(l=", Text: "odd"}}
		},
	} {
		set := settings.Defaults()
		change(set)
		_, err := New(set)
		assert.ErrorAs(t, err, new(RequestError), name)
	}
}

func TestBoundsThatDoNotExist(t *testing.T) {
	y := newYard(t)
	small := y.Settings.Yards["small"]
	small.Scope = []string{"OU=Stuff," + base}
	y.Settings.Yards["small"] = small
	p := y.open(t)
	require.NoError(t, y.NoteMissing(t.Context(), p, nil))
	require.Len(t, y.notes, 1)
	assert.Contains(t, y.notes[0], "OU=Stuff")
	assert.ErrorContains(t, y.RefuseMissing(t.Context(), p, nil), "nothing is judged nor changed by bounds that do not exist")
	_, err := y.Stage(t.Context(), p, disable("ada"))
	assert.ErrorContains(t, err, "OU=Stuff")
	assert.Equal(t, "512", y.flags(t, "Ada Quill"))
}

func TestLookingMakesNoStateFolder(t *testing.T) {
	y := newYard(t)
	y.State = filepath.Join(y.State, "none")
	p := y.open(t)
	_, err := y.Judge(t.Context(), p, &Question{})
	require.NoError(t, err)
	_, err = y.Show(t.Context(), p, "ada", &Question{})
	require.NoError(t, err)
	_, err = y.Links(t.Context())
	require.NoError(t, err)
	_, err = y.SeenReturn(t.Context(), p)
	require.NoError(t, err)
	_, err = os.Stat(y.State)
	assert.ErrorIs(t, err, os.ErrNotExist)
}
