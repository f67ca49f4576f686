package reconcile

import (
	"cmp"
	"math"
	"slices"
	"strings"
	"time"

	"yardbroom/internal/directory"
	"yardbroom/internal/names"
	"yardbroom/internal/roster"
)

// Clue is one thing that speaks for or against an account's being somebody's.
type Clue struct {
	What      string // what is compared, such as "family name"
	Roster    string // as the roster has it
	Directory string // as the directory has it
	Result    string // Same, Different, or another word or two
	Bits      float64
}

// Agrees tells whether the clue speaks for the pair.
func (c Clue) Agrees() bool { return c.Bits > 0 }

// String writes the clue in a few words.
func (c Clue) String() string {
	switch {
	case c.Result == Same:
		return c.What + " " + c.Roster
	case c.Result == Different:
		return c.What + " " + c.Roster + "/" + c.Directory
	case c.Roster == "":
		return c.What + " " + c.Directory + " (" + c.Result + ")"
	}
	return c.What + " " + c.Roster + "/" + c.Directory + " (" + c.Result + ")"
}

// The plain results of a comparison.
const (
	Same      = "same"
	Different = "different"
)

// balance adds clues up. The clues themselves are kept only where somebody
// wants to read them.
type balance struct {
	bits  float64
	keep  bool
	clues []Clue
}

func (t *balance) add(what, inRoster, inDirectory, says string, bits float64) {
	t.bits += bits
	if t.keep {
		t.clues = append(t.clues, Clue{what, inRoster, inDirectory, says, bits})
	}
}

// How many bits each likeness of names takes off what the name is worth. The
// commoner of the two names counts.
var likenessCosts = map[names.Likeness]float64{
	names.Same:        0.2,
	names.Transcribed: 1,
	names.Sounding:    2.5,
	names.Partly:      2.5,
	names.ShortForm:   2.5,
	names.Near:        4.5,
}

const (
	familyUnlike    = -5.0 // it changes with a marriage
	givenUnlike     = -9.0
	familyOtherwise = -3.0 // no list of readings is complete
	givenOtherwise  = -3.0
	familyHalves    = -1.0
	givenHalves     = -4.0
	initialBits     = 2.5
	swapCost        = 3.0
	leastBits       = 0.5 // of a name that agrees, however common it is
)

var likenessResult = map[names.Likeness]string{
	names.Same:        Same,
	names.Transcribed: "in other letters",
	names.Sounding:    "sounds alike",
	names.Partly:      "in part",
	names.ShortForm:   "a short form",
	names.InitialOnly: "the initial",
	names.Near:        "nearly the same",
	names.Halves:      "another part",
	names.Otherwise:   "read otherwise",
	names.Unlike:      Different,
}

// costs are what names that differ take off.
type costs struct{ unlike, otherwise, halves float64 }

var (
	againstFamily = costs{familyUnlike, familyOtherwise, familyHalves}
	againstGiven  = costs{givenUnlike, givenOtherwise, givenHalves}
)

func (v *vocabulary) bits(l names.Likeness, x, y int32, no costs) float64 {
	switch l {
	case names.Unknown:
		return 0
	case names.Unlike:
		return no.unlike
	case names.Otherwise:
		return no.otherwise
	case names.Halves:
		return no.halves
	case names.InitialOnly:
		return initialBits
	}
	rarity := min(v.rarity(x), v.rarity(y))
	if l == names.Sounding {
		rarity = min(rarity, v.soundRarity(x, y))
	}
	return max(rarity-likenessCosts[l], leastBits)
}

