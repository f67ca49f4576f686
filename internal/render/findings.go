package render

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"yardbroom/internal/audit"
	"yardbroom/internal/directory"
	"yardbroom/internal/sheet"
	"yardbroom/internal/wording"
	"yardbroom/internal/work"
)

// FindingColumns are the columns of findings in CSV and TSV.
var FindingColumns = []sheet.Column{
	{Name: "check"},
	{Name: "severity"},
	{Name: "kind"},
	{Name: "account"},
	{Name: "dn"},
	{Name: "confidence"},
	{Name: "since", Kind: sheet.Time},
	{Name: "days", Kind: sheet.Number},
	{Name: "evidence"},
	{Name: "suggest"},
}

// FindingsSheet is all findings in one sheet, with a column for what became
// of each where they come from a comparison.
func FindingsSheet(findings []audit.Finding) *sheet.Sheet {
	s := &sheet.Sheet{Name: "findings", Title: "Findings", Columns: slices.Clone(FindingColumns)}
	compared := len(findings) > 0 && findings[0].Change != ""
	if compared {
		s.Columns = append(s.Columns, sheet.Column{Name: "change"})
	}
	for i := range findings {
		f := &findings[i]
		row := []any{
			f.Check,
			f.Severity.String(),
			f.Kind,
			f.Account,
			f.DN,
			string(f.Confidence),
			nil,
			nil,
			evidenceText(f),
			strings.Join(f.Suggest, " "),
		}
		if !f.Since.IsZero() {
			row[6], row[7] = f.Since, f.Days
		}
		if compared {
			row = append(row, f.Change)
		}
		s.Rows = append(s.Rows, row)
	}
	return s
}

func evidenceText(f *audit.Finding) string {
	parts := make([]string, len(f.Evidence))
	for i, e := range f.Evidence {
		parts[i] = e.Attr + "=" + e.Value
	}
	return strings.Join(parts, sheet.Between)
}

// byCheck cuts findings, which stand check by check, into runs of one check
// and severity order, as summaries list them.
func byCheck(findings []audit.Finding) map[string][]audit.Finding {
	out := map[string][]audit.Finding{}
	for i := range findings {
		out[findings[i].Check] = append(out[findings[i].Check], findings[i])
	}
	return out
}

// ReportSheets are the sheets of a report as a workbook.
func ReportSheets(r *audit.Report) []sheet.Sheet {
	return append([]sheet.Sheet{AboutSheet(r), SummarySheet(r)}, CheckSheets(r)...)
}

// CheckSheets are the findings with a sheet for each check, and a column for
// each attribute of its evidence.
func CheckSheets(r *audit.Report) []sheet.Sheet {
	var out []sheet.Sheet
	found := byCheck(r.Findings)
	for _, sum := range bySeverity(r.Summary) {
		if len(found[sum.Check]) > 0 {
			out = append(out, checkSheet(sum.Check, found[sum.Check]))
		}
	}
	return out
}

func checkSheet(name string, findings []audit.Finding) sheet.Sheet {
	s := sheet.Sheet{
		Name:  name,
		Title: name,
		Columns: []sheet.Column{{Name: "account", Title: "Account", Key: true}, {Name: "kind", Title: "Kind"},
			{
				Name:  "where",
				Title: "Where",
				Wide:  true,
			}, {Name: "dn", Title: "DN", Wide: true}, {Name: "severity", Title: "Severity"}, {Name: "confidence", Title: "Confidence"},
			{Name: "since", Title: "Since", Kind: sheet.Time}, {Name: "days", Title: "Days", Kind: sheet.Number}},
	}
	at := map[string]int{}
	for i := range findings {
		for _, e := range findings[i].Evidence {
			if _, known := at[e.Attr]; !known {
				at[e.Attr] = len(s.Columns)
				s.Columns = append(s.Columns, sheet.Column{Name: e.Attr, Wide: true})
			}
		}
	}
	s.Columns = append(s.Columns, sheet.Column{Name: "suggest", Title: "Suggested", Kind: sheet.Texts})
	for i := range findings {
		f := &findings[i]
		row := make([]any, len(s.Columns))
		row[0], row[1], row[2], row[3], row[4], row[5] = f.Account, f.Kind, placeOf(
			f), f.DN, f.Severity.String(), string(f.Confidence)
		if !f.Since.IsZero() {
			row[6], row[7] = f.Since, f.Days
		}
		for _, e := range f.Evidence {
			cell := &row[at[e.Attr]]
			if *cell == nil {
				*cell = evidenceCell(e.Value)
			} else {
				*cell = sheet.TextOf(*cell) + sheet.Between + e.Value
			}
		}
		if len(f.Suggest) > 0 {
			row[len(row)-1] = f.Suggest
		}
		s.Rows = append(s.Rows, row)
	}
	return s
}

