package reconcile

import (
	"fmt"
	"math/rand/v2"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/directory"
	"yardbroom/internal/roster"
)

var second = regexp.MustCompile("^a-")

// people reads a roster: a line a person, fields between bars in the order id,
// family, given, mail, department, start, end, logon, title.
func people(t *testing.T, lines ...string) []roster.Person {
	t.Helper()
	text := "id|family|given|mail|department|start|end|logon|title|manager\n" + strings.Join(lines, "\n") + "\n"
	r, err := roster.Read(strings.NewReader(text), "people", roster.Options{})
	require.NoError(t, err)
	require.Empty(t, r.Bad)
	return r.People(time.Date(2026, 11, 2, 0, 0, 0, 0, time.UTC), roster.TrustStatus)
}

// accounts makes a survey: an account a text, "logon attribute=value …", with
// + for a blank in a value.
func accounts(texts ...string) *directory.Survey {
	s := directory.NewSurvey(directory.AD)
	part := s.NewPart(len(texts), directory.AttrSet{})
	for i, text := range texts {
		words := strings.Fields(text)
		e := directory.Entry{DN: "CN=" + words[0] + ",OU=Staff,DC=larkmoor,DC=example"}
		e.Set("objectClass", "user")
		e.Set("sAMAccountName", words[0])
		e.Set("userAccountControl", "512")
		e.Set("objectGUID", fmt.Sprintf("guid-%012d", i))
		for _, w := range words[1:] {
			name, value, _ := strings.Cut(w, "=")
			e.Set(name, strings.ReplaceAll(value, "+", " "))
		}
		part.Add(directory.AD, &e)
	}
	s.Merge(part)
	return s
}

// told writes a result briefly: pairs as "logon=id key", doubts as
// "logon?id,id".
func told(r *Result) []string {
	out := []string{}
	who := func(p int) string { return r.People[p].Values[roster.PersonID] }
	for _, p := range r.Pairs {
		sure := ""
		if p.Sure {
			sure = "!"
		}
		out = append(out, p.Account.Logon+"="+who(p.Person)+" "+string(p.By)+sure)
	}
	for _, d := range r.Doubts {
		var ids []string
		for _, c := range d.Candidates {
			ids = append(ids, who(c.Person))
		}
		slices.Sort(ids)
		out = append(out, d.Account.Logon+"?"+strings.Join(ids, ","))
	}
	slices.Sort(out)
	return out
}

func match(t *testing.T, who []roster.Person, s *directory.Survey, opt Options) *Result {
	t.Helper()
	opt.Second = second
	r, err := Run(who, s, opt)
	require.NoError(t, err)
	return r
}

// crowd are people and accounts that match without doubt, so that a case
// stands among others as it does in life.
func crowd(n int) (lines, texts []string) {
	fronts, backs := []string{"Ash", "Birch", "Crow", "Dale", "Elm", "Finch"}, []string{"bank", "croft", "dene", "ford", "holm", "mere", "stead", "wick"}
	givens := []string{"Clara", "Dov", "Edith", "Farid", "Greta", "Hugo", "Ines", "Jonas", "Kaja", "Leon"}
	for i := range n {
		family, given := fronts[i%6]+backs[i/6%8], givens[i%10]
		logon := strings.ToLower(given[:1]+family) + fmt.Sprint(i)
		lines = append(lines, fmt.Sprintf("9%03d|%s|%s|%s@larkmoor.example|Dept%d|2015-%02d-01||||", i, family, given, logon, i%9, 1+i%12))
		texts = append(texts, fmt.Sprintf("%s givenName=%s sn=%s mail=%s@larkmoor.example department=Dept%d employeeID=9%03d whenCreated=2015%02d03000000.0Z", logon, given, family, logon, i%9, i, 1+i%12))
	}
	return lines, texts
}

