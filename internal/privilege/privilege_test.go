package privilege

import (
	"bytes"
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"yardbroom/internal/directory"
	"yardbroom/internal/ldif"
	"yardbroom/internal/source"
)

// entry makes an entry from "name=value" texts.
func entry(dn string, attrs ...string) directory.Entry {
	e := directory.Entry{DN: dn}
	for _, a := range attrs {
		name, value, _ := strings.Cut(a, "=")
		e.Set(name, append(e.Get(name), value)...)
	}
	return e
}

func sid(s string) string {
	raw, err := directory.EncodeSID(s)
	if err != nil {
		panic(err)
	}
	return "objectSid=" + raw
}

// file is a file of a few entries.
func file(t interface {
	require.TestingT
	Cleanup(func())
}, d *directory.Dialect, entries []directory.Entry) *source.File {
	var text bytes.Buffer
	out := ldif.NewWriter(&text)
	for i := range entries {
		require.NoError(t, out.Write(&entries[i]))
	}
	require.NoError(t, out.Flush())
	f, err := source.OpenFile("-", &text)
	require.NoError(t, err)
	f.Dialect = d
	t.Cleanup(func() { f.Close() })
	return f
}

var ad = Rules{Domain: "S-1-5-21-1-2-3"}

func TestHoldersFollowNestingLoopsAndPrimaryGroups(t *testing.T) {
	ctx := context.Background()
	user := func(cn, flags, primary string) directory.Entry {
		return entry("CN="+cn+",DC=x", "objectClass=user", "sAMAccountName="+cn, "userAccountControl="+flags, "primaryGroupID="+primary)
	}
	entries := []directory.Entry{
		entry("CN=Domänen-Admins,DC=x", "objectClass=group", sid("S-1-5-21-1-2-3-512"), "member=CN=Inner,DC=x", "member=CN=ada,DC=x", "member=CN=Post,DC=x"),
		entry("CN=Inner,DC=x", "objectClass=group", sid("S-1-5-21-1-2-3-1200"), "member=cn=domänen-admins,dc=x", "member=CN=bram,DC=x"),
		entry("CN=Administrators,DC=x", "objectClass=group", sid("S-1-5-32-544"), "member=CN=Domänen-Admins,DC=x"),
		entry("CN=Ordinary,DC=x", "objectClass=group", sid("S-1-5-21-1-2-3-1512"), "member=CN=eve,DC=x"),
		entry("CN=Post,DC=x", "objectClass=group", "groupType=2", sid("S-1-5-21-1-2-3-1513"), "member=CN=finn,DC=x"),
		entry("CN=Foreign Admins,DC=x", "objectClass=group", sid("S-1-5-21-9-9-9-512"), "member=CN=finn,DC=x"),
		user("ada", "512", "513"), user("bram", "514", "513"), user("clara", "512", "512"), user("eve", "512", "513"), user("finn", "512", "513"),
	}
	from := file(t, directory.AD, entries)
	read, err := Read(ctx, from, directory.AD, ad, time.Now())
	require.NoError(t, err)
	survey, err := from.Survey(ctx)
	require.NoError(t, err)
	for _, h := range []*Holders{read, Surveyed(survey, ad, time.Now())} {
		assert.True(t, h.Judged)
		of := func(dn string) []string {
			for i := range entries {
				if directory.FoldDN(entries[i].DN) == directory.FoldDN(dn) {
					names, err := h.Of(ctx, &entries[i])
					require.NoError(t, err)
					return names
				}
			}
			t.Fatal(dn)
			return nil
		}
		all := []string{"Administrators", "Domänen-Admins"}
		for dn, want := range map[string][]string{"CN=ada,DC=x": all, "CN=bram,DC=x": all, "cn=CLARA,dc=x": all, "CN=eve,DC=x": nil,
			"CN=finn,DC=x":  nil, // by a list for mail, and by the administrators of another domain
			"CN=Inner,DC=x": all, "CN=Ordinary,DC=x": nil, "CN=Post,DC=x": nil} {
			assert.Equal(t, want, of(dn), dn)
		}
		for group, want := range map[string][]string{"cn=inner,dc=x": all, "CN=Ordinary,DC=x": nil, "CN=unknown,DC=x": nil} {
			names, err := h.LeadsTo(ctx, group)
			require.NoError(t, err)
			assert.Equal(t, want, names, group)
		}
		going := func(dns ...string) (going []Going) {
			for _, dn := range dns {
				going = append(going, Going{dn, of(dn)})
			}
			return going
		}
		assert.Equal(t, []string{"Administrators"}, h.WouldEmpty([]Going{{"CN=ada,DC=x", []string{"Administrators"}}, {"CN=clara,DC=x", []string{"Administrators"}}}), "they stay in the other")
		assert.Empty(t, h.WouldEmpty(going("CN=ada,DC=x")), "Clara stays")
		assert.Equal(t, all, h.WouldEmpty(going("CN=ada,DC=x", "CN=clara,DC=x")), "Bram is disabled")
		assert.Empty(t, h.WouldEmpty(going("CN=bram,DC=x")), "he kept nobody's lights on")
	}
}

