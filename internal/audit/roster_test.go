package audit

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
	"pgregory.net/rapid"

	"yardbroom/internal/directory"
	"yardbroom/internal/reconcile"
	"yardbroom/internal/roster"
	"yardbroom/internal/settings"
)

// withRoster audits a directory with a roster: lines of id, family, given,
// mail, department, title, location, manager, start, end, status.
func withRoster(t *testing.T, s *directory.Survey, change func(*settings.Settings), opt Options, lines ...string) *Report {
	t.Helper()
	list, err := roster.Read(strings.NewReader("id|family|given|mail|department|title|location|manager|start|end|status\n"+strings.Join(lines, "\n")), "people", roster.Options{})
	require.NoError(t, err)
	require.Empty(t, list.Bad)
	set := settings.Defaults()
	if change != nil {
		change(set)
	}
	people := list.People(time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC), roster.Trust(set.Roster.Trust == settings.TrustDates))
	opt.People, err = reconcile.Run(people, s, reconcile.Options{Second: regexp.MustCompile("(?i)" + set.Audit.AdminAccountPattern), Zone: time.UTC})
	require.NoError(t, err)
	return run(t, s, change, opt)
}

func TestLeaversAndThoseOnLeave(t *testing.T) {
	s := survey(directory.AD, domain, user("gone", "employeeID=1"), user("a-gone"), user("gone-off", "employeeID=2", "userAccountControl=514"), user("came-back", "employeeID=3"),
		user("one-post-ended", "employeeID=4"), user("ends-today", "employeeID=5"), user("away", "employeeID=6"), user("away-off", "employeeID=7", "userAccountControl=514"),
		user("back", "employeeID=8", "userAccountControl=514"), user("back-one-of-two", "employeeID=9", "userAccountControl=514"), user("back-other", "employeeID=9"),
		user("says-active", "employeeID=10"), user("no-date", "employeeID=11"), user("soon", "employeeID=12"), user("ended-expired", "employeeID=13", "accountExpires="+ticks(3)))
	lines := []string{"1|Quill|Ada|||||||2026-11-20|left", "2|Tern|Bram|||||||2026-11-20|", "3|Birk|Clara||||||2026-11-01|2025-01-31|", "4|Hollis|Dov|||||||2026-01-31|left", "4|Hollis|Dov||||||2026-02-01||active",
		"5|Jessop|Edith|||||||2026-11-23|", "6|Nakata|Farid||||||||leave", "7|Okafor|Greta||||||||on leave", "8|Pereira|Hugo||||||||active", "9|Quiroga|Ines||||||||active",
		"10|Rosendal|Jonas|||||||2026-10-01|active", "11|Sandoval|Kaja||||||||left", "12|Umarov|Leon||||||2026-12-01||active", "13|Vasquez|Mira|||||||2026-10-01|left"}
	r := withRoster(t, s, nil, Options{}, lines...)
	assert.Equal(t, []string{"a-gone likely 3", "gone sure 3", "no-date sure 0"}, found(r, "leaver-enabled"))
	assert.Equal(t, []string{"person=Quill, Ada (1)", "row=2", "end=2026-11-20", "matched by=person-id"}, proof(r, "leaver-enabled", "gone"))
	assert.Equal(t, []string{"away"}, who(r, "leave-enabled"))
	assert.Equal(t, []string{"back"}, who(r, "returned-disabled"))
	assert.Equal(t, []string{"soon"}, who(r, "early"))
	assert.Equal(t, []string{"Rosendal, Jonas (10)"}, who(r, "roster-conflict"))
	assert.Equal(t, []string{"back-one-of-two", "back-other"}[:0], append([]string{}, who(r, "extra-account")...), "only one of the two is enabled")
	r = withRoster(t, s, func(set *settings.Settings) { set.Roster.Trust = "dates" }, Options{}, lines...)
	assert.Contains(t, who(r, "leaver-enabled"), "says-active")
}

func TestFindingsOnALikelyPairAreLikelyAndNotToBeStaged(t *testing.T) {
	s := survey(directory.AD, domain, user("gone", "employeeID=1"), user("a-gone"))
	for _, f := range withRoster(t, s, nil, Options{}, "1|Quill|Ada|||||||2026-11-20|left").Findings {
		if f.Check == "leaver-enabled" {
			assert.Equal(t, f.Account == "a-gone", f.Unconfirmed, f.Account)
		}
	}
}

