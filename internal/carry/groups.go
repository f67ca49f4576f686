package carry

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"yardbroom/internal/batch"
	"yardbroom/internal/directory"
	"yardbroom/internal/source"
)

// groupDrift tests the guards on which groups list the entry.
func (w *worker) groupDrift(
	ctx context.Context, guards []batch.Guard, e *directory.Entry, past *history,
) (string, error) {
	var values []source.Value
	for _, attr := range batch.MemberAttributesOf(w.server.Dialect) {
		if v := batch.MemberValue(attr, e); v != "" {
			values = append(values, source.Value{Attr: attr, Value: v})
		}
	}
	found, err := w.server.Listing(ctx, values...)
	if err != nil {
		return "", fmt.Errorf("reading its groups: %w", err)
	}
	var now, joined, left []string
	for i := range found {
		now = append(now, found[i].DN)
	}
	for _, s := range past.steps {
		if s.outcome == nil || !s.outcome.Done || s.Op != OpValues {
			continue
		}
		switch s.Action {
		case batch.JoinGroup:
			joined = append(joined, s.DN)
		case batch.LeaveGroup, batch.LeaveGroups:
			left = append(left, s.DN)
		}
	}
	return batch.GroupDrift(guards, now, joined, left), nil
}

// groups puts the entry into groups, or takes it out of them, one step a
// group. A group where that is so already is noted and left alone.
func (w *worker) groups(ctx context.Context, l *batch.Line, a *batch.Action, e *directory.Entry, past *history) error {
	for _, m := range a.Groups {
		for tries := 1; ; tries++ {
			err := w.group(ctx, l, a, m, e, past)
			if overtaken(err) && tries < maxTries {
				continue // the group was moved meanwhile
			}
			if err != nil {
				return err
			}
			// Groups list it by its name. If somebody has moved it meanwhile, the
			// other name was looked for.
			now, err := w.find(ctx, l, past)
			if err != nil {
				return err
			}
			if directory.FoldDN(now.DN) == directory.FoldDN(e.DN) {
				break
			}
			if tries == maxTries {
				return fmt.Errorf("it is being moved about; it is %s now", now.DN)
			}
			e = now
		}
	}
	return nil
}

// group changes one membership.
func (w *worker) group(
	ctx context.Context, l *batch.Line, a *batch.Action, m batch.Membership, e *directory.Entry, past *history,
) error {
	id, err := source.ReadIdentity(w.server.Dialect, m.ID)
	if err != nil {
		return err
	}
	value := batch.MemberValue(m.Attr, e)
	if value == "" {
		return fmt.Errorf("%s lists members by uid, and it has none", m.DN)
	}
	done := past.ofGroup(a.Name, id, m.Attr)
	group, under, err := w.listed(ctx, id, m.Attr, e, past, done)
	if errors.Is(err, source.ErrNotFound) {
		past.note(fmt.Sprintf("the group %s is gone", m.DN))
		return nil
	}
	if err != nil {
		return err
	}
	leaves := a.Name != batch.JoinGroup
	if in := hasValue(group.Get(m.Attr), value); in != leaves && (in || under == "") {
		if done == nil {
			past.note(fmt.Sprintf("%s was so already", directory.LeafValue(group.DN)))
		}
		return nil
	} else if !in && leaves {
		value = under
	}
	fix := ValueMod{Attr: m.Attr}
	if !leaves {
		fix.Add, fix.Remove = batch.Octets(value), batch.Octets(under)
	} else {
		// Found done by reading may mean no more than that somebody had moved it,
		// and the group with it, to another name.
		moved := done != nil && done.outcome.Settled && !hasValue([]string{string(done.Values[0].Remove)}, value)
		if done != nil && !moved {
			return nil // somebody has put it back: that is theirs to do
		}
		fix.Remove = batch.Octets(spelt(group.Get(m.Attr), value))
	}
	err = w.do(ctx, l, past, w.step(a.Name, OpValues, group, func(s *Step) { s.Values = []ValueMod{fix} }), nil, "")
	if source.RefusedFor(err, source.Needed) {
		return fmt.Errorf("%s must have a member, and this is its last one: %w", group.DN, err)
	}
	return err
}

// listed reads of a group whether it lists the entry, and under which name that the
// entry had before; "" for none. A list that shows it under a name that the line itself
// has taken away may be one of a moment ago, and is read again for as long as the
// yard's settings say.
func (w *worker) listed(
	ctx context.Context, id, attr string, e *directory.Entry, past *history, done *pastStep,
) (group *directory.Entry, under string, err error) {
	value := batch.MemberValue(attr, e)
	asked := []source.Value{{Attr: attr, Value: value}}
	var former []string
	if done != nil && done.Values[0].Add != "" {
		former = append(former, string(done.Values[0].Add))
	}
	for _, s := range past.steps {
		if s.Op == OpRename {
			was := *e
			was.DN = s.DN
			former = append(former, batch.MemberValue(attr, &was))
		}
	}
	for _, name := range former {
		asked = append(asked, source.Value{Attr: attr, Value: name})
	}
	within := w.server.SettlesWithin()
	for waited, pause := time.Duration(0), firstPause; ; pause *= 2 {
		if group, err = w.server.Lists(ctx, id, asked...); err != nil {
			return nil, "", err
		}
		in := group.Get(attr)
		at := slices.IndexFunc(former, func(name string) bool { return !hasValue([]string{value}, name) && hasValue(in, name) })
		if under = ""; at >= 0 {
			under = former[at]
		}
		if under == "" || hasValue(in, value) || waited >= within {
			return group, under, nil
		}
		pause = min(pause, within-waited)
		time.Sleep(pause)
		waited += pause
	}
}

// note adds what is worth knowing of a line that was done.
func (h *history) note(text string) {
	if !slices.Contains(h.notes, text) {
		h.notes = append(h.notes, text)
	}
}

// spelt returns a value as it stands in a list.
func spelt(values []string, v string) string {
	for _, h := range values {
		if hasValue([]string{h}, v) {
			return h
		}
	}
	return v
}

// ofGroup is the step by which an action changed a group's list, nil where it
// was not done.
func (h *history) ofGroup(action, id, attr string) *pastStep {
	for i := range h.steps {
		s := &h.steps[i]
		if s.Action == action && s.Op == OpValues && string(s.ID) == id && s.Values[0].Attr == attr &&
			s.outcome != nil &&
			s.outcome.Done {
			return s
		}
	}
	return nil
}

// groupsChanged are the memberships that an action has changed, of those it
// was to change.
func (h *history) groupsChanged(d *directory.Dialect, a *batch.Action) (all []batch.Membership) {
	for _, m := range a.Groups {
		if id, err := source.ReadIdentity(d, m.ID); err == nil && h.ofGroup(a.Name, id, m.Attr) != nil {
			all = append(all, m)
		}
	}
	return all
}
