// Package reconcile finds out which account belongs to which person of a
// roster: by links that somebody confirmed, by keys that both lists hold, and,
// for what is left, by weighing names and everything else that the lists say.
// It never guesses: where two answers are nearly as good, or keys contradict
// each other, it says what the candidates are and why.
//
// What is weighed counts in bits, as in the probabilistic record linkage of
// Fellegi and Sunter: how much likelier it is to see this if the account is
// the person's than if it is somebody's taken at random.
package reconcile

import (
	"cmp"
	"math"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"yardbroom/internal/directory"
	"yardbroom/internal/names"
	"yardbroom/internal/parallel"
	"yardbroom/internal/roster"
)

// Key is what a pair was made by.
type Key string

// The keys, from the surest.
const (
	ByLink      Key = "link"
	ByPersonID  Key = "person-id"
	ByMail      Key = "mail"
	ByPrincipal Key = "principal" // the user principal name is the person's mail address or logon
	ByLogon     Key = "logon"     // as the roster says it
	ByName      Key = "name"      // with whatever supports it
	BySecond    Key = "second"    // an administrator's second account, by the logon name of the first
)

// Keys are all keys, from the surest.
var Keys = []Key{ByLink, ByPersonID, ByMail, ByPrincipal, ByLogon, ByName, BySecond}

// Options say what is known beforehand.
type Options struct {
	// Links are what people have decided.
	Links []Link
	// Strict leaves out everything but links and keys that are exactly alike.
	Strict bool
	// Patterns are naming patterns of logon names, in the form of Pattern. None
	// means that they are learned.
	Patterns []string
	// IDs are the attributes that hold the person id; none means employeeID and
	// employeeNumber.
	IDs []directory.AttrID
	// Second matches the logon names of second accounts, for administration.
	Second *regexp.Regexp
	// Columns are the fields that the roster has; nil where that is not known.
	Columns []roster.Field
	// Zone is where the roster's days are.
	Zone *time.Location
}

// Link is what a person has decided on an account and a person of the roster.
type Link struct {
	Account  string // raw identity
	Person   string // as Person.Key writes it
	Rejected bool   // they do not belong together
}

// Pair is an account that is somebody's.
type Pair struct {
	Person  int // in Result.People
	Account *directory.Account
	By      Key
	Sure    bool
	Score   float64 // how likely it is, from 0 to 1
	Second  bool    // an administrator's second account

	at int32 // of the account, in the matcher
}

// Doubt is an account whose owner is in doubt.
type Doubt struct {
	Account    *directory.Account
	Why        string
	Candidates []Candidate // best first
}

// Candidate is a person who may be the one.
type Candidate struct {
	Person int
	Score  float64
}

// Result is who has which account.
type Result struct {
	People   []roster.Person
	Accounts int     // that could be somebody's
	Pairs    []Pair  // by person
	Doubts   []Doubt // by the name of the account
	Patterns []Pattern
	Zone     *time.Location
	// Notes are what a reader of the result has to know.
	Notes []string
	// Gone are accounts linked to a person whom the roster no longer holds.
	Gone map[*directory.Account]Link

	first     []int32 // pair of each person, and one behind the last
	byAccount map[*directory.Account]int
	doubtful  map[*directory.Account]int
	unsure    []bool // people in doubt
	matcher   *matcher
}

// Of returns the pairs of a person. They are the result's own.
func (r *Result) Of(person int) []Pair { return r.Pairs[r.first[person]:r.first[person+1]] }

// Pair returns the pair of an account, nil where it has none.
func (r *Result) Pair(a *directory.Account) *Pair {
	if at, ok := r.byAccount[a]; ok {
		return &r.Pairs[at]
	}
	return nil
}

// Doubt returns the doubt about an account, nil where there is none.
func (r *Result) Doubt(a *directory.Account) *Doubt {
	if at, ok := r.doubtful[a]; ok {
		return &r.Doubts[at]
	}
	return nil
}

// MayBe returns who may be the owner of an account that has neither a pair nor
// a doubt, the likeliest first and none but the first few: people without an
// account whom nothing rules out. Where there are none, it is surely nobody's.
func (r *Result) MayBe(a *directory.Account) []Candidate { return r.matcher.strangers[a] }

