package carry

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"yardbroom/internal/batch"
	"yardbroom/internal/directory"
	"yardbroom/internal/source"
)

// restore brings a deleted entry back: as its own deleted object where the
// server keeps one, else as a new entry with the old values. An account ends
// disabled. What did not come back makes the line one that was done in part.
func (w *worker) restore(ctx context.Context, l *batch.Line, a *batch.Action, past *history) error {
	if !past.done(batch.Restore) {
		if err := w.revive(ctx, l, a, past); err != nil {
			return err
		}
	}
	e, err := w.restored(ctx, l, past)
	if err != nil {
		return err
	}
	account := w.server.Dialect.Account(e)
	if account.Kind.IsAccount() {
		if err := w.lockRestored(ctx, l, e, past); err != nil {
			return err
		}
	}
	if past.main(batch.Restore).Op == OpAdd {
		tellAnew(w.server.Dialect, account.Kind.IsAccount(), past)
	}
	if a.Image == nil {
		past.note("the journal has no image of it, so only what the directory kept came back")
		return nil
	}
	if err := w.putAttributes(ctx, l, a.Image, e, past); err != nil {
		return err
	}
	if err := w.putReferences(ctx, l, a, e, past); err != nil {
		return err
	}
	return w.putPrimaryGroup(ctx, l, a, e, past)
}

// restored reads the entry that was brought back.
func (w *worker) restored(ctx context.Context, l *batch.Line, past *history) (*directory.Entry, error) {
	e, err := readBack(ctx, w.server,
		&Step{Op: OpModify, DN: past.main(batch.Restore).target(), ID: w.restoredID(l, past)})
	if err == nil && e == nil {
		err = errors.New("it was brought back and is gone again")
	}
	return e, err
}

// tellAnew says what a new entry has not of the old one.
func tellAnew(d *directory.Dialect, account bool, past *history) {
	if d == directory.AD {
		past.lack("its SID and GUID are new, so rights given to the old ones are lost")
	} else {
		past.note("it is a new entry: its identity and operational times are new")
	}
	if account {
		past.note("it has no password")
	}
}

// lack adds what of a line was not done, or did not come back.
func (h *history) lack(text string) {
	if !slices.Contains(h.lacks, text) {
		h.lacks = append(h.lacks, text)
	}
}

func (w *worker) restoredID(l *batch.Line, past *history) batch.Octets {
	if past.newID != "" {
		return batch.Octets(past.newID)
	}
	id, err := source.ReadIdentity(w.server.Dialect, l.ID)
	if err != nil {
		return ""
	}
	return batch.Octets(id)
}

// revive makes the entry exist again.
func (w *worker) revive(ctx context.Context, l *batch.Line, a *batch.Action, past *history) error {
	if err := w.roomFor(ctx, nil, a); err != nil {
		return err
	}
	object, err := w.deletedObject(ctx, l)
	if err != nil {
		return err
	}
	if object != nil {
		err := w.reanimate(ctx, l, a, object, past)
		if !source.RefusedFor(err, source.Missing, source.Drifted, source.Unsupported) || a.Image == nil {
			return err
		}
		past.note("the server would not bring its deleted object back (" + err.Error() + ")")
	}
	if a.Image == nil {
		return errors.New("neither the directory's deleted objects nor the journal have it")
	}
	if w.server.Dialect == directory.AD && !l.Anew {
		return errors.New(
			"its deleted object does not come back, and as a new entry it would have another SID and GUID: stage it once more with --anew, and have it signed",
		)
	}
	return w.addAnew(ctx, l, a, past)
}

// deletedObject reads the line's deleted object, nil where the server has none that could
// be brought back.
func (w *worker) deletedObject(ctx context.Context, l *batch.Line) (*directory.Entry, error) {
	id, err := source.ReadIdentity(w.server.Dialect, l.ID)
	if err != nil {
		return nil, err
	}
	object, err := w.server.DeletedObject(ctx, id)
	if err == nil && object != nil && object.First("isDeleted") != "TRUE" {
		return nil, errors.New("it exists; there is nothing to bring back")
	}
	return object, err
}

