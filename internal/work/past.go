package work

import (
	"context"
	"time"

	"yardbroom/internal/batch"
	"yardbroom/internal/carry"
	"yardbroom/internal/directory"
	"yardbroom/internal/source"
)

// PastLine is a line of a batch about one entry: done, left, or waiting to be carried out.
type PastLine struct {
	*batch.Batch
	*batch.Line
}

// pastOf are the lines of all batches of a directory about one entry, the oldest first.
func (s *Session) pastOf(ctx context.Context, id source.Identity, entry string) (lines []PastLine, err error) {
	kept, err := s.storeIfAny(ctx)
	if kept == nil || err != nil || entry == "" {
		return nil, err
	}
	all, err := batch.About(ctx, kept, entry)
	if err == nil {
		err = carry.MarkUndone(ctx, kept, all...)
	}
	for _, b := range all {
		if b.Identity.Same(id) {
			for i := range b.Lines {
				lines = append(lines, PastLine{b, &b.Lines[i]})
			}
		}
	}
	return lines, err
}

// ourSteps are when our journal last disabled and moved the accounts of a directory, by
// raw identity.
func (s *Session) ourSteps(ctx context.Context, id source.Identity) (map[string]directory.OurSteps, error) {
	kept, err := s.storeIfAny(ctx)
	if kept == nil || err != nil {
		return nil, err
	}
	d, err := directory.DialectNamed(id.Dialect)
	if err != nil {
		return nil, err
	}
	heads, err := batch.Heads(ctx, kept)
	if err != nil {
		return nil, err
	}
	steps := map[string]directory.OurSteps{}
	for _, head := range heads {
		if !head.Identity.Same(id) || head.State == batch.Staged || head.State == batch.Discarded {
			continue
		}
		b, err := batch.Load(ctx, kept, head.ID)
		if err != nil {
			return nil, err
		}
		for i := range b.Lines {
			l := &b.Lines[i]
			if raw, err := source.ReadIdentity(d, l.ID); err == nil && l.State == batch.Applied {
				steps[raw] = stepsOf(steps[raw], l)
			}
		}
	}
	return steps, nil
}

// stepsOf are the steps of an account with those of one more line.
func stepsOf(of directory.OurSteps, l *batch.Line) directory.OurSteps {
	for i := range l.Changes {
		switch c := &l.Changes[i]; c.Kind() {
		case batch.OfSwitch:
			of.Disabled = time.Time{}
			if c.SwitchesOff() {
				of.Disabled = l.At
			}
		case batch.OfPlace, batch.Returning:
			of.Moved = l.At
		}
	}
	return of
}
