// Package muddle makes rosters and directories of made-up people that
// disagree as those of real houses do, together with the truth of who has
// which account. It knows nothing of how they are matched.
package muddle

import (
	"encoding/csv"
	"fmt"
	"io"
	"math"
	"math/rand/v2"
	"strconv"
	"strings"
	"time"

	"yardbroom/internal/directory"
	"yardbroom/internal/ldif"
)

// Dirt is how often things are wrong, as shares of people, from 0 to 1.
type Dirt struct {
	Name string

	NoIDInDirectory, NoIDInRoster, WrongID float64
	NoMail, PrivateMail                    float64
	FamilyTypo, GivenTypo                  float64
	ShortForm, InitialOnly                 float64
	Married, Swapped, HalfName             float64
	OtherLetters                           float64 // written in their own script on one side
	Namesake                               float64 // somebody else bears the same name
	OtherDepartment, OtherTitle            float64
	OldAccount                             float64 // made at another time than the first day
	Recycled                               float64 // the logon name and address were somebody's who left
	Left, NoAccount, NoPerson              float64
	Second                                 float64 // has an administrator's account too
	NamesOnly                              bool    // the roster has two columns
}

// Levels are the strengths of dirt that are measured.
var Levels = []Dirt{
	{
		Name:            "clean",
		NoIDInDirectory: 0.01,
		NoMail:          0.02,
		OtherLetters:    0.02,
		Namesake:        0.005,
		OtherDepartment: 0.02,
		OtherTitle:      0.02,
		OldAccount:      0.05,
		Left:            0.05,
		NoAccount:       0.02,
		NoPerson:        0.02,
		Second:          0.01,
	},
	{
		Name:            "light",
		NoIDInDirectory: 0.10,
		NoIDInRoster:    0.01,
		WrongID:         0.002,
		NoMail:          0.10,
		PrivateMail:     0.02,
		FamilyTypo:      0.01,
		GivenTypo:       0.01,
		ShortForm:       0.03,
		InitialOnly:     0.01,
		Married:         0.01,
		Swapped:         0.005,
		HalfName:        0.01,
		OtherLetters:    0.03,
		Namesake:        0.01,
		OtherDepartment: 0.05,
		OtherTitle:      0.05,
		OldAccount:      0.10,
		Recycled:        0.005,
		Left:            0.06,
		NoAccount:       0.03,
		NoPerson:        0.03,
		Second:          0.01,
	},
	{
		Name:            "medium",
		NoIDInDirectory: 0.35,
		NoIDInRoster:    0.03,
		WrongID:         0.005,
		NoMail:          0.35,
		PrivateMail:     0.04,
		FamilyTypo:      0.02,
		GivenTypo:       0.02,
		ShortForm:       0.05,
		InitialOnly:     0.02,
		Married:         0.02,
		Swapped:         0.01,
		HalfName:        0.02,
		OtherLetters:    0.05,
		Namesake:        0.02,
		OtherDepartment: 0.10,
		OtherTitle:      0.10,
		OldAccount:      0.15,
		Recycled:        0.01,
		Left:            0.08,
		NoAccount:       0.05,
		NoPerson:        0.05,
		Second:          0.02,
	},
	{
		Name:            "heavy",
		NoIDInDirectory: 0.60,
		NoIDInRoster:    0.05,
		WrongID:         0.005,
		NoMail:          0.60,
		PrivateMail:     0.05,
		FamilyTypo:      0.03,
		GivenTypo:       0.03,
		ShortForm:       0.06,
		InitialOnly:     0.02,
		Married:         0.03,
		Swapped:         0.02,
		HalfName:        0.03,
		OtherLetters:    0.05,
		Namesake:        0.03,
		OtherDepartment: 0.15,
		OtherTitle:      0.15,
		OldAccount:      0.20,
		Recycled:        0.01,
		Left:            0.10,
		NoAccount:       0.06,
		NoPerson:        0.06,
		Second:          0.02,
	},
	{
		Name:            "names only",
		NamesOnly:       true,
		NoIDInDirectory: 1,
		NoMail:          1,
		FamilyTypo:      0.01,
		GivenTypo:       0.01,
		ShortForm:       0.03,
		OtherLetters:    0.02,
		Namesake:        0.01,
		NoAccount:       0.03,
		NoPerson:        0.03,
	},
}

