package docs

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// avoided are the words on the right side of the table of terms in words.md.
func avoided(t *testing.T) map[string]*regexp.Regexp {
	t.Helper()
	text, err := os.ReadFile("words.md")
	require.NoError(t, err)
	_, table, found := strings.Cut(string(text), "| write | not |\n")
	require.True(t, found)
	words := map[string]*regexp.Regexp{}
	for line := range strings.Lines(table) {
		cells := strings.Split(strings.Trim(strings.TrimSpace(line), "|"), "|")
		if len(cells) != 2 {
			break
		}
		for word := range strings.SplitSeq(cells[1], ",") {
			if word = strings.TrimPrefix(strings.TrimSpace(word), "to "); strings.Trim(word, "-") != "" {
				words[word] = regexp.MustCompile(`(?i)\b` + regexp.QuoteMeta(word) + `\b`)
			}
		}
	}
	require.NotEmpty(t, words)
	return words
}

// TestTermsAreWrittenOneWay looks through what users read: documents, help, the texts of
// checks, and the sentences in the code.
func TestTermsAreWrittenOneWay(t *testing.T) {
	words := avoided(t)
	look := func(where, text string) {
		for word, is := range words {
			assert.False(t, is.MatchString(text), "%s: %q is written otherwise in words.md: %s", where, word, text)
		}
	}
	for _, pattern := range []string{"../README.md", "../CHANGELOG.md", "*.md", "../internal/cli/help/*.txt", "../internal/audit/doc/*.md"} {
		files, err := filepath.Glob(pattern)
		require.NoError(t, err)
		for _, file := range files {
			if filepath.Base(file) == "words.md" {
				continue
			}
			text, err := os.ReadFile(file)
			require.NoError(t, err)
			for line := range strings.Lines(string(text)) {
				look(file, code.ReplaceAllString(line, ""))
			}
		}
	}
	sentences(t, look)
}

// code is what stands in a document as it is typed or as a server says it.
var code = regexp.MustCompile("`[^`]*`|^    .*")

// sentences are the texts in the code that read as one: with a blank, and no sign of being
// a name, a filter or a format of something else.
func sentences(t *testing.T, look func(where, text string)) {
	t.Helper()
	require.NoError(t, filepath.WalkDir("../internal", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") ||
			strings.Contains(path, "/practice/") || strings.Contains(path, "/demo/") || strings.Contains(path, "/logs/") || strings.Contains(path, "/realserver/") {
			return err
		}
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.SkipObjectResolution)
		if err != nil {
			return err
		}
		ast.Inspect(file, func(n ast.Node) bool {
			if lit, ok := n.(*ast.BasicLit); ok && lit.Kind == token.STRING {
				if text, err := strconv.Unquote(lit.Value); err == nil && strings.Count(text, " ") > 1 && !strings.ContainsAny(text, "<>()=;{}") {
					look(path, text)
				}
			}
			return true
		})
		return nil
	}))
}
