package names

import (
	"slices"
	"strings"
	"sync"
	"unicode"

	"github.com/mozillazg/go-unidecode"
)

// Scripts are the kinds of letters that names are written in.
type Scripts uint16

const (
	latin Scripts = 1 << iota
	cyrillic
	greek
	han
	kana
	hangul
	arabic
	hebrew
	other // whose letters say how they sound
	unread

	opaque = han | hangul | arabic | hebrew | unread
)

// Scripts tells what a name is written in.
func (w *Word) Scripts() Scripts { return w.scripts }

// Foreign tells whether there are other letters than Latin ones among them.
func (s Scripts) Foreign() bool { return s&^latin != 0 }

// Unread tells of a name in letters that are not read here.
func (w *Word) Unread() bool { return w.scripts&unread != 0 }

// script tells what a word is written in, by its first letter.
func script(token string) Scripts {
	if strings.ContainsFunc(token, func(r rune) bool { return unicode.Is(unicode.Han, r) }) {
		return han // with kana in between, too
	}
	for _, r := range token {
		switch {
		case !unicode.IsLetter(r):
		case unicode.Is(unicode.Latin, r):
			return latin
		case unicode.Is(unicode.Cyrillic, r):
			return cyrillic
		case unicode.Is(unicode.Greek, r):
			return greek
		case unicode.In(r, unicode.Hiragana, unicode.Katakana):
			return kana
		case unicode.Is(unicode.Hangul, r):
			return hangul
		case unicode.Is(unicode.Arabic, r):
			return arabic
		case unicode.Is(unicode.Hebrew, r):
			return hebrew
		case unicode.In(r, unicode.Armenian, unicode.Georgian, unicode.Devanagari, unicode.Bengali, unicode.Gujarati, unicode.Gurmukhi):
			return other
		default:
			return unread
		}
	}
	return latin
}

// spell writes a word in Latin letters: in the usual way, and in others.
func spell(token string, s Scripts) (text string, others []string) {
	switch s {
	case cyrillic:
		text = latinOf(token)
		for _, custom := range cyrillicCustoms() {
			spelt := latinOf(custom.Replace(strings.ToLower(token)))
			others = append(others, spelt)
			if strings.HasPrefix(spelt, "e") {
				others = append(others, "y"+spelt) // Yevgeny, Yelena
			}
		}
	case greek:
		plain := latinOf(greekPairs.Replace(stripped(token)))
		text, others = plain, []string{latinOf(greekOlder.Replace(stripped(token))), latinOf(token)}
	case han:
		text, others = spellHan(token)
	case kana:
		text = latinOf(romaji(token))
	case hangul:
		text, others = spellHangul(token)
	case other:
		text = latinOf(caucasian.Replace(token))
		if strings.HasPrefix(text, "e") { // Yeva, Vosgan
			others = []string{"y" + text}
		} else if strings.HasPrefix(text, "o") {
			others = []string{"v" + text}
		}
	default:
		text = latinOf(token)
	}
	others = slices.DeleteFunc(others, func(o string) bool { return o == "" || o == text })
	slices.Sort(others)
	return text, slices.Clip(slices.Compact(others))
}

// stripped is a text in lower case without accents.
func stripped(token string) string {
	return strings.Map(func(r rune) rune {
		if unicode.Is(unicode.Mn, r) {
			return -1
		}
		return r
	}, decomposed(strings.ToLower(token)))
}

// caucasian are letters of Armenian and Georgian whose usual spelling is
// another than that of one letter.
var caucasian = strings.NewReplacer("ու", "u", "Ու", "u", "և", "ev", "ձ", "dz", "Ձ", "dz", "ծ", "ts", "Ծ", "ts", "ძ",
	"dz", "ჯ", "j", "ჟ", "zh", "ყ", "q", "ღ", "gh", "ხ", "kh", "ჩ", "ch", "ჭ", "ch", "შ", "sh", "ც", "ts", "წ", "ts")

var greekPairs = strings.NewReplacer("ου", "ou", "μπ", "b", "ντ", "nt", "γγ", "ng", "γκ", "gk", "γχ", "nch", "αυ", "av",
	"ευ", "ev", "α", "a", "β", "v", "γ", "g", "δ", "d", "ε", "e", "ζ", "z", "η", "i", "θ", "th", "ι", "i", "κ", "k",
	"λ", "l", "μ", "m", "ν", "n", "ξ", "x", "ο", "o", "π", "p", "ρ", "r", "σ", "s", "ς", "s", "τ", "t", "υ", "y", "φ",
	"f", "χ", "ch", "ψ", "ps", "ω", "o")

var greekOlder = strings.NewReplacer("ου", "u", "μπ", "b", "ντ", "d", "γγ", "ng", "γκ", "g", "γχ", "nh", "αυ", "af",
	"ευ", "ef", "α", "a", "β", "v", "γ", "g", "δ", "d", "ε", "e", "ζ", "z", "η", "e", "θ", "th", "ι", "i", "κ", "k",
	"λ", "l", "μ", "m", "ν", "n", "ξ", "ks", "ο", "o", "π", "p", "ρ", "r", "σ", "s", "ς", "s", "τ", "t", "υ", "u", "φ",
	"ph", "χ", "h", "ψ", "ps", "ω", "o")

