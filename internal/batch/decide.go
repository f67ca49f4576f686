package batch

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/text/encoding/charmap"

	"yardbroom/internal/store"
)

// CellNames name the cells of a line in an exported batch. The last one is for
// a person's decision.
var CellNames = []string{
	"line",
	"account",
	"dn",
	"kind",
	"reason",
	"confidence",
	"privileged",
	"actions",
	"changes",
	"warnings",
	"decision",
}

// Cells are a line for a spreadsheet, in the order of CellNames.
func (l *Line) Cells() []string {
	var actions, changes []string
	for _, a := range l.Actions {
		actions = append(actions, a.Name)
	}
	for _, c := range l.Changes {
		changes = append(changes, c.What+": "+c.Old+" → "+c.New)
	}
	decision := ""
	if l.State == Dropped {
		decision = "drop"
	}
	return []string{
		strconv.Itoa(l.N),
		l.Account,
		text(l.DN),
		l.Kind,
		l.Reason,
		string(l.Confidence),
		strings.Join(l.Privileged, "; "),
		strings.Join(actions, ", "),
		strings.Join(changes, "; "),
		strings.Join(l.Remarks(), "; "),
		decision,
	}
}

// Row is a row of a table that came back, and where it stands there.
type Row struct {
	Number int
	Cells  []string
}

// decisions are the words of the last column.
var decisions = map[string]bool{
	"":     true,
	"keep": true,
	"yes":  true,
	"ok":   true,
	"drop": false,
	"no":   false,
	"out":  false,
}

// Decide compares a table that came back with the lines that were exported,
// and returns the lines that are to be dropped: those without a row, and those
// whose decision says so. Any other difference is an error that names its
// row.
func (b *Batch) Decide(header []string, rows []Row) (drop []*Line, err error) {
	t, err := cellsOf(header)
	if err != nil {
		return nil, err
	}
	kept := map[int]bool{}
	var wrong []error
	for _, r := range rows {
		if !slices.ContainsFunc(r.Cells, func(c string) bool { return strings.TrimSpace(c) != "" }) {
			continue
		}
		l, err := t.line(b, r)
		if err != nil {
			wrong = append(wrong, err)
			continue
		}
		if _, twice := kept[l.N]; twice {
			wrong = append(wrong, fmt.Errorf("row %d: line %d is there twice", r.Number, l.N))
			continue
		}
		keep, errs := t.decision(l, r)
		wrong = append(wrong, errs...)
		kept[l.N] = keep
	}
	if len(wrong) > 0 {
		return nil, errors.Join(wrong...)
	}
	return b.absent(kept)
}

// columns says in which column of a table that came back each cell of a line stands,
// -1 for one that is missing.
type columns []int

// cellsOf finds the columns by their headers.
func cellsOf(header []string) (columns, error) {
	at := make(columns, len(CellNames))
	for i, name := range CellNames {
		at[i] = slices.IndexFunc(header, func(h string) bool { return strings.EqualFold(strings.TrimSpace(h), name) })
		if at[i] < 0 && i < len(CellNames)-1 {
			return nil, fmt.Errorf(
				"the column %q is missing; export the batch again, and only take rows out or fill in %q", name,
				"decision")
		}
	}
	for i, h := range header {
		if !slices.Contains(at, i) && strings.TrimSpace(h) != "" {
			return nil, fmt.Errorf(
				"the column %q is not one of the export; only rows may be taken out, and %q filled in", h, "decision")
		}
	}
	return at, nil
}

// cell is a cell of a row, "" where there is none.
func (at columns) cell(r Row, i int) string {
	if at[i] < 0 || at[i] >= len(r.Cells) {
		return ""
	}
	return strings.ReplaceAll(r.Cells[at[i]], "\r\n", "\n")
}

// line is the line of a batch that a row is of.
func (at columns) line(b *Batch, r Row) (*Line, error) {
	if stray := strayCell(r.Cells, at); stray >= 0 {
		return nil, fmt.Errorf(
			"row %d: %q stands in column %d, which is none of the export's; put it under %q, or take it out",
			r.Number, r.Cells[stray], stray+1, "decision")
	}
	n, err := strconv.Atoi(strings.TrimSpace(at.cell(r, 0)))
	if err != nil || n < 1 || n > len(b.Lines) {
		return nil, fmt.Errorf("row %d: %q is no line of batch %d", r.Number, at.cell(r, 0), b.ID)
	}
	return &b.Lines[n-1], nil
}

// decision tells whether a line is to be kept. The errors say what else of its row is not
// as it was exported.
func (at columns) decision(l *Line, r Row) (keep bool, wrong []error) {
	want := l.Cells()
	for i := 1; i < len(want)-1; i++ {
		if got := at.cell(r, i); !sameCell(got, want[i]) {
			wrong = append(wrong, fmt.Errorf(
				"row %d: %s of %s was changed from %q to %q; a batch cannot be edited that way: drop the line, and stage what you want",
				r.Number, CellNames[i], l.Account, want[i], got))
		}
	}
	keep, known := decisions[strings.ToLower(strings.TrimSpace(at.cell(r, len(want)-1)))]
	if !known {
		wrong = append(wrong,
			fmt.Errorf("row %d: the decision %q is neither keep nor drop", r.Number, at.cell(r, len(want)-1)))
	}
	if keep && l.State == Dropped {
		wrong = append(wrong,
			fmt.Errorf("row %d: the line of %s was dropped and does not come back", r.Number, l.Account))
	}
	return keep, wrong
}

