package carry

import (
	"context"
	"time"

	"yardbroom/internal/batch"
	"yardbroom/internal/directory"
	"yardbroom/internal/store"
)

// Handover is what became of a batch: who did what, and each line with what
// was there before and after.
type Handover struct {
	Batch  *batch.Batch
	Events []Event
	Lines  []LineHandover
	UndoOf int
	Undone []int // the batches that took it back, or parts of it
	// Signers are the people who have signed it as it is.
	Signers []string
	Runs    []Event // each time it was carried out, or gone on with
	Head    string  // hash of the last journal record about it
}

// Event is something that was done with a batch as a whole.
type Event struct {
	At   time.Time `json:"at"`
	By   string    `json:"by"`
	What string    `json:"what"` // staged, dropped, signed, apply, applied, discarded
	Text string    `json:"text,omitempty"`
}

// LineHandover is what became of one line.
type LineHandover struct {
	Line    *batch.Line
	At      time.Time // when it was settled, zero where it was not
	Changes []batch.Change
}

// ReadHandover reads from the journal what became of a batch.
func ReadHandover(ctx context.Context, s *store.Store, b *batch.Batch) (*Handover, error) {
	d, err := directory.DialectNamed(b.Identity.Dialect)
	if err != nil {
		return nil, err
	}
	records, err := s.Journal(ctx, b.ID, 0)
	if err != nil {
		return nil, err
	}
	h := &Handover{Batch: b, UndoOf: b.UndoOf}
	settled, ofLine := map[int]time.Time{}, map[int][]store.Sealed{}
	for i := range records {
		r := &records[i]
		h.Head = r.Hash
		if r.Line == 0 {
			h.Events = append(h.Events, Event{At: r.At, By: r.By, What: r.Event, Text: Describe(r)})
			if err := h.note(r); err != nil {
				return nil, err
			}
			continue
		}
		ofLine[r.Line] = append(ofLine[r.Line], *r)
		if r.Event == batch.EventSettled {
			settled[r.Line] = r.At
		}
	}
	for i := range b.Lines {
		l := &b.Lines[i]
		past, err := historyOf(ofLine[l.N], d)
		if err != nil {
			return nil, err
		}
		out := LineHandover{Line: l, At: settled[l.N]}
		for j := range past.steps {
			if o := past.steps[j].outcome; o != nil && o.Done {
				out.Changes = append(out.Changes, past.steps[j].operation().changes()...)
			}
		}
		h.Lines = append(h.Lines, out)
	}
	all, err := batch.Heads(ctx, s)
	for _, other := range all {
		if other.UndoOf == b.ID && other.State != batch.Staged && other.State != batch.Discarded {
			h.Undone = append(h.Undone, other.ID)
		}
	}
	return h, err
}

// note takes note of a record about the batch as a whole. An edit voids the
// signatures that were given before it.
func (h *Handover) note(r *store.Sealed) error {
	switch r.Event {
	case batch.EventSigned:
		var sig batch.Signature
		if err := decodeBody(r.Body, &sig, r.Seq); err != nil {
			return err
		}
		h.Signers = append(h.Signers, sig.Principal)
	case batch.EventDropped:
		h.Signers = nil
	case batch.EventBegun:
		h.Runs = append(h.Runs, h.Events[len(h.Events)-1])
	}
	return nil
}
