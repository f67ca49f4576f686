// Package filter reads LDAP search filters (RFC 4515, and their encoding in
// RFC 4511, section 4.5.1.7) and evaluates them on entries.
//
// Evaluation is three-valued as RFC 4511 asks: a condition on something the
// evaluator cannot compare is undefined, and so is its negation.
package filter

import (
	"fmt"
	"strconv"
	"strings"

	ber "github.com/go-asn1-ber/asn1-ber"
	"github.com/go-ldap/ldap/v3"

	"yardbroom/internal/directory"
)

// Truth is the value of a filter on an entry.
type Truth int8

// The three truth values.
const (
	False Truth = iota
	Undefined
	True
)

// The matching rules of bit fields, known to servers of the `ad` schema.
const (
	ruleBitAnd = "1.2.840.113556.1.4.803"
	ruleBitOr  = "1.2.840.113556.1.4.804"
)

// Filter is one node of a filter. Its zero value matches nothing.
type Filter struct {
	op       int // the context tag of RFC 4511
	attr     string
	value    string
	rule     string
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

// Parse reads a filter in its text form, such as (&(objectClass=user)(l=Cork)).
func Parse(text string) (Filter, error) {
	packet, err := ldap.CompileFilter(text)
	if err != nil {
		return Filter{}, fmt.Errorf("%q is not a filter: %w", text, err)
	}
	// The compiled form is the sender's; a round through its octets makes it
	// the receiver's.
	packet, err = ber.DecodePacketErr(packet.Bytes())
	if err != nil {
		return Filter{}, fmt.Errorf("%q is not a filter: %w", text, err)
	}
	return Decode(packet)
}

const maxDepth = 100

// Decode reads a filter as it stands in a search request.
func Decode(p *ber.Packet) (Filter, error) { return decode(p, maxDepth) }

func decode(p *ber.Packet, depth int) (Filter, error) {
	if depth == 0 {
		return Filter{}, fmt.Errorf("a filter nested deeper than %d", maxDepth)
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
			f.pieces = append(f.pieces, piece{int(c.Tag), strings.ToLower(octets(c))})
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

// Attributes returns the names of the attributes that the filter looks at.
func (f Filter) Attributes() []string {
	var names []string
	if f.attr != "" {
		names = append(names, f.attr)
	}
	for _, c := range f.children {
		names = append(names, c.Attributes()...)
	}
	return names
}

// Match evaluates the filter on an entry.
func (f Filter) Match(e *directory.Entry) Truth {
	switch f.op {
	case opAnd:
		t := True
		for _, c := range f.children {
			t = min(t, c.Match(e))
		}
		return t
	case opOr:
		t := False
		for _, c := range f.children {
			t = max(t, c.Match(e))
		}
		return t
	case opNot:
		if len(f.children) != 1 {
			return False
		}
		return True - f.children[0].Match(e)
	case opPresent:
		return truth(strings.EqualFold(f.attr, "objectClass") || e.Has(f.attr))
	}
	values := e.Get(f.attr)
	t := False
	for _, v := range values {
		t = max(t, f.compare(v))
	}
	return t
}

func (f Filter) compare(v string) Truth {
	switch f.op {
	case opEqual, opApprox:
		return truth(equal(f.attr, v, f.value))
	case opSubstrings:
		return truth(f.substrings(strings.ToLower(v)))
	case opGreater:
		return truth(order(v, f.value) >= 0)
	case opLess:
		return truth(order(v, f.value) <= 0)
	case opExtensible:
		return f.extensible(v)
	}
	return Undefined
}

func equal(attr, a, b string) bool {
	if a == b {
		return true
	}
	switch directory.LookupAttr(attr) {
	case directory.AttrObjectGUID, directory.AttrObjectSID:
		return false
	}
	if strings.EqualFold(a, b) {
		return true
	}
	return strings.Contains(a, "=") && strings.Contains(b, "=") && directory.FoldDN(a) == directory.FoldDN(b)
}

// order compares integers as integers and anything else as text; times of
// one form order as text does.
func order(a, b string) int {
	x, errA := strconv.ParseInt(a, 10, 64)
	y, errB := strconv.ParseInt(b, 10, 64)
	if errA == nil && errB == nil {
		switch {
		case x < y:
			return -1
		case x > y:
			return 1
		}
		return 0
	}
	return strings.Compare(strings.ToLower(a), strings.ToLower(b))
}

func (f Filter) substrings(v string) bool {
	for i, p := range f.pieces {
		switch p.at {
		case 0:
			if i != 0 || !strings.HasPrefix(v, p.text) {
				return false
			}
			v = v[len(p.text):]
		case 1:
			at := strings.Index(v, p.text)
			if at < 0 {
				return false
			}
			v = v[at+len(p.text):]
		default:
			return i == len(f.pieces)-1 && strings.HasSuffix(v, p.text)
		}
	}
	return true
}

func (f Filter) extensible(v string) Truth {
	have, err1 := strconv.ParseInt(v, 10, 64)
	want, err2 := strconv.ParseInt(f.value, 10, 64)
	if err1 != nil || err2 != nil {
		return Undefined
	}
	switch f.rule {
	case ruleBitAnd:
		return truth(have&want == want)
	case ruleBitOr:
		return truth(have&want != 0)
	}
	return Undefined
}

func truth(yes bool) Truth {
	if yes {
		return True
	}
	return False
}
