package filter

import (
	"fmt"
	"testing"
	"time"

	ber "github.com/go-asn1-ber/asn1-ber"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"yardbroom/internal/directory"
)

// ready parses a filter and makes it ready for entries of a dialect.
func ready(t require.TestingT, text string, d *directory.Dialect) *Matcher {
	f, err := Parse(text)
	require.NoError(t, err, text)
	m, err := f.For(d, nil)
	require.NoError(t, err, text)
	return m
}

// The conformance tests ask real servers the same as files; here are the
// cases that a reader wants to see.
func TestMatchAD(t *testing.T) {
	e := &directory.Entry{DN: "CN=Ada,DC=x"}
	e.Set("objectClass", "top", "person", "organizationalPerson", "user")
	e.Set("objectCategory", "CN=Person,CN=Schema,CN=Configuration,DC=x")
	e.Set("cn", "Ada Quill (the *)")
	e.Set("displayName", "Ada  Quill")
	e.Set("userAccountControl", "514")
	e.Set("lastLogonTimestamp", "133801632000000000")
	e.Set("whenCreated", "20260101120000.0Z")
	e.Set("servicePrincipalName", "HTTP/ada", "host/ada")
	e.Set("member", "CN=Bram Tern,DC=x", "CN=Tern\\, Clara,DC=x")
	e.Set("objectGUID", "\x05sOS\xc7y\xdeO\xa3\xb2\x94\xbfG/\xc7\xc4")
	sid, err := directory.EncodeSID("S-1-5-21-1-2-3-1104")
	require.NoError(t, err)
	e.Set("objectSid", sid)
	for text, want := range map[string]Truth{
		"(objectClass=user)":           True,
		"objectClass=USER":             True, // the brackets may be missing
		"(objectClass=*)":              True,
		"(objectCategory=person)":      True,
		"(objectCategory=user)":        True, // both have one category
		"(objectCategory=computer)":    False,
		"(mail=*)":                     False,
		"(!(mail=*))":                  True,
		"(!(noSuchThing=1))":           True, // the servers of this schema take it so
		`(cn=Ada Quill \28the \2a\29)`: True,
		"(cn=ada*)":                    True,
		`(cn=*quill*\2a\29)`:           True,
		"(cn=*quill)":                  False,
		"(cn=a*a*a*)":                  False,
		"(displayName=ada quill)":      True, // blanks are not counted
		"(&(objectClass=user)(userAccountControl:1.2.840.113556.1.4.803:=2))": True,
		"(userAccountControl:1.2.840.113556.1.4.803:=18)":                     False,
		"(userAccountControl:1.2.840.113556.1.4.804:=18)":                     True,
		"(userAccountControl>=514)":                                           True,
		"(userAccountControl>=1000)":                                          False,
		"(userAccountControl<=1000)":                                          True, // as numbers, not as texts
		"(lastLogonTimestamp<=133801632000000001)":                            True,
		"(whenCreated>=20260101)":                                             False, // not a time
		"(whenCreated>=20260101120000Z)":                                      True,
		"(whenCreated>=20260101130000+0200)":                                  True,
		"(member=cn=bram tern,dc=X)":                                          True,
		`(member=CN=Tern\5c2C Clara,DC=x)`:                                    True,
		`(objectGUID=\05\73\4f\53\c7\79\de\4f\a3\b2\94\bf\47\2f\c7\c4)`:       True,
		`(objectGUID=\05\53\4f\53\c7\79\de\4f\a3\b2\94\bf\47\2f\c7\c4)`:       False,
		"(objectGUID=534f7305-79c7-4fde-a3b2-94bf472fc7c4)":                   True,
		"(objectSid=S-1-5-21-1-2-3-1104)":                                     True,
		"(|(sAMAccountName=x)(&(cn=Ada*)(!(userAccountControl=512))))":        True,
		"(anr=ada q)":                     True,
		"(anr=quill)":                     False,
		"(servicePrincipalName=http/ada)": True,
		"(cn:caseExactMatch:=ada quill)":  False,
		"(dc:dn:=x)":                      True,
		"(&)":                             True, // RFC 4526
		"(|)":                             False,
	} {
		assert.Equal(t, want, ready(t, text, directory.AD).Match(e), text)
	}
}