func TestWhoHasWhichAccount(t *testing.T) {
	for _, c := range []struct {
		name             string
		people, accounts []string
		opt              Options
		want             []string
	}{
		{"by person id, with zeros before it", []string{"17|Quill|Ada|||||||"}, []string{"aquill employeeID=00017 givenName=Ada sn=Quill"}, Options{}, []string{"aquill=17 person-id!"}},
		{"by mail, an alias", []string{"17|Quill|Ada|ada@larkmoor.example||||||"}, []string{"aquill proxyAddresses=smtp:Ada@larkmoor.example givenName=Ada sn=Quill"}, Options{}, []string{"aquill=17 mail"}},
		{"by an alias that something else bears out", []string{"17|Quill|Ada|ada@larkmoor.example|Domes|||||"}, []string{"aquill proxyAddresses=smtp:Ada@larkmoor.example givenName=Ada sn=Quill department=Domes"}, Options{}, []string{"aquill=17 mail!"}},
		{"an administrator's second account with the address of the first", []string{"17|Quill|Ada|ada@larkmoor.example||||||"}, []string{"aquill mail=ada@larkmoor.example givenName=Ada sn=Quill", "a-aquill mail=ada@larkmoor.example"}, Options{}, []string{"a-aquill=17 mail!", "aquill=17 mail!"}},
		{"by the sign-in name", []string{"17|Quill|Ada|ada@larkmoor.example||||||"}, []string{"x17 userPrincipalName=ada@larkmoor.example"}, Options{}, []string{"x17=17 principal"}},
		{"by the roster's logon name", []string{"17|Quill|Ada|||||x17||"}, []string{"x17 givenName=Ada"}, Options{}, []string{"x17=17 logon"}},
		{"two accounts of one person", []string{"17|Quill|Ada|ada@larkmoor.example||||||"}, []string{"aquill employeeID=17", "ada2 mail=ada@larkmoor.example givenName=Ada"}, Options{}, []string{"ada2=17 mail!", "aquill=17 person-id!"}},
		{"id and mail of different people", []string{"17|Quill|Ada|ada@larkmoor.example||||||", "18|Tern|Bram|bram@larkmoor.example||||||"}, []string{"x employeeID=17 mail=bram@larkmoor.example"}, Options{}, []string{"x?17,18"}},
		{"another given name under the same address", []string{"17|Quill|Ada|aquill@larkmoor.example|||2020-01-31|||"}, []string{"aquill mail=aquill@larkmoor.example givenName=Alan sn=Quill"}, Options{}, []string{"aquill?17"}},
		{"made long after the person left, and no id", []string{"17|Quill|Ada|aquill@larkmoor.example|||2020-01-31|||"}, []string{"aquill mail=aquill@larkmoor.example whenCreated=20200901000000.0Z"}, Options{}, []string{"aquill?17"}},
		{"married since", []string{"17|Tern|Ada|ada@larkmoor.example||||||"}, []string{"aquill mail=ada@larkmoor.example givenName=Ada sn=Quill employeeID=17"}, Options{}, []string{"aquill=17 person-id!"}},
		{"two keys of somebody of quite another name", []string{"17|Quill|Ada|ada@larkmoor.example||||||"}, []string{"btern mail=ada@larkmoor.example givenName=Bram sn=Tern employeeID=17"}, Options{}, []string{"btern=17 person-id"}},
		{"an id with another family name and nothing else", []string{"17|Tern|Ada|||||||"}, []string{"aquill givenName=Ada sn=Quill employeeID=17"}, Options{}, []string{"aquill?17"}},
		{"ids that differ under one address", []string{"17|Quill|Ada|ada@larkmoor.example||||||", "18|Tern|Bram|||||||"}, []string{"aquill mail=ada@larkmoor.example employeeID=23", "b employeeID=18"}, Options{}, []string{"aquill?17", "b=18 person-id!"}},
		{"one address on two people is no key", []string{"17|Quill|Ada|reception@larkmoor.example||||||", "18|Tern|Bram|reception@larkmoor.example||||||"}, []string{"aquill mail=reception@larkmoor.example employeeID=17", "front mail=reception@larkmoor.example"}, Options{}, []string{"aquill=17 person-id!"}},
		{"a machine's account with its keeper's address", []string{"17|Quill|Ada|ada@larkmoor.example||||||"}, []string{"aquill givenName=Ada mail=ada@larkmoor.example", "svc-dome mail=ada@larkmoor.example"}, Options{}, []string{"aquill=17 mail", "svc-dome?17"}},
		{"an administrator's second account", []string{"17|Quill|Ada|||||||"}, []string{"aquill employeeID=17", "a-aquill", "a-btern"}, Options{}, []string{"a-aquill=17 second", "aquill=17 person-id!"}},
		{"by name alone", []string{"17|Moorcroft|Yara|||||||"}, []string{"x1 givenName=Yara sn=Moorcroft"}, Options{}, []string{"x1=17 name"}},
		{"by a display name alone", []string{"17|Moorcroft|Yara|||||||"}, []string{"x1 displayName=Moorcroft,+Yara"}, Options{}, []string{"x1=17 name"}},
		{"strictly not by name", []string{"17|Moorcroft|Yara|||||||"}, []string{"x1 givenName=Yara sn=Moorcroft"}, Options{Strict: true}, []string{}},
		{"two people of one name", []string{"17|Moorcroft|Yara|||||||", "18|Moorcroft|Yara|||||||"}, []string{"x1 givenName=Yara sn=Moorcroft"}, Options{}, []string{"x1?17,18"}},
		{"two of one name, told apart by department", []string{"17|Moorcroft|Yara||Domes|2001-05-01||||", "18|Moorcroft|Yara||Lenses|2011-06-01||||"},
			[]string{"x1 givenName=Yara sn=Moorcroft department=Lenses whenCreated=20110603000000.0Z", "x2 givenName=Yara sn=Moorcroft department=Domes whenCreated=20010503000000.0Z"}, Options{}, []string{"x1=18 name", "x2=17 name"}},
		{"two typing errors and a short form", []string{"17|Featherstonhaugh|Robert||Domes|2001-05-01||||"}, []string{"x1 givenName=Bob sn=Fetherstonhaugh department=Domes whenCreated=20010503000000.0Z"}, Options{}, []string{"x1=17 name"}},
		{"in the other order", []string{"17|Yara|Moorcroft||Domes|2001-05-01||||"}, []string{"x1 givenName=Yara sn=Moorcroft department=Domes whenCreated=20010503000000.0Z"}, Options{}, []string{"x1=17 name"}},
		{"in other letters", []string{"17|Dimitriou|Natalya||Domes|2001-05-01||||"}, []string{"x1 givenName=Наталья sn=Δημητρίου department=Domes whenCreated=20010503000000.0Z"}, Options{}, []string{"x1=17 name"}},
		{"by the pattern alone", []string{"17|Moorcroft|Yara||Domes|2001-05-01||||"}, []string{"ymoorcroft whenCreated=20010503000000.0Z department=Domes"}, Options{}, []string{"ymoorcroft=17 name"}},
		{"a further account of the same name", []string{"17|Moorcroft|Yara|||||||"}, []string{"ymoorcroft givenName=Yara sn=Moorcroft employeeID=17", "ymoorcroft2 givenName=Yara sn=Moorcroft"}, Options{}, []string{"ymoorcroft2?17", "ymoorcroft=17 person-id!"}},
		{"back under a new id, with the old address", []string{"17|Quill|Ada|ada@larkmoor.example|||2024-01-31|||", "18|Quill|Ada|ada@larkmoor.example||2025-02-01||||"}, []string{"aquill employeeID=17 mail=ada@larkmoor.example givenName=Ada sn=Quill"}, Options{}, []string{"aquill?17,18"}},
		{"back under a new id, and nothing else known", []string{"17|Quill|Ada||||2024-01-31|||", "18|Quill|Ada|||2025-02-01||||"}, []string{"aquill employeeID=17 givenName=Ada sn=Quill"}, Options{}, []string{"aquill?17,18"}},
		{"a leaver and somebody else of the name, who has an account", []string{"17|Quill|Ada||||2024-01-31|||", "18|Quill|Ada|||2025-02-01||||"}, []string{"aquill employeeID=17 givenName=Ada sn=Quill", "aquill2 employeeID=18 givenName=Ada sn=Quill"}, Options{}, []string{"aquill2=18 person-id!", "aquill=17 person-id!"}},
		{"a sign-in name that something else bears out", []string{"17|Quill|Ada|ada@larkmoor.example|Domes|||||"}, []string{"x17 userPrincipalName=ada@larkmoor.example department=Domes givenName=Ada sn=Quill"}, Options{}, []string{"x17=17 principal!"}},
		{"a sign-in name that only its own name bears out", []string{"17|Quill|Ada|ada@larkmoor.example||||||"}, []string{"x17 userPrincipalName=ada@larkmoor.example givenName=Ada sn=Quill"}, Options{}, []string{"x17=17 principal"}},
		{"a sign-in name that another account has as its address", []string{"17|Zhang|Zi|zi.zhang@larkmoor.example|||2024-01-31|||", "18|Zhang|Zi|||||||"},
			[]string{"zi.zhang userPrincipalName=zi.zhang@larkmoor.example givenName=Zi sn=Zhang mail=zi.zhang2@larkmoor.example", "zzhang givenName=Zi sn=Zhang mail=zi.zhang@larkmoor.example"}, Options{}, []string{"zi.zhang=18 name", "zzhang?17,18"}},
		{"a sign-in name of an account with another address", []string{"17|Quill|Ada|ada.quill@larkmoor.example|Domes|||||", "18|Quill|Ada||Lenses|||||"},
			[]string{"ada.quill userPrincipalName=ada.quill@larkmoor.example givenName=Ada sn=Quill mail=ada.quill2@larkmoor.example department=Lenses"}, Options{}, []string{"ada.quill?17,18"}},
		{"a sign-in name, and the name in its own letters", []string{"17|王|伟|wei.wang@larkmoor.example||||||"}, []string{"x17 userPrincipalName=wei.wang@larkmoor.example givenName=伟 sn=王"}, Options{}, []string{"x17=17 principal!"}},
		{"a sign-in name, and half of the name in its own letters", []string{"17|王|伟 明|wei.wang@larkmoor.example||||||"}, []string{"x17 userPrincipalName=wei.wang@larkmoor.example givenName=伟 sn=王"}, Options{}, []string{"x17=17 name"}},
		{"an address of a namesake", []string{"17|Quill|Ada|ada@larkmoor.example|Domes|2001-05-01||||", "18|Quill|Ada||Lenses|2015-06-01||||"}, []string{"x17 mail=ada@larkmoor.example givenName=Ada sn=Quill department=Lenses whenCreated=20150603000000.0Z"}, Options{}, []string{"x17?17,18"}},
		{"a leaver with one name, and another of that name", []string{"17||Anggun||||2026-05-12|||", "18||Anggun|||||||"}, []string{"x17 employeeID=17 givenName=Anggun"}, Options{}, []string{"x17?17,18"}},
		{"a leaver with one name, and nobody else of it", []string{"17||Anggun||||2026-05-12|||", "18||Bakti|||||||"}, []string{"x17 employeeID=17 givenName=Anggun"}, Options{}, []string{"x17=17 person-id!"}},
		{"a logon name that something else bears out", []string{"17|Quill|Ada||Domes|||x17||"}, []string{"x17 givenName=Ada sn=Quill department=Domes"}, Options{}, []string{"x17=17 logon!"}},
		{"a logon name given again", []string{"17|Quill|Ada|||2012-01-01|2020-01-31|aquill||"}, []string{"aquill givenName=Ada sn=Quill whenCreated=20220301000000.0Z"}, Options{}, []string{"aquill?17"}},
		{"an id that two accounts have", []string{"17|Quill|Ada|||||||"}, []string{"aquill employeeID=17 givenName=Ada sn=Quill", "x2 employeeID=17 givenName=Ada sn=Quill"}, Options{}, []string{"aquill=17 person-id", "x2=17 person-id"}},
		{"an id that a second account has too", []string{"17|Quill|Ada|||||||"}, []string{"aquill employeeID=17 givenName=Ada sn=Quill", "a-aquill employeeID=17"}, Options{}, []string{"a-aquill=17 person-id!", "aquill=17 person-id!"}},
		{"a wrong id on somebody in other letters", []string{"17|田辺|晃||Domes|2019-07-11||||"}, []string{"ebog employeeID=17 givenName=Emilia sn=Bogucki department=Lenses whenCreated=20240214000000.0Z"}, Options{}, []string{"ebog?17"}},
		{"an id on somebody in letters that nobody reads, and all else differs", []string{"17|ไชยา|สมชาย||Domes|2019-07-11||||"}, []string{"ebog employeeID=17 givenName=Emilia sn=Bogucki department=Lenses whenCreated=20240214000000.0Z"}, Options{}, []string{"ebog?17"}},
		{"an id on somebody in letters that nobody reads, and something agrees", []string{"17|ไชยา|สมชาย||Domes|2019-07-11||||"}, []string{"schaiya employeeID=17 givenName=Somchai sn=Chaiya department=Domes whenCreated=20190714000000.0Z"}, Options{}, []string{"schaiya=17 person-id!"}},
		{"one number on two unlike people", []string{"17|Quill|Ada|||||||", "17|Tern|Bram|||||||"}, []string{"aquill employeeID=17 givenName=Ada sn=Quill", "btern employeeID=17 givenName=Bram sn=Tern"}, Options{}, []string{"aquill=17 name", "btern=17 name"}},
		{"one post after the other is one person", []string{"17|Quill|Ada||Domes|2015-03-01|2024-01-31|||", "18|Quill|Ada||Domes|2024-02-01||||"}, []string{"aquill employeeID=17 givenName=Ada sn=Quill"}, Options{}, []string{"aquill=18 person-id!"}},
		{"one post after the other in another place is a doubt", []string{"17|Quill|Ada||Domes|2015-03-01|2024-01-31|||", "18|Quill|Ada||Lenses|2024-02-01||||"}, []string{"aquill employeeID=17 givenName=Ada sn=Quill"}, Options{}, []string{"aquill?17,18"}},
		{"a leaver found by name, and somebody of nearly the name", []string{"17|Featherstone|Ada||Domes|2015-03-01|2024-01-31|||", "18|Fetherstone|Ada||Lenses|2016-02-01||||"}, []string{"x1 givenName=Ada sn=Featherstone department=Domes whenCreated=20150303000000.0Z"}, Options{}, []string{"x1?17,18"}},
		{"a leaver found by name, and somebody of the name in other letters", []string{"17|Sokolova|Natalya||Domes|2015-03-01|2024-01-31|||", "18|Соколова|Наталья||Lenses|2016-02-01||||"}, []string{"x1 givenName=Natalya sn=Sokolova department=Domes whenCreated=20150303000000.0Z"}, Options{}, []string{"x1?17,18"}},
		{"people in doubt compete", []string{"17|Moorcroft|Yara|yara@larkmoor.example|Domes|2001-05-01||||", "18|Moorcroft|Yara||Lenses|2011-06-01||||"},
			[]string{"x1 mail=yara@larkmoor.example employeeID=9001 givenName=Yara sn=Moorcroft", "x2 givenName=Yara sn=Moorcroft whenCreated=20010503000000.0Z department=Domes"}, Options{}, []string{"x1?17,18,9001", "x2?17,18"}},
		{"swapped, beside a namesake", []string{"17|Moorcroft|Yara||Domes|2001-05-01||||", "18|Yara|Moorcroft||Lenses|2011-06-01||||"}, []string{"x1 givenName=Yara sn=Moorcroft department=Lenses whenCreated=20110603000000.0Z"}, Options{}, []string{"x1=18 name"}},
		{"a further account by the logon name", []string{"17|Moorcroft|Yara|||||||"}, []string{"ymoorcroft givenName=Yara sn=Moorcroft employeeID=17", "ymoorcroft_lab displayName=Yara"}, Options{}, []string{"ymoorcroft=17 person-id!", "ymoorcroft_lab?17"}},
		{"somebody of the name with another id, of whom HR does not know", []string{"17|Moorcroft|Yara|||||||"}, []string{"ymoorcroft givenName=Yara sn=Moorcroft employeeID=17", "ymoor2 givenName=Yara sn=Moorcroft employeeID=18"}, Options{}, []string{"ymoorcroft=17 person-id!"}},
		{"a further account in other letters", []string{"17|Sokolova|Natalya|||||||"}, []string{"nsokolova givenName=Natalya sn=Sokolova employeeID=17", "ns2 givenName=Наталья sn=Соколова"}, Options{}, []string{"ns2?17", "nsokolova=17 person-id!"}},
		{"confirmed against every key", []string{"17|Quill|Ada|ada@larkmoor.example||||||", "18|Tern|Bram|||||||"}, []string{"x employeeID=18 mail=ada@larkmoor.example"}, Options{Links: []Link{{Account: "guid-000000000000", Person: "id:17"}}}, []string{"x=17 link!"}},
		{"rejected in spite of its id", []string{"17|Quill|Ada|||||||"}, []string{"x employeeID=17"}, Options{Links: []Link{{Account: "guid-000000000000", Person: "id:17", Rejected: true}}}, []string{}},
	} {
		t.Run(c.name, func(t *testing.T) {
			lines, texts := crowd(40)
			r := match(t, people(t, append(c.people, lines...)...), accounts(append(c.accounts, texts...)...), c.opt)
			got := slices.DeleteFunc(told(r), func(s string) bool { return strings.Contains(s, "=9") })
			assert.Equal(t, c.want, got)
			assert.Equal(t, 40, len(told(r))-len(got), "the crowd is matched")
		})
	}
}

