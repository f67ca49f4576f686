package render

import (
	"fmt"
	"io"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"

	"yardbroom/internal/audit"
	"yardbroom/internal/batch"
	"yardbroom/internal/directory"
	"yardbroom/internal/sheet"
	"yardbroom/internal/wording"
)

// Batch writes a batch for people: what, why, and each line with what it
// would change. With a limit only so many lines are shown, and those of
// privileged accounts besides.
func Batch(w io.Writer, b *batch.Batch, agreed *batch.Agreement, st Style) {
	batchHead(w, b, agreed, st)
	fmt.Fprintln(w)
	var rows [][]string
	warned := map[string]bool{}
	var warnings []string
	states := false // whether any line has more to say than that it waits
	hidden := 0
	for i := range b.Lines {
		l := &b.Lines[i]
		for _, text := range l.Remarks() {
			if !warned[text] {
				warned[text] = true
				warnings = append(warnings, text)
			}
		}
		if st.Limit > 0 && len(rows) >= st.Limit && (!l.Powerful() || len(rows) >= 2*st.Limit) {
			hidden++
			continue
		}
		states = states || l.State != batch.Waiting || l.Note != ""
		rows = append(rows, []string{fmt.Sprint(l.N), Visible(l.Account), Place(l.DN), Visible(LineReason(l)), Visible(LineChanges(l)), Visible(state(l))})
	}
	header := []string{"Line", "Account", "Where", "Reason", "Would change", "State"}
	if !states {
		header = header[:5]
		for i := range rows {
			rows[i] = rows[i][:5]
		}
	}
	Table(w, st, header, rows, 4, 3, 2, len(header)-1)
	if hidden > 0 {
		fmt.Fprintf(w, "… and %s more: yardbroom batch show %d --limit 0 shows all\n", wording.Count(hidden, "line"), b.ID)
	}
	inFull(w, b, st)
	for _, text := range warnings {
		fmt.Fprintf(w, "Note: %s\n", Visible(text))
	}
}

// batchHead says what a batch is, for what, why, and who has agreed to it.
func batchHead(w io.Writer, b *batch.Batch, agreed *batch.Agreement, st Style) {
	fmt.Fprintf(w, "%s: %s, %s, %s\n", st.paint(batchName(b), text.Bold),
		strings.Join(b.Actions, ", "), wording.Count(len(b.Lines), "line"), b.State)
	fmt.Fprintln(w, Wrap(fmt.Sprintf("For %s, staged %s by %s from %s", Visible(b.Identity.String()),
		wording.Moment(b.Created, st.Zone), Visible(b.By), Visible(b.Source)), st.Width, "  "))
	switch {
	case len(agreed.Stagers) > 0:
		fmt.Fprintf(w, "Staged by the key of %s\n", Visible(strings.Join(agreed.Stagers, ", ")))
	case len(agreed.Unproved) > 0:
		fmt.Fprintf(w, "%s: staged by an unproved name, which is not enough since %s\n",
			st.paint("It cannot be carried out", text.Bold), Visible(strings.Join(agreed.Unproved, " and ")))
	}
	if b.Why != "" {
		fmt.Fprintf(w, "Why: %s\n", Visible(b.Why))
	}
	if !b.Until.IsZero() {
		fmt.Fprintf(w, "Until %s, when \"yardbroom due\" takes it back\n", wording.Moment(b.Until, st.Zone))
	}
	if agreed.Needed > 0 {
		fmt.Fprintf(w, "Signatures: %s\n", st.paint(Visible(agreed.String()), text.Bold))
	}
	for _, sig := range agreed.Signatures {
		line := fmt.Sprintf("Signed %s by %s", wording.Moment(sig.At, st.Zone), sig.Principal)
		if sig.Void != "" {
			line = fmt.Sprintf("Not counted, signed %s by %s: %s", wording.Moment(sig.At, st.Zone), sig.Principal, sig.Void)
		}
		fmt.Fprintln(w, Visible(line))
	}
}

// batchName is what a batch is called; one that is not kept yet has no number.
func batchName(b *batch.Batch) string {
	switch {
	case b.ID != 0:
		return fmt.Sprintf("Batch %d", b.ID)
	case b.UndoOf != 0:
		return fmt.Sprintf("Undo of batch %d", b.UndoOf)
	}
	return "New batch"
}

// inFull lists the changes of lines that have several, as long as they are
// few enough to be read.
func inFull(w io.Writer, b *batch.Batch, st Style) {
	const most = 10
	if len(b.Lines) > most {
		return
	}
	for i := range b.Lines {
		l := &b.Lines[i]
		if len(l.Changes) < 3 {
			continue
		}
		fmt.Fprintf(w, "\n%s\n", st.paint(Visible(l.Account), text.Bold))
		var rows [][]string
		for _, c := range l.Changes {
			rows = append(rows, []string{Visible(c.What), Visible(c.Old), Visible(c.New)})
		}
		Table(w, st, []string{"Changes", "From", "To"}, rows, 1, 2)
	}
}

