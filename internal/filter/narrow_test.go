package filter

import (
	"math/big"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"yardbroom/internal/directory"
)

// TestAnIndexLosesNothing holds what an index narrows a filter to against the
// entries that fulfil it, and says of which filters it can tell at all.
func TestAnIndexLosesNothing(t *testing.T) {
	entry := func(dn string, pairs ...string) *directory.Entry {
		e := &directory.Entry{DN: dn}
		for i := 0; i < len(pairs); i += 2 {
			e.Set(pairs[i], append(e.Get(pairs[i]), pairs[i+1])...)
		}
		return e
	}
	entries := map[string]*directory.Entry{
		"ada":  entry("cn=ada", "cn", "Ada Quill", "uid", "ada", "uidNumber", "100", "manager", "cn=Bo,dc=x", "objectClass", "person", "objectCategory", "CN=Person,CN=Schema"),
		"bo":   entry("cn=bo", "cn", "Bo", "uid", "bo", "uidNumber", "0101", "sn", "ada quill", "objectClass", "group"),
		"cora": entry("cn=cora", "cn", "Cora", "givenName", "Ada  Quill", "uid", "ADA"),
	}
	indexed := map[string]bool{"cn": true, "uid": true, "uidnumber": true, "manager": true, "sn": true, "givenname": true, "name": true}
	for _, c := range []struct {
		text    string
		dialect *directory.Dialect
		want    string // what the index leaves, sorted; "-" where it cannot tell
	}{
		{"(cn=ada quill)", directory.OpenLDAP, "ada"},
		{"(commonName=ADA  quill)", directory.OpenLDAP, "ada"},
		{"(uid=ada)", directory.OpenLDAP, "ada cora"},
		{"(uidNumber=101)", directory.OpenLDAP, "bo"},
		{"(uidNumber=lots)", directory.OpenLDAP, ""},
		{"(manager=CN=bo, DC=X)", directory.OpenLDAP, "ada"},
		{"(&(uid=ada)(cn=cora))", directory.OpenLDAP, "cora"},
		{"(&(mail=*)(cn=cora))", directory.OpenLDAP, "cora"},
		{"(&(mail=*)(mail=x))", directory.OpenLDAP, "-"},
		{"(|(cn=bo)(cn=cora))", directory.OpenLDAP, "bo cora"},
		{"(|(cn=bo)(mail=x))", directory.OpenLDAP, "-"},
		{"(&)", directory.OpenLDAP, "-"},
		{"(|)", directory.OpenLDAP, ""},
		{"(!(cn=bo))", directory.OpenLDAP, "-"},
		{"(cn=b*)", directory.OpenLDAP, "-"},
		{"(cn>=b)", directory.OpenLDAP, "-"},
		{"(mail=x)", directory.OpenLDAP, "-"},
		{"(objectClass=person)", directory.OpenLDAP, "-"},
		{"(objectCategory=person)", directory.AD, "-"},
		{"(anr=ada)", directory.AD, "-"},
		{"(noSuchThing=1)", directory.OpenLDAP, "-"},
	} {
		f, err := Parse(c.text)
		require.NoError(t, err)
		asked := func(name, form string) (keys []string, ok bool) {
			if !indexed[name] {
				return nil, false
			}
			eq, ok := EqualityOf(c.dialect, name)
			require.True(t, ok, name)
			require.Equal(t, name, eq.Name)
			for key, e := range entries {
				for _, v := range e.Get(name) {
					if have, ok := eq.Form(v); ok && have == form {
						keys = append(keys, key)
					}
				}
			}
			return keys, true
		}
		keys, ok := f.Narrow(c.dialect, asked)
		slices.Sort(keys)
		got := strings.Join(slices.Compact(keys), " ")
		if !ok {
			got = "-"
		}
		assert.Equal(t, c.want, got, c.text)
		if !ok {
			continue
		}
		m, err := f.For(c.dialect, nil)
		require.NoError(t, err)
		for key, e := range entries {
			if m.Match(e) == True {
				assert.Contains(t, keys, key, c.text)
			}
		}
	}
	// What derives from an attribute is asked for too, and nothing twice; and
	// where one of them is not indexed, the index cannot tell.
	f, err := Parse("(name=ada quill)")
	require.NoError(t, err)
	var names []string
	_, ok := f.Narrow(directory.OpenLDAP, func(name, _ string) ([]string, bool) { names = append(names, name); return nil, true })
	assert.True(t, ok)
	for _, want := range []string{"name", "cn", "sn", "givenname", "ou", "l"} {
		assert.Contains(t, names, want)
	}
	assert.Equal(t, len(names), len(slices.Compact(slices.Sorted(slices.Values(names)))), "each once")
	_, ok = f.Narrow(directory.OpenLDAP, func(name, _ string) ([]string, bool) { return []string{"x"}, name != "sn" })
	assert.False(t, ok)
}

