package work

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/audit"
	"yardbroom/internal/directory"
	"yardbroom/internal/store"
)

// audited is which accounts an audit of the small yard finds that are not known
// before, by check; a reader is told of them.
func (y *yard) audited(t *testing.T, before Before, checks ...string) map[string][]string {
	t.Helper()
	p, q := y.open(t), &Question{Checks: checks}
	r, err := y.Judge(t.Context(), p, q)
	require.NoError(t, err)
	r, m, err := y.Remember(t.Context(), p, q, r, before)
	require.NoError(t, err)
	if before.Reader != "" {
		require.NoError(t, y.TellReader(t.Context(), before.Reader, m))
	}
	out := map[string][]string{}
	for _, f := range r.Findings {
		out[f.Check] = append(out[f.Check], f.Account)
	}
	return out
}

func (y *yard) sets(cn, attr, value string) {
	y.dir.Edit("CN="+cn+",OU=Staff,"+base, func(e *directory.Entry) { e.Set(attr, value) })
}

func TestEachReaderIsToldOnce(t *testing.T) {
	y := newYard(t)
	ada, ben, last := Before{Reader: "ada"}, Before{Reader: "ben"}, Before{Since: "last"}
	assert.Equal(t, []string{"cleo"}, y.audited(t, ada)["disabled"])
	assert.Empty(t, y.audited(t, ada), "she was told of everything")
	assert.Equal(t, []string{"cleo"}, y.audited(t, ben)["disabled"], "that she was told is nothing to him")
	y.at = y.at.AddDate(0, 0, 1)
	y.sets("Dov Ekholm", "userAccountControl", "514")
	assert.Equal(t, []string{"dov"}, y.audited(t, last)["disabled"])
	assert.Equal(t, map[string][]string{"disabled": {"dov"}}, y.audited(t, ada, "disabled"), "by one check too")
	assert.Equal(t, []string{"dov"}, y.audited(t, last)["disabled"], "a look moves nobody's memory")
	assert.Equal(t, []string{"dov"}, y.audited(t, Before{Since: "last", Keep: true})["disabled"])
	assert.Empty(t, y.audited(t, last), "what was remembered is not new")
	y.sets("Dov Ekholm", "userAccountControl", "512")
	assert.Empty(t, y.audited(t, ada))
	y.sets("Dov Ekholm", "userAccountControl", "514")
	assert.Equal(t, []string{"dov"}, y.audited(t, ada)["disabled"], "it went and came back")
}

// A check that cannot be looked at finds nothing, and that is no news: neither are
// its findings gone, nor are they new when it can be looked at again.
func TestWhatIsHiddenForADayIsNotNewTheNext(t *testing.T) {
	y := newYard(t)
	reader := Before{Reader: "ada"}
	found := y.audited(t, reader)
	require.Contains(t, found["disabled"], "cleo")
	values := map[string]string{}
	for _, cn := range []string{"Ada Quill", "Bram Tern", "Cleo Birk", "Dov Ekholm", "Keeper"} {
		y.dir.Edit("CN="+cn+",OU=Staff,"+base, func(e *directory.Entry) {
			values[cn] = e.First("userAccountControl")
			e.Set("userAccountControl")
		})
	}
	assert.Empty(t, y.audited(t, reader)["disabled"])
	for cn, value := range values {
		y.sets(cn, "userAccountControl", value)
	}
	assert.Empty(t, y.audited(t, reader)["disabled"])
}

func TestGoneIsOnlyWhatWouldHaveBeenFound(t *testing.T) {
	looked := CheckCount{Looked: true}
	blind := CheckCount{Looked: true, NotLooked: []string{"computers: none shows lastLogon"}}
	for _, one := range []struct {
		what      string
		whole     bool
		now, then CheckCount
		want      bool
	}{
		{"looked at as then", true, looked, looked, true},
		{"read in part only", false, looked, looked, false},
		{"not looked at at all", true, CheckCount{}, looked, false},
		{"computers cannot be looked at now", true, blind, looked, false},
		{"they could not then either", true, blind, blind, true},
		{"more is looked at than then", true, looked, blind, true},
	} {
		now := &Counts{Whole: one.whole, Checks: map[string]CheckCount{"stale": one.now}}
		then := &Counts{Checks: map[string]CheckCount{"stale": one.then}}
		assert.Equal(t, one.want, now.proves("stale", then), one.what)
		assert.False(t, now.proves("expired", then), "a check that was not asked for")
	}
}

func TestFactsFoundTwiceHaveTwoMarks(t *testing.T) {
	f := audit.Finding{Check: "stale", DN: "CN=a", Account: "a"}
	all := marks([]audit.Finding{f, f, {Check: "stale", DN: "CN=b", Account: "b"}, f})
	slices.SortFunc(all, func(a, b store.Mark) int { return slices.Compare(a[:], b[:]) })
	assert.Len(t, slices.Compact(all), 4)
}

func TestPlacesAreCountedTwoLevelsDeep(t *testing.T) {
	for place, want := range map[string]string{"Staff/Astronomy/Dome": "Staff/Astronomy", "Staff/Astronomy": "Staff/Astronomy", "Staff": "Staff", "": ""} {
		assert.Equal(t, want, topOf(place))
	}
}

func TestOnlyAMomentIsLookedUpInWhatIsRemembered(t *testing.T) {
	for since, want := range map[string]bool{"last": true, "2026-11-20": true, "2026-11-20T12:00:00Z": true, "monday": false, "": false} {
		_, got := BeforeMoment(since)
		assert.Equal(t, want, got, since)
	}
}

func TestWhatHalfARosterDoesNotShowIsNotGone(t *testing.T) {
	y := newYard(t)
	leavers := "1,Ada,Quill,2020-01-01\n2,Bram,Tern,2020-01-01\n3,Cleo,Birk,\n4,Dov,Ekholm,\n5,Kay,Keeper,\n"
	compared := func(rows string) []string {
		y.rosters = map[string]*Roster{}
		y.Stdin = strings.NewReader("id,given,family,end\n" + rows)
		r, err := y.Reconcile(t.Context(), y.open(t), &ReconcileRequest{Question: Question{Checks: []string{"leaver-enabled"},
			Roster: RosterFrom{Where: "-"}}, Before: Before{Reader: "kay"}})
		require.NoError(t, err)
		require.NoError(t, y.TellReader(t.Context(), "kay", r.Memory))
		var who []string
		for _, f := range r.Findings {
			who = append(who, f.Account)
		}
		return who
	}
	assert.ElementsMatch(t, []string{"ada", "bram"}, compared(leavers))
	assert.Empty(t, compared("3,Cleo,Birk,\n4,Dov,Ekholm,\n"), "the first half is missing")
	assert.Empty(t, compared(leavers), "nobody is new who was there before")
	assert.Empty(t, compared(strings.ReplaceAll(leavers, "2020-01-01", "")))
	assert.ElementsMatch(t, []string{"ada", "bram"}, compared(leavers), "they were back, and have left again")
}
