// Package filter reads LDAP search filters (RFC 4515, and their encoding in
// RFC 4511, section 4.5.1.7) and evaluates them on entries as a server of
// the entries' dialect does.
//
// Evaluation is three-valued as RFC 4511 asks: a condition on something that
// cannot be compared is undefined, and so is its negation. What compares,
// and how, is told by the dialect's schema.
package filter

import (
	"fmt"
	"strings"

	ber "github.com/go-asn1-ber/asn1-ber"
)

// Filter is one node of a filter. Its zero value is the conjunction of
// nothing, which every entry fulfils.
type Filter struct {
	op       int // the context tag of RFC 4511
	attr     string
	value    string
	rule     string
	dnToo    bool // the condition holds of the levels of the entry's name too
	pieces   []piece
	children []Filter
}

// piece is one part of a substring condition; at tells where it must stand.
type piece struct {
	at   int // 0 start, 1 anywhere, 2 end
	text string
}

const (
	opAnd = iota
	opOr
	opNot
	opEqual
	opSubstrings
	opGreater
	opLess
	opPresent
	opApprox
	opExtensible
)

const maxDepth = 100

var errDeep = fmt.Errorf("it is nested deeper than %d", maxDepth)

// Decode reads a filter as it stands in a search request.
func Decode(p *ber.Packet) (Filter, error) { return decode(p, maxDepth) }

func decode(p *ber.Packet, depth int) (Filter, error) {
	if depth == 0 {
		return Filter{}, errDeep
	}
	f := Filter{op: int(p.Tag)}
	need := func(n int) error {
		if len(p.Children) < n {
			return fmt.Errorf("a filter element %d with %d parts", p.Tag, len(p.Children))
		}
		return nil
	}
	switch f.op {
	case opAnd, opOr, opNot:
		for _, c := range p.Children {
			child, err := decode(c, depth-1)
			if err != nil {
				return Filter{}, err
			}
			f.children = append(f.children, child)
		}
		if f.op == opNot && len(f.children) != 1 {
			return Filter{}, fmt.Errorf("a negation of %d filters", len(f.children))
		}
	case opEqual, opGreater, opLess, opApprox:
		if err := need(2); err != nil {
			return Filter{}, err
		}
		f.attr, f.value = octets(p.Children[0]), octets(p.Children[1])
	case opSubstrings:
		if err := need(2); err != nil {
			return Filter{}, err
		}
		f.attr = octets(p.Children[0])
		for _, c := range p.Children[1].Children {
			f.pieces = append(f.pieces, piece{int(c.Tag), octets(c)})
		}
	case opPresent:
		f.attr = octets(p)
	case opExtensible:
		for _, c := range p.Children {
			switch c.Tag {
			case 1:
				f.rule = octets(c)
			case 2:
				f.attr = octets(c)
			case 3:
				f.value = octets(c)
			case 4:
				f.dnToo = octets(c) != "\x00"
			}
		}
	default:
		return Filter{}, fmt.Errorf("unknown filter element %d", p.Tag)
	}
	return f, nil
}

func octets(p *ber.Packet) string {
	if p.Data != nil {
		return p.Data.String()
	}
	return string(p.ByteValue)
}

// both is the conjunction of filters.
func both(filters ...Filter) Filter {
	return Filter{op: opAnd, children: filters}
}

// Attributes returns the names of the attributes that the filter looks at,
// each once, in the order they come.
func (f Filter) Attributes() []string {
	var names []string
	seen := map[string]bool{}
	f.walk(func(n *Filter) {
		if key := strings.ToLower(n.attr); key != "" && !seen[key] {
			seen[key] = true
			names = append(names, n.attr)
		}
	})
	return names
}

// AnyAttribute tells whether a condition of the filter names no attribute, and so
// is about all of them (RFC 4511, section 4.5.1.7.7).
func (f Filter) AnyAttribute() bool {
	found := false
	f.walk(func(n *Filter) { found = found || n.op == opExtensible && n.attr == "" })
	return found
}

// Weaken returns a filter that is fulfilled at least where this one is, without
// the conditions on order that cannot be evaluated where it is sent to: each is
// replaced by the presence of the attribute. Of a condition, evaluates tells that
// and whether it can be made up for here; one that cannot, or that is negated,
// is an error.
func (f Filter) Weaken(
	evaluates func(attr string, ordering bool) (there, here bool),
) (weaker Filter, changed bool, err error) {
	weaker = f
	weaker.children = nil
	switch f.op {
	case opGreater, opLess, opSubstrings:
		there, here := evaluates(f.attr, f.op != opSubstrings)
		switch {
		case !there && !here:
			return f, false, fmt.Errorf("the server's schema has no rule to evaluate %s by, so it would find nothing",
				f)
		case !there:
			return Filter{op: opPresent, attr: f.attr}, true, nil
		}
	}
	for i := range f.children {
		child, did, err := f.children[i].Weaken(evaluates)
		if err == nil && did && f.op == opNot {
			err = fmt.Errorf(
				"the server's schema has no rule to evaluate %s by, so what is negated cannot be told; ask it of a kept survey",
				f.children[i],
			)
		}
		if err != nil {
			return f, false, err
		}
		weaker.children, changed = append(weaker.children, child), changed || did
	}
	return weaker, changed, nil
}

// walk goes through the filter's nodes, which visit may change.
func (f *Filter) walk(visit func(*Filter)) {
	visit(f)
	for i := range f.children {
		f.children[i].walk(visit)
	}
}

// String writes the filter as RFC 4515 does.
func (f Filter) String() string {
	var b strings.Builder
	f.write(&b)
	return b.String()
}

func (f Filter) write(b *strings.Builder) {
	b.WriteByte('(')
	switch f.op {
	case opAnd, opOr, opNot:
		b.WriteByte("&|!"[f.op])
		for _, c := range f.children {
			c.write(b)
		}
	case opPresent:
		b.WriteString(f.attr + "=*")
	case opSubstrings:
		b.WriteString(f.attr + "=")
		for i, p := range f.pieces {
			if i == 0 && p.at != 0 || i > 0 {
				b.WriteByte('*')
			}
			b.WriteString(Escape(p.text))
		}
		if n := len(f.pieces); n == 0 || f.pieces[n-1].at != 2 {
			b.WriteByte('*')
		}
	case opExtensible:
		b.WriteString(f.attr)
		if f.dnToo {
			b.WriteString(":dn")
		}
		if f.rule != "" {
			b.WriteString(":" + f.rule)
		}
		b.WriteString(":=" + Escape(f.value))
	default:
		sign := map[int]string{opEqual: "=", opGreater: ">=", opLess: "<=", opApprox: "~="}[f.op]
		b.WriteString(f.attr + sign + Escape(f.value))
	}
	b.WriteByte(')')
}
