package names

import (
	"bytes"
	"compress/gzip"
	_ "embed"
	"io"
	"slices"
	"strings"
	"sync"
	"unicode/utf8"

	"golang.org/x/text/unicode/norm"
)

func decomposed(text string) string { return norm.NFD.String(text) }

// kanjiPacked are Japanese family names (f) and given names (g) with their
// readings in kana, from the IPA dictionary of the Nara Institute of Science
// and Technology; its licence stands in kanji.licence.
//
//go:embed kanji.txt.gz
var kanjiPacked []byte

// kanji are the readings of Japanese names, unpacked when the first one is
// asked for.
var kanji = sync.OnceValue(func() map[string][]string {
	in, err := gzip.NewReader(bytes.NewReader(kanjiPacked))
	if err != nil {
		panic(err) // it is part of the program
	}
	text, err := io.ReadAll(in)
	if err != nil {
		panic(err)
	}
	all := make(map[string][]string, 28000)
	for line := range strings.Lines(string(text)) {
		words := strings.Fields(line[1:])
		for _, reading := range words[1:] {
			if !slices.Contains(all[words[0]], reading) {
				all[words[0]] = append(all[words[0]], reading)
			}
		}
	}
	return all
})

// spellHan spells Chinese characters: as Mandarin in pinyin, in the older
// romanisation, as a Cantonese family name, and as Japanese names are read.
func spellHan(token string) (text string, others []string) {
	var pinyin, older strings.Builder
	for i, r := range []rune(token) {
		syllable := unidecoded(r)
		if i == 0 && familyReadings[r] != "" {
			syllable = familyReadings[r]
		}
		pinyin.WriteString(latinOf(syllable))
		older.WriteString(wade(latinOf(syllable)))
	}
	text, others = pinyin.String(), []string{older.String(), plainU.Replace(pinyin.String())}
	others = append(others, strings.Fields(southern()[token])...)
	for _, reading := range readings(token) {
		others = append(others, japaneseFold.Replace(romaji(reading)))
	}
	return text, others
}

// plainU writes the ü of pinyin without its dots.
var plainU = strings.NewReplacer("lv", "lu", "nv", "nu")

// readings are how a name is read in Japanese, in kana: as the list says, or,
// of a name that is not in it, as its two halves are.
func readings(token string) []string {
	if known := kanji()[token]; known != nil {
		return known
	}
	var all []string
	for at := range token {
		if at == 0 {
			continue
		}
		for _, begin := range kanji()[token[:at]] {
			for _, end := range kanji()[token[at:]] {
				all = append(all, begin+end)
				if r, size := utf8.DecodeRuneInString(end); voiced()[r] != 0 {
					all = append(all, begin+string(voiced()[r])+end[size:])
				}
			}
		}
	}
	return all[:min(len(all), 2*mostSpellings)]
}

// voiced are the sounds that the second half of a name often begins with.
var voiced = sync.OnceValue(func() map[rune]rune {
	all, plain := map[rune]rune{}, []rune("カキクケコサシスセソタチツテトハヒフヘホ")
	for i, r := range []rune("ガギグゲゴザジズゼゾダヂヅデドバビブベボ") {
		all[plain[i]] = r
	}
	return all
})

// familyReadings are characters that are read otherwise as family names.
var familyReadings = map[rune]string{
	'曾': "zeng",
	'单': "shan",
	'單': "shan",
	'解': "xie",
	'仇': "qiu",
	'查': "zha",
	'盖': "ge",
	'区': "ou",
	'朴': "piao",
	'尉': "yu",
	'任': "ren",
	'华': "hua",
	'缪': "miao",
	'折': "she",
	'翟': "zhai",
	'万': "wan",
	'长': "zhang",
	'乐': "yue",
	'覃': "qin",
	'沈': "shen",
	'葛': "ge",
	'吕': "lu",
	'呂': "lu",
	'盛': "sheng",
	'洗': "xian",
	'重': "chong",
	'黑': "he",
	'薛': "xue",
}

// southern are family names as they are spelt in Hong Kong and by those whose
// forebears left the south.
var southern = sync.OnceValue(func() map[string]string {
	all := map[string]string{}
	for line := range strings.Lines(`陳陈 chan tan
黃黄 wong ng
李 lee li
張张 cheung teo chong
劉刘 lau low
林 lam lim
吳吴 ng goh
梁 leung neo
鄭郑 cheng tay
何 ho
鄧邓 tang
郭 kwok quek
葉叶 yip yap
蔡 choi chua tsoi
許许 hui koh
曾 tsang chan
周 chow chew
徐 tsui chui
楊杨 yeung yeo
馮冯 fung
謝谢 tse chia
羅罗 lo
余 yu yee
馬马 ma
趙赵 chiu chew
朱 chu choo
譚谭 tam
胡 wu woo
蘇苏 so soh
潘 poon phua
莫 mok
關关 kwan
方 fong png
唐 tong
盧卢 lo loo
高 ko
簡简 kan
麥麦 mak
黎 lai
王 wong ong heng
孫孙 suen sun
袁 yuen
鍾钟 chung
蕭萧肖 siu
江 kong
湯汤 tong
崔 tsui
余 yu
沈 sum shum sim
賴赖 lai
盧 lo
洪 hung ang
伍 ng
石 shek
歐欧 au
區区 au
`) {
		words := strings.Fields(line)
		for _, r := range words[0] {
			all[string(r)] = strings.Join(words[1:], " ")
		}
	}
	return all
})