// weighNames adds up what two names say.
func (m *matcher) weighNames(t *balance, p, account int32) {
	x, y, v := m.person[p], m.account[account], m.names
	family, given := v.families(x.family, y.family), v.givens(x.given, y.given)
	familyBits, givenBits := v.bits(family, x.family, y.family, againstFamily), v.bits(given, x.given, y.given,
		againstGiven)
	if family != names.Same || given != names.Same {
		if bits, ok := m.weighSwapped(x, y); ok && bits > familyBits+givenBits {
			inRoster, inDirectory := "", ""
			if t.keep {
				inRoster, inDirectory = FullName(&m.people[p]), m.accountName(account)
			}
			t.add("names", inRoster, inDirectory, "in the other order", bits)
			return
		}
	}
	if bits, address := m.weighAddress(p, account, family, given); address != "" && bits > familyBits+givenBits {
		t.add("name in the address", address, m.accountNameIf(t.keep, account), "the same", bits)
		return
	}
	if family != names.Unknown {
		t.add("family name", m.wordOf(x.family, m.people[p].Values[roster.Family]),
			m.wordOf(y.family, m.accounts[account].Text.First(directory.AttrSN)), likenessResult[family], familyBits)
	}
	if given != names.Unknown {
		t.add("given name", m.wordOf(x.given, m.people[p].Values[roster.Given]),
			m.wordOf(y.given, m.accounts[account].Text.First(directory.AttrGivenName)), likenessResult[given],
			givenBits)
	}
}

// addressCost is what it costs that a name was read from an address, which may
// leave out a part of it.
const addressCost = 1.0

// weighAddress is what it is worth if the address that the roster has for
// somebody shows the names of an account, where theirs cannot be compared with
// those letter by letter; address is "" where it shows none.
func (m *matcher) weighAddress(p, account int32, family, given names.Likeness) (bits float64, address string) {
	y := m.account[account]
	if spelt(family) && spelt(given) || y.family == noWord || y.given == noWord || m.opaque(y) {
		return 0, ""
	}
	shown := m.shown()[p]
	if shown == nil {
		return 0, ""
	}
	is, its := &m.names.words[y.given], &m.names.words[y.family]
	close := func(l names.Likeness) bool { return l == names.Same || l == names.Partly }
	if close(names.Givens(&shown[0], is)) && close(names.Families(&shown[1], its)) ||
		close(names.Families(&shown[0], its)) && close(names.Givens(&shown[1], is)) {
		return m.names.rarity(y.family) + m.names.rarity(y.given) - 2*addressCost, m.people[p].Values[roster.Mail]
	}
	return 0, ""
}

// findShown reads the two names in the addresses of people whose own names are
// in letters from which no one spelling follows.
func (m *matcher) findShown() map[int32]*[2]names.Word {
	all := map[int32]*[2]names.Word{}
	for i := range m.people {
		if !m.opaque(m.person[i]) {
			continue
		}
		local, _, _ := strings.Cut(m.people[i].Values[roster.Mail], "@")
		if first, last, ok := strings.Cut(strings.TrimRight(local, "0123456789"), "."); ok {
			all[int32(i)] = &[2]names.Word{names.New(first), names.New(last)}
		}
	}
	return all
}

func (m *matcher) accountNameIf(wanted bool, account int32) string {
	if !wanted {
		return ""
	}
	return m.accountName(account)
}

// weighSwapped is what it is worth if the names stand in the other order on one
// side, and whether they can. Where one side does not say which is which,
// either order is as good.
func (m *matcher) weighSwapped(x, y being) (bits float64, can bool) {
	v := m.names
	cost := swapCost
	if x.guessed || y.guessed {
		cost = 0.5
	}
	weigh := func(f1, f2, g1, g2 int32) {
		family := v.families(f1, f2)
		if !family.Agrees() {
			return
		}
		given := v.givens(g1, g2)
		if !given.Agrees() || given == names.InitialOnly || family == names.Near && given == names.Near {
			return
		}
		if b := v.bits(family, f1, f2, againstFamily) + v.bits(given, g1, g2, againstGiven) - cost; !can || b > bits {
			bits, can = b, true
		}
	}
	weigh(x.family, y.given, x.given, y.family) // in the directory
	weigh(x.given, y.family, x.family, y.given) // on the roster
	return bits, can
}

