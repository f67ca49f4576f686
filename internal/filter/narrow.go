package filter

import (
	"slices"
	"strings"

	"yardbroom/internal/directory"
)

// Equality is how the values of an attribute are compared, for an index of
// them.
type Equality struct {
	Name   string // of the attribute, in lower case, whatever it was called
	syntax directory.Syntax
}

// EqualityOf returns how an attribute's values are compared; ok is false where
// equality is more than a matter of the values.
func EqualityOf(d *directory.Dialect, attr string) (eq Equality, ok bool) {
	attr, _, _ = strings.Cut(attr, ";")
	c := columnOf(attr, d, nil)
	if !c.plain() {
		return eq, false
	}
	return Equality{Name: strings.ToLower(c.kind.Name), syntax: c.kind.Syntax}, true
}

// Form is the same for values that are equal; ok is false for a value that is
// equal to none.
func (eq *Equality) Form(value string) (form string, ok bool) { return canonical(eq.syntax, value) }

// AppendForm appends what Form returns.
func (eq *Equality) AppendForm(buf []byte, value string) (form []byte, ok bool) {
	if (eq.syntax == directory.SyntaxText || eq.syntax == directory.SyntaxPlain) && isOneWord(value) {
		from, to := byte('A'), byte('Z')
		if eq.syntax == directory.SyntaxPlain {
			from, to = 'a', 'z'
		}
		for i := range len(value) {
			c := value[i]
			if from <= c && c <= to {
				c ^= 'a' ^ 'A'
			}
			buf = append(buf, c)
		}
		return buf, true
	}
	text, ok := eq.Form(value)
	return append(buf, text...), ok
}

// isOneWord tells that a value holds ASCII signs that can be seen, and nothing else.
func isOneWord(value string) bool {
	for i := range len(value) {
		if value[i] <= ' ' || value[i] > '~' {
			return false
		}
	}
	return value != ""
}

// plain tells whether equality is a matter of the values alone.
func (c *column) plain() bool {
	return c.kind != nil && c.kind.Syntax != directory.SyntaxClass && c.kind.Syntax != directory.SyntaxNone &&
		c.name != "objectcategory" &&
		c.name != "anr"
}

// Narrow returns what can fulfil the filter at all, by an index: have returns
// what has a value, by its Equality, or false for an attribute that is not
// indexed. What comes back may hold something twice, and something that does
// not fulfil the filter. ok is false where the index cannot tell.
func (f *Filter) Narrow(d *directory.Dialect, have func(name, form string) ([]string, bool)) (keys []string, ok bool) {
	switch f.op {
	case opAnd:
		for i := range f.children {
			if some, able := f.children[i].Narrow(d, have); able && (!ok || len(some) < len(keys)) {
				keys, ok = some, true
			}
		}
		return keys, ok
	case opOr:
		for i := range f.children {
			some, able := f.children[i].Narrow(d, have)
			if !able {
				return nil, false
			}
			keys = append(slices.Clip(keys), some...)
		}
		return keys, true
	case opEqual:
		return narrowEqual(columnOf(f.attr, d, nil), f.value, have)
	}
	return nil, false
}

// narrowEqual asks for the values of an attribute and of those that derive
// from it.
func narrowEqual(c column, value string, have func(name, form string) ([]string, bool)) (keys []string, ok bool) {
	if !c.plain() {
		return nil, false
	}
	form, ok := canonical(c.kind.Syntax, value)
	if !ok {
		return nil, true // it is equal to nothing
	}
	asked := map[string]bool{}
	for _, n := range c.names {
		kind := c.schema.Type(n)
		if kind == nil || asked[kind.Name] {
			continue
		}
		asked[kind.Name] = true
		some, able := have(strings.ToLower(kind.Name), form)
		if !able {
			return nil, false
		}
		keys = append(slices.Clip(keys), some...)
	}
	return keys, true
}
