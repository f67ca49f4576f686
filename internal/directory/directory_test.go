package directory

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"
	"unsafe"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestParseGeneralizedTime(t *testing.T) {
	utc := func(s string) time.Time {
		at, err := time.Parse(time.RFC3339Nano, s)
		require.NoError(t, err)
		return at
	}
	for text, want := range map[string]string{
		"20261123081500.0Z":      "2026-11-23T08:15:00Z",
		"20261123081500Z":        "2026-11-23T08:15:00Z",
		"202611230815Z":          "2026-11-23T08:15:00Z",
		"2026112308Z":            "2026-11-23T08:00:00Z",
		"2026112308.5Z":          "2026-11-23T08:30:00Z",
		"202611230815,25Z":       "2026-11-23T08:15:15Z",
		"20261123081500.125Z":    "2026-11-23T08:15:00.125Z",
		"20261123101500+0200":    "2026-11-23T08:15:00Z",
		"20261123041500-04":      "2026-11-23T08:15:00Z",
		"20241231235960Z":        "2025-01-01T00:00:00Z", // a leap second
		"20240229120000.000000Z": "2024-02-29T12:00:00Z",
	} {
		got, err := ParseGeneralizedTime(text)
		require.NoError(t, err, text)
		assert.Equal(t, utc(want), got, text)
	}
	for _, text := range []string{"", "last spring", "20261123081500", "20261323081500Z", "20260230081500Z", "20261123251500Z", "20261123081500.Z",
		"20261123081500+2500", "20261123081500+02000", "000001010000Z", "20261123081500ZZ", "2026112308150Z"} {
		if text == "000001010000Z" { // year 0 parses; dialects know the value
			continue
		}
		_, err := ParseGeneralizedTime(text)
		assert.Error(t, err, text)
	}
}

func TestParseFileTime(t *testing.T) {
	at, err := ParseFileTime("134398939261212720")
	require.NoError(t, err)
	assert.Equal(t, "2026-11-23T07:52:06.121272Z", at.Format(time.RFC3339Nano))
	for _, never := range []string{"0", "9223372036854775807"} {
		at, err := ParseFileTime(never)
		require.NoError(t, err)
		assert.True(t, at.IsZero())
	}
	for _, bad := range []string{"", "x", "-5", "9223372036854775808"} {
		_, err := ParseFileTime(bad)
		assert.Error(t, err, bad)
	}
	rapid.Check(t, func(t *rapid.T) {
		at := time.Unix(rapid.Int64Range(-11644473599, 24000000000).Draw(t, "seconds"), int64(rapid.IntRange(0, 999999).Draw(t, "microseconds"))*1000).UTC()
		back, err := ParseFileTime(FormatFileTime(at))
		require.NoError(t, err)
		require.Equal(t, at, back)
		require.Equal(t, at, MomentOf(at, AttrLastLogon).Time())
		require.Equal(t, MomentOf(at, AttrLastLogon), readTicks(FormatFileTime(at), AttrLastLogon))
	})
	far := time.Date(9000, 1, 1, 0, 0, 0, 0, time.UTC)
	require.Equal(t, 2742, MomentOf(far, AttrAccountExpires).Time().Year(), "later times are shown as the last year that fits")
	for _, odd := range []string{"0", "00", "9223372036854775807", "-1", "x", ""} {
		require.Equal(t, readMoment(odd, AttrLastLogon, ParseFileTime), readTicks(odd, AttrLastLogon), odd)
	}
}

func TestIdentitiesReadBack(t *testing.T) {
	for _, sid := range []string{"S-1-5-21-1408237911-2204618837-3391045523-500", "S-1-5-32-544", "S-1-1-0"} {
		raw, err := EncodeSID(sid)
		require.NoError(t, err)
		back, err := ParseSID(raw)
		require.NoError(t, err)
		assert.Equal(t, sid, back)
	}
	raw, err := EncodeSID("S-1-5-32-544")
	require.NoError(t, err)
	assert.Equal(t, uint32(544), RID(raw))
	for _, bad := range []string{"", "x", raw[:9], raw + "x"} {
		_, err := ParseSID(bad)
		assert.Error(t, err)
		assert.Zero(t, RID(bad))
	}
	guid := "534f7305-79c7-4fde-a3b2-94bf472fc7c4"
	binary, err := ParseGUID(guid)
	require.NoError(t, err)
	assert.Equal(t, "\x05sOS\xc7y\xdeO\xa3\xb2\x94\xbfG/\xc7\xc4", binary)
	back, err := FormatGUID(binary)
	require.NoError(t, err)
	assert.Equal(t, guid, back)
}

