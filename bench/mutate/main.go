// Mutate changes the code of a package in one place at a time, by a seed, and
// says which changes no test notices:
//
//	go run ./bench/mutate -n 50 -seed 1 ./internal/batch
//	go run ./bench/mutate -files 'protect|footprint' ./internal/batch ./internal/batch ./internal/conformance
//
// The first argument is the package that is changed, the others are those whose
// tests run against it (the package itself where none are given). The tree is
// not touched: changed files are laid over it.
package main

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"go/ast"
	"go/format"
	"go/parser"
	"go/token"
	"log"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"
)

func main() {
	log.SetFlags(0)
	n := flag.Int("n", 30, "how many changes to try")
	seed := flag.Uint64("seed", 1, "which changes")
	files := flag.String("files", "", "only files whose names match this pattern")
	args := flag.String("args", "", "further arguments of go test, with blanks between them")
	patience := flag.Duration("timeout", 2*time.Minute, "a test that takes longer has noticed the change")
	flag.Parse()
	if flag.NArg() == 0 {
		log.Fatal("name a package, such as ./internal/batch")
	}
	dir, tests := flag.Arg(0), flag.Args()[1:]
	if len(tests) == 0 {
		tests = []string{dir}
	}
	all, err := changes(dir, *files)
	if err != nil {
		log.Fatal(err)
	}
	r := rand.New(rand.NewPCG(*seed, 1))
	r.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
	all = all[:min(*n, len(all))]
	noticed, unbuilt, survived := 0, 0, 0
	for _, c := range all {
		switch what, err := c.try(tests, strings.Fields(*args), *patience); {
		case err != nil:
			log.Fatal(err)
		case what == builds:
			survived++
			fmt.Printf("survived  %s\n", c)
		case what == broken:
			unbuilt++
		default:
			noticed++
		}
	}
	tried := noticed + survived
	fmt.Printf("%s: %d places, %d tried, %d noticed, %d survived (%.0f %%), %d did not build\n", dir, len(all), tried,
		noticed, survived, 100*float64(survived)/float64(max(tried, 1)), unbuilt)
}

// change is one change of one file.
type change struct {
	file     string
	line     int
	text     string // what becomes of what
	rendered []byte // the whole file with it
}

func (c *change) String() string { return fmt.Sprintf("%s:%d  %s", c.file, c.line, c.text) }

// changes finds all places of a package's files that can be changed.
func changes(dir, pattern string) (all []*change, err error) {
	names, err := filepath.Glob(filepath.Join(dir, "*.go"))
	if err != nil {
		return nil, err
	}
	wanted, err := regexp.Compile(pattern)
	if err != nil {
		return nil, err
	}
	for _, name := range names {
		if strings.HasSuffix(name, "_test.go") || !wanted.MatchString(filepath.Base(name)) {
			continue
		}
		fset := token.NewFileSet()
		file, err := parser.ParseFile(fset, name, nil, parser.ParseComments)
		if err != nil {
			return nil, err
		}
		var failed error
		render := func(pos token.Pos, format_ string, args ...any) {
			var out bytes.Buffer
			failed = errors.Join(failed, format.Node(&out, fset, file))
			all = append(all, &change{name, fset.Position(pos).Line, fmt.Sprintf(format_, args...), out.Bytes()})
		}
		ast.Inspect(file, func(node ast.Node) bool {
			mutate(node, render)
			return true
		})
		if failed != nil {
			return nil, failed
		}
	}
	return all, nil
}

var swaps = map[token.Token]token.Token{
	token.EQL:  token.NEQ,
	token.NEQ:  token.EQL,
	token.LSS:  token.LEQ,
	token.LEQ:  token.LSS,
	token.GTR:  token.GEQ,
	token.GEQ:  token.GTR,
	token.LAND: token.LOR,
	token.LOR:  token.LAND,
	token.ADD:  token.SUB,
	token.SUB:  token.ADD,
}

// mutate makes each change that a node allows, hands the file over, and takes
// the change back.
func mutate(node ast.Node, render func(token.Pos, string, ...any)) {
	switch n := node.(type) {
	case *ast.BinaryExpr:
		if other, ok := swaps[n.Op]; ok {
			was := n.Op
			n.Op = other
			render(n.OpPos, "%s became %s", was, other)
			n.Op = was
		}
	case *ast.UnaryExpr:
		if n.Op == token.NOT {
			was := n.X
			n.X = &ast.ParenExpr{X: &ast.UnaryExpr{Op: token.NOT, X: was}}
			render(n.OpPos, "a negation is gone")
			n.X = was
		}
	case *ast.Ident:
		if n.Name == "true" || n.Name == "false" {
			was := n.Name
			n.Name = map[string]string{"true": "false", "false": "true"}[was]
			render(n.Pos(), "%s became %s", was, n.Name)
			n.Name = was
		}
	case *ast.IfStmt:
		was := n.Cond
		n.Cond = &ast.UnaryExpr{Op: token.NOT, X: &ast.ParenExpr{X: was}}
		render(n.Pos(), "the condition is negated")
		n.Cond = was
	case *ast.CaseClause:
		if len(n.Body) > 0 && len(n.List) > 0 {
			was := n.Body
			n.Body = nil
			render(n.Pos(), "the case does nothing")
			n.Body = was
		}
		without(&n.Body, render)
	case *ast.BlockStmt:
		without(&n.List, render)
	}
}

// without takes each statement of a list out in turn that can be missed.
func without(list *[]ast.Stmt, render func(token.Pos, string, ...any)) {
	was := *list
	for i, s := range was {
		switch s.(type) {
		case *ast.ExprStmt, *ast.AssignStmt, *ast.BranchStmt, *ast.IncDecStmt:
			*list = slices.Delete(slices.Clone(was), i, i+1)
			render(s.Pos(), "a statement is gone")
		}
	}
	*list = was
}

// What becomes of a change.
const (
	builds = iota // and no test notices
	broken        // it does not compile
	caught
)

// try runs the tests over the changed file.
func (c *change) try(tests, args []string, patience time.Duration) (int, error) {
	dir, err := os.MkdirTemp("", "mutate-")
	if err != nil {
		return 0, err
	}
	defer os.RemoveAll(dir)
	changed, overlay := filepath.Join(dir, "changed.go"), filepath.Join(dir, "overlay.json")
	full, err := filepath.Abs(c.file)
	if err != nil {
		return 0, err
	}
	laid, err := json.Marshal(map[string]map[string]string{"Replace": {full: changed}})
	if err != nil {
		return 0, err
	}
	if err := errors.Join(os.WriteFile(changed, c.rendered, 0o600), os.WriteFile(overlay, laid, 0o600)); err != nil {
		return 0, err
	}
	ctx, stop := context.WithTimeout(context.Background(), patience)
	defer stop()
	// Vet finds what does not compile, and unreachable code that a compiler takes.
	if out, err := exec.CommandContext(ctx, "go", append([]string{"build", "-overlay", overlay}, tests...)...).CombinedOutput(); err != nil {
		if ctx.Err() == nil && len(out) > 0 {
			return broken, nil
		}
		return 0, fmt.Errorf("%s: %w", c, err)
	}
	command := slices.Concat([]string{"test", "-overlay", overlay, "-failfast", "-count=1"}, args, tests)
	out, err := exec.CommandContext(ctx, "go", command...).CombinedOutput()
	switch {
	case err == nil:
		return builds, nil
	case bytes.Contains(out, []byte("[build failed]")):
		return broken, nil
	}
	return caught, nil
}
