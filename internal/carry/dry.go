package carry

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"sync"

	"yardbroom/internal/batch"
	"yardbroom/internal/directory"
	"yardbroom/internal/source"
)

// Foretold is what would become of a batch, as everything is now.
type Foretold struct {
	// Lines are those that are left, in their order, as far as they were looked
	// at.
	Lines []ForetoldLine
	// Halted says why not all of them were, "" where they were.
	Halted string
}

// ForetoldLine is what would become of a line.
type ForetoldLine struct {
	Line *batch.Line
	// State is the one that it would come to; batch.Applied means that it would be
	// done.
	State batch.LineState
	Note  string // why
}

// Done counts the lines that would be done.
func (f *Foretold) Done() (n int) {
	for _, l := range f.Lines {
		if l.State == batch.Applied {
			n++
		}
	}
	return n
}

// NotDone tells whether something would not be done, or could not be foretold.
func (f *Foretold) NotDone() bool { return f.Done() < len(f.Lines) || f.Halted != "" }

// DryRun reads the directory and judges what is left of the batch as Run does.
// It writes nothing anywhere, and leaves the batch as it is. Whether anybody has
// agreed to it is not asked.
func (j *Job) DryRun(ctx context.Context, pace Pace) (*Foretold, error) {
	r := &run{
		Job:       j,
		Pace:      pace,
		agreement: &batch.Agreement{},
		foretold:  &changedNames{gone: map[string]bool{}, there: map[string]bool{}},
	}
	if err := r.ready(ctx); err != nil {
		return nil, err
	}
	if r.Server.Dialect == directory.AD { // elsewhere it takes a write to find out
		if no, err := r.Server.TakesWrites(ctx); err != nil || no != "" {
			return nil, cmp.Or(err, noWrites(r.Server, no))
		}
	}
	apart := r.onCopyOfBatch()
	first := r.worker(r.Server)
	defer first.closeOthers()
	res := Result{}
	never := func(*batch.Line) bool { return false }
	if err := r.lines(ctx, first, &res, (*worker).foretell, never); err != nil {
		return nil, err
	}
	out := &Foretold{}
	if !res.Planned {
		out.Halted = res.Halted
	}
	for i, l := range apart.Lines {
		if was := &j.Batch.Lines[i]; !was.State.Settled() && l.State != batch.Waiting {
			out.Lines = append(out.Lines, ForetoldLine{was, l.State, l.Note})
		}
	}
	return out, nil
}

// onCopyOfBatch makes the run one of a copy of its batch, of which it tells
// nobody, so that lines can be given states that they do not have.
func (r *run) onCopyOfBatch() *batch.Batch {
	apart, job := *r.Batch, *r.Job
	apart.Lines = slices.Clone(apart.Lines)
	for i := range apart.Lines {
		if l := &apart.Lines[i]; !l.State.Settled() {
			l.State, l.Note = batch.Waiting, ""
		}
	}
	job.Batch, job.Settled = &apart, nil
	r.Job = &job
	return &apart
}

// changedNames are the names of entries that lines of a dry run would have taken away and
// made, so that later lines are judged as they would be then.
type changedNames struct {
	mu          sync.Mutex
	gone, there map[string]bool // folded
}

func (n *changedNames) isGone(dn string) bool {
	return n.has(dn, func() map[string]bool { return n.gone })
}
func (n *changedNames) isThere(dn string) bool {
	return n.has(dn, func() map[string]bool { return n.there })
}

func (n *changedNames) has(dn string, which func() map[string]bool) bool {
	if n == nil {
		return false
	}
	n.mu.Lock()
	defer n.mu.Unlock()
	return which()[directory.FoldDN(dn)]
}

// done takes note of a line that would be done.
func (n *changedNames) done(l *batch.Line) {
	n.mu.Lock()
	defer n.mu.Unlock()
	at := l.DN
	for i := range l.Actions {
		a := &l.Actions[i]
		switch a.Name {
		case batch.Delete:
			n.gone[directory.FoldDN(at)] = true
			delete(n.there, directory.FoldDN(at))
		case batch.Move, batch.Rename:
			n.gone[directory.FoldDN(at)] = true
			delete(n.there, directory.FoldDN(at))
			at = a.RDN + "," + a.To
			n.there[directory.FoldDN(at)] = true
		case batch.Restore:
			at = a.RDN + "," + a.To
			n.there[directory.FoldDN(at)] = true
		}
	}
}

// foretell gives a line the state that it would come to. It reads only.
func (w *worker) foretell(ctx context.Context, l *batch.Line) error {
	v, err := w.verdictOn(ctx, l)
	if v.state == "" && err == nil {
		v.state = batch.Applied
		w.foretold.done(l)
	}
	if v.state != "" {
		l.State = v.state
	}
	l.Note = v.note
	return err
}

// verdictOn is the verdict on a line; the zero one is that it would be done.
func (w *worker) verdictOn(ctx context.Context, l *batch.Line) (verdict, error) {
	past, err := w.seenPast(ctx, l)
	if errors.Is(err, errUnknown) {
		return past.end(err)
	}
	if err != nil {
		return verdict{}, err
	}
	entry, err := w.find(ctx, l, past)
	switch {
	case errors.Is(err, source.ErrNotFound):
		return verdict{batch.Drifted, gone}, nil
	case err != nil:
		return verdict{}, err
	}
	if v, err := w.mustNot(ctx, l, entry, past); err != nil || v.state != "" {
		return v, err
	}
	if err := w.allPossible(ctx, l, entry, past); err != nil {
		return verdict{batch.Refused, err.Error()}, nil
	}
	if entry == nil {
		return verdict{}, nil
	}
	why, err := l.Foresee(ctx, w.rights(), w.server.Dialect, entry.DN, past.done)
	if err != nil || why == "" {
		return verdict{}, err
	}
	return verdict{batch.Refused, w.server.Bound + " " + why}, nil
}

// rights foresees what the account that is bound may do.
func (w *worker) rights() *source.Foresight {
	if w.foresight == nil {
		w.foresight = w.server.Foresight()
	}
	return w.foresight
}
