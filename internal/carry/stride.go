package carry

import (
	"context"
	"maps"
	"slices"
	"strings"

	"yardbroom/internal/batch"
	"yardbroom/internal/directory"
	"yardbroom/internal/source"
	"yardbroom/internal/store"
)

// A stride is a row of lines that are carried out together where nothing is
// lost by it: each is one modify, and the server itself tests all its guards
// in the write (RFC 4528). Their entries are read by one search, their intents
// are on disk by one sync before the first write, and they are read back by
// one search. Whatever is not plain sailing for a line is left to Runner.line.

// strideLength is the most lines of a stride.
const strideLength = 32

// simple tells whether a line may be part of a stride.
func (r *Runner) simple(l *batch.Line) bool {
	if r.DryRun || !r.Server.Root.Controls[source.AssertionOID] || alone(l) || len(l.Actions) != 1 || batch.GuardsGroups(l.Guard) {
		return false
	}
	a := &l.Actions[0]
	return slices.Equal(mainOps[a.Name], []Op{OpModify}) && !slices.ContainsFunc(l.Guard, func(g batch.Guard) bool {
		return g.Server != "" && !strings.EqualFold(g.Server, r.Server.HostName())
	})
}

// walker is a line on its way through a stride.
type walker struct {
	line  *batch.Line
	past  *history
	entry *directory.Entry
	step  Step
	err   error // of the write
	sent  bool
	// judged tells that its line has been looked at and told of.
	judged bool
}

// stride carries out lines together and tells the judge of each.
func (r *Runner) stride(ctx context.Context, lines []*batch.Line, j *judge) {
	ready, rest, err := r.prepare(ctx, lines)
	if err == nil && len(ready) > 0 {
		var lost []*batch.Line
		lost, err = r.walk(ctx, ready, j)
		rest = append(rest, lost...)
	}
	if err != nil {
		j.take(ctx, lines[0], err, false)
		return
	}
	for _, l := range rest {
		if j.over() || ctx.Err() != nil {
			return
		}
		j.take(ctx, l, r.line(ctx, l), false)
	}
}

// prepare reads the entries and tests everything that has to be tested. The
// rest are lines that need more than one look.
func (r *Runner) prepare(ctx context.Context, lines []*batch.Line) (ready []*walker, rest []*batch.Line, err error) {
	ids := make([]string, len(lines))
	for i, l := range lines {
		if ids[i], err = source.ReadIdentity(r.Server.Dialect, l.ID); err != nil {
			return nil, nil, err
		}
	}
	entries, err := r.Server.ByIdentities(ctx, ids, nil)
	if err != nil {
		return nil, nil, err
	}
	powers, err := r.climber().Any(ctx, slices.Collect(maps.Values(entries))...)
	if err != nil {
		return nil, nil, err
	}
	if len(powers) > 0 {
		return nil, lines, nil // somebody among them has become privileged
	}
	for i, l := range lines {
		w := &walker{line: l, entry: entries[ids[i]]}
		if w.past, err = r.past(ctx, l); err != nil {
			return nil, nil, err
		}
		if w.entry == nil || len(w.past.steps) > 0 || r.Barred[l.N] != "" || r.Protection.Refuse(l, w.entry, &batch.Footprint{}) != "" || batch.Drift(l.Guard, w.entry, nil) != "" {
			rest = append(rest, l)
			continue
		}
		a := &l.Actions[0]
		mods, err := r.mods(ctx, a, w.entry)
		if err != nil {
			rest = append(rest, l)
			continue
		}
		w.step = r.step(a.Name, OpModify, w.entry, func(s *Step) { s.N, s.Mods = 1, mods })
		ready = append(ready, w)
	}
	return ready, rest, nil
}

