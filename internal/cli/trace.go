package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"

	"github.com/urfave/cli/v3"

	"yardbroom/internal/render"
	"yardbroom/internal/sheet"
	"yardbroom/internal/wording"
	"yardbroom/internal/work"
)

// logFlags choose logs.
func logFlags() []cli.Flag {
	return []cli.Flag{
		logFlag(),
		&cli.StringFlag{Name: "since", Usage: "only what happened since this `TIME`: 7d, 12h, or a date"},
	}
}

func logsFrom(cmd *cli.Command) *work.LogsFrom {
	return &work.LogsFrom{Paths: cmd.StringSlice("log"), Since: cmd.String("since"), AsOf: cmd.String("as-of")}
}

func (a *app) traceCommand() *cli.Command {
	return &cli.Command{
		Name: "trace", Usage: "where wrong passwords come from, by what, and whether unlocking helps", ArgsUsage: "[ACCOUNT]", Description: help("trace"),
		Flags: slices.Concat([]cli.Flag{}, logFlags(), []cli.Flag{
			&cli.BoolFlag{Name: "locked", Usage: "all accounts that are locked out now"},
			&cli.StringFlag{Name: "source", Usage: "what comes from this `MACHINE` or address, over all accounts"},
			&cli.BoolFlag{Name: "changes", Usage: "who disabled, enabled, moved, renamed or unlocked the account, when and from where, instead"},
			&cli.BoolFlag{Name: "keep", Usage: "remember when each account signed in last from where, so that the logs may rotate away"},
			&cli.BoolFlag{Name: "follow", Usage: "go on with what is written to the logs, until Ctrl-C"},
			limitFlag("rows of a table", 12),
			asOfFlag(),
		}, fromFlags(), outputFlags(allFormats)),
		Action: a.trace,
	}
}

