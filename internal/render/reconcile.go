package render

import (
	"fmt"
	"io"
	"math"
	"slices"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"

	"yardbroom/internal/audit"
	"yardbroom/internal/reconcile"
	"yardbroom/internal/roster"
	"yardbroom/internal/sheet"
	"yardbroom/internal/wording"
	"yardbroom/internal/work"
)

// Reconciliation is an audit by the checks of the roster, and the roster.
type Reconciliation struct {
	*work.Reconciliation
	// Confirm is the command that confirms an account and a person.
	Confirm func(account, person string) string
}

// Reconciled writes who has which account, for people: what was compared, what
// came of it, and the findings.
func Reconciled(w io.Writer, r *Reconciliation, st Style) {
	s := r.Report.Roster
	base := Visible(r.Survey.Base) + " "
	fmt.Fprintln(
		w,
		st.wrapped(
			st.paint(base, text.Bold),
			base,
			fmt.Sprintf("with %s, %s, as of %s", Visible(r.Roster.Source), Visible(r.Roster.Form),
				wording.Moment(r.AsOf, st.Zone)),
		),
	)
	if columns := r.Roster.Columns; len(columns) > 0 {
		read := "Columns read: " + strings.Join(columns, ", ")
		if len(r.Roster.Unused) > 0 {
			read += "; not read: " + Visible(strings.Join(r.Roster.Unused, ", "))
		}
		fmt.Fprintln(w, Wrap(read+".", st.Width, "  "))
	}
	sums := bySeverity(r.Summary)
	fmt.Fprintln(w, totals(r.Report, st))
	leftOut(w, r.Earlier, st)
	firstSteps(w, "reconcile", sums, r.Report.Catalog)
	fmt.Fprintln(w)
	drawTable(w, st, []string{"What", "All", "Matched", "In doubt", "Without"}, [][]string{
		{"People", fmt.Sprint(s.People), fmt.Sprint(s.Matched), fmt.Sprint(s.Unsure), fmt.Sprint(s.Without)},
		{
			"Accounts",
			fmt.Sprint(s.Accounts),
			fmt.Sprint(s.MatchedAccounts()),
			fmt.Sprint(s.Doubtful),
			fmt.Sprint(s.Nobodys),
		}}, map[int]bool{1: true, 2: true, 3: true, 4: true}, nil)
	fmt.Fprintln(
		w,
		Wrap(
			"People: "+states(s)+". Accounts matched "+byKeys(s)+fmt.Sprintf("; %d sure, %d likely.", s.Sure, s.Likely),
			st.Width, "  "),
	)
	if s.Impersonal > 0 {
		fmt.Fprintln(
			w,
			Wrap(
				fmt.Sprintf(
					"Accounts without a person that look like those of services, rooms, shared mailboxes or tests: %d of %d.",
					s.Impersonal,
					s.Nobodys,
				),
				st.Width,
				"  ",
			),
		)
	}
	if text := patterns(r.People); text != "" {
		fmt.Fprintln(w, Wrap("Logon names: "+Visible(text)+".", st.Width, "  "))
	}
	fmt.Fprintln(w)
	summary(w, r.Report, sums, st)
	details(w, sums, st, func(w io.Writer, sum audit.Summary) {
		if sum.Check == "match-unsure" {
			r.doubts(w, sum, st)
			return
		}
		findings(w, r.Report, sum, st)
	})
}

