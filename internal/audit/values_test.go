package audit

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"yardbroom/internal/directory"
	"yardbroom/internal/settings"
)

// many makes n users with the same change.
func many(n int, prefix string, changes ...string) (out []directory.Entry) {
	for i := range n {
		out = append(out, user(fmt.Sprintf("%s%02d", prefix, i), changes...))
	}
	return out
}

// Values that found no room among the words are judged as these are.
func TestValuesBeyondAllWordsAreJudged(t *testing.T) {
	entries := []directory.Entry{domain}
	for i := range 20000 {
		entries = append(entries, user(fmt.Sprint("title", i), fmt.Sprint("title=", i)))
	}
	entries = append(entries, many(20, "right", "l=Larkmoor", "c=IE")...)
	entries = append(entries, user("wrong", "l=larkmoor", "c=EIRE"))
	s := survey(directory.AD, entries...)
	for a := range s.Accounts.All() {
		if a.Logon == "wrong" {
			for id, v := range a.Text.Values(directory.Attrs(directory.AttrL, directory.AttrC)) {
				_, word := v.Word()
				assert.False(t, word, id)
			}
		}
	}
	r := run(t, s, nil, Options{Checks: []string{"value-variant", "value-malformed"}})
	assert.Equal(t, []string{"wrong"}, who(r, "value-malformed"))
	assert.Contains(t, found(r, "value-variant"), "wrong sure 0")
	assert.Equal(t, []string{`l="larkmoor"`, `preferred="Larkmoor"`, "entries=1, preferred 20"}, proof(r, "value-variant", "wrong"))
}

// What is looked at of each account is what can be judged.
func TestAttributesThatAreJudged(t *testing.T) {
	for _, name := range directory.AllAttributes() {
		id := directory.LookupAttr(name)
		assert.Equal(t, malformed(id, "?"), shapedAttrs.Has(id), name)
		assert.Equal(t, Unique(name) || id == directory.AttrProxyAddresses, uniqueAttrs.Has(id), name)
	}
}

func TestValueVariants(t *testing.T) {
	entries := append([]directory.Entry{domain}, many(20, "right", "department=Visitor Centre")...)
	entries = append(entries, many(2, "tie-a", "title=night observer")...)
	entries = append(entries, many(2, "tie-b", "title=Night-Observer.")...)
	entries = append(entries,
		user("blank", "department=   "), user("dashes", "department=--"),
		user("spaces", "department= visitor  CENTRE "), user("accents", "department=Vísitor Cèntre"), user("full-width", "department=Ｖｉｓｉｔｏｒ Centre"),
		user("slip", "department=Visitor Center"), user("one-letter-less", "department=Visitr Centre"), user("two-letters", "department=Visitor Cent"),
		user("short", "department=Shop"), user("short-slip", "department=Shp"))
	entries = append(entries, many(2, "rare", "l=Larkmoor")...)
	entries = append(entries, user("rare-slip", "l=Larkmor"))
	entries = append(entries, user("room", "msExchRecipientTypeDetails=16", "department=visitor centre"), computer("pc$", "department=visitor centre"))
	r := run(t, survey(directory.AD, entries...), nil, Options{})
	assert.Equal(t, []string{"spaces sure 0", "one-letter-less likely 0", "accents sure 0", "full-width sure 0", "tie-a00 sure 0", "tie-a01 sure 0"}, found(r, "value-variant"))
	assert.Equal(t, []string{`department=" visitor  CENTRE "`, `preferred="Visitor Centre"`, "entries=1, preferred 20"}, proof(r, "value-variant", "spaces"))
	for i := range r.Findings {
		if f := &r.Findings[i]; f.Check == "value-variant" && f.Account == "spaces" {
			assert.Equal(t, &Fix{"department", " visitor  CENTRE ", "Visitor Centre"}, f.Fix())
		}
	}

	// The settings' reference list decides, even against the many, and keeps
	// a value that would be taken for a slip.
	r = run(t, survey(directory.AD, append([]directory.Entry{domain, user("own", "l=Larkmor"), user("low", "l=larkmoor")}, many(20, "x", "l=Larkmoor")...)...), func(set *settings.Settings) {
		set.Audit.Values = map[string][]string{"l": {"LARKMOOR", "Larkmor"}}
	}, Options{})
	assert.Len(t, who(r, "value-variant"), 21)
	assert.NotContains(t, who(r, "value-variant"), "own")
}