func TestNamedGroupsCountByMemberUidAndGidNumberToo(t *testing.T) {
	ctx := context.Background()
	person := func(uid, gid string) directory.Entry {
		return entry("uid="+uid+",dc=x", "objectClass=inetOrgPerson", "objectClass=posixAccount", "uid="+uid, "gidNumber="+gid, "entryUUID="+uid)
	}
	entries := []directory.Entry{
		entry("cn=wheel,dc=x", "objectClass=posixGroup", "cn=wheel", "gidNumber=10", "memberUid=ada", "entryUUID=w"),
		entry("cn=crew,dc=x", "objectClass=posixGroup", "cn=crew", "gidNumber=20", "memberUid=bram", "entryUUID=c"),
		person("ada", "20"), person("bram", "20"), person("clara", "10"),
	}
	rules := Rules{Named: []string{"CN=wheel,DC=x", "cn=misspelt,dc=x"}}
	h, err := Read(ctx, file(t, directory.OpenLDAP, entries), directory.OpenLDAP, rules, time.Now())
	require.NoError(t, err)
	assert.Equal(t, []string{"cn=misspelt,dc=x"}, h.Unknown())
	for i, want := range [][]string{{"wheel"}, nil, {"wheel"}, nil, {"wheel"}} {
		got, err := h.Of(ctx, &entries[i])
		require.NoError(t, err)
		assert.Equal(t, want, got, entries[i].DN)
	}
	assert.Equal(t, []string{"wheel"}, h.WouldEmpty([]Going{{"uid=ada,dc=x", []string{"wheel"}}, {"uid=clara,dc=x", []string{"wheel"}}}))
}

func TestAGroupThatWasNotReadWholeMayBeLeftEmpty(t *testing.T) {
	entries := []directory.Entry{
		entry("CN=Administrators,DC=x", "objectClass=group", sid("S-1-5-32-544"), "member;range=0-1=CN=ada,DC=x"),
		entry("CN=ada,DC=x", "objectClass=user", "userAccountControl=512"),
	}
	entries[0].Set("member;range=0-1", "CN=ada,DC=x", "CN=bram,DC=x")
	h, err := Read(context.Background(), file(t, directory.AD, entries), directory.AD, ad, time.Now())
	require.NoError(t, err)
	assert.Equal(t, []string{"Administrators"}, h.Partial())
	assert.Equal(t, []string{"Administrators"}, h.WouldEmpty([]Going{{"CN=nobody,DC=x", []string{"Administrators"}}}))
}

// survey reads what a graph is made of.
func survey(d *directory.Dialect, entries ...directory.Entry) *directory.Survey {
	s := directory.NewSurvey(d)
	part := s.NewPart(len(entries), directory.AttrSet{})
	for i := range entries {
		part.Add(d, &entries[i])
	}
	s.Merge(part)
	return s
}

