package batch

import (
	"bytes"
	"context"
	"crypto/sha256"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/audit"
	"yardbroom/internal/directory"
	"yardbroom/internal/ldif"
	"yardbroom/internal/privilege"
	"yardbroom/internal/settings"
	"yardbroom/internal/source"
)

// sidOf is the attribute of an identity in the tests' domain.
func sidOf(rid uint32) string {
	raw, err := directory.EncodeSID(fmt.Sprintf("S-1-5-21-1-2-3-%d", rid))
	if err != nil {
		panic(err)
	}
	return "objectSid=" + raw
}

// guid is the attribute of a made-up identity.
func guid(n byte) string { return "objectGUID=" + strings.Repeat(string('a'+n%26), 16) }

// uuid is the same of the other dialects.
func uuid(name string) string {
	sum := sha256.Sum256([]byte(name))
	return fmt.Sprintf("entryUUID=%x-%x-%x-%x-%x", sum[:4], sum[4:6], sum[6:8], sum[8:10], sum[10:16])
}

// entry makes an entry from "name=value" texts.
func entry(dn string, attrs ...string) *directory.Entry {
	e := &directory.Entry{DN: dn}
	for _, a := range attrs {
		name, value, _ := strings.Cut(a, "=")
		e.Set(name, append(e.Get(name), value)...)
	}
	return e
}

// fileOf is a file of a few entries.
func fileOf(t *testing.T, d *directory.Dialect, entries ...*directory.Entry) *source.File {
	var text bytes.Buffer
	out := ldif.NewWriter(&text)
	for _, e := range entries {
		require.NoError(t, out.Write(e))
	}
	require.NoError(t, out.Flush())
	f, err := source.OpenFile("-", &text)
	require.NoError(t, err)
	f.Dialect = d
	t.Cleanup(func() { f.Close() })
	return f
}

// domain is the entry at the top, which names the directory's own places.
func domain(places ...string) *directory.Entry {
	e := entry("DC=x", "objectClass=domainDNS", "objectSid="+strings.TrimPrefix(sidOf(1), "objectSid="), guid(25))
	raw, err := directory.EncodeSID("S-1-5-21-1-2-3")
	if err != nil {
		panic(err)
	}
	e.Set("objectSid", raw)
	e.Set("wellKnownObjects", places...)
	return e
}

var places = []string{
	"B:32:A361B2FFFFD211D1AA4B00C04FD7D83A:OU=Controllers,DC=x", "B:32:A9D1CA15768811D1ADED00C04FD8D5CD:CN=Users,DC=x",
	"B:32:AB1D30F3768811D1ADED00C04FD8D5CD:CN=System,DC=x",
}

// protectionOf is what protects a directory with these places.
func protectionOf(t *testing.T, yard settings.Yard, exempt []settings.Exemption, places ...string) Protection {
	var all []audit.Exemption
	for _, e := range exempt {
		all = append(all, audit.Exemption{Exemption: e})
	}
	p, err := NewProtection(context.Background(), fileOf(t, directory.AD, domain(places...)), source.Identity{Dialect: "ad", Base: "DC=x"}, &yard, nil, all, time.Now(),
		"", `LARKMOOR\keeper`, "cn=direct,ou=staff,dc=x")
	require.NoError(t, err)
	return p
}

