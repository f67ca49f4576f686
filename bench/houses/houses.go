// Package houses makes rosters and directories of international houses: people
// of some thirty cultures, under the naming habits of a house and with some
// forty kinds of dirt, together with the truth of who has which account. It
// knows nothing of how they are matched, and its names are those of general
// packages of made-up names.
package houses

import (
	"encoding/csv"
	"io"
	"math"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"

	"golang.org/x/text/unicode/norm"

	"yardbroom/bench/muddle"
	"yardbroom/internal/directory"
)

// AsOf is the moment that all days are relative to.
var AsOf = time.Date(2026, 11, 2, 9, 0, 0, 0, time.UTC)

// Rates are the kinds of dirt and the share of people who have each.
var Rates = []struct {
	Kind string
	Rate float64
}{
	{
		"no id in directory",
		.60,
	}, {"no id in roster", .03}, {"wrong id", .005}, {"id of other numbering", .04}, {"no mail in roster", .35}, {"private mail", .04},
	{
		"mail of other domain",
		.03,
	}, {"address of a leaver", .01}, {"namesake", .02}, {"namesake who left", .01}, {"family typo", .02}, {"given typo", .02}, {"short form", .30},
	{
		"initial only",
		.02,
	}, {"married", .02}, {"married, double", .01}, {"swapped", .015}, {"half of a double name", .35}, {"middle name in roster", .06}, {"middle name in directory", .03},
	{
		"middle initial",
		.02,
	}, {"title", .03}, {"suffix", .02}, {"text behind the name", .02}, {"own script in directory", .06}, {"Latin in roster", .10}, {"other romanisation", .30},
	{
		"no diacritics",
		.25,
	}, {"digraphs", .20}, {"capitals", .02}, {"other department", .12}, {"other title", .12}, {"migrated account", .18}, {"transfer", .015}, {"return", .01},
	{
		"second account",
		.02,
	}, {"further account", .01}, {"shared number", .008}, {"reused number", .004}, {"particle dropped", .30}, {"no name parts", .05}, {"no display name", .03},
	{"patronymic", .30}, {"no mail in directory", .15}, {"no account", .05}, {"left", .10},
}

// Case is a roster and a directory, and who has which account.
type Case struct {
	Entries []directory.Entry
	Rows    [][]string // with a header
	// Owner are the rows, from 1, of the person whose account a logon name is;
	// accounts of nobody on the roster are not in it.
	Owner map[string][]int
	// Culture and Dirt are those of the account's owner.
	Culture map[string]string
	Dirt    map[string][]string
}

const base = "DC=larkmoor,DC=example"

// WriteLDIF writes the directory.
func (c *Case) WriteLDIF(w io.Writer) error { return muddle.WriteLDIF(w, c.Entries) }

// WriteRoster writes the roster.
func (c *Case) WriteRoster(w io.Writer) error { return csv.NewWriter(w).WriteAll(c.Rows) }

// house is what is made, and the habits of those who made it.
type house struct {
	rand     *rand.Rand
	out      *Case
	n        int
	cultures []*culture
	weights  []float64
	rates    map[string]float64
	habits   []int // logon patterns of the older and the newer accounts
	changed  time.Time
	byMail   bool // addresses are given.family and not the logon name
	reversed bool // display names have the family name first
	native   bool // the roster is in the people's own scripts
	prefix   string
	blank    map[string]bool // columns that one of the lists lacks
	abroad   bool            // departments are called otherwise in the directory
	usual    float64         // how much commoner the common names are
	early    bool            // addresses were given in the order of names and not of days
	taken    map[string]bool
	numbers  []string // of leavers
	last     *person
}

// person is the truth about somebody.
type person struct {
	*culture
	family, second, given, middle name
	custom                        int // of romanisation
	woman                         bool
	department, title, place      string
	start, left                   time.Time
	id, mail, logon               string
	dirt                          map[string]bool
	rows                          []int
}

