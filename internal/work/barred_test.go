package work

import (
	"context"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/batch"
)

const cleoLeft = "1,Ada,Quill,\n2,Bram,Tern,\n3,Cleo,Birk,2020-01-31\n4,Dov,Ekholm,\n5,Kay,Keeper,\n"

func TestWhoHasLeftIsNotEnabled(t *testing.T) {
	for name, c := range map[string]struct {
		roster string
		reject bool   // that the account is Cleo's
		why    string // it is refused, "" where it is not
	}{
		"nothing is known":         {},
		"by the roster she works":  {roster: everybody},
		"by the roster she left":   {roster: cleoLeft, why: "Birk, Cleo (3) has left, by the last roster"},
		"it is not hers, as known": {roster: cleoLeft, reject: true},
	} {
		t.Run(name, func(t *testing.T) {
			y := newYard(t)
			if c.roster != "" {
				y.reconciled(t, c.roster)
			}
			if c.reject {
				_, err := y.Decide(t.Context(), y.open(t), Decision{Verdict: Rejected, Account: "cleo", Person: "3"})
				require.NoError(t, err)
			}
			staged, err := y.Stage(t.Context(), y.open(t), &StageRequest{Actions: []string{batch.Enable}, Choice: Choice{Names: []string{"cleo"}}})
			card, cardErr := y.Show(t.Context(), y.open(t), "cleo", &Question{})
			require.NoError(t, cardErr)
			if c.why == "" {
				require.NoError(t, err)
				assert.Empty(t, card.NotToBeEnabled)
				return
			}
			require.ErrorIs(t, err, batch.ErrNothing)
			require.Len(t, staged.Refusals, 1)
			assert.Contains(t, staged.Refusals[0].Why, c.why)
			assert.Contains(t, card.NotToBeEnabled, c.why)
			assert.Nil(t, staged.Batch)
		})
	}
}

func TestWhoLeavesAfterStagingIsNotEnabledByApply(t *testing.T) {
	y := newYard(t)
	b := y.must(t, &StageRequest{Actions: []string{batch.Enable}, Choice: Choice{Names: []string{"cleo"}}})
	y.reconciled(t, cleoLeft)
	done, err := y.Apply(t.Context(), b, &CarryRequest{})
	require.NoError(t, err)
	assert.True(t, done.NotDone())
	assert.Equal(t, batch.Refused, done.Batch.Lines[0].State)
	assert.Contains(t, done.Batch.Lines[0].Note, "has left")
	assert.Equal(t, "514", y.flags(t, "Cleo Birk"))
}

func TestWhoIsSuspendedIsEnabledOnlyByTakingThatBack(t *testing.T) {
	y := newYard(t)
	ctx := context.Background()
	suspended := y.must(t, &StageRequest{Actions: []string{batch.Disable}, Until: "2027-06-30", Choice: Choice{Names: []string{"ada"}}})
	_, err := y.Apply(ctx, suspended, &CarryRequest{})
	require.NoError(t, err)
	require.Equal(t, "514", y.flags(t, "Ada Quill"))

	staged, err := y.Stage(ctx, y.open(t), &StageRequest{Actions: []string{batch.Enable}, Choice: Choice{Names: []string{"ada"}}})
	require.ErrorIs(t, err, batch.ErrNothing)
	assert.Contains(t, staged.Refusals[0].Why, "it is suspended")

	back, err := y.Undo(ctx, suspended, nil, &BackRequest{})
	require.NoError(t, err)
	assert.False(t, back.NotDone())
	assert.Equal(t, "512", y.flags(t, "Ada Quill"))
}

// TestALeaverWhoIsNoneAnyMoreIsNotDisabled stages leavers by one roster and
// applies by what is known later.
func TestALeaverWhoIsNoneAnyMoreIsNotDisabled(t *testing.T) {
	const adaLeft = "1,Ada,Quill,2020-01-31\n2,Bram,Tern,\n3,Cleo,Birk,\n4,Dov,Ekholm,\n5,Kay,Keeper,\n"
	leaver := &StageRequest{Actions: []string{batch.Disable}, Question: Question{Checks: []string{"leaver-enabled"}}, WholeRoster: true}
	for name, c := range map[string]struct {
		then  func(t *testing.T, y *yard)
		state batch.LineState
	}{
		"nothing new": {func(*testing.T, *yard) {}, batch.Applied},
		"a later roster has her": {func(t *testing.T, y *yard) {
			y.at = now.AddDate(0, 0, 1)
			y.reconciled(t, everybody)
		}, batch.Refused},
		"a later roster says the same": {func(t *testing.T, y *yard) {
			y.at = now.AddDate(0, 0, 1)
			y.reconciled(t, adaLeft)
		}, batch.Applied},
		"it is not hers": {func(t *testing.T, y *yard) {
			_, err := y.Decide(t.Context(), y.open(t), Decision{Verdict: Rejected, Account: "ada", Person: "1"})
			require.NoError(t, err)
		}, batch.Refused},
	} {
		t.Run(name, func(t *testing.T) {
			y := newYard(t)
			y.reconciled(t, adaLeft)
			b := y.must(t, leaver)
			c.then(t, y)
			done, err := y.Apply(t.Context(), b, &CarryRequest{})
			require.NoError(t, err)
			assert.Equal(t, c.state, done.Batch.Lines[0].State, done.Batch.Lines[0].Note)
			assert.Equal(t, c.state == batch.Applied, strings.HasPrefix(y.flags(t, "Ada Quill"), "514"))
		})
	}
}
