package cli

import (
	"context"
	"io"
	"slices"

	"github.com/urfave/cli/v3"

	"yardbroom/internal/audit"
	"yardbroom/internal/render"
	"yardbroom/internal/sheet"
)

func (a *app) compareCommand() *cli.Command {
	return &cli.Command{
		Name: "compare", Usage: "what changed between two surveys: accounts, groups, findings", ArgsUsage: "BEFORE AFTER",
		Description: help("compare"),
		Flags: slices.Concat(serverFlags(), []cli.Flag{asOfFlag(),
			&cli.StringSliceFlag{
				Name:  "check",
				Usage: "compare the findings of the check `NAME` only; may be given several times",
			},
			&cli.IntFlag{Name: "limit", Value: 5, Usage: "rows a list in a table; 0 for all"}, noRosterFlag(),
		}, outputFlags(allFormats)),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if cmd.Args().Len() != 2 {
				return usage(
					"give two surveys, the earlier one first; \"yardbroom survey --list\" shows those that are kept")
			}
			targets, err := a.targets(cmd, allFormats)
			if err != nil {
				return err
			}
			q, err := question(cmd)
			if err != nil {
				return err
			}
			later, err := a.work.Open(ctx, at(cmd, cmd.Args().Get(1)))
			if err != nil {
				return err
			}
			defer later.Close()
			after, err := a.work.Judge(ctx, later, &q)
			if err != nil {
				return err
			}
			c, err := a.work.Compare(ctx, later, after, at(cmd, cmd.Args().First()), &q)
			if err != nil {
				return err
			}
			st := a.style(later.Zone())
			st.Limit = cmd.Int("limit")
			return a.deliver(targets, a.comparisonResult(c, st))
		},
	}
}

// comparisonResult writes all that changed.
func (a *app) comparisonResult(c *audit.Comparison, st render.Style) *result {
	r := a.sinceResult(c, st)
	r.write[formatTable] = func(w io.Writer) error { render.Comparison(w, c, st); return nil }
	r.write[formatCSV] = func(w io.Writer) error { return render.SheetCSV(w, render.ChangesSheet(c)) }
	r.write[formatTSV] = func(w io.Writer) error { return render.SheetTSV(w, render.ChangesSheet(c)) }
	r.write[formatJSONL] = func(w io.Writer) error { return render.SheetJSONL(w, render.ChangesSheet(c)) }
	return r
}

// sinceResult writes the findings of a comparison.
func (a *app) sinceResult(c *audit.Comparison, st render.Style) *result {
	parts := func() []sheet.Sheet { return render.ComparisonSheets(c) }
	return &result{parts: parts, write: map[string]func(io.Writer) error{
		formatTable: func(w io.Writer) error { render.Since(w, c, st); return nil },
		formatCSV:   func(w io.Writer) error { return render.SheetCSV(w, render.FindingsSheet(c.All())) },
		formatTSV:   func(w io.Writer) error { return render.SheetTSV(w, render.FindingsSheet(c.All())) },
		formatJSON:  func(w io.Writer) error { return render.ComparisonJSON(w, c) },
		formatJSONL: func(w io.Writer) error { return render.FindingsJSONL(w, c.All()) },
		formatXLSX:  func(w io.Writer) error { return render.XLSX(w, parts(), st) },
		formatHTML:  func(w io.Writer) error { return render.ComparisonPage(c, st.Zone, a.now()).Write(w) },
	}}
}
