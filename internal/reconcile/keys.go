package reconcile

import (
	"fmt"
	"iter"
	"math"
	"slices"
	"strings"
	"time"

	"yardbroom/internal/directory"
	"yardbroom/internal/names"
	"yardbroom/internal/parallel"
	"yardbroom/internal/roster"
)

// PersonKey is what a link knows a person by: the person id, else the mail
// address, the logon name, or the names; and the names besides, where others
// have the same.
func PersonKey(p *roster.Person) string {
	key := keyOfValues(&p.Values)
	if p.Shared {
		key += besides + keyOfNames(&p.Values)
	}
	return key
}

// besides stands between a key that several people have and the names.
const besides = " & "

// RowKey is the key that the rows of a person have by themselves.
func RowKey(person string) string {
	key, _, _ := strings.Cut(person, besides)
	return key
}

// KeyOfRow is the key of the person of a row of a roster.
func KeyOfRow(r *roster.Row) string { return keyOfValues(&r.Values) }

func keyOfValues(v *roster.Values) string {
	switch {
	case v[roster.PersonID] != "":
		return KeyOfID(v[roster.PersonID])
	case v[roster.Mail] != "":
		return "mail:" + strings.ToLower(v[roster.Mail])
	case v[roster.Logon] != "":
		return "logon:" + strings.ToLower(v[roster.Logon])
	}
	return keyOfNames(v)
}

func keyOfNames(v *roster.Values) string {
	if v[roster.Family]+v[roster.Given] != "" {
		return "name:" + directory.FoldText(v[roster.Family]) + "," + directory.FoldText(v[roster.Given])
	}
	return "name:" + directory.FoldText(v[roster.FullName])
}

// KeyOfID is the key of the person with an id.
func KeyOfID(id string) string { return "id:" + foldID(id) }

// byLinks states what people have confirmed, and takes note of what they have
// rejected.
func (m *matcher) byLinks() {
	if len(m.opt.Links) == 0 {
		return
	}
	people := holdersOf(len(m.people), func(i int32, add func(string)) {
		add(PersonKey(&m.people[i]))
		for _, id := range m.people[i].All(roster.PersonID) {
			add(KeyOfID(id))
		}
	})
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
			m.state(who[0], account, ByLink, true, 1)
		case len(who) == 0:
			m.result.Gone[m.accounts[account]] = l
		default:
			m.result.Notes = append(
				m.result.Notes,
				fmt.Sprintf("%s is linked to %s, and %d people of the roster are called so; the link is not used",
					m.accounts[account].Logon, l.Person, len(who)),
			)
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
			if address, ok := directory.SMTPAddress(v); ok && !yield(address) {
				return
			}
		}
	}
}

// keyed are the people that a key of an account points to, and whether no
// other account has its value.
type keyed struct {
	by    Key
	who   []int32
	alone bool
}

func (k *keyed) add(who []int32, alone bool) {
	if len(who) == 0 {
		return
	}
	k.alone = alone && (k.alone || len(k.who) == 0)
	for _, p := range who {
		if !slices.Contains(k.who, p) {
			k.who = append(k.who, p)
		}
	}
}

// readMails notes whose mail addresses are whose, and logon names that are
// written like one.
func (m *matcher) readMails() {
	m.mails = holdersOf(len(m.people), func(i int32, add func(string)) {
		for _, v := range m.people[i].All(roster.Mail) {
			add(v)
		}
		for _, v := range m.people[i].All(roster.Logon) {
			if strings.Contains(v, "@") {
				add(v)
			}
		}
	})
}

// byKeys states pairs that share a person id or a mail address, and then those
// whose sign-in name is an address, where nothing contradicts.
func (m *matcher) byKeys() {
	// Looking keys up goes on all processors, some accounts at a time; what follows from
	// them does not.
	pointing := make([][]keyed, min(keyedAtOnce, len(m.accounts)))
	for begin := 0; begin < len(m.accounts); begin += keyedAtOnce {
		some := m.accounts[begin:min(begin+keyedAtOnce, len(m.accounts))]
		parallel.Each(len(some), func(_, i int) { pointing[i] = m.keysOf(int32(begin+i), some[i]) })
		for i, a := range some {
			if m.owner[begin+i] == nobody && m.result.Gone[a].Person == "" {
				m.byKeysOf(int32(begin+i), pointing[i])
			}
		}
	}
	for i, a := range m.accounts {
		if m.undecided(int32(i)) {
			m.byPrincipal(int32(i), a)
		}
	}
}

// undecided tells whether nothing is known yet about an account.
func (m *matcher) undecided(account int32) bool {
	return m.owner[account] == nobody && m.doubts[account] == nil && m.result.Gone[m.accounts[account]].Person == ""
}

// keyedAtOnce is how many accounts' keys are held in memory.
const keyedAtOnce = 1 << 16

