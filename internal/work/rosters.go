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
	if err := s.takeOver(id, list, s.predecessorOf(id, list)); err != nil {
		return err
	}
	if err := os.Remove(s.rosterFile(id, pairsEnding)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// takeOver makes a roster the last one of a yard, and keeps it besides, with a date, where
// it is another one than the one before.
func (s *Session) takeOver(id source.Identity, list *Roster, was *predecessor) error {
	write := func(w io.Writer) error { return list.Keep(w, list.About.Read) }
	if files, err := s.pastRosters(id); err != nil || was.kept == nil || len(files) == 0 || was.differing > 0 || was.kept.Source != list.About.Source {
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

// succession is how a roster differs from another one, whose rows are added one by one,
// so that they need not be in memory.
type succession struct {
	rows []roster.Row // of the roster
	same int          // how many of them the other one begins with
	was  map[string]employed
	n    int // how many rows the other one has
}

// employed is what somebody is to the employer.
type employed struct {
	status roster.Word
	end    time.Time
}

func (e employed) equal(o employed) bool { return e.status == o.status && e.end.Equal(o.end) }

func employedBy(r *roster.Row) employed { return employed{r.Status, r.End} }

// add takes the next row of the other roster. Most begin alike; who is who is looked at
// from where they do not.
func (s *succession) add(r *roster.Row) {
	s.n++
	if s.was == nil {
		if s.same < len(s.rows) && sameRow(&s.rows[s.same], r) {
			s.same++
			return
		}
		s.begin()
	}
	s.was[reconcile.KeyOfRow(r)] = employedBy(r)
}

func sameRow(a, b *roster.Row) bool {
	return (a.Values == b.Values || reconcile.KeyOfRow(a) == reconcile.KeyOfRow(b)) && employedBy(a).equal(employedBy(b))
}

// begin takes what the other one begins with for what it holds.
func (s *succession) begin() {
	s.was = make(map[string]employed, len(s.rows))
	for i := range s.rows[:s.same] {
		s.was[reconcile.KeyOfRow(&s.rows[i])] = employedBy(&s.rows[i])
	}
}

// differing counts the people whom only one of the two rosters has, or who are to the
// employer something else in it: gone, for instance.
func (s *succession) differing() (n int) {
	if s.was == nil {
		if s.same == len(s.rows) {
			return 0
		}
		s.begin()
	}
	still := make(map[string]bool, len(s.rows))
	for i := range s.rows {
		key := reconcile.KeyOfRow(&s.rows[i])
		if still[key] {
			continue
		}
		still[key] = true
		if old, known := s.was[key]; !known || !old.equal(employedBy(&s.rows[i])) {
			n++
		}
	}
	for key := range s.was {
		if !still[key] {
			n++
		}
	}
	return n
}

// differing is the same of two rosters at hand.
func differing(a, b *roster.Roster) int {
	s := &succession{rows: b.Rows}
	for i := range a.Rows {
		s.add(&a.Rows[i])
	}
	return s.differing()
}

// predecessor is the last roster of a yard, before another one is taken over.
type predecessor struct {
	kept      *roster.Kept // nil where there is none
	people    int          // rows of it
	differing int          // from the one that is to be taken over
}

// predecessorOf reads the last roster of a yard beside one that may be taken over. What
// cannot be read is said, and cannot be lost.
func (s *Session) predecessorOf(id source.Identity, list *Roster) *predecessor {
	next := &succession{rows: list.Rows}
	last, err := readKept(s.rosterFile(id, rosterEnding), func(r *roster.Row) bool { next.add(r); return false })
	if err != nil {
		s.note("note: %v", err)
	}
	if last == nil {
		return &predecessor{}
	}
	return &predecessor{&last.About, next.n, next.differing()}
}

// fewPeople may always differ from one roster to the next.
const fewPeople = 5

// tooDifferent tells whether a fresh roster differs from the yard's last one by more than
// a tenth of the people.
func (was *predecessor) tooDifferent() bool {
	return was.differing > fewPeople && was.differing*tenth > was.people && was.people > 0
}
