package cli

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/directory"
	"yardbroom/internal/practice"
	"yardbroom/internal/store"
)

// smallYard is a practice directory with two people in a group, served until
// the test ends, and settings and state for it.
type smallYard struct {
	dir    *practice.Directory
	server *practice.Server
	env    []string
	state  string
}

const smallBase = "DC=larkmoor,DC=example"

func newSmallYard(t *testing.T) *smallYard {
	t.Helper()
	y := &smallYard{dir: practice.New(smallBase, "S-1-5-21-1-2-3", time.Now), state: t.TempDir()}
	add := func(dn string, attrs ...string) {
		e := directory.Entry{DN: dn}
		for i := 0; i < len(attrs); i += 2 {
			e.Set(attrs[i], append(e.Get(attrs[i]), attrs[i+1])...)
		}
		require.NoError(t, y.dir.Add(e), dn)
	}
	for _, ou := range []string{"Staff", "Parked"} {
		add("OU="+ou+","+smallBase, "objectClass", "organizationalUnit")
	}
	for _, who := range []string{"Ada Quill", "Bram Tern", "Keeper"} {
		logon := strings.ToLower(strings.ReplaceAll(who, " ", ""))
		add("CN="+who+",OU=Staff,"+smallBase, "objectClass", "top", "objectClass", "user", "sAMAccountName", logon, "userAccountControl", "512",
			"mail", logon+"@larkmoor.example", "displayName", who)
	}
	add("CN=Crew,OU=Staff,"+smallBase, "objectClass", "group", "sAMAccountName", "crew", "member", "CN=Ada Quill,OU=Staff,"+smallBase, "member", "CN=Bram Tern,OU=Staff,"+smallBase)
	y.server = &practice.Server{Dir: y.dir, Account: "keeper", Password: "practice only"}
	url, err := y.server.Listen(t.Context(), "127.0.0.1:0")
	require.NoError(t, err)
	config := filepath.Join(t.TempDir(), "settings.yaml")
	require.NoError(t, os.WriteFile(config, fmt.Appendf(nil, `default: small
yards:
  small:
    servers: ["%s"]
    bind: {dn: keeper@larkmoor.example, password_env: YARD_PASSWORD}
    settle_within: 50ms
batch: {delete_min_disabled: 0d, max_share: 100}
signing: {needed: {delete: 0}}
`, url), 0o600))
	y.env = []string{"YARDBROOM_CONFIG=" + config, "YARDBROOM_STATE=" + y.state, "YARD_PASSWORD=practice only"}
	return y
}

// set adds to the settings.
func (y *smallYard) set(t *testing.T, more string) {
	t.Helper()
	file, _ := strings.CutPrefix(y.env[0], "YARDBROOM_CONFIG=")
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, append(text, more...), 0o600))
}

// run runs the tool and returns what it said and its exit status.
func (y *smallYard) run(t *testing.T, args ...string) (string, int) {
	t.Helper()
	cmd := program(t, y.env, args...)
	out, err := cmd.CombinedOutput()
	if _, exited := err.(*exec.ExitError); err != nil && !exited {
		require.NoError(t, err)
	}
	return string(out), cmd.ProcessState.ExitCode()
}

func (y *smallYard) mustRun(t *testing.T, args ...string) string {
	t.Helper()
	out, status := y.run(t, args...)
	require.Zero(t, status, "yardbroom %s:\n%s", strings.Join(args, " "), out)
	return out
}

// picture is the whole directory, without what every write changes.
func (y *smallYard) picture() map[string]string {
	out := map[string]string{}
	for _, e := range y.dir.Dump() {
		e.Set("whenChanged")
		e.Set("uSNChanged")
		var lines []string
		for _, a := range e.Attrs {
			lines = append(lines, fmt.Sprintf("%s=%q", a.Name, slices.Sorted(slices.Values(a.Values))))
		}
		slices.Sort(lines)
		out[e.DN] = strings.Join(lines, "\n")
	}
	return out
}

// steps counts in the journal how often each step of each line was done.
func (y *smallYard) steps(t *testing.T) map[string]int {
	done := map[string]int{}
	op := ""
	for line := range strings.Lines(y.mustRun(t, "journal", "--format", "jsonl")) {
		var r struct {
			Event       string
			Batch, Line int
			Body        struct {
				Step struct {
					Op, DN string
					N      int
				}
				Done bool
			}
		}
		require.NoError(t, json.Unmarshal([]byte(line), &r))
		switch r.Event {
		case "intent":
			op = fmt.Sprintf("batch %d line %d %s", r.Batch, r.Line, r.Body.Step.Op)
			if r.Body.Step.Op == "modify" && r.Body.Step.N > 1 {
				op += " again" // the rewrite that guards a move may be repeated
			}
		case "outcome":
			if r.Body.Done {
				done[op]++
			}
		}
	}
	return done
}

