package logs

import (
	"bytes"
	"net/netip"
	"slices"
	"strings"
)

// Only is what somebody asks for, accounts by their names, or where sign-ins come from:
// lines that hold none of these need not be read.
type Only struct {
	needles []needle
	// from are addresses, whose connections matter whoever signs in over them.
	from map[netip.Addr]bool
}

// needle is a piece of a name, in lower case.
type needle struct {
	text []byte
	// rare is the place in it of the octet that is rarest in the log.
	rare int
}

// shortest is how short a piece may be: a shorter one is found everywhere.
const shortest = 3

// NewOnly returns what to look for. It is nil, so that all lines are read, where a name
// has no piece that every log writes as it is.
func NewOnly(names ...string) *Only {
	o := &Only{}
	for _, name := range names {
		piece := plainest(strings.ToLower(name))
		if len(piece) < shortest {
			return nil
		}
		o.needles = append(o.needles, needle{text: []byte(piece)})
	}
	// What is found by a shorter one need not be looked for.
	slices.SortFunc(o.needles, func(a, b needle) int { return len(a.text) - len(b.text) })
	var kept []needle
	for _, n := range o.needles {
		if !slices.ContainsFunc(kept, func(k needle) bool { return bytes.Contains(n.text, k.text) }) {
			kept = append(kept, n)
		}
	}
	if o.needles = kept; len(kept) == 0 || len(kept) > mostNeedles {
		return nil
	}
	return o
}

// NewOnlyFrom returns how to look for all that comes from some machines and addresses. It
// is nil as NewOnly's is.
func NewOnlyFrom(machines []string, addresses []netip.Addr) *Only {
	names := slices.Clone(machines)
	for _, a := range addresses {
		names = append(names, a.String())
	}
	o := NewOnly(names...)
	if o != nil {
		o.from = map[netip.Addr]bool{}
		for _, a := range addresses {
			o.from[a] = true
		}
	}
	return o
}

// mostNeedles is where looking for each takes longer than reading all.
const mostNeedles = 24

// plainest is the longest piece of a name that no format writes otherwise.
func plainest(name string) string {
	best, from := "", 0
	for i := 0; i <= len(name); i++ {
		if i < len(name) && strings.IndexByte("abcdefghijklmnopqrstuvwxyz0123456789._-$: ", name[i]) >= 0 {
			continue
		}
		if i-from > len(best) {
			best = name[from:i]
		}
		from = i + 1
	}
	return strings.TrimSpace(best)
}

// in tells whether a text holds one of the names.
func (o *Only) in(text []byte) bool {
	if o.from != nil {
		return true // where somebody comes from stands elsewhere than their name
	}
	return slices.ContainsFunc(o.needles, func(n needle) bool { return n.index(text) >= 0 })
}

// tune finds the rarest octet of each name, by a piece of the log.
func (o *Only) tune(sample []byte) *Only {
	var count [256]int
	for _, c := range sample {
		count[c]++
	}
	tuned := &Only{needles: slices.Clone(o.needles), from: o.from}
	for i := range tuned.needles {
		n := &tuned.needles[i]
		for at, c := range n.text {
			both := func(c byte) int {
				if upper := up(c); upper != c {
					return count[c] + count[upper]
				}
				return count[c]
			}
			if both(c) < both(n.text[n.rare]) {
				n.rare = at
			}
		}
	}
	return tuned
}

func up(c byte) byte {
	if c >= 'a' && c <= 'z' {
		return c - 'a' + 'A'
	}
	return c
}

// index is where a text holds the name first, in whatever case, -1 where it does not.
func (n *needle) index(text []byte) int {
	lower := n.text[n.rare]
	upper := up(lower)
	nextLower, nextUpper := 0, 0
	find := func(from int, c byte) int {
		if from > len(text) {
			return len(text)
		}
		if i := bytes.IndexByte(text[from:], c); i >= 0 {
			return from + i
		}
		return len(text)
	}
	nextLower = find(n.rare, lower)
	nextUpper = len(text)
	if upper != lower {
		nextUpper = find(n.rare, upper)
	}
	for {
		at := min(nextLower, nextUpper)
		start := at - n.rare
		if at >= len(text) || start+len(n.text) > len(text) {
			return -1
		}
		if n.equal(text[start:]) {
			return start
		}
		if at == nextLower {
			nextLower = find(at+1, lower)
		} else {
			nextUpper = find(at+1, upper)
		}
	}
}

func (n *needle) equal(text []byte) bool {
	for i, c := range n.text {
		if d := text[i]; d != c && (d < 'A' || d > 'Z' || d+'a'-'A' != c) {
			return false
		}
	}
	return true
}

// skewed is a piece of lines that matter whoever is asked for: that clocks differ.
var skewed = []byte("Clock skew")

// hits are the offsets in a text, in order, of lines that may matter.
func (o *Only) hits(text []byte, end []byte, turns []turn, first bool) []int {
	var all []int
	if o.from != nil {
		all = (&table{turns: turns}).bindsFrom(text, o.from)
	}
	add := func(index func([]byte) int) {
		for from := 0; ; {
			i := index(text[from:])
			if i < 0 {
				return
			}
			all = append(all, from+i)
			// The rest of its line need not be looked at.
			stop := bytes.Index(text[from+i:], end)
			if stop < 0 {
				return
			}
			from += i + stop + len(end)
		}
	}
	for i := range o.needles {
		add(o.needles[i].index)
	}
	if bytes.Contains(text[:min(len(text), 1<<16)], []byte("krb5kdc")) {
		add(func(b []byte) int { return bytes.Index(b, skewed) })
	}
	// Some lines are looked at in any case, to say what the log is.
	samples := fewSampled
	if first {
		samples = sampled
	}
	for from, n := 0, 0; n < samples; n++ {
		all = append(all, from)
		i := bytes.Index(text[from:], end)
		if i < 0 || from+i+len(end) >= len(text) {
			break
		}
		from += i + len(end)
	}
	for rest, n := text, 0; n < lastSampled; n++ {
		i := bytes.LastIndex(bytes.TrimSuffix(rest, end), end)
		if i < 0 {
			break
		}
		all = append(all, i+len(end))
		rest = rest[:i+len(end)]
	}
	slices.Sort(all)
	return all
}
