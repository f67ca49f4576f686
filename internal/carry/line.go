package carry

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"yardbroom/internal/batch"
	"yardbroom/internal/directory"
	"yardbroom/internal/privilege"
	"yardbroom/internal/source"
)

// line carries out one line. An error that it returns has also been settled
// as the line's state, unless the state is still waiting: then nothing was
// begun and the reason lies outside the line.
func (w *worker) line(ctx context.Context, l *batch.Line) error {
	past, err := w.past(ctx, l)
	if errors.Is(err, errUnknown) {
		return w.settled(l, past, err)
	}
	if err != nil {
		return err
	}
	entry, err := w.find(ctx, l, past)
	switch {
	case errors.Is(err, source.ErrNotFound):
		return w.settle(l, batch.Drifted, gone)
	case err != nil:
		return err
	}
	if entry, err = w.afterAttempt(ctx, l, entry, past); err != nil {
		return w.settled(l, past, err)
	}
	v, err := w.mustNot(ctx, l, entry, past)
	switch {
	case err != nil:
		return err
	case v.state != "":
		return w.settle(l, v.state, v.note)
	}
	if len(l.Actions) > 1 && !past.begun() {
		// None is begun where another could not be done.
		if err := w.allPossible(ctx, l, entry, past); err != nil {
			return w.settled(l, past, err)
		}
	}
	err = w.actions(ctx, l, entry, past)
	if err != nil && ctx.Err() != nil && errors.Is(err, ctx.Err()) {
		return err
	}
	return w.settled(l, past, err)
}

// verdict is the state that a line comes to, and why. Its state is "" where it
// stays open.
type verdict struct {
	state batch.LineState
	note  string
}

const gone = "the entry is gone"

// mustNot tells why a line must not be done, or not be gone on with: what it
// touches, its guards, and what could not be read of them. The zero verdict is
// that it may.
func (w *worker) mustNot(ctx context.Context, l *batch.Line, e *directory.Entry, past *history) (verdict, error) {
	why, err := w.refusal(ctx, l, e)
	switch {
	case err != nil:
		return verdict{}, err
	case why != "" && past.begun():
		return verdict{batch.Failed, "begun, and must not be gone on with: " + why}, nil
	case why != "":
		return verdict{batch.Refused, why}, nil
	case e == nil:
		return verdict{}, nil
	}
	drift, unproved, err := w.drift(ctx, l, e, past)
	switch {
	case err != nil:
		return verdict{}, err
	case drift != "" && past.begun():
		return verdict{batch.Failed, "begun, then changed by somebody else: " + drift}, nil
	case drift != "":
		return verdict{batch.Drifted, drift + w.notHere(l)}, nil
	case unproved != "" && !w.AcceptUnproved:
		return verdict{batch.Unproved, unproved}, nil
	}
	return verdict{}, nil
}

// find reads the line's entry by its identity. An entry that a restore is to
// bring back, or that the line itself deleted, or whose home is all that is
// left of it, is nil.
func (w *worker) find(ctx context.Context, l *batch.Line, past *history) (*directory.Entry, error) {
	if l.Actions[0].Name == batch.Restore && !past.done(batch.Restore) || past.done(batch.Delete) {
		return nil, nil
	}
	id, err := source.ReadIdentity(w.server.Dialect, l.ID)
	if err != nil {
		return nil, err
	}
	if past.newID != "" {
		id = past.newID
	}
	e, err := w.server.ByIdentity(ctx, id)
	if errors.Is(err, source.ErrNotFound) && l.Has(batch.ArchiveHome) {
		return nil, nil // its home outlives it
	}
	return e, err
}

// refusal judges everything that the line touches, as it is now: protection,
// the powers that it was signed with, and who would be left in privileged
// groups.
func (w *worker) refusal(ctx context.Context, l *batch.Line, e *directory.Entry) (string, error) {
	if why := w.Barred[l.N]; why != "" {
		return why, nil
	}
	found, err := batch.Footprints(ctx, w.server, w.server.Dialect, w.climber(), []batch.Planned{{Line: l, Entry: e}})
	if err != nil {
		return "", err
	}
	f := &found[0]
	if why := w.Protection.Refuse(l, e, f); why != "" {
		return why, nil
	}
	unsure, err := w.unsure(ctx, []*directory.Entry{e})
	if err != nil || unsure[e] != "" {
		return unsure[e], err
	}
	if more := f.Exceeds(l); len(more) > 0 {
		return "it is about " + strings.Join(more,
			" and ") + " now, and was not when this was staged: stage it again", nil
	}
	return w.lastOf(ctx, l, e, f)
}

// unsure tells why it cannot be told of some entries that they are not exempt. A copy hides
// nothing, and need not know every attribute that exemptions go by.
func (w *worker) unsure(ctx context.Context, entries []*directory.Entry) (map[*directory.Entry]string, error) {
	if w.OnCopy {
		return nil, nil
	}
	return w.Protection.Unsure(ctx, w.server, entries)
}

// climber asks the server who is privileged, at this moment.
func (w *worker) climber() *privilege.Climber {
	return &privilege.Climber{From: w.server, Dialect: w.server.Dialect, Rules: w.common.rules}
}