func TestAGraphTellsNothingOfGroupsThatItDoesNotKnow(t *testing.T) {
	s := survey(directory.AD,
		entry("CN=Administrators,DC=x", "objectClass=group", sid("S-1-5-32-544"), "member=CN=Inner,DC=x"),
		entry("CN=Inner,DC=x", "objectClass=group", sid("S-1-5-21-1-2-3-1200")),
		entry("CN=Outer,DC=x", "objectClass=group", sid("S-1-5-21-1-2-3-1201")))
	g := NewGraph(s, []string{"CN=b,DC=x", "CN=a,DC=x"})
	for name, want := range map[string][2]bool{"CN=Administrators,DC=x": {true, true}, "CN=Inner,DC=x": {true, false}, "CN=Outer,DC=x": {}, "CN=unknown,DC=x": {}} {
		key := directory.KeyOf(name)
		assert.Equal(t, want, [2]bool{g.Leads(key), g.Privileged(key)}, name)
	}
	assert.True(t, g.Holds(544))
	assert.False(t, g.Holds(1200), "it is read, and not privileged")
	assert.False(t, g.None())
	assert.Equal(t, []string{"CN=a,DC=x", "CN=b,DC=x"}, g.Unknown())
	assert.True(t, NewGraph(survey(directory.AD), nil).None())
}

func member(dn string, primary uint32) *directory.Account {
	a := &directory.Account{PrimaryGroup: primary}
	a.Key = directory.KeyOf(dn)
	return a
}

func TestTheShortestPathFirstByNameIsTold(t *testing.T) {
	s := survey(directory.AD,
		entry("CN=Administrators,DC=x", "objectClass=group", sid("S-1-5-32-544"), "member=CN=B,DC=x", "member=CN=A,DC=x", "member=CN=Long,DC=x"),
		entry("CN=A,DC=x", "objectClass=group", "sAMAccountName=A", sid("S-1-5-21-1-2-3-1200"), "member=CN=ada,DC=x", "member=CN=Deep,DC=x"),
		entry("CN=B,DC=x", "objectClass=group", "sAMAccountName=B", sid("S-1-5-21-1-2-3-1201"), "member=CN=ada,DC=x", "member=CN=Deep,DC=x"),
		entry("CN=Long,DC=x", "objectClass=group", "sAMAccountName=Long", sid("S-1-5-21-1-2-3-1202"), "member=CN=A,DC=x"),
		entry("CN=Deep,DC=x", "objectClass=group", "sAMAccountName=Deep", sid("S-1-5-21-1-2-3-1203"), "member=CN=bram,DC=x"))
	g := NewGraph(s, nil)
	of := func(cn string, primary uint32) Reach {
		all := g.Of(member("CN="+cn+",DC=x", primary))
		require.Len(t, all, 1)
		assert.Equal(t, "Administrators", all[0].Group)
		return all[0]
	}
	assert.Equal(t, []string{"A"}, of("ada", 0).Path)
	assert.Equal(t, []string{"Deep", "A"}, of("bram", 0).Path)
	assert.False(t, of("bram", 513).Primary)
	assert.Equal(t, []string{"A"}, of("bram", 1200).Path, "his primary group is nearer")
	assert.True(t, of("bram", 1200).Primary)
	assert.False(t, of("ada", 1200).Primary, "she is listed there, too")
	assert.Empty(t, g.Of(member("CN=clara,DC=x", 1204)))
}

func TestAMemberFromAnotherDomainClimbsToo(t *testing.T) {
	ctx := context.Background()
	entries := []directory.Entry{
		entry("CN=Administrators,DC=x", "objectClass=group", "groupType=-2147483643", "objectGUID=g000000000000001", sid("S-1-5-32-544"), "member=CN=S-1-5-21-9-9-9-1104,DC=x", "member=CN=Post,DC=x"),
		entry("CN=Post,DC=x", "objectClass=group", "groupType=2", "objectGUID=g000000000000002", sid("S-1-5-21-1-2-3-1201")),
		entry("CN=S-1-5-21-9-9-9-1104,DC=x", "objectClass=foreignSecurityPrincipal", "objectGUID=g000000000000003", sid("S-1-5-21-9-9-9-1104")),
	}
	c := &Climber{From: file(t, directory.AD, entries), Dialect: directory.AD, Rules: ad}
	got, err := c.Of(ctx, &entries[2])
	require.NoError(t, err)
	assert.Equal(t, []string{"Administrators"}, got)
	got, err = c.Any(ctx, &entries[1], &entries[2])
	require.NoError(t, err)
	assert.Equal(t, []string{"Administrators"}, got, "what gives no rights does not end the climb of the others")
	got, err = c.LeadsTo(ctx, "CN=unknown,DC=x")
	require.NoError(t, err)
	assert.Empty(t, got)
}

