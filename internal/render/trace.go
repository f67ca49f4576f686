package render

import (
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"

	"yardbroom/internal/logs"
	"yardbroom/internal/sheet"
	"yardbroom/internal/source"
	"yardbroom/internal/tracing"
	"yardbroom/internal/wording"
	"yardbroom/internal/work"
)

// clock is how tables write times, whose year and zone stand above them.
const clock = "01-02 15:04"

// AccountTrace writes for a terminal what keeps refusing an account: the judgement
// first, then from where, what the servers have counted, and when.
func AccountTrace(w io.Writer, t *work.AccountTrace, st Style) {
	fmt.Fprintln(w, Wrap(st.paint(traceTitle(t), text.Bold)+": "+Visible(traceState(t, st.Zone)), st.Width, "  "))
	fmt.Fprintln(w)
	j := &t.Judged
	lead, why := Visible(j.Sentence()), reasons(t, st.Zone)
	if why == "" {
		fmt.Fprintln(w, st.paint(lead, text.Bold))
	} else {
		lead += " "
		fmt.Fprintln(w, st.wrapped(st.paint(lead, text.Bold), lead, Visible(why)))
	}
	if do := j.Do(); do != "" {
		fmt.Fprintln(w, "  "+Wrap("To do: "+Visible(do), st.Width-2, "  "))
	}
	if t.Account != nil && j.Cause != tracing.None {
		fmt.Fprintln(w, "  "+Wrap(j.Unlocking(), st.Width-2, "  "))
	}
	traceSources(w, t.Trace, st)
	serverCounts(w, t, st)
	timeLine(w, t, st)
	fmt.Fprintln(w)
	for _, line := range logLines(&t.Logs, t.AsOf, st.Zone) {
		fmt.Fprintln(w, Wrap(Visible(line), st.Width, "  "))
	}
	if hint := whichLog(t); hint != "" {
		fmt.Fprintln(w, Wrap(Visible(hint), st.Width, "  "))
	}
}

func traceTitle(t *work.AccountTrace) string {
	if t.Account == nil {
		return Visible(t.Name)
	}
	name := t.Entry.First("displayName")
	if name == "" || strings.EqualFold(name, t.Account.Name()) {
		return Visible(t.Account.Name())
	}
	return Visible(name + " (" + t.Account.Name() + ")")
}

// traceState is what the directory says of the account now.
func traceState(t *work.AccountTrace, zone *time.Location) string {
	if t.Account == nil {
		return "no account is called so: a name that was made up, or a deleted account that is still in use"
	}
	if !t.Out {
		return t.Survey.State(t.Account, t.AsOf)
	}
	state := "locked out"
	if !t.Locked.IsZero() {
		state += " since " + wording.Moment(t.Locked, zone)
	}
	if !t.Ends.IsZero() {
		state += " until " + wording.Moment(t.Ends, zone)
	}
	if t.Began != "" {
		state += ", which began at " + t.Began
	}
	return state
}

// reasons are what the judgement rests on, in sentences.
func reasons(t *work.AccountTrace, zone *time.Location) string {
	var all []string
	if t.Trace.Refused > 0 {
		text := "Refused once, at " + wording.Moment(t.Trace.FirstRefused(), zone)
		if t.Trace.Refused > 1 {
			text = fmt.Sprintf("Refused %s since %s, last at %s", times(t.Trace.Refused), wording.Moment(t.Trace.FirstRefused(), zone),
				t.Trace.LastRefused().In(zone).Format(clock))
		}
		if t.Trace.Locks > 0 {
			text += ", locked out " + times(t.Trace.Locks)
		}
		all = append(all, text)
	}
	for _, r := range t.Judged.Because(&t.Case, zone) {
		all = append(all, strings.ToUpper(r[:1])+r[1:])
	}
	if len(all) == 0 {
		return ""
	}
	return strings.Join(all, ". ") + "."
}

func times(n int) string {
	if n == 1 {
		return "once"
	}
	return wording.Count(n, "time")
}

