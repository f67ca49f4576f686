package render

import (
	"bytes"
	"encoding/csv"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"

	"yardbroom/internal/sheet"
)

// SheetCSV writes a sheet by RFC 4180 with a header, times in UTC; a cell
// that a spreadsheet would take for a formula is made harmless.
func SheetCSV(w io.Writer, s *sheet.Sheet) error { return sheetCSV(w, s, true) }

// SheetCSVLines is SheetCSV with the line ends that programs of this machine expect of
// each other: a line feed.
func SheetCSVLines(w io.Writer, s *sheet.Sheet) error { return sheetCSV(w, s, false) }

func sheetCSV(w io.Writer, s *sheet.Sheet, crlf bool) error {
	out := csv.NewWriter(w)
	out.UseCRLF = crlf
	record := make([]string, len(s.Columns))
	for i := range s.Columns {
		record[i] = sheet.SafeCell(s.Columns[i].Name)
	}
	if err := out.Write(record); err != nil {
		return err
	}
	for _, row := range s.Rows {
		for i, cell := range row {
			record[i] = sheet.SafeCell(sheet.TextOf(cell))
		}
		if err := out.Write(record); err != nil {
			return err
		}
	}
	out.Flush()
	return out.Error()
}

// tsvEscapes are what stands for characters that would end a field or a line
// of tab-separated values.
var tsvEscapes = strings.NewReplacer("\\", `\\`, "\t", `\t`, "\n", `\n`, "\r", `\r`)

// SheetTSV writes a sheet as tab-separated values (text/tab-separated-values)
// with a header. Tabs, line ends and backslashes in values are written with a
// backslash; formulas are made harmless as in CSV.
func SheetTSV(w io.Writer, s *sheet.Sheet) error {
	var line bytes.Buffer
	for i := range s.Columns {
		if i > 0 {
			line.WriteByte('\t')
		}
		line.WriteString(tsvEscapes.Replace(sheet.SafeCell(s.Columns[i].Name)))
	}
	line.WriteByte('\n')
	for _, row := range s.Rows {
		if _, err := w.Write(line.Bytes()); err != nil {
			return err
		}
		line.Reset()
		for i, cell := range row {
			if i > 0 {
				line.WriteByte('\t')
			}
			line.WriteString(tsvEscapes.Replace(sheet.SafeCell(sheet.TextOf(cell))))
		}
		line.WriteByte('\n')
	}
	_, err := w.Write(line.Bytes())
	return err
}

// RowShape is a row as one JSON object in the order of the columns.
type RowShape struct {
	columns []sheet.Column
	row     []any
}

// MarshalJSON writes the object.
func (o RowShape) MarshalJSON() ([]byte, error) {
	return orderedObject(len(o.columns),
		func(i int) (string, any) { return o.columns[i].Name, jsonCell(&o.columns[i], o.row[i]) })
}

// jsonCell writes times in UTC, and an empty list for no texts.
func jsonCell(c *sheet.Column, cell any) any {
	switch v := cell.(type) {
	case time.Time:
		return v.UTC()
	case nil:
		if c.Kind == sheet.Texts {
			return []string{}
		}
	}
	return cell
}

// SheetJSONL writes one object a row.
func SheetJSONL(w io.Writer, s *sheet.Sheet) error {
	enc := encoder(w)
	for _, row := range s.Rows {
		if err := enc.Encode(RowShape{s.Columns, row}); err != nil {
			return err
		}
	}
	return nil
}

// objects are all rows, for a JSON array.
func objects(s *sheet.Sheet) []RowShape {
	out := make([]RowShape, len(s.Rows))
	for i, row := range s.Rows {
		out[i] = RowShape{s.Columns, row}
	}
	return out
}

// SheetTable draws a sheet for people. What does not fit the terminal is
// shortened, times to their days first, and if that is not enough left out,
// and said so; key columns stay whole.
func SheetTable(w io.Writer, s *sheet.Sheet, st Style) {
	header := make([]string, len(s.Columns))
	var shrink []int
	for i := range s.Columns {
		header[i] = s.Columns[i].Heading()
		if !s.Columns[i].Key && s.Columns[i].Kind != sheet.Time {
			shrink = append(shrink, i)
		}
	}
	rows, widths := st.rows(s, header, timeForm)
	if !st.Whole && total(widths)-2 > st.Width {
		rows, widths = st.rows(s, header, time.DateOnly)
	}
	keep, left := fitting(s.Columns, widths, st.Width)
	if st.Whole {
		keep, left = fitting(s.Columns, widths, total(widths))
	}
	if left != nil {
		header, rows, shrink = narrowed(header, rows, shrink, keep)
	}
	right := map[int]bool{}
	for at, i := range keep {
		right[at] = s.Columns[i].Kind == sheet.Number
	}
	drawTable(w, st, header, rows, right, shrink)
	if left != nil {
		fmt.Fprintf(w, "No room here for %s: --columns chooses, --format csv has all\n", strings.Join(left, ", "))
	}
}

