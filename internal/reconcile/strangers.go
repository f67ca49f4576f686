package reconcile

import (
	"slices"

	"yardbroom/internal/directory"
	"yardbroom/internal/names"
	"yardbroom/internal/roster"
)

// strangerBits is how likely somebody has to be the owner of an account to
// keep it from being surely nobody's: 1 to 256.
const strangerBits = -8.0

// askWhoCouldBe finds, for each account that is nobody's so far, the people
// without an account who could be its owner. Not having found anybody is no
// proof: of such an account it is sure only where nobody fits, by a name, an
// initial, the logon name, an id of another numbering, or department and first
// day.
func (m *matcher) askWhoCouldBe() {
	m.strangers = map[*directory.Account][]Candidate{}
	o := open{}
	for i := range m.people {
		if !m.has[i] {
			o.people = append(o.people, int32(i))
		}
	}
	for i := range m.accounts {
		if m.undecided(int32(i)) {
			o.accounts = append(o.accounts, int32(i))
		}
	}
	if len(o.people) == 0 || len(o.accounts) == 0 || m.opt.Strict {
		return
	}
	k := newKeys()
	m.likeAccounts(k, o)
	m.looseAccounts(k, o)
	k.accountsOnly()
	m.likePeople(k, o)
	m.loosePeople(k, o)
	pairs := append(k.pairs(mostAskedAbout), m.unreadable(o)...)
	slices.SortFunc(pairs, byEnds)
	found := m.whoFits(slices.Compact(pairs))
	m.crowdedFits(k.crowded, found)
	for i, who := range found {
		m.sortCandidates(who)
		m.strangers[m.accounts[i]] = slices.Clip(who[:min(len(who), mostCandidates)])
	}
	for _, i := range o.accounts { // whoever may have the first may have the second
		if first, there := m.logons.last(m.firstLogon(i)); there && m.second[i] &&
			m.strangers[m.accounts[i]] == nil {
			m.strangers[m.accounts[i]] = m.strangers[m.accounts[first]]
		}
	}
}

// mostAskedAbout is how many pairs of one key are compared to find out who could
// be the owner of an account.
const mostAskedAbout = 10_000

// crowdedFits adds people to accounts of which nobody is found, where so many
// shared something that not all could be compared: some of them may fit.
func (m *matcher) crowdedFits(crowded []edge, found map[int32][]Candidate) {
	var more []edge
	for _, e := range crowded {
		if found[e.account] == nil && !m.rejected[[2]int32{e.person, e.account}] &&
			!m.idsDiffer(e.person, m.accounts[e.account]) {
			more = append(more, e)
		}
	}
	slices.SortFunc(more, byEnds)
	for _, e := range slices.Compact(more) {
		found[e.account] = append(found[e.account],
			Candidate{int(e.person), likelihood(m.weigh(e.person, e.account) + m.prior)})
	}
}

// whoFits are the people of those pairs that nothing rules out, by account.
func (m *matcher) whoFits(pairs []edge) map[int32][]Candidate {
	found := map[int32][]Candidate{}
	for _, e := range m.weighed(pairs, m.prior, m.notRuledOut) {
		found[e.account] = append(found[e.account], Candidate{int(e.person), likelihood(float64(e.weight) / 1000)})
	}
	return found
}

// notRuledOut tells of a weighed pair that it may be one.
func (m *matcher) notRuledOut(e edge) bool {
	if e.weight > weightOf(strangerBits) {
		return true
	}
	return m.oneDesk(e.person, e.account) || m.oneNameAndDay(e.person, e.account) || m.oneInitial(e.person, e.account) ||
		m.oneLogon(e.person, e.account) ||
		m.oneNumber(e.person, e.account) ||
		m.incomparable(e.person, e.account)
}

