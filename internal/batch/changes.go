package batch

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"yardbroom/internal/directory"
	"yardbroom/internal/ldif"
)

// LDIFChange is a change record (RFC 2849), or a remark in its place where LDIF
// cannot say what a line does.
type LDIFChange struct {
	DN     string
	Change *ldif.Change
	Remark string
}

// Doomed are the entries that a batch deletes, and the groups that list them,
// by their folded names.
type Doomed struct {
	Entries map[string]directory.Entry
	Groups  map[string][]Membership
}

// ReadDoomed reads the entries that a batch deletes, as they are now.
func (b *Batch) ReadDoomed(ctx context.Context, from Reader) (Doomed, error) {
	doomed := Doomed{Entries: map[string]directory.Entry{}}
	d, err := directory.DialectNamed(b.Identity.Dialect)
	if err != nil {
		return doomed, err
	}
	var dns []string
	for i := range b.Lines {
		if l := &b.Lines[i]; l.State != Dropped && l.Has(Delete) {
			dns = append(dns, l.DN)
		}
	}
	if len(dns) == 0 {
		return doomed, nil
	}
	entries, err := from.Get(ctx, dns)
	if err != nil {
		return doomed, err
	}
	members := make([]*directory.Entry, len(entries))
	for i := range entries {
		members[i] = &entries[i]
		doomed.Entries[directory.FoldDN(entries[i].DN)] = entries[i]
	}
	doomed.Groups, err = ReadMemberships(ctx, from, d, members, nil, nil)
	return doomed, err
}

// LDIFChanges are what the lines of a batch that were not dropped would do, as
// change records in their order, and what takes that back, in the opposite
// order. They carry no guards: whoever carries them out with other tools has
// to make sure by themselves that nothing has changed since.
func (b *Batch) LDIFChanges(doomed Doomed) (do, undo []LDIFChange, err error) {
	d, err := directory.DialectNamed(b.Identity.Dialect)
	if err != nil {
		return nil, nil, err
	}
	var backs [][]LDIFChange // of each action
	for i := range b.Lines {
		l := &b.Lines[i]
		if l.State == Dropped {
			continue
		}
		dn := l.DN
		for j := range l.Actions {
			forth, back, err := l.ldif(d, &l.Actions[j], &dn, doomed)
			if err != nil {
				return nil, nil, fmt.Errorf("line %d, %s: %w", l.N, l.Account, err)
			}
			do = append(do, forth...)
			backs = append(backs, back)
		}
	}
	for _, back := range slices.Backward(backs) {
		undo = append(undo, back...)
	}
	return do, undo, nil
}

// ldif writes one action as change records. The name of the entry follows
// moves.
func (l *Line) ldif(d *directory.Dialect, a *Action, dn *string, doomed Doomed) (do, undo []LDIFChange, err error) {
	switch a.Name {
	case Move, Rename:
		old := *dn
		*dn = a.RDN + "," + a.To
		rdn, parent := directory.SplitDN(old)
		return append(l.uncorrected(d, old), ldifRename(old, a.RDN, a.To)),
			append(l.uncorrected(d, *dn), ldifRename(*dn, rdn, parent)), nil
	case Delete:
		do, undo = l.ldifDelete(d, *dn, doomed)
		return do, undo, nil
	case ResetPassword:
		return remark(*dn, "a new password is made when \"yardbroom apply\" sets it, and is not in an export"),
			remark(*dn, "a password that was reset cannot be taken back"), nil
	case SetHomeAside, PutHomeBack, ArchiveHome:
		return remark(*dn, "%s is done to a folder, %s, by \"yardbroom apply\" only", a.Name, a.Home), nil, nil
	case Restore:
		return remark(*dn, "a deleted entry is brought back by \"yardbroom apply\" only"), nil, nil
	case JoinGroup, LeaveGroup, LeaveGroups:
		e := l.staged()
		do, undo = l.ldifGroups(a, *dn, &e)
		return do, undo, nil
	}
	return l.ldifValues(d, a, *dn)
}

// remark is what an export says instead of a change, or beside it.
func remark(dn, format string, args ...any) []LDIFChange {
	return []LDIFChange{{DN: dn, Remark: fmt.Sprintf(format, args...)}}
}

func ldifRename(dn, rdn, superior string) LDIFChange {
	return LDIFChange{DN: dn, Change: &ldif.Change{
		Type: "modrdn", NewRDN: rdn, DeleteOldRDN: true, NewSuperior: superior, HasSuperior: true}}
}

// ldifDelete deletes the entry, and adds what comes back of it.
func (l *Line) ldifDelete(d *directory.Dialect, dn string, doomed Doomed) (do, undo []LDIFChange) {
	gone := []LDIFChange{{DN: dn, Change: &ldif.Change{Type: "delete"}}}
	old, known := doomed.Entries[directory.FoldDN(l.DN)]
	if !known {
		return gone, remark(dn, "the entry could not be read, so no record adds it again")
	}
	left, back := l.ldifGroups(&Action{Name: LeaveGroups, Groups: doomed.Groups[directory.FoldDN(l.DN)]}, dn, &old)
	im := ImageOf(&old)
	undo = append(
		remark(dn, "what comes back is a new entry: without a password, with another identity, and not named by others as before but for its groups"),
		im.addAgain(d, dn),
	)
	if d.KeepsLinks {
		left = nil // the server takes it out of them
	}
	return append(left, gone...), append(undo, back...)
}

