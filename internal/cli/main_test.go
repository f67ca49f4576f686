package cli

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"database/sql"
	"encoding/pem"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/rogpeppe/go-internal/testscript"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"yardbroom/internal/demo"
	"yardbroom/internal/directory"
	"yardbroom/internal/practice"
)

// asProgram makes the test binary the program itself, so that tests can
// start it, kill it and start it again.
const asProgram = "YARDBROOM_TEST_AS_PROGRAM"

func TestMain(m *testing.M) {
	if os.Getenv(asProgram) != "" {
		os.Exit(Program())
	}
	testscript.Main(m, map[string]func(){
		"yardbroom": func() { os.Exit(Program()) },
	})
}

// scriptTime is the moment that the scripts' yard is made for.
var scriptTime = time.Date(2026, 11, 20, 12, 0, 0, 0, time.UTC)

// long skips a test that a short run has no time for.
func long(t *testing.T) {
	t.Helper()
	if testing.Short() {
		t.Skip("too long for a short run")
	}
}

// shortScripts are the stories that a short run has time for.
var shortScripts = []string{"first_audit", "live_story", "staging", "drift_and_protection"}

// scripts are the stories to run; nil for all of them.
func scripts() (files []string) {
	if testing.Short() {
		for _, name := range shortScripts {
			files = append(files, filepath.Join("testdata", "script", name+".txtar"))
		}
	}
	return files
}

// scriptFolder is where all stories are, "" where some are named.
func scriptFolder() string {
	if testing.Short() {
		return ""
	}
	return filepath.Join("testdata", "script")
}

