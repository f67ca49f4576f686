package store

import (
	"context"
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestARunEndsAtOnceWithAllThatItSays(t *testing.T) {
	s, ctx := open(t, t.TempDir()), context.Background()
	_, p := day(t, s, 1, "", "stale a")
	at := time.Date(2027, 1, 1, 6, 0, 0, 0, time.UTC)
	run := &Run{Round: "nightly", Began: at, Body: []byte("{}")}
	require.NoError(t, s.BeginRun(ctx, run))
	run.Ended, run.Outcome = at.Add(time.Minute), "stopped"
	m := &Message{Round: "nightly", Run: run.ID, Kind: "mail", Made: at, Head: []byte("{}"), Body: []byte("text"),
		To: []Delivery{{Address: "ada@larkmoor.example"}, {Address: "ben@larkmoor.example"}}}
	ending := &Ending{Run: run, Told: map[string][]int{"nightly": {p["stale a"]}}, Messages: []*Message{m},
		Brake:  &Brake{Round: "nightly", Run: run.ID, Why: []byte(`"far more than usual"`)},
		Record: &Record{At: at, By: "ada", Event: EventBraked}}
	require.NoError(t, s.EndRun(ctx, ending))

	runs, err := s.Runs(ctx, "nightly", 5)
	require.NoError(t, err)
	assert.Equal(t, []*Run{run}, runs)
	braked, err := s.BrakeOf(ctx, "nightly")
	require.NoError(t, err)
	assert.Equal(t, ending.Brake, braked)
	told, err := s.Told(ctx, "nightly")
	require.NoError(t, err)
	assert.Len(t, told, 1)
	released := &Brake{Round: "nightly", Run: run.ID, Why: []byte(`"released"`)}
	require.NoError(t, s.SetBrake(ctx, released, &Record{At: at, By: "ada", Event: EventReleased}))
	braked, err = s.BrakeOf(ctx, "nightly")
	require.NoError(t, err)
	assert.Equal(t, released, braked)
	records, err := s.Journal(ctx, 0, 0)
	require.NoError(t, err)
	require.Len(t, records, 2, "being stopped and being released are in the journal")

	// A message is kept until the last one has it, or never will.
	for i, state := range []string{DeliverySent, DeliveryRefused} {
		waiting, err := s.Waiting(ctx)
		require.NoError(t, err)
		require.Len(t, waiting, 1)
		require.Len(t, waiting[0].To, 2-i)
		body, err := s.Body(ctx, m.ID)
		require.NoError(t, err)
		assert.Equal(t, "text", string(body))
		d := waiting[0].To[0]
		d.State, d.Tries = state, 1
		require.NoError(t, s.NoteDelivery(ctx, m.ID, &d))
	}
	body, err := s.Body(ctx, m.ID)
	require.NoError(t, err)
	assert.Empty(t, body)
	of, err := s.MessagesOf(ctx, run.ID)
	require.NoError(t, err)
	require.Len(t, of, 1)
	assert.Equal(t, []Delivery{{Address: "ada@larkmoor.example", State: DeliverySent, Tries: 1},
		{Address: "ben@larkmoor.example", State: DeliveryRefused, Tries: 1}}, of[0].To)
	require.NoError(t, s.EndRun(ctx, &Ending{Run: run, Unbrake: true}))
	braked, err = s.BrakeOf(ctx, "nightly")
	require.NoError(t, err)
	assert.Nil(t, braked)
	require.NoError(t, s.ForgetRuns(ctx, []int{run.ID}))
	of, err = s.MessagesOf(ctx, run.ID)
	require.NoError(t, err)
	assert.Empty(t, of)
}

func TestAForgottenRunKeepsWhatStillWaits(t *testing.T) {
	s, ctx := open(t, t.TempDir()), context.Background()
	run := &Run{Round: "nightly", Began: time.Unix(0, 0), Body: []byte("{}")}
	require.NoError(t, s.BeginRun(ctx, run))
	require.NoError(t, s.EndRun(ctx, &Ending{Run: run, Messages: []*Message{{Run: run.ID, Kind: "mail", Head: []byte("{}"),
		Body: []byte("text"), To: []Delivery{{Address: "ada@larkmoor.example"}}}}}))
	require.NoError(t, s.ForgetRuns(ctx, []int{run.ID}))
	waiting, err := s.Waiting(ctx)
	require.NoError(t, err)
	assert.Len(t, waiting, 1)
}

func TestARoundRunsOnceAtATime(t *testing.T) {
	dir := t.TempDir()
	a, b := open(t, dir), open(t, dir)
	unlock, err := a.LockRound("nightly")
	require.NoError(t, err)
	_, err = b.LockRound("nightly")
	require.True(t, errors.Is(err, ErrRunning))
	other, err := b.LockRound("weekly")
	require.NoError(t, err)
	other()
	unlock()
	again, err := b.LockRound("nightly")
	require.NoError(t, err)
	again()
}

func TestAMessageOfNoRunGoesOnceItWasHandedOver(t *testing.T) {
	s := open(t, t.TempDir())
	ctx := t.Context()
	m := &Message{Kind: "mail", Made: time.Now(), Head: []byte("{}"), Body: []byte("hello"), To: []Delivery{{Address: "a@x"}, {Address: "b@x"}}}
	require.NoError(t, s.AddMessages(ctx, m))
	told := &Record{At: time.Now(), By: "tester", Event: "told"}
	require.NoError(t, s.NoteDelivery(ctx, m.ID, &Delivery{Address: "a@x", State: DeliverySent}, told))
	waiting, err := s.Waiting(ctx)
	require.NoError(t, err)
	require.Len(t, waiting, 1, "somebody still waits for it")
	require.NoError(t, s.NoteDelivery(ctx, m.ID, &Delivery{Address: "b@x", State: DeliveryRefused}))
	left, err := s.messages(ctx, "1")
	require.NoError(t, err)
	assert.Empty(t, left)
	records, err := s.Events(ctx, "told")
	require.NoError(t, err)
	assert.Len(t, records, 1)
}
