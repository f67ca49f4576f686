package directory

import (
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/unicode/norm"
)

// RDN is one level of a distinguished name. A name made of several pairs
// ("cn=a+uid=b") has more than one element.
type RDN []Pair

// Pair is one attribute type and its unescaped value.
type Pair struct{ Type, Value string }

// IsDN tells whether a text names an entry: a distinguished name of two levels
// or more. One of a single level may as well be what an account is called.
func IsDN(s string) bool {
	levels, err := ParseDN(s)
	return err == nil && len(levels) > 1
}

// ParseDN reads a distinguished name (RFC 4514; the blanks that RFC 2253
// allowed around separators are taken too), leaf first. The empty name gives
// no levels.
func ParseDN(dn string) ([]RDN, error) {
	var levels []RDN
	var level RDN
	if strings.TrimSpace(dn) == "" {
		return nil, nil
	}
	for rest := dn; ; {
		name, after, ok := strings.Cut(rest, "=")
		name = strings.TrimSpace(name)
		if !ok || name == "" || strings.ContainsAny(name, ",+;\\\"<>") {
			return nil, fmt.Errorf("not a distinguished name: %q lacks type=value at %q", dn, rest)
		}
		end := endOfValue(after)
		value, err := unescapeDN(after[:end])
		if err != nil {
			return nil, fmt.Errorf("not a distinguished name: %q: %w", dn, err)
		}
		level = append(level, Pair{name, value})
		if end == len(after) {
			return append(levels, level), nil
		}
		if after[end] != '+' {
			levels, level = append(levels, level), nil
		}
		rest = after[end+1:]
	}
}

// endOfValue returns where the value that starts s ends: at an unescaped
// comma, semicolon or plus.
func endOfValue(s string) int {
	for i := 0; i < len(s); i++ {
		switch s[i] {
		case '\\':
			i++
		case ',', '+', ';':
			return i
		}
	}
	return len(s)
}

func unescapeDN(s string) (string, error) {
	s = strings.TrimLeft(s, " ")
	for strings.HasSuffix(s, " ") && !strings.HasSuffix(s, `\ `) {
		s = s[:len(s)-1]
	}
	if strings.HasPrefix(s, "#") {
		return s, nil // the hexadecimal form is compared as it is written
	}
	if !strings.ContainsRune(s, '\\') {
		return s, nil
	}
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		if s[i] != '\\' {
			b.WriteByte(s[i])
			continue
		}
		if i+1 == len(s) {
			return "", errors.New("it ends in a lone backslash")
		}
		if i+2 < len(s) {
			if raw, err := hex.DecodeString(s[i+1 : i+3]); err == nil {
				b.WriteByte(raw[0])
				i += 2
				continue
			}
		}
		i++
		if !strings.ContainsRune(` "#+,;<=>\`, rune(s[i])) {
			return "", fmt.Errorf("the escape \\%c is none", s[i])
		}
		b.WriteByte(s[i])
	}
	return b.String(), nil
}

// EscapeDN makes a value safe to stand in a distinguished name (RFC 4514,
// section 2.4).
func EscapeDN(value string) string {
	var b strings.Builder
	for i := range len(value) {
		c := value[i]
		switch {
		case c < 0x20 || c == 0x7f:
			fmt.Fprintf(&b, `\%02X`, c)
		case strings.IndexByte(`"+,;<>\=`, c) >= 0,
			i == 0 && (c == ' ' || c == '#'),
			i == len(value)-1 && c == ' ':
			b.WriteByte('\\')
			b.WriteByte(c)
		default:
			b.WriteByte(c)
		}
	}
	return b.String()
}

// FoldDN returns the form of a name under which equal names are equal
// strings: types by their usual name, values in lower case and composed
// (Unicode NFC), blanks around separators gone and inner ones single, escapes
// written one way. A text that is no name folds
// to itself in lower case.
func FoldDN(dn string) string {
	if folded, ok := FoldValidDN(dn); ok {
		return folded
	}
	return strings.ToLower(dn)
}

// FoldValidDN is FoldDN that tells whether the text is a name at all.
func FoldValidDN(dn string) (folded string, ok bool) {
	if plainDN(dn) {
		return foldPlain(dn), true
	}
	levels, err := ParseDN(dn)
	if err != nil {
		return "", false
	}
	var b strings.Builder
	for i, level := range levels {
		if i > 0 {
			b.WriteByte(',')
		}
		b.WriteString(level.fold())
	}
	return b.String(), true
}

// FoldAll folds each of the names.
func FoldAll(dns []string) []string {
	out := make([]string, len(dns))
	for i, dn := range dns {
		out[i] = FoldDN(dn)
	}
	return out
}

func (r RDN) fold() string {
	parts := make([]string, len(r))
	for i, p := range r {
		value := strings.Join(strings.FieldsFunc(lowered(p.Value), func(c rune) bool { return c == ' ' }), " ")
		parts[i] = strings.ToLower(PlainName(p.Type)) + "=" + EscapeDN(value)
	}
	slices.Sort(parts)
	return strings.Join(parts, "+")
}

