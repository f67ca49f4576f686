package store

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func open(t *testing.T, dir string) *Store {
	t.Helper()
	s, err := Open(context.Background(), dir)
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	return s
}

func fill(t *testing.T, s *Store, n int) (last Sealed) {
	t.Helper()
	for i := range n {
		var err error
		last, err = s.Append(context.Background(), &Record{At: time.Unix(int64(i), 0).UTC(), By: "ada", Event: "intent", Batch: 1, Line: i + 1, Body: json.RawMessage(fmt.Sprintf(`{"n":%d}`, i))})
		require.NoError(t, err)
	}
	return last
}

func TestTheStateFolderIsPrivate(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "state")
	open(t, dir)
	for path, want := range map[string]os.FileMode{dir: 0o700, filepath.Join(dir, "yardbroom.db"): 0o600} {
		info, err := os.Stat(path)
		require.NoError(t, err)
		assert.Equal(t, want, info.Mode().Perm(), path)
	}
}

func TestVerifyProvesAWholeJournal(t *testing.T) {
	s := open(t, t.TempDir())
	p, err := s.Verify(context.Background(), "")
	require.NoError(t, err)
	assert.Zero(t, p.Records)
	seq, head, err := s.Head(context.Background())
	require.NoError(t, err)
	assert.Zero(t, seq)
	assert.Equal(t, p.Head, head, "an empty journal has a head, too")
	last := fill(t, s, 5)
	p, err = s.Verify(context.Background(), last.Hash[:12])
	require.NoError(t, err)
	assert.Equal(t, Proof{Records: 5, Head: last.Hash}, p)
	records, err := s.Journal(context.Background(), 1, 3)
	require.NoError(t, err)
	require.Len(t, records, 1)
	assert.JSONEq(t, `{"n":2}`, string(records[0].Body))
}

func TestVerifyFindsEveryKindOfTampering(t *testing.T) {
	for name, sql := range map[string]string{
		"changed":                  `UPDATE journal SET record = replace(record, 'ada', 'bob') WHERE seq = 3`,
		"changed with a new hash":  `UPDATE journal SET record = replace(record, 'ada', 'bob'), hash = 'x' WHERE seq = 3`,
		"removed":                  `DELETE FROM journal WHERE seq = 3`,
		"removed and renumbered":   `DELETE FROM journal WHERE seq = 3; UPDATE journal SET seq = seq - 1 WHERE seq > 3`,
		"put in between":           `UPDATE journal SET seq = -seq - 1 WHERE seq > 2; UPDATE journal SET seq = -seq WHERE seq < 0; INSERT INTO journal SELECT 3, batch, line, record, hash, event FROM journal WHERE seq = 2`,
		"cut off the end":          `DELETE FROM journal WHERE seq > 3`,
		"filed under another line": `UPDATE journal SET line = 9 WHERE seq = 3`,
		"filed as another event":   `UPDATE journal SET event = 'nothing' WHERE seq = 3`,
	} {
		t.Run(name, func(t *testing.T) {
			s := open(t, t.TempDir())
			last := fill(t, s, 5)
			_, err := s.db.Exec(sql)
			require.NoError(t, err)
			_, err = s.Verify(context.Background(), last.Hash)
			assert.Error(t, err)
		})
	}
}

func TestOneRunnerAtATime(t *testing.T) {
	dir := t.TempDir()
	a, b := open(t, dir), open(t, dir)
	unlock, err := a.Lock()
	require.NoError(t, err)
	_, err = b.Lock()
	require.ErrorIs(t, err, ErrBusy)
	unlock()
	unlock, err = b.Lock()
	require.NoError(t, err)
	unlock()
}

func TestANewerDatabaseIsLeftAlone(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	_, err := s.db.Exec("PRAGMA user_version = 99")
	require.NoError(t, err)
	_, err = Open(context.Background(), dir)
	assert.ErrorContains(t, err, "newer version")
}

