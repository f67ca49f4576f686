package conformance

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/directory"
)

// desk is where somebody works on a server with the tool: settings and a
// state folder.
type desk struct {
	s   *subject
	env []string
}

func newDesk(t *testing.T, s *subject) *desk {
	t.Helper()
	dir := t.TempDir()
	config := filepath.Join(dir, "settings.yaml")
	text := fmt.Sprintf("default: yard\nyards:\n  yard:\n    servers: [%s]\n    bind: {dn: %q, password_file: %q}\n", strings.Join(s.yard.Servers, ", "), s.yard.Bind.DN, s.yard.Bind.PasswordFile)
	for key, value := range map[string]string{"base": s.yard.Base, "ca_file": s.yard.CAFile, "default_policy": s.yard.DefaultPolicy} {
		if value != "" {
			text += fmt.Sprintf("    %s: %q\n", key, value)
		}
	}
	text += "batch: {max_share: 100, day_share: 100}\n"
	require.NoError(t, os.WriteFile(config, []byte(text), 0o600))
	return &desk{s: s, env: []string{asProgram + "=1", "YARDBROOM_CONFIG=" + config, "YARDBROOM_STATE=" + filepath.Join(dir, "state"), "TZ=UTC"}}
}

func (d *desk) command(t *testing.T, args ...string) *exec.Cmd {
	t.Helper()
	exe, err := os.Executable()
	require.NoError(t, err)
	cmd := exec.CommandContext(t.Context(), exe, args...)
	cmd.Env = append(os.Environ(), d.env...)
	return cmd
}

func (d *desk) run(t *testing.T, args ...string) (string, int) {
	t.Helper()
	cmd := d.command(t, args...)
	out, err := cmd.CombinedOutput()
	if _, exited := err.(*exec.ExitError); err != nil && !exited {
		require.NoError(t, err)
	}
	return string(out), cmd.ProcessState.ExitCode()
}

func (d *desk) must(t *testing.T, args ...string) string {
	t.Helper()
	out, status := d.run(t, args...)
	require.Zero(t, status, "yardbroom %s:\n%s", strings.Join(args, " "), out)
	return out
}

// killed starts the tool and ends it with SIGKILL after some time. It tells
// what the tool said, and whether it had come to a good end before.
func (d *desk) killed(t *testing.T, after time.Duration, args ...string) (said string, done bool) {
	t.Helper()
	cmd := d.command(t, args...)
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	require.NoError(t, cmd.Start())
	timer := time.AfterFunc(after, func() { _ = cmd.Process.Kill() })
	defer timer.Stop()
	err := cmd.Wait()
	return fmt.Sprintf("%s(%v)", &out, err), err == nil
}

// crew makes people in Staff and three groups of them, each with somebody in
// it who stays.
func (d *desk) crew(t *testing.T, st *story, n int) (logons []string) {
	t.Helper()
	keeper := d.s.person(t, st.c, "Keeper", "keeper")
	members := map[string][]string{"Crew": {keeper}, "Tower": {keeper}, "Dome": {keeper}}
	for i := range n {
		logon := fmt.Sprintf("p%d", i)
		dn := d.s.person(t, st.c, fmt.Sprintf("Person %d", i), logon)
		logons = append(logons, logon)
		members["Crew"] = append(members["Crew"], dn)
		if i%2 == 0 {
			members["Tower"] = append(members["Tower"], dn)
		}
		if i%3 == 0 {
			members["Dome"] = append(members["Dome"], dn)
		}
	}
	for _, name := range []string{"Crew", "Tower", "Dome"} {
		d.s.group(t, st.c, name, members[name]...)
	}
	return logons
}

