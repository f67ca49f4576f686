package directory

import "strings"

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
	KindForeign // stands for an identity outside the domain, or for everybody
	KindExemption
	KindPerson // of a roster
	KindSource // where sign-ins come from, or a name in them that no account has
	kindCount
)

var kindNames = [kindCount]string{
	"other",
	"user",
	"service",
	"computer",
	"resource",
	"trust",
	"group",
	"contact",
	"ou",
	"policy",
	"domain",
	"password-policy",
	"foreign",
	"exemption",
	"person",
	"source",
}

func (k Kind) String() string { return kindNames[k] }

// IsAccount tells whether an entry of the kind can sign in.
func (k Kind) IsAccount() bool { return k >= KindUser && k <= KindTrust }

// IsEntry tells whether what is of the kind stands in the directory.
func (k Kind) IsEntry() bool { return k != KindExemption && k != KindPerson && k != KindSource }

// Subject is what a finding is about: an entry with its names and identity.
type Subject struct {
	Kind    Kind
	BuiltIn bool
	RID     uint32
	Key     Key // of the DN
	DN      string
	Logon   string
	ID      string // raw value of the dialect's identity attribute
	// Hidden are attributes that it does not show, and that whoever read it may
	// not read of it: their absence proves nothing.
	Hidden AttrSet
}

// Name returns what to call the entry: its logon name, or its DN.
func (s *Subject) Name() string {
	if s.Logon != "" {
		return s.Logon
	}
	return s.DN
}

// clone moves the strings out of the block they were read from.
func (s Subject) clone() Subject {
	s.DN, s.Logon, s.ID = strings.Clone(s.DN), strings.Clone(s.Logon), strings.Clone(s.ID)
	return s
}

// named is clone for an entry of any kind: what has no logon name is called
// by the value in its own name.
func (s Subject) named() Subject {
	if s.Logon == "" {
		s.Logon = LeafValue(s.DN)
	}
	return s.clone()
}

// Account is the one normalised view of an entry. It holds what the
// attributes say; what follows from it together with the policies of the
// directory and the time of the audit, the Survey answers.
type Account struct {
	Subject
	KeyAccount    bool   // its password protects all tickets of the domain
	FlagsKnown    bool   // userAccountControl was there and could be read
	PermanentLock bool   // switched off by the lock value that no time ends (OpenLDAP), or by nsAccountLock
	ComputedLock  bool   // the server's own word that the account is locked now
	HasComputed   bool   // the server gave its word at all
	MustChange    bool   // the password must be changed at the next logon
	Marked        bool   // adminCount is 1
	Guessed       bool   // of its kind by what it carries, since nothing is known of its classes
	Nameless      bool   // of no class of persons, so that it cannot have a person's names
	LogonServer   uint8  // which of the servers asked showed LastLogon, from 1; 0 for the survey's own
	Retries       uint16 // wrong passwords so far, where the server shows it
	PrimaryGroup  uint32 // RID of its primary group (ad)
	GID           uint32 // gidNumber, where Present has it
	Flags         int64
	Manager       Key     // of the name in manager; zero for none
	Present       AttrSet // the attributes that the entry carries
	Text          Texts   // values of the attributes that are compared as texts

	LockedAt    Moment
	LastLogon   Moment // of this server, or of all that were asked
	LastLogonTS Moment // replicated, late (ad only)
	Created     Moment
	Changed     Moment
	PasswordSet Moment
	Expires     Moment

	further *Further
}

// Further is what files of accounts mostly do not hold, nor all servers show.
type Further struct {
	Policy          string // folded DN of the password policy named by the entry, or ""
	LockEnds        Moment // where the server shows the end of a lock instead of its begin
	PasswordExpires Moment // the server's own word
	ExpiresAlso     Moment // a second expiry: pwdEndTime
	StartsAt        Moment // before it the account is disabled: pwdStartTime
	FlagsSince      Moment // when userAccountControl was last changed
	NamedSince      Moment // when its name or place was last changed
}

// Further returns what else is known of the account.
func (a *Account) Further() Further {
	if a.further == nil {
		return Further{}
	}
	return *a.further
}

// extend is where an account that is being read takes what else is known of it.
func (a *Account) extend() *Further {
	if a.further == nil {
		a.further = &Further{}
	}
	return a.further
}

// SetFlagsSince says when userAccountControl was last changed.
func (a *Account) SetFlagsSince(m Moment) {
	more := a.Further()
	more.FlagsSince = m
	a.further = &more
}

// Times are the moments that lie in the past if they are right.
func (a *Account) Times() [7]Moment {
	return [...]Moment{a.LastLogon, a.LastLogonTS, a.Created, a.PasswordSet, a.LockedAt, a.Changed, a.Further().FlagsSince}
}

// compact moves the strings of an account out of the block they were read
// from, together with the texts to keep of the entry. The buffer is the
// caller's, to be used again.
func (a *Account) compact(e *Entry, keep AttrSet, words *Words, into *arena, buf []byte) []byte {
	buf = append(buf[:0], a.DN...)
	buf = append(buf, a.Logon...)
	buf = append(buf, a.ID...)
	n, m, k := len(a.DN), len(a.Logon), len(a.ID)
	for i := range e.Attrs {
		if attr := &e.Attrs[i]; attr.ID != AttrUnknown && keep.Has(attr.ID) {
			for _, v := range attr.Values {
				buf = appendText(buf, attr.ID, v, words)
			}
		}
	}
	s := into.keep(buf)
	a.DN, a.Logon, a.ID, a.Text = s[:n], s[n:n+m], s[n+m:n+m+k], Texts{s[n+m+k:], words}
	return buf
}

// arena keeps many short texts in few large allocations.
type arena struct{ chunk *strings.Builder }

// arenaChunk is small beside the texts of one part, since what is left of the last is lost.
const arenaChunk = 8 << 10

// keep returns a copy of the text. What a chunk holds already is never
// changed or moved, since it is not filled beyond its capacity.
func (a *arena) keep(text []byte) string {
	if a.chunk == nil || a.chunk.Cap()-a.chunk.Len() < len(text) {
		a.chunk = &strings.Builder{}
		a.chunk.Grow(max(arenaChunk, len(text)))
	}
	at := a.chunk.Len()
	a.chunk.Write(text)
	return a.chunk.String()[at:]
}
