package work

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"yardbroom/internal/reconcile"
	"yardbroom/internal/roster"
)

// slowDiffering counts from two lists of people who are on one roster each, as often as
// they like: for the earlier the last row counts, for the later the first.
func slowDiffering(a, b []roster.Row) int {
	was, is, n := map[string]employed{}, map[string]employed{}, 0
	for i := range a {
		was[reconcile.KeyOfRow(&a[i])] = employedBy(&a[i])
	}
	for i := range b {
		if key := reconcile.KeyOfRow(&b[i]); is[key] == (employed{}) {
			is[key] = employedBy(&b[i])
		}
	}
	for key, e := range is {
		if old, known := was[key]; !known || old != e {
			n++
		}
	}
	for key := range was {
		if _, still := is[key]; !still {
			n++
		}
	}
	return n
}

func TestHowManyPeopleTwoRostersDiffer(t *testing.T) {
	row := rapid.Custom(func(t *rapid.T) (r roster.Row) {
		r.Values[roster.PersonID] = rapid.SampledFrom([]string{"1", "2", "3", "4", "5", "", ""}).Draw(t, "id")
		r.Values[roster.Family] = rapid.SampledFrom([]string{"Quill", "quill", "Tern"}).Draw(t, "family")
		r.Status = rapid.SampledFrom([]roster.Word{"active", "gone"}).Draw(t, "status")
		r.End = time.Date(2026, 11, rapid.IntRange(1, 2).Draw(t, "end"), 0, 0, 0, 0, time.UTC)
		return r
	})
	rapid.Check(t, func(t *rapid.T) {
		a := rapid.SliceOfN(row, 0, 8).Draw(t, "a")
		b := append([]roster.Row{}, a[:rapid.IntRange(0, len(a)).Draw(t, "alike")]...)
		b = append(b, rapid.SliceOfN(row, 0, 4).Draw(t, "b")...)
		alike := len(a) == len(b)
		for i := range b {
			alike = alike && sameRow(&a[i], &b[i])
		}
		want := slowDiffering(a, b)
		if alike {
			want = 0 // however often somebody is on it
		}
		require.Equal(t, want, differing(&roster.Roster{Rows: a}, &roster.Roster{Rows: b}))
	})
}
