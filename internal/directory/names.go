package directory

// AttrID is a small number for an attribute that the tool looks at, so that
// a million entries are judged without comparing a million names.
type AttrID uint8

// The attributes that the normalised view of an account is made from.
const (
	AttrUnknown AttrID = iota
	AttrObjectClass
	AttrObjectGUID
	AttrObjectSID
	AttrEntryUUID
	AttrNsUniqueID
	AttrUID
	AttrSAMAccountName
	AttrUserAccountControl
	AttrUserAccountControlComputed
	AttrLockoutTime
	AttrLockoutDuration
	AttrPSOLockoutDuration
	AttrResultantPSO
	AttrLastLogon
	AttrLastLogonTimestamp
	AttrLogonTimeSyncInterval
	AttrWhenCreated
	AttrPwdLastSet
	AttrAccountExpires
	AttrIsCriticalSystemObject
	AttrSecondaryKrbTgtNumber
	AttrRecipientTypeDetails
	AttrMasterAccountSID
	AttrReplPropertyMetaData
	AttrCreateTimestamp
	AttrPwdLastSuccess
	AttrAuthTimestamp
	AttrPwdAccountLockedTime
	AttrPwdStartTime
	AttrPwdEndTime
	AttrPwdPolicySubentry
	AttrPwdChangedTime
	AttrPwdLockout
	AttrPwdLockoutDuration
	AttrShadowExpire
	attrCount
)

var attrNames = [attrCount]string{
	AttrObjectClass:                "objectClass",
	AttrObjectGUID:                 "objectGUID",
	AttrObjectSID:                  "objectSid",
	AttrEntryUUID:                  "entryUUID",
	AttrNsUniqueID:                 "nsUniqueId",
	AttrUID:                        "uid",
	AttrSAMAccountName:             "sAMAccountName",
	AttrUserAccountControl:         "userAccountControl",
	AttrUserAccountControlComputed: "msDS-User-Account-Control-Computed",
	AttrLockoutTime:                "lockoutTime",
	AttrLockoutDuration:            "lockoutDuration",
	AttrPSOLockoutDuration:         "msDS-LockoutDuration",
	AttrResultantPSO:               "msDS-ResultantPSO",
	AttrLastLogon:                  "lastLogon",
	AttrLastLogonTimestamp:         "lastLogonTimestamp",
	AttrLogonTimeSyncInterval:      "msDS-LogonTimeSyncInterval",
	AttrWhenCreated:                "whenCreated",
	AttrPwdLastSet:                 "pwdLastSet",
	AttrAccountExpires:             "accountExpires",
	AttrIsCriticalSystemObject:     "isCriticalSystemObject",
	AttrSecondaryKrbTgtNumber:      "msDS-SecondaryKrbTgtNumber",
	AttrRecipientTypeDetails:       "msExchRecipientTypeDetails",
	AttrMasterAccountSID:           "msExchMasterAccountSid",
	AttrReplPropertyMetaData:       "replPropertyMetaData",
	AttrCreateTimestamp:            "createTimestamp",
	AttrPwdLastSuccess:             "pwdLastSuccess",
	AttrAuthTimestamp:              "authTimestamp",
	AttrPwdAccountLockedTime:       "pwdAccountLockedTime",
	AttrPwdStartTime:               "pwdStartTime",
	AttrPwdEndTime:                 "pwdEndTime",
	AttrPwdPolicySubentry:          "pwdPolicySubentry",
	AttrPwdChangedTime:             "pwdChangedTime",
	AttrPwdLockout:                 "pwdLockout",
	AttrPwdLockoutDuration:         "pwdLockoutDuration",
	AttrShadowExpire:               "shadowExpire",
}

// String returns the attribute's name as the schema spells it.
func (id AttrID) String() string { return attrNames[id] }

// attrTable finds an AttrID from a hash of length, first, middle and last
// letter; each slot holds the few names that share it.
var attrTable = func() (t [512][]AttrID) {
	for id := AttrUnknown + 1; id < attrCount; id++ {
		h := attrHash(attrNames[id])
		t[h] = append(t[h], id)
	}
	return t
}()

func attrHash(name string) int {
	n := len(name)
	return (n*37 + int(name[0]|0x20)*7 + int(name[n/2]|0x20)*13 + int(name[n-1]|0x20)*29) & 511
}

// LookupAttr returns the number of an attribute name, ignoring case and a
// range option, or 0.
func LookupAttr(name string) AttrID {
	if name == "" {
		return AttrUnknown
	}
	for _, id := range attrTable[attrHash(name)] {
		if equalFoldASCII(attrNames[id], name) {
			return id
		}
	}
	for i := range len(name) {
		if name[i] == ';' {
			if _, ranged := RangeOf(name); ranged {
				return LookupAttr(name[:i])
			}
			break
		}
	}
	return AttrUnknown
}

func equalFoldASCII(a, b string) bool {
	if len(a) != len(b) {
		return false
	}
	if a == b {
		return true
	}
	for i := range len(a) {
		x, y := a[i], b[i]
		if x != y && (x|0x20 != y|0x20 || x|0x20 < 'a' || x|0x20 > 'z') {
			return false
		}
	}
	return true
}

// AttrSet is a set of attributes the tool knows.
type AttrSet [2]uint64

// Add puts an attribute into the set.
func (s *AttrSet) Add(id AttrID) { s[id/64] |= 1 << (id % 64) }

// Has tells whether the attribute is in the set.
func (s AttrSet) Has(id AttrID) bool { return s[id/64]&(1<<(id%64)) != 0 }

// Union returns what is in either set.
func (s AttrSet) Union(o AttrSet) AttrSet { return AttrSet{s[0] | o[0], s[1] | o[1]} }
