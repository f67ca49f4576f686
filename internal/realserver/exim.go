package realserver

import (
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yardbroom/internal/settings"
)

// eximConf is a mail server that takes mail by who has signed in over TLS, knows no
// "nobody", puts "grey" off until a file says otherwise, and hangs up on "closing".
const eximConf = `primary_hostname = mail.larkmoor.example
spool_directory = %[1]s/spool
log_file_path = %[1]s/log/%%slog
pid_file_path = %[1]s/exim.pid
exim_user = %[5]s
exim_group = %[6]s
daemon_smtp_ports = %[2]d : %[3]d
tls_on_connect_ports = %[3]d
local_interfaces = 127.0.0.1
tls_advertise_hosts = %[4]s
tls_certificate = %[1]s/tls/cert.pem
tls_privatekey = %[1]s/tls/key.pem
auth_advertise_hosts = ${if eq{$tls_in_cipher}{}{}{*}}
acl_smtp_rcpt = rcpt
acl_smtp_data = accept
deliver_drop_privilege
never_users =
disable_ipv6
host_lookup =
rfc1413_hosts =
keep_environment =
begin acl
rcpt:
  deny    !authenticated = *
          message = sign in first
  deny    local_parts = nobody
          message = no such user here
  defer   local_parts = grey
          condition = ${if !exists{%[1]s/known}}
          message = greylisted, try again later
  drop    local_parts = closing
          message = out of here
  accept
begin routers
all:
  driver = accept
  transport = box
begin transports
box:
  driver = appendfile
  file = %[1]s/mail/box
  envelope_to_add
  user = %[5]s
begin authenticators
plain:
  driver = plaintext
  public_name = PLAIN
  server_prompts = :
  server_condition = ${if and{{eq{$auth2}{yardbroom}}{eq{$auth3}{practice only}}}}
  server_set_id = $auth2
`

// MailServer is a running mail server, and how to send by it.
type MailServer struct {
	Server
	// Settings are of STARTTLS, by a certificate that CAFile has made; TLSAddress is
	// where it speaks TLS from the beginning.
	Settings   settings.Mail
	TLSAddress string
}

// Mail starts an Exim. One that offers no encryption is asked for with no names of
// hosts that get it.
func Mail(t testing.TB, encryptedFor string) *MailServer {
	t.Helper()
	exim := Program(t, "exim4", "exim4-daemon-light")
	Root(t, "a mail server is started")
	const owner = "Debian-exim"
	as, err := user.Lookup(owner)
	require.NoError(t, err)
	uid, err := strconv.Atoi(as.Uid)
	require.NoError(t, err)
	gid, err := strconv.Atoi(as.Gid)
	require.NoError(t, err)
	// Its processes run as somebody else, who has to get there.
	dir, err := os.MkdirTemp("", "yardbroom-mail-")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	Certificate(t, filepath.Join(dir, "tls"), "mail.larkmoor.example")
	for _, name := range []string{"", "spool", "log", "mail", "tls"} {
		require.NoError(t, os.MkdirAll(filepath.Join(dir, name), 0o755))
		require.NoError(t, os.Chmod(filepath.Join(dir, name), 0o755))
		require.NoError(t, os.Chown(filepath.Join(dir, name), uid, gid))
	}
	for _, name := range []string{"cert.pem", "key.pem"} {
		require.NoError(t, os.Chown(filepath.Join(dir, "tls", name), uid, gid))
	}
	port, tlsPort := freePort(t), freePort(t)
	conf := filepath.Join(dir, "exim.conf")
	require.NoError(t, os.WriteFile(conf, fmt.Appendf(nil, eximConf, dir, port, tlsPort, encryptedFor, owner, owner), 0o600))
	password := filepath.Join(dir, "password")
	require.NoError(t, os.WriteFile(password, []byte("practice only\n"), 0o600))
	m := &MailServer{Server: Server{Name: "exim", Dir: dir}, TLSAddress: fmt.Sprintf("127.0.0.1:%d", tlsPort),
		Settings: settings.Mail{Server: fmt.Sprintf("127.0.0.1:%d", port), CAFile: filepath.Join(dir, "tls", "ca.pem"),
			From: "Yard Broom <yardbroom@larkmoor.example>", Name: "yardbroom", PasswordFile: password}}
	m.start = func(t testing.TB) { m.run(t, exec.Command(exim, "-C", conf, "-bdf", "-q1m"), m.Settings.Server) }
	m.start(t)
	t.Cleanup(m.Stop)
	return m
}

// Box is all mail that was taken, one after the other, each with the address that it
// was for (Envelope-to).
func (m *MailServer) Box(t testing.TB) string {
	t.Helper()
	text, err := os.ReadFile(filepath.Join(m.Dir, "mail", "box"))
	if os.IsNotExist(err) {
		return ""
	}
	require.NoError(t, err)
	return strings.ReplaceAll(string(text), "\r\n", "\n")
}

// Knows lets the server take mail for whom it has put off.
func (m *MailServer) Knows(t testing.TB) {
	t.Helper()
	path := filepath.Join(m.Dir, "known")
	require.NoError(t, os.WriteFile(path, nil, 0o644))
	require.NoError(t, os.Chmod(path, 0o644))
}
