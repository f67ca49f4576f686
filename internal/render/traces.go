package render

import (
	"fmt"
	"io"
	"slices"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"

	"yardbroom/internal/sheet"
	"yardbroom/internal/tracing"
	"yardbroom/internal/wording"
	"yardbroom/internal/work"
)

// Traces writes for a terminal what keeps refusing accounts, a line for each.
func Traces(w io.Writer, t *work.Traces, q *work.TraceQuestion, st Style) {
	fmt.Fprintln(w, Wrap(st.paint(Visible(tracesTitle(t, q)), text.Bold), st.Width, "  "))
	for _, o := range t.Guessing {
		if q.Source == "" {
			fmt.Fprintln(w, Wrap("Guessing from "+Visible(o.Name)+": "+originText(o)+".", st.Width, "  "))
		}
	}
	if t.Origin != nil {
		fmt.Fprintln(w, Wrap(Visible(sourceText(t.Origin)), st.Width, "  "))
	}
	if len(t.All) > 0 {
		fmt.Fprintln(w)
		limit := len(t.All)
		if st.Limit > 0 {
			limit = min(limit, st.Limit)
		}
		header, wide := []string{"Account", "Refused", "Let in", "Last", "What it is"}, st.Width >= 100
		if !wide && q.Source == "" {
			header = slices.Delete(header, 2, 4) // what it is, is the point
		}
		var rows [][]string
		for _, one := range t.All[:limit] {
			row := []string{Visible(accountName(one)), fmt.Sprint(one.Refused), fmt.Sprint(one.SignedIn), clockText(one.Last, st.Zone), Visible(judgedText(one))}
			if len(header) < len(row) {
				row = slices.Delete(row, 2, 4)
			}
			rows = append(rows, row)
		}
		drawTable(w, st, header, rows, map[int]bool{1: true, 2: len(header) > 3}, []int{0, len(header) - 1})
		if limit < len(t.All) {
			fmt.Fprintf(w, "… %d more; --limit 0 shows all\n", len(t.All)-limit)
		}
		fmt.Fprintln(w, "\nClosely: yardbroom trace ACCOUNT")
	}
	fmt.Fprintln(w)
	for _, line := range logLines(&t.Logs, t.AsOf, st.Zone) {
		fmt.Fprintln(w, Wrap(Visible(line), st.Width, "  "))
	}
}

func clockText(t time.Time, zone *time.Location) string {
	if t.IsZero() {
		return ""
	}
	return t.In(zone).Format(clock)
}

// tracesTitle is what was asked for, and how many it is.
func tracesTitle(t *work.Traces, q *work.TraceQuestion) string {
	strangers := 0
	for _, one := range t.All {
		if one.Account == nil {
			strangers++
		}
	}
	accounts := wording.Count(len(t.All)-strangers, "account")
	if q.Locked {
		return accounts + " locked out"
	}
	title := accounts + " refused"
	if q.Source != "" {
		title = accounts + " seen from " + q.Source
	}
	if strangers > 0 {
		title += ", and " + wording.Count(strangers, "name") + " that no account has"
	}
	return title
}

// originText says what a source did.
func originText(o *tracing.Origin) string {
	text := "tried " + wording.Count(o.Accounts+o.Strangers, "name")
	if o.Strangers > 0 {
		text += fmt.Sprintf(", %d of which no account has", o.Strangers)
	}
	if o.In == 0 {
		return text + "; nobody signed in from there"
	}
	return text + "; " + wording.Count(o.In, "account") + " signed in from there"
}

func sourceText(o *tracing.Origin) string {
	if o.Guesses() {
		return "It is guessing: it " + originText(o) + "."
	}
	in := "nobody signed in"
	if o.In > 0 {
		in = wording.Count(o.In, "account") + " signed in"
	}
	if o.Refused == 0 {
		return "From there " + in + ", and nobody was refused."
	}
	return fmt.Sprintf("From there %s, and %s refused: it does not look like guessing.", in, were(o.Accounts+o.Strangers, "name"))
}

