package audit

import (
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/calendar"
	"yardbroom/internal/directory"
	"yardbroom/internal/settings"
)

var asOf = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

const day = 24 * time.Hour

// ticks writes the file time of a moment so many days before asOf.
func ticks(days float64) string {
	return directory.FormatFileTime(asOf.Add(-time.Duration(days * float64(day))))
}

// gen writes the GeneralizedTime of such a moment.
func gen(days float64) string {
	return asOf.Add(-time.Duration(days * float64(day))).Format("20060102150405Z")
}

// entry makes an entry from "name=value" texts.
func entry(dn string, attrs ...string) directory.Entry {
	e := directory.Entry{DN: dn}
	for _, a := range attrs {
		name, value, _ := strings.Cut(a, "=")
		e.Set(name, append(slices.Clip(e.Get(name)), value)...)
	}
	return e
}

var domain = entry("DC=x", "objectClass=domainDNS", "lockoutDuration=-18000000000", "msDS-LogonTimeSyncInterval=14")

// user makes an ordinary enabled user, recently signed in, with changes.
func user(logon string, changes ...string) directory.Entry {
	base := map[string]string{"objectClass": "user", "sAMAccountName": logon, "userAccountControl": "512", "accountExpires": "0", "lastLogon": ticks(2),
		"lastLogonTimestamp": ticks(5), "whenCreated": gen(500), "pwdLastSet": ticks(10), "lockoutTime": "0"}
	return fill("CN="+logon+",OU=Staff,DC=x", base, changes)
}

func fill(dn string, base map[string]string, changes []string) directory.Entry {
	e := directory.Entry{DN: dn}
	for _, c := range changes {
		name, value, set := strings.Cut(c, "=")
		if name == "dn" {
			e.DN = value
			continue
		}
		if !set {
			delete(base, name)
			continue
		}
		base[name] = value
	}
	names := make([]string, 0, len(base))
	for name := range base {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		e.Set(name, strings.Split(base[name], "|")...)
	}
	return e
}

func survey(d *directory.Dialect, entries ...directory.Entry) *directory.Survey {
	s := directory.NewSurvey(d)
	part := s.NewPart(0, directory.AttrSet{})
	for i := range entries {
		part.Add(d, &entries[i])
	}
	s.Merge(part)
	s.Settle()
	return s
}

func run(t *testing.T, s *directory.Survey, change func(*settings.Settings), opt Options) *Report {
	t.Helper()
	set := settings.Defaults()
	set.Audit.Parking = []string{"OU=Parked,DC=x"}
	if change != nil {
		change(set)
	}
	opt.AsOf = asOf
	r, err := Run(s, set, opt)
	require.NoError(t, err)
	return r
}

// found writes findings as "check account confidence days".
func found(r *Report, check string) []string {
	var out []string
	for _, f := range r.Findings {
		if f.Check == check {
			out = append(out, fmt.Sprintf("%s %s %d", f.Account, f.Confidence, f.Days))
		}
	}
	return out
}

