package settings

import (
	"errors"
	"fmt"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/printer"

	"yardbroom/internal/wording"
)

// Words are texts: one, or a list of them.
type Words []string

// UnmarshalYAML reads a text or a list of texts.
func (w *Words) UnmarshalYAML(read func(any) error) error {
	var one string
	if read(&one) == nil {
		if *w = nil; one != "" {
			*w = Words{one}
		}
		return nil
	}
	return read((*[]string)(w))
}

// UnmarshalYAML reads a step, which may be a word alone: "- survey" and
// "- survey:" are "- survey: {}".
func (s *Step) UnmarshalYAML(node ast.Node) error {
	type plain Step
	word := alone(node)
	if word == "" {
		return yaml.NodeToValue(node, (*plain)(s), yaml.Strict())
	}
	if yaml.UnmarshalWithOptions(fmt.Appendf(nil, "%s: {}", word), (*plain)(s), yaml.Strict()) != nil {
		at := node.GetToken().Position
		return fmt.Errorf("line %d, column %d: %q is not a step%s: a step is one of %s", at.Line, at.Column, word,
			wording.DidYouMean(word, stepNames), strings.Join(stepNames, ", "))
	}
	return nil
}

// stepNames are what a step may do.
var stepNames = []string{"survey", "audit", "list", "reconcile", "stage", "due", "apply", "climb", "answers"}

// alone is the word that a step is made of where nothing more is said, else "".
func alone(node ast.Node) string {
	switch n := node.(type) {
	case *ast.StringNode:
		return n.Value
	case *ast.MappingValueNode:
		if n.Value.Type() == ast.NullType {
			return n.Key.String()
		}
	case *ast.MappingNode:
		if len(n.Values) == 1 {
			return alone(n.Values[0])
		}
	}
	return ""
}

// Position is where a part of the file stands, as "line 12, column 5", "" where
// that is not known. The path is of keys (string) and places in lists (int).
func (s *Settings) Position(path ...any) string {
	if s.tree == nil {
		return ""
	}
	for ; len(path) > 0; path = path[:len(path)-1] {
		b := (&yaml.PathBuilder{}).Root()
		for _, part := range path {
			switch part := part.(type) {
			case string:
				b = b.Child(part)
			case int:
				b = b.Index(uint(part))
			}
		}
		node, err := b.Build().FilterFile(s.tree)
		if err != nil || node == nil {
			continue // the next longest path that is there
		}
		at := node.GetToken().Position
		return fmt.Sprintf("line %d, column %d", at.Line, at.Column)
	}
	return ""
}

// Fault is what is wrong with one part of the settings.
type Fault struct {
	Path []any // keys and places in lists
	Err  error
}

// where names the keys that lead to it, and a colon behind each.
func (f *Fault) where() (where string) {
	for _, part := range f.Path {
		if n, ok := part.(int); ok {
			where += fmt.Sprintf("%d: ", n+1)
			continue
		}
		where += fmt.Sprintf("%s: ", part)
	}
	return where
}

// unparsed says what is wrong with a file that cannot be read as YAML, and shows the
// line.
func unparsed(err error) string {
	var at yaml.Error
	if !errors.As(err, &at) || at.GetToken() == nil {
		return err.Error()
	}
	var shown printer.Printer
	p := at.GetToken().Position
	return fmt.Sprintf("line %d, column %d: %s\n%s", p.Line, p.Column, at.GetMessage(), shown.PrintErrorToken(at.GetToken(), false))
}

// Faulty makes a Fault of what is wrong at a path.
func Faulty(err error, path ...any) *Fault { return &Fault{Path: path, Err: err} }

func (f *Fault) Error() string { return "settings: " + f.where() + f.Err.Error() }
func (f *Fault) Unwrap() error { return f.Err }

// Misset is the error for a fault, with the place of it in the file.
func (s *Settings) Misset(f *Fault) error {
	where := f.where()
	if at := s.Position(f.Path...); at != "" {
		return fmt.Errorf("settings %s, %s: %s%w", s.File, at, where, f.Err)
	}
	return fmt.Errorf("settings: %s%w", where, f.Err)
}
