package render

import (
	"fmt"
	"io"
	"strings"
	"time"
	"unicode/utf16"
	"unicode/utf8"

	"github.com/xuri/excelize/v2"

	"yardbroom/internal/sheet"
)

// Limits of a workbook (ECMA-376).
const (
	mostRows  = 1 << 20
	mostUnits = 32767 // of UTF-16 in one cell
	mostName  = 31
)

// XLSX writes a workbook with a sheet for each of the sheets, its header
// frozen and with filters. Times are real dates, in the zone of the style,
// since a workbook knows no zones; texts are typed as texts, so that nothing
// in them is taken for a formula. Rows beyond what a sheet holds go into a
// further one.
func XLSX(w io.Writer, sheets []sheet.Sheet, st Style) error {
	book := excelize.NewFile()
	defer book.Close()
	head, err := book.NewStyle(
		&excelize.Style{
			Font:      &excelize.Font{Bold: true, Family: "Calibri", Size: 11},
			Fill:      excelize.Fill{Type: "pattern", Pattern: 1, Color: []string{"E7ECEF"}},
			Alignment: &excelize.Alignment{Vertical: "center"},
		},
	)
	if err != nil {
		return err
	}
	format := "yyyy-mm-dd hh:mm:ss"
	date, err := book.NewStyle(
		&excelize.Style{CustomNumFmt: &format, Alignment: &excelize.Alignment{Horizontal: "left"}})
	if err != nil {
		return err
	}
	number, err := book.NewStyle(&excelize.Style{Alignment: &excelize.Alignment{Horizontal: "right", Indent: 1}})
	if err != nil {
		return err
	}
	x := workbook{book: book, head: head, date: date, number: number, zone: st.Zone, names: map[string]bool{}}
	for i := range sheets {
		rows := sheets[i].Rows
		for first := true; first || len(rows) > 0; first = false {
			n := min(len(rows), mostRows-1)
			if err := x.add(&sheets[i], rows[:n]); err != nil {
				return fmt.Errorf("sheet %s: %w", sheets[i].Name, err)
			}
			rows = rows[n:]
		}
	}
	if err := book.DeleteSheet("Sheet1"); err != nil {
		return err
	}
	book.SetActiveSheet(0)
	_, err = book.WriteTo(w)
	return err
}

type workbook struct {
	book               *excelize.File
	head, date, number int
	zone               *time.Location
	names              map[string]bool
}

// free returns a name for one more sheet: what a workbook allows, and not
// taken yet.
func (x *workbook) free(name string) string {
	name = strings.Map(func(r rune) rune {
		if strings.ContainsRune(`:\/?*[]'`, r) {
			return '-'
		}
		return r
	}, Visible(name))
	for n := 1; ; n++ {
		suffix := ""
		if n > 1 {
			suffix = fmt.Sprintf(" (%d)", n)
		}
		runes := []rune(name)
		try := string(runes[:min(len(runes), mostName-len(suffix))]) + suffix
		if key := strings.ToLower(try); !x.names[key] && key != "sheet1" {
			x.names[key] = true
			return try
		}
	}
}

func (x *workbook) add(s *sheet.Sheet, rows [][]any) error {
	name := x.free(s.Name)
	if _, err := x.book.NewSheet(name); err != nil {
		return err
	}
	// Printed, all columns stand on one page.
	yes, wide, pages := true, "landscape", 0
	err := x.book.SetSheetProps(name, &excelize.SheetPropsOptions{FitToPage: &yes})
	if err == nil {
		err = x.book.SetPageLayout(name, &excelize.PageLayoutOptions{Orientation: &wide, FitToHeight: &pages})
	}
	if err != nil {
		return err
	}
	out, err := x.book.NewStreamWriter(name)
	if err != nil {
		return err
	}
	for i := range s.Columns {
		if err := out.SetColWidth(i+1, i+1, columnWidth(&s.Columns[i], rows, i)); err != nil {
			return err
		}
	}
	if err := out.SetPanes(&excelize.Panes{Freeze: true, YSplit: 1, TopLeftCell: "A2", ActivePane: "bottomLeft"}); err != nil {
		return err
	}
	cells := make([]any, len(s.Columns))
	for i := range s.Columns {
		cells[i] = excelize.Cell{StyleID: x.head, Value: s.Columns[i].Heading()}
	}
	if err := out.SetRow("A1", cells); err != nil {
		return err
	}
	for r, row := range rows {
		for i, cell := range row {
			cells[i] = x.cell(cell)
		}
		if err := out.SetRow(fmt.Sprintf("A%d", r+2), cells); err != nil {
			return err
		}
	}
	last, err := excelize.CoordinatesToCellName(len(s.Columns), max(len(rows), 1)+1)
	if err != nil {
		return err
	}
	if err := x.choices(name, s, len(rows)); err != nil {
		return err
	}
	stripes := false
	if err := out.AddTable(&excelize.Table{Range: "A1:" + last, Name: fmt.Sprintf("Table%d", len(x.names)), StyleName: "TableStyleLight1", ShowRowStripes: &stripes}); err != nil {
		return err
	}
	return out.Flush()
}

// choices offers what may be filled in, in the columns that have it.
func (x *workbook) choices(name string, s *sheet.Sheet, rows int) error {
	for i := range s.Columns {
		if len(s.Columns[i].Choices) == 0 || rows == 0 {
			continue
		}
		column, err := excelize.ColumnNumberToName(i + 1)
		if err != nil {
			return err
		}
		list := excelize.NewDataValidation(true)
		list.Sqref = fmt.Sprintf("%s2:%s%d", column, column, rows+1)
		if err := list.SetDropList(s.Columns[i].Choices); err != nil {
			return err
		}
		if err := x.book.AddDataValidation(name, list); err != nil {
			return err
		}
	}
	return nil
}

func (x *workbook) cell(cell any) any {
	switch v := cell.(type) {
	case nil:
		return nil
	case time.Time:
		local := v.In(x.zone)
		return excelize.Cell{StyleID: x.date, Value: time.Date(local.Year(), local.Month(), local.Day(), local.Hour(), local.Minute(), local.Second(), 0, time.UTC)}
	case int:
		return excelize.Cell{StyleID: x.number, Value: v}
	case bool:
		return v
	}
	return clipCell(Visible(sheet.TextOf(cell)))
}

// clipCell cuts a text to what a cell holds, counted as workbooks do.
func clipCell(s string) string {
	if len(s) <= mostUnits {
		return s
	}
	units := 0
	for i, r := range s {
		if units += max(utf16.RuneLen(r), 1); units > mostUnits-1 {
			return s[:i] + "…"
		}
	}
	return s
}

// columnWidth is wide enough for most of the first rows.
func columnWidth(c *sheet.Column, rows [][]any, at int) float64 {
	width := utf8.RuneCountInString(c.Heading()) + 4 // the filter's button stands in the header
	for _, row := range rows[:min(len(rows), 200)] {
		n := 19
		if _, ok := row[at].(time.Time); !ok {
			n = utf8.RuneCountInString(sheet.TextOf(row[at]))
		}
		width = max(width, n+1)
	}
	return float64(min(width, 60))
}
