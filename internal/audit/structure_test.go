package audit

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"yardbroom/internal/directory"
	"yardbroom/internal/settings"
)

// group makes a security group with a domain SID and members by cn.
func group(cn string, n uint32, members ...string) directory.Entry {
	e := entry("CN="+cn+",OU=Groups,DC=x", "objectClass=group", "sAMAccountName="+cn, "objectSid="+rid(n), "groupType=-2147483646", "whenCreated="+gen(100))
	if len(members) > 0 {
		e.Set("member", members...)
	}
	return e
}

func in(cn string) string   { return "CN=" + cn + ",OU=Staff,DC=x" }
func nest(cn string) string { return "cn=" + cn + ",ou=groups,dc=X" }

var (
	realm  = entry("DC=x", "objectClass=domainDNS", "objectSid="+sid("S-1-5-21-1-2-3"), "lockoutDuration=-18000000000", "msDS-LogonTimeSyncInterval=14")
	admins = func(members ...string) directory.Entry {
		e := group("Administrators", 1, append(members, nest("Domain Admins"))...)
		e.Set("objectSid", sid("S-1-5-32-544"))
		return e
	}
)

func sid(text string) string {
	raw, err := directory.EncodeSID(text)
	if err != nil {
		panic(err)
	}
	return raw
}

func TestPrivilege(t *testing.T) {
	mailOnly := group("List", 1300, in("by-list"))
	mailOnly.Set("groupType", "2")
	foreign := entry("CN=S-1-5-21-9-9-9-1000,CN=ForeignSecurityPrincipals,DC=x", "objectClass=foreignSecurityPrincipal", "objectSid="+sid("S-1-5-21-9-9-9-1000"))
	all := entry("CN=S-1-5-11,CN=ForeignSecurityPrincipals,DC=x", "objectClass=foreignSecurityPrincipal", "objectSid="+sid("S-1-5-11"))
	marked := group("Once", 1400, in("fresh"))
	marked.Set("adminCount", "1")
	markedAndIn := group("Inner", 1203, in("deep"), nest("Middle"))
	markedAndIn.Set("adminCount", "1")
	s := survey(directory.AD, realm, admins(), group("Domain Admins", 512, in("direct"), nest("Outer"), nest("List"), in("direct-off")),
		group("Outer", 1201, nest("Middle"), in("two-ways")), group("Middle", 1202, nest("Inner"), nest("Outer")), markedAndIn, mailOnly, marked,
		group("Backup", 1500, in("two-ways")), group("Unrelated", 1600, in("fresh")),
		user("direct", "mail=d@x.example", "adminCount=1"), user("direct-off", "userAccountControl=514", "mail=o@x.example"), user("two-ways"), user("deep", "lastLogon="+ticks(200), "lastLogonTimestamp="+ticks(200)),
		user("by-list"), user("fresh"), user("by-primary", "primaryGroupID=1203"), user("adm-rosa", "primaryGroupID=512", "mail=r@x.example"), user("residue", "adminCount=1"),
		user("marked-0", "adminCount=0"), foreign, all)
	r := run(t, s, nil, Options{})
	assert.Equal(t, []string{"adm-rosa", "by-primary", "deep", "direct", "direct-off", "two-ways"}, who(r, "privileged"))
	assert.Equal(t, []string{"Administrators=through Domain Admins", "Domain Admins=member"}, proof(r, "privileged", "direct"))
	assert.Equal(t, []string{"Administrators=through Inner > Middle > Outer > Domain Admins", "Domain Admins=through Inner > Middle > Outer"}, proof(r, "privileged", "deep"))
	assert.Equal(t, []string{"Administrators=through Outer > Domain Admins", "Domain Admins=through Outer"}, proof(r, "privileged", "two-ways"))
	assert.Equal(t, []string{"Administrators=through its primary group Inner > Middle > Outer > Domain Admins", "Domain Admins=through its primary group Inner > Middle > Outer"}, proof(r, "privileged", "by-primary"))
	assert.Equal(t, []string{"Administrators=through its primary group Domain Admins", "Domain Admins=primary group"}, proof(r, "privileged", "adm-rosa"))
	assert.Contains(t, proof(r, "privileged", "direct-off"), "userAccountControl=514 (disabled)")
	assert.Equal(t, []string{"Once", "residue"}, who(r, "privileged-residue"))
	assert.Equal(t, []string{"direct"}, who(r, "privileged-daily"))
	assert.Equal(t, []string{"deep sure 200"}, found(r, "privileged-idle"))
	assert.Empty(t, who(r, "privileged-everyone"))

	// Everybody, and strangers.
	s = survey(directory.AD, realm, admins(nest("Domain Users")), group("Domain Admins", 512, "CN=S-1-5-11,CN=ForeignSecurityPrincipals,DC=x", foreign.DN), group("Domain Users", 513), foreign, all, user("anybody", "primaryGroupID=513"))
	r = run(t, s, nil, Options{})
	assert.Equal(t, []string{"Domain Users", "S-1-5-11", "S-1-5-21-9-9-9-1000"}, who(r, "privileged-everyone"))
	assert.Equal(t, []string{"anybody"}, who(r, "privileged"))

	// Another domain's groups of the same number are none of ours.
	other := group("Their Admins", 1, in("direct"))
	other.Set("objectSid", sid("S-1-5-21-7-7-7-512"))
	r = run(t, survey(directory.AD, realm, admins(), group("Domain Admins", 512), other, user("direct")), nil, Options{})
	assert.Empty(t, who(r, "privileged"))
}