// cantoneseText are common characters by their Cantonese reading, from the
// to-jyutping package; its licence stands in cantonese.licence.
//
//go:embed cantonese.txt
var cantoneseText string

var cantonese = sync.OnceValue(func() map[rune]string {
	all := make(map[rune]string, 7000)
	for line := range strings.Lines(cantoneseText) {
		reading, signs, _ := strings.Cut(strings.TrimSpace(line), " ")
		for _, r := range signs {
			all[r] = reading
		}
	}
	return all
})

// cantoneseSound is what stays of characters as they are read in Cantonese,
// "" where that is too little to tell, or not known.
func cantoneseSound(native string) string {
	var b strings.Builder
	for _, r := range native {
		reading := cantonese()[r]
		if reading == "" {
			return ""
		}
		b.WriteString(strings.ReplaceAll(strings.ReplaceAll(reading, "yu", "u"), "j", "y"))
	}
	return cantoneseFold(b.String())
}

// cantoneseFold makes the spellings of Cantonese that are in use equal: what
// stays are the consonants. One alone tells nothing.
func cantoneseFold(text string) string {
	const vowels = "aeiou"
	isVowel := func(c byte) bool { return strings.IndexByte(vowels, c) >= 0 }
	fold := collapsed(cantonesePairs.Replace(text), func(text string, i int) byte {
		behind := i > 0 && isVowel(text[i-1])
		switch c := text[i]; {
		case isVowel(c):
			return 0
		case c == 'h' || c == 'w' || c == 'y':
			if i+1 == len(text) || behind && !isVowel(text[i+1]) || i > 0 && !behind && c != 'h' {
				return 0 // it only tells how a vowel is said
			}
			return c
		case c == 'g':
			return 'k'
		case c == 'd':
			return 't'
		case c == 'b':
			return 'p'
		case c == 'z', c == 'j':
			return 'c'
		default:
			return c
		}
	})
	if len(fold) < 2 {
		return ""
	}
	return fold
}

var cantonesePairs = strings.NewReplacer("tsz", "c", "ts", "c", "ch", "c", "tz", "c", "sz", "s", "sh", "s", "kw", "k",
	"gw", "k", "qu", "k", "ng", "N")

// wade is a syllable of pinyin in the older romanisation.
func wade(s string) string {
	switch s {
	case "zhi", "chi":
		return "chih"
	case "shi":
		return "shih"
	case "ri":
		return "jih"
	case "zi", "ci":
		return "tzu"
	case "si":
		return "ssu"
	case "you":
		return "yu"
	case "yan":
		return "yen"
	case "er":
		return "erh"
	case "he", "ke", "ge", "e":
		return strings.Replace(s[:len(s)-1], "g", "k", 1) + "o"
	}
	for _, p := range [][2]string{{"zh", "ch"}, {"ch", "ch"}, {"sh", "sh"}, {"j", "ch"}, {"q", "ch"}, {"x", "hs"}, {"z", "ts"}, {"c", "ts"}, {"b", "p"}, {"d", "t"}, {"g", "k"}, {"r", "j"}} {
		if rest, ok := strings.CutPrefix(s, p[0]); ok {
			s = p[1] + rest
			break
		}
	}
	for _, p := range [][2]string{{"ong", "ung"}, {"ian", "ien"}, {"uo", "o"}} {
		if rest, ok := strings.CutSuffix(s, p[0]); ok && !(p[0] == "uo" && strings.ContainsAny(rest, "kh")) {
			return rest + p[1]
		}
	}
	return s
}

