package main

import (
	"go/parser"
	"go/token"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestChangesAreMadeOneAtATime(t *testing.T) {
	dir := t.TempDir()
	const code = `package x

func f(a, b int) bool {
	if a == b && !g(a) {
		return true
	}
	switch a {
	case 1:
		b++
	}
	return b > 2
}

func g(int) bool { return false }
`
	require.NoError(t, os.WriteFile(filepath.Join(dir, "x.go"), []byte(code), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "x_test.go"), []byte("package x"), 0o600))
	all, err := changes(dir, "")
	require.NoError(t, err)
	var texts []string
	for _, c := range all {
		texts = append(texts, c.text)
		assert.Equal(t, filepath.Join(dir, "x.go"), c.file)
		_, err := parser.ParseFile(token.NewFileSet(), "x.go", c.rendered, 0)
		require.NoError(t, err, c.text)
		assert.NotEqual(t, code, string(c.rendered), c.text)
	}
	assert.ElementsMatch(t, []string{"the condition is negated", "&& became ||", "== became !=", "a negation is gone", "true became false", "the case does nothing",
		"a statement is gone", "> became >=", "false became true"}, texts)
	for _, c := range all {
		if c.text == "> became >=" {
			assert.Equal(t, strings.Replace(code, "b > 2", "b >= 2", 1), string(c.rendered), "and nothing else is changed")
			assert.Equal(t, 11, c.line)
		}
	}
	none, err := changes(dir, "y")
	require.NoError(t, err)
	assert.Empty(t, none)
}
