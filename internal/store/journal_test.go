package store

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// written appends records of an event, batch and line each, a second apart.
func written(t *testing.T, s *Store, records ...Record) (hashes []string) {
	t.Helper()
	for i := range records {
		r := records[i]
		r.By, r.Body = "ada", []byte("{}")
		if r.At.IsZero() {
			r.At = time.Unix(int64(i), 0).UTC()
		}
		sealed, err := s.Append(context.Background(), &r)
		require.NoError(t, err)
		hashes = append(hashes, sealed.Hash)
	}
	return hashes
}

func TestTheJournalIsReadByEventTimeBatchAndLine(t *testing.T) {
	ctx := context.Background()
	s := open(t, t.TempDir())
	hashes := written(t, s, Record{Event: "begun", Batch: 1}, Record{Event: "settled", Batch: 1, Line: 1}, Record{Event: "settled", Batch: 1, Line: 2}, Record{Event: "settled", Batch: 1, Line: 1},
		Record{Event: "ended", Batch: 1}, Record{Event: "begun", Batch: 2}, Record{Event: "settled", Batch: 2, Line: 1}, Record{Event: "begun", Batch: 1})
	brief := func(r *Sealed) string { return fmt.Sprintf("%d %s %d/%d", r.Seq, r.Event, r.Batch, r.Line) }
	since := func(event string, from int64) (out []string) {
		t.Helper()
		require.NoError(t, s.Since(ctx, event, time.Unix(from, 0).UTC(), func(r *Sealed) error { out = append(out, brief(r)); return nil }))
		return out
	}
	assert.Equal(t, []string{"7 settled 2/1", "4 settled 1/1", "3 settled 1/2"}, since("settled", 2), "from this moment on, the latest first")
	assert.Equal(t, []string{"8 begun 1/0", "6 begun 2/0", "1 begun 1/0"}, since("begun", 0))
	assert.Empty(t, since("begun", 8))
	stop := errors.New("enough")
	assert.ErrorIs(t, s.Since(ctx, "settled", time.Time{}, func(*Sealed) error { return stop }), stop)

	about, err := s.About(ctx, 1)
	require.NoError(t, err)
	var got []string
	for i := range about {
		got = append(got, brief(&about[i]))
	}
	assert.Equal(t, []string{"1 begun 1/0", "5 ended 1/0", "8 begun 1/0"}, got)

	lines, err := s.LastOfLines(ctx, 0, "settled")
	require.NoError(t, err)
	at := map[LineOf]int{}
	for of, r := range lines {
		at[of] = int(r.Seq)
	}
	assert.Equal(t, map[LineOf]int{{1, 1}: 4, {1, 2}: 3, {2, 1}: 7}, at)
	lines, err = s.LastOfLines(ctx, 2, "settled")
	require.NoError(t, err)
	assert.Len(t, lines, 1)
	batches, err := s.LastOfBatches(ctx, 0, "begun", "ended")
	require.NoError(t, err)
	assert.Equal(t, "8 begun 1/0", func() string { r := batches[1]; return brief(&r) }())
	assert.Len(t, batches, 2)

	for i, want := range hashes {
		hash, err := s.HashOf(ctx, i+1)
		require.NoError(t, err)
		assert.Equal(t, want, hash)
	}
	_, err = s.HashOf(ctx, len(hashes)+1)
	assert.ErrorContains(t, err, "there is no journal record 9")
}

// A state folder says by whom it was written, so that a mount that is read only
// can be told from one that is too old.
func TestAReadOnlyStateOfThisVersionIsRead(t *testing.T) {
	dir := t.TempDir()
	s, err := Open(context.Background(), dir)
	require.NoError(t, err)
	fill(t, s, 3)
	require.NoError(t, s.Close())
	path := filepath.Join(dir, "yardbroom.db")
	if _, err := os.Stat(path + "-wal"); err == nil {
		require.NoError(t, os.Remove(path+"-wal"))
	}
	ro, err := openReadOnly(context.Background(), dir, path)
	require.NoError(t, err)
	t.Cleanup(func() { ro.Close() })
	p, err := ro.Verify(context.Background(), "")
	require.NoError(t, err)
	assert.Equal(t, 3, p.Records)
}