// Lists with one column for the whole name do not say which is which.
func TestWholeNamesAreComparedInEitherOrder(t *testing.T) {
	lines, texts := crowd(40)
	for i := range lines {
		cells := strings.Split(lines[i], "|")
		name := cells[2] + " " + cells[1]
		if i%2 == 1 {
			name = cells[1] + " " + cells[2]
		}
		lines[i] = name + "|" + cells[5]
	}
	list, err := roster.Read(strings.NewReader("name|start\n"+strings.Join(lines, "\n")), "people", roster.Options{})
	require.NoError(t, err)
	r := match(t, list.People(time.Date(2026, 11, 2, 0, 0, 0, 0, time.UTC), roster.TrustStatus), accounts(texts...), Options{})
	assert.GreaterOrEqual(t, len(r.Pairs), 36, "of 40")
	for _, p := range r.Pairs {
		assert.Contains(t, r.People[p.Person].Values[roster.FullName], p.Account.Text.First(directory.AttrSN))
		assert.False(t, p.Sure)
	}
}

func TestTheOrderOfTheListsDoesNotMatter(t *testing.T) {
	lines, texts := crowd(200)
	for i := range lines { // leave the ids out of many, and the addresses
		if i%3 == 0 {
			lines[i] = "9" + lines[i][1:4] + "|" + strings.Join(slices.Concat(strings.Split(lines[i], "|")[1:3], []string{""}, strings.Split(lines[i], "|")[4:]), "|")
			texts[i] = strings.Join(slices.DeleteFunc(strings.Fields(texts[i]), func(s string) bool { return strings.HasPrefix(s, "employeeID") }), " ")
		}
	}
	want := told(match(t, people(t, lines...), accounts(texts...), Options{}))
	for seed := range uint64(5) {
		shuffle := rand.New(rand.NewPCG(seed, 1))
		shuffle.Shuffle(len(lines), func(i, j int) { lines[i], lines[j] = lines[j], lines[i] })
		shuffle.Shuffle(len(texts), func(i, j int) { texts[i], texts[j] = texts[j], texts[i] })
		assert.Equal(t, want, told(match(t, people(t, lines...), accounts(texts...), Options{})))
	}
}

