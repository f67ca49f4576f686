package cli

import (
	"context"
	"fmt"
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
		Description: "BEFORE and AFTER are kept surveys, or anything else that --from takes: a yard's name reads it now.",
		Flags: slices.Concat(serverFlags(), []cli.Flag{asOfFlag(),
			&cli.StringSliceFlag{Name: "check", Usage: "compare the findings of the check `NAME` only; may be given several times"},
			&cli.IntFlag{Name: "limit", Value: 5, Usage: "rows a list in a table; 0 for all"}, noRosterFlag(),
		}, outputFlags(allFormats)),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if cmd.Args().Len() != 2 {
				return usage("give two surveys, the earlier one first; \"yardbroom survey --list\" shows those that are kept")
			}
			targets, err := a.targets(cmd, allFormats)
			if err != nil {
				return err
			}
			later, err := a.openNamed(ctx, cmd, cmd.Args().Get(1))
			if err != nil {
				return err
			}
			defer later.Close()
			after, err := a.judge(ctx, cmd, later, checkNames(cmd))
			if err != nil {
				return err
			}
			c, err := a.compareWith(ctx, cmd, later, after, cmd.Args().First())
			if err != nil {
				return err
			}
			st := a.style(later.zone())
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

// compareWith judges an earlier survey by the same checks and compares.
func (a *app) compareWith(ctx context.Context, cmd *cli.Command, later *place, after *audit.Report, earlier string) (*audit.Comparison, error) {
	p, err := a.openNamed(ctx, cmd, earlier)
	if err != nil {
		return nil, err
	}
	defer p.Close()
	// What is in someone's care is told by the later place.
	p.yard.Scope, p.yard.LeaveOut, p.yard.TimeZone = later.yard.Scope, later.yard.LeaveOut, later.yard.TimeZone
	was, err := p.Identity(ctx)
	if err != nil {
		return nil, err
	}
	is, err := later.Identity(ctx)
	if err != nil {
		return nil, err
	}
	if !was.Same(is) {
		return nil, fmt.Errorf("%s is %s, and %s is %s: two directories, which cannot be compared", p.Where(), was, later.Where(), is)
	}
	before, err := a.judge(ctx, cmd, p, checkNames(cmd))
	if err != nil {
		return nil, err
	}
	if before.AsOf.After(after.AsOf) {
		a.note("note: %s is later than %s", p.Where(), later.Where())
	}
	return audit.Compare(before, after), nil
}