func TestAnEmptiedJournalIsNotWhole(t *testing.T) {
	ctx := context.Background()
	s := open(t, t.TempDir())
	_, err := s.AddBatch(ctx, func(id int) (*Batch, *Record, error) {
		return &Batch{Head: []byte("{}"), Lines: []Line{{N: 1, Body: []byte("{}")}}}, &Record{Event: "staged", Batch: id, Body: json.RawMessage("{}")}, nil
	})
	require.NoError(t, err)
	require.NoError(t, s.Whole(ctx))
	_, err = s.db.Exec("DELETE FROM journal")
	require.NoError(t, err)
	_, err = s.Verify(ctx, "")
	require.ErrorContains(t, err, "no record of the staging of 1 of the batches, the first of them batch 1")
	assert.ErrorContains(t, s.Whole(ctx), "nothing is signed, carried out or taken back")
	_, err = s.Accept(ctx, "the disk was full", "clara", time.Now())
	require.NoError(t, err)
	require.NoError(t, s.Whole(ctx), "the acceptance is the first record, and can be proved")
	fill(t, s, 2)
	require.NoError(t, s.Whole(ctx))
}

func TestABreakIsAcceptedAsItIsAndNoOther(t *testing.T) {
	ctx := context.Background()
	s := open(t, t.TempDir())
	_, err := s.Accept(ctx, "for fun", "ada", time.Now())
	require.ErrorContains(t, err, "whole; there is nothing to accept")
	fill(t, s, 5)
	exec := func(sql string) {
		t.Helper()
		_, err := s.db.Exec(sql)
		require.NoError(t, err)
	}
	exec("UPDATE journal SET record = replace(record, 'ada', 'bob') WHERE seq = 3")
	require.Error(t, s.Whole(ctx))
	fault, err := s.Accept(ctx, "a disk error, put right by hand", "clara", time.Now())
	require.NoError(t, err)
	assert.Contains(t, fault, "record 3 was changed")
	require.NoError(t, s.Whole(ctx))
	fill(t, s, 2)
	require.NoError(t, s.Whole(ctx), "what was written since then is whole")
	_, err = s.Verify(ctx, "")
	require.Error(t, err, "it stays broken for whoever asks")

	for name, sql := range map[string][2]string{
		"the same record changed again": {"UPDATE journal SET record = replace(record, 'bob', 'zoe') WHERE seq = 3", "UPDATE journal SET record = replace(record, 'zoe', 'bob') WHERE seq = 3"},
		"a later one before it":         {"UPDATE journal SET record = replace(record, 'ada', 'zoe') WHERE seq = 5", "UPDATE journal SET record = replace(record, 'zoe', 'ada') WHERE seq = 5"},
		"one behind it":                 {"UPDATE journal SET record = replace(record, 'ada', 'zoe') WHERE seq = 7", "UPDATE journal SET record = replace(record, 'zoe', 'ada') WHERE seq = 7"},
		"the acceptance itself":         {"UPDATE journal SET record = replace(record, 'clara', 'zoe') WHERE seq = 6", "UPDATE journal SET record = replace(record, 'zoe', 'clara') WHERE seq = 6"},
		"an earlier one":                {"UPDATE journal SET record = replace(record, 'ada', 'zoe') WHERE seq = 2", "UPDATE journal SET record = replace(record, 'zoe', 'ada') WHERE seq = 2"},
	} {
		exec(sql[0])
		assert.Error(t, s.Whole(ctx), name)
		exec(sql[1])
		require.NoError(t, s.Whole(ctx), name)
	}
}

func TestABatchIsOnePersonsAtATime(t *testing.T) {
	dir := t.TempDir()
	a, b := open(t, dir), open(t, dir)
	unlock, err := a.LockBatch(7)
	require.NoError(t, err)
	_, err = b.LockBatch(7)
	require.ErrorIs(t, err, ErrInUse)
	other, err := b.LockBatch(8)
	require.NoError(t, err)
	other()
	unlock()
	unlock, err = b.LockBatch(7)
	require.NoError(t, err)
	unlock()
}

