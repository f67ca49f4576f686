package audit

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/calendar"
	"yardbroom/internal/directory"
	"yardbroom/internal/filter"
	"yardbroom/internal/settings"
)

func span(t *testing.T, text string) *calendar.Span {
	t.Helper()
	s, err := calendar.ParseSpan(text)
	require.NoError(t, err)
	return &s
}

// ownRun audits with one check of the settings, called "mine"; what its filter
// selects is found as whoever reads a directory finds it.
func ownRun(t *testing.T, d *directory.Dialect, f settings.Filter, entries ...directory.Entry) *Report {
	t.Helper()
	opt := Options{Checks: []string{"mine"}}
	c, err := ownCheck("mine", f)
	require.NoError(t, err)
	if c.Filter != "" {
		parsed, err := filter.Parse(c.Filter)
		require.NoError(t, err)
		m, err := parsed.For(d, nil)
		require.NoError(t, err)
		opt.Selected = map[string][]directory.Entry{"mine": nil}
		for i := range entries {
			if m.Match(&entries[i]) == filter.True {
				opt.Selected["mine"] = append(opt.Selected["mine"], entries[i])
			}
		}
	}
	return run(t, survey(d, entries...), func(set *settings.Settings) { set.Audit.Filters = map[string]settings.Filter{"mine": f} }, opt)
}

