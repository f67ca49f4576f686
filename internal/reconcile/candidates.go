package reconcile

import (
	"cmp"
	"hash/maphash"
	"math"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"yardbroom/internal/directory"
	"yardbroom/internal/names"
	"yardbroom/internal/parallel"
	"yardbroom/internal/pattern"
	"yardbroom/internal/roster"
)

const (
	// bar is how many bits a pair has to stand above every other answer to be
	// stated: 8 bits are 255 to 1.
	bar = 8.0
	// firstBar is the bar for people and accounts of exactly one name, while
	// those whose names only resemble each other were not looked at.
	firstBar = bar + 2
	// mostCompared is how many pairs of one name, or of one key, are compared
	// with each other; of more, only those that share something else too.
	mostCompared = 400
	// mostCrowded is mostCompared among people and accounts of one name.
	mostCrowded = 100
	// mostFurther is how many people of one name may have a further account of
	// that name.
	mostFurther = 20
	// mostLikely is the highest score of what is not sure.
	mostLikely = 0.999
	// mostCandidates is how many of them are named where the answer is open.
	mostCandidates = 3
)

// edge is a pair that may be one, with its weight in thousandths of a bit, so
// that sums are exact and ties are ties.
type edge struct {
	person, account int32
	weight          int32
}

// odds are how much likelier the pair is than that both stand alone.
func (e edge) odds() float64 { return math.Exp2(float64(e.weight) / 1000) }

func weightOf(bits float64) int32 {
	return int32(math.Round(max(min(bits, 1000), -1000) * 1000))
}

// open are the people and accounts that nothing has brought together yet.
// Those in doubt are among them: they compete for each other, though nothing
// is stated of an account in doubt.
type open struct{ people, accounts []int32 }

func (m *matcher) open() (o open) {
	for i := range m.people {
		if !m.has[i] {
			o.people = append(o.people, int32(i))
		}
	}
	for i, a := range m.accounts {
		if m.owner[i] == nobody && m.result.Gone[a].Person == "" && !m.second[i] && m.stem(int32(i)) == nobody {
			o.accounts = append(o.accounts, int32(i))
		}
	}
	return o
}

// byNames weighs what is left: first people and accounts of exactly one name,
// which are most, and then, for the rest, names that resemble each other.
func (m *matcher) byNames() {
	o := m.open()
	prior := m.priorOf(o)
	crowded := map[wholeName]bool{}
	same := m.heavy(m.sameNames(o, crowded), prior)
	m.assign(same, firstBar)
	o = m.open()
	like := append(m.stillOpen(same), m.heavy(m.likeNames(o), prior)...)
	slices.SortFunc(like, byEnds)
	like = slices.Compact(like)
	m.assign(like, bar)
	rest := m.stillOpen(like)
	m.leaveOpen(rest)
	m.completeDoubts(rest)
	m.crowds(crowded)
	m.furtherByLogon()
	m.further(prior)
	m.prior = prior
}

// priorOf is how likely any two of what is left belong together, in bits: the
// share of people who have an account among them, over what it would mean if
// both stood alone.
func (m *matcher) priorOf(o open) float64 {
	names := map[wholeName]bool{}
	for _, i := range o.accounts {
		names[m.wholeAccount(i)] = true
	}
	found := 0
	for _, p := range o.people {
		if w := m.wholePerson(p); w.known() && names[w] {
			found++
		}
	}
	share := min(max(float64(found)/float64(max(len(o.people), 1)), 0.3), 0.95)
	return math.Log2(share/((1-share)*(1-share))) - math.Log2(float64(max(len(o.accounts), len(o.people), 16)))
}

// wholeName is a family and a given name.
type wholeName struct{ family, given int32 }

func (w wholeName) known() bool { return w.family != noWord && w.given != noWord }

func (m *matcher) wholePerson(p int32) wholeName {
	return wholeName{m.person[p].family, m.person[p].given}
}

func (m *matcher) wholeAccount(i int32) wholeName {
	return wholeName{m.account[i].family, m.account[i].given}
}

