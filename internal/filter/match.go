package filter

import (
	"fmt"
	"math/big"
	"slices"
	"strings"

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

// The matching rules of bit fields and of chains of links, by the numbers
// that servers of the `ad` schema gave them.
const (
	ruleBitAnd = "1.2.840.113556.1.4.803"
	ruleBitOr  = "1.2.840.113556.1.4.804"
	ruleChain  = "1.2.840.113556.1.4.1941"
)

// Matcher is a filter made ready for the entries of one dialect. It may be
// used by several goroutines at once.
type Matcher struct {
	test    test
	looked  []column // at what it looks
	unknown []string
	odd     []string
	foreign []string
	chains  []*Chain
}

type test func(*directory.Entry) Truth

// For makes the filter ready for entries of a dialect. Attributes that the
// dialect's schema does not know compare as characters if they are among
// carried, the names that entries at hand carry in lower case; else what is
// said of them is undefined.
func (f Filter) For(d *directory.Dialect, carried map[string]bool) (*Matcher, error) {
	m := &Matcher{}
	var err error
	m.test, err = m.compile(&f, d, carried)
	return m, err
}

// Looks tells whether the filter looks at an attribute, as an entry names it.
func (m *Matcher) Looks(description string) bool {
	return slices.ContainsFunc(m.looked, func(c column) bool { return c.is(description) })
}

// Match evaluates the filter on an entry.
func (m *Matcher) Match(e *directory.Entry) Truth { return m.test(e) }

// Unknown returns the names of attributes that nothing is known of.
func (m *Matcher) Unknown() []string { return m.unknown }

// Odd returns the conditions whose value the attribute can never have, such
// as a word where it holds numbers.
func (m *Matcher) Odd() []string { return m.odd }

// Foreign returns the conditions whose matching rule is not one of those that
// are evaluated here; what is said of them is undefined.
func (m *Matcher) Foreign() []string { return m.foreign }

// Chains returns the chains of links that have to be told of all entries
// before the filter is evaluated.
func (m *Matcher) Chains() []*Chain { return m.chains }

func (m *Matcher) compile(f *Filter, d *directory.Dialect, carried map[string]bool) (test, error) {
	switch f.op {
	case opAnd, opOr, opNot:
		rest := f.children
		var children []test
		if f.op == opOr {
			children, rest = m.alternatives(f.children, d, carried)
		}
		for i := range rest {
			child, err := m.compile(&rest[i], d, carried)
			if err != nil {
				return nil, err
			}
			children = append(children, child)
		}
		return combine(f.op, children), nil
	}
	if f.attr == "" {
		return nil, fmt.Errorf("%s: a rule without an attribute is not evaluated here: name the attribute", f)
	}
	if d == directory.AD && strings.EqualFold(f.attr, "anr") &&
		(f.op == opEqual || f.op == opSubstrings || f.op == opApprox) {
		return m.compile(anyName(f), d, carried)
	}
	c := columnOf(f.attr, d, carried)
	m.looked = append(m.looked, c)
	if c.kind == nil {
		if !slices.Contains(m.unknown, f.attr) {
			m.unknown = append(m.unknown, f.attr)
		}
		return c.undefined(), nil
	}
	return m.leaf(f, c, d)
}

// columnOf returns the attribute of a condition; without a kind where nothing
// is known of it.
func columnOf(attr string, d *directory.Dialect, carried map[string]bool) column {
	c := column{name: strings.ToLower(directory.PlainName(attr)), schema: d.Schema(), loose: d == directory.AD}
	c.name, c.options, _ = strings.Cut(c.name, ";")
	c.names = []string{c.name}
	switch c.kind = c.schema.Type(c.name); {
	case c.kind != nil:
		c.names = c.schema.Names(c.kind)
	case carried[c.name]:
		c.kind = &directory.AttributeType{Name: c.name, Syntax: directory.SyntaxText, Ordered: true, Substrings: true}
	}
	c.ids = idsOf(c.names)
	return c
}

// idsOf returns the attributes that have one of the names.
func idsOf(names []string) (ids directory.AttrSet) {
	for _, name := range names {
		if id := directory.LookupAttr(name); id != directory.AttrUnknown {
			ids.Add(id)
		}
	}
	return ids
}

// longList is the number of values of one attribute from which on a set is quicker.
const longList = 5

// equality is a condition on values of an attribute that each of them decides alone.
type equality struct {
	column
	holds func(string) Truth
}

// alternatives makes one test of the equalities among some alternatives, which goes over an
// entry once, and returns the other ones. Many values of one attribute, as those who look
// many entries up at once ask for, become a set.
func (m *Matcher) alternatives(children []Filter, d *directory.Dialect, carried map[string]bool) (made []test, rest []Filter) {
	byAttr := map[string][]*Filter{}
	var attrs []string
	for i := range children {
		f := &children[i]
		if f.op != opEqual {
			rest = append(rest, *f)
			continue
		}
		key := strings.ToLower(f.attr)
		if byAttr[key] == nil {
			attrs = append(attrs, key)
		}
		byAttr[key] = append(byAttr[key], f)
	}
	if len(children)-len(rest) < 2 {
		return nil, children
	}
	var equalities []equality
	atLeast := False
	for _, attr := range attrs {
		c := columnOf(attr, d, carried)
		if c.kind == nil || c.kind.Syntax == directory.SyntaxClass || c.name == "objectcategory" ||
			d == directory.AD && attr == "anr" {
			for _, f := range byAttr[attr] {
				rest = append(rest, *f)
			}
			continue
		}
		m.looked = append(m.looked, c)
		var values []sought
		for _, f := range byAttr[attr] {
			m.note(f, c)
			if form, ok := canonical(c.kind.Syntax, f.value); ok {
				values = append(values, sought{f.value, form})
			} else {
				atLeast = max(atLeast, c.undefined()(nil))
			}
		}
		if len(values) >= longList {
			equalities = append(equalities, equality{c, among(c.kind.Syntax, values)})
			continue
		}
		for _, v := range values {
			equalities = append(equalities, equality{c, sameAs(c.kind.Syntax, v)})
		}
	}
	if len(equalities) > 0 || atLeast != False {
		made = append(made, either(equalities, atLeast))
	}
	return made, rest
}

// sought is a value that is asked for, and the form by which its like compare.
type sought struct{ value, form string }

// among is true of the values that are the same as one of some.
func among(syntax directory.Syntax, values []sought) func(string) Truth {
	exact, wanted := map[string]bool{}, map[string]bool{}
	for _, v := range values {
		exact[v.value], wanted[v.form] = true, true
	}
	return func(v string) Truth {
		if exact[v] {
			return True
		}
		have, ok := canonical(syntax, v)
		if !ok {
			return Undefined
		}
		return TruthOf(wanted[have])
	}
}

// either is true where one of some equalities is, and else at least as true as is said.
func either(equalities []equality, atLeast Truth) test {
	var byID [256][]*equality // those that may look at an attribute, by its number
	for i := range equalities {
		q := &equalities[i]
		byID[directory.AttrUnknown] = append(byID[directory.AttrUnknown], q)
		for id := range q.ids.All() {
			byID[id] = append(byID[id], q)
		}
	}
	return func(e *directory.Entry) Truth {
		t := atLeast
		for i := range e.Attrs {
			a := &e.Attrs[i]
			for _, q := range byID[a.ID] {
				if !q.plainly(a) && !q.is(a.Name) {
					continue
				}
				for _, v := range a.Values {
					if t = max(t, q.holds(v)); t == True {
						return t
					}
				}
			}
		}
		return t
	}
}

// note takes note of a condition whose value the attribute can never have.
func (m *Matcher) note(f *Filter, c column) {
	if _, ok := canonical(c.kind.Syntax, f.value); !ok && c.kind.Syntax != directory.SyntaxNone &&
		c.schema.Category(f.value) == "" {
		m.odd = append(m.odd, f.String())
	}
}

func constant(t Truth) test { return func(*directory.Entry) Truth { return t } }

func combine(op int, children []test) test {
	switch op {
	case opNot:
		return func(e *directory.Entry) Truth { return True - children[0](e) }
	case opOr:
		return func(e *directory.Entry) Truth {
			t := False
			for _, c := range children {
				if t = max(t, c(e)); t == True {
					break
				}
			}
			return t
		}
	}
	return func(e *directory.Entry) Truth {
		t := True
		for _, c := range children {
			if t = min(t, c(e)); t == False {
				break
			}
		}
		return t
	}
}

// anyName is what ambiguous name resolution (MS-ADTS 3.1.1.3.1.3.3) asks.
func anyName(f *Filter) *Filter {
	value := f.value
	for _, p := range f.pieces {
		value += p.text
	}
	begins := func(attr, text string) Filter {
		return Filter{op: opSubstrings, attr: attr, pieces: []piece{{0, text}}}
	}
	either := Filter{op: opOr}
	for _, attr := range []string{"displayName", "givenName", "sn", "name", "sAMAccountName", "physicalDeliveryOfficeName", "proxyAddresses", "mail"} {
		either.children = append(either.children, begins(attr, value))
	}
	if first, last, two := strings.Cut(value, " "); two {
		either.children = append(either.children, both(begins("givenName", first), begins("sn", last)),
			both(begins("givenName", last), begins("sn", first)))
	}
	return &either
}

// column is an attribute that a condition looks at.
type column struct {
	name, options string // in lower case
	names         []string
	ids           directory.AttrSet // of names, those that have one
	kind          *directory.AttributeType
	schema        *directory.Schema
	loose         bool // values that do not parse are unequal, not undefined
}

// each hands over the attribute's values, and those of what derives from it,
// until yield says no.
func (c *column) each(e *directory.Entry, yield func(string) bool) {
	for i := range e.Attrs {
		a := &e.Attrs[i]
		if (a.ID == directory.AttrUnknown || c.ids.Has(a.ID)) && (c.plainly(a) || c.is(a.Name)) {
			for _, v := range a.Values {
				if !yield(v) {
					return
				}
			}
		}
	}
}

// plainly tells of an attribute that has the number of one of the column's names whether it
// is called by that, as nearly all are.
func (c *column) plainly(a *directory.Attribute) bool {
	return a.ID != directory.AttrUnknown && c.options == "" && len(a.Name) == len(a.ID.String())
}

// is tells whether an attribute description is of the column: one of its
// names, with its options at least (RFC 4512, section 2.5.2).
func (c *column) is(description string) bool {
	for _, n := range c.names {
		switch {
		case n == "" || len(description) < len(n) || (description[0]^n[0])&^0x20 != 0: // as nearly all
		case !strings.EqualFold(description[:len(n)], n):
		case len(description) == len(n):
			return c.options == ""
		case description[len(n)] == ';':
			return c.has(description[len(n)+1:])
		}
	}
	return false
}

// has tells whether the options of a description are those asked for, or
// more; where none are asked for, any but our own marks.
func (c *column) has(options string) bool {
	if c.options == "" {
		return !strings.HasPrefix(strings.ToLower(options), "x-")
	}
	for o := range strings.SplitSeq(c.options, ";") {
		if !slices.ContainsFunc(strings.Split(options, ";"),
			func(have string) bool { return strings.EqualFold(have, o) }) {
			return false
		}
	}
	return true
}

// undefined is the answer to what cannot be compared: of servers of the `ad`
// schema it is false.
func (c *column) undefined() test {
	if c.loose {
		return constant(False)
	}
	return constant(Undefined)
}

// ordered tells whether values come in an order: by a rule of the servers, or
// since numbers and times have one, whatever the schema forgot.
func (c *column) ordered() bool {
	return c.kind.Ordered ||
		!c.loose && (c.kind.Syntax == directory.SyntaxNumber || c.kind.Syntax == directory.SyntaxTime)
}

// OrdersHere tells whether conditions on the order of an attribute's values are
// evaluated on entries, whatever the servers of a dialect do.
func OrdersHere(d *directory.Dialect, attr string) bool {
	c := columnOf(attr, d, nil)
	return c.kind != nil && c.ordered()
}

// leaf makes a condition on one attribute ready.
func (m *Matcher) leaf(f *Filter, c column, d *directory.Dialect) (test, error) {
	if f.op != opPresent && f.op != opSubstrings {
		m.note(f, c)
	}
	switch f.op {
	case opPresent:
		return func(e *directory.Entry) Truth {
			found := c.name == "objectclass"
			c.each(e, func(string) bool { found = true; return false })
			return TruthOf(found)
		}, nil
	case opExtensible:
		return m.extensible(f, c, d)
	case opSubstrings:
		if !c.kind.Substrings {
			return c.undefined(), nil
		}
		return c.any(substringTest(c.kind.Syntax, f.pieces)), nil
	case opGreater, opLess:
		want, ok := canonical(c.kind.Syntax, f.value)
		if !c.ordered() || !ok {
			return c.undefined(), nil
		}
		order := orderOf(c.kind.Syntax)
		return c.any(func(v string) Truth {
			have, ok := canonical(c.kind.Syntax, v)
			switch {
			case !ok:
				return Undefined
			case f.op == opGreater:
				return TruthOf(order(have, want) >= 0)
			}
			return TruthOf(order(have, want) <= 0)
		}), nil
	}
	return c.equal(c.kind.Syntax, f.value), nil
}

// equal makes an equality ready.
func (c column) equal(syntax directory.Syntax, value string) test {
	if syntax == directory.SyntaxClass {
		other := c.undefined()(nil)
		if c.schema.KnowsClass(value) {
			other = False
		}
		said := c.any(func(v string) Truth {
			if c.schema.DerivesFrom(v, value) {
				return True
			}
			return other
		})
		if c.loose {
			return said
		}
		return func(e *directory.Entry) Truth {
			t := said(e)
			if t != True {
				if class := directory.OpenLDAP.GuessedClass(e); class != "" && c.schema.DerivesFrom(class, value) {
					return True
				}
			}
			return t
		}
	}
	if category := c.schema.Category(value); category != "" && c.name == "objectcategory" {
		return c.any(func(v string) Truth { return TruthOf(strings.EqualFold(directory.LeafValue(v), category)) })
	}
	if form, ok := canonical(syntax, value); ok {
		return c.any(sameAs(syntax, sought{value, form}))
	}
	return c.undefined()
}

// sameAs is true of the values that are the same as one.
func sameAs(syntax directory.Syntax, as sought) func(string) Truth {
	return func(v string) Truth {
		switch {
		case v == as.value:
			return True
		case beginsOtherwise(syntax, v, as.form):
			return False
		}
		have, ok := canonical(syntax, v)
		if !ok {
			return Undefined
		}
		return TruthOf(have == as.form)
	}
}

// any is true where one of the values fulfils a condition.
func (c column) any(holds func(string) Truth) test {
	return func(e *directory.Entry) Truth {
		t := False
		c.each(e, func(v string) bool {
			t = max(t, holds(v))
			return t != True
		})
		return t
	}
}

func (m *Matcher) extensible(f *Filter, c column, d *directory.Dialect) (test, error) {
	switch f.rule {
	case ruleBitAnd, ruleBitOr:
		want, ok := new(big.Int).SetString(f.value, 10)
		if !ok || c.kind.Syntax != directory.SyntaxNumber {
			return c.undefined(), nil
		}
		return c.any(func(v string) Truth {
			have, ok := new(big.Int).SetString(v, 10)
			if !ok {
				return Undefined
			}
			both := new(big.Int).And(have, want)
			if f.rule == ruleBitAnd {
				return TruthOf(both.Cmp(want) == 0)
			}
			return TruthOf(both.Sign() != 0)
		}), nil
	case ruleChain:
		if d != directory.AD || !c.kind.Link {
			return c.undefined(), nil
		}
		chain := newChain(c, f.value)
		m.chains = append(m.chains, chain)
		return chain.match, nil
	}
	syntax := c.kind.Syntax
	if f.rule != "" {
		var ok bool
		if syntax, ok = rules[f.rule]; !ok {
			m.foreign = append(m.foreign, f.String())
			return c.undefined(), nil
		}
	}
	plain := c.equal(syntax, f.value)
	if !f.dnToo {
		return plain, nil
	}
	return func(e *directory.Entry) Truth {
		levels, err := directory.ParseDN(e.DN)
		if err != nil {
			return plain(e)
		}
		name := directory.Entry{}
		for _, level := range levels {
			for _, pair := range level {
				name.Attrs = append(name.Attrs, directory.Attribute{Name: pair.Type, Values: []string{pair.Value}})
			}
		}
		return max(plain(e), plain(&name))
	}, nil
}

// rules are the equality rules that a condition may name (RFC 4517, section
// 4.2).
var rules = map[string]directory.Syntax{
	"caseIgnoreMatch": directory.SyntaxText, "2.5.13.2": directory.SyntaxText,
	"caseIgnoreIA5Match": directory.SyntaxText, "1.3.6.1.4.1.1466.109.114.2": directory.SyntaxText,
	"caseExactMatch": directory.SyntaxExact, "2.5.13.5": directory.SyntaxExact,
	"caseExactIA5Match": directory.SyntaxExact, "1.3.6.1.4.1.1466.109.114.1": directory.SyntaxExact,
	"integerMatch": directory.SyntaxNumber, "2.5.13.14": directory.SyntaxNumber,
	"distinguishedNameMatch": directory.SyntaxDN, "2.5.13.1": directory.SyntaxDN,
	"octetStringMatch": directory.SyntaxOctets, "2.5.13.17": directory.SyntaxOctets,
	"numericStringMatch": directory.SyntaxDigits, "2.5.13.8": directory.SyntaxDigits,
	"telephoneNumberMatch": directory.SyntaxPhone, "2.5.13.20": directory.SyntaxPhone,
	"generalizedTimeMatch": directory.SyntaxTime, "2.5.13.27": directory.SyntaxTime,
	"booleanMatch": directory.SyntaxBoolean, "2.5.13.13": directory.SyntaxBoolean,
	"objectIdentifierMatch": directory.SyntaxClass, "2.5.13.0": directory.SyntaxClass,
}

// TruthOf is True or False.
func TruthOf(yes bool) Truth {
	if yes {
		return True
	}
	return False
}
