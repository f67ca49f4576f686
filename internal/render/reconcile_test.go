package render

import (
	"bytes"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/audit"
	"yardbroom/internal/directory"
	"yardbroom/internal/reconcile"
	"yardbroom/internal/roster"
	"yardbroom/internal/settings"
	"yardbroom/internal/work"
)

// reconciled is a small house: Ada has left, one account is between two
// people, one is nobody's.
func reconciled(t *testing.T) *Reconciliation {
	t.Helper()
	list, err := roster.Read(strings.NewReader("id,family,given,mail,end\n1,Quill,Ada,,2026-10-31\n2,Tern,Bram,bram@x.example,\n3,\x1b[31mBirk,Clara,,\n"), "people.csv", roster.Options{})
	require.NoError(t, err)
	s := directory.NewSurvey(directory.AD)
	part := s.NewPart(0, directory.AttrSet{})
	for i, pairs := range [][]string{{"aquill", "employeeID", "1"}, {"between", "employeeID", "2", "mail", "bram@x.example", "givenName", "Zora"}, {"both", "employeeID", "3", "mail", "bram@x.example"}, {"machine"}} {
		e := directory.Entry{DN: "CN=" + pairs[0] + ",OU=Staff,DC=x"}
		e.Set("objectClass", "user")
		e.Set("sAMAccountName", pairs[0])
		e.Set("userAccountControl", "512")
		e.Set("accountExpires", "0")
		e.Set("objectGUID", fmt.Sprintf("%016d", i))
		for at := 1; at+1 < len(pairs); at += 2 {
			e.Set(pairs[at], pairs[at+1])
		}
		part.Add(directory.AD, &e)
	}
	s.Merge(part)
	s.Source = "yard.ldif"
	asOf := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	result, err := reconcile.Run(list.People(time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC), roster.TrustStatus), s, reconcile.Options{})
	require.NoError(t, err)
	var names []string
	for _, c := range audit.Checks {
		if c.ByRoster {
			names = append(names, c.Name)
		}
	}
	report, err := audit.Run(s, settings.Defaults(), audit.Options{AsOf: asOf, Checks: names, People: result})
	require.NoError(t, err)
	return &Reconciliation{Reconciliation: &work.Reconciliation{Report: report, Roster: roster.Kept{Source: "people.csv", Form: "UTF-8", Rows: 3}, Bad: []roster.Bad{{N: 9, Why: "it says nobody"}}},
		Confirm: func(account, person string) string { return "confirm " + account + " " + person }}
}

func TestAReconciliationForPeople(t *testing.T) {
	var b bytes.Buffer
	Reconciled(&b, reconciled(t), Style{Width: 110, Zone: time.UTC})
	out := b.String()
	for _, want := range []string{
		"leaver-enabled (high)", "aquill   Staff    23  sure        person Quill, Ada (1); row 2; end 2026-10-31; matched by person-id",
		"both (Staff): two keys disagree", "for      person id 3", "against  person id 2/3", "confirm both ",
		"People      3        2         1        0", "Accounts    4        2         1        1",
		"People: 2 active, 1 left. Accounts matched by person id 2; 2 sure, 0 likely.",
	} {
		assert.Contains(t, out, want)
	}
	assert.NotContains(t, out, "\x1b", "nothing of the roster reaches the terminal as it is")
}

func TestOnlyWhatIsNewIsLeft(t *testing.T) {
	r := reconciled(t)
	all := len(r.Findings)
	at := time.Date(2026, 11, 20, 0, 0, 0, 0, time.UTC)
	r.Report = r.Only(func(i int) bool { return i == 0 })
	r.Report.Earlier = &audit.Earlier{At: at, Known: all - 1}
	assert.Len(t, r.Findings, 1)
	counted := 0
	for _, sum := range r.Summary {
		counted += sum.Findings
	}
	assert.Equal(t, 1, counted, "the summary counts what is left")
	var b bytes.Buffer
	Reconciled(&b, r, Style{Width: 100, Zone: time.UTC})
	assert.Contains(t, b.String(), fmt.Sprintf("New since the audit of 2026-11-20 00:00 UTC; %d were found then too.", all-1))
}

func TestPairsAsCSV(t *testing.T) {
	var b bytes.Buffer
	require.NoError(t, SheetCSV(&b, PairsSheet(reconciled(t).People)))
	lines := strings.Split(strings.TrimSpace(b.String()), "\r\n")
	assert.Equal(t, []string{"row,person_id,account,dn,key,score", `2,1,aquill,"CN=aquill,OU=Staff,DC=x",person-id,1.000`}, lines[:2])
	assert.Len(t, lines, 3)
}

func TestTheReconciliationPageSaysWhatCouldNotBeRead(t *testing.T) {
	page, err := ReconciliationPage(reconciled(t), time.UTC, time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC))
	require.NoError(t, err)
	assert.Contains(t, page.Notes, "Row 9 of the roster could not be read: it says nobody.")
	assert.Len(t, page.Charts, 2)
	var beside Section
	for _, s := range page.Sections {
		if s.ID == "match-unsure" {
			beside = s
		}
	}
	assert.Equal(t, 1, beside.Count)
	assert.Equal(t, []any{"both", "person", "two keys disagree"}, beside.Sheet.Rows[0][:3])
	for _, row := range beside.Sheet.Rows {
		assert.Len(t, row, len(beside.Sheet.Columns), "every row is as wide as the header")
	}
	var b bytes.Buffer
	require.NoError(t, page.Write(&b))
	assert.NotContains(t, b.String(), "\x1b")
}
