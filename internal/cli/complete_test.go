package cli

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// answered is what a shell is answered about a line, without the first line.
func answered(t *testing.T, words ...string) string {
	t.Helper()
	var out, errOut bytes.Buffer
	status := Main(context.Background(), append([]string{"yardbroom", completeName}, words...), strings.NewReader(""), &out, &errOut)
	assert.Equal(t, exitDone, status)
	assert.Empty(t, errOut.String(), "nothing disturbs the line that is being typed")
	_, values, _ := strings.Cut(out.String(), "\n")
	return values
}

func TestAQuestionOfAShellChangesNothing(t *testing.T) {
	state, config := filepath.Join(t.TempDir(), "state"), filepath.Join(t.TempDir(), "settings.yaml")
	t.Setenv("YARDBROOM_STATE", state)
	t.Setenv("YARDBROOM_CONFIG", config)
	require.NoError(t, os.WriteFile(config, []byte("yards:\n  a: {servers: ['ldap://127.0.0.1:1'], base: DC=a}\n  b: {servers: ['ldap://127.0.0.1:1'], base: DC=b}\n"), 0o600))
	for _, words := range [][]string{{"apply", ""}, {"undo", "1", ""}, {"exempt", "end", ""}, {"link", "end", ""}, {"show", ""}, {"show", "--from", "b", ""}, {"round", "show", "x", ""}, {"survey", "--name", ""}} {
		assert.Empty(t, answered(t, append([]string{"words", "yardbroom"}, words...)...), words)
	}
	assert.NoDirExists(t, state)
	assert.Equal(t, "a\tDC=a\nb\tDC=b\n", answered(t, "words", "yardbroom", "yard", "test", ""))

	require.NoError(t, os.WriteFile(config, []byte("yards: ["), 0o600))
	assert.Empty(t, answered(t, "words", "yardbroom", "yard", "test", ""), "settings that cannot be read")
	assert.Equal(t, "", answered(t, "words"))
	assert.Equal(t, "", answered(t, "bash", "yardbroom"))
}

func TestALineInBashIsCompletedWhereItIsBroken(t *testing.T) {
	t.Setenv("YARDBROOM_STATE", t.TempDir())
	t.Setenv("YARDBROOM_CONFIG", os.DevNull)
	for _, c := range []struct{ line, tail, want string }{
		{"yardbroom audit --check=never-us", "never-us", "never-used\n"},
		{"yardbroom audit --check never-us", "never-us", "never-used\n"},
		{"yardbroom audit '--check=never-us", "--check=never-us", "--check=never-used\n"},
		{"yardbroom audit --fail-on=", "", "low\nmedium\nhigh\ninfo\n"},
		{"yardbroom stage disable,mo", "disable,mo", "disable,move\n"},
		{"yardbroom stage disable -- --ch", "--ch", ""},
	} {
		assert.Equal(t, c.want, answered(t, "bash", c.line, c.tail, "9"), c.line)
	}
}
