package realserver

import (
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"testing"

	"github.com/stretchr/testify/require"

	"yardbroom/internal/settings"
)

// dovecotConf is a mailbox of one user, by whose password over TLS.
const dovecotConf = `base_dir = %[1]s/run
log_path = %[1]s/log
protocols = imap
listen = 127.0.0.1
mail_location = maildir:%[1]s/box
mail_uid = %[4]s
mail_gid = %[4]s
first_valid_uid = 1
ssl = required
ssl_cert = <%[1]s/tls/cert.pem
ssl_key = <%[1]s/tls/key.pem
disable_plaintext_auth = yes
default_internal_user = dovecot
default_login_user = dovenull
passdb {
  driver = passwd-file
  args = scheme=PLAIN %[1]s/users
}
userdb {
  driver = static
  args = uid=%[4]s gid=%[4]s home=%[1]s
}
service imap-login {
  inet_listener imap {
    port = %[2]d
  }
  inet_listener imaps {
    port = %[3]d
    ssl = yes
  }
}
service anvil {
  chroot =
}
service stats {
  chroot =
}
`

// Mailbox is a running IMAP server with one mailbox.
type Mailbox struct {
	Server
	// Settings are of TLS from the beginning, by a certificate that CAFile has made;
	// StartTLSAddress is where it begins unencrypted.
	Settings        settings.Answers
	StartTLSAddress string
	uid, gid        int
}

// IMAP starts a Dovecot.
func IMAP(t testing.TB) *Mailbox {
	t.Helper()
	dovecot := Program(t, "dovecot", "dovecot-imapd")
	Root(t, "a mailbox server is started")
	const owner = "mail"
	as, err := user.Lookup(owner)
	require.NoError(t, err)
	m := &Mailbox{}
	m.uid, err = strconv.Atoi(as.Uid)
	require.NoError(t, err)
	m.gid, err = strconv.Atoi(as.Gid)
	require.NoError(t, err)
	dir, err := os.MkdirTemp("", "yardbroom-imap-")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	require.NoError(t, os.Chmod(dir, 0o755))
	Certificate(t, filepath.Join(dir, "tls"), "imap.larkmoor.example")
	for _, name := range []string{"box", "box/new", "box/cur", "box/tmp"} {
		require.NoError(t, os.Mkdir(filepath.Join(dir, name), 0o700))
		require.NoError(t, os.Chown(filepath.Join(dir, name), m.uid, m.gid))
	}
	port, tlsPort := freePort(t), freePort(t)
	conf := filepath.Join(dir, "dovecot.conf")
	text := fmt.Sprintf(dovecotConf, dir, port, tlsPort, owner)
	require.NoError(t, os.WriteFile(conf, []byte(text), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "users"), []byte("objections:{PLAIN}practice only\n"), 0o644))
	password := filepath.Join(dir, "password")
	require.NoError(t, os.WriteFile(password, []byte("practice only\n"), 0o600))
	m.Server = Server{Name: "dovecot", Dir: dir}
	m.StartTLSAddress = fmt.Sprintf("127.0.0.1:%d", port)
	m.Settings = settings.Answers{Server: fmt.Sprintf("127.0.0.1:%d", tlsPort), CAFile: filepath.Join(dir, "tls", "ca.pem"), Name: "objections", PasswordFile: password}
	m.start = func(t testing.TB) { m.run(t, exec.Command(dovecot, "-F", "-c", conf), m.Settings.Server) }
	m.start(t)
	t.Cleanup(m.Stop)
	return m
}

// Comes puts a mail into the mailbox.
func (m *Mailbox) Comes(t testing.TB, name, text string) {
	t.Helper()
	path := filepath.Join(m.Dir, "box", "new", name)
	require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	require.NoError(t, os.Chown(path, m.uid, m.gid))
}