func TestPrivilegeIsJudgedOnlyWhereItCanBe(t *testing.T) {
	notLooked := func(s *directory.Survey, check string) string {
		for _, sum := range run(t, s, nil, Options{}).Summary {
			if sum.Check == check && !sum.Looked {
				return sum.NotLooked[0]
			}
		}
		return ""
	}
	assert.Equal(t, "no group shows members", notLooked(survey(directory.AD, realm, user("a")), "privileged"))
	assert.Contains(t, notLooked(survey(directory.AD, realm, group("Crew", 1200, in("a")), user("a")), "privileged"), "RID 512 and 544")
	assert.Contains(t, notLooked(survey(directory.AD, admins(in("a")), group("Domain Admins", 512), user("a")), "privileged-daily"), "domain")
	assert.Contains(t, notLooked(survey(directory.OpenLDAP, person("a"), entry("cn=g,dc=x", "objectClass=groupOfNames", "member=uid=a,ou=people,dc=x")), "privileged"), "privileged_groups")
}

func TestPrivilegeOnOpenLDAPIsWhatTheSettingsSay(t *testing.T) {
	s := survey(directory.OpenLDAP, person("root"), person("deep"), person("nobody"), person("by-uid"),
		entry("cn=Admins,dc=x", "objectClass=groupOfNames", "member=uid=root,ou=people,dc=x", "member=cn=inner,dc=x"),
		entry("cn=inner,dc=x", "objectClass=groupOfUniqueNames", "uniqueMember=uid=deep,ou=people,dc=x#'01'B"),
		entry("cn=wheel,dc=x", "objectClass=posixGroup", "gidNumber=10", "memberUid=by-uid"))
	r := run(t, s, func(set *settings.Settings) { set.Audit.PrivilegedGroups = []string{"CN=admins,DC=X", "cn=wheel,dc=x"} }, Options{})
	assert.Equal(t, []string{"by-uid", "deep", "root"}, who(r, "privileged"))
}

func TestGroups(t *testing.T) {
	critical := group("Critical", 1700)
	critical.Set("isCriticalSystemObject", "TRUE")
	young := group("Young", 1701)
	young.Set("whenCreated", gen(29))
	part := group("Part", 1702)
	part.Set("member;range=0-1", in("a"), in("b"))
	s := survey(directory.AD, realm, group("Empty", 1000), group("Low", 999), group("Primary", 1100), group("Used", 1200, in("a")), critical, young, part,
		group("A", 1301, nest("B")), group("B", 1302, nest("C"), nest("D")), group("C", 1303, nest("A")), group("D", 1304, in("a")), group("Self", 1305, nest("Self")),
		user("a", "primaryGroupID=1100"))
	r := run(t, s, nil, Options{})
	assert.Equal(t, []string{"Empty sure 0"}, found(r, "group-empty"))
	assert.Equal(t, []string{"members=none", "whenCreated=2026-08-15T12:00:00Z"}, proof(r, "group-empty", "Empty"))
	assert.Equal(t, []string{"A", "B", "C", "Self"}, who(r, "group-loop"))
	assert.Equal(t, []string{"loop=B > C > A > B"}, proof(r, "group-loop", "B"))
	assert.Equal(t, []string{"loop=Self > Self"}, proof(r, "group-loop", "Self"))
}