func TestFoldDNMakesEqualNamesEqual(t *testing.T) {
	for _, same := range [][]string{
		{"CN=Ada Quill,OU=Staff,DC=larkmoor,DC=example", "cn=ada quill,ou=staff,dc=larkmoor,dc=example", "CN = Ada  Quill , ou=STAFF;dc=larkmoor, DC=example"},
		{`CN=Tern\, Ada,DC=x`, `cn=tern\2C ada,dc=X`, `cn=Tern\2c Ada, dc=x`},
		{`CN=a+UID=b,DC=x`, `uid=B+cn=A,dc=x`},
		{`CN=Zoë,DC=x`, `cn=zo\C3\AB,dc=x`},
		{`CN=a\0ADEL:1,DC=x`, "CN=a\nDEL:1,DC=x"},
		{"CN=Zo\u00eb,DC=x", "cn=Zoe\u0308,dc=x", `CN=Zoe\CC\88,DC=x`}, // composed and not
		{"cn=a,ou=b,uid=c,dc=x", "commonName=A,organizationalUnitName=b,userid=c,domainComponent=x", "2.5.4.3=a,OID.2.5.4.11=b,oid.0.9.2342.19200300.100.1.1=c,0.9.2342.19200300.100.1.25=x"},
		{"uid=a+cn=b,dc=x", "2.5.4.3=b+userid=a,dc=x"},
	} {
		for _, other := range same[1:] {
			assert.Equal(t, FoldDN(same[0]), FoldDN(other))
		}
	}
	assert.NotEqual(t, FoldDN(`CN=a\,b,DC=x`), FoldDN(`CN=a,b=,DC=x`))
	for _, other := range []string{"street=a,dc=x", "2.5.4.99=a,dc=x", "cn=a,2.5.4.11=x", "CN=\u0308,DC=x"} {
		assert.NotEqual(t, FoldDN("streetAddress=a,dc=x"), FoldDN(other), "they are two attributes on the ad schema")
	}
}

func TestAttributesHaveOtherNamesAndNumbers(t *testing.T) {
	for name, want := range map[string]string{"commonName": "cn", "COMMONNAME;lang-en": "cn;lang-en", "2.5.4.3": "cn", "OID.2.5.4.3": "cn", "surname": "sn", "userid": "uid", "rfc822Mailbox": "mail",
		"1.2.840.113556.1.4.221": "sAMAccountName", "streetAddress": "streetAddress", "cn": "cn", "CN": "CN", "favouriteColour": "favouriteColour", "2.5.4.35": "2.5.4.35", "1.2.3": "1.2.3", "": "", ";x": ";x", "oid.": "oid."} {
		assert.Equal(t, want, PlainName(name), name)
	}
	for id := AttrUnknown + 1; id < attrCount; id++ { // so that these need not be looked up
		name := id.String()
		assert.False(t, slices.ContainsFunc(synonyms()[attrHash(name)], func(s synonym) bool { return strings.EqualFold(s.other, name) }), "%s is no other name", name)
	}
	for _, class := range []string{"2.5.6.6", "OID.2.5.6.6", "Person"} {
		assert.True(t, schemaStandard().DerivesFrom("2.16.840.1.113730.3.2.2", class), class)
		assert.True(t, schemaStandard().KnowsClass(class), class)
	}
	assert.Equal(t, "Person", schemaAD().Category("1.2.840.113556.1.5.9"), "the number of user")
	assert.False(t, schemaStandard().KnowsClass("2.5.6.999"))
}

