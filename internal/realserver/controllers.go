package realserver

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

const hosts = "127.0.0.1 localhost\n10.99.0.1 dc1.larkmoor.example dc1\n10.99.0.2 dc2.larkmoor.example dc2\n"

// kerberosConf asks some controllers, by their addresses, and no DNS.
func kerberosConf(kdcs ...string) string {
	text := "[libdefaults]\n default_realm = LARKMOOR.EXAMPLE\n dns_lookup_kdc = false\n dns_lookup_realm = false\n dns_canonicalize_hostname = false\n rdns = false\n udp_preference_limit = 1\n" +
		"[realms]\n LARKMOOR.EXAMPLE = {\n"
	for _, kdc := range kdcs {
		text += "  kdc = " + kdc + ":88\n"
	}
	return text + " }\n[domain_realm]\n .larkmoor.example = LARKMOOR.EXAMPLE\n"
}

// Controllers starts two Samba domain controllers of one domain, of which the
// second has joined the first. They replicate when Replicate says so, and never by
// themselves. The test must have network and mounts of its own.
func Controllers(t *testing.T) (one, two *Server) {
	t.Helper()
	dir := t.TempDir()
	ip := Program(t, "ip", "iproute2")
	for _, args := range [][]string{{"link", "add", "v0", "type", "veth", "peer", "name", "v1"}, {"link", "set", "v0", "up"}, {"link", "set", "v1", "up"},
		{"addr", "add", "10.99.0.1/24", "dev", "v0"}, {"addr", "add", "10.99.0.2/24", "dev", "v1"}} {
		command(t, dir, ip, args...)
	}
	for name, text := range map[string]string{"hosts": hosts, "krb5.conf": kerberosConf("10.99.0.1", "10.99.0.2")} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	command(t, dir, Program(t, "mount", "mount"), "--bind", filepath.Join(dir, "hosts"), "/etc/hosts")
	t.Setenv("KRB5_CONFIG", filepath.Join(dir, "krb5.conf"))
	const services = "ldap, cldap, kdc, rpc"
	first, second := &controller{
		"dc1",
		"10.99.0.1",
		"10.99.0.1/24",
		services,
	}, &controller{
		"dc2",
		"10.99.0.2",
		"10.99.0.2/24",
		services,
	}
	folders := []string{filepath.Join(dir, "one"), filepath.Join(dir, "two")}
	for _, folder := range folders {
		require.NoError(t, os.Mkdir(folder, 0o700))
	}
	one = first.provision(t, folders[0])
	t.Cleanup(func() { one.Stop() })
	time.Sleep(2 * time.Second) // its other services answer a little later
	two = second.server(t, folders[1])
	command(
		t,
		dir,
		Program(t, "samba-tool", "samba"),
		append(
			[]string{
				"domain",
				"join",
				"LARKMOOR.EXAMPLE",
				"DC",
				"--realm=LARKMOOR.EXAMPLE",
				"--server=dc1.larkmoor.example",
				"--username=Administrator",
				"--password=" + one.Password,
			},
			second.options(folders[1])...)...)
	second.ready(t, two)
	two.Start(t)
	t.Cleanup(func() { two.Stop() })
	return one, two
}

// Replicate brings what another controller has, written into this one's database.
func (s *Server) Replicate(t testing.TB, from *Server) {
	t.Helper()
	s.Tool(t, "drs", "replicate", s.hostName(), from.hostName(), s.Base, "--local", "--username=Administrator",
		"--password="+s.Password)
}

func (s *Server) hostName() string { return s.Yard.Servers[0][len("ldaps://"):] }