func TestGroupsOnOpenLDAP(t *testing.T) {
	g := func(cn, class string, attrs ...string) directory.Entry {
		return entry("cn="+cn+",dc=x", append([]string{"objectClass=" + class, "cn=" + cn, "createTimestamp=" + gen(40)}, attrs...)...)
	}
	s := survey(directory.OpenLDAP, entry("dc=x", "objectClass=domain"), person("a", "gidNumber=100"),
		g("self", "groupOfNames", "member=cn=self,dc=x"), g("blank", "groupOfNames", "member="), g("holder", "groupOfUniqueNames", "uniqueMember=cn=Nobody,dc=x"),
		g("used", "groupOfNames", "member=cn=used,dc=x", "member=uid=a,ou=people,dc=x"), g("gid", "posixGroup", "gidNumber=100"), g("no-gid", "posixGroup", "gidNumber=200"),
		g("uids", "posixGroup", "gidNumber=300", "memberUid=a"), g("dynamic", "groupOfURLs", "memberURL=ldap:///dc=x??sub?(uid=*)"))
	r := run(t, s, func(set *settings.Settings) { set.Audit.PlaceholderMembers = []string{"CN=nobody,DC=x"} }, Options{})
	assert.Equal(t, []string{"blank", "holder", "no-gid", "self"}, who(r, "group-empty"))
	assert.Equal(t, "members=only itself or a placeholder", proof(r, "group-empty", "self")[0])
	assert.Equal(t, "members=none", proof(r, "group-empty", "no-gid")[0])
	assert.Equal(t, []string{"used"}, who(r, "group-loop"), "a placeholder is no loop; a member that is the group itself, beside others, is")
}

func TestPoliciesAndContainers(t *testing.T) {
	policy := func(guid string) directory.Entry {
		return entry("CN={"+guid+"},CN=Policies,CN=System,DC=x", "objectClass=groupPolicyContainer", "displayName=p"+guid[:1])
	}
	link := func(guid, options string) string {
		return "[LDAP://cn={" + guid + "},cn=policies,cn=system,DC=x;" + options + "]"
	}
	const a, b, c, d = "AAAAAAAA-0000-0000-0000-000000000000", "bbbbbbbb-0000-0000-0000-000000000000", "CCCCCCCC-0000-0000-0000-000000000000", "DDDDDDDD-0000-0000-0000-000000000000"
	unit := func(name string, attrs ...string) directory.Entry {
		return fill("OU="+name+",DC=x", map[string]string{"objectClass": "organizationalUnit", "ou": name, "whenCreated": gen(40)}, attrs)
	}
	top := realm.Clone()
	top.Set("gPLink", link("31B2F340-016D-11D2-945F-00C04FB984F9", "0")+link(b, "2"))
	top.Set("wellKnownObjects", "B:32:A9D1CA15768811D1ADED00C04FD8D5CD:OU=Known,DC=x")
	entries := []directory.Entry{top, policy("31B2F340-016D-11D2-945F-00C04FB984F9"), policy("6AC1786C-016F-11D2-945F-00C04FB984F9"), policy(a), policy("BBBBBBBB-0000-0000-0000-000000000000"), policy(c), policy(d),
		unit("Linked", "gPLink="+link(a, "0")), unit("Off", "gPLink="+link(c, "1")+link(d, "3")), unit("Empty"), unit("Young", "whenCreated="+gen(29)), unit("Parked"),
		unit("Known"), unit("Critical", "isCriticalSystemObject=TRUE"), unit("Used"), entry("CN=x,OU=Used,DC=x", "objectClass=contact"), unit("Other")}
	entries[len(entries)-1].DN = "OU=Other,OU=Used,DC=x"
	r := run(t, survey(directory.AD, entries...), nil, Options{})
	assert.Equal(t, []string{"{CCCCCCCC-0000-0000-0000-000000000000} likely 0", "{DDDDDDDD-0000-0000-0000-000000000000} likely 0"}, found(r, "policy-unlinked"))
	assert.Equal(t, []string{"displayName=pC", "gPLink=only disabled links: OU=Off,DC=x"}, proof(r, "policy-unlinked", "{CCCCCCCC-0000-0000-0000-000000000000}"))
	assert.Equal(t, []string{"Empty", "Off", "Other"}, who(r, "ou-empty"))

	site := entry("CN=S,CN=Sites,CN=Configuration,DC=x", "objectClass=site", "gPLink="+link(d, "0"))
	r = run(t, survey(directory.AD, append(entries, site)...), nil, Options{})
	assert.Equal(t, []string{"{CCCCCCCC-0000-0000-0000-000000000000} sure 0"}, found(r, "policy-unlinked"))
}