func traceSources(w io.Writer, t *tracing.Trace, st Style) {
	if len(t.Sources) == 0 {
		return
	}
	wide := st.Width >= 110
	header := []string{"From", "By", "Refused", "Let in", "Last", "Rhythm"}
	if wide {
		header = slices.Insert(header, 4, "First")
	}
	right := map[int]bool{2: true, 3: true}
	var rows [][]string
	limit := len(t.Sources)
	if st.Limit > 0 {
		limit = min(limit, 8)
	}
	for _, s := range t.Sources[:limit] {
		row := []string{Visible(sourceName(s)), Visible(orWord(s.Via, "–")), fmt.Sprint(s.Refused), fmt.Sprint(s.SignedIn),
			laterOf(s.Last, s.LastSignIn).In(st.Zone).Format(clock), s.Rhythm.Describe()}
		if wide {
			row = slices.Insert(row, 4, earlierOf(s.First, s.FirstSignIn).In(st.Zone).Format(clock))
		}
		rows = append(rows, row)
	}
	fmt.Fprintf(w, "\n%s\n", st.paint("From where", text.Bold)+" (times in "+laterOf(t.LastRefused(), t.LastSignIn()).In(st.Zone).Format("MST, 2006")+")")
	drawTable(w, st, header, rows, right, []int{0, 1})
	if limit < len(t.Sources) {
		fmt.Fprintf(w, "… %d more; --limit 0 shows all\n", len(t.Sources)-limit)
	}
}

