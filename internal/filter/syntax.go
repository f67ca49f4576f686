package filter

import (
	"cmp"
	"math/big"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/unicode/norm"

	"yardbroom/internal/directory"
)

// canonical brings a value into the form under which equal values are equal
// texts; ok is false for a value that is none of the syntax.
func canonical(s directory.Syntax, v string) (text string, ok bool) {
	switch s {
	case directory.SyntaxText, directory.SyntaxLines:
		return single(fold(v)), v != ""
	case directory.SyntaxPlain:
		return single(strings.ToUpper(v)), true
	case directory.SyntaxExact:
		return single(v), v != ""
	case directory.SyntaxPrecise, directory.SyntaxOctets:
		return v, true
	case directory.SyntaxNumber:
		if plainNumber(v) {
			return v, true
		}
		n, ok := new(big.Int).SetString(v, 10)
		if !ok {
			return "", false
		}
		return n.String(), true
	case directory.SyntaxTime:
		t, err := directory.ParseGeneralizedTime(v)
		return t.Format(time.RFC3339Nano), err == nil
	case directory.SyntaxDN:
		return directory.FoldValidDN(v)
	case directory.SyntaxBoolean:
		return v, v == "TRUE" || v == "FALSE"
	case directory.SyntaxUUID:
		_, err := directory.ParseGUID(v)
		return strings.ToLower(v), err == nil
	case directory.SyntaxGUID:
		if text := strings.Trim(v, "{}"); len(text) == 36 { // most are raw
			if raw, err := directory.ParseGUID(text); err == nil {
				return raw, true
			}
		}
		return v, true
	case directory.SyntaxSID:
		if strings.HasPrefix(v, "S-") { // most are raw
			if raw, err := directory.EncodeSID(v); err == nil {
				return raw, true
			}
		}
		return v, true
	case directory.SyntaxPhone:
		return without(fold(v), " -"), v != ""
	case directory.SyntaxDigits:
		return without(v, " "), v != ""
	case directory.SyntaxClass:
		return strings.ToLower(v), v != ""
	}
	return "", false
}

// plainNumber tells of a number that it is written as numbers mostly are, which is
// canonical: in digits, of which 0 is not the first of several.
func plainNumber(v string) bool {
	for i := range len(v) {
		if v[i] < '0' || v[i] > '9' {
			return false
		}
	}
	return v != "" && (v[0] != '0' || len(v) == 1)
}

// fold prepares a text for comparing without case (RFC 4518, section 2).
func fold(v string) string {
	for i := range len(v) {
		if v[i] >= 0x80 {
			return strings.ToLower(norm.NFKC.String(v))
		}
	}
	return strings.ToLower(v)
}

// single takes outer blanks away and leaves one of several inner ones.
func single(v string) string {
	if !strings.HasPrefix(v, " ") && !strings.HasSuffix(v, " ") && !strings.Contains(v, "  ") {
		return v
	}
	return strings.Join(strings.FieldsFunc(v, func(r rune) bool { return r == ' ' }), " ")
}

// beginsOtherwise tells of a value of most texts, by its first letter, that it is not equal
// to one in canonical form. False says nothing.
func beginsOtherwise(s directory.Syntax, v, canonical string) bool {
	switch s {
	case directory.SyntaxText, directory.SyntaxLines, directory.SyntaxPlain, directory.SyntaxExact:
	default:
		return false
	}
	if v == "" || canonical == "" || len(v) > 1 && v[1] >= utf8.RuneSelf { // which may be an accent on the first
		return false
	}
	first := v[0] | 0x20
	return ('a' <= first && first <= 'z') && first != canonical[0]|0x20
}

func without(v, cut string) string {
	return strings.Map(func(r rune) rune {
		if strings.ContainsRune(cut, r) {
			return -1
		}
		return r
	}, v)
}

// orderOf returns how canonical values of a syntax are ordered.
func orderOf(s directory.Syntax) func(a, b string) int {
	switch s {
	case directory.SyntaxNumber:
		return func(a, b string) int {
			x, _ := new(big.Int).SetString(a, 10)
			y, _ := new(big.Int).SetString(b, 10)
			return x.Cmp(y)
		}
	case directory.SyntaxTime:
		return func(a, b string) int {
			x, _ := time.Parse(time.RFC3339Nano, a)
			y, _ := time.Parse(time.RFC3339Nano, b)
			return x.Compare(y)
		}
	}
	return cmp.Compare[string]
}

// substringTest makes a substrings condition ready. Blanks count as RFC 4518,
// section 2.6.1 says and servers do it: none at the ends of a value, and so none
// before an initial or behind a final part; elsewhere one for several.
func substringTest(s directory.Syntax, pieces []piece) func(string) Truth {
	prepare := func(v string) string { return v }
	part := func(p piece) string { return prepare(p.text) }
	outer := func(p piece) string {
		text := squeeze(prepare(p.text))
		switch {
		case text == " ": // which nothing begins or ends with
		case p.at == 0:
			text = strings.TrimLeft(text, " ")
		case p.at == 2:
			text = strings.TrimRight(text, " ")
		}
		return text
	}
	whole := func(v string) string { return single(prepare(v)) }
	switch s {
	case directory.SyntaxText, directory.SyntaxLines:
		prepare, part = fold, outer
	case directory.SyntaxExact:
		part = outer
	case directory.SyntaxPlain:
		prepare = func(v string) string { return single(strings.ToUpper(v)) }
	case directory.SyntaxPhone:
		prepare = func(v string) string { return without(fold(v), " -") }
	case directory.SyntaxDigits:
		prepare = func(v string) string { return without(v, " ") }
	default:
		whole = prepare
	}
	ready := make([]piece, len(pieces))
	for i, p := range pieces {
		ready[i] = piece{p.at, part(p)}
	}
	return func(v string) Truth { return TruthOf(substrings(whole(v), ready)) }
}

// squeeze leaves one of several blanks.
func squeeze(v string) string {
	if !strings.Contains(v, "  ") {
		return v
	}
	var b strings.Builder
	blank := false
	for _, r := range v {
		if space := unicode.IsSpace(r); !space || !blank {
			b.WriteRune(r)
			blank = space
		}
	}
	return b.String()
}

func substrings(v string, pieces []piece) bool {
	for i, p := range pieces {
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
			return i == len(pieces)-1 && strings.HasSuffix(v, p.text)
		}
	}
	return true
}