func TestEqualityIsOfValuesAlone(t *testing.T) {
	for attr, want := range map[string]string{"CN": "cn", "commonName": "cn", "surname;lang-de": "sn", "userPrincipalName": "userprincipalname"} {
		d := directory.OpenLDAP
		if attr == "userPrincipalName" {
			d = directory.AD
		}
		eq, ok := EqualityOf(d, attr)
		assert.True(t, ok, attr)
		assert.Equal(t, want, eq.Name)
	}
	for _, attr := range []string{"objectClass", "objectCategory", "anr", "noSuchThing"} {
		_, ok := EqualityOf(directory.AD, attr)
		assert.False(t, ok, attr)
	}
}

// TestFormsOfValues says of each syntax which values are equal, by the form
// that they are brought into; "-" is a value that is none of the syntax.
func TestFormsOfValues(t *testing.T) {
	const guid, rawGUID = "534f7305-79c7-4fde-a3b2-94bf472fc7c4", "\x05sOS\xc7y\xdeO\xa3\xb2\x94\xbfG/\xc7\xc4"
	sid, err := directory.EncodeSID("S-1-5-32-544")
	require.NoError(t, err)
	for _, c := range []struct {
		syntax directory.Syntax
		forms  map[string]string
	}{
		{directory.SyntaxText, map[string]string{" Ada  Quill ": "ada quill", "ada quill": "ada quill", "": "-", "ＡＤＡ": "ada", "É": "é", "ADA": "ada", "a\tb": "a\tb"}},
		{directory.SyntaxLines, map[string]string{"A  B": "a b", "": "-"}},
		{directory.SyntaxPlain, map[string]string{"ab  c": "AB C", "": ""}},
		{directory.SyntaxExact, map[string]string{"Ab  c ": "Ab c", "": "-"}},
		{directory.SyntaxPrecise, map[string]string{"a  B ": "a  B ", "": ""}},
		{directory.SyntaxOctets, map[string]string{"\x00 ": "\x00 "}},
		{directory.SyntaxNumber, map[string]string{"007": "7", "-0": "0", "99999999999999999999": "99999999999999999999", "1x": "-", "": "-"}},
		{directory.SyntaxTime, map[string]string{"20260101130000+0200": "2026-01-01T11:00:00Z", "20260101110000.0Z": "2026-01-01T11:00:00Z", "never": "-"}},
		{directory.SyntaxDN, map[string]string{"CN=A , dc=x": "cn=a,dc=x", "no name": "-"}},
		{directory.SyntaxBoolean, map[string]string{"TRUE": "TRUE", "FALSE": "FALSE", "true": "-"}},
		{directory.SyntaxUUID, map[string]string{strings.ToUpper(guid): guid, "x": "-"}},
		{directory.SyntaxGUID, map[string]string{guid: rawGUID, "{" + guid + "}": rawGUID, rawGUID: rawGUID}},
		{directory.SyntaxSID, map[string]string{"S-1-5-32-544": sid, sid: sid}},
		{directory.SyntaxPhone, map[string]string{"+44 20-79": "+442079", "": "-"}},
		{directory.SyntaxDigits, map[string]string{"1 2-3": "12-3", "": "-"}},
		{directory.SyntaxClass, map[string]string{"Person": "person", "": "-"}},
		{directory.SyntaxNone, map[string]string{"x": "-"}},
	} {
		for value, want := range c.forms {
			got, ok := canonical(c.syntax, value)
			if !ok {
				got = "-"
			}
			assert.Equal(t, want, got, "syntax %d: %q", c.syntax, value)
		}
	}
}