func were(n int, noun string) string {
	if n == 1 {
		return "1 " + noun + " was"
	}
	return wording.Count(n, noun) + " were"
}

func accountName(one *work.TracedAccount) string {
	if one.Account == nil {
		return one.Name + " (no account)"
	}
	return one.Name
}

// judgedText is the judgement in few words.
func judgedText(one *work.TracedAccount) string {
	switch {
	case one.Refused+one.SignedIn == 0:
		return "nothing in these logs"
	case one.Refused == 0:
		return ""
	case one.Judged.Cause == tracing.NotKnown:
		return "cannot be told"
	}
	text := one.Judged.Verdict()
	if !one.Judged.Sure {
		text += " (likely)"
	}
	if one.Judged.Unlock == tracing.UnlockWillNotLast {
		text += ", still going on"
	}
	return text
}

// TracesSheet is the same as a table.
func TracesSheet(t *work.Traces, q *work.TraceQuestion) *sheet.Sheet {
	s := &sheet.Sheet{Name: "traces", Title: tracesTitle(t, q), Columns: []sheet.Column{{Name: "account", Title: "Account", Key: true}, {Name: "known", Title: "Is an account", Kind: sheet.Truth},
		{Name: "locked_out", Title: "Locked out", Kind: sheet.Truth}, {Name: "locked_since", Title: "Locked since", Kind: sheet.Time}, {Name: "refused", Title: "Refused", Kind: sheet.Number}, {Name: "signed_in", Title: "Signed in", Kind: sheet.Number},
		{Name: "last", Title: "Last", Kind: sheet.Time}, {Name: "source", Title: "From"}, {Name: "via", Title: "By"}, {Name: "rhythm", Title: "Rhythm"},
		{Name: "cause", Title: "What it is"}, {Name: "confidence", Title: "Confidence"}, {Name: "still_going", Title: "Still going on", Kind: sheet.Truth},
		{Name: "to_do", Title: "What to do", Wide: true}, {Name: "unlocking", Title: "Unlocking", Wide: true}, {Name: "dn", Title: "DN", Wide: true}}}
	for _, one := range t.All {
		row := []any{one.Name, one.Account != nil, one.Out, timeCell(one.Locked), one.Refused, one.SignedIn, timeCell(one.Last), "", "", "", one.Judged.Cause.String(), one.Judged.Confidence(),
			one.Judged.Going, one.Judged.Do(), "", ""}
		if one.Source != nil {
			row[7], row[8], row[9] = sourceName(one.Source), one.Source.Via, one.Source.Rhythm.Describe()
		}
		if one.Judged.Cause != tracing.None {
			row[14] = one.Judged.Unlocking()
		}
		if one.Account != nil {
			row[15] = one.Account.DN
		}
		s.Rows = append(s.Rows, row)
	}
	return s
}

// TracesSheets are all tables of it.
func TracesSheets(t *work.Traces, q *work.TraceQuestion) []sheet.Sheet {
	guessing := sheet.Sheet{Name: "guessing", Title: "Sources that guess", Columns: []sheet.Column{{Name: "source", Title: "From", Key: true}, {Name: "accounts", Title: "Accounts", Kind: sheet.Number},
		{Name: "strangers", Title: "Names that no account has", Kind: sheet.Number}, {Name: "signed_in", Title: "Accounts that signed in", Kind: sheet.Number},
		{Name: "refused", Title: "Refused", Kind: sheet.Number}, {Name: "first", Title: "First", Kind: sheet.Time}, {Name: "last", Title: "Last", Kind: sheet.Time}}}
	for _, o := range t.Guessing {
		guessing.Rows = append(guessing.Rows, []any{o.Name, o.Accounts, o.Strangers, o.In, o.Refused, timeCell(o.First), timeCell(o.Last)})
	}
	return []sheet.Sheet{*TracesSheet(t, q), guessing, logSheet(&t.Logs)}
}