func TestPeopleWithoutAccountsAndAccountsWithoutPeople(t *testing.T) {
	s := survey(directory.AD, domain, user("quill", "employeeID=1", "mail=quill@x.example"), user("dome", "displayName=Dome control"), user("print"), user("room", "msExchRecipientTypeDetails=16"),
		user("off", "userAccountControl=514"), user("x", "employeeID=1", "mail=tern@x.example"), user("two", "employeeID=3"), user("two-more", "employeeID=3"), user("a-two", "employeeID=3"))
	lines := []string{"1|Quill|Ada|quill@x.example|||||||active", "2|Tern|Bram|tern@x.example|||||||active", "3|Birk|Clara||||||||active", "4|Hollis|Dov||Domes||||2026-11-13||active", "5|Jessop|Edith||||||||left", "6|Nakata|Farid||||||||active"}
	r := withRoster(t, s, nil, Options{Exemptions: []Exemption{
		{Exemption: settings.Exemption{Match: settings.Match{Account: "print"}, Checks: []string{"no-person"}, Reason: "r", Owner: "o"}},
		{Exemption: settings.Exemption{Match: settings.Match{Person: "0006"}, Reason: "r", Owner: "o"}},
		{Exemption: settings.Exemption{Match: settings.Match{Person: "99"}, Reason: "r", Owner: "o"}}}}, lines...)
	assert.Equal(t, []string{"dome"}, who(r, "no-person"))
	assert.Equal(t, []string{"displayName=Dome control"}, proof(r, "no-person", "dome"))
	assert.Equal(t, []string{"Hollis, Dov (4) sure 10"}, found(r, "no-account"), "Tern is in doubt, Jessop has left, Nakata needs none")
	assert.Equal(t, []string{"x"}, who(r, "match-unsure"))
	unsure := proof(r, "match-unsure", "x")
	assert.Equal(t, "why=two keys disagree", unsure[0])
	assert.Contains(t, unsure[1], "candidate 1=Quill, Ada (1), row 2, active, score 0.414: person id 1")
	assert.Contains(t, unsure[2], "candidate 2=Tern, Bram (2), row 3, active, score 0.000: mail tern@x.example")
	assert.Equal(t, []string{"two", "two-more"}, who(r, "extra-account"))
	assert.Contains(t, proof(r, "extra-account", "two"), "others=two-more")
	assert.Equal(t, []string{"person 99"}, who(r, "exemption-unused"))
	for _, f := range r.Findings {
		if f.Check == "no-account" {
			assert.Equal(t, [2]string{"person", ""}, [2]string{f.Kind, f.DN})
		}
	}
	r = run(t, s, nil, Options{Checks: []string{"no-person", "exemption-unused"}, Exemptions: []Exemption{{Exemption: settings.Exemption{Match: settings.Match{Person: "99"}, Reason: "r", Owner: "o"}}}})
	assert.Equal(t, []string{"no roster was given (--roster)"}, r.Summary[0].NotLooked)
	assert.Empty(t, r.Findings, "without a roster nobody knows whether the exemption is used")
}

func TestDriftFromTheRoster(t *testing.T) {
	s := survey(directory.AD, domain, user("boss", "employeeID=1", "sn=Quill", "givenName=Ada", "department=Domes", "title=Head", "l=Larkmoor"),
		user("drifts", "employeeID=2", "sn=Tern", "givenName=Bram", "department=Lenses", "l=larkmoor ", "manager=CN=other,OU=Staff,DC=x"),
		user("agrees", "employeeID=3", "sn=BIRK", "givenName=Clara", "department=domes", "title=Guide", "l=Larkmoor", "manager=CN=boss,OU=Staff,DC=x"),
		user("left", "employeeID=4", "department=Lenses"), user("other", "employeeID=5", "sn=Jessop", "givenName=Edith"))
	r := withRoster(t, s, nil, Options{Checks: []string{"roster-drift"}}, "1|Quill|Ada||Domes|Head|Larkmoor||||active", "2|Tern-Voss|Bram||Domes|Guide|Larkmoor|01|||active", "3|Birk|Clara||Domes|Guide|Larkmoor|1|||active",
		"4|Hollis|Dov||Domes||||||left", "5|Jessop|Edith|||||1|||active")
	var got []string
	for _, f := range r.Findings {
		fix := f.Fix()
		got = append(got, f.Account+": "+f.Evidence[0].Attr+" "+f.Evidence[0].Value+" > "+fix.New)
	}
	assert.Equal(t, []string{"drifts: department Lenses > Domes", "drifts: manager CN=other,OU=Staff,DC=x > CN=boss,OU=Staff,DC=x", "other: manager absent > CN=boss,OU=Staff,DC=x",
		"drifts: sn Tern > Tern-Voss", "drifts: title absent > Guide"}, got)
}