func TestActivityOnTheADSchema(t *testing.T) {
	entries := []directory.Entry{domain,
		user("on-the-line", "lastLogon="+ticks(90), "lastLogonTimestamp="+ticks(95)),
		user("a-second-short", "lastLogon="+ticks(90-1.0/86400)),
		user("replicated-wins", "lastLogon="+ticks(400), "lastLogonTimestamp="+ticks(120)),
		user("lately-elsewhere", "lastLogon="+ticks(400), "lastLogonTimestamp="+ticks(20)),
		user("old-enough-to-be-sure", "lastLogon="+ticks(104), "lastLogonTimestamp="+ticks(110)),
		user("disabled", "userAccountControl=514", "lastLogon="+ticks(400), "lastLogonTimestamp"),
		user("expired-too", "accountExpires="+ticks(1), "lastLogon="+ticks(400), "lastLogonTimestamp"),
		user("expires-this-instant", "accountExpires="+ticks(0), "lastLogon="+ticks(1)),
		user("expires-later", "accountExpires="+ticks(-1), "lastLogon="+ticks(400), "lastLogonTimestamp"),
		user("never-expires", "accountExpires=9223372036854775807", "lastLogon="+ticks(1)),
		user("never", "lastLogon=0", "lastLogonTimestamp", "whenCreated="+gen(30)),
		user("never-new", "lastLogon=0", "lastLogonTimestamp", "whenCreated="+gen(29.9)),
		user("never-absent", "lastLogon", "lastLogonTimestamp", "whenCreated="+gen(31)),
		user("future", "lastLogon="+ticks(-1), "lastLogonTimestamp"),
		user("future-but-known", "lastLogon="+ticks(-1), "lastLogonTimestamp="+ticks(200)),
		user("unreadable", "lastLogon=soon", "lastLogonTimestamp"),
		user("computer$", "objectClass=user|computer", "userAccountControl=4096", "lastLogon="+ticks(400), "lastLogonTimestamp"),
		user("gmsa$", "objectClass=user|computer|msDS-GroupManagedServiceAccount", "userAccountControl=4096", "lastLogon="+ticks(300), "lastLogonTimestamp"),
		user("room", "msExchRecipientTypeDetails=16", "lastLogon="+ticks(400), "lastLogonTimestamp"),
		user("linked", "msExchMasterAccountSid=x", "lastLogon="+ticks(400), "lastLogonTimestamp"),
		user("trust$", "userAccountControl=2080", "lastLogon="+ticks(400), "lastLogonTimestamp"),
		user("system", "isCriticalSystemObject=TRUE", "lastLogon="+ticks(400), "lastLogonTimestamp"),
	}
	r := run(t, survey(directory.AD, entries...), nil, Options{})
	assert.Equal(t, []string{"expires-later sure 400", "gmsa$ likely 300", "future-but-known sure 200", "replicated-wins sure 120", "old-enough-to-be-sure sure 104", "on-the-line likely 90"}, found(r, "stale"))
	assert.Equal(t, []string{"never-absent sure 31", "never sure 30"}, found(r, "never-used"))
	assert.Equal(t, []string{"expired-too sure 1", "expires-this-instant sure 0"}, found(r, "expired"))
	assert.Equal(t, []string{"future sure 0", "future-but-known sure 0", "unreadable sure 0"}, found(r, "unreadable-value"))
}

func TestOneServerProvesALastLogon(t *testing.T) {
	s := survey(directory.AD, domain, user("short", "lastLogon="+ticks(91), "lastLogonTimestamp"), entry("CN=NTDS Settings,CN=DC1,CN=Sites,DC=x", "objectClass=nTDSDSA"))
	assert.Equal(t, []string{"short sure 91"}, found(run(t, s, nil, Options{}), "stale"))
	s = survey(directory.AD, domain, user("short", "lastLogon="+ticks(91), "lastLogonTimestamp"), entry("CN=NTDS Settings,CN=DC1,CN=Sites,DC=x", "objectClass=nTDSDSA"),
		entry("CN=NTDS Settings,CN=DC2,CN=Sites,DC=x", "objectClass=nTDSDSA"))
	assert.Equal(t, []string{"short likely 91"}, found(run(t, s, nil, Options{}), "stale"))
}

func TestAReplicatedValueThatIsNotMaintainedIsIgnored(t *testing.T) {
	off := entry("DC=x", "objectClass=domainDNS", "msDS-LogonTimeSyncInterval=0")
	s := survey(directory.AD, off, user("a", "lastLogon="+ticks(400), "lastLogonTimestamp="+ticks(1)))
	assert.Equal(t, []string{"a likely 400"}, found(run(t, s, nil, Options{}), "stale"))
}