func TestOrders(t *testing.T) {
	assert.Negative(t, orderOf(directory.SyntaxNumber)("9", "10"))
	assert.Negative(t, orderOf(directory.SyntaxTime)("2026-01-01T11:00:00Z", "2026-01-01T11:00:00.5Z"))
	assert.Positive(t, orderOf(directory.SyntaxText)("9", "10"))
	assert.Zero(t, orderOf(directory.SyntaxText)("a", "a"))
}

func TestPiecesOfValues(t *testing.T) {
	for _, c := range []struct {
		syntax directory.Syntax
		filter string
		value  string
		want   Truth
	}{
		{directory.SyntaxText, "(x=ada*)", "ADA Quill", True},
		{directory.SyntaxText, "(x=a*a)", "a", False}, // no part counts twice
		{directory.SyntaxText, "(x=*b*b*)", "ab", False},
		{directory.SyntaxText, "(x=*b*a*)", "ab", False},
		{directory.SyntaxText, "(x=*a*b*)", "xaxbx", True},
		{directory.SyntaxText, "(x=*ll)", "Quill", True},
		{directory.SyntaxText, "(x=*l*l)", "Quill", True},
		{directory.SyntaxText, "(x=a  b*)", "A b c", True},
		{directory.SyntaxText, "(x=*x y*)", "x   y", True},
		{directory.SyntaxText, "(x=q*)", "ada q", False},
		{directory.SyntaxText, "(x=  ada*)", " Ada", True}, // blanks at the ends are none
		{directory.SyntaxText, "(x=*ada  )", "Ada ", True},
		{directory.SyntaxText, "(x=*a *)", "Ada ", False},
		{directory.SyntaxText, "(x=*a  q*)", "Ada Quill", True},
		{directory.SyntaxText, "(x=*a q*)", "Ada   Quill", True},
		{directory.SyntaxText, "(x=  *)", "  Ada", False},
		{directory.SyntaxExact, "(x=A*)", "a", False},
		{directory.SyntaxExact, "(x=A  b*)", "A b", True},
		{directory.SyntaxPlain, "(x=a*)", "ABC", True},
		{directory.SyntaxPhone, "(x=+44 2*)", "+44-20", True},
		{directory.SyntaxDigits, "(x=1 2*)", "123", True},
		{directory.SyntaxOctets, "(x=a*)", "A", False},
	} {
		f, err := Parse(c.filter)
		require.NoError(t, err)
		assert.Equal(t, c.want, substringTest(c.syntax, f.pieces)(c.value), "%s on %q", c.filter, c.value)
	}
}

// A file does not say what the classes of the house derive from.
func TestEntriesOfUnknownClassesAreWhatTheyCarry(t *testing.T) {
	e := &directory.Entry{DN: "uid=a,dc=x"}
	e.Set("objectClass", "larkmoorPerson")
	e.Set("uid", "a")
	e.Set("sn", "Quill")
	for text, want := range map[string]Truth{"(objectClass=inetOrgPerson)": True, "(objectClass=person)": True, "(objectClass=top)": True, "(objectClass=larkmoorPerson)": True, "(objectClass=groupOfNames)": False} {
		f, err := Parse(text)
		require.NoError(t, err)
		m, err := f.For(directory.OpenLDAP, nil)
		require.NoError(t, err)
		assert.Equal(t, want, m.Match(e), text)
	}
}