func (a *app) trace(ctx context.Context, cmd *cli.Command) error {
	one := cmd.Args().Len() == 1
	switch {
	case cmd.Args().Len() > 1:
		return usage("give one account, or none for all")
	case one && (cmd.Bool("locked") || cmd.String("source") != ""):
		return usage("give an account, or --locked, or --source")
	case cmd.Bool("keep") && (one || cmd.Bool("locked") || cmd.Bool("follow") || cmd.String("source") != ""):
		return usage("--keep is for all accounts: leave the others out")
	case cmd.Bool("changes") && (!one || cmd.Bool("follow")):
		return usage("--changes goes with an account, without --follow")
	case cmd.Bool("follow") && (cmd.Bool("locked") || cmd.String("source") != "" || len(cmd.StringSlice("output")) > 0):
		return usage("--follow goes with an account, or with all: leave --locked, --source and --output out")
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
	st := a.style(p.Zone())
	if st.Limit, err = a.limitOf(cmd, st, 12); err != nil {
		return err
	}
	if cmd.Bool("keep") {
		return a.keepSignIns(ctx, cmd, p)
	}
	if cmd.Bool("follow") {
		return a.follow(ctx, cmd, p, st)
	}
	if !one {
		q := &work.TraceQuestion{LogsFrom: *logsFrom(cmd), Locked: cmd.Bool("locked"), Source: cmd.String("source")}
		t, err := a.work.TraceAll(ctx, p, q)
		if err != nil {
			return err
		}
		return errors.Join(a.deliver(targets, a.tracesResult(t, q, st)), unread(&t.Logs))
	}
	t, err := a.work.Trace(ctx, p, cmd.Args().First(), logsFrom(cmd))
	if err != nil {
		return err
	}
	if cmd.Bool("changes") {
		changes, err := a.work.Changes(ctx, p, t)
		if err != nil {
			return err
		}
		return errors.Join(a.deliver(targets, a.changesResult(t, changes, st)), unread(&t.Logs))
	}
	return errors.Join(a.deliver(targets, a.traceResult(t, st)), unread(&t.Logs))
}

// unread is an error where logs could not be read, so that a program hears of it.
func unread(l *work.Logs) error {
	n := 0
	for _, r := range l.Reports {
		if r.Error != nil {
			n++
		}
	}
	if n == 0 {
		return nil
	}
	return fmt.Errorf("%s could not be read", wording.Count(n, "log"))
}

// changesResult writes who has changed an account.
func (a *app) changesResult(t *work.AccountTrace, all []work.AccountChange, st render.Style) *result {
	s := render.AccountChangesSheet(all)
	r := &result{parts: func() []sheet.Sheet { return []sheet.Sheet{s} }, rows: func() *sheet.Sheet { return &s }, style: st, table: func(w io.Writer, st render.Style) { render.AccountChanges(w, t, all, st) }, write: map[string]func(io.Writer) error{
		formatJSON:  func(w io.Writer) error { return render.JSON(w, render.AccountChangesShapeOf(t, all)) },
		formatJSONL: func(w io.Writer) error { return render.SheetJSONL(w, &s) },
		formatXLSX:  func(w io.Writer) error { return render.XLSX(w, []sheet.Sheet{s}, st) },
		formatHTML:  func(w io.Writer) error { return a.writePage(w, render.AccountChangesPage(t, all, st.Zone, a.now())) },
	}}
	return r
}

// traceResult writes what keeps refusing an account.
func (a *app) traceResult(t *work.AccountTrace, st render.Style) *result {
	parts := func() []sheet.Sheet { return render.TraceSheets(t) }
	return &result{parts: parts, rows: func() *sheet.Sheet { return &parts()[0] }, style: st, table: func(w io.Writer, st render.Style) { render.AccountTrace(w, t, st) }, write: map[string]func(io.Writer) error{
		formatJSON:  func(w io.Writer) error { return render.JSON(w, render.TraceShapeOf(t)) },
		formatJSONL: func(w io.Writer) error { return render.JSONLine(w, render.TraceShapeOf(t)) },
		formatXLSX:  func(w io.Writer) error { return render.XLSX(w, parts(), st) },
		formatHTML: func(w io.Writer) error {
			page, err := render.TracePage(t, st.Zone, a.now())
			if err != nil {
				return err
			}
			return a.writePage(w, page)
		},
	}}
}

// tracesResult writes what keeps refusing accounts.
func (a *app) tracesResult(t *work.Traces, q *work.TraceQuestion, st render.Style) *result {
	s := render.TracesSheet(t, q)
	return &result{parts: func() []sheet.Sheet { return render.TracesSheets(t, q) }, rows: func() *sheet.Sheet { return s }, style: st, table: func(w io.Writer, st render.Style) { render.Traces(w, t, q, st) }, write: map[string]func(io.Writer) error{
		formatJSON:  func(w io.Writer) error { return render.JSON(w, render.TracesShapeOf(t)) },
		formatJSONL: func(w io.Writer) error { return render.SheetJSONL(w, s) },
		formatXLSX:  func(w io.Writer) error { return render.XLSX(w, render.TracesSheets(t, q), st) },
		formatHTML:  func(w io.Writer) error { return a.writePage(w, render.TracesPage(t, q, st.Zone, a.now())) },
	}}
}

// follow shows what happens, a line for each.
func (a *app) follow(ctx context.Context, cmd *cli.Command, p *work.Place, st render.Style) error {
	lines := cmd.String("format") == formatJSONL
	if f := cmd.String("format"); f != "" && f != formatTable && !lines {
		return usage("--follow writes as table or jsonl")
	}
	begun := func(t *work.AccountTrace) error {
		if t != nil && !lines {
			render.AccountTrace(a.out, t, st)
		}
		a.note("following the logs; Ctrl-C ends it")
		return nil
	}
	return a.work.Follow(ctx, p, cmd.Args().First(), logsFrom(cmd), begun, func(h *work.Happening) error {
		if lines {
			return render.JSONLine(a.out, render.HappeningShapeOf(h))
		}
		return render.HappeningLine(a.out, h, st)
	})
}

func (a *app) keepSignIns(ctx context.Context, cmd *cli.Command, p *work.Place) error {
	kept, err := a.work.KeepSignIns(ctx, p, logsFrom(cmd))
	if err != nil {
		return err
	}
	fmt.Fprintf(a.out, "Kept: the last sign-ins of %s, %d by source, from %s to %s.\n", wording.Count(kept.Accounts, "account"), kept.SignIns,
		wording.Moment(kept.From, p.Zone()), wording.Moment(kept.To, p.Zone()))
	return nil
}
