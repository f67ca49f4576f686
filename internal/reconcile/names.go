package reconcile

import (
	"cmp"
	_ "embed"
	"math"
	"slices"
	"strings"
	"unicode"

	"github.com/antzucaro/matchr"
	"github.com/mozillazg/go-unidecode"
)

// word is a family name, or all given names of somebody, as it is compared:
// in Latin letters, in lower case, without diacritics.
type word struct {
	text     string   // the parts joined
	parts    []string // without particles, where anything else is left
	skeleton string   // the consonants, by which transliterations are compared
	foreign  bool     // it was written in other letters than Latin ones
	opaque   bool     // in letters that do not say how it sounds
	count    int      // how often it stands in either list
}

// noWord is the number of no name.
const noWord int32 = -1

// vocabulary knows each name by a number, and how common it is.
type vocabulary struct {
	byWritten map[string]int32
	byText    map[string]int32 // of those written in Latin letters
	words     []word
	beings    int // whose names were counted
}

func newVocabulary() *vocabulary {
	return &vocabulary{byWritten: map[string]int32{}, byText: map[string]int32{}}
}

// add counts a name and returns its number; noWord for a blank.
func (v *vocabulary) add(written string) int32 {
	if written == "" {
		return noWord
	}
	n, known := v.byWritten[written]
	if !known {
		n = v.learn(newWord(written))
		v.byWritten[strings.Clone(written)] = n
	}
	if n != noWord {
		v.words[n].count++
	}
	return n
}

func (v *vocabulary) learn(w word) int32 {
	if w.text == "" {
		return noWord
	}
	if n, known := v.byText[w.text]; known && !w.foreign {
		return n
	}
	n := int32(len(v.words))
	v.words = append(v.words, w)
	if !w.foreign { // how it was written decides on how it is compared
		v.byText[w.text] = n
	}
	return n
}

// particles are parts of family names that lists like to leave out or to put
// elsewhere.
var particles = map[string]bool{"van": true, "von": true, "de": true, "den": true, "der": true, "del": true, "della": true, "di": true, "da": true, "do": true, "dos": true,
	"la": true, "le": true, "ter": true, "ten": true, "zu": true, "af": true, "av": true, "al": true, "el": true, "bin": true, "ben": true, "ibn": true, "y": true, "e": true}

// newWord folds a name.
func newWord(written string) word {
	w := word{foreign: strings.ContainsFunc(written, notLatin), opaque: strings.ContainsFunc(written, soundless)}
	all := parts(written)
	w.text = strings.Join(all, "")
	for _, p := range all {
		if !particles[p] {
			w.parts = append(w.parts, p)
		}
	}
	if len(w.parts) == 0 {
		w.parts = all
	}
	w.skeleton = skeleton(w.text)
	return w
}

// parts folds a name and cuts it at blanks and hyphens. What stands in
// brackets is no name, nor is a number behind it.
func parts(written string) []string {
	if at := strings.IndexAny(written, "([{"); at > 0 {
		written = written[:at]
	}
	plain := strings.ToLower(unidecode.Unidecode(written))
	var out []string
	var b strings.Builder
	end := func() {
		if b.Len() > 0 {
			out = append(out, b.String())
			b.Reset()
		}
	}
	for _, r := range plain {
		switch {
		case 'a' <= r && r <= 'z':
			b.WriteRune(r)
		case r == '\'' || r == '`' || r == '"': // O'Dell, and soft signs
		default:
			end()
		}
	}
	end()
	return out
}

func notLatin(r rune) bool { return unicode.IsLetter(r) && !unicode.Is(unicode.Latin, r) }

// soundless tells of scripts from which no one Latin spelling follows: they
// write meaning, or no vowels, or are read in several ways.
func soundless(r rune) bool {
	return unicode.In(r, unicode.Han, unicode.Hangul, unicode.Arabic, unicode.Hebrew)
}

// skeleton is what stays of a name whichever way it was transliterated.
func skeleton(text string) string {
	text = skeletonPairs.Replace(text)
	var out []byte
	for i := range len(text) {
		c := text[i]
		switch c {
		case 'a', 'e', 'i', 'o', 'u', 'y', 'j', 'h':
			continue
		case 'c', 'q':
			c = 'k'
		case 'w':
			c = 'v'
		case 'z':
			c = 's'
		}
		if len(out) == 0 || out[len(out)-1] != c {
			out = append(out, c)
		}
	}
	return string(out)
}

var skeletonPairs = strings.NewReplacer("ph", "f", "ks", "x", "ck", "k", "ts", "s", "tz", "s")

// likeness is how two names resemble each other.
type likeness uint8

const (
	unknown     likeness = iota // one is missing, or cannot be compared
	same                        // the same, but for case and diacritics
	transcribed                 // the same in other letters
	partly                      // one of several parts is the same
	shortForm                   // a usual short form of it
	initialOnly                 // one is the first letter of the other
	near                        // one or two typing errors apart
	unlike
)

// agrees tells whether both may be one name.
func (l likeness) agrees() bool { return l != unknown && l != unlike }

//go:embed shortforms.txt
var shortFormsText string

// shortForms tells which groups of forms of one name a given name is in.
var shortForms = func() map[string][]int {
	groups := map[string][]int{}
	n := 0
	for line := range strings.Lines(shortFormsText) {
		for _, form := range strings.Fields(line) {
			groups[form] = append(groups[form], n)
		}
		n++
	}
	return groups
}()

