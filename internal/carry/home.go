package carry

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"time"

	"yardbroom/internal/batch"
	"yardbroom/internal/directory"
	"yardbroom/internal/homes"
	"yardbroom/internal/source"
	"yardbroom/internal/store"
)

// setHomeAside renames the account's home folder into the holding folder.
func (r *Runner) setHomeAside(ctx context.Context, l *batch.Line, a *batch.Action, e *directory.Entry, past *history) error {
	if past.done(a.Name) {
		return nil
	}
	if err := r.homeReady(ctx, a, e); err != nil {
		return err
	}
	if batch.Enabled(r.Server.Dialect, r.DefaultPolicy, e, r.Now()) {
		return errors.New("it is enabled, so its home folder stays where it is")
	}
	return r.do(ctx, l, past, r.homeStep(a, OpSetAside, e), image(e), "")
}

// homeStep makes a step on a home folder, whose entry need not exist any more.
func (r *Runner) homeStep(a *batch.Action, op Op, e *directory.Entry) Step {
	s := Step{Action: a.Name, Op: op, Home: a.Home}
	if e != nil {
		s.DN, s.ID = e.DN, batch.Octets(e.First(r.Server.Dialect.Identity.String()))
	}
	return s
}

// homeReady finds the home anew, by the directory and the settings as they
// are now, and tells whether it is still the one that was staged, and nobody
// else's.
func (r *Runner) homeReady(ctx context.Context, a *batch.Action, e *directory.Entry) error {
	if len(r.Homes) == 0 {
		return batch.ErrNoHomes
	}
	owners, err := r.common.homeOwners(func() (*homes.Owners, error) {
		return batch.ReadHomes(ctx, r.Server, r.Server.Dialect, r.Homes)
	})
	if err != nil {
		return err
	}
	now, err := batch.HomeOf(r.Server.Dialect, e, r.Homes, owners, r.Now())
	if err != nil {
		return err
	}
	if !now.Same(*a.Home) {
		return fmt.Errorf("its home folder is %s now, another than the one that was staged", now)
	}
	return nil
}

// homeOwners reads whose homes are where, once for a run.
func (c *common) homeOwners(read func() (*homes.Owners, error)) (*homes.Owners, error) {
	c.reading.Lock()
	defer c.reading.Unlock()
	if c.owners != nil {
		return c.owners, nil
	}
	var err error
	c.owners, err = read()
	return c.owners, err
}

// putHomeBack renames a home from the holding folder to where it was.
func (r *Runner) putHomeBack(ctx context.Context, l *batch.Line, a *batch.Action, e *directory.Entry, past *history) error {
	if past.done(a.Name) {
		return nil
	}
	if err := isSetAside(a.Home); err != nil {
		return err
	}
	return r.do(ctx, l, past, r.homeStep(a, OpPutHomeBack, e), image(e), "")
}

func isSetAside(p *homes.Place) error {
	switch spot, err := p.Spot(); {
	case err != nil:
		return err
	case spot != homes.SetAside:
		return localError{fmt.Errorf("the home folder %s is %s", p, spot)}
	}
	return nil
}

// archiveHome makes an archive of a home that was set aside, reads it back,
// and removes the folder. The entry may be gone by now.
func (r *Runner) archiveHome(ctx context.Context, l *batch.Line, a *batch.Action, e *directory.Entry, past *history) error {
	if past.done(a.Name) {
		return nil
	}
	file, err := r.archivable(a, e)
	if err != nil {
		return err
	}
	var before *batch.Image
	if e != nil {
		before = image(e)
	}
	if past.step(OpArchiveHome) == nil {
		s := r.homeStep(a, OpArchiveHome, e)
		s.Archive = file
		if err := r.do(ctx, l, past, s, before, ""); err != nil {
			return err
		}
	}
	s := r.homeStep(a, OpRemoveHome, e)
	s.Archive = past.step(OpArchiveHome).Archive
	if !r.Rehearsal {
		if s.Sum, err = homes.CheckArchive(*a.Home, s.Archive, true); err != nil {
			return err
		}
	}
	for i := range past.steps {
		if old := past.steps[i].Sum; old != "" && old != s.Sum {
			return fmt.Errorf("the archive %s is another than before (SHA-256 %s, now %s)", s.Archive, old, s.Sum)
		}
	}
	return r.do(ctx, l, past, s, before, "")
}