func TestProtectionSaysWhy(t *testing.T) {
	p := protectionOf(t, settings.Yard{Scope: []string{"OU=Staff,DC=x", "OU=Controllers,DC=x", "OU=Domain Controllers,DC=x"}, LeaveOut: []string{"OU=Robots,OU=Staff,DC=x"}},
		[]settings.Exemption{{Match: settings.Match{Account: "dome"}, Reason: "the dome", Owner: "workshop"}}, places...)
	staff := func(attrs ...string) *directory.Entry {
		return entry("CN=a,OU=Staff,DC=x", append([]string{"objectClass=user", guid(1), "userAccountControl=512"}, attrs...)...)
	}
	computer := func(attrs ...string) *directory.Entry {
		return entry("CN=a,OU=Staff,DC=x", append([]string{"objectClass=user", "objectClass=computer", guid(1), sidOf(1200)}, attrs...)...)
	}
	const builtIn, outside = "built-in or system", "outside the yard's scope"
	for _, c := range []struct {
		name string
		e    *directory.Entry
		want string
	}{
		{"an ordinary account", staff("sAMAccountName=ada", sidOf(1105)), ""},
		{"the first number of a domain's own", staff("sAMAccountName=ada", sidOf(1000)), ""},
		{"an ordinary computer", computer("userAccountControl=4096", "primaryGroupID=515"), ""},
		{"the mark", staff("isCriticalSystemObject=TRUE", sidOf(1105)), builtIn},
		{"the administrator, without the mark", staff(sidOf(500)), builtIn},
		{"a guest", staff(sidOf(501)), builtIn},
		{"the key of all tickets", staff(sidOf(502)), builtIn},
		{"who could be anything", staff("sAMAccountName=ada"), "objectSid cannot be read"},
		{"a writable domain controller", computer("userAccountControl=532480"), "domain controller"},
		{"a domain controller by its group", computer("userAccountControl=4096", "primaryGroupID=516"), "domain controller"},
		{"a read-only one by its group", computer("userAccountControl=4096", "primaryGroupID=521"), "domain controller"},
		{"a read-only one", computer("userAccountControl=83890176"), "domain controller"},
		{"a computer that shows nothing", computer(), "whether it is a domain controller cannot be told"},
		{"a room", staff("msExchRecipientTypeDetails=4", sidOf(1105)), "mailbox of a room"},
		{"a trust", entry("CN=a,OU=Staff,DC=x", "objectClass=user", guid(1), "userAccountControl=2080", sidOf(1105)), "trust between domains"},
		{"a cluster", computer("userAccountControl=4096", "servicePrincipalName=MSServerCluster/x"), "cluster"},
		{"a cluster's service", computer("userAccountControl=4096", "servicePrincipalName=msclustervirtualserver/x"), "cluster"},
		{"the cluster's management", computer("userAccountControl=4096", "servicePrincipalName=HOST/a", "servicePrincipalName=MSServerClusterMgmtAPI/x"), "cluster"},
		{"no cluster", computer("userAccountControl=4096", "primaryGroupID=515", "servicePrincipalName=HOST/MSServerCluster", "servicePrincipalName=MSServerCluster/"), ""},
		{"a mailbox of the mail system", staff("sAMAccountName=HealthMailbox12", "homeMDB=x", sidOf(1105)), "mail system"},
		{"one that only its identity shows", staff("sAMAccountName=SystemMailbox{1", "msExchMailboxGuid=x", sidOf(1105)), "mail system"},
		{"one that only its type shows", staff("sAMAccountName=FederatedEmail.4c", "msExchRecipientTypeDetails=1", sidOf(1105)), "mail system"},
		{"a name like that without a mailbox", staff("sAMAccountName=migration.crew", sidOf(1105)), ""},
		{"a mailbox of a person", staff("sAMAccountName=ada", "homeMDB=x", sidOf(1105)), ""},
		{"an entry of the mail system", staff("objectClass=msExchSystemMailbox", sidOf(1105)), "mail system"},
		{"who is bound", staff("sAMAccountName=KEEPER", sidOf(1105)), "bound as"},
		{"who is bound, by name", entry("CN=Direct,OU=Staff,DC=x", "objectClass=user", guid(1), sidOf(1105)), "bound as"},
		{"left out", entry("CN=a,OU=Robots,OU=Staff,DC=x", "objectClass=user", guid(1), sidOf(1105)), outside},
		{"out of scope", entry("CN=a,DC=x", "objectClass=user", guid(1), sidOf(1105)), outside},
		{"exempt", staff("sAMAccountName=Dome", sidOf(1105)), "exempt: the dome"},
		{"a unit", entry("OU=a,OU=Staff,DC=x", "objectClass=organizationalUnit", guid(1)), "not for an entry of this kind (ou)"},
		{"without identity", entry("CN=a,OU=Staff,DC=x", "objectClass=user", sidOf(1105)), "objectGUID cannot be read"},
		{"somebody from elsewhere", entry("CN=S-1-1-0,OU=Staff,DC=x", "objectClass=foreignSecurityPrincipal", guid(1)), "another domain"},
	} {
		why := p.Why(c.e, []string{Disable})
		switch {
		case c.want == "":
			assert.Empty(t, why, c.name)
		default:
			assert.Contains(t, why, c.want, c.name)
		}
	}
	for rid := uint32(498); rid < 600; rid++ {
		g := entry("CN=g,OU=Staff,DC=x", "objectClass=group", guid(2), sidOf(rid))
		assert.Contains(t, p.Why(g, []string{Describe}), builtIn, "group %d", rid)
	}
	unit := func(dn string) *directory.Entry { return entry(dn, "objectClass=organizationalUnit", guid(3)) }
	assert.Contains(t, p.Why(unit("OU=Controllers,DC=x"), []string{Describe}), builtIn, "by wellKnownObjects")
	assert.Contains(t, p.Why(unit("OU=Domain Controllers,DC=x"), []string{Describe}), builtIn, "by its name")
	assert.Empty(t, p.Why(unit("OU=a,OU=Staff,DC=x"), []string{Describe}))
	hidden := protectionOf(t, settings.Yard{}, nil)
	assert.Contains(t, hidden.Why(unit("OU=a,DC=x"), []string{Describe}), "wellKnownObjects")
	assert.Contains(t, p.Why(entry("CN={31b2f340-016d-11d2-945f-00c04fb984f9},OU=Staff,DC=x", "objectClass=groupPolicyContainer", guid(4)), []string{Delete}), "two policies")
}

