package render

import (
	"cmp"
	"fmt"
	"io"
	"slices"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"

	"yardbroom/internal/audit"
	"yardbroom/internal/directory"
	"yardbroom/internal/sheet"
	"yardbroom/internal/wording"
)

// Comparison writes what changed between two audits for people: the accounts,
// their groups, and the findings.
func Comparison(w io.Writer, c *audit.Comparison, st Style) {
	for _, side := range []struct {
		word string
		r    *audit.Report
	}{{"Before", c.Before}, {"After", c.After}} {
		s := side.r.Survey
		fmt.Fprintf(w, "%-7s %s: %s, as of %s\n", side.word, st.paint(Visible(s.Source), text.Bold),
			wording.Count(s.Accounts.Len(), "account"), wording.Moment(side.r.AsOf, st.Zone))
	}
	var what [4]int
	for _, a := range c.Accounts {
		what[slices.Index([]string{audit.Appeared, audit.Vanished, audit.Moved, audit.State}, a.What)]++
	}
	fmt.Fprintf(w, "%s appeared, %d vanished, %d moved or renamed, %d changed state; %s of groups changed\n",
		wording.Count(what[0], "account"), what[1], what[2], what[3], wording.Count(len(c.Members), "membership"))
	Since(w, c, st)
	accountChanges(w, c.Accounts, st)
	memberChanges(w, c.Members, st)
}

func accountChanges(w io.Writer, changes []audit.AccountChange, st Style) {
	if len(changes) == 0 {
		return
	}
	fmt.Fprintf(w, "\n%s\n", st.paint("Accounts", text.Bold))
	var rows [][]string
	shown := map[string]int{}
	for _, c := range changes {
		if shown[c.What]++; st.Limit > 0 && shown[c.What] > st.Limit {
			continue
		}
		how := c.Is
		switch c.What {
		case audit.Vanished:
			how = "was " + c.Was
		case audit.Moved:
			how = "from " + Place(c.Was)
			if was, is := directory.LeafValue(c.Was), directory.LeafValue(c.Is); was != is {
				how += ", was named " + Visible(was)
			}
		case audit.State:
			how = c.Was + " → " + c.Is
		}
		rows = append(rows, []string{c.What, Visible(c.Account), c.Kind, Place(c.DN), how})
	}
	Table(w, st, []string{"What", "Account", "Kind", "Where", "How"}, rows, 4, 3)
	for _, what := range []string{audit.Appeared, audit.Moved, audit.State, audit.Vanished} {
		if more := shown[what] - st.Limit; st.Limit > 0 && more > 0 {
			fmt.Fprintf(w, "… and %d more %s: --limit 0 shows them all\n", more, what)
		}
	}
}

func memberChanges(w io.Writer, changes []audit.MemberChange, st Style) {
	if len(changes) == 0 {
		return
	}
	fmt.Fprintf(w, "\n%s\n", st.paint("Group members", text.Bold))
	changes = slices.Clone(changes)
	slices.SortStableFunc(changes,
		func(a, b audit.MemberChange) int { return cmp.Compare(btoi(b.Privileged), btoi(a.Privileged)) })
	var rows [][]string
	for _, c := range changes {
		if st.Limit > 0 && len(rows) == 2*st.Limit && !c.Privileged {
			break
		}
		mark := ""
		if c.Privileged {
			mark = st.paint("privileged", text.FgRed, text.Bold)
		}
		rows = append(rows, []string{c.What, Visible(c.Group), mark, Visible(c.Account), Place(c.DN)})
	}
	Table(w, st, []string{"What", "Group", "Rights", "Account", "Where"}, rows, 4, 1)
	if more := len(changes) - len(rows); more > 0 {
		fmt.Fprintf(w, "… and %d more: --limit 0 shows them all\n", more)
	}
}

func btoi(b bool) int {
	if b {
		return 1
	}
	return 0
}