// AsOf is the moment that all days are relative to.
var AsOf = time.Date(2026, 11, 2, 9, 0, 0, 0, time.UTC)

// Case is a roster and a directory, and who has which account.
type Case struct {
	Entries []directory.Entry
	Rows    [][]string // with a header
	// Owner is the row, from 1, of the person whose account a logon name is;
	// accounts of nobody on the roster are not in it.
	Owner map[string]int
	// First are the logon names of ordinary accounts, one a person.
	First map[string]bool
}

const base = "DC=larkmoor,DC=example"

type maker struct {
	Dirt
	rand   *rand.Rand
	logons map[string]bool
	out    *Case
	n      int
}

// Make makes a case with so many people.
func Make(d Dirt, people int, seed uint64) *Case {
	m := &maker{
		Dirt:   d,
		rand:   rand.New(rand.NewPCG(seed, 11)),
		logons: map[string]bool{},
		out:    &Case{Owner: map[string]int{}, First: map[string]bool{}},
	}
	m.entry(base, "objectClass", "domainDNS", "objectSid", SID(0))
	m.entry("OU=Staff,"+base, "objectClass", "organizationalUnit")
	m.row("Badge no", "Last name", "First name", "E-mail", "Department", "Job title", "Start", "End", "Status")
	var last *somebody
	for range people {
		p := m.somebody()
		if last != nil && m.chance(m.Namesake) {
			p.family, p.given = last.family, last.given
		}
		m.place(&p)
		last = &p
	}
	for range int(float64(people) * m.NoPerson) { // contractors and machines that HR does not know
		p := m.somebody()
		m.account(&p, p.logonOf(m), 0)
	}
	return m.out
}

// somebody is the truth about a person.
type somebody struct {
	family, given     variants
	department, title int
	start, left       time.Time
	id, mail, logon   string
}

func (m *maker) chance(p float64) bool { return m.rand.Float64() < p }

// common picks one of n, the first ones more often: of 3,000 the first one
// for about two people in a hundred, as with real family names.
func (m *maker) common(n int) int {
	return int(float64(n) * math.Pow(m.rand.Float64(), 2))
}

func (m *maker) somebody() somebody {
	m.n++
	p := somebody{department: m.rand.IntN(12), title: m.rand.IntN(25), id: strconv.Itoa(100000 + m.n*7)}
	p.start = AsOf.AddDate(0, 0, -30-m.rand.IntN(6000)).Truncate(24 * time.Hour)
	if m.chance(m.OtherLetters) {
		p.family, p.given = foreignFamilies[m.rand.IntN(len(foreignFamilies))], foreignGivens[m.rand.IntN(len(foreignGivens))]
	} else {
		p.family, p.given = plainFamily(m.common(familyCount)), givens[m.common(len(givens))]
		if m.chance(0.03) {
			other := plainFamily(m.common(familyCount))
			p.family = variants{written: p.family.written + "-" + other.written, plain: p.family.plain + other.plain, half: p.family.written}
		}
	}
	return p
}

// logonOf gives a logon name: the initial and the family name, with a number
// where it is taken.
func (p *somebody) logonOf(m *maker) string {
	name := strings.ToLower(p.given.plain[:1] + p.family.plain)
	if len(name) > 18 {
		name = name[:18]
	}
	for n := 1; ; n++ {
		try := name
		if n > 1 {
			try += strconv.Itoa(n)
		}
		if !m.logons[try] {
			m.logons[try] = true
			return try
		}
	}
}

