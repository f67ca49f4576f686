package carry

import (
	"context"
	"fmt"
	"slices"
	"time"

	"yardbroom/internal/batch"
	"yardbroom/internal/directory"
	"yardbroom/internal/source"
	"yardbroom/internal/store"
)

// Climbed is a line of a batch that took an account up a ladder.
type Climbed struct {
	Batch *batch.Batch // its head; the lines of others are not needed
	Line  *batch.Line
	// Begun tells of a line that is not settled that something of it was done, or may
	// have been.
	Begun bool
	// Back are the lines of other batches that take it back, or were to.
	Back []Descent
}

// Descent is a line that takes another back.
type Descent struct {
	Batch *batch.Batch
	Line  *batch.Line
}

// ReadClimbs returns what batches of ladders of a directory have done and are
// about to do, in the order of the batches. Batches that can change no more are taken
// from settled, and put there.
func ReadClimbs(ctx context.Context, s *store.Store, id source.Identity, settled map[int]*batch.Batch) ([]Climbed, error) {
	d, err := directory.DialectNamed(id.Dialect)
	if err != nil {
		return nil, err
	}
	heads, err := batch.Heads(ctx, s)
	if err != nil {
		return nil, err
	}
	load := func(n int) (*batch.Batch, error) {
		if b := settled[n]; b != nil {
			return b, nil
		}
		b, err := batch.Load(ctx, s, n)
		if err == nil && (b.State == batch.Done || b.State == batch.Discarded) {
			settled[n] = b
		}
		return b, err
	}
	var all []Climbed
	for _, head := range heads {
		if head.Ladder == "" || head.UndoOf != 0 || !head.Identity.Same(id) {
			continue
		}
		b, err := load(head.ID)
		if err != nil {
			return nil, err
		}
		back := map[string][]Descent{} // by the identity of the entry
		for _, other := range heads {
			if other.UndoOf != b.ID && !restores(other, b) {
				continue
			}
			undo, err := load(other.ID)
			if err != nil {
				return nil, err
			}
			for i := range undo.Lines {
				l := &undo.Lines[i]
				back[l.ID] = append(back[l.ID], Descent{undo, l})
			}
		}
		for i := range b.Lines {
			l := &b.Lines[i]
			one := Climbed{Batch: b, Line: l, Back: back[l.ID]}
			if one.Begun, err = begunLine(ctx, s, d, b, l); err != nil {
				return nil, err
			}
			all = append(all, one)
		}
	}
	return all, nil
}

// begunLine tells of a line that is not settled whether it was begun: one that was
// killed in the middle has no state that says so.
func begunLine(ctx context.Context, s *store.Store, d *directory.Dialect, b *batch.Batch, l *batch.Line) (bool, error) {
	if l.State.Settled() || b.State != batch.Begun {
		return false, nil
	}
	h, err := readHistory(ctx, s.Journal, b.ID, l.N, d)
	return err == nil && h.begun(), err
}

// ComeDown makes the batch that takes back what one of a ladder has done to some
// accounts, by the identities of their lines. Who must not be enabled stays
// disabled.
func ComeDown(
	ctx context.Context, s *store.Store, b *batch.Batch, accounts []string, enable bool, by string, at time.Time,
) (*batch.Batch, []batch.Refusal, error) {
	d, err := directory.DialectNamed(b.Identity.Dialect)
	if err != nil {
		return nil, nil, err
	}
	out, refusals, err := inverse(ctx, s, b, by, at, func(l *batch.Line) bool { return slices.Contains(accounts, l.ID) })
	if err != nil {
		return nil, refusals, err
	}
	out.Ladder, out.Rung = b.Ladder, b.Rung
	out.Why = fmt.Sprintf("leaves the ladder %s: %s", b.Ladder, out.Why)
	if !enable {
		var kept []batch.Line
		for _, l := range out.Lines {
			if l.StayOff(d) {
				l.N = len(kept) + 1
				kept = append(kept, l)
			}
		}
		out.Lines = kept
	}
	out.Actions = out.Actions[:0:0]
	for i := range out.Lines {
		for _, a := range out.Lines[i].Actions {
			if !slices.Contains(out.Actions, a.Name) {
				out.Actions = append(out.Actions, a.Name)
			}
		}
	}
	if len(out.Lines) == 0 {
		return nil, refusals, fmt.Errorf("batch %d: %w", b.ID, ErrNothingToUndo)
	}
	return out, refusals, nil
}