func TestIDsOfAnotherNumberingAreNotCompared(t *testing.T) {
	lines, texts := crowd(40)
	for i := range texts {
		texts[i] = strings.Replace(texts[i], "employeeID=9", "employeeID=X", 1)
	}
	r := match(t, people(t, lines...), accounts(texts...), Options{})
	assert.Len(t, r.Pairs, 40)
	assert.Equal(t, ByMail, r.Pairs[0].By)
	// With a few chance agreements, too.
	texts[0] = strings.Replace(texts[0], "employeeID=X000", "employeeID=9000", 1)
	r = match(t, people(t, lines...), accounts(texts...), Options{})
	assert.Len(t, r.Pairs, 40)
	assert.Contains(t, r.Notes[0], "ids are not compared")
}

func TestIDsThatMeetByChanceAreNotCompared(t *testing.T) {
	lines, texts := crowd(40)
	for i := range lines { // the next one's id, and no address
		cells := strings.Split(lines[i], "|")
		cells[0], cells[3] = fmt.Sprintf("9%03d", (i+1)%40), ""
		lines[i] = strings.Join(cells, "|")
	}
	r := match(t, people(t, lines...), accounts(texts...), Options{})
	assert.Contains(t, r.Notes[0], "belong to people of one name")
	assert.Len(t, r.Pairs, 40)
	assert.Empty(t, r.Doubts)
	for _, p := range r.Pairs {
		assert.Equal(t, ByName, p.By)
		assert.Equal(t, r.People[p.Person].Values[roster.Family], p.Account.Text.First(directory.AttrSN))
	}
}