// sameNames are the pairs of people and accounts that bear one name. Of
// names that too many bear, only those that share something else; these names
// are noted as crowded.
func (m *matcher) sameNames(o open, crowded map[wholeName]bool) []edge {
	accounts := map[wholeName][]int32{}
	for _, i := range o.accounts {
		if w := m.wholeAccount(i); w.known() {
			accounts[w] = append(accounts[w], i)
		}
	}
	people := map[wholeName][]int32{}
	var order []wholeName
	for _, p := range o.people {
		w := m.wholePerson(p)
		for _, w := range []wholeName{w, {w.given, w.family}} { // they may stand in the other order
			if accounts[w] == nil {
				continue
			}
			if people[w] == nil {
				order = append(order, w)
			}
			people[w] = append(people[w], p)
		}
	}
	var edges []edge
	for _, w := range order {
		if len(people[w])*len(accounts[w]) <= mostCompared {
			for _, p := range people[w] {
				for _, i := range accounts[w] {
					edges = append(edges, edge{p, i, 0})
				}
			}
			continue
		}
		crowded[w] = true
		edges = append(edges, m.crowdedEdges(people[w], accounts[w])...)
	}
	return edges
}

// heavy weighs pairs, on all processors, and returns those that are likelier
// than not, but for those that somebody has rejected.
func (m *matcher) heavy(pairs []edge, prior float64) []edge {
	return m.weighed(pairs, prior, func(e edge) bool { return e.weight > 0 })
}

// weighed are those of the pairs that are to be kept once they are weighed, but
// for those that somebody has rejected; on all processors.
func (m *matcher) weighed(pairs []edge, prior float64, keep func(e edge) bool) []edge {
	chunks := make([][]edge, parallel.Chunks(len(pairs)))
	parallel.Each(len(pairs), func(chunk, i int) {
		e := pairs[i]
		if len(m.rejected) > 0 && m.rejected[[2]int32{e.person, e.account}] {
			return
		}
		if e.weight = weightOf(m.weigh(e.person, e.account) + prior); keep(e) {
			chunks[chunk] = append(chunks[chunk], e)
		}
	})
	return slices.Concat(chunks...)
}

// crowdedEdges compares people and accounts of one name where they share a
// department, a title and a place, or a first day near the day the account was
// made.
func (m *matcher) crowdedEdges(people, accounts []int32) []edge {
	k := newKeys()
	for _, p := range people {
		v := &m.people[p].Values
		k.person(p, "post", m.folded(v[roster.Department]), m.folded(v[roster.Title]), m.folded(v[roster.Location]))
		if start := m.people[p].Start; !start.IsZero() {
			k.person(p, "day", month(start, 0))
		}
	}
	for _, i := range accounts {
		a := m.accounts[i]
		k.account(i, "post", m.folded(a.Text.First(directory.AttrDepartment)),
			m.folded(a.Text.First(directory.AttrTitle)), m.folded(a.Text.First(directory.AttrL)))
		if a.Created.Known() {
			for _, near := range []int{-1, 0, 1} {
				k.account(i, "day", month(a.Created.Time(), near))
			}
		}
	}
	return k.pairs(mostCrowded)
}

func (m *matcher) folded(written string) string {
	if written == "" {
		return ""
	}
	return strconv.Itoa(int(m.texts.number(written)))
}

// month names the month of a time, or one some months from it.
func month(t time.Time, further int) string {
	return strconv.Itoa(t.Year()*12 + int(t.Month()) + further)
}

// keys finds people and accounts that share a key: a text of a kind.
type keys struct {
	seed             maphash.Seed
	people, accounts []keyOf
	// wanted holds the keys of accounts, once no more will come; nil before.
	wanted keySieve
	// crowded are, of keys that too many shared to compare them all, the accounts
	// with some of the people.
	crowded []edge
}

type keyOf struct {
	key uint64
	who int32
}

func newKeys() *keys { return &keys{seed: maphash.MakeSeed()} }

// each adds the keys of so many people or accounts, on all processors.
func (k *keys) each(n int, add func(k *keys, i int)) {
	chunks := make([]keys, parallel.Chunks(n))
	for i := range chunks {
		chunks[i] = keys{seed: k.seed, wanted: k.wanted}
	}
	parallel.Each(n, func(chunk, i int) { add(&chunks[chunk], i) })
	for i := range chunks {
		own := &chunks[i]
		k.people, k.accounts = append(k.people, own.people...), append(k.accounts, own.accounts...)
	}
}