// steps counts, for each step that changes something, how often the journal
// says that it was done.
func (d *desk) steps(t *testing.T) map[string]int {
	t.Helper()
	done, begun := map[string]int{}, map[string]string{}
	for line := range strings.Lines(d.must(t, "journal", "--format", "jsonl")) {
		var r struct {
			Event       string
			Batch, Line int
			Body        struct {
				Step struct {
					Op, Action, DN string
					Mods           []struct{ Old, New []string }
				}
				Done bool
			}
		}
		require.NoError(t, json.Unmarshal([]byte(line), &r))
		key := fmt.Sprintf("%d/%d", r.Batch, r.Line)
		switch s := r.Body.Step; r.Event {
		case "intent":
			begun[key] = fmt.Sprintf("%s %s %s %s", key, s.Action, s.Op, strings.ToLower(s.DN))
			if len(s.Mods) > 0 && fmt.Sprint(s.Mods[0].Old) == fmt.Sprint(s.Mods[0].New) {
				begun[key] = "" // it only makes sure of something
			}
		case "outcome":
			if r.Body.Done && begun[key] != "" {
				done[begun[key]]++
			}
		}
	}
	return done
}

func (d *desk) sound(t *testing.T) {
	t.Helper()
	d.must(t, "journal", "--verify")
	for step, times := range d.steps(t) {
		assert.Equal(t, 1, times, step)
	}
}

// staged stages what a leaver gets, for all of a crew.
func (d *desk) staged(t *testing.T, logons []string) {
	t.Helper()
	d.must(t, append([]string{"stage", "disable,describe,leave-groups,move", "--to", d.s.container("Parked"), "--text", "{reason} {date}; {old}", "--why", "left"}, logons...)...)
}

func (d *desk) allParked(t *testing.T, st *story, n int) {
	t.Helper()
	for i := range n {
		e := d.s.entry(t, st.c, d.s.DN(fmt.Sprintf("Person %d", i), "Parked"))
		require.NotNil(t, e, "person %d", i)
		require.True(t, st.switchedOff(e), "person %d", i)
		require.NotEmpty(t, e.First("description"))
	}
	for _, group := range []string{"Crew", "Tower", "Dome"} {
		require.Len(t, d.s.entry(t, st.c, d.s.DN(group, "Groups")).Get("member"), 1, group)
	}
}

func (st *story) switchedOff(e *directory.Entry) bool {
	a := st.s.dialect.Account(e)
	survey := directory.NewSurvey(st.s.dialect)
	survey.DefaultPolicy = directory.FoldDN(st.s.yard.DefaultPolicy)
	return survey.Disabled(&a, time.Now()).Yes
}

// exists tells whether a batch of this number was made and not given up.
func (d *desk) open(t *testing.T, batch string) bool {
	out, status := d.run(t, "batch", "show", batch)
	return status == 0 && !strings.Contains(out, "discarded")
}

// TestTheToolIsKilledAgainAndAgain ends apply and undo with SIGKILL at moments
// that nobody chose, on real servers, and goes on until all is done: nothing is
// done twice, nothing is lost, and undo leaves no trace.
func TestTheToolIsKilledAgainAndAgain(t *testing.T) {
	if testing.Short() {
		t.Skip("too long for a short run")
	}
	each(t, func(t *testing.T, s *subject) {
		const people = 12
		d, st := newDesk(t, s), newStory(t, s)
		logons := d.crew(t, st, people)
		before := normal(st.picture())
		d.staged(t, logons)
		kills := 0
		again := func(args func() []string) {
			for try := 1; ; try++ {
				after := time.Duration(60+rand.IntN(60*try)) * time.Millisecond
				if try == 25 {
					after = time.Minute
				}
				said, done := d.killed(t, after, args()...)
				if done || strings.Contains(said, "no line left to carry out: it is done") {
					return // it may have been killed behind its very end
				}
				kills++
				require.Less(t, try, 25, "it never comes to an end: %s", said)
			}
		}
		again(func() []string { return []string{"apply", "1", "--yes", "--connections", "3"} })
		d.allParked(t, st, people)
		d.sound(t)
		again(func() []string {
			if d.open(t, "2") {
				return []string{"apply", "2", "--yes"}
			}
			return []string{"undo", "1", "--yes"}
		})
		t.Logf("killed %d times", kills)
		require.NotZero(t, kills)
		d.sound(t)
		assert.Equal(t, before, normal(st.picture()))
	})
}