func TestAThousandOfOneNameStayBounded(t *testing.T) {
	var lines, texts []string
	for i := range 1000 {
		lines = append(lines, fmt.Sprintf("%d|Smith|Maria|||||||", i+1))
		texts = append(texts, fmt.Sprintf("msmith%d givenName=Maria sn=Smith", i))
	}
	began := time.Now()
	r := match(t, people(t, lines...), accounts(texts...), Options{})
	assert.Empty(t, r.Pairs)
	assert.Len(t, r.Doubts, 1000)
	assert.True(t, r.InDoubt(999))
	assert.True(t, r.InDoubt(0))
	assert.Contains(t, r.Doubts[0].Why, "1000 people and 1000 accounts of this name")
	assert.Less(t, time.Since(began), time.Minute, "it compared all with all")
}

func TestAClueSaysWhatItCompared(t *testing.T) {
	lines, texts := crowd(40)
	r := match(t, people(t, append(lines, "17|Featherstonhaugh|Robert||Domes|2001-05-01||||")...), accounts(append(texts, "x1 givenName=Bob sn=Fetherstonhaugh department=Lenses whenCreated=20010503000000.0Z")...), Options{})
	text := Reasons(r.Explain(40, r.matcher.accounts[40]))
	for _, want := range []string{"family name Featherstonhaugh/Fetherstonhaugh (nearly the same)", "given name Robert/Bob (a short form)", "start 2001-05-01/2001-05-03 (near the day the account was made)", "against it: department Domes/Lenses"} {
		assert.Contains(t, text, want)
	}
}

func TestAPersonWhoIsGoneFromTheRosterIsRemembered(t *testing.T) {
	s := accounts("x givenName=Ada sn=Quill")
	r := match(t, people(t, "18|Tern|Bram|||||||"), s, Options{Links: []Link{{Account: "guid-000000000000", Person: "id:17"}}})
	assert.Empty(t, told(r))
	for _, l := range r.Gone {
		assert.Equal(t, "id:17", l.Person)
	}
	assert.Len(t, r.Gone, 1)
}

func TestPersonKeys(t *testing.T) {
	var got []string
	for _, p := range people(t, "0017|Quill|Ada|x@y.example||||||", "|Quill|Ada|X@Y.example||||||", "|Quill|Ada|||||AQ||", "|Quill|Ada|||||||") {
		got = append(got, PersonKey(&p))
	}
	assert.Equal(t, []string{"id:17", "mail:x@y.example", "logon:aq", "name:quill,ada"}, got)
}

// Whoever comes or goes elsewhere in the house changes nothing about the rest.
func TestStrangersChangeNothing(t *testing.T) {
	lines, texts := crowd(60)
	for i := range lines {
		if i%2 == 0 { // half of them by name
			cells := strings.Split(lines[i], "|")
			cells[3] = ""
			lines[i] = strings.Join(cells, "|")
			texts[i] = strings.Join(slices.DeleteFunc(strings.Fields(texts[i]), func(s string) bool { return strings.HasPrefix(s, "employeeID") }), " ")
		}
	}
	want := told(match(t, people(t, lines...), accounts(texts...), Options{}))
	require.Len(t, want, 60)
	for i := range 30 {
		lines = append(lines, fmt.Sprintf("8%03d|Zyx%c%cwort|Quirin%c|||||||", i, 'a'+i%26, 'a'+i/26, 'a'+i%26))
		texts = append(texts, fmt.Sprintf("svc-%c%c displayName=svc", 'a'+i%26, 'a'+i/26))
	}
	assert.Equal(t, want, told(match(t, people(t, lines...), accounts(texts...), Options{})))
}