func (k *keys) hash(kind string, texts []string) (key uint64, blank bool) {
	const prime = 0x9e3779b97f4a7c15
	key, blank = maphash.String(k.seed, kind), true
	for _, t := range texts {
		blank = blank && t == ""
		key = key*prime ^ maphash.String(k.seed, t)
	}
	return key, blank
}

func (k *keys) person(p int32, kind string, texts ...string) {
	if key, blank := k.hash(kind, texts); !blank && (k.wanted == nil || k.wanted.holds(key)) {
		k.people = append(k.people, keyOf{key, p})
	}
}

func (k *keys) account(i int32, kind string, texts ...string) {
	if key, blank := k.hash(kind, texts); !blank {
		k.accounts = append(k.accounts, keyOf{key, i})
	}
}

// accountsOnly says that all accounts are there: of people only those keys are
// kept that an account has, and few others.
func (k *keys) accountsOnly() { k.wanted = sieveOf(k.accounts) }

// keySieve has a bit set for each of some keys, and for few others.
type keySieve []uint64

func sieveOf(list []keyOf) keySieve {
	const bitsEach = 16
	s := make(keySieve, max(len(list)*bitsEach/64, 1))
	for _, one := range list {
		bit := one.key % uint64(len(s)*64)
		s[bit/64] |= 1 << (bit % 64)
	}
	return s
}

// holds tells whether a key may be among them.
func (s keySieve) holds(key uint64) bool {
	bit := key % uint64(len(s)*64)
	return s[bit/64]&(1<<(bit%64)) != 0
}

// pairs are all people and accounts that share a key which at most so many
// pairs of them share.
func (k *keys) pairs(most int) []edge {
	byKey := func(x, y keyOf) int { return cmp.Or(cmp.Compare(x.key, y.key), cmp.Compare(x.who, y.who)) }
	ofPeople := sieveOf(k.people)
	k.accounts = slices.DeleteFunc(k.accounts, func(one keyOf) bool { return !ofPeople.holds(one.key) })
	var both sync.WaitGroup
	for _, list := range []*[]keyOf{&k.people, &k.accounts} {
		both.Go(func() {
			slices.SortFunc(*list, byKey)
			*list = slices.Compact(*list)
		})
	}
	both.Wait()
	var pairs []edge
	for i, j := 0, 0; i < len(k.people) && j < len(k.accounts); {
		key := k.people[i].key
		switch {
		case key < k.accounts[j].key:
			i++
			continue
		case key > k.accounts[j].key:
			j++
			continue
		}
		toI, toJ := runEnd(k.people, i), runEnd(k.accounts, j)
		if (toI-i)*(toJ-j) > most {
			for _, a := range k.accounts[j:toJ] {
				for _, p := range k.people[i:min(i+mostCandidates, toI)] {
					k.crowded = append(k.crowded, edge{p.who, a.who, 0})
				}
			}
		} else {
			for _, p := range k.people[i:toI] {
				for _, a := range k.accounts[j:toJ] {
					pairs = append(pairs, edge{p.who, a.who, 0})
				}
			}
		}
		i, j = toI, toJ
	}
	slices.SortFunc(pairs, byEnds)
	return slices.Compact(pairs)
}

// pairsAndCrowded are the pairs, and of keys that too many share the accounts
// with some of the people: that not all are compared must not clear anybody.
func (k *keys) pairsAndCrowded(most int) []edge {
	all := append(k.pairs(most), k.crowded...)
	slices.SortFunc(all, byEnds)
	return slices.Compact(all)
}

// runEnd is where the run of one key ends.
func runEnd(list []keyOf, from int) int {
	to := from
	for to < len(list) && list[to].key == list[from].key {
		to++
	}
	return to
}

func byEnds(x, y edge) int {
	return cmp.Or(cmp.Compare(x.person, y.person), cmp.Compare(x.account, y.account))
}

// likeNames are the edges between people and accounts whose names may be one,
// and between those whose logon name or mail address gives it away.
func (m *matcher) likeNames(o open) []edge {
	k := newKeys()
	m.likeAccounts(k, o)
	k.accountsOnly()
	m.likePeople(k, o)
	return k.pairs(mostCompared)
}