// String writes the level as RFC 4514 does.
func (r RDN) String() string {
	parts := make([]string, len(r))
	for i, p := range r {
		parts[i] = p.Type + "=" + EscapeDN(p.Value)
	}
	return strings.Join(parts, "+")
}

// lowered is a text in lower case and composed.
func lowered(text string) string {
	var buf [256]byte
	return string(appendLowered(buf[:0], text))
}

// appendLowered appends what lowered returns.
func appendLowered(buf []byte, text string) []byte {
	lower, ascii := appendLower(buf, text)
	if ascii {
		return lower
	}
	lower, most := appendLowerRunes(buf, text)
	if most < firstMark {
		return lower
	}
	return append(buf, norm.NFC.String(string(lower[len(buf):]))...)
}

// firstMark is the first letter that is not composed already: marks begin here.
const firstMark = 0x300

// longestPlain is how long a type may be for which nobody has another name, but
// for numbers, which have a dot: cn, ou, dc, o, uid and the like.
const longestPlain = 3

// plainDN tells whether folding a name needs no more than lower case.
func plainDN(dn string) bool {
	begins := 0 // the level
	equals, commas := 0, 0
	for i := range len(dn) {
		if !nameSigns[dn[i]] {
			continue
		}
		switch dn[i] {
		default:
			return false
		case ',':
			begins = i + 1
			commas++
		case '=':
			if i == begins || i-begins > longestPlain {
				return false // no type, or one that may have another name
			}
			equals++
		case ' ':
			if i == 0 || i == len(dn)-1 || strings.IndexByte(" ,=", dn[i-1]) >= 0 || strings.IndexByte(" ,=", dn[i+1]) >= 0 {
				return false
			}
		}
	}
	return equals == commas+1
}

// nameSigns are the octets of a name that say something of how it is folded.
var nameSigns = func() (t [256]bool) {
	for c := range byte(' ') {
		t[c] = true
	}
	for _, c := range []byte(" ,=\\+;\"<>#\x7f") {
		t[c] = true
	}
	return t
}()

func foldPlain(dn string) string {
	for i := range len(dn) {
		if c := dn[i]; c >= utf8.RuneSelf || 'A' <= c && c <= 'Z' {
			return lowered(dn)
		}
	}
	return dn
}

// SplitDN returns the leaf of a name and the name of its parent, both as
// they are written. The parent of a single level is "".
func SplitDN(dn string) (rdn, parent string) {
	for i := 0; i < len(dn); i++ {
		switch dn[i] {
		case '\\':
			i++
		case ',', ';':
			return strings.TrimSpace(dn[:i]), strings.TrimSpace(dn[i+1:])
		}
	}
	return strings.TrimSpace(dn), ""
}

// LeafValue returns the unescaped value of a name's first pair, such as
// "Ada Quill" of `CN=Ada Quill,OU=Staff`.
func LeafValue(dn string) string {
	rdn, _ := SplitDN(dn)
	levels, err := ParseDN(rdn)
	if err != nil || len(levels) == 0 {
		return rdn
	}
	return levels[0][0].Value
}

// Place tells for people where an entry stands, from the top down and without
// the domain's levels: "Staff/Astronomy".
func Place(dn string) string {
	_, parent := SplitDN(dn)
	levels, err := ParseDN(parent)
	if err != nil {
		return parent
	}
	var parts []string
	for _, level := range levels {
		if !strings.EqualFold(level[0].Type, "dc") {
			parts = append(parts, level[0].Value)
		}
	}
	slices.Reverse(parts)
	if len(parts) == 0 {
		return "(top)"
	}
	return strings.Join(parts, "/")
}

// Under tells whether a folded name is the folded base or stands below it.
// Every name stands under "".
func Under(folded, base string) bool {
	if base == "" || folded == base {
		return true
	}
	cut := len(folded) - len(base) - 1
	return cut > 0 && folded[cut] == ',' && folded[cut+1:] == base && !escapedAt(folded, cut)
}

// InScope tells whether a name stands below one of the folded names in, or
// in is empty, and below none of out.
func InScope(dn string, in, out []string) bool {
	dn = FoldDN(dn)
	under := func(base string) bool { return Under(dn, base) }
	return (len(in) == 0 || slices.ContainsFunc(in, under)) && !slices.ContainsFunc(out, under)
}

// Rebased is a name as it is after the entry of one name, at it or above it,
// has got another; "" where that was deleted. Names elsewhere stay.
func Rebased(dn, old, now string) string {
	below, at := FoldDN(dn), FoldDN(old)
	if !Under(below, at) {
		return dn
	}
	if now == "" {
		return ""
	}
	levels, err := ParseDN(dn)
	if err != nil {
		return dn
	}
	depth, err := ParseDN(old)
	if err != nil {
		return dn
	}
	out := now
	for i := len(levels) - len(depth) - 1; i >= 0; i-- {
		out = levels[i].String() + "," + out
	}
	return out
}

// escapedAt tells whether the byte at i is taken by a backslash before it.
func escapedAt(s string, i int) bool {
	n := 0
	for i > 0 && s[i-1] == '\\' {
		i, n = i-1, n+1
	}
	return n%2 == 1
}
