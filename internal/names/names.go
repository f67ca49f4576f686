// Package names reads people's names as the lists of many countries write
// them, and tells how two resemble each other: in other letters, in another
// romanisation, in part, by a short form, by an initial, or but for a slip.
package names

import (
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"github.com/mozillazg/go-unidecode"
	"golang.org/x/text/unicode/norm"
)

// Word is a family name, or all given names of somebody, as it is compared.
// The zero value is no name.
type Word struct {
	Text  string // all parts joined, in lower-case Latin letters without diacritics
	Parts []Part // but for particles, where anything else is left
	// Foreign is a name in other letters than Latin ones, Opaque one in letters
	// from which no one Latin spelling follows: they write meaning, or no vowels.
	Foreign, Opaque bool

	native   string   // as it was written, folded
	undotted string   // Text, with what stands for diacritics taken for none
	heard    string   // the consonants of Text that are heard
	others   []string // other Latin spellings, whole
	scripts  Scripts
	sounding []string // the sounds beside all scripts in use, once they are prepared
	letter   bool     // one letter, which may be two in Latin ones
	tonal    bool     // of syllables each of which counts, as in Vietnamese
}

// Part is one of the names that a name is made of.
type Part struct {
	Text    string
	others  []string // other Latin spellings
	native  string
	scripts Scripts

	sounding []string
}

// New reads a name. What is no name is left out: titles and degrees, what
// stands in brackets, text behind a dash, numbers.
func New(written string) Word {
	if text, plain := plainWord(written); plain {
		return Word{
			Text:     text,
			Parts:    []Part{{Text: text, native: text, scripts: latin}},
			native:   text,
			undotted: digraphs.Replace(text),
			heard:    consonantsOf(text),
			scripts:  latin,
			letter:   len(text) == 1,
		}
	}
	var w Word
	for _, token := range tokens(written) {
		s := script(token)
		text, others := spell(token, s)
		if text == "" {
			continue
		}
		w.scripts |= s
		w.Text += text
		w.native += fold(token)
		w.Parts = append(w.Parts, Part{Text: text, others: others, native: fold(token), scripts: s})
	}
	w.Foreign, w.Opaque = w.scripts&^latin != 0, w.scripts&opaque != 0
	w.others, w.undotted, w.heard = spellings(w.Parts), digraphs.Replace(w.Text), consonantsOf(w.Text)
	w.letter = len(w.Parts) == 1 && !w.Opaque && utf8.RuneCountInString(w.native) == 1
	w.tonal = strings.ContainsFunc(written, vietnamese)
	if real := slices.DeleteFunc(slices.Clone(w.Parts), func(p Part) bool { return particles[p.Text] }); len(
		real) > 0 &&
		!w.tonal {
		w.Parts = real
	}
	return w
}

// plainWord returns a name of nothing but ASCII letters, which most are, in
// lower case.
func plainWord(written string) (text string, plain bool) {
	for i := range len(written) {
		if c := written[i] | 0x20; c < 'a' || c > 'z' {
			return "", false
		}
	}
	return strings.ToLower(written), written != ""
}

// mostSpellings bounds how many Latin spellings of a name are tried.
const mostSpellings = 24

// spellings are the whole names that other spellings of parts make.
func spellings(parts []Part) []string {
	all := []string{""}
	for _, p := range parts {
		var longer []string
		for _, begin := range all {
			for _, text := range append([]string{p.Text}, p.others...) {
				longer = append(longer, begin+text)
			}
		}
		all = longer[:min(len(longer), mostSpellings)]
	}
	return slices.Clip(all[1:]) // the first is the usual one
}

// String is the name as it is compared, its parts apart.
func (w *Word) String() string {
	parts := make([]string, len(w.Parts))
	for i := range w.Parts {
		parts[i] = w.Parts[i].Text
	}
	return strings.Join(parts, " ")
}

// Spelt is the name in its own letters, without case, of Latin ones without
// diacritics: two names spelt alike are one.
func (w *Word) Spelt() string {
	if w.Foreign {
		return w.native
	}
	return w.Text
}

// Keys are texts of which two names that are one, in whatever letters, share
// one.
func (w *Word) Keys() []string {
	if w.Text == "" {
		return nil
	}
	keys := append([]string{w.native, w.Text}, w.others...)
	if w.scripts&opaque == 0 || w.scripts&(arabic|hebrew) != 0 {
		for _, s := range w.Sounds(latin | arabic | hebrew) {
			if len(s) >= 3 {
				keys = append(keys, "sound:"+s)
			}
		}
	}
	return keys
}

// spelt tells whether a name may be spelt so.
func (w *Word) spelt(text string) bool { return w.Text == text || slices.Contains(w.others, text) }

func (p *Part) spelt(text string) bool { return p.Text == text || slices.Contains(p.others, text) }

func fold(token string) string { return strings.ToLower(norm.NFKC.String(token)) }

// particles are parts of names that lists like to leave out or to put
// elsewhere.
var particles = set(
	`van von vom de den der del della dello dei degli delle di da do dos das du des la le les lo los las ter ten te tot op zu zum zur af av al el
	bin binti bint ben ibn abu y e i san`,
)

func set(words string) map[string]bool {
	all := map[string]bool{}
	for _, w := range strings.Fields(words) {
		all[w] = true
	}
	return all
}