// likeAccounts and likePeople add the keys by which those meet: accounts first,
// so that of people only what an account has is kept.
func (m *matcher) likeAccounts(k *keys, o open) {
	k.each(len(o.accounts), func(k *keys, at int) {
		i := o.accounts[at]
		y, a := m.account[i], m.accounts[i]
		add := func(kind string, texts ...string) { k.account(i, kind, texts...) }
		m.nameKeys(y, add)
		if m.wholeAccount(i).known() {
			add("whole", m.names.words[y.family].Text, m.names.words[y.given].Text)
		}
		logon := m.firstLogon(i)
		plain, _ := plainLogon(logon)
		add("logon", plain)
		add("box", strings.ToLower(logon))
		for mail := range addresses(a) {
			local, _, _ := strings.Cut(strings.ToLower(mail), "@")
			add("box", local)
		}
		if a.Created.Known() {
			for _, near := range []int{-1, 0, 1} {
				m.dayKeys(y, month(a.Created.Time(), near), add)
			}
		}
	})
}

func (m *matcher) likePeople(k *keys, o open) {
	k.each(len(o.people), func(k *keys, at int) {
		p := o.people[at]
		x := m.person[p]
		add := func(kind string, texts ...string) { k.person(p, kind, texts...) }
		m.nameKeys(x, add)
		if x.family != noWord && x.given != noWord {
			given, family := &m.names.words[x.given], &m.names.words[x.family]
			add("whole", given.Text, family.Text) // in the other order; in this one they have been compared
			for i := range m.patterns {
				for _, built := range m.patterns[i].builds(given, family) {
					add("logon", built)
				}
			}
			m.swappedKeys(x, add)
		}
		if start := m.people[p].Start; !start.IsZero() {
			m.dayKeys(x, month(start, 0), add)
		}
		for _, mail := range m.people[p].All(roster.Mail) {
			local, _, _ := strings.Cut(strings.ToLower(mail), "@")
			add("box", local)
		}
		add("box", strings.ToLower(m.people[p].Values[roster.Logon]))
	})
}

// firstLogon is the logon name of an account, of a second one that of the
// first which it is made of.
func (m *matcher) firstLogon(account int32) string {
	logon := m.accounts[account].Logon
	if m.second[account] {
		return m.opt.Second.ReplaceAllString(logon, "")
	}
	return logon
}

// swappedKeys let names meet that stand in the other order.
func (m *matcher) swappedKeys(x being, add func(kind string, texts ...string)) {
	if x.family == noWord || x.given == noWord {
		return
	}
	for _, sound := range m.names.sounding[x.given] {
		for _, other := range m.names.sounding[x.family] {
			if names.OneKind(sound, other) {
				add("sound", sound, other)
			}
		}
	}
}

// dayKeys let people and accounts meet of which one name is the same, and the
// first day is near the account's creation: the other name may have changed,
// or be read otherwise.
func (m *matcher) dayKeys(b being, month string, add func(kind string, texts ...string)) {
	if b.given != noWord {
		for _, part := range m.names.words[b.given].Parts {
			add("given and day", part.Text, month)
		}
		for _, sound := range m.names.sounding[b.given] {
			add("given sound and day", sound, month)
		}
	}
	if b.family != noWord {
		for _, sound := range m.names.sounding[b.family] {
			add("family and day", sound, month)
		}
	}
}

// nameKeys are the keys by which names that resemble each other meet.
func (m *matcher) nameKeys(b being, add func(kind string, texts ...string)) {
	switch {
	case b.family == noWord && b.given == noWord:
		return
	case b.family == noWord:
		m.oneNameKeys(b.given, add)
		return
	case b.given == noWord:
		m.oneNameKeys(b.family, add)
		return
	}
	family, given := &m.names.words[b.family], &m.names.words[b.given]
	forms := given.Forms()
	for _, part := range family.Parts {
		add("part", part.Text, given.Text[:1])
		for _, n := range forms {
			add("form", part.Text, strconv.Itoa(n))
		}
	}
	givenSounds := m.names.sounding[b.given]
	for _, sound := range m.names.sounding[b.family] {
		for _, n := range forms {
			add("sound and form", sound, strconv.Itoa(n))
		}
		for _, other := range givenSounds {
			if names.OneKind(sound, other) {
				add("sound", sound, other)
			}
		}
		add("sound", sound, given.Text[:1])
	}
	// A typing error does not reach both ends of a name.
	add("begin", family.Text[:min(3, len(family.Text))], given.Parts[0].Text)
	add("end", family.Text[max(0, len(family.Text)-3):], given.Parts[0].Text)
}

