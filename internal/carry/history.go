package carry

import (
	"context"
	"sync"

	"yardbroom/internal/batch"
	"yardbroom/internal/directory"
	"yardbroom/internal/store"
)

// readHistory reads what the journal knows of one line.
func readHistory(
	ctx context.Context, journal func(context.Context, int, int) ([]store.Sealed, error), batchID, line int,
	d *directory.Dialect,
) (*history, error) {
	records, err := journal(ctx, batchID, line)
	if err != nil {
		return nil, err
	}
	return historyOf(records, d)
}

// historyOf puts the records of one line together.
func historyOf(records []store.Sealed, d *directory.Dialect) (*history, error) {
	h := &history{}
	for _, rec := range records {
		switch rec.Event {
		case eventIntent:
			var in intent
			if err := decodeBody(rec.Body, &in, rec.Seq); err != nil {
				return nil, err
			}
			h.intend(in)
		case eventOutcome:
			var o outcome
			if err := decodeBody(rec.Body, &o, rec.Seq); err != nil {
				return nil, err
			}
			h.conclude(o)
			h.steps[len(h.steps)-1].at = rec.At
			if o.Done && h.last().Op == OpAdd && o.After != nil {
				e := o.After.Entry()
				h.newID = e.First(d.Identity.String())
			}
		}
	}
	return h, nil
}

// unseen are the lines of a batch that was staged and never begun, of which the journal
// can know nothing before they are looked at.
type unseen struct {
	mu    sync.Mutex
	lines map[int]bool
}

func newUnseen(b *batch.Batch) *unseen {
	u := &unseen{lines: make(map[int]bool, len(b.Lines))}
	for i := range b.Lines {
		u.lines[b.Lines[i].N] = true
	}
	return u
}

// take tells whether a line is looked at for the first time. From then on it is not.
func (u *unseen) take(line int) bool {
	if u == nil {
		return false
	}
	u.mu.Lock()
	defer u.mu.Unlock()
	first := u.lines[line]
	delete(u.lines, line)
	return first
}