// timeForm is how a table shows a time where there is room.
const timeForm = "2006-01-02 15:04"

// rows writes the cells of a sheet, and tells how wide each column is.
func (st Style) rows(s *sheet.Sheet, header []string, times string) ([][]string, []int) {
	widths := make([]int, len(header))
	for i := range header {
		widths[i] = displayWidth(header[i])
	}
	rows := make([][]string, len(s.Rows))
	for r, row := range s.Rows {
		rows[r] = make([]string, len(row))
		for i, cell := range row {
			shown := st.cell(cell, times)
			if s.Columns[i].Name == "state" && keepsOut(cell) {
				shown = st.paint(shown, text.FgRed)
			}
			rows[r][i] = shown
			widths[i] = max(widths[i], displayWidth(shown))
		}
	}
	return rows, widths
}

// keepsOut tells whether a cell is the state of an account that cannot sign in.
func keepsOut(cell any) bool {
	state, _ := cell.(string)
	return slices.ContainsFunc([]string{"disabled", "expired", "locked"}, func(word string) bool { return strings.Contains(state, word) })
}

// total is how wide a table is with columns of these widths.
func total(widths []int) (n int) {
	for _, w := range widths {
		n += w + 2
	}
	return n
}

// leastWidth is how narrow a column may become before it is left out.
const leastWidth = 8

// fitting chooses the columns that find room, the first ones first and the
// key ones always, and names those that do not.
func fitting(columns []sheet.Column, widths []int, width int) (keep []int, left []string) {
	room := width
	for i, c := range columns {
		if c.Key {
			room -= widths[i] + 2
		}
	}
	for i, c := range columns {
		need := min(widths[i], leastWidth) + 2
		switch {
		case c.Kind == sheet.Time:
			need = widths[i] + 2
		case !c.Wide:
			need = min(widths[i], 2*leastWidth) + 2
		}
		switch {
		case c.Key:
			keep = append(keep, i)
		case need <= room:
			keep = append(keep, i)
			room -= need
		default:
			left = append(left, c.Name)
		}
	}
	return keep, left
}

// narrowed takes columns out of a table.
func narrowed(header []string, rows [][]string, shrink, keep []int) ([]string, [][]string, []int) {
	pick := func(cells []string) []string {
		out := make([]string, len(keep))
		for at, i := range keep {
			out[at] = cells[i]
		}
		return out
	}
	for r := range rows {
		rows[r] = pick(rows[r])
	}
	var may []int
	for at, i := range keep {
		for _, s := range shrink {
			if s == i {
				may = append(may, at)
			}
		}
	}
	return pick(header), rows, may
}

// cell writes a cell for people, times in local time.
func (st Style) cell(cell any, times string) string {
	switch v := cell.(type) {
	case bool:
		if v {
			return "yes"
		}
		return "no"
	case time.Time:
		return v.In(st.Zone).Format(times)
	}
	return Visible(sheet.TextOf(cell))
}

// Records draws one entry below the other, a line for each value that is
// set, for what has too many columns for a table.
func Records(w io.Writer, s *sheet.Sheet, st Style) {
	width := 0
	for i := range s.Columns {
		width = max(width, len(s.Columns[i].Name))
	}
	for r, row := range s.Rows {
		if r > 0 {
			fmt.Fprintln(w)
		}
		for i, cell := range row {
			var values []string
			switch v := cell.(type) {
			case nil:
				continue
			case []string:
				values = v
			default:
				values = []string{st.cell(v, timeForm)}
			}
			label := s.Columns[i].Name
			if i == 0 {
				fmt.Fprintln(w, Heading(Clip(Visible(values[0]), st.Width), st))
				continue
			}
			for _, v := range values {
				fmt.Fprintf(w, "  %-*s  %s\n", width, label, Clip(Visible(v), max(st.Width-width-4, 20)))
				label = ""
			}
		}
	}
}

// SheetRows draws a plain list for people, with the columns that give way.
func SheetRows(w io.Writer, s *sheet.Sheet, st Style, shrink ...int) {
	header, right := make([]string, len(s.Columns)), map[int]bool{}
	for i := range s.Columns {
		header[i], right[i] = s.Columns[i].Heading(), s.Columns[i].Kind == sheet.Number && !s.Columns[i].Key
		if len(s.Rows) > 0 && st.Zone != nil {
			if t, is := s.Rows[0][i].(time.Time); is {
				header[i] += " (" + t.In(st.Zone).Format("MST") + ")"
			}
		}
	}
	rows, _ := st.rows(s, header, timeForm)
	drawTable(w, st, header, rows, right, shrink)
}

// RowsShape is a plain list in JSON.
type RowsShape struct {
	Schema  string     `json:"schema"` // yardbroom/NAME/1
	Entries []RowShape `json:"entries"`
}

// SheetJSON writes a plain list as one object.
func SheetJSON(w io.Writer, s *sheet.Sheet) error {
	return JSON(w, RowsShape{"yardbroom/" + s.Name + "/1", objects(s)})
}
