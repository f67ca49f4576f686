// Package roster reads the lists of people that come from HR: tables in text
// files of any usual encoding and delimiter, workbooks, JSON arrays and SCIM
// 2.0 user lists (RFC 7643). It finds out which column means what, and says
// how it read them; what cannot be read is listed by row, never guessed.
package roster

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"yardbroom/internal/parallel"
)

// Field is what a column of a roster means.
type Field uint8

// The fields, in the order to show them. Manager is the person id of the
// manager, FullName one column with the whole name.
const (
	PersonID Field = iota
	Family
	Given
	FullName
	Mail
	Logon
	Department
	Title
	Location
	Manager
	Start
	End
	Status
	fieldCount
)

var fieldNames = [fieldCount]string{
	"person-id",
	"family",
	"given",
	"name",
	"mail",
	"logon",
	"department",
	"title",
	"location",
	"manager",
	"start",
	"end",
	"status",
}

// String returns the field's name in settings and on the command line.
func (f Field) String() string { return fieldNames[f] }

// FieldNames are the names of all fields, for messages.
var FieldNames = strings.Join(fieldNames[:], ", ")

// ParseField returns a field by its name.
func ParseField(name string) (Field, error) {
	if i := slices.Index(fieldNames[:], name); i >= 0 {
		return Field(i), nil
	}
	return 0, fmt.Errorf("there is no field %q: there are %s", name, FieldNames)
}

// Values are the texts of a row or a person, by field, with single blanks
// between words; "" where there is none.
type Values [fieldCount]string

// Row is one line of a roster: a person in one post.
type Row struct {
	N      int // its number in the source; a header counts
	Values Values
	Start  time.Time // first day, at midnight in UTC; zero where none is given
	End    time.Time // last day; zero where none is given; before Start for somebody who came back
	Status Word
}

// Mapped tells which column a field was read from.
type Mapped struct {
	Field  Field
	Column int    // from 1
	Header string // as it is written; "" where the file has none
	How    string // by its name, by position, or as asked
}

// Bad is a row that could not be read.
type Bad struct {
	N   int
	Why string
}

// Roster is what was read.
type Roster struct {
	Source    string
	Form      string // what the file is: "UTF-8, separated by commas", "workbook, sheet People", …
	Rows      []Row
	Mapping   []Mapped
	Unused    []string // headers of columns that mean nothing to us
	DateOrder DateOrder
	Bad       []Bad
	// Guessed tells that its encoding is what its letters look like, and nothing
	// that the file or anybody says.
	Guessed bool

	others []string // encodings that it may be in, too
	again  func(encoding string) (*Roster, error)
}

// Options say what is known of a roster beforehand.
type Options struct {
	// Map names columns, by header or by number from 1, for fields.
	Map map[Field]string
	// Names are further headers for fields.
	Names map[Field][]string
	// Dates is the order of day and month, where the file's dates leave it open.
	Dates DateOrder
	// Encoding is that of a text, by the names that the web uses; "" means that
	// it is found out.
	Encoding string
	// Sheet names the sheet of a workbook; "" means the first one.
	Sheet string
	// Words are further words for a status.
	Words map[string]Word
	// Limits are those of DefaultLimits where they are 0.
	Limits Limits
	// Within is how long reading a service may take; half an hour where it is 0.
	Within time.Duration
}

// table is a roster before its columns are understood: rows of texts, each
// with its number in the source.
type table struct {
	form string
	rows []line
	bad  []Bad // what could not even be parted into cells
}

type line struct {
	n     int
	cells []string
}