func TestStateOnTheADSchema(t *testing.T) {
	pso := entry("CN=Strict,CN=Password Settings Container,DC=x", "objectClass=msDS-PasswordSettings", "msDS-LockoutDuration=-36000000000") // an hour
	forever := entry("CN=Forever,CN=Password Settings Container,DC=x", "objectClass=msDS-PasswordSettings", "msDS-LockoutDuration=-9223372036854775808")
	minutes := func(n float64) string { return ticks(n / 24 / 60) }
	s := survey(directory.AD, domain, pso, forever,
		user("off", "userAccountControl=514"),
		user("off-parked", "dn=CN=off-parked,OU=Old,OU=Parked,DC=x", "userAccountControl=66050"),
		user("off-beside", "dn=CN=off-beside,OU=NotParked,DC=x", "userAccountControl=514"),
		user("pc$", "objectClass=user|computer", "userAccountControl=4098"),
		user("gmsa$", "objectClass=user|computer|msDS-ManagedServiceAccount", "userAccountControl=4098"),
		user("locked", "lockoutTime="+minutes(29)),
		user("lock-over", "lockoutTime="+minutes(30)),
		user("lock-pso", "lockoutTime="+minutes(45), "msDS-ResultantPSO=CN=Strict,CN=Password Settings Container,DC=x"),
		user("lock-for-ever", "lockoutTime="+ticks(300), "msDS-ResultantPSO=cn=forever,cn=password settings container,dc=X"),
		user("lock-unknown", "lockoutTime="+ticks(300), "msDS-ResultantPSO=CN=Hidden,DC=x"),
		user("locked-and-off", "lockoutTime="+minutes(1), "userAccountControl=514"),
		user("administrator", "isCriticalSystemObject=TRUE", "objectSid="+rid(500), "lockoutTime="+minutes(1)),
		user("guest", "objectSid="+rid(501), "userAccountControl=514", "lockoutTime="+minutes(1)),
	)
	r := run(t, s, nil, Options{})
	assert.Equal(t, []string{"gmsa$ sure 0", "locked-and-off sure 0", "off sure 0", "off-beside sure 0", "off-parked sure 0", "pc$ sure 0"}, found(r, "disabled"))
	assert.Equal(t, []string{"locked-and-off sure 0", "off sure 0", "off-beside sure 0", "pc$ sure 0"}, found(r, "disabled-astray"))
	assert.Equal(t, []string{"lock-for-ever sure 300", "lock-unknown likely 300", "administrator sure 0", "lock-pso sure 0", "locked sure 0"}, found(r, "locked-out"))
}

func rid(n uint32) string {
	raw, err := directory.EncodeSID("S-1-5-21-1-2-3-" + strconv.FormatUint(uint64(n), 10))
	if err != nil {
		panic(err)
	}
	return raw
}

func TestTheServersOwnWordOnLocksCountsForTheMomentOfTheSurveyOnly(t *testing.T) {
	s := survey(directory.AD, domain, user("a", "lockoutTime="+ticks(0.001), "msDS-User-Account-Control-Computed=0"), user("b", "lockoutTime="+ticks(10), "msDS-User-Account-Control-Computed=16"))
	s.Taken = asOf
	assert.Equal(t, []string{"b sure 10"}, found(run(t, s, nil, Options{}), "locked-out"))
	s.Taken = asOf.Add(-time.Second)
	assert.Equal(t, []string{"a sure 0"}, found(run(t, s, nil, Options{}), "locked-out"))
}

func TestMetadataDatesTheDisabling(t *testing.T) {
	seconds := uint64(asOf.Add(-40*day).Unix() + 11644473600)
	b := make([]byte, 16+96)
	b[0], b[8] = 1, 2
	copy(b[16:], []byte{3, 0, 0, 0})
	copy(b[64:], []byte{8, 0, 9, 0, 1, 0, 0, 0})
	for i := range 8 {
		b[72+i] = byte(seconds >> (8 * i))
	}
	r := run(t, survey(directory.AD, domain, user("off", "userAccountControl=514", "replPropertyMetaData="+string(b))), nil, Options{})
	assert.Equal(t, []string{"off sure 40"}, found(r, "disabled"))
}