// TestOneProposalForAnAttribute holds who makes it: the roster where it surely says
// otherwise, the spelling of the many where it does not.
func TestOneProposalForAnAttribute(t *testing.T) {
	entries := append([]directory.Entry{domain, user("moved", "employeeID=1", "department=Work shop"), user("stays", "employeeID=2", "department=Work shop"),
		user("a-namesake", "department=Work-shop", "sn=Birk", "givenName=Clara"), user("left", "employeeID=4", "department=work shop")}, many(20, "x", "department=Workshop")...)
	r := withRoster(t, survey(directory.AD, entries...), nil, Options{Checks: []string{"value-variant", "roster-drift"}},
		"1|Quill|Ada||Domes||||||active", "2|Tern|Bram||Workshop||||||active", "3|Birk|Clara||Domes||||||active", "4|Hollis|Dov||Domes|||||2026-01-31|left")
	fixes := map[string]string{}
	for _, f := range r.Findings {
		if fix := f.Fix(); f.About("department") && fix != nil {
			assert.Empty(t, fixes[f.Account], "two proposals for %s", f.Account)
			fixes[f.Account] = f.Check + " " + fix.New
		}
	}
	assert.Equal(t, map[string]string{"moved": "roster-drift Domes", "stays": "value-variant Workshop", "a-namesake": "value-variant Workshop", "left": "value-variant Workshop"}, fixes)
}

// staff is a member of a random house, with the accounts that are theirs.
type staff struct {
	id, family, given, state, department string
	days                                 int // since the end, for those who left
	contradicts                          bool
	own                                  []*held
}

// held is an account of a random house.
type held struct {
	logon, state, department string // state: on, off or expired
	of                       *staff // nil for nobody's
}

func (h *held) entry() directory.Entry {
	changes := []string{}
	if h.of != nil {
		changes = append(changes, "employeeID="+h.of.id, "sn="+h.of.family, "givenName="+h.of.given)
	}
	if h.department != "" {
		changes = append(changes, "department="+h.department)
	}
	switch h.state {
	case "off":
		changes = append(changes, "userAccountControl=514")
	case "expired":
		changes = append(changes, "accountExpires="+ticks(3))
	}
	return user(h.logon, changes...)
}

// line is the row of the roster.
func (s *staff) line() string {
	status, end := map[string]string{"active": "active", "leave": "on leave", "left": "", "future": "planned"}[s.state], ""
	if s.state == "left" {
		end = asOf.Add(-time.Duration(s.days) * day).Format(time.DateOnly)
	}
	if s.contradicts {
		end = "2020-01-31"
	}
	return strings.Join([]string{s.id, s.family, s.given, "", s.department, "", "", "", "", end, status}, "|")
}

// letters is a name like no other.
func letters(r *rand.Rand) string {
	b := make([]byte, 10)
	for i := range b {
		b[i] = byte('a' + r.IntN(26))
	}
	return strings.ToUpper(string(b[:1])) + string(b[1:])
}

func newHouse(r *rand.Rand, people int) (all []*staff, accounts []*held) {
	departments := []string{"Domes", "Lenses", "domes", ""}
	for i := range people {
		s := &staff{id: fmt.Sprint(7000 + 13*i), family: letters(r), given: letters(r), state: []string{"active", "active", "left", "leave", "future"}[r.IntN(5)], days: 1 + r.IntN(400), department: departments[r.IntN(4)]}
		s.contradicts = (s.state == "active" || s.state == "leave") && r.IntN(5) == 0
		for n := range r.IntN(4) {
			h := &held{logon: fmt.Sprintf("u%dx%d", i, n), state: []string{"on", "on", "off", "expired"}[r.IntN(4)], department: departments[r.IntN(4)], of: s}
			if n == 2 {
				h.logon = "a-" + h.logon
			}
			s.own = append(s.own, h)
			accounts = append(accounts, h)
		}
		all = append(all, s)
	}
	for i := range r.IntN(5) {
		accounts = append(accounts, &held{logon: fmt.Sprintf("machine%c", 'a'+i), state: []string{"on", "off"}[r.IntN(2)]})
	}
	return all, accounts
}

