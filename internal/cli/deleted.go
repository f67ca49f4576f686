package cli

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"yardbroom/internal/batch"
	"yardbroom/internal/calendar"
	"yardbroom/internal/whole"
)

// deletedFolder is where what a batch deletes is kept as LDIF, a file a line.
func (a *app) deletedFolder(b *batch.Batch) string {
	return filepath.Join(a.state, "deleted", fmt.Sprintf("batch-%d", b.ID))
}

// keepDeleted writes what there was of an entry, before it is deleted.
func (a *app) keepDeleted(b *batch.Batch) func(*batch.Line, []batch.LDIFChange) error {
	if a.set.Batch.KeepDeleted == (calendar.Span{}) {
		return nil
	}
	return func(l *batch.Line, there []batch.LDIFChange) error {
		folder := a.deletedFolder(b)
		if err := os.MkdirAll(folder, 0o700); err != nil {
			return err
		}
		about := fmt.Sprintf("%s, deleted by line %d of batch %d on %s; these records make it anew, the remarks are what no client can write", l.DN, l.N, b.ID, a.now().UTC().Format(time.RFC3339))
		return whole.Write(filepath.Join(folder, fmt.Sprintf("line-%d.ldif", l.N)), func(w io.Writer) error { return batch.WriteLDIF(w, about, there) })
	}
}

// forgetDeleted removes what was kept of deleted entries for as long as the
// settings say.
func (a *app) forgetDeleted() error {
	files, err := filepath.Glob(filepath.Join(a.state, "deleted", "batch-*", "line-*.ldif"))
	if err != nil {
		return err
	}
	for _, file := range files {
		info, statErr := os.Stat(file)
		if statErr == nil && !a.set.Batch.KeepDeleted.After(info.ModTime()).After(a.now()) {
			err = errors.Join(err, os.Remove(file))
		}
		if folder := filepath.Dir(file); empty(folder) {
			err = errors.Join(err, os.Remove(folder))
		}
	}
	return err
}

// tellDeleted says where what a batch has deleted is kept.
func (a *app) tellDeleted(b *batch.Batch) {
	folder := a.deletedFolder(b)
	if !empty(folder) {
		a.note("what was deleted is kept as LDIF in %s until %s", folder, a.set.Batch.KeepDeleted.After(a.now()).Format(time.DateOnly))
	}
}

func empty(folder string) bool {
	entries, err := os.ReadDir(folder)
	return err == nil && len(entries) == 0 || errors.Is(err, fs.ErrNotExist)
}