// understand turns a table into rows of a roster.
func (t *table) understand(source string, opt Options) (*Roster, error) {
	r := &Roster{Source: source, Form: t.form, Bad: t.bad}
	t.rows = slices.DeleteFunc(t.rows, func(l line) bool {
		return !slices.ContainsFunc(l.cells, func(c string) bool { return strings.TrimSpace(c) != "" })
	})
	if len(t.rows) == 0 {
		return nil, fmt.Errorf("%s holds no rows", source)
	}
	columns, hasHeader, err := mapColumns(t.rows, opt)
	if err != nil {
		return nil, t.unclear(source, opt, err)
	}
	body := t.rows
	if hasHeader {
		body = body[1:]
		for i, h := range t.rows[0].cells {
			if !slices.ContainsFunc(columns, func(m Mapped) bool { return m.Column == i+1 }) &&
				strings.TrimSpace(h) != "" {
				r.Unused = append(r.Unused, h)
			}
		}
	}
	if len(body) == 0 && len(t.bad) > 0 {
		return nil, fmt.Errorf("%s: row %d: %s", source, t.bad[0].N, t.bad[0].Why)
	}
	if len(body) == 0 {
		return nil, fmt.Errorf("%s has a header and no rows below it", source)
	}
	r.Mapping = columns
	if r.DateOrder, err = dateOrder(body, columns, opt.Dates); err != nil {
		return nil, fmt.Errorf("%s: %w", source, err)
	}
	width := len(t.rows[0].cells)
	rows, bad := make([]Row, len(body)), make([]error, len(body))
	parallel.Each(len(body), func(_, i int) { bad[i] = readRow(&rows[i], body[i], columns, width, r.DateOrder, opt) })
	r.Rows = rows[:0]
	for i, err := range bad {
		if err != nil {
			r.Bad = append(r.Bad, Bad{body[i].n, err.Error()})
			continue
		}
		r.Rows = append(r.Rows, rows[i])
	}
	slices.SortFunc(r.Bad, func(a, b Bad) int { return cmp.Compare(a.N, b.N) })
	return r, nil
}

// readRow reads one row. A row with more cells than the header has slipped,
// and what its cells mean is not known.
func readRow(row *Row, l line, columns []Mapped, width int, order DateOrder, opt Options) error {
	if len(l.cells) > width {
		for _, extra := range l.cells[width:] {
			if strings.TrimSpace(extra) != "" {
				return fmt.Errorf("it has %d cells, the first row has %d", len(l.cells), width)
			}
		}
	}
	row.N = l.n
	for _, m := range columns {
		if m.Column > len(l.cells) {
			continue
		}
		row.Values[m.Field] = tidied(l.cells[m.Column-1])
	}
	var err error
	if row.Start, err = readDate(row.Values[Start], order); err != nil {
		return fmt.Errorf("start: %w", err)
	}
	if row.End, err = readDate(row.Values[End], order); err != nil {
		return fmt.Errorf("end: %w", err)
	}
	if row.Status, err = readStatus(row.Values[Status], headerOf(columns, Status), opt.Words); err != nil {
		return err
	}
	row.Values.splitName()
	if len(row.key()) == 0 {
		return fmt.Errorf("it says nobody: no id, name, mail address or logon name")
	}
	return nil
}

// splitName makes a family and a given name of a whole one that says which is
// which: "Quill, Ada". Where "Ada de la Mare" parts is not guessed here.
func (v *Values) splitName() {
	if v[Family] != "" || v[Given] != "" {
		return
	}
	if family, given, ok := strings.Cut(v[FullName], ","); ok {
		v[Family], v[Given] = strings.TrimSpace(family), strings.TrimSpace(given)
	}
}

// tidied is a text with single blanks between its words.
func tidied(text string) string {
	text = strings.TrimSpace(text)
	if !strings.Contains(text, "  ") && !strings.ContainsAny(text, "\t\n\r\v\f\u00a0") {
		return text
	}
	return strings.Join(strings.Fields(text), " ")
}

// key is what tells whose row it is: the person id, else the mail address,
// else the logon name. A row with names only has no more than the word "names";
// one that says nobody has nothing.
func (r *Row) key() []string {
	for _, f := range []Field{PersonID, Mail, Logon} {
		if v := r.Values[f]; v != "" {
			return []string{f.String(), strings.ToLower(v)}
		}
	}
	if cmp.Or(r.Values[Family], r.Values[Given], r.Values[FullName]) != "" {
		return []string{"names"}
	}
	return nil
}