// kanaSyllables are what kana sound like; hiragana are read as katakana.
var kanaSyllables = map[rune]string{
	'ア': "a",
	'イ': "i",
	'ウ': "u",
	'エ': "e",
	'オ': "o",
	'カ': "ka",
	'キ': "ki",
	'ク': "ku",
	'ケ': "ke",
	'コ': "ko",
	'サ': "sa",
	'シ': "shi",
	'ス': "su",
	'セ': "se",
	'ソ': "so",
	'タ': "ta",
	'チ': "chi",
	'ツ': "tsu",
	'テ': "te",
	'ト': "to",
	'ナ': "na",
	'ニ': "ni",
	'ヌ': "nu",
	'ネ': "ne",
	'ノ': "no",
	'ハ': "ha",
	'ヒ': "hi",
	'フ': "fu",
	'ヘ': "he",
	'ホ': "ho",
	'マ': "ma",
	'ミ': "mi",
	'ム': "mu",
	'メ': "me",
	'モ': "mo",
	'ヤ': "ya",
	'ユ': "yu",
	'ヨ': "yo",
	'ラ': "ra",
	'リ': "ri",
	'ル': "ru",
	'レ': "re",
	'ロ': "ro",
	'ワ': "wa",
	'ヰ': "i",
	'ヱ': "e",
	'ヲ': "o",
	'ン': "n",
	'ガ': "ga",
	'ギ': "gi",
	'グ': "gu",
	'ゲ': "ge",
	'ゴ': "go",
	'ザ': "za",
	'ジ': "ji",
	'ズ': "zu",
	'ゼ': "ze",
	'ゾ': "zo",
	'ダ': "da",
	'ヂ': "ji",
	'ヅ': "zu",
	'デ': "de",
	'ド': "do",
	'バ': "ba",
	'ビ': "bi",
	'ブ': "bu",
	'ベ': "be",
	'ボ': "bo",
	'パ': "pa",
	'ピ': "pi",
	'プ': "pu",
	'ペ': "pe",
	'ポ': "po",
	'ヴ': "vu",
	'ァ': "a",
	'ィ': "i",
	'ゥ': "u",
	'ェ': "e",
	'ォ': "o",
}

// romaji spells kana.
func romaji(text string) string {
	var out string
	double := false
	for _, r := range norm.NFKC.String(text) {
		if 'ぁ' <= r && r <= 'ゖ' {
			r += 'ァ' - 'ぁ'
		}
		syllable := kanaSyllables[r]
		switch r {
		case 'ャ', 'ュ', 'ョ':
			vowel := map[rune]string{'ャ': "a", 'ュ': "u", 'ョ': "o"}[r]
			out = strings.TrimSuffix(out, "i")
			if !strings.HasSuffix(out, "sh") && !strings.HasSuffix(out, "ch") && !strings.HasSuffix(out, "j") {
				out += "y"
			}
			out += vowel
			continue
		case 'ッ':
			double = true
			continue
		case 'ー':
			continue
		}
		if double && syllable != "" {
			out += strings.Replace(syllable[:1], "c", "t", 1)
		}
		double = false
		out += syllable
	}
	return out
}

// The sounds of Korean syllables, in the official romanisation.
var (
	koreanLeads  = strings.Split("g,kk,n,d,tt,r,m,b,pp,s,ss,,j,jj,ch,k,t,p,h", ",")
	koreanVowels = strings.Split("a,ae,ya,yae,eo,e,yeo,ye,o,wa,wae,oe,yo,u,wo,we,wi,yu,eu,ui,i", ",")
	koreanTails  = strings.Split(",k,k,k,n,n,n,t,l,k,m,l,l,l,p,l,m,p,p,t,t,ng,t,t,k,t,p,t", ",")
)

// koreanFamilies are family names as they are spelt besides.
var koreanFamilies = map[string]string{
	"이": "lee yi rhee ri li rhie",
	"박": "park pak",
	"최": "choi choe",
	"임": "lim rim yim",
	"유": "yoo ryu you",
	"류": "ryu yoo lyu",
	"노": "noh roh no",
	"로": "noh roh",
	"우": "woo",
	"오": "oh",
	"안": "ahn an",
	"조": "cho",
	"정": "jung chung cheong",
	"문": "moon",
	"신": "shin",
	"심": "shim",
	"구": "koo",
	"백": "baek paik baik",
	"배": "bae pae",
	"권": "kwon",
	"나": "na ra",
	"라": "ra na",
	"량": "yang",
	"양": "yang",
	"여": "yeo",
	"려": "yeo ryeo",
	"허": "huh heo hur",
	"서": "seo suh",
	"손": "son sohn",
	"강": "kang",
	"김": "kim",
	"고": "ko koh",
	"주": "joo chu",
	"윤": "yoon",
	"전": "jeon chun jun",
}

// spellHangul spells Korean.
func spellHangul(token string) (text string, others []string) {
	for _, r := range norm.NFC.String(token) {
		if n := r - 0xac00; 0 <= n && n < 11172 {
			text += koreanLeads[n/588] + koreanVowels[n%588/28] + koreanTails[n%28]
		}
	}
	return text, strings.Fields(koreanFamilies[token])
}

// koreanFold makes the spellings of Korean that are in use equal.
func koreanFold(text string) string {
	return collapsed(koreanPairs.Replace(text), func(text string, i int) byte {
		switch c := text[i]; {
		case c == 'w', c == 'h' && i > 0:
			return 0
		case c == 'g', c == 'q':
			return 'k'
		case c == 'd':
			return 't'
		case c == 'b':
			return 'p'
		case c == 'r':
			return 'l'
		case c == 'o':
			return 'u'
		default:
			return c
		}
	})
}

var koreanPairs = strings.NewReplacer("yeo", "yo", "you", "yo", "eo", "o", "eu", "u", "ae", "e", "ai", "e", "oe", "e",
	"oo", "u", "ou", "o", "ee", "i", "ui", "i", "wi", "i", "ch", "j", "sh", "s", "ck", "k", "c", "k", "ng", "ng")
