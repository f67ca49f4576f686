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
	// No RPC: its ports lie among those that outgoing connections get, so that
	// the server would sometimes find one taken and end.
	s := &controller{host: "dc1", address: "127.0.0.1", listens: "lo", services: "ldap, cldap, kdc"}
	return s.provision(t, dir)
}

// controller is a domain controller that is to be made.
type controller struct {
	host, address string
	listens       string // interface, or address and net
	services      string
}

func (c *controller) server(t testing.TB, dir string) *Server {
	t.Helper()
	Program(t, "samba", "samba-ad-dc")
	Program(t, "samba-tool", "samba")
	Root(t, "a Samba domain controller can be started")
	return &Server{Name: "Samba AD DC", Base: SambaBase, Password: "Adm1n-Secret!", Dir: dir}
}

// options are those of samba-tool for where a controller keeps what.
func (c *controller) options(dir string) []string {
	return []string{
		"--targetdir=" + dir,
		"--dns-backend=NONE",
		"--option=posix:eadb=" + filepath.Join(dir, "eadb.tdb"),
		"--option=vfs objects = dfs_samba4 acl_xattr xattr_tdb",
		"--option=netbios name = " + strings.ToUpper(c.host),
		"--option=interfaces = " + c.listens,
		"--option=bind interfaces only = yes",
	}
}

func (c *controller) provision(t testing.TB, dir string) *Server {
	t.Helper()
	s := c.server(t, dir)
	command(
		t,
		dir,
		Program(t, "samba-tool", "samba"),
		append([]string{"domain", "provision", "--realm=LARKMOOR.EXAMPLE", "--domain=LARKMOOR", "--server-role=dc",
			"--adminpass=" + s.Password, "--host-name=" + c.host, "--host-ip=" + c.address}, c.options(dir)...)...)
	c.ready(t, s)
	// What a service that is left out would do: tickets name the server so.
	s.Tool(t, "spn", "add", "ldap/"+c.host+".larkmoor.example", strings.ToUpper(c.host)+"$")
	s.Start(t)
	return s
}

// ready writes how a controller that was made runs, and how to reach it.
func (c *controller) ready(t testing.TB, s *Server) {
	t.Helper()
	conf := filepath.Join(s.Dir, "etc", "smb.conf")
	text, err := os.ReadFile(conf)
	require.NoError(t, err)
	// Provisioning lists the services, and the last list counts.
	lines := slices.DeleteFunc(strings.SplitAfter(string(text), "\n"), func(line string) bool {
		return strings.HasPrefix(strings.TrimSpace(line), "server services")
	})
	extra := "[global]\n\tserver services = " + c.services + "\n\tinterfaces = " + c.listens + "\n\tbind interfaces only = yes\n\tpid directory = " + s.Dir +
		"\n\tncalrpc dir = " + filepath.Join(s.Dir,
		"ncalrpc") + "\n\tldap server require strong auth = allow_sasl_over_tls\n\tlog level = 1 auth_json_audit:3 dsdb_json_audit:5 dsdb_password_json_audit:5\n"
	require.NoError(t,
		os.WriteFile(conf, []byte(strings.Replace(strings.Join(lines, ""), "[global]\n", extra, 1)), 0o600))
	Certificate(t, filepath.Join(s.Dir, "private", "tls"), c.host+".larkmoor.example")
	s.start = func(t testing.TB) {
		t.Helper()
		cmd := exec.Command(Program(t, "samba", "samba-ad-dc"), "-s", conf, "-i", "-M", "single")
		s.run(t, cmd, c.address+":636")
		s.Log = s.output
		time.Sleep(500 * time.Millisecond) // it listens a little before it answers
	}
	s.kdc = c.address
	url := "ldaps://" + c.address
	if c.address != "127.0.0.1" {
		url = "ldaps://" + c.host + ".larkmoor.example"
	}
	s.Yard = settings.Yard{
		Servers: []string{url},
		Base:    s.Base,
		CAFile:  filepath.Join(s.Dir, "private", "tls", "ca.pem"),
		Bind:    settings.Bind{DN: "administrator@larkmoor.example", PasswordFile: s.passwordFile(t)},
	}
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
	cmd.Stdin = strings.NewReader(
		"dn:\nchangetype: modify\nadd: enableOptionalFeature\nenableOptionalFeature: CN=Partitions,CN=Configuration," + s.Base + ":766ddcd8-acd0-445e-f3b9-a7f9b6744f2a\n",
	)
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
}

// Kinit gets a ticket for an account into a credential cache and returns the
// cache and the Kerberos configuration.
func (s *Server) Kinit(t testing.TB, account, password string, options ...string) (cache, conf string) {
	t.Helper()
	dir := t.TempDir()
	cache, conf = filepath.Join(dir, "cache"), filepath.Join(dir, "krb5.conf")
	require.NoError(t, os.WriteFile(conf, []byte(kerberosConf(s.kdc)), 0o600))
	cmd := exec.Command(
		Program(t, "kinit", "krb5-user"),
		append(options, "-c", "FILE:"+cache, account+"@LARKMOOR.EXAMPLE")...)
	cmd.Env = append(os.Environ(), "KRB5_CONFIG="+conf)
	cmd.Stdin = strings.NewReader(password + "\n")
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "kinit: %s", out)
	return cache, conf
}