func TestAGroupThatSeveralLoseIsCountedForAllOfThem(t *testing.T) {
	entries := []directory.Entry{
		entry("CN=Administrators,DC=x", "objectClass=group", sid("S-1-5-32-544"), "member=CN=ada,DC=x"),
		entry("CN=Operators,DC=x", "objectClass=group", sid("S-1-5-32-548")),
		entry("CN=ada,DC=x", "objectClass=user", "userAccountControl=512"),
	}
	entries[1].Set("member;range=0-0", "CN=ada,DC=x")
	h, err := Read(context.Background(), file(t, directory.AD, entries), directory.AD, ad, time.Now())
	require.NoError(t, err)
	assert.Equal(t, []string{"Administrators", "Operators"}, h.WouldEmpty([]Going{{"CN=ada,DC=x", []string{"Operators"}}, {"CN=ada,DC=x", []string{"Administrators"}}}))
	assert.False(t, h.Judged, "a group that every domain has was not read")
}

func TestRulesLeaveOutTheGroupsOfOtherDirectories(t *testing.T) {
	id := source.Identity{Dialect: "ad", Base: "DC=a,DC=x", ID: "S-1-5-21-1"}
	assert.Equal(t, Rules{Domain: "S-1-5-21-1", Named: []string{"CN=g,DC=A,DC=x"}}, RulesFor(id, []string{"CN=g,DC=A,DC=x", "CN=g,DC=b,DC=x"}))
}

