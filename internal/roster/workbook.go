package roster

import (
	"bytes"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/xuri/excelize/v2"
)

// readWorkbook reads one sheet of a workbook. Cells that hold dates are read
// as dates, not as they are shown.
func readWorkbook(raw []byte, source string, opt Options) (*Roster, error) {
	book, err := excelize.OpenReader(bytes.NewReader(raw), excelize.Options{UnzipSizeLimit: 4 * mostOctets})
	if err != nil {
		return nil, fmt.Errorf("%s is a zip file but no workbook that can be read: %w", source, err)
	}
	defer book.Close()
	sheets := book.GetSheetList()
	name := opt.Sheet
	if name == "" && len(sheets) > 0 {
		name = sheets[0]
	}
	if !slices.Contains(sheets, name) {
		return nil, fmt.Errorf("%s has no sheet %q: there are %s", source, name, strings.Join(sheets, ", "))
	}
	shown, err := book.GetRows(name)
	if err != nil {
		return nil, fmt.Errorf("%s: sheet %s: %w", source, name, err)
	}
	t := &table{form: "workbook, sheet " + name}
	for i, cells := range shown {
		for j := range cells {
			if cells[j] != "" {
				if day, ok := dateCell(book, name, j+1, i+1); ok {
					cells[j] = day
				}
			}
		}
		t.rows = append(t.rows, line{i + 1, cells})
	}
	return t.understand(source, opt)
}

// dateCell reads a cell that holds a number shown as a date.
func dateCell(book *excelize.File, sheet string, column, row int) (string, bool) {
	cell, err := excelize.CoordinatesToCellName(column, row)
	if err != nil {
		return "", false
	}
	id, err := book.GetCellStyle(sheet, cell)
	if err != nil || id == 0 {
		return "", false
	}
	style, err := book.GetStyle(id)
	if err != nil || !showsDate(style) {
		return "", false
	}
	raw, err := book.GetCellValue(sheet, cell, excelize.Options{RawCellValue: true})
	if err != nil {
		return "", false
	}
	n, err := strconv.ParseFloat(raw, 64)
	if err != nil {
		return "", false
	}
	t, err := excelize.ExcelDateToTime(n, false)
	if err != nil {
		return "", false
	}
	return t.Format(time.DateOnly), true
}

// showsDate tells whether a number format shows a day (ECMA-376, 18.8.30).
func showsDate(s *excelize.Style) bool {
	if s.NumFmt >= 14 && s.NumFmt <= 17 || s.NumFmt == 22 {
		return true
	}
	return s.CustomNumFmt != nil && strings.ContainsAny(strings.ToLower(*s.CustomNumFmt), "dy")
}
