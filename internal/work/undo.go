package work

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"yardbroom/internal/batch"
	"yardbroom/internal/carry"
	"yardbroom/internal/privilege"
)

// BackRequest says how something is brought back.
type BackRequest struct {
	CarryRequest
	How How
	// Anew lets deleted entries come back as new ones, with other SIDs and GUIDs,
	// where the server does not bring them back. That needs a signature.
	Anew bool
}

// How tells what is done with a batch that brings something back.
type How int

// Ways to bring something back.
const (
	ByCarrying How = iota // carry it out, but for what needs a signature
	ByStaging             // keep it, to be signed and carried out later
	ByDryRun              // judge it, and keep nothing
)

// Back is what became of bringing something back.
type Back struct {
	Carried []*Carried
	// Foretold is what a dry run says, nil where there was none.
	Foretold *Foretold
	// Unsigned counts the lines that were left out since they need a signature.
	Unsigned int
	// Command is how to ask for those.
	Command string
}

// NotDone tells whether lines are left that should have been done.
func (b *Back) NotDone() bool {
	return slices.ContainsFunc(b.Carried, (*Carried).NotDone) || b.Foretold != nil && b.Foretold.NotDone()
}

// Undo takes a batch back, or only the lines of some accounts, as far as
// everything is still as it left it. An undo of all of it that was stopped
// half-way goes on first.
func (s *Session) Undo(ctx context.Context, b *batch.Batch, accounts []string, r *BackRequest) (*Back, error) {
	back := &Back{Command: fmt.Sprintf("undo %d", b.ID)}
	if len(accounts) > 0 || r.How != ByCarrying {
		return back, s.undoRest(ctx, b, accounts, r, back)
	}
	kept, err := s.Store(ctx)
	if err != nil {
		return back, err
	}
	begun, err := carry.Unfinished(ctx, kept, func(head *batch.Batch) bool { return head.UndoOf == b.ID })
	if err != nil {
		return back, err
	}
	for _, one := range begun {
		s.note("batch %d has begun to take batch %d back and was stopped; it goes on", one.ID, b.ID)
		done, err := s.Apply(ctx, one, &r.CarryRequest)
		if err != nil {
			return back, err
		}
		if back.Carried = append(back.Carried, done); done.NotDone() {
			return back, nil
		}
	}
	err = s.undoRest(ctx, b, nil, r, back)
	if len(begun) > 0 && errors.Is(err, carry.ErrNothingToUndo) {
		return back, nil
	}
	return back, err
}

// undoRest takes back what no other batch has taken back, or is about to.
func (s *Session) undoRest(ctx context.Context, b *batch.Batch, accounts []string, r *BackRequest, back *Back) error {
	kept, err := s.Store(ctx)
	if err != nil {
		return err
	}
	inverse, refusals, err := carry.Inverse(ctx, kept, b, accounts, s.By, s.now())
	if err == nil {
		var more []batch.Refusal
		more, err = s.withoutBarred(ctx, inverse)
		refusals = append(refusals, more...)
		if err == nil && len(inverse.Lines) == 0 {
			err = carry.ErrNothingToUndo
		}
	}
	if err != nil {
		r.Watch.left(b.ID, refusals)
		return err
	}
	return s.bringBack(ctx, inverse, refusals, r, back)
}

func (w *Watch) left(undoOf int, refusals []batch.Refusal) {
	if w.Left != nil {
		w.Left(undoOf, refusals)
	}
}

// bringBack carries out a batch that the journal made, but for what needs a
// signature; or makes it for that.
func (s *Session) bringBack(
	ctx context.Context, b *batch.Batch, refusals []batch.Refusal, r *BackRequest, back *Back,
) error {
	more, err := s.reassess(ctx, b, &r.CarryRequest)
	refusals = append(refusals, more...)
	if r.Anew {
		b.AllowAnew("")
	}
	if err == nil && r.How != ByStaging {
		var unsigned []batch.Refusal
		unsigned, err = carry.WithoutPrivileged(b, back.Command)
		refusals, back.Unsigned = append(refusals, unsigned...), len(unsigned)
	}
	if hosts := carry.Hosts(b); len(hosts) > 0 {
		s.note("the lines were not all done on one server: %s", strings.Join(hosts, ", "))
	}
	r.Watch.left(b.UndoOf, refusals)
	if err != nil {
		return err
	}
	if r.How == ByStaging {
		staged := &Staged{}
		if err := s.keepStaged(ctx, b, staged); err != nil {
			return err
		}
		if r.Watch.Staged != nil {
			r.Watch.Staged(staged)
		}
		return nil
	}
	if r.How == ByDryRun {
		for i := range b.Lines {
			b.Lines[i].State = batch.Waiting
		}
		b.State = batch.Staged
		back.Foretold, err = s.DryRun(ctx, b, &r.CarryRequest)
		return err
	}
	done, err := s.keepAndCarry(ctx, b, r)
	if done != nil {
		back.Carried = append(back.Carried, done)
	}
	return err
}

