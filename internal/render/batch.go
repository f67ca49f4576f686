package render

import (
	"fmt"
	"io"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"

	"yardbroom/internal/batch"
)

// Batch writes a batch for people: what, why, and each line with what it
// would change.
func Batch(w io.Writer, b *batch.Batch, st Style) {
	fmt.Fprintf(w, "%s: %s, %s, %s\n", st.paint(fmt.Sprintf("Batch %d", b.ID), text.Bold), strings.Join(b.Actions, ", "), Count(len(b.Lines), "line"), b.State)
	fmt.Fprintf(w, "For %s, staged %s by %s from %s\n", Visible(b.Identity.String()), Moment(b.Created, st.Zone), Visible(b.By), Visible(b.Source))
	if b.Why != "" {
		fmt.Fprintf(w, "Why: %s\n", Visible(b.Why))
	}
	fmt.Fprintln(w)
	var rows [][]string
	warned := map[string]bool{}
	var warnings []string
	states := false // whether any line has more to say than that it waits
	for i := range b.Lines {
		l := &b.Lines[i]
		states = states || l.State != batch.Waiting || l.Note != ""
		rows = append(rows, []string{fmt.Sprint(l.N), Visible(l.Account), Place(l.DN), Visible(reason(l)), Visible(changes(l)), Visible(state(l))})
		for _, text := range l.Warnings {
			if !warned[text] {
				warned[text] = true
				warnings = append(warnings, text)
			}
		}
	}
	header := []string{"", "Account", "Where", "Reason", "Would change", "State"}
	if !states {
		header = header[:5]
		for i := range rows {
			rows[i] = rows[i][:5]
		}
	}
	Table(w, st, header, rows, 4, 3, 2, len(header)-1)
	inFull(w, b, st)
	for _, text := range warnings {
		fmt.Fprintf(w, "Note: %s\n", Visible(text))
	}
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
	if l.Note == "" {
		return string(l.State)
	}
	return string(l.State) + ": " + l.Note
}

// reason writes why the line is there, what calls for care first. The
// evidence is in the JSON form and in the journal.
func reason(l *batch.Line) string {
	text, _, _ := strings.Cut(l.Reason, " (")
	if l.Confidence != "sure" {
		text += ", only likely"
	}
	if len(l.Privileged) > 0 {
		text = "PRIVILEGED: " + strings.Join(l.Privileged, ", ") + "; " + text
	}
	return text
}

// changes writes what a line would change: the new value is what matters.
func changes(l *batch.Line) string {
	var parts []string
	for _, c := range l.Changes {
		switch c.What {
		case "place":
			parts = append(parts, "moved to "+Place(c.New))
		case "entry":
			if c.Old == "(deleted)" {
				parts = append(parts, "back to "+Place(c.New))
			} else {
				parts = append(parts, "deleted")
			}
		default:
			parts = append(parts, c.What+" "+strings.TrimSuffix(c.Old, " (enabled)")+" → "+c.New)
		}
	}
	return strings.Join(parts, "; ")
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