// wordOf is how a name is written, or, where it was cut out of a whole one,
// how it is compared.
func (m *matcher) wordOf(n int32, written string) string {
	if written != "" {
		return written
	}
	return m.names.words[n].String()
}

func (m *matcher) accountName(account int32) string {
	a := m.accounts[account]
	if f, g := a.Text.First(directory.AttrSN), a.Text.First(directory.AttrGivenName); f != "" && g != "" {
		return f + ", " + g
	}
	if d := a.Text.First(directory.AttrDisplayName); d != "" {
		return d
	}
	return directory.LeafValue(a.DN)
}

// FullName is what to call a person, the family name first.
func FullName(p *roster.Person) string {
	v := &p.Values
	switch {
	case v[roster.Family] != "" && v[roster.Given] != "":
		return v[roster.Family] + ", " + v[roster.Given]
	case v[roster.FullName] != "":
		return v[roster.FullName]
	case v[roster.Family]+v[roster.Given] != "":
		return v[roster.Family] + v[roster.Given]
	}
	for _, f := range []roster.Field{roster.Mail, roster.Logon, roster.PersonID} {
		if v[f] != "" {
			return v[f]
		}
	}
	return ""
}

// keyBits are what a key that agrees is worth where it does not decide by
// itself, and what one that differs costs.
const (
	keyBits     = 14.0
	idUnlike    = -12.0
	idNear      = -5.0 // numbers that follow each other are near, too
	mailUnlike  = -0.5
	localBits   = 7.0
	sharedBits  = 3.0 // of an address that several people have
	patternBits = 2.0 // beside names, which the logon name is made of
)

// weighKeys adds up what ids, addresses and logon names say.
func (m *matcher) weighKeys(t *balance, p, account int32) {
	a, v := m.accounts[account], &m.people[p].Values
	if id := v[roster.PersonID]; id != "" && m.ids.compared && m.hasID(a) {
		held := m.firstID(a)
		switch {
		case m.idsAgree(p, a) && len(m.ids.people(held)) > 1:
			t.add("person id", id, held, "the same, as of others", sharedBits)
		case m.idsAgree(p, a) && foldID(id) == held:
			t.add("person id", id, id, Same, keyBits)
		case m.idsAgree(p, a):
			t.add("person id", id, held, "the same, in another form", keyBits)
		case !m.idsDiffer(p, a):
			t.add("person id", id, held, "of another numbering", 0)
		case len(id) >= 4 && names.Typo(foldID(id), held):
			t.add("person id", id, held, "nearly the same", idNear)
		default:
			t.add("person id", id, held, Different, idUnlike)
		}
	}
	local := ""
	if mail := v[roster.Mail]; mail != "" {
		best, other := "", ""
		local, _, _ = strings.Cut(mail, "@")
		for one := range addresses(a) {
			switch box, _, _ := strings.Cut(one, "@"); {
			case strings.EqualFold(one, mail):
				best = Same
			case best == "" && strings.EqualFold(box, local):
				best = "the same but for the domain"
			}
			other = one
		}
		switch {
		case best == Same && len(m.mails.of(mail)) > 1:
			t.add("mail", mail, mail, "the same, as of others", sharedBits)
		case best == Same:
			t.add("mail", mail, mail, Same, keyBits)
		case best != "":
			t.add("mail", mail, other, best, localBits)
		case other != "":
			t.add("mail", mail, other, Different, mailUnlike)
		case strings.EqualFold(local, a.Logon):
			t.add("mail", mail, a.Logon, "the logon name", localBits)
		}
	}
	if upn := a.Text.First(directory.AttrUserPrincipalName); upn != "" &&
		(strings.EqualFold(upn, v[roster.Mail]) || strings.EqualFold(upn, v[roster.Logon])) {
		t.add("sign-in name", upn, upn, Same, 2)
	}
	if logon := v[roster.Logon]; logon != "" && !strings.Contains(logon, "@") {
		if strings.EqualFold(logon, a.Logon) {
			t.add("logon name", logon, a.Logon, Same, keyBits)
		} else {
			t.add("logon name", logon, a.Logon, Different, mailUnlike)
		}
	}
	m.weighLogon(t, p, account)
}

