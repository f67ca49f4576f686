package store

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestExemptionsAreKeptUntilTheyAreEnded(t *testing.T) {
	ctx := context.Background()
	s, err := Open(ctx, t.TempDir())
	require.NoError(t, err)
	defer s.Close()
	record := func(event string, body []byte) *Record {
		return &Record{At: time.Unix(1, 0).UTC(), By: "tester", Event: event, Body: body}
	}
	one, err := s.AddExemption(ctx, []byte(`{"reason":"one"}`), record(EventExempted, []byte(`{}`)))
	require.NoError(t, err)
	two, err := s.AddExemption(ctx, []byte(`{"reason":"two"}`), record(EventExempted, []byte(`{}`)))
	require.NoError(t, err)
	end := func(id int) error {
		return s.EndExemption(ctx, id, func(body []byte) *Record { return record(EventExemptionEnded, body) })
	}
	require.NoError(t, end(one))
	assert.ErrorIs(t, end(one), ErrNoExemption)
	assert.ErrorIs(t, end(99), ErrNoExemption)
	all, err := s.Exemptions(ctx)
	require.NoError(t, err)
	assert.Equal(t, []Exemption{{two, []byte(`{"reason":"two"}`)}}, all)

	// Each is in the journal, and what was refused left no trace.
	journal, err := s.Journal(ctx, 0, 0)
	require.NoError(t, err)
	var events []string
	for _, r := range journal {
		events = append(events, r.Event)
	}
	assert.Equal(t, []string{EventExempted, EventExempted, EventExemptionEnded}, events)
	assert.JSONEq(t, `{"reason":"one"}`, string(journal[2].Body))
	_, err = s.Verify(ctx, "")
	require.NoError(t, err)
}

func TestAStateFolderOfTheFirstVersionIsTakenOver(t *testing.T) {
	ctx := context.Background()
	dir := t.TempDir()
	s, err := Open(ctx, dir)
	require.NoError(t, err)
	_, err = s.Append(ctx, &Record{At: time.Unix(1, 0).UTC(), By: "tester", Event: "staged"})
	require.NoError(t, err)
	for _, step := range []string{"DROP TABLE exemptions", "DELETE FROM goose_db_version WHERE version_id > 1", "PRAGMA user_version = 1"} {
		_, err = s.db.ExecContext(ctx, step)
		require.NoError(t, err)
	}
	require.NoError(t, s.Close())

	s, err = Open(ctx, dir)
	require.NoError(t, err)
	defer s.Close()
	all, err := s.Exemptions(ctx)
	require.NoError(t, err)
	assert.Empty(t, all)
	journal, err := s.Journal(ctx, 0, 0)
	require.NoError(t, err)
	assert.Len(t, journal, 1)
}