func TestAChecksOfOnesOwnSelectsByFilterAndConditions(t *testing.T) {
	entries := []directory.Entry{domain,
		user("fresh", "department=Lenses", "employeeID=17"),
		user("idle", "lastLogon="+ticks(110), "lastLogonTimestamp="+ticks(120), "department=Lenses"),
		user("off", "userAccountControl=514", "pwdLastSet="+ticks(400)),
		user("locked", "lockoutTime="+ticks(0.01)),
		user("over", "accountExpires="+ticks(3)),
		user("soon", "accountExpires="+ticks(-5), "dn=CN=soon,OU=Guests,DC=x"),
		user("new", "whenCreated="+gen(3)),
		user("unused", "lastLogon", "lastLogonTimestamp", "whenCreated="+gen(200)),
		user("built-in", "isCriticalSystemObject=TRUE", "lastLogon="+ticks(100), "lastLogonTimestamp="+ticks(100), "department=Lenses"),
		user("trust$", "userAccountControl=2080", "department=Lenses"),
		user("pc$", "objectClass=user|computer", "department=Lenses"),
		entry("CN=crew,DC=x", "objectClass=group", "sAMAccountName=crew", "member=CN=fresh,OU=Staff,DC=x"),
		entry("CN=twice,OU=a,DC=x", "objectClass=group", "sAMAccountName=twice", "department=Lenses"), entry("CN=twice,OU=b,DC=x", "objectClass=group", "sAMAccountName=twice-b")}
	for _, c := range []struct {
		name string
		f    settings.Filter
		want string // account confidence: evidence; …
	}{
		{"a filter", settings.Filter{Filter: "(department=Lenses)"}, "fresh sure: department=Lenses; idle sure: department=Lenses; pc$ sure: department=Lenses; twice sure: department=Lenses"},
		{"a filter and a kind", settings.Filter{Filter: "(department=Lenses)", Kind: "users"}, "fresh sure: department=Lenses; idle sure: department=Lenses"},
		{"a filter and people", settings.Filter{Filter: "(department=Lenses)", Kind: "people"}, "fresh sure: department=Lenses"},
		{"people", settings.Filter{Kind: "people", Where: settings.Conditions{Idle: span(t, "1d")}}, "fresh likely: lastLogon=2026-11-21"},
		{"a filter and a condition", settings.Filter{Filter: "(department=Lenses)", Where: settings.Conditions{Idle: span(t, "90d")}}, "idle sure: department=Lenses, lastLogon=2026-08-05"},
		{"a filter and a group", settings.Filter{Filter: "(department=Lenses)", Where: settings.Conditions{MemberOf: "crew"}}, "fresh sure: department=Lenses, member of=crew"},
		{"idle", settings.Filter{Where: settings.Conditions{Idle: span(t, "90d")}}, "idle sure: lastLogon=2026-08-05; unused sure: lastLogon=never, whenCreated=2026-05-07"},
		{"idle, just over the line", settings.Filter{Where: settings.Conditions{Idle: span(t, "105d")}}, "idle likely: lastLogon=2026-08-05; unused sure: lastLogon=never, whenCreated=2026-05-07"},
		{"never used", settings.Filter{Where: settings.Conditions{NeverUsed: true}}, "unused sure: lastLogon=never, whenCreated=2026-05-07"},
		{"disabled", settings.Filter{Where: settings.Conditions{Disabled: true}}, "off sure: state=disabled"},
		{"locked", settings.Filter{Where: settings.Conditions{Locked: true}}, "locked sure: state=locked out"},
		{"expired", settings.Filter{Where: settings.Conditions{Expired: true}}, "over sure: accountExpires=2026-11-20"},
		{"expiring", settings.Filter{Where: settings.Conditions{ExpiresIn: span(t, "14d")}}, "soon sure: accountExpires=2026-11-28"},
		{"an old password", settings.Filter{Where: settings.Conditions{PasswordOlder: span(t, "90d")}}, "off sure: pwdLastSet=2025-10-19"},
		{"new", settings.Filter{Where: settings.Conditions{New: span(t, "7d")}}, "new sure: whenCreated=2026-11-20"},
		{"in a group", settings.Filter{Where: settings.Conditions{MemberOf: "CREW"}}, "fresh sure: member of=CREW"},
		{"in a group by its DN", settings.Filter{Where: settings.Conditions{MemberOf: "cn=crew,dc=x"}}, "fresh sure: member of=cn=crew,dc=x"},
		{"under a place", settings.Filter{Under: "ou=guests,dc=x", Where: settings.Conditions{Enabled: true}}, "soon sure: state=enabled"},
		{"one server's own value", settings.Filter{Filter: "(lastLogon<=" + ticks(90) + ")", Kind: "users"}, "idle likely: lastLogon=2026-08-05"},
	} {
		t.Run(c.name, func(t *testing.T) {
			r := ownRun(t, directory.AD, c.f, entries...)
			var got []string
			for _, f := range r.Findings {
				var shown []string
				for _, e := range f.Evidence {
					value := e.Value
					if len(value) > 10 && value[4] == '-' {
						value = value[:10]
					}
					shown = append(shown, e.Attr+"="+value)
				}
				got = append(got, fmt.Sprintf("%s %s: %s", f.Account, f.Confidence, strings.Join(shown, ", ")))
			}
			assert.Equal(t, c.want, strings.Join(got, "; "))
		})
	}
	for name, c := range map[string]struct{ name, why string }{"of no group": {"nobody", "0 groups are called"}, "of two": {"twice", "2 groups are called"}} {
		r := ownRun(t, directory.AD, settings.Filter{Where: settings.Conditions{MemberOf: c.name}}, entries...)
		assert.Empty(t, r.Findings, name)
		require.Len(t, r.Summary, 1)
		assert.False(t, r.Summary[0].Looked, name)
		assert.Contains(t, r.Summary[0].NotLooked[0], c.why)
	}
}

func TestAChecksOfOnesOwnIsAskedForWhatItNeeds(t *testing.T) {
	for _, c := range []struct {
		where settings.Conditions
		hide  string
	}{
		{settings.Conditions{Enabled: true}, "userAccountControl"}, {settings.Conditions{Disabled: true}, "userAccountControl"},
		{settings.Conditions{PasswordOlder: span(t, "1d")}, "pwdLastSet"}, {settings.Conditions{New: span(t, "9y")}, "whenCreated"},
	} {
		for _, hidden := range []bool{false, true} {
			e := user("a")
			if hidden {
				e = user("a", c.hide)
			}
			r := ownRun(t, directory.AD, settings.Filter{Where: c.where}, domain, e, entry("CN=pc,DC=x", "objectClass=user", "objectClass=computer"))
			require.Len(t, r.Summary, 1)
			why := strings.Join(r.Summary[0].NotLooked, " ")
			assert.Equal(t, hidden, strings.Contains(why, "users: none shows"), "%s: %s", c.hide, why)
		}
	}
	r := ownRun(t, directory.AD, settings.Filter{Where: settings.Conditions{NeverUsed: true}}, domain, user("a", "lastLogon", "lastLogonTimestamp"))
	assert.Empty(t, r.Findings, "nobody shows a sign-in")
}

