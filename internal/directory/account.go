package directory

import (
	"strconv"
	"strings"
	"time"
)

// Kind tells what an entry is to an auditor.
type Kind uint8

// The kinds. KindTrust is an interdomain trust account, nobody's account.
// KindResource is a mailbox of a room, a machine or a team, disabled by
// design.
const (
	KindOther Kind = iota
	KindUser
	KindService
	KindComputer
	KindResource
	KindTrust
	KindGroup
	KindContact
	KindOU
	KindPolicyContainer
	KindDomain
	KindPasswordPolicy
	kindCount
)

var kindNames = [kindCount]string{"other", "user", "service", "computer", "resource", "trust", "group", "contact", "ou", "policy", "domain", "password-policy"}

func (k Kind) String() string { return kindNames[k] }

// IsAccount tells whether an entry of the kind can sign in.
func (k Kind) IsAccount() bool { return k >= KindUser && k <= KindTrust }

// Moment is a time that an attribute shows, or the knowledge that it shows
// none. The zero Moment is an absent attribute.
type Moment struct {
	ticks int64 // 100 ns since 1601-01-01 UTC
	Attr  AttrID
	state momentState
}

type momentState uint8

const (
	momentAbsent momentState = iota
	momentNone               // the attribute is there and says "never"
	momentSet
	momentUnreadable
)

// MomentOf makes a Moment of a time, as if attr had shown it.
func MomentOf(t time.Time, attr AttrID) Moment {
	if t.IsZero() {
		return Moment{Attr: attr, state: momentNone}
	}
	return Moment{ticks: (t.Unix()-fileTimeEpoch)*1e7 + int64(t.Nanosecond()/100), Attr: attr, state: momentSet}
}

// readTicks reads a file time as ParseFileTime does, without the way through
// a time.Time, since a large directory has millions of them.
func readTicks(value string, attr AttrID) Moment {
	if value == "0" {
		return Moment{Attr: attr, state: momentNone}
	}
	ticks, err := strconv.ParseInt(value, 10, 64)
	switch {
	case err != nil || ticks < 0:
		return Moment{Attr: attr, state: momentUnreadable}
	case ticks == 0 || ticks == NeverExpires:
		return Moment{Attr: attr, state: momentNone}
	}
	return Moment{ticks: ticks, Attr: attr, state: momentSet}
}

func readMoment(value string, attr AttrID, parse func(string) (time.Time, error)) Moment {
	t, err := parse(value)
	if err != nil {
		return Moment{Attr: attr, state: momentUnreadable}
	}
	return MomentOf(t, attr)
}

// Known tells whether the moment is a time.
func (m Moment) Known() bool { return m.state == momentSet }

// Present tells whether the attribute was there, whatever it said.
func (m Moment) Present() bool { return m.state != momentAbsent }

// Unreadable tells whether the attribute was there and could not be read.
func (m Moment) Unreadable() bool { return m.state == momentUnreadable }

// Time returns the moment in UTC, the zero time where it is not known.
func (m Moment) Time() time.Time {
	if m.state != momentSet {
		return time.Time{}
	}
	return time.Unix(fileTimeEpoch+m.ticks/1e7, m.ticks%1e7*100).UTC()
}

// Account is the one normalised view of an entry. It holds what the
// attributes say; what follows from it together with the policies of the
// directory and the time of the audit, the Survey answers.
type Account struct {
	Kind  Kind
	DN    string
	Logon string
	ID    string // raw value of the dialect's identity attribute
	RID   uint32

	BuiltIn       bool
	FlagsKnown    bool // userAccountControl was there and could be read
	PermanentLock bool // the lock value that no time ends (OpenLDAP, ppolicy)
	ComputedLock  bool // the server's own word that the account is locked now
	HasComputed   bool // the server gave its word at all
	Flags         int64
	Policy        string // folded DN of the password policy named by the entry, or ""

	LockedAt    Moment
	LastLogon   Moment // of this server
	LastLogonTS Moment // replicated, late (ad only)
	Created     Moment
	PasswordSet Moment
	Expires     Moment
	ExpiresAlso Moment // a second expiry: pwdEndTime
	StartsAt    Moment // before it the account is disabled: pwdStartTime
	FlagsSince  Moment // when userAccountControl was last changed
}

// Name returns what to call the account: its logon name, or its DN.
func (a *Account) Name() string {
	if a.Logon != "" {
		return a.Logon
	}
	return a.DN
}

// compact moves the strings of an account out of the block they were read
// from, into one small allocation.
func (a *Account) compact() {
	n, m, k := len(a.DN), len(a.Logon), len(a.ID)
	var b strings.Builder
	b.Grow(n + m + k)
	b.WriteString(a.DN)
	b.WriteString(a.Logon)
	b.WriteString(a.ID)
	s := b.String()
	a.DN, a.Logon, a.ID = s[:n], s[n:n+m], s[n+m:]
}
