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
	one, err := s.Decide(ctx, Exemptions, []byte(`{"reason":"one"}`), record(EventExempted, []byte(`{}`)))
	require.NoError(t, err)
	two, err := s.Decide(ctx, Exemptions, []byte(`{"reason":"two"}`), record(EventExempted, []byte(`{}`)))
	require.NoError(t, err)
	end := func(id int) error {
		return s.End(ctx, Exemptions, id, func(body []byte) *Record { return record(EventExemptionEnded, body) })
	}
	require.NoError(t, end(one))
	assert.ErrorIs(t, end(one), ErrNoExemption)
	assert.ErrorIs(t, end(99), ErrNoExemption)
	all, err := s.Decisions(ctx, Exemptions)
	require.NoError(t, err)
	assert.Equal(t, []Decision{{two, []byte(`{"reason":"two"}`)}}, all)

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
	for _, step := range []string{"DROP INDEX lines_by_entry", "DROP TABLE signins", "DROP TABLE exemptions", "DROP TABLE links", "DROP TABLE deliveries", "DROP TABLE messages", "DROP TABLE brakes", "DROP TABLE runs", "DROP TABLE told", "DROP TABLE readers", "DROP TABLE presences", "DROP TABLE audits", "ALTER TABLE batches ADD COLUMN state TEXT NOT NULL DEFAULT ''", "ALTER TABLE lines ADD COLUMN note TEXT NOT NULL DEFAULT ''", "DROP INDEX journal_by_event", "ALTER TABLE journal DROP COLUMN event",
		"INSERT INTO journal (seq, batch, line, record, hash) VALUES (2, 0, 0, '{broken', 'x')", "DELETE FROM goose_db_version WHERE version_id > 1", "PRAGMA user_version = 1"} {
		_, err = s.db.ExecContext(ctx, step)
		require.NoError(t, err)
	}
	require.NoError(t, s.Close())

	s, err = Open(ctx, dir)
	require.NoError(t, err)
	defer s.Close()
	for _, k := range []Kind{Exemptions, Links} {
		all, err := s.Decisions(ctx, k)
		require.NoError(t, err)
		assert.Empty(t, all)
	}
	_, err = s.Verify(ctx, "")
	require.ErrorContains(t, err, "journal record 2 was changed", "a broken record is still found, and no more than that")
	_, err = s.db.ExecContext(ctx, "DELETE FROM journal WHERE seq = 2")
	require.NoError(t, err)
	journal, err := s.Journal(ctx, 0, 0)
	require.NoError(t, err)
	assert.Len(t, journal, 1)
	_, err = s.Verify(ctx, "")
	require.NoError(t, err)
	found := 0
	require.NoError(t, s.Since(ctx, "staged", time.Unix(0, 0), func(*Sealed) error { found++; return nil }))
	assert.Equal(t, 1, found)
}