// doubts writes the accounts in doubt, each with its candidates and how to
// settle it.
func (r *Reconciliation) doubts(w io.Writer, sum audit.Summary, st Style) {
	fmt.Fprintf(w, "\n%s (%s)\n", st.paint(sum.Check, text.Bold), st.severity(sum.Severity))
	shown, byDN := 0, r.doubtful()
	for i := range r.Findings {
		f := &r.Findings[i]
		d := byDN[f.DN]
		if d == nil || f.Check != sum.Check {
			continue
		}
		if st.Limit > 0 && shown == st.Limit {
			break
		}
		shown++
		if shown > 1 {
			fmt.Fprintln(w)
		}
		fmt.Fprintf(w, "%s (%s): %s\n", st.paint(Visible(f.Account), text.Bold), Place(f.DN), Visible(d.Why))
		for _, c := range d.Candidates {
			who := &r.People.People[c.Person]
			fmt.Fprintf(w, "  %.3f  %s, %s, row %d\n", c.Score, Visible(audit.PersonName(who)), personState(who),
				who.Rows[0])
			agree, differ := reconcile.Sides(r.People.Explain(c.Person, d.Account))
			for _, side := range []struct{ what, text string }{{"for      ", agree}, {"against  ", differ}} {
				if side.text != "" {
					const indent = "         "
					fmt.Fprintln(w, indent+side.what+hanging(Visible(side.text), st.Width, len(indent)+len(side.what)))
				}
			}
		}
		if len(d.Candidates) > 0 {
			best := &r.People.People[d.Candidates[0].Person]
			fmt.Fprintf(w, "         %s\n", Visible(r.Confirm(f.Account, callPerson(best))))
		}
	}
	if more := sum.Findings - shown; more > 0 {
		fmt.Fprintf(w, "… and %d more: --check %s shows them all\n", more, sum.Check)
	}
}

// callPerson is a word by which "link" finds a person.
func callPerson(who *roster.Person) string {
	if id := who.Values[roster.PersonID]; id != "" {
		return id
	}
	return fmt.Sprintf("row %d", who.Rows[0])
}

// doubtful finds the doubts by the DN of their account.
func (r *Reconciliation) doubtful() map[string]*reconcile.Doubt {
	byDN := make(map[string]*reconcile.Doubt, len(r.People.Doubts))
	for i := range r.People.Doubts {
		byDN[r.People.Doubts[i].Account.DN] = &r.People.Doubts[i]
	}
	return byDN
}

// states counts people by what they are.
func states(s *audit.RosterSummary) string {
	var parts []string
	for _, one := range []struct {
		n    int
		what string
	}{{s.Active, "active"}, {s.Leave, "on leave"}, {s.Left, "left"}, {s.Future, "not begun"}} {
		if one.n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", one.n, one.what))
		}
	}
	return strings.Join(parts, ", ")
}

// byKeys counts matched accounts by what they were matched by.
func byKeys(s *audit.RosterSummary) string {
	var parts []string
	for _, k := range reconcile.Keys {
		if n := s.ByKey[k]; n > 0 {
			parts = append(parts, fmt.Sprintf("by %s %d", keyWords[k], n))
		}
	}
	if len(parts) == 0 {
		return "by nothing"
	}
	return strings.Join(parts, ", ")
}

// keyWords are what to call keys in a sentence.
var keyWords = map[reconcile.Key]string{
	reconcile.ByLink:      "confirmed link",
	reconcile.ByPersonID:  "person id",
	reconcile.ByMail:      "mail address",
	reconcile.ByPrincipal: "sign-in name",
	reconcile.ByLogon:     "the roster's logon name",
	reconcile.ByName:      "name",
	reconcile.BySecond:    "the name of the first account",
}

// patterns are the naming patterns with their shares.
func patterns(r *reconcile.Result) string {
	var parts []string
	for _, p := range r.Patterns {
		part := p.Text
		if p.Seen > 0 {
			part += fmt.Sprintf(" (%.0f %% of those known)", math.Round(p.Share*100))
		}
		parts = append(parts, part)
	}
	return strings.Join(parts, ", ")
}

// PairsSheet is every pair that was stated.
func PairsSheet(r *reconcile.Result) *sheet.Sheet {
	s := &sheet.Sheet{
		Name:  "pairs",
		Title: "Pairs",
		Columns: []sheet.Column{
			{Name: "row", Title: "Row", Kind: sheet.Number},
			{Name: "person_id", Title: "Person id"},
			{Name: "account", Title: "Account", Key: true},
			{Name: "dn", Title: "DN", Wide: true},
			{Name: "key", Title: "Key"},
			{Name: "score", Title: "Score"},
		},
	}
	for i := range r.Pairs {
		p := &r.Pairs[i]
		who := &r.People[p.Person]
		s.Rows = append(
			s.Rows,
			[]any{
				who.Rows[0],
				who.Values[roster.PersonID],
				p.Account.Name(),
				p.Account.DN,
				string(p.By),
				fmt.Sprintf("%.3f", p.Score),
			},
		)
	}
	return s
}

