package render

import (
	"cmp"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"time"

	"yardbroom/internal/audit"
	"yardbroom/internal/sheet"
	"yardbroom/internal/wording"
	"yardbroom/internal/work"
)

// trendLine is one number over time.
type trendLine struct {
	sort, name string // what it counts: check, severity, accounts, place
	severity   audit.Severity
	values     []int // by day
	known      []bool
}

// at tells how much the number has changed.
func (l *trendLine) change() int { return l.values[len(l.values)-1] - l.values[l.first()] }

// first is the first day on which the number is known.
func (l *trendLine) first() int { return max(slices.Index(l.known, true), 0) }

// trendLines are all numbers of a trend: severities, accounts by kind and state, checks,
// places.
func trendLines(t *work.Trend) (all []trendLine) {
	line := func(sort, name string, severity audit.Severity, value func(*work.TrendDay) (int, bool)) {
		l := trendLine{sort: sort, name: name, severity: severity}
		for i := range t.Days {
			n, known := value(&t.Days[i])
			l.values, l.known = append(l.values, n), append(l.known, known)
		}
		all = append(all, l)
	}
	for level := audit.High; level >= audit.Info; level-- {
		line("severity", level.String(), level, func(d *work.TrendDay) (int, bool) { return d.BySeverity()[level], true })
	}
	states, checks, places := map[[2]string]bool{}, map[string]audit.Severity{}, map[string]bool{}
	people := false
	for i := range t.Days {
		for kind, of := range t.Days[i].Accounts {
			for state := range of {
				states[[2]string{kind, state}] = true
			}
		}
		for name, c := range t.Days[i].Checks {
			if old, known := checks[name]; c.Findings > 0 || known {
				checks[name] = max(old, c.Severity)
			}
		}
		for place := range t.Days[i].Places {
			places[place] = true
		}
		people = people || t.Days[i].People > 0
	}
	for _, key := range slices.SortedFunc(maps.Keys(states), func(a, b [2]string) int { return slices.Compare(a[:], b[:]) }) {
		line("accounts", key[0]+" "+key[1], 0, func(d *work.TrendDay) (int, bool) { return d.Accounts[key[0]][key[1]], d.Accounts != nil })
	}
	if people {
		line("accounts", "people on the roster", 0, func(d *work.TrendDay) (int, bool) { return d.People, d.People > 0 })
	}
	for _, name := range slices.SortedFunc(maps.Keys(checks), func(a, b string) int {
		return cmp.Or(cmp.Compare(checks[b], checks[a]), cmp.Compare(a, b))
	}) {
		line("check", name, checks[name], func(d *work.TrendDay) (int, bool) {
			c, known := d.Checks[name]
			return c.Findings, known
		})
	}
	for _, place := range slices.Sorted(maps.Keys(places)) {
		line("place", place, 0, func(d *work.TrendDay) (int, bool) {
			n := d.Places[place]
			return n[0] + n[1] + n[2] + n[3], len(d.Places) > 0
		})
	}
	return all
}

// sparks are the heights of a small chart.
var sparks = []rune("▁▂▃▄▅▆▇█")

// spark draws numbers in a line of so many characters; a day that is not known is a
// blank.
func spark(l *trendLine, width int) string {
	low, high := l.values[l.first()], l.values[l.first()]
	for i, n := range l.values {
		if l.known[i] {
			low, high = min(low, n), max(high, n)
		}
	}
	var b strings.Builder
	n := min(len(l.values), width)
	for i := range n {
		at := i
		if n > 1 {
			at = i * (len(l.values) - 1) / (n - 1)
		}
		switch {
		case !l.known[at]:
			b.WriteByte(' ')
		case high == low:
			b.WriteRune(sparks[len(sparks)/2])
		default:
			b.WriteRune(sparks[(l.values[at]-low)*(len(sparks)-1)/(high-low)])
		}
	}
	return b.String()
}

// trendTitles head the parts of a trend.
var trendTitles = []struct{ sort, title string }{{"severity", "Findings by severity"}, {"accounts", "Accounts"}, {"check", "Findings by check"},
	{"place", "Findings by place"}}