func state(l *batch.Line) string {
	text := string(l.State)
	if l.Undone != 0 {
		text += fmt.Sprintf(", undone by batch %d", l.Undone)
	}
	if l.Note != "" {
		text += ": " + l.Note
	}
	return text
}

// LineReason writes why the line is there, what calls for care first. The
// evidence is in the JSON form and in the journal.
func LineReason(l *batch.Line) string {
	text, _, _ := strings.Cut(l.Reason, " (")
	if l.Confidence != audit.Sure {
		text += ", only likely"
	}
	if power := LinePower(l); power != "" {
		text = power + "; " + text
	}
	return text
}

// LinePower writes what power the line is about, "" where it is about none.
func LinePower(l *batch.Line) string {
	switch joins := l.Joins(); {
	case len(l.Privileged) > 0:
		return "PRIVILEGED: " + strings.Join(l.Privileged, ", ")
	case len(joins) > 0:
		return "WOULD BE PRIVILEGED: " + strings.Join(joins, ", ")
	}
	return ""
}

func switched(c *batch.Change) string {
	if c.SwitchesOff() {
		return "disabled"
	}
	return "enabled"
}

// LineChanges writes what a line would change, in short: the new value is what
// matters.
func LineChanges(l *batch.Line) string {
	var parts, rest, into, out []string
	for _, c := range l.Changes {
		switch c.Kind() {
		case batch.Leaving:
			out = append(out, directory.LeafValue(c.Old))
		case batch.Joining:
			into = append(into, directory.LeafValue(c.New))
		case batch.OfPassword:
			parts = append(parts, "new password, to be changed at the next sign-in")
		case batch.OfLock:
			parts = append(parts, "unlocked")
		case batch.OfPlace:
			parts = append(parts, "moved to "+Place(c.New))
		case batch.Returning:
			parts = append(parts, "back to "+Place(c.New))
		case batch.OfEntry:
			parts = append(parts, "deleted")
		case batch.OfSwitch:
			parts = append(parts, switched(&c))
		default:
			if c.None() {
				rest = append(rest, c.What+" → "+c.New)
			} else {
				rest = append(rest, c.What+" "+c.Old+" → "+c.New)
			}
		}
	}
	for _, groups := range []struct {
		what  string
		names []string
	}{{"out of ", out}, {"into ", into}} {
		switch n := len(groups.names); {
		case n == 1:
			parts = append(parts, groups.what+groups.names[0])
		case n > 1:
			parts = append(parts, fmt.Sprintf("%s%d groups", groups.what, n))
		}
	}
	return strings.Join(append(append(parts, rest...), LineTouches(l)...), "; ")
}

// mostTouched is how many entries besides a line's own are named.
const mostTouched = 2

// LineTouches writes what a line touches besides its own entry, apart from the
// groups that it is about.
func LineTouches(l *batch.Line) (parts []string) {
	var writes []string
	for _, t := range l.Touches() {
		writes = append(writes, fmt.Sprintf("%s (%s)", directory.LeafValue(t.DN), t.How))
	}
	if n := len(writes); n > mostTouched {
		writes = append(writes[:mostTouched], fmt.Sprintf("%d more", n-mostTouched))
	}
	if len(writes) > 0 {
		parts = append(parts, "also writes "+strings.Join(writes, ", "))
	}
	if n := l.Along(); n > 0 {
		parts = append(
			parts,
			map[bool]string{true: "the entry below it moves along", false: fmt.Sprintf("the %d entries below it move along", n)}[n == 1],
		)
	}
	return parts
}

// BatchShape is a batch in JSON.
type BatchShape struct {
	Schema string      `json:"schema"` // yardbroom/batch/1
	ID     int         `json:"id"`     // its number
	State  batch.State `json:"state"`
	*batch.Batch
	Lines []LineShape `json:"lines"`
}

// LineShape is one line of a batch in JSON.
type LineShape struct {
	State batch.LineState `json:"state"`
	Note  string          `json:"note,omitempty"` // why it is in that state
	batch.Line
}

// BatchJSON writes a batch as one object.
func BatchJSON(w io.Writer, b *batch.Batch) error {
	lines := make([]LineShape, len(b.Lines))
	for i := range b.Lines {
		lines[i] = LineShape{b.Lines[i].State, b.Lines[i].Note, b.Lines[i]}
	}
	return JSON(w, BatchShape{"yardbroom/batch/1", b.ID, b.State, b, lines})
}

// LineSheet is a batch as a table that can be thinned out and come back.
func LineSheet(b *batch.Batch) sheet.Sheet {
	s := sheet.Sheet{Name: fmt.Sprintf("batch-%d", b.ID), Title: fmt.Sprintf("Batch %d", b.ID)}
	for _, name := range batch.CellNames {
		s.Columns = append(s.Columns,
			sheet.Column{Name: name, Kind: sheet.Text, Wide: name == "changes" || name == "dn" || name == "reason"})
	}
	for i := range b.Lines {
		var row []any
		for _, c := range b.Lines[i].Cells() {
			row = append(row, c)
		}
		s.Rows = append(s.Rows, row)
	}
	return s
}
