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
	keys    map[uint64][]string
	names   map[string]bool // every attribute that any entry had
}

func newIndex(d *directory.Dialect) *index {
	x := &index{dialect: d, seed: maphash.MakeSeed(), attrs: map[string]bool{}, keys: map[uint64][]string{}, names: map[string]bool{}}
	for _, attr := range append([]string{d.Identity.String(), d.Logon.String(), "objectSid", "userPrincipalName"}, linkNames...) {
		x.attrs[strings.ToLower(attr)] = true
	}
	return x
}

// linkNames are the attributes by which entries of any dialect name others.
var linkNames = []string{"member", "uniqueMember", "memberUid", "manager", "secretary", "managedBy", "owner", "roleOccupant", "seeAlso"}

func (x *index) at(name, form string) uint64 { return maphash.String(x.seed, name+"\x00"+form) }

// set takes an entry in, or out again.
func (x *index) set(key string, e *directory.Entry, in bool) {
	for i := range e.Attrs {
		a := &e.Attrs[i]
		if in {
			x.names[a.Name] = true
		}
		name, _, _ := strings.Cut(strings.ToLower(a.Name), ";")
		if !x.attrs[name] {
			continue
		}
		for _, v := range a.Values {
			x.put(key, name, v, in)
		}
	}
}

// put takes one value in, or out again.
func (x *index) put(key, attr, value string, in bool) {
	name, form, ok := filter.Indexed(x.dialect, attr, value)
	if !ok || !x.attrs[name] {
		return
	}
	at := x.at(name, form)
	list := x.keys[at]
	switch i := slices.Index(list, key); {
	case in:
		x.keys[at] = append(list, key)
	case i >= 0 && len(list) == 1:
		delete(x.keys, at)
	case i >= 0:
		x.keys[at] = slices.Delete(slices.Clone(list), i, i+1)
	}
}

// narrow returns the folded names of those that can fulfil a filter, or false
// where all have to be looked at.
func (x *index) narrow(cond *filter.Filter) ([]string, bool) {
	keys, ok := cond.Narrow(x.dialect, func(name, form string) ([]string, bool) {
		if !x.attrs[name] {
			return nil, false
		}
		return x.keys[x.at(name, form)], true
	})
	if !ok {
		return nil, false
	}
	keys = slices.Clone(keys)
	slices.Sort(keys)
	return slices.Compact(keys), true
}
