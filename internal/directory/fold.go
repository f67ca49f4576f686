package directory

import (
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/cases"
	"golang.org/x/text/unicode/norm"
)

// FoldText returns the form of a text under which spellings of one thing are
// equal: NFKC, without case, diacritics, white space, punctuation and
// invisible characters.
func FoldText(s string) string {
	if folded, ok := foldASCII(s); ok {
		return folded
	}
	var b strings.Builder
	for _, r := range norm.NFKD.String(cases.Fold().String(norm.NFKC.String(s))) {
		if unicode.In(r, unicode.Mn, unicode.P, unicode.White_Space, unicode.Cc, unicode.Cf) {
			continue
		}
		r = unicode.ToLower(r) // folding leaves Cherokee in either case
		if plain, ok := strokes[r]; ok {
			r = plain
		}
		b.WriteRune(r)
	}
	return b.String()
}

// strokes are letters whose diacritic Unicode does not take apart.
var strokes = map[rune]rune{'ø': 'o', 'ł': 'l', 'đ': 'd', 'ħ': 'h', 'ŧ': 't', 'ƀ': 'b', 'ɨ': 'i', 'ı': 'i'}

// asciiFold holds what each ASCII letter folds to, 0 for what is left out.
var asciiFold = func() (t [utf8.RuneSelf]byte) {
	for c := range byte(utf8.RuneSelf) {
		switch r := rune(c); {
		case unicode.In(r, unicode.P, unicode.White_Space, unicode.Cc):
		default:
			t[c] = byte(unicode.ToLower(r))
		}
	}
	return t
}()

func foldASCII(s string) (string, bool) {
	clean := true
	for i := range len(s) {
		if s[i] >= utf8.RuneSelf {
			return "", false
		}
		clean = clean && asciiFold[s[i]] == s[i] && s[i] != 0
	}
	if clean {
		return s, true
	}
	var buf [128]byte
	out := buf[:0]
	for i := range len(s) {
		if c := asciiFold[s[i]]; c != 0 {
			out = append(out, c)
		}
	}
	return string(out), true
}