func TestMatchStandard(t *testing.T) {
	e := &directory.Entry{DN: "uid=aquill,ou=people,dc=x"}
	e.Set("objectClass", "inetOrgPerson")
	e.Set("cn", "Ada Quill")
	e.Set("sn;lang-en", "Quill")
	e.Set("telephoneNumber", "+44 20 7946-0000")
	e.Set("uidNumber", "100")
	e.Set("createTimestamp", "20260101120000Z")
	e.Set("homeDirectory", "/home/Ada")
	e.Set("entryUUID", "0b7fb422-3609-4587-8c2e-94b10f67d1bf")
	e.Set("x-badge", "B7")
	for text, want := range map[string]Truth{
		"(objectClass=person)":                             True, // a class is also what it derives from
		"(objectClass=groupOfNames)":                       False,
		"(objectClass=top)":                                True,
		"(objectClass=noSuchClass)":                        Undefined,
		"(!(objectClass=noSuchClass))":                     Undefined,
		"(surname=quill)":                                  True, // another name, with an option
		"(name=quill)":                                     True, // what derives from name counts
		"(sn;lang-de=quill)":                               False,
		"(telephoneNumber=+442079460000)":                  True,
		"(telephoneNumber=*7946 00*)":                      True,
		"(uidNumber=0100)":                                 True,
		"(cn>=A)":                                          Undefined, // has no order
		"(uidNumber>=99)":                                  True,
		"(uidNumber=lots)":                                 Undefined,
		"(!(uidNumber=lots))":                              Undefined,
		"(|(uidNumber=lots)(cn=ada*))":                     True,
		"(&(uidNumber=lots)(cn=no))":                       False,
		"(noSuchThing=1)":                                  Undefined,
		"(!(noSuchThing=*))":                               Undefined,
		"(homeDirectory=/home/ada)":                        False, // case counts
		"(uidNumber:9.9.9:=2)":                             Undefined,
		"(createTimestamp<=20260101120000Z)":               True,
		"(memberOf:1.2.840.113556.1.4.1941:=cn=a,dc=x)":    Undefined,
		"(entryUUID=0B7FB422-3609-4587-8C2E-94B10F67D1BF)": True,
		"(x-badge=b7)":                                     Undefined,
	} {
		assert.Equal(t, want, ready(t, text, directory.OpenLDAP).Match(e), text)
	}
	f, err := Parse("(&(x-badge=b7)(!(x-badge=b8)))")
	require.NoError(t, err)
	m, err := f.For(directory.OpenLDAP, map[string]bool{"x-badge": true})
	require.NoError(t, err)
	assert.Equal(t, True, m.Match(e), "what some entry carries compares as characters")
	assert.Empty(t, m.Unknown())
}

func TestUnknownAttributesAreNamed(t *testing.T) {
	assert.Equal(t, []string{"departmnt"}, ready(t, "(|(departmnt=a)(department=a)(departmnt=b))", directory.AD).Unknown())
	assert.Equal(t, []string{"(lastLogon<=Quill)"}, ready(t, "(&(lastLogon<=Quill)(lastLogon=*)(cn=Quill)(objectCategory=person)(manager=CN=a))", directory.AD).Odd())
	assert.Equal(t, []string{"(cn:9.9.9:=x)"}, ready(t, "(&(cn:9.9.9:=x)(cn:caseExactMatch:=x)(cn:1.2.840.113556.1.4.1941:=x))", directory.AD).Foreign())
	f, err := Parse("(:caseExactMatch:=x)")
	require.NoError(t, err)
	_, err = f.For(directory.AD, nil)
	assert.ErrorContains(t, err, "name the attribute")
}

func TestChainsFollowLinksBothWays(t *testing.T) {
	entry := func(dn, attr string, values ...string) *directory.Entry {
		e := &directory.Entry{DN: dn}
		e.Set(attr, values...)
		return e
	}
	ada, bram := entry("CN=Ada,DC=x", "memberOf", "CN=inner,DC=x"), entry("CN=Bram,DC=x", "manager", "cn=ADA,dc=x")
	inner := entry("CN=inner,DC=x", "cn", "inner")
	outer := entry("CN=outer,DC=x", "member", "CN=inner,DC=x", "CN=loop,DC=x")
	loop := entry("CN=loop,DC=x", "member", "CN=outer,DC=x")
	all := []*directory.Entry{ada, bram, inner, outer, loop}
	for text, want := range map[string][]*directory.Entry{
		"(memberOf:1.2.840.113556.1.4.1941:=CN=outer,DC=x)": {ada, inner, outer, loop},
		"(member:1.2.840.113556.1.4.1941:=cn=ada,dc=x)":     {inner, outer, loop},
		"(manager:1.2.840.113556.1.4.1941:=CN=Ada,DC=x)":    {bram},
		"(manager:1.2.840.113556.1.4.1941:=CN=Bram,DC=x)":   nil,
	} {
		m := ready(t, text, directory.AD)
		for _, e := range all {
			m.Chains()[0].Tell(m.Chains()[0].Links(e))
		}
		m.Chains()[0].Done()
		var got []*directory.Entry
		for _, e := range all {
			if m.Match(e) == True {
				got = append(got, e)
			}
		}
		assert.Equal(t, want, got, text)
	}
}

