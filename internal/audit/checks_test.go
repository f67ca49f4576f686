package audit

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/directory"
	"yardbroom/internal/settings"
)

// who lists the accounts of a check's findings, in the report's order.
func who(r *Report, check string) []string {
	var out []string
	for _, f := range r.Findings {
		if f.Check == check {
			out = append(out, f.Account)
		}
	}
	return out
}

// proof returns the evidence of an account's finding, as "attr=value".
func proof(r *Report, check, account string) []string {
	var out []string
	for _, f := range r.Findings {
		if f.Check == check && f.Account == account {
			for _, e := range f.Evidence {
				out = append(out, e.Attr+"="+e.Value)
			}
		}
	}
	return out
}

func computer(name string, changes ...string) directory.Entry {
	return user(name, append([]string{"objectClass=user|computer", "userAccountControl=4096"}, changes...)...)
}

func TestComputers(t *testing.T) {
	s := survey(directory.AD, domain,
		computer("on-the-line$", "lastLogon="+ticks(90), "lastLogonTimestamp="+ticks(95), "pwdLastSet="+ticks(100)),
		computer("password-is-later$", "lastLogon="+ticks(400), "lastLogonTimestamp="+ticks(400), "pwdLastSet="+ticks(200)),
		computer("password-is-fresh$", "lastLogon="+ticks(400), "lastLogonTimestamp="+ticks(400), "pwdLastSet="+ticks(20)),
		computer("a-second-short$", "lastLogon="+ticks(90-1.0/86400), "pwdLastSet="+ticks(100)),
		computer("off$", "userAccountControl=4098", "lastLogon="+ticks(400), "pwdLastSet="+ticks(400)),
		computer("waiting$", "lastLogon=0", "lastLogonTimestamp", "whenCreated="+gen(40), "pwdLastSet=0"),
		computer("set-at-birth$", "lastLogon", "lastLogonTimestamp", "whenCreated="+gen(40), "pwdLastSet="+ticks(39.5)),
		computer("set-later$", "lastLogon", "lastLogonTimestamp", "whenCreated="+gen(40), "pwdLastSet="+ticks(38.9)),
		computer("waiting-new$", "lastLogon=0", "lastLogonTimestamp", "whenCreated="+gen(29), "pwdLastSet=0"),
		computer("old$", "operatingSystem=Workstation 7 Pro"),
	)
	r := run(t, s, func(set *settings.Settings) { set.Audit.UnsupportedSystems = []string{`^workstation 7\b`} }, Options{})
	assert.Equal(t, []string{"password-is-later$ sure 200", "on-the-line$ likely 90"}, found(r, "stale-computer"))
	assert.Equal(t, []string{"set-at-birth$ sure 40", "waiting$ sure 40"}, found(r, "unjoined-computer"))
	assert.Equal(t, []string{"old$"}, who(r, "unsupported-system"))
}

func TestMustChangeAndWhatWillExpire(t *testing.T) {
	s := survey(directory.AD, entry("DC=x", "objectClass=domainDNS", "lockoutDuration=-18000000000", "maxPwdAge=-864000000000000"), // 1000 days
		user("told", "pwdLastSet=0", "whenCreated="+gen(30)), user("told-new", "pwdLastSet=0", "whenCreated="+gen(29)),
		user("told-off", "pwdLastSet=0", "userAccountControl=514"),
		user("soon", "accountExpires="+ticks(-14)), user("not-soon", "accountExpires="+ticks(-14.1)), user("now", "accountExpires="+ticks(0)),
		user("pw-soon", "pwdLastSet="+ticks(990)), user("pw-not-soon", "pwdLastSet="+ticks(980)), user("pw-over", "pwdLastSet="+ticks(1001)),
		user("pw-never", "pwdLastSet="+ticks(990), "userAccountControl=66048"),
		user("server-says", "msDS-UserPasswordExpiryTimeComputed="+ticks(-3)), user("server-says-never", "msDS-UserPasswordExpiryTimeComputed=9223372036854775807", "pwdLastSet="+ticks(990)))
	r := run(t, s, nil, Options{})
	assert.Equal(t, []string{"told sure 30"}, found(r, "must-change-overdue"))
	assert.Empty(t, who(r, "expiring"), "off unless asked for")
	r = run(t, s, func(set *settings.Settings) {
		set.Audit.Checks = map[string]string{"expiring": "on", "password-expiring": "low"}
	}, Options{})
	assert.Equal(t, []string{"soon"}, who(r, "expiring"))
	assert.Equal(t, []string{"pw-soon", "server-says"}, who(r, "password-expiring"))
	for _, sum := range r.Summary {
		if sum.Check == "password-expiring" {
			assert.Equal(t, Low, sum.Severity)
		}
	}
}

