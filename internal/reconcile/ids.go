package reconcile

import (
	"fmt"
	"iter"
	"slices"
	"strings"

	"yardbroom/internal/directory"
	"yardbroom/internal/parallel"
	"yardbroom/internal/roster"
)

// foldID makes spellings of one id equal: without case, blanks, and zeros in
// front of a number.
func foldID(id string) string {
	id = strings.ToLower(strings.TrimSpace(id))
	if strings.IndexFunc(id, func(r rune) bool { return r < '0' || r > '9' }) < 0 {
		if short := strings.TrimLeft(id, "0"); short != "" {
			return short
		}
	}
	return id
}

// numbers are the person ids of both lists.
type numbers struct {
	compared bool     // they are of one numbering
	exact    *holders // people by folded id
	accounts *holders // accounts by folded id
	relation *relation
	related  *holders // people by what the relation makes of their ids
	shapes   map[string]bool
}

// relation is how ids of the directory are made of those of the roster, where
// they are not the same: both sides make one key.
type relation struct {
	says            string
	account, person func(core string) string
}

// relations are those that are looked for: another prefix or other zeros in
// front, and besides a check digit on one side.
var relations = []relation{
	{"but for what stands in front of the number", whole, whole},
	{"but for a check digit in the directory", withoutLast, whole},
	{"but for a check digit on the roster", whole, withoutLast},
}

func whole(core string) string { return core }

func withoutLast(core string) string { return core[:max(len(core)-1, 0)] }

// core is the number in an id, without zeros in front: "4711" of "E-004711". Of
// ids with letters behind or between there is none.
func core(id string) string {
	digits := strings.TrimLeftFunc(id, func(r rune) bool { return r < '0' || r > '9' })
	if strings.IndexFunc(digits, func(r rune) bool { return r < '0' || r > '9' }) >= 0 {
		return ""
	}
	return strings.TrimLeft(digits, "0")
}

// leastCore is how many digits a number has to have to be told without what
// stands in front of it.
const leastCore = 4

// shape is what all ids of one numbering have in common: letters in front, and
// how long they are.
func shape(id string) string {
	return strings.Map(func(r rune) rune {
		if '0' <= r && r <= '9' {
			return '0'
		}
		return r
	}, strings.ToLower(strings.TrimSpace(id)))
}

// accountIDs goes through the folded ids of an account.
func (m *matcher) accountIDs(a *directory.Account) iter.Seq[string] {
	return func(yield func(string) bool) {
		for _, attr := range m.opt.IDs {
			for v := range a.Text.All(attr) {
				if id := foldID(v); id != "" && !yield(id) {
					return
				}
			}
		}
	}
}

// readIDs notes whose ids are whose, and finds out whether they are of one
// numbering, and how one is made of the other.
func (m *matcher) readIDs() {
	n := &m.ids
	n.exact = holdersOf(len(m.people), func(i int32, add func(string)) {
		for id := range m.personIDs(i) {
			add(id)
		}
	})
	n.accounts = holdersOf(len(m.accounts), func(i int32, add func(string)) {
		if m.second[i] {
			return
		}
		for id := range m.accountIDs(m.accounts[i]) {
			add(id)
		}
	})
	counts, all := map[string]int{}, 0
	for i := range m.people {
		for id := range m.personIDs(int32(i)) {
			counts[shape(id)]++
			all++
		}
	}
	n.shapes = map[string]bool{}
	for s, count := range counts {
		n.shapes[s] = count*100 >= all // one in a hundred
	}
	m.findRelation()
	n.compared = m.sameNumbers()
}

// personIDs goes through the folded ids of a person: the present one, and
// those of rows that ended.
func (m *matcher) personIDs(p int32) iter.Seq[string] {
	return func(yield func(string) bool) {
		who := &m.people[p]
		if id := foldID(who.Values[roster.PersonID]); id != "" && !yield(id) {
			return
		}
		for i := range who.Former {
			if id := foldID(who.Former[i][roster.PersonID]); id != "" && !yield(id) {
				return
			}
		}
	}
}

// people are those who have an id, or one that it is made of.
func (n *numbers) people(id string) []int32 {
	if who := n.exact.of(id); len(who) > 0 || n.relation == nil {
		return who
	}
	c := core(id)
	if len(c) < leastCore {
		return nil
	}
	return n.related.of(n.relation.account(c))
}

// alone tells whether one account only has an id.
func (n *numbers) alone(id string) bool { return len(n.accounts.of(id)) < 2 }

// findRelation finds out whether ids that are not the same are so but for
// something: those who share one then mostly share a name.
func (m *matcher) findRelation() {
	type open struct {
		core    string
		account int32
	}
	found := make([][]open, parallel.Chunks(len(m.accounts))) // the ids that nobody has as they are
	parallel.Each(len(m.accounts), func(chunk, i int) {
		for id := range m.accountIDs(m.accounts[i]) {
			if c := core(id); len(c) >= leastCore && !m.ids.exact.has(id) {
				found[chunk] = append(found[chunk], open{c, int32(i)})
			}
		}
	})
	all := slices.Concat(found...)
	if len(all) < leastWitnesses {
		return
	}
	for i := range relations {
		r := &relations[i]
		related := holdersOf(len(m.people), func(p int32, add func(string)) {
			for id := range m.personIDs(p) {
				if c := core(id); len(c) >= leastCore {
					add(r.person(c))
				}
			}
		})
		var w witnesses
		for _, o := range all {
			if who := related.of(r.account(o.core)); len(who) == 1 {
				w.ask(m, who[0], o.account)
			}
		}
		if w.confirm() {
			m.ids.relation, m.ids.related = r, related
			m.result.Notes = append(m.result.Notes,
				fmt.Sprintf("%d person ids of the directory are those of the roster %s", w.agree+w.differ, r.says))
			return
		}
	}
}

