package directory

import "strings"

// serverOwned are attributes that only a server writes, or that change only by
// operations of their own, in lower case.
var serverOwned = map[string]bool{}

func init() {
	for _, name := range []string{"objectGUID", "objectSid", "distinguishedName", "name", "whenCreated", "whenChanged", "uSNCreated", "uSNChanged",
		"uSNLastObjRem", "instanceType", "objectCategory", "sAMAccountType", "memberOf", "directReports", "managedObjects", "lastLogon",
		"lastLogonTimestamp", "lastLogoff", "logonCount", "badPwdCount", "badPasswordTime", "pwdLastSet", "lockoutTime", "isDeleted",
		"lastKnownParent", "isRecycled", "dSCorePropagationData", "replPropertyMetaData", "nTSecurityDescriptor", "primaryGroupID",
		"userAccountControl", "msDS-User-Account-Control-Computed", "msDS-ResultantPSO", "adminCount", "isCriticalSystemObject", "objectClass",
		"msDS-ParentDistName", "msDS-UserPasswordExpiryTimeComputed", "creationTime", "modifiedCount",
		// OpenLDAP
		"structuralObjectClass", "entryUUID", "entryCSN", "creatorsName", "createTimestamp", "modifiersName", "modifyTimestamp", "entryDN",
		"subschemaSubentry", "hasSubordinates", "contextCSN", "pwdChangedTime", "pwdFailureTime", "pwdLastSuccess", "authTimestamp",
		"pwdAccountLockedTime", "pwdReset", "pwdGraceUseTime", "pwdHistory",
		// 389 Directory Server
		"nsUniqueId", "parentid", "entryid", "dsEntryDN", "entryUSN", "nsAccountLock", "lastLoginTime", "accountUnlockTime", "passwordRetryCount",
		"retryCountResetTime", "pwdUpdateTime", "passwordExpirationTime", "passwordExpWarned", "numSubordinates", "nsRole", "passwordAllowChangeTime",
		"tombstoneNumSubordinates", "nscpEntryDN", "nsTombstoneCSN"} {
		serverOwned[strings.ToLower(name)] = true
	}
}

// IsServerOwned tells whether an attribute is the server's to write, so that
// the values of an old image are not put back.
func IsServerOwned(name string) bool { return serverOwned[strings.ToLower(name)] }