func TestEarly(t *testing.T) {
	set := settings.Defaults()
	set.Audit.StartAttribute = "extensionAttribute3"
	keep, err := Attributes(set)
	require.NoError(t, err)
	s := directory.NewSurvey(directory.AD)
	part := s.NewPart(0, keep)
	for _, e := range []directory.Entry{domain, user("newcomer", "extensionAttribute3=2026-12-01"), user("today", "extensionAttribute3=2026-11-23"),
		user("time", "extensionAttribute3=20261201000000Z"), user("off", "extensionAttribute3=2026-12-01", "userAccountControl=514"), user("odd", "extensionAttribute3=next year")} {
		part.Add(directory.AD, &e)
	}
	s.Merge(part)
	r, err := Run(s, set, Options{AsOf: asOf})
	require.NoError(t, err)
	assert.Equal(t, []string{"newcomer", "time"}, who(r, "early"))
}

func TestHowLongDisabled(t *testing.T) {
	group := entry("CN=Crew,DC=x", "objectClass=group", "sAMAccountName=Crew", "objectSid="+rid(1200), "member=CN=in,OU=Staff,DC=x", "member=CN=in-enabled,OU=Staff,DC=x", "member=CN=only-primary,OU=Staff,DC=x")
	s := survey(directory.AD, domain, group,
		user("by-change", "userAccountControl=514", "whenChanged="+gen(180), "lastLogon="+ticks(200), "lastLogonTimestamp="+ticks(200), "pwdLastSet="+ticks(300)),
		user("by-logon", "userAccountControl=514", "whenChanged="+gen(300), "lastLogon="+ticks(190), "lastLogonTimestamp="+ticks(200), "pwdLastSet="+ticks(300)),
		user("by-password", "userAccountControl=514", "whenChanged="+gen(300), "lastLogon="+ticks(290), "lastLogonTimestamp="+ticks(290), "pwdLastSet="+ticks(179)),
		user("in", "userAccountControl=514"), user("in-enabled"), user("out", "userAccountControl=514"),
		user("only-primary", "userAccountControl=514", "primaryGroupID=1200"))
	r := run(t, s, nil, Options{})
	assert.Equal(t, []string{"by-logon likely 190", "by-change likely 180"}, found(r, "disabled-overdue"))
	assert.Equal(t, []string{"in"}, who(r, "disabled-entitled"))
	assert.Equal(t, []string{"userAccountControl=514 (disabled)", "member of=Crew"}, proof(r, "disabled-entitled", "in"))
}

func TestResourcesGuestsAndLeftovers(t *testing.T) {
	s := survey(directory.AD, domain,
		user("room", "msExchRecipientTypeDetails=16", "userAccountControl=512"), user("room-off", "msExchRecipientTypeDetails=16", "userAccountControl=514"),
		user("Gast", "objectSid="+rid(501), "isCriticalSystemObject=TRUE"), user("Administrator", "objectSid="+rid(500), "isCriticalSystemObject=TRUE"),
		entry("CN=Lost\\0ACNF:7c1f2a30-4a7e-4f0e-9b51-02d7f8f1b0aa,DC=x", "objectClass=container"),
		entry("CN=orphan,CN=LostAndFound,DC=x", "objectClass=container"), entry("CN=LostAndFound,DC=x", "objectClass=lostAndFound"),
		entry("CN=CNF: a study,DC=x", "objectClass=container"))
	r := run(t, s, nil, Options{})
	assert.Equal(t, []string{"room"}, who(r, "resource-enabled"))
	assert.Equal(t, []string{"Gast"}, who(r, "guest-enabled"))
	assert.Len(t, who(r, "conflict-object"), 2)
	assert.Empty(t, who(r, "password-never-expires"))
}