// person makes an ordinary OpenLDAP account.
func person(uid string, changes ...string) directory.Entry {
	return fill("uid="+uid+",ou=people,dc=x", map[string]string{"objectClass": "inetOrgPerson", "uid": uid, "createTimestamp": gen(400), "pwdLastSuccess": gen(3), "entryUUID": uid}, changes)
}

func TestOpenLDAP(t *testing.T) {
	policy := entry("cn=default,ou=policies,dc=x", "objectClass=pwdPolicy", "pwdLockout=TRUE", "pwdLockoutDuration=600")
	lax := entry("cn=lax,ou=policies,dc=x", "objectClass=pwdPolicy", "pwdLockout=FALSE")
	hard := entry("cn=hard,ou=policies,dc=x", "objectClass=pwdPolicy", "pwdLockout=TRUE")
	entries := []directory.Entry{policy, lax, hard,
		person("stale", "pwdLastSuccess="+gen(90)),
		person("auth", "pwdLastSuccess", "authTimestamp="+gen(120)),
		person("fresh"),
		person("never", "pwdLastSuccess"),
		person("never-again", "pwdLastSuccess", "pwdChangedTime="+gen(100)),
		person("never-since", "pwdLastSuccess", "pwdChangedTime="+gen(400)),
		person("off", "pwdAccountLockedTime=000001010000Z", "pwdLastSuccess="+gen(300)),
		person("off-in-vain", "pwdAccountLockedTime=000001010000Z", "pwdPolicySubentry=cn=lax,ou=policies,dc=x", "pwdLastSuccess="+gen(300)),
		person("off-by-whom", "pwdAccountLockedTime=000001010000Z", "pwdPolicySubentry=cn=hidden,dc=x"),
		person("not-yet", "pwdStartTime="+gen(-5), "pwdLastSuccess="+gen(300)),
		person("over", "pwdEndTime="+gen(5), "pwdLastSuccess="+gen(300)),
		person("locked", "pwdAccountLockedTime="+gen(0.001)),
		person("lock-over", "pwdAccountLockedTime="+gen(1)),
		person("lock-hard", "pwdAccountLockedTime="+gen(50), "pwdPolicySubentry=CN=hard,ou=Policies,dc=x"),
		person("lock-lax", "pwdAccountLockedTime="+gen(0.001), "pwdPolicySubentry=cn=lax,ou=policies,dc=x"),
		person("shadow", "shadowExpire="+strconv.FormatInt(asOf.Add(-10*day).Unix()/86400, 10)),
		person("shadow-never", "shadowExpire=-1"),
	}
	s := survey(directory.OpenLDAP, entries...)
	s.DefaultPolicy = directory.FoldDN("cn=default,ou=policies,dc=x")
	r := run(t, s, nil, Options{})
	assert.Equal(t, []string{"off-in-vain sure 300", "auth sure 120", "stale sure 90"}, found(r, "stale"))
	assert.Equal(t, []string{"never sure 400", "never-again likely 400", "never-since sure 400"}, found(r, "never-used"))
	assert.Equal(t, []string{"over sure 5", "not-yet sure 0", "off sure 0", "off-by-whom likely 0"}, found(r, "disabled"))
	assert.Equal(t, []string{"lock-hard sure 50", "locked sure 0"}, found(r, "locked-out"))
	assert.Equal(t, []string{"shadow sure 10"}, found(r, "expired"))
}

func TestWhereNobodyIsDisabledOpenLDAPFindingsAreLikely(t *testing.T) {
	r := run(t, survey(directory.OpenLDAP, person("stale", "pwdLastSuccess="+gen(90))), nil, Options{})
	assert.Equal(t, []string{"stale likely 90"}, found(r, "stale"))
}

