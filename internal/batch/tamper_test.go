package batch

import (
	"context"
	"database/sql"
	"encoding/json"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	_ "modernc.org/sqlite"

	"yardbroom/internal/source"
	"yardbroom/internal/store"
)

// A batch, and the journal that says what was staged, are changed at every
// octet of what decides what is done; each change is found, by the proof of
// the journal or when the batch is loaded.
func TestTamperingIsFoundAtAnyOctet(t *testing.T) {
	ctx := context.Background()
	dir := t.TempDir()
	st, err := store.Open(ctx, dir)
	require.NoError(t, err)
	b := &Batch{Identity: source.Identity{Dialect: "ad", Base: "DC=larkmoor,DC=example", ID: "S-1-5-21-1-2-3"}, Created: time.Unix(1800000000, 0).UTC(), By: "tester", Actions: []string{Disable},
		Lines: []Line{{N: 1, DN: "CN=a,DC=larkmoor,DC=example", ID: "1", Account: "ada", Confidence: "sure", Guard: []Guard{}, Actions: []Action{{Name: Disable}}, Changes: []Change{}},
			{N: 2, DN: "CN=b,DC=larkmoor,DC=example", ID: "2", Account: "bram", Confidence: "sure", Guard: []Guard{}, Actions: []Action{{Name: Disable}}, Changes: []Change{}}}}
	require.NoError(t, b.Save(ctx, st))
	_, err = b.Drop(ctx, st, []string{"bram"}, "tester", time.Unix(1800000001, 0).UTC())
	require.NoError(t, err)
	_, err = Load(ctx, st, b.ID)
	require.NoError(t, err)
	db, err := sql.Open("sqlite", "file:"+filepath.Join(dir, "yardbroom.db"))
	require.NoError(t, err)
	defer db.Close()

	found := func(what string) {
		t.Helper()
		_, loadErr := Load(ctx, st, b.ID)
		_, verifyErr := st.Verify(ctx, "")
		if loadErr == nil && verifyErr == nil {
			t.Fatalf("%s goes unnoticed", what)
		}
	}
	exec := func(query string, args ...any) {
		t.Helper()
		_, err := db.ExecContext(ctx, query, args...)
		require.NoError(t, err)
	}
	tried := 0
	for _, cell := range []struct{ table, column, where string }{{"journal", "record", "seq = 1"}, {"journal", "hash", "seq = 1"}, {"journal", "record", "seq = 2"}, {"journal", "hash", "seq = 2"},
		{"batches", "head", "id = 1"}, {"lines", "body", "n = 1"}, {"lines", "body", "n = 2"}, {"lines", "state", "n = 2"}} {
		var was string
		require.NoError(t, db.QueryRowContext(ctx, "SELECT "+cell.column+" FROM "+cell.table+" WHERE "+cell.where).Scan(&was))
		for i := range was {
			for _, bit := range []byte{1, 4, 32} {
				changed := []byte(was)
				if changed[i] ^= bit; changed[i] < ' ' || changed[i] > '~' {
					continue
				}
				exec("UPDATE "+cell.table+" SET "+cell.column+" = ? WHERE "+cell.where, string(changed))
				found(cell.table + "." + cell.column + ": " + string(changed))
				tried++
			}
		}
		exec("UPDATE "+cell.table+" SET "+cell.column+" = ? WHERE "+cell.where, was)
	}
	require.Greater(t, tried, 1000)
	exec("UPDATE lines SET state = 'dropped' WHERE n = 1")
	found("a line dropped behind the journal's back")
	exec("UPDATE lines SET state = 'waiting' WHERE n = 1")
	exec("DELETE FROM journal WHERE seq = 2")
	found("a record cut off the end")
}

func TestStatesAreTheJournalsOnly(t *testing.T) {
	ctx := context.Background()
	dir := t.TempDir()
	st, err := store.Open(ctx, dir)
	require.NoError(t, err)
	defer st.Close()
	b := &Batch{By: "ada", Actions: []string{Disable}, Lines: []Line{{N: 1, DN: "CN=a", ID: "1", Account: "ada", Guard: []Guard{}, Actions: []Action{{Name: Disable}}, Changes: []Change{}}}}
	require.NoError(t, b.Save(ctx, st))
	db, err := sql.Open("sqlite", "file:"+filepath.Join(dir, "yardbroom.db"))
	require.NoError(t, err)
	defer db.Close()
	_, err = db.ExecContext(ctx, "UPDATE lines SET state = 'done'")
	require.NoError(t, err)
	kept, err := Load(ctx, st, b.ID)
	require.NoError(t, err)
	assert.Equal(t, Waiting, kept.Lines[0].State)
	add := func(event string, line int, body string) {
		t.Helper()
		_, err := st.Append(ctx, &store.Record{Event: event, Batch: b.ID, Line: line, Body: json.RawMessage(body)})
		require.NoError(t, err)
	}
	state := func() (State, LineState) {
		t.Helper()
		kept, err := Load(ctx, st, b.ID)
		require.NoError(t, err)
		all, err := List(ctx, st)
		require.NoError(t, err)
		heads, err := Heads(ctx, st)
		require.NoError(t, err)
		assert.Equal(t, [2]State{kept.State, kept.State}, [2]State{all[0].State, heads[0].State})
		assert.Equal(t, kept.Lines[0].State, all[0].Lines[0].State)
		return kept.State, kept.Lines[0].State
	}
	check := func(want State, line LineState) {
		t.Helper()
		s, l := state()
		assert.Equal(t, want, s)
		assert.Equal(t, line, l)
	}
	check(Staged, Waiting)
	add(EventBegun, 0, "{}")
	check(Begun, Waiting)
	add(EventSettled, 1, `{"state":"failed"}`)
	add(EventEnded, 0, `{"Counts":{"failed":1}}`)
	check(Begun, Failed)
	add(EventSettled, 1, `{"state":"done","note":"at last"}`)
	add(EventEnded, 0, `{"Counts":{"done":1}}`)
	check(Done, Applied)
	add(EventDiscarded, 0, "null")
	check(Discarded, Applied)
}
