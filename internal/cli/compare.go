package cli

import (
	"context"
	"fmt"
	"io"
	"slices"

	"github.com/urfave/cli/v3"

	"yardbroom/internal/audit"
	"yardbroom/internal/render"
)

func (a *app) compareCommand() *cli.Command {
	return &cli.Command{
		Name: "compare", Usage: "what changed between two surveys: accounts, groups, findings", ArgsUsage: "BEFORE AFTER",
		Description: "BEFORE and AFTER are kept surveys, or anything else that --from takes: a yard's name reads it now.",
		Flags: append(serverFlags(), asOfFlag(),
			&cli.StringSliceFlag{Name: "check", Usage: "compare the findings of the check `NAME` only; may be given several times"},
			&cli.StringFlag{Name: "format", Value: "table", Usage: "table or json"},
			&cli.StringFlag{Name: "output", Usage: "write to `FILE`, whole or not at all"},
			&cli.IntFlag{Name: "limit", Value: 5, Usage: "rows a list in a table; 0 for all"},
		),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if cmd.Args().Len() != 2 {
				return usage("give two surveys, the earlier one first; \"yardbroom survey --list\" shows those that are kept")
			}
			format := cmd.String("format")
			if !slices.Contains([]string{"table", "json"}, format) {
				return usage("--format: %q is neither table nor json", format)
			}
			later, err := a.openNamed(ctx, cmd, cmd.Args().Get(1))
			if err != nil {
				return err
			}
			defer later.Close()
			after, err := a.judge(ctx, cmd, later, cmd.StringSlice("check"))
			if err != nil {
				return err
			}
			c, err := a.compareWith(ctx, cmd, later, after, cmd.Args().First())
			if err != nil {
				return err
			}
			st := a.style(later.location())
			st.Limit = cmd.Int("limit")
			return a.result(cmd.String("output"), func(w io.Writer) error {
				if format == "json" {
					return render.ComparisonJSON(w, c)
				}
				render.Comparison(w, c, st)
				return nil
			})
		},
	}
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
	before, err := a.judge(ctx, cmd, p, cmd.StringSlice("check"))
	if err != nil {
		return nil, err
	}
	if before.AsOf.After(after.AsOf) {
		a.note("note: %s is later than %s", p.Where(), later.Where())
	}
	return audit.Compare(before, after), nil
}

// auditSince reports only what is new since an earlier survey.
func (a *app) auditSince(ctx context.Context, cmd *cli.Command, p *place, report *audit.Report, since, format string, st render.Style) error {
	c, err := a.compareWith(ctx, cmd, p, report, since)
	if err != nil {
		return err
	}
	err = a.result(cmd.String("output"), func(w io.Writer) error {
		switch format {
		case "csv":
			return render.FindingsCSV(w, c.All())
		case "jsonl":
			return render.FindingsJSONL(w, c.All())
		case "json":
			return render.ComparisonJSON(w, c)
		}
		render.Since(w, c, st)
		return nil
	})
	if err != nil {
		return err
	}
	a.tellNotes(report, format)
	level, fail, err := failOn(cmd)
	if err != nil {
		return err
	}
	return verdict(p, c.New, level, fail)
}
