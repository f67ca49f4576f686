package batch

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"yardbroom/internal/directory"
	"yardbroom/internal/wording"
)

// Names of the actions a person can stage.
const (
	Disable       = "disable"
	Enable        = "enable"
	Unlock        = "unlock"
	LeaveRole     = "leave-role"
	Describe      = "describe"
	Expire        = "expire"
	Hide          = "hide"
	Unmark        = "unmark-privileged"
	JoinGroup     = "join-group"
	LeaveGroup    = "leave-group"
	LeaveGroups   = "leave-groups"
	ResetPassword = "reset-password"
	SetHomeAside  = "set-home-aside"
	Move          = "move"
	Delete        = "delete"
	Set           = "set"
	Add           = "add"
	Clear         = "clear"
	Fill          = "fill"
	Rename        = "rename"
	ArchiveHome   = "archive-home"
)

// Names of the actions that only undo and restore stage.
const (
	PutBack     = "put-back"
	Mark        = "mark-privileged"
	PutHomeBack = "put-home-back"
	Restore     = "restore"
)

// ActionNames lists what can be staged several at once, in the order of the
// manual. Those of Alone have arguments of their own and stand alone.
var ActionNames = []string{
	Disable,
	Enable,
	Unlock,
	LeaveRole,
	Describe,
	Expire,
	Hide,
	Unmark,
	JoinGroup,
	LeaveGroup,
	LeaveGroups,
	ResetPassword,
	SetHomeAside,
	Move,
	Delete,
}

// Alone are the actions that are staged by themselves.
var Alone = []string{Set, Add, Clear, Fill, Rename, ArchiveHome}

// ParseActions reads a list such as "disable,move".
func ParseActions(list string) ([]string, error) {
	var all []string
	for name := range strings.SplitSeq(list, ",") {
		name = strings.TrimSpace(name)
		if !slices.Contains(ActionNames, name) {
			if slices.Contains(Alone, name) {
				return nil, fmt.Errorf("%s stands by itself, with no other action", name)
			}
			return nil, fmt.Errorf("%q is not an action%s; use %s, or by itself %s", name, wording.DidYouMean(name, slices.Concat(ActionNames, Alone)),
				strings.Join(ActionNames, ", "), strings.Join(Alone, ", "))
		}
		if slices.Contains(all, name) {
			return nil, fmt.Errorf("%s is there twice", name)
		}
		all = append(all, name)
	}
	if i := slices.Index(all, Delete); i >= 0 && i != len(all)-1 {
		return nil, errors.New("nothing can follow delete")
	}
	for _, pair := range [][2]string{{Disable, Enable}, {Disable, LeaveRole}, {LeaveGroup, LeaveGroups}, {JoinGroup, LeaveGroup}, {Unmark, Delete}, {Delete, ResetPassword}, {Disable, ResetPassword}, {Enable, SetHomeAside}, {SetHomeAside, ResetPassword}} {
		if slices.Contains(all, pair[0]) && slices.Contains(all, pair[1]) {
			return nil, fmt.Errorf("%s and %s do not go together in one batch", pair[0], pair[1])
		}
	}
	return all, nil
}

// HasInverse tells whether an action can be taken back.
func HasInverse(name string) bool {
	return !slices.Contains([]string{Unlock, ResetPassword, ArchiveHome, Restore, PutHomeBack}, name)
}

// LockPolicy tells whether the password policy in force for an entry honours
// the permanent lock. Known is false where that cannot be read.
type LockPolicy struct{ Honoured, Known bool }

// Plan returns what an action that changes attributes would change on the
// entry as it is now, or why it cannot be done.
func Plan(d *directory.Dialect, name string, e *directory.Entry, lock LockPolicy) ([]Mod, error) {
	switch d {
	case directory.AD:
		return planAD(name, e)
	case directory.NS389:
		return planNS389(name, e)
	}
	return planOpenLDAP(name, e, lock)
}

func planAD(name string, e *directory.Entry) ([]Mod, error) {
	uac := e.First("userAccountControl")
	flags, err := directory.ParseFlags(uac)
	if name != Unlock && err != nil {
		return nil, errors.New("its userAccountControl cannot be read")
	}
	disabled := flags&directory.UACDisabled != 0
	set := func(flags int64) []Mod {
		return []Mod{
			{
				Attr: "userAccountControl",
				Old:  []Octets{Octets(uac)},
				New:  []Octets{Octets(strconv.FormatInt(flags, 10))},
			},
		}
	}
	switch name {
	case Disable:
		if disabled {
			return nil, errDisabled
		}
		return set(flags | directory.UACDisabled), nil
	case Enable:
		if !disabled {
			return nil, errEnabled
		}
		return set(flags &^ directory.UACDisabled), nil
	case Unlock:
		locked := e.First("lockoutTime")
		if locked == "" || locked == "0" {
			return nil, errors.New("it is not locked")
		}
		return []Mod{{Attr: "lockoutTime", Old: []Octets{Octets(locked)}, New: []Octets{"0"}}}, nil
	}
	return nil, fmt.Errorf("%s changes no attribute", name)
}