func TestAbsenceIsNoEvidenceWherePresenceCouldNotBeSeen(t *testing.T) {
	none := user("a", "lastLogon", "lastLogonTimestamp")
	r := run(t, survey(directory.AD, domain, none), nil, Options{})
	assert.Empty(t, r.Findings)
	byName := map[string]Summary{}
	for _, s := range r.Summary {
		byName[s.Check] = s
	}
	assert.False(t, byName["never-used"].Looked)
	assert.Contains(t, byName["never-used"].NotLooked[0], "users: none shows lastLogon or lastLogonTimestamp")
	assert.True(t, byName["disabled"].Looked)

	// One kind can be looked at while another cannot.
	r = run(t, survey(directory.AD, domain, none, user("gmsa$", "objectClass=user|computer|msDS-ManagedServiceAccount", "lastLogon="+ticks(300), "lastLogonTimestamp")), nil, Options{Checks: []string{"stale"}})
	assert.Equal(t, []string{"gmsa$ likely 300"}, found(r, "stale"))
	assert.Len(t, r.Summary[0].NotLooked, 1)

	// Without userAccountControl nobody can be called enabled.
	r = run(t, survey(directory.AD, domain, user("a", "userAccountControl", "lastLogon="+ticks(300))), nil, Options{})
	assert.Empty(t, r.Findings)
}

func TestScopeLimitsFindingsOnly(t *testing.T) {
	s := survey(directory.AD, domain, user("in", "lastLogon="+ticks(300), "lastLogonTimestamp="+ticks(300)),
		user("out", "dn=CN=out,OU=Robots,OU=Staff,DC=x", "lastLogon="+ticks(300), "lastLogonTimestamp="+ticks(300)),
		user("elsewhere", "dn=CN=elsewhere,DC=x", "lastLogon="+ticks(300), "lastLogonTimestamp="+ticks(300)))
	r := run(t, s, nil, Options{Scope: []string{"ou=staff,dc=X"}, LeaveOut: []string{"OU=Robots,OU=Staff,DC=x"}})
	assert.Equal(t, []string{"in sure 300"}, found(r, "stale"))
}

func TestSettingsChangeSeveritiesAndSwitchChecksOff(t *testing.T) {
	s := survey(directory.AD, domain, user("a", "lastLogon="+ticks(40), "lastLogonTimestamp="+ticks(45)))
	r := run(t, s, func(set *settings.Settings) {
		set.Audit.StaleAfter = calendar.Days(20)
		set.Audit.Checks = map[string]string{"stale": "high", "disabled": "off"}
	}, Options{})
	require.Len(t, r.Findings, 1)
	assert.Equal(t, High, r.Findings[0].Severity)
	assert.Contains(t, r.Summary[len(r.Summary)-1].NotLooked, "switched off in the settings")
	set := settings.Defaults()
	set.Audit.Checks = map[string]string{"no-such": "off"}
	_, err := Run(s, set, Options{AsOf: asOf})
	assert.ErrorContains(t, err, "no-such")
	set.Audit.Checks = map[string]string{"stale": "loud"}
	_, err = Run(s, set, Options{AsOf: asOf})
	assert.ErrorContains(t, err, "loud")
}

func TestEveryCheckIsDocumented(t *testing.T) {
	names, err := os.ReadDir("doc")
	require.NoError(t, err)
	assert.Len(t, names, len(Checks))
	for _, c := range Checks {
		assert.Contains(t, c.Doc(), "**What it looks at.**", c.Name)
		assert.Contains(t, c.Doc(), "**What to do.**", c.Name)
	}
}

func BenchmarkAudit(b *testing.B) {
	r := rand.New(rand.NewPCG(1, 1))
	entries := []directory.Entry{domain}
	for i := range 50000 {
		entries = append(entries, newFacts(r, i).entry())
	}
	set := settings.Defaults()
	set.Audit.Parking = []string{"OU=Parked,DC=x"}
	s := survey(directory.AD, entries...)
	b.ReportAllocs()
	for b.Loop() {
		if _, err := Run(s, set, Options{AsOf: asOf}); err != nil {
			b.Fatal(err)
		}
	}
}
