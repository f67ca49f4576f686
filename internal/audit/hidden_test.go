package audit

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/directory"
	"yardbroom/internal/settings"
)

// veiled hides attributes of an entry, as whoever reads a directory notes it.
func veiled(e directory.Entry, attrs ...string) directory.Entry {
	var hidden directory.AttrSet
	for _, name := range attrs {
		e.Attrs = slices.DeleteFunc(e.Attrs, func(a directory.Attribute) bool { return strings.EqualFold(a.Name, name) })
		hidden.Add(directory.LookupAttr(name))
	}
	e.Hide(hidden, false)
	return e
}

// TestFindingsThatRestOnWhatIsHiddenAreLikely hides from the same entries first
// nothing and then what a check rests on.
func TestFindingsThatRestOnWhatIsHiddenAreLikely(t *testing.T) {
	top := func(lines ...string) directory.Entry {
		return entry("DC=x", append([]string{"objectClass=domainDNS", "objectSid=" + sid("S-1-5-21-1-2-3"), "lockoutDuration=-18000000000", "msDS-LogonTimeSyncInterval=14"}, lines...)...)
	}
	place := func(name string) directory.Entry {
		return entry("OU="+name+",DC=x", "objectClass=organizationalUnit", "whenCreated="+gen(500))
	}
	guests := func(hidden ...string) directory.Entry { return veiled(place("Guests"), hidden...) }
	for _, c := range []struct {
		check  string
		about  string
		entry  directory.Entry
		hidden string
		gone   bool // hidden, there is no finding at all
	}{
		{"never-used", "a", user("a", "lastLogon", "lastLogonTimestamp"), "lastLogon", false},
		{"never-used", "a", user("a", "lastLogon", "lastLogonTimestamp"), "lastLogonTimestamp", false},
		{"never-used", "a", user("a", "lastLogon", "lastLogonTimestamp"), "accountExpires", false},
		{"never-used", "a", user("a", "lastLogon", "lastLogonTimestamp"), "isCriticalSystemObject", false},
		{"never-used", "a", user("a", "lastLogon", "lastLogonTimestamp"), "userAccountControl", true},
		{"stale", "a", user("a", "lastLogon="+ticks(300), "lastLogonTimestamp"), "lastLogonTimestamp", false},
		{"stale", "a", user("a", "lastLogon="+ticks(300), "lastLogonTimestamp="+ticks(310)), "lastLogon", false},
		{"password-old", "a", user("a", "pwdLastSet="+ticks(500)), "accountExpires", false},
		{"password-old", "a", user("a", "pwdLastSet="+ticks(500)), "pwdLastSet", true},
		{"value-missing", "a", user("a", "givenName=A", "sn=B"), "displayName", false},
		{"service-ownerless", "a", user("a", "objectClass=user|computer|msDS-ManagedServiceAccount"), "managedBy", false},
		{"ou-empty", "Empty", place("Empty"), "gPLink", false},
		{"privileged-residue", "a", user("a", "adminCount=1"), "primaryGroupID", false},
	} {
		others := []directory.Entry{top(), guests(), user("other", "displayName=O", "givenName=O", "sn=O", "primaryGroupID=513", "manager=CN=a", "pwdLastSet="+ticks(500)), entry("CN=in,OU=Guests,DC=x", "objectClass=device"),
			user("gmsa$", "objectClass=user|computer|msDS-ManagedServiceAccount", "managedBy=CN=other", "lastLogon="+ticks(300)),
			entry("CN=Admins,DC=x", "objectClass=group", "objectSid="+sid("S-1-5-21-1-2-3-512"), "member=CN=other,OU=Staff,DC=x"), entry("CN=Builtin,DC=x", "objectClass=group", "objectSid="+sid("S-1-5-32-544"), "member=CN=other,OU=Staff,DC=x")}
		confidence := func(e directory.Entry) string {
			r := run(t, survey(directory.AD, append(slices.Clone(others), e)...), nil, Options{Checks: []string{c.check}})
			for _, f := range r.Findings {
				if f.Account == c.about {
					if f.Hidden {
						assert.Contains(t, f.Evidence, Evidence{c.hidden, "not shown here, as it is elsewhere"}, c.check)
						assert.NotContains(t, f.Evidence, Evidence{c.hidden, "never"}, c.check)
					}
					return string(f.Confidence) + map[bool]string{true: ", hidden"}[f.Hidden]
				}
			}
			return "none"
		}
		before := confidence(c.entry)
		assert.True(t, strings.HasPrefix(before, "sure") || before == "likely" && c.check == "stale", "%s: %s", c.check, before)
		want := "likely, hidden"
		if c.gone {
			want = "none"
		}
		assert.Equal(t, want, confidence(veiled(c.entry, c.hidden)), "%s with %s hidden", c.check, c.hidden)
	}
}