// setByReturn are the attributes that Samba puts into an account that comes back,
// though a deleted object that was kept whole has them.
var setByReturn = []string{
	"accountExpires",
	"badPasswordTime",
	"badPwdCount",
	"codePage",
	"countryCode",
	"lastLogoff",
	"lastLogon",
	"logonCount",
	"pwdLastSet",
}

// reanimate brings the deleted object itself back: an account disabled in the
// same write, since the server would otherwise bring it back enabled and without a
// password, or with its old one. Samba refuses to change flags in that write; there
// it is disabled by the next one.
func (w *worker) reanimate(
	ctx context.Context, l *batch.Line, a *batch.Action, object *directory.Entry, past *history,
) error {
	with, err := w.mandatory(ctx, a.Image, object)
	if err != nil {
		return err
	}
	try := func(marked bool, mods []batch.Mod, attrs []batch.ImageAttr) error {
		return w.do(ctx, l, past, w.step(batch.Restore, OpReanimate, object, func(s *Step) {
			s.RDN, s.Superior, s.Mods, s.Attrs, s.Marked = a.RDN, a.To, mods, attrs, marked
		}), image(object), "")
	}
	account := w.server.Dialect.Account(object)
	if account.Kind.IsAccount() {
		flags := keptFlags(a.Image, object) | directory.UACDisabled
		err := try(false,
			[]batch.Mod{{Attr: "userAccountControl", New: []batch.Octets{batch.Octets(strconv.FormatInt(flags, 10))}}},
			with)
		if !source.RefusedFor(err, source.Missing, source.Drifted, source.Unsupported) {
			return err
		}
	}
	err = try(false, nil, with)
	if source.RefusedFor(err, source.Drifted) {
		var kept []batch.ImageAttr
		for _, name := range setByReturn {
			if values := object.Get(name); len(values) > 0 {
				kept = append(kept, batch.ImageAttr{Name: name, Values: batch.OctetsOf(values)})
				if name == "pwdLastSet" { // a client may write no other time
					kept[len(kept)-1].Values = []batch.Octets{"0"}
				}
			}
		}
		err = try(true, nil, append(kept, with...))
	}
	if err == nil && account.Kind.IsAccount() {
		past.note("the server brought it back as it was when it was deleted, and it was disabled right after")
	}
	return err
}

// mandatory are the attributes without which the schema does not let an entry
// exist, of those that its deleted object has lost and its image has.
func (w *worker) mandatory(
	ctx context.Context, im *batch.Image, object *directory.Entry,
) (all []batch.ImageAttr, err error) {
	if im == nil {
		return nil, nil
	}
	must, err := w.server.Mandatory(ctx, object.Get("objectClass"))
	if err != nil {
		return nil, err
	}
	was := im.Entry()
	for _, name := range must {
		if was.Has(name) && !object.Has(name) && !directory.IsServerOwned(name) {
			all = append(all, batch.ImageAttr{Name: name, Values: batch.OctetsOf(was.Get(name))})
		}
	}
	return all, nil
}

// keptFlags are the flags that the account had.
func keptFlags(im *batch.Image, object *directory.Entry) int64 {
	entries := []*directory.Entry{object}
	if im != nil {
		e := im.Entry()
		entries = []*directory.Entry{&e, object}
	}
	for _, e := range entries {
		if flags, err := directory.ParseFlags(e.First("userAccountControl")); err == nil {
			return flags
		}
	}
	return directory.UACNormal
}

// addAnew makes a new entry of the image's values.
func (w *worker) addAnew(ctx context.Context, l *batch.Line, a *batch.Action, past *history) error {
	s := Step{Action: batch.Restore, Op: OpAdd, DN: a.RDN + "," + a.To, Attrs: a.Image.Anew(w.server.Dialect)}
	return w.do(ctx, l, past, s, nil, "")
}

// lockRestored disables an account that came back enabled.
func (w *worker) lockRestored(ctx context.Context, l *batch.Line, e *directory.Entry, past *history) error {
	survey := directory.NewSurvey(w.server.Dialect)
	a := w.server.Dialect.Account(e)
	if a.PermanentLock || w.server.Dialect == directory.AD && survey.Disabled(&a, w.Now()).Yes {
		return nil
	}
	mods, err := w.mods(ctx, &batch.Action{Name: batch.Disable}, e)
	if err != nil {
		past.note("it could not be disabled (" + err.Error() + "); it has no password, so nobody can sign in")
		return nil
	}
	return w.do(ctx, l, past, w.step(batch.Restore, OpModify, e, func(s *Step) { s.Mods = mods }), image(e), "")
}

