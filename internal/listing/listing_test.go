package listing

import (
	"context"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/calendar"
	"yardbroom/internal/directory"
	"yardbroom/internal/settings"
	"yardbroom/internal/sheet"
	"yardbroom/internal/source"
)

var asOf = time.Date(2026, 11, 20, 12, 0, 0, 0, time.UTC)

func ticks(daysAgo int) string { return directory.FormatFileTime(asOf.AddDate(0, 0, -daysAgo)) }

const frame = `dn: DC=larkmoor,DC=example
objectClass: domainDNS
objectGUID: 0000000000000000
lockoutDuration: -18000000000

dn: OU=Staff,DC=larkmoor,DC=example
objectClass: organizationalUnit
objectGUID: 0000000000000001

`

// person is a record of a user; more lines may follow.
func person(name, id, lines string) string {
	return "dn: CN=" + name + ",OU=Staff,DC=larkmoor,DC=example\nobjectClass: user\nobjectGUID: " + id + "\nsAMAccountName: " + name +
		"\naccountExpires: 0\n" + lines + "\n"
}

func yard() string {
	return frame +
		person("ada", "0000000000000010", "userAccountControl: 512\ngivenName: Ada\nlastLogon: "+ticks(100)+"\npwdLastSet: "+ticks(400)+"\nwhenCreated: 20200101000000.0Z\nmemberOf: CN=inner,OU=Staff,DC=larkmoor,DC=example\n") +
		person("bram", "0000000000000011", "userAccountControl: 514\nemployeeID: 7\nlastLogon: "+ticks(10)+"\nwhenCreated: 20261101000000.0Z\n") +
		person("clara", "0000000000000012", "userAccountControl: 512\nlastLogon: 0\nwhenCreated: 20200101000000.0Z\nlockoutTime: "+directory.FormatFileTime(asOf.Add(-time.Minute))+"\n") +
		person("dorian", "0000000000000013", "userAccountControl: 512\nprimaryGroupID: 1500\nwhenCreated: 20261101000000.0Z\n") +
		`dn: CN=inner,OU=Staff,DC=larkmoor,DC=example
objectClass: group
objectGUID: 0000000000000014
sAMAccountName: inner
member: CN=ada,OU=Staff,DC=larkmoor,DC=example
member: CN=outer,OU=Staff,DC=larkmoor,DC=example

dn: CN=outer,OU=Staff,DC=larkmoor,DC=example
objectClass: group
objectGUID: 0000000000000015
sAMAccountName: outer
member: CN=inner,OU=Staff,DC=larkmoor,DC=example
member: CN=bram,OU=Staff,DC=larkmoor,DC=example

`
}

func run(t *testing.T, text string, q Query) (*List, error) {
	t.Helper()
	path := filepath.Join(t.TempDir(), "yard.ldif")
	require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	f, err := source.OpenFile(path, nil)
	require.NoError(t, err)
	q.AsOf, q.Zone = asOf, time.UTC
	return Run(context.Background(), f, q)
}

// column returns the cells of a list's first column.
func first(t *testing.T, l *List) []any {
	t.Helper()
	var out []any
	for _, row := range l.Sheet.Rows {
		out = append(out, row[0])
	}
	return out
}

func TestConditions(t *testing.T) {
	days := func(n int) *calendar.Span { s := calendar.Days(n); return &s }
	past := func(text string) *calendar.Past {
		p, err := calendar.ParsePast(text)
		require.NoError(t, err)
		return &p
	}
	for name, c := range map[string]struct {
		what string
		when settings.Conditions
		want []any
	}{
		"everybody":          {"users", settings.Conditions{}, []any{"ada", "bram", "clara", "dorian"}},
		"people":             {"people", settings.Conditions{}, []any{"ada", "bram"}},
		"groups":             {"groups", settings.Conditions{}, []any{"inner", "outer"}},
		"enabled":            {"users", settings.Conditions{Enabled: true}, []any{"ada", "clara", "dorian"}},
		"disabled":           {"users", settings.Conditions{Disabled: true}, []any{"bram"}},
		"locked":             {"users", settings.Conditions{Locked: true}, []any{"clara"}},
		"idle":               {"users", settings.Conditions{Idle: days(90)}, []any{"ada", "clara"}}, // clara never signed in, in six years
		"idle, to the day":   {"users", settings.Conditions{Idle: days(100)}, []any{"ada", "clara"}},
		"not quite idle":     {"users", settings.Conditions{Idle: days(101)}, []any{"clara"}},
		"never used":         {"users", settings.Conditions{NeverUsed: true}, []any{"clara", "dorian"}},
		"never used, new":    {"users", settings.Conditions{NeverUsed: true, New: days(30)}, []any{"dorian"}},
		"old passwords":      {"users", settings.Conditions{PasswordOlder: days(365)}, []any{"ada"}},
		"in a group":         {"users", settings.Conditions{MemberOf: "inner"}, []any{"ada", "bram"}}, // bram through outer
		"groups in a group":  {"groups", settings.Conditions{MemberOf: "inner"}, []any{"inner", "outer"}},
		"used":               {"users", settings.Conditions{Used: true}, []any{"ada", "bram"}},
		"used lately":        {"users", settings.Conditions{UsedWithin: days(30)}, []any{"bram"}},
		"made long ago":      {"users", settings.Conditions{CreatedBefore: past("1y")}, []any{"ada", "clara"}},
		"made before a date": {"users", settings.Conditions{CreatedBefore: past("2026-11-01")}, []any{"ada", "clara"}},
		"made by that date":  {"users", settings.Conditions{CreatedBefore: past("2026-11-02")}, []any{"ada", "bram", "clara", "dorian"}},
		"not locked":         {"users", settings.Conditions{Not: &settings.Conditions{Locked: true}}, []any{"ada", "bram", "dorian"}},
		"neither of two":     {"users", settings.Conditions{Not: &settings.Conditions{Locked: true, Disabled: true}}, []any{"ada", "dorian"}},
		"not idle":           {"users", settings.Conditions{Not: &settings.Conditions{Idle: days(90)}}, []any{"bram", "dorian"}},
		"not used":           {"users", settings.Conditions{Not: &settings.Conditions{Used: true}}, []any{"clara", "dorian"}},
		"not in a group":     {"", settings.Conditions{Enabled: true, Not: &settings.Conditions{MemberOf: "inner"}}, []any{"clara", "dorian"}},
		"enabled in a group": {"users", settings.Conditions{MemberOf: "CN=outer,OU=Staff,DC=larkmoor,DC=example", Enabled: true}, []any{"ada"}},
	} {
		l, err := run(t, yard(), Query{What: c.what, When: c.when, Columns: []string{"account"}})
		require.NoError(t, err, name)
		assert.Equal(t, c.want, first(t, l), name)
		assert.Equal(t, len(c.want), l.Found, name)
	}
}

