package reconcile

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"sync"

	"yardbroom/internal/directory"
	"yardbroom/internal/names"
	"yardbroom/internal/pattern"
)

// Pattern is how logon names of a yard are made of names:
//
//	{given:1}{family}            aquill
//	{given}.{family}             ada.quill
//	{family:6}{given:2} cut 8    quillad
//	{given}{initials}            ducnv, of Nguyễn Văn Đức
//
// Initials are those of the family name and of the other given names.
// A number after the colon is how many letters are taken; "cut" is where the
// whole is cut off. A number behind a logon name tells people of one name
// apart and is no part of the pattern.
type Pattern struct {
	Text string
	// Share is how many of the logon names it was learned from have it, from 0
	// to 1; 1 for one that was set by hand.
	Share float64
	// Seen is how many logon names it was learned from have it; 0 for one that
	// was set by hand.
	Seen int

	// habit is the share of it among the accounts of those years, or of that
	// place, where it is commonest.
	habit  float64
	pieces []piece
	cut    int
}

// piece is a part of a pattern: a name, or some letters of it, or a text.
type piece struct {
	name    byte // 'g' given, 'f' family, 'i' initials, 0 for a text
	letters int  // 0 for all
	text    string
}

var pieceForm = pattern.Lazy(`\{(given|family|initials)(?::([1-9][0-9]?))?\}|([^{}\s]+)`)

var cutForm = pattern.Lazy(`^(.*?)(?:\s+cut\s+([1-9][0-9]?))?$`)

// ParsePattern reads a pattern.
func ParsePattern(text string) (Pattern, error) {
	p := Pattern{Text: text, Share: 1, habit: 1}
	m := cutForm().FindStringSubmatch(strings.TrimSpace(text))
	body := m[1]
	p.cut, _ = strconv.Atoi(m[2])
	read, names := 0, 0
	for _, one := range pieceForm().FindAllStringSubmatch(body, -1) {
		read += len(one[0])
		if one[1] == "" {
			p.pieces = append(p.pieces, piece{text: strings.ToLower(one[3])})
			continue
		}
		names++
		n, _ := strconv.Atoi(one[2])
		p.pieces = append(p.pieces, piece{name: one[1][0], letters: n})
	}
	if read != len(body) || names == 0 {
		return p, fmt.Errorf(
			"%q is no pattern of logon names: write {given}, {family}, {initials}, {given:1} and what stands between, such as {given:1}{family} or {given}.{family} cut 20",
			text,
		)
	}
	return p, nil
}

func parsePatterns(texts []string) ([]Pattern, error) {
	var all []Pattern
	for _, text := range texts {
		p, err := ParsePattern(text)
		if err != nil {
			return nil, err
		}
		all = append(all, p)
	}
	return all, nil
}

// build makes the logon name of somebody, "" where a name is missing.
func (p *Pattern) build(given, family, initials string) string {
	var b strings.Builder
	for _, one := range p.pieces {
		text := one.text
		switch one.name {
		case 'g':
			text = given
		case 'f':
			text = family
		case 'i':
			text = initials
		}
		if text == "" {
			return ""
		}
		if one.letters > 0 && one.letters < len(text) {
			text = text[:one.letters]
		}
		b.WriteString(text)
	}
	if s := b.String(); p.cut == 0 || len(s) <= p.cut {
		return s
	}
	return b.String()[:p.cut]
}

// builds makes all logon names that somebody may have by the pattern: names
// of several parts go into it whole, or by their first or last part.
func (p *Pattern) builds(given, family *names.Word) []string {
	var out []string
	for _, f := range ways(family) {
		for _, g := range ways(given) {
			if s := p.build(g, f, p.initials(g, given, family)); s != "" && !slices.Contains(out, s) {
				out = append(out, s)
			}
		}
	}
	return out
}

// initials are the first letters of the family name and of the given names but
// one, "" where the pattern has none.
func (p *Pattern) initials(but string, given, family *names.Word) string {
	if given == nil || family == nil ||
		!slices.ContainsFunc(p.pieces, func(one piece) bool { return one.name == 'i' }) {
		return ""
	}
	var b strings.Builder
	for _, part := range family.Parts {
		b.WriteByte(part.Text[0])
	}
	for _, part := range given.Parts {
		if part.Text != but {
			b.WriteByte(part.Text[0])
		}
	}
	return b.String()
}

