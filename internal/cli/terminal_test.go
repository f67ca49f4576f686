package cli

import (
	"bytes"
	"io"
	"os"
	"os/exec"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/creack/pty"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"yardbroom/internal/directory"
	"yardbroom/internal/store"
)

// terminal is the tool on a terminal, with somebody typing.
type terminal struct {
	t      *testing.T
	tty    *os.File
	mu     sync.Mutex
	screen bytes.Buffer
	wait   func() int
}

func (y *smallYard) onTerminal(t *testing.T, args ...string) *terminal {
	t.Helper()
	return onTerminal(t, program(t, y.env, args...), 80)
}

// onTerminal starts a program on a terminal of so many columns.
func onTerminal(t *testing.T, cmd *exec.Cmd, columns uint16) *terminal {
	t.Helper()
	tty, err := pty.StartWithSize(cmd, &pty.Winsize{Rows: 24, Cols: columns})
	require.NoError(t, err)
	term := &terminal{t: t, tty: tty}
	read := make(chan struct{})
	go func() {
		defer close(read)
		buf := make([]byte, 4096)
		for {
			n, err := tty.Read(buf)
			term.mu.Lock()
			term.screen.Write(buf[:n])
			term.mu.Unlock()
			if err != nil {
				return
			}
		}
	}()
	term.wait = func() int {
		_ = cmd.Wait()
		<-read
		tty.Close()
		return cmd.ProcessState.ExitCode()
	}
	return term
}

func (term *terminal) text() string {
	term.mu.Lock()
	defer term.mu.Unlock()
	return term.screen.String()
}

// answer waits for a prompt and types a line.
func (term *terminal) answer(prompt, line string) {
	term.t.Helper()
	for range 1000 {
		if strings.Contains(term.text(), prompt) {
			break
		}
		time.Sleep(10 * time.Millisecond)
	}
	require.Contains(term.t, term.text(), prompt)
	if strings.HasPrefix(prompt, "Password") {
		term.awaitNoEcho()
	}
	_, err := io.WriteString(term.tty, line+"\n")
	require.NoError(term.t, err)
}

// awaitNoEcho waits until what is typed is not shown: that is switched off right
// after the prompt.
func (term *terminal) awaitNoEcho() {
	term.t.Helper()
	require.Eventually(term.t, func() bool {
		mode, err := unix.IoctlGetTermios(int(term.tty.Fd()), unix.TCGETS)
		return err == nil && mode.Lflag&unix.ECHO == 0
	}, 10*time.Second, time.Millisecond)
}

func TestApplyAsksOnATerminal(t *testing.T) {
	y := newSmallYard(t)
	y.mustRun(t, "stage", "disable", "adaquill")
	no := y.onTerminal(t, "apply", "1")
	no.answer("Type yes: ", "y")
	assert.Equal(t, exitFailed, no.wait())
	assert.Contains(t, no.text(), "nothing was done")
	assert.Contains(t, no.text(), "adaquill", "what would be done is shown before it is asked")
	assert.Equal(t, "512", y.dir.Entry("CN=Ada Quill,OU=Staff,"+smallBase).First("userAccountControl"))

	yes := y.onTerminal(t, "apply", "1")
	yes.answer("Type yes: ", "yes")
	assert.Equal(t, exitDone, yes.wait())
	assert.Equal(t, "514", y.dir.Entry("CN=Ada Quill,OU=Staff,"+smallBase).First("userAccountControl"))
}

func TestAPasswordIsAskedForWithoutEcho(t *testing.T) {
	y := newSmallYard(t)
	url := strings.Fields(y.mustRun(t, "yard", "test"))[2]
	audit := y.onTerminal(t, "--config", os.DevNull, "audit", "--from", strings.TrimSuffix(url, ","), "--bind", "keeper@larkmoor.example")
	audit.answer("Password for keeper@larkmoor.example: ", "practice only")
	assert.Equal(t, exitDone, audit.wait())
	assert.NotContains(t, audit.text(), "practice only")
	assert.Contains(t, audit.text(), "never-used")
	assert.Contains(t, audit.text(), "\x1b[1m", "a terminal gets its headings in bold")
	for line := range strings.Lines(audit.text()) {
		assert.LessOrEqual(t, len([]rune(strings.NewReplacer("\x1b[1m", "", "\x1b[0m", "", "\x1b[22m", "").Replace(strings.TrimRight(line, "\r\n")))), 120, line)
	}

	out, status := y.run(t, "--config", os.DevNull, "audit", "--from", strings.TrimSuffix(url, ","), "--bind", "keeper@larkmoor.example")
	assert.Equal(t, exitFailed, status)
	assert.Contains(t, out, "there is no terminal")
}