// killers are the two ways for a process to die around an operation of the
// server: it never took effect, or it did and nobody heard of it.
var killers = map[string]func(kill func()) practice.Fault{
	"before": func(kill func()) practice.Fault { return practice.Fault{Meanwhile: kill, DropBefore: true} },
	"after":  func(kill func()) practice.Fault { return practice.Fault{Meanwhile: kill} },
}

// TestApplyGoesOnAfterBeingKilledAtAnyOperation kills the process with
// SIGKILL at each request it sends, once before and once after the request
// took effect, and carries on with a new process.
func TestApplyGoesOnAfterBeingKilledAtAnyOperation(t *testing.T) {
	long(t)
	for _, story := range []struct {
		name  string
		stage []string
		check func(t *testing.T, y *smallYard)
	}{
		{"disable and move", []string{"stage", "disable,move", "--to", "OU=Parked," + smallBase, "adaquill", "bramtern"}, func(t *testing.T, y *smallYard) {
			for _, who := range []string{"Ada Quill", "Bram Tern"} {
				e := y.dir.Entry("CN=" + who + ",OU=Parked," + smallBase)
				require.NotNil(t, e)
				assert.Equal(t, "514", e.First("userAccountControl"))
				assert.NotEmpty(t, e.Get("memberOf"))
			}
		}},
		{"leave groups for a time", []string{"stage", "disable,describe,leave-groups", "--text", "{reason}; {old}", "--why", "away", "--until", "2099-01-01", "adaquill", "bramtern"}, func(t *testing.T, y *smallYard) {
			e := y.dir.Entry("CN=Ada Quill,OU=Staff," + smallBase)
			assert.Equal(t, []string{"514", "away"}, []string{e.First("userAccountControl"), e.First("description")})
			assert.Empty(t, e.Get("memberOf"))
			assert.Empty(t, y.dir.Entry("CN=Crew,OU=Staff,"+smallBase).Get("member"))
		}},
		{"rename", []string{"stage", "rename", "adaquill", "--display", "Ada Marlowe", "--logon", "amarlowe", "--mail", "amarlowe@larkmoor.example"}, func(t *testing.T, y *smallYard) {
			e := y.dir.Entry("CN=Ada Marlowe,OU=Staff," + smallBase)
			require.NotNil(t, e)
			assert.Equal(t, "amarlowe", e.First("sAMAccountName"))
			assert.ElementsMatch(t, []string{"SMTP:amarlowe@larkmoor.example", "smtp:adaquill@larkmoor.example"}, e.Get("proxyAddresses"))
			assert.NotEmpty(t, e.Get("memberOf"))
		}},
		{"set", []string{"stage", "set", "displayName=ADA QUILL", "adaquill"}, func(t *testing.T, y *smallYard) {
			assert.Equal(t, "ADA QUILL", y.dir.Entry("CN=Ada Quill,OU=Staff,"+smallBase).First("displayName"))
		}},
		{"delete", []string{"stage", "disable,delete", "adaquill"}, func(t *testing.T, y *smallYard) {
			assert.Nil(t, y.dir.Entry("CN=Ada Quill,OU=Staff,"+smallBase))
			assert.Len(t, y.dir.Entry("CN=Crew,OU=Staff,"+smallBase).Get("member"), 1)
		}},
	} {
		for when, fault := range killers {
			t.Run(story.name+" "+when, func(t *testing.T) {
				t.Parallel()
				for n := 1; ; n++ {
					if !killAt(t, n, fault, story.stage, story.check) {
						require.Greater(t, n, 7, "apply sends more requests than that")
						return
					}
				}
			})
		}
	}
}