func TestUnder(t *testing.T) {
	base := FoldDN("OU=Staff,DC=x")
	for dn, want := range map[string]bool{"OU=Staff,DC=x": true, "CN=a,OU=Staff,DC=x": true, "CN=a,OU=Other,DC=x": false, "OU=NotStaff,DC=x": false,
		`CN=a\,OU=Staff,DC=x`: false, `CN=a\\,OU=Staff,DC=x`: true, `CN=a\\\,OU=Staff,DC=x`: false, "DC=x": false} {
		assert.Equal(t, want, Under(FoldDN(dn), base), dn)
	}
	assert.True(t, Under("cn=a", ""))
}

func TestSplitAndLeaf(t *testing.T) {
	rdn, parent := SplitDN(`CN=Tern\, Ada \"the Comet\",OU=Staff,DC=x`)
	assert.Equal(t, `CN=Tern\, Ada \"the Comet\"`, rdn)
	assert.Equal(t, "OU=Staff,DC=x", parent)
	assert.Equal(t, `Tern, Ada "the Comet"`, LeafValue(`CN=Tern\, Ada \"the Comet\",OU=Staff,DC=x`))
	rapid.Check(t, func(t *rapid.T) {
		value := rapid.StringN(1, 30, -1).Draw(t, "value")
		if strings.TrimSpace(value) != value || strings.HasPrefix(value, "#") {
			t.Skip()
		}
		require.Equal(t, value, LeafValue("CN="+EscapeDN(value)+",DC=x"))
	})
}

