package render

import (
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"yardbroom/internal/directory"
	"yardbroom/internal/ladder"
	"yardbroom/internal/settings"
	"yardbroom/internal/sheet"
	"yardbroom/internal/wording"
	"yardbroom/internal/work"
)

// beforeFirst is what to call the place before the first rung.
const beforeFirst = "before the first"

func rungName(name string) string {
	if name == "" {
		return beforeFirst
	}
	return name
}

// rungCount is how many stand on a rung.
type rungCount struct {
	name  string
	n     int
	due   int // whose time has come
	held  int
	awake int
}

// countRungs counts who stands where, from before the first rung to the last.
func countRungs(l *work.OneLadder) []rungCount {
	all := []rungCount{{name: ""}}
	for i := range l.Rungs {
		all = append(all, rungCount{name: l.Rungs[i].Name})
	}
	for _, s := range l.Standings {
		i := slices.IndexFunc(all, func(c rungCount) bool { return c.name == s.Rung })
		if i < 0 || s.State == ladder.Strange {
			continue
		}
		c := &all[i]
		c.n++
		switch s.State {
		case ladder.Due:
			c.due++
		case ladder.Held, ladder.Unknown:
			c.held++
		case ladder.Woken, ladder.Left:
			c.awake++
		}
	}
	return all
}

// bar is a bar of so many characters at most.
func bar(n, most, width int) string {
	if most == 0 || n == 0 {
		return ""
	}
	return strings.Repeat("█", max(n*width/most, 1))
}

// ladderRule says what a rung does, and after how long.
func ladderRule(r *settings.Rung) string {
	text := "after " + r.After.String() + ": " + strings.Join(r.Actions, ", ")
	if r.To != "" {
		text += " to " + directory.LeafValue(r.To)
	}
	return text
}

// LadderTable writes a ladder for a terminal: how many stand on which rung, then
// everybody, the highest rung first.
func LadderTable(w io.Writer, l *work.OneLadder, st Style) {
	title := l.Name
	if l.Title != "" {
		title += ": " + l.Title
	}
	fmt.Fprintln(w, Wrap(Visible(title), st.Width, "  "))
	fmt.Fprintf(w, "Who is %s comes on it.\n\n", Visible(l.Starts.String()))
	counts := countRungs(l)
	most := 0
	for _, c := range counts {
		most = max(most, c.n)
	}
	var rows [][]string
	for i, c := range counts {
		rule := ""
		if i > 0 {
			rule = ladderRule(&l.Rungs[i-1])
		}
		rows = append(rows, []string{rungName(c.name), fmt.Sprint(c.n), bar(c.n, most, 12), Visible(rule)})
	}
	drawTable(w, st, []string{"Rung", "Now", "Share", "What it does"}, rows, map[int]bool{1: true}, []int{3})
	if len(l.Changes) > 0 {
		fmt.Fprintf(w, "\nSet otherwise than when it was last climbed\n")
		for _, text := range l.Changes {
			fmt.Fprintln(w, "  "+Wrap(Visible(text), st.Width-2, "    "))
		}
		for i, s := range l.Shifts {
			if i == 10 {
				fmt.Fprintf(w, "  and %d more\n", len(l.Shifts)-i)
				break
			}
			fmt.Fprintf(w, "  %s: %s, was %s\n", Visible(s.Account), orWord(Day(s.Day, st.Zone), "no day"), orWord(Day(s.Was, st.Zone), "no day"))
		}
	}
	for _, why := range l.NotLooked {
		fmt.Fprintln(w, Wrap("Nobody can be taken on: "+Visible(why), st.Width, "  "))
	}
	if len(l.Standings) == 0 {
		fmt.Fprintln(w, "\nNobody is on it.")
		return
	}
	fmt.Fprintln(w)
	standingTable(w, l.Ladder, l.Standings, st)
}

func orWord(text, word string) string {
	if text == "" {
		return word
	}
	return text
}

