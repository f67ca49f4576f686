package reconcile

import (
	"cmp"
	"math"
	"slices"
	"strings"

	"yardbroom/internal/names"
	"yardbroom/internal/parallel"
)

// noWord is the number of no name.
const noWord int32 = -1

// vocabulary knows each name by a number, and how common it is.
type vocabulary struct {
	byWritten map[string]int32
	ready     map[string]names.Word // read, and not added yet
	byText    map[string]int32      // as they are spelt in their own letters
	words     []names.Word
	counts    []int32        // how often each stands in either list
	sounds    map[string]int // how often names that sound so do
	sounding  [][]string     // the ways in which each name may sound
	scripts   names.Scripts  // all that are in use
	beings    int            // whose names were counted
}

func newVocabulary() *vocabulary {
	return &vocabulary{byWritten: map[string]int32{}, byText: map[string]int32{}}
}

// add counts a name and returns its number; noWord for a blank. A name that
// prepare has read is not read again.
func (v *vocabulary) add(written string) int32 {
	if written == "" {
		return noWord
	}
	n, known := v.byWritten[written]
	if !known {
		w, ready := v.ready[written]
		if !ready {
			w = names.New(written)
		}
		n = v.learn(w)
		v.byWritten[strings.Clone(written)] = n
	}
	if n != noWord {
		v.counts[n]++
	}
	return n
}

// prepare reads names, on all processors.
func (v *vocabulary) prepare(all []nameParts) {
	seen := map[string]bool{}
	var unique []string
	for i := range all {
		for _, written := range []string{all[i].family, all[i].given} {
			if written != "" && !seen[written] {
				seen[written] = true
				unique = append(unique, written)
			}
		}
	}
	words := make([]names.Word, len(unique))
	parallel.Each(len(unique), func(_, i int) { words[i] = names.New(unique[i]) })
	v.ready = make(map[string]names.Word, len(unique))
	for i, written := range unique {
		v.ready[written] = words[i]
	}
}

func (v *vocabulary) learn(w names.Word) int32 {
	if w.Text == "" {
		return noWord
	}
	v.scripts |= w.Scripts()
	spelt := w.Spelt() // how it was written decides on how it is compared
	if n, known := v.byText[spelt]; known {
		return n
	}
	n := int32(len(v.words))
	v.words, v.counts = append(v.words, w), append(v.counts, 0)
	v.byText[spelt] = n
	return n
}

// families compares two family names.
func (v *vocabulary) families(x, y int32) names.Likeness {
	return v.compare(x, y, names.Families)
}

// givens compares the given names of two people.
func (v *vocabulary) givens(x, y int32) names.Likeness {
	return v.compare(x, y, names.Givens)
}

// both compares the family and the given names of two people.
func (v *vocabulary) both(x, y being) (family, given names.Likeness) {
	return v.families(x.family, y.family), v.givens(x.given, y.given)
}

func (v *vocabulary) compare(x, y int32, how func(a, b *names.Word) names.Likeness) names.Likeness {
	switch {
	case x == noWord || y == noWord:
		return names.Unknown
	case x == y:
		return names.Same
	}
	return how(&v.words[x], &v.words[y])
}

// others are people taken to exist besides those in the lists, of other names:
// in a small house a name seems commoner than it is.
const others = 100

// rarity is how many bits it says of somebody to bear this name.
func (v *vocabulary) rarity(n int32) float64 {
	return math.Log2(float64(v.beings+others) / float64(v.counts[n]))
}

// soundRarity is how many bits it says that two names sound alike.
func (v *vocabulary) soundRarity(x, y int32) float64 {
	least := math.Inf(1)
	for _, s := range v.sounding[x] {
		if slices.Contains(v.sounding[y], s) {
			least = min(least, math.Log2(float64(v.beings+others)/float64(max(v.sounds[s], 1))))
		}
	}
	return least
}

// countSounds notes how each name may sound, and how common that is, once all
// names are known.
func (v *vocabulary) countSounds() {
	v.sounds, v.sounding = map[string]int{}, make([][]string, len(v.words))
	parallel.Each(len(v.words), func(_, i int) { v.sounding[i] = v.words[i].Prepare(v.scripts) })
	for n, sounds := range v.sounding {
		for _, s := range sounds {
			v.sounds[s] += int(v.counts[n])
		}
	}
}

// being is somebody's name, as far as it is known.
type being struct {
	family, given int32
	guessed       bool // where the name parts was not said
}

// nameParts are the names of somebody as they are written; guessed where it
// was not said which is which.
type nameParts struct {
	family, given string
	guessed       bool
}

// partsOf finds somebody's names: the two where both are given, else what a
// whole name, or another, shows.
func partsOf(family, given string, whole ...string) nameParts {
	p := nameParts{family: family, given: given}
	for _, name := range whole {
		if p.family != "" && p.given != "" {
			break
		}
		if f, g, said := names.Split(name); f != "" {
			p.family, p.given, p.guessed = cmp.Or(p.family, f), cmp.Or(p.given, g), !said
		}
	}
	return p
}

// being counts somebody's names.
func (v *vocabulary) being(p *nameParts) being {
	v.beings++
	b := being{v.add(p.family), v.add(p.given), p.guessed}
	if b.family == b.given && !strings.ContainsAny(p.family, " -") {
		b.family = noWord // of people with one name, lists repeat it
	}
	return b
}