// evidenceCell makes a real time of what is written as one.
func evidenceCell(value string) any {
	if t, err := time.Parse(time.RFC3339, value); err == nil {
		return t.UTC()
	}
	return value
}

// AboutSheet says what a report is about.
func AboutSheet(r *audit.Report) sheet.Sheet {
	s := sheet.Sheet{
		Name:    "about",
		Title:   "About",
		Columns: []sheet.Column{{Name: "fact", Title: "Audit", Key: true}, {Name: "value", Title: "Value", Wide: true}},
	}
	s.Rows = [][]any{
		{"Directory", r.Survey.Base},
		{"Read from", r.Survey.Source},
		{"As of", r.AsOf.UTC()},
		{"Accounts", r.Survey.Accounts.Len()},
		{"Entries", r.Survey.Entries},
		{"Findings", len(r.Findings)},
		{"Left out by exemptions", r.Exempted},
	}
	for _, n := range r.Notes {
		s.Rows = append(s.Rows, []any{"Note", n})
	}
	return s
}

// SummarySheet is a line for each check that ran or could not.
func SummarySheet(r *audit.Report) sheet.Sheet {
	s := sheet.Sheet{
		Name:  "summary",
		Title: "Summary",
		Columns: []sheet.Column{{Name: "check", Title: "Check", Key: true}, {Name: "severity", Title: "Severity"},
			{
				Name:  "found",
				Title: "Found",
				Kind:  sheet.Number,
			}, {Name: "likely", Title: "of these likely", Kind: sheet.Number}, {Name: "exempted", Title: "Exempted", Kind: sheet.Number},
			{
				Name:  "reports",
				Title: "Reports",
				Wide:  true,
			}, {Name: "not-looked-at", Title: "Not looked at", Wide: true}},
	}
	for _, sum := range bySeverity(r.Summary) {
		short := ""
		if c := r.Catalog.Find(sum.Check); c != nil {
			short = c.Short
		}
		s.Rows = append(
			s.Rows,
			[]any{
				sum.Check,
				sum.Severity.String(),
				sum.Findings,
				orNothing(sum.Likely),
				orNothing(sum.Exempted),
				short,
				strings.Join(sum.NotLooked, sheet.Between),
			},
		)
	}
	return s
}

// tone is how a severity is coloured.
func tone(s audit.Severity) Tone {
	switch s {
	case audit.High:
		return ToneHigh
	case audit.Medium:
		return ToneMedium
	case audit.Low:
		return ToneLow
	}
	return Plain
}

// mostBars is how many bars a chart has at most.
const mostBars = 14

