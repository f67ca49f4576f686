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