// TracesPage is the same as a page.
func TracesPage(t *work.Traces, q *work.TraceQuestion, zone *time.Location, made time.Time) *Page {
	p := &Page{Title: "Refused sign-ins", Subtitle: tracesTitle(t, q) + ", as of " + wording.Moment(t.AsOf, zone), Zone: zone, Made: made, Notes: logLines(&t.Logs, t.AsOf, zone)}
	for _, s := range TracesSheets(t, q) {
		if len(s.Rows) > 0 {
			p.Sections = append(p.Sections, Section{ID: s.Name, Open: s.Name != "logs", Sheet: s})
		}
	}
	return p
}

// TracesShape is it for programs.
type TracesShape struct {
	Schema   string               `json:"schema"` // yardbroom/traces/1
	AsOf     time.Time            `json:"as_of"`
	Accounts []TracedAccountShape `json:"accounts"`
	Guessing []OriginShape        `json:"guessing"`
	Source   *OriginShape         `json:"source,omitempty"` // that was asked for
	Logs     []LogShape           `json:"logs"`
}

// TracedAccountShape is one account in short.
type TracedAccountShape struct {
	Account    string     `json:"account"`
	DN         string     `json:"dn,omitempty"` // none for a name that no account has
	Out        bool       `json:"locked_out"`
	Locked     *time.Time `json:"locked_since" jsonschema:"nullable"` // where that can be told
	Refused    int        `json:"refused"`
	SignedIn   int        `json:"signed_in"`
	Last       *time.Time `json:"last" jsonschema:"nullable"`
	Source     string     `json:"source,omitempty"`
	Cause      string     `json:"cause"`
	Confidence string     `json:"confidence"` // sure or likely
	Text       string     `json:"text"`
	Going      bool       `json:"still_going"`
	ToDo       string     `json:"to_do,omitempty"`
}

// OriginShape is what comes from one machine or address, over all accounts.
type OriginShape struct {
	Source    string    `json:"source"`
	Accounts  int       `json:"accounts"`
	Strangers int       `json:"names_of_no_account"`
	In        int       `json:"accounts_signed_in"`
	Refused   int       `json:"refused"`
	SignedIn  int       `json:"signed_in"`
	First     time.Time `json:"first"`
	Last      time.Time `json:"last"`
}

func originShape(o *tracing.Origin) OriginShape {
	return OriginShape{Source: o.Name, Accounts: o.Accounts, Strangers: o.Strangers, In: o.In, Refused: o.Refused, SignedIn: o.SignedIn, First: o.First, Last: o.Last}
}

// TracesShapeOf makes the shape.
func TracesShapeOf(t *work.Traces) *TracesShape {
	out := &TracesShape{Schema: "yardbroom/traces/1", AsOf: t.AsOf.UTC(), Accounts: []TracedAccountShape{}, Guessing: []OriginShape{}, Logs: logShapes(&t.Logs)}
	for _, one := range t.All {
		s := TracedAccountShape{Account: one.Name, Out: one.Out, Locked: timeOf(one.Locked), Refused: one.Refused, SignedIn: one.SignedIn, Last: timeOf(one.Last),
			Cause: one.Judged.Cause.String(), Confidence: one.Judged.Confidence(), Text: one.Judged.Verdict(), Going: one.Judged.Going, ToDo: one.Judged.Do()}
		if one.Account != nil {
			s.DN = one.Account.DN
		}
		if one.Source != nil {
			s.Source = one.Source.Name()
		}
		out.Accounts = append(out.Accounts, s)
	}
	for _, o := range t.Guessing {
		out.Guessing = append(out.Guessing, originShape(o))
	}
	if t.Origin != nil {
		o := originShape(t.Origin)
		out.Source = &o
	}
	return out
}