// A server whose schema has no rule for a condition finds nothing, and says
// nothing.
func TestConditionsWithoutARuleAreMadeUpForOrRefused(t *testing.T) {
	evaluates := func(attr string, ordering bool) (there, here bool) {
		return attr != "shadowExpire" && attr != "employeeNumber", ordering && attr == "shadowExpire"
	}
	for text, want := range map[string]string{
		"(&(uid=a)(shadowExpire<=19000))":                        "(&(uid=a)(shadowExpire=*))",
		"(|(shadowExpire>=1)(createTimestamp<=20260101000000Z))": "(|(shadowExpire=*)(createTimestamp<=20260101000000Z))",
		"(!(shadowExpire<=19000))":                               "what is negated cannot be told",
		"(&(!(|(uid=a)(shadowExpire<=19000))))":                  "what is negated cannot be told",
		"(employeeNumber>=100)":                                  "no rule to evaluate (employeeNumber>=100) by",
		"(shadowExpire=1*)":                                      "no rule to evaluate (shadowExpire=1*) by",
		"(&(shadowExpire=1)(!(employeeNumber=*)))":               "",
	} {
		f, err := Parse(text)
		require.NoError(t, err)
		weaker, changed, err := f.Weaken(evaluates)
		switch {
		case err != nil:
			assert.ErrorContains(t, err, want, text)
		case want == "":
			assert.False(t, changed, text)
		default:
			assert.True(t, changed, text)
			assert.Equal(t, want, weaker.String())
		}
	}
	assert.True(t, OrdersHere(directory.OpenLDAP, "shadowExpire"))
	assert.False(t, OrdersHere(directory.OpenLDAP, "employeeNumber"))
	assert.False(t, OrdersHere(directory.OpenLDAP, "noSuchAttribute"))
}

// What begins otherwise is not equal, whatever stands behind.
func TestWhatBeginsOtherwiseIsUnequal(t *testing.T) {
	pieces := rapid.SampledFrom([]string{"a", "A", "b", "K", "K", "ſ", "s", "S", "i", "ı", "İ", " ", "  ", "\u0301", "é", "E", "-", "1", "ﬁ", "f"})
	text := rapid.Map(rapid.SliceOfN(pieces, 0, 4), func(p []string) string { return strings.Join(p, "") })
	syntaxes := []directory.Syntax{directory.SyntaxText, directory.SyntaxLines, directory.SyntaxPlain, directory.SyntaxExact, directory.SyntaxNumber, directory.SyntaxPrecise}
	told := 0
	rapid.Check(t, func(t *rapid.T) {
		s := rapid.SampledFrom(syntaxes).Draw(t, "syntax")
		v, w := text.Draw(t, "value"), text.Draw(t, "wanted")
		want, ok := canonical(s, w)
		if !ok || !beginsOtherwise(s, v, want) {
			return
		}
		told++
		have, ok := canonical(s, v)
		require.True(t, ok)
		require.NotEqual(t, want, have)
	})
	require.Positive(t, told)
}

// A form that is appended is that which is returned, whatever the value.
func TestAFormIsAppendedAsItIsReturned(t *testing.T) {
	values := rapid.OneOf(rapid.String(), rapid.StringMatching(`[A-Za-z0-9@.\-]{0,12}`), rapid.StringMatching(` ?[A-Za-zÄß]{0,4}  ?[a-z]{0,4} ?`),
		rapid.StringMatching(`[+-]?0{0,2}[0-9]{0,20}`), rapid.SampledFrom([]string{"", "0", "-0", "~", "\x7f", "CN=Bo,DC=x", "{", "S-1-5", "é"}))
	rapid.Check(t, func(t *rapid.T) {
		v := values.Draw(t, "value")
		for _, d := range directory.Dialects {
			for _, attr := range []string{"cn", "mail", "uid", "sAMAccountName", "primaryGroupID", "uidNumber", "member", "objectSid", "objectGUID", "entryUUID", "telephoneNumber", "whenCreated"} {
				eq, ok := EqualityOf(d, attr)
				if !ok {
					continue
				}
				want, valid := eq.Form(v)
				got, alike := eq.AppendForm([]byte("before "), v)
				assert.Equal(t, valid, alike, "%s %q", attr, v)
				assert.Equal(t, "before "+want, string(got), "%s %q", attr, v)
				if eq.syntax == directory.SyntaxNumber {
					n, number := new(big.Int).SetString(v, 10)
					require.Equal(t, number, valid, "%q", v)
					if number {
						assert.Equal(t, n.String(), want)
					}
				}
			}
		}
	})
}
