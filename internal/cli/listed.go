package cli

import (
	"io"

	"github.com/urfave/cli/v3"

	"yardbroom/internal/render"
	"yardbroom/internal/sheet"
)

// rowFormats are those that a plain list of ours can be written in.
var rowFormats = []string{formatTable, formatCSV, formatTSV, formatJSON, formatJSONL, formatXLSX}

// writeList writes a plain list of ours: of batches, exemptions, surveys and the like. The
// columns of shrink give way on a terminal, the first one first.
func (a *app) writeList(cmd *cli.Command, s *sheet.Sheet, st render.Style, shrink ...int) error {
	targets, err := a.targets(cmd, rowFormats)
	if err != nil {
		return err
	}
	parts := func() []sheet.Sheet { return []sheet.Sheet{*s} }
	return a.deliver(targets, &result{
		style: st, parts: parts, rows: func() *sheet.Sheet { return s },
		table: func(w io.Writer, st render.Style) { render.SheetRows(w, s, st, shrink...) },
		write: map[string]func(io.Writer) error{
			formatJSON:  func(w io.Writer) error { return render.SheetJSON(w, s) },
			formatJSONL: func(w io.Writer) error { return render.SheetJSONL(w, s) },
			formatXLSX:  func(w io.Writer) error { return render.XLSX(w, parts(), st) },
		},
	})
}

// column is a column of a plain list.
func column(name, title string, kind sheet.Kind) sheet.Column {
	return sheet.Column{Name: name, Title: title, Kind: kind}
}

// numbered is the column of the numbers that things are called by.
func numbered(name, title string) sheet.Column {
	return sheet.Column{Name: name, Title: title, Kind: sheet.Number, Key: true}
}