func TestPasswordAndSignInFlags(t *testing.T) {
	admin := func(flags string) directory.Entry {
		return user("Administrator", "objectSid="+rid(500), "isCriticalSystemObject=TRUE", "userAccountControl="+flags)
	}
	s := survey(directory.AD, domain, admin("4260384"), // no password required, no pre-authentication, never expires
		user("never-expires", "userAccountControl=66048"), user("never-expires-off", "userAccountControl=66050"),
		user("none-needed", "userAccountControl=544"),
		user("old", "pwdLastSet="+ticks(365)), user("not-old", "pwdLastSet="+ticks(364.99)), user("none", "pwdLastSet=0"),
		user("reversible", "userAccountControl=640"), user("des", "userAccountControl=2097664"), user("no-pre", "userAccountControl=4194816"),
		computer("web$", "userAccountControl=528384"), computer("dc$", "userAccountControl=532480", "primaryGroupID=516"), computer("rodc$", "userAccountControl=528384", "primaryGroupID=521"),
		user("all", "userAccountControl=6815872"),
		user("middle", "msDS-AllowedToDelegateTo=http/a.x|cifs/b.x"), user("transition", "userAccountControl=16777728"), user("middle-off", "msDS-AllowedToDelegateTo=http/a.x", "userAccountControl=514"),
		user("spn", "servicePrincipalName=http/a.x"), user("spn-off", "servicePrincipalName=http/b.x", "userAccountControl=514"), computer("pc$", "servicePrincipalName=HOST/pc"),
		user("migrated", "sIDHistory="+rid(900)),
		user("krbtgt", "objectSid="+rid(502), "userAccountControl=514", "pwdLastSet="+ticks(180)), user("krbtgt_7", "msDS-SecondaryKrbTgtNumber=7", "userAccountControl=514", "pwdLastSet="+ticks(179)),
		user("owned$", "objectClass=user|computer|msDS-ManagedServiceAccount", "managedBy=CN=spn,OU=Staff,DC=x"), user("ownerless$", "objectClass=user|computer|msDS-ManagedServiceAccount"),
		user("exempted$", "objectClass=user|computer|msDS-ManagedServiceAccount"))
	r := run(t, s, nil, Options{Exemptions: []Exemption{{Exemption: settings.Exemption{Match: settings.Match{Account: "EXEMPTED$"}, Checks: []string{"stale"}, Reason: "telescope", Owner: "workshop"}}}})
	assert.Equal(t, []string{"never-expires"}, who(r, "password-never-expires"))
	assert.Equal(t, []string{"Administrator", "none-needed"}, who(r, "password-not-required"))
	assert.Equal(t, []string{"old sure 365"}, found(r, "password-old"))
	assert.Equal(t, []string{"Administrator", "all", "des", "no-pre", "reversible", "web$"}, who(r, "weak-sign-in"))
	assert.Equal(t, []string{"userAccountControl=6815872 (password kept reversibly, DES keys only, no Kerberos pre-authentication, delegation to any service)"}, proof(r, "weak-sign-in", "all"))
	assert.Equal(t, []string{"middle", "transition"}, who(r, "delegation"))
	assert.Equal(t, []string{"msDS-AllowedToDelegateTo=cifs/b.x; http/a.x"}, proof(r, "delegation", "middle"))
	assert.Equal(t, []string{"spn"}, who(r, "service-name-on-user"))
	assert.Equal(t, []string{"migrated"}, who(r, "sid-history"))
	assert.Equal(t, []string{"krbtgt sure 180"}, found(r, "key-account-password-old"))
	assert.Equal(t, []string{"ownerless$"}, who(r, "service-ownerless"))
}

