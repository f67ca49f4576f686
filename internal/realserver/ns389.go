package realserver

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/settings"
)

// ns389Backend makes a database and its naming context.
var ns389Backend = []struct {
	dn    string
	attrs map[string][]string
}{
	{
		"cn=larkmoor,cn=ldbm database,cn=plugins,cn=config",
		map[string][]string{"objectClass": {"extensibleObject", "nsBackendInstance"}, "nsslapd-suffix": {OpenLDAPBase}},
	},
	{
		`cn=dc\3Dlarkmoor\2Cdc\3Dexample,cn=mapping tree,cn=config`,
		map[string][]string{
			"objectClass":     {"extensibleObject", "nsMappingTree"},
			"cn":              {OpenLDAPBase},
			"nsslapd-state":   {"backend"},
			"nsslapd-backend": {"larkmoor"},
		},
	},
	{OpenLDAPBase, map[string][]string{"objectClass": {"domain"}}},
}

// NS389 starts a 389 Directory Server that records sign-ins and locks after
// three wrong passwords. It keeps its files where its packages want them, in
// folders of a name of its own, which Stop takes away.
func NS389(t testing.TB, dir string) *Server {
	t.Helper()
	return makeNS389(t, dir, "", ns389Config)
}

// SyncingNS389 starts one that also tells others what has changed (RFC 4533).
func SyncingNS389(t testing.TB, dir string) *Server {
	t.Helper()
	return makeNS389(t, dir, "s", func(text, password string) string { return syncingConfig(ns389Config(text, password)) })
}

func makeNS389(t testing.TB, dir, suffix string, edit func(text, password string) string) *Server {
	t.Helper()
	create, program := Program(t, "dscreate", "389-ds-base"), Program(t, "ns-slapd", "389-ds-base")
	Root(t, "a 389 Directory Server can be made")
	name := fmt.Sprintf("yb%d%s", os.Getpid(), suffix)
	s := &Server{Name: "389 Directory Server", Base: OpenLDAPBase, Password: "Admin-secret1", Dir: dir}
	port := freePort(t)
	for _, folder := range []string{"/etc/dirsrv/slapd-", "/var/lib/dirsrv/slapd-", "/var/log/dirsrv/slapd-", "/var/lock/dirsrv/slapd-", "/run/slapd-"} {
		s.folders = append(s.folders, folder+name, folder+name+".socket")
	}
	s.folders = append(s.folders, "/run/dirsrv/slapd-"+name+".stats")
	inf := filepath.Join(dir, "instance.inf")
	require.NoError(t, os.WriteFile(inf, fmt.Appendf(nil, `[general]
config_version = 2
full_machine_name = localhost.localdomain
start = False
strict_host_checking = False
selinux = False
systemd = False
[slapd]
instance_name = %s
port = %d
secure_port = 0
self_sign_cert = False
root_password = %s
user = root
group = root
`, name, port, s.Password), 0o600))
	// It ends with an error for want of systemd, after all is written.
	out, _ := exec.Command(create, "from-file", inf).CombinedOutput()
	config := "/etc/dirsrv/slapd-" + name + "/dse.ldif"
	text, err := os.ReadFile(config)
	require.NoError(t, err, "%s", out)
	require.NoError(t, os.WriteFile(config, []byte(edit(string(text), s.Password)), 0o600))
	s.start = func(t testing.TB) {
		s.run(t, exec.Command(program, "-D", "/etc/dirsrv/slapd-"+name, "-i", filepath.Join(dir, "pid"), "-d", "0"),
			fmt.Sprintf("127.0.0.1:%d", port))
		s.bindNS389(t).Close()
	}
	s.Yard = settings.Yard{Servers: []string{fmt.Sprintf("ldap://127.0.0.1:%d", port)}, Base: s.Base,
		Bind: settings.Bind{DN: "cn=Directory Manager", PasswordFile: s.passwordFile(t)}}
	s.SocketURL = "ldapi://" + escapeSocket("/run/slapd-"+name+".socket")
	s.Log, s.SecurityLog = "/var/log/dirsrv/slapd-"+name+"/access", "/var/log/dirsrv/slapd-"+name+"/security"
	s.Start(t)
	s.fillNS389(t)
	return s
}

// editConfig edits the lines of a server's configuration, which is LDIF with folded
// lines, each with the name of its entry.
func editConfig(text string, edit func(entry, line string) string) string {
	var out []string
	entry := ""
	for line := range strings.SplitSeq(strings.ReplaceAll(text, "\n ", ""), "\n") {
		if dn, ok := strings.CutPrefix(line, "dn: "); ok {
			entry = dn
		}
		out = append(out, edit(entry, line))
	}
	return strings.Join(out, "\n")
}

// ns389Config sets what the tests need in the server's configuration.
func ns389Config(text, password string) string {
	return editConfig(text, func(entry, line string) string {
		switch {
		case strings.HasPrefix(line, "nsslapd-rootpw:"):
			return "nsslapd-rootpw: {CLEAR}" + password + "\nnsslapd-listenhost: 127.0.0.1\nnsslapd-accesslog-logbuffering: off\nnsslapd-securitylog-logbuffering: off\npasswordLockout: on\npasswordMaxFailure: 3\npasswordUnlock: on\npasswordLockoutDuration: 3600\npasswordTrackUpdateTime: on"
		case line == "nsslapd-pluginEnabled: off" && strings.HasPrefix(entry, "cn=Account Policy Plugin,"):
			return "nsslapd-pluginEnabled: on"
		case strings.EqualFold(line, "alwaysrecordlogin: no"):
			return "alwaysRecordLogin: yes\nstateattrname: lastLoginTime\naltstateattrname: createTimestamp\nspecattrname: acctPolicySubentry\nlimitattrname: accountInactivityLimit"
		}
		return line
	})
}

// syncingConfig switches content synchronisation on, and the log of changes that it reads,
// which has to hold identities.
func syncingConfig(text string) string {
	return editConfig(text, func(entry, line string) string {
		switch {
		case !strings.EqualFold(line, "nsslapd-pluginEnabled: off"):
		case strings.HasPrefix(entry, "cn=Content Synchronization,"):
			return "nsslapd-pluginEnabled: on"
		case strings.HasPrefix(entry, "cn=Retro Changelog Plugin,"):
			return "nsslapd-pluginEnabled: on\nnsslapd-attribute: nsuniqueid:targetUniqueId"
		}
		return line
	})
}

// bindNS389 waits for the server, which listens before it is ready.
func (s *Server) bindNS389(t testing.TB) *ldap.Conn {
	t.Helper()
	var last error
	for range 100 {
		conn, err := ldap.DialURL(s.Yard.Servers[0])
		if err == nil {
			if err = conn.Bind(s.Yard.Bind.DN, s.Password); err == nil {
				return conn
			}
			conn.Close()
		}
		last = err
		time.Sleep(100 * time.Millisecond)
	}
	require.NoError(t, last)
	return nil
}

func (s *Server) fillNS389(t testing.TB) {
	t.Helper()
	conn := s.bindNS389(t)
	defer conn.Close()
	for _, e := range ns389Backend {
		req := ldap.NewAddRequest(e.dn, nil)
		for attr, values := range e.attrs {
			req.Attribute(attr, values)
		}
		require.NoError(t, conn.Add(req), e.dn)
	}
}
