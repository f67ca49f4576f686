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
	"yardbroom/internal/source"
	"yardbroom/internal/wording"
)

// actions carries out what is left of a line's actions, in order.
func (w *worker) actions(ctx context.Context, l *batch.Line, e *directory.Entry, past *history) error {
	for i := range l.Actions {
		a := &l.Actions[i]
		if e == nil && past.done(batch.Delete) && a.Name != batch.Delete {
			continue // what came before the delete is done
		}
		var err error
		switch a.Name {
		case batch.Move, batch.Rename:
			err = w.move(ctx, l, a, e, past)
		case batch.Delete:
			err = w.remove(ctx, l, e, past)
		case batch.Restore:
			err = w.restore(ctx, l, a, past)
		case batch.JoinGroup, batch.LeaveGroup, batch.LeaveGroups:
			err = w.groups(ctx, l, a, e, past)
		case batch.ResetPassword:
			err = w.resetPassword(ctx, l, a, e, past)
		case batch.SetHomeAside:
			err = w.setHomeAside(ctx, l, a, e, past)
		case batch.PutHomeBack:
			err = w.putHomeBack(ctx, l, a, e, past)
		case batch.ArchiveHome:
			err = w.archiveHome(ctx, l, a, e, past)
		default:
			err = w.modify(ctx, l, a, e, past)
		}
		if err != nil {
			return err
		}
		if i == len(l.Actions)-1 || a.Name == batch.Delete {
			break
		}
		if e, err = w.find(ctx, l, past); err != nil {
			return err
		}
		// What the next action is planned on must still be what was agreed to.
		if drift := batch.Drift(w.guards(l, past), e, past.mods()); drift != "" {
			return fmt.Errorf("begun, then changed by somebody else: %s", drift)
		}
	}
	return nil
}

// possible tells whether an action can be done to the entry as it is now.
func (w *worker) possible(ctx context.Context, l *batch.Line, a *batch.Action, e *directory.Entry) error {
	switch a.Name {
	case batch.Move, batch.Rename:
		return w.roomFor(ctx, e, a)
	case batch.Delete:
		return w.deletable(ctx, e)
	case batch.Restore:
		if err := w.roomFor(ctx, nil, a); err != nil {
			return err
		}
		object, err := w.deletedObject(ctx, l)
		switch {
		case err != nil:
			return err
		case object == nil && a.Image == nil:
			return errors.New("neither the directory's deleted objects nor the journal have it")
		}
		return nil
	case batch.JoinGroup, batch.LeaveGroup, batch.LeaveGroups:
		return nil // the guards say whether it can be done
	case batch.ResetPassword:
		return mayReset(w.server)
	case batch.SetHomeAside:
		return w.homeReady(ctx, a, e)
	case batch.PutHomeBack:
		return isSetAside(a.Home)
	case batch.ArchiveHome:
		_, err := w.archivable(a, e)
		return err
	}
	_, err := w.mods(ctx, a, e)
	return err
}

// mods are the changes of an action that changes attributes.
func (w *worker) mods(ctx context.Context, a *batch.Action, e *directory.Entry) ([]batch.Mod, error) {
	if a.Put != nil || a.Name == batch.PutBack {
		return a.Put, nil
	}
	lock, err := batch.ReadLockPolicy(ctx, w.server.Get, w.server.Dialect, e, w.DefaultPolicy, w.policies)
	if err != nil {
		return nil, err
	}
	return batch.Plan(w.server.Dialect, a.Name, e, lock)
}

func (w *worker) modify(ctx context.Context, l *batch.Line, a *batch.Action, e *directory.Entry, past *history) error {
	if past.done(a.Name) {
		return nil
	}
	mods, err := w.mods(ctx, a, e)
	if err != nil {
		return err
	}
	op := OpModify
	if slices.ContainsFunc(mods, batch.Mod.Permissions) {
		op = OpPermissions
	}
	return w.do(ctx, l, past, w.step(a.Name, op, e, func(s *Step) { s.Mods = mods }), image(e), w.assertion(l, e))
}

// step makes a step on an entry.
func (w *worker) step(action string, op Op, e *directory.Entry, fill func(*Step)) Step {
	s := Step{Action: action, Op: op, DN: e.DN, ID: batch.Octets(e.First(w.server.Dialect.Identity.String()))}
	if fill != nil {
		fill(&s)
	}
	return s
}

func image(e *directory.Entry) *batch.Image {
	im := batch.ImageOf(e)
	return &im
}

