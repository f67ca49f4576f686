package directory

import (
	"fmt"
	"reflect"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// written makes an entry of "name: value" lines; identities (S-1-…) become
// what a server stores.
func written(t *testing.T, dn string, lines ...string) *Entry {
	t.Helper()
	var pairs []string
	for _, line := range lines {
		name, value, ok := strings.Cut(line, ": ")
		require.True(t, ok, line)
		if strings.HasPrefix(value, "S-1-") {
			raw, err := EncodeSID(value)
			require.NoError(t, err)
			value = raw
		}
		pairs = append(pairs, name, value)
	}
	return entryOf(dn, pairs...)
}

// surveyFrom reads entries, each of a DN and its lines.
func surveyFrom(t *testing.T, d *Dialect, entries ...[]string) *Survey {
	t.Helper()
	s := NewSurvey(d)
	s.Merge(partFrom(t, d, entries...))
	return s
}

func partFrom(t *testing.T, d *Dialect, entries ...[]string) *Part {
	t.Helper()
	p := NewSurvey(d).NewPart(len(entries), AttrSet{})
	for _, e := range entries {
		p.Add(d, written(t, e[0], e[1:]...))
	}
	return p
}

// facts writes what is known of an account, one fact a line, without what is
// zero and without keys and texts.
func facts(a *Account) string {
	var b strings.Builder
	var walk func(v reflect.Value)
	walk = func(v reflect.Value) {
		for i := range v.NumField() {
			f, value := v.Type().Field(i), v.Field(i)
			if f.Name == "further" {
				walk(reflect.ValueOf(a.Further()))
				continue
			}
			switch x := value.Interface().(type) {
			case Subject:
				walk(value)
			case Moment:
				if x != 0 {
					what := map[uint64]string{momentNone: "none", momentSet: x.Time().Format(time.RFC3339), momentUnreadable: "unreadable"}[x.state()]
					fmt.Fprintf(&b, "%s %s by %s\n", f.Name, what, x.Attr())
				}
			case Key, AttrSet, Texts:
			default:
				if !value.IsZero() && f.Name != "Nameless" { // TestWhoCanHaveAName holds that
					fmt.Fprintf(&b, "%s %v\n", f.Name, x)
				}
			}
		}
	}
	walk(reflect.ValueOf(*a))
	return strings.TrimSpace(b.String())
}

func lines(s ...string) string { return strings.Join(s, "\n") }

func TestWhatEachServerSaysOfAnAccount(t *testing.T) {
	const dn = "CN=Ada Quill,OU=Staff,DC=larkmoor,DC=example"
	named := lines("DN "+dn, "Logon Ada Quill")
	for _, c := range []struct {
		what    string
		dialect *Dialect
		entry   []string
		want    string
		bad     []AttrID
	}{
		{"an account with all times", AD, []string{"objectClass: top", "objectClass: user", "objectGUID: 0123456789abcdef", "objectSid: S-1-5-21-1-2-3-1104",
			"sAMAccountName: ada", "userAccountControl: 66048", "lockoutTime: 134398939260000000", "lastLogon: 134398939270000000",
			"lastLogonTimestamp: 134398939280000000", "whenCreated: 20200102030405.0Z", "whenChanged: 20210102030405.0Z", "pwdLastSet: 134398939290000000",
			"msDS-UserPasswordExpiryTimeComputed: 134398939300000000", "accountExpires: 134398939310000000", "primaryGroupID: 513", "adminCount: 1",
			"msDS-User-Account-Control-Computed: 16", "msDS-ResultantPSO: CN=Strict,DC=X"},
			lines("Kind user", "RID 1104", "DN "+dn, "Logon ada", "ID 0123456789abcdef", "FlagsKnown true", "ComputedLock true", "HasComputed true", "Marked true",
				"PrimaryGroup 513", "Flags 66048", "Policy cn=strict,dc=x", "LockedAt 2026-11-23T07:52:06Z by lockoutTime", "LastLogon 2026-11-23T07:52:07Z by lastLogon",
				"LastLogonTS 2026-11-23T07:52:08Z by lastLogonTimestamp", "Created 2020-01-02T03:04:05Z by whenCreated", "Changed 2021-01-02T03:04:05Z by whenChanged",
				"PasswordSet 2026-11-23T07:52:09Z by pwdLastSet", "PasswordExpires 2026-11-23T07:52:10Z by msDS-UserPasswordExpiryTimeComputed",
				"Expires 2026-11-23T07:52:11Z by accountExpires"), nil},
		{"never and none", AD, []string{"objectClass: user", "lastLogon: 0", "lockoutTime: 0", "pwdLastSet: 0", "accountExpires: 9223372036854775807", "adminCount: 0",
			"userAccountControl: 514", "msDS-User-Account-Control-Computed: 2"},
			lines("Kind user", named, "FlagsKnown true", "HasComputed true", "MustChange true", "Flags 514", "LockedAt none by lockoutTime", "LastLogon none by lastLogon",
				"PasswordSet none by pwdLastSet", "Expires none by accountExpires"), nil},
		{"nothing that can be read", AD, []string{"objectClass: user", "objectSid: short", "userAccountControl: x", "lockoutTime: x", "lastLogon: x", "lastLogonTimestamp: x",
			"whenCreated: x", "whenChanged: x", "pwdLastSet: x", "msDS-UserPasswordExpiryTimeComputed: x", "accountExpires: x", "primaryGroupID: x", "adminCount: x",
			"groupType: x", "msExchRecipientTypeDetails: x", "msDS-User-Account-Control-Computed: x"},
			lines("Kind user", named, "LockedAt unreadable by lockoutTime", "LastLogon unreadable by lastLogon", "LastLogonTS unreadable by lastLogonTimestamp",
				"Created unreadable by whenCreated", "Changed unreadable by whenChanged", "PasswordSet unreadable by pwdLastSet",
				"PasswordExpires unreadable by msDS-UserPasswordExpiryTimeComputed", "Expires unreadable by accountExpires"),
			[]AttrID{AttrObjectSID, AttrUserAccountControl, AttrLockoutTime, AttrLastLogon, AttrLastLogonTimestamp, AttrWhenCreated, AttrWhenChanged, AttrPwdLastSet,
				AttrPasswordExpiryComputed, AttrAccountExpires, AttrPrimaryGroupID, AttrAdminCount, AttrGroupType, AttrRecipientTypeDetails}},
		{"a sign-in that another server knows of", AD, []string{"objectClass: user", "lastLogon: 134398939260000000", AttrLatestLogon.String() + ": 3 134398939270000000"},
			lines("Kind user", named, "LogonServer 3", "LastLogon 2026-11-23T07:52:07Z by lastLogon"), nil},
		{"one that is no later", AD, []string{"objectClass: user", "lastLogon: 134398939270000000", AttrLatestLogon.String() + ": 3 134398939270000000"},
			lines("Kind user", named, "LastLogon 2026-11-23T07:52:07Z by lastLogon"), nil},
		{"one of no server", AD, []string{"objectClass: user", AttrLatestLogon.String() + ": x 134398939270000000"}, lines("Kind user", named), nil},
		{"the built-in administrator", AD, []string{"objectClass: user", "objectSid: S-1-5-21-1-2-3-500"}, lines("Kind user", "BuiltIn true", "RID 500", named), nil},
		{"the key account", AD, []string{"objectClass: user", "objectSid: S-1-5-21-1-2-3-502"}, lines("Kind user", "BuiltIn true", "RID 502", named, "KeyAccount true"), nil},
		{"one more", AD, []string{"objectClass: user", "objectSid: S-1-5-21-1-2-3-503"}, lines("Kind user", "RID 503", named), nil},
		{"one less", AD, []string{"objectClass: user", "objectSid: S-1-5-21-1-2-3-499"}, lines("Kind user", "RID 499", named), nil},
		{"a group with such a number", AD, []string{"objectClass: group", "objectSid: S-1-5-21-1-2-3-502"}, lines("Kind group", "RID 502", named), nil},
		{"a key account of a read-only controller", AD, []string{"objectClass: user", "msDS-SecondaryKrbTgtNumber: 7"}, lines("Kind user", "BuiltIn true", named, "KeyAccount true"), nil},
		{"a critical object", AD, []string{"objectClass: user", "isCriticalSystemObject: TRUE"}, lines("Kind user", "BuiltIn true", named), nil},
		{"one that is not", AD, []string{"objectClass: user", "isCriticalSystemObject: FALSE"}, lines("Kind user", named), nil},
		{"a trust", AD, []string{"objectClass: user", "userAccountControl: 2080"}, lines("Kind trust", named, "FlagsKnown true", "Flags 2080"), nil},
		{"a group with such flags", AD, []string{"objectClass: group", "userAccountControl: 2080"}, lines("Kind group", named, "FlagsKnown true", "Flags 2080"), nil},
		{"a room", AD, []string{"objectClass: user", "msExchRecipientTypeDetails: 16"}, lines("Kind resource", named), nil},
		{"a person's mailbox", AD, []string{"objectClass: user", "msExchRecipientTypeDetails: 1"}, lines("Kind user", named), nil},
		{"a linked mailbox", AD, []string{"objectClass: user", "msExchMasterAccountSid: S-1-5-21-9-9-9-1104", "msExchRecipientTypeDetails: 1"}, lines("Kind resource", named), nil},
		{"a computer with a mailbox", AD, []string{"objectClass: user", "objectClass: computer", "msExchRecipientTypeDetails: 16"}, lines("Kind computer", named), nil},
		{"a managed service account", AD, []string{"objectClass: msDS-GroupManagedServiceAccount", "objectClass: computer", "objectClass: user"}, lines("Kind service", named), nil},

		{"an account with all times", OpenLDAP, []string{"objectClass: inetOrgPerson", "entryUUID: 1-2", "uid: ada", "createTimestamp: 20200102030405Z",
			"modifyTimestamp: 20210102030405Z", "pwdLastSuccess: 20220102030405Z", "authTimestamp: 20230102030405Z", "pwdAccountLockedTime: 20240102030405Z",
			"pwdStartTime: 20250102030405Z", "pwdEndTime: 20260102030405Z", "pwdChangedTime: 20200202030405Z", "pwdReset: true", "shadowExpire: 20000",
			"gidNumber: 100", "pwdPolicySubentry: cn=Strict,dc=X"},
			lines("Kind user", "DN "+dn, "Logon ada", "ID 1-2", "MustChange true", "GID 100", "Policy cn=strict,dc=x", "LockedAt 2024-01-02T03:04:05Z by pwdAccountLockedTime",
				"LastLogon 2022-01-02T03:04:05Z by pwdLastSuccess", "Created 2020-01-02T03:04:05Z by createTimestamp", "Changed 2021-01-02T03:04:05Z by modifyTimestamp",
				"PasswordSet 2020-02-02T03:04:05Z by pwdChangedTime", "Expires 2024-10-04T00:00:00Z by shadowExpire", "ExpiresAlso 2026-01-02T03:04:05Z by pwdEndTime",
				"StartsAt 2025-01-02T03:04:05Z by pwdStartTime"), nil},
		{"the other record of sign-ins", OpenLDAP, []string{"objectClass: account", "authTimestamp: 20230102030405Z"},
			lines("Kind user", named, "LastLogon 2023-01-02T03:04:05Z by authTimestamp"), nil},
		{"switched off for ever", OpenLDAP, []string{"objectClass: account", "pwdAccountLockedTime: 000001010000Z", "pwdReset: FALSE", "shadowExpire: -1"},
			lines("Kind user", named, "PermanentLock true", "LockedAt none by pwdAccountLockedTime", "Expires none by shadowExpire"), nil},
		{"switched off for ever, with seconds", OpenLDAP, []string{"objectClass: posixAccount", "pwdAccountLockedTime: 00000101000000Z", "shadowExpire: 0"},
			lines("Kind user", named, "PermanentLock true", "LockedAt none by pwdAccountLockedTime", "Expires none by shadowExpire"), nil},
		{"the first day", OpenLDAP, []string{"objectClass: account", "shadowExpire: 1"}, lines("Kind user", named, "Expires 1970-01-02T00:00:00Z by shadowExpire"), nil},
		{"nothing that can be read", OpenLDAP, []string{"objectClass: account", "createTimestamp: x", "modifyTimestamp: x", "pwdLastSuccess: x", "authTimestamp: x", "pwdAccountLockedTime: x",
			"pwdStartTime: x", "pwdEndTime: x", "pwdChangedTime: x", "shadowExpire: 4194305", "gidNumber: x"},
			lines("Kind user", named, "LockedAt unreadable by pwdAccountLockedTime", "LastLogon unreadable by pwdLastSuccess", "Created unreadable by createTimestamp",
				"Changed unreadable by modifyTimestamp", "PasswordSet unreadable by pwdChangedTime", "Expires unreadable by shadowExpire",
				"ExpiresAlso unreadable by pwdEndTime", "StartsAt unreadable by pwdStartTime"),
			[]AttrID{AttrCreateTimestamp, AttrModifyTimestamp, AttrPwdLastSuccess, AttrAuthTimestamp, AttrPwdAccountLockedTime, AttrPwdStartTime, AttrPwdEndTime, AttrPwdChangedTime,
				AttrShadowExpire, AttrGIDNumber}},
		{"an entry of no kind has no logon name", OpenLDAP, []string{"objectClass: device"}, "DN " + dn, nil},

		{"an account with all times", NS389, []string{"objectClass: inetOrgPerson", "nsUniqueId: 1-2", "uid: ada", "nsAccountLock: TRUE", "accountUnlockTime: 20240102030405Z",
			"passwordRetryCount: 3", "lastLoginTime: 20220102030405Z", "pwdUpdateTime: 20200202030405Z", "passwordExpirationTime: 20210202030405Z"},
			lines("Kind user", "DN "+dn, "Logon ada", "ID 1-2", "PermanentLock true", "Retries 3", "LockEnds 2024-01-02T03:04:05Z by accountUnlockTime",
				"LastLogon 2022-01-02T03:04:05Z by lastLoginTime", "PasswordSet 2020-02-02T03:04:05Z by pwdUpdateTime",
				"PasswordExpires 2021-02-02T03:04:05Z by passwordExpirationTime"), nil},
		{"a password to be changed", NS389, []string{"objectClass: account", "nsAccountLock: false", "passwordExpirationTime: 19700101000000Z"},
			lines("Kind user", named, "MustChange true", "PasswordExpires none by passwordExpirationTime"), nil},
		{"nothing that can be read", NS389, []string{"objectClass: account", "accountUnlockTime: x", "passwordRetryCount: x", "lastLoginTime: x", "pwdUpdateTime: x", "passwordExpirationTime: x"},
			lines("Kind user", named, "LockEnds unreadable by accountUnlockTime", "LastLogon unreadable by lastLoginTime", "PasswordSet unreadable by pwdUpdateTime",
				"PasswordExpires unreadable by passwordExpirationTime"),
			[]AttrID{AttrAccountUnlockTime, AttrPasswordRetryCount, AttrLastLoginTime, AttrPwdUpdateTime, AttrPasswordExpirationTime}},
	} {
		t.Run(c.dialect.Name+"/"+c.what, func(t *testing.T) {
			var a Account
			e := written(t, dn, c.entry...)
			bad := c.dialect.fill(&a, e)
			assert.ElementsMatch(t, strings.Split(c.want, "\n"), strings.Split(facts(&a), "\n"))
			assert.Equal(t, Attrs(c.bad...), bad)
			var present AttrSet
			for _, attr := range e.Attrs {
				present.Add(LookupAttr(attr.Name))
			}
			assert.Equal(t, present, a.Present)
		})
	}
}

func TestWhenTheFlagsWereLastChanged(t *testing.T) {
	record := func(attribute byte, seconds int64) string {
		b := make([]byte, 48)
		b[0], b[2] = attribute, 9
		for i := range 8 {
			b[8+i] = byte(seconds >> (8 * i))
		}
		return string(b)
	}
	header := "\x01" + strings.Repeat("\x00", 15)
	at := time.Date(2026, 11, 23, 7, 52, 6, 0, time.UTC)
	seconds := at.Unix() - fileTimeEpoch
	set := MomentOf(at, AttrReplPropertyMetaData)
	unreadable := moment(0, AttrReplPropertyMetaData, momentUnreadable)
	for what, c := range map[string]struct {
		raw  string
		want Moment
	}{
		"the first record":          {header + record(8, seconds) + record(9, 1), set},
		"a later record":            {header + record(9, 1) + record(8, seconds), set},
		"other attributes":          {header + record(9, seconds), 0},
		"half a record":             {header + record(8, seconds)[:47], 0},
		"no time":                   {header + record(8, 0), 0},
		"a time that cannot be":     {header + record(8, 1<<41), 0},
		"the header alone":          {header, 0},
		"less than a header":        {header[:15], unreadable},
		"another version":           {"\x02" + header[1:] + record(8, seconds), unreadable},
		"too short for the version": {"\x01", unreadable},
	} {
		assert.Equal(t, c.want, lastChanged(c.raw, uacAttid), what)
	}
}

func TestWhoStandsForMany(t *testing.T) {
	for sid, want := range map[string]string{"S-1-1-0": "everyone", "S-1-5-7": "anonymous", "S-1-5-11": "every authenticated user",
		"S-1-5-21-1-2-3-513": "every user of the domain", "S-1-5-21-1-2-3-514": "every guest of the domain", "S-1-5-21-1-2-3-515": "every computer of the domain",
		"S-1-5-21-1-2-3-516": "", "S-1-5-32-513": "", "S-1-5-21-1-2-3-1513": "", "": ""} {
		assert.Equal(t, want, Everybody(sid), sid)
	}
}

func TestWhichGroupsGivePower(t *testing.T) {
	power := map[string]bool{}
	for _, rid := range []string{"512", "518", "519", "520", "526", "527"} {
		power["S-1-5-21-1-2-3-"+rid] = true
	}
	for _, rid := range []string{"544", "548", "549", "550", "551", "552"} {
		power["S-1-5-32-"+rid] = true
	}
	for rid := 490; rid < 1200; rid++ {
		for _, domain := range []string{"S-1-5-21-1-2-3-", "S-1-5-32-", "S-1-5-9-"} {
			sid := fmt.Sprint(domain, rid)
			assert.Equal(t, power[sid], PrivilegedSID(sid), sid)
			assert.Equal(t, domain == "S-1-5-32-", IsBuiltinSID(sid), sid)
		}
	}
	for groupType, want := range map[string]bool{"": true, "-2147483646": true, "2147483650": true, "2": false, "8": false, "x": true} {
		assert.Equal(t, want, GivesRights(groupType), groupType)
	}
}

// TestStates holds what the survey answers of an account at now against what
// the entries and the policies say.
func TestStates(t *testing.T) {
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	ticks := func(hours int) string { return FormatFileTime(now.Add(time.Duration(hours) * time.Hour)) }
	stamp := func(hours int) string { return now.Add(time.Duration(hours) * time.Hour).Format("20060102150405Z") }
	domain := func(more ...string) []string { return append([]string{"DC=x", "objectClass: domainDNS"}, more...) }
	ad := func(more ...string) []string {
		return append([]string{"CN=Ada,DC=x", "objectClass: user"}, more...)
	}
	open := func(more ...string) []string {
		return append([]string{"uid=ada,dc=x", "objectClass: account"}, more...)
	}
	policy := func(more ...string) []string {
		return append([]string{"cn=Strict,dc=x", "objectClass: pwdPolicy"}, more...)
	}
	const hour = "36000000000"
	for _, c := range []struct {
		what    string
		dialect *Dialect
		entries [][]string
		want    string // disabled, expired, enabled, locked, state
	}{
		{"healthy", AD, [][]string{ad("userAccountControl: 512")}, "no no yes no enabled"},
		{"disabled", AD, [][]string{ad("userAccountControl: 514")}, "yes no no no disabled"},
		{"flags hidden", AD, [][]string{ad()}, "no? no no? no unknown"},
		{"expired at this moment", AD, [][]string{ad("userAccountControl: 512", "accountExpires: "+ticks(0))}, "no yes no no expired"},
		{"expires later", AD, [][]string{ad("userAccountControl: 512", "accountExpires: "+ticks(1))}, "no no yes no enabled"},
		{"an expiry that cannot be read", AD, [][]string{ad("userAccountControl: 512", "accountExpires: x")}, "no no? yes? no enabled"},
		{"locked, for longer", AD, [][]string{domain("lockoutDuration: -" + hour), ad("userAccountControl: 512", "lockoutTime: "+FormatFileTime(now.Add(-time.Hour+time.Second)))}, "no no yes yes locked out"},
		{"locked, over at this moment", AD, [][]string{domain("lockoutDuration: -" + hour), ad("userAccountControl: 512", "lockoutTime: "+ticks(-1))}, "no no yes no enabled"},
		{"locked in the time to come", AD, [][]string{domain("lockoutDuration: -" + hour), ad("userAccountControl: 512", "lockoutTime: "+ticks(1))}, "no no yes no enabled"},
		{"locked at this moment", AD, [][]string{domain("lockoutDuration: -" + hour), ad("userAccountControl: 512", "lockoutTime: "+ticks(0))}, "no no yes yes locked out"},
		{"locked till somebody unlocks", AD, [][]string{domain("lockoutDuration: 0"), ad("userAccountControl: 512", "lockoutTime: "+ticks(-900))}, "no no yes yes locked out"},
		{"locked till somebody unlocks, the other way", AD, [][]string{domain("lockoutDuration: -9223372036854775808"), ad("userAccountControl: 512", "lockoutTime: "+ticks(-900))}, "no no yes yes locked out"},
		{"locked, by a longer time than fits", AD, [][]string{domain("lockoutDuration: -9223372036854775807"), ad("userAccountControl: 512", "lockoutTime: "+ticks(-900))}, "no no yes yes locked out"},
		{"locked, a duration without its sign", AD, [][]string{domain("lockoutDuration: " + hour), ad("userAccountControl: 512", "lockoutTime: "+ticks(-2))}, "no no yes no enabled"},
		{"locked, no word of how long", AD, [][]string{domain(), ad("userAccountControl: 512", "lockoutTime: "+ticks(-1))}, "no no yes yes? locked out"},
		{"locked, by another policy", AD, [][]string{domain("lockoutDuration: -" + hour), {"CN=Long,DC=x", "objectClass: msDS-PasswordSettings", "msDS-LockoutDuration: 0"},
			ad("userAccountControl: 512", "msDS-ResultantPSO: CN=Long,DC=x", "lockoutTime: "+ticks(-2))}, "no no yes yes locked out"},
		{"locked, by a policy that is hidden", AD, [][]string{domain("lockoutDuration: -" + hour), ad("userAccountControl: 512", "msDS-ResultantPSO: CN=Long,DC=x", "lockoutTime: "+ticks(-2))}, "no no yes yes? locked out"},

		{"healthy, others disabled", OpenLDAP, [][]string{open(), {"uid=b,dc=x", "objectClass: account", "pwdAccountLockedTime: 000001010000Z"}}, "no no yes no enabled"},
		{"nobody shows a state", OpenLDAP, [][]string{open()}, "no? no yes? no enabled"},
		{"not yet", OpenLDAP, [][]string{open("pwdStartTime: " + stamp(1))}, "yes no no no disabled"},
		{"from now on", OpenLDAP, [][]string{open("pwdStartTime: " + stamp(0))}, "no no yes no enabled"},
		{"ended at this moment", OpenLDAP, [][]string{open("pwdEndTime: " + stamp(0))}, "yes no no no disabled"},
		{"not ended", OpenLDAP, [][]string{open("pwdEndTime: " + stamp(1))}, "no no yes no enabled"},
		{"switched off, policy hidden", OpenLDAP, [][]string{open("pwdAccountLockedTime: 000001010000Z")}, "yes? no no? no disabled"},
		{"switched off", OpenLDAP, [][]string{policy("pwdLockout: TRUE"), open("pwdAccountLockedTime: 000001010000Z", "pwdPolicySubentry: cn=Strict,dc=x")}, "yes no no no disabled"},
		{"switched off without effect", OpenLDAP, [][]string{policy("pwdLockout: FALSE"), open("pwdAccountLockedTime: 000001010000Z", "pwdPolicySubentry: cn=Strict,dc=x")}, "no no yes no enabled"},
		{"locked without effect", OpenLDAP, [][]string{policy("pwdLockout: FALSE"), open("pwdAccountLockedTime: "+stamp(-1), "pwdPolicySubentry: cn=Strict,dc=x")}, "no no yes no enabled"},
		{"locked till somebody unlocks", OpenLDAP, [][]string{policy("pwdLockout: TRUE"), open("pwdAccountLockedTime: "+stamp(-900), "pwdPolicySubentry: cn=Strict,dc=x")}, "no no yes yes locked out"},
		{"locked for longer", OpenLDAP, [][]string{policy("pwdLockout: TRUE", "pwdLockoutDuration: 3601"), open("pwdAccountLockedTime: "+stamp(-1), "pwdPolicySubentry: cn=Strict,dc=x")}, "no no yes yes locked out"},
		{"locked, over", OpenLDAP, [][]string{policy("pwdLockout: TRUE", "pwdLockoutDuration: 3600"), open("pwdAccountLockedTime: "+stamp(-1), "pwdPolicySubentry: cn=Strict,dc=x")}, "no no yes no enabled"},
		{"locked, no word of how long", OpenLDAP, [][]string{policy("pwdLockout: TRUE", "pwdLockoutDuration: x"), open("pwdAccountLockedTime: "+stamp(-1), "pwdPolicySubentry: cn=Strict,dc=x")}, "no no yes yes? locked out"},
		{"locked, policy hidden", OpenLDAP, [][]string{open("pwdAccountLockedTime: " + stamp(-1))}, "no no yes yes? locked out"},

		{"healthy, others disabled", NS389, [][]string{open(), {"uid=b,dc=x", "objectClass: account", "nsAccountLock: true"}}, "no no yes no enabled"},
		{"nobody shows a state", NS389, [][]string{open()}, "no? no yes? no enabled"},
		{"disabled", NS389, [][]string{open("nsAccountLock: true")}, "yes no no no disabled"},
		{"locked for longer", NS389, [][]string{open("nsAccountLock: false", "accountUnlockTime: "+stamp(1))}, "no no yes yes locked out"},
		{"locked, over", NS389, [][]string{open("nsAccountLock: false", "accountUnlockTime: "+stamp(0))}, "no no yes no enabled"},
		{"locked for ever, limit hidden", NS389, [][]string{open("nsAccountLock: false", "accountUnlockTime: 19700101000000Z", "passwordRetryCount: 3")}, "no no yes yes? locked out"},
		{"locked for ever", NS389, [][]string{{"cn=Strict,dc=x", "objectClass: passwordPolicy", "passwordMaxFailure: 3"},
			open("nsAccountLock: false", "accountUnlockTime: 19700101000000Z", "passwordRetryCount: 3", "pwdPolicySubentry: cn=Strict,dc=x")}, "no no yes yes locked out"},
		{"not locked yet", NS389, [][]string{{"cn=Strict,dc=x", "objectClass: passwordPolicy", "passwordMaxFailure: 4"},
			open("nsAccountLock: false", "accountUnlockTime: 19700101000000Z", "passwordRetryCount: 3", "pwdPolicySubentry: cn=Strict,dc=x")}, "no no yes no enabled"},
		{"locked for ever, no limit told", NS389, [][]string{{"cn=Strict,dc=x", "objectClass: passwordPolicy"},
			open("nsAccountLock: false", "accountUnlockTime: 19700101000000Z", "pwdPolicySubentry: cn=Strict,dc=x")}, "no no yes yes? locked out"},
	} {
		t.Run(c.dialect.Name+"/"+c.what, func(t *testing.T) {
			s := surveyFrom(t, c.dialect, c.entries...)
			for a := range s.Accounts.All() {
				if a.Logon != "ada" && a.Logon != "Ada" {
					continue
				}
				var words []string
				for _, answer := range []Answer{s.Disabled(a, now), s.Expired(a, now), s.Enabled(a, now), s.LockedOut(a, now)} {
					word := map[bool]string{true: "yes", false: "no"}[answer.Yes]
					if answer.Likely {
						word += "?"
					}
					words = append(words, word)
				}
				assert.Equal(t, c.want, strings.Join(append(words, s.State(a, now)), " "))
			}
		})
	}
}

func TestTheServersOwnWordOnALockCountsAtItsOwnTimeOnly(t *testing.T) {
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	s := surveyFrom(t, AD, []string{"DC=x", "objectClass: domainDNS", "lockoutDuration: 0"},
		[]string{"CN=a,DC=x", "objectClass: user", "lockoutTime: " + FormatFileTime(now.Add(-time.Hour)), "msDS-User-Account-Control-Computed: 0"},
		[]string{"CN=b,DC=x", "objectClass: user", "lockoutTime: " + FormatFileTime(now.Add(-time.Hour))})
	answers := func() (out []Answer) {
		for a := range s.Accounts.All() {
			out = append(out, s.LockedOut(a, now))
		}
		return out
	}
	locked := Answer{Yes: true, By: AttrLockoutTime}
	assert.Equal(t, []Answer{locked, locked}, answers(), "a file does not say when it was taken")
	s.Taken = now.Add(-time.Minute)
	assert.Equal(t, []Answer{locked, locked}, answers(), "the word is of another time")
	s.Taken = now
	assert.Equal(t, []Answer{{By: AttrUserAccountControlComputed}, locked}, answers())
}

func TestTheLatestSignIn(t *testing.T) {
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	at := func(days int) Moment { return MomentOf(now.AddDate(0, 0, days), AttrLastLogon) }
	stamp := func(days int) Moment { return MomentOf(now.AddDate(0, 0, days), AttrLastLogonTimestamp) }
	unread := moment(0, AttrLastLogon, momentUnreadable)
	for _, c := range []struct {
		what           string
		own, stamp     Moment
		kept           bool // the stamp is maintained
		elsewhere, out string
	}{
		{"its own", at(-2), stamp(-5), true, "", "lastLogon 2026-11-21"},
		{"the stamp", at(-9), stamp(-5), true, "", "lastLogonTimestamp 2026-11-18"},
		{"the stamp alone", 0, stamp(-5), true, "", "lastLogonTimestamp 2026-11-18"},
		{"a stamp that is not kept up", at(-9), stamp(-5), false, "", "lastLogon 2026-11-14"},
		{"one in the time to come", at(1), stamp(-5), true, "", "lastLogonTimestamp 2026-11-18"},
		{"both in the time to come", at(1), stamp(1), true, "", "lastLogon unreadable"},
		{"a stamp that cannot be read beside nothing", 0, MomentOf(now.AddDate(0, 0, 1), AttrLastLogonTimestamp), true, "", "lastLogonTimestamp unreadable"},
		{"a stamp that cannot be read beside a time", at(-9), MomentOf(now.AddDate(0, 0, 1), AttrLastLogonTimestamp), true, "", "lastLogon 2026-11-14"},
		{"a time that cannot be read beside a stamp", unread, stamp(-5), true, "", "lastLogonTimestamp 2026-11-18"},
		{"elsewhere later", at(-9), 0, true, "2026-11-20", "mail 2026-11-20"},
		{"elsewhere earlier", at(-2), 0, true, "2026-11-20", "lastLogon 2026-11-21"},
		{"elsewhere only", 0, 0, true, "2026-11-20", "mail 2026-11-20"},
		{"elsewhere in the time to come", at(-9), 0, true, "2026-11-24", "lastLogon 2026-11-14"},
	} {
		s := NewSurvey(AD)
		if !c.kept {
			s.Domain.LogonLagKnown, s.Domain.LogonLag = true, 0
		}
		a := Account{Subject: Subject{Logon: "Ada"}, LastLogon: c.own, LastLogonTS: c.stamp}
		if c.elsewhere != "" {
			seen, err := time.Parse(time.DateOnly, c.elsewhere)
			require.NoError(t, err)
			s.Elsewhere = map[Key]SignIn{TextKey("ADA"): {At: seen, Source: "mail"}, TextKey("bo"): {At: now, Source: "vpn"}}
		}
		last := s.LastSignIn(&a, now)
		by, when := last.Elsewhere, "unreadable"
		if by == "" {
			by = last.Attr().String()
		}
		if last.Known() {
			when = last.Time().Format(time.DateOnly)
		}
		assert.Equal(t, c.out, by+" "+when, c.what)
	}
}

func TestPasswordAges(t *testing.T) {
	for _, c := range []struct {
		what                string
		dialect             *Dialect
		entries             [][]string
		wantSet, wantExpiry string
	}{
		{"the domain's policy", AD, [][]string{{"DC=x", "objectClass: domainDNS", "lockoutDuration: 0", "maxPwdAge: -864000000000"},
			{"CN=a,DC=x", "objectClass: user", "pwdLastSet: 134398939260000000"}}, "2026-11-23 pwdLastSet", "2026-11-24 pwdLastSet"},
		{"never by its flags", AD, [][]string{{"DC=x", "objectClass: domainDNS", "lockoutDuration: 0", "maxPwdAge: -864000000000"},
			{"CN=a,DC=x", "objectClass: user", "userAccountControl: 66048", "pwdLastSet: 134398939260000000"}}, "2026-11-23 pwdLastSet", "-"},
		{"never by the policy", AD, [][]string{{"DC=x", "objectClass: domainDNS", "lockoutDuration: 0", "maxPwdAge: 0"},
			{"CN=a,DC=x", "objectClass: user", "pwdLastSet: 134398939260000000"}}, "2026-11-23 pwdLastSet", "-"},
		{"the server's word", AD, [][]string{{"CN=a,DC=x", "objectClass: user", "userAccountControl: 66048", "msDS-UserPasswordExpiryTimeComputed: 134398939260000000"}},
			"-", "2026-11-23 msDS-UserPasswordExpiryTimeComputed"},
		{"a stricter policy", AD, [][]string{{"CN=P,DC=x", "objectClass: msDS-PasswordSettings", "msDS-MaximumPasswordAge: -864000000000"},
			{"CN=a,DC=x", "objectClass: user", "msDS-ResultantPSO: cn=p,dc=x", "pwdLastSet: 134398939260000000"}}, "2026-11-23 pwdLastSet", "2026-11-24 pwdLastSet"},
		{"of slapd", OpenLDAP, [][]string{{"cn=p,dc=x", "objectClass: pwdPolicy", "pwdMaxAge: 86400"},
			{"uid=a,dc=x", "objectClass: account", "pwdPolicySubentry: cn=p,dc=x", "pwdChangedTime: 20261123000000Z"}}, "2026-11-23 pwdChangedTime", "2026-11-24 pwdChangedTime"},
		{"of slapd, no age", OpenLDAP, [][]string{{"cn=p,dc=x", "objectClass: pwdPolicy", "pwdMaxAge: 0"},
			{"uid=a,dc=x", "objectClass: account", "pwdPolicySubentry: cn=p,dc=x", "pwdChangedTime: 20261123000000Z"}}, "2026-11-23 pwdChangedTime", "-"},
		{"counted back", NS389, [][]string{{"cn=p,dc=x", "objectClass: passwordPolicy", "passwordExp: on", "passwordMaxAge: 86400"},
			{"uid=a,dc=x", "objectClass: account", "pwdPolicySubentry: cn=p,dc=x", "passwordExpirationTime: 20261123000000Z"}}, "2026-11-22 passwordExpirationTime", "2026-11-23 passwordExpirationTime"},
		{"passwords do not expire", NS389, [][]string{{"cn=p,dc=x", "objectClass: passwordPolicy", "passwordExp: off", "passwordMaxAge: 86400"},
			{"uid=a,dc=x", "objectClass: account", "pwdPolicySubentry: cn=p,dc=x", "passwordExpirationTime: 20261123000000Z"}}, "-", "2026-11-23 passwordExpirationTime"},
		{"told outright", NS389, [][]string{{"cn=p,dc=x", "objectClass: passwordPolicy", "passwordExp: on", "passwordMaxAge: 86400"},
			{"uid=a,dc=x", "objectClass: account", "pwdPolicySubentry: cn=p,dc=x", "pwdUpdateTime: 20261120000000Z", "passwordExpirationTime: 20261123000000Z"}}, "2026-11-20 pwdUpdateTime", "2026-11-23 passwordExpirationTime"},
		{"policy hidden", NS389, [][]string{{"uid=a,dc=x", "objectClass: account", "passwordExpirationTime: 20261123000000Z"}}, "-", "2026-11-23 passwordExpirationTime"},
	} {
		s := surveyFrom(t, c.dialect, c.entries...)
		show := func(m Moment) string {
			if !m.Known() {
				return "-"
			}
			return m.Time().Format(time.DateOnly) + " " + m.Attr().String()
		}
		for a := range s.Accounts.All() {
			assert.Equal(t, c.wantSet, show(s.PasswordSet(a)), c.what)
			assert.Equal(t, c.wantExpiry, show(s.PasswordExpires(a)), c.what)
		}
	}
}

func TestTheServersOwnPolicyIsForThoseThatNameNoOther(t *testing.T) {
	s := surveyFrom(t, OpenLDAP, []string{"uid=a,dc=x", "objectClass: account", "pwdAccountLockedTime: 000001010000Z"})
	s.ServerPolicy(written(t, "cn=Default,dc=x", "objectClass: pwdPolicy", "pwdLockout: TRUE"))
	for a := range s.Accounts.All() {
		assert.Equal(t, Answer{Yes: true, By: AttrPwdAccountLockedTime}, s.Disabled(a, time.Now()))
	}
}

func TestWhatASurveyKeepsBesidesAccounts(t *testing.T) {
	s := surveyFrom(t, AD,
		[]string{"DC=larkmoor,DC=example", "objectClass: domainDNS", "objectSid: S-1-5-21-1-2-3", "msDS-LogonTimeSyncInterval: 5", "gPLink: [LDAP://cn=a;0]",
			"wellKnownObjects: B:32:AA312825768811D1ADED00C04FD8D5CD:CN=Computers,DC=larkmoor,DC=example",
			"otherWellKnownObjects: B:32:683A24E2E8164BD3AF86AC3C2CF3F981:CN=Keys,DC=larkmoor,DC=example"},
		[]string{"DC=child,DC=larkmoor,DC=example", "objectClass: domainDNS", "objectSid: S-1-5-21-9-9-9"},
		[]string{"OU=Staff,DC=larkmoor,DC=example", "objectClass: organizationalUnit", "whenCreated: 20200102030405.0Z", "gPLink: [LDAP://cn=b;2]"},
		[]string{"CN=Ada\\0ACNF:1,OU=Staff,DC=larkmoor,DC=example", "objectClass: user", "primaryGroupID: 513", "lastLogon: x"},
		[]string{"CN=Lost,CN=LostAndFound,DC=larkmoor,DC=example", "objectClass: device"},
		[]string{"CN=CNF: a name,OU=Staff,DC=larkmoor,DC=example", "objectClass: contact"},
		[]string{"CN=G,DC=larkmoor,DC=example", "objectClass: group", "objectSid: S-1-5-32-544", "groupType: -2147483643", "member;range=0-0: CN=Ada,DC=x", "adminCount: 1", "sIDHistory: S-1-5-21-9-9-9-512"},
		[]string{"CN=List,DC=larkmoor,DC=example", "objectClass: group", "objectSid: S-1-5-21-1-2-3-1200", "groupType: 2", "member: CN=Ada,DC=x"},
		[]string{"CN=P,CN=Policies,CN=System,DC=larkmoor,DC=example", "objectClass: groupPolicyContainer", "displayName: Screens"},
		[]string{"CN=Site,CN=Sites,CN=Configuration,DC=larkmoor,DC=example", "objectClass: site", "gPLink: [LDAP://cn=c;0]"},
		[]string{"CN=DC1,CN=Servers,CN=Site,CN=Sites,CN=Configuration,DC=larkmoor,DC=example", "objectClass: server", "dNSHostName: dc1.larkmoor.example"},
		[]string{"CN=NTDS Settings,CN=DC1,CN=Servers,CN=Site,CN=Sites,CN=Configuration,DC=larkmoor,DC=example", "objectClass: nTDSDSA"},
		[]string{"CN=No class,DC=larkmoor,DC=example", "cn: No class"})
	assert.Equal(t, 13, s.Entries)
	assert.Equal(t, 1, s.Accounts.Len())
	assert.Equal(t, "dc=larkmoor,dc=example", s.Base)
	assert.Equal(t, "dc=larkmoor,dc=example", s.Domain.DN)
	sid, err := ParseSID(s.Domain.SID)
	require.NoError(t, err)
	assert.Equal(t, "S-1-5-21-1-2-3", sid, "the entry at the top is the domain, not the one below it")
	assert.Equal(t, 5*24*time.Hour, s.Domain.LogonLag)
	assert.True(t, s.Domain.LogonLagKnown)
	assert.True(t, s.IsWellKnown(KeyOf("CN=Computers,DC=larkmoor,DC=example")))
	assert.True(t, s.IsWellKnown(KeyOf("CN=Keys,DC=larkmoor,DC=example")))
	assert.False(t, s.IsWellKnown(KeyOf("OU=Staff,DC=larkmoor,DC=example")))
	assert.True(t, s.HasBelow(KeyOf("OU=Staff,DC=larkmoor,DC=example")))
	assert.False(t, s.HasBelow(KeyOf("CN=G,DC=larkmoor,DC=example")))
	assert.True(t, s.PrimaryOfSomebody(513))
	assert.False(t, s.PrimaryOfSomebody(514))
	assert.Equal(t, 1, s.NoClass)
	assert.Equal(t, 1, s.Sites)
	assert.Equal(t, []string{"dc1.larkmoor.example"}, s.Servers())
	assert.True(t, s.EveryServerAsked(), "there is but one")
	names := func(of []Subject) (out []string) {
		for _, x := range of {
			out = append(out, x.Name())
		}
		return out
	}
	assert.Equal(t, []string{"Ada\nCNF:1", "Lost"}, names(s.Misplaced))
	require.Len(t, s.Unreadable, 1)
	assert.Equal(t, "x", s.Unreadable[0].Value)
	assert.Equal(t, AttrLastLogon, s.Unreadable[0].Attr)
	var links []string
	for _, l := range s.PolicyLinks {
		links = append(links, l.Links)
	}
	assert.Equal(t, []string{"[LDAP://cn=a;0]", "[LDAP://cn=b;2]", "[LDAP://cn=c;0]"}, links)
	require.Len(t, s.Units, 1)
	assert.Equal(t, "2020-01-02", s.Units[0].Created.Time().Format(time.DateOnly))
	require.Len(t, s.GroupPolicies, 1)
	assert.Equal(t, "Screens", s.GroupPolicies[0].Title)
	require.Len(t, s.Groups, 2)
	admins, list := s.Groups[0], s.Groups[1]
	assert.Equal(t, "S-1-5-32-544", admins.SID)
	assert.True(t, admins.BuiltIn && admins.Security && admins.Marked && admins.Incomplete)
	assert.Equal(t, []Key{KeyOf("cn=ada,dc=x")}, admins.Members)
	assert.Len(t, admins.HasHistory, 1)
	assert.False(t, list.BuiltIn || list.Security || list.Marked || list.Incomplete)
	assert.Empty(t, s.References, "this server keeps references whole by itself")
	for a := range s.Accounts.All() {
		assert.Zero(t, a.RID)
	}
	assert.True(t, s.Shows(KindUser, AttrLastLogonTimestamp, AttrLastLogon))
	assert.False(t, s.Shows(KindUser, AttrLastLogonTimestamp))
	assert.False(t, s.Shows(KindComputer, AttrLastLogon))

	wanted := map[Key]bool{}
	for _, dn := range []string{"OU=Staff,DC=larkmoor,DC=example", "DC=larkmoor,DC=example", "CN=G,DC=larkmoor,DC=example", "CN=P,CN=Policies,CN=System,DC=larkmoor,DC=example",
		"CN=Ada\\0ACNF:1,OU=Staff,DC=larkmoor,DC=example", "CN=Nobody,DC=larkmoor,DC=example"} {
		wanted[KeyOf(dn)] = true
	}
	s.Find(wanted)
	assert.Equal(t, map[Key]bool{KeyOf("CN=Nobody,DC=larkmoor,DC=example"): true}, wanted)
}

func TestWhetherEveryServerWasAsked(t *testing.T) {
	controller := func(name string) [][]string {
		dn := "CN=" + name + ",CN=Servers,DC=x"
		return [][]string{{dn, "objectClass: server", "dNSHostName: " + name + ".larkmoor.example"}, {"CN=NTDS Settings," + dn, "objectClass: nTDSDSA"}}
	}
	two := append(controller("dc1"), controller("dc2")...)
	s := surveyFrom(t, AD, two...)
	assert.False(t, s.EveryServerAsked())
	s.Asked = []string{"DC1.larkmoor.example"}
	assert.False(t, s.EveryServerAsked())
	assert.Equal(t, []string{"dc2.larkmoor.example"}, s.Unasked())
	s.Asked = append(s.Asked, "dc2.larkmoor.example")
	assert.True(t, s.EveryServerAsked())
	assert.False(t, surveyFrom(t, AD).EveryServerAsked(), "no server is listed")
	assert.True(t, surveyFrom(t, OpenLDAP).EveryServerAsked())
}

func TestWhatOtherServersKnowOfSignIns(t *testing.T) {
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	early, late := MomentOf(now.AddDate(0, 0, -9), AttrLastLogon), MomentOf(now, AttrLastLogon)
	s := surveyFrom(t, AD, []string{"CN=a,DC=x", "objectClass: user", "objectGUID: id-of-a", "lastLogon: " + FormatFileTime(now.AddDate(0, 0, -5))},
		[]string{"CN=b,DC=x", "objectClass: user", "objectGUID: id-of-b"})
	s.Server = "dc1"
	s.TakeTimes("dc2", map[string]ServerTimes{"id-of-a": {LastLogon: early}})
	s.TakeTimes("dc3", map[string]ServerTimes{"id-of-a": {LastLogon: late}, "id-of-b": {LastLogon: early}, "id-of-c": {LastLogon: early}})
	assert.Equal(t, []string{"dc1", "dc2", "dc3"}, s.Asked)
	var got []string
	for a := range s.Accounts.All() {
		got = append(got, a.LastLogon.Time().Format(time.DateOnly)+" "+s.LogonServer(a))
	}
	assert.Equal(t, []string{"2026-11-23 dc3", "2026-11-14 dc3"}, got)
	c := s.Account(written(t, "CN=c,DC=x", "objectClass: user", "objectGUID: id-of-c"))
	assert.Equal(t, early, c.LastLogon)
	assert.True(t, c.Present.Has(AttrLastLogon))
	d := s.Account(written(t, "CN=d,DC=x", "objectClass: user", "objectGUID: id-of-d"))
	assert.False(t, d.Present.Has(AttrLastLogon))
	assert.Equal(t, "dc1", s.LogonServer(&d))
}

func TestReferencesToEntriesThatAreNotThere(t *testing.T) {
	s := surveyFrom(t, OpenLDAP,
		[]string{"dc=x", "objectClass: dcObject"},
		[]string{"uid=ada,dc=x", "objectClass: account", "gidNumber: 100", "manager: uid=bo,dc=x", "secretary: uid=Gone,dc=x"},
		[]string{"uid=bo,dc=x", "objectClass: account", "manager: uid=far,dc=elsewhere"},
		[]string{"cn=g,dc=x", "objectClass: groupOfUniqueNames", "objectClass: posixGroup", "gidNumber: 100", "memberUid: ada", "uniqueMember: uid=ada,dc=x#'01'B", "uniqueMember: uid=away,dc=x#'01'B", "uniqueMember: uid=odd#'01,dc=x", "memberURL: ldap:///x"})
	show := func() (out []string) {
		for _, r := range s.Unresolved() {
			out = append(out, r.From.Name()+" "+r.Attr.String()+" "+r.Name)
		}
		return out
	}
	assert.Equal(t, []string{"ada secretary uid=Gone,dc=x", "g uniqueMember uid=away,dc=x", "g uniqueMember uid=odd#'01,dc=x"}, show())
	s.Exists(KeyOf("uid=away,dc=x"))
	assert.Equal(t, []string{"ada secretary uid=Gone,dc=x", "g uniqueMember uid=odd#'01,dc=x"}, show())
	assert.True(t, s.GIDInUse("100"))
	assert.False(t, s.GIDInUse("101"))
	require.Len(t, s.Groups, 1)
	g := s.Groups[0]
	assert.True(t, g.Posix && g.Dynamic && g.Security)
	assert.Equal(t, []string{"ada"}, g.Logons)
	assert.Equal(t, "100", g.GID)
	assert.Equal(t, KeyOf("uid=ada,dc=x"), g.Members[0])
}

func TestTextsThatAreKept(t *testing.T) {
	const more = AttrOperatingSystem
	person := []string{"CN=Ada,DC=x", "objectClass: user", "sAMAccountName: ada", "mail: ada@larkmoor.example", "proxyAddresses: smtp:a@x", "proxyAddresses: SMTP:b@x", "operatingSystem: none"}
	machine := []string{"CN=PC1,DC=x", "objectClass: user", "objectClass: computer", "department: Optics", "operatingSystem: Otter 11"}
	for _, c := range []struct {
		more AttrSet
		want string
	}{
		{AttrSet{}, "ada: mail ada@larkmoor.example, proxyAddresses smtp:a@x, proxyAddresses SMTP:b@x; PC1: operatingSystem Otter 11"},
		{Attrs(more), "ada: mail ada@larkmoor.example, proxyAddresses smtp:a@x, proxyAddresses SMTP:b@x, operatingSystem none; PC1: operatingSystem Otter 11"},
	} {
		s := NewSurvey(AD)
		p := s.NewPart(2, c.more)
		for _, e := range [][]string{person, machine} {
			p.Add(AD, written(t, e[0], e[1:]...))
		}
		s.Merge(p)
		var all []string
		for a := range s.Accounts.All() {
			var texts []string
			for id, v := range a.Text.Values(personTexts.Union(machineTexts)) {
				texts = append(texts, id.String()+" "+v.Text())
			}
			all = append(all, a.Logon+": "+strings.Join(texts, ", "))
		}
		assert.Equal(t, c.want, strings.Join(all, "; "))
	}
}

func TestDialectOf(t *testing.T) {
	assert.Equal(t, AD, DialectOf(Attrs(AttrCN, AttrUserAccountControl)))
	assert.Equal(t, NS389, DialectOf(Attrs(AttrNsAccountLock)))
	assert.Equal(t, OpenLDAP, DialectOf(Attrs(AttrEntryUUID, AttrPwdChangedTime)))
	assert.Equal(t, OpenLDAP, DialectOf(AttrSet{}))
}

// A time that replication has not brought yet counts all the same.
func TestTimesThatAreKnownElsewhere(t *testing.T) {
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	ago := func(days int, attr AttrID) Moment { return MomentOf(now.AddDate(0, 0, -days), attr) }
	s := surveyFrom(t, AD, []string{"CN=a,DC=x", "objectClass: user", "objectGUID: id-of-a", "lastLogonTimestamp: " + FormatFileTime(now.AddDate(0, 0, -90)), "pwdLastSet: " + FormatFileTime(now.AddDate(0, 0, -400))},
		[]string{"CN=b,DC=x", "objectClass: user", "objectGUID: id-of-b", "lastLogonTimestamp: " + FormatFileTime(now.AddDate(0, 0, -2)), "pwdLastSet: 0"})
	s.TakeTimes("dc2", map[string]ServerTimes{"id-of-a": {LastLogonTS: ago(1, AttrLastLogonTimestamp), PasswordSet: ago(3, AttrPwdLastSet)}, "id-of-b": {LastLogonTS: ago(9, AttrLastLogonTimestamp), PasswordSet: ago(1, AttrPwdLastSet)}})
	var got []string
	for a := range s.Accounts.All() {
		got = append(got, fmt.Sprint(a.LastLogonTS.Time().Format(time.DateOnly), " ", a.PasswordSet.Time().Format(time.DateOnly), " ", a.MustChange))
	}
	assert.Equal(t, []string{"2026-11-22 2026-11-20 false", "2026-11-21 2026-11-22 false"}, got)
}

// What a Moment cannot tell is not told as something else: ends may be never,
// and what happened then cannot have.
func TestTimesOutOfReachAreNotMadeNearOnes(t *testing.T) {
	var bad AttrSet
	for _, c := range []struct {
		m                 Moment
		known, beyond, no bool
	}{
		{readTicks("134000000000000000", AttrPwdLastSet), true, false, false},
		{readTicks("500000000000000000", AttrAccountExpires), true, true, false},
		{readTicks("500000000000000000", AttrPwdLastSet), false, false, true},
		{readTicks("9223372036854775806", AttrLastLogon), false, false, true},
		{readTicks("-5", AttrPwdLastSet), false, false, true},
		{readGeneralized("15000101000000.0Z", AttrWhenCreated), false, false, true},
		{readGeneralized("16010101000000.0Z", AttrWhenCreated), true, false, false},
		{readGeneralized("99991231235959.0Z", AttrWhenCreated), false, false, true},
		{readGeneralized("99991231235959Z", AttrPwdEndTime), true, true, false},
		{readMoment("1000000", AttrShadowExpire, parseShadowDays), true, true, false},
	} {
		bad = AttrSet{}
		m := readTime(c.m, &bad)
		assert.Equal(t, []bool{c.known, c.beyond, c.no, c.no}, []bool{m.Known(), m.Beyond(), m.Unreadable(), bad.Has(m.Attr())}, "%s %s", m.Attr(), c.m.Time())
	}
}
