package roster

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/htmlindex"
	"golang.org/x/text/encoding/japanese"
	"golang.org/x/text/encoding/korean"
	"golang.org/x/text/encoding/simplifiedchinese"
	"golang.org/x/text/encoding/traditionalchinese"
	utf16 "golang.org/x/text/encoding/unicode"
)

// encoded is an encoding that texts are in which say nothing of it.
type encoded struct {
	name string
	encoding.Encoding
}

// candidates are the encodings that are tried, the commonest first.
var candidates = []encoded{
	{
		"windows-1252",
		charmap.Windows1252,
	}, {"windows-1250", charmap.Windows1250}, {"windows-1251", charmap.Windows1251}, {"windows-1253", charmap.Windows1253},
	{
		"windows-1254",
		charmap.Windows1254,
	}, {"windows-1255", charmap.Windows1255}, {"windows-1256", charmap.Windows1256}, {"windows-1257", charmap.Windows1257}, {"windows-1258", charmap.Windows1258},
	{
		"shift_jis",
		japanese.ShiftJIS,
	}, {"gb18030", simplifiedchinese.GB18030}, {"big5", traditionalchinese.Big5}, {"euc-kr", korean.EUCKR}, {"euc-jp", japanese.EUCJP},
	{
		"iso-8859-2",
		charmap.ISO8859_2,
	}, {"iso-8859-5", charmap.ISO8859_5}, {"iso-8859-6", charmap.ISO8859_6}, {"iso-8859-7", charmap.ISO8859_7},
	{
		"iso-8859-15",
		charmap.ISO8859_15,
	}, {"koi8-r", charmap.KOI8R}, {"koi8-u", charmap.KOI8U}, {"ibm866", charmap.CodePage866}, {"ibm850", charmap.CodePage850}, {"ibm852", charmap.CodePage852},
	{"macintosh", charmap.Macintosh}, {"x-mac-cyrillic", charmap.MacintoshCyrillic},
}

// decoded is a text, and the name of its encoding. One that was guessed has
// others that it may be in, the likeliest first.
type decoded struct {
	text, name string
	guessed    bool
	others     []string
}

// decode turns octets into text: in the encoding that somebody has named, else
// by a byte order mark, by the zeros of UTF-16, as UTF-8 if they are; else in
// the one in which they look most like a list of people.
func decode(raw string, opt Options) (decoded, error) {
	if opt.Encoding != "" {
		return decodeAs(raw, opt.Encoding)
	}
	text, name, err := decodeUnicode(raw)
	if err == nil && name == "UTF-8" {
		if once, twice := decodedTwice(text); twice {
			return decoded{text: once, name: "UTF-8, encoded twice"}, nil
		}
	}
	if err != nil || name != "" {
		return decoded{text: text, name: name}, err
	}
	return guessed(raw, opt)
}

// decodeAs decodes in a named encoding, by the names that the web uses.
func decodeAs(raw, name string) (decoded, error) {
	for _, c := range candidates {
		if strings.EqualFold(c.name, name) {
			text, err := c.NewDecoder().String(raw)
			return decoded{text: text, name: c.name}, err
		}
	}
	e, err := htmlindex.Get(name)
	if err != nil {
		return decoded{}, fmt.Errorf(
			"%q is no encoding that is known: utf-8, utf-16le, windows-1252 and windows-1251 are some", name)
	}
	text, err := e.NewDecoder().String(raw)
	if err != nil {
		return decoded{}, fmt.Errorf("it is not in %s: %w", name, err)
	}
	proper, _ := htmlindex.Name(e)
	return decoded{text: strings.TrimPrefix(text, "\ufeff"), name: cmp.Or(proper, name)}, nil
}

// decodeUnicode decodes what shows that it is Unicode; name is "" where it is
// not.
func decodeUnicode(raw string) (text, name string, err error) {
	order := utf16.LittleEndian
	switch {
	case strings.HasPrefix(raw, "\xef\xbb\xbf"):
		raw, name = raw[3:], "UTF-8"
	case strings.HasPrefix(raw, "\xff\xfe"):
		name = "UTF-16"
	case strings.HasPrefix(raw, "\xfe\xff"):
		name, order = "UTF-16", utf16.BigEndian
	case len(raw) > 3 && raw[1] == 0 && raw[3] == 0 && raw[0] != 0:
		name = "UTF-16"
	case len(raw) > 3 && raw[0] == 0 && raw[2] == 0 && raw[1] != 0:
		name, order = "UTF-16", utf16.BigEndian
	}
	switch {
	case name == "UTF-16":
		text, err := utf16.UTF16(order, utf16.UseBOM).NewDecoder().String(raw)
		if err == nil && (len(raw)%2 != 0 || strings.IndexByte(text, 0) >= 0) {
			err = errors.New(
				"it looks like UTF-16 and holds zero characters or half a one: it is not whole, or no text")
		}
		return text, name, err
	case strings.IndexByte(raw, 0) >= 0:
		return "", "", errors.New("it holds zero octets, so it is no text")
	case utf8.ValidString(raw):
		return raw, "UTF-8", nil
	case name == "UTF-8":
		return "", "", errors.New("it says that it is UTF-8 and is not; --encoding says what it is")
	}
	return "", "", nil
}

