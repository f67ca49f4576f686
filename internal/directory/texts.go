package directory

import (
	"encoding/binary"
	"iter"
)

// Texts holds values of some attributes, packed one after the other
// (attribute, length, octets), since a million accounts would otherwise
// spend more memory on pointers than on values.
type Texts string

func appendText(buf []byte, id AttrID, value string) []byte {
	buf = append(buf, byte(id))
	buf = binary.AppendUvarint(buf, uint64(len(value)))
	return append(buf, value...)
}

// next cuts the first value off.
func (t Texts) next() (id AttrID, value string, rest Texts) {
	if n := int(t[1]); n < 0x80 {
		return AttrID(t[0]), string(t[2 : 2+n]), t[2+n:]
	}
	n, shift, at := 0, 0, 1
	for {
		b := t[at]
		at++
		n |= int(b&0x7f) << shift
		if b < 0x80 {
			break
		}
		shift += 7
	}
	return AttrID(t[0]), string(t[at : at+n]), t[at+n:]
}

// First returns the first value of an attribute, or "".
func (t Texts) First(id AttrID) string {
	for t != "" {
		var at AttrID
		var value string
		if at, value, t = t.next(); at == id {
			return value
		}
	}
	return ""
}

// All goes through the values of an attribute.
func (t Texts) All(id AttrID) iter.Seq[string] {
	return func(yield func(string) bool) {
		for t != "" {
			var at AttrID
			var value string
			if at, value, t = t.next(); at == id && !yield(value) {
				return
			}
		}
	}
}

// Values goes through all values of all attributes.
func (t Texts) Values() iter.Seq2[AttrID, string] {
	return func(yield func(AttrID, string) bool) {
		for t != "" {
			var id AttrID
			var value string
			if id, value, t = t.next(); !yield(id, value) {
				return
			}
		}
	}
}
