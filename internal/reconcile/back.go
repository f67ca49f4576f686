package reconcile

import (
	"slices"
	"time"

	"yardbroom/internal/directory"
	"yardbroom/internal/roster"
)

const (
	// mostGap is how long after one row has ended the next may begin for both to
	// be one post after the other: a transfer from one system to another.
	mostGap = 31 * 24 * time.Hour
	// mostOverlap is how long both may run at the same time.
	mostOverlap = 7 * 24 * time.Hour
)

// joined makes one person of two of whom one began where the other had left:
// of one name that nobody else bears, within days, with nothing that differs
// but the person id.
func joined(people []roster.Person) []roster.Person {
	type fullName struct{ family, given string }
	byName := map[fullName][]int{}
	for i := range people {
		v := &people[i].Values
		n := fullName{directory.FoldText(v[roster.Family]), directory.FoldText(v[roster.Given])}
		if n == (fullName{}) {
			n.family = directory.FoldText(v[roster.FullName])
		}
		if n != (fullName{}) {
			byName[n] = append(byName[n], i)
		}
	}
	gone := map[int]bool{}
	for _, who := range byName {
		if len(who) != 2 {
			continue
		}
		old, now := who[0], who[1]
		if people[old].State != roster.Left {
			old, now = now, old
		}
		if wentOn(&people[old], &people[now]) {
			if len(gone) == 0 {
				people = slices.Clone(people) // the caller's stay as they are
			}
			people[now] = people[now].Since(&people[old])
			gone[old] = true
		}
	}
	if len(gone) == 0 {
		return people
	}
	var out []roster.Person
	for i := range people {
		if !gone[i] {
			out = append(out, people[i])
		}
	}
	return out
}

// wentOn tells whether somebody who left is somebody who began then.
func wentOn(old, now *roster.Person) bool {
	if old.State != roster.Left || now.State == roster.Left || old.LeftOn.IsZero() || now.Start.IsZero() {
		return false
	}
	if gap := now.Start.Sub(old.LeftOn); gap < -mostOverlap || gap > mostGap {
		return false
	}
	compared := 0
	for _, f := range []roster.Field{roster.Mail, roster.Logon, roster.Department, roster.Title, roster.Location, roster.Manager} {
		switch x, y := old.Values[f], now.Values[f]; {
		case x == "" || y == "":
		case directory.FoldText(x) == directory.FoldText(y):
			compared++
		case f == roster.Mail || f == roster.Logon:
			return false
		default:
			compared--
		}
	}
	return compared > 0 ||
		compared == 0 && old.Values[roster.Department]+old.Values[roster.Title]+old.Values[roster.Location] == ""
}

// mostAway is how long after somebody left somebody of their name may begin to
// be taken for the same person, though an account was found for them.
const mostAway = 400 * 24 * time.Hour

// beganThen tells whether somebody may have begun when, or not long after, a
// leaver left.
func (m *matcher) beganThen(p, leaver int32) bool {
	start, left := m.people[p].Start, m.people[leaver].LeftOn
	return start.IsZero() || left.IsZero() || start.After(left.Add(-mostGap)) && start.Before(left.Add(mostAway))
}

// calledAlike tells whether two people may be called the same: by both names,
// or by the only one that they have.
func (m *matcher) calledAlike(x, y being) bool {
	family, given := m.names.both(x, y)
	switch {
	case family.Agrees() && given.Agrees(), m.swapped(x, y):
		return true
	case x.family == noWord && y.family == noWord:
		return given.Agrees()
	case x.given == noWord && y.given == noWord:
		return family.Agrees()
	}
	return false
}

// doubtLeavers puts those accounts in doubt whose owner has left while
// somebody of the same or nearly the same name has not, and has no account, or
// none that is sure and began when they left: it may be the same person, in
// another post or back under another id.
func (m *matcher) doubtLeavers() {
	var leavers []int
	for i := range m.pairs {
		if p := &m.pairs[i]; p.By != ByLink && m.people[p.Person].State == roster.Left {
			leavers = append(leavers, i)
		}
	}
	if len(leavers) == 0 {
		return
	}
	surely := make([]bool, len(m.people))
	for i := range m.pairs {
		surely[m.pairs[i].Person] = surely[m.pairs[i].Person] || m.pairs[i].Sure
	}
	k := newKeys()
	for at, i := range leavers {
		m.nameKeys(m.person[m.pairs[i].Person],
			func(kind string, texts ...string) { k.account(int32(at), kind, texts...) })
	}
	k.accountsOnly()
	k.each(len(m.people), func(k *keys, i int) {
		if m.people[i].State != roster.Left && !(m.has[i] && surely[i]) {
			m.nameKeys(m.person[i], func(kind string, texts ...string) { k.person(int32(i), kind, texts...) })
		}
	})
	others := map[int][]int32{}
	for _, e := range k.pairsAndCrowded(mostCompared) {
		i := leavers[e.account]
		leaver := int32(m.pairs[i].Person)
		if (!m.has[e.person] || m.beganThen(e.person, leaver)) && m.calledAlike(m.person[leaver], m.person[e.person]) {
			others[i] = append(others[i], e.person)
		}
	}
	for i, who := range others {
		pair := m.pairs[i]
		candidates := []Candidate{{pair.Person, min(pair.Score, 0.5)}}
		for _, p := range who[:min(len(who), mostCandidates-1)] {
			candidates = append(candidates, Candidate{int(p), 0.5})
		}
		m.owner[pair.at] = nobody
		m.doubt(pair.at, "one person of this name has left, and another works here: it may be one person", candidates)
	}
	m.pairs = slices.DeleteFunc(m.pairs, func(p Pair) bool { return m.doubts[p.at] != nil })
	clear(m.has)
	for i := range m.pairs {
		m.has[m.pairs[i].Person] = true
	}
}