// leastTwice is how many octets above ASCII have to come of it to take a text
// for one that was encoded twice.
const leastTwice = 6

// decodedTwice decodes a text again that some program has taken for
// Windows-1252 when it was UTF-8 already, and encoded once more: "MÃ¼ller".
func decodedTwice(text string) (once string, twice bool) {
	if isASCII(text) || !strings.ContainsAny(text, "ÃÂÄÅÐÑÎÏ×ØÙàãäåæçèéêëìíï") {
		return "", false
	}
	once, err := charmap.Windows1252.NewEncoder().String(text)
	if err != nil || !utf8.ValidString(once) {
		return "", false
	}
	high := 0
	for i := range len(once) {
		if once[i] >= utf8.RuneSelf {
			high++
		}
	}
	return once, high >= leastTwice
}

const (
	mostLooked  = 256 << 10 // octets by which an encoding is guessed
	plausible   = 0.5       // the least score, of 1, of an encoding that may be the one
	mostGuesses = 8
)

// guessed decodes in the encoding in which the text looks most like names: its
// letters are of one script in each word, small behind the first, and usual
// ones; and the header, where there is one, is known.
func guessed(raw string, opt Options) (decoded, error) {
	sample := raw[:min(len(raw), mostLooked)]
	if at := strings.LastIndexByte(sample, '\n'); at > 0 && len(raw) > mostLooked {
		sample = sample[:at]
	}
	type scored struct {
		encoded
		score float64
	}
	var all []scored
	for _, c := range candidates {
		text, err := c.NewDecoder().String(sample)
		if err != nil {
			continue
		}
		if score := looksLikeNames(text) + knownHeaders(text, opt); score >= plausible {
			all = append(all, scored{c, score})
		}
	}
	if len(all) == 0 {
		all = []scored{{candidates[0], 0}}
	}
	slices.SortStableFunc(all, func(x, y scored) int { return cmp.Compare(y.score, x.score) })
	d, err := decodeAs(raw, all[0].name)
	d.guessed = true
	for _, other := range all[1:min(len(all), mostGuesses)] {
		d.others = append(d.others, other.name)
	}
	return d, err
}

// knownHeaders is how much it counts that the first line has columns whose
// names need more than ASCII letters, and are known.
func knownHeaders(text string, opt Options) float64 {
	first, _, _ := strings.Cut(text, "\n")
	known := 0.0
	for cell := range strings.FieldsFuncSeq(first, func(r rune) bool { return strings.ContainsRune(",;\t|\"\r", r) }) {
		if _, ok := named(cell, opt.Names); ok && !isASCII(cell) {
			known += 0.5
		}
	}
	return min(known, 2)
}

func isASCII(s string) bool {
	return !strings.ContainsFunc(s, func(r rune) bool { return r >= utf8.RuneSelf })
}

// looksLikeNames tells how well the letters that are not ASCII fit into words,
// 1 for best.
func looksLikeNames(text string) float64 {
	good, all := 0.0, 0.0
	for word := range strings.FieldsFuncSeq(text, func(r rune) bool { return r < utf8.RuneSelf && !isLetter(r) }) {
		if isASCII(word) {
			continue
		}
		letters, points := wordLooks(word)
		all += letters
		good += points
	}
	if all == 0 {
		return 0
	}
	return good / all
}

func isLetter(r rune) bool { return 'a' <= r && r <= 'z' || 'A' <= r && r <= 'Z' }

// wordLooks counts the letters of a word that are not ASCII, and those of them
// that are where they can be in a name.
func wordLooks(word string) (letters, points float64) {
	scripts, upper, lower, strange := map[*unicode.RangeTable]bool{}, 0, 0, 0
	at := 0
	for _, r := range word {
		at++
		if r >= utf8.RuneSelf {
			letters++
			points += usual(r)
		}
		switch s := scriptOf(r); {
		case s != nil:
			scripts[s] = true
		case r >= utf8.RuneSelf && !unicode.Is(unicode.M, r):
			strange++
		}
		switch {
		case unicode.IsUpper(r) && at > 1:
			upper++
		case unicode.IsLower(r):
			lower++
		}
	}
	if len(scripts) > 1 && !(scripts[unicode.Han] && (scripts[unicode.Hiragana] || scripts[unicode.Katakana])) {
		points -= letters
	}
	if upper > 0 && lower > 0 && upper >= lower || upper > 1 && lower > 0 {
		points -= letters / 2 // a case of its own in the middle of a word
	}
	return letters, points - float64(strange)
}