func (m *matcher) firstID(a *directory.Account) string {
	for id := range m.accountIDs(a) {
		return id
	}
	return ""
}

// weighLogon says what it is worth that an account is called as a pattern
// would call the person: little where its names are known and agree, since
// the logon name is made of those; all there is where they are not.
func (m *matcher) weighLogon(t *balance, p, account int32) {
	a := m.accounts[account]
	pattern, numbered := m.calledBy(p, account)
	if pattern == nil {
		return
	}
	bits := patternBits * pattern.habit
	if y := m.account[account]; y.family == noWord {
		// As rare as the name that it is made of, but for others whose names
		// give the same.
		x := m.person[p]
		bits = math.Log2(max(pattern.habit, 0.05))
		for _, piece := range pattern.pieces {
			n, most := x.family, 1
			if piece.name == 'g' {
				n = x.given
			}
			if piece.name == 'i' {
				bits += initialBits
			}
			if piece.name == 0 || piece.name == 'i' || n == noWord {
				continue
			}
			if most = piece.letters; most == 0 || most > 8 {
				most = 8
			}
			bits += min(m.names.rarity(n), 4*float64(most)) - 0.5
		}
	}
	says := "as " + pattern.Text
	if numbered {
		says += ", with a number"
		bits = max(bits-1, 0)
	}
	t.add("logon name", "", a.Logon, says, bits)
}

// texts are values that both lists have, folded and counted.
type texts struct {
	byWritten, byFolded map[string]int32
	counts              []int32
}

// number returns the number of a text that folds like others of that number;
// noWord for one that was not counted.
func (t *texts) number(written string) int32 {
	if n, known := t.byWritten[written]; known {
		return n
	}
	return noWord
}

// count counts a text.
func (t *texts) count(written string) {
	if written == "" {
		return
	}
	n, known := t.byWritten[written]
	if !known {
		n = t.learn(written)
	}
	t.counts[n]++
}

func (t *texts) learn(written string) int32 {
	folded := directory.FoldText(written)
	n, known := t.byFolded[folded]
	if !known {
		n = int32(len(t.counts))
		t.counts = append(t.counts, 0)
		t.byFolded[folded] = n
	}
	t.byWritten[written] = n
	return n
}

// supports are the attributes that tell where somebody works, and as what.
var supports = directory.Attrs(directory.AttrDepartment, directory.AttrTitle, directory.AttrL,
	directory.AttrPhysicalDeliveryOfficeName)

// readSupports counts what else the lists say, for everybody: how much it is
// worth to agree in something depends on how common it is.
func (m *matcher) readSupports() {
	m.texts = texts{map[string]int32{}, map[string]int32{}, nil}
	for i := range m.people {
		v := &m.people[i].Values
		for _, f := range []roster.Field{roster.Department, roster.Title, roster.Location} {
			m.texts.count(v[f])
		}
	}
	for _, a := range m.accounts {
		for _, value := range a.Text.Values(supports) {
			m.texts.count(value.Text())
		}
		if a.Created.Known() {
			m.made = append(m.made, a.Created.Time().Unix())
		}
	}
	slices.Sort(m.made)
}

// readManagers notes whose accounts are those of managers, as far as keys have
// told.
func (m *matcher) readManagers() {
	leads := map[string]bool{}
	for i := range m.people {
		if id := m.people[i].Values[roster.Manager]; id != "" {
			leads[foldID(id)] = true
		}
	}
	m.managers = map[string][]directory.Key{}
	for i, p := range m.owner {
		if p == nobody {
			continue
		}
		if id := foldID(m.people[p].Values[roster.PersonID]); leads[id] {
			m.managers[id] = append(m.managers[id], m.accounts[i].Key)
		}
	}
}

// worth is how many bits it says to have a value.
func (m *matcher) worth(written string) float64 {
	return math.Log2(
		0.8 * float64(len(m.people)+len(m.accounts)) / float64(max(m.texts.counts[m.texts.number(written)], 1)))
}