// looseAccounts and loosePeople let those meet who share hardly anything.
func (m *matcher) looseAccounts(k *keys, o open) {
	for _, i := range o.accounts {
		a, y := m.accounts[i], m.account[i]
		add := func(kind string, texts ...string) { k.account(i, kind, texts...) }
		if department := m.folded(a.Text.First(directory.AttrDepartment)); department != "" && a.Created.Known() {
			for _, near := range []int{-1, 0, 1} {
				add("desk", department, month(a.Created.Time(), near))
			}
		}
		if a.Created.Known() {
			for _, near := range []int{-1, 0, 1} {
				m.initialKeys(y, month(a.Created.Time(), near), add)
			}
		}
		add("post", m.folded(a.Text.First(directory.AttrDepartment)), m.folded(a.Text.First(directory.AttrTitle)))
		for id := range m.accountIDs(a) {
			add("number", core(id))
		}
		if plain, _ := plainLogon(m.firstLogon(i)); len(plain) <= 3 {
			add("initials", plain[:min(2, len(plain))])
		}
		m.nameAlone(y, add)
	}
}

func (m *matcher) loosePeople(k *keys, o open) {
	for _, p := range o.people {
		v, x := &m.people[p].Values, m.person[p]
		add := func(kind string, texts ...string) { k.person(p, kind, texts...) }
		start := ""
		if !m.people[p].Start.IsZero() {
			start = month(m.people[p].Start, 0)
		}
		if department := m.folded(v[roster.Department]); department != "" && start != "" {
			add("desk", department, start)
		}
		m.initialKeys(x, start, add)
		add("post", m.folded(v[roster.Department]), m.folded(v[roster.Title]))
		for id := range m.personIDs(p) {
			add("number", core(id))
		}
		m.nameAlone(x, add)
		if x.family == noWord || x.given == noWord {
			continue
		}
		given, family := &m.names.words[x.given], &m.names.words[x.family]
		for _, letters := range []string{given.Text[:1] + family.Text[:1], family.Text[:1] + given.Text[:1]} {
			add("initials", letters)
		}
		for i := range grammar() {
			if len(m.patterns) == 0 && !short(grammar()[i]) {
				for _, built := range grammar()[i].builds(given, family) {
					add("logon", built)
				}
			}
		}
	}
}

// initialKeys let those meet who began in one month and share the first letter
// of the given name.
func (m *matcher) initialKeys(b being, month string, add func(kind string, texts ...string)) {
	if b.given != noWord && month != "" {
		add("initial and day", m.names.words[b.given].Text[:1], month)
	}
}

// nameAlone lets those meet who share any part of any name, or a sound of it.
func (m *matcher) nameAlone(b being, add func(kind string, texts ...string)) {
	for _, name := range []int32{b.given, b.family} {
		if name == noWord {
			continue
		}
		for _, part := range m.names.words[name].Parts {
			add("name alone", part.Text)
		}
		if !m.names.scripts.Foreign() {
			continue
		}
		for _, sound := range m.names.sounding[name] {
			if len(sound) >= leastSound {
				add("sound alone", sound)
			}
		}
	}
}

// leastSound is how long a sound has to be for names to meet by it alone.
const leastSound = 4

// oneDesk tells whether an account was made in somebody's department when they
// began.
func (m *matcher) oneDesk(p, account int32) bool {
	department := m.texts.number(m.people[p].Values[roster.Department])
	return department != noWord &&
		department == m.texts.number(m.accounts[account].Text.First(directory.AttrDepartment)) &&
		m.begunThen(p, account)
}

// oneNameAndDay tells whether one of the names may be the same, or be its
// initial, and the account was made when they began; or, where that cannot be
// told, whether the given name may be: the other name may have changed.
func (m *matcher) oneNameAndDay(p, account int32) bool {
	x, y, a := m.person[p], m.account[account], m.accounts[account]
	if m.idsDiffer(p, a) {
		return false
	}
	given := m.names.givens(x.given, y.given)
	across := m.names.givens(x.family, y.given).Agrees() || m.names.givens(x.given, y.family).Agrees()
	if m.people[p].Start.IsZero() || !a.Created.Known() || m.moved(a) && a.Created.Time().After(m.people[p].Start) {
		return (given.Agrees() && given != names.InitialOnly || across) && m.support(p, account) >= 0
	}
	if !m.begunThen(p, account) {
		return false
	}
	return given.Agrees() || across || m.names.families(x.family, y.family).Agrees()
}