// putAttributes gives the entry back what the image has and the directory
// did not keep. What the server refuses is noted, not forced.
func (w *worker) putAttributes(
	ctx context.Context, l *batch.Line, im *batch.Image, e *directory.Entry, past *history,
) error {
	rdn, _ := directory.SplitDN(e.DN)
	naming, _, _ := strings.Cut(rdn, "=")
	raised := revivedWith(past.main(batch.Restore))
	for _, attr := range im.Attrs {
		if directory.IsServerOwned(attr.Name) || strings.EqualFold(attr.Name, naming) ||
			slices.Contains(im.Incomplete, attr.Name) ||
			batch.IsMembership(attr.Name) && !strings.EqualFold(attr.Name, "memberUid") {
			continue
		}
		now := batch.OctetsOf(e.Get(attr.Name))
		if sameList(batch.Plain(now), attr.Values) {
			continue
		}
		if !exactList(raised.Get(attr.Name), now) {
			past.lack(attr.Name + " was changed by somebody else since it came back, and was left as it is")
			continue
		}
		err := w.do(ctx, l, past, w.step(batch.Restore, OpModify, e, func(s *Step) {
			s.Mods = []batch.Mod{{Attr: attr.Name, Old: now, New: attr.Values}}
		}), nil, "")
		if err := w.noteRefusal(past, err, attr.Name+" could not be put back"); err != nil {
			return err
		}
	}
	return w.takeMarks(ctx, l, im, e, past)
}

// marks are the values that servers of the `ad` schema leave in an object that
// comes back, "" for any.
var marks = []struct{ attr, value string }{{"lastKnownParent", ""}, {"adminCount", "0"}, {"operatorCount", "0"}}

// takeMarks takes the marks of a return away, where the entry had none before.
func (w *worker) takeMarks(
	ctx context.Context, l *batch.Line, im *batch.Image, e *directory.Entry, past *history,
) error {
	was := im.Entry()
	for _, m := range marks {
		now := e.Get(m.attr)
		if w.server.Dialect != directory.AD || len(now) != 1 || was.Has(m.attr) || m.value != "" && now[0] != m.value {
			continue
		}
		err := w.do(ctx, l, past, w.step(batch.Restore, OpModify, e, func(s *Step) {
			s.Mods = []batch.Mod{{Attr: m.attr, Old: batch.OctetsOf(now)}}
		}), nil, "")
		if err := w.noteRefusal(past, err, "the mark "+m.attr+" stays"); err != nil {
			return err
		}
	}
	return nil
}

// setOnReturn are the attributes, of those that are not a server's alone, that
// servers of the `ad` schema set anew when an object comes back.
var setOnReturn = []string{"accountExpires", "countryCode", "codePage"}

// revivedWith is what the entry had when it came back: what it was added with,
// or what the directory had kept of it. What was read right after may hold a
// colleague's change already, and tells only what the server itself sets.
func revivedWith(s *pastStep) directory.Entry {
	e := directory.Entry{}
	if s.Op == OpAdd {
		for _, attr := range s.Attrs {
			e.Set(attr.Name, batch.Plain(attr.Values)...)
		}
		return e
	}
	if s.before != nil {
		e = s.before.Entry()
	}
	if after := s.outcome.After; after != nil {
		now := after.Entry()
		for _, name := range setOnReturn {
			e.Set(name, now.Get(name)...)
		}
	}
	return e
}

// noteRefusal lets a restore go on where the server refuses one of its parts.
func (w *worker) noteRefusal(past *history, err error, what string) error {
	var refused *source.Refused
	if err != nil && errors.As(err, &refused) && !source.Lost(err) {
		past.lack(what + ": " + err.Error())
		return nil
	}
	return err
}

// putReferences makes the entries that named the old entry name it again.
func (w *worker) putReferences(
	ctx context.Context, l *batch.Line, a *batch.Action, e *directory.Entry, past *history,
) error {
	if err := w.learnPlaceholders(ctx, a.Image.References); err != nil {
		return err
	}
	for i := range a.Image.References {
		if err := w.putReference(ctx, l, a, &a.Image.References[i], e, past); err != nil {
			return err
		}
	}
	return nil
}

