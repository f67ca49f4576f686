package carry

import (
	"context"

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
