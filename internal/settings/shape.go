package settings

import (
	"encoding"
	"fmt"
	"reflect"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"yardbroom/internal/wording"
)

// misshapen looks for the first key that there is not, and the first value of another
// kind than its key wants, and says so in words; nil where all fit. The file holds what
// a type describes by its yaml tags.
func misshapen(node ast.Node, t reflect.Type, path []any) *Fault {
	wrong := func(format string, args ...any) *Fault {
		return &Fault{Path: append([]any(nil), path...), Err: fmt.Errorf(format, args...)}
	}
	for t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	switch n := node.(type) {
	case nil, *ast.NullNode, *ast.AliasNode:
		return nil
	case *ast.AnchorNode:
		return misshapen(n.Value, t, path)
	case *ast.TagNode:
		return nil
	}
	if v, ok := reflect.New(t).Interface().(encoding.TextUnmarshaler); ok {
		if !scalar(node) {
			return wrong("give one value, not %s", shapeOf(node))
		}
		if err := v.UnmarshalText([]byte(textOf(node))); err != nil {
			return wrong("%w", err)
		}
		return nil
	}
	switch {
	case t == reflect.TypeFor[Words]():
		if scalar(node) {
			return nil
		}
		return misshapen(node, reflect.TypeFor[[]string](), path)
	case t == reflect.TypeFor[Step]() && alone(node) != "":
		return nil // what the word is, its own reader says
	case t.Kind() == reflect.Struct:
		return misshapenParts(node, t, path, wrong)
	case t.Kind() == reflect.Map:
		pairs, ok := pairsOf(node)
		if !ok {
			return wrong("give keys with their values, not %s", shapeOf(node))
		}
		for _, p := range pairs {
			if f := misshapen(p.Value, t.Elem(), append(path, textOf(p.Key))); f != nil {
				return f
			}
		}
	case t.Kind() == reflect.Slice:
		list, ok := node.(*ast.SequenceNode)
		if !ok {
			return wrong("give a list, [%s], not %s", exampleOf(node), shapeOf(node))
		}
		for i, one := range list.Values {
			if f := misshapen(one, t.Elem(), append(path, i)); f != nil {
				return f
			}
		}
	case !scalar(node):
		return wrong("give one value, not %s%s", shapeOf(node), quoteHint(node))
	case t.Kind() == reflect.Bool && node.Type() != ast.BoolType:
		return wrong("give true or false, not %q", textOf(node))
	case t.Kind() == reflect.Int && node.Type() != ast.IntegerType:
		return wrong("give a whole number, not %q", textOf(node))
	case t.Kind() == reflect.Float64 && node.Type() != ast.IntegerType && node.Type() != ast.FloatType:
		return wrong("give a number, not %q", textOf(node))
	}
	return nil
}

// misshapenParts looks at the keys of a struct.
func misshapenParts(node ast.Node, t reflect.Type, path []any, wrong func(string, ...any) *Fault) *Fault {
	pairs, ok := pairsOf(node)
	if !ok {
		return wrong("give keys with their values, not %s", shapeOf(node))
	}
	fields, names := map[string]reflect.Type{}, []string{}
	for i := range t.NumField() {
		name, _, _ := strings.Cut(t.Field(i).Tag.Get("yaml"), ",")
		if name != "" && name != "-" {
			fields[name] = t.Field(i).Type
			names = append(names, name)
		}
	}
	for _, p := range pairs {
		key := textOf(p.Key)
		field, known := fields[key]
		if key == "<<" {
			continue
		}
		path := append(path, key)
		if !known {
			return &Fault{Path: path, Err: fmt.Errorf("there is no such key here%s; there are %s", wording.DidYouMean(key, names), strings.Join(names, ", "))}
		}
		if f := misshapen(p.Value, field, path); f != nil {
			return f
		}
	}
	return nil
}

// pairsOf are the keys of a node with their values; ok is false where it has none.
func pairsOf(node ast.Node) (pairs []*ast.MappingValueNode, ok bool) {
	switch n := node.(type) {
	case *ast.MappingNode:
		return n.Values, true
	case *ast.MappingValueNode:
		return []*ast.MappingValueNode{n}, true
	}
	return nil, false
}

func scalar(node ast.Node) bool {
	_, is := node.(ast.ScalarNode)
	return is
}

// textOf is a value as it is written, without what quotes it.
func textOf(node ast.Node) string {
	if s, ok := node.(*ast.StringNode); ok {
		return s.Value
	}
	return strings.TrimSpace(node.GetToken().Value)
}

// shapeOf says in words what a node is.
func shapeOf(node ast.Node) string {
	switch node.(type) {
	case *ast.SequenceNode:
		return "a list"
	case *ast.MappingNode, *ast.MappingValueNode:
		return "keys with values"
	}
	return fmt.Sprintf("%q alone", textOf(node))
}

// exampleOf is what a list would hold.
func exampleOf(node ast.Node) string {
	if scalar(node) {
		return fmt.Sprintf("%q", textOf(node))
	}
	return "…"
}

// quoteHint says what is often wrong where a text was read as keys: a colon in it.
func quoteHint(node ast.Node) string {
	if pairs, ok := pairsOf(node); ok && len(pairs) == 1 && scalar(pairs[0].Value) {
		return fmt.Sprintf("; a text with a colon in it stands in quotes: %q", textOf(pairs[0].Key)+":"+textOf(pairs[0].Value))
	}
	return ""
}