// TrendTable draws a trend for a terminal, with small charts. Parts names which parts;
// none are all. Changes adds what came and went, one by one.
func TrendTable(w io.Writer, t *work.Trend, st Style, parts []string, changes bool) {
	first, last := t.Days[0].At, t.Days[len(t.Days)-1].At
	fmt.Fprintf(w, "%s, %s from %s to %s\n", Visible(t.Yard), wording.Count(len(t.Days), "day"), first.In(t.Zone).Format(time.DateOnly),
		last.In(t.Zone).Format(time.DateOnly))
	fmt.Fprintf(w, "%d came, %d went\n", len(t.Came), len(t.Went))
	lines := trendLines(t)
	for _, part := range trendTitles {
		if len(parts) > 0 && !slices.Contains(parts, part.sort) {
			continue
		}
		var rows [][]string
		for i := range lines {
			l := &lines[i]
			if l.sort == part.sort {
				rows = append(rows, []string{Visible(l.name), fmt.Sprint(l.values[l.first()]), fmt.Sprint(l.values[len(l.values)-1]), signed(l.change()),
					spark(l, max(st.Width-52, 8))})
			}
		}
		if len(rows) > 0 {
			fmt.Fprintf(w, "\n%s\n", part.title)
			Table(w, st, []string{"What", "First", "Last", "Change", "Over time"}, rows, 0)
		}
	}
	if changes {
		changeTable(w, st, "Came", t.Came)
		changeTable(w, st, "Went", t.Went)
	}
}

func changeTable(w io.Writer, st Style, title string, all []work.TrendChange) {
	if len(all) == 0 {
		return
	}
	fmt.Fprintf(w, "\n%s\n", title)
	var rows [][]string
	for _, c := range all {
		rows = append(rows, []string{c.Check, c.Severity.String(), Visible(c.Account), Visible(Place(c.DN))})
	}
	Table(w, st, []string{"Check", "Severity", "Account", "Place"}, rows, 3, 2)
}

// signed writes a change: +3, −2, or nothing for none.
func signed(n int) string {
	switch {
	case n > 0:
		return fmt.Sprintf("+%d", n)
	case n < 0:
		return fmt.Sprintf("−%d", -n)
	}
	return ""
}

// TrendSheet is a trend as a table with a row for each day and number.
func TrendSheet(t *work.Trend) *sheet.Sheet {
	s := &sheet.Sheet{Name: "trend", Title: "Trend", Columns: []sheet.Column{{Name: "day"}, {Name: "at", Kind: sheet.Time}, {Name: "counts"}, {Name: "name"},
		{Name: "severity"}, {Name: "number", Kind: sheet.Number}}}
	lines := trendLines(t)
	for i := range t.Days {
		for j := range lines {
			l := &lines[j]
			if !l.known[i] {
				continue
			}
			var severity any
			if l.sort == "check" || l.sort == "severity" {
				severity = l.severity.String()
			}
			s.Rows = append(s.Rows, []any{t.Days[i].At.In(t.Zone).Format(time.DateOnly), t.Days[i].At, l.sort, l.name, severity, l.values[i]})
		}
	}
	return s
}

// changeSheet is what came or went as a table.
func changeSheet(name, title string, all []work.TrendChange) sheet.Sheet {
	s := sheet.Sheet{Name: name, Title: title, Columns: []sheet.Column{{Name: "check", Title: "Check"}, {Name: "severity", Title: "Severity"},
		{Name: "account", Title: "Account", Key: true}, {Name: "kind", Title: "Kind"}, {Name: "dn", Title: "DN", Wide: true}}}
	for _, c := range all {
		s.Rows = append(s.Rows, []any{c.Check, c.Severity.String(), c.Account, c.Kind, c.DN})
	}
	return s
}

// TrendShape is a trend in JSON. It is a contract: fields may be added.
type TrendShape struct {
	Schema string             `json:"schema"` // yardbroom/trend/1
	Yard   string             `json:"yard"`
	Days   []TrendDayShape    `json:"days"`
	Came   []TrendChangeShape `json:"came"`
	Went   []TrendChangeShape `json:"went"`
}

// TrendDayShape is one day of a trend.
type TrendDayShape struct {
	Day string    `json:"day"` // in the yard's time zone
	At  time.Time `json:"at"`
	// Whole is false where something was missing in what was read.
	Whole    bool                      `json:"whole"`
	Findings map[string]int            `json:"findings"` // by severity
	Checks   map[string]int            `json:"checks"`
	Looked   []string                  `json:"looked_at"` // the checks that were looked at on this day; the others are as before
	Accounts map[string]map[string]int `json:"accounts"`  // by kind and state
	Places   map[string]int            `json:"places"`
	People   int                       `json:"people,omitempty"`
}

// TrendChangeShape is a finding that came or went.
type TrendChangeShape struct {
	Check    string `json:"check"`
	Severity string `json:"severity"`
	Account  string `json:"account"`
	Kind     string `json:"kind"`
	DN       string `json:"dn"`
}

