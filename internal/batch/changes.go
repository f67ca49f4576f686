package batch

import (
	"fmt"
	"slices"

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

// LDIFChanges are what the lines of a batch that were not dropped would do, as
// change records in their order, and what takes that back, in the opposite
// order. They carry no guards: whoever carries them out with other tools has
// to make sure by themselves that nothing has changed since.
func (b *Batch) LDIFChanges() (do, undo []LDIFChange, err error) {
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
			forth, back, err := l.ldif(d, &l.Actions[j], &dn)
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
func (l *Line) ldif(d *directory.Dialect, a *Action, dn *string) (do, undo []LDIFChange, err error) {
	modify := func(of string, mods []Mod) LDIFChange {
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
		return LDIFChange{DN: of, Change: c}
	}
	remark := func(format string, args ...any) []LDIFChange {
		return []LDIFChange{{DN: *dn, Remark: fmt.Sprintf(format, args...)}}
	}
	switch a.Name {
	case Move, Rename:
		old := *dn
		*dn = a.RDN + "," + a.To
		rdn, parent := directory.SplitDN(old)
		return []LDIFChange{{DN: old, Change: &ldif.Change{Type: "modrdn", NewRDN: a.RDN, DeleteOldRDN: true, NewSuperior: a.To, HasSuperior: true}}},
			[]LDIFChange{{DN: *dn, Change: &ldif.Change{Type: "modrdn", NewRDN: rdn, DeleteOldRDN: true, NewSuperior: parent, HasSuperior: true}}}, nil
	case Delete:
		return []LDIFChange{{DN: *dn, Change: &ldif.Change{Type: "delete"}}}, remark("a deleted entry comes back by \"yardbroom restore\" only, if yardbroom deleted it"), nil
	case ResetPassword:
		return remark("a new password is made when \"yardbroom apply\" sets it, and is not in an export"), remark("a password that was reset cannot be taken back"), nil
	case SetHomeAside, PutHomeBack, ArchiveHome:
		return remark("%s is done to a folder, %s, by \"yardbroom apply\" only", a.Name, a.Home), nil, nil
	case Restore:
		return remark("a deleted entry is brought back by \"yardbroom apply\" only"), nil, nil
	case JoinGroup, LeaveGroup, LeaveGroups:
		e := l.staged()
		e.DN = *dn
		for _, m := range a.Groups {
			change := Mod{Attr: m.Attr, New: []Octets{Octets(MemberValue(m.Attr, &e))}}
			if a.Name != JoinGroup {
				change = change.Inverse()
			}
			do = append(do, modify(m.DN, []Mod{change}))
			undo = append(undo, modify(m.DN, []Mod{change.Inverse()}))
		}
		slices.Reverse(undo)
		return do, undo, nil
	}
	mods := a.Put
	if mods == nil {
		e := l.staged()
		if mods, err = Plan(d, a.Name, &e, LockPolicy{Honoured: true, Known: true}); err != nil {
			return nil, nil, err
		}
	}
	back := make([]Mod, len(mods))
	for i, m := range mods {
		back[i] = m.Inverse()
	}
	undo = []LDIFChange{modify(*dn, back)}
	if !HasInverse(a.Name) {
		undo = remark("%s has no inverse", a.Name)
	}
	return []LDIFChange{modify(*dn, mods)}, undo, nil
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
