package directory

import (
	"encoding/binary"
	"fmt"
	"strconv"
	"strings"
	"time"
)

// Dialect is how one family of servers stores what every check asks about.
type Dialect struct {
	Name     string
	Identity AttrID // the attribute that stays when an entry is renamed or moved
	// LastLogon are the attributes that record sign-ins.
	LastLogon []AttrID
	// Enabled, Expiry and Locked are the attributes from which these states
	// are told: one of each must be carried by some entry of a kind, or the
	// absence of all of them proves nothing for that kind.
	Enabled []AttrID
	Expiry  []AttrID
	Locked  []AttrID
	// Operational attributes have to be asked for by name or with "+".
	Operational bool

	read func(a *Account, e *Entry)
}

// AD is the schema of Active Directory domain controllers, tested on Samba.
var AD = &Dialect{
	Name: "ad", Identity: AttrObjectGUID,
	LastLogon: []AttrID{AttrLastLogon, AttrLastLogonTimestamp},
	Enabled:   []AttrID{AttrUserAccountControl},
	Expiry:    []AttrID{AttrAccountExpires},
	Locked:    []AttrID{AttrLockoutTime},
	read:      readAD,
}

// OpenLDAP is slapd with the password policy overlay.
var OpenLDAP = &Dialect{
	Name: "openldap", Identity: AttrEntryUUID, Operational: true,
	LastLogon: []AttrID{AttrPwdLastSuccess, AttrAuthTimestamp},
	Enabled:   []AttrID{AttrPwdAccountLockedTime, AttrPwdStartTime, AttrPwdEndTime},
	Expiry:    []AttrID{AttrShadowExpire, AttrPwdEndTime},
	Locked:    []AttrID{AttrPwdAccountLockedTime},
	read:      readOpenLDAP,
}

// Dialects lists the dialects by name.
var Dialects = map[string]*Dialect{AD.Name: AD, OpenLDAP.Name: OpenLDAP}

// DialectNamed returns a dialect by its name.
func DialectNamed(name string) (*Dialect, error) {
	if d := Dialects[name]; d != nil {
		return d, nil
	}
	return nil, fmt.Errorf("no dialect is called %q: use ad or openldap", name)
}

var adMarks, nsMarks = marks(AttrObjectGUID, AttrObjectSID, AttrUserAccountControl), marks(AttrNsUniqueID)

func marks(ids ...AttrID) (s AttrSet) {
	for _, id := range ids {
		s.Add(id)
	}
	return s
}

// DialectOf tells from the attributes that a file's entries carry which
// dialect they speak: one objectGUID, objectSid or userAccountControl
// anywhere means ad, one nsUniqueId 389 DS, which this version cannot judge.
func DialectOf(seen AttrSet) (*Dialect, error) {
	overlap := func(m AttrSet) bool { return seen[0]&m[0] != 0 || seen[1]&m[1] != 0 }
	switch {
	case overlap(adMarks):
		return AD, nil
	case overlap(nsMarks):
		return nil, fmt.Errorf("these entries come from 389 Directory Server (nsUniqueId), which this version cannot judge; --dialect openldap reads what the two share")
	}
	return OpenLDAP, nil
}

// Attributes returns the names to ask a server for when its entries are to
// be judged. Secrets are never among them.
func (d *Dialect) Attributes() []string {
	names := []string{AttrObjectClass.String()}
	ids := []AttrID{AttrObjectGUID, AttrObjectSID, AttrSAMAccountName,
		AttrUserAccountControl, AttrUserAccountControlComputed, AttrLockoutTime, AttrLockoutDuration, AttrPSOLockoutDuration,
		AttrResultantPSO, AttrLastLogon, AttrLastLogonTimestamp, AttrLogonTimeSyncInterval, AttrWhenCreated,
		AttrPwdLastSet, AttrAccountExpires, AttrIsCriticalSystemObject, AttrSecondaryKrbTgtNumber, AttrRecipientTypeDetails,
		AttrMasterAccountSID}
	if d == OpenLDAP {
		ids = []AttrID{AttrEntryUUID, AttrUID, AttrCreateTimestamp, AttrPwdLastSuccess,
			AttrAuthTimestamp, AttrPwdAccountLockedTime, AttrPwdStartTime, AttrPwdEndTime, AttrPwdPolicySubentry,
			AttrPwdChangedTime, AttrPwdLockout, AttrPwdLockoutDuration, AttrShadowExpire}
	}
	for _, id := range ids {
		names = append(names, id.String())
	}
	return names
}