// ReconciliationSheets are the parts of a reconciliation: what it is about,
// its checks, and the pairs.
func ReconciliationSheets(r *Reconciliation) []sheet.Sheet {
	about := AboutSheet(r.Report)
	s := r.Report.Roster
	about.Rows = append(
		about.Rows,
		[]any{"Roster", r.Roster.Source},
		[]any{"Read as", r.Roster.Form},
		[]any{"People", s.People},
		[]any{"with an account", s.Matched},
		[]any{
			"in doubt",
			s.Unsure,
		},
		[]any{"without", s.Without},
		[]any{"Users", s.Accounts},
		[]any{"matched", s.MatchedAccounts()},
		[]any{"in doubt", s.Doubtful},
		[]any{"without an owner", s.Nobodys},
		[]any{"Logon names", patterns(r.People)},
	)
	return slices.Concat([]sheet.Sheet{about, SummarySheet(r.Report)}, CheckSheets(r.Report),
		[]sheet.Sheet{*PairsSheet(r.People)})
}

// PatternShape is a naming pattern in JSON.
type PatternShape struct {
	Pattern string  `json:"pattern"` // {given:1}{family} and the like
	Share   float64 `json:"share"`   // of the logon names that it was learned from, from 0 to 1
	Seen    int     `json:"seen"`    // how many have it; 0 for one that the settings name
}

// RosterShape is the list of people in JSON.
type RosterShape struct {
	Source string    `json:"source"`
	Form   string    `json:"form"` // how it was read
	Read   time.Time `json:"read"` // when it was written or read
	Rows   int       `json:"rows"`
	// Unreadable are rows that could not be read.
	Unreadable []UnreadableShape `json:"unreadable"`
}

// UnreadableShape is a row that could not be read.
type UnreadableShape struct {
	Row int    `json:"row"`
	Why string `json:"why"`
}

// ReconciliationShape is a comparison of roster and directory in JSON. Times
// are in UTC.
type ReconciliationShape struct {
	Schema   string               `json:"schema"` // yardbroom/reconcile/1
	AsOf     time.Time            `json:"as_of"`  // the moment it is judged for
	Survey   SurveyShape          `json:"survey"`
	Roster   RosterShape          `json:"roster"`
	Matched  *audit.RosterSummary `json:"matched"`  // what became of people and accounts
	Patterns []PatternShape       `json:"patterns"` // how logon names are made
	Summary  []audit.Summary      `json:"summary"`  // an object a check
	Notes    []string             `json:"notes"`
	Findings []FindingShape       `json:"findings"`
	LeftOutShape
}

// ReconciliationSchema is the version of the JSON shape.
const ReconciliationSchema = "yardbroom/reconcile/1"

// ReconciliationJSON writes all of it as one object.
func ReconciliationJSON(w io.Writer, r *Reconciliation) error {
	out := ReconciliationShape{
		Schema:   ReconciliationSchema,
		AsOf:     r.AsOf.UTC(),
		Survey:   surveyShape(r.Survey),
		Matched:  r.Report.Roster,
		Roster:   RosterShape{r.Roster.Source, r.Roster.Form, r.Roster.Read.UTC(), r.Roster.Rows, []UnreadableShape{}},
		Patterns: []PatternShape{},
		Summary:  r.Summary,
		Notes:    append([]string{}, r.Notes...),
		Findings: FindingShapes(r.Findings),
	}
	for _, b := range r.Bad {
		out.Roster.Unreadable = append(out.Roster.Unreadable, UnreadableShape{b.N, b.Why})
	}
	for _, p := range r.People.Patterns {
		out.Patterns = append(out.Patterns, PatternShape{p.Text, math.Round(p.Share*1000) / 1000, p.Seen})
	}
	out.LeftOutShape = leftOutShape(r.Earlier)
	return JSON(w, out)
}

