package carry

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"yardbroom/internal/batch"
	"yardbroom/internal/directory"
	"yardbroom/internal/source"
	"yardbroom/internal/store"
)

// Inverse makes the batch that takes another one back: only what the journal
// proves to have been done, in the opposite order, each line with guards that
// hold only while the entry is still as apply left it.
func Inverse(ctx context.Context, s *store.Store, b *batch.Batch, by string, at time.Time) (*batch.Batch, []batch.Refusal, error) {
	d, err := directory.DialectNamed(b.Identity.Dialect)
	if err != nil {
		return nil, nil, err
	}
	out := &batch.Batch{Identity: b.Identity, Yard: b.Yard, Source: fmt.Sprintf("the journal of batch %d", b.ID), Server: b.Server, Created: at, By: by,
		Why: fmt.Sprintf("undo of batch %d", b.ID), UndoOf: b.ID}
	var refusals []batch.Refusal
	for i := len(b.Lines) - 1; i >= 0; i-- {
		h, err := readHistory(ctx, s.Journal, b.ID, b.Lines[i].N, d)
		if err != nil {
			return nil, nil, err
		}
		if !h.begun() {
			continue
		}
		line, refused := inverseLine(d, b.ID, &b.Lines[i], h)
		refusals = append(refusals, refused...)
		if line == nil {
			continue
		}
		line.N = len(out.Lines) + 1
		out.Lines = append(out.Lines, *line)
		for _, a := range line.Actions {
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

// ErrNothingToUndo is the error for a batch that changed nothing that could
// be taken back.
var ErrNothingToUndo = errors.New("nothing of it was done that could be undone")

func inverseLine(d *directory.Dialect, batchID int, l *batch.Line, h *history) (*batch.Line, []batch.Refusal) {
	out := &batch.Line{DN: l.DN, ID: l.ID, Account: l.Account, Kind: l.Kind, Reason: fmt.Sprintf("undo of line %d of batch %d", l.N, batchID),
		Confidence: "sure", Privileged: l.Privileged}
	var refusals []batch.Refusal
	deleted := h.main(batch.Delete) != nil
	for i := len(l.Actions) - 1; i >= 0; i-- {
		step := h.main(l.Actions[i].Name)
		if step == nil {
			continue
		}
		switch name := l.Actions[i].Name; {
		case name == batch.Restore:
			refusals = append(refusals, batch.Refusal{DN: l.DN, Account: l.Account, Why: "what was restored is not deleted again by an undo; stage a delete if it must go"})
		case !batch.HasInverse(name):
			refusals = append(refusals, batch.Refusal{DN: l.DN, Account: l.Account, Why: name + " has no inverse"})
		case name == batch.Delete:
			bringBack(out, d, step.DN, step.before)
		case name == batch.Move, name == batch.Rename:
			moveBack(out, step, deleted)
		case deleted:
			out.Warnings = append(out.Warnings, "it comes back disabled; enable it when it has a password")
		default:
			putBack(out, d, step)
		}
	}
	if len(out.Actions) == 0 {
		return nil, refusals
	}
	return out, refusals
}

// bringBack stages the return of a deleted entry to where it was.
func bringBack(l *batch.Line, d *directory.Dialect, dn string, im *batch.Image) {
	rdn, parent := directory.SplitDN(dn)
	l.Actions = append(l.Actions, batch.Action{Name: batch.Restore, RDN: rdn, To: parent, Image: im})
	l.Changes = append(l.Changes, batch.Change{What: "entry", Old: "(deleted)", New: dn})
	l.Warnings = append(l.Warnings, batch.NotComingBack(d)...)
}

// moveBack stages the return to the old place. After a delete in the same
// line the entry is there only once it was brought back, so the place it was
// deleted from guards nothing.
func moveBack(l *batch.Line, s *pastStep, deleted bool) {
	rdn, parent := directory.SplitDN(s.DN)
	l.Actions = append(l.Actions, batch.Action{Name: batch.Move, RDN: rdn, To: parent})
	l.Changes = append(l.Changes, batch.Change{What: "place", Old: s.target(), New: s.DN})
	if !deleted {
		l.DN = s.target()
		l.Guard = append(l.Guard, batch.Guard{Attr: "container", Rule: batch.Container, Values: []batch.Octets{batch.Octets(s.Superior)}})
	}
}

func putBack(l *batch.Line, d *directory.Dialect, s *pastStep) {
	var put []batch.Mod
	for _, m := range s.Mods {
		put = append(put, batch.Mod{Attr: m.Attr, Old: m.New, New: m.Old})
		l.Guard = append(l.Guard, batch.Guard{Attr: m.Attr, Rule: batch.Equal, Values: m.New})
		l.Changes = append(l.Changes, batch.Describe(batch.Mod{Attr: m.Attr, Old: m.New, New: m.Old}))
	}
	l.Actions = append(l.Actions, batch.Action{Name: batch.PutBack, Put: put})
}

// Deleted is a deletion that the journal knows of.
type Deleted struct {
	Batch, Line int
	Account, DN string
	At          time.Time
	line        batch.Line
	step        pastStep
}

// FindDeleted returns the deletions of an account, by logon name or DN, the
// latest first.
func FindDeleted(ctx context.Context, s *store.Store, account string) ([]Deleted, error) {
	all, err := batch.List(ctx, s)
	if err != nil {
		return nil, err
	}
	var found []Deleted
	for _, head := range all {
		if !slices.Contains(head.Actions, batch.Delete) || head.State == batch.Staged {
			continue
		}
		b, err := batch.Load(ctx, s, head.ID)
		if err != nil {
			return nil, err
		}
		d, err := directory.DialectNamed(b.Identity.Dialect)
		if err != nil {
			return nil, err
		}
		for i := range b.Lines {
			l := &b.Lines[i]
			if !strings.EqualFold(l.Account, account) && directory.FoldDN(l.DN) != directory.FoldDN(account) {
				continue
			}
			h, err := readHistory(ctx, s.Journal, b.ID, l.N, d)
			if err != nil {
				return nil, err
			}
			if step := h.main(batch.Delete); step != nil {
				found = append(found, Deleted{Batch: b.ID, Line: l.N, Account: l.Account, DN: step.DN, At: b.Created, line: *l, step: *step})
			}
		}
	}
	slices.Reverse(found)
	return found, nil
}

// Return makes the batch that brings one deleted entry back: from the
// journal, or with del nil from the directory's own deleted object.
func Return(id source.Identity, yard string, del *Deleted, grave *directory.Entry, by string, at time.Time) (*batch.Batch, error) {
	d, err := directory.DialectNamed(id.Dialect)
	if err != nil {
		return nil, err
	}
	b := &batch.Batch{Identity: id, Yard: yard, Source: "the journal", Created: at, By: by, Why: "restore", Actions: []string{batch.Restore}}
	line := batch.Line{N: 1, Confidence: "sure", Kind: "user"}
	if del != nil {
		line.DN, line.ID, line.Account, line.Kind, line.Reason = del.DN, del.line.ID, del.Account, del.line.Kind, fmt.Sprintf("deleted by line %d of batch %d", del.Line, del.Batch)
		bringBack(&line, d, del.DN, del.step.before)
	} else {
		b.Source = "the directory's deleted objects"
		name, _, _ := strings.Cut(directory.LeafValue(grave.DN), "\n")
		rdn, _ := directory.SplitDN(grave.DN)
		kind, _, _ := strings.Cut(rdn, "=")
		dn := kind + "=" + directory.EscapeDN(name) + "," + grave.First("lastKnownParent")
		line.DN, line.ID, line.Account, line.Reason = dn, source.ShowIdentity(d, grave.First(d.Identity.String())), grave.First("sAMAccountName"), "named"
		bringBack(&line, d, dn, nil)
	}
	b.Lines = []batch.Line{line}
	return b, nil
}