// archivable tells into which file a home goes, or why it must not.
func (r *Runner) archivable(a *batch.Action, e *directory.Entry) (string, error) {
	if e != nil && batch.Enabled(r.Server.Dialect, r.DefaultPolicy, e, r.Now()) {
		return "", errors.New("it is enabled again; \"yardbroom undo\" brings its home back")
	}
	if spot, err := a.Home.Spot(); err != nil {
		return "", err
	} else if spot != homes.SetAside && spot != homes.Displaced {
		return "", fmt.Errorf("the home folder %s is %s", a.Home, spot)
	}
	return homes.ArchiveOf(r.Homes, *a.Home)
}

// step returns the last step of a kind that was carried out.
func (h *history) step(op Op) *pastStep {
	for i := range slices.Backward(h.steps) {
		if s := &h.steps[i]; s.Op == op && s.outcome != nil && s.outcome.Done {
			return s
		}
	}
	return nil
}

// onFolder tells whether a step is done to a home folder and not to an entry.
func (op Op) onFolder() bool {
	return op == OpSetAside || op == OpPutHomeBack || op == OpArchiveHome || op == OpRemoveHome
}

// writeFolder does a step to a home folder. A rehearsal leaves it alone.
func (r *Runner) writeFolder(s *Step) error {
	if r.Rehearsal {
		return nil
	}
	switch s.Op {
	case OpSetAside:
		return s.Home.SetAside()
	case OpPutHomeBack:
		return s.Home.PutBack()
	case OpArchiveHome:
		return homes.Archive(*s.Home, s.Archive)
	}
	return homes.Remove(*s.Home, s.Archive, s.Sum)
}

// concludeFolder looks at the folder and writes the outcome of the last
// intent. Whatever the write said, what is there decides.
func (r *Runner) concludeFolder(ctx context.Context, l *batch.Line, past *history, answer error) error {
	effect, err := r.effectOnFolder(past.last())
	if err != nil {
		return fmt.Errorf("how a step ended could not be seen: %w", err)
	}
	o, err := judged(past.last(), effect, answer)
	if err != nil {
		err = localError{err}
	}
	return r.finish(ctx, l, past, o, err)
}

func (r *Runner) effectOnFolder(s *Step) (effect, error) {
	if r.Rehearsal {
		return effectDone, nil
	}
	switch s.Op {
	case OpArchiveHome:
		if _, err := os.Lstat(s.Archive); errors.Is(err, fs.ErrNotExist) {
			return effectNone, nil
		}
		if _, err := homes.CheckArchive(*s.Home, s.Archive, true); err != nil {
			return effectOther, nil
		}
		return effectDone, nil
	case OpRemoveHome:
		gone, err := s.Home.Gone()
		if gone {
			return effectDone, err
		}
		return effectNone, err // what is left of it goes by another step
	}
	spot, err := s.Home.Spot()
	away := spot == homes.SetAside || spot == homes.Displaced
	switch {
	case err != nil:
		return effectOther, err
	case s.Op == OpSetAside && away, s.Op == OpPutHomeBack && spot == homes.AtHome:
		return effectDone, nil
	case s.Op == OpSetAside && spot == homes.AtHome, s.Op == OpPutHomeBack && away:
		return effectNone, nil
	}
	return effectOther, nil
}

// homeBack stages the return of a home folder.
func homeBack(l *batch.Line, s *pastStep) {
	l.Actions = append(l.Actions, batch.Action{Name: batch.PutHomeBack, Home: s.Home})
	l.Changes = append(l.Changes, batch.Change{What: "home folder", Old: s.Home.HeldAt(), New: s.Home.String()})
}