// place puts a person on the roster, and their accounts into the directory.
func (m *maker) place(p *somebody) {
	if m.chance(m.Left) {
		p.left = AsOf.AddDate(0, 0, -1-m.rand.IntN(900)).Truncate(24 * time.Hour)
		if p.left.Before(p.start) {
			p.start = p.left.AddDate(-1, 0, 0)
		}
	}
	p.logon = p.logonOf(m)
	p.mail = p.logon + "@larkmoor.example"
	row := len(m.out.Rows) // the header is row 0 here and line 1 there
	none := m.chance(m.NoAccount)
	if none && p.left.IsZero() {
		p.mail = "" // nobody gave them one
	}
	m.person(p)
	if !p.left.IsZero() && m.chance(0.3) || none {
		if !p.left.IsZero() && m.chance(m.Recycled*10) { // somebody new has the address now
			next := m.somebody()
			next.family, next.mail = p.family, ""
			for range 50 { // mostly somebody whose initial is the same
				if next.given = givens[m.rand.IntN(len(givens))]; next.given.plain[0] == p.given.plain[0] &&
					next.given.plain != p.given.plain {
					break
				}
			}
			next.start = p.left.AddDate(0, 4, 0)
			if next.start.After(AsOf) {
				return
			}
			next.logon, next.mail = p.logon, p.mail
			m.logons[next.logon] = true
			at := len(m.out.Rows)
			if m.chance(0.5) {
				at = 0 // not on the roster yet
			} else {
				m.person(&next)
			}
			m.account(&next, next.logon, at)
		}
		return
	}
	m.account(p, p.logon, row)
	m.out.First[p.logon] = true
	if m.chance(m.Second) {
		m.second(p, row)
	}
}

func (m *maker) row(cells ...string) { m.out.Rows = append(m.out.Rows, cells) }

// person writes the roster's view of somebody.
func (m *maker) person(p *somebody) {
	family, given := p.family.written, p.given.written
	if m.NamesOnly {
		m.row(family, given)
		return
	}
	id, mail, end, status := p.id, p.mail, "", "active"
	if m.chance(m.NoIDInRoster) {
		id = ""
	}
	switch {
	case m.chance(m.NoMail):
		mail = ""
	case m.chance(m.PrivateMail):
		mail = strings.ToLower(p.given.plain) + strconv.Itoa(m.rand.IntN(1000)) + "@post.example"
	}
	if m.chance(m.Married) {
		family = plainFamily(m.common(familyCount)).written
	}
	if m.chance(m.FamilyTypo) {
		family = m.slip(family)
	}
	if m.chance(m.HalfName) && p.family.half != "" {
		family = p.family.half
	}
	if m.chance(m.Swapped) {
		family, given = given, family
	}
	if !p.left.IsZero() {
		end, status = p.left.Format(time.DateOnly), "left"
	}
	department, title := departments[p.department], titles[p.title]
	if m.chance(0.05) {
		department = ""
	}
	m.row(id, family, given, mail, department, title, p.start.Format(time.DateOnly), end, status)
}

// account writes the directory's view of somebody; row is their row, 0 for
// somebody who is on no roster.
func (m *maker) account(p *somebody, logon string, row int) {
	family, given := p.family.written, p.given.written
	if p.family.native != "" && m.chance(0.5) {
		family, given = p.family.native, p.given.native
	}
	if m.chance(m.ShortForm) && p.given.short != "" {
		given = p.given.short
	}
	if m.chance(m.GivenTypo) {
		given = m.slip(given)
	}
	if m.chance(m.InitialOnly) {
		given = p.given.plain[:1] + "."
	}
	id := p.id
	if m.chance(m.NoIDInDirectory) {
		id = ""
	}
	if id != "" && m.chance(m.WrongID) {
		id = strconv.Itoa(100000 + m.rand.IntN(m.n*7+1)) // perhaps somebody else's
	}
	department, title := departments[p.department], titles[p.title]
	if m.chance(m.OtherDepartment) {
		department = departments[m.rand.IntN(len(departments))]
	}
	if m.chance(m.OtherTitle) {
		title = titles[m.rand.IntN(len(titles))]
	}
	made := p.start.AddDate(0, 0, m.rand.IntN(14)-7)
	if m.chance(m.OldAccount) {
		made = time.Date(2019, 6, 3, 12, 0, 0, 0, time.UTC) // when the directory was moved
		if p.start.After(made) {
			made = p.start.AddDate(0, 2, 0)
		}
	}
	if made.After(AsOf) {
		made = AsOf.AddDate(0, 0, -1)
	}
	flags := "512"
	if !p.left.IsZero() && m.chance(0.7) {
		flags = "514"
	}
	m.entry("CN="+directory.EscapeDN(given+" "+family+" "+logon)+",OU=Staff,"+base, "objectClass", "user", "objectSid",
		SID(m.n), "sAMAccountName", logon, "givenName", given, "sn", family, "displayName", given+" "+family, "mail",
		logon+"@larkmoor.example", "userPrincipalName", logon+"@larkmoor.example", "employeeID", id, "department",
		department, "title", title, "userAccountControl", flags, "whenCreated", made.Format("20060102150405")+".0Z",
		"accountExpires", "0", "lastLogonTimestamp", directory.FormatFileTime(AsOf.AddDate(0, 0, -3)))
	if row > 0 {
		m.out.Owner[logon] = row
	}
}