// ReportPage is a report as a page: numbers, charts, an overview, and a section for
// each check. Trend is how the yard did before, nil where that is not known.
func ReportPage(r *audit.Report, trend *work.Trend, zone *time.Location, made time.Time) (*Page, error) {
	s := r.Survey
	p := &Page{Title: "Audit of " + s.Base, Zone: zone, Made: made, Notes: slices.Clone(r.Notes),
		Subtitle: fmt.Sprintf("%s in %s, read from %s, as of %s", wording.Count(s.Accounts.Len(), "account"),
			wording.Count(s.Entries, "entry"), s.Source, wording.Moment(r.AsOf, zone))}
	var count [4]int
	for i := range r.Findings {
		count[r.Findings[i].Severity]++
	}
	p.Facts = append(p.Facts, Fact{fmt.Sprint(len(r.Findings)), "findings", Plain})
	for level := audit.High; level >= audit.Info; level-- {
		if count[level] > 0 {
			p.Facts = append(p.Facts, Fact{fmt.Sprint(count[level]), level.String(), tone(level)})
		}
	}
	if r.Exempted > 0 {
		p.Facts = append(p.Facts, Fact{fmt.Sprint(r.Exempted), "left out by exemptions", Plain})
	}
	var err error
	if p.Charts, err = reportCharts(r); err != nil {
		return nil, err
	}
	overTime, err := TrendCharts(trend)
	if err != nil {
		return nil, err
	}
	p.Charts = append(p.Charts, overTime...)
	p.Sections = append(p.Sections, overview(r))
	found := byCheck(r.Findings)
	sums := bySeverity(r.Summary)
	for _, sum := range sums {
		if findings := found[sum.Check]; len(findings) > 0 {
			section, err := checkSection(r, &sum, findings, zone)
			if err != nil {
				return nil, err
			}
			p.Sections = append(p.Sections, section)
		}
	}
	p.Notes = append(p.Notes, notLooked(sums)...)
	return p, nil
}

// checkSection is the findings of one check as a section of a page.
func checkSection(r *audit.Report, sum *audit.Summary, findings []audit.Finding, zone *time.Location) (Section, error) {
	c, err := r.Catalog.Named(sum.Check)
	if err != nil {
		return Section{}, err
	}
	return Section{
		ID:    sum.Check,
		Badge: sum.Severity.String(),
		Tone:  tone(sum.Severity),
		Lead:  lead(c),
		Sheet: evidenceSheet(sum.Check, findings, zone),
	}, nil
}

// lead says what a check reports and what would clear it.
func lead(c *audit.Check) string {
	first, n := utf8.DecodeRuneInString(c.Short)
	text := string(unicode.ToUpper(first)) + c.Short[n:] + "."
	if len(c.Suggest) > 0 {
		text += " Cleared by " + strings.Join(c.Suggest, " or ") + "."
	}
	return text
}

// overview lists the checks that found something.
func overview(r *audit.Report) Section {
	s := SummarySheet(r)
	s.Columns = []sheet.Column{s.Columns[0], s.Columns[1], s.Columns[2], s.Columns[3], s.Columns[5]}
	var rows [][]any
	var clean []string
	for i, sum := range bySeverity(r.Summary) {
		row := s.Rows[i]
		switch {
		case sum.Findings > 0:
			rows = append(rows, []any{row[0], row[1], row[2], row[3], row[5]})
		case sum.Looked:
			clean = append(clean, sum.Check)
		}
	}
	s.Rows = rows
	out := Section{ID: "summary", Sheet: s, Totals: true, Open: true}
	if len(clean) > 0 {
		out.Lead = "Nothing found by " + strings.Join(clean, ", ") + "."
	}
	return out
}

// orNothing leaves a cell empty where there is nothing to count.
func orNothing(n int) any {
	if n == 0 {
		return nil
	}
	return n
}

// evidenceSheet is the findings of one check for a page, where room is
// short: the evidence in one column.
func evidenceSheet(name string, findings []audit.Finding, zone *time.Location) sheet.Sheet {
	s := sheet.Sheet{
		Name:  name,
		Title: name,
		Columns: []sheet.Column{
			{Name: "account", Title: "Account", Key: true},
			{Name: "kind", Title: "Kind"},
			{Name: "where", Title: "Where"},
			{
				Name:  "since",
				Title: "Since",
				Kind:  sheet.Time,
			},
			{Name: "days", Title: "Days", Kind: sheet.Number},
			{Name: "confidence", Title: "Confidence"},
			{Name: "evidence", Title: "Evidence"},
		},
	}
	dated := slices.ContainsFunc(findings, func(f audit.Finding) bool { return !f.Since.IsZero() })
	if !dated {
		s.Columns = slices.Delete(s.Columns, 3, 5)
	}
	for i := range findings {
		f := &findings[i]
		row := []any{f.Account, f.Kind, placeOf(f)}
		switch {
		case dated && f.Since.IsZero():
			row = append(row, nil, nil)
		case dated:
			row = append(row, f.Since, f.Days)
		}
		s.Rows = append(s.Rows, append(row, string(f.Confidence), spokenEvidence(f, zone)))
	}
	return s
}