func TestWhatIsWrittenMovedAndEnteredIsProtectedToo(t *testing.T) {
	p := protectionOf(t, settings.Yard{LeaveOut: []string{"OU=Left,DC=x"}}, []settings.Exemption{{Match: settings.Match{Subtree: "OU=Quiet,DC=x"}, Reason: "quiet", Owner: "o"}}, places...)
	group := func(dn string, rid uint32) *directory.Entry {
		return entry(dn, "objectClass=group", guid(1), sidOf(rid))
	}
	for _, c := range []struct{ got, want string }{
		{p.Written(group("CN=g,DC=x", 1100), "member"), ""},
		{p.Written(group("CN=Domain Admins,DC=x", 512), "member"), ""}, // for signatures to decide
		{p.Written(group("CN=Domain Admins,DC=x", 512), "managedBy"), "built-in"},
		{p.Written(group("CN=g,OU=Left,DC=x", 1100), "member"), "outside"},
		{p.Written(group("CN=g,OU=Quiet,DC=x", 1100), "member"), "exempt"},
		{p.Along(entry("CN=k,DC=x", "objectClass=msFVE-RecoveryInformation", guid(2))), ""},
		{p.Along(entry("CN=k,OU=Quiet,DC=x", "objectClass=user", guid(2), sidOf(1100))), "exempt"},
		{p.Along(entry("CN=k,DC=x", "objectClass=user", guid(2), sidOf(500))), "built-in"},
		{p.Into("CN=a", "OU=Parked,DC=x"), ""},
		{p.Into("CN=a", "CN=Users,DC=x"), ""},
		{p.Into("CN=a", "OU=Left,DC=x"), "outside"},
		{p.Into("CN=a", "OU=deep,OU=Quiet,DC=x"), "exempt"},
		{p.Into("CN=a", "OU=Controllers,DC=x"), "own containers"},
		{p.Into("CN=a", "OU=deep,OU=Domain Controllers,DC=x"), "own containers"},
		{p.Into("CN=a", "CN=Any,CN=System,DC=x"), "own containers"},
		{p.Into("CN={1}", "CN=Policies,CN=System,DC=x"), ""}, // where deleted policies come back to
	} {
		if c.want == "" {
			assert.Empty(t, c.got)
		} else {
			assert.Contains(t, c.got, c.want)
		}
	}
}

func TestWhoReturnsFromALadderMayBeExemptAndNothingElse(t *testing.T) {
	p := protectionOf(t, settings.Yard{LeaveOut: []string{"OU=Left,DC=x"}}, []settings.Exemption{{Match: settings.Match{Subtree: "OU=Quiet,DC=x"}, Reason: "quiet", Owner: "o"}}, places...)
	user := func(dn string, rid uint32) *directory.Entry {
		return entry(dn, "objectClass=user", guid(2), sidOf(rid))
	}
	quiet, left, own := user("CN=a,OU=Quiet,DC=x", 1100), user("CN=a,OU=Left,DC=x", 1100), user("CN=a,DC=x", 500)
	assert.Contains(t, p.Why(quiet, []string{Move}), "exempt")
	p.Returning = true
	assert.Empty(t, p.Why(quiet, []string{Move}), "that is why it returns")
	assert.Empty(t, p.Into("CN=a", "OU=Quiet,DC=x"))
	assert.Contains(t, p.Why(left, []string{Move}), "outside")
	assert.Contains(t, p.Why(own, []string{Move}), "built-in")
	assert.Contains(t, p.Into("CN=a", "OU=Left,DC=x"), "outside")
	assert.Contains(t, p.Written(entry("CN=g,OU=Quiet,DC=x", "objectClass=group", guid(1), sidOf(1100)), "member"), "exempt", "a group is not what returns")
	assert.Contains(t, p.Along(quiet), "exempt")
}

