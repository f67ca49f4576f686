package directory

import (
	"cmp"
	"encoding/binary"
	"iter"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"
)

// AD is the schema of Active Directory domain controllers, tested on Samba.
var AD = &Dialect{
	Name: "ad", Identity: AttrObjectGUID, Logon: AttrSAMAccountName,
	LastLogon:           []AttrID{AttrLastLogon, AttrLastLogonTimestamp},
	Enabled:             []AttrID{AttrUserAccountControl},
	Expiry:              []AttrID{AttrAccountExpires},
	Locked:              []AttrID{AttrLockoutTime},
	PasswordSet:         []AttrID{AttrPwdLastSet},
	Created:             AttrWhenCreated,
	Changed:             AttrWhenChanged,
	MustChange:          []AttrID{AttrPwdLastSet},
	EverybodyShowsState: true,
	DomainPolicy:        true,
	KeepsLinks:          true,
	accountTelling:      adAccountTelling,
	groupTelling:        []AttrID{AttrMember},
	placeTelling:        []AttrID{AttrGPLink},
	marks:               Attrs(AttrObjectGUID, AttrObjectSID, AttrUserAccountControl),
	ask: []AttrID{AttrObjectGUID, AttrObjectSID, AttrSAMAccountName,
		AttrUserAccountControl, AttrUserAccountControlComputed, AttrLockoutTime, AttrLockoutDuration, AttrPSOLockoutDuration,
		AttrResultantPSO, AttrLastLogon, AttrLastLogonTimestamp, AttrLogonTimeSyncInterval, AttrWhenCreated, AttrWhenChanged,
		AttrPwdLastSet, AttrAccountExpires, AttrIsCriticalSystemObject, AttrSecondaryKrbTgtNumber, AttrRecipientTypeDetails,
		AttrMasterAccountSID, AttrPrimaryGroupID, AttrAdminCount, AttrSIDHistory, AttrServicePrincipalName, AttrAllowedToDelegateTo,
		AttrAllowedToAct, AttrPasswordExpiryComputed, AttrMaxPwdAge, AttrPSOMaximumPasswordAge, AttrOperatingSystem, AttrGroupType,
		AttrGPLink, AttrWellKnownObjects, AttrOtherWellKnownObjects},
	read:     readAD,
	disabled: disabledAD,
	locked:   lockedAD,
}

// LatestLogon writes a sign-in that another server than the first knows of,
// for a kept survey: the server's place in the list of those that were asked,
// and the file time. It is kept beside lastLogon, with an option of its own
// (RFC 4512, section 2.5.2).
func LatestLogon(server int, m Moment) (name, value string) {
	return AttrLatestLogon.String(), strconv.Itoa(server) + " " + FormatFileTime(m.Time())
}

func readLatest(value string, own Moment) (Moment, uint8) {
	place, ticks, _ := strings.Cut(value, " ")
	n, err := strconv.ParseUint(place, 10, 8)
	if m := readTicks(ticks, AttrLastLogon); err == nil && m.After(own) {
		return m, uint8(n)
	}
	return own, 0
}

// resourceTypes are the bits of msExchRecipientTypeDetails for linked,
// shared, room, equipment, system, scheduling, discovery and arbitration
// mailboxes, and their remote forms.
const resourceTypes = 1<<1 | 1<<2 | 1<<4 | 1<<5 | 1<<13 | 1<<14 | 1<<23 | 1<<25 | 1<<29 | 1<<30 | 1<<33 | 1<<34 | 1<<35 | 1<<36 | 1<<39

