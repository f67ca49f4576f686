package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"

	"github.com/urfave/cli/v3"

	"yardbroom/internal/render"
	"yardbroom/internal/roster"
	"yardbroom/internal/sheet"
	"yardbroom/internal/wording"
	"yardbroom/internal/work"
)

func (a *app) reconcileCommand() *cli.Command {
	return &cli.Command{
		Name: "reconcile", Usage: "compare people with accounts: who has left, which accounts have no owner, who has no account",
		Description: help("reconcile"),
		Flags: slices.Concat(rosterFlags(), readFlags(), []cli.Flag{asOfFlag(),
			&cli.BoolFlag{Name: "strict", Usage: "match by links and keys that are exactly alike only, not by names"},
			&cli.BoolFlag{Name: "show-mapping", Usage: "say which column is read as what, and stop"},
			&cli.StringFlag{
				Name:  "pairs",
				Usage: "write every pair as CSV to `FILE`: row,person_id,account,dn,key,score",
			},
			&cli.StringFlag{
				Name:  "since",
				Usage: "show only what is new since a `RUN`: \"last\", or the last one at or before a date or time",
			},
			newToFlag(),
			&cli.StringSliceFlag{
				Name:  "check",
				Usage: "only the check `NAME` of the roster; may be given several times",
			},
			limitFlag("rows a check", 5), briefFlag(), rememberFlag(),
			&cli.BoolFlag{Name: "another-roster", Usage: "take the roster over as the last one of the yard, though it differs from that by more than a tenth"},
			&cli.StringFlag{
				Name:  "fail-on",
				Usage: "exit with status 3 if there is a finding of this `SEVERITY` or above",
			},
		}, outputFlags(allFormats)),
		Action: a.reconcile,
	}
}

func (a *app) reconcile(ctx context.Context, cmd *cli.Command) error {
	end, err := a.outcome(cmd)
	if err != nil {
		return err
	}
	q, err := question(cmd)
	if err != nil {
		return err
	}
	if cmd.Bool("show-mapping") {
		return a.showMapping(ctx, &q.Roster)
	}
	before, _, err := a.notNew(cmd)
	if err != nil {
		return err
	}
	p, err := a.work.Open(ctx, from(cmd))
	if err != nil {
		return err
	}
	defer p.Close()
	found, err := a.work.Reconcile(
		ctx,
		p,
		&work.ReconcileRequest{
			Question:        q,
			Strict:          cmd.Bool("strict"),
			Before:          before,
			Another:         cmd.Bool("another-roster"),
			BoundsMustExist: cmd.IsSet("fail-on"),
		},
	)
	if err != nil {
		return err
	}
	r := &render.Reconciliation{Reconciliation: found, Confirm: func(account, person string) string {
		words := []string{"yardbroom", "link", "confirm"}
		if from := cmd.String("from"); from != "" {
			words = append(words, "--from", from)
		}
		return quoted(append(words, account, person))
	}}
	if path := cmd.String("pairs"); path != "" {
		if err := a.result(path, func(w io.Writer) error { return render.SheetCSV(w, render.PairsSheet(found.People)) }); err != nil {
			return err
		}
		if path != "-" {
			a.note("written: %s", path)
		}
	}
	st, err := a.findingStyle(cmd, p.Zone())
	if err != nil {
		return err
	}
	if err := a.deliver(end.targets, a.reconciliationResult(r, st)); err != nil {
		return err
	}
	if err := a.told(ctx, before, found.Memory); err != nil {
		return err
	}
	a.tellNotes(found.Report, end.targets)
	return end.verdict(p, found.Findings)
}

// showMapping says how a roster is read, and reads no directory.
func (a *app) showMapping(ctx context.Context, from *work.RosterFrom) error {
	if from.Where == "" {
		return usage("--show-mapping needs --roster: what is kept has no columns any more")
	}
	list, err := a.work.ReadRoster(ctx, nil, from)
	if unclear := (*roster.Unclear)(nil); errors.As(err, &unclear) {
		a.showUnclear(unclear)
	}
	if err != nil {
		return err
	}
	fmt.Fprintf(a.out, "%s: %s, %s", render.Visible(list.Source), render.Visible(list.Form),
		wording.Count(len(list.Rows), "row"))
	if list.DateOrder != "" {
		fmt.Fprintf(a.out, ", dates %s", list.DateOrder)
	}
	fmt.Fprintln(a.out)
	var rows [][]string
	for _, m := range list.Mapping {
		rows = append(
			rows,
			[]string{
				m.Field.String(),
				strconv.Itoa(m.Column),
				render.Visible(m.Header),
				m.How,
				render.Visible(list.Rows[0].Values[m.Field]),
			},
		)
	}
	render.Table(a.out, a.style(nil), []string{"Field", "Column", "Header", "Found", "First row"}, rows, 4, 2)
	for _, h := range list.Unused {
		fmt.Fprintf(a.out, "not used: %s\n", render.Visible(h))
	}
	return nil
}

// showUnclear shows what there is to see of columns whose meaning is not clear.
func (a *app) showUnclear(u *roster.Unclear) {
	fmt.Fprintf(a.out, "%s: %s\n", render.Visible(u.Source), render.Visible(u.Form))
	var rows [][]string
	for i, s := range u.Columns {
		rows = append(rows, []string{strconv.Itoa(i + 1), render.Visible(s.Header), render.Visible(s.Value), s.May})
	}
	render.Table(a.out, a.style(nil), []string{"Column", "Header", "First value", "May be"}, rows, 2, 1)
}

// reconciliationResult writes a reconciliation.
func (a *app) reconciliationResult(r *render.Reconciliation, st render.Style) *result {
	parts := func() []sheet.Sheet { return render.ReconciliationSheets(r) }
	return &result{parts: parts, rows: func() *sheet.Sheet { return render.FindingsSheet(r.Findings) }, style: st, table: func(w io.Writer, st render.Style) { render.Reconciled(w, r, st) }, write: map[string]func(io.Writer) error{
		formatJSON:  func(w io.Writer) error { return render.ReconciliationJSON(w, r) },
		formatJSONL: func(w io.Writer) error { return render.FindingsJSONL(w, r.Findings) },
		formatXLSX:  func(w io.Writer) error { return render.XLSX(w, parts(), st) },
		formatHTML: func(w io.Writer) error {
			page, err := render.ReconciliationPage(r, st.Zone, a.now())
			if err != nil {
				return err
			}
			return a.writePage(w, page)
		},
	}}
}
