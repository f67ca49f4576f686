package directory

import (
	"iter"
	"math/bits"
	"strings"
)

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
	AttrWhenChanged
	AttrModifyTimestamp
	AttrPrimaryGroupID
	AttrAdminCount
	AttrSIDHistory
	AttrServicePrincipalName
	AttrAllowedToDelegateTo
	AttrAllowedToAct
	AttrPasswordExpiryComputed
	AttrMaxPwdAge
	AttrPSOMaximumPasswordAge
	AttrOperatingSystem
	AttrGroupType
	AttrMember
	AttrUniqueMember
	AttrMemberUID
	AttrMemberURL
	AttrGIDNumber
	AttrManager
	AttrSecretary
	AttrManagedBy
	AttrOwner
	AttrGPLink
	AttrWellKnownObjects
	AttrOtherWellKnownObjects
	AttrDNSHostName
	AttrPwdReset
	AttrPwdMaxAge
	AttrNsAccountLock
	AttrAccountUnlockTime
	AttrPasswordRetryCount
	AttrLastLoginTime
	AttrPwdUpdateTime
	AttrPasswordExpirationTime
	AttrPasswordMaxAge
	AttrPasswordMaxFailure
	AttrPasswordExp
	AttrCN
	AttrDisplayName
	AttrGivenName
	AttrSN
	AttrInitials
	AttrMail
	AttrProxyAddresses
	AttrUserPrincipalName
	AttrTelephoneNumber
	AttrMobile
	AttrC
	AttrCO
	AttrL
	AttrST
	AttrCompany
	AttrDepartment
	AttrDepartmentNumber
	AttrDivision
	AttrO
	AttrOU
	AttrTitle
	AttrPhysicalDeliveryOfficeName
	AttrRoomNumber
	AttrStreet
	AttrStreetAddress
	AttrPostalCode
	AttrEmployeeID
	AttrEmployeeNumber
	AttrEmployeeType
	AttrDescription
	AttrLatestLogon
	AttrHidden
	AttrHidesBelow
	AttrHasSubordinates
	AttrNumSubordinates
	AttrApproxSubordinates
	AttrMemberOf
	AttrExtension1
	AttrExtension2
	AttrExtension3
	AttrExtension4
	AttrExtension5
	AttrExtension6
	AttrExtension7
	AttrExtension8
	AttrExtension9
	AttrExtension10
	AttrExtension11
	AttrExtension12
	AttrExtension13
	AttrExtension14
	AttrExtension15
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
	AttrWhenChanged:                "whenChanged",
	AttrModifyTimestamp:            "modifyTimestamp",
	AttrPrimaryGroupID:             "primaryGroupID",
	AttrAdminCount:                 "adminCount",
	AttrSIDHistory:                 "sIDHistory",
	AttrServicePrincipalName:       "servicePrincipalName",
	AttrAllowedToDelegateTo:        "msDS-AllowedToDelegateTo",
	AttrAllowedToAct:               "msDS-AllowedToActOnBehalfOfOtherIdentity",
	AttrPasswordExpiryComputed:     "msDS-UserPasswordExpiryTimeComputed",
	AttrMaxPwdAge:                  "maxPwdAge",
	AttrPSOMaximumPasswordAge:      "msDS-MaximumPasswordAge",
	AttrOperatingSystem:            "operatingSystem",
	AttrGroupType:                  "groupType",
	AttrMember:                     "member",
	AttrUniqueMember:               "uniqueMember",
	AttrMemberUID:                  "memberUid",
	AttrMemberURL:                  "memberURL",
	AttrGIDNumber:                  "gidNumber",
	AttrManager:                    "manager",
	AttrSecretary:                  "secretary",
	AttrManagedBy:                  "managedBy",
	AttrOwner:                      "owner",
	AttrGPLink:                     "gPLink",
	AttrWellKnownObjects:           "wellKnownObjects",
	AttrOtherWellKnownObjects:      "otherWellKnownObjects",
	AttrDNSHostName:                "dNSHostName",
	AttrPwdReset:                   "pwdReset",
	AttrPwdMaxAge:                  "pwdMaxAge",
	AttrNsAccountLock:              "nsAccountLock",
	AttrAccountUnlockTime:          "accountUnlockTime",
	AttrPasswordRetryCount:         "passwordRetryCount",
	AttrLastLoginTime:              "lastLoginTime",
	AttrPwdUpdateTime:              "pwdUpdateTime",
	AttrPasswordExpirationTime:     "passwordExpirationTime",
	AttrPasswordMaxAge:             "passwordMaxAge",
	AttrPasswordMaxFailure:         "passwordMaxFailure",
	AttrPasswordExp:                "passwordExp",
	AttrCN:                         "cn",
	AttrDisplayName:                "displayName",
	AttrGivenName:                  "givenName",
	AttrSN:                         "sn",
	AttrInitials:                   "initials",
	AttrMail:                       "mail",
	AttrProxyAddresses:             "proxyAddresses",
	AttrUserPrincipalName:          "userPrincipalName",
	AttrTelephoneNumber:            "telephoneNumber",
	AttrMobile:                     "mobile",
	AttrC:                          "c",
	AttrCO:                         "co",
	AttrL:                          "l",
	AttrST:                         "st",
	AttrCompany:                    "company",
	AttrDepartment:                 "department",
	AttrDepartmentNumber:           "departmentNumber",
	AttrDivision:                   "division",
	AttrO:                          "o",
	AttrOU:                         "ou",
	AttrTitle:                      "title",
	AttrPhysicalDeliveryOfficeName: "physicalDeliveryOfficeName",
	AttrRoomNumber:                 "roomNumber",
	AttrStreet:                     "street",
	AttrStreetAddress:              "streetAddress",
	AttrPostalCode:                 "postalCode",
	AttrEmployeeID:                 "employeeID",
	AttrEmployeeNumber:             "employeeNumber",
	AttrEmployeeType:               "employeeType",
	AttrDescription:                "description",
	AttrLatestLogon:                "lastLogon;x-latest",
	AttrHidden:                     "objectClass;x-hidden",
	AttrHidesBelow:                 "objectClass;x-hides-below",
	AttrHasSubordinates:            "hasSubordinates",
	AttrNumSubordinates:            "numSubordinates",
	AttrApproxSubordinates:         "msDS-Approx-Immed-Subordinates",
	AttrMemberOf:                   "memberOf",
	AttrExtension1:                 "extensionAttribute1",
	AttrExtension2:                 "extensionAttribute2",
	AttrExtension3:                 "extensionAttribute3",
	AttrExtension4:                 "extensionAttribute4",
	AttrExtension5:                 "extensionAttribute5",
	AttrExtension6:                 "extensionAttribute6",
	AttrExtension7:                 "extensionAttribute7",
	AttrExtension8:                 "extensionAttribute8",
	AttrExtension9:                 "extensionAttribute9",
	AttrExtension10:                "extensionAttribute10",
	AttrExtension11:                "extensionAttribute11",
	AttrExtension12:                "extensionAttribute12",
	AttrExtension13:                "extensionAttribute13",
	AttrExtension14:                "extensionAttribute14",
	AttrExtension15:                "extensionAttribute15",
}

