package names

import (
	_ "embed"
	"slices"
	"strings"
	"sync"

	"github.com/antzucaro/matchr"
)

// Likeness is how two names resemble each other.
type Likeness uint8

// The likenesses, but for Unknown, Otherwise and Unlike from the closest.
const (
	Unknown     Likeness = iota // one is missing, or cannot be compared
	Same                        // the same, but for case and diacritics
	Transcribed                 // the same in other letters, by a usual spelling
	Sounding                    // they sound alike: the same consonants, in other letters or another romanisation
	Partly                      // one of several parts is the same
	ShortForm                   // a usual short form of it
	InitialOnly                 // one is the first letter of the other
	Near                        // one or two typing errors apart
	Halves                      // one part is the same, and another differs
	Otherwise                   // in letters that are read in several ways, none of which is the other
	Unlike
)

// Agrees tells whether both may be one name.
func (l Likeness) Agrees() bool { return Same <= l && l <= Near }

// Differs tells whether they are two names, as far as they can be compared.
func (l Likeness) Differs() bool { return l >= Otherwise }

// Families compares two family names.
func Families(a, b *Word) Likeness { return compare(a, b, false) }

// Givens compares the given names of two people.
func Givens(a, b *Word) Likeness { return compare(a, b, true) }

func compare(a, b *Word, given bool) Likeness {
	switch {
	case a.Text == "" || b.Text == "":
		return Unknown
	case a.Text == b.Text && (!a.Opaque || !b.Opaque || a.native == b.native):
		if a.Foreign != b.Foreign && (a.Opaque || b.Opaque) {
			return Transcribed
		}
		return Same
	case !a.Foreign && !b.Foreign && a.undotted == b.undotted:
		return Same
	case a.Text == b.Text && a.scripts == b.scripts:
		return Sounding // written with other signs
	case (a.Foreign || b.Foreign) && transcribed(a, b):
		return Transcribed
	case given && (a.letter || b.letter):
		return initial(a, b)
	case (a.Foreign || b.Foreign) && soundAlike(a, b):
		return Sounding
	}
	if l := inPart(a, b, given); l != Unknown {
		return l
	}
	whole := a.tonal || b.tonal // of names of syllables no part stands for all
	switch {
	case given && !whole && sameForm(&a.Parts[0], &b.Parts[0]):
		return ShortForm
	case Typo(a.Text, b.Text):
		return Near
	case given && !whole && Typo(a.Parts[0].Text, b.Parts[0].Text):
		return Near
	case a.Foreign != b.Foreign && !a.Opaque && !b.Opaque && nearSpelling(a, b):
		return Near
	case given && !whole && (len(a.Parts) > 1 || len(b.Parts) > 1) && initials(a.Parts, b.Parts):
		return InitialOnly
	case !a.Foreign && !b.Foreign && soundAlike(a, b):
		return Sounding
	case a.Opaque == b.Opaque:
		return Unlike
	case a.scripts&unread != 0 || b.scripts&unread != 0:
		return Unknown
	}
	return Otherwise
}

// transcribed tells whether a usual spelling of one is one of the other.
func transcribed(a, b *Word) bool {
	return a.spelt(b.Text) || b.spelt(a.Text) || a.Foreign && b.Foreign && slices.ContainsFunc(a.others, b.spelt)
}

// initial compares names of which one is a letter only.
func initial(a, b *Word) Likeness {
	if !a.letter {
		a, b = b, a
	}
	begins := func(s string) bool {
		return strings.HasPrefix(b.Text, s) ||
			slices.ContainsFunc(b.others, func(other string) bool { return strings.HasPrefix(other, s) })
	}
	switch {
	case begins(a.Text) || slices.ContainsFunc(a.others, begins):
		return InitialOnly
	case a.Opaque != b.Opaque:
		return Otherwise
	}
	return Unlike
}

// soundAlike tells whether two names share a way to sound. Of Latin ones it is
// asked with more consonants, and of those in letters that nobody here reads.
func soundAlike(a, b *Word) bool {
	scripts := a.scripts | b.scripts
	if scripts == latin {
		return len(a.heard) >= 3 && a.heard == b.heard
	}
	least := 2
	switch {
	case scripts&unread != 0:
		least = 3
	case a.Opaque || b.Opaque:
		least = 1
	}
	x, y := a.sounding, b.sounding
	if x == nil || y == nil {
		x, y = a.Sounds(scripts), b.Sounds(scripts)
	}
	return shareSound(x, y, scripts, least)
}

// digraphs are how diacritics are written where there are none.
var digraphs = strings.NewReplacer("ae", "a", "oe", "o", "ue", "u", "aa", "a", "ss", "s")