// killAt stages a batch, kills apply at its n-th request and goes on. It
// returns false if apply ended before its n-th request.
func killAt(t *testing.T, n int, fault func(func()) practice.Fault, stage []string, check func(*testing.T, *smallYard)) bool {
	y := newSmallYard(t)
	before := y.picture()
	y.mustRun(t, stage...)

	if !y.killedAt(t, n, fault, "apply", "1", "--yes") {
		return false
	}
	if out, status := y.run(t, "apply", "1", "--yes"); status != 0 {
		// Killed behind its very end, it finds nothing left to do.
		require.Contains(t, out, "no line left to carry out: it is done", "killed at request %d", n)
	}
	check(t, y)
	for step, times := range y.steps(t) {
		if !strings.HasSuffix(step, "again") {
			assert.Equal(t, 1, times, "killed at request %d: %s", n, step)
		}
	}
	y.mustRun(t, "journal", "--verify")
	if strings.Contains(stage[1], "delete") {
		y.mustRun(t, "restore", "adaquill", "--yes")
		assert.Equal(t, "514", y.dir.Entry("CN=Ada Quill,OU=Staff,"+smallBase).First("userAccountControl"))
		return true
	}
	y.mustRun(t, "undo", "1", "--yes")
	require.Equal(t, before, y.picture(), "killed at request %d", n)
	return true
}

// killedAt runs the tool and kills it at its n-th write or third reading. It returns false if
// it ended before that.
func (y *smallYard) killedAt(t *testing.T, n int, fault func(func()) practice.Fault, args ...string) bool {
	t.Helper()
	cmd := program(t, y.env, args...)
	var seen atomic.Int32
	var killed atomic.Bool
	ended := make(chan struct{})
	kill := func() {
		killed.Store(true)
		_ = cmd.Process.Kill()
		<-ended
	}
	started := make(chan struct{})
	y.server.SetFault(func(op practice.Operation) practice.Fault {
		<-started
		// Between two writes all readings are alike; every third is enough.
		if (op.Name == "search" || op.Name == "bind") && op.N%3 != 0 {
			return practice.Fault{}
		}
		if int(seen.Add(1)) == n {
			return fault(kill)
		}
		return practice.Fault{}
	})
	require.NoError(t, cmd.Start())
	close(started)
	_ = cmd.Wait()
	close(ended)
	y.server.SetFault(nil)
	return killed.Load()
}

// TestUndoAndRestoreGoOnWhenTheyAreAskedForAgain kills them at each request:
// whoever then types the same command again, as people do, has all of it done.
func TestUndoAndRestoreGoOnWhenTheyAreAskedForAgain(t *testing.T) {
	long(t)
	for name, story := range map[string]struct {
		stage, back []string
		check       func(t *testing.T, y *smallYard, before map[string]string, n int)
	}{
		"undo": {[]string{"stage", "disable,describe,leave-groups,move", "--text", "{reason}", "--why", "away", "--to", "OU=Parked," + smallBase, "adaquill"}, []string{"undo", "1", "--yes"},
			func(t *testing.T, y *smallYard, before map[string]string, n int) {
				require.Equal(t, before, y.picture(), "killed at request %d", n)
			}},
		"restore": {[]string{"stage", "disable,delete", "adaquill"}, []string{"restore", "adaquill", "--yes"},
			func(t *testing.T, y *smallYard, _ map[string]string, n int) {
				e := y.dir.Entry("CN=Ada Quill,OU=Staff," + smallBase)
				require.NotNil(t, e, "killed at request %d", n)
				require.Equal(t, []string{"514", "Ada Quill"}, []string{e.First("userAccountControl"), e.First("displayName")}, "killed at request %d", n)
				require.NotEmpty(t, e.Get("memberOf"), "killed at request %d", n)
			}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			for n := 1; ; n++ {
				y := newSmallYard(t)
				before := y.picture()
				y.mustRun(t, story.stage...)
				y.mustRun(t, "apply", "1", "--yes")
				killed := y.killedAt(t, n, killers["after"], story.back...)
				if out, status := y.run(t, story.back...); killed && status != 0 {
					// Killed behind its last write, it finds that all is done.
					require.Regexp(t, "taken that back already|it exists", out, "killed at request %d", n)
				}
				story.check(t, y, before, n)
				y.mustRun(t, "journal", "--verify")
				if !killed {
					require.Greater(t, n, 10, "it sends more requests than that")
					return
				}
			}
		})
	}
}

// TestABatchThatWasStoppedBehindItsLastLineIsEnded kills nothing: it puts the
// state folder as a process leaves it that dies between its last line and the
// end of its batch.
func TestABatchThatWasStoppedBehindItsLastLineIsEnded(t *testing.T) {
	y := newSmallYard(t)
	y.mustRun(t, "stage", "disable", "adaquill")
	y.mustRun(t, "apply", "1", "--yes")
	s, err := store.Open(t.Context(), y.state)
	require.NoError(t, err)
	_, err = s.Append(t.Context(), &store.Record{At: time.Now().UTC(), By: "test", Event: "apply", Batch: 1, Body: json.RawMessage("{}")})
	require.NoError(t, err)
	require.NoError(t, s.Close())

	assert.Contains(t, y.mustRun(t, "batch", "list"), "begun")
	assert.Contains(t, y.mustRun(t, "apply", "1", "--yes"), "Batch 1: 1 done")
	out, status := y.run(t, "apply", "1", "--yes")
	assert.Zero(t, status)
	assert.Contains(t, out, "batch 1: it has been carried out already: 1 done; nothing is left to do")
	y.mustRun(t, "journal", "--verify")
}