// Account reads an entry. The result's strings still point into the entry.
func (d *Dialect) Account(e *Entry) Account {
	a := Account{DN: e.DN}
	d.read(&a, e)
	return a
}

// resourceTypes are the bits of msExchRecipientTypeDetails for linked,
// shared, room, equipment, system, scheduling, discovery and arbitration
// mailboxes, and their remote forms.
const resourceTypes = 1<<1 | 1<<2 | 1<<4 | 1<<5 | 1<<13 | 1<<14 | 1<<23 | 1<<25 | 1<<29 | 1<<30 | 1<<33 | 1<<34 | 1<<35 | 1<<36 | 1<<39

func readAD(a *Account, e *Entry) {
	var resource, critical, secondaryKrbTgt bool
	for i := range e.Attrs {
		attr := &e.Attrs[i]
		if attr.ID == AttrUnknown || len(attr.Values) == 0 {
			continue
		}
		v := attr.Values[0]
		switch attr.ID {
		case AttrObjectClass:
			a.Kind = kindOfClasses(attr.Values)
		case AttrObjectGUID:
			a.ID = v
		case AttrObjectSID:
			a.RID = RID(v)
		case AttrSAMAccountName:
			a.Logon = v
		case AttrUserAccountControl:
			flags, err := ParseFlags(v)
			a.Flags, a.FlagsKnown = flags, err == nil
		case AttrUserAccountControlComputed:
			if flags, err := ParseFlags(v); err == nil {
				a.HasComputed, a.ComputedLock = true, flags&UACLockedOut != 0
			}
		case AttrLockoutTime:
			a.LockedAt = readTicks(v, attr.ID)
		case AttrResultantPSO:
			a.Policy = FoldDN(v)
		case AttrLastLogon:
			a.LastLogon = readTicks(v, attr.ID)
		case AttrLastLogonTimestamp:
			a.LastLogonTS = readTicks(v, attr.ID)
		case AttrWhenCreated:
			a.Created = readMoment(v, attr.ID, ParseGeneralizedTime)
		case AttrPwdLastSet:
			a.PasswordSet = readTicks(v, attr.ID)
		case AttrAccountExpires:
			a.Expires = readTicks(v, attr.ID)
		case AttrIsCriticalSystemObject:
			critical = v == "TRUE"
		case AttrSecondaryKrbTgtNumber:
			secondaryKrbTgt = true
		case AttrRecipientTypeDetails:
			n, _ := strconv.ParseInt(v, 10, 64)
			resource = resource || n&resourceTypes != 0
		case AttrMasterAccountSID:
			resource = true
		case AttrReplPropertyMetaData:
			a.FlagsSince = flagsChanged(v)
		}
	}
	a.BuiltIn = critical || secondaryKrbTgt || a.Kind.IsAccount() && a.RID >= 500 && a.RID <= 502
	switch {
	case a.Kind.IsAccount() && a.Flags&UACTrust != 0:
		a.Kind = KindTrust
	case a.Kind == KindUser && resource:
		a.Kind = KindResource
	}
	if a.Logon == "" && a.Kind != KindOther {
		a.Logon = LeafValue(a.DN)
	}
}

// adClasses are the classes that tell an entry's kind. The most telling one
// counts, since a computer is a user too and a managed service account a
// computer.
var adClasses = []struct {
	name string
	kind Kind
	rank int
}{
	{"user", KindUser, 1}, {"computer", KindComputer, 2}, {"msDS-ManagedServiceAccount", KindService, 3},
	{"msDS-GroupManagedServiceAccount", KindService, 3}, {"group", KindGroup, 1}, {"contact", KindContact, 1}, {"domainDNS", KindDomain, 1},
	{"organizationalUnit", KindOU, 1}, {"groupPolicyContainer", KindPolicyContainer, 1}, {"msDS-PasswordSettings", KindPasswordPolicy, 1},
}

func kindOfClasses(classes []string) Kind {
	best, rank := KindOther, 0
	for _, class := range classes {
		for i := range adClasses {
			if c := &adClasses[i]; c.rank > rank && equalFoldASCII(c.name, class) {
				best, rank = c.kind, c.rank
			}
		}
	}
	return best
}

// uacAttid is the attribute number of userAccountControl (MS-ADA3, by the
// prefix table of MS-DRSR 5.16.4).
const uacAttid = 0x00090008