// Where entries may be hidden nothing is called empty, unlinked or missing for
// sure.
func TestWhereEntriesMayBeHiddenTheirAbsenceIsLikely(t *testing.T) {
	yard := func(closed, links bool) *directory.Survey {
		unit := entry("OU=Closed,DC=x", "objectClass=organizationalUnit", "whenCreated="+gen(500))
		if closed {
			unit.Hide(directory.AttrSet{}, true)
		}
		open := entry("OU=Open,DC=x", "objectClass=organizationalUnit", "whenCreated="+gen(500), "gPLink=[LDAP://CN={1},DC=x;0]")
		if links {
			open = veiled(open, "gPLink")
		}
		return survey(directory.AD, domain, unit, open, user("a", "primaryGroupID=513"), entry("CN=site", "objectClass=site", "gPLink=[LDAP://CN={3},DC=x;0]"),
			entry("CN=old,DC=x", "objectClass=group", "objectSid="+sid("S-1-5-21-1-2-3-1200"), "whenCreated="+gen(500)),
			entry("CN=crew,DC=x", "objectClass=group", "objectSid="+sid("S-1-5-21-1-2-3-1201"), "whenCreated="+gen(500), "member=CN=a,OU=Staff,DC=x"),
			entry("CN={2},DC=x", "objectClass=groupPolicyContainer", "displayName=Screens"))
	}
	for _, c := range []struct {
		closed, links bool
		want          string
	}{
		{false, false, "group-empty sure, policy-unlinked sure, ou-empty sure"},
		{true, false, "group-empty likely, policy-unlinked likely, ou-empty likely"},
		{false, true, "group-empty sure, policy-unlinked likely, ou-empty sure, ou-empty likely"},
	} {
		r := run(t, yard(c.closed, c.links), nil, Options{Checks: []string{"group-empty", "ou-empty", "policy-unlinked"}})
		var got []string
		for _, f := range r.Findings {
			got = append(got, f.Check+" "+string(f.Confidence))
			assert.Equal(t, f.Confidence == Likely, f.Hidden)
		}
		assert.Equal(t, c.want, strings.Join(got, ", "), "%v", c)
	}
}

// A policy may be linked to the domain, or to a site, that does not show it.
func TestALinkOfTheDomainOrASiteMayBeHidden(t *testing.T) {
	for name, hide := range map[string]int{"the domain": 0, "a site": 1} {
		tops := []directory.Entry{entry("DC=x", "objectClass=domainDNS", "gPLink=[LDAP://CN={1},DC=x;0]"), entry("CN=site", "objectClass=site", "gPLink=[LDAP://CN={3},DC=x;0]")}
		tops[hide] = veiled(tops[hide], "gPLink")
		r := run(t, survey(directory.AD, append(tops, entry("OU=a,DC=x", "objectClass=organizationalUnit"), user("a"), entry("CN={2},DC=x", "objectClass=groupPolicyContainer"))...), nil, Options{Checks: []string{"policy-unlinked"}})
		if assert.Len(t, r.Findings, 1, name) {
			assert.True(t, r.Findings[0].Hidden, name)
			assert.Contains(t, r.Findings[0].Evidence, Evidence{"gPLink not shown here, as it is elsewhere", tops[hide].DN}, name)
		}
	}
}

func TestSeveritiesHaveNames(t *testing.T) {
	for _, s := range []Severity{Info, Low, Medium, High} {
		back, err := ParseSeverity(s.String())
		assert.NoError(t, err)
		assert.Equal(t, s, back)
	}
	_, err := ParseSeverity("")
	assert.Error(t, err)
}

func TestNotesNameWhatIsHiddenAndWhere(t *testing.T) {
	var all []directory.Entry
	for _, name := range []string{"a", "b", "c"} {
		all = append(all, user(name, "dn=CN="+name+",OU=Closed,DC=x", "lastLogon", "lastLogonTimestamp"), user("open-"+name, "givenName=A"))
	}
	all = append(all, domain)
	r := run(t, survey(directory.AD, all...), nil, Options{Checks: []string{"never-used"}})
	assert.Contains(t, strings.Join(r.Notes, "\n"), "OU=Closed,DC=x: lastLogon and lastLogonTimestamp of 3 users not shown, though most elsewhere show them: taken as hidden")
	assert.NotContains(t, strings.Join(r.Notes, "\n"), "givenName", "nothing rests on that")
	s := survey(directory.AD, append(all, veiled(user("d", "mail"), "mail"))...)
	s.RightsRead = true
	r = run(t, s, func(set *settings.Settings) {}, Options{Checks: []string{"never-used"}})
	assert.Contains(t, strings.Join(r.Notes, "\n"), "OU=Staff,DC=x: mail of 1 user may not be read")
	for i := range 30 {
		e := entry("OU=p"+strings.Repeat("x", i)+",DC=x", "objectClass=organizationalUnit")
		e.Hide(directory.AttrSet{}, true)
		all = append(all, e)
	}
	r = run(t, survey(directory.AD, all...), nil, Options{Checks: []string{"never-used"}})
	assert.Contains(t, strings.Join(r.Notes, "\n"), "more is hidden elsewhere")
	assert.Less(t, len(r.Notes), 15)
}

// What staging would refuse is not suggested.
func TestNothingIsSuggestedThatIsRefused(t *testing.T) {
	place := func(changes ...string) directory.Entry {
		return entry("OU=Empty,DC=x", append([]string{"objectClass=organizationalUnit", "whenCreated=" + gen(500)}, changes...)...)
	}
	suggested := func(check string, entries ...directory.Entry) []string {
		r := run(t, survey(directory.AD, append(entries, entry("DC=x", "objectClass=domainDNS", "objectSid="+sid("S-1-5-21-1-2-3")))...), nil, Options{Checks: []string{check}})
		require.Len(t, r.Findings, 1, check)
		return r.Findings[0].Suggest
	}
	used := entry("OU=Used,DC=x", "objectClass=organizationalUnit", "gPLink=[LDAP://CN=x;0]")
	below := entry("CN=in,OU=Used,DC=x", "objectClass=device")
	assert.Equal(t, []string{"delete"}, suggested("ou-empty", place(), used, below))
	assert.Empty(t, suggested("ou-empty", veiled(place(), "gPLink"), used, below))
	locked := func(rid string) directory.Entry {
		return user("locked"+rid, "lockoutTime="+ticks(0), "objectSid="+sid("S-1-5-21-1-2-3-"+rid))
	}
	assert.Equal(t, []string{"unlock"}, suggested("locked-out", locked("1104")))
	assert.Empty(t, suggested("locked-out", locked("500")), "nothing built in is staged")
}