// stagerOn is a stager over a file, with all that protects it.
func stagerOn(t *testing.T, d *directory.Dialect, yard settings.Yard, named []string, entries ...*directory.Entry) *Stager {
	ctx := context.Background()
	from := fileOf(t, d, entries...)
	id, err := from.Identity(ctx)
	require.NoError(t, err)
	holders, err := privilege.Read(ctx, from, d, privilege.RulesFor(id, named), time.Now())
	require.NoError(t, err)
	p, err := NewProtection(ctx, from, id, &yard, named, nil, time.Now())
	require.NoError(t, err)
	set := settings.Defaults()
	set.Batch.MaxShare = 100
	return &Stager{From: from, Identity: id, Dialect: d, Settings: set, Privilege: holders, Catalog: audit.Checks, Protection: p}
}

func (s *Stager) stageAll(t *testing.T, o Order, dns ...string) (*Batch, []Refusal, error) {
	entries, err := s.From.Get(context.Background(), dns)
	require.NoError(t, err)
	require.Len(t, entries, len(dns))
	var candidates []Candidate
	for i := range entries {
		candidates = append(candidates, Candidate{Entry: entries[i]})
	}
	o.At, o.By = time.Now(), "tester"
	return s.Stage(context.Background(), o, candidates)
}

// family is a directory without links that the server keeps whole: a parent
// with a child, and groups that name both.
func family() []*directory.Entry {
	person := func(dn, uid string) *directory.Entry {
		return entry(dn, "objectClass=inetOrgPerson", "uid="+uid, "cn="+uid, "sn=x", uuid(uid))
	}
	return []*directory.Entry{
		entry("dc=x", "objectClass=dcObject", "objectClass=organization", "o=x", uuid("top")),
		entry("ou=Staff,dc=x", "objectClass=organizationalUnit", uuid("staff")), entry("ou=Parked,dc=x", "objectClass=organizationalUnit", uuid("parked")),
		entry("ou=Left,dc=x", "objectClass=organizationalUnit", uuid("left")),
		person("uid=ada,ou=Staff,dc=x", "ada"), person("uid=kid,uid=ada,ou=Staff,dc=x", "kid"), person("uid=bram,ou=Staff,dc=x", "bram"),
		entry("cn=crew,dc=x", "objectClass=groupOfNames", "cn=crew", uuid("crew"), "member=uid=ada,ou=Staff,dc=x", "member=uid=bram,ou=Staff,dc=x"),
		entry("cn=kidgroup,ou=Left,dc=x", "objectClass=groupOfNames", "cn=kidgroup", uuid("kidgroup"), "member=uid=kid,uid=ada,ou=Staff,dc=x"),
	}
}

func TestAFootprintIsAllThatALineTouches(t *testing.T) {
	s := stagerOn(t, directory.OpenLDAP, settings.Yard{}, nil, family()...)
	b, refusals, err := s.stageAll(t, Order{Actions: []string{Move}, To: "ou=Parked,dc=x"}, "uid=ada,ou=Staff,dc=x", "uid=bram,ou=Staff,dc=x")
	require.NoError(t, err)
	require.Empty(t, refusals)
	assert.Equal(t, []Touched{{"cn=crew,dc=x", "member"}, {"cn=kidgroup,ou=Left,dc=x", "member"}, {"uid=kid,uid=ada,ou=Staff,dc=x", MovesAlong}}, b.Lines[0].Also)
	assert.Equal(t, []Touched{{"cn=crew,dc=x", "member"}}, b.Lines[1].Also)
	assert.Equal(t, 3, b.touches(), "who moves along counts")

	_, _, err = s.stageAll(t, Order{Actions: []string{Move}, To: "ou=Parked,dc=x", MaxLines: 2}, "uid=ada,ou=Staff,dc=x", "uid=bram,ou=Staff,dc=x")
	assert.ErrorContains(t, err, "3 lines are more than a batch may have")
}