func (w *worker) putReference(
	ctx context.Context, l *batch.Line, a *batch.Action, ref *batch.Reference, e *directory.Entry, past *history,
) error {
	value := asSpelt(a.Image.References, ref, e.DN)
	if ref.Attr == "memberUid" {
		value = string(ref.Value)
	}
	other, err := w.naming(ctx, ref, ref.DN, value)
	switch {
	case err != nil:
		return err
	case other == nil:
		past.lack(fmt.Sprintf("%s, which named it as %s, is gone", ref.DN, ref.Attr))
		return nil
	case hasValue(other.Get(ref.Attr), value):
		return nil
	}
	if why, err := w.mayName(ctx, a, ref, other); err != nil {
		return err
	} else if why != "" {
		past.lack(fmt.Sprintf("%s of %s was not put back: %s", ref.Attr, ref.DN, why))
		return nil
	}
	fix := ValueMod{Attr: ref.Attr, Add: batch.Octets(value)}
	if singleLink[strings.ToLower(ref.Attr)] && other.Has(ref.Attr) {
		w.learnPlaceholder(other, ref.Attr)
		stands, err := w.placeholder(ctx, other.First(ref.Attr))
		if err != nil {
			return err
		}
		if !stands && !strings.EqualFold(directory.DeletedGUID(other.First(ref.Attr)), l.ID) {
			past.lack(fmt.Sprintf("%s of %s names somebody else now", ref.Attr, ref.DN))
			return nil
		}
		fix.Remove = batch.Octets(other.First(ref.Attr))
	}
	err = w.do(ctx, l, past, w.step(batch.Restore, OpValues, other, func(s *Step) { s.Values = []ValueMod{fix} }), nil,
		"")
	return w.noteRefusal(past, err, fmt.Sprintf("%s of %s was not put back", ref.Attr, ref.DN))
}

// integrityOverlay is how slapd's overlay for references signs what it writes, unless
// it was told otherwise.
const integrityOverlay = "cn=referential integrity overlay"

// learnPlaceholders finds out what stands for none by what the server has put where
// the deleted entry was named, before anything is written there.
func (w *worker) learnPlaceholders(ctx context.Context, refs []batch.Reference) error {
	for i := range refs {
		ref := &refs[i]
		if w.server.Dialect != directory.OpenLDAP || !singleLink[strings.ToLower(ref.Attr)] {
			continue
		}
		other, err := w.naming(ctx, ref, ref.DN)
		if err != nil {
			return err
		}
		if other != nil {
			w.learnPlaceholder(other, ref.Attr)
		}
	}
	return nil
}

func (w *worker) learnPlaceholder(other *directory.Entry, attr string) {
	if other.Has(attr) && directory.FoldDN(other.First("modifiersName")) == integrityOverlay {
		w.common.standIn(other.First(attr))
	}
}

// placeholder tells whether a name stands for none, where the server or the
// settings say so, or the server was seen to use it so.
func (w *worker) placeholder(ctx context.Context, name string) (bool, error) {
	is := func(p string) bool { return directory.FoldDN(p) == directory.FoldDN(name) }
	if slices.ContainsFunc(w.Settings.Audit.PlaceholderMembers, is) || slices.ContainsFunc(w.common.standIns(), is) {
		return true, nil
	}
	integrity, err := w.server.Integrity(ctx)
	return slices.ContainsFunc(integrity.Placeholders, is), err
}

// mayName tells why an entry that named the one that was brought back must not
// name it again: it is protected, or gives power now that nobody has signed.
func (w *worker) mayName(
	ctx context.Context, a *batch.Action, ref *batch.Reference, other *directory.Entry,
) (string, error) {
	if why := w.Protection.Written(other, ref.Attr); why != "" {
		return why, nil
	}
	if !batch.IsMembership(ref.Attr) {
		return "", nil
	}
	powers, err := w.climber().Of(ctx, other)
	if err != nil {
		return "", err
	}
	return unsigned(a, powers, ref.Privileged), nil
}

// unsigned tells that a return gives power that nobody has signed.
func unsigned(a *batch.Action, powers []string, once bool) string {
	covered := !slices.ContainsFunc(powers, func(p string) bool { return !slices.Contains(a.Powers, p) })
	if covered && (len(powers) > 0 || !once) {
		return ""
	}
	return "its members have power over the directory"
}