// placeOf is where a finding's entry stands, "" for somebody without one.
func placeOf(f *audit.Finding) string {
	if f.DN == "" {
		return ""
	}
	return directory.Place(f.DN)
}

// spokenEvidence writes evidence with its times in local time.
func spokenEvidence(f *audit.Finding, zone *time.Location) string {
	parts := make([]string, len(f.Evidence))
	for i, e := range f.Evidence {
		value := e.Value
		if t, err := time.Parse(time.RFC3339, value); err == nil {
			value = t.In(zone).Format("2006-01-02 15:04")
		}
		parts[i] = e.Attr + " " + value
	}
	return strings.Join(parts, sheet.Between)
}

// reportCharts draws how long accounts have been unused, and where the
// findings are.
func reportCharts(r *audit.Report) ([]Chart, error) {
	var out []Chart
	var checks []Bar
	places := map[string]int{}
	for _, sum := range bySeverity(r.Summary) {
		if sum.Findings > 0 {
			checks = append(checks, Bar{sum.Check, sum.Findings, tone(sum.Severity)})
		}
	}
	for i := range r.Findings {
		if f := &r.Findings[i]; f.DN != "" {
			places[directory.Place(f.DN)]++
		}
	}
	slices.SortStableFunc(checks,
		func(a, b Bar) int { return cmp.Or(cmp.Compare(b.Tone, a.Tone), cmp.Compare(b.Value, a.Value)) })
	var where []Bar
	for place, n := range places {
		where = append(where, Bar{place, n, Plain})
	}
	slices.SortFunc(where,
		func(a, b Bar) int { return cmp.Or(cmp.Compare(b.Value, a.Value), strings.Compare(a.Label, b.Label)) })
	if err := addChart(&out, "Last logon of enabled users, days ago", logonAges(r), false); err != nil {
		return nil, err
	}
	if err := addChart(&out, "Findings by check", checks, true); err != nil {
		return nil, err
	}
	return out, addChart(&out, "Findings by place", where, true)
}

// addChart draws bars, at most mostBars of them; none is no chart.
func addChart(out *[]Chart, title string, bars []Bar, lying bool) error {
	if len(bars) == 0 {
		return nil
	}
	if len(bars) > mostBars {
		title += fmt.Sprintf(" (%d of %d)", mostBars, len(bars))
		bars = bars[:mostBars]
	}
	said := make([]string, len(bars))
	for i, b := range bars {
		said[i] = fmt.Sprintf("%s %d", b.Label, b.Value)
	}
	svg, err := BarChart(title+": "+strings.Join(said, ", "), bars, lying)
	*out = append(*out, Chart{title, svg})
	return err
}

// logonAges counts enabled users and services by the days since their last
// logon; nothing where no account shows one.
func logonAges(r *audit.Report) []Bar {
	edges := []int{30, 90, 180, 365, 730}
	bars := make([]Bar, len(edges)+2)
	from := 0
	for i, edge := range edges {
		bars[i].Label = fmt.Sprintf("%d–%d", from, edge-1)
		from = edge
	}
	bars[len(edges)].Label, bars[len(edges)+1].Label = fmt.Sprintf("%d+", from), "never"
	s, shown := r.Survey, false
	for a := range s.Accounts.All() {
		if a.Kind != directory.KindUser && a.Kind != directory.KindService || !s.Enabled(a, r.AsOf).Yes {
			continue
		}
		last := s.LastSignIn(a, r.AsOf)
		if last.Unreadable() {
			continue
		}
		at := len(edges) + 1
		if last.Known() {
			shown = true
			days := int(r.AsOf.Sub(last.Time()).Hours() / 24)
			at, _ = slices.BinarySearch(edges, days+1)
		}
		bars[at].Value++
	}
	if !shown {
		return nil
	}
	return bars
}