// TestScripts runs the stories in testdata/script. Each has the demo yard as
// larkmoor.ldif, and as a live directory that the settings call observatory.
func TestScripts(t *testing.T) {
	var ldif bytes.Buffer
	yard := demo.Yard{AsOf: scriptTime}
	require.NoError(t, yard.WriteLDIF(&ldif))
	testscript.Run(t, testscript.Params{
		Dir:                 scriptFolder(),
		Files:               scripts(),
		RequireExplicitExec: true,
		Setup: func(env *testscript.Env) error {
			if err := os.WriteFile(filepath.Join(env.WorkDir, "larkmoor.ldif"), ldif.Bytes(), 0o600); err != nil {
				return err
			}
			dir := practice.New(demo.Base, demo.SID, func() time.Time { return scriptTime })
			if err := dir.Load(bytes.NewReader(ldif.Bytes())); err != nil {
				return err
			}
			ctx, cancel := context.WithCancel(context.Background())
			env.Defer(cancel)
			server := &practice.Server{Dir: dir, Account: demo.Account, Password: "practice only", Host: "dc1.larkmoor.example"}
			url, err := server.Listen(ctx, "127.0.0.1:0")
			if err != nil {
				return err
			}
			// The second server holds the same, but has seen sign-ins of its own.
			other := practice.New(demo.Base, demo.SID, func() time.Time { return scriptTime })
			if err := other.Load(bytes.NewReader(ldif.Bytes())); err != nil {
				return err
			}
			dc2 := &practice.Server{Dir: other, Account: demo.Account, Password: "practice only", Host: "dc2.larkmoor.example"}
			url2, err := dc2.Listen(ctx, "127.0.0.1:0")
			if err != nil {
				return err
			}
			other.Edit("CN=svc-plate-scanner,OU=Service Accounts,"+demo.Base, func(e *directory.Entry) {
				e.Set("lastLogon", directory.FormatFileTime(scriptTime.AddDate(0, 0, -100)))
			})
			env.Values["directory"], env.Values["directory2"] = dir, other
			env.Setenv("URL", url)
			env.Setenv("URL2", url2)
			env.Setenv("YARDBROOM_CONFIG", filepath.Join(env.WorkDir, "settings.yaml"))
			env.Setenv("YARDBROOM_STATE", filepath.Join(env.WorkDir, "state"))
			env.Setenv("TZ", "UTC")
			if err := makeKey(env.WorkDir, "me", "keeper@larkmoor.example"); err != nil {
				return err
			}
			return os.WriteFile(filepath.Join(env.WorkDir, "settings.yaml"), fmt.Appendf(nil, `default: observatory
yards:
  observatory:
    servers: ["%s"]
    bind: {dn: "%s@larkmoor.example", password_env: YARD_PASSWORD}
audit:
  parking: ["OU=Parked,%s"]
signing: {allowed_signers: allowed_signers, me: me}
`, url, demo.Account, demo.Base), 0o600)
		},
		Condition: func(cond string) (bool, error) {
			switch cond {
			case "root":
				return os.Geteuid() == 0, nil
			case "mounts": // of our own can be made
				return exec.Command("unshare", "--mount", "true").Run() == nil, nil
			}
			return false, fmt.Errorf("unknown condition %q", cond)
		},
		Cmds: map[string]func(*testscript.TestScript, bool, []string){
			// colleague DN ATTRIBUTE [VALUE…] changes an entry of the live
			// directory behind the tool's back.
			"colleague": func(ts *testscript.TestScript, _ bool, args []string) {
				dir := ts.Value("directory").(*practice.Directory)
				if !dir.Edit(args[0], func(e *directory.Entry) { e.Set(args[1], args[2:]...) }) {
					ts.Fatalf("no entry %s", args[0])
				}
			},
			// signin DN DATE lets somebody sign in at the second server.
			"signin": func(ts *testscript.TestScript, _ bool, args []string) {
				at, err := time.Parse(time.DateOnly, args[1])
				ts.Check(err)
				if !ts.Value("directory2").(*practice.Directory).Edit(args[0], func(e *directory.Entry) { e.Set("lastLogon", directory.FormatFileTime(at)) }) {
					ts.Fatalf("no entry %s", args[0])
				}
			},
			// elsewhere DN ATTRIBUTE [VALUE…] changes an entry at the second server.
			"elsewhere": func(ts *testscript.TestScript, _ bool, args []string) {
				if !ts.Value("directory2").(*practice.Directory).Edit(args[0], func(e *directory.Entry) { e.Set(args[1], args[2:]...) }) {
					ts.Fatalf("no entry %s", args[0])
				}
			},
			// entry DN [ATTRIBUTE VALUE] says that the live directory has an
			// entry, with a value of an attribute.
			"entry": func(ts *testscript.TestScript, neg bool, args []string) {
				e := ts.Value("directory").(*practice.Directory).Entry(args[0])
				has := e != nil && (len(args) == 1 || e.First(args[1]) == args[2])
				if has == neg {
					ts.Fatalf("entry %v: %v", args, e)
				}
			},
			// logs writes the demo's logs of the week before.
			"logs": func(ts *testscript.TestScript, _ bool, _ []string) {
				ts.Check(yard.WriteLogs(ts.MkAbs(".")))
			},
			// sshkey FILE PRINCIPAL makes a key and allows it to sign.
			"sshkey": func(ts *testscript.TestScript, _ bool, args []string) {
				ts.Check(makeKey(ts.MkAbs("."), args[0], args[1]))
			},
			// sqlite FILE STATEMENT changes a database behind the tool's back.
			"sqlite": func(ts *testscript.TestScript, _ bool, args []string) {
				db, err := sql.Open("sqlite", ts.MkAbs(args[0]))
				ts.Check(err)
				defer db.Close()
				_, err = db.ExecContext(context.Background(), args[1])
				ts.Check(err)
			},
			// status N COMMAND runs a command that must end with a status.
			"status": func(ts *testscript.TestScript, _ bool, args []string) {
				err := ts.Exec(args[1], args[2:]...)
				got := "0"
				if err != nil {
					got = strings.TrimPrefix(err.Error(), "exit status ")
				}
				if got != args[0] {
					ts.Fatalf("%s ended with status %s, not %s", strings.Join(args[1:], " "), got, args[0])
				}
			},
		},
	})
}

// makeKey makes an SSH key in a folder, and allows it to sign.
func makeKey(dir, file, principal string) error {
	public, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return err
	}
	text, err := ssh.MarshalPrivateKey(private, principal)
	if err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(dir, file), pem.EncodeToMemory(text), 0o600); err != nil {
		return err
	}
	key, err := ssh.NewPublicKey(public)
	if err != nil {
		return err
	}
	list, err := os.OpenFile(filepath.Join(dir, "allowed_signers"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer list.Close()
	_, err = fmt.Fprintf(list, "%s %s", principal, ssh.MarshalAuthorizedKey(key))
	return err
}

// program starts the tool as a process of its own.
func program(t *testing.T, env []string, args ...string) *exec.Cmd {
	exe, err := os.Executable()
	require.NoError(t, err)
	cmd := exec.CommandContext(t.Context(), exe, args...)
	cmd.Env = append(append(os.Environ(), asProgram+"=1", "TZ=UTC", "PAGER=cat"), env...)
	return cmd
}
