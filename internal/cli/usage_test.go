package cli

import (
	"bytes"
	"context"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/urfave/cli/v3"
)

// leaves are the commands that do something, with all that stands before them.
func leaves(cmd *cli.Command, path string, take func(path string, cmd *cli.Command)) {
	for _, c := range cmd.Commands {
		if c.Hidden || c.Name == "help" {
			continue
		}
		at := strings.TrimSpace(path + " " + c.Name)
		if len(c.Commands) == 0 || c.ArgsUsage != "" {
			take(at, c)
		}
		leaves(c, at, take)
	}
}

func newRoot() *cli.Command {
	return (&app{in: strings.NewReader(""), out: &bytes.Buffer{}, err: &bytes.Buffer{}}).root()
}

// TestEveryCommandHasTwoExamplesThatItTakes parses them as they would be typed; what
// each command does with them its own tests say.
func TestEveryCommandHasTwoExamplesThatItTakes(t *testing.T) {
	known := map[string]bool{}
	leaves(newRoot(), "", func(path string, _ *cli.Command) {
		known[path] = true
		if strings.HasPrefix(path, "list ") || strings.HasPrefix(path, "completion ") {
			return
		}
		assert.Len(t, examples[path], 2, path)
	})
	for path, lines := range examples {
		assert.True(t, known[path] || path == "completion", "%s is no command", path)
		for _, line := range lines {
			if words := strings.Fields(line); words[0] == "yardbroom" {
				taken(t, line)
			}
		}
	}
}

// taken parses a command line without doing anything.
func taken(t *testing.T, line string) {
	t.Helper()
	root := newRoot()
	root.Before = nil
	root.Writer, root.ErrWriter = &bytes.Buffer{}, &bytes.Buffer{}
	idle := func(context.Context, *cli.Command) error { return nil }
	leaves(root, "", func(_ string, c *cli.Command) { c.Action = idle })
	words, _ := shellWords(line)
	if i := indexOf(words, ">"); i >= 0 {
		words = words[:i]
	}
	if i := indexOf(words, "|"); i >= 0 {
		words = words[:i]
	}
	assert.NoError(t, root.Run(t.Context(), words), line)
}

func indexOf(words []string, want string) int {
	for i, w := range words {
		if w == want {
			return i
		}
	}
	return -1
}

// TestHelpFitsAndTellsWhatGoesWithAnAction looks at help as it is shown.
func TestHelpFitsAndTellsWhatGoesWithAnAction(t *testing.T) {
	shown := func(path ...string) string {
		root := newRoot()
		var out bytes.Buffer
		root.Writer = &out
		require.NoError(t, root.Run(t.Context(), append(append([]string{"yardbroom"}, path...), "--help")))
		return out.String()
	}
	disable := shown("stage", "disable")
	assert.Contains(t, disable, "\n  yardbroom stage disable --check leaver-enabled\n")
	assert.Contains(t, disable, groupWho+"\n")
	assert.NotContains(t, disable, "--family")
	assert.Contains(t, shown("stage", "rename"), "--family NAME")
	assert.NotContains(t, shown("stage", "rename"), "for rename:")
	assert.Contains(t, shown("list", "users"), "--columns")
	leaves(newRoot(), "", func(path string, _ *cli.Command) {
		for line := range strings.Lines(shown(strings.Fields(path)...)) {
			if !strings.HasPrefix(strings.TrimSpace(line), "yardbroom ") { // which is to be copied
				assert.LessOrEqual(t, len([]rune(strings.TrimRight(line, "\n"))), 82, "%s: %s", path, line)
			}
		}
	})
	assert.LessOrEqual(t, strings.Count(help("yardbroom"), "\n"), 23, "the help of the program is a screen at most")
}