// assertion is a filter that holds only for this entry as it was read: its
// identity and all its guarded attributes. That one is absent is not asked where
// the server cannot have it, since the answer would be Undefined, and nothing held;
// nor where the entry has it with an option or as a subtype, which a filter takes
// for it (RFC 4511, section 4.5.1.7).
func (w *worker) assertion(l *batch.Line, e *directory.Entry) string {
	d := w.server.Dialect
	var b strings.Builder
	b.WriteString("(&" + source.IdentityFilter(d, e.First(d.Identity.String())))
	for _, name := range batch.Attributes(l.Guard) {
		values := e.Get(name)
		if len(values) == 0 && !w.common.lacking[name] && !w.server.Covers(e, name) {
			b.WriteString("(!(" + name + "=*))")
		}
		for _, v := range values {
			b.WriteString("(" + name + "=" + source.EscapeFilter(v) + ")")
		}
	}
	b.WriteString(")")
	return b.String()
}

// hold makes sure that the entry is still as it was read before an operation
// that carries no guard of its own: on servers without the assertion control
// its flags are rewritten to themselves.
func (w *worker) hold(
	ctx context.Context, l *batch.Line, action string, e *directory.Entry, before *batch.Image, past *history,
) error {
	if w.server.Root.Controls[source.AssertionOID] {
		return nil
	}
	if action == batch.Delete && !e.HasClass("user") && !e.HasClass("group") && w.server.Dialect == directory.AD {
		return nil // a container: that it is empty the server itself makes sure of
	}
	attr, err := w.witness(ctx, l, e)
	if err != nil {
		return err
	}
	if attr == "" {
		return fmt.Errorf(
			"%s offers no assertion control (RFC 4528), and nothing of the entry can be rewritten to guard %s",
			w.server.URL, action)
	}
	value := batch.OctetsOf(e.Get(attr))
	return w.do(ctx, l, past, w.step(action, OpModify, e, func(s *Step) {
		s.Mods = []batch.Mod{{Attr: attr, Old: value, New: value}}
	}), before, "")
}

// witness is the attribute that is rewritten to itself, so that the server
// refuses where it has changed: the flags, or what the decision rested on. It is
// one that stands in the entry itself, and not what a role gives it.
func (w *worker) witness(ctx context.Context, l *batch.Line, e *directory.Entry) (string, error) {
	rdn, _ := directory.SplitDN(e.DN)
	naming, _, _ := strings.Cut(rdn, "=")
	if w.server.Dialect == directory.AD {
		if !e.HasClass("user") {
			return "sAMAccountName", nil
		}
		return "userAccountControl", nil
	}
	candidates := []string{"nsAccountLock"}
	for _, g := range l.Guard {
		if g.Rule == batch.Equal {
			candidates = append(candidates, g.Attr)
		}
	}
	candidates = append(candidates, "sn", "cn", "uid", "objectClass")
	stored, err := w.server.Stored(ctx, e, candidates...)
	if err != nil {
		return "", err
	}
	for _, attr := range candidates {
		if stored[attr] && e.Has(attr) && !strings.EqualFold(attr, naming) && !e.Incomplete(attr) {
			return attr, nil
		}
	}
	return "", nil
}

// roomFor tells whether the entry can move to its new place.
func (w *worker) roomFor(ctx context.Context, e *directory.Entry, a *batch.Action) error {
	target := a.RDN + "," + a.To
	_, there, err := w.server.IdentityAt(ctx, a.To)
	if err != nil {
		return err
	}
	if !there && !w.foretold.isThere(a.To) {
		return fmt.Errorf("the container %s does not exist", a.To)
	}
	id, there, err := w.server.IdentityAt(ctx, target)
	if err != nil {
		return err
	}
	there = there && !w.foretold.isGone(target) && (e == nil || id != e.First(w.server.Dialect.Identity.String()))
	if there || w.foretold.isThere(target) {
		return fmt.Errorf("its place %s is taken", target)
	}
	return nil
}

func (w *worker) move(ctx context.Context, l *batch.Line, a *batch.Action, e *directory.Entry, past *history) error {
	if !past.done(a.Name) {
		if err := w.roomFor(ctx, e, a); err != nil {
			return err
		}
		before, err := w.imageWithReferences(ctx, e, true)
		if err != nil {
			return err
		}
		if err := w.hold(ctx, l, a.Name, e, before, past); err != nil {
			return err
		}
		s := w.step(a.Name, OpRename, e, func(s *Step) { s.RDN, s.Superior = a.RDN, a.To })
		if err := w.do(ctx, l, past, s, before, w.assertion(l, e)); err != nil {
			return err
		}
	}
	moved := past.main(a.Name)
	w.common.leave(left{l, past, a.Name, moved.DN, moved.target()})
	return w.follow(ctx, l, a.Name, past, moved.before, moved.DN, moved.target(), a.Spelt)
}

