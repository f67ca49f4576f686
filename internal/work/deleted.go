package work

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
func (s *Session) deletedFolder(b *batch.Batch) string {
	return filepath.Join(s.State, "deleted", fmt.Sprintf("batch-%d", b.ID))
}

// keepDeleted writes what there was of an entry, before it is deleted. It is nil
// where the settings keep nothing.
func (s *Session) keepDeleted(b *batch.Batch) func(*batch.Line, []batch.LDIFChange) error {
	if s.Settings.Batch.KeepDeleted == (calendar.Span{}) {
		return nil
	}
	return func(l *batch.Line, there []batch.LDIFChange) error {
		folder := s.deletedFolder(b)
		if err := os.MkdirAll(folder, 0o700); err != nil {
			return err
		}
		about := fmt.Sprintf(
			"%s, deleted by line %d of batch %d on %s; these records make it anew, the remarks are what no client can write",
			l.DN,
			l.N,
			b.ID,
			s.now().Format(time.RFC3339),
		)
		return whole.Write(filepath.Join(folder, fmt.Sprintf("line-%d.ldif", l.N)),
			func(w io.Writer) error { return batch.WriteLDIF(w, about, there) })
	}
}

// forgetDeleted removes what was kept of deleted entries for as long as the
// settings say.
func (s *Session) forgetDeleted() error {
	files, err := filepath.Glob(filepath.Join(s.State, "deleted", "batch-*", "line-*.ldif"))
	if err != nil {
		return err
	}
	for _, file := range files {
		info, statErr := os.Stat(file)
		if statErr == nil && !s.Settings.Batch.KeepDeleted.After(info.ModTime()).After(s.Now()) {
			err = errors.Join(err, os.Remove(file))
		}
		if folder := filepath.Dir(file); empty(folder) {
			err = errors.Join(err, os.Remove(folder))
		}
	}
	return err
}

// noteDeleted notes where what a batch has deleted is kept.
func (s *Session) noteDeleted(b *batch.Batch) {
	if folder := s.deletedFolder(b); !empty(folder) {
		s.note("what was deleted is kept as LDIF in %s until %s", folder,
			s.Settings.Batch.KeepDeleted.After(s.Now()).Format(time.DateOnly))
	}
}

// empty tells whether there is nothing in a folder, or no such folder.
func empty(folder string) bool {
	entries, err := os.ReadDir(folder)
	return err == nil && len(entries) == 0 || errors.Is(err, fs.ErrNotExist)
}