func TestReferences(t *testing.T) {
	s := survey(directory.OpenLDAP, entry("dc=x", "objectClass=domain"), person("boss", "pwdAccountLockedTime=000001010000Z"),
		person("a", "manager=uid=boss,ou=people,dc=x", "secretary=uid=gone,ou=people,dc=x"), entry("cn=u,dc=x", "objectClass=groupOfUniqueNames", "uniqueMember=uid=b,ou=people,dc=x#'0101'B"), person("b", "manager=uid=A,OU=people,dc=x", "owner=uid=out,dc=other"),
		entry("cn=g,dc=x", "objectClass=groupOfNames", "member=uid=b,ou=people,dc=x", "member=uid=left,ou=people,dc=x"))
	s.Policies["p"] = directory.Policy{Lockout: true}
	s.DefaultPolicy = "p"
	s.Absent[directory.KeyOf("uid=left,ou=people,dc=x")] = true
	r := run(t, s, nil, Options{})
	assert.Equal(t, []string{"a likely 0", "g sure 0", "a sure 0"}, found(r, "dangling-reference"))
	assert.Equal(t, Info, r.Findings[len(r.Findings)-1].Severity)

	// Who stands for nobody need not be there.
	s = survey(directory.OpenLDAP, entry("dc=x", "objectClass=domain"), entry("cn=g,dc=x", "objectClass=groupOfNames", "member=cn=nobody,dc=x", "owner=cn=nobody,dc=x", "member="))
	r = run(t, s, func(set *settings.Settings) { set.Audit.PlaceholderMembers = []string{"CN=nobody,DC=x"} }, Options{})
	assert.Equal(t, []Evidence{{"owner", "cn=nobody,dc=x"}}, r.Findings[0].Evidence[:1])
	assert.Len(t, who(r, "dangling-reference"), 1)

	// On the ad schema only names of deleted objects and the disabled manager are told.
	const object = `CN=Gone\0ADEL:0f3d9a5e-1111-2222-3333-444455556666,CN=Deleted Objects,DC=x`
	r = run(t, survey(directory.AD, domain, user("c", "manager="+object), entry("CN=g,DC=x", "objectClass=group", "sAMAccountName=g", "member="+object)), nil, Options{})
	assert.Equal(t, []string{"c sure 0", "g sure 0"}, found(r, "dangling-reference"))
	assert.Equal(t, []string{"manager=" + object, "entry=it was deleted"}, proof(r, "dangling-reference", "c"))
	r = run(t, survey(directory.AD, domain, user("boss", "userAccountControl=514"), user("a", "manager="+in("Boss")), user("b", "manager=CN=gone,DC=x")), nil, Options{})
	assert.Equal(t, []string{"a"}, who(r, "dangling-reference"))
}

func TestUnreadableValues(t *testing.T) {
	s := survey(directory.AD, domain, user("flags", "userAccountControl=many"), user("born", "whenCreated=last spring"), user("future", "pwdLastSet="+ticks(-1)),
		user("expires-later", "accountExpires="+ticks(-100)), user("primary", "primaryGroupID=-1"), entry("CN=odd,DC=x", "objectClass=group", "sAMAccountName=odd", "groupType=global"), user("system", "isCriticalSystemObject=TRUE", "lastLogon=x"))
	r := run(t, s, nil, Options{})
	assert.Equal(t, []string{"born", "flags", "future", "odd", "primary"}, who(r, "unreadable-value"))
	assert.Equal(t, []string{`userAccountControl="many"`}, proof(r, "unreadable-value", "flags"))
	s.Taken = asOf.Add(48 * 60 * 60 * 1e9) // read later than the time that is judged for
	assert.NotContains(t, who(run(t, s, nil, Options{}), "unreadable-value"), "future")
}