// second writes an administrator's account.
func (m *maker) second(p *somebody, row int) {
	logon := "a-" + p.logon
	m.entry("CN="+logon+",OU=Staff,"+base, "objectClass", "user", "objectSid", SID(m.n+1<<20), "sAMAccountName", logon,
		"displayName", logon, "userAccountControl", "512", "whenCreated", "20200101000000.0Z", "accountExpires", "0")
	m.out.Owner[logon] = row
}

// slip makes a typing error, of any letter.
func (m *maker) slip(s string) string {
	return Slip(m.rand, s, func([]rune) rune { return rune('a' + m.rand.IntN(26)) })
}

// Slip makes a typing error: two letters swapped, one missing, one too many, or
// another one. A short text stays as it is.
func Slip(random *rand.Rand, s string, letter func(of []rune) rune) string {
	r := []rune(s)
	if len(r) < 4 {
		return s
	}
	at := 1 + random.IntN(len(r)-2)
	switch random.IntN(4) {
	case 0:
		r[at], r[at+1] = r[at+1], r[at]
	case 1:
		r = append(r[:at], r[at+1:]...)
	case 2:
		r = append(r[:at], append([]rune{letter(r)}, r[at:]...)...)
	default:
		r[at] = letter(r)
	}
	return string(r)
}

func (m *maker) entry(dn string, pairs ...string) {
	m.out.Entries = append(m.out.Entries, Entry(m.rand, dn, pairs...))
}

// Entry makes an entry of pairs of attribute and value, but for blank ones,
// with an identity taken at random.
func Entry(r *rand.Rand, dn string, pairs ...string) directory.Entry {
	e := directory.Entry{DN: dn}
	for i := 0; i < len(pairs); i += 2 {
		if pairs[i+1] != "" {
			e.Set(pairs[i], pairs[i+1])
		}
	}
	guid := make([]byte, 16)
	for i := range guid {
		guid[i] = byte(r.Uint32())
	}
	e.Set("objectGUID", string(guid))
	return e
}

// SID is the n-th SID of the domain that all accounts are made in, the
// domain's own for 0.
func SID(n int) string {
	text := "S-1-5-21-1-2-3"
	if n > 0 {
		text += "-" + strconv.Itoa(1000+n)
	}
	raw, err := directory.EncodeSID(text)
	if err != nil {
		panic(err) // it is well-formed
	}
	return raw
}

// WriteLDIF writes the entries of a directory.
func WriteLDIF(w io.Writer, entries []directory.Entry) error {
	out := ldif.NewWriter(w)
	for i := range entries {
		if err := out.Write(&entries[i]); err != nil {
			return err
		}
	}
	return out.Flush()
}

// WriteLDIF writes the directory.
func (c *Case) WriteLDIF(w io.Writer) error { return WriteLDIF(w, c.Entries) }

// WriteRoster writes the roster.
func (c *Case) WriteRoster(w io.Writer) error {
	out := csv.NewWriter(w)
	rows := c.Rows
	if len(rows) > 1 && len(rows[1]) == 2 {
		rows = append([][]string{{"Last name", "First name"}}, rows[1:]...)
	}
	if err := out.WriteAll(rows); err != nil {
		return fmt.Errorf("writing the roster: %w", err)
	}
	return nil
}
