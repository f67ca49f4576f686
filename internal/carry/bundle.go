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

// A bundle is a row of lines that are carried out together where nothing is
// lost by it: each is one modify, and the server itself tests all its guards
// in the write (RFC 4528). Their entries are read by one search, their intents
// are on disk by one sync before the first write, and they are read back by
// one search. Whatever is not plain sailing for a line is left to worker.line.

// bundleSize is the most lines of a bundle.
const bundleSize = 32

// mayBundle tells whether a line may be part of a bundle.
func (r *run) mayBundle(l *batch.Line) bool {
	if !r.Server.Root.Controls[source.AssertionOID] || r.alone(l) || len(l.Actions) != 1 ||
		batch.GuardsGroups(l.Guard) {
		return false
	}
	a := &l.Actions[0]
	return slices.Equal(mainOps[a.Name], []Op{OpModify}) && !slices.ContainsFunc(l.Guard, func(g batch.Guard) bool {
		return g.Server != "" && !strings.EqualFold(g.Server, r.Server.HostName())
	})
}

// bundled is a line on its way through a bundle.
type bundled struct {
	line  *batch.Line
	past  *history
	entry *directory.Entry
	step  Step
	err   error // of the write
	sent  bool
	// judged tells that its line has been looked at and told of.
	judged bool
}

// bundle carries out lines together and tells the supervisor of each.
func (w *worker) bundle(ctx context.Context, lines []*batch.Line, s *supervisor) {
	ready, rest, err := w.prepare(ctx, lines)
	if err == nil && len(ready) > 0 {
		var lost []*batch.Line
		lost, err = w.writeTogether(ctx, ready, s)
		rest = append(rest, lost...)
	}
	if err != nil {
		s.take(ctx, lines[0], err, false)
		return
	}
	for _, l := range rest {
		if s.over() || ctx.Err() != nil {
			return
		}
		s.take(ctx, l, w.line(ctx, l), false)
	}
}

// prepare reads the entries and tests everything that has to be tested. The
// rest are lines that need more than one look.
func (w *worker) prepare(ctx context.Context, lines []*batch.Line) (ready []*bundled, rest []*batch.Line, err error) {
	ids := make([]string, len(lines))
	for i, l := range lines {
		if ids[i], err = source.ReadIdentity(w.server.Dialect, l.ID); err != nil {
			return nil, nil, err
		}
	}
	entries, err := w.server.ByIdentities(ctx, ids, nil)
	if err != nil {
		return nil, nil, err
	}
	powers, err := w.climber().Any(ctx, slices.Collect(maps.Values(entries))...)
	if err != nil {
		return nil, nil, err
	}
	if len(powers) > 0 {
		return nil, lines, nil // somebody among them has become privileged
	}
	unsure, err := w.unsure(ctx, slices.Collect(maps.Values(entries)))
	if err != nil {
		return nil, nil, err
	}
	for i, l := range lines {
		one := &bundled{line: l, entry: entries[ids[i]]}
		if one.past, err = w.past(ctx, l); err != nil {
			return nil, nil, err
		}
		if one.entry == nil || len(one.past.steps) > 0 || w.Barred[l.N] != "" ||
			w.Protection.Refuse(l, one.entry, &batch.Footprint{}) != "" || unsure[one.entry] != "" ||
			batch.Drift(l.Guard, one.entry, nil) != "" {
			rest = append(rest, l)
			continue
		}
		a := &l.Actions[0]
		mods, err := w.mods(ctx, a, one.entry)
		if err != nil {
			rest = append(rest, l)
			continue
		}
		one.step = w.step(a.Name, OpModify, one.entry, func(s *Step) { s.N, s.Mods = 1, mods })
		ready = append(ready, one)
	}
	return ready, rest, nil
}