// ldifValues writes an action that changes values of the entry.
func (l *Line) ldifValues(d *directory.Dialect, a *Action, dn string) (do, undo []LDIFChange, err error) {
	mods := slices.DeleteFunc(slices.Clone(a.Put), Mod.Permissions)
	if len(mods) < len(a.Put) {
		what := remark(dn, "its permissions are changed by \"yardbroom apply\" only")
		if len(mods) == 0 {
			return what, nil, nil
		}
		do, undo = append(do, what...), append(undo, what...)
	}
	if a.Put == nil {
		e := l.staged()
		if mods, err = Plan(d, a.Name, &e, LockPolicy{Honoured: true, Known: true}); err != nil {
			return nil, nil, err
		}
	}
	back := make([]Mod, len(mods))
	for i, m := range mods {
		back[i] = m.Inverse()
	}
	if undo = append(undo, ldifModify(dn, back)); !HasInverse(a.Name) {
		undo = remark(dn, "%s has no inverse", a.Name)
	}
	return append(do, ldifModify(dn, mods)), undo, nil
}

// addAgain is the record that makes an entry anew.
func (im *Image) addAgain(d *directory.Dialect, dn string) LDIFChange {
	add := &ldif.Change{Type: "add"}
	for _, attr := range im.Anew(d) {
		add.Mods = append(add.Mods, ldif.Mod{Op: "add", Name: attr.Name, Values: Plain(attr.Values)})
	}
	return LDIFChange{DN: dn, Change: add}
}

// Everything is an entry that is about to be deleted as change records that make
// it anew: the entry, and the names of it in others. What only the server can write
// stands in remarks before it, values that are no text in base64.
func (im *Image) Everything(d *directory.Dialect) (all []LDIFChange) {
	again := im.addAgain(d, im.DN)
	for _, attr := range im.Attrs {
		if slices.ContainsFunc(again.Change.Mods, func(m ldif.Mod) bool { return m.Name == attr.Name }) {
			continue
		}
		for _, v := range attr.Values {
			text, _ := v.MarshalText() // it never fails
			all = append(all, LDIFChange{DN: attr.Name, Remark: string(text)})
		}
	}
	all = append(all, again)
	for _, ref := range im.References {
		all = append(all, ldifModify(ref.DN, []Mod{{Attr: ref.Attr, New: []Octets{ref.Value}}}))
	}
	return all
}

// WriteLDIF writes change records and remarks, the first remark about all of them.
func WriteLDIF(w io.Writer, about string, changes []LDIFChange) error {
	out := ldif.NewWriter(w)
	err := out.Remark(about)
	for _, c := range changes {
		if c.Change == nil {
			err = errors.Join(err, out.Remark(c.DN+": "+c.Remark))
			continue
		}
		err = errors.Join(err, out.WriteChange(c.DN, c.Change))
	}
	return errors.Join(err, out.Flush())
}

// uncorrected says which entries name one that is moved, where a server may not
// follow by itself: apply corrects what it has not, which no record can.
func (l *Line) uncorrected(d *directory.Dialect, dn string) []LDIFChange {
	if d.KeepsLinks {
		return nil
	}
	var named []string
	for _, t := range l.Touches() {
		named = append(named, t.How+" of "+t.DN)
	}
	switch n, along := len(named), l.Along(); {
	case n == 0 && along == 0:
		return nil
	case n == 0:
		named = []string{fmt.Sprintf("what names the %d entries that move along", along)}
	case n > 3:
		named = append(named[:3], fmt.Sprintf("and %d more", n-3))
	}
	return []LDIFChange{
		{
			DN: dn,
			Remark: "a server without referential integrity leaves the old name in " + strings.Join(named,
				", ") + "; \"yardbroom apply\" corrects that, these records do not",
		},
	}
}

// ldifModify writes changes of attributes.
func ldifModify(dn string, mods []Mod) LDIFChange {
	c := &ldif.Change{Type: "modify"}
	for _, m := range mods {
		// The old value is deleted by name, so that a changed one is not lost.
		if len(m.Old) > 0 {
			c.Mods = append(c.Mods, ldif.Mod{Op: "delete", Name: m.Attr, Values: Plain(m.Old)})
		}
		if len(m.New) > 0 {
			c.Mods = append(c.Mods, ldif.Mod{Op: "add", Name: m.Attr, Values: Plain(m.New)})
		}
	}
	return LDIFChange{DN: dn, Change: c}
}

// ldifGroups writes that an entry of some name joins or leaves groups.
func (l *Line) ldifGroups(a *Action, dn string, e *directory.Entry) (do, undo []LDIFChange) {
	named := directory.Entry{DN: dn, Attrs: e.Attrs}
	for _, m := range a.Groups {
		change := Mod{Attr: m.Attr, New: []Octets{Octets(MemberValue(m.Attr, &named))}}
		if a.Name != JoinGroup {
			change = change.Inverse()
		}
		do = append(do, ldifModify(m.DN, []Mod{change}))
		undo = append(undo, ldifModify(m.DN, []Mod{change.Inverse()}))
	}
	slices.Reverse(undo)
	return do, undo
}

// staged is what the guards know of the entry as it was staged.
func (l *Line) staged() directory.Entry {
	e := directory.Entry{DN: l.DN}
	for _, g := range l.Guard {
		if g.Rule == Equal {
			e.Set(g.Attr, Plain(g.Values)...)
		}
	}
	e.Set("uid", l.Account) // by which some groups list it
	return e
}
