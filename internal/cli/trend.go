package cli

import (
	"context"
	"io"
	"slices"

	"github.com/urfave/cli/v3"

	"yardbroom/internal/render"
	"yardbroom/internal/sheet"
	"yardbroom/internal/work"
)

// trendParts are the parts of a trend, as --by calls them.
var trendParts = []string{"severity", "accounts", "check", "place"}

func (a *app) trendCommand() *cli.Command {
	return &cli.Command{
		Name: "trend", Usage: "how a yard does over time, by what was remembered of its audits",
		Description: help("trend"),
		Flags: append(append(fromFlags(), outputFlags(allFormats)...),
			&cli.StringFlag{Name: "since", Usage: "from this `DAY` on: a date, or a span before now (90d)"},
			&cli.StringFlag{Name: "until", Usage: "up to this `DAY`"},
			&cli.StringSliceFlag{Name: "by", Usage: "show only this `PART`: severity, accounts, check or place; may be given several times"},
			&cli.BoolFlag{Name: "changes", Usage: "name each finding that came or went between the first day and the last"}),
		Action: a.trend,
	}
}

func (a *app) trend(ctx context.Context, cmd *cli.Command) error {
	if err := a.noArguments(cmd); err != nil {
		return err
	}
	parts := cmd.StringSlice("by")
	for _, part := range parts {
		if !slices.Contains(trendParts, part) {
			return usage("--by: %q is none of severity, accounts, check and place", part)
		}
	}
	targets, err := a.targets(cmd, allFormats)
	if err != nil {
		return err
	}
	p, err := a.work.Open(ctx, from(cmd))
	if err != nil {
		return err
	}
	defer p.Close()
	t, err := a.work.Trend(ctx, p, &work.TrendRequest{Since: cmd.String("since"), Until: cmd.String("until")})
	if err != nil {
		return err
	}
	if len(t.Days) == 0 {
		a.note("nothing is remembered of this yard from then; rounds remember their audits, and so do audit --remember and --new-to")
		return nil
	}
	s := render.TrendSheet(t)
	return a.deliver(targets, &result{
		style: a.style(t.Zone),
		table: func(w io.Writer, st render.Style) { render.TrendTable(w, t, st, parts, cmd.Bool("changes")) },
		parts: func() []sheet.Sheet { return []sheet.Sheet{*s} },
		rows:  func() *sheet.Sheet { return s }, write: map[string]func(io.Writer) error{
			formatJSONL: func(w io.Writer) error { return render.SheetJSONL(w, s) },
			formatJSON:  func(w io.Writer) error { return render.TrendJSON(w, t) },
			formatXLSX:  func(w io.Writer) error { return render.XLSX(w, []sheet.Sheet{*s}, a.style(t.Zone)) },
			formatHTML: func(w io.Writer) error {
				page, err := render.TrendPage(t, a.now())
				if err != nil {
					return err
				}
				return a.writePage(w, page)
			},
		},
	})
}
