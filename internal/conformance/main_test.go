// Package conformance holds the behaviours of directory servers that the
// tool relies on, and the stories of whole batches, and runs both against
// the practice directory and the real servers alike.
package conformance

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/cli"
	"yardbroom/internal/directory"
	"yardbroom/internal/practice"
	"yardbroom/internal/realserver"
	"yardbroom/internal/settings"
	"yardbroom/internal/source"
)

// subject is a server under test, with the containers Staff, Parked and
// Groups in it, empty.
type subject struct {
	name    string
	yard    settings.Yard
	base    string
	dialect *directory.Dialect
	samba   *realserver.Server
	real    *realserver.Server // nil for the practice directory
	dir     *practice.Directory
	server  *practice.Server
	settles time.Duration // how long it goes on by itself after a write
}

// DN names an entry by its leaf value and container.
func (s *subject) DN(cn, container string) string {
	if s.dialect == directory.AD {
		return "CN=" + directory.EscapeDN(cn) + "," + s.container(container)
	}
	return "cn=" + directory.EscapeDN(cn) + "," + s.container(container)
}

func (s *subject) container(name string) string {
	if s.dialect == directory.AD {
		return "OU=" + name + "," + s.base
	}
	return "ou=" + name + "," + s.base
}

func (s *subject) connect(t *testing.T) *source.Server {
	t.Helper()
	c, err := source.Connect(context.Background(), source.Target{Yard: s.yard})
	require.NoError(t, err)
	t.Cleanup(func() { c.Close() })
	return c
}

// shared is a server that takes long to make and serves all tests.
type shared struct {
	sync.Mutex
	server *realserver.Server
	dir    string
}

var samba, ns389 shared

// get makes the server, once.
func (s *shared) get(t *testing.T, make func(testing.TB, string) *realserver.Server) *realserver.Server {
	s.Lock()
	defer s.Unlock()
	if s.server == nil {
		dir, err := os.MkdirTemp("", "yardbroom-server-")
		require.NoError(t, err)
		s.dir = dir
		s.server = make(t, dir)
	}
	return s.server
}

func (s *shared) stop() {
	if s.server != nil {
		s.server.Stop()
	}
	if s.dir != "" {
		os.RemoveAll(s.dir)
	}
}

func sambaServer(t *testing.T) *realserver.Server {
	return samba.get(t, func(t testing.TB, dir string) *realserver.Server { return realserver.Samba(t.(*testing.T), dir) })
}

// asProgram makes the test binary the tool itself, so that tests can kill it.
const asProgram = "YARDBROOM_TEST_AS_PROGRAM"

func TestMain(m *testing.M) {
	if os.Getenv(asProgram) != "" {
		os.Exit(cli.Main(context.Background(), os.Args, os.Stdin, os.Stdout, os.Stderr))
	}
	code := m.Run()
	samba.stop()
	ns389.stop()
	os.Exit(code)
}

var serial atomic.Int64

// each runs a test against every server, in containers of its own: at once, since they
// are waited for more than anything else.
func each(t *testing.T, test func(t *testing.T, s *subject)) {
	for name, make := range map[string]func(*testing.T) *subject{"practice": practiceSubject, "samba": sambaSubject, "389ds": ns389Subject, "slapd": slapdSubject} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			test(t, make(t))
		})
	}
}

func sambaSubject(t *testing.T) *subject {
	server := sambaServer(t)
	s := &subject{name: "samba", yard: server.Yard, base: server.Base, dialect: directory.AD, samba: server, real: server}
	s.fresh(t)
	t.Cleanup(func() { s.sweep(t) })
	return s
}

func ns389Subject(t *testing.T) *subject {
	server := ns389.get(t, realserver.NS389)
	s := &subject{name: "389ds", yard: server.Yard, base: server.Base, dialect: directory.NS389, real: server}
	s.fresh(t)
	t.Cleanup(func() { s.sweep(t) })
	return s
}

func slapdSubject(t *testing.T) *subject {
	return slapdSubjectWith(t, realserver.SlapdLastBind, realserver.SlapdPolicies, realserver.SlapdMemberOf)
}

func slapdSubjectWith(t *testing.T, parts ...string) *subject {
	server := realserver.OpenLDAPWith(t, parts...)
	s := &subject{name: "slapd", yard: server.Yard, base: server.Base, dialect: directory.OpenLDAP, real: server}
	s.fresh(t)
	return s
}

