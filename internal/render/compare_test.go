package render

import (
	"bytes"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/audit"
	"yardbroom/internal/directory"
)

func TestAComparisonIsHarmlessOnATerminal(t *testing.T) {
	hostile := "Ada\x1b[31m\nQuill"
	side := &audit.Report{AsOf: time.Date(2026, 11, 20, 0, 0, 0, 0, time.UTC), Survey: directory.NewSurvey(directory.AD)}
	side.Survey.Source = hostile
	f := audit.Finding{Check: "stale", Severity: audit.Medium, Kind: "user", DN: "CN=" + hostile + ",OU=" + hostile + ",DC=x", Account: hostile, Confidence: audit.Sure,
		Evidence: []audit.Evidence{{Attr: "title", Value: hostile}}, Change: "new"}
	gone := f
	gone.Change = "gone"
	side.Summary = []audit.Summary{{Check: "stale", Severity: audit.Medium, Findings: 1, Looked: true}}
	c := &audit.Comparison{Before: side, After: side, New: []audit.Finding{f}, Gone: []audit.Finding{gone},
		Accounts: []audit.AccountChange{{What: audit.Appeared, Account: hostile, DN: f.DN, Is: "enabled"}, {What: audit.Moved, Account: hostile, DN: f.DN, Was: f.DN, Is: f.DN},
			{What: audit.State, Account: hostile, DN: f.DN, Was: "enabled", Is: "disabled"}, {What: audit.Vanished, Account: hostile, DN: f.DN, Was: "enabled"}},
		Members: []audit.MemberChange{{What: audit.Joined, Account: hostile, DN: f.DN, Group: hostile, GroupDN: f.DN, Privileged: true}}}
	var b bytes.Buffer
	Comparison(&b, c, Style{Width: 120, Zone: time.UTC})
	assert.NotContains(t, b.String(), "\x1b")
	assert.NotContains(t, b.String(), "\nQuill", "a name is one line")
	for _, want := range []string{"1 new finding, 0 still there, 1 gone", "enabled → disabled", "privileged", "1 account appeared, 1 vanished, 1 moved or renamed, 1 changed state; 1 membership of groups changed"} {
		assert.Contains(t, b.String(), want)
	}
	b.Reset()
	require.NoError(t, ComparisonJSON(&b, c))
	assert.Contains(t, b.String(), `"change": "gone"`)
	b.Reset()
	require.NoError(t, SheetCSV(&b, FindingsSheet(c.All())))
	assert.Contains(t, b.String(), "suggest,change\r\n")
	b.Reset()
	require.NoError(t, SheetCSV(&b, FindingsSheet(nil)))
	assert.NotContains(t, b.String(), "change")
}

func TestLimitsAreSaid(t *testing.T) {
	side := &audit.Report{Survey: directory.NewSurvey(directory.AD)}
	c := &audit.Comparison{Before: side, After: side}
	for range 20 {
		c.New = append(c.New, audit.Finding{Check: "stale", Account: "a", DN: "CN=a"})
		c.Gone = append(c.Gone, audit.Finding{Check: "stale", Account: "a", DN: "CN=a"})
		c.Accounts = append(c.Accounts, audit.AccountChange{What: audit.Appeared, Account: "a", DN: "CN=a"})
		c.Members = append(c.Members, audit.MemberChange{What: audit.Joined, Account: "a", DN: "CN=a"})
	}
	var b bytes.Buffer
	Comparison(&b, c, Style{Width: 100, Zone: time.UTC, Limit: 5})
	for _, want := range []string{"… and 15 more: --limit 0", "… and 10 more: --limit 0", "… and 15 more appeared"} {
		assert.Contains(t, b.String(), want)
	}
}

func TestParagraphs(t *testing.T) {
	text := "Reports something.\n\n**What it looks at.** The `mail` of\neach.\n"
	assert.Equal(t, "Reports something.\n\nWhat it looks at. The `mail` of\neach.\n", Paragraphs(text, Style{Width: 80}))
}

func TestEvidenceKeepsItsOrderAndItsSigns(t *testing.T) {
	var b bytes.Buffer
	f := audit.Finding{Check: "privileged", Evidence: []audit.Evidence{{Attr: "Outer", Value: "through Inner > Outer & <more>"}, {Attr: "Inner", Value: "member"}}}
	require.NoError(t, FindingsJSONL(&b, []audit.Finding{f}))
	assert.Contains(t, b.String(), `"evidence":{"Outer":"through Inner > Outer & <more>","Inner":"member"},"suggest":[]`)
}