// mostBeside is how many doubtful accounts a page shows side by side with
// their candidates; the rest stand in the list.
const mostBeside = 200

// ReconciliationPage is a comparison of roster and directory as a page: where
// people and accounts went, the leavers by the days since they left, the
// doubtful ones side by side, and a section for each check.
func ReconciliationPage(r *Reconciliation, zone *time.Location, made time.Time) (*Page, error) {
	s := r.Report.Roster
	p := &Page{Title: "People and accounts of " + r.Survey.Base, Zone: zone, Made: made,
		Subtitle: fmt.Sprintf("%s of %s with %s of %s, as of %s", wording.Count(s.Accounts, "user account"),
			r.Survey.Source, people(s.People), r.Roster.Source, wording.Moment(r.AsOf, zone))}
	p.Facts = []Fact{{fmt.Sprint(s.Matched), "people with an account", Plain}}
	for _, f := range []struct {
		n    int
		what string
		tone Tone
	}{{countOf(r.Report, audit.LeaverEnabled), "enabled accounts of leavers", ToneHigh}, {countOf(r.Report, audit.NoPerson), "enabled accounts of nobody", ToneMedium},
		{countOf(r.Report, "no-account"), "people without an account", ToneMedium}, {countOf(r.Report, "match-unsure"), "in doubt", ToneLow}} {
		if f.n > 0 {
			p.Facts = append(p.Facts, Fact{fmt.Sprint(f.n), f.what, f.tone})
		}
	}
	var err error
	if p.Charts, err = reconciliationCharts(r); err != nil {
		return nil, err
	}
	about := Section{ID: "matched", Open: true, Sheet: sheet.Sheet{Title: "What was matched by what"}, Pairs: []Fact{
		{
			Label: "People",
			Value: states(s),
		}, {Label: "Accounts", Value: "matched " + byKeys(s) + fmt.Sprintf("; %d sure, %d likely", s.Sure, s.Likely)},
		{
			Label: "Logon names",
			Value: patterns(r.People),
		}, {Label: "Roster", Value: fmt.Sprintf("%s, %s, %s", r.Roster.Source, r.Roster.Form, wording.Count(r.Roster.Rows, "row"))}}}
	p.Sections = append(p.Sections, overview(r.Report), about)
	found := byCheck(r.Findings)
	sums := bySeverity(r.Summary)
	for _, sum := range sums {
		findings := found[sum.Check]
		if len(findings) == 0 {
			continue
		}
		section, err := checkSection(r.Report, &sum, findings, zone)
		if err != nil {
			return nil, err
		}
		section.Open = sum.Severity >= audit.Medium
		if sum.Check == "match-unsure" {
			section.Sheet, section.Open, section.Count = besideSheet(r, findings), true, len(findings)
			section.Lead += " Each account beside its candidates, best first, with what agrees (✓) and what does not (✗)."
			if len(findings) > mostBeside {
				section.Lead += fmt.Sprintf(" The first %d of %d.", mostBeside, len(findings))
			}
		}
		p.Sections = append(p.Sections, section)
	}
	p.Notes = append(slices.Clone(r.Notes), notLooked(sums)...)
	for _, b := range r.Bad[:min(len(r.Bad), 20)] {
		p.Notes = append(p.Notes, fmt.Sprintf("Row %d of the roster could not be read: %s.", b.N, b.Why))
	}
	return p, nil
}

func people(n int) string {
	if n == 1 {
		return "1 person"
	}
	return fmt.Sprintf("%d people", n)
}

func countOf(r *audit.Report, check string) int {
	for _, sum := range r.Summary {
		if sum.Check == check {
			return sum.Findings
		}
	}
	return 0
}