func planOpenLDAP(name string, e *directory.Entry, lock LockPolicy) ([]Mod, error) {
	const attr = "pwdAccountLockedTime"
	now := OctetsOf(e.Get(attr))
	permanent := len(now) == 1 && (now[0] == directory.PermanentLockValue || now[0] == "00000101000000Z")
	switch name {
	case Disable:
		switch {
		case !lock.Known:
			return nil, errors.New(
				"the password policy in force for it cannot be read, so whether a lock would have any effect is not known (set default_policy in the settings)",
			)
		case !lock.Honoured:
			return nil, errors.New("its password policy has pwdLockout FALSE, under which a lock has no effect")
		case permanent:
			return nil, errDisabled
		}
		return []Mod{{Attr: attr, Old: now, New: []Octets{directory.PermanentLockValue}}}, nil
	case Enable:
		if !permanent {
			if e.Has("pwdStartTime") || e.Has("pwdEndTime") {
				return nil, errors.New("it is not locked; if it cannot sign in, pwdStartTime or pwdEndTime say so")
			}
			return nil, errEnabled
		}
		return []Mod{{Attr: attr, Old: now, New: nil}}, nil
	case Unlock:
		switch {
		case permanent:
			return nil, errors.New("it was disabled by an administrator, not locked by wrong passwords: use enable")
		case len(now) == 0:
			return nil, errors.New("it is not locked")
		}
		return []Mod{{Attr: attr, Old: now, New: nil}}, nil
	}
	return nil, fmt.Errorf("%s changes no attribute", name)
}

func planNS389(name string, e *directory.Entry) ([]Mod, error) {
	const lock, until = "nsAccountLock", "accountUnlockTime"
	now := OctetsOf(e.Get(lock))
	disabled := len(now) == 1 && strings.EqualFold(string(now[0]), "true")
	switch name {
	case Disable:
		if disabled {
			return nil, errDisabled
		}
		return []Mod{{Attr: lock, Old: now, New: []Octets{"true"}}}, nil
	case Enable:
		if !disabled {
			return nil, errEnabled
		}
		return []Mod{{Attr: lock, Old: now, New: nil}}, nil
	case Unlock:
		locked := OctetsOf(e.Get(until))
		if len(locked) == 0 {
			return nil, errors.New("it is not locked")
		}
		mods := []Mod{{Attr: until, Old: locked}}
		if retries := OctetsOf(e.Get("passwordRetryCount")); len(retries) > 0 {
			mods = append(mods, Mod{Attr: "passwordRetryCount", Old: retries})
		}
		return mods, nil
	}
	return nil, fmt.Errorf("%s changes no attribute", name)
}

// AlreadyError says that what an action would do is so already.
type AlreadyError struct{ error }

func already(format string, args ...any) error { return AlreadyError{fmt.Errorf(format, args...)} }

// The errors of switching an account off or on that is so already.
var (
	errDisabled = already("it is disabled already")
	errEnabled  = already("it is enabled already")
)

// text makes a value fit for JSON, which cannot hold every octet.
func text(s string) string { return strings.ToValidUTF8(s, "\uFFFD") }

func readable(attr string, values []Octets) string {
	if len(values) == 0 {
		return none
	}
	var out []string
	for _, v := range values {
		out = append(out, Readable(attr, string(v)))
	}
	return strings.Join(out, "; ")
}

// Readable writes a value of an attribute for people: times as times, flags
// with what they mean, identities in their usual form.
func Readable(attr, v string) string {
	switch directory.LookupAttr(attr) {
	case directory.AttrUserAccountControl:
		if flags, err := directory.ParseFlags(v); err == nil {
			if flags&directory.UACDisabled != 0 {
				return v + markDisabled
			}
			return v + markEnabled
		}
	case directory.AttrPwdAccountLockedTime:
		if v == directory.PermanentLockValue {
			return v + markDisabled
		}
	case directory.AttrLockoutTime,
		directory.AttrLastLogon,
		directory.AttrLastLogonTimestamp,
		directory.AttrPwdLastSet,
		directory.AttrAccountExpires:
		t, err := directory.ParseFileTime(v)
		switch {
		case err != nil:
			return v
		case t.IsZero():
			return zeroTime(directory.LookupAttr(attr))
		}
		return t.Format(time.RFC3339)
	}
	if strings.EqualFold(attr, directory.AttrSecurityDescriptor) {
		return readablePermissions(v)
	}
	if plain := directory.Plain(attr, v); plain != v {
		return plain
	}
	if strings.TrimSpace(v) != v || strings.Contains(v, "  ") {
		return strconv.Quote(v) // so that stray blanks show
	}
	return v
}