func laterOf(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

func earlierOf(a, b time.Time) time.Time {
	if a.IsZero() || !b.IsZero() && b.Before(a) {
		return b
	}
	return a
}

// sourceName is the machine with its address, or the one that is known.
func sourceName(s *tracing.Source) string {
	name := orWord(s.Name(), "not told")
	if s.Machine != "" && len(s.Addresses) > 0 {
		name += " " + s.Addresses[0].String()
		if len(s.Addresses) > 1 {
			name += fmt.Sprintf(" +%d", len(s.Addresses)-1)
		}
	}
	return name
}

func serverCounts(w io.Writer, t *work.AccountTrace, st Style) {
	if len(t.Case.Servers) == 0 {
		return
	}
	var rows [][]string
	header := []string{"Server", "Wrong", "Last", "Locked since"}
	resets := slices.ContainsFunc(t.Case.Servers, func(f source.Failures) bool { return !f.Resets.IsZero() })
	if resets {
		header = append(header, "Counted until")
	}
	for _, s := range t.Case.Servers {
		if s.Err != nil {
			rows = append(rows, []string{Visible(s.Server), "not told", Visible(s.Err.Error()), ""})
			continue
		}
		rows = append(rows, []string{Visible(s.Server), fmt.Sprint(s.Wrong), moment(s.Last, st.Zone), moment(s.Locked, st.Zone)})
		if resets {
			rows[len(rows)-1] = append(rows[len(rows)-1], moment(s.Resets, st.Zone))
		}
	}
	fmt.Fprintf(w, "\n%s\n", st.paint("Wrong passwords, as the servers have counted them", text.Bold))
	drawTable(w, st, header, rows, map[int]bool{1: true}, []int{0, 2})
}

func moment(t time.Time, zone *time.Location) string {
	if t.IsZero() {
		return "–"
	}
	return t.In(zone).Format("2006-01-02 15:04")
}

// spell is what happened alike, one after the other.
type spell struct {
	*tracing.Attempt
	last time.Time
	n    int
}

// spells puts together what came from the same source in the same way.
func spells(all []tracing.Attempt) []spell {
	var out []spell
	for i := range all {
		a := &all[i]
		if n := len(out); n > 0 && !a.What.IsChange() {
			if l := &out[n-1]; l.What == a.What && l.Why == a.Why && l.Source == a.Source && a.What != logs.Locked {
				l.n++
				l.last = a.At
				continue
			}
		}
		out = append(out, spell{a, a.At, 1})
	}
	return out
}

// what is what happened, in a word or two.
func (s *spell) what() string {
	text := s.What.String()
	if s.What == logs.Refused {
		text += ": " + s.Why.String()
	}
	if s.Change != "" {
		text += " (" + s.Change + ")"
	}
	return text
}

// from is where it came from, or who did it.
func (s *spell) from() string {
	switch {
	case s.Source != nil:
		return sourceName(s.Source)
	case s.By != "":
		return "by " + s.By
	case s.Machine != "":
		return s.Machine
	case s.Address.IsValid():
		return s.Address.String()
	}
	return ""
}

func timeLine(w io.Writer, t *work.AccountTrace, st Style) {
	all := spells(t.Trace.Attempts)
	if len(all) == 0 {
		return
	}
	from := 0
	if st.Limit > 0 {
		from = max(0, len(all)-st.Limit)
	}
	var rows [][]string
	for _, s := range all[from:] {
		times := ""
		if s.n > 1 {
			last := s.last.In(st.Zone)
			layout := "15:04"
			if last.Format(time.DateOnly) != s.At.In(st.Zone).Format(time.DateOnly) {
				layout = clock
			}
			times = fmt.Sprintf("%d, to %s", s.n, last.Format(layout))
		}
		rows = append(rows, []string{s.At.In(st.Zone).Format(clock), Visible(s.what()), times, Visible(s.from())})
	}
	fmt.Fprintf(w, "\n%s\n", st.paint("Time line", text.Bold))
	if from > 0 {
		fmt.Fprintf(w, "… %s before; --limit 0 shows all\n", wording.Count(from, "row"))
	}
	drawTable(w, st, []string{"From", "What", "Times", "From where, or by whom"}, rows, nil, []int{1, 3})
}

// lately is how old the end of logs may be without being spoken of.
const lately = 24 * time.Hour

// logLines say what was read, and what is wrong with it.
func logLines(l *work.Logs, asOf time.Time, zone *time.Location) (out []string) {
	if len(l.Reports) == 0 {
		return nil
	}
	lines, faulty := 0, 0
	for _, r := range l.Reports {
		lines += r.Lines
		for _, f := range work.Faults(r, l.Since, zone) {
			if faulty++; faulty <= 5 {
				out = append(out, "Note: "+r.Name+" "+f)
			}
		}
	}
	if faulty > 5 {
		out = append(out, fmt.Sprintf("Note: and %d more like these", faulty-5))
	}
	read := fmt.Sprintf("Read: %s, %s", wording.Count(len(l.Reports), "log"), wording.Count(lines, "line"))
	if !l.From.IsZero() {
		read += ", from " + wording.Moment(l.From, zone) + " to " + wording.Moment(l.To, zone)
	}
	out = append(out, read+".")
	if gap := asOf.Sub(l.To); !l.To.IsZero() && gap > lately {
		out = append(out, "Note: the logs end "+tracing.Span(gap)+" before now: what came later, they do not tell.")
	}
	if !l.Floor.IsZero() {
		out = append(out, "Note: there is too much in them to keep; what came before "+wording.Moment(l.Floor, zone)+" was left out. Use --since.")
	}
	if l.Several > 0 {
		out = append(out, fmt.Sprintf("Note: %s of names that more than one account has were left out.", wording.Count(l.Several, "event")))
	}
	return out
}

// whichLog says which server's log is missing, where none was read, or those that were
// tell nothing of what the servers have counted.
func whichLog(t *work.AccountTrace) string {
	server := t.Began
	var last time.Time
	for _, f := range t.Case.Servers {
		if t.Began == "" && f.Wrong > 0 && f.Last.After(last) {
			server, last = f.Server, f.Last
		}
	}
	hint := ""
	switch {
	case len(t.Reports) == 0:
		hint = "No logs are named: add them to the settings (logs), or name one with --log."
	case t.Trace.Refused == 0 && (t.Out || server != ""):
		hint = "These logs tell nothing of the wrong passwords that were counted."
	default:
		return ""
	}
	if server != "" {
		hint += " The log to look at is that of " + server + "."
	}
	return hint
}

// TraceSheets are a trace as tables: the time line, the sources, the servers, the logs.
func TraceSheets(t *work.AccountTrace) []sheet.Sheet {
	timeLine := sheet.Sheet{Name: "time line", Title: "Time line", Columns: []sheet.Column{{Name: "time", Title: "Time", Kind: sheet.Time}, {Name: "what", Title: "What", Key: true},
		{Name: "why", Title: "Why"}, {Name: "code", Title: "Code"}, {Name: "machine", Title: "Machine"}, {Name: "address", Title: "Address"}, {Name: "via", Title: "By"},
		{Name: "servers", Title: "Told by", Kind: sheet.Texts}, {Name: "by", Title: "Who"}, {Name: "change", Title: "Change", Wide: true}}}
	for i := range t.Trace.Attempts {
		a := &t.Trace.Attempts[i]
		why, address := "", ""
		if a.What == logs.Refused {
			why = a.Why.String()
		}
		if a.Address.IsValid() {
			address = a.Address.String()
		}
		timeLine.Rows = append(timeLine.Rows, []any{a.At, a.What.String(), why, a.Code, a.Machine, address, a.Via, a.Servers, a.By, a.Change})
	}
	sheets := []sheet.Sheet{timeLine, sourceSheet(t.Trace)}
	if len(t.Case.Servers) > 0 {
		s := sheet.Sheet{Name: "servers", Title: "Wrong passwords, as the servers have counted them", Columns: []sheet.Column{{Name: "server", Title: "Server", Key: true},
			{Name: "wrong", Title: "Wrong", Kind: sheet.Number}, {Name: "last", Title: "Last", Kind: sheet.Time}, {Name: "locked", Title: "Locked since", Kind: sheet.Time},
			{Name: "error", Title: "Not told, since", Wide: true}}}
		for _, f := range t.Case.Servers {
			row := []any{f.Server, f.Wrong, timeCell(f.Last), timeCell(f.Locked), nil}
			if f.Err != nil {
				row[1], row[4] = nil, f.Err.Error()
			}
			s.Rows = append(s.Rows, row)
		}
		sheets = append(sheets, s)
	}
	return append(sheets, logSheet(&t.Logs))
}

func timeCell(t time.Time) any {
	if t.IsZero() {
		return nil
	}
	return t
}

func sourceSheet(t *tracing.Trace) sheet.Sheet {
	s := sheet.Sheet{Name: "sources", Title: "From where", Columns: []sheet.Column{{Name: "machine", Title: "Machine", Key: true}, {Name: "addresses", Title: "Address", Kind: sheet.Texts},
		{Name: "via", Title: "By"}, {Name: "refused", Title: "Refused", Kind: sheet.Number}, {Name: "signed_in", Title: "Signed in", Kind: sheet.Number},
		{Name: "first", Title: "First refused", Kind: sheet.Time}, {Name: "last", Title: "Last refused", Kind: sheet.Time}, {Name: "last_sign_in", Title: "Last sign-in", Kind: sheet.Time},
		{Name: "rhythm", Title: "Rhythm"}}}
	for _, src := range t.Sources {
		var addresses []string
		for _, a := range src.Addresses {
			addresses = append(addresses, a.String())
		}
		s.Rows = append(s.Rows, []any{src.Machine, addresses, src.Via, src.Refused, src.SignedIn, timeCell(src.First), timeCell(src.Last), timeCell(src.LastSignIn), src.Rhythm.Describe()})
	}
	return s
}

func logSheet(l *work.Logs) sheet.Sheet {
	s := sheet.Sheet{Name: "logs", Title: "Logs that were read", Columns: []sheet.Column{{Name: "log", Title: "Log", Key: true}, {Name: "lines", Title: "Lines", Kind: sheet.Number},
		{Name: "from", Title: "From", Kind: sheet.Time}, {Name: "to", Title: "To", Kind: sheet.Time}, {Name: "note", Title: "Note", Wide: true}}}
	for _, r := range l.Reports {
		s.Rows = append(s.Rows, []any{r.Name, r.Lines, timeCell(r.First), timeCell(r.Last), strings.Join(work.Faults(r, l.Since, time.UTC), "; ")})
	}
	return s
}

// TracePage is a trace as a page, with its time line drawn.
func TracePage(t *work.AccountTrace, zone *time.Location, made time.Time) (*Page, error) {
	p := &Page{Title: traceTitle(t), Subtitle: traceState(t, zone), Zone: zone, Made: made}
	j := &t.Judged
	tone := ToneMedium
	if j.Sure {
		tone = ToneHigh
	}
	if j.Cause == tracing.None {
		tone = ToneLow
	}
	p.Facts = []Fact{{Value: fmt.Sprint(t.Trace.Refused), Label: "refused", Tone: tone}, {Value: fmt.Sprint(t.Trace.SignedIn), Label: "signed in"},
		{Value: fmt.Sprint(t.Trace.Locks), Label: "locked out"}}
	judged := Section{ID: "judgement", Open: true, Sheet: sheet.Sheet{Title: "What it is"}}
	judged.Pairs = append(judged.Pairs, Fact{Label: "Judgement", Value: j.Sentence(), Tone: tone}, Fact{Label: "Since", Value: reasons(t, zone)})
	if do := j.Do(); do != "" {
		judged.Pairs = append(judged.Pairs, Fact{Label: "What to do", Value: do})
	}
	if t.Account != nil && j.Cause != tracing.None {
		judged.Pairs = append(judged.Pairs, Fact{Label: "Unlocking", Value: j.Unlocking()})
	}
	if lanes := traceLanes(t.Trace); len(lanes) > 0 {
		svg, err := LaneChart(fmt.Sprintf("Time line of %s sign-ins of %s, by source", wording.Count(t.Trace.Refused, "refused"), t.Name), lanes, zone)
		if err != nil {
			return nil, err
		}
		p.Charts = []Chart{{Title: "Refused (red) and signed in (green), by source", SVG: svg}}
	}
	p.Sections = []Section{judged}
	sheets := TraceSheets(t)
	for _, s := range append(sheets[1:], sheets[0]) {
		p.Sections = append(p.Sections, Section{ID: strings.ReplaceAll(s.Name, " ", "-"), Open: s.Name != "logs", Sheet: s})
	}
	p.Notes = logLines(&t.Logs, t.AsOf, zone)
	if hint := whichLog(t); hint != "" {
		p.Notes = append(p.Notes, hint)
	}
	return p, nil
}

// mostLanes of a time line are drawn.
const mostLanes = 8

func traceLanes(t *tracing.Trace) []Lane {
	var lanes []Lane
	for _, s := range t.Sources[:min(mostLanes, len(t.Sources))] {
		lane := Lane{Name: orWord(s.Name(), "not told")}
		for i := range t.Attempts {
			if a := &t.Attempts[i]; a.Source == s {
				m := Mark{At: a.At, Tone: ToneLow}
				if a.What == logs.Refused {
					m.Tone = ToneHigh
				}
				lane.Marks = append(lane.Marks, m)
			}
		}
		lanes = append(lanes, lane)
	}
	var locks []Mark
	for i := range t.Attempts {
		if t.Attempts[i].What == logs.Locked {
			locks = append(locks, Mark{At: t.Attempts[i].At, Tone: ToneMedium})
		}
	}
	if len(locks) > 0 {
		lanes = append(lanes, Lane{Name: "locked out", Marks: locks})
	}
	return lanes
}

// TraceShape is a trace for programs.
type TraceShape struct {
	Schema    string         `json:"schema"` // yardbroom/trace/1
	Account   string         `json:"account"`
	DN        string         `json:"dn,omitempty"` // none where no account is called so
	AsOf      time.Time      `json:"as_of"`
	Out       bool           `json:"locked_out"`
	Locked    *time.Time     `json:"locked_since" jsonschema:"nullable"` // where that can be told
	LockedAt  string         `json:"locked_at,omitempty"`                // the server at which the lock began
	Judgement JudgementShape `json:"judgement"`
	Refused   int            `json:"refused"`
	SignedIn  int            `json:"signed_in"`
	Locks     int            `json:"locks"`
	Sources   []SourceShape  `json:"sources"`
	Servers   []CountsShape  `json:"servers"`
	Events    []AttemptShape `json:"events"`
	Logs      []LogShape     `json:"logs"`
}

// JudgementShape is what refused sign-ins most likely are.
type JudgementShape struct {
	Cause      string   `json:"cause"`
	Confidence string   `json:"confidence"` // sure or likely
	Text       string   `json:"text"`
	Because    []string `json:"because"`
	ToDo       string   `json:"to_do,omitempty"`
	Going      bool     `json:"still_going"`
	Unlocking  string   `json:"unlocking"`
}

// SourceShape is where an account signs in from, or tries to.
type SourceShape struct {
	Machine    string     `json:"machine,omitempty"`
	Addresses  []string   `json:"addresses"`
	Via        string     `json:"via,omitempty"`
	Refused    int        `json:"refused"`
	SignedIn   int        `json:"signed_in"`
	First      *time.Time `json:"first_refused" jsonschema:"nullable"`
	Last       *time.Time `json:"last_refused" jsonschema:"nullable"`
	LastSignIn *time.Time `json:"last_sign_in" jsonschema:"nullable"`
	Rhythm     string     `json:"rhythm,omitempty"`
	Every      int        `json:"every_seconds,omitempty"` // where it is regular
}

// CountsShape is what one server has counted.
type CountsShape struct {
	Server string     `json:"server"`
	Wrong  int        `json:"wrong"`
	Last   *time.Time `json:"last" jsonschema:"nullable"`
	Locked *time.Time `json:"locked_since" jsonschema:"nullable"`
	Resets *time.Time `json:"counted_until" jsonschema:"nullable"` // where the server says so
	Error  string     `json:"error,omitempty"`
}

// AttemptShape is one thing that happened.
type AttemptShape struct {
	Time    time.Time `json:"time"`
	What    string    `json:"what"`
	Why     string    `json:"why,omitempty"`
	Code    string    `json:"code,omitempty"`
	Machine string    `json:"machine,omitempty"`
	Address string    `json:"address,omitempty"`
	Via     string    `json:"via,omitempty"`
	Servers []string  `json:"told_by,omitempty"`
	By      string    `json:"by,omitempty"`
	Change  string    `json:"change,omitempty"`
}

// LogShape is one log that was read.
type LogShape struct {
	Name  string     `json:"name"`
	Lines int        `json:"lines"`
	From  *time.Time `json:"from" jsonschema:"nullable"`
	To    *time.Time `json:"to" jsonschema:"nullable"`
	Notes []string   `json:"notes"`
}

func timeOf(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	u := t.UTC()
	return &u
}

// TraceShapeOf makes the shape of a trace.
func TraceShapeOf(t *work.AccountTrace) *TraceShape {
	out := &TraceShape{Schema: "yardbroom/trace/1", Account: t.Name, AsOf: t.AsOf.UTC(), Out: t.Out, Locked: timeOf(t.Locked), LockedAt: t.Began, Judgement: judgementShape(t),
		Refused: t.Trace.Refused, SignedIn: t.Trace.SignedIn, Locks: t.Trace.Locks,
		Sources: []SourceShape{}, Servers: []CountsShape{}, Events: []AttemptShape{}, Logs: logShapes(&t.Logs)}
	if t.Account != nil {
		out.Account, out.DN = t.Account.Name(), t.Account.DN
	}
	for _, s := range t.Trace.Sources {
		one := SourceShape{Machine: s.Machine, Addresses: []string{}, Via: s.Via, Refused: s.Refused, SignedIn: s.SignedIn, First: timeOf(s.First), Last: timeOf(s.Last),
			LastSignIn: timeOf(s.LastSignIn), Rhythm: s.Rhythm.Describe()}
		for _, a := range s.Addresses {
			one.Addresses = append(one.Addresses, a.String())
		}
		if s.Rhythm.Regular {
			one.Every = int(s.Rhythm.Every / time.Second)
		}
		out.Sources = append(out.Sources, one)
	}
	for _, f := range t.Case.Servers {
		one := CountsShape{Server: f.Server, Wrong: f.Wrong, Last: timeOf(f.Last), Locked: timeOf(f.Locked), Resets: timeOf(f.Resets)}
		if f.Err != nil {
			one.Error = f.Err.Error()
		}
		out.Servers = append(out.Servers, one)
	}
	for i := range t.Trace.Attempts {
		a := &t.Trace.Attempts[i]
		one := AttemptShape{Time: a.At, What: a.What.String(), Code: a.Code, Machine: a.Machine, Via: a.Via, Servers: a.Servers, By: a.By, Change: a.Change}
		if a.What == logs.Refused {
			one.Why = a.Why.String()
		}
		if a.Address.IsValid() {
			one.Address = a.Address.String()
		}
		out.Events = append(out.Events, one)
	}
	return out
}

func logShapes(l *work.Logs) []LogShape {
	all := []LogShape{}
	for _, r := range l.Reports {
		all = append(all, LogShape{Name: r.Name, Lines: r.Lines, From: timeOf(r.First), To: timeOf(r.Last), Notes: append([]string{}, work.Faults(r, l.Since, time.UTC)...)})
	}
	return all
}

func judgementShape(t *work.AccountTrace) JudgementShape {
	j := &t.Judged
	return JudgementShape{Cause: j.Cause.String(), Confidence: j.Confidence(), Text: j.Verdict(),
		Because: append([]string{}, j.Because(&t.Case, time.UTC)...), ToDo: j.Do(), Going: j.Going, Unlocking: j.Unlocking()}
}