// keysOf are those by which an account points to people: its ids and its addresses.
func (m *matcher) keysOf(account int32, a *directory.Account) (keys []keyed) {
	byID, byMail := keyed{by: ByPersonID}, keyed{by: ByMail}
	if m.ids.compared {
		for id := range m.accountIDs(a) {
			byID.add(m.allowed(m.ids.people(id), account), m.ids.alone(id))
		}
	}
	for mail := range addresses(a) {
		byMail.add(m.allowed(m.mails.of(mail), account), m.alone(m.boxes().of(mail), account))
	}
	for _, k := range []keyed{byID, byMail} {
		if len(k.who) > 0 {
			keys = append(keys, k)
		}
	}
	return keys
}

// byKeysOf states the person to whom the keys of an account point. A value that several
// people have is no key; it is weighed with everything else.
func (m *matcher) byKeysOf(account int32, keys []keyed) {
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
		m.byKey(both[0], account, keys)
	}
}

// byKey states the pair that keys make: surely where nothing contradicts, and
// nobody else has the value on either side.
func (m *matcher) byKey(p, account int32, keys []keyed) {
	against := m.against(p, account, keys)
	if m.people[p].State == roster.Left && m.alsoStays(p, keys) {
		against = "a key is also that of somebody who has not left"
	}
	if against != "" {
		m.contradiction(account, keys, against)
		return
	}
	alone := slices.ContainsFunc(keys, func(k keyed) bool {
		return k.alone && len(k.who) == 1 && (k.by != ByMail || m.isMail(p, account) || m.independent(p, account))
	})
	switch {
	case !m.fits(p, account, len(keys) > 1):
		m.contradiction(account, keys, "the names cannot be compared, and what else the lists say differs")
	case alone && m.keepsTo(p, account) && !m.namesDiffer(p, account):
		m.state(p, account, keys[0].by, true, 1)
	default:
		m.state(p, account, keys[0].by, false, m.keyScore(p, account))
	}
}

// isMail tells whether one of somebody's addresses is the account's own, and
// not an alias of it: aliases are made of names, and kept for others.
func (m *matcher) isMail(p, account int32) bool {
	own := m.accounts[account].Text.First(directory.AttrMail)
	return slices.ContainsFunc(m.people[p].All(roster.Mail),
		func(mail string) bool { return strings.EqualFold(mail, strings.TrimSpace(own)) })
}

// muchSupport is how much has to agree besides a key and one name to make up
// for the other, in bits.
const muchSupport = 6.0

// keepsTo tells whether a person's dates do not speak against an account that
// was made after they had left.
func (m *matcher) keepsTo(p, account int32) bool {
	left, a := m.people[p].LeftOn, m.accounts[account]
	return left.IsZero() || !a.Created.Known() || !a.Created.Time().After(left.Add(longAfter))
}

// keyScore is how likely a pair is that a key makes which does not decide by
// itself.
func (m *matcher) keyScore(p, account int32) float64 {
	return min(likelihood(m.weigh(p, account)-math.Log2(float64(len(m.people)+others))), mostLikely)
}

// fits tells whether a key that points to somebody is borne out: by names, or,
// where those cannot be compared, by anything else that does not speak against
// it. Two keys that agree bear each other out.
func (m *matcher) fits(p, account int32, two bool) bool {
	x, y := m.person[p], m.account[account]
	family, given := m.names.both(x, y)
	switch {
	case two, m.namesAgree(p, account), m.nameless(p, account):
		return true
	case family.Differs() && given.Differs():
		return false
	}
	return m.support(p, account) >= 0
}

// namesDiffer tells whether the names have nothing in common, in either order.
func (m *matcher) namesDiffer(p, account int32) bool {
	x, y := m.person[p], m.account[account]
	family, given := m.names.both(x, y)
	return family.Differs() && given.Differs() && !m.swapped(x, y)
}

// nameless tells whether a person or an account has no names that could be
// compared.
func (m *matcher) nameless(p, account int32) bool {
	x, y := m.person[p], m.account[account]
	return x.family == noWord && x.given == noWord || y.family == noWord && y.given == noWord
}

// namesAgree tells whether one of somebody's names is the account's, and the
// other is too or cannot be compared; or whether they are in the other order.
func (m *matcher) namesAgree(p, account int32) bool {
	x, y := m.person[p], m.account[account]
	family, given := m.names.both(x, y)
	switch {
	case family.Agrees() && given.Agrees(), m.swapped(x, y):
		return true
	case family.Agrees():
		return given == names.Unknown || given == names.Otherwise
	case given.Agrees():
		return family == names.Unknown || family.Differs() && m.support(p, account) > 0 // a marriage
	}
	return false
}

// byPrincipal states the person whose address is the sign-in name of an
// account. Such names are given again, numbered otherwise, and kept after a
// marriage: no other account may have the address, the account no other one,
// and the pair is sure only where something agrees of which the name was not
// made.
func (m *matcher) byPrincipal(account int32, a *directory.Account) {
	upn := a.Text.First(directory.AttrUserPrincipalName)
	who := m.allowed(m.mails.of(upn), account)
	if upn == "" || len(who) != 1 || !m.alone(m.boxes().of(upn), account) || m.otherBox(a, upn) {
		return
	}
	m.byMadeName(who[0], account, []keyed{{ByPrincipal, who, true}})
}