// Make makes a house of so many people.
func Make(people int, seed uint64) *Case {
	h := &house{rand: rand.New(rand.NewPCG(seed, 29)), taken: map[string]bool{}, rates: map[string]float64{},
		out: &Case{Owner: map[string][]int{}, Culture: map[string]string{}, Dirt: map[string][]string{}}}
	h.settle()
	h.entry(base, "objectClass", "domainDNS", "objectSid", muddle.SID(0))
	h.entry("OU=Staff,"+base, "objectClass", "organizationalUnit")
	h.row("Badge no", "Last name", "First name", "E-mail", "Department", "Job title", "Location", "Start", "End",
		"Status")
	for range people {
		p := h.somebody()
		h.place(p)
		h.last = p
	}
	for range people * 2 / 100 {
		p := h.somebody()
		p.dirt["no id in directory"] = true
		p.logon = h.logon(p)
		h.account(p, p.logon, nil)
	}
	h.machines(people * 3 / 100)
	return h.out
}

// settle chooses the habits of the house.
func (h *house) settle() {
	for _, r := range Rates {
		h.rates[r.Kind] = r.Rate * (.5 + h.rand.Float64())
	}
	h.rates["no id in directory"] = .60
	h.cultures = slices.Clone(cultures)
	h.rand.Shuffle(len(h.cultures), func(i, j int) { h.cultures[i], h.cultures[j] = h.cultures[j], h.cultures[i] })
	sum := 0.0
	for i, c := range h.cultures {
		w := 1.0
		if i == 0 {
			w = 8
		}
		sum += w
		h.weights = append(h.weights, sum)
		shuffled := *c
		for _, list := range []*[]name{&shuffled.families, &shuffled.womensFamilies, &shuffled.men, &shuffled.women} {
			*list = slices.Clone(*list)
		}
		perm := h.rand.Perm(len(c.families))
		if len(c.womensFamilies) == len(c.families) {
			for to, from := range perm {
				shuffled.families[to], shuffled.womensFamilies[to] = c.families[from], c.womensFamilies[from]
			}
		}
		h.rand.Shuffle(len(shuffled.men),
			func(i, j int) { shuffled.men[i], shuffled.men[j] = shuffled.men[j], shuffled.men[i] })
		h.rand.Shuffle(len(shuffled.women),
			func(i, j int) { shuffled.women[i], shuffled.women[j] = shuffled.women[j], shuffled.women[i] })
		h.cultures[i] = &shuffled
	}
	h.habits = []int{h.rand.IntN(len(habits)), h.rand.IntN(len(habits))}
	h.changed = AsOf.AddDate(-3-h.rand.IntN(8), 0, 0)
	h.byMail, h.reversed, h.native = h.rand.IntN(2) == 0, h.rand.IntN(3) == 0, h.rand.IntN(3) > 0
	h.prefix = []string{"", "", "E", "00"}[h.rand.IntN(4)]
	h.blank = map[string]bool{}
	for _, column := range []string{"department", "title", "location", "start"} {
		h.blank[column] = h.rand.IntN(4) == 0
	}
	if h.rand.IntN(4) == 0 { // hardly more than names
		h.blank = map[string]bool{"department": true, "title": true, "location": true, "start": h.rand.IntN(2) == 0}
	}
	h.usual = 1.2 + 2*h.rand.Float64()
	h.abroad, h.early = h.rand.IntN(4) == 0, h.rand.IntN(3) == 0
}

func (h *house) chance(kind string) bool { return h.rand.Float64() < h.rates[kind] }

func pick[T any](h *house, list []T) T { return list[h.rand.IntN(len(list))] }

// common picks the first ones more often.
func (h *house) common(list []name) name {
	return list[int(float64(len(list))*math.Pow(h.rand.Float64(), h.usual))]
}

var departments = []string{
	"Astronomy",
	"Instruments",
	"Archive",
	"Computing",
	"Administration",
	"Visitor Centre",
	"Workshop",
	"Library",
	"Night Crew",
	"Optics",
	"Outreach",
	"Grounds",
	"Finance",
	"Personnel",
	"Safety",
	"Radio",
	"Solar",
	"Survey Planning",
	"Catering",
	"Transport",
}

var titles = []string{
	"Astronomer",
	"Night Observer",
	"Research Fellow",
	"Student",
	"Optical Engineer",
	"Detector Specialist",
	"Technician",
	"Archivist",
	"Data Curator",
	"Librarian",
	"Systems Administrator",
	"Software Developer",
	"Help Desk",
	"Accountant",
	"Personnel Officer",
	"Secretary",
	"Assistant",
	"Guide",
	"Presenter",
	"Shop Assistant",
	"Machinist",
	"Electrician",
	"Caretaker",
	"Driver",
	"Gardener",
	"Cook",
	"Planner",
	"Welder",
	"Photographer",
	"Translator",
}

