package filter

import (
	"encoding/hex"
	"errors"
	"fmt"
	"strings"
	"unicode/utf8"
)

// Parse reads a filter in its text form (RFC 4515), such as
// (&(objectClass=user)(l=Cork)). The outermost brackets may be left out, and
// those around what is negated.
func Parse(text string) (Filter, error) {
	if text = strings.TrimSpace(text); text != "" && !strings.HasPrefix(text, "(") {
		text = "(" + text + ")"
	}
	p := parser{text: text}
	f, err := p.filter()
	if err == nil && p.at < len(text) {
		err = fmt.Errorf("it goes on behind its end: %q", text[p.at:])
	}
	if err != nil {
		return Filter{}, fmt.Errorf("%q is not a filter: %w", text, err)
	}
	return f, nil
}

// parser reads a filter's text from left to right.
type parser struct {
	text string
	at   int // the octet that comes next
}

var errEnds = errors.New("it ends before all brackets are closed")

// filter reads a filter in brackets.
func (p *parser) filter() (Filter, error) {
	if !strings.HasPrefix(p.text[p.at:], "(") {
		return Filter{}, fmt.Errorf("it does not start with a bracket")
	}
	p.at++
	return p.inside(maxDepth)
}

// inside reads what stands behind an opening bracket, with the closing one.
func (p *parser) inside(depth int) (Filter, error) {
	if depth == 0 {
		return Filter{}, errDeep
	}
	if p.at >= len(p.text) {
		return Filter{}, errEnds
	}
	switch p.text[p.at] {
	case '(':
		p.at++
		f, err := p.inside(depth - 1)
		if err == nil {
			err = p.close()
		}
		return f, err
	case '&':
		return p.several(opAnd, depth)
	case '|':
		return p.several(opOr, depth)
	case '!':
		p.at++
		child, err := p.inside(depth - 1)
		return Filter{op: opNot, children: []Filter{child}}, err
	}
	return p.condition()
}

// close reads a closing bracket.
func (p *parser) close() error {
	switch {
	case p.at >= len(p.text):
		return errEnds
	case p.text[p.at] != ')':
		return fmt.Errorf("a closing bracket is missing before %q", p.text[p.at:])
	}
	p.at++
	return nil
}

// several reads what a conjunction or a disjunction is of, and the closing
// bracket.
func (p *parser) several(op int, depth int) (Filter, error) {
	f := Filter{op: op}
	p.at++
	for p.at < len(p.text) && p.text[p.at] == '(' {
		p.at++
		child, err := p.inside(depth - 1)
		if err != nil {
			return Filter{}, err
		}
		f.children = append(f.children, child)
	}
	return f, p.close()
}

// condition reads a condition on one attribute, and the closing bracket.
func (p *parser) condition() (Filter, error) {
	length := strings.IndexByte(p.text[p.at:], ')')
	if length < 0 {
		return Filter{}, errEnds
	}
	text := p.text[p.at : p.at+length]
	p.at += length + 1
	if !utf8.ValidString(text) || strings.ContainsRune(text, utf8.RuneError) {
		return Filter{}, fmt.Errorf("%q holds octets that are no UTF-8; they are written as \\xx", text)
	}
	return conditionOf(text)
}

// conditionOf reads a condition on one attribute: its description, what is asked
// of it, and a value.
func conditionOf(text string) (f Filter, err error) {
	for i := 0; i < len(text) && err == nil; i++ {
		rest := text[i:]
		switch {
		case strings.HasPrefix(rest, ":"):
			return extensible(text[:i], rest)
		case strings.HasPrefix(rest, "="):
			return equal(text[:i], rest[1:])
		case strings.HasPrefix(rest, ">="):
			f = Filter{op: opGreater, attr: text[:i]}
		case strings.HasPrefix(rest, "<="):
			f = Filter{op: opLess, attr: text[:i]}
		case strings.HasPrefix(rest, "~="):
			f = Filter{op: opApprox, attr: text[:i]}
		default:
			continue
		}
		f.value, err = unescape(rest[2:])
		return f, err
	}
	return Filter{}, fmt.Errorf("%q asks nothing: write (attribute=value)", text)
}

// equal is a condition with an equals sign, by what stands behind that: a value,
// parts of one, or a star for any.
func equal(attr, value string) (f Filter, err error) {
	switch {
	case value == "*":
		return Filter{op: opPresent, attr: attr}, nil
	case !strings.Contains(value, "*"):
		f = Filter{op: opEqual, attr: attr}
		f.value, err = unescape(value)
		return f, err
	}
	f = Filter{op: opSubstrings, attr: attr}
	parts := strings.Split(value, "*")
	for i, part := range parts {
		at := 1
		switch {
		case part == "":
			continue
		case i == 0:
			at = 0
		case i == len(parts)-1:
			at = 2
		}
		part, err = unescape(part)
		if err != nil {
			return Filter{}, err
		}
		f.pieces = append(f.pieces, piece{at, part})
	}
	return f, nil
}

// extensible is a condition by a named rule, from its first colon on:
// [:dn][:rule]:=value.
func extensible(attr, rest string) (f Filter, err error) {
	f = Filter{op: opExtensible, attr: attr}
	if f.dnToo = strings.HasPrefix(rest, ":dn:"); f.dnToo {
		rest = rest[len(":dn"):]
	}
	rule, value, found := strings.Cut(rest[1:], ":=")
	if strings.HasPrefix(rest, ":=") {
		rule, value, found = "", rest[2:], true
	}
	if !found {
		// A rule without a value asks for the empty one.
		rule, value = rest[1:], ""
	}
	f.rule = rule
	f.value, err = unescape(value)
	return f, err
}

// unescape reads a value: \xx stands for an octet.
func unescape(text string) (string, error) {
	before, rest, found := strings.Cut(text, `\`)
	if !found {
		return text, nil
	}
	var b strings.Builder
	for found {
		b.WriteString(before)
		if len(rest) < 2 {
			return "", fmt.Errorf(`two hexadecimal digits are missing behind the last \ of %q`, text)
		}
		octet, err := hex.DecodeString(rest[:2])
		if err != nil {
			return "", fmt.Errorf(`\%s of %q is not \ with two hexadecimal digits`, rest[:2], text)
		}
		b.Write(octet)
		before, rest, found = strings.Cut(rest[2:], `\`)
	}
	b.WriteString(before)
	return b.String(), nil
}

// Escape writes a text so that in a filter it stands for itself.
func Escape(text string) string {
	var b strings.Builder
	for i := range len(text) {
		switch c := text[i]; {
		case c == '(', c == ')', c == '\\', c == '*', c == 0, c >= utf8.RuneSelf:
			fmt.Fprintf(&b, `\%02x`, c)
		default:
			b.WriteByte(c)
		}
	}
	return b.String()
}