// zeroTime is what an attribute means that holds no time.
func zeroTime(id directory.AttrID) string {
	switch id {
	case directory.AttrLockoutTime:
		return notLocked
	case directory.AttrPwdLastSet:
		return "to be changed at the next sign-in"
	}
	return "never"
}

// guards returns what must still be true of the entry for the actions, and
// for the attributes that the decision rested on.
func guards(d *directory.Dialect, actions []Action, rested []string, e *directory.Entry, server string) []Guard {
	g := &guarding{dialect: d, entry: e}
	for i := range actions {
		g.action(&actions[i])
	}
	for _, name := range rested {
		one := Guard{Attr: name, Rule: Equal, Values: OctetsOf(e.Get(name))}
		if id := directory.LookupAttr(name); slices.Contains(d.LastLogon, id) {
			one.Rule = NoLater
			if id == directory.AttrLastLogon {
				one.Server = server
			}
		}
		g.add(one)
	}
	return g.all
}

// guarding collects the guards of a line.
type guarding struct {
	dialect *directory.Dialect
	entry   *directory.Entry
	all     []Guard
}

// add adds a guard, unless there is one on the attribute.
func (g *guarding) add(one Guard) {
	known := func(h Guard) bool {
		return strings.EqualFold(h.Attr, one.Attr) && (h.Rule == one.Rule || !one.ofGroups())
	}
	if !slices.ContainsFunc(g.all, known) {
		g.all = append(g.all, one)
	}
}

// equal guards that attributes are as they are.
func (g *guarding) equal(ids ...directory.AttrID) {
	for _, id := range ids {
		g.add(Guard{Attr: id.String(), Rule: Equal, Values: OctetsOf(g.entry.Get(id.String()))})
	}
}

// action adds what an action rests on.
func (g *guarding) action(a *Action) {
	switch a.Name {
	case Disable, Enable:
		g.equal(g.dialect.Enabled...)
	case Unlock:
		g.equal(g.dialect.Locked...)
	case Move, Rename:
		g.add(containerGuard(g.entry))
	case Set, Add, Clear, Fill, Describe, Expire, Hide, LeaveRole:
		for _, m := range a.Put {
			g.add(Guard{Attr: m.Attr, Rule: Equal, Values: m.Old})
		}
	case ResetPassword:
		g.equal(g.dialect.Enabled...) // nobody who was disabled meanwhile gets a password
	case Unmark, Mark:
		for _, m := range a.Put {
			g.add(m.Guard(m.Old))
		}
	case SetHomeAside:
		g.equal(g.dialect.Enabled...) // nobody who was enabled meanwhile loses it
		for _, name := range append([]string{g.dialect.Logon.String()}, homeAttributes...) {
			g.add(Guard{Attr: name, Rule: Equal, Values: OctetsOf(g.entry.Get(name))})
		}
	case JoinGroup:
		g.add(groupsGuard(NotMember, a.Groups))
	case LeaveGroup:
		g.add(groupsGuard(IsMember, a.Groups))
	case LeaveGroups:
		one := groupsGuard(Groups, a.Groups)
		for _, dn := range a.Stays {
			one.Values = append(one.Values, Octets(dn))
		}
		g.add(one)
	case Delete:
		g.deletion()
	}
}

// deletion adds what deleting rests on.
func (g *guarding) deletion() {
	g.equal(g.dialect.Enabled...)
	g.add(containerGuard(g.entry))
	g.equal(g.dialect.Logon)
	switch kindOf(g.dialect, g.entry) {
	case directory.KindOU:
		if g.dialect == directory.AD {
			g.equal(directory.AttrGPLink) // that no policy is linked to it
		}
	case directory.KindGroup:
		g.equal(directory.AttrMember, directory.AttrUniqueMember, directory.AttrMemberUID) // that it is empty
	}
}

// elsewhere returns the guards on what other servers know of last sign-ins.
func elsewhere(servers []string, last directory.Moment) []Guard {
	var all []Guard
	for _, server := range servers {
		g := Guard{Attr: directory.AttrLastLogon.String(), Rule: NoLater, Server: server}
		if last.Known() {
			g.Values = []Octets{Octets(directory.FormatFileTime(last.Time()))}
		}
		all = append(all, g)
	}
	return all
}

func groupsGuard(rule Rule, groups []Membership) Guard {
	g := Guard{Attr: "groups", Rule: rule, Values: []Octets{}}
	for _, m := range groups {
		g.Values = append(g.Values, Octets(m.DN))
	}
	return g
}

func containerGuard(e *directory.Entry) Guard {
	_, parent := directory.SplitDN(e.DN)
	return Guard{Attr: "container", Rule: Container, Values: []Octets{Octets(parent)}}
}

func kindOf(d *directory.Dialect, e *directory.Entry) directory.Kind {
	a := d.Account(e)
	return a.Kind
}
