package realserver

import (
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yardbroom/internal/settings"
)

// SambaBase is the domain of the controller that Samba starts.
const SambaBase = "DC=larkmoor,DC=example"

// Samba provisions and starts a Samba AD domain controller. Its ports are
// fixed, so there can be one at a time on a machine; it needs root.
func Samba(t testing.TB, dir string) *Server {
	t.Helper()
	Program(t, "samba", "samba-ad-dc")
	tool := Program(t, "samba-tool", "samba")
	Root(t, "a Samba domain controller can be started")
	s := &Server{Name: "Samba AD DC", Base: SambaBase, Password: "Adm1n-Secret!", Dir: dir}
	command(t, dir, tool, "domain", "provision", "--targetdir="+dir, "--realm=LARKMOOR.EXAMPLE", "--domain=LARKMOOR", "--server-role=dc",
		"--adminpass="+s.Password, "--dns-backend=NONE", "--host-name=dc1", "--host-ip=127.0.0.1", "--option=posix:eadb="+filepath.Join(dir, "eadb.tdb"),
		"--option=vfs objects = dfs_samba4 acl_xattr xattr_tdb")
	conf := filepath.Join(dir, "etc", "smb.conf")
	text, err := os.ReadFile(conf)
	require.NoError(t, err)
	// No RPC: its ports lie among those that outgoing connections get, so that
	// the server would sometimes find one taken and end. Provisioning lists the
	// services, and the last list counts.
	lines := slices.DeleteFunc(strings.SplitAfter(string(text), "\n"), func(line string) bool {
		return strings.HasPrefix(strings.TrimSpace(line), "server services")
	})
	extra := "[global]\n\tserver services = ldap, cldap, kdc\n\tinterfaces = lo\n\tbind interfaces only = yes\n\tpid directory = " + dir +
		"\n\tldap server require strong auth = allow_sasl_over_tls\n"
	require.NoError(t, os.WriteFile(conf, []byte(strings.Replace(strings.Join(lines, ""), "[global]\n", extra, 1)), 0o600))
	// What a service that is left out would do: tickets name the server so.
	s.Tool(t, "spn", "add", "ldap/dc1.larkmoor.example", "DC1$")
	Certificate(t, filepath.Join(dir, "private", "tls"), "dc1.larkmoor.example")
	s.start = func(t testing.TB) {
		t.Helper()
		cmd := exec.Command(Program(t, "samba", "samba-ad-dc"), "-s", conf, "-i", "-M", "single")
		s.run(t, cmd, "127.0.0.1:636")
		time.Sleep(500 * time.Millisecond) // it listens a little before it answers
	}
	s.Start(t)
	s.Yard = settings.Yard{Servers: []string{"ldaps://127.0.0.1"}, Base: s.Base, CAFile: filepath.Join(dir, "private", "tls", "ca.pem"),
		Bind: settings.Bind{DN: "administrator@larkmoor.example", PasswordFile: s.passwordFile(t)}}
	return s
}

// Tool runs samba-tool on the server's own database.
func (s *Server) Tool(t testing.TB, args ...string) {
	t.Helper()
	command(t, s.Dir, Program(t, "samba-tool", "samba"), append(args, "-s", filepath.Join(s.Dir, "etc", "smb.conf"))...)
}

// KeepDeleted switches the bin of deleted objects on, which can be done in the
// server's own database only, and never undone.
func (s *Server) KeepDeleted(t testing.TB) {
	t.Helper()
	cmd := exec.Command(Program(t, "ldbmodify", "ldb-tools"), "-H", filepath.Join(s.Dir, "private", "sam.ldb"))
	cmd.Stdin = strings.NewReader("dn:\nchangetype: modify\nadd: enableOptionalFeature\nenableOptionalFeature: CN=Partitions,CN=Configuration," + s.Base + ":766ddcd8-acd0-445e-f3b9-a7f9b6744f2a\n")
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
}

// Kinit gets a ticket for an account into a credential cache and returns the
// cache and the Kerberos configuration.
func (s *Server) Kinit(t testing.TB, account, password string, options ...string) (cache, conf string) {
	t.Helper()
	dir := t.TempDir()
	cache, conf = filepath.Join(dir, "cache"), filepath.Join(dir, "krb5.conf")
	require.NoError(t, os.WriteFile(conf, []byte(`[libdefaults]
 default_realm = LARKMOOR.EXAMPLE
 dns_lookup_kdc = false
 dns_lookup_realm = false
 dns_canonicalize_hostname = false
 rdns = false
 udp_preference_limit = 1
[realms]
 LARKMOOR.EXAMPLE = { 
  kdc = 127.0.0.1:88
 }
`), 0o600))
	cmd := exec.Command(Program(t, "kinit", "krb5-user"), append(options, "-c", "FILE:"+cache, account+"@LARKMOOR.EXAMPLE")...)
	cmd.Env = append(os.Environ(), "KRB5_CONFIG="+conf)
	cmd.Stdin = strings.NewReader(password + "\n")
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "kinit: %s", out)
	return cache, conf
}