var places = []string{"Moor Top", "Valley Office", "Southern Station", "Harbour", "Radio Field"}

func (h *house) somebody() *person {
	h.n++
	p := &person{
		id:         strconv.Itoa(100000 + h.n*7),
		dirt:       map[string]bool{},
		department: pick(h, departments),
		title:      pick(h, titles),
		place:      pick(h, places),
		custom:     h.rand.IntN(5),
	}
	for _, r := range Rates {
		if h.chance(r.Kind) {
			p.dirt[r.Kind] = true
		}
	}
	at, _ := slices.BinarySearch(h.weights, h.rand.Float64()*h.weights[len(h.weights)-1])
	p.culture, p.woman = h.cultures[at], h.rand.IntN(2) == 0
	h.christen(p)
	p.start = AsOf.AddDate(0, 0, -30-h.rand.IntN(6000)).Truncate(24 * time.Hour)
	if h.last != nil && p.dirt["namesake"] {
		l := h.last
		p.culture, p.family, p.second, p.given, p.woman = l.culture, l.family, l.second, l.given, l.woman
	}
	return p
}

// christen gives somebody their names.
func (h *house) christen(p *person) {
	givens := p.men
	if p.woman {
		givens = p.women
	}
	p.family, p.given, p.middle = h.family(p), h.common(givens), h.common(givens)
	if p.doubled && h.rand.Float64() < .9 || h.rand.Float64() < .02 {
		p.second = h.family(p)
	}
}

func (h *house) family(p *person) name {
	if p.woman {
		return h.common(p.womensFamilies)
	}
	return h.common(p.families)
}

// place puts a person on the roster and their accounts into the directory.
func (h *house) place(p *person) {
	if p.dirt["left"] {
		p.left = AsOf.AddDate(0, 0, -2-h.rand.IntN(900)).Truncate(24 * time.Hour)
		if p.left.Before(p.start) {
			p.start = p.left.AddDate(-1, 0, 0)
		}
		h.numbers = append(h.numbers, p.id)
	} else if p.dirt["reused number"] && len(h.numbers) > 0 {
		p.id = pick(h, h.numbers)
	}
	if p.dirt["shared number"] && h.last != nil && h.last.id != "" {
		p.id = h.last.id
	}
	p.logon = h.logon(p)
	p.mail = p.logon + "@larkmoor.example"
	if h.byMail {
		p.mail = h.address(p)
	}
	none := p.dirt["no account"]
	if none && p.left.IsZero() {
		p.mail = ""
	}
	h.person(p)
	if p.left.IsZero() && p.dirt["namesake who left"] {
		h.goneNamesake(p)
	}
	if !p.left.IsZero() && h.rand.Float64() < .35 {
		if p.dirt["address of a leaver"] || h.rand.Float64() < .05 {
			h.heir(p)
		}
		return
	}
	if none {
		return
	}
	h.account(p, p.logon, p.rows)
	if p.dirt["second account"] {
		logon := "a-" + p.logon
		h.entry("CN="+logon+",OU=Staff,"+base, "objectClass", "user", "objectSid", muddle.SID(h.n+1<<21),
			"sAMAccountName", logon, "displayName", logon, "userAccountControl", "512", "whenCreated",
			"20200101000000.0Z", "accountExpires", "0")
		h.owned(logon, p, p.rows)
	}
	if p.dirt["further account"] {
		logon := p.logon + pick(h, []string{"-test", "_lab", "2"})
		if !h.taken[logon] {
			h.taken[logon] = true
			given, family := h.latin(p, p.given), h.latin(p, p.family)
			h.entry("CN="+directory.EscapeDN(given+" "+family+" "+logon)+",OU=Staff,"+base, "objectClass", "user",
				"objectSid", muddle.SID(h.n+1<<22), "sAMAccountName", logon, "givenName", given, "sn", family,
				"displayName", given+" "+family+pick(h, []string{"", " (Test)"}), "userAccountControl", "512",
				"whenCreated", stamp(p.start.AddDate(1, 2, 0)), "accountExpires", "0")
			h.owned(logon, p, p.rows)
		}
	}
}