// standingTable writes a row for everybody, and below it what there is to say.
func standingTable(w io.Writer, l *settings.Ladder, all []*ladder.Standing, st Style) {
	limit := len(all)
	if st.Limit > 0 {
		limit = min(limit, st.Limit)
	}
	width := 7
	for _, s := range all[:limit] {
		width = min(max(width, displayWidth(Visible(s.Account))), 24)
	}
	rung := 4
	for i := range l.Rungs {
		rung = max(rung, len(l.Rungs[i].Name))
	}
	fmt.Fprintf(w, "%-*s  %-*s  %-10s  %-*s  %-10s  %s\n", width, "Account", rung, "Rung", "Since", rung, "Next", "Not before", "State")
	fmt.Fprintln(w, strings.Repeat("─", min(st.Width, width+2*rung+2*10+10+len(string(ladder.Waiting)))))
	for _, s := range all[:limit] {
		next := ""
		if s.Next != nil {
			next = s.Next.Name
		}
		name := Clip(Visible(s.Account), width)
		fmt.Fprintf(w, "%s%s  %-*s  %-10s  %-*s  %-10s  %s\n", name, strings.Repeat(" ", max(width-displayWidth(name), 0)), rung, orWord(s.Rung, "–"),
			Day(s.Since, st.Zone), rung, next, Day(s.Day, st.Zone), s.State)
		if text := strings.Join(remarks(l, s, st.Zone), "; "); text != "" {
			fmt.Fprintln(w, "    "+Wrap(Visible(text), st.Width-4, "      "))
		}
	}
	if limit < len(all) {
		fmt.Fprintf(w, "… %d more; --limit 0 shows all\n", len(all)-limit)
	}
}

// remarks say why somebody is on a ladder, who was told, what holds them and why they
// leave it.
func remarks(l *settings.Ladder, s *ladder.Standing, zone *time.Location) (out []string) {
	if s.Awake != "" {
		out = append(out, "leaves the ladder: "+s.Awake)
	}
	if s.Start != nil && s.Awake == "" {
		out = append(out, ladder.WhyOn(l, startOf(s), zone)+likely(s))
	}
	for _, r := range s.Holds {
		text := r.Why
		if !r.Until.IsZero() {
			text += ", until " + Day(r.Until, zone)
		}
		out = append(out, "held: "+text)
	}
	if s.Way.Waits != 0 {
		text := fmt.Sprintf("waits in batch %d", s.Way.Waits)
		if s.Way.Halfway != "" {
			text += " (" + s.Way.Halfway + ")"
		}
		out = append(out, text)
	}
	if text := toldText(s, zone); text != "" {
		out = append(out, text)
	}
	return out
}

func likely(s *ladder.Standing) string {
	if s.Start.Confidence == "sure" {
		return ""
	}
	return " (likely)"
}

// startOf is when what put somebody on a ladder began.
func startOf(s *ladder.Standing) time.Time {
	if s.Start.Since.IsZero() {
		return s.Since
	}
	return s.Start.Since
}

// toldText says who was told of what comes next, or is to be.
func toldText(s *ladder.Standing, zone *time.Location) string {
	if s.Next == nil || s.Next.Tell == nil {
		return ""
	}
	var parts []string
	for _, t := range s.Told {
		text := fmt.Sprintf("%s on %s", strings.TrimPrefix(t.Address, "workbook:"), Day(t.At, zone))
		if t.CameBack {
			text += " (it came back)"
		}
		parts = append(parts, text)
	}
	if len(parts) > 0 {
		return "told: " + strings.Join(parts, ", ")
	}
	if len(s.Tell) > 0 {
		for _, r := range s.Tell {
			parts = append(parts, r.Address)
		}
		return "to be told now: " + strings.Join(parts, ", ")
	}
	return ""
}

// LaddersTable writes all ladders of a yard, a row each.
func LaddersTable(w io.Writer, all []*work.OneLadder, st Style) {
	var rows [][]string
	for _, l := range all {
		on, due, held, awake := 0, 0, 0, 0
		var by []string
		for _, c := range countRungs(l) {
			if c.n > 0 {
				by = append(by, fmt.Sprintf("%s %d", rungName(c.name), c.n))
			}
			on, due, held, awake = on+c.n, due+c.due, held+c.held, awake+c.awake
		}
		next := time.Time{}
		for _, s := range l.Standings {
			if !s.Day.IsZero() && s.State == ladder.Climbing && (next.IsZero() || s.Day.Before(next)) {
				next = s.Day
			}
		}
		rows = append(rows, []string{Visible(l.Name), Visible(l.Starts.String()), fmt.Sprint(on), fmt.Sprint(due), fmt.Sprint(held), fmt.Sprint(awake),
			Day(next, st.Zone), Visible(strings.Join(by, ", "))})
	}
	drawTable(w, st, []string{"Ladder", "Starts", "On it", "Due", "Held", "Leaving", "Next", "By rung"}, rows,
		map[int]bool{2: true, 3: true, 4: true, 5: true}, []int{7, 1})
}