// families compares two family names.
func (v *vocabulary) families(x, y int32) likeness { return v.compare(x, y, false) }

// givens compares the given names of two people.
func (v *vocabulary) givens(x, y int32) likeness { return v.compare(x, y, true) }

func (v *vocabulary) compare(x, y int32, given bool) likeness {
	if x == noWord || y == noWord {
		return unknown
	}
	a, b := &v.words[x], &v.words[y]
	switch {
	case x == y, a.text == b.text:
		return same
	case a.opaque != b.opaque:
		return unknown
	case digraphs.Replace(a.text) == digraphs.Replace(b.text):
		return same
	case (a.foreign || b.foreign) && a.skeleton == b.skeleton && a.skeleton != "":
		return transcribed
	case given && (len(a.text) == 1 || len(b.text) == 1):
		if a.text[0] == b.text[0] {
			return initialOnly
		}
		return unlike
	case sharePart(a.parts, b.parts, given):
		return partly
	case given && sameForm(a.parts[0], b.parts[0]):
		return shortForm
	case typo(a.text, b.text):
		return near
	case given && typo(a.parts[0], b.parts[0]):
		return near
	case given && (len(a.parts) > 1 || len(b.parts) > 1) && initials(a.parts, b.parts):
		return initialOnly
	}
	return unlike
}

// digraphs are how diacritics are written where there are none.
var digraphs = strings.NewReplacer("ae", "a", "oe", "o", "ue", "u", "aa", "a", "ss", "s")

// sharePart tells whether names of several parts have one in common. Of given
// names it is enough that the one somebody is called by is among the others.
func sharePart(a, b []string, given bool) bool {
	if len(a) == 1 && len(b) == 1 {
		return a[0] == b[0] // but for particles
	}
	if strings.Join(a, "") == strings.Join(b, "") {
		return true
	}
	fewer, more := a, b
	if len(fewer) > len(more) {
		fewer, more = more, fewer
	}
	for _, part := range fewer {
		if len(part) > 2 && slices.Contains(more, part) {
			return true
		}
	}
	return given && a[0] == b[0] && len(a[0]) > 1
}

// initials tells whether parts are first letters of the other's parts: "J P"
// for "Jean Pierre".
func initials(a, b []string) bool {
	if len(a) > len(b) {
		a, b = b, a
	}
	for i, part := range a {
		if part[0] != b[i][0] || len(part) > 1 && len(b[i]) > 1 && part != b[i] {
			return false
		}
	}
	return true
}

// sameForm tells whether two given names are forms of one: by the list, or
// because one begins the other.
func sameForm(a, b string) bool {
	if len(a) > len(b) {
		a, b = b, a
	}
	if len(a) >= 3 && strings.HasPrefix(b, a) {
		return true
	}
	return slices.ContainsFunc(shortForms[a], func(n int) bool { return slices.Contains(shortForms[b], n) })
}

// typo tells whether two texts are one typing error apart (a letter wrong,
// missing, too many, or two swapped), or two where they are long.
func typo(a, b string) bool {
	short := min(len(a), len(b))
	most := 0
	switch {
	case short >= 8:
		most = 2
	case short >= 4:
		most = 1
	}
	if most == 0 || max(len(a), len(b))-short > most {
		return false
	}
	return matchr.OSA(a, b) <= most
}

// others are people taken to exist besides those in the lists, of other names:
// in a small house a name seems commoner than it is.
const others = 100

// rarity is how many bits it says of somebody to bear this name.
func (v *vocabulary) rarity(n int32) float64 {
	return math.Log2(float64(v.beings+others) / float64(v.words[n].count))
}

// being is somebody's name, as far as it is known.
type being struct {
	family, given int32
	guessed       bool // where the name parts was not said
}

// titles are words before a name that are none.
var titles = map[string]bool{"dr": true, "prof": true, "mr": true, "mrs": true, "ms": true, "miss": true, "sir": true, "ing": true, "dipl": true, "mag": true, "herr": true, "frau": true}

// being reads somebody's name: the two names where both are given, else what
// a whole name, or another, shows.
func (v *vocabulary) being(family, given string, whole ...string) being {
	v.beings++
	b := being{family: noWord, given: noWord}
	for _, name := range whole {
		if family != "" && given != "" {
			break
		}
		if f, g, said := splitName(name); f != "" {
			family, given, b.guessed = cmp.Or(family, f), cmp.Or(given, g), !said
		}
	}
	b.family, b.given = v.add(family), v.add(given)
	return b
}

// splitName parts a whole name: at the comma where there is one, which is
// certain, else before the last word and the particles before that.
func splitName(whole string) (family, given string, said bool) {
	if at := strings.IndexAny(whole, "([{"); at > 0 {
		whole = whole[:at]
	}
	if f, g, ok := strings.Cut(whole, ","); ok {
		return strings.TrimSpace(f), strings.TrimSpace(g), true
	}
	words := strings.Fields(whole)
	for len(words) > 0 && titles[strings.ToLower(strings.TrimSuffix(words[0], "."))] {
		words = words[1:]
	}
	for len(words) > 0 && !strings.ContainsFunc(words[len(words)-1], unicode.IsLetter) {
		words = words[:len(words)-1] // a number
	}
	if len(words) < 2 {
		return "", "", false // one word may be anything
	}
	at := len(words) - 1
	for at > 1 && particles[strings.ToLower(words[at-1])] {
		at--
	}
	return strings.Join(words[at:], " "), strings.Join(words[:at], " "), false
}
