package directory

import (
	"strconv"
	"time"
)

// NS389 is 389 Directory Server with its own password policy.
var NS389 = &Dialect{
	Name: "389ds", Identity: AttrNsUniqueID, Logon: AttrUID,
	LastLogon:   []AttrID{AttrLastLoginTime},
	Enabled:     []AttrID{AttrNsAccountLock},
	Expiry:      []AttrID{AttrShadowExpire},
	Locked:      []AttrID{AttrAccountUnlockTime},
	PasswordSet: []AttrID{AttrPwdUpdateTime, AttrPasswordExpirationTime},
	Created:     AttrCreateTimestamp,
	Changed:     AttrModifyTimestamp,
	MustChange:  []AttrID{AttrPasswordExpirationTime},

	accountTelling: append([]AttrID{AttrPwdPolicySubentry}, openAccountTelling...),
	groupTelling:   openGroupTelling,
	marks:          Attrs(AttrNsUniqueID, AttrNsAccountLock, AttrAccountUnlockTime, AttrLastLoginTime),
	ask: []AttrID{
		AttrNsUniqueID,
		AttrUID,
		AttrCreateTimestamp,
		AttrModifyTimestamp,
		AttrNsAccountLock,
		AttrAccountUnlockTime,
		AttrPasswordRetryCount,
		AttrLastLoginTime,
		AttrPwdUpdateTime,
		AttrPasswordExpirationTime,
		AttrPwdPolicySubentry,
		AttrPasswordMaxAge,
		AttrPasswordMaxFailure,
		AttrPasswordExp,
		AttrShadowExpire,
		AttrMemberURL,
		AttrNumSubordinates,
	},
	read:     readNS389,
	disabled: disabledNS389,
	locked:   lockedNS389,
}

// epochMark is the value that this server writes for "for ever" (a lock) and
// for "at once" (a password that must be changed).
const epochMark = "19700101000000Z"

func readNS389(a *Account, e *Entry) (bad AttrSet) {
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
		case AttrNsUniqueID:
			a.ID = v
		case AttrNsAccountLock:
			a.PermanentLock = equalFoldASCII(v, "true")
		case AttrAccountUnlockTime:
			a.extend().LockEnds = readTime(readGeneralized(v, attr.ID), &bad)
		case AttrPasswordRetryCount:
			n, err := strconv.ParseUint(v, 10, 16)
			if a.Retries = uint16(n); err != nil {
				bad.Add(attr.ID)
			}
		case AttrLastLoginTime:
			a.LastLogon = readTime(readGeneralized(v, attr.ID), &bad)
		case AttrPwdUpdateTime:
			a.PasswordSet = readTime(readGeneralized(v, attr.ID), &bad)
		case AttrPasswordExpirationTime:
			if v == epochMark {
				a.MustChange, a.extend().PasswordExpires = true, moment(0, attr.ID, momentNone)
			} else {
				a.extend().PasswordExpires = readTime(readGeneralized(v, attr.ID), &bad)
			}
		}
	}
	return bad
}

// disabledNS389 answers by nsAccountLock, which the server shows for its
// roles too when it is asked for by name.
func disabledNS389(s *Survey, a *Account, _ time.Time) Answer {
	return Answer{
		Yes:    a.PermanentLock,
		Likely: !a.PermanentLock && !s.Shows(a.Kind, AttrNsAccountLock),
		By:     AttrNsAccountLock,
	}
}

func lockedNS389(s *Survey, a *Account, asOf time.Time) Answer {
	answer := Answer{By: AttrAccountUnlockTime}
	switch {
	case !a.Further().LockEnds.Known():
	case a.Further().LockEnds.Time().Unix() == 0: // for ever, once there were too many wrong passwords
		p, known := s.policy(a)
		if !known || p.MaxFailure == 0 {
			answer.Yes, answer.Likely = true, true
		} else {
			answer.Yes = int(a.Retries) >= p.MaxFailure
		}
	default:
		answer.Yes = a.Further().LockEnds.Time().After(asOf)
	}
	return answer
}