// cyrillicCustoms are how Cyrillic is written in passports, by the standard of
// libraries, in German and in French, and in Ukrainian, Bulgarian and Serbian.
var cyrillicCustoms = sync.OnceValue(func() []*strings.Replacer {
	usual := map[string]string{
		"а": "a",
		"б": "b",
		"в": "v",
		"г": "g",
		"д": "d",
		"е": "e",
		"ё": "e",
		"ж": "zh",
		"з": "z",
		"и": "i",
		"й": "i",
		"к": "k",
		"л": "l",
		"м": "m",
		"н": "n",
		"о": "o",
		"п": "p",
		"р": "r",
		"с": "s",
		"т": "t",
		"у": "u",
		"ф": "f",
		"х": "kh",
		"ц": "ts",
		"ч": "ch",
		"ш": "sh",
		"щ": "shch",
		"ъ": "",
		"ы": "y",
		"ь": "",
		"э": "e",
		"ю": "iu",
		"я": "ia",
		"і": "i",
		"ї": "i",
		"є": "ie",
		"ґ": "g",
		"ў": "u",
		"ђ": "dj",
		"ј": "j",
		"љ": "lj",
		"њ": "nj",
		"ћ": "c",
		"џ": "dz",
		"'": "",
		"’": "",
	}
	var all []*strings.Replacer
	for _, custom := range []string{
		"",
		"й y ю yu я ya ё yo ы y",
		"й j ж z х h ц c ч c ш s щ sc ю ju я ja ё e",
		"в w ж sch з s й j х ch ц z ч tsch ш sch щ schtsch ю ju я ja",
		"ж j у ou ч tch ш ch щ chtch ю iou я ia й i",
		"г h и y й i ю iu я ia є ie ї i",
		"г h и y й y ю yu я ya є ye ї yi",
		"х h ц ts щ sht ъ a й y ю yu я ya",
		"ий y ый y ю yu я ya",
		"ий i ый i ю yu я ya ье ie",
	} {
		table, words := []string{}, strings.Fields(custom)
		for i := 0; i < len(words); i += 2 {
			table = append(table, words[i], words[i+1])
		}
		for from, to := range usual {
			if !slices.Contains(words, from) {
				table = append(table, from, to)
			}
		}
		all = append(all, strings.NewReplacer(table...))
	}
	return all
})

// skeleton is what stays of a name whichever way it was written in Latin
// letters: the consonants.
func skeleton(text string) string {
	return collapsed(skeletonPairs.Replace(text), func(text string, i int) byte {
		switch c := text[i]; c {
		case 'a', 'e', 'i', 'o', 'u', 'y', 'j', 'h':
			return 0
		case 'c', 'q':
			return 'k'
		case 'w':
			return 'v'
		case 'z':
			return 's'
		default:
			return c
		}
	})
}

// collapsed is what becomes of the letters of a text, of which those that
// follow each other are one, and 0 is none.
func collapsed(text string, letter func(text string, i int) byte) string {
	var out []byte
	for i := range len(text) {
		if c := letter(text, i); c != 0 && (len(out) == 0 || out[len(out)-1] != c) {
			out = append(out, c)
		}
	}
	return string(out)
}

// consonantsOf is a skeleton that keeps an h or a y where it is heard.
func consonantsOf(text string) string {
	var out []byte
	for i := range len(text) {
		if c := text[i]; (c == 'h' || c == 'y') && (i == 0 || strings.IndexByte("aeiou", text[i-1]) >= 0) &&
			i+1 < len(text) &&
			strings.IndexByte("aeiou", text[i+1]) >= 0 {
			out = append(out, c-'a'+'A')
			continue
		}
		out = append(out, text[i])
	}
	return skeleton(string(out))
}

var skeletonPairs = strings.NewReplacer("ph", "f", "ks", "x", "ck", "k", "tsch", "k", "tch", "k", "ts", "s", "tz", "s")

// Sounds are the ways in which a name may sound, as far as names of these
// scripts are told apart by them: two names that may be one share one. Those
// that count only beside some script bear its mark.
func (w *Word) Sounds(beside Scripts) []string {
	return sounds(w.Text, w.others, w.native, w.scripts, beside)
}

// Prepare works out the sounds of a name beside all scripts that are in use,
// so that comparing it is quick.
func (w *Word) Prepare(beside Scripts) []string {
	w.sounding = w.Sounds(beside)
	for i := range w.Parts {
		p := &w.Parts[i]
		p.sounding = sounds(p.Text, p.others, p.native, p.scripts, beside)
	}
	return w.sounding
}

// marks are the scripts beside which a marked sound counts.
var marks = map[byte]Scripts{'a': arabic | hebrew, 'c': han, 'j': han | kana, 'k': hangul}

