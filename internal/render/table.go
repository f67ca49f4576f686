package render

import (
	"cmp"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"

	"yardbroom/internal/audit"
	"yardbroom/internal/wording"
)

// Style is how tables are drawn.
type Style struct {
	Width int // columns of the terminal
	Color bool
	Zone  *time.Location
	Limit int // rows a check; 0 means all
}

// numeric are the titles of columns of numbers, which stand to the right.
var numeric = map[string]bool{
	"Days":    true,
	"First":   true,
	"Last":    true,
	"Change":  true,
	"Found":   true,
	"Likely":  true,
	"New":     true,
	"Still":   true,
	"Gone":    true,
	"#":       true,
	"Entries": true,
}

// Table writes rows under a header, clipped to the terminal: the columns in
// shrink give way, the others keep their width.
func Table(w io.Writer, st Style, header []string, rows [][]string, shrink ...int) {
	right := map[int]bool{}
	for i, title := range header {
		right[i] = numeric[title]
	}
	drawTable(w, st, header, rows, right, shrink)
}

// drawTable is Table with the columns that stand to the right.
func drawTable(w io.Writer, st Style, header []string, rows [][]string, right map[int]bool, shrink []int) {
	t := table.NewWriter()
	t.SetOutputMirror(w)
	style := table.StyleLight
	style.Options = table.Options{SeparateHeader: true}
	style.Box.PaddingLeft, style.Box.PaddingRight = "", "  "
	style.Format.Header = text.FormatDefault
	t.SetStyle(style)
	widths := make([]int, len(header))
	for _, row := range append([][]string{header}, rows...) {
		for i, cell := range row {
			widths[i] = max(widths[i], displayWidth(cell))
		}
	}
	shrinkTo(widths, st.Width, shrink)
	var configs []table.ColumnConfig
	for i, n := range widths {
		align := text.AlignDefault
		if right[i] {
			align = text.AlignRight
		}
		configs = append(configs,
			table.ColumnConfig{Number: i + 1, Align: align, AlignHeader: align, WidthMax: n, WidthMaxEnforcer: Clip})
	}
	t.SetColumnConfigs(configs)
	t.AppendHeader(row(header))
	for _, r := range rows {
		t.AppendRow(row(r))
	}
	t.Render()
}

// shrinkTo makes the widest of some columns narrower until all fit, or all
// are as narrow as may be.
func shrinkTo(widths []int, width int, shrink []int) {
	for over := total(widths) - width; over > 0 && len(shrink) > 0; over-- {
		widest := shrink[0]
		for _, i := range shrink {
			if widths[i] > widths[widest] {
				widest = i
			}
		}
		if widths[widest] <= leastWidth {
			return
		}
		widths[widest]--
	}
}

func displayWidth(s string) int { return text.StringWidthWithoutEscSequences(s) }

// Clip shortens a text to what fits into so many columns of a terminal, where
// wide characters take two.
func Clip(s string, most int) string {
	if displayWidth(s) <= most {
		return s
	}
	return text.Snip(s, most, "…")
}

func row(cells []string) table.Row {
	r := make(table.Row, len(cells))
	for i, c := range cells {
		r[i] = c
	}
	return r
}

// paint colours a word where colours are wanted.
func (st Style) paint(s string, colors ...text.Color) string {
	if !st.Color {
		return s
	}
	return text.Colors(colors).Sprint(s)
}

func (st Style) severity(s audit.Severity) string {
	switch s {
	case audit.High:
		return st.paint(s.String(), text.FgRed, text.Bold)
	case audit.Medium:
		return st.paint(s.String(), text.Bold)
	}
	return s.String()
}

// Report writes a report for people: what was read, the findings by check,
// the most severe first, and last, where a terminal leaves the reader, the
// summary.
func Report(w io.Writer, r *audit.Report, st Style) {
	s := r.Survey
	fmt.Fprintf(w, "%s: %s in %s, as of %s\n", st.paint(Visible(s.Base), text.Bold),
		wording.Count(s.Accounts.Len(), "account"), entries(s.Entries), wording.Moment(r.AsOf, st.Zone))
	sums := bySeverity(r.Summary)
	for _, sum := range sums {
		if sum.Findings > 0 {
			findings(w, r, sum, st)
		}
	}
	fmt.Fprintln(w)
	summary(w, r, sums, st)
	leftOut(w, r.Earlier, st)
}

// leftOut says which findings were left out, since they are not new.
func leftOut(w io.Writer, e *audit.Earlier, st Style) {
	switch {
	case e == nil:
	case e.Reader != "":
		fmt.Fprintf(w, "New to %s, who was told of %d more before.\n", Visible(e.Reader), e.Known)
	default:
		fmt.Fprintf(w, "New since the audit of %s; %d were found then too.\n", wording.Moment(e.At, st.Zone), e.Known)
	}
}