// TestValuesThatAreNotListed holds what the settings' list says of other values: near one
// of them they are taken for a slip, likely; else they are not in the list, surely, and
// nobody knows what they should be.
func TestValuesThatAreNotListed(t *testing.T) {
	entries := append([]directory.Entry{domain, user("near", "l=Larkmor"), user("far", "l=Elsewhere"), user("short", "l=Lrk"), user("between", "l=Tarns")}, many(3, "x", "l=Larkmoor")...)
	r := run(t, survey(directory.AD, append(entries, many(30, "y", "l=Elsewhere")...)...), func(set *settings.Settings) {
		set.Audit.Values = map[string][]string{"l": {"Larkmoor", "Tarn", "Tarny"}}
	}, Options{})
	assert.Equal(t, []string{`l="Larkmor"`, `preferred="Larkmoor"`, "entries=1, preferred 3"}, proof(r, "value-variant", "near"))
	assert.Equal(t, []string{`l="Elsewhere"`, "entries=31", "listed=no: it is not among the values of the settings"}, proof(r, "value-variant", "far"))
	assert.Equal(t, []string{`l="Tarns"`, "entries=1", "listed=no: it is not among the values of the settings"}, proof(r, "value-variant", "between"), "two are as near")
	assert.Len(t, who(r, "value-variant"), 34)
	for i := range r.Findings {
		if f := &r.Findings[i]; f.Check == "value-variant" {
			assert.Equal(t, f.Account == "near", f.Fix() != nil, f.Account)
			assert.Equal(t, f.Account == "near", f.Confidence == Likely, f.Account)
		}
	}
}

func TestOneEdit(t *testing.T) {
	for _, c := range []struct {
		a, b string
		want bool
	}{{"abc", "abd", true}, {"abc", "ab", true}, {"abc", "bc", true}, {"abc", "xabc", true}, {"abc", "abc", false}, {"abc", "acb", false}, {"abc", "a", false}, {"", "a", true}, {"größe", "größa", true}} {
		assert.Equal(t, c.want, oneEdit(c.a, c.b), "%s %s", c.a, c.b)
		assert.Equal(t, c.want, oneEdit(c.b, c.a), "%s %s", c.b, c.a)
	}
}

func TestMissingValues(t *testing.T) {
	s := survey(directory.AD, domain, user("whole", "givenName=A", "sn=B", "displayName=A B"), user("none"), user("blank", "givenName= ", "sn=B", "displayName=B"),
		user("off", "userAccountControl=514"), user("off-whole", "userAccountControl=514", "givenName=A"))
	r := run(t, s, nil, Options{})
	assert.Equal(t, []string{"blank", "none"}, who(r, "value-missing"))
	assert.Equal(t, []string{"missing=givenName, sn, displayName"}, proof(r, "value-missing", "none"))
	r = run(t, survey(directory.AD, domain, user("none", "sn=B")), nil, Options{})
	assert.Empty(t, who(r, "value-missing"), "nobody shows the other two")
	r = run(t, survey(directory.OpenLDAP, person("whole", "givenName=A", "sn=B", "displayName=A B"), person("none"), person("robot", "objectClass=account")), nil, Options{})
	assert.Equal(t, []string{"none"}, who(r, "value-missing"), "an account of no class of persons cannot have such names")
	r = run(t, survey(directory.AD, domain, user("none")), nil, Options{Checks: []string{"value-missing"}})
	assert.False(t, r.Summary[0].Looked)
}

func TestMalformedValues(t *testing.T) {
	good := map[string][]string{
		"mail":              {"a@b", "a.b+c@larkmoor.example", `"odd one"@larkmoor.example`, "zoë@larkmoor.example", "o'dell@x.example", "a_b@x.example", "1@2.3"},
		"userPrincipalName": {"a@b", "a b@c"},
		"telephoneNumber":   {"+353 1 555 0001", "(01) 555-00", "55501 ext. 12", "55501x7", "55501 #4", "٠١٢٣٤٥"},
		"mobile":            {"55501"},
		"c":                 {"IE", "ie"},
	}
	bad := map[string][]string{
		"mail":              {"a", "a@", "@b", "a b@c", "a@b@c", "a@b (comment)", "<a@b>", "A <a@b>", "a..b@c", "a@b.", ".a@b", "a@b\n", " a@b", "a@(x)b"},
		"userPrincipalName": {"a", "@b", "a@", "a@b@c"},
		"telephoneNumber":   {"ask Rosa", "5550", "1234 ext 56789", "tel 55501", "-"},
		"mobile":            {"x55501"},
		"c":                 {"Ireland", "I", "I1", "ÍÉ"},
	}
	for attr, values := range good {
		for _, v := range values {
			assert.Empty(t, who(run(t, survey(directory.AD, domain, user("a", attr+"="+v)), nil, Options{}), "value-malformed"), "%s %q", attr, v)
		}
	}
	for attr, values := range bad {
		for _, v := range values {
			assert.Equal(t, []string{"a"}, who(run(t, survey(directory.AD, domain, user("a", attr+"="+v)), nil, Options{}), "value-malformed"), "%s %q", attr, v)
		}
	}
	r := run(t, survey(directory.AD, domain, user("a", "employeeID=12345"), user("b", "employeeID=12a")), func(set *settings.Settings) {
		set.Audit.Patterns = map[string]string{"employeeID": "^[0-9]{5}$"}
	}, Options{})
	assert.Equal(t, []string{"b"}, who(r, "value-malformed"))
}

