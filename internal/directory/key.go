package directory

import (
	"encoding/binary"
	"hash/maphash"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Key stands for a distinguished name: names that are equal under FoldDN
// have one key, and no two others do (it is a hash of 128 bits, made with
// secret seeds). Keys are comparable within one process only.
type Key [2]uint64

var keySeeds = [2]maphash.Seed{maphash.MakeSeed(), maphash.MakeSeed()}

// KeyOf returns the key of a name.
func KeyOf(dn string) Key {
	var buf [256]byte
	return keyOf(appendFold(buf[:0], dn))
}

func keyOf(folded []byte) Key {
	return Key{maphash.Bytes(keySeeds[0], folded), maphash.Bytes(keySeeds[1], folded)}
}

// keysOf returns the keys of a name and of its parent.
func keysOf(dn string) (self, parent Key) {
	var buf [256]byte
	folded := appendFold(buf[:0], dn)
	for i := 0; i < len(folded); i++ {
		switch folded[i] {
		case '\\':
			i++
		case ',':
			return keyOf(folded), keyOf(folded[i+1:])
		}
	}
	return keyOf(folded), keyOf(nil)
}

// parents are names that entries stand below, folded, by how they are written. Many
// entries stand below one, so that of most names only the leaf has to be folded.
type parents map[string]parentName

type parentName struct {
	folded string // with a comma before it
	key    Key
}

// mostParents bounds what is remembered.
const mostParents = 1000

// keysOf is keysOf of a name.
func (s parents) keysOf(dn string) (self, parent Key) {
	// A leaf that is plain ends at the first comma, whatever stands behind it.
	cut := strings.IndexByte(dn, ',')
	if cut < 0 || !plainDN(dn[:cut]) {
		return keysOf(dn)
	}
	above, known := s[dn[cut+1:]]
	if !known {
		if !plainDN(dn[cut+1:]) {
			return keysOf(dn)
		}
		if len(s) >= mostParents {
			clear(s)
		}
		above = parentName{folded: "," + foldPlain(dn[cut+1:])}
		above.key = KeyOf(above.folded[1:])
		s[strings.Clone(dn[cut+1:])] = above
	}
	var buf [256]byte
	leaf := appendLowered(buf[:0], dn[:cut])
	return keyOf(append(leaf, above.folded...)), above.key
}

// TextKey stands for a text without regard to case, as Key does for a name.
func TextKey(text string) Key {
	var buf [256]byte
	folded, ascii := appendLower(buf[:0], text)
	if !ascii {
		folded, _ = appendLowerRunes(folded, text)
	}
	return keyOf(folded)
}

// appendFold appends what FoldDN returns.
func appendFold(buf []byte, dn string) []byte {
	if !plainDN(dn) {
		return append(buf, FoldDN(dn)...)
	}
	return appendLowered(buf, dn)
}

// appendLowerRunes appends what strings.ToLower returns, and tells the highest letter of it.
func appendLowerRunes(buf []byte, s string) (out []byte, most rune) {
	for _, r := range s {
		if 'A' <= r && r <= 'Z' {
			r |= 0x20
		} else if r >= utf8.RuneSelf {
			r = unicode.ToLower(r)
		}
		buf = utf8.AppendRune(buf, r)
		most = max(most, r)
	}
	return buf, most
}

// appendLower appends an ASCII text in lower case; ascii is false where the
// text is none.
func appendLower(buf []byte, s string) (out []byte, ascii bool) {
	n := len(buf)
	buf = append(buf, s...)
	rest := buf[n:]
	for len(rest) >= 8 {
		eight := binary.LittleEndian.Uint64(rest)
		if eight&(0x80*each) != 0 {
			return buf[:n], false
		}
		// The highest bit of each octet tells that it is at least "A", and at most "Z".
		letters := (eight + (0x80-'A')*each) &^ (eight + (0x80-'Z'-1)*each) & (0x80 * each)
		binary.LittleEndian.PutUint64(rest, eight|letters>>2)
		rest = rest[8:]
	}
	for i, c := range rest {
		if c >= 0x80 {
			return buf[:n], false
		}
		if 'A' <= c && c <= 'Z' {
			rest[i] = c | 0x20
		}
	}
	return buf, true
}

// each has a one in each of eight octets.
const each = 0x0101010101010101
