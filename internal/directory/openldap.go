package directory

import (
	"fmt"
	"slices"
	"strconv"
	"time"
)

// OpenLDAP is slapd with the password policy overlay.
var OpenLDAP = &Dialect{
	Name: "openldap", Identity: AttrEntryUUID, Logon: AttrUID,
	LastLogon:   []AttrID{AttrPwdLastSuccess, AttrAuthTimestamp},
	Enabled:     []AttrID{AttrPwdAccountLockedTime, AttrPwdStartTime, AttrPwdEndTime},
	Expiry:      []AttrID{AttrShadowExpire, AttrPwdEndTime},
	Locked:      []AttrID{AttrPwdAccountLockedTime},
	PasswordSet: []AttrID{AttrPwdChangedTime},
	Created:     AttrCreateTimestamp,
	Changed:     AttrModifyTimestamp,
	MustChange:  []AttrID{AttrPwdReset},

	accountTelling: append([]AttrID{AttrPwdPolicySubentry}, openAccountTelling...),
	groupTelling:   openGroupTelling,
	ask: []AttrID{AttrEntryUUID, AttrUID, AttrCreateTimestamp, AttrModifyTimestamp, AttrPwdLastSuccess,
		AttrAuthTimestamp, AttrPwdAccountLockedTime, AttrPwdStartTime, AttrPwdEndTime, AttrPwdPolicySubentry,
		AttrPwdChangedTime, AttrPwdReset, AttrPwdLockout, AttrPwdLockoutDuration, AttrPwdMaxAge, AttrShadowExpire, AttrMemberURL, AttrHasSubordinates},
	read:     readOpenLDAP,
	disabled: disabledOpenLDAP,
	locked:   lockedSince,
}

// PermanentLockValue is the pwdAccountLockedTime that only an administrator
// ends (draft-behera-ldap-password-policy, section 5.3.3).
const PermanentLockValue = "000001010000Z"

func readOpenLDAP(a *Account, e *Entry) (bad AttrSet) {
	var auth Moment
	for i := range e.Attrs {
		attr := &e.Attrs[i]
		if attr.ID == AttrUnknown || len(attr.Values) == 0 {
			continue
		}
		v := attr.Values[0]
		if readShared(a, attr, v, &bad) {
			continue
		}
		switch attr.ID {
		case AttrEntryUUID:
			a.ID = v
		case AttrPwdLastSuccess:
			a.LastLogon = readTime(readGeneralized(v, attr.ID), &bad)
		case AttrAuthTimestamp:
			auth = readTime(readGeneralized(v, attr.ID), &bad)
		case AttrPwdAccountLockedTime:
			if isPermanentLock(v) {
				a.PermanentLock, a.LockedAt = true, moment(0, attr.ID, momentNone)
			} else {
				a.LockedAt = readTime(readGeneralized(v, attr.ID), &bad)
			}
		case AttrPwdStartTime:
			a.extend().StartsAt = readTime(readGeneralized(v, attr.ID), &bad)
		case AttrPwdEndTime:
			a.extend().ExpiresAlso = readTime(readGeneralized(v, attr.ID), &bad)
		case AttrPwdChangedTime:
			a.PasswordSet = readTime(readGeneralized(v, attr.ID), &bad)
		case AttrPwdReset:
			a.MustChange = equalFoldASCII(v, "TRUE")
		}
	}
	if !a.LastLogon.Present() {
		a.LastLogon = auth
	}
	return bad
}

// readShared reads what OpenLDAP and 389 Directory Server have in common.
func readShared(a *Account, attr *Attribute, v string, bad *AttrSet) bool {
	a.Present.Add(attr.ID)
	switch attr.ID {
	case AttrObjectClass:
		a.Kind = kindOf(openClasses, attr.Values)
		a.Nameless = a.Kind == KindUser && !slices.ContainsFunc(attr.Values, isPerson)
	case AttrUID:
		a.Logon = v
	case AttrCreateTimestamp:
		a.Created = readTime(readGeneralized(v, attr.ID), bad)
	case AttrModifyTimestamp:
		a.Changed = readTime(readGeneralized(v, attr.ID), bad)
	case AttrPwdPolicySubentry:
		a.extend().Policy = FoldDN(v)
	case AttrShadowExpire:
		a.Expires = readTime(readMoment(v, attr.ID, parseShadowDays), bad)
	case AttrManager:
		a.Manager = KeyOf(v)
	case AttrGIDNumber:
		gid, err := strconv.ParseUint(v, 10, 32)
		if a.GID = uint32(gid); err != nil {
			bad.Add(attr.ID)
		}
	default:
		return false
	}
	return true
}

// isPerson tells of the classes whose entries may have a person's names.
func isPerson(class string) bool {
	return equalFoldASCII(class, "inetOrgPerson") || equalFoldASCII(class, "person") ||
		schemaStandard().DerivesFrom(class, "person")
}

// isPermanentLock takes the value with seconds too, as some servers write it.
func isPermanentLock(v string) bool { return v == PermanentLockValue || v == "00000101000000Z" }

var openClasses = []classKind{
	{"inetOrgPerson", KindUser, 2}, {"posixAccount", KindUser, 2}, {"account", KindUser, 2},
	{
		"groupOfNames",
		KindGroup,
		1,
	}, {"groupOfUniqueNames", KindGroup, 1}, {"posixGroup", KindGroup, 1}, {"groupOfURLs", KindGroup, 1},
	{"organizationalUnit", KindOU, 1}, {"pwdPolicy", KindPasswordPolicy, 1}, {"passwordPolicy", KindPasswordPolicy, 1},
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

func disabledOpenLDAP(s *Survey, a *Account, asOf time.Time) Answer {
	if a.Further().StartsAt.Known() && a.Further().StartsAt.Time().After(asOf) {
		return Answer{Yes: true, By: AttrPwdStartTime}
	}
	if a.Further().ExpiresAlso.Known() && !a.Further().ExpiresAlso.Time().After(asOf) {
		return Answer{Yes: true, By: AttrPwdEndTime}
	}
	if a.PermanentLock {
		p, known := s.policy(a)
		return Answer{Yes: p.Lockout || !known, Likely: !known, By: AttrPwdAccountLockedTime}
	}
	return Answer{Likely: !s.Shows(a.Kind, s.Dialect.Enabled...), By: AttrPwdAccountLockedTime}
}
