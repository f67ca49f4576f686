package render

import (
	"bytes"
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

// Style is how results are drawn for people.
type Style struct {
	Width  int  // columns that sentences are fitted into, and tables, but for Whole
	Whole  bool // tables are as wide as their cells: no terminal is in the way
	Brief  bool // a row is one line: what does not fit is cut
	Screen int  // lines of the terminal, 0 where there is none
	Color  bool
	Zone   *time.Location
	Limit  int // rows a check; 0 means all
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

// Table writes rows under a header, fitted to the terminal. What is too wide is never
// cut, but for Style.Brief: the first column of shrink, which says most, is written below
// its rows where little room is left for it, and cells of the others are wrapped.
func Table(w io.Writer, st Style, header []string, rows [][]string, shrink ...int) {
	right := map[int]bool{}
	for i, title := range header {
		right[i] = numeric[title]
	}
	drawTable(w, st, header, rows, right, shrink)
}

// roomBeside is the least room for the column that says most to stand beside the others;
// where there is less it is written below.
const roomBeside = 36

// drawTable is Table with the columns that stand to the right.
func drawTable(w io.Writer, st Style, header []string, rows [][]string, right map[int]bool, shrink []int) {
	widths := widthsOf(header, rows)
	switch fits := total(widths)-2 <= st.Width; {
	case st.Whole || fits || len(shrink) == 0:
		writeRows(w, header, rows, widths, right, nil)
		return
	case st.Brief:
		shrinkTo(widths, st.Width, shrink)
		rows = clipped(rows, widths)
	case st.Width-(total(widths)-widths[shrink[0]]-2) < min(roomBeside, widths[shrink[0]]):
		drawBelow(w, st, header, rows, right, shrink)
		return
	default:
		shrinkTo(widths, st.Width, shrink)
	}
	writeRows(w, header, rows, widths, right, nil)
}

// drawBelow draws a table with the first column of shrink below its rows, and behind it
// those of the others for which there is no room without breaking their words.
func drawBelow(w io.Writer, st Style, header []string, rows [][]string, right map[int]bool, shrink []int) {
	for n := 1; ; n++ {
		gone, stay := shrink[:n], []int(nil)
		for i := range header {
			if !slices.Contains(gone, i) {
				stay = append(stay, i)
			}
		}
		left := make([][]string, len(rows))
		for i := range rows {
			left[i] = pick(rows[i], stay)
		}
		beside, rest := map[int]bool{}, []int(nil)
		for at, i := range stay {
			if beside[at] = right[i]; slices.Contains(shrink[n:], i) {
				rest = append(rest, at)
			}
		}
		titles := pick(header, stay)
		widths := widthsOf(titles, left)
		shrinkTo(widths, st.Width, rest)
		if n < len(shrink) && (total(widths)-2 > st.Width || breaksWords(left, widths)) {
			continue
		}
		below := &belowRows{title: strings.Join(pick(header, gone), "; "), texts: make([]string, len(rows))}
		for i := range rows {
			if text := belowText(header, rows[i], gone); text != "" {
				below.texts[i] = "  " + strings.ReplaceAll(wrapCell(text, max(st.Width-2, leastWidth)), "\n", "\n  ")
			}
		}
		writeRows(w, titles, left, widths, beside, below)
		return
	}
}

// belowText are the cells of a row that stand below it: the first one says what it is by
// itself, the others after their titles.
func belowText(header, cells []string, gone []int) string {
	var parts []string
	for n, i := range gone {
		switch {
		case cells[i] == "":
		case n == 0:
			parts = append(parts, cells[i])
		default:
			parts = append(parts, header[i]+": "+cells[i])
		}
	}
	return strings.Join(parts, "; ")
}

// breaksWords tells whether a word is wider than its column.
func breaksWords(rows [][]string, widths []int) bool {
	for _, row := range rows {
		for i, cell := range row {
			if displayWidth(cell) <= widths[i] {
				continue
			}
			for word := range strings.FieldsSeq(cell) {
				if displayWidth(word) > widths[i] {
					return true
				}
			}
		}
	}
	return false
}

// pick are some of the cells of a row, in that order.
func pick(cells []string, which []int) []string {
	out := make([]string, len(which))
	for n, i := range which {
		out[n] = cells[i]
	}
	return out
}

// clipped are rows whose cells are cut to the widths of their columns.
func clipped(rows [][]string, widths []int) [][]string {
	out := make([][]string, len(rows))
	for i := range rows {
		out[i] = make([]string, len(rows[i]))
		for c, cell := range rows[i] {
			out[i][c] = Clip(cell, widths[c])
		}
	}
	return out
}

// widthsOf are the widths of columns with nothing wrapped.
func widthsOf(header []string, rows [][]string) []int {
	widths := make([]int, len(header))
	for i, title := range header {
		widths[i] = displayWidth(title)
	}
	for _, row := range rows {
		for i, cell := range row {
			widths[i] = max(widths[i], displayWidth(cell))
		}
	}
	return widths
}

// belowRows is what is written below the rows of a table, and its title.
type belowRows struct {
	title string
	texts []string
}

// writeRows draws a table; cells wider than their column are wrapped.
func writeRows(w io.Writer, header []string, rows [][]string, widths []int, right map[int]bool, below *belowRows) {
	t := table.NewWriter()
	style := table.StyleLight
	style.Options = table.Options{SeparateHeader: true}
	style.Box.PaddingLeft, style.Box.PaddingRight = "", "  "
	style.Format.Header = text.FormatDefault
	t.SetStyle(style)
	t.SuppressTrailingSpaces()
	var configs []table.ColumnConfig
	for i, n := range widths {
		align := text.AlignDefault
		if right[i] {
			align = text.AlignRight
		}
		configs = append(configs, table.ColumnConfig{Number: i + 1, Align: align, AlignHeader: align, WidthMin: n})
	}
	t.SetColumnConfigs(configs)
	t.AppendHeader(row(header))
	lines := make([]int, len(rows)) // that each row takes
	for i, r := range rows {
		cells := make(table.Row, len(r))
		lines[i] = 1
		for c, cell := range r {
			if displayWidth(cell) > widths[c] {
				cell = wrapCell(cell, widths[c])
				lines[i] = max(lines[i], strings.Count(cell, "\n")+1)
			}
			cells[c] = cell
		}
		t.AppendRow(cells)
	}
	drawn := strings.Split(t.Render(), "\n")
	drawn[1] = strings.TrimSuffix(drawn[1], "──") // nothing stands behind the last column
	if below == nil {
		fmt.Fprintln(w, strings.Join(drawn, "\n"))
		return
	}
	fmt.Fprintf(w, "%s\n  %s\n%s\n", drawn[0], below.title, drawn[1])
	at := 2
	for i, n := range lines {
		for range n {
			fmt.Fprintln(w, drawn[at])
			at++
		}
		if below.texts[i] != "" {
			fmt.Fprintln(w, below.texts[i])
		}
	}
}

// shrinkTo makes the widest of some columns narrower until all fit, or all
// are as narrow as may be.
func shrinkTo(widths []int, width int, shrink []int) {
	for over := total(widths) - 2 - width; over > 0 && len(shrink) > 0; over-- {
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

// Report writes a report for people: the answer first, how many findings and how urgent,
// what is new and what to do first; then the summary, and the findings by check, the most
// severe first. On a terminal they end after two screens.
func Report(w io.Writer, r *audit.Report, st Style) {
	s := r.Survey
	fmt.Fprintf(w, "%s: %s in %s, as of %s\n", st.paint(Visible(s.Base), text.Bold),
		wording.Count(s.Accounts.Len(), "account"), wording.Count(s.Entries, "entry"), wording.Moment(r.AsOf, st.Zone))
	if r.Chosen != "" {
		fmt.Fprintln(w, Wrap("Only about: "+Visible(r.Chosen)+".", st.Width, "  "))
	}
	sums := bySeverity(r.Summary)
	fmt.Fprintln(w, totals(r, st))
	leftOut(w, r.Earlier, st)
	firstSteps(w, "audit", sums, r.Catalog)
	fmt.Fprintln(w)
	summary(w, r, sums, st)
	details(w, sums, st, func(w io.Writer, sum audit.Summary) { findings(w, r, sum, st) })
}

// details lists the findings check by check, each as one does. On a terminal they end
// after two screens, with what to type for the rest.
func details(w io.Writer, sums []audit.Summary, st Style, one func(io.Writer, audit.Summary)) {
	left, untold := 2*st.Screen, 0
	for _, sum := range sums {
		if sum.Findings == 0 {
			continue
		}
		if st.Screen > 0 && left <= 0 && st.Limit > 0 {
			untold++
			continue
		}
		counted := &lines{w: w}
		one(counted, sum)
		left -= counted.n
	}
	if untold > 0 {
		fmt.Fprintf(w, "\n… and %s with findings: --limit 0 shows everything, --check NAME one check\n", wording.Count(untold, "more check"))
	}
}

// lines counts the lines that go through it.
type lines struct {
	w io.Writer
	n int
}

func (l *lines) Write(p []byte) (int, error) {
	l.n += bytes.Count(p, []byte("\n"))
	return l.w.Write(p)
}

// mostSteps is how many checks are named as what to do first.
const mostSteps = 3

// firstSteps names what to look at first: the most urgent findings, those that an action
// would clear before the others. The command is the one that shows them.
func firstSteps(w io.Writer, command string, sums []audit.Summary, checks audit.Catalog) {
	type step struct {
		audit.Summary
		by []string // the actions that would clear it
	}
	var steps []step
	for _, sum := range sums {
		if c, err := checks.Named(sum.Check); err == nil && sum.Findings > 0 && sum.Severity >= audit.Medium {
			steps = append(steps, step{sum, c.Suggest})
		}
	}
	if len(steps) < 2 {
		return // the summary says it
	}
	slices.SortStableFunc(steps, func(a, b step) int {
		return cmp.Or(cmp.Compare(b.Severity, a.Severity), cmp.Compare(min(1, len(b.by)), min(1, len(a.by))), cmp.Compare(b.Findings, a.Findings))
	})
	steps = steps[:min(mostSteps, len(steps))]
	width := 0
	for _, one := range steps {
		width = max(width, len(one.Check))
	}
	fmt.Fprintln(w, "\nLook at these first:")
	for _, one := range steps {
		by := ""
		if len(one.by) > 0 {
			by = ", cleared by " + strings.Join(one.by, " or ")
		}
		fmt.Fprintf(w, "  yardbroom %s --check %-*s  %d %s%s\n", command, width, one.Check, one.Findings, one.Severity, by)
	}
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
		short := st
		short.Brief = true // what a check reports is told in full by "yardbroom checks"
		Table(w, short, []string{"Check", "Severity", "Found", "Likely", "Reports"}, rows, 4)
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
	if r.Fresh != nil && r.Chosen == "" && r.Earlier == nil {
		out += fmt.Sprintf("; %d new since the audit of %s", r.Fresh.Count, wording.Moment(r.Fresh.Since, st.Zone))
	}
	if r.Exempted > 0 {
		out += fmt.Sprintf("; %d more left out by exemptions", r.Exempted)
	}
	return out
}

func findings(w io.Writer, r *audit.Report, sum audit.Summary, st Style) {
	var of []*audit.Finding
	for i := range r.Findings {
		if r.Findings[i].Check == sum.Check {
			of = append(of, &r.Findings[i])
		}
	}
	shown := of
	if st.Limit > 0 && len(of) > st.Limit {
		shown = of[:st.Limit]
	}
	t := newFindingTable(shown)
	for _, f := range shown {
		t.add(f, st)
	}
	fmt.Fprintf(w, "\n%s (%s): %s\n", st.paint(sum.Check, text.Bold), st.severity(sum.Severity), wording.Count(len(of), "finding"))
	spellings(w, of, st)
	t.draw(w, st)
	if more := len(of) - len(shown); more > 0 {
		fmt.Fprintf(w, "… and %d more: --check %s shows them all\n", more, sum.Check)
	}
}

// spellings writes what is spelt in several ways, each value once with how many entries
// have it, before who has them.
func spellings(w io.Writer, of []*audit.Finding, st Style) {
	type value struct{ right, text string }
	seen := map[value]bool{}
	var order []string
	variants := map[string][]string{}
	for _, f := range of {
		fix := f.Fix()
		if fix == nil || len(f.Evidence) != 3 || f.Evidence[1].Attr != "preferred" {
			continue
		}
		mine, best, _ := strings.Cut(f.Evidence[2].Value, ", preferred ")
		right := fmt.Sprintf("%s %q (%s)", fix.Attr, fix.New, best)
		if variants[right] == nil {
			order = append(order, right)
		}
		if one := (value{right, f.Evidence[0].Value}); !seen[one] {
			seen[one] = true
			variants[right] = append(variants[right], fmt.Sprintf("%s (%s)", f.Evidence[0].Value, mine))
		}
	}
	for _, right := range order {
		fmt.Fprintln(w, Wrap(Visible(right+" is also spelt "+strings.Join(variants[right], ", ")), st.Width, "  "))
	}
}

// findingTable is findings in rows, without the columns that would say the same in each
// row, or nothing.
type findingTable struct {
	kinds, days bool
	rows        [][]string
}

func newFindingTable(of []*audit.Finding) *findingTable {
	t := &findingTable{}
	for _, f := range of {
		t.kinds = t.kinds || f.Kind != of[0].Kind
		t.days = t.days || !f.Since.IsZero()
	}
	return t
}

func (t *findingTable) add(f *audit.Finding, st Style) {
	row := []string{Visible(f.Account)}
	if t.kinds {
		row = append(row, f.Kind)
	}
	row = append(row, Visible(placeOf(f)))
	if t.days {
		days := ""
		if !f.Since.IsZero() {
			days = fmt.Sprint(f.Days)
		}
		row = append(row, days)
	}
	t.rows = append(t.rows, append(row, string(f.Confidence), Visible(shortEvidence(f, st.Zone))))
}

func (t *findingTable) draw(w io.Writer, st Style) {
	header := []string{"Account"}
	if t.kinds {
		header = append(header, "Kind")
	}
	header = append(header, "Where")
	where := len(header) - 1
	if t.days {
		header = append(header, "Days")
	}
	header = append(header, "Confidence", "Evidence")
	Table(w, st, header, t.rows, len(header)-1, where)
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