// oneNameKeys let somebody with one name meet whoever is called so.
func (m *matcher) oneNameKeys(name int32, add func(kind string, texts ...string)) {
	w := &m.names.words[name]
	add("one name", w.Text)
	for _, sound := range m.names.sounding[name] {
		add("one sound", sound)
	}
}

// assign states the pairs of the best assignment that stand above every other
// answer by least bits.
func (m *matcher) assign(edges []edge, least float64) {
	for _, s := range assign(edges, weightOf(least)) {
		if m.doubts[s.account] != nil {
			continue
		}
		m.state(s.person, s.account, ByName, false, min(likelihood(float64(s.margin)/1000), mostLikely))
	}
}

// stillOpen are the edges of which neither end is part of a pair.
func (m *matcher) stillOpen(edges []edge) []edge {
	return slices.DeleteFunc(edges, func(e edge) bool { return m.has[e.person] || m.owner[e.account] != nobody })
}

// leaveOpen puts the accounts of these edges in doubt. The score of each
// candidate is its likelihood beside all others at either end.
func (m *matcher) leaveOpen(edges []edge) {
	at, ofPerson := map[int32][]edge{}, map[int32]float64{}
	for _, e := range edges {
		at[e.account] = append(at[e.account], e)
		ofPerson[e.person] += e.odds()
	}
	for account, list := range at {
		if m.doubts[account] != nil {
			continue
		}
		all := 1.0
		for _, e := range list {
			all += e.odds()
		}
		slices.SortFunc(list,
			func(x, y edge) int { return cmp.Or(cmp.Compare(y.weight, x.weight), cmp.Compare(x.person, y.person)) })
		why := "the best match is below the bar"
		if len(list) > 1 && list[0].weight == list[1].weight {
			why = "several people fit equally well"
		} else if len(list) == 1 && ofPerson[list[0].person] > 1.5*list[0].odds() {
			why = "several accounts fit the same person"
		}
		var candidates []Candidate
		for _, e := range list[:min(len(list), mostCandidates)] {
			candidates = append(candidates,
				Candidate{int(e.person), math.Round(1000*e.odds()/(all+ofPerson[e.person]-e.odds())) / 1000})
		}
		m.doubt(account, why, candidates)
	}
}

// completeDoubts names, of accounts that keys have put in doubt, also those
// people whom everything else points to.
func (m *matcher) completeDoubts(edges []edge) {
	for _, e := range edges {
		d := m.doubts[e.account]
		if d == nil || slices.ContainsFunc(d.Candidates, func(c Candidate) bool { return c.Person == int(e.person) }) {
			continue
		}
		m.unsure[e.person] = true
		d.Candidates = append(d.Candidates,
			Candidate{int(e.person), min(likelihood(float64(e.weight)/1000), mostLikely)})
		m.sortCandidates(d.Candidates)
		d.Candidates = d.Candidates[:min(len(d.Candidates), mostCandidates)]
	}
}

// crowds puts those in doubt who bear a name that many bear on either side,
// and whom nothing else told apart.
func (m *matcher) crowds(crowded map[wholeName]bool) {
	if len(crowded) == 0 {
		return
	}
	people, accounts := map[wholeName][]int32{}, map[wholeName][]int32{}
	for i := range m.people {
		if w := m.wholePerson(int32(i)); !m.has[i] && crowded[w] {
			people[w] = append(people[w], int32(i))
		}
	}
	for i := range m.accounts {
		if w := m.wholeAccount(int32(i)); m.owner[i] == nobody && crowded[w] {
			accounts[w] = append(accounts[w], int32(i))
		}
	}
	for w, list := range accounts {
		who := people[w]
		if len(who) == 0 {
			continue
		}
		for _, p := range who {
			m.unsure[p] = true
		}
		why := strconv.Itoa(len(who)) + " people and " + strconv.Itoa(
			len(list)) + " accounts of this name, and nothing tells them apart"
		for _, i := range list {
			if m.doubts[i] == nil && m.result.Gone[m.accounts[i]].Person == "" {
				m.doubt(i, why, nil)
			}
		}
	}
}

