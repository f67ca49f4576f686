package roster

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"strconv"
	"time"
)

// Kept describes a roster that was kept: where and when it was read.
type Kept struct {
	Source string    `json:"source"`
	Form   string    `json:"form"`
	Read   time.Time `json:"read"`
	Rows   int       `json:"rows"`
	Bad    int       `json:"bad"` // rows that could not be read
	// Columns are the fields that it has, by name; none where that is not known.
	// Unused are headers of columns that mean nothing to us.
	Columns []string `json:"columns,omitempty"`
	Unused  []string `json:"columns_not_read,omitempty"`
}

// About describes a roster that was read at some time.
func (r *Roster) About(at time.Time) Kept {
	k := Kept{Source: r.Source, Form: r.Form, Read: at.UTC(), Rows: len(r.Rows), Bad: len(r.Bad), Unused: r.Unused}
	for _, f := range r.Fields() {
		k.Columns = append(k.Columns, f.String())
	}
	return k
}

// Fields are the fields that a roster has columns for; those that it has values
// of, where it is no table.
func (r *Roster) Fields() []Field {
	var all []Field
	for f := range fieldCount {
		if slices.ContainsFunc(r.Mapping, func(m Mapped) bool { return m.Field == f }) ||
			len(r.Mapping) == 0 && slices.ContainsFunc(r.Rows, func(row Row) bool { return row.has(f) }) {
			all = append(all, f)
		}
	}
	return all
}

func (r *Row) has(f Field) bool {
	return r.Values[f] != "" || f == Status && r.Status != "" || f == Start && !r.Start.IsZero() ||
		f == End && !r.End.IsZero()
}

// keptColumns is the header of kept rows: the fields, the row's number, and
// how its status is understood.
func keptColumns() []string { return append(append([]string{}, fieldNames[:]...), "row", "says") }

// Keep writes what a roster says, and nothing else of its source, in a form
// that ReadKept reads: a line of JSON, and rows of CSV.
func (r *Roster) Keep(w io.Writer, at time.Time) error {
	head, err := json.Marshal(r.About(at))
	if err != nil {
		return err
	}
	if _, err := w.Write(append(head, '\n')); err != nil {
		return err
	}
	out := csv.NewWriter(w)
	if err := out.Write(keptColumns()); err != nil {
		return err
	}
	cells := make([]string, fieldCount+2)
	for i := range r.Rows {
		row := &r.Rows[i]
		copy(cells, row.Values[:])
		cells[Start], cells[End] = isoDay(row.Start), isoDay(row.End)
		cells[fieldCount], cells[fieldCount+1] = strconv.Itoa(row.N), string(row.Status)
		if err := out.Write(cells); err != nil {
			return err
		}
	}
	out.Flush()
	return out.Error()
}

func isoDay(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.Format(time.DateOnly)
}

// ReadKept reads a roster that Keep wrote, or the rows of it that are wanted.
func ReadKept(in io.Reader, want func(*Row) bool) (*Roster, *Kept, error) {
	raw, err := io.ReadAll(in)
	if err != nil {
		return nil, nil, err
	}
	head, body, _ := bytes.Cut(raw, []byte{'\n'})
	kept := &Kept{}
	if err := json.Unmarshal(head, kept); err != nil {
		return nil, nil, fmt.Errorf("it is no kept roster: %w", err)
	}
	rows := csv.NewReader(bytes.NewReader(body))
	rows.FieldsPerRecord, rows.ReuseRecord = len(keptColumns()), true
	if _, err := rows.Read(); err != nil {
		return nil, nil, fmt.Errorf("it is no kept roster: %w", err)
	}
	r := &Roster{Source: kept.Source, Form: kept.Form, Unused: kept.Unused}
	for _, name := range kept.Columns {
		if f, err := ParseField(name); err == nil {
			r.Mapping = append(r.Mapping, Mapped{Field: f, How: "kept"})
		}
	}
	if want == nil {
		r.Rows = make([]Row, 0, bytes.Count(body, []byte{'\n'}))
	}
	for {
		cells, err := rows.Read()
		if err == io.EOF {
			return r, kept, nil
		}
		if err != nil {
			return nil, nil, err
		}
		row := Row{Status: Word(cells[fieldCount+1])}
		copy(row.Values[:], cells)
		if row.N, err = strconv.Atoi(cells[fieldCount]); err == nil {
			row.Start, err = readDate(cells[Start], ISO)
		}
		if err == nil {
			row.End, err = readDate(cells[End], ISO)
		}
		if err != nil {
			return nil, nil, fmt.Errorf("row %s: %w", cells[fieldCount], err)
		}
		if want == nil || want(&row) {
			r.Rows = append(r.Rows, row)
		}
	}
}
