package work

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/settings"
	"yardbroom/internal/store"
)

func TestWhatIsKeptThinsOut(t *testing.T) {
	at := time.Date(2027, 3, 31, 6, 0, 0, 0, time.UTC) // a Wednesday
	var nights []time.Time
	for d := 400; d >= 0; d-- {
		nights = append(nights, at.AddDate(0, 0, -d))
	}
	self := func(t time.Time) time.Time { return t }
	left := func(t settings.Thinning) (days []string) {
		gone := map[time.Time]bool{}
		for _, n := range thinned(nights, self, t, at) {
			gone[n] = true
		}
		for _, n := range nights {
			if !gone[n] {
				days = append(days, n.Format(time.DateOnly))
			}
		}
		return days
	}
	assert.Equal(t, []string{
		"2027-01-31", "2027-02-28", // the last of each month, before the weeks
		"2027-03-07", "2027-03-14", "2027-03-21", "2027-03-28", // Sundays
		"2027-03-29", "2027-03-30", "2027-03-31",
	}, left(settings.Thinning{Days: 3, Weeks: 3, Months: 2}))
	assert.Equal(t, []string{"2027-03-31"}, left(settings.Thinning{Days: 1}))
	assert.Len(t, left(settings.Thinning{}), 401, "nothing is set: all of it stays")
	old := []time.Time{at.AddDate(-3, 0, 0)}
	assert.Empty(t, thinned(old, self, settings.Thinning{Days: 3}, at), "the last one stays, however old")
}

func TestSurveysAuditsAndRunsGoWhenTheirTimeIsOver(t *testing.T) {
	y := newYard(t)
	y.Settings.Keep = settings.Keeping{Surveys: settings.Thinning{Days: 3}, Audits: settings.Thinning{Days: 3}, Runs: settings.Thinning{Days: 3}}
	kept, err := y.Store(t.Context())
	require.NoError(t, err)
	_, err = y.KeepSurvey(t.Context(), y.open(t), "before-the-move", false)
	require.NoError(t, err)
	for range 30 {
		_, err := y.KeepSurvey(t.Context(), y.open(t), "", false)
		require.NoError(t, err)
		y.audited(t, Before{Since: "last", Keep: true})
		run := &store.Run{Round: "nightly", Began: y.at, Body: []byte("{}")}
		require.NoError(t, kept.BeginRun(t.Context(), run))
		run.Ended = y.at
		require.NoError(t, kept.EndRun(t.Context(), &store.Ending{Run: run}))
		require.NoError(t, os.MkdirAll(RunFolder(y.State, "nightly", run.ID), 0o700))
		y.at = y.at.AddDate(0, 0, 1)
	}
	y.audited(t, Before{Since: "last", Keep: true})
	old, err := y.Prunable(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "28 surveys, 28 audits, 10 runs", old.String())
	assert.Equal(t, [3]int{3, 3, 20}, old.Stay, "what somebody has named, and twenty runs, stay")
	require.NoError(t, y.Prune(t.Context(), old))
	surveys, _, err := y.Surveys()
	require.NoError(t, err)
	require.Len(t, surveys, 3)
	assert.Equal(t, "before-the-move", surveys[0].Name)
	files, err := filepath.Glob(y.State + "/surveys/*")
	require.NoError(t, err)
	assert.Len(t, files, 6)
	folders, err := filepath.Glob(y.State + "/rounds/nightly/*")
	require.NoError(t, err)
	assert.Len(t, folders, 20)
	again, err := y.Prunable(t.Context())
	require.NoError(t, err)
	assert.True(t, again.Nothing())
	found := y.audited(t, Before{Since: "last", Keep: true})
	assert.Empty(t, found, "what is there is still known: %v", found)
}