// otherBox tells whether an account has another address in the domain of this
// one.
func (m *matcher) otherBox(a *directory.Account, address string) bool {
	_, domain, _ := strings.Cut(address, "@")
	other := false
	for mail := range addresses(a) {
		_, its, _ := strings.Cut(mail, "@")
		switch {
		case strings.EqualFold(mail, address):
			return false
		case strings.EqualFold(its, domain):
			other = true
		}
	}
	return other
}

// byMadeName states a pair by a name that was made of somebody's names.
func (m *matcher) byMadeName(p, account int32, keys []keyed) {
	against := m.against(p, account, keys)
	switch {
	case against != "":
		m.contradiction(account, keys, against)
	case !m.fits(p, account, false):
	case m.independent(p, account):
		m.state(p, account, keys[0].by, true, 1)
	case len(m.namesakes()[m.wholePerson(p)]) > 0:
	case keys[0].by == ByLogon, m.sameName(p, account), m.nameless(p, account):
		m.state(p, account, keys[0].by, false, 0.99)
	}
}

// sameName tells whether an account bears both names of somebody, in whatever
// letters.
func (m *matcher) sameName(p, account int32) bool {
	family, given := m.names.both(m.person[p], m.account[account])
	return spelt(family) && spelt(given)
}

// spelt tells whether two names are one, in whatever letters, by a usual
// spelling.
func spelt(l names.Likeness) bool { return l == names.Same || l == names.Transcribed }

// leastIndependent is how much has to agree besides a made name, in bits: a
// department that every fourth person is in.
const leastIndependent = 2.0

// independent tells whether something agrees of which no logon name is made:
// department, title, place, manager, the first day near the account's
// creation, or the name in its own letters.
func (m *matcher) independent(p, account int32) bool {
	x, y := m.person[p], m.account[account]
	if x.family != noWord && x.family == y.family && x.given == y.given && x.given != noWord &&
		m.names.words[x.family].Foreign {
		return true
	}
	t := balance{}
	m.weighSupport(&t, p, account)
	return t.bits >= leastIndependent
}

// alone tells whether no other account is among those: second ones may share
// with their first one.
func (m *matcher) alone(accounts []int32, account int32) bool {
	others := 0
	for _, i := range accounts {
		if i != account && !m.second[i] {
			others++
		}
	}
	return others == 0 || others == 1 && m.second[account]
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
	family, given := m.names.both(x, y)
	if !m.swapped(x, y) {
		switch {
		case family.Differs() && given.Differs():
			return "the names have nothing in common"
		case given == names.Unlike && !(family.Agrees() && m.support(p, account) >= muchSupport):
			return "the given names differ"
		case byID && family.Differs() && m.support(p, account) <= 0: // no marriage alone
			return "the family names differ, and nothing else agrees"
		case given == names.Halves && m.support(p, account) <= 0:
			return "the given names differ in part, and nothing else agrees"
		}
	}
	if !byID && !m.second[account] && m.sharedBox(p) && !family.Agrees() && !given.Agrees() {
		return "several accounts have this address, and its name is not the person's"
	}
	if !byID && m.namesake(p, account) {
		return "somebody of the same name fits better"
	}
	if !m.keepsTo(p, account) && !(byID && m.namesAgree(p, account)) {
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
	return holdersOf(len(m.accounts), func(i int32, add func(string)) {
		for mail := range addresses(m.accounts[i]) {
			add(mail)
		}
	})
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
	t := balance{}
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
	_, can := m.weighSwapped(x, y)
	return can
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
	logons := holdersOf(len(m.people), func(i int32, add func(string)) {
		for _, logon := range m.people[i].All(roster.Logon) {
			if !strings.Contains(logon, "@") {
				add(logon)
			}
		}
	})
	if logons.isEmpty() {
		return
	}
	for i, a := range m.accounts {
		account := int32(i)
		if !m.undecided(account) {
			continue
		}
		who := m.allowed(logons.of(a.Logon), account)
		if len(who) != 1 {
			continue
		}
		m.byMadeName(who[0], account, []keyed{{ByLogon, who, true}})
	}
}

// seconds gives the second accounts of administrators to those whose first
// account is found by the logon name without its mark. Where it is open whose
// the first one is, so it is of the second.
func (m *matcher) seconds() {
	for i, a := range m.accounts {
		account := int32(i)
		if !m.second[i] || !m.undecided(account) {
			continue
		}
		first, there := m.logons.last(m.firstLogon(account))
		if !there || first == account {
			continue
		}
		if d := m.doubts[first]; d != nil {
			m.doubt(account, "the owner of the first account, "+m.accounts[first].Logon+", is in doubt too",
				slices.Clone(d.Candidates))
			continue
		}
		p := m.owner[first]
		if p == nobody {
			continue
		}
		x, y := m.person[p], m.account[i]
		if m.rejected[[2]int32{p, account}] || m.names.givens(x.given, y.given).Differs() ||
			m.names.families(x.family, y.family).Differs() ||
			m.idsDiffer(p, a) {
			continue
		}
		m.state(p, account, BySecond, false, 0.99)
	}
}
