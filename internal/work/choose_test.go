package work

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/audit"
	"yardbroom/internal/batch"
	"yardbroom/internal/calendar"
	"yardbroom/internal/directory"
	"yardbroom/internal/roster"
	"yardbroom/internal/settings"
)

func TestWhatIsAskedToBeStagedGoesTogether(t *testing.T) {
	where := &settings.Filter{Where: settings.Conditions{Enabled: true}}
	some := Choice{Names: []string{"ada"}}
	for _, c := range []struct {
		r    StageRequest
		want string // part of the error, "" for none
	}{
		{StageRequest{Actions: []string{batch.Disable}, Choice: some}, ""},
		{StageRequest{Actions: []string{batch.Disable}}, "say which accounts"},
		{StageRequest{Actions: []string{batch.Disable}, Choice: Choice{Where: where}}, ""},
		{StageRequest{Actions: []string{batch.Disable}, Choice: Choice{Where: where, Names: []string{"ada"}}}, ""},
		{StageRequest{Actions: []string{batch.Clear}, Attr: "title", Choice: Choice{Where: where, Names: []string{"ada"}}}, ""},
		{StageRequest{Actions: []string{batch.Disable}, Choice: Choice{Where: where, Listed: []string{}}}, ""},
		{StageRequest{Actions: []string{batch.Disable}, Choice: Choice{Where: where}, Question: Question{Checks: []string{"stale"}}}, ""},
		{StageRequest{Actions: []string{batch.Fill}, Attr: "employeeID", Value: "{roster.person-id}"}, ""},
		{StageRequest{Actions: []string{batch.Fill}, Attr: "employeeID", Value: "{roster.person-id}", Choice: Choice{Where: where}}, "give no conditions"},
		{StageRequest{Actions: []string{batch.Fill}, Attr: "employeeID", Value: "{sn}"}, "say which accounts"},
		{StageRequest{Actions: []string{batch.Disable}, Text: "x", Choice: some}, "--text goes with describe"},
		{StageRequest{Actions: []string{batch.Describe}, Choice: some}, "say with --text"},
		{StageRequest{Actions: []string{batch.Describe}, Text: "{wrong}", Choice: some}, "--text: "},
		{StageRequest{Actions: []string{batch.Disable, batch.Describe}, Text: "{reason}", Choice: some}, ""},
		{StageRequest{Actions: []string{batch.Expire}, Choice: some}, "say with --expires"},
		{StageRequest{Actions: []string{batch.Disable}, Expires: "2027-01-01", Choice: some}, "--expires goes with expire"},
		{StageRequest{Actions: []string{batch.Disable}, Unlock: true, Choice: some}, "--unlock goes with reset-password"},
		{StageRequest{Actions: []string{batch.Disable}, EvenEnabled: true, Choice: some}, "--even-enabled goes with delete"},
		{StageRequest{Actions: []string{batch.JoinGroup}, Choice: some}, "say which group"},
		{StageRequest{Actions: []string{batch.Disable}, Groups: []string{"crew"}, Choice: some}, "--group goes with"},
	} {
		err := c.r.check()
		if c.want == "" {
			assert.NoError(t, err, "%+v", c.r)
			continue
		}
		require.ErrorAs(t, err, new(RequestError), "%+v", c.r)
		assert.ErrorContains(t, err, c.want)
	}
}

func TestFindingsThatAreMeant(t *testing.T) {
	y := newYard(t)
	on := func(dn string, confidence audit.Confidence, attr string) audit.Finding {
		return audit.Finding{Check: "value-missing", DN: dn, Account: strings.ToLower(dn[3:4]), Kind: "user", Confidence: confidence, Evidence: []audit.Evidence{{Attr: attr, Value: "x"}}}
	}
	missing := on("CN=D", audit.Sure, "missing")
	missing.Evidence[0].Value = "givenName, sn"
	exempt := on("CN=E", audit.Sure, "l")
	exempt.Kind = "exemption"
	findings := []audit.Finding{on("CN=A", audit.Likely, "l"), on("cn=a", audit.Sure, "title"), on("CN=B", audit.Sure, "l"), missing, exempt, {Check: "no-account", Kind: "person"}}
	disable := &StageRequest{Actions: []string{batch.Disable}}
	m := y.meant(findings, disable)
	assert.Equal(t, []string{"CN=A", "CN=B", "CN=D"}, m.dns, "an entry once; no exemption and no person")
	assert.Equal(t, audit.Sure, m.byDN["cn=a"].Confidence, "the surest finding of an entry counts")
	for _, c := range []struct {
		attr string
		want []string
	}{
		{"", []string{"CN=A", "CN=B", "CN=D"}},
		{"L", []string{"CN=A", "CN=B"}},
		{"sn", []string{"CN=D"}},
		{"n", nil},
	} {
		m := y.meant(findings, &StageRequest{Actions: []string{batch.Fill}, Attr: c.attr, Value: "x"})
		assert.Equal(t, c.want, m.dns, c.attr)
	}
	chosen := on("CN=B", audit.Sure, "l")
	chosen.Check = chosenCheck
	where := &StageRequest{Actions: []string{batch.Disable}, Choice: Choice{Where: &settings.Filter{}}, Question: Question{Checks: []string{"value-missing", chosenCheck}}}
	dns := func(findings []audit.Finding) (all []string) {
		for _, f := range findings {
			all = append(all, f.DN)
		}
		return all
	}
	assert.Equal(t, []string{"CN=B"}, dns(where.narrowed(append(findings, chosen), nil)), "findings of those who fulfil the conditions, for what the check says")
	assert.Equal(t, []string{"CN=A", "cn=a"}, dns(disable.narrowed(findings, []directory.Entry{{DN: "cn=A"}})), "findings of those who are named")
	assert.Empty(t, where.narrowed(append(findings, chosen), []directory.Entry{{DN: "cn=a"}}), "both")
}

