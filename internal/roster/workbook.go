package roster

import (
	"fmt"
	"slices"
	"strings"

	"yardbroom/internal/workbook"
)

// readWorkbook reads one sheet of a workbook. Cells that hold dates are read
// as dates, not as they are shown.
func readWorkbook(raw, source string, opt Options) (*Roster, error) {
	book, err := workbook.Open(raw, workbook.Limits{Octets: opt.Limits.Octets, Rows: opt.Limits.Rows})
	if err != nil {
		return nil, fmt.Errorf("%s cannot be read as a workbook: %w", source, err)
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
	t := &table{form: "workbook, sheet " + name}
	err = book.Rows(name, func(n int, cells []string) error { return t.add(n, cells, opt.Limits) })
	if err != nil {
		return nil, fmt.Errorf("%s: sheet %s: %w", source, name, err)
	}
	return t.understand(source, opt)
}
