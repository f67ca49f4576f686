package render

import (
	"fmt"
	"io"
	"strings"
	"time"

	"yardbroom/internal/batch"
	"yardbroom/internal/carry"
	"yardbroom/internal/sheet"
	"yardbroom/internal/wording"
)

// handoverColumns are the columns of the tables of a handover, by their names.
var handoverColumns = map[string]sheet.Column{
	"line":    {Name: "line", Title: "Line", Kind: sheet.Number},
	"account": {Name: "account", Title: "Account", Kind: sheet.Text, Key: true},
	"dn":      {Name: "dn", Title: "Name", Kind: sheet.Text, Wide: true},
	"where":   {Name: "where", Title: "Where", Kind: sheet.Text},
	"state":   {Name: "state", Title: "State", Kind: sheet.Text},
	"note":    {Name: "note", Title: "Note", Kind: sheet.Text, Wide: true},
	"reason":  {Name: "reason", Title: "Reason", Kind: sheet.Text, Wide: true},
	"planned": {Name: "planned", Title: "Planned", Kind: sheet.Text, Wide: true},
	"at":      {Name: "at", Title: "When", Kind: sheet.Time},
	"by":      {Name: "by", Title: "By", Kind: sheet.Text},
	"what":    {Name: "what", Title: "What", Kind: sheet.Text},
	"text":    {Name: "text", Title: "Details", Kind: sheet.Text, Wide: true},
	"before":  {Name: "before", Title: "Before", Kind: sheet.Text, Wide: true},
	"after":   {Name: "after", Title: "After", Kind: sheet.Text, Wide: true},
}

// handoverSheet is an empty table of a handover.
func handoverSheet(name, title string, columns ...string) sheet.Sheet {
	s := sheet.Sheet{Name: name, Title: title}
	for _, c := range columns {
		s.Columns = append(s.Columns, handoverColumns[c])
	}
	return s
}

// HandoverSheets are what became of a batch as tables: who did what with it,
// each change that was made, and what was not done.
func HandoverSheets(h *carry.Handover) []sheet.Sheet {
	events := handoverSheet("history", "Who did what", "at", "by", "what", "text")
	for _, e := range h.Events {
		events.Rows = append(events.Rows, []any{e.At.UTC(), e.By, e.What, e.Text})
	}
	changes := handoverSheet("changes", "What was changed", "line", "account", "at", "what", "before", "after")
	lines := handoverSheet("lines", "Every line", "line", "account", "dn", "state", "note", "reason", "planned")
	not := handoverSheet("not-done", "What was not done, and why", "line", "account", "where", "state", "note", "planned")
	for i := range h.Lines {
		l := &h.Lines[i]
		var at any
		if !l.At.IsZero() {
			at = l.At.UTC()
		}
		for _, c := range l.Changes {
			changes.Rows = append(changes.Rows, []any{l.Line.N, l.Line.Account, at, c.What, c.Old, c.New})
		}
		state, planned := string(l.Line.State), LineChanges(l.Line)
		lines.Rows = append(lines.Rows, []any{l.Line.N, l.Line.Account, l.Line.DN, state, l.Line.Note, l.Line.Reason, planned})
		if l.Line.State != batch.Applied {
			not.Rows = append(not.Rows, []any{l.Line.N, l.Line.Account, Place(l.Line.DN), state, l.Line.Note, planned})
		}
	}
	return []sheet.Sheet{not, changes, lines, events}
}

// HandoverRows is all of it in one table: a row for each change, and one for
// each line that was not done.
func HandoverRows(h *carry.Handover) *sheet.Sheet {
	s := &sheet.Sheet{Name: "report"}
	for _, c := range []struct {
		name string
		kind sheet.Kind
	}{{"line", sheet.Number}, {"account", sheet.Text}, {"dn", sheet.Text}, {"state", sheet.Text}, {"note", sheet.Text}, {"at", sheet.Time}, {"what", sheet.Text},
		{"before", sheet.Text}, {"after", sheet.Text}, {"reason", sheet.Text}} {
		s.Columns = append(s.Columns, sheet.Column{Name: c.name, Kind: c.kind})
	}
	for i := range h.Lines {
		l := &h.Lines[i]
		var at any
		if !l.At.IsZero() {
			at = l.At.UTC()
		}
		row := func(what, before, after any) {
			s.Rows = append(
				s.Rows,
				[]any{
					l.Line.N,
					l.Line.Account,
					l.Line.DN,
					string(l.Line.State),
					l.Line.Note,
					at,
					what,
					before,
					after,
					l.Line.Reason,
				},
			)
		}
		for _, c := range l.Changes {
			row(c.What, c.Old, c.New)
		}
		if len(l.Changes) == 0 {
			row(nil, nil, nil)
		}
	}
	return s
}

// HandoverShape is what became of a batch, in JSON.
type HandoverShape struct {
	Schema string              `json:"schema"` // yardbroom/batch-report/1
	ID     int                 `json:"id"`
	State  batch.State         `json:"state"`
	Yard   string              `json:"yard"` // the directory's base
	By     string              `json:"by"`   // who staged it
	Staged time.Time           `json:"staged"`
	Why    string              `json:"why,omitempty"`
	Until  *time.Time          `json:"until,omitempty"`
	UndoOf int                 `json:"undo_of,omitempty"`
	Undone []int               `json:"undone_by,omitempty"`
	Signed []string            `json:"signed_by,omitempty"`
	Head   string              `json:"head"` // hash of the last journal record about it
	Counts map[string]int      `json:"counts"`
	Events []carry.Event       `json:"events"`
	Lines  []HandoverLineShape `json:"lines"`
}