func practiceSubject(t *testing.T) *subject {
	dir := practice.New("DC=larkmoor,DC=example", "S-1-5-21-1-2-3", time.Now)
	server := &practice.Server{Dir: dir, Account: "keeper", Password: "keeper-secret"}
	url, err := server.Listen(t.Context(), "127.0.0.1:0")
	require.NoError(t, err)
	password := filepath.Join(t.TempDir(), "password")
	require.NoError(t, os.WriteFile(password, []byte("keeper-secret\n"), 0o600))
	s := &subject{name: "practice", base: "DC=larkmoor,DC=example", dialect: directory.AD, dir: dir, server: server,
		yard: settings.Yard{Servers: []string{url}, Bind: settings.Bind{DN: "keeper@larkmoor.example", PasswordFile: password}}}
	s.fresh(t)
	return s
}

// fresh makes a top container of the test's own, with the usual ones in it.
func (s *subject) fresh(t *testing.T) {
	t.Helper()
	s.yard.SettleWithin = settings.Wait(300 * time.Millisecond)
	n := serial.Add(1)
	top := fmt.Sprintf("ou=Test %d,%s", n, s.base)
	if s.dialect == directory.AD {
		top = fmt.Sprintf("OU=Test %d,%s", n, s.base)
	}
	c := s.connect(t)
	s.add(t, c, top, map[string][]string{"objectClass": {"organizationalUnit"}})
	s.base = top
	for _, name := range []string{"Staff", "Parked", "Groups"} {
		s.add(t, c, s.container(name), map[string][]string{"objectClass": {"organizationalUnit"}})
	}
}

// sweep deletes what a test has made, since logon names are unique in the
// whole domain and tests use the same ones.
func (s *subject) sweep(t *testing.T) {
	c, err := source.Connect(context.Background(), source.Target{Yard: s.yard})
	require.NoError(t, err)
	defer c.Close()
	var dns []string
	_, err = c.Search(context.Background(), source.Query{Base: s.base, Scope: ldap.ScopeWholeSubtree, Attributes: []string{"1.1"}}, func(page []directory.Entry) error {
		for i := range page {
			dns = append(dns, page[i].DN)
		}
		return nil
	})
	require.NoError(t, err)
	slices.SortFunc(dns, func(a, b string) int { return len(b) - len(a) })
	for _, dn := range dns {
		require.NoError(t, c.Conn().Del(ldap.NewDelRequest(dn, nil)), dn)
	}
}

func (s *subject) add(t *testing.T, c *source.Server, dn string, attrs map[string][]string) {
	t.Helper()
	req := ldap.NewAddRequest(dn, nil)
	for name, values := range attrs {
		req.Attribute(name, values)
	}
	require.NoError(t, c.Conn().Add(req), dn)
}

// person makes an enabled account in Staff and returns its DN.
func (s *subject) person(t *testing.T, c *source.Server, cn, logon string) string {
	t.Helper()
	dn := s.DN(cn, "Staff")
	if s.dialect != directory.AD {
		s.add(t, c, dn, map[string][]string{"objectClass": {"inetOrgPerson"}, "cn": {cn}, "sn": {cn}, "uid": {logon}, "mail": {logon + "@larkmoor.example"},
			"userPassword": {"Right-secret1"}, "departmentNumber": {"7"}})
		return dn
	}
	attrs := map[string][]string{"objectClass": {"user"}, "sAMAccountName": {logon}, "mail": {logon + "@larkmoor.example"}, "displayName": {cn},
		"userAccountControl": {"512"}, "department": {"Archive"}}
	if s.samba != nil {
		attrs["unicodePwd"] = []string{utf16Quoted("Right-secret1")}
	}
	s.add(t, c, dn, attrs)
	return dn
}

func utf16Quoted(s string) string {
	var b []byte
	for _, r := range `"` + s + `"` {
		b = append(b, byte(r), byte(r>>8))
	}
	return string(b)
}

// group makes a group with members and returns its DN.
func (s *subject) group(t *testing.T, c *source.Server, cn string, members ...string) string {
	t.Helper()
	dn := s.DN(cn, "Groups")
	attrs := map[string][]string{"objectClass": {"groupOfNames"}, "cn": {cn}, "member": members}
	if s.dialect == directory.AD {
		attrs = map[string][]string{"objectClass": {"group"}, "sAMAccountName": {cn}, "member": members}
	}
	if len(members) == 0 {
		delete(attrs, "member")
	}
	s.add(t, c, dn, attrs)
	return dn
}

// entry reads one entry whole, nil where it is not there.
func (s *subject) entry(t *testing.T, c *source.Server, dn string) *directory.Entry {
	t.Helper()
	found, err := c.Get(context.Background(), []string{dn})
	require.NoError(t, err)
	if len(found) == 0 {
		return nil
	}
	return &found[0]
}
