package directory

import (
	"fmt"
	"slices"
	"time"
)

// Dialect is how one family of servers stores what every check asks about.
type Dialect struct {
	Name     string
	Identity AttrID // the attribute that stays when an entry is renamed or moved
	Logon    AttrID // the attribute of the logon name
	// LastLogon are the attributes that record sign-ins.
	LastLogon []AttrID
	// Enabled, Expiry and Locked are the attributes from which these states
	// are told: one of each must be carried by some entry of a kind, or the
	// absence of all of them proves nothing for that kind.
	Enabled []AttrID
	Expiry  []AttrID
	Locked  []AttrID
	// PasswordSet, Created and Changed are the attributes that date these.
	PasswordSet []AttrID
	Created     AttrID
	Changed     AttrID
	// MustChange are the attributes that mark a password to be changed.
	MustChange []AttrID
	// EverybodyShowsState tells that each account carries the attributes of
	// Enabled and Expiry. Elsewhere an account without any of them may be
	// healthy.
	EverybodyShowsState bool
	// DomainPolicy tells that the domain's entry holds the password policy.
	DomainPolicy bool
	// KeepsLinks tells that the server itself takes away references to
	// entries that go.
	KeepsLinks bool

	// What else tells something by being absent: of accounts, of groups, and of
	// containers.
	accountTelling, groupTelling, placeTelling []AttrID

	marks    AttrSet  // an entry with one of them speaks this dialect
	ask      []AttrID // what to ask a server for, besides what all dialects share
	read     func(a *Account, e *Entry) (bad AttrSet)
	disabled func(s *Survey, a *Account, asOf time.Time) Answer
	locked   func(s *Survey, a *Account, asOf time.Time) Answer
}

// Dialects lists the dialects by name.
var Dialects = map[string]*Dialect{AD.Name: AD, OpenLDAP.Name: OpenLDAP, NS389.Name: NS389}

// DialectNames are the names, for messages.
const DialectNames = "ad, openldap or 389ds"

// DialectNamed returns a dialect by its name.
func DialectNamed(name string) (*Dialect, error) {
	if d := Dialects[name]; d != nil {
		return d, nil
	}
	return nil, fmt.Errorf("no dialect is called %q: use %s", name, DialectNames)
}

// DialectOf tells from the attributes that a file's entries carry which
// dialect they speak. What no other dialect has decides; the rest is taken
// for OpenLDAP.
func DialectOf(seen AttrSet) *Dialect {
	for _, d := range []*Dialect{AD, NS389} {
		if seen.Overlaps(d.marks) {
			return d
		}
	}
	return OpenLDAP
}

// commonTexts are the attributes whose values are compared as texts, on
// every dialect.
var commonTexts = []AttrID{AttrDisplayName, AttrGivenName, AttrSN, AttrMail, AttrTelephoneNumber, AttrMobile, AttrC,
	AttrL, AttrST, AttrCO, AttrCompany, AttrDepartment, AttrTitle, AttrPhysicalDeliveryOfficeName, AttrEmployeeID, AttrEmployeeNumber,
	AttrUserPrincipalName, AttrProxyAddresses}

// personTexts and machineTexts are what is kept of the texts of an account.
var (
	personTexts = Attrs(
		append(
			[]AttrID{AttrServicePrincipalName, AttrSIDHistory, AttrAllowedToDelegateTo, AttrGIDNumber},
			commonTexts...)...)
	machineTexts = Attrs(AttrMail, AttrProxyAddresses, AttrUserPrincipalName, AttrEmployeeID, AttrEmployeeNumber,
		AttrServicePrincipalName, AttrSIDHistory, AttrAllowedToDelegateTo, AttrOperatingSystem)
)

// commonAttributes are asked for on every dialect.
var commonAttributes = append(
	[]AttrID{AttrObjectClass, AttrManager, AttrSecretary, AttrManagedBy, AttrOwner, AttrMember, AttrUniqueMember,
		AttrGIDNumber, AttrMemberUID},
	commonTexts...)

// Attributes returns the names to ask a server for when its entries are to
// be judged, more of them among them. Secrets never are.
func (d *Dialect) Attributes(more AttrSet) []string {
	all := more
	for _, id := range slices.Concat(commonAttributes, d.ask) {
		all.Add(id)
	}
	var names []string
	for id := range all.All() {
		names = append(names, id.String())
	}
	return names
}

// Account reads an entry. The result's strings still point into the entry.
func (d *Dialect) Account(e *Entry) Account {
	var a Account
	d.fill(&a, e)
	return a
}

func (d *Dialect) fill(a *Account, e *Entry) (bad AttrSet) {
	a.DN = e.DN
	bad = d.read(a, e)
	if a.Kind == KindOther && d != AD {
		if class := d.GuessedClass(e); class != "" {
			a.Kind, a.Guessed = kindOf(openClasses, []string{class}), true
		}
	}
	if a.Logon == "" && a.Kind != KindOther {
		a.Logon = LeafValue(a.DN)
	}
	if a.Present.Has(AttrHidden) {
		a.Hidden = hiddenIn(e)
	}
	return bad
}

// classKind is an object class that tells an entry's kind. Of several the one
// with the highest rank counts.
type classKind struct {
	name string
	kind Kind
	rank int
}

func kindOf(table []classKind, classes []string) Kind {
	best, rank := KindOther, 0
	look := func(class string) {
		for i := range table {
			if c := &table[i]; c.rank > rank && equalFoldASCII(c.name, class) {
				best, rank = c.kind, c.rank
			}
		}
	}
	for _, class := range classes {
		look(class)
	}
	if best == KindOther {
		for _, class := range classes {
			for _, super := range superiors(class) {
				look(super)
			}
		}
	}
	return best
}

// ends are the attributes that tell when something ends, which may be never.
var ends = Attrs(AttrAccountExpires, AttrShadowExpire, AttrPwdEndTime, AttrPwdStartTime, AttrPasswordExpirationTime,
	AttrAccountUnlockTime, AttrPasswordExpiryComputed)

// readTime reads a moment and takes note of one that cannot be read.
func readTime(m Moment, bad *AttrSet) Moment {
	if m.Beyond() && !ends.Has(m.Attr()) {
		m = moment(0, m.Attr(), momentUnreadable)
	}
	if m.Unreadable() {
		bad.Add(m.Attr())
	}
	return m
}