// deletable tells why an entry must stay: by what stands below it, by its
// access list, or since it is in use again.
func (w *worker) deletable(ctx context.Context, e *directory.Entry) error {
	below, err := w.server.Children(ctx, []string{e.DN})
	if err != nil {
		return err
	}
	staying := slices.DeleteFunc(below[e.DN], w.foretold.isGone)
	if n := len(staying); n > 0 {
		return fmt.Errorf("%s below it, such as %s", wording.Count(n, "entry"), staying[0])
	}
	if denied, err := w.server.DeniedDelete(ctx, e.DN); err != nil {
		return err
	} else if denied {
		return errors.New("it is protected against accidental deletion (its access list denies delete)")
	}
	if why, err := batch.PolicyInUse(ctx, w.server, e); err != nil || why != "" {
		return cmp.Or(err, errors.New(why))
	}
	return nil
}

func (w *worker) remove(ctx context.Context, l *batch.Line, e *directory.Entry, past *history) error {
	if !past.done(batch.Delete) {
		if err := w.deletable(ctx, e); err != nil {
			return err
		}
		before, err := w.imageWithReferences(ctx, e, false)
		if err != nil {
			return err
		}
		if len(before.Incomplete) > 0 {
			return fmt.Errorf("its %s could not be read whole, so it could not be brought back",
				strings.Join(before.Incomplete, ", "))
		}
		if err := w.keep(ctx, l, before); err != nil {
			return err
		}
		if err := w.hold(ctx, l, batch.Delete, e, before, past); err != nil {
			return err
		}
		if err := w.do(ctx, l, past, w.step(batch.Delete, OpDelete, e, nil), before, w.assertion(l, e)); err != nil {
			return err
		}
	}
	gone := past.main(batch.Delete)
	w.common.leave(left{l, past, batch.Delete, gone.DN, ""})
	return w.follow(ctx, l, batch.Delete, past, gone.before, gone.DN, "", nil)
}

// keep hands over what there is of an entry before it is deleted, its access list
// too.
func (w *worker) keep(ctx context.Context, l *batch.Line, before *batch.Image) error {
	if w.Keep == nil {
		return nil
	}
	list, err := w.server.AccessList(ctx, before.DN)
	if err != nil {
		return err
	}
	all := *before
	if list != "" {
		all.Attrs = append(slices.Clone(before.Attrs),
			batch.ImageAttr{Name: "nTSecurityDescriptor", Values: []batch.Octets{batch.Octets(list)}})
	}
	if err := w.Keep(l, all.Everything(w.server.Dialect)); err != nil {
		return localError{fmt.Errorf("what there is of it could not be kept, so it was not deleted: %w", err)}
	}
	return nil
}

// references finds every entry that names this one, or one that moves along
// with it.
func (w *worker) references(ctx context.Context, entries ...directory.Entry) ([]batch.Reference, error) {
	var all []batch.Reference
	for i := range entries {
		named := batch.Naming(w.server.Dialect, &entries[i])
		naming, err := w.server.Listing(ctx, named...)
		if err != nil {
			return nil, fmt.Errorf("finding what refers to it: %w", err)
		}
		for j := range naming {
			other := &naming[j]
			for _, n := range named {
				for _, v := range other.Get(n.Attr) {
					if hasValue([]string{v}, n.Value) {
						all = append(
							all,
							batch.Reference{
								DN: other.DN,
								ID: source.ShowIdentity(w.server.Dialect,
									other.First(w.server.Dialect.Identity.String())),
								Attr:       n.Attr,
								Value:      batch.Octets(v),
								Privileged: w.leads(ctx, other.DN, n.Attr),
							},
						)
					}
				}
			}
		}
	}
	return all, nil
}

// leads tells whether an attribute of a group gives power, by what was read of
// the groups last. Whoever puts somebody back asks again.
func (w *worker) leads(ctx context.Context, group, attr string) bool {
	powers, _ := w.common.known().LeadsTo(ctx, group) // it asks nobody, so it does not fail
	return batch.IsMembership(attr) && len(powers) > 0
}