// counts tells whether a sound counts beside these scripts.
func counts(sound string, beside Scripts) bool {
	return mark(sound) == 0 || marks[mark(sound)]&beside != 0
}

// OneKind tells whether two sounds bear the same mark, or none: both names of
// somebody are in the letters of one script.
func OneKind(x, y string) bool { return mark(x) == mark(y) }

func mark(sound string) byte {
	if len(sound) > 1 && sound[1] == ':' {
		return sound[0]
	}
	return 0
}

func sounds(text string, others []string, native string, own, beside Scripts) []string {
	all := make([]string, 0, 4)
	add := func(s string) {
		if s != "" && !slices.Contains(all, s) {
			all = append(all, s)
		}
	}
	if own&(arabic|hebrew) != 0 {
		for _, s := range consonants(native) {
			add(s)
			add(marked("a:", s))
		}
		return all
	}
	each := func(fold func(string) string) {
		add(fold(text))
		for _, other := range others {
			add(fold(other))
		}
	}
	if own&(han|hangul) == 0 {
		each(skeleton)
	}
	if beside&(arabic|hebrew) != 0 && own&(han|hangul|kana) == 0 {
		add(marked("a:", skeleton(strings.ReplaceAll(text, "ch", "s"))))
		add(marked("a:", skeleton(withoutArticle(text))))
	}
	if beside&(han|kana) != 0 {
		each(func(s string) string { return "j:" + japaneseFold.Replace(s) })
	}
	if own&han != 0 {
		add(marked("c:", cantoneseSound(native)))
	} else if beside&han != 0 && own == latin {
		add(marked("c:", cantoneseFold(text)))
	}
	if beside&hangul != 0 {
		each(func(s string) string { return "k:" + koreanFold(s) })
	}
	return all
}

// marked puts a mark before a sound, where there is one.
func marked(mark, sound string) string {
	if sound == "" {
		return ""
	}
	return mark + sound
}

func withoutArticle(text string) string {
	for _, article := range []string{"al", "el"} {
		if rest, ok := strings.CutPrefix(text, article); ok && len(rest) >= 3 {
			return rest
		}
	}
	return text
}

// letters are the consonants of Arabic and Hebrew letters, as skeletons have
// them; several where a letter is written in several ways. The blank is none.
var letters = map[rune]string{
	'ب': "b", 'ت': "t", 'ث': "t", 'ج': " g", 'ح': " ", 'خ': "k", 'د': "d", 'ذ': "ds", 'ر': "r", 'ز': "s", 'س': "s", 'ش': "s", 'ص': "s", 'ض': "d", 'ط': "t", 'ظ': "sd", 'غ': "g", 'ف': "f", 'ق': "kg",
	'ك': "k", 'ل': "l", 'م': "m", 'ن': "n", 'ه': " ", 'و': " v", 'پ': "p", 'چ': "k", 'ژ': "s", 'گ': "g", 'ک': "k",
	'ב': "bv", 'ג': "g", 'ד': "d", 'ו': " v", 'ז': "s", 'ח': " k", 'ט': "t", 'כ': "k", 'ך': "k", 'ל': "l", 'מ': "m", 'ם': "m", 'נ': "n", 'ן': "n", 'ס': "s", 'פ': "pf", 'ף': "fp", 'צ': "s", 'ץ': "s",
	'ק': "k", 'ר': "r", 'ש': "s", 'ת': "t",
}

// consonants are the skeletons of a name that writes no vowels.
func consonants(native string) []string {
	native = strings.TrimPrefix(native, "ال")
	all := []string{""}
	for _, r := range native {
		ways := letters[r]
		if ways == "" {
			continue // a vowel, or nearly none
		}
		var longer []string
		for _, begin := range all {
			for _, c := range ways {
				switch {
				case c == ' ' || strings.HasSuffix(begin, string(c)):
					longer = append(longer, begin)
				default:
					longer = append(longer, begin+string(c))
				}
			}
		}
		slices.Sort(longer)
		all = slices.Compact(longer)
		all = all[:min(len(all), mostSpellings)]
	}
	return all
}

// japaneseFold makes the romanisations of Japanese equal.
var japaneseFold = strings.NewReplacer("sh", "sh", "ch", "ch", "ts", "ts", "ou", "o", "oo", "o", "oh", "o", "uu", "u",
	"sya", "sha", "syu", "shu", "syo", "sho", "tya", "cha", "tyu", "chu", "tyo", "cho", "zya", "ja", "zyu", "ju", "zyo",
	"jo", "jya", "ja", "jyu", "ju", "jyo", "jo", "si", "shi", "ti", "chi", "tu", "tsu", "hu", "fu", "zi", "ji", "dzu",
	"zu", "du", "zu", "mb", "nb", "mp", "np", "mm", "nm", "l", "r")

// unidecoded is a text as it is usually spelt, syllable by syllable.
func unidecoded(r rune) string {
	return strings.ToLower(strings.TrimSpace(unidecode.Unidecode(string(r))))
}