// keepAndCarry keeps a batch that undo or restore made, and carries it out.
func (s *Session) keepAndCarry(ctx context.Context, b *batch.Batch, r *BackRequest) (*Carried, error) {
	kept, err := s.Store(ctx)
	if err != nil {
		return nil, err
	}
	how := r.CarryRequest
	if how.Agree != nil { // asked before anything is kept
		agreed, err := b.Agreement(ctx, kept, s.Settings, s.now())
		if err == nil {
			err = how.Agree(b, agreed)
		}
		if err != nil {
			return nil, err
		}
		how.Agree = nil
	}
	if err := b.Save(ctx, kept); err != nil {
		return nil, err
	}
	done, err := s.Apply(ctx, b, &how)
	if err == nil {
		return done, nil
	}
	// One that was never begun is not left lying about: who asked for it asks
	// again.
	if now, loadErr := batch.Load(ctx, kept, b.ID); loadErr == nil && now.State == batch.Staged {
		return done, errors.Join(err, now.Discard(ctx, kept, s.By, s.now()))
	}
	return done, err
}

// TakeBackDue takes back every batch whose time is over. One that cannot be
// does not keep the next from it.
func (s *Session) TakeBackDue(ctx context.Context, r *BackRequest) (all []*Back, err error) {
	due, err := s.Due(ctx)
	if err != nil {
		return nil, err
	}
	for _, d := range due {
		if d.Batch.Until.After(s.Now()) {
			continue
		}
		if r.Watch.Overdue != nil {
			r.Watch.Overdue(d)
		}
		back, undoErr := s.Undo(ctx, d.Batch, nil, r)
		all, err = append(all, back), errors.Join(err, undoErr)
	}
	return all, err
}

// Due are the batches that are to be taken back, the earliest first.
func (s *Session) Due(ctx context.Context) ([]carry.Due, error) {
	kept, err := s.Store(ctx)
	if err != nil {
		return nil, err
	}
	return carry.FindDue(ctx, kept)
}

// reassess judges a batch that the journal has made by the directory as it is
// now.
func (s *Session) reassess(ctx context.Context, b *batch.Batch, r *CarryRequest) ([]batch.Refusal, error) {
	p, err := s.target(ctx, b, r)
	if err != nil {
		return nil, err
	}
	defer p.Close()
	id, err := p.Identity(ctx)
	if err != nil {
		return nil, err
	}
	if !id.Same(b.Identity) {
		return nil, fmt.Errorf("batch %d is for %s, but %s is %s: nothing was done", b.UndoOf, b.Identity, p.Where(),
			id)
	}
	protection, err := s.protection(ctx, p)
	if err != nil {
		return nil, err
	}
	protection.Returning = b.ComesDown()
	if server, ok := p.Server(); ok &&
		slices.ContainsFunc(b.Lines, func(l batch.Line) bool { return l.Has(batch.Restore) }) {
		kept, err := s.Store(ctx)
		if err != nil {
			return nil, err
		}
		last, err := carry.LastTrial(ctx, kept, id, server.HostName())
		if err != nil {
			return nil, err
		}
		if last != nil && !last.Itself {
			b.AllowAnew(last.String() + ": rights given to the old SID are lost")
		}
	}
	powers := &privilege.Climber{
		From:    p.Source,
		Dialect: protection.Dialect,
		Rules:   privilege.RulesFor(id, s.Settings.Audit.PrivilegedGroups),
	}
	refusals, err := b.Reassess(ctx, p.Source, powers, &protection)
	if err == nil && len(b.Lines) == 0 {
		err = carry.ErrNothingToUndo
	}
	return refusals, err
}