func ways(w *names.Word) []string {
	if w == nil {
		return []string{""}
	}
	out := []string{w.Text}
	for _, part := range []string{w.Parts[0].Text, w.Parts[len(w.Parts)-1].Text} {
		if !slices.Contains(out, part) {
			out = append(out, part)
		}
	}
	return out
}

// plainLogon is a logon name as it is compared with what patterns make:
// without the number that tells people of one name apart.
func plainLogon(logon string) (plain string, numbered bool) {
	plain = strings.ToLower(logon)
	if short := strings.TrimRight(plain, "0123456789"); short != "" && short != plain {
		return short, true
	}
	return plain, false
}

// grammar is every pattern that is looked for: one name or two, whole or their
// first letters, with what usually stands between. Whole names come first.
var grammar = sync.OnceValue(func() []Pattern {
	var all []Pattern
	add := func(text string) {
		p, err := ParsePattern(text)
		if err != nil {
			panic(err) // the loops below make it
		}
		all = append(all, p)
	}
	letters := func(n int) string {
		if n == 0 {
			return ""
		}
		return ":" + strconv.Itoa(n)
	}
	for _, between := range []string{"", ".", "_", "-"} {
		for f := range 9 {
			for g := range 4 {
				add("{given" + letters(g) + "}" + between + "{family" + letters(f) + "}")
				add("{family" + letters(f) + "}" + between + "{given" + letters(g) + "}")
			}
		}
	}
	add("{family}")
	add("{given}")
	for _, between := range []string{"", "."} {
		add("{given}" + between + "{initials}")
	}
	return all
})

const (
	mostSeeds    = 1200 // logon names that patterns are learned from
	fewSeeds     = 10   // with fewer the logon names alone have to tell
	leastShare   = 0.02 // of a pattern that is worth knowing
	mostPatterns = 6
	mostHabits   = 12 // of all years and places together
	leastHits    = 5  // of a habit that not all share
	mostGroup    = 300
	leastGroup   = 30 // accounts of years or of a place that have a habit of their own
)

// seed is a logon name of which the names of its owner are known.
type seed struct {
	logon, plain  string // without the number that tells people of one name apart
	given, family *names.Word
	made          int64  // when the account was made; 0 where that is not known
	place         string // where it is
}

// learnPatterns finds the naming patterns of the yard in the pairs that are
// sure, or else in people whose whole name only one account and one person
// has, or else in the logon names that patterns would make.
func (m *matcher) learnPatterns() []Pattern {
	seeds := m.sureSeeds()
	if len(seeds) < fewSeeds {
		seeds = append(seeds, m.nameSeeds()...)
	}
	if len(seeds) < fewSeeds {
		return m.patternsByHits()
	}
	return learnHabits(seeds)
}

// learnHabits learns the patterns of all, and then those of each generation of
// accounts and of each place: who has changed a habit has both.
func learnHabits(seeds []seed) []Pattern {
	all := learn(sample(seeds, mostSeeds), 2)
	for _, group := range groups(seeds) {
		whole := len(group)
		group = sample(group, mostGroup)
		rest := group
		for i := range all {
			others := slices.DeleteFunc(slices.Clone(rest), func(s seed) bool { return all[i].makes(s) })
			all[i].habit = max(all[i].habit, float64(len(rest)-len(others))/float64(len(group)))
			rest = others
		}
		if len(rest) < leastHits {
			continue
		}
		for _, p := range learn(rest, leastHits) {
			p.habit = float64(p.Seen) / float64(len(group))
			p.Share = p.habit * float64(whole) / float64(len(seeds))
			all = append(all, p)
		}
	}
	return all[:min(len(all), mostHabits)]
}

// sample are so many of them at most.
func sample(seeds []seed, most int) []seed {
	step := (len(seeds) + most - 1) / most
	if step <= 1 {
		return seeds
	}
	var some []seed
	for i := 0; i < len(seeds); i += step {
		some = append(some, seeds[i])
	}
	return some
}