// LadderSheet is everybody on ladders as a table.
func LadderSheet(all []*work.OneLadder, zone *time.Location) *sheet.Sheet {
	s := &sheet.Sheet{Name: "ladders", Title: "Ladders", Columns: []sheet.Column{{Name: "ladder", Title: "Ladder"}, {Name: "account", Title: "Account", Key: true},
		{Name: "kind", Title: "Kind"}, {Name: "rung", Title: "Rung"}, {Name: "state", Title: "State"}, {Name: "since", Title: "Since", Kind: sheet.Time},
		{Name: "why", Title: "Why", Wide: true}, {Name: "next", Title: "Next"}, {Name: "day", Title: "Not before", Kind: sheet.Time},
		{Name: "held", Title: "Held", Wide: true}, {Name: "told", Title: "Told", Wide: true}, {Name: "batch", Title: "Batch", Kind: sheet.Number},
		{Name: "dn", Title: "DN", Wide: true}}}
	moment := func(t time.Time) any {
		if t.IsZero() {
			return nil
		}
		return t.UTC()
	}
	for _, l := range all {
		for _, st := range l.Standings {
			one := standingShape(l.Ladder, st, zone)
			row := []any{l.Name, one.Account, one.Kind, one.Rung, one.State, moment(st.Since), one.Why, one.Next, moment(st.Day), strings.Join(one.Held, sheet.Between),
				strings.Join(one.Told, sheet.Between), nil, one.DN}
			if one.Batch != 0 {
				row[11] = one.Batch
			}
			s.Rows = append(s.Rows, row)
		}
	}
	return s
}

// LaddersShape is ladders in JSON. It is a contract: fields may be added.
type LaddersShape struct {
	Schema  string        `json:"schema"` // yardbroom/ladders/1
	AsOf    time.Time     `json:"as_of"`
	Ladders []LadderShape `json:"ladders"`
}

// LadderShape is one ladder.
type LadderShape struct {
	Name      string          `json:"name"`
	Starts    string          `json:"starts"`
	Rungs     []RungShape     `json:"rungs"`
	Accounts  []StandingShape `json:"accounts"`
	Changes   []string        `json:"changes,omitempty"` // since it was last climbed
	NotLooked []string        `json:"not_looked_at,omitempty"`
}

// RungShape is a rung, the first of them being where accounts wait for it.
type RungShape struct {
	Name    string   `json:"name"` // "" before the first
	After   string   `json:"after,omitempty"`
	Actions []string `json:"actions,omitempty"`
	Now     int      `json:"now"`
}

// StandingShape is one account on a ladder.
type StandingShape struct {
	Account string     `json:"account"`
	DN      string     `json:"dn"`
	ID      string     `json:"id"`
	Kind    string     `json:"kind"`
	Rung    string     `json:"rung"`
	State   string     `json:"state"`
	Since   *time.Time `json:"since,omitempty"`
	Why     string     `json:"why,omitempty"`
	Next    string     `json:"next,omitempty"`
	Due     *time.Time `json:"due,omitempty"` // when its waiting time is over
	Day     *time.Time `json:"day,omitempty"` // when it can be taken further; absent where nobody can tell
	Held    []string   `json:"held,omitempty"`
	Told    []string   `json:"told,omitempty"`
	Awake   string     `json:"leaves,omitempty"`
	Batch   int        `json:"batch,omitempty"` // that it waits in
}