var namedScripts = []*unicode.RangeTable{
	unicode.Latin,
	unicode.Cyrillic,
	unicode.Greek,
	unicode.Han,
	unicode.Hangul,
	unicode.Hiragana,
	unicode.Katakana,
	unicode.Arabic,
	unicode.Hebrew,
}

func scriptOf(r rune) *unicode.RangeTable {
	for _, s := range namedScripts {
		if unicode.Is(s, r) {
			return s
		}
	}
	return nil
}

// usual is how usual a letter is in names, from 0 to 1.
func usual(r rune) float64 {
	switch {
	case !unicode.IsLetter(r) && !unicode.Is(unicode.M, r):
		return 0
	case strings.ContainsRune(usualLetters, unicode.ToLower(r)):
		return 1
	case r >= 0xac00 && r <= 0xd7a3, r >= 0x3041 && r <= 0x30ff:
		return 1
	case unicode.Is(unicode.Han, r):
		if commonHan()[r] {
			return 1
		}
		return 0.4
	case unicode.In(r, unicode.Arabic, unicode.Hebrew):
		return 0.8
	}
	return 0.3
}

// usualLetters are those that names have often in some language.
const usualLetters = "àáâãäåæçèéêëìíîïñòóôõöøùúûüýßœšžćčđłńśźżąęěřůťďňőűăâîșşţțğıāēīūļņķģ" + "абвгдежзийклмнопрстуфхцчшщыьэюяіїєґё" + "αβγδεζηθικλμνξοπρσςτυφχψωάέήίόύώ" +
	"ابتثجحخدذرزسشصضطظعغفقكلمنهويىةأإآءئ" + "אבגדהוזחטיכךלמםנןסעפףצץקרשת" + "ăâđêôơưạảấầẩậắằặẹẻẽếềểễệỉịọỏốồổỗộớờởợụủứừửữựỳỵỷỹ"

// commonHan are characters that names have often, in Chinese of either kind
// and in Japanese.
var commonHan = sync.OnceValue(func() map[rune]bool {
	all := map[rune]bool{}
	for _, r := range "王李张張刘劉陈陳杨楊黄黃赵趙吴吳周徐孙孫马馬朱胡郭何高林罗羅郑鄭梁谢謝宋唐许許韩韓冯馮邓鄧曹彭曾肖蕭田董袁潘于蒋蔣蔡余杜叶葉程苏蘇魏吕呂丁任沈姚卢盧姜崔钟鍾谭譚陆陸汪范石廖贾賈夏韦付方白邹孟熊秦邱江尹薛闫段雷侯龙史陶黎贺顾毛郝龚邵万钱" +
		"伟偉芳娜敏静靜丽麗强強磊军軍洋勇艳艷杰娟涛濤明超秀霞平刚剛桂英华華文建国國志玉梅红紅兰蘭春海小雪晓婷宇欣子轩軒浩然佳怡美玲家俊雅琳" +
		"佐藤鈴木高橋田中伊渡辺山本村小加吉井松口斎清阿部森池橋石川前岡長谷後近坂遠青西福太三上浦野原島崎内竹金和今河大久保安宮樹翔一郎恵子美奈陽介健誠直真理香織裕也学拓哉彩花優" {
		all[r] = true
	}
	return all
})

// Fitting returns the roster as read in the encoding in which most of its
// names are familiar, where its encoding had to be guessed: the names of a
// directory tell better than letters.
func (r *Roster) Fitting(familiar func(name string) bool) *Roster {
	if r.again == nil {
		return r
	}
	best, most := r, r.familiar(familiar)+0.02 // to change takes more than chance
	for _, name := range r.others {
		other, err := r.again(name)
		if err != nil {
			continue
		}
		if share := other.familiar(familiar); share > most {
			best, most = other, share
		}
	}
	if best != r {
		best.Form += " (by the names of the directory)"
	}
	return best
}

// mostAsked is how many rows are asked for their names.
const mostAsked = 5000

// familiar is the share of names with letters that are not ASCII that are
// known elsewhere.
func (r *Roster) familiar(known func(name string) bool) float64 {
	hits, all := 0, 0
	for i := range r.Rows[:min(len(r.Rows), mostAsked)] {
		for _, f := range []Field{Family, Given, FullName} {
			for word := range strings.FieldsSeq(r.Rows[i].Values[f]) {
				if isASCII(word) {
					continue
				}
				all++
				if known(word) {
					hits++
				}
			}
		}
	}
	if all == 0 {
		return 0
	}
	return float64(hits) / float64(all)
}