// groups are the accounts of three generations, as many in each, and those of
// each place.
func groups(seeds []seed) (all [][]seed) {
	type moment struct {
		made int64
		seed int
	}
	var moments []moment
	for i := range seeds {
		if seeds[i].made != 0 {
			moments = append(moments, moment{seeds[i].made, i})
		}
	}
	slices.SortFunc(moments, func(x, y moment) int { return cmp.Or(cmp.Compare(x.made, y.made), cmp.Compare(x.seed, y.seed)) })
	dated := make([]seed, len(moments))
	for i, m := range moments {
		dated[i] = seeds[m.seed]
	}
	const generations = 3
	for i := range generations {
		all = append(all, dated[i*len(dated)/generations:(i+1)*len(dated)/generations])
	}
	places := map[string][]seed{}
	for _, s := range seeds {
		if s.place != "" {
			places[s.place] = append(places[s.place], s)
		}
	}
	for _, place := range slices.Sorted(maps.Keys(places)) {
		all = append(all, places[place])
	}
	return slices.DeleteFunc(all, func(group []seed) bool { return len(group) < leastGroup })
}

func (m *matcher) seed(person, account int32) (seed, bool) {
	b := m.person[person]
	if b.family == noWord || b.given == noWord || m.second[account] || m.accounts[account].Logon == "" {
		return seed{}, false
	}
	a := m.accounts[account]
	plain, _ := plainLogon(a.Logon)
	s := seed{
		logon:  a.Logon,
		plain:  plain,
		given:  &m.names.words[b.given],
		family: &m.names.words[b.family],
		place:  m.folded(a.Text.First(directory.AttrL)),
	}
	if a.Created.Known() {
		s.made = a.Created.Time().Unix()
	}
	return s, true
}

func (m *matcher) sureSeeds() (seeds []seed) {
	for i, p := range m.owner {
		if p != nobody {
			if s, ok := m.seed(p, int32(i)); ok {
				seeds = append(seeds, s)
			}
		}
	}
	return seeds
}

func (m *matcher) nameSeeds() (seeds []seed) {
	type whole struct{ family, given int32 }
	people, accounts := map[whole][]int32{}, map[whole][]int32{}
	for i, b := range m.person {
		people[whole{b.family, b.given}] = append(people[whole{b.family, b.given}], int32(i))
	}
	for i, b := range m.account {
		accounts[whole{b.family, b.given}] = append(accounts[whole{b.family, b.given}], int32(i))
	}
	for i, b := range m.person {
		w := whole{b.family, b.given}
		if who, of := people[w], accounts[w]; len(who) == 1 && len(of) == 1 {
			if s, ok := m.seed(int32(i), of[0]); ok {
				seeds = append(seeds, s)
			}
		}
	}
	return seeds
}

// learn takes the pattern that explains most logon names, and then the one
// that explains most of the rest, until none explains enough, and so many at
// least.
func learn(seeds []seed, least int) []Pattern {
	var out []Pattern
	all := len(seeds)
	for len(out) < mostPatterns && len(seeds) > 0 {
		best, cut, hits := -1, 0, 0
		for i := range grammar() {
			p := grammar()[i]
			n, at := p.explains(seeds)
			if n > hits {
				best, cut, hits = i, at, n
			}
		}
		if hits < least || float64(hits) < leastShare*float64(all) {
			break
		}
		p := grammar()[best]
		if p.cut = cut; cut > 0 {
			p.Text += fmt.Sprintf(" cut %d", cut)
		}
		p.Seen, p.Share = hits, float64(hits)/float64(all)
		p.habit = p.Share
		seeds = slices.DeleteFunc(slices.Clone(seeds), func(s seed) bool { return p.makes(s) })
		out = append(out, p)
	}
	return out
}

// makes tells whether the pattern makes the logon name of a seed.
func (p *Pattern) makes(s seed) bool {
	plain, numbered := plainLogon(s.logon)
	for _, built := range p.builds(s.given, s.family) {
		if built == plain ||
			numbered && p.cut > 0 && len(s.logon) <= p.cut && len(built) == p.cut && strings.HasPrefix(built, plain) {
			return true
		}
	}
	return false
}