// titles are words that are no part of a name, wherever they stand; dotted
// ones only with a dot behind them, since they are names too.
var (
	titles = set(
		`dr prof professor mr mrs ms mx miss mister sir dame herr frau dipl dott dra mgr rndr phdr judr mudr mvdr paeddr thdr csc drsc phd dphil mba msc bsc meng beng llm llb mphil
		md dds esq jr jnr snr junior senior habil mme mlle srta signor signora datuk dato smt shri δρ проф докт`,
	)
	dotted = set(
		`ing mag sr sra hr fru bc ir drs eng arch avv rag geom sig lic hon rev fr capt maj col lt sgt st em ph d h c др dr.h.c`,
	)
	numerals = set(`II III IV VI VII`)
)

// tokens are the words of a name.
func tokens(written string) []string {
	written = strings.Map(func(r rune) rune {
		if unicode.Is(unicode.Cf, r) && r != '\u200c' {
			return -1 // marks of direction and the like
		}
		return r
	}, written)
	written = bare(written)
	words := strings.FieldsFunc(written, func(r rune) bool {
		return unicode.IsSpace(r) || r == '\u200c' || r == ',' || r == ';' || r == '_' || r == '+' || r == '&' ||
			unicode.Is(unicode.Pd, r) ||
			r == '·' ||
			r == '・' ||
			r == '‧' ||
			r == '/'
	})
	names := slices.DeleteFunc(slices.Clone(words), noName)
	if len(names) > 0 {
		words = names
	}
	var out []string
	for _, w := range words {
		for _, one := range strings.Split(w, ".") { // J.P.
			if strings.ContainsFunc(one, unicode.IsLetter) {
				out = append(out, one)
			}
		}
	}
	return out
}

// bare leaves out what stands behind a name: in brackets, behind a dash or a
// bar with blanks around it.
func bare(written string) string {
	if at := strings.IndexAny(written, "([{<（［"); at > 0 {
		written = written[:at]
	}
	for _, mark := range []string{" - ", " – ", " — ", " / ", " | ", " : ", " @ "} {
		if name, _, cut := strings.Cut(written, mark); cut && strings.TrimSpace(name) != "" {
			written = name
		}
	}
	return written
}

func noName(word string) bool {
	lower := strings.ToLower(word)
	plain := strings.Trim(lower, ".")
	switch {
	case titles[plain], titles[strings.ReplaceAll(plain, ".", "")]:
		return true
	case strings.HasSuffix(lower, ".") && dotted[plain]:
		return true
	}
	return numerals[word] || !strings.ContainsFunc(word, unicode.IsLetter)
}

// latinOf is a text in lower-case Latin letters.
func latinOf(token string) string {
	var b strings.Builder
	for _, r := range strings.ToLower(unidecode.Unidecode(token)) {
		if 'a' <= r && r <= 'z' {
			b.WriteRune(r)
		}
	}
	return b.String()
}

// vietnamese tells of letters that only Vietnamese has.
func vietnamese(r rune) bool {
	return strings.ContainsRune("ơưđạảấầẩẫậắằẳẵặẹẻẽếềểễệỉịọỏốồổỗộớờởỡợụủứừửữựỳỵỷỹ", unicode.ToLower(r))
}

// Split parts a whole name into family and given names: at the comma where
// there is one, which is certain (said), else before the last word and the
// particles before that. One word alone may be anything, and is parted into
// nothing.
func Split(whole string) (family, given string, said bool) {
	whole = strings.TrimSpace(bare(whole))
	if f, g, ok := strings.Cut(whole, ","); ok && !noName(strings.TrimSpace(g)) && strings.TrimSpace(g) != "" &&
		strings.TrimSpace(f) != "" {
		return strings.TrimSpace(f), strings.TrimSpace(g), true
	}
	words := strings.Fields(strings.ReplaceAll(whole, ",", " "))
	for len(words) > 0 && noName(words[0]) {
		words = words[1:]
	}
	for len(words) > 0 && noName(words[len(words)-1]) {
		words = words[:len(words)-1]
	}
	initial := ""
	if last := len(words) - 1; last > 1 && utf8.RuneCountInString(strings.Trim(words[last], ".")) == 1 &&
		script(words[last])&opaque == 0 {
		words, initial = words[:last], " "+words[last] // "Quill Ada P."
	}
	if len(words) < 2 {
		return splitJoined(words)
	}
	if script(words[0])&(han|hangul) != 0 {
		return words[0], strings.Join(words[1:], " "), false
	}
	first, last := latinOf(words[0]), latinOf(words[len(words)-1])
	tonal := strings.ContainsFunc(whole, vietnamese)
	switch {
	case len(last) == 1 && len(words) == 2, // "Quill A."
		tonal && (vietnameseFamily[first] || alsoVietnamese[first]),
		len(words) > 2 && vietnameseFamily[first] && !vietnameseFamily[last]:
		return words[0], strings.Join(words[1:], " ") + initial, false
	}
	at := len(words) - 1
	for at > 1 && particles[strings.ToLower(words[at-1])] {
		at--
	}
	return strings.Join(words[at:], " "), strings.Join(words[:at], " ") + initial, false
}

// splitJoined parts a Chinese or Korean name that is written in one.
func splitJoined(words []string) (family, given string, said bool) {
	if len(words) == 1 && script(words[0])&(han|hangul) != 0 {
		if r := []rune(words[0]); len(r) == 2 || len(r) == 3 {
			return string(r[:1]), string(r[1:]), false
		}
	}
	return "", "", false
}

// alsoVietnamese are family names there that are words elsewhere.
var alsoVietnamese = set(`lam mai cao tang ta to thai chau ha ton kieu ma la`)

// vietnameseFamily are the family names that nearly everybody there has.
var vietnameseFamily = set(
	`nguyen tran le pham hoang huynh phan vu vo dang bui do ho ngo duong ly dinh dao doan trinh truong luu luong quach nghiem`,
)
