package carry

import (
	"cmp"
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
// server keeps one, else as a new entry with the old values. It ends
// disabled.
func (r *Runner) restore(ctx context.Context, l *batch.Line, a *batch.Action, past *history) error {
	if !past.done(batch.Restore) {
		if err := r.raise(ctx, l, a, past); err != nil {
			return err
		}
	}
	e, err := r.readBack(ctx, &Step{Op: OpModify, DN: past.main(batch.Restore).target(), ID: r.restoredID(l, past)})
	if err != nil {
		return err
	}
	if e == nil {
		return errors.New("it was brought back and is gone again")
	}
	if err := r.lockRestored(ctx, l, e, past); err != nil {
		return err
	}
	if a.Image == nil {
		past.notes = append(past.notes, "the journal has no image of it, so only what the directory kept came back")
		return nil
	}
	if err := r.putAttributes(ctx, l, a.Image, e, past); err != nil {
		return err
	}
	return r.putReferences(ctx, l, a.Image, e, past)
}

func (r *Runner) restoredID(l *batch.Line, past *history) batch.Octets {
	if past.newID != "" {
		return batch.Octets(past.newID)
	}
	id, err := source.ReadIdentity(r.Server.Dialect, l.ID)
	if err != nil {
		return ""
	}
	return batch.Octets(id)
}

// raise makes the entry exist again.
func (r *Runner) raise(ctx context.Context, l *batch.Line, a *batch.Action, past *history) error {
	if err := r.roomFor(ctx, nil, a); err != nil {
		return err
	}
	id, err := source.ReadIdentity(r.Server.Dialect, l.ID)
	if err != nil {
		return err
	}
	if r.Server.Dialect == directory.AD {
		grave, err := r.Server.ByIdentity(ctx, id, true)
		if err == nil && grave.First("isDeleted") == "TRUE" {
			err = r.reanimate(ctx, l, a, grave, past)
			if !source.RefusedFor(err, source.Drifted, source.Unsupported) || a.Image == nil {
				return err
			}
			past.notes = append(past.notes, "the server would not bring its deleted object back ("+err.Error()+")")
		} else if err != nil && !errors.Is(err, source.ErrNotFound) {
			return err
		} else if err == nil {
			return errors.New("it exists; there is nothing to bring back")
		}
	}
	if a.Image == nil {
		return errors.New("neither the directory's deleted objects nor the journal have it")
	}
	return r.addAnew(ctx, l, a, past)
}

// reanimate brings the deleted object itself back, disabled in the same
// write, since the server would otherwise bring it back enabled and without
// a password. Samba refuses to change flags in that write; there it is
// disabled by the next one.
func (r *Runner) reanimate(ctx context.Context, l *batch.Line, a *batch.Action, grave *directory.Entry, past *history) error {
	flags := keptFlags(a.Image, grave) | directory.UACDisabled
	s := r.step(batch.Restore, OpReanimate, grave, func(s *Step) {
		s.RDN, s.Superior = a.RDN, a.To
		s.Mods = []batch.Mod{{Attr: "userAccountControl", New: []batch.Octets{batch.Octets(strconv.FormatInt(flags, 10))}}}
	})
	err := r.do(ctx, l, past, s, image(grave), "")
	if !source.RefusedFor(err, source.Missing, source.Unsupported) {
		return err
	}
	s.Mods = nil
	if err := r.do(ctx, l, past, s, image(grave), ""); err != nil {
		return err
	}
	past.notes = append(past.notes, "the server brought it back enabled, without a password, and it was disabled right after")
	return nil
}

// keptFlags are the flags that the account had.
func keptFlags(im *batch.Image, grave *directory.Entry) int64 {
	entries := []*directory.Entry{grave}
	if im != nil {
		e := im.Entry()
		entries = []*directory.Entry{&e, grave}
	}
	for _, e := range entries {
		if flags, err := directory.ParseFlags(e.First("userAccountControl")); err == nil {
			return flags
		}
	}
	return directory.UACNormal
}

// addAnew makes a new entry of the image's values.
func (r *Runner) addAnew(ctx context.Context, l *batch.Line, a *batch.Action, past *history) error {
	s := Step{Action: batch.Restore, Op: OpAdd, DN: a.RDN + "," + a.To, Attrs: a.Image.Anew(r.Server.Dialect)}
	if r.Server.Dialect == directory.AD {
		past.notes = append(past.notes, "it is a new entry: its SID and GUID are new, so rights given to the old ones are lost")
	} else {
		past.notes = append(past.notes, "it is a new entry: its identity and operational times are new")
	}
	past.notes = append(past.notes, "it has no password")
	return r.do(ctx, l, past, s, nil, "")
}

// lockRestored disables what came back enabled.
func (r *Runner) lockRestored(ctx context.Context, l *batch.Line, e *directory.Entry, past *history) error {
	survey := directory.NewSurvey(r.Server.Dialect)
	a := r.Server.Dialect.Account(e)
	if a.PermanentLock || r.Server.Dialect == directory.AD && survey.Disabled(&a, r.Now()).Yes {
		return nil
	}
	mods, err := r.mods(ctx, &batch.Action{Name: batch.Disable}, e)
	if err != nil {
		past.notes = append(past.notes, "it could not be disabled ("+err.Error()+"); it has no password, so nobody can sign in")
		return nil
	}
	return r.do(ctx, l, past, r.step(batch.Restore, OpModify, e, func(s *Step) { s.Mods = mods }), image(e), "")
}

// putAttributes gives the entry back what the image has and the directory
// did not keep. What the server refuses is noted, not forced.
func (r *Runner) putAttributes(ctx context.Context, l *batch.Line, im *batch.Image, e *directory.Entry, past *history) error {
	rdn, _ := directory.SplitDN(e.DN)
	naming, _, _ := strings.Cut(rdn, "=")
	raised := raisedWith(past.main(batch.Restore))
	for _, attr := range im.Attrs {
		if directory.IsServerOwned(attr.Name) || strings.EqualFold(attr.Name, naming) || slices.Contains(im.Incomplete, attr.Name) ||
			batch.IsMembership(attr.Name) && !strings.EqualFold(attr.Name, "memberUid") {
			continue
		}
		now := batch.OctetsOf(e.Get(attr.Name))
		if sameList(batch.Plain(now), attr.Values) {
			continue
		}
		if !exactList(raised.Get(attr.Name), now) {
			past.note(attr.Name + " was changed by somebody else since it came back, and was left as it is")
			continue
		}
		err := r.do(ctx, l, past, r.step(batch.Restore, OpModify, e, func(s *Step) {
			s.Mods = []batch.Mod{{Attr: attr.Name, Old: now, New: attr.Values}}
		}), nil, "")
		if err := r.noteRefusal(past, err, attr.Name+" could not be put back"); err != nil {
			return err
		}
	}
	return nil
}

// setOnReturn are the attributes, of those that are not a server's alone, that
// servers of the `ad` schema set anew when an object comes back.
var setOnReturn = []string{"accountExpires", "countryCode", "codePage"}

// raisedWith is what the entry had when it came back: what it was added with,
// or what the directory had kept of it. What was read right after may hold a
// colleague's change already, and tells only what the server itself sets.
func raisedWith(s *pastStep) directory.Entry {
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
func (r *Runner) noteRefusal(past *history, err error, what string) error {
	var refused *source.Refused
	if err != nil && errors.As(err, &refused) && !source.Lost(err) {
		past.notes = append(past.notes, what+": "+err.Error())
		return nil
	}
	return err
}

// putReferences makes the entries that named the old entry name it again.
func (r *Runner) putReferences(ctx context.Context, l *batch.Line, im *batch.Image, e *directory.Entry, past *history) error {
	for _, ref := range im.References {
		if why, err := r.mayName(ctx, &ref); err != nil {
			return err
		} else if why != "" {
			past.note(fmt.Sprintf("%s of %s was not put back: %s", ref.Attr, ref.DN, why))
			continue
		}
		value := asSpelt(im.References, &ref, e.DN)
		if ref.Attr == "memberUid" {
			value = string(ref.Value)
		}
		other, err := r.naming(ctx, &ref, ref.DN, value)
		if err != nil {
			return err
		}
		switch {
		case other == nil:
			past.notes = append(past.notes, fmt.Sprintf("%s, which named it as %s, is gone", ref.DN, ref.Attr))
			continue
		case hasValue(other.Get(ref.Attr), value):
			continue
		case singleLink[strings.ToLower(ref.Attr)] && other.Has(ref.Attr):
			past.notes = append(past.notes, fmt.Sprintf("%s of %s names somebody else now", ref.Attr, ref.DN))
			continue
		}
		err = r.do(ctx, l, past, r.step(batch.Restore, OpValues, other, func(s *Step) {
			s.Values = []ValueMod{{Attr: ref.Attr, Add: batch.Octets(value)}}
		}), nil, "")
		if err := r.noteRefusal(past, err, fmt.Sprintf("%s of %s", ref.Attr, ref.DN)); err != nil {
			return err
		}
	}
	return r.putPrimaryGroup(ctx, l, im, e, past)
}

// mayName tells why an entry that named the one that was brought back must not
// name it again: it is protected, or gives power now, which nobody has signed.
func (r *Runner) mayName(ctx context.Context, ref *batch.Reference) (string, error) {
	other, err := r.naming(ctx, ref, ref.DN)
	if err != nil || other == nil {
		return "", err
	}
	if why := r.Protection.Written(other, ref.Attr); why != "" {
		return why, nil
	}
	if !batch.IsMembership(ref.Attr) {
		return "", nil
	}
	powers, err := r.climber().Of(ctx, other)
	if len(powers) > 0 || ref.Privileged {
		return "its members have power over the directory", err
	}
	return "", err
}

var singleLink = map[string]bool{"manager": true, "managedby": true}

// putPrimaryGroup gives an `ad` account its primary group back, unless that
// is the usual one or a privileged one.
func (r *Runner) putPrimaryGroup(ctx context.Context, l *batch.Line, im *batch.Image, e *directory.Entry, past *history) error {
	old := im.Entry()
	now, was := e.First("primaryGroupID"), old.First("primaryGroupID")
	if r.Server.Dialect != directory.AD || was == "" || cmp.Or(now, "513") == was {
		return nil
	}
	with := *e
	with.Attrs = slices.Clone(e.Attrs)
	with.Set("primaryGroupID", was)
	powers, err := r.climber().Of(ctx, &with)
	if err != nil {
		return err
	}
	if len(powers) > 0 {
		past.note("its primary group gives power over the directory and was not put back")
		return nil
	}
	err = r.do(ctx, l, past, r.step(batch.Restore, OpModify, e, func(s *Step) {
		s.Mods = []batch.Mod{{Attr: "primaryGroupID", Old: batch.OctetsOf(e.Get("primaryGroupID")), New: []batch.Octets{batch.Octets(was)}}}
	}), nil, "")
	return r.noteRefusal(past, err, "its primary group could not be put back")
}