// goneNamesake puts somebody of the same name on the roster who left before.
func (h *house) goneNamesake(p *person) {
	other := *p
	h.n++
	other.id, other.rows = strconv.Itoa(100000+h.n*7), nil
	other.dirt = map[string]bool{"no mail in roster": h.rand.IntN(2) == 0}
	other.department, other.title = pick(h, departments), pick(h, titles)
	other.left = p.start.AddDate(0, -h.rand.IntN(30)-3, 0)
	other.start = other.left.AddDate(-2, 0, 0)
	other.mail = h.plain(p.latinOf(other.given)) + "." + h.plain(p.latinOf(other.family)) + "1@larkmoor.example"
	if h.rand.IntN(3) == 0 {
		other.mail = p.mail // it was given on
	}
	h.person(&other)
}

// heir is somebody new who has the logon name and the address of one who left.
func (h *house) heir(p *person) {
	next := h.somebody()
	next.culture, next.woman = p.culture, p.woman
	h.christen(next)
	next.family = p.family
	next.logon, next.mail, next.start = p.logon, p.mail, p.left.AddDate(0, 4, 0)
	delete(next.dirt, "no account")
	if next.start.After(AsOf) {
		return
	}
	if h.rand.IntN(2) == 0 {
		h.person(next)
	}
	h.account(next, next.logon, next.rows)
}

// latin writes a name in Latin letters, by the custom of whoever made the
// account.
func (h *house) latin(p *person, n name) string {
	if len(n.latin) == 0 {
		return n.native
	}
	if p.dirt["other romanisation"] {
		return n.latin[p.custom%len(n.latin)]
	}
	return n.latin[0]
}

func (p *person) latinOf(n name) string {
	if len(n.latin) == 0 {
		return n.native
	}
	return n.latin[0]
}

// plain is a text in the letters that logon names have.
func (h *house) plain(text string) string {
	text = strings.NewReplacer("ß", "ss", "ø", "o", "Ø", "O", "ł", "l", "Ł", "L", "đ", "d", "Đ", "D", "ð", "d", "Ð", "D", "þ", "th", "Þ", "Th", "æ", "ae", "Æ", "Ae", "ı", "i", "œ", "oe", "ə", "e").
		Replace(text)
	var b strings.Builder
	for _, r := range norm.NFD.String(text) {
		switch {
		case unicode.IsLetter(r) && r < 128 || unicode.IsDigit(r):
			b.WriteRune(unicode.ToLower(r))
		}
	}
	return b.String()
}

func first(s string, n int) string { return s[:min(n, len(s))] }

// habits are how logon names are made.
var habits = []func(given, family string, initials string) string{
	func(g, f, _ string) string { return first(g, 1) + f },
	func(g, f, _ string) string { return g + "." + f },
	func(g, f, _ string) string { return first(f, 6) + first(g, 2) },
	func(g, f, _ string) string { return f + first(g, 1) },
	func(g, f, _ string) string { return first(g, 3) + first(f, 3) },
	func(g, f, i string) string { return g + i },
	func(g, f, _ string) string { return first(g, 1) + "." + f },
	func(g, f, _ string) string { return f },
}

func (h *house) logon(p *person) string {
	habit := h.habits[0]
	if p.start.After(h.changed) {
		habit = h.habits[1]
	}
	givens := strings.FieldsFunc(p.latinOf(p.given), func(r rune) bool { return r == ' ' || r == '-' })
	given, initials := givens[0], p.latinOf(p.family)
	if p.name == "vietnamese" {
		given = givens[len(givens)-1]
		for _, g := range givens[:len(givens)-1] {
			initials += " " + g
		}
	}
	letters := ""
	for _, word := range strings.Fields(initials) {
		letters += first(h.plain(word), 1)
	}
	given, family := h.plain(given), h.plain(p.latinOf(p.family))
	name := first(habits[habit](given, family, letters), 18)
	for n := 1; ; n++ {
		try := name
		if n > 1 {
			try += strconv.Itoa(n)
		}
		if len(try) > 1 && !h.taken[try] {
			h.taken[try] = true
			return try
		}
	}
}