// TestClimbingFindsWhatTheGraphFinds holds the two ways to the same question
// against each other, and both against a third that knows no cleverness.
func TestClimbingFindsWhatTheGraphFinds(t *testing.T) {
	ctx := context.Background()
	rapid.Check(t, func(rt *rapid.T) {
		onAD := rapid.Bool().Draw(rt, "ad")
		d, rules := directory.AD, ad
		if !onAD {
			d = directory.OpenLDAP
		}
		var entries []directory.Entry
		groups := rapid.IntRange(1, 7).Draw(rt, "groups")
		accounts := rapid.IntRange(1, 5).Draw(rt, "accounts")
		name := func(n int) string {
			if n < groups {
				return fmt.Sprintf("CN=g%d,DC=x", n)
			}
			return fmt.Sprintf("CN=u%d,DC=x", n-groups)
		}
		for i := range groups {
			e := entry(name(i), fmt.Sprintf("cn=g%d", i))
			rid := []uint32{512, 519, 1100}[rapid.IntRange(0, 2).Draw(rt, "rid")] + uint32(i)*1000
			if onAD {
				e.Set("objectClass", "group")
				raw, err := directory.EncodeSID(fmt.Sprintf("S-1-5-21-1-2-3-%d", rid))
				require.NoError(rt, err)
				e.Set("objectSid", raw)
				e.Set("objectGUID", fmt.Sprintf("g%015d", i))
				e.Set("groupType", []string{"2", "-2147483646"}[rapid.IntRange(0, 1).Draw(rt, "type")])
			} else {
				e.Set("entryUUID", fmt.Sprint("g", i))
				e.Set("objectClass", [][]string{{"groupOfNames"}, {"groupOfUniqueNames"}, {"posixGroup"}}[rapid.IntRange(0, 2).Draw(rt, "class")]...)
				e.Set("gidNumber", fmt.Sprint(i))
			}
			if !onAD && rapid.IntRange(0, 3).Draw(rt, "named") == 0 || onAD && rapid.IntRange(0, 5).Draw(rt, "named") == 0 {
				rules.Named = append(rules.Named, e.DN)
			}
			for j := range groups + accounts {
				if rapid.IntRange(0, 3).Draw(rt, "member") > 0 {
					continue
				}
				switch {
				case onAD || e.HasClass("groupOfNames"):
					e.Set("member", append(e.Get("member"), name(j))...)
				case e.HasClass("groupOfUniqueNames"):
					e.Set("uniqueMember", append(e.Get("uniqueMember"), name(j))...)
				case j >= groups:
					e.Set("memberUid", append(e.Get("memberUid"), fmt.Sprintf("u%d", j-groups))...)
				}
			}
			entries = append(entries, e)
		}
		for i := range accounts {
			e := entry(name(groups+i), fmt.Sprintf("cn=u%d", i))
			if onAD {
				e.Set("objectClass", "user")
				e.Set("sAMAccountName", fmt.Sprint("u", i))
				e.Set("objectGUID", fmt.Sprintf("u%015d", i))
				g := rapid.IntRange(0, groups-1).Draw(rt, "primary")
				e.Set("primaryGroupID", fmt.Sprint(directory.RID(entries[g].First("objectSid"))))
			} else {
				e.Set("objectClass", "inetOrgPerson", "posixAccount")
				e.Set("uid", fmt.Sprint("u", i))
				e.Set("entryUUID", fmt.Sprint("u", i))
				e.Set("gidNumber", fmt.Sprint(rapid.IntRange(0, groups).Draw(rt, "gid")))
			}
			entries = append(entries, e)
		}
		from := file(rt, d, entries)
		h, err := Read(ctx, from, d, rules, time.Now())
		require.NoError(rt, err)
		c := &Climber{From: from, Dialect: d, Rules: rules}
		for i := range entries {
			want := slowly(entries, d, rules, &entries[i])
			known, err := h.Of(ctx, &entries[i])
			require.NoError(rt, err)
			climbed, err := c.Of(ctx, &entries[i])
			require.NoError(rt, err)
			slices.Sort(want)
			require.Equal(rt, want, known, "the graph, of %s", entries[i].DN)
			require.Equal(rt, want, climbed, "climbing, from %s", entries[i].DN)
		}
	})
}

// slowly says by the words of the specification which privileged groups an
// entry reaches: it adds what lists anything found so far until nothing is
// added.
func slowly(entries []directory.Entry, d *directory.Dialect, rules Rules, e *directory.Entry) (names []string) {
	isGroup := func(g *directory.Entry) bool { return g.Has("cn") && strings.HasPrefix(g.First("cn"), "g") }
	rights := func(g *directory.Entry) bool { return g.First("groupType") != "2" }
	power := func(g *directory.Entry) bool {
		rid := directory.RID(g.First("objectSid"))
		return rid == 512 || rid == 519 || slices.Contains(rules.Named, g.DN)
	}
	in := map[string]bool{}
	names = nil
	if isGroup(e) && power(e) {
		names = append(names, e.First("cn"))
	}
	if isGroup(e) && !rights(e) {
		return names
	}
	reached := []*directory.Entry{e}
	for len(reached) > 0 {
		one := reached[0]
		reached = reached[1:]
		for i := range entries {
			g := &entries[i]
			if !isGroup(g) || in[g.DN] || !rights(g) {
				continue
			}
			lists := slices.Contains(g.Get("member"), one.DN) || slices.Contains(g.Get("uniqueMember"), one.DN) ||
				one.Has("uid") && slices.Contains(g.Get("memberUid"), one.First("uid"))
			if one == e && !isGroup(e) {
				primary := one.First("primaryGroupID")
				lists = lists || d == directory.AD && primary == fmt.Sprint(directory.RID(g.First("objectSid"))) ||
					d != directory.AD && g.HasClass("posixGroup") && g.First("gidNumber") == one.First("gidNumber")
			}
			if !lists {
				continue
			}
			in[g.DN] = true
			if power(g) && !slices.Contains(names, g.First("cn")) {
				names = append(names, g.First("cn"))
			}
			reached = append(reached, g)
		}
	}
	return names
}