func readAD(a *Account, e *Entry) (bad AttrSet) {
	var resource, critical, secondaryKrbTgt, server bool
	var latest string
	for i := range e.Attrs {
		attr := &e.Attrs[i]
		if attr.ID == AttrUnknown || len(attr.Values) == 0 {
			continue
		}
		a.Present.Add(attr.ID)
		v := attr.Values[0]
		switch attr.ID {
		case AttrObjectClass:
			a.Kind = kindOf(adClasses, attr.Values)
		case AttrObjectGUID:
			a.ID = v
		case AttrObjectSID:
			if a.RID = RID(v); a.RID == 0 {
				bad.Add(attr.ID)
			}
		case AttrSAMAccountName:
			a.Logon = v
		case AttrUserAccountControl:
			flags, err := ParseFlags(v)
			if a.Flags, a.FlagsKnown = flags, err == nil; err != nil {
				bad.Add(attr.ID)
			}
		case AttrUserAccountControlComputed:
			if flags, err := ParseFlags(v); err == nil {
				a.HasComputed, a.ComputedLock = true, flags&UACLockedOut != 0
			}
		case AttrLockoutTime:
			a.LockedAt = readTime(readTicks(v, attr.ID), &bad)
		case AttrResultantPSO:
			a.extend().Policy = FoldDN(v)
		case AttrLastLogon:
			a.LastLogon = readTime(readTicks(v, attr.ID), &bad)
		case AttrLatestLogon:
			latest, server = v, true
		case AttrLastLogonTimestamp:
			a.LastLogonTS = readTime(readTicks(v, attr.ID), &bad)
		case AttrWhenCreated:
			a.Created = readTime(readGeneralized(v, attr.ID), &bad)
		case AttrWhenChanged:
			a.Changed = readTime(readGeneralized(v, attr.ID), &bad)
		case AttrPwdLastSet:
			a.PasswordSet = readTime(readTicks(v, attr.ID), &bad)
			a.MustChange = a.PasswordSet.state() == momentNone
		case AttrPasswordExpiryComputed:
			a.extend().PasswordExpires = readTime(readTicks(v, attr.ID), &bad)
		case AttrAccountExpires:
			a.Expires = readTime(readTicks(v, attr.ID), &bad)
		case AttrPrimaryGroupID:
			rid, err := strconv.ParseUint(v, 10, 32)
			if a.PrimaryGroup = uint32(rid); err != nil {
				bad.Add(attr.ID)
			}
		case AttrAdminCount:
			n, err := strconv.ParseInt(v, 10, 64)
			if a.Marked = n == 1; err != nil {
				bad.Add(attr.ID)
			}
		case AttrGroupType:
			if _, err := strconv.ParseInt(v, 10, 64); err != nil {
				bad.Add(attr.ID)
			}
		case AttrManager:
			a.Manager = KeyOf(v)
		case AttrIsCriticalSystemObject:
			critical = v == "TRUE"
		case AttrSecondaryKrbTgtNumber:
			secondaryKrbTgt = true
		case AttrRecipientTypeDetails:
			n, err := strconv.ParseInt(v, 10, 64)
			if resource = resource || n&resourceTypes != 0; err != nil {
				bad.Add(attr.ID)
			}
		case AttrMasterAccountSID:
			resource = true
		case AttrReplPropertyMetaData:
			more := a.extend()
			more.FlagsSince, more.NamedSince = lastChanged(v, uacAttid), lastChanged(v, nameAttid)
		}
	}
	if server {
		a.LastLogon, a.LogonServer = readLatest(latest, a.LastLogon)
	}
	a.settleAD(critical, secondaryKrbTgt, resource)
	return bad
}

// settleAD tells what an account is from all that was read of it: whether it is
// marked as a system object, the key account of a read-only controller, or a
// resource.
func (a *Account) settleAD(critical, secondaryKrbTgt, resource bool) {
	account := a.Kind.IsAccount()
	a.BuiltIn = critical || secondaryKrbTgt || account && a.RID >= 500 && a.RID <= 502
	a.KeyAccount = account && (secondaryKrbTgt || a.RID == 502)
	switch {
	case account && a.Flags&UACTrust != 0:
		a.Kind = KindTrust
	case a.Kind == KindUser && resource:
		a.Kind = KindResource
	}
}

