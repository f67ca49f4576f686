package reconcile

import (
	"fmt"
	"iter"
	"math"
	"slices"
	"strings"
	"time"

	"yardbroom/internal/directory"
	"yardbroom/internal/roster"
)

// PersonKey is what a link knows a person by: the person id, else the mail
// address, the logon name, or the names.
func PersonKey(p *roster.Person) string {
	v := &p.Values
	switch {
	case v[roster.PersonID] != "":
		return KeyOfID(v[roster.PersonID])
	case v[roster.Mail] != "":
		return "mail:" + strings.ToLower(v[roster.Mail])
	case v[roster.Logon] != "":
		return "logon:" + strings.ToLower(v[roster.Logon])
	case v[roster.Family]+v[roster.Given] != "":
		return "name:" + directory.FoldText(v[roster.Family]) + "," + directory.FoldText(v[roster.Given])
	}
	return "name:" + directory.FoldText(v[roster.FullName])
}

// KeyOfID is the key of the person with an id.
func KeyOfID(id string) string { return "id:" + foldID(id) }

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

// holders tells who holds a value: one, or several.
type holders struct {
	one  map[directory.Key]int32
	more map[directory.Key][]int32
}

func newHolders(n int) *holders {
	return &holders{make(map[directory.Key]int32, n), map[directory.Key][]int32{}}
}

func (h *holders) add(value string, who int32) {
	if value == "" {
		return
	}
	k := directory.TextKey(value)
	first, taken := h.one[k]
	switch {
	case !taken:
		h.one[k] = who
	case first != who && !slices.Contains(h.more[k], who):
		if h.more[k] == nil {
			h.more[k] = []int32{first}
		}
		h.more[k] = append(h.more[k], who)
	}
}

// of returns all holders of a value. The list is not to be changed.
func (h *holders) of(value string) []int32 {
	k := directory.TextKey(value)
	first, ok := h.one[k]
	switch {
	case !ok:
		return nil
	case len(h.more) > 0:
		if more := h.more[k]; more != nil {
			return more
		}
	}
	return []int32{first}
}

