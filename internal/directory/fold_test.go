package directory

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/text/unicode/norm"
	"pgregory.net/rapid"
)

func TestFoldTextMakesSpellingsEqual(t *testing.T) {
	for _, same := range [][]string{
		{"Visitor Centre", "visitor-centre", " VISITOR  CENTRE ", "Vísitor\u00a0Cèntre", "Ｖｉｓｉｔｏｒ Centre", "Visitor\u200bCentre", "visitor.centre!"},
		{"Müller-Voss", "MULLER VOSS", "mu\u0308llervoss"},
		{"Straße", "STRASSE", "strasse"},
		{"Łucja Sørensen", "lucja sorensen"},
		{"Соколова", "СОКОЛОВА"}, {"Παππάς", "ΠΑΠΠΑΣ"}, {"½", "1⁄2"},
	} {
		for _, s := range same {
			assert.Equal(t, FoldText(same[0]), FoldText(s), "%q", s)
		}
	}
	assert.NotEqual(t, FoldText("Archive"), FoldText("Archives"))
	assert.Empty(t, FoldText(" -- "))
	assert.Equal(t, "c++", FoldText("C++"), "signs are no punctuation")
}

func TestFoldTextIsStable(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := rapid.String().Draw(t, "text")
		once := FoldText(s)
		require.Equal(t, once, FoldText(once))
		require.Equal(t, once, FoldText(" "+s+"."))
		// Whoever contains a text contains it folded too.
		o := rapid.String().Draw(t, "other")
		require.True(t, strings.Contains(FoldText(o+" "+s), once), "%q in %q", once, FoldText(o+" "+s))
	})
}

func TestKeysAreEqualAsNamesAre(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		value := rapid.StringMatching(`[A-Za-z0-9 ,+"\\<>;=#é]{1,12}`).Draw(t, "value")
		dn := "CN=" + EscapeDN(value) + ",OU=Staff,DC=x"
		require.Equal(t, KeyOf(dn), KeyOf(strings.Replace(dn, ",OU=Staff,DC=x", ", ou=STAFF ,dc=X", 1)))
		self, parent := keysOf(dn)
		require.Equal(t, KeyOf(dn), self)
		require.Equal(t, KeyOf("ou=staff,dc=x"), parent, dn)
		require.NotEqual(t, self, parent)
	})
	assert.Equal(t, TextKey("Ada@Larkmoor.Example"), TextKey("ada@larkmoor.example"))
	assert.Equal(t, TextKey("ÅSA"), TextKey("åsa"))
	assert.NotEqual(t, TextKey("a"), TextKey("b"))
}

// TestKeysByParentsAreTheSame holds names of which only the leaf is folded against names that
// are folded whole, many of them no names at all.
func TestKeysByParentsAreTheSame(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		known := parents{}
		piece := rapid.StringMatching(`(CN|ou|OrganizationalUnitName|2\.5\.4\.3|=|)(=|)[A-Za-zé\x{301} +"\\<>;=#,]{0,4}`)
		places := rapid.SliceOfN(rapid.SliceOfN(piece, 0, 3), 1, 3).Draw(t, "places")
		for range 8 {
			dn := strings.Join(append([]string{piece.Draw(t, "leaf")}, rapid.SampledFrom(places).Draw(t, "place")...), ",")
			self, parent := keysOf(dn)
			gotSelf, gotParent := known.keysOf(dn)
			require.Equal(t, self, gotSelf, dn)
			require.Equal(t, parent, gotParent, dn)
		}
	})
}

// TestLoweringIsThatOfTheLibraries holds lowering without allocations against what it stands for.
func TestLoweringIsThatOfTheLibraries(t *testing.T) {
	piece := rapid.OneOf(rapid.String(), rapid.SampledFrom([]string{"e\u0301", "É", "İ", "\u212a", "\xff", "ẞ", "Ａ", "A\u030a", "plain Text"}))
	rapid.Check(t, func(t *rapid.T) {
		s := strings.Join(rapid.SliceOf(piece).Draw(t, "pieces"), "")
		lower := strings.ToLower(s)
		got, _ := appendLowerRunes(nil, s)
		require.Equal(t, lower, string(got), "%q", s)
		require.Equal(t, "e"+norm.NFC.String(lower), string(appendLowered([]byte("e"), s)), "%q", s)
	})
}