var singleLink = map[string]bool{"manager": true, "managedby": true}

// putPrimaryGroup gives an `ad` account its primary group back, of which it has
// to be a member first.
func (w *worker) putPrimaryGroup(
	ctx context.Context, l *batch.Line, a *batch.Action, e *directory.Entry, past *history,
) error {
	old := a.Image.Entry()
	was := old.First("primaryGroupID")
	if w.server.Dialect != directory.AD || was == "" || e.First("primaryGroupID") == was {
		return nil
	}
	group, err := w.groupOf(ctx, e, was)
	switch {
	case err != nil:
		return err
	case group == nil:
		past.lack("its primary group is gone")
		return nil
	}
	if why := w.Protection.Written(group, "member"); why != "" {
		past.lack("its primary group was not put back: " + why)
		return nil
	}
	with := *e
	with.Attrs = slices.Clone(e.Attrs)
	with.Set("primaryGroupID", was)
	powers, err := w.climber().Of(ctx, &with)
	if err != nil {
		return err
	}
	if why := unsigned(a, powers, false); why != "" {
		past.lack("its primary group was not put back: " + why)
		return nil
	}
	// The server itself takes it out of the list of its primary group, and puts it
	// into that of the one it had.
	err = w.do(ctx, l, past, w.step(batch.Restore, OpValues, group, func(s *Step) {
		s.Values = []ValueMod{{Attr: "member", Add: batch.Octets(e.DN)}}
	}), nil, "")
	if err == nil {
		err = w.do(ctx, l, past, w.step(batch.Restore, OpModify, e, func(s *Step) {
			s.Mods = []batch.Mod{
				{
					Attr: "primaryGroupID",
					Old:  batch.OctetsOf(e.Get("primaryGroupID")),
					New:  []batch.Octets{batch.Octets(was)},
				},
			}
		}), nil, "")
	}
	if err := w.noteRefusal(past, err, "its primary group was not put back"); err != nil {
		return err
	}
	return w.leaveOldPrimary(ctx, l, a, e, past)
}

// leaveOldPrimary takes an account out of the group that was its primary one since
// it came back, unless it was in that before.
func (w *worker) leaveOldPrimary(
	ctx context.Context, l *batch.Line, a *batch.Action, e *directory.Entry, past *history,
) error {
	group, err := w.groupOf(ctx, e, e.First("primaryGroupID"))
	if err != nil || group == nil {
		return err
	}
	id := source.ShowIdentity(w.server.Dialect, group.First(w.server.Dialect.Identity.String()))
	if slices.ContainsFunc(a.Image.References,
		func(ref batch.Reference) bool { return ref.ID == id && ref.Attr == "member" }) {
		return nil
	}
	now, err := w.server.Lists(ctx, group.First(w.server.Dialect.Identity.String()),
		source.Value{Attr: "member", Value: e.DN})
	if err != nil || !hasValue(now.Get("member"), e.DN) {
		return err
	}
	stays := "it is in " + directory.LeafValue(group.DN) + " too now"
	if why := w.Protection.Written(group, "member"); why != "" {
		past.note(stays + ": " + why)
		return nil
	}
	err = w.do(ctx, l, past, w.step(batch.Restore, OpValues, now, func(s *Step) {
		s.Values = []ValueMod{{Attr: "member", Remove: batch.Octets(e.DN)}}
	}), nil, "")
	return w.noteRefusal(past, err, stays)
}

// groupOf reads the group of a RID of the account's domain, nil where there is
// none.
func (w *worker) groupOf(ctx context.Context, e *directory.Entry, rid string) (*directory.Entry, error) {
	sid, err := directory.ParseSID(e.First("objectSid"))
	if err != nil {
		return nil, err
	}
	domain := sid[:strings.LastIndexByte(sid, '-')]
	raw, err := directory.EncodeSID(domain + "-" + rid)
	if err != nil {
		return nil, err
	}
	found, err := w.server.Select(ctx, "(objectSid="+source.EscapeOctets(raw)+")", source.WhatItIs(w.server.Dialect))
	if err != nil || len(found) != 1 {
		return nil, err
	}
	return &found[0], nil
}
