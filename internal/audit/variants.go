package audit

import (
	"cmp"
	"fmt"
	"hash/maphash"
	"maps"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/antzucaro/matchr"

	"yardbroom/internal/directory"
)

// variant is one spelling of a value, and what it should be.
type variant struct {
	folded    string
	count     int
	preferred string
	of        int // entries with the preferred spelling
	likely    bool
	unlisted  bool // the settings list the right values, and it is near none of them
}

// cluster is all spellings that fold alike.
type cluster struct {
	folded    string
	spellings []string
	count     int // entries, over all spellings
	preferred string
	known     bool // the preferred spelling is from the settings
	joins     *cluster
}

// spellings counts how often each value occurs: words by their number, all
// others by themselves.
type spellings struct {
	words []int
	own   map[directory.Word]int
}

// variants are the values that should be spelt otherwise, and words by their
// number, too.
type variants struct {
	attrs  directory.AttrSet // that have any
	words  []*variant
	byText map[directory.AttrID]map[string]*variant
}

// of returns what is known of a value that should be spelt otherwise, nil for
// every other value.
func (all *variants) of(attr directory.AttrID, value directory.Value) *variant {
	if n, ok := value.Word(); ok {
		return all.words[n]
	}
	return all.byText[attr][value.Text()]
}

// countSpellings prepares value-variant: what each spelling should be.
func countSpellings(p *pass) {
	compared := directory.Attrs(p.rules.compared...)
	found := variants{words: make([]*variant, p.Words.Limit()), byText: map[directory.AttrID]map[string]*variant{}}
	for _, id := range p.rules.compared {
		found.byText[id] = map[string]*variant{}
	}
	count := func(one directory.Word, n int) {
		all := found.byText[one.Attr]
		if n == 0 || all == nil {
			return
		}
		if all[one.Text] == nil {
			all[one.Text] = &variant{folded: directory.FoldText(one.Text)}
		}
		all[one.Text].count += n
	}
	parts := tally(p.Accounts.Parts(), func() *spellings {
		return &spellings{make([]int, p.Words.Limit()), map[directory.Word]int{}}
	}, func(a *directory.Account, into *spellings) { into.add(a, compared) })
	for _, part := range parts {
		for n, one := range p.Words.All() {
			count(one, part.words[n])
		}
		for one, n := range part.own {
			count(one, n)
		}
	}
	for id, all := range found.byText {
		prefer(all, p.rules.reference[id])
		// What is spelt right is not looked up again for each account.
		maps.DeleteFunc(all, func(value string, v *variant) bool { return !v.unlisted && (v.preferred == "" || v.preferred == value) })
		if len(all) > 0 {
			found.attrs.Add(id)
		}
	}
	for n, one := range p.Words.All() {
		found.words[n] = found.byText[one.Attr][one.Text]
	}
	p.variants = found
}

// add counts the values of one account.
func (s *spellings) add(a *directory.Account, compared directory.AttrSet) {
	if a.Kind != directory.KindUser || a.BuiltIn {
		return
	}
	for id, value := range a.Text.Values(compared) {
		if n, ok := value.Word(); ok {
			s.words[n]++
		} else {
			s.own[directory.Word{Attr: id, Text: value.Text()}]++
		}
	}
}

// prefer decides which spelling each value should have.
func prefer(all map[string]*variant, reference []string) {
	clusters := map[string]*cluster{}
	for value, v := range all {
		if v.folded == "" {
			continue // blank, or nothing but punctuation
		}
		c := clusters[v.folded]
		if c == nil {
			c = &cluster{folded: v.folded}
			clusters[v.folded] = c
		}
		c.spellings = append(c.spellings, value)
		c.count += v.count
	}
	for _, c := range clusters {
		c.preferred = slices.MinFunc(c.spellings, func(a, b string) int {
			return cmp.Or(cmp.Compare(all[b].count, all[a].count),
				cmp.Compare(utf8.RuneCountInString(b), utf8.RuneCountInString(a)), strings.Compare(a, b))
		})
	}
	for _, right := range slices.Backward(reference) { // the first of two that fold alike is taken
		if c := clusters[directory.FoldText(right)]; c != nil {
			c.preferred, c.known = right, true
		}
	}
	join(clusters)
	for _, v := range all {
		c := clusters[v.folded]
		if c == nil {
			continue
		}
		for c.joins != nil {
			c, v.likely = c.joins, true
		}
		v.preferred = c.preferred
		if len(reference) > 0 && !c.known {
			v.preferred, v.likely = nearest(v.folded, reference), true
			v.unlisted = v.preferred == ""
		}
		if best := all[v.preferred]; best != nil {
			v.of = best.count
		}
	}
}