// Since writes the findings that are new, and counts those that were there
// before, or are gone.
func Since(w io.Writer, c *audit.Comparison, st Style) {
	fmt.Fprintf(w, "%s, %d still there, %d gone since %s\n",
		st.paint(wording.Count(len(c.New), "new finding"), text.Bold), len(c.Still), len(c.Gone),
		wording.Moment(c.Before.AsOf, st.Zone))
	fresh(w, c, st)
	gone(w, c, st)
	type counts struct{ fresh, still, gone int }
	by := map[string]*counts{}
	count := func(findings []audit.Finding, add func(*counts)) {
		for i := range findings {
			if by[findings[i].Check] == nil {
				by[findings[i].Check] = &counts{}
			}
			add(by[findings[i].Check])
		}
	}
	count(c.New, func(n *counts) { n.fresh++ })
	count(c.Still, func(n *counts) { n.still++ })
	count(c.Gone, func(n *counts) { n.gone++ })
	var rows [][]string
	for _, sum := range bySeverity(c.After.Summary) {
		if n := by[sum.Check]; n != nil && n.fresh+n.gone > 0 {
			rows = append(rows,
				[]string{sum.Check, st.severity(sum.Severity), someOf(n.fresh), someOf(n.still), someOf(n.gone)})
		}
	}
	if len(rows) > 0 {
		fmt.Fprintln(w)
		Table(w, st, []string{"Check", "Severity", "New", "Still", "Gone"}, rows, 0)
	}
}

// fresh lists the new findings, the most severe first, some of each check.
func fresh(w io.Writer, c *audit.Comparison, st Style) {
	if len(c.New) == 0 {
		return
	}
	fmt.Fprintf(w, "\n%s\n", st.paint("New findings", text.Bold))
	var rows [][]string
	shown := map[string]int{}
	for i := range c.New {
		f := &c.New[i]
		if shown[f.Check]++; st.Limit <= 0 || shown[f.Check] <= st.Limit {
			rows = append(
				rows,
				[]string{
					f.Check,
					st.severity(f.Severity),
					Visible(f.Account),
					f.Kind,
					Place(f.DN),
					string(f.Confidence),
					Visible(shortEvidence(f, st.Zone)),
				},
			)
		}
	}
	Table(w, st, []string{"Check", "Severity", "Account", "Kind", "Where", "Confidence", "Evidence"}, rows, 6, 4)
	if more := len(c.New) - len(rows); more > 0 {
		fmt.Fprintf(w, "… and %d more: --limit 0 shows them all\n", more)
	}
}

// gone lists the findings that are no more.
func gone(w io.Writer, c *audit.Comparison, st Style) {
	if len(c.Gone) == 0 {
		return
	}
	fmt.Fprintf(w, "\n%s\n", st.paint("Gone", text.Bold))
	var rows [][]string
	for i := range c.Gone {
		if f := &c.Gone[i]; st.Limit <= 0 || len(rows) < 2*st.Limit {
			rows = append(rows, []string{f.Check, Visible(f.Account), f.Kind, Place(f.DN)})
		}
	}
	Table(w, st, []string{"Check", "Account", "Kind", "Where"}, rows, 3)
	if more := len(c.Gone) - len(rows); more > 0 {
		fmt.Fprintf(w, "… and %d more: --limit 0 shows them all\n", more)
	}
}

// CompareSchema is the version of the JSON shape of a comparison.
const CompareSchema = "yardbroom/compare/1"

// SideShape is one of the two audits that are compared.
type SideShape struct {
	Source   string    `json:"source"` // what the entries were read from
	AsOf     time.Time `json:"as_of"`
	Accounts int       `json:"accounts"`
	Entries  int       `json:"entries"`
}

// ComparisonShape is what changed between two audits, in JSON.
type ComparisonShape struct {
	Schema   string                `json:"schema"` // yardbroom/compare/1
	Before   SideShape             `json:"before"`
	After    SideShape             `json:"after"`
	Accounts []audit.AccountChange `json:"accounts"`
	Members  []audit.MemberChange  `json:"members"`  // who was put into a group or taken out
	Findings []FindingShape        `json:"findings"` // of both, each with its change
}

// ComparisonJSON writes a comparison as one object.
func ComparisonJSON(w io.Writer, c *audit.Comparison) error {
	side := func(r *audit.Report) SideShape {
		return SideShape{r.Survey.Source, r.AsOf.UTC(), r.Survey.Accounts.Len(), r.Survey.Entries}
	}
	return JSON(
		w,
		ComparisonShape{
			CompareSchema,
			side(c.Before),
			side(c.After),
			append([]audit.AccountChange{}, c.Accounts...),
			append([]audit.MemberChange{}, c.Members...),
			FindingShapes(c.All()),
		},
	)
}

// FindingShapes are findings for programs.
func FindingShapes(findings []audit.Finding) []FindingShape {
	out := make([]FindingShape, len(findings))
	for i := range findings {
		out[i] = shape(&findings[i])
	}
	return out
}