// TestSinceWhenIsToldWhereSomethingDatesIt: the flags' own date, else our journal's, else
// that nothing was changed since; what nothing dates is told of nobody.
func TestSinceWhenIsToldWhereSomethingDatesIt(t *testing.T) {
	off := func(name, id, changed string) string {
		return person(name, id, "userAccountControl: 514\nwhenCreated: 20200101000000.0Z\nwhenChanged: "+changed+"\n")
	}
	text := frame + off("long", "0000000000000010", "20250101000000.0Z") + off("ours", "0000000000000011", "20261115000000.0Z") +
		off("recent", "0000000000000012", "20261115000000.0Z") + off("undated", "0000000000000013", "20261115000000.0Z")
	span := calendar.Days(60)
	ago := func(days int) time.Time { return asOf.AddDate(0, 0, -days) }
	q := Query{What: "users", Columns: []string{"account"}, Ours: map[string]directory.OurSteps{
		"0000000000000011": {Disabled: ago(60), Moved: ago(60)}, "0000000000000012": {Disabled: ago(59), Moved: ago(59)},
	}}
	for _, when := range []settings.Conditions{{DisabledFor: &span}, {HereFor: &span}} {
		q.When = when
		l, err := run(t, text, q)
		require.NoError(t, err)
		assert.Equal(t, []any{"long", "ours"}, first(t, l))
		assert.Equal(t, 1, l.Untold)
	}
	q.When = settings.Conditions{Not: &settings.Conditions{DisabledFor: &span}}
	l, err := run(t, text, q)
	require.NoError(t, err)
	assert.Equal(t, []any{"recent"}, first(t, l), "what is not told is not told to be otherwise either")
}

func TestNeverUsedMeansNoSignInAtAll(t *testing.T) {
	l, err := run(t, yard(), Query{What: "users", When: settings.Conditions{NeverUsed: true}, Columns: []string{"account", "last-logon", "idle-days"},
		SignIns: map[directory.Key]directory.SignIn{directory.TextKey("clara"): {At: asOf.AddDate(0, 0, -3), Source: "vpn"}}})
	require.NoError(t, err)
	assert.Equal(t, [][]any{{"dorian", nil, 19}}, l.Sheet.Rows, "who has signed in elsewhere has been used; the idle days of others count from when they were made")
}

func TestAbsenceProvesNothingWherePresenceCouldNotBeSeen(t *testing.T) {
	text := frame + person("ada", "0000000000000010", "userAccountControl: 512\n")
	days := calendar.Days(90)
	for _, when := range []settings.Conditions{{NeverUsed: true}, {Idle: &days}, {PasswordOlder: &days}, {New: &days}} {
		_, err := run(t, text, Query{What: "users", When: when})
		assert.ErrorContains(t, err, "cannot be told: no account shows")
	}
	_, err := run(t, frame+"dn: CN=ada,DC=larkmoor,DC=example\nobjectClass: user\nobjectGUID: 0000000000000010\n\n", Query{What: "users", When: settings.Conditions{Disabled: true}})
	assert.ErrorContains(t, err, "--disabled cannot be told")
}

