package realserver

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// KeyServer is a Kerberos key server of MIT, alone, without a directory.
type KeyServer struct {
	*Server
	env []string
}

const keyServerRealm = "LARKMOOR.EXAMPLE"

// MIT starts a key server with an empty realm, LARKMOOR.EXAMPLE, which wants clients to
// prove who they are before they are given a ticket.
func MIT(t testing.TB) *KeyServer {
	t.Helper()
	kdc, util := Program(t, "krb5kdc", "krb5-kdc"), Program(t, "kdb5_util", "krb5-kdc")
	k := &KeyServer{Server: &Server{Name: "krb5kdc", Dir: t.TempDir()}}
	port := freePort(t)
	k.Log = filepath.Join(k.Dir, "kdc.log")
	files := map[string]string{
		"krb5.conf": fmt.Sprintf("[libdefaults]\n default_realm = %s\n dns_lookup_kdc = false\n dns_lookup_realm = false\n rdns = false\n udp_preference_limit = 1\n[realms]\n %s = {\n  kdc = 127.0.0.1:%d\n }\n",
			keyServerRealm, keyServerRealm, port),
		"kdc.conf": fmt.Sprintf("[realms]\n %s = {\n  database_name = %s/principal\n  key_stash_file = %s/stash\n  kdc_listen = 127.0.0.1:%d\n  kdc_tcp_listen = 127.0.0.1:%d\n  default_principal_flags = +preauth\n }\n[logging]\n kdc = FILE:%s\n",
			keyServerRealm, k.Dir, k.Dir, port, port, k.Log),
	}
	for name, text := range files {
		require.NoError(t, os.WriteFile(filepath.Join(k.Dir, name), []byte(text), 0o600))
	}
	k.env = append(os.Environ(), "KRB5_CONFIG="+filepath.Join(k.Dir, "krb5.conf"), "KRB5_KDC_PROFILE="+filepath.Join(k.Dir, "kdc.conf"))
	create := exec.Command(util, "create", "-s", "-r", keyServerRealm, "-P", "practice only")
	create.Env = k.env
	out, err := create.CombinedOutput()
	require.NoError(t, err, "%s", out)
	cmd := exec.Command(kdc, "-n")
	cmd.Env = k.env
	k.run(t, cmd, fmt.Sprintf("127.0.0.1:%d", port))
	t.Cleanup(k.Stop)
	return k
}

// Admin runs a command of the realm's administration, such as "addprinc -pw secret ada".
func (k *KeyServer) Admin(t testing.TB, command string) {
	t.Helper()
	cmd := exec.Command(Program(t, "kadmin.local", "krb5-admin-server"), "-q", command)
	cmd.Env = k.env
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
}

// SignIn asks for a ticket with a password, and tells whether it was given.
func (k *KeyServer) SignIn(t testing.TB, who, password string) bool {
	t.Helper()
	cmd := exec.Command(Program(t, "kinit", "krb5-user"), "-c", "FILE:"+filepath.Join(k.Dir, "cc"), who)
	cmd.Env, cmd.Stdin = append(k.env, "LC_ALL=C"), strings.NewReader(password+"\n")
	return cmd.Run() == nil
}