func standingShape(l *settings.Ladder, s *ladder.Standing, zone *time.Location) StandingShape {
	moment := func(t time.Time) *time.Time {
		if t.IsZero() {
			return nil
		}
		t = t.UTC()
		return &t
	}
	out := StandingShape{Account: s.Account, DN: s.DN, ID: s.ID, Kind: s.Kind, Rung: s.Rung, State: string(s.State), Since: moment(s.Since), Due: moment(s.Due),
		Day: moment(s.Day), Awake: s.Awake, Batch: s.Way.Waits}
	if s.Next != nil {
		out.Next = s.Next.Name
	}
	if s.Start != nil {
		out.Why = ladder.WhyOn(l, startOf(s), zone) + likely(s)
	}
	if s.Awake != "" {
		out.Why = s.Awake
	}
	for _, r := range s.Holds {
		text := r.Why
		if !r.Until.IsZero() {
			text += ", until " + Day(r.Until, zone)
		}
		out.Held = append(out.Held, text)
	}
	for _, t := range s.Told {
		text := strings.TrimPrefix(t.Address, "workbook:") + " on " + Day(t.At, zone)
		if t.CameBack {
			text += " (it came back)"
		}
		out.Told = append(out.Told, text)
	}
	return out
}

// LaddersJSON writes ladders as JSON.
func LaddersJSON(w io.Writer, all []*work.OneLadder, asOf time.Time, zone *time.Location) error {
	out := LaddersShape{Schema: "yardbroom/ladders/1", AsOf: asOf.UTC(), Ladders: []LadderShape{}}
	for _, l := range all {
		one := LadderShape{Name: l.Name, Starts: l.Starts.String(), Accounts: []StandingShape{}, Changes: l.Changes, NotLooked: l.NotLooked}
		for i, c := range countRungs(l) {
			r := RungShape{Name: c.name, Now: c.n}
			if i > 0 {
				r.After, r.Actions = l.Rungs[i-1].After.String(), l.Rungs[i-1].Actions
			}
			one.Rungs = append(one.Rungs, r)
		}
		for _, s := range l.Standings {
			one.Accounts = append(one.Accounts, standingShape(l.Ladder, s, zone))
		}
		out.Ladders = append(out.Ladders, one)
	}
	return JSON(w, &out)
}

// LaddersPage is ladders as a page.
func LaddersPage(all []*work.OneLadder, asOf, made time.Time, zone *time.Location) (*Page, error) {
	p := &Page{Title: "Ladders", Subtitle: "as of " + wording.Moment(asOf, zone), Zone: zone, Made: made}
	if len(all) == 1 {
		p.Title = "Ladder " + all[0].Name
	}
	for _, l := range all {
		var bars []Bar
		for _, c := range countRungs(l) {
			bars = append(bars, Bar{Label: rungName(c.name), Value: c.n})
		}
		svg, err := BarChart("Accounts on the rungs of "+l.Name, bars, true)
		if err != nil {
			return nil, err
		}
		p.Charts = append(p.Charts, Chart{l.Name + ": who stands where", svg})
		s := *LadderSheet([]*work.OneLadder{l}, zone)
		s.Title, s.Name = l.Name, l.Name
		p.Sections = append(p.Sections, Section{ID: l.Name, Lead: "Who is " + l.Starts.String() + " comes on it.", Sheet: s, Open: true})
		for _, text := range l.Changes {
			p.Notes = append(p.Notes, l.Name+" is set otherwise than when it was last climbed: "+text)
		}
	}
	return p, nil
}

