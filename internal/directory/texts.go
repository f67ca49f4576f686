package directory

import (
	"encoding/binary"
	"iter"
)

// Texts holds values of some attributes, packed one after the other, since a
// million accounts would otherwise spend more memory on pointers than on
// values: attribute, length, octets; of what is a word, the attribute with its
// highest bit set and the number of the word in two octets.
type Texts struct {
	packed string
	words  *Words
}

const (
	wordMark = 0x80 // no attribute has so high a number
	wordSize = 3
)

// appendText packs a value, as a word where words takes it for one.
func appendText(buf []byte, id AttrID, value string, words *Words) []byte {
	if wordTexts.Has(id) {
		if n, ok := words.number(id, value); ok {
			return append(buf, byte(id)|wordMark, byte(n), byte(n>>8))
		}
	}
	buf = append(buf, byte(id))
	buf = binary.AppendUvarint(buf, uint64(len(value)))
	return append(buf, value...)
}

// Value is one value of Texts.
type Value struct {
	own   string
	words *Words
	word  int
}

// Text returns the value.
func (v Value) Text() string {
	if v.words != nil {
		return v.words.at(v.word).Text
	}
	return v.own
}

// Word returns the number of the value in the Words of its survey; ok is false
// where it is none of them.
func (v Value) Word() (n int, ok bool) { return v.word, v.words != nil }

// next cuts the first value off.
func (t *Texts) next() (AttrID, Value) {
	s := t.packed
	if s[0] >= wordMark {
		n := int(s[1]) | int(s[2])<<8
		t.packed = s[wordSize:]
		return AttrID(s[0] &^ wordMark), Value{words: t.words, word: n}
	}
	if n := int(s[1]); n < 0x80 {
		t.packed = s[2+n:]
		return AttrID(s[0]), Value{own: s[2 : 2+n]}
	}
	n, shift, at := 0, 0, 1
	for {
		b := s[at]
		at++
		n |= int(b&0x7f) << shift
		if b < 0x80 {
			break
		}
		shift += 7
	}
	t.packed = s[at+n:]
	return AttrID(s[0]), Value{own: s[at : at+n]}
}

// First returns the first value of an attribute, or "".
func (t Texts) First(id AttrID) string {
	for t.packed != "" {
		if at, value := t.next(); at == id {
			return value.Text()
		}
	}
	return ""
}

// All goes through the values of an attribute.
func (t Texts) All(id AttrID) iter.Seq[string] {
	return func(yield func(string) bool) {
		for t.packed != "" {
			if at, value := t.next(); at == id && !yield(value.Text()) {
				return
			}
		}
	}
}

// Values goes through all values of all attributes.
func (t Texts) Values() iter.Seq2[AttrID, Value] {
	return func(yield func(AttrID, Value) bool) {
		for t.packed != "" {
			if id, value := t.next(); !yield(id, value) {
				return
			}
		}
	}
}