// TrendJSON writes a trend as JSON.
func TrendJSON(w io.Writer, t *work.Trend) error {
	out := TrendShape{Schema: "yardbroom/trend/1", Yard: t.Yard, Days: []TrendDayShape{}, Came: trendChanges(t.Came), Went: trendChanges(t.Went)}
	for i := range t.Days {
		d := &t.Days[i]
		day := TrendDayShape{Day: d.At.In(t.Zone).Format(time.DateOnly), At: d.At.UTC(), Whole: d.Whole, Findings: map[string]int{}, Checks: map[string]int{},
			Looked: append([]string{}, d.Looked...), Accounts: d.Accounts, Places: map[string]int{}, People: d.People}
		n := d.BySeverity()
		for level := audit.High; level >= audit.Info; level-- {
			day.Findings[level.String()] = n[level]
		}
		for name, c := range d.Checks {
			day.Checks[name] = c.Findings
		}
		for place, n := range d.Places {
			day.Places[place] = n[0] + n[1] + n[2] + n[3]
		}
		out.Days = append(out.Days, day)
	}
	return JSON(w, out)
}

func trendChanges(all []work.TrendChange) []TrendChangeShape {
	out := make([]TrendChangeShape, len(all))
	for i, c := range all {
		out[i] = TrendChangeShape{c.Check, c.Severity.String(), c.Account, c.Kind, c.DN}
	}
	return out
}

// TrendCharts draw findings and accounts over time; none where there are not two days
// to compare.
func TrendCharts(t *work.Trend) (charts []Chart, err error) {
	if t == nil || len(t.Days) < 2 {
		return nil, nil
	}
	tones := map[string]Tone{"high": ToneHigh, "medium": ToneMedium, "low": ToneLow, "user disabled": ToneMedium, "user locked out": ToneHigh}
	var found, accounts []Line
	lines := trendLines(t)
	for i := range lines {
		l := &lines[i]
		line := Line{Name: strings.TrimPrefix(l.name, "user "), Tone: tones[l.name]}
		for day, n := range l.values {
			if l.known[day] {
				line.Points = append(line.Points, Point{t.Days[day].At.In(t.Zone), n})
			}
		}
		switch {
		case l.sort == "severity" && l.severity > audit.Info:
			found = append(found, line)
		case l.sort == "accounts" && strings.HasPrefix(l.name, "user "):
			accounts = append(accounts, line)
		}
	}
	for _, one := range []struct {
		title string
		lines []Line
	}{{"Findings by severity, over time", found}, {"Users by state, over time", accounts}} {
		if len(one.lines) == 0 {
			continue
		}
		svg, err := LineChart(one.title, one.lines, t.Zone)
		if err != nil {
			return nil, err
		}
		charts = append(charts, Chart{one.title, svg})
	}
	return charts, nil
}

// TrendPage is a trend as a page.
func TrendPage(t *work.Trend, made time.Time) (*Page, error) {
	first, last := t.Days[0].At.In(t.Zone).Format(time.DateOnly), t.Days[len(t.Days)-1].At.In(t.Zone).Format(time.DateOnly)
	p := &Page{Title: "Trend of " + t.Yard, Subtitle: fmt.Sprintf("%s from %s to %s", wording.Count(len(t.Days), "day"), first, last), Zone: t.Zone,
		Made: made, Facts: []Fact{{fmt.Sprint(len(t.Came)), "came", Plain}, {fmt.Sprint(len(t.Went)), "went", Plain}}}
	var err error
	if p.Charts, err = TrendCharts(t); err != nil {
		return nil, err
	}
	lines := trendLines(t)
	for _, part := range trendTitles {
		s := sheet.Sheet{Name: part.sort, Title: part.title, Columns: []sheet.Column{{Name: "name", Title: "", Key: true}, {Name: "first", Title: first, Kind: sheet.Number},
			{Name: "last", Title: last, Kind: sheet.Number}, {Name: "change", Title: "Change", Kind: sheet.Number}, {Name: "over", Title: "Over time"}}}
		for i := range lines {
			l := &lines[i]
			if l.sort == part.sort {
				s.Rows = append(s.Rows, []any{l.name, l.values[l.first()], l.values[len(l.values)-1], l.change(), spark(l, 40)})
			}
		}
		if len(s.Rows) > 0 {
			p.Sections = append(p.Sections, Section{ID: part.sort, Sheet: s, Open: part.sort != "place"})
		}
	}
	for _, s := range []sheet.Sheet{changeSheet("came", "Came", t.Came), changeSheet("went", "Went", t.Went)} {
		if len(s.Rows) > 0 {
			p.Sections = append(p.Sections, Section{ID: s.Name, Sheet: s})
		}
	}
	return p, nil
}