func TestPatternsThatAreSetAreNotLearned(t *testing.T) {
	lines, texts := crowd(40)
	r := match(t, people(t, lines...), accounts(texts...), Options{Patterns: []string{"{given}.{family}"}})
	assert.Equal(t, []string{"{given}.{family}"}, []string{r.Patterns[0].Text})
	r = match(t, people(t, lines...), accounts(texts...), Options{})
	assert.Equal(t, "{given:1}{family}", r.Patterns[0].Text)
	assert.Equal(t, 40, r.Patterns[0].Seen)
	_, err := Run(nil, accounts(), Options{Patterns: []string{"{shoe}"}})
	assert.ErrorContains(t, err, "is no pattern")
}

func TestPatternsAreFoundWithNothingButLogonNames(t *testing.T) {
	lines, texts := crowd(40)
	for i := range texts { // no names, no addresses, no ids
		texts[i] = strings.Fields(texts[i])[0]
	}
	r := match(t, people(t, lines...), accounts(texts...), Options{})
	require.NotEmpty(t, r.Patterns)
	assert.Equal(t, "{given:1}{family}", r.Patterns[0].Text)
	assert.Greater(t, len(r.Pairs), 30, "glued together, as by hand")
	for _, p := range r.Pairs {
		assert.False(t, p.Sure)
		assert.Equal(t, string(p.Account.Logon[0]), strings.ToLower(r.People[p.Person].Values[roster.Given][:1]))
	}
}

func TestNobodyAndNothing(t *testing.T) {
	lines, texts := crowd(3)
	for _, r := range []*Result{match(t, nil, accounts(texts...), Options{}), match(t, people(t, lines...), accounts(), Options{}), match(t, nil, accounts(), Options{})} {
		assert.Empty(t, r.Pairs)
		assert.Empty(t, r.Doubts)
	}
}

func TestOtherAttributesCanHoldTheID(t *testing.T) {
	lines, texts := crowd(40)
	for i := range texts {
		texts[i] = strings.Replace(texts[i], "employeeID", "extensionAttribute7", 1)
	}
	s := accounts()
	part := s.NewPart(len(texts), directory.Attrs(directory.AttrExtension7))
	for _, text := range texts {
		words := strings.Fields(text)
		e := directory.Entry{DN: "CN=" + words[0] + ",DC=larkmoor,DC=example"}
		e.Set("objectClass", "user")
		e.Set("sAMAccountName", words[0])
		for _, w := range words[1:] {
			if name, value, _ := strings.Cut(w, "="); name == "extensionAttribute7" {
				e.Set(name, value)
			}
		}
		part.Add(directory.AD, &e)
	}
	s.Merge(part)
	r := match(t, people(t, lines...), s, Options{IDs: []directory.AttrID{directory.AttrExtension7}})
	require.Len(t, r.Pairs, 40)
	assert.Equal(t, ByPersonID, r.Pairs[0].By)
}

func TestAResultIsAskedByPersonAndByAccount(t *testing.T) {
	lines, texts := crowd(20)
	who := people(t, append([]string{"17|Quill|Ada|ada@larkmoor.example||||||", "18|Tern|Bram|bram@larkmoor.example||||||", "19|Moorcroft|Yara|||||||", "20|Moorcroft|Yara|||||||"}, lines...)...)
	s := accounts(append([]string{"aquill employeeID=17", "a-aquill", "ada2 mail=ada@larkmoor.example givenName=Ada", "x1 givenName=Yara sn=Moorcroft", "nobodys"}, texts...)...)
	r := match(t, who, s, Options{})
	byLogon := map[string]*directory.Account{}
	for a := range s.Accounts.All() {
		byLogon[a.Logon] = a
	}
	of := func(person int) (out []string) {
		for _, p := range r.Of(person) {
			out = append(out, p.Account.Logon)
		}
		return out
	}
	assert.Equal(t, []string{"ada2", "aquill", "a-aquill"}, of(0), "the second account behind the others")
	assert.Empty(t, of(1))
	for logon, want := range map[string]int{"aquill": 0, "a-aquill": 0, "ada2": 0} {
		p := r.Pair(byLogon[logon])
		require.NotNil(t, p, logon)
		assert.Equal(t, want, p.Person)
		assert.Equal(t, logon == "a-aquill", p.Second)
		assert.Nil(t, r.Doubt(byLogon[logon]))
	}
	for _, logon := range []string{"x1", "nobodys"} {
		assert.Nil(t, r.Pair(byLogon[logon]))
	}
	require.NotNil(t, r.Doubt(byLogon["x1"]))
	assert.Nil(t, r.Doubt(byLogon["nobodys"]))
	var inDoubt []bool
	for person := range 4 {
		inDoubt = append(inDoubt, r.InDoubt(person))
	}
	assert.Equal(t, []bool{false, false, true, true}, inDoubt)
	assert.NotEmpty(t, r.Explain(0, byLogon["aquill"]))
	assert.Nil(t, r.Explain(0, &directory.Account{Subject: directory.Subject{Logon: "aquill"}}), "an account of another survey")
}

func TestWhoseAccountIsNotWhoseSomebodyHasSaidItIsNot(t *testing.T) {
	lines, texts := crowd(40)
	who := people(t, append([]string{"17|Moorcroft|Yara|yara@larkmoor.example||||x1||", "18|Moorcroft|Yara|||||||", "21|Quill|Ada|||||||"}, lines...)...)
	s := accounts(append([]string{"x1 givenName=Yara sn=Moorcroft mail=yara@larkmoor.example employeeID=17", "aq givenName=Ada sn=Quill", "a-x1"}, texts...)...)
	rejected := Options{Links: []Link{{Account: "guid-000000000000", Person: "id:17", Rejected: true}}}
	got := slices.DeleteFunc(told(match(t, who, s, rejected)), func(s string) bool { return strings.Contains(s, "=9") })
	assert.Equal(t, []string{"a-x1?18", "aq=21 name", "x1?18"}, got, "its id speaks against the other of the name")
	rejected.Links[0].Account = "guid-000000000002"
	got = slices.DeleteFunc(told(match(t, who, s, rejected)), func(s string) bool { return strings.Contains(s, "=9") })
	assert.Equal(t, []string{"aq=21 name", "x1=17 person-id!"}, got, "the second account alone")
}