// lastOf tells whether a privileged group would be left without an enabled
// member. Somebody else may be at work on the same group, so all of them are
// read again.
func (w *worker) lastOf(ctx context.Context, l *batch.Line, e *directory.Entry, f *batch.Footprint) (string, error) {
	now := *l
	now.Privileged = f.Powers
	losing := now.GivesUp()
	if e == nil || len(losing) == 0 {
		return "", nil
	}
	fresh, err := privilege.Read(ctx, w.server, w.server.Dialect, w.common.rules, w.Now())
	if err != nil {
		return "", fmt.Errorf("its privileged groups could not be read: %w", err)
	}
	w.common.learn(fresh)
	if emptied := fresh.WouldEmpty([]privilege.Going{{DN: e.DN, Groups: losing}}); len(emptied) > 0 {
		return strings.Join(emptied, " and ") + " would have no enabled member left", nil
	}
	return "", nil
}

// guards are those of a line that still mean something: once it was moved, its
// container is the line's own doing.
func (w *worker) guards(l *batch.Line, past *history) []batch.Guard {
	if !past.done(batch.Move) && !past.done(batch.Rename) && !past.done(batch.Restore) {
		return l.Guard
	}
	return slices.DeleteFunc(slices.Clone(l.Guard), func(g batch.Guard) bool { return g.Rule == batch.Container })
}

// drift tests the guards. The second result says which guard could not be
// read where it has to be.
func (w *worker) drift(
	ctx context.Context, l *batch.Line, e *directory.Entry, past *history,
) (drift, unproved string, err error) {
	guards := w.guards(l, past)
	mine := past.mods()
	if past.attempted(OpPassword) && !e.Has(lockAttr) {
		mine = append(mine, batch.Mod{Attr: lockAttr}) // which the attempt has lifted
	}
	if drift := batch.Drift(guards, e, mine); drift != "" {
		return drift, "", nil
	}
	if batch.GuardsGroups(guards) {
		drift, err := w.groupDrift(ctx, guards, e, past)
		if drift != "" || err != nil {
			return drift, "", err
		}
	}
	if drift, err := w.permissionsDrift(ctx, guards, e, past); drift != "" || err != nil {
		return drift, "", err
	}
	for _, g := range guards {
		if g.Server == "" || strings.EqualFold(g.Server, w.server.HostName()) {
			continue
		}
		other, err := w.other(ctx, g.Server)
		if err != nil {
			unproved = fmt.Sprintf("%s is %s's own value, and that server could not be asked: %v", g.Attr, g.Server,
				err)
			continue
		}
		id, err := source.ReadIdentity(w.server.Dialect, l.ID)
		if err != nil {
			return "", "", err
		}
		there, err := other.ByIdentity(ctx, id)
		if err != nil {
			unproved = fmt.Sprintf("%s on %s: %v", g.Attr, g.Server, err)
			continue
		}
		noLater := slices.DeleteFunc(slices.Clone(guards), func(g batch.Guard) bool { return g.Rule != batch.NoLater })
		if drift := batch.Drift(noLater, there, nil); drift != "" {
			return drift + " on " + g.Server, "", nil
		}
	}
	return "", unproved, nil
}

func (w *worker) other(ctx context.Context, host string) (*source.Server, error) {
	if s := w.others[host]; s != nil {
		return s, nil
	}
	if w.Other == nil {
		return nil, errors.New("it is not among the yard's servers")
	}
	s, err := w.Other(ctx, host)
	if err == nil {
		w.others[host] = s
	}
	return s, err
}

// settled gives a line the state that follows from an error of its step, and
// returns the error.
func (w *worker) settled(l *batch.Line, past *history, err error) error {
	v, err := past.end(err)
	if v.state == "" {
		l.Note = cmp.Or(v.note, l.Note)
		return err
	}
	if settleErr := w.settle(l, v.state, v.note); settleErr != nil {
		return settleErr
	}
	return err
}

// end tells to which state a line comes by an error of its step, nil for none. A
// line that could not be done for what is no matter of its own stays open. The
// error that it returns says more where a connection was lost.
func (h *history) end(err error) (verdict, error) {
	var journal journalError
	var refused *source.Refused
	var local localError
	var changed changedError
	switch {
	case errors.As(err, &journal):
		return verdict{}, err
	case err == nil && len(h.lacks) > 0:
		return verdict{batch.InPart, strings.Join(slices.Concat(h.lacks, h.notes), "; ")}, nil
	case err == nil:
		return verdict{batch.Applied, strings.Join(h.notes, "; ")}, nil
	case h.open():
		return verdict{batch.Unknown, err.Error()}, err
	case source.Lost(err):
		return verdict{}, lostError{err} // it goes on when the server is back
	case h.begun():
		return verdict{batch.Failed, err.Error()}, err
	case source.RefusedFor(err, source.Denied, source.Elsewhere, source.SignedOut), errors.As(err, &local):
		return verdict{note: err.Error()}, err // it waits until that is put right
	case errors.As(err, &changed):
		return verdict{batch.Drifted, err.Error()}, err
	case errors.As(err, &refused) && (firm(err) || h.untouched()), h.untouched():
		return verdict{batch.Refused, err.Error()}, err
	}
	return verdict{batch.Failed, err.Error()}, err
}

// allPossible tells whether what is left of a line's actions can be done to the
// entry as it is now.
func (w *worker) allPossible(ctx context.Context, l *batch.Line, e *directory.Entry, past *history) error {
	for i := range l.Actions {
		a := &l.Actions[i]
		if past.done(a.Name) {
			continue
		}
		if err := w.possible(ctx, l, a, e); err != nil {
			return err
		}
	}
	return nil
}