// ForecastTable writes a forecast for a terminal: who would stand where, week by week, and
// the first steps.
func ForecastTable(w io.Writer, f *work.Forecast, st Style) {
	fmt.Fprintf(w, "%s, from %s to %s, if nobody wakes\n\n", Visible(f.Ladder.Name), Day(f.At, st.Zone), Day(f.Until, st.Zone))
	head := []string{"Day", "Before"}
	right := map[int]bool{1: true}
	for i, name := range f.Rungs {
		head = append(head, name)
		right[i+2] = true
	}
	head = append(head, "Steps since")
	right[len(head)-1] = true
	every := max((len(f.Counts)+15)/16, 1)
	if every > 1 && every < 7 && len(f.Counts) > 16 {
		every = 7
	}
	var rows [][]string
	steps := 0
	for i, c := range f.Counts {
		if steps += c.Steps; i%every != 0 && i != len(f.Counts)-1 {
			continue
		}
		row := []string{Day(c.Day, st.Zone), fmt.Sprint(c.Before)}
		for _, n := range c.On {
			row = append(row, fmt.Sprint(n))
		}
		rows = append(rows, append(row, fmt.Sprint(steps)))
		steps = 0
	}
	drawTable(w, st, head, rows, right, nil)
	if len(f.Stay) > 0 {
		fmt.Fprintf(w, "%s of whom nobody can tell when they go on: see \"yardbroom ladder show %s\"\n", wording.Count(len(f.Stay), "account"), f.Ladder.Name)
	}
	if len(f.Steps) == 0 {
		fmt.Fprintln(w, "\nNobody would take a step.")
		return
	}
	limit := len(f.Steps)
	if st.Limit > 0 {
		limit = min(limit, st.Limit)
	}
	fmt.Fprintln(w)
	rows = nil
	for _, s := range f.Steps[:limit] {
		rows = append(rows, []string{Day(s.Day, st.Zone), Visible(s.Account), stepText(&s)})
	}
	Table(w, st, []string{"Day", "Account", "Step"}, rows, 2, 1)
	if limit < len(f.Steps) {
		fmt.Fprintf(w, "… %d more steps; --limit 0 shows all\n", len(f.Steps)-limit)
	}
}

func stepText(s *ladder.Foreseen) string {
	if s.Comes {
		return "comes on the ladder"
	}
	return rungName(s.From) + " → " + s.To
}

// ForecastSheets are the counts of a forecast by day, and its steps.
func ForecastSheets(f *work.Forecast, zone *time.Location) []sheet.Sheet {
	counts := sheet.Sheet{Name: "counts", Title: "Who would stand where", Columns: []sheet.Column{{Name: "day", Title: "Day", Key: true},
		{Name: "before", Title: "Before the first", Kind: sheet.Number}}}
	for _, name := range f.Rungs {
		counts.Columns = append(counts.Columns, sheet.Column{Name: name, Title: name, Kind: sheet.Number})
	}
	counts.Columns = append(counts.Columns, sheet.Column{Name: "steps", Title: "Steps", Kind: sheet.Number})
	for _, c := range f.Counts {
		row := []any{Day(c.Day, zone), c.Before}
		for _, n := range c.On {
			row = append(row, n)
		}
		counts.Rows = append(counts.Rows, append(row, c.Steps))
	}
	steps := sheet.Sheet{Name: "steps", Title: "Who would take which step", Columns: []sheet.Column{{Name: "day", Title: "Day"},
		{Name: "account", Title: "Account", Key: true}, {Name: "from", Title: "From"}, {Name: "to", Title: "To"}, {Name: "dn", Title: "DN", Wide: true}}}
	for _, s := range f.Steps {
		to := s.To
		if s.Comes {
			to = beforeFirst
		}
		from := rungName(s.From)
		if s.Comes {
			from = ""
		}
		steps.Rows = append(steps.Rows, []any{Day(s.Day, zone), s.Account, from, to, s.DN})
	}
	return []sheet.Sheet{counts, steps}
}

// ForecastShape is a forecast in JSON. It is a contract: fields may be added.
type ForecastShape struct {
	Schema string              `json:"schema"` // yardbroom/forecast/1
	Ladder string              `json:"ladder"`
	AsOf   time.Time           `json:"as_of"`
	Until  time.Time           `json:"until"`
	Rungs  []string            `json:"rungs"`
	Days   []ForecastDayShape  `json:"days"`
	Steps  []ForecastStepShape `json:"steps"`
	Stay   []string            `json:"stay"` // accounts of whom nobody can tell when they go on
}

// ForecastDayShape counts who would stand where at the end of a day.
type ForecastDayShape struct {
	Day    string         `json:"day"`
	Before int            `json:"before"`
	On     map[string]int `json:"on"` // by rung
}

// ForecastStepShape is a step that would be taken.
type ForecastStepShape struct {
	Day     time.Time `json:"day"`
	Account string    `json:"account"`
	DN      string    `json:"dn"`
	From    string    `json:"from"`
	To      string    `json:"to"`
	Comes   bool      `json:"comes,omitempty"` // on the ladder, before the first rung
}

