package batch

import (
	"slices"
	"strings"
)

// Change is what a line would change, for people.
type Change struct {
	// What is the name of an attribute, or group, password, lock, place, name, entry,
	// permissions or home folder.
	What string `json:"what"`
	Old  string `json:"old"`
	New  string `json:"new"`
}

// What a change is about that is no attribute, and what stands for the values of
// such a thing.
const (
	aboutGroup    = "group"
	aboutPassword = "password"
	aboutLock     = "lock"
	aboutPlace    = "place"
	aboutName     = "name"
	aboutEntry    = "entry"
	aboutHome     = "home folder"
	aboutRules    = "permissions"

	none      = "(none)"
	notLocked = "not locked"
	deleted   = "(deleted)"
)

// lockAttributes hold a lock that wrong passwords have made, where it is taken away with
// the value.
var lockAttributes = []string{"pwdAccountLockedTime", "accountUnlockTime"}

// ChangeKind tells what kind of thing changes.
type ChangeKind int

// The kinds of changes.
const (
	OfAttribute ChangeKind = iota
	OfSwitch               // the account is disabled, or enabled
	Leaving                // a group; Old is its name
	Joining                // a group; New is its name
	OfPassword
	OfLock
	OfPlace // the entry is moved; New is its name then
	Returning
	OfEntry // it is deleted, or made
)

// Kind tells what kind of thing changes.
func (c *Change) Kind() ChangeKind {
	switch {
	case c.What == aboutGroup && c.New == none:
		return Leaving
	case c.What == aboutGroup:
		return Joining
	case c.What == aboutPassword:
		return OfPassword
	case c.What == aboutLock, c.New == notLocked, c.New == none && slices.Contains(lockAttributes, c.What) && !strings.HasSuffix(c.Old, markDisabled):
		return OfLock
	case c.What == aboutPlace:
		return OfPlace
	case c.What == aboutEntry && c.Old == deleted:
		return Returning
	case c.What == aboutEntry:
		return OfEntry
	case c.SwitchesOff() || c.SwitchesOn():
		return OfSwitch
	}
	return OfAttribute
}

// SwitchesOff tells whether the account is disabled by the change, SwitchesOn
// whether it is enabled.
func (c *Change) SwitchesOff() bool { return c.turns(markEnabled, markDisabled) }

// SwitchesOn tells whether the account is enabled by the change.
func (c *Change) SwitchesOn() bool { return c.turns(markDisabled, markEnabled) }

func (c *Change) turns(from, to string) bool {
	return strings.HasSuffix(c.Old, from) && strings.HasSuffix(c.New, to)
}

// The marks that Readable puts behind values that switch an account.
const (
	markEnabled  = " (enabled)"
	markDisabled = " (disabled)"
)

// None tells whether there was nothing before.
func (c *Change) None() bool { return c.Old == none }

// ChangeOf writes a Mod for people.
func ChangeOf(m Mod) Change {
	if m.Permissions() {
		return Change{What: aboutRules, Old: readable(m.Attr, m.Old), New: readable(m.Attr, m.New)}
	}
	return Change{What: m.Attr, Old: text(readable(m.Attr, m.Old)), New: text(readable(m.Attr, m.New))}
}

// LeavesGroup is that an entry is taken out of a group, by its name.
func LeavesGroup(dn string) Change { return Change{What: aboutGroup, Old: text(dn), New: none} }

// JoinsGroup is that an entry is put into a group, by its name.
func JoinsGroup(dn string) Change { return Change{What: aboutGroup, Old: none, New: text(dn)} }

// Moves is that an entry gets another place.
func Moves(from, to string) Change { return Change{What: aboutPlace, Old: from, New: to} }

// Deletes is that an entry is deleted.
func Deletes(dn string) Change { return Change{What: aboutEntry, Old: dn, New: deleted} }

// Adds is that an entry is made.
func Adds(dn string) Change { return Change{What: aboutEntry, Old: none, New: dn} }

// BringsBack is that a deleted entry comes back.
func BringsBack(dn string) Change { return Change{What: aboutEntry, Old: deleted, New: dn} }

// SetsPassword is that there is a new password, which is told of in words.
func SetsPassword(which string) Change {
	return Change{What: aboutPassword, Old: "(kept secret)", New: which}
}

// MovesHome is that a home folder gets another path.
func MovesHome(from, to string) Change { return Change{What: aboutHome, Old: from, New: to} }

// Exchanges is that a value of another entry's attribute gives way to another; each
// may be "", for none.
func Exchanges(attr, dn, before, after string) Change {
	c := Change{What: attr + " of " + dn, Old: none, New: none}
	if before != "" {
		c.Old = Readable(attr, before)
	}
	if after != "" {
		c.New = Readable(attr, after)
	}
	return c
}