const (
	mostSupport = 10.0 // all of it together
	managerBits = 5.0
	startMax    = 6.0
	nearStart   = 45 * 24 * time.Hour
)

// column is a field of the roster that the directory says too: how much it is
// worth at most if they agree, and what it costs if they do not.
type column struct {
	field         roster.Field
	attrs         []directory.AttrID
	most, against float64
	called        map[[2]int32]bool // values of the roster as the directory calls them
}

func newColumns() []column {
	return []column{
		{roster.Department, []directory.AttrID{directory.AttrDepartment}, 6, -1.5, nil},
		{roster.Title, []directory.AttrID{directory.AttrTitle}, 5, -1, nil},
		{roster.Location, []directory.AttrID{directory.AttrL, directory.AttrPhysicalDeliveryOfficeName}, 4, -1, nil},
	}
}

// columnAgrees compares a value of the roster with those of an account, and
// returns the one that agrees, else any.
func (m *matcher) columnAgrees(c *column, inRoster string, a *directory.Account) (inDirectory string, agrees bool) {
	want := m.texts.number(inRoster)
	for _, attr := range c.attrs {
		value := a.Text.First(attr)
		if strings.TrimSpace(value) == "" {
			continue
		}
		if is := m.texts.number(value); is == want || c.called[[2]int32{want, is}] {
			return value, true
		}
		inDirectory = value
	}
	return inDirectory, false
}

const (
	leastLearned = 20 // pairs from which it is learned what a column is worth
	leastCalled  = 3  // of which a value is called otherwise in the directory
	mostAgainst  = -3.0
)

// learnColumns finds out, from the pairs that are sure, how the directory calls
// what the roster says, and what it means if they do not agree: where they
// seldom do, nothing.
func (m *matcher) learnColumns() {
	for i := range m.columns {
		c := &m.columns[i]
		together, alone := map[[2]int32]int{}, map[int32]int{}
		all := 0
		for j := range m.pairs {
			inRoster := m.people[m.pairs[j].Person].Values[c.field]
			inDirectory, _ := m.columnAgrees(c, inRoster, m.pairs[j].Account)
			if !m.pairs[j].Sure || inRoster == "" || inDirectory == "" {
				continue
			}
			all++
			both := [2]int32{m.texts.number(inRoster), m.texts.number(inDirectory)}
			together[both]++
			alone[both[0]]++
		}
		if all < leastLearned {
			continue
		}
		c.called = map[[2]int32]bool{}
		agree := 0
		for both, n := range together {
			if both[0] != both[1] && n >= leastCalled && 2*n > alone[both[0]] {
				c.called[both] = true
			}
			if both[0] == both[1] || c.called[both] {
				agree += n
			}
		}
		differ := 1 - float64(agree)/float64(all)
		c.against = min(max(math.Log2((differ+0.02)/0.9), mostAgainst), 0)
	}
}

// weighSupport adds up what else the lists say. Values that go together, such
// as department and title, are not worth more than a part of their sum.
func (m *matcher) weighSupport(t *balance, p, account int32) {
	a, v := m.accounts[account], &m.people[p].Values
	sum := 0.0
	add := func(what, inRoster, says, inDirectory string, bits float64) {
		if sum+bits > mostSupport {
			bits = mostSupport - sum
		}
		sum += bits
		t.add(what, inRoster, inDirectory, says, bits)
	}
	for i := range m.columns {
		c := &m.columns[i]
		inRoster := v[c.field]
		if inRoster == "" {
			continue
		}
		inDirectory, agrees := m.columnAgrees(c, inRoster, a)
		switch {
		case agrees && m.texts.number(inRoster) == m.texts.number(inDirectory):
			add(c.field.String(), inRoster, Same, inDirectory, min(max(m.worth(inRoster), leastBits), c.most))
		case agrees:
			add(c.field.String(), inRoster, "the directory's name for it", inDirectory,
				min(max(m.worth(inRoster)-1, leastBits), c.most))
		case inDirectory != "":
			add(c.field.String(), inRoster, Different, inDirectory, c.against)
		}
	}
	if id := v[roster.Manager]; id != "" && a.Manager != (directory.Key{}) {
		if boss, known := m.managers[foldID(id)]; known {
			if slices.Contains(boss, a.Manager) {
				add("manager", id, Same, id, managerBits)
			} else {
				add("manager", id, Different, "another", -1)
			}
		}
	}
	m.weighDates(t, p, a)
}