// byLinks states what people have confirmed, and takes note of what they have
// rejected.
func (m *matcher) byLinks() {
	if len(m.opt.Links) == 0 {
		return
	}
	people := newHolders(len(m.people))
	for i := range m.people {
		people.add(PersonKey(&m.people[i]), int32(i))
	}
	accounts := map[string]int32{}
	for i, a := range m.accounts {
		if a.ID != "" {
			accounts[a.ID] = int32(i)
		}
	}
	for _, l := range m.opt.Links {
		account, there := accounts[l.Account]
		if !there {
			continue
		}
		who := people.of(l.Person)
		switch {
		case l.Rejected:
			for _, p := range who {
				m.rejected[[2]int32{p, account}] = true
			}
		case len(who) == 1:
			m.state(who[0], account, ByLink, 1)
		case len(who) == 0:
			m.result.Gone[m.accounts[account]] = l
		default:
			m.result.Notes = append(m.result.Notes, fmt.Sprintf("%s is linked to %s, and %d people of the roster are called so; the link is not used", m.accounts[account].Logon, l.Person, len(who)))
		}
	}
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

// addresses goes through the mail addresses of an account.
func addresses(a *directory.Account) iter.Seq[string] {
	return func(yield func(string) bool) {
		for v := range a.Text.All(directory.AttrMail) {
			if v = strings.TrimSpace(v); v != "" && !yield(v) {
				return
			}
		}
		for v := range a.Text.All(directory.AttrProxyAddresses) {
			if len(v) > 5 && strings.EqualFold(v[:5], "smtp:") && !yield(v[5:]) {
				return
			}
		}
	}
}

// keyed are the people that the keys of an account point to.
type keyed struct {
	by  Key
	who []int32
}

// readMails notes whose mail addresses are whose, and logon names that are
// written like one.
func (m *matcher) readMails() {
	m.mails = newHolders(len(m.people))
	for i := range m.people {
		v := &m.people[i].Values
		m.mails.add(v[roster.Mail], int32(i))
		if strings.Contains(v[roster.Logon], "@") {
			m.mails.add(v[roster.Logon], int32(i))
		}
	}
}

// byKeys states pairs that share a person id, a mail address or a principal
// name, where nothing contradicts.
func (m *matcher) byKeys() {
	ids, mails := newHolders(len(m.people)), m.mails
	for i := range m.people {
		ids.add(foldID(m.people[i].Values[roster.PersonID]), int32(i))
	}
	m.idsCompared = m.sameNumbers(ids, mails)
	for i, a := range m.accounts {
		if m.owner[i] != nobody || m.result.Gone[a].Person != "" {
			continue
		}
		m.byKeysOf(int32(i), a, ids, mails)
	}
}

// sameNumbers tells whether person ids of the roster and ids of accounts are
// of one numbering: then the ids of those who share a mail address agree, in
// some cases at least, and those who share an id mostly share a name.
func (m *matcher) sameNumbers(ids, mails *holders) bool {
	var byMail, byName witnesses
	shared := false
	for i, a := range m.accounts {
		for id := range m.accountIDs(a) {
			who := ids.of(id)
			shared = shared || len(who) > 0
			if len(who) == 1 {
				x, y := m.person[who[0]], m.account[i]
				family, given := m.names.families(x.family, y.family), m.names.givens(x.given, y.given)
				switch {
				case family.agrees() || given.agrees() || m.swapped(x, y):
					byName.agree++
				case family == unlike && given == unlike:
					byName.differ++
				}
			}
		}
		for mail := range addresses(a) {
			who := mails.of(mail)
			if len(who) != 1 || m.people[who[0]].Values[roster.PersonID] == "" || !m.hasID(a) {
				continue
			}
			if m.idsAgree(who[0], a) {
				byMail.agree++
			} else {
				byMail.differ++
			}
			break
		}
	}
	why := ""
	switch {
	case byMail.deny():
		why = fmt.Sprintf("of %d people found by mail address in both, %d have one id", byMail.agree+byMail.differ, byMail.agree)
	case byName.deny():
		why = fmt.Sprintf("of %d ids found in both, %d belong to people of one name", byName.agree+byName.differ, byName.agree)
	case !shared && len(ids.one) > 0 && slices.ContainsFunc(m.accounts, m.hasID):
		why = "none is found in both"
	default:
		return shared
	}
	m.result.Notes = append(m.result.Notes, "the person ids of the roster are others than those of the directory ("+why+"): ids are not compared")
	return false
}

// witnesses count who agrees and who does not.
type witnesses struct{ agree, differ int }

// deny tells whether enough were asked, and hardly any agree.
func (w witnesses) deny() bool { return w.agree+w.differ >= 10 && w.agree*10 < w.differ }

func (m *matcher) hasID(a *directory.Account) bool {
	for range m.accountIDs(a) {
		return true
	}
	return false
}

func (m *matcher) idsAgree(p int32, a *directory.Account) bool {
	want := foldID(m.people[p].Values[roster.PersonID])
	for id := range m.accountIDs(a) {
		if id == want {
			return true
		}
	}
	return false
}

// idsDiffer tells whether both have ids of one numbering and share none.
func (m *matcher) idsDiffer(p int32, a *directory.Account) bool {
	return m.idsCompared && m.people[p].Values[roster.PersonID] != "" && m.hasID(a) && !m.idsAgree(p, a)
}

func (m *matcher) byKeysOf(account int32, a *directory.Account, ids, mails *holders) {
	var found [3]keyed
	add := func(at int, by Key, who []int32) {
		if who = m.allowed(who, account); len(who) == 0 {
			return
		}
		k := &found[at]
		if k.by == "" {
			*k = keyed{by, nil}
		}
		for _, p := range who {
			if !slices.Contains(k.who, p) {
				k.who = append(k.who, p)
			}
		}
	}
	if m.idsCompared {
		for id := range m.accountIDs(a) {
			add(0, ByPersonID, ids.of(id))
		}
	}
	for mail := range addresses(a) {
		add(1, ByMail, mails.of(mail))
	}
	if upn := a.Text.First(directory.AttrUserPrincipalName); upn != "" {
		add(2, ByPrincipal, mails.of(upn))
	}
	keys := slices.DeleteFunc(found[:], func(k keyed) bool { return k.by == "" })
	if len(keys) == 0 {
		return
	}
	both := keys[0].who
	for _, k := range keys[1:] {
		both = slices.DeleteFunc(slices.Clone(both), func(p int32) bool { return !slices.Contains(k.who, p) })
	}
	switch {
	case len(both) == 0:
		m.contradiction(account, keys, "")
	case len(both) == 1:
		against := m.against(both[0], account, keys)
		if m.people[both[0]].State == roster.Left && m.alsoStays(both[0], keys) {
			against = "a key is also that of somebody who has not left"
		}
		if against != "" {
			m.contradiction(account, keys, against)
			return
		}
		m.state(both[0], account, keys[0].by, 1)
	case keys[0].by == ByPersonID:
		m.contradiction(account, keys, "several people of the roster have this person id")
	}
	// A mail address that several people share is no key; it is weighed with
	// everything else.
}

// allowed leaves out those whom somebody has said not to be the account's
// owner.
func (m *matcher) allowed(who []int32, account int32) []int32 {
	if len(m.rejected) == 0 {
		return who
	}
	return slices.DeleteFunc(slices.Clone(who), func(p int32) bool { return m.rejected[[2]int32{p, account}] })
}

// alsoStays tells whether a key of a leaver is also that of somebody who has
// not left: whoever comes back may get a new person id and the old address.
func (m *matcher) alsoStays(leaver int32, keys []keyed) bool {
	return slices.ContainsFunc(keys, func(k keyed) bool {
		return slices.ContainsFunc(k.who, func(p int32) bool { return p != leaver && m.people[p].State != roster.Left })
	})
}

// longAfter is how long after somebody left an account may still be made for
// them.
const longAfter = 30 * 24 * time.Hour

// against says what contradicts a pair that keys make, "" where nothing does.
func (m *matcher) against(p, account int32, keys []keyed) string {
	a := m.accounts[account]
	byID := keys[0].by == ByPersonID
	if m.idsDiffer(p, a) {
		return "the person ids differ"
	}
	if byID && len(keys) > 1 {
		return "" // two keys agree
	}
	x, y := m.person[p], m.account[account]
	if m.names.givens(x.given, y.given) == unlike && !m.swapped(x, y) {
		if m.names.families(x.family, y.family) == unlike {
			return "the names have nothing in common"
		}
		return "the given names differ"
	}
	if byID && m.names.families(x.family, y.family) == unlike && !m.swapped(x, y) {
		t := tally{}
		if m.weighSupport(&t, p, account); t.bits <= 0 { // no marriage alone
			return "the family names differ, and nothing else agrees"
		}
	}
	if !byID && m.sharedBox(p) && !m.names.families(x.family, y.family).agrees() && !m.names.givens(x.given, y.given).agrees() {
		return "several accounts have this address, and its name is not the person's"
	}
	if !byID && m.namesake(p, account) {
		return "somebody of the same name fits better"
	}
	if left := m.people[p].LeftOn; !byID && !left.IsZero() && a.Created.Known() && a.Created.Time().After(left.Add(longAfter)) {
		return "the account was made after the person had left"
	}
	return ""
}

// sharedBox tells whether other accounts have the person's address too.
func (m *matcher) sharedBox(p int32) bool {
	mail := m.people[p].Values[roster.Mail]
	return mail != "" && len(m.boxes().of(mail)) > 1
}

// findBoxes notes which accounts have which mail address of the roster.
func (m *matcher) findBoxes() *holders {
	h := newHolders(len(m.people))
	for i, a := range m.accounts {
		for mail := range addresses(a) {
			h.add(mail, int32(i))
		}
	}
	return h
}

// namesakeBits is by how much somebody of the same name has to fit better to
// make the owner of an address doubtful: addresses are given to others when
// somebody has left.
const namesakeBits = 4.0

// namesake tells whether what the lists say besides keys fits another person
// of the same name better.
func (m *matcher) namesake(p, account int32) bool {
	own := math.Inf(1)
	for _, other := range m.namesakes()[m.wholePerson(p)] {
		if other == p {
			continue
		}
		if math.IsInf(own, 1) {
			own = m.support(p, account)
		}
		if m.support(other, account) >= own+namesakeBits && !m.idsDiffer(other, m.accounts[account]) {
			return true
		}
	}
	return false
}

func (m *matcher) support(p, account int32) float64 {
	t := tally{}
	m.weighSupport(&t, p, account)
	return t.bits
}

// findNamesakes finds the people who share both names with somebody. Of names
// that very many bear none are compared.
func (m *matcher) findNamesakes() map[wholeName][]int32 {
	all := make(map[wholeName][]int32, len(m.people))
	for i := range m.people {
		if w := m.wholePerson(int32(i)); w.known() {
			all[w] = append(all[w], int32(i))
		}
	}
	for w, who := range all {
		if len(who) == 1 || len(who) > mostCompared {
			delete(all, w)
		}
	}
	return all
}

// swapped tells whether family and given name stand in each other's place.
func (m *matcher) swapped(x, y being) bool {
	return m.names.families(x.family, y.given).agrees() && m.names.givens(x.given, y.family).agrees()
}

// contradiction doubts an account whose keys point to several people, or to
// one against whom something speaks.
func (m *matcher) contradiction(account int32, keys []keyed, against string) {
	var who []int32
	for _, k := range keys {
		for _, p := range k.who {
			if !slices.Contains(who, p) && len(who) < mostCandidates {
				who = append(who, p)
			}
		}
	}
	why := "two keys disagree"
	if against != "" {
		why = against
	}
	weights, sum := make([]float64, len(who)), 1.0
	for i, p := range who {
		weights[i] = math.Exp2(min(m.weigh(p, account)-keyBits, 50)) // without the key they all have
		sum += weights[i]
	}
	var all []Candidate
	for i, p := range who {
		all = append(all, Candidate{Person: int(p), Score: min(math.Round(1000*weights[i]/sum)/1000, mostLikely)})
	}
	m.doubt(account, why, all)
}

// byLogonColumn states pairs whose logon name the roster says, where nothing
// contradicts.
func (m *matcher) byLogonColumn() {
	logons := newHolders(0)
	for i := range m.people {
		if logon := m.people[i].Values[roster.Logon]; logon != "" && !strings.Contains(logon, "@") {
			logons.add(logon, int32(i))
		}
	}
	if len(logons.one) == 0 {
		return
	}
	for i, a := range m.accounts {
		account := int32(i)
		if m.owner[i] != nobody || m.doubts[account] != nil || m.result.Gone[a].Person != "" {
			continue
		}
		who := m.allowed(logons.of(a.Logon), account)
		if len(who) != 1 {
			continue
		}
		keys := []keyed{{ByLogon, who}}
		if against := m.against(who[0], account, keys); against != "" {
			m.contradiction(account, keys, against)
			continue
		}
		m.state(who[0], account, ByLogon, 0.99)
	}
}

// seconds gives the second accounts of administrators to those whose first
// account is found by the logon name without its mark.
func (m *matcher) seconds() {
	if m.opt.Second == nil {
		return
	}
	for i, a := range m.accounts {
		if m.owner[i] != nobody || m.doubts[int32(i)] != nil || !m.second[i] {
			continue
		}
		first, there := m.byLogon[directory.TextKey(m.opt.Second.ReplaceAllString(a.Logon, ""))]
		if !there || m.owner[first] == nobody || first == int32(i) {
			continue
		}
		p := m.owner[first]
		x, y := m.person[p], m.account[i]
		if m.rejected[[2]int32{p, int32(i)}] || m.names.givens(x.given, y.given) == unlike || m.names.families(x.family, y.family) == unlike || m.idsDiffer(p, a) {
			continue
		}
		m.state(p, int32(i), BySecond, 0.99)
	}
}
