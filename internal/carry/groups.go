package carry

import (
	"context"
	"errors"
	"fmt"
	"slices"

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
	asked := []source.Value{{Attr: m.Attr, Value: value}}
	done := past.ofGroup(a.Name, id, m.Attr)
	if done != nil && done.Values[0].Add != "" {
		asked = append(asked, source.Value{Attr: m.Attr, Value: string(done.Values[0].Add)})
	}
	group, err := w.server.Lists(ctx, id, asked...)
	if errors.Is(err, source.ErrNotFound) {
		past.note(fmt.Sprintf("the group %s is gone", m.DN))
		return nil
	}
	if err != nil {
		return err
	}
	if in := hasValue(group.Get(m.Attr), value); in == (a.Name == batch.JoinGroup) {
		if done == nil {
			past.note(fmt.Sprintf("%s was so already", directory.LeafValue(group.DN)))
		}
		return nil
	}
	fix := ValueMod{Attr: m.Attr}
	if a.Name == batch.JoinGroup {
		fix.Add = batch.Octets(value)
		if done != nil && hasValue(group.Get(m.Attr), string(done.Values[0].Add)) {
			fix.Remove = done.Values[0].Add // under the name that it had then
		}
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
