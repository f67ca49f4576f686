// Package realserver starts real directory servers for tests, on loopback,
// with data of their own: a Samba AD domain controller, OpenLDAP's slapd
// and a 389 Directory Server.
// Where a server is not installed a test skips and says so, unless
// YARDBROOM_SERVERS=required, which makes it fail.
package realserver

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"math/big"
	mathrand "math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yardbroom/internal/settings"
)

// Server is a running server and how to reach it as its administrator.
type Server struct {
	Name string
	Yard settings.Yard
	Base string
	// Password of the administrator, also in Yard.Bind.PasswordFile.
	Password string
	// TLSURL and SocketURL are the other ways to a slapd, the second also to a
	// 389 Directory Server.
	TLSURL, SocketURL string
	Dir               string   // of its data
	folders           []string // that the server made elsewhere
	kdc               string   // the address at which it gives tickets
	start             func(testing.TB)
	ended             chan struct{} // closed when the process has ended
	process           *exec.Cmd
	// Log is the file that the server writes to what happens, sign-ins among it.
	Log string
	// SecurityLog is the other one of a 389 Directory Server.
	SecurityLog string
	output      string // what it says of itself, often its log
}

// Program returns the path of an installed program; where it is not
// installed the test is skipped, or fails if it must not be.
func Program(t testing.TB, program, pkg string) string {
	t.Helper()
	if testing.Short() {
		t.Skipf("a short run starts no %s", program)
	}
	for _, dir := range []string{"", "/usr/sbin/", "/usr/bin/", "/usr/local/sbin/"} {
		if path, err := exec.LookPath(dir + program); err == nil {
			return path
		}
	}
	unavailable(t, "%s is not installed (Debian package %s)", program, pkg)
	return ""
}

// Root skips a test, or fails it if it must not be, where it is not root's.
func Root(t testing.TB, what string) {
	t.Helper()
	if os.Getuid() != 0 {
		unavailable(t, "%s by root only", what)
	}
}

func unavailable(t testing.TB, format string, args ...any) {
	t.Helper()
	if os.Getenv("YARDBROOM_SERVERS") == "required" {
		t.Fatalf(format, args...)
	}
	noteSkipped(t, fmt.Sprintf(format, args...))
	t.Skipf(format, args...)
}

// noteSkipped writes down why a test is skipped, where somebody wants to read it
// at the end: in the file that YARDBROOM_SKIPPED names.
func noteSkipped(t testing.TB, why string) {
	if path := os.Getenv("YARDBROOM_SKIPPED"); path != "" {
		file, err := os.OpenFile(path, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o600)
		require.NoError(t, err)
		_, err = fmt.Fprintf(file, "%s: %s\n", t.Name(), why)
		require.NoError(t, errors.Join(err, file.Close()))
	}
}

func (s *Server) passwordFile(t testing.TB) string {
	path := filepath.Join(s.Dir, "password")
	require.NoError(t, os.WriteFile(path, []byte(s.Password+"\n"), 0o600))
	return path
}

// run starts the server's process and ends it with the test.
func (s *Server) run(t testing.TB, cmd *exec.Cmd, addr string) {
	t.Helper()
	if c, err := net.Dial("tcp", addr); err == nil {
		c.Close()
		t.Fatalf("%s cannot be started: something answers at %s already", s.Name, addr)
	}
	tie(cmd)
	s.output = filepath.Join(s.Dir, "output.log")
	out, err := os.OpenFile(s.output, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	require.NoError(t, err)
	defer out.Close()
	cmd.Stdout, cmd.Stderr = out, out
	require.NoError(t, cmd.Start())
	s.process, s.ended = cmd, make(chan struct{})
	go func(ended chan struct{}) {
		_ = cmd.Wait()
		close(ended)
	}(s.ended)
	// A disk may stall for long on a busy machine.
	for late := time.After(2 * time.Minute); ; {
		if c, err := net.Dial("tcp", addr); err == nil {
			c.Close()
			return
		}
		select {
		case <-s.ended:
			t.Fatalf("%s ended before it answered at %s:\n%s", s.Name, addr, s.said())
		case <-late:
			s.Stop()
			t.Fatalf("%s did not answer at %s:\n%s", s.Name, addr, s.said())
		case <-time.After(100 * time.Millisecond):
		}
	}
}

// said is what the server has said of itself.
func (s *Server) said() string {
	text, err := os.ReadFile(s.output)
	if err != nil {
		return err.Error()
	}
	return string(text)
}

// Stop ends the server at once, for good.
func (s *Server) Stop() {
	s.Kill()
	for _, folder := range s.folders {
		_ = os.RemoveAll(folder)
	}
}

// Start starts the server again, after Kill.
func (s *Server) Start(t testing.TB) {
	t.Helper()
	s.start(t)
}

// Kill ends the server at once, without a chance to put anything in order.
func (s *Server) Kill() {
	if s.process != nil {
		killAll(s.process)
		<-s.ended
		s.process = nil
	}
}

// freePort returns a port on which nothing listens. It lies below those that
// systems give to outgoing connections, so that none of these takes it before
// the server has it.
func freePort(t testing.TB) int {
	t.Helper()
	for range 100 {
		port := 12000 + mathrand.IntN(20000)
		if ln, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port)); err == nil {
			ln.Close()
			return port
		}
	}
	t.Fatal("no free port")
	return 0
}

// Certificate makes an authority and a server certificate for a name and
// 127.0.0.1, and writes ca.pem, cert.pem and key.pem into a folder.
func Certificate(t testing.TB, dir, name string) {
	t.Helper()
	make509 := func(template, parent *x509.Certificate, parentKey *ecdsa.PrivateKey) ([]byte, *ecdsa.PrivateKey) {
		key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		require.NoError(t, err)
		if parentKey == nil {
			parent, parentKey = template, key
		}
		der, err := x509.CreateCertificate(rand.Reader, template, parent, &key.PublicKey, parentKey)
		require.NoError(t, err)
		return der, key
	}
	ca := &x509.Certificate{
		SerialNumber: big.NewInt(1),
		Subject:      pkix.Name{CommonName: "Larkmoor test authority"},
		NotBefore:    time.Now().Add(-time.Hour),
		NotAfter: time.Now().
			Add(48 * time.Hour),
		IsCA:                  true,
		BasicConstraintsValid: true,
		KeyUsage:              x509.KeyUsageCertSign,
	}
	caDER, caKey := make509(ca, nil, nil)
	leaf := &x509.Certificate{
		SerialNumber: big.NewInt(2),
		Subject:      pkix.Name{CommonName: name},
		NotBefore:    ca.NotBefore,
		NotAfter:     ca.NotAfter,
		DNSNames: []string{
			name,
			"localhost",
		},
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)},
		KeyUsage:    x509.KeyUsageDigitalSignature,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
	}
	leafDER, leafKey := make509(leaf, ca, caKey)
	keyDER, err := x509.MarshalPKCS8PrivateKey(leafKey)
	require.NoError(t, err)
	require.NoError(t, os.MkdirAll(dir, 0o700))
	for file, block := range map[string]*pem.Block{"ca.pem": {Type: "CERTIFICATE", Bytes: caDER}, "cert.pem": {Type: "CERTIFICATE", Bytes: leafDER}, "key.pem": {Type: "PRIVATE KEY", Bytes: keyDER}} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, file), pem.EncodeToMemory(block), 0o600))
	}
}

// command runs a program to its end.
func command(t testing.TB, dir, name string, args ...string) {
	t.Helper()
	cmd := exec.Command(name, args...)
	cmd.Dir = dir
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s %v:\n%s", name, args, out)
}