func TestNothingProtectedIsTouchedByALine(t *testing.T) {
	for name, c := range map[string]struct {
		yard settings.Yard
		o    Order
		want string
	}{
		"a group that names the child is left out": {settings.Yard{LeaveOut: []string{"ou=Left,dc=x"}}, Order{Actions: []string{Move}, To: "ou=Parked,dc=x"}, "member of cn=kidgroup,ou=Left,dc=x would be written"},
		"the child is left out":                    {settings.Yard{LeaveOut: []string{"uid=kid,uid=ada,ou=Staff,dc=x"}}, Order{Actions: []string{Move}, To: "ou=Parked,dc=x"}, "stands below it and would move along"},
		"the target is left out":                   {settings.Yard{LeaveOut: []string{"ou=Parked,dc=x"}}, Order{Actions: []string{Move}, To: "ou=Parked,dc=x"}, "outside the yard's scope, and what is put there could not be taken back"},
		"a group to leave is left out":             {settings.Yard{LeaveOut: []string{"cn=crew,dc=x"}}, Order{Actions: []string{LeaveGroups}}, "only in groups that are left alone"},
		"a group to join is out of scope":          {settings.Yard{Scope: []string{"ou=Staff,dc=x"}}, Order{Actions: []string{JoinGroup}, Groups: []directory.Entry{*family()[8]}}, "member of cn=kidgroup,ou=Left,dc=x would be written"},
	} {
		t.Run(name, func(t *testing.T) {
			_, refusals, err := stagerOn(t, directory.OpenLDAP, c.yard, nil, family()...).stageAll(t, c.o, "uid=ada,ou=Staff,dc=x")
			require.ErrorIs(t, err, ErrNothing)
			require.Len(t, refusals, 1)
			assert.Contains(t, refusals[0].Why, c.want)
		})
	}
}

func TestLeavingAllGroupsLeavesThoseThatMayBeLeft(t *testing.T) {
	all := family()
	all[8].Set("member", append(all[8].Get("member"), "uid=ada,ou=Staff,dc=x")...)
	b, _, err := stagerOn(t, directory.OpenLDAP, settings.Yard{LeaveOut: []string{"ou=Left,dc=x"}}, nil, all...).stageAll(t, Order{Actions: []string{LeaveGroups}}, "uid=ada,ou=Staff,dc=x")
	require.NoError(t, err)
	l := &b.Lines[0]
	require.Len(t, l.Actions[0].Groups, 1)
	assert.Equal(t, "cn=crew,dc=x", l.Actions[0].Groups[0].DN)
	assert.Equal(t, []string{"it stays in cn=kidgroup,ou=Left,dc=x: it is outside the yard's scope"}, l.Warnings)
	assert.Contains(t, l.Guard, Guard{Attr: "groups", Rule: Groups, Values: []Octets{"cn=crew,dc=x", "cn=kidgroup,ou=Left,dc=x"}}, "which groups it is in is guarded whole")
}

func TestPowerIsPartOfTheFootprint(t *testing.T) {
	all := append(family(),
		entry("cn=wheel,dc=x", "objectClass=posixGroup", "cn=wheel", "gidNumber=10", "memberUid=bram", uuid("wheel")),
		entry("cn=inner,dc=x", "objectClass=groupOfNames", "cn=inner", uuid("inner"), "member=uid=kid,uid=ada,ou=Staff,dc=x"),
		entry("cn=rulers,dc=x", "objectClass=groupOfNames", "cn=rulers", uuid("rulers"), "member=cn=inner,dc=x", "member=uid=kid,uid=ada,ou=Staff,dc=x"))
	s := stagerOn(t, directory.OpenLDAP, settings.Yard{}, []string{"cn=wheel,dc=x", "cn=rulers,dc=x"}, all...)
	b, _, err := s.stageAll(t, Order{Actions: []string{Describe}, Text: "x"}, "uid=bram,ou=Staff,dc=x", "uid=ada,ou=Staff,dc=x", "cn=inner,dc=x", "cn=wheel,dc=x")
	require.NoError(t, err)
	power := map[string][]string{}
	for i := range b.Lines {
		power[b.Lines[i].DN] = b.Lines[i].Privileged
	}
	assert.Equal(t, map[string][]string{"uid=bram,ou=Staff,dc=x": {"wheel"}, "uid=ada,ou=Staff,dc=x": nil, "cn=inner,dc=x": {"rulers"}, "cn=wheel,dc=x": {"wheel"}}, power,
		"members by memberUid, and groups themselves")
	n, because := b.needs(&settings.Signing{})
	assert.Equal(t, 1, n, because)

	inner, err := s.From.Get(context.Background(), []string{"cn=inner,dc=x"})
	require.NoError(t, err)
	b, _, err = s.stageAll(t, Order{Actions: []string{JoinGroup}, Groups: inner}, "uid=ada,ou=Staff,dc=x")
	require.NoError(t, err)
	assert.Equal(t, []string{"rulers"}, b.Lines[0].Joins())

	// The same line, staged before the groups were privileged, gives that power now.
	before, _, err := stagerOn(t, directory.OpenLDAP, settings.Yard{}, nil, all...).stageAll(t, Order{Actions: []string{JoinGroup}, Groups: inner}, "uid=ada,ou=Staff,dc=x")
	require.NoError(t, err)
	require.Empty(t, before.Lines[0].Joins())
	now, err := Footprints(context.Background(), s.From, s.Dialect, s.Privilege, []Planned{{Line: &before.Lines[0], Entry: all[4]}})
	require.NoError(t, err)
	assert.Equal(t, []string{"rulers"}, now[0].Given)
	assert.Empty(t, now[0].Taken)
	assert.Equal(t, []string{"rulers"}, now[0].Exceeds(&before.Lines[0]))

	// What was staged with less power than it has now is more than was agreed to.
	f := Footprint{Powers: []string{"wheel"}, Given: []string{"rulers"}}
	assert.Equal(t, []string{"wheel"}, f.Exceeds(&b.Lines[0]))
	assert.Equal(t, []string{"rulers", "wheel"}, f.Exceeds(&Line{}))
	assert.Empty(t, f.Exceeds(&Line{Privileged: []string{"wheel", "rulers"}}))
}