// Lacks tells whether the roster has none of these columns.
func (r *Result) Lacks(fields ...roster.Field) bool {
	columns := r.matcher.opt.Columns
	return columns != nil &&
		!slices.ContainsFunc(fields, func(f roster.Field) bool { return slices.Contains(columns, f) })
}

// InDoubt tells whether a person has no account but may have one of those in
// doubt.
func (r *Result) InDoubt(person int) bool { return r.unsure[person] && len(r.Of(person)) == 0 }

// matcher is one run.
type matcher struct {
	opt      Options
	people   []roster.Person
	accounts []*directory.Account
	names    *vocabulary
	person   []being // names of people
	account  []being // names of accounts
	ids      numbers // person ids of both
	rejected map[[2]int32]bool

	second []bool  // accounts for administration, besides their owner's first
	owner  []int32 // of each account, nobody where none is stated
	pairs  []Pair
	has    []bool // people with an account
	doubts map[int32]*Doubt
	unsure []bool
	result *Result
	logons *holders        // accounts by logon name
	boxes  func() *holders // accounts by mail address
	mails  *holders        // people by mail address

	prior     float64 // how likely any two of those without a key belong together, in bits
	strangers map[*directory.Account][]Candidate
	patterns  []Pattern
	made      []int64                    // when accounts were made, sorted
	managers  map[string][]directory.Key // accounts of people by person id
	texts     texts
	columns   []column
	namesakes func() map[wholeName][]int32    // people who share both names with others
	stems     func() []int32                  // the account that each is a further one of
	shown     func() map[int32]*[2]names.Word // what addresses say of people's names
}

// nobody is the owner of an account that nobody has.
const nobody int32 = -1

// Run finds out who has which account. The order of people and accounts has
// no part in it, but for the order of the result. The error is a StrangeNames,
// or tells of a pattern that is none.
func Run(people []roster.Person, s *directory.Survey, opt Options) (*Result, error) {
	m := newMatcher(joined(people), s, opt)
	m.readNames()
	var err error
	if m.patterns, err = parsePatterns(opt.Patterns); err != nil {
		return nil, err
	}
	m.readSupports()
	m.readMails()
	m.readIDs()
	if err := m.strangeNames(); err != nil {
		return nil, err
	}
	m.byLinks()
	m.byKeys()
	m.byLogonColumn()
	m.learnColumns()
	if len(opt.Patterns) == 0 {
		m.patterns = m.learnPatterns()
	}
	m.readManagers()
	if !opt.Strict {
		m.byNames()
		m.seconds()
	}
	m.doubtLeavers()
	m.askWhoCouldBe()
	return m.finish(), nil
}

func newMatcher(people []roster.Person, s *directory.Survey, opt Options) *matcher {
	if len(opt.IDs) == 0 {
		opt.IDs = []directory.AttrID{directory.AttrEmployeeID, directory.AttrEmployeeNumber}
	}
	m := &matcher{
		opt:      opt,
		people:   people,
		names:    newVocabulary(),
		rejected: map[[2]int32]bool{},
		doubts:   map[int32]*Doubt{},
		has:      make([]bool, len(people)),
		unsure:   make([]bool, len(people)),
	}
	m.result = &Result{People: people, Zone: cmp.Or(opt.Zone, time.UTC), Gone: map[*directory.Account]Link{}}
	for a := range s.Accounts.All() {
		if a.Kind == directory.KindUser && !a.BuiltIn {
			m.accounts = append(m.accounts, a)
		}
	}
	m.readLogons()
	m.second = make([]bool, len(m.accounts))
	if opt.Second != nil {
		parallel.Each(len(m.accounts), func(_, i int) { m.second[i] = opt.Second.MatchString(m.accounts[i].Logon) })
	}
	m.owner = make([]int32, len(m.accounts))
	for i := range m.owner {
		m.owner[i] = nobody
	}
	m.columns = newColumns()
	m.stems, m.shown = sync.OnceValue(m.findStems), sync.OnceValue(m.findShown)
	m.namesakes, m.boxes = sync.OnceValue(m.findNamesakes), sync.OnceValue(m.findBoxes)
	return m
}

// readLogons notes which accounts have which logon names.
func (m *matcher) readLogons() {
	m.logons = holdersOf(len(m.accounts), func(i int32, add func(string)) { add(m.accounts[i].Logon) })
}