func (h *house) address(p *person) string {
	name := h.plain(p.latinOf(p.given)) + "." + h.plain(p.latinOf(p.family))
	for n := 1; ; n++ {
		try := name
		if n == 1 && h.early && h.rand.IntN(2) == 0 {
			continue // whoever came before, or will come, has it
		}
		if n > 1 {
			try += strconv.Itoa(n)
		}
		if !h.taken["@"+try] {
			h.taken["@"+try] = true
			return try + "@larkmoor.example"
		}
	}
}

// shown is a value, but where the house lacks it.
func (h *house) shown(column, value string) string {
	if h.blank[column] {
		return ""
	}
	return value
}

func (h *house) row(cells ...string) { h.out.Rows = append(h.out.Rows, cells) }

var particles = []string{
	"von der ",
	"von ",
	"van der ",
	"van de ",
	"van den ",
	"van ",
	"de la ",
	"de ",
	"del ",
	"da ",
	"dos ",
	"di ",
	"Al-",
	"El ",
	"El",
	"Al",
	"bin ",
	"Ben ",
}

// person writes the roster's view of somebody: a row, or two where they went
// on under another number.
func (h *house) person(p *person) {
	family, given := h.rosterNames(p)
	id, mail := h.rosterKeys(p)
	add := func(id, mail string, start, end time.Time) {
		status := "active"
		ended := ""
		if !end.IsZero() {
			ended = end.Format(time.DateOnly)
			if end.Before(AsOf) {
				status = "left"
			}
		}
		department := p.department
		if h.rand.Float64() < .05 {
			department = ""
		}
		h.row(id, family, given, mail, department, p.title, h.shown("location", p.place),
			h.shown("start", start.Format(time.DateOnly)), ended, status)
		p.rows = append(p.rows, len(h.out.Rows)-1)
	}
	if p.left.IsZero() && (p.dirt["transfer"] || p.dirt["return"]) && AsOf.Sub(p.start) > 500*24*time.Hour {
		end := AsOf.AddDate(0, 0, -40-h.rand.IntN(300)).Truncate(24 * time.Hour)
		gap := 1
		if p.dirt["return"] {
			gap = 20 + h.rand.IntN(250)
		}
		if again := end.AddDate(0, 0, gap); again.Before(AsOf) {
			h.n++
			other := h.prefix + strconv.Itoa(100000+h.n*7)
			add(id, mail, p.start, end)
			add(other, pick(h, []string{"", mail}), again, time.Time{})
			return
		}
	}
	add(id, mail, p.start, p.left)
}

// rosterNames are somebody's names as the personnel office has them.
func (h *house) rosterNames(p *person) (family, given string) {
	write := func(n name) string {
		if h.native && !p.dirt["Latin in roster"] || len(n.latin) == 0 {
			return n.native
		}
		return n.latin[0]
	}
	family, given = write(p.family), write(p.given)
	if p.second.native != "" {
		family += pick(h, []string{" ", "-"}) + write(p.second)
	}
	if p.dirt["married"] {
		family = write(h.family(p))
	} else if p.dirt["married, double"] {
		family += "-" + write(h.family(p))
	}
	if p.dirt["middle name in roster"] {
		given = p.withMiddle(given, write(p.middle))
	}
	if (p.name == "russian" || p.name == "ukrainian") && p.dirt["patronymic"] && family == p.family.native {
		given += " " + pick(h, []string{"Иванович", "Петрович", "Сергеевич", "Андреевич"})
	}
	if p.dirt["family typo"] {
		family = h.slip(family)
	}
	switch {
	case p.dirt["title"]:
		given = pick(h, []string{"Dr. ", "Prof. ", "Ing. ", "Mgr. ", "Dipl.-Ing. "}) + given
	case p.dirt["suffix"]:
		family += pick(h, []string{" Jr.", ", MBA", " III", ", PhD", " MSc"})
	}
	if p.dirt["capitals"] {
		family = strings.ToUpper(family)
	}
	if p.single && h.rand.Float64() < .15 {
		family = pick(h, []string{given, ".", "-", ""})
	}
	if p.dirt["swapped"] {
		return given, family
	}
	return family, given
}

