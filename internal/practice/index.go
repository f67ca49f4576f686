package practice

import (
	"hash/maphash"
	"slices"
	"strings"

	"yardbroom/internal/directory"
	"yardbroom/internal/filter"
)

// index finds entries by what people and tools ask most: who it is, what it
// is called, and who names whom. It holds the folded names of entries by a
// hash of attribute and value, so it may name one too many.
type index struct {
	dialect *directory.Dialect
	seed    maphash.Seed
	attrs   map[string]bool // in lower case
	keys    map[uint64]bucket
	// names are all attributes that any entry had, as they were written, and how
	// their values are compared, where they are indexed.
	names map[string]*filter.Equality
}

// bucket holds the folded names under one hash. Most often it is one.
type bucket struct {
	first string
	more  []string
}

func (b bucket) all() []string {
	if b.first == "" {
		return nil
	}
	return append([]string{b.first}, b.more...)
}

func (b bucket) with(key string) bucket {
	if b.first == "" {
		return bucket{first: key}
	}
	b.more = append(b.more, key)
	return b
}

// without leaves one of the same names out.
func (b bucket) without(key string) bucket {
	if b.first == key {
		if len(b.more) == 0 {
			return bucket{}
		}
		return bucket{b.more[0], b.more[1:]}
	}
	if i := slices.Index(b.more, key); i >= 0 {
		b.more = slices.Concat(b.more[:i], b.more[i+1:])
	}
	return b
}

func newIndex(d *directory.Dialect) *index {
	x := &index{
		dialect: d,
		seed:    maphash.MakeSeed(),
		attrs:   map[string]bool{},
		keys:    map[uint64]bucket{},
		names:   map[string]*filter.Equality{},
	}
	for _, attr := range append([]string{d.Identity.String(), d.Logon.String(), "objectSid", "userPrincipalName"}, linkNames...) {
		x.attrs[strings.ToLower(attr)] = true
	}
	return x
}

// linkNames are the attributes by which entries of any dialect name others.
var linkNames = []string{
	"member",
	"uniqueMember",
	"memberUid",
	"manager",
	"secretary",
	"managedBy",
	"owner",
	"roleOccupant",
	"seeAlso",
}

// having returns what has a value of an attribute that is indexed, by the
// attribute's name in lower case.
func (x *index) having(name, form string) ([]string, bool) {
	return x.keys[x.at(name, form)].all(), x.attrs[name]
}

func (x *index) at(name, form string) uint64 {
	var h maphash.Hash
	h.SetSeed(x.seed)
	h.WriteString(name)
	h.WriteByte(0)
	h.WriteString(form)
	return h.Sum64()
}

// equality tells how an attribute is compared, nil where it is not indexed.
func (x *index) equality(attr string) *filter.Equality {
	eq, known := x.names[attr]
	if !known {
		if found, ok := filter.EqualityOf(x.dialect, attr); ok && x.attrs[found.Name] {
			eq = &found
		}
		x.names[attr] = eq
	}
	return eq
}

// set takes an entry in, or out again.
func (x *index) set(key string, e *directory.Entry, in bool) {
	for i := range e.Attrs {
		if eq := x.equality(e.Attrs[i].Name); eq != nil {
			for _, v := range e.Attrs[i].Values {
				x.put(key, eq, v, in)
			}
		}
	}
}

// put takes one value in, or out again.
func (x *index) put(key string, eq *filter.Equality, value string, in bool) {
	form, ok := eq.Form(value)
	if !ok {
		return
	}
	at := x.at(eq.Name, form)
	if in {
		x.keys[at] = x.keys[at].with(key)
	} else if left := x.keys[at].without(key); left.first == "" {
		delete(x.keys, at)
	} else {
		x.keys[at] = left
	}
}

// narrow returns the folded names of those that can fulfil a filter, or false
// where all have to be looked at.
func (x *index) narrow(cond *filter.Filter) ([]string, bool) {
	keys, ok := cond.Narrow(x.dialect, x.having)
	if !ok {
		return nil, false
	}
	keys = slices.Clone(keys)
	slices.Sort(keys)
	return slices.Compact(keys), true
}