// naming reads the entry that holds a reference: of a list of members, which of
// some values it has. It is found by its identity, since it may have been moved
// meanwhile, or else by a name. Nil means that it is gone.
func (w *worker) naming(
	ctx context.Context, ref *batch.Reference, dn string, values ...string,
) (e *directory.Entry, err error) {
	var asked []source.Value
	for _, v := range values {
		if v != "" {
			asked = append(asked, source.Value{Attr: ref.Attr, Value: v})
		}
	}
	id, err := source.ReadIdentity(w.server.Dialect, ref.ID)
	known := err == nil && ref.ID != ""
	switch lists := batch.IsMembership(ref.Attr); {
	case lists && known:
		e, err = w.server.Lists(ctx, id, asked...)
	case lists:
		e, err = w.server.ListsAt(ctx, dn, asked...)
	case known:
		e, err = w.server.ByIdentity(ctx, id)
	default:
		e, err = readBack(ctx, w.server, &Step{Op: OpAdd, DN: dn})
	}
	if errors.Is(err, source.ErrNotFound) {
		return nil, nil
	}
	return e, err
}

// imageWithReferences is the image of an entry with all that names it. Where a
// name is to change, what stands below gets another one too; servers that keep
// links whole by themselves are not asked about that.
func (w *worker) imageWithReferences(ctx context.Context, e *directory.Entry, renamed bool) (*batch.Image, error) {
	im := image(e)
	entries := []directory.Entry{*e}
	if renamed && !w.server.Dialect.KeepsLinks {
		below, err := batch.Below(ctx, w.server, e.DN)
		if err != nil {
			return nil, err
		}
		entries = append(entries, below...)
	}
	var err error
	im.References, err = w.references(ctx, entries...)
	return im, err
}

// logonIn returns the logon name that is an entry's name, "" where it is
// named by something else.
func logonIn(dn string) string {
	levels, err := directory.ParseDN(dn)
	if err != nil || len(levels) == 0 || !strings.EqualFold(levels[0][0].Type, "uid") {
		return ""
	}
	return levels[0][0].Value
}

// follow reads the references to an entry back after it was moved or
// deleted, and corrects those that the server did not take along. The new
// name is "" for a deleted entry; odd are references that had it in a spelling of
// their own.
func (w *worker) follow(
	ctx context.Context, l *batch.Line, action string, past *history, before *batch.Image, oldDN, newDN string,
	odd []batch.Reference,
) error {
	if before == nil {
		return nil
	}
	for _, ref := range before.References {
		at := directory.Rebased(ref.DN, oldDN, newDN) // what moved along may itself name it
		if at == "" {
			continue // it named itself, and is gone
		}
		newValue := asSpelt(odd, &ref, directory.Rebased(string(ref.Value), oldDN, newDN))
		if ref.Attr == "memberUid" && newDN != "" {
			// By logon name, which changes only where it is in the entry's name.
			if !strings.EqualFold(logonIn(oldDN), string(ref.Value)) {
				continue
			}
			if newValue = logonIn(newDN); newValue == "" || newValue == string(ref.Value) {
				continue
			}
		} else if ref.Attr == "memberUid" {
			newValue = ""
		}
		if err := w.correct(ctx, l, action, past, &ref, at, newValue); err != nil {
			return err
		}
	}
	return nil
}

// correct makes one reference follow, or takes it away where there is nothing to
// name any more. Whoever holds it may be moved or changed by another line at
// the same time: then it is read again.
func (w *worker) correct(
	ctx context.Context, l *batch.Line, action string, past *history, ref *batch.Reference, at, newValue string,
) error {
	for tries := 1; ; tries++ {
		other, err := w.naming(ctx, ref, at, string(ref.Value), newValue)
		if err != nil {
			return err
		}
		if other == nil || !hasValue(other.Get(ref.Attr), string(ref.Value)) {
			return nil // the server followed
		}
		fix := ValueMod{Attr: ref.Attr, Remove: ref.Value}
		if newValue != "" && !hasValue(other.Get(ref.Attr), newValue) {
			fix.Add = batch.Octets(newValue)
		}
		err = w.do(ctx, l, past, w.step(action, OpValues, other, func(s *Step) { s.Values = []ValueMod{fix} }), nil, "")
		if overtaken(err) && tries < maxTries {
			continue
		}
		return w.noteRefusal(past, err, fmt.Sprintf("%s of %s still names %s", ref.Attr, at, ref.Value))
	}
}

// overtaken tells whether an entry was renamed or changed between reading and
// writing.
func overtaken(err error) bool { return source.RefusedFor(err, source.Missing, source.Drifted) }