func TestChecksOfOnesOwnThatCannotBe(t *testing.T) {
	for _, c := range []struct {
		name string
		f    settings.Filter
		why  string
	}{
		{"Mine", settings.Filter{Filter: "(a=b)"}, `"Mine" cannot name a check`},
		{"1st", settings.Filter{Filter: "(a=b)"}, "cannot name a check"},
		{"stale", settings.Filter{Filter: "(a=b)"}, `"stale" is the name of a built-in check`},
		{"mine", settings.Filter{}, "mine: give a filter, conditions (where), or a place (under)"},
		{"mine", settings.Filter{Filter: "(a=b"}, "mine: "},
		{"mine", settings.Filter{Filter: "(userPassword=b)"}, "holds secrets"},
		{"mine", settings.Filter{Filter: "(cn=b)", Kind: "person"}, `mine: kind: "person" is none of`},
		{"mine", settings.Filter{Filter: "(cn=b)", Severity: "grave"}, `mine: "grave" is not a severity`},
	} {
		_, err := NewCatalog(&settings.Audit{Filters: map[string]settings.Filter{c.name: c.f}})
		assert.ErrorContains(t, err, c.why)
	}
	all, err := NewCatalog(&settings.Audit{Filters: map[string]settings.Filter{"mine": {Filter: "(cn=b)", Severity: "high"}, "also": {Where: settings.Conditions{Disabled: true}}}})
	require.NoError(t, err)
	var own []string
	for _, c := range all.Own() {
		own = append(own, fmt.Sprintf("%s %s: %s", c.Name, c.Severity, c.Short))
	}
	assert.Equal(t, []string{"mine high: entry that fulfils (cn=b)"}, own, "the others need no filter to be asked")
	also, err := all.Named("also")
	require.NoError(t, err)
	assert.Equal(t, Low, also.Severity)
	assert.Equal(t, "also", also.Reason())
	_, err = all.Named("none")
	assert.ErrorContains(t, err, `no check is called "none"`)
}

func TestAFilterOnOneServersOwnValuesIsWarnedOf(t *testing.T) {
	by := func(d *directory.Dialect, f string, entries ...directory.Entry) string {
		r := ownRun(t, d, settings.Filter{Filter: f}, entries...)
		return strings.Join(r.Notes, " ")
	}
	assert.Contains(t, by(directory.AD, "(logonCount>=1)", domain, user("a")), "logonCount is each server's own value")
	assert.NotContains(t, by(directory.AD, "(pwdLastSet>=1)", domain, user("a")), "own value")
	assert.NotContains(t, by(directory.OpenLDAP, "(logonCount>=1)", entry("uid=a,dc=x", "objectClass=account")), "own value")
	one := entry("CN=NTDS Settings,CN=DC1,CN=Servers,DC=x", "objectClass=nTDSDSA")
	assert.NotContains(t, by(directory.AD, "(logonCount>=1)", domain, user("a"), one), "own value", "there is but one server")
}

func TestEvidenceOfAFilterShowsSomeOfManyValues(t *testing.T) {
	e := user("a", "proxyAddresses=1|2|3|4|5|6|7")
	r := ownRun(t, directory.AD, settings.Filter{Filter: "(&(objectClass=user)(proxyAddresses=*)(!(mail=*)))"}, domain, e)
	require.Len(t, r.Findings, 1)
	assert.Equal(t, []Evidence{{"proxyAddresses", "1, 2, 3, 4, 5 and 2 more"}, {"mail", "absent"}}, r.Findings[0].Evidence)
}