// String returns the attribute's name as the schema spells it.
func (id AttrID) String() string { return attrNames[id] }

// AllAttributes are the names of the attributes that the tool looks at.
func AllAttributes() []string {
	var names []string
	for id := AttrUnknown + 1; id < attrCount; id++ {
		if !id.OwnMark() {
			names = append(names, id.String())
		}
	}
	return names
}

// OwnMark tells of what no directory holds: the tool's own notes in kept
// surveys.
func (id AttrID) OwnMark() bool {
	return id == AttrLatestLogon || id == AttrHidden || id == AttrHidesBelow
}

// AttrNames writes the names of attributes of which any one would do.
func AttrNames(ids []AttrID) string {
	all := make([]string, len(ids))
	for i, id := range ids {
		all[i] = id.String()
	}
	return strings.Join(all, " or ")
}

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

// Attrs returns the set of some attributes.
func Attrs(ids ...AttrID) (s AttrSet) {
	for _, id := range ids {
		s.Add(id)
	}
	return s
}

// Add puts an attribute into the set.
func (s *AttrSet) Add(id AttrID) { s[id/64] |= 1 << (id % 64) }

// Has tells whether the attribute is in the set.
func (s AttrSet) Has(id AttrID) bool { return s[id/64]&(1<<(id%64)) != 0 }

// Len returns how many attributes are in the set.
func (s AttrSet) Len() int { return bits.OnesCount64(s[0]) + bits.OnesCount64(s[1]) }

// Union returns what is in either set.
func (s AttrSet) Union(o AttrSet) AttrSet { return AttrSet{s[0] | o[0], s[1] | o[1]} }

// Overlaps tells whether the sets share an attribute.
func (s AttrSet) Overlaps(o AttrSet) bool { return s[0]&o[0] != 0 || s[1]&o[1] != 0 }

// Intersect returns what is in both sets.
func (s AttrSet) Intersect(o AttrSet) AttrSet { return AttrSet{s[0] & o[0], s[1] & o[1]} }

// Without returns the set without the attributes of another.
func (s AttrSet) Without(o AttrSet) AttrSet { return AttrSet{s[0] &^ o[0], s[1] &^ o[1]} }

// All goes through the attributes of the set in the order of their numbers.
func (s AttrSet) All() iter.Seq[AttrID] {
	return func(yield func(AttrID) bool) {
		for id := AttrUnknown + 1; id < attrCount; id++ {
			if s.Has(id) && !yield(id) {
				return
			}
		}
	}
}