func TestTwoPeopleCannotCarryOutAtOnce(t *testing.T) {
	y := newSmallYard(t)
	y.mustRun(t, "stage", "disable", "adaquill")
	y.mustRun(t, "stage", "disable", "bramtern")
	s, err := store.Open(t.Context(), y.state)
	require.NoError(t, err)
	defer s.Close()
	unlock, err := s.Lock()
	require.NoError(t, err)
	out, status := y.run(t, "apply", "1", "--yes")
	assert.Equal(t, exitBusy, status)
	assert.Contains(t, out, "another yardbroom is carrying out a batch")
	unlock()
	y.mustRun(t, "apply", "1", "--yes")
}

func TestABatchThatSomebodyElseCarriedOutMeanwhileIsLeftAlone(t *testing.T) {
	y := newSmallYard(t)
	y.mustRun(t, "stage", "disable", "adaquill")
	slow := y.onTerminal(t, "apply", "1")
	require.Eventually(t, func() bool { return strings.Contains(slow.text(), "Type yes: ") }, 10*time.Second, 10*time.Millisecond)
	y.mustRun(t, "apply", "1", "--yes")
	slow.answer("Type yes: ", "yes")
	assert.Equal(t, exitDone, slow.wait())
	assert.Contains(t, slow.text(), "carried out already: 1 done")
	assert.Contains(t, y.mustRun(t, "batch", "list"), "1 done")
}

func TestNamesTakenAtTheTargetAreRefusedOrChanged(t *testing.T) {
	y := newSmallYard(t)
	y.mustRun(t, "stage", "move", "--to", "OU=Parked,"+smallBase, "adaquill")
	y.mustRun(t, "apply", "1", "--yes")
	// A second Ada Quill comes, and is to follow.
	add := y.dir.Entry("CN=Bram Tern,OU=Staff," + smallBase)
	require.NotNil(t, add)
	require.NoError(t, y.dir.ModifyDN(add.DN, "CN=Ada Quill", nil))
	out, status := y.run(t, "stage", "move", "--to", "OU=Parked,"+smallBase, "bramtern")
	assert.Equal(t, exitFailed, status)
	assert.Contains(t, out, "has an entry named CN=Ada Quill already")
	y.mustRun(t, "stage", "move", "--to", "OU=Parked,"+smallBase, "--on-collision", "append-account", "bramtern")
	y.mustRun(t, "apply", "2", "--yes")
	require.NotNil(t, y.dir.Entry("CN=Ada Quill bramtern,OU=Parked,"+smallBase))
	y.mustRun(t, "undo", "2", "--yes")
	require.NotNil(t, y.dir.Entry("CN=Ada Quill,OU=Staff,"+smallBase), "the name comes back too")
}

func TestTheManualAndCompletionAreThere(t *testing.T) {
	y := newSmallYard(t)
	assert.Contains(t, y.mustRun(t, "manual"), ".SH")
	for shell, part := range map[string]string{"bash": "yardbroom", "zsh": "yardbroom", "fish": "yardbroom", "pwsh": "Register-ArgumentCompleter"} {
		assert.Contains(t, y.mustRun(t, "completion", shell), part, shell)
	}
	assert.Contains(t, y.mustRun(t, "--version"), "yardbroom version")
	assert.Contains(t, y.mustRun(t), "restore")
}

// A value of the directory is nothing that a terminal acts on, in whatever
// format it is shown there.
func TestATerminalIsSentNoOrdersOfTheDirectory(t *testing.T) {
	y := newSmallYard(t)
	y.dir.Edit("CN=Ada Quill,OU=Staff,"+smallBase, func(e *directory.Entry) {
		e.Set("displayName", "Ada\x1b]0;mine\x07\u202eQuill\u009b2J")
	})
	for _, format := range []string{"table", "csv", "tsv", "json", "jsonl", "ldif"} {
		term := y.onTerminal(t, "list", "users", "--filter", "sAMAccountName=adaquill", "--columns", "account,displayName", "--format", format)
		require.Zero(t, term.wait(), term.text())
		text := term.text()
		if format != "ldif" { // where such a value is in base64
			assert.Contains(t, text, "mine", format)
		}
		for _, order := range []string{"\x1b]", "\x07", "\u202e", "\u009b"} {
			assert.NotContains(t, text, order, format)
		}
	}
}