// bySeverity sorts checks, the most severe first.
func bySeverity(sums []audit.Summary) []audit.Summary {
	sums = slices.Clone(sums)
	slices.SortStableFunc(sums, func(a, b audit.Summary) int { return cmp.Compare(b.Severity, a.Severity) })
	return sums
}

// summary writes a line for each check that found something, and in few
// words what found nothing, and what was not looked at.
func summary(w io.Writer, r *audit.Report, sums []audit.Summary, st Style) {
	var rows [][]string
	var clean []string
	for _, sum := range sums {
		c, err := r.Catalog.Named(sum.Check)
		if err != nil {
			continue
		}
		switch {
		case sum.Findings > 0:
			rows = append(rows,
				[]string{sum.Check, st.severity(sum.Severity), fmt.Sprint(sum.Findings), someOf(sum.Likely), c.Short})
		case sum.Looked:
			clean = append(clean, sum.Check)
		}
	}
	if len(rows) > 0 {
		Table(w, st, []string{"Check", "Severity", "Found", "Likely", "Reports"}, rows, 4)
	}
	if len(clean) > 0 {
		nothing := "Nothing found by "
		if r.Earlier != nil {
			nothing = "Nothing new by "
		}
		fmt.Fprintln(w, Wrap(nothing+strings.Join(clean, ", ")+".", st.Width, "  "))
	}
	for _, line := range notLooked(sums) {
		fmt.Fprintln(w, Wrap(Visible(line), st.Width, "  "))
	}
	fmt.Fprintln(w, totals(r, st))
	if len(rows) > 1 {
		fmt.Fprintln(
			w,
			Wrap("One check in full: yardbroom audit --check NAME. What it means: yardbroom checks NAME.", st.Width,
				"  "),
		)
	}
}

// notLooked says what was not looked at, one sentence a reason.
func notLooked(sums []audit.Summary) []string {
	var reasons []string
	blind := map[string][]string{} // why → the checks not looked at
	for _, sum := range sums {
		for _, why := range sum.NotLooked {
			if blind[why] == nil {
				reasons = append(reasons, why)
			}
			blind[why] = append(blind[why], sum.Check)
		}
	}
	for i, why := range reasons {
		reasons[i] = "Not looked at: " + strings.Join(blind[why], ", ") + ": " + why + "."
	}
	return reasons
}

// someOf writes a count, and nothing for none.
func someOf(n int) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprint(n)
}

// totals counts the findings by severity.
func totals(r *audit.Report, st Style) string {
	var count [4]int
	for i := range r.Findings {
		count[r.Findings[i].Severity]++
	}
	var parts []string
	for s := audit.High; s >= audit.Info; s-- {
		if count[s] > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", count[s], st.severity(s)))
		}
	}
	out := st.paint(wording.Count(len(r.Findings), "finding"), text.Bold)
	if len(parts) > 0 {
		out += ": " + strings.Join(parts, ", ")
	}
	if r.Exempted > 0 {
		out += fmt.Sprintf("; %d more left out by exemptions", r.Exempted)
	}
	return out
}

func findings(w io.Writer, r *audit.Report, sum audit.Summary, st Style) {
	var rows [][]string
	total := 0
	for i := range r.Findings {
		f := &r.Findings[i]
		if f.Check != sum.Check {
			continue
		}
		total++
		if st.Limit > 0 && len(rows) == st.Limit {
			continue
		}
		days := ""
		if !f.Since.IsZero() {
			days = fmt.Sprint(f.Days)
		}
		rows = append(
			rows,
			[]string{
				Visible(f.Account),
				f.Kind,
				Visible(placeOf(f)),
				days,
				string(f.Confidence),
				Visible(shortEvidence(f, st.Zone)),
			},
		)
	}
	fmt.Fprintf(w, "\n%s (%s)\n", st.paint(sum.Check, text.Bold), st.severity(sum.Severity))
	Table(w, st, []string{"Account", "Kind", "Where", "Days", "", "Evidence"}, rows, 5, 2)
	if more := total - len(rows); more > 0 {
		fmt.Fprintf(w, "… and %d more: --check %s shows them all\n", more, sum.Check)
	}
}

// shortEvidence is the evidence for a table, where it has to be brief: times
// as days, and nothing that another column says.
func shortEvidence(f *audit.Finding, loc *time.Location) string {
	var parts []string
	for _, e := range f.Evidence {
		if e.Obvious() {
			continue // the place is a column, the server the same for all
		}
		value := e.Value
		if t, err := time.Parse(time.RFC3339, value); err == nil {
			value = Day(t, loc)
			if f.Days == 0 {
				value = wording.Moment(t, loc)
			}
		}
		parts = append(parts, e.Attr+" "+value)
	}
	return strings.Join(parts, "; ")
}

func entries(n int) string {
	if n == 1 {
		return "1 entry"
	}
	return fmt.Sprintf("%d entries", n)
}