// changeColumns are the columns of all that changed, in one sheet.
var changeColumns = []sheet.Column{
	{Name: "change", Title: "Change"},
	{Name: "kind", Title: "Kind"},
	{Name: "account", Title: "Account", Key: true},
	{Name: "dn", Title: "DN", Wide: true},
	{
		Name:  "was",
		Title: "Was",
		Wide:  true,
	},
	{Name: "is", Title: "Is", Wide: true},
	{Name: "group", Title: "Group", Wide: true},
	{Name: "privileged", Title: "Privileged", Kind: sheet.Truth},
	{
		Name:  "check",
		Title: "Check",
	},
	{Name: "severity", Title: "Severity"},
	{Name: "evidence", Title: "Evidence", Wide: true},
}

// ChangesSheet is all that changed, one row a change: accounts, members of
// groups, findings.
func ChangesSheet(c *audit.Comparison) *sheet.Sheet {
	s := &sheet.Sheet{Name: "changes", Title: "Changes", Columns: changeColumns}
	for _, a := range c.Accounts {
		s.Rows = append(s.Rows, []any{a.What, a.Kind, a.Account, a.DN, a.Was, a.Is, nil, nil, nil, nil, nil})
	}
	for _, m := range c.Members {
		s.Rows = append(s.Rows, []any{m.What, nil, m.Account, m.DN, nil, nil, m.GroupDN, m.Privileged, nil, nil, nil})
	}
	for _, f := range c.All() {
		s.Rows = append(
			s.Rows,
			[]any{
				f.Change,
				f.Kind,
				f.Account,
				f.DN,
				nil,
				nil,
				nil,
				nil,
				f.Check,
				f.Severity.String(),
				evidenceText(&f),
			},
		)
	}
	return s
}

// ComparisonSheets are the changes in three sheets: accounts, members of
// groups, findings.
func ComparisonSheets(c *audit.Comparison) []sheet.Sheet {
	all := ChangesSheet(c)
	part := func(name, title string, rows [][]any, columns ...int) sheet.Sheet {
		s := sheet.Sheet{Name: name, Title: title}
		for _, i := range columns {
			s.Columns = append(s.Columns, all.Columns[i])
		}
		for _, row := range rows {
			cells := make([]any, 0, len(columns))
			for _, i := range columns {
				cells = append(cells, row[i])
			}
			s.Rows = append(s.Rows, cells)
		}
		return s
	}
	n, m := len(c.Accounts), len(c.Accounts)+len(c.Members)
	return []sheet.Sheet{
		part("accounts", "Accounts", all.Rows[:n], 2, 0, 1, 4, 5, 3),
		part("members", "Group members", all.Rows[n:m], 2, 0, 6, 7, 3),
		part("findings", "Findings", all.Rows[m:], 2, 0, 8, 9, 1, 10, 3),
	}
}

// ComparisonPage is a comparison as a page.
func ComparisonPage(c *audit.Comparison, zone *time.Location, made time.Time) *Page {
	p := &Page{Title: "Changes in " + c.After.Survey.Base, Zone: zone, Made: made,
		Subtitle: fmt.Sprintf("from %s (%s) to %s (%s)", c.Before.Survey.Source, wording.Moment(c.Before.AsOf, zone),
			c.After.Survey.Source, wording.Moment(c.After.AsOf, zone))}
	p.Facts = []Fact{
		{fmt.Sprint(len(c.New)), "new findings", ToneHigh},
		{fmt.Sprint(len(c.Still)), "still there", Plain},
		{fmt.Sprint(len(c.Gone)), "gone", ToneLow},
		{
			fmt.Sprint(len(c.Accounts)),
			"changes of accounts",
			Plain,
		},
		{fmt.Sprint(len(c.Members)), "changes of group members", Plain},
	}
	for _, s := range ComparisonSheets(c) {
		s.Columns, s.Rows = s.Columns[:len(s.Columns)-1], shorter(s.Rows)
		p.Sections = append(p.Sections, Section{ID: s.Name, Sheet: s, Open: true})
	}
	return p
}

// shorter leaves the last cell of each row out.
func shorter(rows [][]any) [][]any {
	out := make([][]any, len(rows))
	for i, row := range rows {
		out[i] = row[:len(row)-1]
	}
	return out
}