func TestDoubtsSayWhy(t *testing.T) {
	for why, c := range map[string]struct{ people, accounts []string }{
		"two keys disagree":                                                    {[]string{"17|Quill|Ada|ada@larkmoor.example||||||", "18|Tern|Bram|bram@larkmoor.example||||||"}, []string{"x employeeID=17 mail=bram@larkmoor.example"}},
		"the given names differ":                                               {[]string{"17|Quill|Ada|aquill@larkmoor.example||||||"}, []string{"aquill mail=aquill@larkmoor.example givenName=Alan sn=Quill"}},
		"the names have nothing in common":                                     {[]string{"17|Quill|Ada|aquill@larkmoor.example||||||"}, []string{"btern mail=aquill@larkmoor.example givenName=Bram sn=Tern"}},
		"the account was made after the person had left":                       {[]string{"17|Quill|Ada|aquill@larkmoor.example|||2020-01-31|||"}, []string{"aquill mail=aquill@larkmoor.example whenCreated=20200901000000.0Z"}},
		"the family names differ, and nothing else agrees":                     {[]string{"17|Tern|Ada|||||||"}, []string{"aquill givenName=Ada sn=Quill employeeID=17"}},
		"the person ids differ":                                                {[]string{"17|Quill|Ada|ada@larkmoor.example||||||"}, []string{"aquill mail=ada@larkmoor.example employeeID=23"}},
		"several accounts have this address, and its name is not the person's": {[]string{"17|Quill|Ada|ada@larkmoor.example||||||"}, []string{"aquill givenName=Ada mail=ada@larkmoor.example", "svc-dome mail=ada@larkmoor.example"}},
		"a key is also that of somebody who has not left":                      {[]string{"17|Quill|Ada|ada@larkmoor.example|||2024-01-31|||", "18|Quill|Ada|ada@larkmoor.example||2025-02-01||||"}, []string{"aquill employeeID=17 mail=ada@larkmoor.example givenName=Ada sn=Quill"}},
		"several people fit equally well":                                      {[]string{"17|Moorcroft|Yara|||||||", "18|Moorcroft|Yara|||||||"}, []string{"x1 givenName=Yara sn=Moorcroft"}},
	} {
		lines, texts := crowd(40)
		r := match(t, people(t, append(c.people, lines...)...), accounts(append(c.accounts, texts...)...), Options{})
		if assert.Len(t, r.Doubts, 1, why) {
			assert.Equal(t, why, r.Doubts[0].Why)
			assert.NotEmpty(t, r.Doubts[0].Candidates)
		}
	}
}

// Of an account it is sure that it is nobody's only where nobody without an
// account could be its owner.
func TestWhoMayBeTheOwnerOfWhatIsNobodys(t *testing.T) {
	for _, c := range []struct {
		name, person, account string
		want                  []string
	}{
		{"nothing in common", "17|Moorcroft|Yara||Domes|2001-05-01||||", "x1 givenName=Otto sn=Zielinski department=Lenses whenCreated=20150601000000.0Z", nil},
		{"one given name, begun when it was made", "17|Moorcroft|Yara||Domes|2015-06-10||||", "x1 givenName=Yara sn=Zielinski whenCreated=20150601000000.0Z", []string{"17"}},
		{"one given name, begun long after", "17|Moorcroft|Yara||Domes|2021-05-01||||", "x1 givenName=Yara sn=Zielinski department=Lenses title=Guide whenCreated=20110601000000.0Z", nil},
		{"one given name, and nobody knows when they began", "17|Moorcroft|Yara||Domes|||||", "x1 givenName=Yara sn=Zielinski department=Domes", []string{"17"}},
		{"the family name and an initial", "17|Moorcroft|Yara||Domes|2001-05-01||||", "x1 givenName=Ylva sn=Moorcroft department=Lenses whenCreated=20150601000000.0Z", []string{"17"}},
		{"the department, begun when it was made", "17|Moorcroft|Yara||Domes|2015-06-10||||", "x1 givenName=Otto sn=Zielinski department=Domes whenCreated=20150601000000.0Z", []string{"17"}},
		{"called as somebody would be, under another name", "17|Hsu|Chin-Peng||Domes|2001-05-01||||", "chsu givenName=Otto sn=Zielinski whenCreated=20150601000000.0Z", []string{"17"}},
		{"the department, and nobody knows when it was made", "17|Moorcroft|Yara||Domes|2015-06-10||||", "x1 givenName=Otto sn=Zielinski department=Domes", nil},
		{"the department, begun at another time", "17|Moorcroft|Yara||Domes|2005-06-10||||", "x1 givenName=Otto sn=Zielinski department=Domes whenCreated=20150601000000.0Z", nil},
		{"the number, in another form", "0017|Moorcroft|Yara||Domes|||||", "x1 givenName=Otto sn=Zielinski employeeID=P-0017", nil},
		{"a longer number, in another form", "170017|Moorcroft|Yara||Domes|||||", "x1 givenName=Otto sn=Zielinski employeeID=P-170017", []string{"170017"}},
		{"letters that nobody reads", "17|ไชยา|สมชาย|||||||", "x1 givenName=Otto sn=Zielinski", []string{"17"}},
		{"letters that are read otherwise", "17|佐藤|健|||||||", "x1 givenName=Otto sn=Zielinski", nil},
		{"an account without names, and letters that do not spell", "17|فارس|سعيد|||||||", "a-zz", []string{"17"}},
		{"the logon name", "17|Featherstone|Yara|||||||", "yfeatherstone", nil}, // that is a pair
	} {
		t.Run(c.name, func(t *testing.T) {
			lines, texts := crowd(40)
			s := accounts(append(texts, c.account)...)
			r := match(t, people(t, append(lines, c.person)...), s, Options{})
			var got []string
			for a := range s.Accounts.All() {
				for _, one := range r.MayBe(a) {
					got = append(got, r.People[one.Person].Values[roster.PersonID])
				}
			}
			assert.Equal(t, c.want, got)
		})
	}
}