// furtherCost is how much less likely it is that an account is the second one
// of somebody who has one.
const furtherCost = 4.0

// further puts those accounts in doubt that may be a second account of
// somebody who has one already: by the same name, or one like it.
func (m *matcher) further(prior float64) {
	o := m.open()
	o.accounts = slices.DeleteFunc(o.accounts, func(i int32) bool { return m.doubts[i] != nil })
	if len(o.accounts) == 0 {
		return
	}
	k := newKeys()
	for _, i := range o.accounts {
		m.nameKeys(m.account[i], func(kind string, texts ...string) { k.account(i, kind, texts...) })
	}
	k.accountsOnly()
	k.each(len(m.people), func(k *keys, i int) {
		if m.has[i] {
			add := func(kind string, texts ...string) { k.person(int32(i), kind, texts...) }
			m.nameKeys(m.person[i], add)
			m.swappedKeys(m.person[i], add)
		}
	})
	pairs := slices.DeleteFunc(k.pairsAndCrowded(mostCompared), func(e edge) bool { return !m.oneName(e) })
	at := map[int32][]Candidate{}
	for _, e := range pairs {
		bits := m.weigh(e.person, e.account) + prior - furtherCost
		if m.rejected[[2]int32{e.person, e.account}] || bits < 0 && m.idsDiffer(e.person, m.accounts[e.account]) {
			continue
		}
		at[e.account] = append(at[e.account], Candidate{int(e.person), min(likelihood(bits), mostLikely)})
	}
	for i, candidates := range at {
		if len(candidates) > mostFurther {
			m.doubt(
				i,
				"it may be a further account of one of "+strconv.Itoa(
					len(candidates))+" people of this name who have one",
				nil,
			)
			continue
		}
		m.sortCandidates(candidates)
		m.doubt(i, "it may be a further account of somebody who has one",
			candidates[:min(len(candidates), mostCandidates)])
	}
}

// oneName tells whether a person and an account may be called the same.
func (m *matcher) oneName(e edge) bool {
	return m.calledAlike(m.person[e.person], m.account[e.account])
}

// furtherForm is a logon name that is another one with a word behind it.
var furtherForm = pattern.Lazy(`^(.+)[-_.][a-z]+[0-9]?$`)

// findStems finds, of accounts that are called as another one with a word
// behind and bear no other name, that other one.
func (m *matcher) findStems() []int32 {
	stems := make([]int32, len(m.accounts))
	parallel.Each(len(stems), func(_, i int) {
		a := m.accounts[i]
		stems[i] = nobody
		if m.second[i] || !strings.ContainsAny(a.Logon, "-_.") {
			return
		}
		form := furtherForm().FindStringSubmatch(strings.ToLower(a.Logon))
		if form == nil {
			return
		}
		first, there := m.logons.last(form[1])
		if !there {
			return
		}
		x, y := m.account[first], m.account[i]
		family, given := m.names.both(x, y)
		nameless := y.family == noWord
		if family.Agrees() && given.Agrees() || nameless ||
			!family.Differs() && !given.Differs() && strings.ContainsAny(a.Logon, "-_") {
			stems[i] = first
		}
	})
	return stems
}

// stem is the account of which another one is a further one by its logon name,
// nobody for none.
func (m *matcher) stem(account int32) int32 { return m.stems()[account] }

// furtherByLogon puts such accounts in doubt whose first one is somebody's, or
// is in doubt.
func (m *matcher) furtherByLogon() {
	for i := range m.accounts {
		account := int32(i)
		first := m.stem(account)
		if first == nobody || !m.undecided(account) {
			continue
		}
		if d := m.doubts[first]; d != nil {
			m.doubt(account, "the owner of the first account, "+m.accounts[first].Logon+", is in doubt too",
				slices.Clone(d.Candidates))
		} else if p := m.owner[first]; p != nobody && !m.rejected[[2]int32{p, account}] {
			m.doubt(account, "it may be a further account of somebody who has one", []Candidate{{int(p), 0.9}})
		}
	}
}