func TestColumnsAreReadable(t *testing.T) {
	l, err := run(t, yard(), Query{What: "users", Filter: "(sAMAccountName=ada)", Columns: []string{"account", "state", "enabled", "lastLogon", "pwdLastSet", "password-age", "memberOf", "groups", "ou", "objectGUID", "userAccountControl", "mail", "accountExpires"}})
	require.NoError(t, err)
	assert.Equal(t, [][]any{{"ada", "enabled", true, asOf.AddDate(0, 0, -100), asOf.AddDate(0, 0, -400), 400, []string{"CN=inner,OU=Staff,DC=larkmoor,DC=example"}, []string{"inner"}, "Staff",
		"30303030-3030-3030-3030-303030303130", 512, nil, nil}}, l.Sheet.Rows)
	kinds := map[string]sheet.Kind{}
	for _, c := range l.Sheet.Columns {
		kinds[c.Name] = c.Kind
	}
	assert.Equal(t, map[string]sheet.Kind{"account": sheet.Text, "state": sheet.Text, "enabled": sheet.Truth, "lastLogon": sheet.Time, "pwdLastSet": sheet.Time, "password-age": sheet.Number,
		"memberOf": sheet.Texts, "groups": sheet.Texts, "ou": sheet.Text, "objectGUID": sheet.Text, "userAccountControl": sheet.Number, "mail": sheet.Text, "accountExpires": sheet.Time}, kinds)
}

func TestAnAttributeMayHaveTheNameOfAColumn(t *testing.T) {
	l, err := run(t, yard()+person("edda", "0000000000000016", "userAccountControl: 512\nname: The Edda\n"), Query{Filter: "(sAMAccountName=edda)", Columns: []string{"name", "attribute:name"}})
	require.NoError(t, err)
	assert.Equal(t, [][]any{{"edda", "The Edda"}}, l.Sheet.Rows)
	assert.Equal(t, "attribute:name", l.Sheet.Columns[1].Name)
}

func TestSortingPutsNothingLast(t *testing.T) {
	for by, want := range map[string][]any{
		"last-logon":  {"ada", "bram", "clara", "dorian"},
		"-last-logon": {"bram", "ada", "clara", "dorian"},
		"-account":    {"dorian", "clara", "bram", "ada"},
		"employeeID":  {"bram", "ada", "clara", "dorian"},
	} {
		l, err := run(t, yard(), Query{What: "users", Columns: []string{"account"}, Sort: by})
		require.NoError(t, err)
		assert.Equal(t, want, first(t, l), by)
	}
	l, err := run(t, yard(), Query{What: "users", Columns: []string{"account"}, Limit: 2})
	require.NoError(t, err)
	assert.Equal(t, []any{"ada", "bram"}, first(t, l))
	assert.Equal(t, 4, l.Found)
}

func TestAllShowsWhatIsSetButNoSecret(t *testing.T) {
	l, err := run(t, yard()+person("edda", "0000000000000016", "userAccountControl: 512\nunicodePwd: secret\nx-badge: B7\n"), Query{Filter: "(sAMAccountName=edda)", Columns: []string{All}})
	require.NoError(t, err)
	var names []string
	for _, c := range l.Sheet.Columns {
		names = append(names, c.Name)
	}
	assert.Equal(t, []string{"dn", "accountExpires", "objectClass", "objectGUID", "sAMAccountName", "userAccountControl", "x-badge"}, names)
}

func TestScopeIsWhatIsInSomebodysCare(t *testing.T) {
	l, err := run(t, yard(), Query{Columns: []string{"dn"}, LeftOut: directory.FoldAll([]string{"OU=Staff,DC=larkmoor,DC=example"})})
	require.NoError(t, err)
	assert.Equal(t, []any{"DC=larkmoor,DC=example"}, first(t, l))
}

// A yard in which a place never shows what most others do: whether those there
// are meant cannot be told.
func TestWhatIsHiddenIsNeitherYesNorNo(t *testing.T) {
	text := yard()
	for i, name := range []string{"x", "y", "z"} {
		text += "dn: CN=" + name + ",OU=Closed,DC=larkmoor,DC=example\nobjectClass: user\nobjectGUID: 000000000000010" + string(rune('0'+i)) + "\nsAMAccountName: " + name +
			"\nuserAccountControl: 512\naccountExpires: 0\nwhenCreated: 20200101000000.0Z\n\n"
	}
	days := calendar.Days(90)
	for name, c := range map[string]struct {
		when   settings.Conditions
		found  int
		untold int
	}{
		"sign-ins":                    {settings.Conditions{Idle: &days}, 2, 3},
		"no sign-in":                  {settings.Conditions{NeverUsed: true}, 2, 3},
		"a state that shows":          {settings.Conditions{Enabled: true}, 6, 0},
		"a state and sign-ins":        {settings.Conditions{Enabled: true, NeverUsed: true}, 2, 3},
		"another state, and sign-ins": {settings.Conditions{Disabled: true, NeverUsed: true}, 0, 0},
		"when it was made":            {settings.Conditions{New: &days}, 2, 0},
	} {
		l, err := run(t, text, Query{What: "users", When: c.when, Columns: []string{"account"}})
		require.NoError(t, err, name)
		assert.Equal(t, c.found, l.Found, name)
		assert.Equal(t, c.untold, l.Untold, name)
	}
}