func TestANameThatIsWaitedForBringsItsPower(t *testing.T) {
	all := append(family(),
		entry("uid=aaa,uid=ada,ou=Staff,dc=x", "objectClass=inetOrgPerson", "uid=aaa", "cn=aaa", "sn=x", uuid("aaa")),
		entry("cn=rulers,dc=x", "objectClass=groupOfNames", "cn=rulers", uuid("rulers"), "member=uid=bram,ou=Parked,dc=x", "member=uid=kid,uid=ada,ou=Parked,dc=x"))
	s := stagerOn(t, directory.OpenLDAP, settings.Yard{}, []string{"cn=rulers,dc=x"}, all...)
	b, _, err := s.stageAll(t, Order{Actions: []string{Move}, To: "ou=Parked,dc=x"}, "uid=bram,ou=Staff,dc=x", "uid=ada,ou=Staff,dc=x")
	require.NoError(t, err)
	power := map[string][]string{}
	for i := range b.Lines {
		power[b.Lines[i].Account] = b.Lines[i].Privileged
		if b.Lines[i].Account == "ada" {
			assert.Equal(t, []Touched{{"cn=crew,dc=x", "member"}, {"cn=kidgroup,ou=Left,dc=x", "member"}, {"uid=aaa,uid=ada,ou=Staff,dc=x", MovesAlong}, {"uid=kid,uid=ada,ou=Staff,dc=x", MovesAlong}}, b.Lines[i].Also)
		}
	}
	assert.Equal(t, map[string][]string{"bram": {"rulers"}, "ada": {"rulers"}}, power, "of hers, the child's")

	// And so does an entry that comes back under such a name.
	ctx := context.Background()
	image := ImageOf(entry("uid=bram,ou=Staff,dc=x", "objectClass=inetOrgPerson", "uid=bram", uuid("bram")))
	for to, want := range map[string][]string{"ou=Parked,dc=x": {"rulers"}, "ou=Staff,dc=x": nil} {
		line := &Line{Actions: []Action{{Name: Restore, RDN: "uid=bram", To: to, Image: &image}}}
		f, err := Footprints(ctx, s.From, s.Dialect, s.Privilege, []Planned{{Line: line}})
		require.NoError(t, err)
		assert.Equal(t, want, f[0].Powers, to)
	}
}

func TestGroupsThatDriftedAreTold(t *testing.T) {
	guard := func(rule Rule, groups ...Octets) []Guard {
		return []Guard{{Attr: "mail", Rule: Equal, Values: []Octets{"cn=b,dc=x"}}, {Attr: "groups", Rule: rule, Values: groups}}
	}
	list := func(groups ...string) []string { return groups }
	for _, c := range []struct {
		guards            []Guard
		now, joined, left []string
		want              string
	}{
		{guard(NotMember, "cn=a,dc=x"), list("cn=b,dc=x"), nil, nil, ""},
		{guard(NotMember, "cn=a,dc=x"), list("CN=A,dc=x"), nil, nil, "it is in a now"},
		{guard(NotMember, "cn=a,dc=x"), list("cn=a,dc=x"), list("cn=a,dc=x"), nil, ""},
		{guard(IsMember, "cn=a,dc=x"), list("CN=A,dc=x"), nil, nil, ""},
		{guard(IsMember, "cn=a,dc=x"), list("cn=b,dc=x"), nil, nil, "it is no longer in a"},
		{guard(IsMember, "cn=a,dc=x"), nil, nil, list("cn=a,dc=x"), ""},
		{guard(IsMember, "cn=a,dc=x"), list("cn=a,dc=x", "cn=b,dc=x"), nil, nil, ""},
		{guard(Groups, "cn=a,dc=x"), list("cn=a,dc=x"), nil, nil, ""},
		{guard(Groups, "cn=a,dc=x"), list("cn=a,dc=x", "cn=b,dc=x"), nil, nil, "it is in b now, and was not"},
		{guard(Groups, "cn=a,dc=x"), list("cn=a,dc=x", "cn=b,dc=x"), list("cn=b,dc=x"), nil, ""},
		{guard(Groups, "cn=a,dc=x"), nil, nil, nil, "it is no longer in a"},
		{guard(Groups), list("cn=b,dc=x"), nil, nil, "it is in b now, and was not"},
	} {
		assert.Equal(t, c.want, GroupDrift(c.guards, c.now, c.joined, c.left), "%v: %v", c.guards[1], c.now)
	}
}