func FuzzDN(f *testing.F) {
	f.Add(`CN=Tern\, Ada+UID=b, OU="x";DC=example`)
	f.Add(`\,=\`)
	f.Fuzz(func(t *testing.T, dn string) {
		folded := FoldDN(dn)
		levels, err := ParseDN(dn)
		if err != nil {
			return
		}
		if !strings.Contains(dn, "#") && strings.ToValidUTF8(dn, "") == dn {
			require.Equal(t, folded, FoldDN(folded), "folding twice changes nothing")
		}
		parts := make([]string, len(levels))
		for i, l := range levels {
			parts[i] = l.String()
		}
		_, err = ParseDN(strings.Join(parts, ","))
		require.NoError(t, err, "what is written can be read")
	})
}

func TestSecretsAreKnownInAnyForm(t *testing.T) {
	for _, name := range []string{"userPassword", "USERPASSWORD", "unicodePwd", "userPassword;x-option", "ms-Mcs-AdmPwd", "msLAPS-Password", "msFVE-RecoveryPassword", "krbPrincipalKey", "sambaNTPassword"} {
		assert.True(t, IsSecret(name), name)
	}
	for _, name := range []string{"pwdLastSet", "mail", "", strings.Repeat("x", 100)} {
		assert.False(t, IsSecret(name), name)
	}
}

func TestLookupAttrKnowsNamesInAnyCase(t *testing.T) {
	for id := AttrUnknown + 1; id < attrCount; id++ {
		assert.Equal(t, id, LookupAttr(strings.ToUpper(id.String())))
		if strings.Contains(id.String(), ";") { // an option of its own
			continue
		}
		assert.Equal(t, id, LookupAttr(id.String()+";range=0-1499"))
		assert.Zero(t, LookupAttr(id.String()+";lang-fr"))
	}
	assert.Zero(t, LookupAttr(""))
}

func TestIncompleteListsCountAsPresent(t *testing.T) {
	e := Entry{Attrs: []Attribute{{Name: "member;range=0-1", Values: []string{"a", "b"}}, {Name: "memberOf;range=0-*", Values: []string{"c"}}, {Name: "cn;lang-fr", Values: []string{"d"}}}}
	assert.Equal(t, []string{"a", "b"}, e.Get("member"))
	assert.True(t, e.Incomplete("member"))
	assert.False(t, e.Incomplete("memberOf"))
	assert.False(t, e.Has("cn"), "another language is another attribute")
}

func TestDeniesDelete(t *testing.T) {
	sid, err := EncodeSID("S-1-1-0")
	require.NoError(t, err)
	descriptor := func(kind byte, mask byte) string {
		ace := string([]byte{kind, 0, byte(8 + len(sid)), 0, 0, 0, mask, 0}) + sid
		acl := string([]byte{2, 0, byte(8 + len(ace)), 0, 1, 0, 0, 0}) + ace
		return string([]byte{1, 0, 4, 0x80, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 20, 0, 0, 0}) + acl
	}
	denied, err := DeniesDelete(descriptor(1, 1))
	require.NoError(t, err)
	assert.True(t, denied)
	for _, harmless := range []string{descriptor(0, 1), descriptor(1, 2), ""} {
		denied, err := DeniesDelete(harmless)
		require.NoError(t, err)
		assert.False(t, denied)
	}
	whole := descriptor(1, 1)
	for n := 1; n < len(whole); n++ {
		_, _ = DeniesDelete(whole[:n]) // no length may make it panic
	}
}

func TestACloneSharesNothing(t *testing.T) {
	block := []byte("CN=Ada,DC=xMailx-notead@xtopuser")
	text := func(from, to int) string { return unsafe.String(&block[from], to-from) }
	e := Entry{DN: text(0, 11)}
	e.Set(text(11, 15), text(21, 25))
	e.Set("objectClass", text(25, 28), text(28, 32))
	e.Set(text(15, 21))
	e.Attrs = append(e.Attrs, Attribute{Name: text(15, 21)})
	c := e.Clone()
	clear(block)
	assert.Equal(t, "CN=Ada,DC=x", c.DN)
	assert.Equal(t, []string{"ad@x"}, c.Get("mail"))
	assert.Equal(t, []string{"top", "user"}, c.Get("objectClass"))
	assert.True(t, c.Has("x-note"), "an attribute without values is there")
	c.Set("mail", append(c.Get("mail"), "more")...)
	assert.Equal(t, []string{"top", "user"}, c.Get("objectClass"), "each list has room of its own")
}

func TestANameFollowsTheOneAboveIt(t *testing.T) {
	for _, c := range []struct{ dn, old, now, want string }{
		{"uid=kid,uid=ada,ou=Staff,dc=x", "UID=ada,ou=staff,dc=x", "uid=ada,ou=Parked,dc=x", "uid=kid,uid=ada,ou=Parked,dc=x"},
		{"uid=ada,ou=Staff,dc=x", "uid=ada,ou=Staff,dc=x", "uid=ada2,ou=Staff,dc=x", "uid=ada2,ou=Staff,dc=x"},
		{"uid=ada,ou=Staff,dc=x", "uid=da,ou=Staff,dc=x", "uid=z,dc=x", "uid=ada,ou=Staff,dc=x"},
		{"uid=kid,uid=ada,ou=Staff,dc=x", "uid=ada,ou=Staff,dc=x", "", ""},
		{"cn=a\\2cb,cn=Quill\\, Ada,dc=x", "cn=Quill\\2c Ada,dc=x", "cn=Z,dc=x", "cn=a\\,b,cn=Z,dc=x"},
	} {
		assert.Equal(t, FoldDN(c.want), FoldDN(Rebased(c.dn, c.old, c.now)), c.dn)
	}
}

func TestKindsThatSignIn(t *testing.T) {
	var accounts, gone []string
	for k := KindOther; k < kindCount; k++ {
		if k.IsAccount() {
			accounts = append(accounts, k.String())
		}
		if !k.IsEntry() {
			gone = append(gone, k.String())
		}
	}
	assert.Equal(t, []string{"user", "service", "computer", "resource", "trust"}, accounts)
	assert.Equal(t, []string{"exemption", "person", "source"}, gone, "what is in no directory")
}

func TestWhichNamesNeedNoMoreThanLowerCase(t *testing.T) {
	for dn, want := range map[string]bool{"CN=Ada Quill,OU=Staff,DC=x": true, "cn=a": true, "": false, "no name": false, "cn=a,b": false,
		`cn=a\,b`: false, "cn=a+uid=b": false, "cn=a;dc=x": false, `cn="a"`: false, "cn=<a": false, "cn=a>": false, "cn=#a": false, "cn=a\nb": false, "cn=a\x7f": false,
		" cn=a": false, "cn=a ": false, "cn=a  b": false, "cn= a": false, "cn =a": false, "cn=a, dc=x": false, "cn=a ,dc=x": false, "cn=a=b": false} {
		assert.Equal(t, want, plainDN(dn), "%q", dn)
	}
}

func TestWhatIsNoName(t *testing.T) {
	for _, bad := range []string{"a", "=a", " =a", "c,n=a", "c+n=a", `c"n=a`, "cn=a,b", `cn=a\`, `cn=a\z`, "cn=a,,dc=x", "cn=a,"} {
		_, err := ParseDN(bad)
		assert.Error(t, err, bad)
		assert.Equal(t, strings.ToLower(bad), FoldDN(bad), bad)
		_, ok := FoldValidDN(bad)
		assert.False(t, ok, bad)
	}
	levels, err := ParseDN(`cn=a\20\2C+uid=\ b ; dc=#04024869`)
	require.NoError(t, err)
	assert.Equal(t, []RDN{{{"cn", "a ,"}, {"uid", `\ b`[1:]}}, {{"dc", "#04024869"}}}, levels)
}