// TestTheServerIsKilledInTheMiddle ends the server itself with SIGKILL while
// apply is at work, and starts it again.
func TestTheServerIsKilledInTheMiddle(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		if s.real == nil {
			t.Skip("the practice directory lives in memory")
		}
		const people = 12
		d, st := newDesk(t, s), newStory(t, s)
		logons := d.crew(t, st, people)
		before := normal(st.picture())
		d.staged(t, logons)
		interrupted := 0
		carryOn := func(args ...string) {
			for try := 1; ; try++ {
				cmd := d.command(t, args...)
				var said bytes.Buffer
				cmd.Stdout, cmd.Stderr = &said, &said
				require.NoError(t, cmd.Start())
				if try < 4 {
					time.Sleep(time.Duration(80+rand.IntN(150*try)) * time.Millisecond)
					s.real.Kill()
					time.Sleep(50 * time.Millisecond)
					s.real.Start(t)
				}
				if cmd.Wait() == nil {
					return
				}
				interrupted++
				require.Less(t, try, 10, "it never comes to an end: %s\n%s", &said, d.must(t, "journal", "--format", "jsonl"))
				if args[0] == "undo" && d.open(t, "2") {
					args = []string{"apply", "2", "--yes"}
				}
			}
		}
		carryOn("apply", "1", "--yes", "--connections", "3")
		st.c = s.connect(t)
		d.allParked(t, st, people)
		d.sound(t)
		carryOn("undo", "1", "--yes")
		t.Logf("interrupted %d times", interrupted)
		st.c = s.connect(t)
		d.sound(t)
		after := normal(st.picture())
		if s.dialect == directory.OpenLDAP {
			// Its overlay writes memberOf behind the group, and not in the same
			// transaction: a kill between them loses that.
			withoutMemberOf(before)
			withoutMemberOf(after)
		}
		assert.Equal(t, before, after)
	})
}

func withoutMemberOf(picture map[string]map[string][]string) {
	for _, attrs := range picture {
		maps.DeleteFunc(attrs, func(name string, _ []string) bool { return strings.HasPrefix(name, "memberOf") })
	}
}

// TestTwoPeopleApplyAtTheSameMoment has two processes carry the same batch out
// at once: one does it, the other is told. Then two people at desks of their
// own want the same done: each change is made once.
func TestTwoPeopleApplyAtTheSameMoment(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		const people = 6
		one, two, st := newDesk(t, s), newDesk(t, s), newStory(t, s)
		logons := one.crew(t, st, people)
		one.staged(t, logons)
		both := func(cmds ...func() (string, int)) (said []string, good int) {
			said = make([]string, len(cmds))
			codes := make([]int, len(cmds))
			var wait sync.WaitGroup
			for i, run := range cmds {
				wait.Go(func() { said[i], codes[i] = run() })
			}
			wait.Wait()
			for _, code := range codes {
				if code == 0 {
					good++
				}
			}
			return said, good
		}
		apply := func(d *desk, batch string) func() (string, int) {
			return func() (string, int) {
				cmd := d.command(t, "apply", batch, "--yes", "--connections", "2")
				out, _ := cmd.CombinedOutput()
				return string(out), cmd.ProcessState.ExitCode()
			}
		}
		said, good := both(apply(one, "1"), apply(one, "1"))
		require.Equal(t, 1, good, "%s", said)
		told := strings.Join(said, "")
		assert.Regexp(t, "another yardbroom is carrying out|no line left", told)
		one.allParked(t, st, people)
		one.sound(t)
		one.must(t, "undo", "1", "--yes")

		one.staged(t, logons)
		two.staged(t, logons)
		said, _ = both(apply(one, "3"), apply(two, "1"))
		// Where they met, one may have halted.
		one.run(t, "apply", "3", "--yes")
		two.run(t, "apply", "1", "--yes")
		one.allParked(t, st, people)
		one.sound(t)
		two.sound(t)
		disabled := 0
		for _, d := range []*desk{one, two} {
			for step := range d.steps(t) {
				if strings.Contains(step, " disable modify ") && !strings.HasPrefix(step, "1/") || d == two && strings.Contains(step, " disable modify ") {
					disabled++
				}
			}
		}
		if s.samba != nil { // see TestFlagsSwappedToWhatTheyAreAlready
			assert.GreaterOrEqual(t, disabled, people)
			return
		}
		assert.Equal(t, people, disabled, "each is disabled once, by one of them:\n%s", said)
	})
}