// HeldHome is a home folder that this journal set aside and that is still
// held.
type HeldHome struct {
	Batch int
	Since time.Time
	Until time.Time // when the batch is to be taken back; zero for never
	Place homes.Place
	line  batch.Line
}

// Account is the logon name of the account whose home it is.
func (h *HeldHome) Account() string { return h.line.Account }

// DN is what the account was called when its home was set aside.
func (h *HeldHome) DN() string { return h.line.DN }

// FindHeld returns the homes of one directory that are held, the longest held
// first. Whether one still is, the file system says.
func FindHeld(ctx context.Context, s *store.Store, id source.Identity) ([]HeldHome, error) {
	d, err := directory.DialectNamed(id.Dialect)
	if err != nil {
		return nil, err
	}
	heads, err := batch.Heads(ctx, s)
	if err != nil {
		return nil, err
	}
	var held []HeldHome
	for _, head := range heads {
		if !slices.Contains(head.Actions, batch.SetHomeAside) || head.State == batch.Staged || !head.Identity.Same(id) {
			continue
		}
		b, err := batch.Load(ctx, s, head.ID)
		if err != nil {
			return nil, err
		}
		for i := range b.Lines {
			past, err := readHistory(ctx, s.Journal, b.ID, b.Lines[i].N, d)
			if err != nil {
				return nil, err
			}
			step := past.main(batch.SetHomeAside)
			if step == nil {
				continue
			}
			spot, err := step.Home.Spot()
			if errors.Is(err, fs.ErrNotExist) {
				continue // not on this machine
			}
			if err != nil {
				return nil, err
			}
			if spot == homes.SetAside || spot == homes.Displaced {
				// The last one that set it aside is who has it there.
				held = slices.DeleteFunc(held, func(h HeldHome) bool { return h.Place.HeldAt() == step.Home.HeldAt() })
				held = append(held, HeldHome{Batch: b.ID, Since: step.at, Until: b.Until, Place: *step.Home, line: b.Lines[i]})
			}
		}
	}
	slices.SortStableFunc(held, func(a, b HeldHome) int {
		return cmp.Or(a.Since.Compare(b.Since), cmp.Compare(a.Account(), b.Account()))
	})
	return held, nil
}

// ArchiveHomes makes the batch that archives and removes homes that were set
// aside.
func ArchiveHomes(id source.Identity, yard string, shares []homes.Share, held []HeldHome, by string, at time.Time) (*batch.Batch, []batch.Refusal, error) {
	b := &batch.Batch{Identity: id, Yard: yard, Source: "the journal", Created: at, By: by, Actions: []string{batch.ArchiveHome}}
	var refusals []batch.Refusal
	for i := range held {
		h := &held[i]
		file, err := homes.ArchiveOf(shares, h.Place)
		if err != nil {
			refusals = append(refusals, batch.Refusal{DN: h.DN(), Account: h.Account(), Why: err.Error()})
			continue
		}
		b.Lines = append(b.Lines, batch.Line{N: len(b.Lines) + 1, DN: h.DN(), ID: h.line.ID, Account: h.Account(), Kind: h.line.Kind, Confidence: "sure",
			Reason:   fmt.Sprintf("set aside on %s by line %d of batch %d", h.Since.Format(time.DateOnly), h.line.N, h.Batch),
			Actions:  []batch.Action{{Name: batch.ArchiveHome, Home: &h.Place}},
			Changes:  []batch.Change{{What: "home folder", Old: h.Place.HeldAt(), New: file}},
			Warnings: []string{"the folder is removed for good when the archive was read back; access lists, extended attributes, sockets and pipes are not in it"}})
	}
	if len(b.Lines) == 0 {
		return nil, refusals, batch.ErrNothing
	}
	return b, refusals, nil
}