func TestExemptions(t *testing.T) {
	old := []string{"lastLogon=" + ticks(300), "lastLogonTimestamp=" + ticks(300), "pwdLastSet=" + ticks(400)}
	s := survey(directory.AD, domain, user("a", old...), user("b", old...), user("c", old...), user("d", append(old, "dn=CN=d,OU=Robots,DC=x")...), user("e", old...), user("f", old...))
	exempt := func(m settings.Match, until time.Time, checks ...string) Exemption {
		return Exemption{Exemption: settings.Exemption{Match: m, Reason: "because", Owner: "rosa", Checks: checks}, Until: until}
	}
	filtered := exempt(settings.Match{Filter: "(cn=e)"}, time.Time{})
	filtered.Selected = map[directory.Key]bool{directory.KeyOf("cn=E,ou=Staff,dc=x"): true}
	r := run(t, s, nil, Options{Exemptions: []Exemption{
		exempt(settings.Match{Account: "A"}, time.Time{}),
		exempt(settings.Match{DN: "cn=b,ou=staff,dc=X"}, asOf, "stale"), // ends this instant: still in force
		exempt(settings.Match{Account: "c"}, asOf.Add(-time.Second)),
		exempt(settings.Match{Subtree: "OU=Robots,DC=x"}, time.Time{}),
		filtered,
		exempt(settings.Match{Account: "nobody"}, time.Time{}),
		exempt(settings.Match{Subtree: "OU=Nowhere,DC=x"}, time.Time{}),
	}})
	assert.Equal(t, []string{"c", "f"}, who(r, "stale"))
	assert.Equal(t, []string{"b", "c", "f"}, who(r, "password-old"))
	assert.Equal(t, []string{"c"}, who(r, "exemption-ended"))
	assert.Equal(t, []string{"below OU=Nowhere,DC=x", "nobody"}, who(r, "exemption-unused"))
	for _, sum := range r.Summary {
		if sum.Check == "stale" {
			assert.Equal(t, 4, sum.Exempted)
		}
	}
	assert.Positive(t, r.Exempted)
	_, err := Run(s, settings.Defaults(), Options{AsOf: asOf, Exemptions: []Exemption{exempt(settings.Match{Account: "a"}, time.Time{}, "no-such")}})
	assert.ErrorContains(t, err, "no-such")
	assert.Contains(t, Why([]Exemption{exempt(settings.Match{Account: "a"}, time.Time{})}, asOf, "CN=a,DC=x", "a"), "because")
	assert.Empty(t, Why([]Exemption{exempt(settings.Match{Account: "a"}, time.Time{}, "stale")}, asOf, "CN=a,DC=x", "a"), "only one check leaves it out")
}

func TestSignInsSeenElsewhereCount(t *testing.T) {
	s := survey(directory.AD, domain, user("bearer"), user("vpn", "lastLogon="+ticks(300), "lastLogonTimestamp="+ticks(300)), user("mail", "lastLogon=0", "lastLogonTimestamp", "whenCreated="+gen(100)),
		user("long-ago", "lastLogon="+ticks(300), "lastLogonTimestamp="+ticks(300)))
	s.Elsewhere = map[directory.Key]directory.SignIn{
		directory.TextKey("VPN"):      {At: asOf.Add(-time.Hour), Source: "vpn"},
		directory.TextKey("mail"):     {At: asOf.Add(-time.Hour), Source: "mail"},
		directory.TextKey("long-ago"): {At: asOf.Add(-200 * day), Source: "vpn"},
	}
	r := run(t, s, nil, Options{})
	assert.Equal(t, []string{"long-ago sure 200"}, found(r, "stale"))
	assert.Contains(t, proof(r, "stale", "long-ago"), "source=vpn")
	assert.Empty(t, found(r, "never-used"))
}