// adClasses are the classes that tell an entry's kind. The most telling one
// counts, since a computer is a user too and a managed service account a
// computer.
var adClasses = []classKind{
	{"user", KindUser, 1}, {"computer", KindComputer, 2}, {"msDS-ManagedServiceAccount", KindService, 3},
	{
		"msDS-GroupManagedServiceAccount",
		KindService,
		3,
	}, {"group", KindGroup, 1}, {"contact", KindContact, 1}, {"domainDNS", KindDomain, 1},
	{
		"organizationalUnit",
		KindOU,
		1,
	}, {"groupPolicyContainer", KindPolicyContainer, 1}, {"msDS-PasswordSettings", KindPasswordPolicy, 1},
	{"foreignSecurityPrincipal", KindForeign, 1},
}

// The numbers of attributes in replication metadata (MS-ADA3, by the prefix
// table of MS-DRSR 5.16.4).
const (
	uacAttid      = 0x00090008 // userAccountControl
	passwordAttid = 0x0009005A // unicodePwd
	nameAttid     = 0x00090001 // name, which a move changes too
)

// change is the last originating change of an attribute, as a replPropertyMetaData value
// has it.
type change struct {
	attid, version uint32
	seconds        uint64 // since 1601
	invocation     string
	local          uint64 // number of the change on the server that was asked
}

// dated reads the changes of a replPropertyMetaData value: a 16-byte header (version,
// count), then 48 bytes an attribute: its number, version, time in seconds since 1601,
// invocation id and two sequence numbers. Well is false for a value of another form.
func dated(raw string) (all iter.Seq[change], well bool) {
	b := []byte(raw)
	if len(b) < 16 || binary.LittleEndian.Uint32(b) != 1 {
		return func(func(change) bool) {}, false
	}
	return func(yield func(change) bool) {
		for at := 16; len(b) >= at+48; at += 48 {
			one := b[at:]
			if !yield(change{binary.LittleEndian.Uint32(one), binary.LittleEndian.Uint32(one[4:]), binary.LittleEndian.Uint64(one[8:]), raw[at+16 : at+32],
				binary.LittleEndian.Uint64(one[40:])}) {
				return
			}
		}
	}, true
}

// changedLast finds the last originating change of an attribute in a
// replPropertyMetaData value. Well is false for a value of another form.
func changedLast(raw string, attid uint32) (version uint32, seconds uint64, well bool) {
	all, well := dated(raw)
	for c := range all {
		if c.attid == attid {
			return c.version, c.seconds, true
		}
	}
	return 0, 0, well
}

// lastChanged dates the last change of an attribute.
func lastChanged(raw string, attid uint32) Moment {
	_, seconds, well := changedLast(raw, attid)
	switch {
	case !well:
		return moment(0, AttrReplPropertyMetaData, momentUnreadable)
	case seconds == 0 || seconds > 1<<40:
		return 0
	}
	return moment(seconds*1e6, AttrReplPropertyMetaData, momentSet)
}

// PasswordVersion tells how often a password was set, by the replication metadata
// of its account; 0 where that does not say.
func PasswordVersion(metadata string) uint32 {
	version, _, _ := changedLast(metadata, passwordAttid)
	return version
}

func disabledAD(_ *Survey, a *Account, _ time.Time) Answer {
	return Answer{Yes: a.FlagsKnown && a.Flags&UACDisabled != 0, Likely: !a.FlagsKnown, By: AttrUserAccountControl}
}

// lockedAD takes the server's own word only where asOf is the survey's own
// time.
func lockedAD(s *Survey, a *Account, asOf time.Time) Answer {
	if a.HasComputed && !s.Taken.IsZero() && asOf.Equal(s.Taken) {
		return Answer{Yes: a.ComputedLock, By: AttrUserAccountControlComputed}
	}
	return lockedSince(s, a, asOf)
}

// The identities that stand for many: everyone, anonymous, authenticated
// users (MS-DTYP 2.4.2.4).
var everybody = map[string]string{"S-1-1-0": "everyone", "S-1-5-7": "anonymous", "S-1-5-11": "every authenticated user"}