func TestStringWritesWhatParseReads(t *testing.T) {
	for _, text := range []string{
		"(&(objectClass=user)(|(cn=a*b*c)(cn=*b)(cn=a*)(cn=*b*))(!(mail=*)))", "(x>=1)", "(x<=1)", "(x~=1)",
		"(x:1.2.840.113556.1.4.803:=2)", "(ou:dn:=Staff)", `(cn=\28\2a\29\5c\00)`, "(&)",
	} {
		f, err := Parse(text)
		require.NoError(t, err)
		assert.Equal(t, text, f.String())
		again, err := Parse(f.String())
		require.NoError(t, err)
		assert.Equal(t, f, again)
	}
	f, err := Parse("(&(a=1)(!(b=*))(A=2))")
	require.NoError(t, err)
	assert.Equal(t, []string{"a", "b"}, f.Attributes())
}

func TestResolveWritesTimesAsTheAttributeDoes(t *testing.T) {
	dublin, err := time.LoadLocation("Europe/Dublin")
	require.NoError(t, err)
	now := time.Date(2026, 6, 30, 12, 0, 0, 0, dublin)
	for text, want := range map[string]string{
		"(lastLogonTimestamp<={90d ago})":             "(&(lastLogonTimestamp>=1)(lastLogonTimestamp<=134195148000000000))",
		"(&(l=Cork)(!(whenCreated>={1y ago})))":       "(&(l=Cork)(!(whenCreated>=20250630110000.0Z)))",
		"(whenCreated>={2026-03-01})":                 "(whenCreated>=20260301000000.0Z)",
		"(whenCreated<={2026-06-01})":                 "(whenCreated<=20260601225959.0Z)",
		"(whenCreated>={today})":                      "(whenCreated>=20260629230000.0Z)",
		"(accountExpires<={in 2w})":                   "(&(accountExpires>=1)(accountExpires<=134285004000000000))",
		"(accountExpires>={in 2w})":                   "(&(accountExpires>=134285004000000000)(!(accountExpires=9223372036854775807)))",
		"(cn={31B2F340-016D-11D2-945F-00C04FB984F9})": "(cn={31B2F340-016D-11D2-945F-00C04FB984F9})",
	} {
		f, err := Parse(text)
		require.NoError(t, err)
		got, err := f.Resolve(directory.AD, now)
		require.NoError(t, err, text)
		assert.Equal(t, want, got.String())
	}
	f, err := Parse("(shadowExpire<={now})")
	require.NoError(t, err)
	got, err := f.Resolve(directory.OpenLDAP, now)
	require.NoError(t, err)
	assert.Equal(t, "(&(shadowExpire>=1)(shadowExpire<=20634))", got.String())
	for text, want := range map[string]string{
		"(whenCreated>={90 days})": "is not a time",
		"(whenCreated={today})":    "goes with >= or <=",
		"(department<={90d ago})":  "is not known to hold a time",
	} {
		f, err := Parse(text)
		require.NoError(t, err)
		_, err = f.Resolve(directory.AD, now)
		assert.ErrorContains(t, err, want)
	}
}

func FuzzFilter(f *testing.F) {
	f.Add("(&(objectClass=user)(!(cn=a*b*c))(x:1.2.840.113556.1.4.803:=2))")
	f.Add("(|(member:1.2.840.113556.1.4.1941:=cn=a)(ou:dn:=x)(whenCreated>={2d ago}))")
	e := &directory.Entry{DN: "cn=a"}
	e.Set("cn", "abc")
	evaluate := func(parsed Filter) {
		for _, d := range directory.Dialects {
			if m, err := parsed.For(d, nil); err == nil {
				m.Match(e)
			}
			parsed.Resolve(d, time.Unix(0, 0)) //nolint:errcheck // only that it ends matters
		}
	}
	f.Fuzz(func(t *testing.T, text string) {
		if parsed, err := Parse(text); err == nil {
			evaluate(parsed)
			if again, err := Parse(parsed.String()); assert.NoError(t, err, parsed.String()) {
				assert.Equal(t, parsed.String(), again.String())
			}
		}
		if p, err := ber.DecodePacketErr([]byte(text)); err == nil {
			if decoded, err := Decode(p); err == nil {
				evaluate(decoded)
			}
		}
	})
}