// oneInitial tells whether the family name may be the same and the given names
// begin alike.
func (m *matcher) oneInitial(p, account int32) bool {
	x, y := m.person[p], m.account[account]
	if x.given == noWord || y.given == noWord || m.idsDiffer(p, m.accounts[account]) {
		return false
	}
	return m.names.families(x.family, y.family).Agrees() &&
		m.names.words[x.given].Text[0] == m.names.words[y.given].Text[0]
}

// oneLogon tells whether an account is called as somebody would be: by enough
// of their names, or when they began.
func (m *matcher) oneLogon(p, account int32) bool {
	pattern, _ := m.calledBy(p, account)
	return pattern != nil && !m.idsDiffer(p, m.accounts[account]) && (!short(*pattern) || m.begunThen(p, account))
}

// begunThen tells whether an account was made near somebody's first day.
func (m *matcher) begunThen(p, account int32) bool {
	start, a := m.people[p].Start, m.accounts[account]
	return !start.IsZero() && a.Created.Known() && a.Created.Time().Sub(start).Abs() <= nearStart
}

// moved tells whether an account was made on a day on which very many were:
// when a directory was moved, which tells nothing of people.
func (m *matcher) moved(a *directory.Account) bool {
	day := a.Created.Time().Unix()
	from, _ := slices.BinarySearch(m.made, day-24*3600)
	to, _ := slices.BinarySearch(m.made, day+24*3600)
	return len(m.made) >= 100 && (to-from)*20 >= len(m.made)
}

// oneNumber tells whether an account has somebody's id but for what stands in
// front of the number.
func (m *matcher) oneNumber(p, account int32) bool {
	for want := range m.personIDs(p) {
		for id := range m.accountIDs(m.accounts[account]) {
			if c := core(id); len(c) >= leastCore && c == core(want) {
				return true
			}
		}
	}
	return false
}

// incomparable tells whether somebody's names are in letters that nobody here
// can read, or read otherwise than as the account's, while nothing else speaks
// against the pair.
func (m *matcher) incomparable(p, account int32) bool {
	x, y := m.person[p], m.account[account]
	family, given := m.names.both(x, y)
	if y.family == noWord && y.given == noWord {
		return m.opaque(x) && m.support(p, account) >= 0
	}
	if !m.opaque(x) || m.opaque(y) || m.idsDiffer(p, m.accounts[account]) {
		return false
	}
	switch {
	case family.Agrees() && given == names.Otherwise, given.Agrees() && family == names.Otherwise:
		return true
	case (x.guessed || y.guessed) && (m.names.families(x.family, y.given).Agrees() || m.names.givens(x.given, y.family).Agrees()):
		return true // it is not known which is which
	case family == names.Otherwise && given == names.Otherwise:
		return false
	}
	return y.family != noWord && family != names.Unlike && given != names.Unlike && m.support(p, account) >= 0
}

// opaque tells whether somebody's names are in letters from which no one
// spelling follows.
func (m *matcher) opaque(b being) bool {
	return b.family != noWord && m.names.words[b.family].Opaque || b.given != noWord && m.names.words[b.given].Opaque
}

// unreadable are the pairs of people whose names nobody here can read with
// accounts that are named in other letters, and of those in any letters that do
// not spell with accounts that have no name.
func (m *matcher) unreadable(o open) []edge {
	var unread, opaque []int32
	for _, p := range o.people {
		if x := m.person[p]; x.family != noWord && m.names.words[x.family].Unread() {
			unread = append(unread, p)
		}
		if m.opaque(m.person[p]) {
			opaque = append(opaque, p)
		}
	}
	var pairs []edge
	for _, i := range o.accounts {
		who := unread
		switch y := m.account[i]; {
		case y.family == noWord && y.given == noWord:
			who = opaque
		case y.family == noWord || m.names.words[y.family].Unread():
			continue
		}
		for _, p := range who[:min(len(who), mostCompared)] {
			pairs = append(pairs, edge{p, i, 0})
		}
	}
	return pairs
}
