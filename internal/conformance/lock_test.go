package conformance

import (
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/directory"
	"yardbroom/internal/settings"
)

// lock locks an account out: with wrong passwords, or in the practice
// directory, which keeps none, by its data.
func (s *subject) lock(t *testing.T, dn, logon string) {
	t.Helper()
	if s.dir != nil {
		require.True(t, s.dir.Edit(dn, func(e *directory.Entry) { e.Set("lockoutTime", directory.FormatFileTime(time.Now())) }))
		return
	}
	name := dn
	if s.samba != nil {
		s.samba.Tool(t, "domain", "passwordsettings", "set", "--account-lockout-threshold=3")
		name = logon + "@larkmoor.example"
	}
	for range 4 {
		s.bind(t, name, "Wrong-secret1")
	}
}

// bind tries a password and tells whether the server took it.
func (s *subject) bind(t *testing.T, name, password string) bool {
	t.Helper()
	conn, err := dial(s.yard)
	require.NoError(t, err)
	defer conn.Close()
	return conn.Bind(name, password) == nil
}

func dial(yard settings.Yard) (*ldap.Conn, error) {
	config, err := tlsConfig(yard.CAFile)
	if err != nil {
		return nil, err
	}
	return ldap.DialURL(yard.Servers[0], ldap.DialWithTLSConfig(config))
}