func TestBatchesAndTheirLinesAreToldApart(t *testing.T) {
	ctx := context.Background()
	s := open(t, t.TempDir())
	for id := 1; id <= 2; id++ {
		_, err := s.AddBatch(ctx, func(id int) (*Batch, *Record, error) {
			return &Batch{Head: fmt.Appendf(nil, `{"n":%d}`, id), Lines: []Line{{N: 1, Body: []byte(`"a"`)}, {N: 2, Body: []byte(`"b"`)}}}, &Record{By: "ada", Event: "staged", Batch: id}, nil
		})
		require.NoError(t, err)
	}
	require.NoError(t, s.DropLines(ctx, 2, []int{1}, &Record{By: "ada", Event: "dropped", Batch: 2}))
	_, err := s.AppendAll(ctx, &Record{By: "ada", Event: "line", Batch: 1, Line: 1, Body: json.RawMessage(`1`)}, &Record{By: "ada", Event: "line", Batch: 1, Line: 1, Body: json.RawMessage(`2`)},
		&Record{By: "ada", Event: "line", Batch: 1, Line: 2, Body: json.RawMessage(`3`)}, &Record{By: "ada", Event: "line", Batch: 2, Line: 2, Body: json.RawMessage(`4`)}, &Record{By: "ada", Event: "applied", Batch: 2})
	require.NoError(t, err)

	dropped := func(lines []Line) (all []bool) {
		for _, l := range lines {
			all = append(all, l.Dropped)
		}
		return all
	}
	one, err := s.Batch(ctx, 2)
	require.NoError(t, err)
	assert.Equal(t, `{"n":2}`, string(one.Head))
	assert.Equal(t, []bool{true, false}, dropped(one.Lines))
	_, err = s.Batch(ctx, 3)
	assert.ErrorIs(t, err, ErrNoBatch)
	all, err := s.Batches(ctx)
	require.NoError(t, err)
	require.Len(t, all, 2)
	assert.Equal(t, []int{1, 2}, []int{all[0].ID, all[1].ID})
	assert.Equal(t, []bool{false, false}, dropped(all[0].Lines))
	assert.Equal(t, []bool{true, false}, dropped(all[1].Lines))
	heads, err := s.Heads(ctx)
	require.NoError(t, err)
	assert.Len(t, heads, 2)

	bodies := func(batch int) map[LineOf]string {
		last, err := s.LastOfLines(ctx, batch, "line")
		require.NoError(t, err)
		out := map[LineOf]string{}
		for line, r := range last {
			out[line] = string(r.Body)
		}
		return out
	}
	assert.Equal(t, map[LineOf]string{{1, 1}: "2", {1, 2}: "3", {2, 2}: "4"}, bodies(0), "the last of each")
	assert.Equal(t, map[LineOf]string{{1, 1}: "2", {1, 2}: "3"}, bodies(1))
	events := func(batch int) map[int]string {
		last, err := s.LastOfBatches(ctx, batch, "staged", "applied")
		require.NoError(t, err)
		out := map[int]string{}
		for id, r := range last {
			out[id] = r.Event
		}
		return out
	}
	assert.Equal(t, map[int]string{1: "staged", 2: "applied"}, events(0))
	assert.Equal(t, map[int]string{2: "applied"}, events(2))
}

func TestAHeadIsProvedByEightOfItsDigits(t *testing.T) {
	s := open(t, t.TempDir())
	last := fill(t, s, 2)
	_, err := s.Verify(context.Background(), last.Hash[:8])
	require.NoError(t, err)
	_, err = s.Verify(context.Background(), last.Hash[:7])
	assert.ErrorContains(t, err, "no journal record has the hash")
}