// writeTogether writes the intents, then the changes, then reads all back. It returns
// the lines whose change was lost on the way, to be done once more. The error
// is one of the journal.
func (w *worker) writeTogether(ctx context.Context, ready []*bundled, s *supervisor) (again []*batch.Line, err error) {
	slices.SortFunc(ready, func(a, b *bundled) int { return strings.Compare(a.step.written(), b.step.written()) })
	for _, one := range ready {
		defer w.common.hold(one.step.written())() // in one order, so that no two bundles wait for each other
	}
	var intents []*store.Record
	for _, one := range ready {
		before := image(one.entry)
		in := intent{Step: one.step, Before: before, Host: w.server.HostName()}
		intents = append(intents, w.record(eventIntent, one.line.N, in))
		one.past.intend(in)
	}
	background := context.Background() // from here on everything comes to its end
	if _, err := w.Store.AppendAll(background, intents...); err != nil {
		return nil, journalError{err}
	}
	lost := false
	for _, one := range ready {
		if lost || s.over() || ctx.Err() != nil {
			continue
		}
		if err := w.wait(background); err != nil {
			return nil, err
		}
		one.sent, one.err = true, w.send(&one.step, w.assertion(one.line, one.entry))
		lost = source.Lost(one.err)
		if one.err != nil && !lost {
			one.judged = true
			err := w.conclude(background, one.line, one.past, one.err)
			s.take(ctx, one.line, w.settled(one.line, one.past, err), false)
		}
	}
	if lost {
		if err := w.server.Reconnect(background); err != nil {
			w.leaveOpen(ctx, ready, err, s)
			return nil, nil
		}
	}
	return w.lookBack(ctx, ready, s)
}

// lookBack reads what was written and journals the outcomes, all at once. It
// returns the lines whose change was lost on the way.
func (w *worker) lookBack(ctx context.Context, ready []*bundled, s *supervisor) (again []*batch.Line, err error) {
	background := context.Background()
	var open []*bundled
	var ids []string
	names := map[string]bool{}
	for _, one := range ready {
		if one.judged || !one.past.open() {
			continue // refused
		}
		open = append(open, one)
		ids = append(ids, string(one.step.ID))
		for _, a := range one.entry.Attrs {
			names[a.Name] = true
		}
		for _, m := range one.step.Mods {
			names[m.Attr] = true
		}
	}
	if len(open) == 0 {
		return nil, nil
	}
	entries, err := w.server.ByIdentities(background, ids, names)
	if err != nil {
		w.leaveOpen(ctx, open, err, s)
		return nil, nil
	}
	var records []*store.Record
	var done, undone []*bundled
	for _, one := range open {
		if !one.sent {
			o := outcome{N: one.step.N, Untouched: true, Error: "it was not sent"}
			one.past.conclude(o)
			records = append(records, w.record(eventOutcome, one.line.N, o))
			continue // it waits for the next run
		}
		e := entries[string(one.step.ID)]
		if effectOf(&one.step, e) != effectDone {
			undone = append(undone, one) // it is looked at once more, for longer
			continue
		}
		o, _ := w.outcomeOf(one.line, one.past, sight{e, effectDone}, one.err) // done, whatever was answered
		one.past.conclude(o)
		one.line.State, one.line.Note = batch.Applied, ""
		records = append(records, w.record(eventOutcome, one.line.N, o),
			w.record(batch.EventSettled, one.line.N, one.line.Settle(batch.Applied, "")))
		done = append(done, one)
	}
	if _, err := w.Store.AppendAll(background, records...); err != nil {
		return nil, journalError{err}
	}
	for _, one := range done {
		s.take(ctx, one.line, nil, false)
	}
	for _, one := range undone {
		err := w.conclude(background, one.line, one.past, one.err)
		if source.Lost(one.err) && one.past.untouched() && !one.past.open() {
			again = append(again, one.line)
			continue
		}
		s.take(ctx, one.line, w.settled(one.line, one.past, err), false)
	}
	return again, nil
}

// leaveOpen says of all lines whose writes nobody could look at that it is not
// known what became of them.
func (w *worker) leaveOpen(ctx context.Context, ready []*bundled, err error, s *supervisor) {
	for _, one := range ready {
		if one.past.open() {
			s.take(ctx, one.line, w.settled(one.line, one.past, unread(err)), false)
		}
	}
}

// untouched tells whether the last step left the entry as it was.
func (h *history) untouched() bool {
	return len(h.steps) == 0 || h.steps[len(h.steps)-1].outcome != nil && h.steps[len(h.steps)-1].outcome.Untouched
}
