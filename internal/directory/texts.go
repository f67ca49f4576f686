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

// firstText returns what stands first of packed texts: the attribute, where its value begins
// and ends, and whether it is a word.
func firstText(packed string) (id AttrID, begins, ends int, word bool) {
	if packed[0] >= wordMark {
		return AttrID(packed[0] &^ wordMark), 1, wordSize, true
	}
	if n := int(packed[1]); n < 0x80 {
		return AttrID(packed[0]), 2, 2 + n, false
	}
	n, shift, at := 0, 0, 1
	for {
		b := packed[at]
		at++
		n |= int(b&0x7f) << shift
		if b < 0x80 {
			return AttrID(packed[0]), at, at + n, false
		}
		shift += 7
	}
}

// value is what stands between two places of packed texts.
func (t Texts) value(packed string, word bool) Value {
	if word {
		return Value{words: t.words, word: int(packed[0]) | int(packed[1])<<8}
	}
	return Value{own: packed}
}

// First returns the first value of an attribute, or "".
func (t Texts) First(id AttrID) string {
	for rest := t.packed; rest != ""; {
		at, begins, ends, word := firstText(rest)
		if at == id {
			return t.value(rest[begins:ends], word).Text()
		}
		rest = rest[ends:]
	}
	return ""
}

// All goes through the values of an attribute.
func (t Texts) All(id AttrID) iter.Seq[string] {
	return func(yield func(string) bool) {
		for rest := t.packed; rest != ""; {
			at, begins, ends, word := firstText(rest)
			if at == id && !yield(t.value(rest[begins:ends], word).Text()) {
				return
			}
			rest = rest[ends:]
		}
	}
}

// Values goes through the values of some attributes, in the order of the entry.
func (t Texts) Values(of AttrSet) iter.Seq2[AttrID, Value] {
	return func(yield func(AttrID, Value) bool) {
		for rest := t.packed; rest != ""; {
			id, begins, ends, word := firstText(rest)
			if of.Has(id) && !yield(id, t.value(rest[begins:ends], word)) {
				return
			}
			rest = rest[ends:]
		}
	}
}
