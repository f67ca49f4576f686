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
func (w *worker) setHomeAside(
	ctx context.Context, l *batch.Line, a *batch.Action, e *directory.Entry, past *history,
) error {
	if past.done(a.Name) {
		return nil
	}
	if err := w.homeReady(ctx, a, e); err != nil {
		return err
	}
	if batch.Enabled(w.server.Dialect, w.DefaultPolicy, e, w.Now()) {
		return errors.New("it is enabled, so its home folder stays where it is")
	}
	return w.do(ctx, l, past, w.homeStep(a, OpSetAside, e), image(e), "")
}

// homeStep makes a step on a home folder, whose entry need not exist any more.
func (w *worker) homeStep(a *batch.Action, op Op, e *directory.Entry) Step {
	s := Step{Action: a.Name, Op: op, Home: a.Home}
	if e != nil {
		s.DN, s.ID = e.DN, batch.Octets(e.First(w.server.Dialect.Identity.String()))
	}
	return s
}

// homeReady finds the home anew, by the directory and the settings as they
// are now, and tells whether it is still the one that was staged, and nobody
// else's.
func (w *worker) homeReady(ctx context.Context, a *batch.Action, e *directory.Entry) error {
	if len(w.Homes) == 0 {
		return batch.ErrNoHomes
	}
	owners, err := w.common.homeOwners(func() (*homes.Owners, error) {
		return batch.ReadHomes(ctx, w.server, w.server.Dialect, w.Homes)
	})
	if err != nil {
		return err
	}
	now, err := batch.HomeOf(w.server.Dialect, e, w.Homes, owners, w.Now())
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
func (w *worker) putHomeBack(
	ctx context.Context, l *batch.Line, a *batch.Action, e *directory.Entry, past *history,
) error {
	if past.done(a.Name) {
		return nil
	}
	if err := isSetAside(a.Home); err != nil {
		return err
	}
	return w.do(ctx, l, past, w.homeStep(a, OpPutHomeBack, e), image(e), "")
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
func (w *worker) archiveHome(
	ctx context.Context, l *batch.Line, a *batch.Action, e *directory.Entry, past *history,
) error {
	if past.done(a.Name) {
		return nil
	}
	file, err := w.archivable(a, e)
	if err != nil {
		return err
	}
	var before *batch.Image
	if e != nil {
		before = image(e)
	}
	if past.step(OpArchiveHome) == nil {
		s := w.homeStep(a, OpArchiveHome, e)
		s.Archive = file
		if err := w.do(ctx, l, past, s, before, ""); err != nil {
			return err
		}
	}
	s := w.homeStep(a, OpRemoveHome, e)
	s.Archive = past.step(OpArchiveHome).Archive
	if !w.OnCopy {
		if s.Sum, err = homes.CheckArchive(*a.Home, s.Archive); err != nil {
			return err
		}
	}
	for i := range past.steps {
		if old := past.steps[i].Sum; old != "" && old != s.Sum {
			return fmt.Errorf("the archive %s is another than before (SHA-256 %s, now %s)", s.Archive, old, s.Sum)
		}
	}
	return w.do(ctx, l, past, s, before, "")
}

// archivable tells into which file a home goes, or why it must not.
func (w *worker) archivable(a *batch.Action, e *directory.Entry) (string, error) {
	if e != nil && batch.Enabled(w.server.Dialect, w.DefaultPolicy, e, w.Now()) {
		return "", errors.New("it is enabled again; \"yardbroom undo\" brings its home back")
	}
	if spot, err := a.Home.Spot(); err != nil {
		return "", err
	} else if spot != homes.SetAside && spot != homes.Displaced {
		return "", fmt.Errorf("the home folder %s is %s", a.Home, spot)
	}
	return homes.ArchiveOf(w.Homes, *a.Home)
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

// onFolder is an operation on a home folder, and not on an entry.
type onFolder interface {
	operation
	do() error
	// seen looks at the folder whether it was done.
	seen() (effect, error)
}

// seeFolder finds out by looking at the folder what became of the last step. On a
// copy of the directory there is nothing to see.
func (w *worker) seeFolder(folder onFolder, past *history, answer error) (outcome, error) {
	seen := effectDone
	if !w.OnCopy {
		var err error
		if seen, err = folder.seen(); err != nil {
			return outcome{}, fmt.Errorf("%w: how a step ended could not be seen: %w", errUnknown, err)
		}
	}
	o, err := judged(past.last(), seen, answer)
	if err != nil {
		err = localError{err}
	}
	return o, err
}

// onFolder tells whether a step is done to a home folder and not to an entry.
func (s *Step) onFolder() bool {
	_, is := s.operation().(onFolder)
	return is
}

// settingAside takes a home folder out of use.
type settingAside struct{ *Step }

func (o settingAside) do() error { return o.Home.SetAside() }

func (o settingAside) seen() (effect, error) {
	spot, err := o.Home.Spot()
	switch {
	case err != nil:
		return effectOther, err
	case spot == homes.SetAside, spot == homes.Displaced:
		return effectDone, nil
	case spot == homes.AtHome:
		return effectNone, nil
	}
	return effectOther, nil
}

func (o settingAside) describe() string {
	return fmt.Sprintf("rename the home folder %s to %s", o.Home, o.Home.HeldAt())
}

func (o settingAside) changes() []batch.Change {
	return []batch.Change{batch.MovesHome(o.Home.String(), o.Home.HeldAt())}
}

// puttingBack gives a home folder that was set aside its name back.
type puttingBack struct{ *Step }

func (o puttingBack) do() error { return o.Home.PutBack() }

func (o puttingBack) seen() (effect, error) {
	was, err := settingAside(o).seen()
	switch {
	case err != nil:
		return effectOther, err
	case was == effectDone:
		return effectNone, nil
	case was == effectNone:
		return effectDone, nil
	}
	return effectOther, nil
}

func (o puttingBack) describe() string {
	return fmt.Sprintf("rename the home folder %s to %s", o.Home.HeldAt(), o.Home)
}

func (o puttingBack) changes() []batch.Change {
	return []batch.Change{batch.MovesHome(o.Home.HeldAt(), o.Home.String())}
}

// archiving packs a home folder that was set aside into a file.
type archiving struct{ *Step }

func (o archiving) do() error { return homes.Archive(*o.Home, o.Archive) }

func (o archiving) seen() (effect, error) {
	if _, err := os.Lstat(o.Archive); errors.Is(err, fs.ErrNotExist) {
		return effectNone, nil
	}
	if _, err := homes.CheckArchive(*o.Home, o.Archive); err != nil {
		return effectOther, nil
	}
	return effectDone, nil
}

func (o archiving) describe() string {
	return fmt.Sprintf("archive %s into %s", o.Home.HeldAt(), o.Archive)
}

func (o archiving) changes() (none []batch.Change) { return nil }

// removing removes a home folder of which there is an archive.
type removing struct{ *Step }

func (o removing) do() error { return homes.Remove(*o.Home, o.Archive, o.Sum) }

func (o removing) seen() (effect, error) {
	gone, err := o.Home.Gone()
	if gone {
		return effectDone, err
	}
	return effectNone, err // what is left of it goes by another step
}

func (o removing) describe() string {
	return fmt.Sprintf("remove %s, of which %s (SHA-256 %s) is the archive", o.Home.HeldAt(), o.Archive, o.Sum)
}

func (o removing) changes() []batch.Change {
	return []batch.Change{batch.MovesHome(o.Home.HeldAt(), o.Archive)}
}

// homeBack stages the return of a home folder.
func homeBack(l *batch.Line, s *pastStep) {
	l.Actions = append(l.Actions, batch.Action{Name: batch.PutHomeBack, Home: s.Home})
	l.Changes = append(l.Changes, batch.MovesHome(s.Home.HeldAt(), s.Home.String()))
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
				held = append(held,
					HeldHome{Batch: b.ID, Since: step.at, Until: b.Until, Place: *step.Home, line: b.Lines[i]})
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
func ArchiveHomes(
	id source.Identity, yard string, shares []homes.Share, held []HeldHome, by string, at time.Time,
) (*batch.Batch, []batch.Refusal, error) {
	b := &batch.Batch{
		Identity: id,
		Yard:     yard,
		Source:   "the journal",
		Created:  at,
		By:       by,
		Actions:  []string{batch.ArchiveHome},
	}
	var refusals []batch.Refusal
	for i := range held {
		h := &held[i]
		file, err := homes.ArchiveOf(shares, h.Place)
		if err != nil {
			refusals = append(refusals, batch.Refusal{DN: h.DN(), Account: h.Account(), Why: err.Error()})
			continue
		}
		b.Lines = append(
			b.Lines,
			batch.Line{
				N:          len(b.Lines) + 1,
				DN:         h.DN(),
				ID:         h.line.ID,
				Account:    h.Account(),
				Kind:       h.line.Kind,
				Confidence: "sure",
				Reason: fmt.Sprintf("set aside on %s by line %d of batch %d", h.Since.Format(time.DateOnly), h.line.N,
					h.Batch),
				Actions: []batch.Action{{Name: batch.ArchiveHome, Home: &h.Place}},
				Changes: []batch.Change{batch.MovesHome(h.Place.HeldAt(), file)},
				Warnings: []string{
					"the folder is removed for good when the archive was read back; access lists, extended attributes, sockets and pipes are not in it",
				},
			},
		)
	}
	if len(b.Lines) == 0 {
		return nil, refusals, batch.ErrNothing
	}
	return b, refusals, nil
}
