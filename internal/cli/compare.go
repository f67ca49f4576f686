package cli

import (
	"context"
	"io"
	"slices"

	"github.com/urfave/cli/v3"

	"yardbroom/internal/audit"
	"yardbroom/internal/render"
	"yardbroom/internal/settings"
	"yardbroom/internal/sheet"
	"yardbroom/internal/work"
)

func (a *app) compareCommand() *cli.Command {
	return &cli.Command{
		Name: "compare", Usage: "what changed between two surveys: accounts, groups, findings", ArgsUsage: "BEFORE AFTER",
		Description: help("compare"),
		Flags: slices.Concat(serverFlags(), conditionFlags(), []cli.Flag{asOfFlag(), kindFlag("all"),
			&cli.StringSliceFlag{
				Name:  "check",
				Usage: "compare the findings of the check `NAME` only; may be given several times",
			},
			limitFlag("rows a list", 5), briefFlag(), noRosterFlag(),
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
			asked, err := a.conditions(cmd)
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
			chosen, err := a.choose(ctx, later, asked, &q)
			if err != nil {
				return err
			}
			c, err := a.compare(ctx, later, after, &earlierQuestion{at(cmd, cmd.Args().First()), &q, asked, chosen})
			if err != nil {
				return err
			}
			st := a.style(later.Zone())
			st.Brief = cmd.Bool("brief")
			if st.Limit, err = a.limitOf(cmd, st, 5); err != nil {
				return err
			}
			return a.deliver(targets, a.comparisonResult(c, st))
		},
	}
}

// earlierQuestion is what a later audit is compared with: an earlier place, judged by
// the same question, and about whom.
type earlierQuestion struct {
	from   work.From
	q      *work.Question
	asked  settings.Filter
	chosen *work.Chosen // in the later place
}

// compare compares a later audit with an earlier place.
func (a *app) compare(ctx context.Context, later *work.Place, after *audit.Report, with *earlierQuestion) (*audit.Comparison, error) {
	earlier, err := a.work.OpenEarlier(ctx, later, with.from)
	if err != nil {
		return nil, err
	}
	defer earlier.Close()
	c, err := a.work.Compare(ctx, later, after, earlier, with.q)
	if err != nil {
		return nil, err
	}
	before, err := a.choose(ctx, earlier, with.asked, with.q)
	if err != nil {
		return nil, err
	}
	return with.chosen.OfComparison(before, c), nil
}

// comparisonResult writes all that changed.
func (a *app) comparisonResult(c *audit.Comparison, st render.Style) *result {
	r := a.sinceResult(c, st)
	r.table = func(w io.Writer, st render.Style) { render.Comparison(w, c, st) }
	r.rows = func() *sheet.Sheet { return render.ChangesSheet(c) }
	r.write[formatJSONL] = func(w io.Writer) error { return render.SheetJSONL(w, render.ChangesSheet(c)) }
	return r
}

// sinceResult writes the findings of a comparison.
func (a *app) sinceResult(c *audit.Comparison, st render.Style) *result {
	parts := func() []sheet.Sheet { return render.ComparisonSheets(c) }
	return &result{parts: parts, names: func() []string { return render.FindingNames(c.New) }, rows: func() *sheet.Sheet { return render.FindingsSheet(c.All()) }, style: st, table: func(w io.Writer, st render.Style) { render.Since(w, c, st) }, write: map[string]func(io.Writer) error{
		formatJSON:  func(w io.Writer) error { return render.ComparisonJSON(w, c) },
		formatJSONL: func(w io.Writer) error { return render.FindingsJSONL(w, c.All()) },
		formatXLSX:  func(w io.Writer) error { return render.XLSX(w, parts(), st) },
		formatHTML:  func(w io.Writer) error { return a.writePage(w, render.ComparisonPage(c, st.Zone, a.now())) },
	}}
}