// expectedOfHouse says again, slowly, what the checks of the roster report.
func expectedOfHouse(all []*staff, accounts []*held) (want []string) {
	for _, s := range all {
		name := s.family + ", " + s.given + " (" + s.id + ")"
		var ordinary, on []*held
		for _, h := range s.own {
			if !strings.HasPrefix(h.logon, "a-") {
				ordinary = append(ordinary, h)
				if h.state == "on" {
					on = append(on, h)
				}
			}
		}
		if s.state == "active" && len(s.own) == 0 {
			want = append(want, "no-account "+name)
		}
		if s.contradicts {
			want = append(want, "roster-conflict "+name)
		}
		if s.state == "active" && len(ordinary) == 1 && ordinary[0].state == "off" {
			want = append(want, "returned-disabled "+ordinary[0].logon)
		}
		if len(on) > 1 {
			for _, h := range on {
				want = append(want, "extra-account "+h.logon)
			}
		}
		for _, h := range s.own {
			switch {
			case h.state == "on" && s.state == "left":
				want = append(want, fmt.Sprintf("leaver-enabled %s %d", h.logon, s.days))
			case h.state == "on" && s.state == "leave":
				want = append(want, "leave-enabled "+h.logon)
			}
			if s.state != "left" && s.department != "" && !strings.EqualFold(s.department, h.department) && !strings.HasPrefix(h.logon, "a-") {
				want = append(want, "roster-drift "+h.logon)
			}
		}
	}
	for _, h := range accounts {
		if h.of == nil && h.state == "on" {
			want = append(want, "no-person "+h.logon)
		}
	}
	slices.Sort(want)
	return want
}

func TestTheRosterChecksSayWhatTheHouseIsLike(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		r := rand.New(rand.NewPCG(rapid.Uint64().Draw(rt, "seed"), 3))
		all, accounts := newHouse(r, rapid.IntRange(1, 40).Draw(rt, "people"))
		bearer := &held{logon: "bearer", state: "on", department: "Domes", of: &staff{id: "1", family: "Bearer", given: "Good", state: "active", department: "Domes"}}
		bearer.of.own = []*held{bearer}
		all, accounts = append(all, bearer.of), append(accounts, bearer)
		entries := []directory.Entry{domain}
		for _, h := range accounts {
			entries = append(entries, h.entry())
		}
		var lines []string
		for _, s := range all {
			lines = append(lines, s.line())
		}
		r.Shuffle(len(lines), func(i, j int) { lines[i], lines[j] = lines[j], lines[i] })
		var got []string
		for _, f := range withRoster(t, survey(directory.AD, entries...), nil, Options{}, lines...).Findings {
			c := byName(Checks, f.Check)
			if !c.ByRoster {
				continue
			}
			text := f.Check + " " + f.Account
			if f.Check == "leaver-enabled" {
				text += fmt.Sprintf(" %d", f.Days)
			}
			got = append(got, text)
		}
		slices.Sort(got)
		require.Equal(rt, expectedOfHouse(all, accounts), got)
	})
}

func TestALineThatRestsOnARosterRestsOnTheSettingsIdsToo(t *testing.T) {
	set := settings.Defaults()
	set.Roster.IDAttributes = []string{"extensionAttribute3", "employeeid"}
	check, err := Catalog(Checks).Named("leaver-enabled")
	require.NoError(t, err)
	assert.Equal(t, []string{"userAccountControl", "accountExpires", "employeeID", "employeeNumber", "mail", "userPrincipalName", "extensionAttribute3"}, check.RestsOn(directory.AD, set))
	overlap, err := Catalog(Checks).Named("never-used")
	require.NoError(t, err)
	assert.NotContains(t, overlap.RestsOn(directory.AD, set), "extensionAttribute3")
}

