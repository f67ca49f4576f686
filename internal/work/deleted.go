package work

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"yardbroom/internal/batch"
	"yardbroom/internal/calendar"
	"yardbroom/internal/whole"
)

// deletedFolder is where what a batch deletes is kept as LDIF, a file a line.
func (s *Session) deletedFolder(b *batch.Batch) string {
	return filepath.Join(s.State, "deleted", fmt.Sprintf("batch-%d", b.ID))
}

// keptFor is the file in the folder of a batch that says for how long it is kept,
// where that is not as long as the settings say.
const keptFor = "kept-for"

// keepDeleted writes what there was of an entry, before it is deleted. It is nil
// where the settings keep nothing.
func (s *Session) keepDeleted(b *batch.Batch) func(*batch.Line, []batch.LDIFChange) error {
	if s.Settings.Batch.KeepDeleted == (calendar.Span{}) && b.KeepDeleted == "" {
		return nil
	}
	return func(l *batch.Line, there []batch.LDIFChange) error {
		folder := s.deletedFolder(b)
		if err := os.MkdirAll(folder, 0o700); err != nil {
			return err
		}
		if b.KeepDeleted != "" {
			err := whole.Write(filepath.Join(folder, keptFor), func(w io.Writer) error {
				_, err := fmt.Fprintln(w, b.KeepDeleted)
				return err
			})
			if err != nil {
				return err
			}
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
		folder := filepath.Dir(file)
		if statErr == nil && !s.keepsDeleted(folder).After(info.ModTime()).After(s.Now()) {
			err = errors.Join(err, os.Remove(file))
		}
		if left, globErr := filepath.Glob(filepath.Join(folder, "line-*.ldif")); globErr == nil && len(left) == 0 {
			err = errors.Join(err, os.RemoveAll(folder))
		}
	}
	return err
}

// keepsDeleted is how long what lies in the folder of a batch is kept.
func (s *Session) keepsDeleted(folder string) calendar.Span {
	text, err := os.ReadFile(filepath.Join(folder, keptFor))
	if err == nil {
		if span, err := calendar.ParseSpan(strings.TrimSpace(string(text))); err == nil {
			return span
		}
	}
	return s.Settings.Batch.KeepDeleted
}

// noteDeleted notes where what a batch has deleted is kept.
func (s *Session) noteDeleted(b *batch.Batch) {
	if folder := s.deletedFolder(b); !empty(folder) {
		s.note("what was deleted is kept as LDIF in %s until %s", folder,
			s.keepsDeleted(folder).After(s.Now()).Format(time.DateOnly))
	}
}

// empty tells whether there is nothing in a folder, or no such folder.
func empty(folder string) bool {
	entries, err := os.ReadDir(folder)
	return err == nil && len(entries) == 0 || errors.Is(err, fs.ErrNotExist)
}