func TestTextsKeepValuesInOrder(t *testing.T) {
	long := strings.Repeat("x", 300)
	words := &Words{}
	var buf []byte
	for _, v := range []string{"one", "", long} {
		buf = appendText(buf, AttrMail, v, words)
		buf = appendText(buf, AttrSN, "other", words)
		buf = appendText(buf, AttrTitle, v, words)
	}
	texts := Texts{string(buf), words}
	assert.Equal(t, []string{"one", "", long}, slices.Collect(texts.All(AttrMail)))
	assert.Equal(t, []string{"one", "", long}, slices.Collect(texts.All(AttrTitle)))
	assert.Equal(t, "other", texts.First(AttrSN))
	assert.Equal(t, "one", texts.First(AttrTitle))
	assert.Empty(t, texts.First(AttrCompany))
	var all, shared []string
	for id, v := range texts.Values(Attrs(AttrMail, AttrTitle)) {
		all = append(all, id.String())
		if n, ok := v.Word(); ok {
			shared = append(shared, fmt.Sprint(n, " ", id, " ", v.Text()))
		}
	}
	assert.Equal(t, []string{"mail", "title", "mail", "title", "mail", "title"}, all)
	assert.Equal(t, []string{"1 title one", "2 title "}, shared, "what is long, or hardly shared, is no word")
	for range texts.Values(Attrs(AttrMail, AttrTitle)) {
		break // leaving early is allowed
	}
}

func TestPolicyLinks(t *testing.T) {
	got := ParsePolicyLinks("[LDAP://cn={aaaaaaaa-0000-0000-0000-000000000000},cn=policies,DC=x;0][ldap://CN={BBBBBBBB-0000-0000-0000-000000000000},cn=policies,DC=x;3][LDAP://cn={C},DC=x;2] ")
	assert.Equal(t, []LinkedPolicy{{"{AAAAAAAA-0000-0000-0000-000000000000}", false}, {"{BBBBBBBB-0000-0000-0000-000000000000}", true}, {"{C}", false}}, got)
	for _, odd := range []string{"", " ", "[]", "[LDAP://x]", "[LDAP://x;many]", "[file://x;0]", "LDAP://cn=x;0", "[LDAP://cn=x;0"} {
		assert.Empty(t, ParsePolicyLinks(odd), odd)
	}
}

func TestPrivilegedIdentities(t *testing.T) {
	for sid, want := range map[string]bool{"S-1-5-32-544": true, "S-1-5-32-545": false, "S-1-5-21-1-2-3-512": true, "S-1-5-21-1-2-3-513": false, "S-1-5-21-1-2-3-1512": false,
		"S-1-5-21-512": true, "S-1-5-32-512": false, "S-1-5-11": false, "": false} {
		assert.Equal(t, want, PrivilegedSID(sid), sid)
	}
	assert.Equal(t, "everyone", Everybody("S-1-1-0"))
	assert.Empty(t, Everybody("S-1-5-21-1-2-3-1513"))
}

func TestLatestLogonOfAKeptSurvey(t *testing.T) {
	at := time.Date(2026, 11, 1, 8, 0, 0, 0, time.UTC)
	name, value := LatestLogon(2, MomentOf(at, AttrLastLogon))
	e := Entry{DN: "CN=a,DC=x"}
	e.Set("objectClass", "user")
	e.Set("lastLogon", FormatFileTime(at.AddDate(0, 0, -9)))
	e.Set(name, value)
	a := AD.Account(&e)
	assert.Equal(t, at, a.LastLogon.Time())
	assert.EqualValues(t, 2, a.LogonServer)
	e.Set("lastLogon", FormatFileTime(at.AddDate(0, 0, 9)))
	a = AD.Account(&e)
	assert.Zero(t, a.LogonServer, "the first server knows of a later one")
	for _, odd := range []string{"", "x", "1 x", "900 1", " "} {
		e.Set(name, odd)
		a = AD.Account(&e)
		assert.Zero(t, a.LogonServer, odd)
	}
}

func TestMomentsCompare(t *testing.T) {
	early, late := MomentOf(time.Unix(1, 0), AttrLastLogon), MomentOf(time.Unix(2, 0), AttrPwdLastSet)
	var absent Moment
	assert.True(t, late.After(early))
	assert.False(t, early.After(late))
	assert.True(t, early.After(absent))
	assert.False(t, absent.After(early))
	assert.False(t, early.After(early))
	assert.True(t, late.notLaterThan(time.Unix(1, 0)).Unreadable())
	assert.Equal(t, early, early.notLaterThan(time.Unix(1, 0)))
	assert.Equal(t, AttrPwdLastSet, late.Attr())
}