func TestAGroupThatTheSettingsNameKeepsItsName(t *testing.T) {
	s := stagerOn(t, directory.OpenLDAP, settings.Yard{}, []string{"CN=crew,DC=x"}, family()...)
	_, refusals, err := s.stageAll(t, Order{Actions: []string{Move}, To: "ou=Parked,dc=x"}, "cn=crew,dc=x")
	require.ErrorIs(t, err, ErrNothing)
	assert.Contains(t, refusals[0].Why, "the settings call cn=crew,dc=x privileged by this name")
	b, _, err := s.stageAll(t, Order{Actions: []string{Describe}, Text: "x"}, "cn=crew,dc=x")
	require.NoError(t, err)
	assert.Equal(t, []string{"crew"}, b.Lines[0].Privileged)
}

func TestAPrivilegedGroupThatIsNotThereStopsStaging(t *testing.T) {
	s := stagerOn(t, directory.OpenLDAP, settings.Yard{}, []string{"cn=misspelt,dc=x"}, family()...)
	_, _, err := s.stageAll(t, Order{Actions: []string{Describe}, Text: "x"}, "uid=ada,ou=Staff,dc=x")
	assert.ErrorContains(t, err, "the settings call cn=misspelt,dc=x privileged")
}

func TestABatchIsReassessedByThePowersOfThisMoment(t *testing.T) {
	ctx := context.Background()
	all := family()
	crew := all[7]
	crew.Set("member", append(crew.Get("member"), "uid=kid,uid=ada,ou=Staff,dc=x")...)
	leave := Order{Actions: []string{LeaveGroup}, Groups: []directory.Entry{*crew}}
	s := stagerOn(t, directory.OpenLDAP, settings.Yard{}, nil, all...)
	b, refused, err := s.stageAll(t, leave, "uid=ada,ou=Staff,dc=x", "uid=bram,ou=Staff,dc=x")
	require.NoError(t, err, "%v", refused)
	assert.False(t, b.Lines[0].Powerful())

	// The crew has become privileged, and Bram is left out since.
	later := stagerOn(t, directory.OpenLDAP, settings.Yard{LeaveOut: []string{"uid=bram,ou=Staff,dc=x"}}, []string{"cn=crew,dc=x"}, all...)
	f, err := Footprints(ctx, later.From, later.Dialect, later.Privilege, []Planned{{Line: &b.Lines[0], Entry: all[4]}})
	require.NoError(t, err)
	assert.Equal(t, []string{"crew"}, f[0].Taken)
	assert.Empty(t, f[0].Given)
	assert.Equal(t, []string{"crew"}, f[0].Exceeds(&b.Lines[0]), "which nobody has agreed to")
	refusals, err := b.Reassess(ctx, later.From, later.Privilege, &later.Protection)
	require.NoError(t, err)
	require.Len(t, refusals, 1)
	assert.Equal(t, "bram", refusals[0].Account)
	require.Len(t, b.Lines, 1)
	assert.Equal(t, 1, b.Lines[0].N)
	assert.Equal(t, []string{"crew"}, b.Lines[0].Leaves())
	assert.Equal(t, []string{"crew"}, b.Lines[0].Privileged)
	assert.Empty(t, f[0].Exceeds(&b.Lines[0]))
}

