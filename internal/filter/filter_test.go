package filter

import (
	"testing"

	ber "github.com/go-asn1-ber/asn1-ber"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/directory"
)

func TestMatch(t *testing.T) {
	e := &directory.Entry{DN: "CN=Ada,DC=x"}
	e.Set("objectClass", "top", "user")
	e.Set("cn", "Ada Quill (the *)")
	e.Set("userAccountControl", "514")
	e.Set("member", "CN=Bram Tern,DC=x", "CN=Tern\\, Clara,DC=x")
	e.Set("objectGUID", "\x05sOS\xc7y\xdeO\xa3\xb2\x94\xbfG/\xc7\xc4")
	for text, want := range map[string]Truth{
		"(objectClass=user)":           True,
		"(objectClass=USER)":           True,
		"(objectClass=*)":              True,
		"(mail=*)":                     False,
		"(!(mail=*))":                  True,
		`(cn=Ada Quill \28the \2a\29)`: True,
		"(cn=ada*)":                    True,
		`(cn=*quill*\2a\29)`:           True,
		"(cn=*quill)":                  False,
		"(cn=a*a*a*)":                  False,
		"(&(objectClass=user)(userAccountControl:1.2.840.113556.1.4.803:=2))": True,
		"(userAccountControl:1.2.840.113556.1.4.803:=18)":                     False,
		"(userAccountControl:1.2.840.113556.1.4.804:=18)":                     True,
		"(userAccountControl:9.9.9:=2)":                                       Undefined,
		"(!(userAccountControl:9.9.9:=2))":                                    Undefined,
		"(|(userAccountControl:9.9.9:=2)(cn=ada*))":                           True,
		"(&(userAccountControl:9.9.9:=2)(cn=no))":                             False,
		"(userAccountControl>=514)":                                           True,
		"(userAccountControl>=1000)":                                          False,
		"(userAccountControl<=1000)":                                          True,
		"(member=cn=bram tern,dc=X)":                                          True,
		`(member=CN=Tern\5c2C Clara,DC=x)`:                                    True,
		`(objectGUID=\05\73\4f\53\c7\79\de\4f\a3\b2\94\bf\47\2f\c7\c4)`:       True,
		`(objectGUID=\05\53\4f\53\c7\79\de\4f\a3\b2\94\bf\47\2f\c7\c4)`:       False,
		"(|(sAMAccountName=x)(&(cn=Ada*)(!(userAccountControl=512))))":        True,
	} {
		f, err := Parse(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, f.Match(e), text)
	}
	f, err := Parse("(&(a=1)(!(b=*)))")
	require.NoError(t, err)
	assert.Equal(t, []string{"a", "b"}, f.Attributes())
}

func FuzzFilter(f *testing.F) {
	f.Add("(&(objectClass=user)(!(cn=a*b*c))(x:1.2.840.113556.1.4.803:=2))")
	e := &directory.Entry{DN: "cn=a"}
	e.Set("cn", "abc")
	f.Fuzz(func(t *testing.T, text string) {
		if parsed, err := Parse(text); err == nil {
			parsed.Match(e)
		}
		if p, err := ber.DecodePacketErr([]byte(text)); err == nil {
			if decoded, err := Decode(p); err == nil {
				decoded.Match(e)
			}
		}
	})
}
