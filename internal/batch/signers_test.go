package batch

import (
	"bytes"
	"crypto/ed25519"
	"crypto/rand"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/hiddeco/sshsig"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
)

// TestTheListOfSignersIsReadAsOpenSSHReadsIt holds the reading of the list
// against ssh-keygen itself: a signature that we count, it counts too. Where we
// are stricter, the table says so.
func TestTheListOfSignersIsReadAsOpenSSHReadsIt(t *testing.T) {
	_, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	with, err := ssh.NewSignerFromKey(private)
	require.NoError(t, err)
	_, private, err = ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	stranger, err := ssh.NewSignerFromKey(private)
	require.NoError(t, err)
	text := func(s ssh.Signer) string { return strings.TrimSpace(string(ssh.MarshalAuthorizedKey(s.PublicKey()))) }
	for _, c := range []struct {
		name, list string
		owner      string // as whom the key counts, "" for nobody
		strict     bool   // OpenSSH takes it, and we do not
		stager     string // somebody who must not sign with it
	}{
		{"one name", "bob@x KEY\n", "bob@x", false, "bob@y"},
		{"several names", "bob@x,root@vm KEY\n", "bob@x", false, "root@vm"},
		{"names in quotes", "\"bob@x,root@vm\" KEY\n", "bob@x", false, "ROOT@other"},
		{"tabs, blanks before, a comment behind", "# people\n\n \tbob@x\t\tKEY Bob at work\n", "bob@x", false, "bob"},
		{"a carriage return", "bob@x KEY\r\n", "bob@x", false, "bob"},
		{"a long line", "bob@x KEY " + strings.Repeat("n", 20000) + "\n", "bob@x", false, "bob"},
		{"two lines of one key", "ann@x valid-before=\"20200101\" KEY\nann@x KEY\n", "ann@x", false, "ann"},
		{"two lines, two people", "ann@x KEY\nbob@x KEY\n", "ann@x", false, "bob@x"},
		{"another's line first", "ann@x OTHER\nbob@x KEY\n", "bob@x", false, "bob"},
		{"everybody", "* KEY\n", "", true, ""},
		{"a pattern", "r*t@vm KEY\n", "", true, ""},
		{"a negation", "!root@vm,* KEY\n", "", true, ""},
		{"a name and a pattern", "bob@x,?oot KEY\n", "", true, ""},
		{"a comma before", ",bob@x KEY\n", "", true, ""},
		{"a comma behind", "bob@x, KEY\n", "", true, ""},
		{"a byte order mark", "\ufeffbob@x KEY\n", "", true, ""},
		{"our namespace", "bob@x namespaces=\"batch@yardbroom\" KEY\n", "bob@x", false, "bob"},
		{"our namespace among others", "bob@x NAMESPACES=\"git,batch@*\" KEY\n", "bob@x", false, "bob"},
		{"another namespace", "bob@x namespaces=\"git\" KEY\n", "", false, ""},
		{"all but ours", "bob@x namespaces=\"*,!batch@yardbroom\" KEY\n", "", false, ""},
		{"all but ours, the other way round", "bob@x namespaces=\"!batch@*,*\" KEY\n", "", false, ""},
		{"an option twice", "bob@x namespaces=\"git\",namespaces=\"batch@yardbroom\" KEY\n", "", false, ""},
		{"an option without quotes", "bob@x namespaces=git KEY\n", "", false, ""},
		{"an unknown option", "bob@x colour=\"blue\" KEY\n", "", false, ""},
		{"an authority", "bob@x cert-authority KEY\n", "", false, ""},
		{"valid", "bob@x valid-after=\"20200101\",valid-before=\"29990101Z\" KEY\n", "bob@x", false, "bob"},
		{"no longer valid", "bob@x valid-before=\"20200101\" KEY\n", "", false, ""},
		{"not yet valid", "bob@x valid-after=\"29990101\" KEY\n", "", false, ""},
		{"valid at no time", "bob@x valid-after=\"20210101\",valid-before=\"20200101\" KEY\n", "", false, ""},
		{"a quote that does not end", "\"bob@x KEY\n", "", false, ""},
		{"no key", "bob@x\n", "", false, ""},
		{"a key that is none", "bob@x ssh-ed25519 AAAA\n", "", false, ""},
		{"nobody", "", "", false, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			list := strings.NewReplacer("KEY", text(with), "OTHER", text(stranger)).Replace(c.list)
			all, err := parseSigners(list)
			var who *owner
			if err == nil {
				who, err = all.find(with.PublicKey(), time.Now(), SignatureNamespace)
			}
			if c.owner == "" {
				require.Error(t, err)
			} else {
				require.NoError(t, err)
				assert.Equal(t, c.owner, who.principal)
				assert.True(t, who.is(c.stager), "%s must not sign with it", c.stager)
				assert.False(t, who.is("zoe@x"))
			}
			assert.Equal(t, c.owner != "" || c.strict, openSSHCounts(t, list, with, c.owner), "ssh-keygen's word")
		})
	}
}

// openSSHCounts asks ssh-keygen whether it takes a signature with the key.
func openSSHCounts(t *testing.T, list string, with ssh.Signer, principal string) bool {
	keygen, err := exec.LookPath("ssh-keygen")
	if err != nil {
		if os.Getenv("YARDBROOM_SERVERS") == "required" {
			t.Fatal("ssh-keygen is not installed")
		}
		t.Skip("ssh-keygen is not installed")
	}
	dir := t.TempDir()
	write := func(name string, text []byte) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, text, 0o600))
		return path
	}
	message := []byte("a batch")
	sig, err := sshsig.Sign(bytes.NewReader(message), with, sshsig.HashSHA512, SignatureNamespace)
	require.NoError(t, err)
	signers, signature := write("signers", []byte(list)), write("sig", sshsig.Armor(sig))
	if principal == "" {
		out, err := exec.Command(keygen, "-Y", "find-principals", "-s", signature, "-f", signers).Output()
		if err != nil {
			return false
		}
		principal, _, _ = strings.Cut(strings.ReplaceAll(string(out), "\n", ","), ",")
		principal = strings.Trim(strings.NewReplacer("*", "x", "?", "r", "!", "").Replace(principal), "\n")
		if strings.HasPrefix(list, ",") {
			principal = "bob@x"
		}
		if strings.HasPrefix(list, "!") {
			principal = "zoe@x"
		}
	}
	verify := exec.Command(keygen, "-Y", "verify", "-f", signers, "-I", principal, "-n", SignatureNamespace, "-s", signature)
	verify.Stdin = bytes.NewReader(message)
	return verify.Run() == nil
}

func TestPatternsMatchAsThoseOfOpenSSH(t *testing.T) {
	for _, c := range []struct {
		name, list string
		want       bool
	}{
		{"git", "git", true}, {"git", "gi", false}, {"git", "g?t", true}, {"git", "*", true}, {"", "*", true}, {"", "?", false}, {"git", "g*t*", true},
		{"git", "a,git", true}, {"git", "!git,*", false}, {"git", "*,!git", false}, {"git", "!git", false}, {"hub", "!git", false}, {"hub", "!git,*", true}, {"g[i]t", "g[i]t", true}, {"git", "g[i]t", false},
	} {
		assert.Equal(t, c.want, matchesList(c.name, c.list), "%s in %s", c.name, c.list)
	}
}