// readNames reads all names: parting and spelling them goes on all processors,
// counting them does not.
func (m *matcher) readNames() {
	all := make([]nameParts, len(m.people)+len(m.accounts))
	parallel.Each(len(all), func(_, i int) {
		if i < len(m.people) {
			v := &m.people[i].Values
			all[i] = partsOf(v[roster.Family], v[roster.Given], v[roster.FullName])
			return
		}
		a := m.accounts[i-len(m.people)]
		all[i] = partsOf(a.Text.First(directory.AttrSN), a.Text.First(directory.AttrGivenName),
			a.Text.First(directory.AttrDisplayName), directory.LeafValue(a.DN))
	})
	m.names.prepare(all)
	m.person, m.account = make([]being, len(m.people)), make([]being, len(m.accounts))
	for i := range all {
		if b := m.names.being(&all[i]); i < len(m.people) {
			m.person[i] = b
		} else {
			m.account[i-len(m.people)] = b
		}
	}
	m.names.ready = nil
	m.names.countSounds()
}

// state takes note of a pair.
func (m *matcher) state(person, account int32, by Key, sure bool, score float64) {
	a := m.accounts[account]
	m.owner[account], m.has[person] = person, true
	m.pairs = append(m.pairs,
		Pair{Person: int(person), Account: a, By: by, Sure: sure, Score: score, at: account, Second: m.second[account]})
}

// doubt takes note of an account whose owner is open, and of who may be it.
func (m *matcher) doubt(account int32, why string, candidates []Candidate) {
	m.sortCandidates(candidates)
	m.doubts[account] = &Doubt{Account: m.accounts[account], Why: why, Candidates: candidates}
	for _, c := range candidates {
		m.unsure[c.Person] = true
	}
}

// sortCandidates puts the likeliest first.
func (m *matcher) sortCandidates(candidates []Candidate) {
	slices.SortFunc(candidates, func(x, y Candidate) int {
		return cmp.Or(cmp.Compare(y.Score, x.Score),
			cmp.Compare(m.people[x.Person].Rows[0], m.people[y.Person].Rows[0]))
	})
}

// finish puts the result into order.
func (m *matcher) finish() *Result {
	r := m.result
	r.Accounts, r.Pairs, r.unsure, r.Patterns, r.matcher = len(m.accounts), m.pairs, m.unsure, m.patterns, m
	for _, d := range m.doubts {
		r.Doubts = append(r.Doubts, *d)
	}
	slices.SortFunc(r.Doubts, func(x, y Doubt) int {
		return cmp.Or(strings.Compare(x.Account.Logon, y.Account.Logon), strings.Compare(x.Account.DN, y.Account.DN))
	})
	r.sortPairs()
	r.byAccount, r.doubtful = make(map[*directory.Account]int, len(r.Pairs)), map[*directory.Account]int{}
	for i := range r.Pairs {
		r.byAccount[r.Pairs[i].Account] = i
	}
	for i := range r.Doubts {
		r.doubtful[r.Doubts[i].Account] = i
	}
	return r
}

// sortPairs puts the pairs into the order of people, and those of one person
// by name, the first accounts before second ones.
func (r *Result) sortPairs() {
	r.first = make([]int32, len(r.People)+1)
	for i := range r.Pairs {
		r.first[r.Pairs[i].Person+1]++
	}
	for i := range r.People {
		r.first[i+1] += r.first[i]
	}
	sorted, next := make([]Pair, len(r.Pairs)), slices.Clone(r.first)
	for _, p := range r.Pairs {
		sorted[next[p.Person]] = p
		next[p.Person]++
	}
	r.Pairs = sorted
	for i := range r.People {
		if own := r.Of(i); len(own) > 1 {
			slices.SortFunc(own, func(x, y Pair) int {
				return cmp.Or(compareBools(x.Second, y.Second), strings.Compare(x.Account.Logon, y.Account.Logon),
					strings.Compare(x.Account.DN, y.Account.DN))
			})
		}
	}
}

func compareBools(x, y bool) int {
	switch {
	case x == y:
		return 0
	case y:
		return -1
	}
	return 1
}

// likelihood turns bits into a probability, rounded to three decimals.
func likelihood(bits float64) float64 {
	return math.Round(1000/(1+math.Exp2(-bits))) / 1000
}
