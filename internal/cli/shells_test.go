package cli

import (
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/directory"
	"yardbroom/internal/realserver"
)

// shell is a shell on a terminal, in which yardbroom is a program that completes as the
// tool does, and otherwise writes down how it was called.
type shell struct {
	*terminal
	called string // the file that it writes into
}

// shellStart tells how each shell is started without anybody's settings, and what it is
// told first.
var shellStart = map[string]struct {
	args  []string
	begin string
}{
	"bash": {[]string{"--noprofile", "--norc", "-i"}, "bind 'set bell-style none'; bind 'set show-all-if-ambiguous off'; source <(yardbroom completion bash)"},
	"zsh":  {[]string{"-f", "-i"}, "unsetopt zle_bracketed_paste prompt_cr beep; autoload -Uz compinit; compinit -u -D; source <(yardbroom completion zsh)"},
	"fish": {[]string{"--no-config", "-i"}, "yardbroom completion fish | source"},
	"pwsh": {[]string{"-NoProfile", "-NoLogo"}, "Set-PSReadLineKeyHandler -Key Tab -Function Complete; yardbroom completion pwsh | Out-String | Invoke-Expression"},
}

func (y *smallYard) inShell(t *testing.T, name string) *shell {
	t.Helper()
	if _, err := exec.LookPath(name); err != nil && name == "pwsh" {
		t.Skip("PowerShell is in no package of the distribution")
	}
	path := realserver.Program(t, name, name)
	exe, err := os.Executable()
	require.NoError(t, err)
	dir := t.TempDir()
	s := &shell{called: filepath.Join(dir, "called")}
	script := fmt.Sprintf(`#!/bin/sh
case $1 in
complete|completion) exec env %s=1 '%s' "$@" ;;
esac
for word; do printf '%%s\n' "$word"; done >'%[3]s.new'
mv '%[3]s.new' '%[3]s'
`, asProgram, exe, s.called)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "yardbroom"), []byte(script), 0o755))
	cmd := exec.CommandContext(t.Context(), path, shellStart[name].args...)
	cmd.Dir = dir
	cmd.Env = append(append(os.Environ(), "PATH="+dir+":"+os.Getenv("PATH"), "HOME="+dir, "TERM=xterm", "TZ=UTC", "LC_ALL=C.UTF-8"), y.env...)
	s.terminal = onTerminal(t, cmd, 160)
	t.Cleanup(func() {
		_ = cmd.Process.Kill()
		s.wait()
	})
	s.typed(shellStart[name].begin + "\n")
	s.typed("yardbroom ready\n")
	require.Equal(t, []string{"ready"}, s.calledWith(), s.text())
	return s
}

func (s *shell) typed(keys string) {
	s.t.Helper()
	_, err := io.WriteString(s.tty, keys)
	require.NoError(s.t, err)
}

// calledWith waits for the program to be called and tells with what.
func (s *shell) calledWith() []string {
	s.t.Helper()
	for range 1500 {
		if text, err := os.ReadFile(s.called); err == nil {
			require.NoError(s.t, os.Remove(s.called))
			return strings.Split(strings.TrimSuffix(string(text), "\n"), "\n")
		}
		time.Sleep(10 * time.Millisecond)
	}
	return nil
}

// completes types a line that holds tabs, runs it, and tells what the program was called
// with. After a tab a shell is given the time to answer.
func (s *shell) completes(line string) []string {
	s.t.Helper()
	parts := strings.Split(line, "\t")
	for i, part := range parts {
		s.typed(part)
		if i < len(parts)-1 {
			s.typed("\t")
			time.Sleep(600 * time.Millisecond)
		}
	}
	s.typed("\n")
	return s.calledWith()
}

func shellYard(t *testing.T) *smallYard {
	t.Helper()
	y := newSmallYard(t)
	for name, class := range map[string]string{"Night Observers": "group", "crew-$(touch pwned)`touch pwned`": "group", "it's": "group"} {
		e := directory.Entry{DN: "CN=" + directory.EscapeDN(name) + ",OU=Staff," + smallBase}
		e.Set("objectClass", class)
		e.Set("sAMAccountName", name)
		require.NoError(t, y.dir.Add(e))
	}
	y.mustRun(t, "stage", "disable", "adaquill", "--why", "a first try")
	y.mustRun(t, "survey", "--name", "before")
	return y
}

func TestShellsCompleteWhatIsTyped(t *testing.T) {
	long(t)
	for name := range shellStart {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := shellYard(t).inShell(t, name)
			for _, c := range []struct{ typed, want string }{
				{"yardbroom au\t", "audit"},
				{"yardbroom audit --chec\tnever-us\t", "audit --check never-used"},
				{"yardbroom audit --check=never-us\t", "audit --check=never-used"},
				{"yardbroom stage disab\tada\t", "stage disable adaquill"},
				{"yardbroom stage disable,mov\tada\t --to par\t", "stage disable,move adaquill --to Parked"},
				{"yardbroom apply \t--dry\t", "apply 1 --dry-run"},
				{"yardbroom batch drop 1 a\t", "batch drop 1 adaquill"},
				{"yardbroom compare bef\t", "compare before"},
				{"yardbroom list users --columns account,idle-\t", "list users --columns account,idle-days"},
				{"yardbroom list --member-of Nig\t", "list --member-of|Night Observers"},
				{"yardbroom list --member-of 'Nig\t", "list --member-of|Night Observers"},
				{"yardbroom list --member-of=Nig\t", "list|--member-of=Night Observers"},
				{"yardbroom list --member-of it\t", "list --member-of|it's"},
				{"yardbroom list --member-of crew-\t", "list --member-of|crew-$(touch pwned)`touch pwned`"},
			} {
				want := strings.FieldsFunc(c.want, func(r rune) bool { return r == '|' })
				if len(want) == 1 {
					want = strings.Fields(c.want)
				} else {
					want = append(strings.Fields(want[0]), want[1:]...)
				}
				if !assert.Equal(t, want, s.completes(c.typed), "%q\n%s", c.typed, s.text()) {
					s.typed("\x03")
				}
			}
			assert.NoFileExists(t, filepath.Join(filepath.Dir(s.called), "pwned"))
			require.NoError(t, os.WriteFile(filepath.Join(filepath.Dir(s.called), "roster-2027.csv"), nil, 0o600))
			assert.Equal(t, []string{"reconcile", "--roster", "roster-2027.csv"}, s.completes("yardbroom reconcile --roster roster-2\t"), "files where a file is wanted")
		})
	}
}

func TestShellsShowWhatASuggestionMeans(t *testing.T) {
	long(t)
	for name := range shellStart {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := shellYard(t).inShell(t, name)
			s.typed("yardbroom stage disable,leave-\t")
			time.Sleep(600 * time.Millisecond)
			s.typed("\t")
			assert.Eventually(t, func() bool { return strings.Contains(s.text(), "take accounts out of all their groups") }, 10*time.Second, 20*time.Millisecond, s.text())
		})
	}
}
