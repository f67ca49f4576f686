package work

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"yardbroom/internal/directory"
)

// Whoever is handed a file of new passwords must find those of nobody else in it.
func TestNoTwoManagersShareAFileOfPasswords(t *testing.T) {
	manager := func(dn, logon string) directory.Entry {
		e := directory.Entry{DN: dn}
		e.Set("objectClass", "user")
		e.Set("sAMAccountName", logon)
		return e
	}
	names := filesFor(directory.AD, []directory.Entry{
		manager("CN=A,DC=larkmoor,DC=example", "ada.lark"),
		manager("CN=B,DC=larkmoor,DC=example", "Ada_Lark"),
		manager("CN=C,DC=larkmoor,DC=example", "ada lark"),
		manager("CN=D,DC=larkmoor,DC=example", "zoë"),
		manager("CN=E,OU=One,DC=larkmoor,DC=example", "same/"),
		manager("CN=E,OU=Two,DC=larkmoor,DC=example", "same/"),
	})
	assert.Equal(t, map[string]string{
		"cn=a,dc=larkmoor,dc=example":        "for-ada.lark",
		"cn=b,dc=larkmoor,dc=example":        "for-Ada_Lark",
		"cn=c,dc=larkmoor,dc=example":        "for-ada+lark",
		"cn=d,dc=larkmoor,dc=example":        "for-zo_",
		"cn=e,ou=one,dc=larkmoor,dc=example": "for-same%2F",
		"cn=e,ou=two,dc=larkmoor,dc=example": "for-same%2F.2",
	}, names)
}