// HandoverLineShape is one line of it.
type HandoverLineShape struct {
	N       int            `json:"n"`
	Account string         `json:"account"`
	DN      string         `json:"dn"`
	State   string         `json:"state"`
	Note    string         `json:"note,omitempty"`
	Reason  string         `json:"reason"`
	At      *time.Time     `json:"at,omitempty"`
	Changes []batch.Change `json:"changes"` // what was done, before and after
}

// HandoverJSON writes it as one object.
func HandoverJSON(w io.Writer, h *carry.Handover) error {
	b := h.Batch
	out := HandoverShape{
		Schema: "yardbroom/batch-report/1",
		ID:     b.ID,
		State:  b.State,
		Yard:   b.Identity.Base,
		By:     b.By,
		Staged: b.Created,
		Why:    b.Why,
		UndoOf: h.UndoOf,
		Undone: h.Undone,
		Signed: h.Signers,
		Head:   h.Head,
		Counts: map[string]int{},
		Events: h.Events,
		Lines:  []HandoverLineShape{},
	}
	if !b.Until.IsZero() {
		out.Until = &b.Until
	}
	for i := range h.Lines {
		l := &h.Lines[i]
		out.Counts[string(l.Line.State)]++
		line := HandoverLineShape{
			N:       l.Line.N,
			Account: l.Line.Account,
			DN:      l.Line.DN,
			State:   string(l.Line.State),
			Note:    l.Line.Note,
			Reason:  l.Line.Reason,
			Changes: l.Changes,
		}
		if line.Changes == nil {
			line.Changes = []batch.Change{}
		}
		if !l.At.IsZero() {
			line.At = &l.At
		}
		out.Lines = append(out.Lines, line)
	}
	return JSON(w, out)
}

// HandoverPage is what became of a batch, as a page.
func HandoverPage(h *carry.Handover, zone *time.Location, made time.Time) *Page {
	b := h.Batch
	p := &Page{
		Title:    fmt.Sprintf("Batch %d: %s", b.ID, strings.Join(b.Actions, ", ")),
		Subtitle: b.Identity.Base + ". " + whoDidWhat(h, zone),
		Zone:     zone,
		Made:     made,
	}
	if b.Why != "" {
		p.Subtitle += " Why: " + b.Why + "."
	}
	counts := map[batch.LineState]int{}
	for i := range h.Lines {
		counts[h.Lines[i].Line.State]++
	}
	tones := map[batch.LineState]Tone{
		batch.Failed:   ToneHigh,
		batch.Unknown:  ToneHigh,
		batch.InPart:   ToneMedium,
		batch.Refused:  ToneMedium,
		batch.Drifted:  ToneMedium,
		batch.Unproved: ToneMedium,
	}
	for _, state := range batch.LineStates {
		if n := counts[state]; n > 0 || state == batch.Applied {
			p.Facts = append(p.Facts, Fact{Value: fmt.Sprint(n), Label: string(state), Tone: tones[state]})
		}
	}
	for _, s := range HandoverSheets(h) {
		if len(s.Rows) > 0 {
			p.Sections = append(p.Sections, Section{ID: s.Name, Sheet: s, Open: s.Name != "lines"})
		}
	}
	if h.UndoOf > 0 {
		p.Notes = append(p.Notes, fmt.Sprintf("This batch takes back batch %d.", h.UndoOf))
	}
	for _, id := range h.Undone {
		p.Notes = append(p.Notes, fmt.Sprintf("Batch %d took it back, or parts of it.", id))
	}
	if !b.Until.IsZero() {
		p.Notes = append(p.Notes, "It is to be taken back "+wording.Moment(b.Until, zone)+".")
	}
	p.Notes = append(
		p.Notes,
		"The last journal record about it has the hash "+h.Head+"; \"yardbroom journal --verify --head HASH\" proves that it is still there.",
	)
	return p
}

// whoDidWhat says who staged a batch, who signed it and who carried it out.
func whoDidWhat(h *carry.Handover, zone *time.Location) string {
	text := fmt.Sprintf("Staged %s by %s", wording.Moment(h.Batch.Created, zone), h.Batch.By)
	if len(h.Signers) > 0 {
		text += ", signed by " + strings.Join(h.Signers, " and ")
	}
	if len(h.Runs) > 0 {
		text += fmt.Sprintf(", carried out %s by %s", wording.Moment(h.Runs[0].At, zone), h.Runs[0].By)
	}
	if n := len(h.Runs) - 1; n > 0 {
		text += fmt.Sprintf(", gone on with %s", wording.Count(n, "time"))
	}
	return text + "."
}

// Handover writes what became of a batch for people: what was done with it as a whole,
// what was not done, and each change.
func Handover(w io.Writer, h *carry.Handover, st Style) {
	b := h.Batch
	fmt.Fprintf(w, "%s: %s, %s, %s\n", Heading(batchName(b), st), strings.Join(b.Actions, ", "), wording.Count(len(h.Lines), "line"), b.State)
	sheets := HandoverSheets(h)
	for _, s := range []sheet.Sheet{sheets[3], sheets[0], sheets[1]} {
		if len(s.Rows) == 0 {
			continue
		}
		fmt.Fprintf(w, "\n%s\n", Heading(s.Title, st))
		SheetTable(w, &s, st)
	}
}
