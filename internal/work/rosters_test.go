package work

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestAnotherRosterIsNotTakenOverWithoutAWord: one that differs by more than a tenth
// from the last one changes nothing unless that is said, and one can go back.
func TestAnotherRosterIsNotTakenOverWithoutAWord(t *testing.T) {
	y := newYard(t)
	people := func(n int, of string) string {
		var b strings.Builder
		b.WriteString("id,given,family\n")
		for i := range n {
			fmt.Fprintf(&b, "%s%d,Given%d,Family%d\n", of, i, i, i)
		}
		return b.String()
	}
	reconcile := func(text string, another bool) {
		t.Helper()
		y.rosters, y.Stdin = map[string]*Roster{}, strings.NewReader(text)
		y.at = y.at.AddDate(0, 0, 1)
		_, err := y.Reconcile(t.Context(), y.open(t), &ReconcileRequest{Question: Question{Roster: RosterFrom{Where: "-"}}, Another: another})
		require.NoError(t, err)
	}
	used := func() (rows []int) {
		t.Helper()
		all, err := y.Rosters(t.Context(), y.open(t))
		require.NoError(t, err)
		for _, r := range all {
			n := r.Rows
			if r.InUse {
				n = -n
			}
			rows = append(rows, n)
		}
		return rows
	}
	reconcile(people(60, "a"), false)
	reconcile(people(66, "a"), false) // six more of sixty
	assert.Equal(t, []int{-66, 60}, used())
	y.notes = nil
	reconcile(people(73, "a"), false) // seven more of 66
	assert.Contains(t, strings.Join(y.notes, "\n"), "this roster differs by 7 people from the last one of the yard, which has 66: it is not taken over")
	reconcile(people(66, "b"), false)
	assert.Equal(t, []int{-66, 60}, used())
	reconcile(people(66, "b"), true)
	assert.Equal(t, []int{-66, 66, 60}, used())
	y.at = y.at.AddDate(0, 0, 1)
	all, err := y.Rosters(t.Context(), y.open(t))
	require.NoError(t, err)
	require.NoError(t, y.UseRoster(t.Context(), y.open(t), &all[2]))
	assert.Equal(t, []int{-60, 66, 66, 60}, used())
	for n := 70; n < 85; n++ {
		reconcile(people(n, "c"), true)
	}
	assert.Len(t, used(), mostRosters)
}