// weighDates compares the first day with the day the account was made.
func (m *matcher) weighDates(t *balance, p int32, a *directory.Account) {
	if !a.Created.Known() {
		return
	}
	made, who := a.Created.Time(), &m.people[p]
	if !who.LeftOn.IsZero() && made.After(who.LeftOn.Add(longAfter)) {
		t.add("left", day(who.LeftOn), day(made), "before the account was made", -8)
		return
	}
	if who.Start.IsZero() {
		return
	}
	apart := made.Sub(who.Start)
	switch {
	case apart.Abs() <= nearStart:
		t.add("start", day(who.Start), day(made), "near the day the account was made",
			min(max(m.rareDay(who.Start), 0), startMax))
	case apart < -365*24*time.Hour:
		t.add("start", day(who.Start), day(made), "long after the account was made", -3)
	case apart < 0:
		t.add("start", day(who.Start), day(made), "after the account was made", -1.5)
	default:
		t.add("start", day(who.Start), day(made), "before the account was made", -1)
	}
}

func day(t time.Time) string { return t.Format(time.DateOnly) }

// rareDay is what it is worth that an account was made near a day: little
// where many were.
func (m *matcher) rareDay(t time.Time) float64 {
	if len(m.made) == 0 {
		return 0
	}
	from, _ := slices.BinarySearch(m.made, t.Add(-nearStart).Unix())
	to, _ := slices.BinarySearch(m.made, t.Add(nearStart).Unix())
	return math.Log2(0.7 * float64(len(m.made)) / float64(max(to-from, 1)))
}

// weigh is how much likelier it is than not that the account is the person's,
// in bits, but for how likely that is of any two.
func (m *matcher) weigh(p, account int32) float64 {
	t := balance{}
	m.weighNames(&t, p, account)
	if t.bits < -8 {
		return t.bits // nothing makes up for that
	}
	m.weighKeys(&t, p, account)
	m.weighSupport(&t, p, account)
	return t.bits
}

// Explain says what speaks for and against an account's being somebody's, the
// weightiest first.
func (r *Result) Explain(person int, a *directory.Account) []Clue {
	account, known := r.matcher.logons.last(a.Logon)
	if !known || r.matcher.accounts[account] != a {
		if at := slices.Index(r.matcher.accounts, a); at >= 0 {
			account = int32(at)
		} else {
			return nil
		}
	}
	t := balance{keep: true}
	p := int32(person)
	r.matcher.weighKeys(&t, p, account)
	r.matcher.weighNames(&t, p, account)
	r.matcher.weighSupport(&t, p, account)
	slices.SortStableFunc(t.clues, func(x, y Clue) int { return cmp.Compare(math.Abs(y.Bits), math.Abs(x.Bits)) })
	return t.clues
}

// Sides writes clues in a few words: what agrees, and what does not.
func Sides(clues []Clue) (agree, differ string) {
	var yes, no []string
	for _, c := range clues {
		switch {
		case c.Agrees():
			yes = append(yes, c.String())
		case c.Bits < 0:
			no = append(no, c.String())
		}
	}
	return strings.Join(yes, ", "), strings.Join(no, ", ")
}

// Reasons writes clues in one line.
func Reasons(clues []Clue) string {
	agree, differ := Sides(clues)
	switch {
	case differ == "":
		return agree
	case agree == "":
		return "against it: " + differ
	}
	return agree + "; against it: " + differ
}