// TestASignInMeanwhileDisproves tells for each check that rests on sign-ins which
// of them, read at staging, make a finding void.
func TestASignInMeanwhileDisproves(t *testing.T) {
	y := newYard(t)
	survey, err := y.open(t).Survey(t.Context())
	require.NoError(t, err)
	day := func(n int) time.Time { return now.AddDate(0, 0, n) }
	for _, c := range []struct {
		check string
		since time.Time
		last  time.Time
		void  bool
	}{
		{"stale", day(-200), day(-200), false},
		{"stale", day(-200), day(-1), true},
		{"stale", day(-200), time.Time{}, false},
		{"stale-computer", day(-200), day(-1), true},
		{"stale-computer", day(-200), day(-300), false},
		{"never-used", day(-200), time.Time{}, false},
		{"never-used", day(-200), day(-300), true},
		{"unjoined-computer", day(-200), day(-1), true},
		{"password-old", day(-200), day(-1), false},
		{"gone-since", day(-200), day(-1), false},
	} {
		e := directory.Entry{DN: "CN=Ada Quill,OU=Staff," + base}
		e.Set("objectClass", "user")
		if !c.last.IsZero() {
			e.Set("lastLogon", directory.FormatFileTime(c.last))
		}
		void := y.signedInMeanwhile(survey, &batch.Candidate{Entry: e, Finding: &audit.Finding{Check: c.check, Since: c.since}})
		assert.Equal(t, c.void, void != "", "%+v", c)
	}
}

func TestARosterThatLooksHalfDeliveredStagesNobody(t *testing.T) {
	rows := strings.Repeat("9,Gone,Away,2020-01-31\n", 3)
	whole := everybody + rows
	half := "1,Ada,Quill,\n" // of five enabled accounts, three would have to go
	bad := everybody + "6,Eva,Falk,someday\n"
	for _, c := range []struct {
		name, roster, check string
		saidWhole           bool
		want                string // part of the error
	}{
		{"whole", whole, "no-person", false, ""},
		{"half, by absence", half, "no-person", false, "of 4 enabled accounts would have to go"},
		{"half, but said to be whole", half, "no-person", true, ""},
		{"half, for leavers", half, "leaver-enabled", false, "would have to go"},
		{"half, for another check", half, "password-old", false, ""},
		{"a row cannot be read, by absence", bad, "no-person", false, "1 row of the roster could not be read"},
		{"a row cannot be read, for leavers", bad, "leaver-enabled", false, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			y := newYard(t)
			y.Stdin = strings.NewReader("id,given,family,end\n" + c.roster)
			q := Question{Checks: []string{c.check}, Roster: RosterFrom{Where: "-"}}
			p := y.open(t)
			report, err := y.Judge(t.Context(), p, &q)
			require.NoError(t, err)
			r := &StageRequest{Question: q, WholeRoster: c.saidWhole, Actions: []string{batch.Disable}}
			if !r.WholeRoster {
				err = y.halfDelivered(t.Context(), p, report, &r.Question)
			}
			if c.want == "" {
				assert.NoError(t, err)
				return
			}
			assert.ErrorContains(t, err, c.want)
			_, err = y.Stage(t.Context(), p, r)
			assert.ErrorContains(t, err, c.want, "staging asks")
		})
	}
}