func TestTheLatestLogonOfAllServersWins(t *testing.T) {
	dc := func(name string) []directory.Entry {
		at := "CN=" + name + ",CN=Servers,DC=x"
		return []directory.Entry{entry(at, "objectClass=server", "dNSHostName="+name+".x"), entry("CN=NTDS Settings,"+at, "objectClass=nTDSDSA")}
	}
	entries := append(append(dc("dc1"), dc("dc2")...), domain, user("here", "objectGUID=1", "lastLogon="+ticks(91), "lastLogonTimestamp"), user("there", "objectGUID=2", "lastLogon="+ticks(300), "lastLogonTimestamp"),
		user("nowhere", "objectGUID=3", "lastLogon=0", "lastLogonTimestamp", "whenCreated="+gen(50)))
	s := survey(directory.AD, entries...)
	s.Server, s.Asked = "DC1.x", []string{"DC1.x"}
	assert.Equal(t, []string{"there likely 300", "here likely 91"}, found(run(t, s, nil, Options{}), "stale"))
	s.TakeTimes("dc2.X", map[string]directory.ServerTimes{"2": {LastLogon: directory.MomentOf(asOf.Add(-100*day), directory.AttrLastLogon)}, "1": {LastLogon: directory.MomentOf(asOf.Add(-400*day), directory.AttrLastLogon)}})
	r := run(t, s, nil, Options{})
	assert.Equal(t, []string{"there sure 100", "here sure 91"}, found(r, "stale"))
	assert.Equal(t, []string{"nowhere sure 50"}, found(r, "never-used"))
	assert.Contains(t, proof(r, "stale", "there"), "server=dc2.X")
	assert.Contains(t, proof(r, "stale", "here"), "server=DC1.x")

	silent := survey(directory.AD, entries...)
	silent.Server, silent.Asked, silent.Silent, silent.SilentWhy = "DC1.x", []string{"DC1.x"}, []string{"dc2.x"}, []string{"no answer"}
	r = run(t, silent, nil, Options{})
	assert.Equal(t, []string{"there likely 300", "here likely 91"}, found(r, "stale"))
	assert.Contains(t, r.Notes[0], "dc2.x did not tell its sign-ins")
}

func Test389(t *testing.T) {
	person389 := func(uid string, changes ...string) directory.Entry {
		return fill("uid="+uid+",ou=people,dc=x", map[string]string{"objectClass": "inetOrgPerson", "uid": uid, "createTimestamp": gen(400), "lastLoginTime": gen(3), "nsUniqueId": uid}, changes)
	}
	s := survey(directory.NS389, person389("fresh"), person389("stale", "lastLoginTime="+gen(91)), person389("never", "lastLoginTime"),
		person389("off", "nsAccountLock=TRUE", "lastLoginTime="+gen(300)), person389("not-off", "nsAccountLock=false", "lastLoginTime="+gen(300)),
		person389("locked", "accountUnlockTime="+gen(-0.01)), person389("lock-over", "accountUnlockTime="+gen(0.01)),
		person389("for-ever", "accountUnlockTime=19700101000000Z", "passwordRetryCount=3"), person389("not-yet", "accountUnlockTime=19700101000000Z", "passwordRetryCount=2"),
		person389("told", "passwordExpirationTime=19700101000000Z"),
		person389("pw-old", "pwdUpdateTime="+gen(366)), person389("pw-by-expiry", "passwordExpirationTime="+gen(-1)))
	server := entry("cn=config", "passwordMaxFailure=3", "passwordExp=on", "passwordMaxAge=31622400") // 366 days
	s.ServerPolicy(&server)
	r := run(t, s, nil, Options{})
	assert.Equal(t, []string{"not-off sure 300", "stale sure 91"}, found(r, "stale"))
	assert.Equal(t, []string{"never sure 400"}, found(r, "never-used"))
	assert.Equal(t, []string{"off"}, who(r, "disabled"))
	assert.Equal(t, []string{"for-ever", "locked"}, who(r, "locked-out"))
	assert.Equal(t, []string{"told"}, who(r, "must-change-overdue"))
	assert.Equal(t, []string{"pw-old sure 366", "pw-by-expiry sure 365"}, found(r, "password-old"))

	s.DefaultPolicy = "" // the configuration cannot be read
	assert.Equal(t, []string{"for-ever likely 0", "locked sure 0", "not-yet likely 0"}, found(run(t, s, nil, Options{}), "locked-out"))
}

// TestEvidenceOfWhatIsThere holds what is shown as proof where the mere state of
// an entry is reported.
func TestEvidenceOfWhatIsThere(t *testing.T) {
	s := survey(directory.AD, domain, user("Guest", "objectSid="+rid(501), "userAccountControl=66048"),
		user("room", "msExchRecipientTypeDetails=16", "userAccountControl=512"))
	r := run(t, s, nil, Options{})
	assert.Equal(t, []string{"userAccountControl=66048 (enabled)"}, proof(r, "guest-enabled", "Guest"))
	assert.Equal(t, []string{"userAccountControl=512 (enabled)"}, proof(r, "resource-enabled", "room"))
}