// ForecastJSON writes a forecast as JSON.
func ForecastJSON(w io.Writer, f *work.Forecast, zone *time.Location) error {
	out := ForecastShape{Schema: "yardbroom/forecast/1", Ladder: f.Ladder.Name, AsOf: f.At.UTC(), Until: f.Until.UTC(), Rungs: f.Rungs, Days: []ForecastDayShape{},
		Steps: []ForecastStepShape{}, Stay: []string{}}
	for _, c := range f.Counts {
		day := ForecastDayShape{Day: Day(c.Day, zone), Before: c.Before, On: map[string]int{}}
		for i, n := range c.On {
			day.On[f.Rungs[i]] = n
		}
		out.Days = append(out.Days, day)
	}
	for _, s := range f.Steps {
		out.Steps = append(out.Steps, ForecastStepShape{s.Day.UTC(), s.Account, s.DN, s.From, s.To, s.Comes})
	}
	for _, s := range f.Stay {
		out.Stay = append(out.Stay, s.Account)
	}
	return JSON(w, &out)
}

// stepsByMonth counts the steps of a forecast by month.
func stepsByMonth(f *work.Forecast, zone *time.Location) (bars []Bar) {
	for at := f.At.In(zone); !at.After(f.Until); at = time.Date(at.Year(), at.Month()+1, 1, 0, 0, 0, 0, zone) {
		bars = append(bars, Bar{Label: at.Format("Jan")})
	}
	first := f.At.In(zone)
	for _, s := range f.Steps {
		day := s.Day.In(zone)
		if i := (day.Year()-first.Year())*12 + int(day.Month()-first.Month()); !s.Comes && i >= 0 && i < len(bars) {
			bars[i].Value++
		}
	}
	return bars
}

// ForecastPage is a forecast as a page with a chart.
func ForecastPage(f *work.Forecast, made time.Time, zone *time.Location) (*Page, error) {
	p := &Page{Title: "Forecast of " + f.Ladder.Name, Zone: zone, Made: made,
		Subtitle: fmt.Sprintf("from %s to %s, if nobody wakes; as of %s", Day(f.At, zone), Day(f.Until, zone), wording.Moment(f.At, zone))}
	last := f.Counts[len(f.Counts)-1]
	p.Facts = append(p.Facts, Fact{fmt.Sprint(last.Before), beforeFirst + " on " + Day(last.Day, zone), Plain})
	tone := []Tone{ToneLow, ToneMedium, ToneHigh}
	lines := []Line{{Name: beforeFirst, Tone: Plain}}
	for i, name := range f.Rungs {
		t := tone[min(i+max(3-len(f.Rungs), 0), len(tone)-1)]
		lines = append(lines, Line{Name: name, Tone: t})
		p.Facts = append(p.Facts, Fact{fmt.Sprint(last.On[i]), name + " on " + Day(last.Day, zone), t})
	}
	for _, c := range f.Counts {
		lines[0].Points = append(lines[0].Points, Point{c.Day, c.Before})
		for i, n := range c.On {
			lines[i+1].Points = append(lines[i+1].Points, Point{c.Day, n})
		}
	}
	svg, err := LineChart("Accounts on each rung, day by day", lines, zone)
	if err != nil {
		return nil, err
	}
	p.Charts = []Chart{{"Accounts on each rung, day by day", svg}}
	if bars := stepsByMonth(f, zone); len(bars) > 1 {
		if svg, err = BarChart("Steps that would be taken, by month", bars, false); err != nil {
			return nil, err
		}
		p.Charts = append(p.Charts, Chart{"Steps that would be taken, by month", svg})
	}
	var rules []string
	for i := range f.Ladder.Rungs {
		r := &f.Ladder.Rungs[i]
		rules = append(rules, r.Name+" "+ladderRule(r))
	}
	p.Notes = append(p.Notes, "Who is "+f.Ladder.Starts.String()+" comes on it; "+strings.Join(rules, "; ")+".")
	if len(f.Stay) > 0 {
		p.Notes = append(p.Notes, wording.Count(len(f.Stay), "account")+" of whom nobody can tell when they go on are counted where they stand.")
	}
	sheets := ForecastSheets(f, zone)
	p.Sections = []Section{{ID: "steps", Sheet: sheets[1], Open: true}, {ID: "counts", Sheet: sheets[0]}}
	return p, nil
}
