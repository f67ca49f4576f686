package work

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"yardbroom/internal/reconcile"
	"yardbroom/internal/roster"
	"yardbroom/internal/source"
)

// mostRosters is how many rosters of a yard are kept, the last one among them.
const mostRosters = 10

// KeptRoster is a roster that was taken over as the last one of a yard.
type KeptRoster struct {
	roster.Kept
	TakenOver time.Time
	InUse     bool // it is the last one
	path      string
}

// rosterTime is how the names of kept rosters say when they were taken over, in UTC.
const rosterTime = "20060102T150405.000"

// pastRosters are the files of the rosters of a yard, the latest first.
func (s *Session) pastRosters(id source.Identity) ([]string, error) {
	files, err := filepath.Glob(s.rosterFile(id, ".*"+rosterEnding))
	slices.Sort(files)
	slices.Reverse(files)
	return files, err
}

// Rosters are the rosters of a yard that are kept, the latest first.
func (s *Session) Rosters(ctx context.Context, p *Place) (all []KeptRoster, err error) {
	id, err := p.Identity(ctx)
	if err != nil {
		return nil, err
	}
	files, err := s.pastRosters(id)
	if err != nil {
		return nil, err
	}
	last, err := readKept(s.rosterFile(id, rosterEnding), nil)
	if err != nil {
		return nil, err
	}
	used := false
	for _, file := range files {
		list, err := readKept(file, nil)
		if err != nil {
			return nil, err
		}
		at, err := time.Parse(rosterTime, strings.TrimSuffix(strings.TrimPrefix(file, s.rosterFile(id, ".")), rosterEnding))
		if err != nil || list == nil {
			continue // not ours
		}
		one := KeptRoster{Kept: list.About, TakenOver: at, path: file}
		if !used && last != nil && last.About.Source == list.About.Source && last.About.Read.Equal(list.About.Read) && differing(last.Roster, list.Roster) == 0 {
			one.InUse, used = true, true
		}
		all = append(all, one)
	}
	return all, nil
}

// UseRoster makes a kept roster the last one of its yard again. Who has which account is
// to be found out anew.
func (s *Session) UseRoster(ctx context.Context, p *Place, one *KeptRoster) error {
	id, err := p.Identity(ctx)
	if err != nil {
		return err
	}
	list, err := readKept(one.path, nil)
	if err != nil {
		return err
	}
	if err := s.takeOver(id, list); err != nil {
		return err
	}
	if err := os.Remove(s.rosterFile(id, pairsEnding)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// takeOver makes a roster the last one of a yard, and keeps it besides, with a date.
func (s *Session) takeOver(id source.Identity, list *Roster) error {
	write := func(w io.Writer) error { return list.Keep(w, list.About.Read) }
	last, err := readKept(s.rosterFile(id, rosterEnding), nil)
	if err != nil {
		s.note("note: %v", err)
	}
	if files, err := s.pastRosters(id); err != nil || last == nil || len(files) == 0 || differing(last.Roster, list.Roster) > 0 || last.About.Source != list.About.Source {
		name := s.rosterFile(id, "."+s.now().UTC().Format(rosterTime)+rosterEnding)
		if err := errors.Join(err, packed(name, write)); err != nil {
			return fmt.Errorf("keeping the roster: %w", err)
		}
		if err := s.forgetRosters(id); err != nil {
			return err
		}
	}
	delete(s.rosters, s.rosterFile(id, rosterEnding))
	if err := packed(s.rosterFile(id, rosterEnding), write); err != nil {
		return fmt.Errorf("keeping the roster: %w", err)
	}
	return nil
}

// forgetRosters removes the oldest rosters of a yard, where there are too many.
func (s *Session) forgetRosters(id source.Identity) error {
	files, err := s.pastRosters(id)
	for _, file := range files[min(mostRosters, len(files)):] {
		err = errors.Join(err, os.Remove(file))
	}
	return err
}

// differing counts the people whom only one of two rosters has, or who are to the
// employer something else in it: gone, for instance.
func differing(a, b *roster.Roster) int {
	type state struct {
		status roster.Word
		end    time.Time
	}
	was, n := map[string]state{}, 0
	for i := range a.Rows {
		r := &a.Rows[i]
		was[reconcile.KeyOfRow(r)] = state{r.Status, r.End}
	}
	still := map[string]bool{}
	for i := range b.Rows {
		r := &b.Rows[i]
		key := reconcile.KeyOfRow(r)
		old, known := was[key]
		if still[key] {
			continue
		}
		still[key] = true
		if !known || old.status != r.Status || !old.end.Equal(r.End) {
			n++
		}
	}
	for key := range was {
		if !still[key] {
			n++
		}
	}
	return n
}

// fewPeople may always differ from one roster to the next.
const fewPeople = 5

// tooDifferent tells by how many people a fresh roster differs from the yard's last one,
// where that is more than a tenth; 0 where it may be taken over.
func (s *Session) tooDifferent(id source.Identity, list *Roster) (by, of int, err error) {
	last, err := readKept(s.rosterFile(id, rosterEnding), nil)
	if err != nil || last == nil || len(last.Rows) == 0 {
		return 0, 0, nil // there is none that could be lost
	}
	if by = differing(last.Roster, list.Roster); by > fewPeople && by*tenth > len(last.Rows) {
		return by, len(last.Rows), nil
	}
	return 0, 0, nil
}