// sameCell tells whether a cell that came back is what it was, as far as spreadsheets
// can keep that: they trim blanks, change line ends, take zeros off the front of
// numbers, and write a question mark for what Windows-1252 does not have.
func sameCell(got, want string) bool {
	plain := func(s string) string { return strings.Join(strings.Fields(s), " ") }
	got, want = plain(got), plain(want)
	if got == want {
		return true
	}
	if number := strings.TrimLeft(want, "0"); number != "" && strings.Trim(number, "0123456789") == "" && got == number {
		return true
	}
	g, w := []rune(got), []rune(want)
	if len(g) != len(w) {
		return false
	}
	for i := range w {
		if _, has := charmap.Windows1252.EncodeRune(w[i]); g[i] != w[i] && (has || g[i] != '?') {
			return false
		}
	}
	return true
}

// strayCell is the place of a cell with something in it that stands in none of
// the columns, -1 where there is none: a row that was moved by one would be
// read as one without a decision.
func strayCell(cells []string, columns []int) int {
	for i, c := range cells {
		if strings.TrimSpace(c) != "" && !slices.Contains(columns, i) {
			return i
		}
	}
	return -1
}

// absent are the open lines that nobody keeps.
func (b *Batch) absent(kept map[int]bool) (drop []*Line, err error) {
	for i := range b.Lines {
		if l := &b.Lines[i]; l.State == Waiting && !kept[l.N] {
			drop = append(drop, l)
		}
	}
	if len(drop) == b.Open() {
		return nil, fmt.Errorf("no line of batch %d would be left: give it up with \"yardbroom batch discard %d\"",
			b.ID, b.ID)
	}
	return drop, nil
}

// DecideBy compares a batch that was exported as JSON with this one, and
// returns the lines that are to be dropped: those that it no longer has.
func (b *Batch) DecideBy(edited *Batch) (drop []*Line, err error) {
	if edited.ID != b.ID || edited.Identity != b.Identity {
		return nil, fmt.Errorf("this is batch %d of %s, not batch %d of %s", edited.ID, edited.Identity, b.ID,
			b.Identity)
	}
	theirs, err := json.Marshal(edited)
	if err != nil {
		return nil, err
	}
	ours, err := json.Marshal(b)
	if err != nil {
		return nil, err
	}
	if string(theirs) != string(ours) {
		return nil, errors.New(
			"the head of the batch was changed (its reason, actions, times or limits); only lines may be taken out")
	}
	kept := map[int]bool{}
	for i := range edited.Lines {
		l := &edited.Lines[i]
		if l.N < 1 || l.N > len(b.Lines) {
			return nil, fmt.Errorf("%d is no line of batch %d", l.N, b.ID)
		}
		if _, twice := kept[l.N]; twice {
			return nil, fmt.Errorf("line %d is there twice", l.N)
		}
		if l.State != Dropped && l.State != b.Lines[l.N-1].State {
			return nil, fmt.Errorf("line %d, of %s, is %s, not %s; only \"dropped\" may be put there", l.N,
				b.Lines[l.N-1].Account, b.Lines[l.N-1].State, l.State)
		}
		got, err := json.Marshal(l)
		if err != nil {
			return nil, err
		}
		want, err := json.Marshal(&b.Lines[l.N-1])
		if err != nil {
			return nil, err
		}
		if string(got) != string(want) {
			return nil, fmt.Errorf(
				"line %d, of %s, was changed; a batch cannot be edited that way: drop the line, and stage what you want",
				l.N,
				b.Lines[l.N-1].Account,
			)
		}
		kept[l.N] = l.State != Dropped
	}
	return b.absent(kept)
}

// DropLines takes lines out of a staged batch.
func (b *Batch) DropLines(ctx context.Context, s *store.Store, drop []*Line, by string, at time.Time) (int, error) {
	unlock, err := b.lock(ctx, s)
	if err != nil {
		return 0, err
	}
	defer unlock()
	if b.State != Staged {
		return 0, fmt.Errorf("batch %d is %s; lines can be dropped only before it is carried out", b.ID, b.State)
	}
	var lines []int
	var accounts []string
	for _, l := range drop {
		if l.State == Waiting {
			l.State = Dropped
			accounts = append(accounts, l.Account)
			lines = append(lines, l.N)
		}
	}
	if len(lines) == 0 {
		return 0, nil
	}
	record, err := b.record(EventDropped, by, at, accounts...)
	if err != nil {
		return 0, err
	}
	return len(lines), s.DropLines(ctx, b.ID, lines, record)
}