// besideSheet shows doubtful accounts beside their candidates: a row for each
// thing that was compared, with what the directory has and what the roster has
// of each candidate.
func besideSheet(r *Reconciliation, findings []audit.Finding) sheet.Sheet {
	s := sheet.Sheet{
		Name:  "match-unsure",
		Title: "match-unsure",
		Columns: []sheet.Column{
			{Name: "account", Title: "Account", Key: true},
			{Name: "what", Title: "What"},
			{Name: "directory", Title: "Directory"},
		},
	}
	most, byDN := 0, r.doubtful()
	for i := range findings[:min(len(findings), mostBeside)] {
		d := byDN[findings[i].DN]
		if d == nil {
			continue
		}
		most = max(most, len(d.Candidates))
		s.Rows = append(s.Rows, beside(r.People, d)...)
	}
	for i := range most {
		s.Columns = append(s.Columns,
			sheet.Column{Name: fmt.Sprintf("candidate-%d", i+1), Title: fmt.Sprintf("Candidate %d", i+1)})
	}
	for i := range s.Rows {
		for len(s.Rows[i]) < len(s.Columns) {
			s.Rows[i] = append(s.Rows[i], nil)
		}
	}
	return s
}

// beside makes the rows of one doubtful account.
func beside(people *reconcile.Result, d *reconcile.Doubt) [][]any {
	name := d.Account.Name()
	head := []any{name, "person", d.Why}
	var rows [][]any
	at := map[string]int{}
	for n, c := range d.Candidates {
		who := &people.People[c.Person]
		head = append(head, fmt.Sprintf("%s, %s, score %.3f", audit.PersonName(who), personState(who), c.Score))
		for _, clue := range people.Explain(c.Person, d.Account) {
			i, known := at[clue.What]
			if !known {
				i = len(rows)
				at[clue.What] = i
				rows = append(rows, []any{name, clue.What, clue.Directory})
			}
			for len(rows[i]) < 3+n {
				rows[i] = append(rows[i], nil)
			}
			if len(rows[i]) == 3+n {
				rows[i] = append(rows[i], besideCell(clue))
			}
		}
	}
	return append([][]any{head}, rows...)
}

// besideCell is what the roster has, with a mark for whether it agrees.
func besideCell(c reconcile.Clue) string {
	mark := "✓ "
	if !c.Agrees() {
		mark = "✗ "
	}
	if c.Result == reconcile.Same || c.Result == reconcile.Different && c.Roster != "" {
		return mark + c.Roster
	}
	return strings.TrimSpace(mark+c.Roster) + " (" + c.Result + ")"
}

// reconciliationCharts draw where people and accounts went, and for how long
// leavers have been gone whose accounts are enabled.
func reconciliationCharts(r *Reconciliation) ([]Chart, error) {
	s := r.Report.Roster
	var out []Chart
	if err := addChart(&out, "Where people and user accounts went", []Bar{{"people with an account", s.Matched, Plain}, {"people in doubt", s.Unsure, ToneLow}, {"people without one", s.Without, ToneMedium},
		{"accounts of somebody, sure", s.Sure, Plain}, {"accounts of somebody, likely", s.Likely, Plain}, {"accounts in doubt", s.Doubtful, ToneLow}, {"accounts of nobody", s.Nobodys, ToneMedium}}, true); err != nil {
		return nil, err
	}
	edges := []int{8, 31, 91, 181, 366}
	bars := []Bar{
		{"0–7", 0, ToneHigh},
		{"8–30", 0, ToneHigh},
		{"31–90", 0, ToneHigh},
		{"91–180", 0, ToneHigh},
		{"181–365", 0, ToneHigh},
		{"366+", 0, ToneHigh},
		{"no date", 0, ToneHigh},
	}
	any := false
	for i := range r.Findings {
		f := &r.Findings[i]
		if f.Check != audit.LeaverEnabled {
			continue
		}
		any = true
		at := len(bars) - 1
		if !f.Since.IsZero() {
			at, _ = slices.BinarySearch(edges, f.Days+1)
		}
		bars[at].Value++
	}
	if !any {
		bars = nil
	}
	return out, addChart(&out, "Enabled accounts of leavers, days since they left", bars, false)
}