// flagsChanged finds the last originating change of userAccountControl in a
// replPropertyMetaData value: a 16-byte header (version, count), then 48
// bytes an attribute: its number, version, time in seconds since 1601,
// invocation id and two sequence numbers.
func flagsChanged(raw string) Moment {
	b := []byte(raw)
	if len(b) < 16 || binary.LittleEndian.Uint32(b) != 1 {
		return Moment{Attr: AttrReplPropertyMetaData, state: momentUnreadable}
	}
	for b = b[16:]; len(b) >= 48; b = b[48:] {
		if binary.LittleEndian.Uint32(b) != uacAttid {
			continue
		}
		seconds := binary.LittleEndian.Uint64(b[8:])
		if seconds == 0 || seconds > 1<<40 {
			break
		}
		return Moment{ticks: int64(seconds) * 1e7, Attr: AttrReplPropertyMetaData, state: momentSet}
	}
	return Moment{}
}

// PermanentLockValue is the pwdAccountLockedTime that only an administrator
// ends (draft-behera-ldap-password-policy, section 5.3.3).
const PermanentLockValue = "000001010000Z"

func readOpenLDAP(a *Account, e *Entry) {
	var auth Moment
	for i := range e.Attrs {
		attr := &e.Attrs[i]
		if attr.ID == AttrUnknown || len(attr.Values) == 0 {
			continue
		}
		v := attr.Values[0]
		switch attr.ID {
		case AttrObjectClass:
			a.Kind = kindOfOpenClasses(attr.Values)
		case AttrEntryUUID:
			a.ID = v
		case AttrUID:
			a.Logon = v
		case AttrCreateTimestamp:
			a.Created = readMoment(v, attr.ID, ParseGeneralizedTime)
		case AttrPwdLastSuccess:
			a.LastLogon = readMoment(v, attr.ID, ParseGeneralizedTime)
		case AttrAuthTimestamp:
			auth = readMoment(v, attr.ID, ParseGeneralizedTime)
		case AttrPwdAccountLockedTime:
			if isPermanentLock(v) {
				a.PermanentLock, a.LockedAt = true, Moment{Attr: attr.ID, state: momentNone}
			} else {
				a.LockedAt = readMoment(v, attr.ID, ParseGeneralizedTime)
			}
		case AttrPwdStartTime:
			a.StartsAt = readMoment(v, attr.ID, ParseGeneralizedTime)
		case AttrPwdEndTime:
			a.ExpiresAlso = readMoment(v, attr.ID, ParseGeneralizedTime)
		case AttrPwdPolicySubentry:
			a.Policy = FoldDN(v)
		case AttrPwdChangedTime:
			a.PasswordSet = readMoment(v, attr.ID, ParseGeneralizedTime)
		case AttrShadowExpire:
			a.Expires = readMoment(v, attr.ID, parseShadowDays)
		}
	}
	if !a.LastLogon.Present() {
		a.LastLogon = auth
	}
	if a.Logon == "" && a.Kind != KindOther {
		a.Logon = LeafValue(a.DN)
	}
}

// isPermanentLock takes the value with seconds too, as some servers write it.
func isPermanentLock(v string) bool { return v == PermanentLockValue || v == "00000101000000Z" }

func kindOfOpenClasses(classes []string) Kind {
	best := KindOther
	for _, c := range classes {
		switch {
		case strings.EqualFold(c, "inetOrgPerson"), strings.EqualFold(c, "posixAccount"), strings.EqualFold(c, "account"):
			return KindUser
		case strings.EqualFold(c, "groupOfNames"), strings.EqualFold(c, "groupOfUniqueNames"), strings.EqualFold(c, "posixGroup"):
			best = KindGroup
		case strings.EqualFold(c, "organizationalUnit"):
			best = KindOU
		case strings.EqualFold(c, "pwdPolicy"):
			best = KindPasswordPolicy
		}
	}
	return best
}

// parseShadowDays reads days since 1970-01-01; zero and below mean never.
func parseShadowDays(s string) (time.Time, error) {
	days, err := strconv.ParseInt(s, 10, 64)
	if err != nil || days > 1<<22 {
		return time.Time{}, fmt.Errorf("%q is not a number of days", s)
	}
	if days <= 0 {
		return time.Time{}, nil
	}
	return time.Unix(days*86400, 0).UTC(), nil
}
