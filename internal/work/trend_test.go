package work

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/directory"
)

func TestATrendIsWhatEachDayFound(t *testing.T) {
	y := newYard(t)
	idle := func(cn string, days int) {
		y.dir.Edit("CN="+cn+",OU=Staff,"+base, func(e *directory.Entry) {
			e.Set("lastLogon", directory.FormatFileTime(y.at.AddDate(0, 0, -days)))
		})
	}
	trend := func(r *TrendRequest) *Trend {
		got, err := y.Trend(t.Context(), y.open(t), r)
		require.NoError(t, err)
		return got
	}
	assert.Empty(t, trend(&TrendRequest{}).Days)
	for day, who := range []string{"Ada Quill", "Bram Tern", ""} {
		if who != "" {
			idle(who, 200)
		}
		y.audited(t, Before{Since: "last"}, "stale")
		if day == 1 {
			y.audited(t, Before{Since: "last"}, "disabled") // first looked at now
		}
		y.at = y.at.AddDate(0, 0, 1)
	}
	idle("Ada Quill", 1)
	y.audited(t, Before{Since: "last"}, "stale")
	all := trend(&TrendRequest{})
	var stale, disabled []int
	for _, d := range all.Days {
		stale = append(stale, d.Checks["stale"].Findings)
		disabled = append(disabled, d.Checks["disabled"].Findings)
	}
	assert.Equal(t, []int{1, 2, 2, 1}, stale)
	assert.Equal(t, []int{0, 1, 1, 1}, disabled, "as it was last looked at")
	assert.Equal(t, []string{"stale"}, all.Days[2].Looked)
	require.Len(t, all.Came, 1, "what was first looked at later has not come: %v", all.Came)
	assert.Equal(t, "bram", all.Came[0].Account)
	require.Len(t, all.Went, 1)
	assert.Equal(t, "ada", all.Went[0].Account)
	assert.Equal(t, 4, all.Days[0].Accounts["user"]["enabled"])

	assert.Len(t, trend(&TrendRequest{Since: "2026-11-21", Until: "2026-11-22"}).Days, 2)
	assert.Len(t, trend(&TrendRequest{Since: "1d"}).Days, 2)
	_, err := y.Trend(t.Context(), y.open(t), &TrendRequest{Since: "yesterdayish"})
	require.ErrorAs(t, err, new(RequestError))
}

func TestWhatWasHiddenOnADayIsNotGone(t *testing.T) {
	y := newYard(t)
	y.dir.Edit("CN=Ada Quill,OU=Staff,"+base, func(e *directory.Entry) {
		e.Set("lastLogon", directory.FormatFileTime(now.AddDate(0, 0, -200)))
	})
	y.audited(t, Before{Since: "last"}, "stale")
	y.at = y.at.AddDate(0, 0, 1)
	for _, attr := range []string{"lastLogon", "lastLogonTimestamp"} {
		y.dir.Deny(base, true, attr)
	}
	y.audited(t, Before{Since: "last"}, "stale")
	all, err := y.Trend(t.Context(), y.open(t), &TrendRequest{})
	require.NoError(t, err)
	require.Len(t, all.Days, 2)
	assert.Equal(t, 1, all.Days[1].Checks["stale"].Findings)
	assert.Empty(t, all.Went)
}