// TestALongListOfAlternativesMeansTheSameAsEachOfThem holds the sets that long
// lists become against asking one by one.
func TestALongListOfAlternativesMeansTheSameAsEachOfThem(t *testing.T) {
	asked := map[string][]string{
		"sAMAccountName":     {"ada", "ADA  QUILL", " bram", "x", "y", "", "ümlaut"},
		"uid":                {"ada", "bram", "x", "y", "z"},
		"userAccountControl": {"512", "0512", "514", "word", "1", "2", "3"},
		"member":             {"cn=Ada,dc=x", "CN=bram, DC=X", "no name", "cn=c", "cn=d"},
		"objectClass":        {"user", "person", "group", "top", "nothing"},
		"objectCategory":     {"person", "computer", "a", "b", "c"},
		"noSuchThing":        {"1", "2", "3", "4", "5"},
		"whenCreated":        {"20260101000000.0Z", "20260101000000Z", "never", "1", "2"},
		"objectGUID":         {"a", "b", "c", "d", "e"},
		"cn;lang-de":         {"Ada", "b", "c", "d", "e"},
	}
	for _, d := range []*directory.Dialect{directory.AD, directory.OpenLDAP, directory.NS389} {
		for attr, values := range asked {
			long, single := "(|(!(cn=*))(&(cn=nobody)(cn=*))", []string{"(!(cn=*))", "(&(cn=nobody)(cn=*))"}
			for _, v := range values {
				one := "(" + attr + "=" + escaped(v) + ")"
				long, single = long+one, append(single, one)
			}
			m := ready(t, long+")", d)
			var odd []string
			for _, one := range single {
				odd = append(odd, ready(t, one, d).Odd()...)
			}
			assert.ElementsMatch(t, odd, m.Odd(), long)
			for _, have := range append(values, "another", "Ada Quill", "cn=Ada, dc=x") {
				for _, cn := range []string{"here", ""} {
					e := &directory.Entry{DN: "cn=a,dc=x"}
					e.Set(attr, have)
					if cn != "" {
						e.Set("cn", cn)
					}
					want := False
					for _, one := range single {
						want = max(want, ready(t, one, d).Match(e))
					}
					assert.Equal(t, want, m.Match(e), "%s: %s on %s=%q", d.Name, long, attr, have)
				}
			}
		}
	}
}

// Alternatives that name values of several attributes are evaluated in one go.
func TestAlternativesMeanTheSameAsEachOfThem(t *testing.T) {
	attrs := []string{"cn", "sn", "name", "cn;lang-de", "mail", "uidNumber", "member", "objectClass", "objectCategory", "noSuchThing", "anr", "proxyAddresses"}
	values := []string{"ada", "ADA ", "12", "012", "word", "cn=ada,dc=x", "CN=Ada, DC=X", "person", "", "ümlaut"}
	rapid.Check(t, func(t *rapid.T) {
		d := rapid.SampledFrom([]*directory.Dialect{directory.AD, directory.OpenLDAP, directory.NS389}).Draw(t, "dialect")
		e := &directory.Entry{DN: "cn=a,dc=x"}
		for _, name := range rapid.SliceOfDistinct(rapid.SampledFrom(attrs), rapid.ID).Draw(t, "carried") {
			e.Set(name, rapid.SliceOfN(rapid.SampledFrom(values), 1, 2).Draw(t, name)...)
		}
		all, want := "(|", False
		for range rapid.IntRange(1, 9).Draw(t, "alternatives") {
			one := "(" + rapid.SampledFrom(attrs).Draw(t, "attribute") + "=" + escaped(rapid.SampledFrom(values).Draw(t, "value")) + ")"
			all, want = all+one, max(want, ready(t, one, d).Match(e))
		}
		assert.Equal(t, want, ready(t, all+")", d).Match(e), "%s: %s on %v", d.Name, all, e)
	})
}

func escaped(v string) string {
	out := ""
	for i := range len(v) {
		if c := v[i]; c >= 0x80 || c == '(' || c == ')' || c == '*' || c == '\\' || c == 0 {
			out += fmt.Sprintf(`\%02x`, c)
		} else {
			out += string(rune(c))
		}
	}
	return out
}