// heard is what a program says while it runs.
type heard struct {
	mu   sync.Mutex
	text bytes.Buffer
}

func (h *heard) Write(b []byte) (int, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.text.Write(b)
}

func (h *heard) String() string {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.text.String()
}

// Whatever a command waits for, it ends when it is told to, and leaves nothing.
func TestACommandThatIsToldToStopEnds(t *testing.T) {
	y := newSmallYard(t)
	silent, err := net.Listen("tcp", "127.0.0.1:0") // takes connections and says nothing
	require.NoError(t, err)
	defer silent.Close()
	out := filepath.Join(t.TempDir(), "findings.csv")
	temporary := t.TempDir() // where standard input is kept meanwhile
	y.env = append(y.env, "TMPDIR="+temporary)
	for _, args := range [][]string{
		{"audit", "--from", "-", "--output", out},
		{"reconcile", "--roster", "-"},
		{"audit", "--activity", "/dev/stdin", "--output", out},
		{"survey", "--from", "ldap://" + silent.Addr().String() + "/" + smallBase},
		{"reconcile", "--roster", "http://" + silent.Addr().String() + "/scim"},
	} {
		for _, sign := range []os.Signal{os.Interrupt, syscall.SIGTERM} {
			cmd := program(t, y.env, append([]string{"--verbose"}, args...)...)
			_, err := cmd.StdinPipe() // on which nothing comes
			require.NoError(t, err)
			said := &heard{}
			cmd.Stdout, cmd.Stderr = said, said
			require.NoError(t, cmd.Start())
			require.Eventually(t, func() bool { return strings.Contains(said.String(), "msg=settings") }, time.Minute, time.Millisecond, "it has begun")
			require.NoError(t, cmd.Process.Signal(sign))
			ended := make(chan error, 1)
			go func() { ended <- cmd.Wait() }()
			select {
			case <-ended:
			case <-time.After(time.Minute):
				require.NoError(t, cmd.Process.Kill())
				t.Errorf("%q goes on after %s", args, sign)
			}
			assert.Equal(t, exitFailed, cmd.ProcessState.ExitCode(), "%q: %s", args, said.String())
			assert.Contains(t, said.String(), "interrupted", "%q", args)
		}
	}
	for _, dir := range []string{filepath.Dir(out), temporary} {
		left, err := os.ReadDir(dir)
		require.NoError(t, err)
		assert.Empty(t, left)
	}
}

func TestAKeeperOfRoundsEndsWhenItIsTold(t *testing.T) {
	y := newSmallYard(t)
	y.set(t, "rounds:\n  nightly: {at: \"06:00\", steps: [survey]}\n")
	keep := program(t, y.env, "round", "keep")
	require.NoError(t, keep.Start())
	time.Sleep(time.Second)
	require.NoError(t, keep.Process.Signal(syscall.SIGTERM))
	require.NoError(t, keep.Wait(), "there was nothing to be done, and that is in order")

	// A run ends the step that it is in, and does no other.
	reading := make(chan bool, 1)
	var searches atomic.Int32
	y.set(t, "  two: {steps: [survey, audit]}\n")
	y.server.SetFault(func(op practice.Operation) practice.Fault {
		if op.Name != "search" {
			return practice.Fault{}
		}
		if searches.Add(1) == 8 { // connected, and at work on the survey
			reading <- true
		}
		return practice.Fault{Stall: 100 * time.Millisecond}
	})
	run := program(t, y.env, "round", "run", "two")
	require.NoError(t, run.Start())
	select {
	case <-reading:
	case <-time.After(20 * time.Second):
		t.Fatal("nothing is read")
	}
	require.NoError(t, run.Process.Signal(syscall.SIGTERM))
	_ = run.Wait()
	out := y.mustRun(t, "round", "show", "two")
	assert.Contains(t, out, "run 1: killed")
	assert.Contains(t, out, "survey                kept small-")
	assert.NotContains(t, out, "audit  ")
}