// rosterKeys are somebody's number and address as the personnel office has them.
func (h *house) rosterKeys(p *person) (id, mail string) {
	id, mail = h.prefix+p.id, p.mail
	if p.dirt["no id in roster"] {
		id = ""
	}
	switch {
	case p.dirt["no mail in roster"]:
		mail = ""
	case p.dirt["private mail"]:
		mail = h.plain(p.latinOf(p.given)) + strconv.Itoa(h.rand.IntN(1000)) + "@post.example"
	case p.dirt["mail of other domain"] && mail != "":
		mail = strings.Replace(mail, "larkmoor.example", "moor.example", 1)
	}
	return id, mail
}

// withMiddle puts a middle name where it stands: in Vietnam in front of the
// name that somebody is called by.
func (p *person) withMiddle(given, middle string) string {
	if p.name == "vietnamese" {
		return middle + " " + given
	}
	return given + " " + middle
}

// account writes the directory's view of somebody.
func (h *house) account(p *person, logon string, rows []int) {
	family, given := h.directoryNames(p)
	id := h.directoryID(p)
	department, title := h.directoryPost(p)
	made := h.madeOn(p)
	flags := "512"
	if !p.left.IsZero() && h.rand.Float64() < .7 {
		flags = "514"
	}
	cn, display := h.shownAs(p, family, given, department)
	mail := p.mail
	if mail == "" {
		mail = logon + "@larkmoor.example"
	}
	if p.dirt["no mail in directory"] {
		mail = ""
	}
	if p.dirt["no name parts"] {
		family, given = "", ""
	} else if p.dirt["no display name"] {
		display = ""
	}
	h.entry("CN="+directory.EscapeDN(cn+" "+logon)+",OU=Staff,"+base, "objectClass", "user", "objectSid",
		muddle.SID(h.n), "sAMAccountName", logon, "givenName", given, "sn", family, "displayName", display, "mail",
		mail, "userPrincipalName", logon+"@larkmoor.example", "employeeID", id, "department", department, "title",
		title, "l", p.place, "userAccountControl", flags, "whenCreated", stamp(made), "accountExpires", "0",
		"lastLogonTimestamp", directory.FormatFileTime(AsOf.AddDate(0, 0, -3)))
	if rows != nil {
		h.owned(logon, p, rows)
	}
}

// directoryNames are somebody's names as whoever made the account wrote them.
func (h *house) directoryNames(p *person) (family, given string) {
	write := h.latin
	if p.native && p.dirt["own script in directory"] {
		write = func(_ *person, n name) string { return n.native }
	}
	givenName := p.given
	if short := shortForms[p.given.native]; short != "" && p.dirt["short form"] {
		givenName = name{native: short}
		if l := shortLatin[short]; l != "" {
			givenName.latin = []string{l}
		}
	}
	family, given = write(p, p.family), write(p, givenName)
	if p.second.native != "" && !p.dirt["half of a double name"] {
		family += " " + write(p, p.second)
	}
	if p.dirt["given typo"] {
		given = h.slip(given)
	}
	if p.dirt["initial only"] {
		given = string([]rune(write(p, p.given))[:1]) + "."
	}
	if p.dirt["middle name in directory"] {
		given = p.withMiddle(given, write(p, p.middle))
	} else if p.dirt["middle initial"] {
		given += " " + string([]rune(write(p, p.middle))[:1]) + "."
	}
	if p.dirt["particle dropped"] {
		for _, particle := range particles {
			if p.name != "arabic" && len(particle) == 2 {
				break // the beginning of many other names
			}
			if rest, ok := strings.CutPrefix(family, particle); ok && len(rest) > 3 {
				family = strings.ToUpper(rest[:1]) + rest[1:]
				break
			}
		}
	}
	if p.dirt["digraphs"] {
		family, given = digraphs.Replace(family), digraphs.Replace(given)
	}
	if p.dirt["no diacritics"] {
		family, given = h.bare(family), h.bare(given)
	}
	return family, given
}

// directoryID is the number that an account has.
func (h *house) directoryID(p *person) string {
	switch {
	case p.dirt["no id in directory"]:
		return ""
	case p.dirt["wrong id"]:
		return h.prefix + strconv.Itoa(100000+7*(1+h.rand.IntN(h.n)))
	case p.dirt["id of other numbering"]:
		return pick(h, []string{p.id, "0000" + p.id, "P-" + p.id})
	}
	return h.prefix + p.id
}

