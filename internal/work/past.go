package work

import (
	"context"
	"slices"
	"time"

	"yardbroom/internal/batch"
	"yardbroom/internal/directory"
	"yardbroom/internal/source"
)

// PastLine is a line of a batch about one entry: done, left, or waiting to be carried out.
type PastLine struct {
	*batch.Batch
	*batch.Line
}

// past are the lines of all batches of a directory, by the identity of their entry, the
// oldest first.
func (s *Session) past(ctx context.Context, id source.Identity) (map[string][]PastLine, error) {
	kept, err := s.storeIfAny(ctx)
	if kept == nil || err != nil {
		return nil, err
	}
	all, err := s.Batches(ctx)
	if err != nil {
		return nil, err
	}
	slices.SortFunc(all, func(a, b *batch.Batch) int { return a.ID - b.ID })
	lines := map[string][]PastLine{}
	for _, b := range all {
		if !b.Identity.Same(id) {
			continue
		}
		for i := range b.Lines {
			l := &b.Lines[i]
			lines[l.ID] = append(lines[l.ID], PastLine{b, l})
		}
	}
	return lines, nil
}

// ourSteps are when our journal last disabled and moved the accounts of a directory, by
// raw identity.
func (s *Session) ourSteps(ctx context.Context, id source.Identity) (map[string]directory.OurSteps, error) {
	past, err := s.past(ctx, id)
	if err != nil || len(past) == 0 {
		return nil, err
	}
	d, err := directory.DialectNamed(id.Dialect)
	if err != nil {
		return nil, err
	}
	steps := map[string]directory.OurSteps{}
	for shown, lines := range past {
		raw, err := source.ReadIdentity(d, shown)
		if err != nil {
			continue // it names nobody
		}
		var of directory.OurSteps
		for _, p := range lines {
			if p.Line.State != batch.Applied {
				continue
			}
			for i := range p.Changes {
				switch c := &p.Changes[i]; c.Kind() {
				case batch.OfSwitch:
					of.Disabled = time.Time{}
					if c.SwitchesOff() {
						of.Disabled = p.At
					}
				case batch.OfPlace, batch.Returning:
					of.Moved = p.At
				}
			}
		}
		steps[raw] = of
	}
	return steps, nil
}