func TestOnlySurePeopleFillAccounts(t *testing.T) {
	y := newYard(t)
	y.dir.Edit("CN=Dov Ekholm,OU=Staff,"+base, func(e *directory.Entry) { e.Set("employeeNumber") })
	y.dir.Edit("CN=Ada Quill,OU=Staff,"+base, func(e *directory.Entry) { e.Set("employeeID", "1") })
	y.add(t, "CN=Stranger,OU=Staff,"+base, "objectClass", "user", "sAMAccountName", "stranger", "userAccountControl", "512")
	y.reconciled(t, everybody)
	fill := &StageRequest{Actions: []string{batch.Fill}, Attr: "employeeID", Value: "{roster.person-id}"}
	b := y.must(t, fill)
	var accounts []string
	for i := range b.Lines {
		accounts = append(accounts, b.Lines[i].Account)
	}
	assert.Equal(t, []string{"bram", "cleo"}, accounts, "Ada has it, the keeper is signed in; whose Dov's account is is likely only")
	fill.Names = []string{"dov", "bram", "stranger"}
	staged, err := y.Stage(t.Context(), y.open(t), fill)
	require.NoError(t, err)
	require.Len(t, staged.Refusals, 2)
	assert.Contains(t, staged.Refusals[0].Why, "likely, not sure")
	assert.Contains(t, staged.Refusals[1].Why, "not known")
}

func TestRulesOfTheRoster(t *testing.T) {
	who := &roster.Person{}
	who.Values[roster.PersonID], who.Values[roster.Given] = "17", "A{d}a"
	for _, c := range []struct{ rule, want, err string }{
		{"{roster.person-id}", "17", ""},
		{"x-{roster.person-id}-{sn}", "x-17-{sn}", ""},
		{"{roster.given}", "A{{d}}a", ""},
		{"{sn}", "{sn}", ""},
		{"{roster.family}", "", "the roster gives no family"},
		{"{roster.shoe-size}", "", "names one of"},
		{"{roster.given", "", "names one of"},
	} {
		got, err := rosterRule(c.rule, who)
		assert.Equal(t, c.want, got, c.rule)
		if c.err != "" {
			assert.ErrorContains(t, err, c.err)
		} else {
			assert.NoError(t, err)
		}
	}
	assert.NoError(t, CheckRule("{roster.family}"), "whoever has none is told at staging")
	assert.ErrorAs(t, CheckRule("{roster.shoe-size}"), new(RequestError))
}

func TestConditionsChooseLikeAFinding(t *testing.T) {
	y := newYard(t)
	y.dir.Edit("CN=Bram Tern,OU=Staff,"+base, func(e *directory.Entry) { e.Set("lastLogon", directory.FormatFileTime(now.AddDate(0, 0, -200))) })
	idle := calendar.Days(120)
	b := y.must(t, &StageRequest{Actions: []string{batch.Disable}, IncludeLikely: true, Choice: Choice{Where: &settings.Filter{Kind: "users", Where: settings.Conditions{Idle: &idle, Enabled: true}}}})
	require.Len(t, b.Lines, 1)
	assert.Equal(t, "bram", b.Lines[0].Account)
	assert.Contains(t, b.Lines[0].Reason, "chosen by enabled, idle for 120d")
	assert.NotEmpty(t, b.Lines[0].Guard)
	assert.NotContains(t, y.Settings.Audit.Filters, chosenCheck, "the session's own settings stay as they are")
	_, err := y.Catalog.Named(chosenCheck)
	assert.Error(t, err)
}

func TestNothingIsStagedForATimeToCome(t *testing.T) {
	y := newYard(t)
	for text, want := range map[string]string{"": "", "2026-11-01": "", "2026-12-24": "is still to come", "yesterday": "--as-of"} {
		at, err := y.judgedFor(y.open(t), text)
		assert.True(t, want != "" || at.IsZero(), text)
		if want != "" {
			assert.ErrorContains(t, err, want)
		} else {
			assert.NoError(t, err)
		}
	}
	at, err := y.judgedFor(&Place{}, "2026-12-24")
	assert.NoError(t, err, "a file can wait for it")
	assert.Equal(t, "2026-12-24", at.Format(time.DateOnly))
}

func TestReadNames(t *testing.T) {
	for _, c := range []struct {
		text, column string
		want         []string
		err          string
	}{
		{"ada\nbram\n", "", []string{"ada", "bram"}, ""},
		{"\ufeffaccount\nada\n", "", []string{"ada"}, ""},
		{"who,DN\nx,\"CN=Ada,DC=x\"\n", "", []string{"CN=Ada,DC=x"}, ""},
		{"who,badge\nada,7\n", "who", []string{"ada"}, ""},
		{"who,badge\nada,7\n", "", nil, "no column is called \"\"; there are who, badge"},
		{"who,badge\nada,7\n", "phone", nil, "no column is called \"phone\""},
		{"account\n'=ada\n", "", []string{"=ada"}, ""},
		{"account,x\nada,1\n ,2\n", "", nil, "list: line 3 has no name"},
		{"account\n", "", nil, "list names nobody"},
		{"", "", nil, "list is empty"},
		{"a\"b\n", "", nil, "list: parse error on line 1"},
	} {
		got, err := ReadNames(strings.NewReader(c.text), "list", c.column)
		assert.Equal(t, c.want, got, "%q", c.text)
		if c.err != "" {
			assert.ErrorContains(t, err, c.err, "%q", c.text)
		} else {
			assert.NoError(t, err, "%q", c.text)
		}
	}
}