// sameNumbers tells whether person ids of the roster and ids of accounts are
// of one numbering: then the ids of those who share a mail address agree, in
// some cases at least, and those who share an id mostly share a name.
func (m *matcher) sameNumbers() bool {
	said := make([]numbering, parallel.Chunks(len(m.accounts)))
	parallel.Each(len(m.accounts), func(chunk, i int) { said[chunk].ask(m, int32(i)) })
	var byMail, byName witnesses
	shared := false
	for _, s := range said {
		byMail.add(s.byMail)
		byName.add(s.byName)
		shared = shared || s.shared
	}
	why := ""
	switch {
	case byMail.deny():
		why = fmt.Sprintf("of %d people found by mail address in both, %d have one id", byMail.agree+byMail.differ,
			byMail.agree)
	case byName.deny():
		why = fmt.Sprintf("of %d ids found in both, %d belong to people of one name", byName.agree+byName.differ,
			byName.agree)
	case !shared && !m.ids.exact.isEmpty() && slices.ContainsFunc(m.accounts, m.hasID):
		why = "none is found in both"
	default:
		return shared
	}
	m.result.Notes = append(m.result.Notes,
		"the person ids of the roster are others than those of the directory ("+why+"): ids are not compared")
	return false
}

// witnesses count who agrees and who does not.
type witnesses struct{ agree, differ int }

// ask counts whether the names of a pair agree.
func (w *witnesses) ask(m *matcher, p, account int32) {
	x, y := m.person[p], m.account[account]
	family, given := m.names.both(x, y)
	switch {
	case family.Agrees() || given.Agrees() || m.swapped(x, y):
		w.agree++
	case family.Differs() && given.Differs():
		w.differ++
	}
}

// deny tells whether enough were asked, and hardly any agree.
func (w witnesses) deny() bool { return w.agree+w.differ >= 10 && w.agree*10 < w.differ }

func (w *witnesses) add(o witnesses) {
	w.agree += o.agree
	w.differ += o.differ
}

// numbering is what accounts say of whether their ids are those of the roster.
type numbering struct {
	shared         bool // some ids are in both
	byMail, byName witnesses
}

func (n *numbering) ask(m *matcher, account int32) {
	a := m.accounts[account]
	for id := range m.accountIDs(a) {
		who := m.ids.people(id)
		n.shared = n.shared || len(who) > 0
		if len(who) == 1 {
			n.byName.ask(m, who[0], account)
		}
	}
	for mail := range addresses(a) {
		who := m.mails.of(mail)
		if len(who) != 1 || m.people[who[0]].Values[roster.PersonID] == "" || !m.hasID(a) {
			continue
		}
		if m.idsAgree(who[0], a) {
			n.byMail.agree++
		} else {
			n.byMail.differ++
		}
		return
	}
}

// leastWitnesses is how many have to agree to prove anything.
const leastWitnesses = 3

// confirm tells whether some were asked, and nearly all agree.
func (w witnesses) confirm() bool { return w.agree >= leastWitnesses && w.agree >= 9*w.differ }

func (m *matcher) hasID(a *directory.Account) bool {
	for range m.accountIDs(a) {
		return true
	}
	return false
}

// idsAgree tells whether an account has an id of a person, or one that is made
// of it.
func (m *matcher) idsAgree(p int32, a *directory.Account) bool {
	for want := range m.personIDs(p) {
		for id := range m.accountIDs(a) {
			if id == want || m.ids.relation != nil && m.ids.relation.joins(id, want) {
				return true
			}
		}
	}
	return false
}

// joins tells whether an account's id is made of a person's.
func (r *relation) joins(account, person string) bool {
	a, p := core(account), core(person)
	return len(a) >= leastCore && len(p) >= leastCore && r.account(a) == r.person(p)
}

// idsDiffer tells whether both have ids of one numbering and share none. Ids
// of another length or with another beginning than the person's and than most of
// the roster's are of another numbering, and contradict nothing.
func (m *matcher) idsDiffer(p int32, a *directory.Account) bool {
	if !m.ids.compared || m.people[p].Values[roster.PersonID] == "" || m.idsAgree(p, a) {
		return false
	}
	own := shape(m.people[p].Values[roster.PersonID])
	for id := range m.accountIDs(a) {
		if shape(id) == own || m.ids.shapes[shape(id)] ||
			m.ids.relation != nil && len(core(id)) == len(core(foldID(m.people[p].Values[roster.PersonID]))) {
			return true
		}
	}
	return false
}
