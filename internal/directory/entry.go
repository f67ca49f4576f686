// Package directory holds what every other part of Yard Broom speaks about:
// entries and their names, the value syntaxes of directory servers, the
// dialects of the servers, and the one normalised view of an account that
// all checks share.
package directory

import (
	"slices"
	"strings"
)

// Entry is one directory entry as it was read: its distinguished name
// (RFC 4514) and its attributes in the order they came.
type Entry struct {
	DN    string
	Attrs []Attribute
}

// Attribute is one attribute of an entry. Name is as the source spelled it,
// options included. Values are raw octets, never decoded.
type Attribute struct {
	Name   string
	ID     AttrID // 0 for a name the tool has no use for
	Values []string
}

// Get returns the values of the named attribute, nil where it is absent.
// Names compare without case. An incomplete list (`member;range=0-1499`)
// answers to its plain name too; other options make another attribute.
func (e *Entry) Get(name string) []string {
	for i := range e.Attrs {
		if attributeNamed(e.Attrs[i].Name, name) {
			return e.Attrs[i].Values
		}
	}
	return nil
}

// First returns the first value of the named attribute, or "".
func (e *Entry) First(name string) string {
	if vs := e.Get(name); len(vs) > 0 {
		return vs[0]
	}
	return ""
}

// Has tells whether the entry carries the attribute.
func (e *Entry) Has(name string) bool { return e.Get(name) != nil }

// HasClass tells whether the entry is of the object class, ignoring case.
func (e *Entry) HasClass(class string) bool {
	return slices.ContainsFunc(e.Get("objectClass"), func(c string) bool { return strings.EqualFold(c, class) })
}

// Incomplete tells whether the source holds only a part of the attribute's
// values: a ranged list that does not end in `*`.
func (e *Entry) Incomplete(name string) bool {
	for i := range e.Attrs {
		if r, ok := RangeOf(e.Attrs[i].Name); ok && attributeNamed(e.Attrs[i].Name, name) {
			return !strings.HasSuffix(r, "-*")
		}
	}
	return false
}

// RangeOf returns the range option of an attribute description, such as
// "0-1499" of `member;range=0-1499`.
func RangeOf(description string) (string, bool) {
	_, options, ok := strings.Cut(description, ";")
	for ok {
		var option string
		option, options, ok = strings.Cut(options, ";")
		if len(option) > 6 && strings.EqualFold(option[:6], "range=") {
			return option[6:], true
		}
	}
	return "", false
}

// Set replaces the values of an attribute, or takes it away when there are
// none.
func (e *Entry) Set(name string, values ...string) {
	for i := range e.Attrs {
		if strings.EqualFold(e.Attrs[i].Name, name) {
			if len(values) == 0 {
				e.Attrs = slices.Delete(e.Attrs, i, i+1)
			} else {
				e.Attrs[i].Values = values
			}
			return
		}
	}
	if len(values) > 0 {
		e.Attrs = append(e.Attrs, Attribute{Name: name, ID: LookupAttr(name), Values: values})
	}
}

// Clone returns a copy that shares no memory with the entry, so that it may
// outlive the block it was read from.
func (e *Entry) Clone() Entry {
	// One text and one list for all of it: a directory of a million entries is
	// thirty million values.
	size, n := len(e.DN), 0
	for i := range e.Attrs {
		a := &e.Attrs[i]
		if a.ID.String() != a.Name {
			size += len(a.Name)
		}
		for _, v := range a.Values {
			size += len(v)
		}
		n += len(a.Values)
	}
	var b strings.Builder
	b.Grow(size)
	keep := func(s string) string {
		at := b.Len()
		b.WriteString(s)
		return b.String()[at:]
	}
	c := Entry{DN: keep(e.DN), Attrs: make([]Attribute, len(e.Attrs))}
	values := make([]string, 0, n)
	for i := range e.Attrs {
		a := &e.Attrs[i]
		name := a.ID.String()
		if name != a.Name {
			name = keep(a.Name)
		}
		at := len(values)
		for _, v := range a.Values {
			values = append(values, keep(v))
		}
		// Clipped, so that what is appended to one attribute is no other's.
		c.Attrs[i] = Attribute{Name: name, ID: a.ID, Values: values[at:len(values):len(values)]}
	}
	return c
}

func attributeNamed(description, name string) bool {
	if len(description) == len(name) {
		return strings.EqualFold(description, name)
	}
	if len(description) > len(name) && description[len(name)] == ';' &&
		strings.EqualFold(description[:len(name)], name) {
		_, ranged := RangeOf(description)
		return ranged
	}
	return false
}