// directoryPost is the department and the title that an account has.
func (h *house) directoryPost(p *person) (department, title string) {
	department, title = p.department, p.title
	if p.dirt["other department"] {
		department = pick(h, departments)
	}
	if p.dirt["other title"] {
		title = pick(h, titles)
	}
	if h.abroad {
		department = "Dept. " + department[:4]
	}
	return h.shown("department", department), h.shown("title", title)
}

// madeOn is when an account was made.
func (h *house) madeOn(p *person) time.Time {
	made := p.start.AddDate(0, 0, h.rand.IntN(14)-7)
	if p.dirt["migrated account"] {
		made = time.Date(2019, 6, 3, 12, 0, 0, 0, time.UTC)
		if p.start.After(made) {
			made = p.start.AddDate(0, 2, 0)
		}
	}
	if made.After(AsOf) {
		return AsOf.AddDate(0, 0, -1)
	}
	return made
}

// shownAs is the name of an entry, and what it is shown as.
func (h *house) shownAs(p *person, family, given, department string) (cn, display string) {
	display = given + " " + family
	switch {
	case p.familyFirst && h.rand.IntN(2) == 0:
		display = family + " " + given
	case h.reversed:
		display = family + ", " + given
	}
	cn = display
	if p.dirt["title"] && h.rand.IntN(2) == 0 {
		display = pick(h, []string{"Dr. ", "Prof. Dr. ", "Mgr. "}) + display
	}
	if p.dirt["text behind the name"] {
		display += pick(h,
			[]string{" - Office", " (Contractor)", " (" + department + ")", " / " + department, " [ext]"})
	}
	return cn, display
}

func (h *house) owned(logon string, p *person, rows []int) {
	h.out.Owner[logon], h.out.Culture[logon] = rows, p.name
	for _, r := range Rates {
		if p.dirt[r.Kind] {
			h.out.Dirt[logon] = append(h.out.Dirt[logon], r.Kind)
		}
	}
}

// machines are accounts that are no person's.
func (h *house) machines(n int) {
	for i := range n {
		logon := []string{"svc-backup", "svc_print", "room", "front.office", "scanner", "sql-agent", "training", "test", "kiosk", "intern"}[i%10] + strconv.Itoa(
			i/10+1,
		)
		display := []string{"Backup Service", "Print Service", "Meeting Room", "Front Office", "Scanner", "SQL Agent", "Training", "Test User", "Kiosk", "Intern"}[i%10] + " " + strconv.Itoa(
			i/10+1,
		)
		h.entry("CN="+display+",OU=Staff,"+base, "objectClass", "user", "objectSid", muddle.SID(i+1<<23),
			"sAMAccountName", logon, "displayName", display, "userAccountControl", "512", "whenCreated",
			stamp(AsOf.AddDate(0, 0, -h.rand.IntN(3000)-40)), "accountExpires", "0")
	}
}

var digraphs = strings.NewReplacer("ä", "ae", "ö", "oe", "ü", "ue", "Ä", "Ae", "Ö", "Oe", "Ü", "Ue", "å", "aa", "Å",
	"Aa", "ø", "oe", "Ø", "Oe", "ß", "ss")

// bare is a text without diacritics.
func (h *house) bare(text string) string {
	text = strings.NewReplacer("ø", "o", "Ø", "O", "ł", "l", "Ł", "L", "đ", "d", "Đ", "D", "ð", "d", "þ", "th", "Þ", "Th", "æ", "ae", "ı", "i", "İ", "I").
		Replace(text)
	var b strings.Builder
	for _, r := range norm.NFD.String(text) {
		if !unicode.Is(unicode.Mn, r) || r > 0x370 {
			b.WriteRune(r)
		}
	}
	return norm.NFC.String(b.String())
}

// slip makes a typing error, of a letter that the name has.
func (h *house) slip(s string) string {
	return muddle.Slip(h.rand, s, func(r []rune) rune { return r[h.rand.IntN(len(r))] })
}

func stamp(t time.Time) string { return t.UTC().Format("20060102150405") + ".0Z" }

func (h *house) entry(dn string, pairs ...string) {
	h.out.Entries = append(h.out.Entries, muddle.Entry(h.rand, dn, pairs...))
}