func TestNumbersAreKnownInAnotherForm(t *testing.T) {
	for _, c := range []struct {
		name     string
		roster   func(n int) string
		account  func(n int) string
		compared bool
	}{
		{"a prefix in the directory", func(n int) string { return fmt.Sprint(410000 + n) }, func(n int) string { return fmt.Sprintf("P-%d", 410000+n) }, true},
		{"zeros and a prefix on the roster", func(n int) string { return fmt.Sprintf("E00%d", 410000+n) }, func(n int) string { return fmt.Sprint(410000 + n) }, true},
		{"a check digit in the directory", func(n int) string { return fmt.Sprint(410000 + n) }, func(n int) string { return fmt.Sprintf("%d%d", 410000+n, n%7) }, true},
		{"a check digit on the roster", func(n int) string { return fmt.Sprintf("%d%d", 410000+n, n%7) }, func(n int) string { return fmt.Sprint(410000 + n) }, true},
		{"numbers of something else", func(n int) string { return fmt.Sprint(410000 + n) }, func(n int) string { return fmt.Sprint(990000 - 7*n) }, false},
	} {
		t.Run(c.name, func(t *testing.T) {
			var lines, texts []string
			givens := []string{"Clara", "Dov", "Edith", "Farid", "Greta", "Hugo", "Ines"}
			families := []string{"Quill", "Tern", "Marlowe", "Hollis", "Jessop", "Nakata"}
			for n := range 40 {
				lines = append(lines, c.roster(n)+"|"+families[n%6]+"|"+givens[n%7]+"|||||||")
				texts = append(texts, fmt.Sprintf("x%d sn=%s givenName=%s employeeID=%s", n, families[n%6], givens[n%7], c.account(n)))
			}
			r := match(t, people(t, lines...), accounts(texts...), Options{})
			byID := 0
			for _, p := range r.Pairs {
				if p.By == ByPersonID && p.Sure {
					byID++
				}
			}
			if c.compared {
				assert.Equal(t, 40, byID)
			} else {
				assert.Zero(t, byID)
			}
		})
	}
}

// A list whose names are those of nobody here is refused: its pairs by address
// are no proof of anything.
func TestAListOfStrangeNamesIsRefused(t *testing.T) {
	lines, texts := crowd(40)
	for i := range lines {
		cells := strings.Split(lines[i], "|")
		cells[1], cells[2] = "Ñ¿³£"+strings.Repeat("ö", i%3), "Þ¥§ü"
		lines[i] = strings.Join(cells, "|")
	}
	_, err := Run(people(t, lines...), accounts(texts...), Options{})
	var strange *StrangeNames
	require.ErrorAs(t, err, &strange)
	assert.Equal(t, StrangeNames{40, 0}, *strange)
	assert.ErrorContains(t, err, "of 40 people whose person id or mail address an account has, 0 share a name with it")
}

// A leaver with a very common name is a doubt too, as long as anybody of that
// name works here and has no account: that too many bear it to compare them all
// is no proof.
func TestALeaverOfAVeryCommonNameIsADoubt(t *testing.T) {
	lines, texts := crowd(40)
	for n := range 120 {
		lines = append(lines, fmt.Sprintf("41%04d|Quill|Ada||Domes|2010-01-01|2024-01-31|||", n), fmt.Sprintf("42%04d|Quill|Ada||Lenses|2016-01-01||||", n))
		texts = append(texts, fmt.Sprintf("q%d givenName=Ada sn=Quill employeeID=41%04d", n, n))
	}
	r := match(t, people(t, lines...), accounts(texts...), Options{})
	assert.Len(t, r.Doubts, 120)
	for _, p := range r.Pairs {
		assert.NotEqual(t, roster.Left, r.People[p.Person].State)
	}
}

// So is a further account of one of very many of a name: it is not nobody's.
func TestAFurtherAccountOfAVeryCommonNameIsADoubt(t *testing.T) {
	lines, texts := crowd(40)
	for n := range 60 {
		lines = append(lines, fmt.Sprintf("41%04d|Quill|Ada||Domes|2010-01-01||||", n))
		texts = append(texts, fmt.Sprintf("q%d givenName=Ada sn=Quill employeeID=41%04d", n, n), fmt.Sprintf("r%d givenName=Ada sn=Quill", n))
	}
	r := match(t, people(t, lines...), accounts(texts...), Options{})
	assert.Len(t, r.Doubts, 60)
	assert.Len(t, r.Pairs, 40+60)
}

func TestTooManyToCompareIsNoProofThatAnAccountIsNobodys(t *testing.T) {
	family := func(n int, end string) string {
		return string([]byte{byte('B' + n%20), byte('a' + n/20*4), byte('b' + n%7), byte('a' + n%5)}) + end
	}
	lines, texts := crowd(40)
	for n := range 110 {
		lines = append(lines, fmt.Sprintf("41%04d|%s|Yara|||||||", n, family(n, "wright")))
		texts = append(texts, fmt.Sprintf("q%d givenName=Yara sn=X%s", n, family(n, "zynski")))
	}
	s := accounts(texts...)
	r := match(t, people(t, lines...), s, Options{})
	for a := range s.Accounts.All() {
		if a.Text.First(directory.AttrGivenName) == "Yara" && r.Pair(a) == nil && r.Doubt(a) == nil {
			assert.NotEmpty(t, r.MayBe(a), a.Logon)
		}
	}
}