func TestNamesThatDisagree(t *testing.T) {
	name := func(logon, display, given, family string) directory.Entry {
		return user(logon, "displayName="+display, "givenName="+given, "sn="+family)
	}
	s := survey(directory.AD, domain, name("fine", "Ada Quill", "Ada", "Quill"), name("turned", "QUILL, Ada (Astronomy)", "Ada", "Quill"), name("accents", "Jose Pena", "José", "Peña"),
		name("stroke", "Lucja Soren", "Łucja", "Søren"), name("half", "Ada Quill", "Ada", "Newname"), name("nick", "Addie Quill", "Adelaide", "Quill"), user("unset", "displayName=Ada", "givenName=Bram"))
	r := run(t, s, nil, Options{})
	assert.Equal(t, []string{"half", "nick"}, who(r, "name-mismatch"))

	s = survey(directory.AD, domain, user("same", "userPrincipalName=SAME@x"), user("mailed", "userPrincipalName=m.ailed@x", "mail=M.Ailed@y"), user("other", "userPrincipalName=someone@x", "mail=o@x"),
		user("abcdefghijklmnopqrst", "userPrincipalName=ABCDEFGHIJKLMNOPQRSTuvw@x"), user("abcdefghijklmnopqrs", "userPrincipalName=abcdefghijklmnopqrst@x"), user("broken", "userPrincipalName=nobody"))
	r = run(t, s, nil, Options{})
	assert.Equal(t, []string{"abcdefghijklmnopqrs", "other"}, who(r, "logon-mismatch"))
}

func TestDuplicates(t *testing.T) {
	s := survey(directory.AD, domain,
		user("id1", "employeeID=7"), user("id2", "employeeID=7"), user("a-id1", "employeeID=7"), user("id3", "employeeID=8"), user("a-id3", "employeeID=8"),
		user("sa-1", "employeeID=9"), user("sa-2", "employeeID=9"), user("number", "employeeNumber=7"),
		user("mail", "mail=Zed@x.example"), user("proxy", "mail=p@x.example", "proxyAddresses=smtp:zed@X.example|SMTP:p@x.example|sip:mail@x"), user("sip", "proxyAddresses=sip:mail@x"),
		user("upn1", "userPrincipalName=u@x"), user("a-upn", "userPrincipalName=U@x"), user("spn", "servicePrincipalName=http/a"), computer("pc$", "servicePrincipalName=HTTP/A|host/pc"),
		user("room", "msExchRecipientTypeDetails=16", "mail=p@x.example"), user("system", "isCriticalSystemObject=TRUE", "mail=p@x.example"),
		user("both", "mail=b@x.example", "proxyAddresses=SMTP:b@x.example"), user("other", "mail=B@x.example"))
	r := run(t, s, nil, Options{})
	assert.ElementsMatch(t, []string{"id1", "id2", "sa-1", "sa-2", "mail", "proxy", "upn1", "a-upn", "spn", "pc$", "both", "other"}, who(r, "duplicate-value"))
	assert.Equal(t, []string{"employeeID=7", "shared with=id2"}, proof(r, "duplicate-value", "id1"))
	assert.Equal(t, []string{"proxyAddresses=zed@X.example", "shared with=mail"}, proof(r, "duplicate-value", "proxy"))
	assert.Equal(t, []string{"mail=b@x.example", "shared with=other"}, proof(r, "duplicate-value", "both"), "what somebody has twice is nobody else's")
	assert.Equal(t, []string{"mail=B@x.example", "shared with=both"}, proof(r, "duplicate-value", "other"))
}

func TestHostileValuesAreJudgedInReasonableWork(t *testing.T) {
	huge := strings.Repeat("Astronomy ", 100_000)
	var names []string
	for i := range 20_000 {
		names = append(names, fmt.Sprintf("http/h%d.x.example", i))
	}
	entries := []directory.Entry{domain, user("huge", "department="+huge, "displayName="+huge, "givenName=Ada", "sn=Quill", "telephoneNumber="+huge, "mail="+huge),
		user("broken", "department=\xff\xfe\x80archive", "displayName=\xff", "givenName=\xfe", "sn=\xfd"), user("nul", "department=\x00")}
	one, two := user("many"), user("many-too")
	one.Set("servicePrincipalName", names...)
	two.Set("servicePrincipalName", names[len(names)-1], names[0])
	entries = append(entries, one, two)
	entries = append(entries, many(30_000, "same", "mail=none@x.example", "department=Visitor Centre")...)
	for i := range 5_000 {
		entries = append(entries, user(fmt.Sprintf("office%d", i), fmt.Sprintf("physicalDeliveryOfficeName=Building %d, Room %d", i%70, i)))
	}
	r := run(t, survey(directory.AD, entries...), nil, Options{})
	assert.Len(t, who(r, "duplicate-value"), 30_000+2+2)
	assert.Equal(t, []string{"mail=none@x.example", "shared with=same00; same01; same02; same03; same04; same05; same06; same07; same08; same09; and 29989 more"}, proof(r, "duplicate-value", "same29999"))
	for _, f := range r.Findings {
		for _, e := range f.Evidence {
			assert.Less(t, len(e.Value), 2000, f.Check)
		}
	}
}