// Everybody tells whom an identity that stands for many stands for, "" where
// it stands for one. Of the domain's own groups, these hold all its users,
// guests and computers.
func Everybody(sid string) string {
	if who := everybody[sid]; who != "" {
		return who
	}
	if strings.HasPrefix(sid, "S-1-5-21-") {
		switch {
		case strings.HasSuffix(sid, "-513"):
			return "every user of the domain"
		case strings.HasSuffix(sid, "-514"):
			return "every guest of the domain"
		case strings.HasSuffix(sid, "-515"):
			return "every computer of the domain"
		}
	}
	return ""
}

// builtinSID begins the identities of the groups that every domain
// controller has for itself.
const builtinSID = "S-1-5-32-"

// PrivilegedSID tells whether the group with this identity, in its S-1-…
// form, gives power over a domain.
func PrivilegedSID(sid string) bool {
	if rid, ok := strings.CutPrefix(sid, builtinSID); ok {
		switch rid {
		case "544", "548", "549", "550", "551", "552":
			return true
		}
		return false
	}
	return strings.HasPrefix(sid, "S-1-5-21-") && PrivilegedRID(sid[strings.LastIndexByte(sid, '-')+1:])
}

// PrivilegedRID tells the same of a group of the domain itself by the last
// number of its identity, in decimal, as primaryGroupID holds it.
func PrivilegedRID(rid string) bool {
	switch rid {
	case "512", "518", "519", "520", "526", "527":
		return true
	}
	return false
}

// IsBuiltinSID tells whether an identity is of the domain controllers' own
// groups.
func IsBuiltinSID(sid string) bool { return strings.HasPrefix(sid, builtinSID) }

// SecurityEnabled is the bit of groupType (MS-ADTS 2.2.12) of a group that
// gives rights, not mail only.
const securityEnabled = 0x80000000

// GivesRights tells from groupType whether membership gives rights; a group
// without the attribute does.
func GivesRights(groupType string) bool {
	if groupType == "" {
		return true
	}
	n, err := strconv.ParseInt(groupType, 10, 64)
	return err != nil || n&securityEnabled != 0
}

// attids are the attributes whose last change is told by the replication metadata (the
// prefix table of MS-DRSR 5.16.4).
var attids = map[string]uint32{
	"userAccountControl": uacAttid, "unicodePwd": passwordAttid, "lockoutTime": 0x00090296, "pwdLastSet": 0x00090060, "accountExpires": 0x0009009F,
	"sAMAccountName": 0x000900DD, "userPrincipalName": 0x00090290, "name": nameAttid, "whenCreated": 0x00020002, "adminCount": 0x00090096,
}

// AttributeChange is the last originating change of an attribute.
type AttributeChange struct {
	Attr       string
	Version    uint32 // how often it was changed
	At         time.Time
	Invocation string // raw id of the database of the server at which it was changed
}

// Changed lists the last changes of those attributes that say most of an account, by a
// replPropertyMetaData value, the latest first; none for a value of another form.
func Changed(metadata string) (all []AttributeChange) {
	changes, _ := dated(metadata)
	for c := range changes {
		for name, id := range attids {
			if c.attid == id && c.seconds > 0 && c.seconds < 1<<40 {
				all = append(all, AttributeChange{name, c.version, time.Unix(fileTimeEpoch+int64(c.seconds), 0).UTC(), c.invocation})
			}
		}
	}
	slices.SortFunc(all, func(a, b AttributeChange) int { return cmp.Or(b.At.Compare(a.At), strings.Compare(a.Attr, b.Attr)) })
	return all
}

// accessListAttid is the number of nTSecurityDescriptor.
const accessListAttid = 0x00020119

// AccessListChangedSince tells by a replPropertyMetaData value whether the access list of
// an entry was changed on the server behind a sequence number; true also where the value
// does not say.
func AccessListChangedSince(metadata string, number uint64) bool {
	changes, _ := dated(metadata)
	for c := range changes {
		if c.attid == accessListAttid {
			return c.local > number
		}
	}
	return true
}

// DatedAttributes are those whose last changes Changed lists.
func DatedAttributes() []string { return slices.Sorted(maps.Keys(attids)) }