func TestAGroupThatIsBothJoinedAndRepairedIsWrittenOnce(t *testing.T) {
	s := stagerOn(t, directory.OpenLDAP, settings.Yard{}, nil, family()...)
	b, _, err := s.stageAll(t, Order{Actions: []string{LeaveGroups, Move}, To: "ou=Parked,dc=x"}, "uid=bram,ou=Staff,dc=x")
	require.NoError(t, err)
	assert.Equal(t, []Touched{{"cn=crew,dc=x", "member"}}, b.Lines[0].Also)
	f, err := Footprints(context.Background(), s.From, s.Dialect, s.Privilege, []Planned{{Line: &b.Lines[0], Entry: family()[6]}})
	require.NoError(t, err)
	require.Len(t, f[0].Writes, 1)
	assert.NotEmpty(t, f[0].Writes[0].ID, "the group is found by its identity")
	assert.False(t, f[0].Writes[0].Follows)
}

// What rests on the absence of something that may not have been shown is never
// deleted, nor taken out of groups; what can be taken back only if asked for.
func TestNothingIsDestroyedOnWhatMayBeHidden(t *testing.T) {
	s := stagerOn(t, directory.OpenLDAP, settings.Yard{}, nil, family()...)
	entries, err := s.From.Get(context.Background(), []string{"uid=bram,ou=Staff,dc=x"})
	require.NoError(t, err)
	for _, c := range []struct {
		actions []string
		hidden  bool
		likely  bool
		want    string
	}{
		{[]string{LeaveGroups}, true, true, "nothing is deleted, and nobody taken out of groups"},
		{[]string{Describe, Delete}, true, true, "nothing is deleted"},
		{[]string{LeaveGroups}, false, true, ""},
		{[]string{Describe}, true, true, ""},
		{[]string{Describe}, true, false, "likely, not sure"},
	} {
		o := Order{Actions: c.actions, Text: "seen", IncludeLikely: c.likely, At: time.Now(), By: "tester"}
		f := &audit.Finding{Check: "stale", Confidence: audit.Likely, Hidden: c.hidden, DN: entries[0].DN}
		_, refusals, err := s.Stage(context.Background(), o, []Candidate{{Entry: entries[0], Finding: f}})
		why := ""
		if len(refusals) > 0 {
			why = refusals[0].Why
		} else {
			require.NoError(t, err)
		}
		if c.want == "" {
			assert.Empty(t, why, "%v", c)
		} else {
			assert.Contains(t, why, c.want, "%v", c)
		}
	}
}

// TestOnlyTheTwoHalvesOfAPolicyArePartsOfIt tells what is deleted along with a
// policy, and what merely stands near one.
func TestOnlyTheTwoHalvesOfAPolicyArePartsOfIt(t *testing.T) {
	const policy = "CN={11111111-2222-3333-4444-555555555555},CN=Policies,CN=System,DC=x"
	for dn, want := range map[string]bool{
		"CN=Machine," + policy: true,
		"CN=User," + policy:    true,
		policy:                 false,
		"CN=Machine,CN=WMIPolicy,CN=Policies,CN=System,DC=x":                                              false,
		"CN=Machine,CN={11111111-2222-3333-4444-555555555555},CN=System,DC=x":                             false,
		"CN=Machine,CN={31B2F340-016D-11D2-945F-00C04FB984F9},CN=Policies,CN=System,DC=x":                 false,
		"CN=Deep,CN=Machine," + policy:                                                                    false,
		"CN=Machine,CN={11111111-2222-3333-4444-555555555555},CN=policies,CN=System,DC=x":                 true,
		"CN=Machine,CN=11111111-2222-3333-4444-555555555555,CN=Policies,CN=System,DC=larkmoor,DC=example": false,
	} {
		e := entry(dn, "objectClass=container")
		assert.Equal(t, want, policyPart(e), dn)
		e.Set("objectClass", "user")
		assert.False(t, policyPart(e), "an account below it is none")
	}
	// A part goes with its policy only; an entry below any other container is on
	// its own.
	s := &Stager{staging: staging{children: map[string][]string{policy: {"CN=Machine," + policy}}, parts: map[string]bool{directory.FoldDN("CN=Machine," + policy): true}}}
	part := &Line{DN: "CN=Machine," + policy, Actions: []Action{{Name: Delete}}}
	assert.Equal(t, "the policy above it stays", s.leftBehind(part, map[string]bool{}))
	assert.Empty(t, s.leftBehind(part, map[string]bool{directory.FoldDN(policy): true}))
	other := &Line{DN: "CN=Ada,OU=Staff,DC=x", Actions: []Action{{Name: Delete}}}
	assert.Empty(t, s.leftBehind(other, map[string]bool{}))
}