func TestTheSummaryOfARosterCountsEverybodyOnce(t *testing.T) {
	s := survey(directory.AD, domain, user("gone", "employeeID=1"), user("gone-off", "employeeID=2", "userAccountControl=514"), user("here", "employeeID=3", "mail=here@larkmoor.example"),
		user("by-mail", "mail=dov@larkmoor.example", "givenName=Dov", "sn=Hollis"), user("a-here"), user("strange"), user("strange-off", "userAccountControl=514"), user("spared"),
		user("torn", "employeeID=5", "mail=farid@larkmoor.example"), user("Administrator", "isCriticalSystemObject=TRUE"), user("room", "msExchRecipientTypeDetails=16"))
	spared := Exemption{Exemption: settings.Exemption{Match: settings.Match{Account: "spared"}, Reason: "a telescope", Owner: "workshop@larkmoor.example"}}
	r := withRoster(t, s, nil, Options{Exemptions: []Exemption{spared}}, "1|Quill|Ada|||||||2026-11-20|left", "2|Tern|Bram|||||||2026-11-20|left", "3|Birk|Clara|here@larkmoor.example|||||||active", "4|Hollis|Dov|dov@larkmoor.example|||||||leave",
		"5|Jessop|Edith||||||||active", "6|Nakata|Farid|farid@larkmoor.example|||||||active", "7|Okafor|Greta||||||2027-01-01||", "8|Pereira|Hugo||||||||active")
	assert.Equal(t, &RosterSummary{People: 8, Active: 4, Leave: 1, Left: 2, Future: 1, Matched: 4, Unsure: 2, Without: 2, Accounts: 9, Sure: 4, Likely: 1, Doubtful: 1, Nobodys: 3, Enabled: 7, Leaving: 2,
		ByKey: map[reconcile.Key]int{reconcile.ByPersonID: 3, reconcile.ByMail: 1, reconcile.BySecond: 1}}, r.Roster)
	assert.Equal(t, 5, r.Roster.MatchedAccounts())
}

func TestNotHavingFoundAnybodyIsNoProof(t *testing.T) {
	s := survey(directory.AD, domain, user("kbirk", "givenName=Kaja", "sn=Birk", "whenCreated=20180903000000.0Z"), user("oz", "givenName=Otto", "sn=Zielinski", "whenCreated=20110903000000.0Z"), user("printer7"))
	r := withRoster(t, s, nil, Options{Checks: []string{"no-person"}}, "19|Hollis|Kaja||Library||||2018-09-01||active")
	assert.Equal(t, []string{"kbirk likely 0", "oz sure 0", "printer7 sure 0"}, found(r, "no-person"))
	assert.Contains(t, proof(r, "no-person", "kbirk")[2], "candidate 1=Hollis, Kaja (19), row 2, active, score ")
	assert.Equal(t, "looks like=a room or device", proof(r, "no-person", "printer7")[0])
	for _, f := range r.Findings {
		assert.Equal(t, f.Account == "kbirk", f.Unconfirmed, "%s is not staged unasked", f.Account)
	}
}

// A roster that does not say who has left tells neither of leavers nor whom to
// enable.
func TestChecksWhoseColumnIsMissingAreNotLookedAt(t *testing.T) {
	s := survey(directory.AD, domain, user("quill", "mail=quill@x.example", "userAccountControl=514"), user("tern", "mail=tern@x.example"))
	list, err := roster.Read(strings.NewReader("mail\nquill@x.example\ntern@x.example\n"), "people", roster.Options{})
	require.NoError(t, err)
	people, err := reconcile.Run(list.People(time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC), roster.TrustStatus), s, reconcile.Options{Columns: list.Fields()})
	require.NoError(t, err)
	r := run(t, s, nil, Options{People: people, Checks: []string{"leaver-enabled", "returned-disabled", "no-account", "leave-enabled", "roster-drift"}})
	assert.Empty(t, r.Findings)
	why := map[string]string{}
	for _, sum := range r.Summary {
		assert.False(t, sum.Looked, sum.Check)
		why[sum.Check] = strings.Join(sum.NotLooked, "; ")
	}
	const states = "the roster has neither end dates nor a status (--show-mapping shows how its columns are read)"
	assert.Equal(t, map[string]string{"leaver-enabled": states, "returned-disabled": states, "no-account": states,
		"leave-enabled": "the roster has no status (--show-mapping shows how its columns are read)",
		"roster-drift":  "the roster has neither department, title, location, manager nor names (--show-mapping shows how its columns are read)"}, why)
}

func TestWhatMatchingHasToSayIsANote(t *testing.T) {
	s := survey(directory.AD, domain, user("a", "employeeID=1"))
	people, err := reconcile.Run(nil, s, reconcile.Options{})
	require.NoError(t, err)
	people.Notes = append(people.Notes, "ids are not compared")
	r := run(t, s, nil, Options{People: people, Checks: []string{"no-person"}})
	assert.Contains(t, r.Notes, "ids are not compared")
}
