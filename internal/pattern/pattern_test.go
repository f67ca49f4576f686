package pattern

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Nobody would notice at the start of the program that one of them is none.
func TestAllOfThemAreRegularExpressions(t *testing.T) {
	found := 0
	require.NoError(t, filepath.WalkDir("..", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
		require.NoError(t, err)
		ast.Inspect(file, func(n ast.Node) bool {
			call, isCall := n.(*ast.CallExpr)
			if !isCall || len(call.Args) != 1 {
				return true
			}
			if of, is := call.Fun.(*ast.SelectorExpr); !is || of.Sel.Name != "Lazy" {
				return true
			}
			found++
			if text, is := call.Args[0].(*ast.BasicLit); is {
				expr, err := strconv.Unquote(text.Value)
				require.NoError(t, err)
				_, err = regexp.Compile(expr)
				assert.NoError(t, err, path)
			}
			return true
		})
		return nil
	}))
	assert.Greater(t, found, 25)
}