// walk writes the intents, then the changes, then reads all back. It returns
// the lines whose change was lost on the way, to be done once more. The error
// is one of the journal.
func (r *Runner) walk(ctx context.Context, ready []*walker, j *judge) (again []*batch.Line, err error) {
	slices.SortFunc(ready, func(a, b *walker) int { return strings.Compare(a.step.written(), b.step.written()) })
	for _, w := range ready {
		defer r.common.hold(w.step.written())() // in one order, so that no two strides wait for each other
	}
	var intents []*store.Record
	for _, w := range ready {
		before := image(w.entry)
		in := intent{Step: w.step, Before: before, Host: r.Server.HostName()}
		intents = append(intents, r.record(eventIntent, w.line.N, in))
		w.past.intend(in)
	}
	background := context.Background() // from here on everything comes to its end
	if _, err := r.Store.AppendAll(background, intents...); err != nil {
		return nil, journalError{err}
	}
	lost := false
	for _, w := range ready {
		if lost || j.over() || ctx.Err() != nil {
			continue
		}
		if err := r.wait(background); err != nil {
			return nil, err
		}
		w.sent, w.err = true, r.write(&w.step, r.assertion(w.line, w.entry))
		lost = source.Lost(w.err)
		if w.err != nil && !lost {
			w.judged = true
			err := r.conclude(background, w.line, w.past, w.err)
			j.take(ctx, w.line, r.settled(w.line, w.past, err), false)
		}
	}
	if lost {
		if err := r.Server.Reconnect(background); err != nil {
			r.leaveOpen(ctx, ready, err, j)
			return nil, nil
		}
	}
	return r.lookBack(ctx, ready, j)
}

// lookBack reads what was written and journals the outcomes, all at once. It
// returns the lines whose change was lost on the way.
func (r *Runner) lookBack(ctx context.Context, ready []*walker, j *judge) (again []*batch.Line, err error) {
	background := context.Background()
	var open []*walker
	var ids []string
	names := map[string]bool{}
	for _, w := range ready {
		if w.judged || !w.past.open() {
			continue // refused
		}
		open = append(open, w)
		ids = append(ids, string(w.step.ID))
		for _, a := range w.entry.Attrs {
			names[a.Name] = true
		}
		for _, m := range w.step.Mods {
			names[m.Attr] = true
		}
	}
	if len(open) == 0 {
		return nil, nil
	}
	entries, err := r.Server.ByIdentities(background, ids, names)
	if err != nil {
		r.leaveOpen(ctx, open, err, j)
		return nil, nil
	}
	var records []*store.Record
	var done, undone []*walker
	for _, w := range open {
		if !w.sent {
			o := outcome{N: w.step.N, Untouched: true, Error: "it was not sent"}
			w.past.conclude(o)
			records = append(records, r.record(eventOutcome, w.line.N, o))
			continue // it waits for the next run
		}
		e := entries[string(w.step.ID)]
		if effectOf(&w.step, e) != effectDone {
			undone = append(undone, w) // it is looked at once more, for longer
			continue
		}
		o, _ := r.outcomeOf(w.line, w.past, sight{e, effectDone}, w.err) // done, whatever was answered
		w.past.conclude(o)
		w.line.State, w.line.Note = batch.Applied, ""
		records = append(records, r.record(eventOutcome, w.line.N, o), r.record(batch.EventSettled, w.line.N, w.line.Settle(batch.Applied, "")))
		done = append(done, w)
	}
	if _, err := r.Store.AppendAll(background, records...); err != nil {
		return nil, journalError{err}
	}
	for _, w := range done {
		j.take(ctx, w.line, nil, false)
	}
	for _, w := range undone {
		err := r.conclude(background, w.line, w.past, w.err)
		if source.Lost(w.err) && w.past.untouched() && !w.past.open() {
			again = append(again, w.line)
			continue
		}
		j.take(ctx, w.line, r.settled(w.line, w.past, err), false)
	}
	return again, nil
}

// leaveOpen says of all lines whose writes nobody could look at that it is not
// known what became of them.
func (r *Runner) leaveOpen(ctx context.Context, ready []*walker, err error, j *judge) {
	for _, w := range ready {
		if w.past.open() {
			j.take(ctx, w.line, r.settled(w.line, w.past, unread(err)), false)
		}
	}
}

// untouched tells whether the last step left the entry as it was.
func (h *history) untouched() bool {
	return len(h.steps) == 0 || h.steps[len(h.steps)-1].outcome != nil && h.steps[len(h.steps)-1].outcome.Untouched
}