// inPart compares names of several parts: Partly where one has the parts of
// the other, Halves where each has one of its own, Unknown where none is
// shared. Of given names it is enough that the one somebody is called by is
// among the others; names of syllables are whole or another.
func inPart(a, b *Word, given bool) Likeness {
	if len(a.Parts) == 1 && len(b.Parts) == 1 {
		if samePart(&a.Parts[0], &b.Parts[0]) { // but for particles
			return Partly
		}
		return Unknown
	}
	if joined(a.Parts) == joined(b.Parts) || oneIs(a, b) || oneIs(b, a) {
		return Partly
	}
	fewer, more := a.Parts, b.Parts
	if len(fewer) > len(more) {
		fewer, more = more, fewer
	}
	shared, near, missing, long := 0, 0, 0, false
	for i := range fewer {
		switch {
		case slices.ContainsFunc(more, func(p Part) bool { return samePart(&p, &fewer[i]) }):
			shared++
			long = long || len(fewer[i].Text) > 2 || len(fewer) == 1 && len(fewer[i].Text) == 2 && !given
		case len(fewer[i].Text) == 1 && slices.ContainsFunc(more, func(p Part) bool { return p.Text[0] == fewer[i].Text[0] }):
		case slices.ContainsFunc(more, func(p Part) bool { return len(p.Text) == 1 && p.Text[0] == fewer[i].Text[0] }):
		case slices.ContainsFunc(more, func(p Part) bool { return Typo(p.Text, fewer[i].Text) }):
			near++
		default:
			missing++
		}
	}
	first := samePart(&a.Parts[0], &b.Parts[0]) && len(a.Parts[0].Text) > 1
	switch {
	case shared == 0, !long && !(given && first):
		return Unknown
	case given && (a.tonal || b.tonal) && (missing > 0 || !samePart(&a.Parts[len(a.Parts)-1], &b.Parts[len(b.Parts)-1])):
		return Unknown // the last syllable is what somebody is called by
	case missing > 0:
		return Halves
	case near > 0:
		return Near
	}
	return Partly
}

// oneIs tells whether a part of a name in other letters is the whole of
// another, whose syllables may stand apart.
func oneIs(a, b *Word) bool {
	whole := joined(b.Parts)
	return a.Foreign && slices.ContainsFunc(a.Parts, func(p Part) bool { return p.spelt(whole) || p.spelt(b.Text) })
}

// samePart tells whether two parts are one name: by a spelling, or, in
// different letters, by how they sound.
func samePart(a, b *Part) bool {
	both := a.scripts | b.scripts
	switch {
	case a.Text == b.Text:
		return both&opaque == 0 || a.native == b.native || a.scripts != b.scripts
	case both == latin:
		return false
	case a.spelt(b.Text), b.spelt(a.Text):
		return true
	case a.scripts == b.scripts:
		return false
	}
	x, y := a.sounding, b.sounding
	if x == nil || y == nil {
		x, y = sounds(a.Text, a.others, a.native, a.scripts, both), sounds(b.Text, b.others, b.native, b.scripts, both)
	}
	return shareSound(x, y, both, 2)
}

// shareSound tells whether one of these sounds, of so many letters at least, is
// one of those.
func shareSound(x, y []string, beside Scripts, least int) bool {
	return slices.ContainsFunc(x,
		func(s string) bool { return len(s) >= least && counts(s, beside) && slices.Contains(y, s) })
}

func joined(parts []Part) string {
	var b strings.Builder
	for _, p := range parts {
		b.WriteString(p.Text)
	}
	return b.String()
}

// initials tells whether parts are first letters of the other's parts: "J P"
// for "Jean Pierre".
func initials(a, b []Part) bool {
	if len(a) > len(b) {
		a, b = b, a
	}
	for i := range a {
		part, other := a[i].Text, b[i].Text
		if part[0] != other[0] || len(part) > 1 && len(other) > 1 && part != other {
			return false
		}
	}
	return true
}

//go:embed shortforms.txt
var shortFormsText string

// shortForms tells which groups of forms of one name a given name is in.
var shortForms = sync.OnceValue(func() map[string][]int {
	groups := map[string][]int{}
	n := 0
	for line := range strings.Lines(shortFormsText) {
		for _, form := range strings.Fields(line) {
			groups[form] = append(groups[form], n)
		}
		n++
	}
	return groups
})

// Forms are the numbers of the groups of short forms that a given name is in.
func (w *Word) Forms() []int {
	p := &w.Parts[0]
	forms := shortForms()[p.Text]
	for _, other := range p.others {
		forms = append(slices.Clip(forms), shortForms()[other]...)
	}
	return forms
}

// sameForm tells whether two given names are forms of one: by the list, or
// because one begins the other.
func sameForm(a, b *Part) bool {
	for _, x := range append([]string{a.Text}, a.others...) {
		for _, y := range append([]string{b.Text}, b.others...) {
			short, long := x, y
			if len(short) > len(long) {
				short, long = long, short
			}
			if len(short) >= 3 && strings.HasPrefix(long, short) {
				return true
			}
			if slices.ContainsFunc(shortForms()[x], func(n int) bool { return slices.Contains(shortForms()[y], n) }) {
				return true
			}
		}
	}
	return false
}

// nearSpelling tells whether a usual spelling of one is a slip away from the
// other.
func nearSpelling(a, b *Word) bool {
	return slices.ContainsFunc(a.others, func(s string) bool { return Typo(s, b.Text) }) ||
		slices.ContainsFunc(b.others, func(s string) bool { return Typo(a.Text, s) })
}

// Typo tells whether two texts are one typing error apart (a letter wrong,
// missing, too many, or two swapped), or two where they are long.
func Typo(a, b string) bool {
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