// mayBegin tells whether a logon name that begins with a letter may be one that
// the pattern makes of these names: most do not, and need not be made.
func (p *Pattern) mayBegin(first byte, given, family *names.Word) bool {
	name := family
	switch p.pieces[0].name {
	case 'g':
		name = given
	case 'f':
	default:
		return true
	}
	return name != nil &&
		(name.Text[0] == first || name.Parts[0].Text[0] == first || name.Parts[len(name.Parts)-1].Text[0] == first)
}

// explains counts the logon names that a pattern makes, and finds out where
// it cuts them: where several end before they are whole, and none is longer.
func (p *Pattern) explains(seeds []seed) (hits, cut int) {
	ends := map[int]int{}
	longest := 0
	for i := range seeds {
		s := &seeds[i]
		plain := s.plain
		if !p.mayBegin(plain[0], s.given, s.family) {
			continue
		}
		for _, built := range p.builds(s.given, s.family) {
			if built == plain {
				hits++
				longest = max(longest, len(plain))
				break
			}
			if len(plain) >= 6 && len(plain) < len(built) && strings.HasPrefix(built, plain) {
				ends[len(plain)]++
				break
			}
		}
	}
	for at, n := range ends {
		if n >= 2 && at >= longest && n > ends[cut] || n >= 2 && at >= longest && n == ends[cut] && at < cut {
			cut = at
		}
	}
	return hits + ends[cut], cut
}

// patternsByHits finds patterns where nothing tells whose a logon name is: by
// how many people there is an account called as the pattern would call them.
func (m *matcher) patternsByHits() []Pattern {
	logons := map[string]bool{}
	for _, a := range m.accounts {
		plain, _ := plainLogon(a.Logon)
		logons[plain] = true
	}
	var named []seed
	for _, b := range m.person {
		if b.family != noWord && b.given != noWord && len(named) < mostSeeds {
			named = append(named, seed{given: &m.names.words[b.given], family: &m.names.words[b.family]})
		}
	}
	var out []Pattern
	for _, p := range grammar() {
		if short(p) {
			continue // it would hit by chance
		}
		hits := 0
		for _, s := range named {
			if slices.ContainsFunc(p.builds(s.given, s.family), func(built string) bool { return logons[built] }) {
				hits++
			}
		}
		if p.Seen, p.Share = hits, float64(hits)/float64(max(len(named), 1)); hits >= 3 && p.Share >= 0.1 {
			p.habit = p.Share
			out = append(out, p)
		}
	}
	slices.SortStableFunc(out, func(x, y Pattern) int { return cmp.Compare(y.Seen, x.Seen) })
	if len(out) > 1 {
		// What hits less than the best one mostly hits the same logon names.
		out = slices.DeleteFunc(out, func(p Pattern) bool { return p.Seen*2 < out[0].Seen })
	}
	return out[:min(len(out), 2)]
}

// short tells whether a pattern takes so little of a name that it says little
// of whose it is.
func short(p Pattern) bool {
	letters := 0
	for _, one := range p.pieces {
		switch {
		case one.name == 0:
		case one.name == 'i':
			letters += 2
		case one.letters == 0:
			letters += 6
		default:
			letters += one.letters
		}
	}
	return letters < 7
}

// calledBy tells whether an account is called as a pattern would call a
// person, and by which pattern; in either order of the names, where the roster
// does not say which is which.
func (m *matcher) calledBy(p, account int32) (pattern *Pattern, numbered bool) {
	b := m.person[p]
	var given, family *names.Word
	if b.given != noWord {
		given = &m.names.words[b.given]
	}
	if b.family != noWord {
		family = &m.names.words[b.family]
	}
	logon := m.firstLogon(account)
	plain, numbered := plainLogon(logon)
	whole := strings.ToLower(logon)
	if plain == "" {
		return nil, false
	}
	for i := range m.patterns {
		one := &m.patterns[i]
		var builds []string
		if one.mayBegin(plain[0], given, family) {
			builds = one.builds(given, family)
		}
		if b.guessed && one.mayBegin(plain[0], family, given) {
			builds = append(builds, one.builds(family, given)...)
		}
		for _, built := range builds {
			switch {
			case built == whole:
				return one, false
			case built == plain,
				numbered && one.cut > 0 && len(built) == one.cut && strings.HasPrefix(built, plain) && len(plain) >= 5:
				return one, true
			}
		}
	}
	return nil, false
}