// nearest is the one listed value that a text is a slip or two of the finger away from; "" where
// there is none, or several.
func nearest(folded string, reference []string) (found string) {
	n := utf8.RuneCountInString(folded)
	if n < nearLength || n > joinLongest {
		return ""
	}
	slips := 1
	if n >= nearLonger {
		slips = 2
	}
	for _, right := range reference {
		switch {
		case matchr.OSA(folded, directory.FoldText(right)) > slips:
		case found != "":
			return ""
		default:
			found = right
		}
	}
	return found
}

// How long a value must be to be near a listed one by one slip, and by two. Two letters
// exchanged are one.
const (
	nearLength = 4
	nearLonger = 10
)

// Values of at least this length, and as many times more frequent, are taken
// for what another one, a letter apart, was meant to be.
const (
	joinLength  = 6
	joinLongest = 200 // longer texts are not names of anything
	joinTimes   = 10
)

// join finds the clusters that are a slip of the finger away from a much
// larger one. Two texts are one edit apart only if they are equal after one
// letter at most is left out of each, so that each needs to be compared only
// with the large ones that share such a form.
func join(clusters map[string]*cluster) {
	large, most := map[uint64][]*cluster{}, 0
	for _, c := range clusters {
		if n := utf8.RuneCountInString(c.folded); c.count >= joinTimes && n >= joinLength-1 && n <= joinLongest {
			forms(c.folded, func(form uint64) { large[form] = append(large[form], c) })
			most = max(most, c.count)
		}
	}
	for _, c := range clusters {
		n := utf8.RuneCountInString(c.folded)
		if c.known || n < joinLength || n > joinLongest || c.count*joinTimes > most {
			continue
		}
		forms(c.folded, func(form uint64) {
			for _, o := range large[form] {
				if o == c || o.count < joinTimes*c.count || !oneEdit(c.folded, o.folded) {
					continue
				}
				if j := c.joins; j == nil || o.count > j.count || o.count == j.count && o.folded < j.folded {
					c.joins = o
				}
			}
		})
	}
}

var formSeed = maphash.MakeSeed()

// forms goes through a text and all texts with one letter less, by their
// hashes.
func forms(s string, yield func(uint64)) {
	yield(maphash.String(formSeed, s))
	var buf [4 * joinLongest]byte
	for i, r := range s {
		short := append(append(buf[:0], s[:i]...), s[i+utf8.RuneLen(r):]...)
		yield(maphash.Bytes(formSeed, short))
	}
}

// oneEdit tells whether one letter put in, taken out or exchanged makes one
// text of the other.
func oneEdit(a, b string) bool {
	x, y := []rune(a), []rune(b)
	if len(x) > len(y) {
		x, y = y, x
	}
	if len(y)-len(x) > 1 {
		return false
	}
	for i := range x {
		if x[i] == y[i] {
			continue
		}
		if len(x) == len(y) {
			return slices.Equal(x[i+1:], y[i+1:])
		}
		return slices.Equal(x[i:], y[i+1:])
	}
	return len(x) != len(y)
}

func valueVariant(p *pass, a *directory.Account) (out []Finding) {
	if p.variants.attrs == (directory.AttrSet{}) {
		return nil
	}
	for id, text := range a.Text.Values(p.variants.attrs) {
		v := p.variants.of(id, text)
		if v == nil || p.driftsFrom(a, id) {
			continue // of what the roster says otherwise roster-drift makes the one proposal
		}
		value := text.Text()
		if v.unlisted {
			out = append(out, Finding{
				bundle:   id.String() + "\x00\x00" + value,
				Evidence: []Evidence{{id.String(), fmt.Sprintf("%q", value)}, {"entries", fmt.Sprint(v.count)}, {"listed", "no: it is not among the values of the settings"}},
			})
			continue
		}
		f := Finding{
			fix:    &Fix{id.String(), value, v.preferred},
			bundle: id.String() + "\x00" + v.preferred + "\x00" + value,
			Evidence: []Evidence{{id.String(), fmt.Sprintf("%q", value)}, {"preferred", fmt.Sprintf("%q", v.preferred)},
				{"entries", fmt.Sprintf("%d, preferred %d", v.count, v.of)}},
		}
		if v.likely {
			f.Confidence = Likely
		}
		out = append(out, f)
	}
	return out
}