func TestWhatIsNoIdentity(t *testing.T) {
	for _, bad := range []string{"", "S-1", "S-2-5-21", "X-1-5-21", "S-1-x-21", "S-1-5-x", "S-1-5-4294967296", "S-1-281474976710656-1", "S-1-5" + strings.Repeat("-1", 16)} {
		_, err := EncodeSID(bad)
		assert.Error(t, err, bad)
	}
	for _, good := range []string{"S-1-5", "S-1-5" + strings.Repeat("-1", 15), "S-1-281474976710655-4294967295"} {
		raw, err := EncodeSID(good)
		require.NoError(t, err, good)
		back, err := ParseSID(raw)
		require.NoError(t, err)
		assert.Equal(t, good, back)
	}
	for _, bad := range []string{"", "x", "534f7305-79c7-4fde-a3b2-94bf472fc7c", "534f730579c74fdea3b294bf472fc7c4", "534f7305-79c7-4fde-a3b2-94bf472fc7cx"} {
		_, err := ParseGUID(bad)
		assert.Error(t, err, bad)
	}
}

// TestUsualTimesAreReadAsAllAre holds times as servers write them against what reads all.
func TestUsualTimesAreReadAsAllAre(t *testing.T) {
	usual := 0
	rapid.Check(t, func(t *rapid.T) {
		s := fmt.Sprintf("%04d%02d%02d%02d%02d%02d%s", rapid.IntRange(1580, 2800).Draw(t, "year"), rapid.IntRange(0, 13).Draw(t, "month"), rapid.IntRange(0, 32).Draw(t, "day"),
			rapid.IntRange(0, 24).Draw(t, "hour"), rapid.IntRange(0, 60).Draw(t, "minute"), rapid.IntRange(0, 61).Draw(t, "second"), rapid.SampledFrom([]string{".0Z", "Z", ".5Z", "+0100", "", "z", ".0X"}).Draw(t, "end"))
		if rapid.IntRange(0, 9).Draw(t, "odd") == 0 {
			at := rapid.IntRange(0, len(s)-1).Draw(t, "at")
			s = s[:at] + rapid.SampledFrom([]string{"", "x", "-", "00"}).Draw(t, "instead") + s[at+1:]
		}
		if _, ok := usualTime(s); ok {
			usual++
		}
		require.Equal(t, readMoment(s, AttrWhenCreated, ParseGeneralizedTime), readGeneralized(s, AttrWhenCreated), s)
	})
	assert.Positive(t, usual)
	day := time.Date(1601, 1, 1, 0, 0, 0, 0, time.UTC)
	for range 1200 * 366 {
		s := day.Format("20060102") + "235959Z"
		seconds, ok := usualTime(s)
		require.True(t, ok && int64(seconds)+fileTimeEpoch == day.Unix()+86399, s)
		day = day.AddDate(0, 0, 1)
	}
}

func TestWhatIsSaidLaterChangesNothingElse(t *testing.T) {
	e := Entry{DN: "uid=ada,dc=x"}
	e.Set("objectClass", "inetOrgPerson")
	e.Set("pwdEndTime", "20270101000000Z")
	a := OpenLDAP.Account(&e)
	other := a
	since := MomentOf(time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC), AttrModifyTimestamp)
	a.SetFlagsSince(since)
	assert.Equal(t, since, a.Further().FlagsSince)
	assert.Equal(t, "2027-01-01", a.Further().ExpiresAlso.Time().Format(time.DateOnly))
	assert.False(t, other.Further().FlagsSince.Present(), "a copy is another account's")
}
