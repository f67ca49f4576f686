package directory

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestSchemasKnowTheirAttributes(t *testing.T) {
	ad, standard := AD.Schema(), OpenLDAP.Schema()
	assert.Equal(t, &AttributeType{Name: "lastLogon", Syntax: SyntaxNumber, Ordered: true, FileTime: true, Single: true}, ad.Type("LASTLOGON"))
	assert.Equal(t, &AttributeType{Name: "member", Syntax: SyntaxDN, Link: true}, ad.Type("member;range=0-1499"))
	assert.Equal(t, SyntaxSID, ad.Type("objectSid").Syntax)
	assert.Nil(t, ad.Type("departmnt"))
	assert.Same(t, standard.Type("sn"), standard.Type("surname"), "two names of one")
	assert.Equal(t, "name", standard.Type("cn").Super)
	assert.False(t, standard.Type("cn").Ordered)
	assert.True(t, standard.Type("shadowExpire").Days)
	assert.Same(t, standard, NS389.Schema())
	names := standard.Names(standard.Type("name"))
	slices.Sort(names)
	for _, want := range []string{"cn", "sn", "surname", "givenname", "name", "ou", "c"} {
		assert.Contains(t, names, want)
	}
	assert.NotContains(t, names, "mail")
	for _, s := range []*Schema{ad, standard} {
		for name := range s.types {
			assert.False(t, IsSecret(name), "%s is never asked for, so it has no place in a table", name)
		}
	}
}

func TestClassesAndCategories(t *testing.T) {
	s := OpenLDAP.Schema()
	for class, super := range map[string]string{"inetOrgPerson": "person", "INETORGPERSON": "inetorgperson", "groupOfNames": "top", "odd": "odd"} {
		assert.True(t, s.DerivesFrom(class, super), class)
	}
	assert.False(t, s.DerivesFrom("person", "inetOrgPerson"))
	assert.True(t, s.KnowsClass("Person"))
	assert.False(t, s.KnowsClass("larkPerson"))
	assert.Equal(t, "Person", AD.Schema().Category("user"))
	assert.Empty(t, AD.Schema().Category("nobody"))
}

func TestReadable(t *testing.T) {
	sid, err := EncodeSID("S-1-5-21-1-2-3-500")
	require.NoError(t, err)
	for _, c := range []struct{ attr, value, want string }{
		{"lastLogon", "133801632000000000", "2025-01-01T00:00:00Z"}, {"lastLogon", "0", "never"}, {"accountExpires", "9223372036854775807", "never"}, {"lastLogon", "soon", "soon"},
		{"whenCreated", "20260101120000.0Z", "2026-01-01T12:00:00Z"}, {"pwdChangedTime", "20260101120000Z", "2026-01-01T12:00:00Z"}, {"objectSid", sid, "S-1-5-21-1-2-3-500"},
		{"objectGUID", "0123456789abcdef", "33323130-3534-3736-3839-616263646566"}, {"jpegPhoto", "\xff\xd8\x00", "base64:/9gA"}, {"cn", "Ada", "Ada"}, {"x-badge", "B7", "B7"},
	} {
		assert.Equal(t, c.want, Readable(c.attr, c.value), "%s %q", c.attr, c.value)
	}
}

func TestPlaceIsReadFromTheTopDown(t *testing.T) {
	for dn, want := range map[string]string{"CN=a,OU=Archive,OU=Staff,DC=x,DC=y": "Staff/Archive", "CN=a,DC=x": "(top)", `CN=a,OU=A\, B,DC=x`: "A, B", "nonsense": "(top)"} {
		assert.Equal(t, want, Place(dn), dn)
	}
}
