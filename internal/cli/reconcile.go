package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"

	"github.com/urfave/cli/v3"

	"yardbroom/internal/calendar"
	"yardbroom/internal/render"
	"yardbroom/internal/roster"
	"yardbroom/internal/sheet"
	"yardbroom/internal/store"
)

func (a *app) reconcileCommand() *cli.Command {
	return &cli.Command{
		Name: "reconcile", Usage: "people against accounts: who has left, who is nobody, who has none",
		Description: "Compares HR's list of people with the accounts. What is found rests on links that somebody has confirmed, on person ids, mail addresses and\nsign-in names (sure), or on names and what supports them (likely). Where two answers are nearly as good it says so and does not guess:\n\"yardbroom link confirm ACCOUNT PERSON\" settles it for good. The roster is kept as the yard's last one, for audit, show and stage.",
		Flags: slices.Concat(rosterFlags(), fromFlags(), []cli.Flag{asOfFlag(),
			&cli.BoolFlag{Name: "strict", Usage: "match by links and keys that are exactly alike only, not by names"},
			&cli.BoolFlag{Name: "show-mapping", Usage: "say which column is read as what, and stop"},
			&cli.StringFlag{Name: "pairs", Usage: "write every pair as CSV to `FILE`: row,person_id,account,dn,key,score"},
			&cli.StringFlag{Name: "since", Usage: "show only what is new since a `RUN`: \"last\", or the last one at or before a date or time"},
			&cli.StringSliceFlag{Name: "check", Usage: "only the check `NAME` of the roster; may be given several times"},
			&cli.IntFlag{Name: "limit", Value: 5, Usage: "rows a check in a table; 0 for all (with --check all are shown)"},
			&cli.StringFlag{Name: "fail-on", Usage: "exit with status 3 if there is a finding of this `SEVERITY` or above"},
		}, outputFlags(allFormats)),
		Action: a.reconcile,
	}
}

func (a *app) reconcile(ctx context.Context, cmd *cli.Command) error {
	end, err := a.outcome(cmd)
	if err != nil {
		return err
	}
	checks, err := a.rosterChecks(cmd)
	if err != nil {
		return err
	}
	if cmd.Bool("show-mapping") {
		return a.showMapping(ctx, cmd)
	}
	p, err := a.open(ctx, cmd)
	if err != nil {
		return err
	}
	defer p.Close()
	list, err := a.roster(ctx, cmd, p) // before the directory: it is the smaller one, and more often wrong
	if err != nil {
		return err
	}
	if list == nil {
		return usage("the yard has no roster yet: give HR's list of people with --roster")
	}
	survey, err := p.Survey(ctx)
	if err != nil {
		return err
	}
	asOf, err := a.asOf(cmd, p.location(), survey)
	if err != nil {
		return err
	}
	result, err := a.match(ctx, p, survey, asOf, list, cmd.Bool("strict"))
	if err != nil {
		return err
	}
	report, err := a.run(ctx, p, survey, result, asOf, checks, "")
	if err != nil {
		return err
	}
	if err := a.named(ctx, p, survey, cmd.IsSet("fail-on")); err != nil {
		return err
	}
	r := &render.Reconciliation{Report: report, Roster: list.about, Bad: list.roster.Bad, Confirm: func(account, person string) string {
		words := []string{"yardbroom", "link", "confirm"}
		if from := cmd.String("from"); from != "" {
			words = append(words, "--from", from)
		}
		return quoted(append(words, account, person))
	}}
	if err := a.remember(ctx, cmd, p, list, r); err != nil {
		return err
	}
	if path := cmd.String("pairs"); path != "" {
		if err := a.result(path, func(w io.Writer) error { return render.SheetCSV(w, render.PairsSheet(result)) }); err != nil {
			return err
		}
		if path != "-" {
			a.note("written: %s", path)
		}
	}
	st := a.style(p.zone())
	if st.Limit = cmd.Int("limit"); len(checkNames(cmd)) > 0 && !cmd.IsSet("limit") {
		st.Limit = 0
	}
	if err := a.deliver(end.targets, a.reconciliationResult(r, st)); err != nil {
		return err
	}
	a.tellNotes(report, end.targets)
	return end.verdict(p, report.Findings)
}

// rosterChecks are the checks to run: those of the roster, or those of them
// that were asked for.
func (a *app) rosterChecks(cmd *cli.Command) ([]string, error) {
	asked := checkNames(cmd)
	for _, name := range asked {
		c, err := a.catalog.Named(name)
		if err != nil {
			return nil, usage("--check: %w", err)
		}
		if !c.ByRoster {
			return nil, usage("--check: %s looks at no roster; \"yardbroom audit\" runs it", name)
		}
	}
	if len(asked) > 0 {
		return asked, nil
	}
	var all []string
	for _, c := range a.catalog {
		if c.ByRoster && !c.IsOff(&a.set.Audit) {
			all = append(all, c.Name)
		}
	}
	return all, nil
}

// showMapping says how a roster is read, and reads no directory.
func (a *app) showMapping(ctx context.Context, cmd *cli.Command) error {
	if cmd.String("roster") == "" {
		return usage("--show-mapping needs --roster: what is kept has no columns any more")
	}
	list, err := a.roster(ctx, cmd, nil)
	if unclear := (*roster.Unclear)(nil); errors.As(err, &unclear) {
		a.showUnclear(unclear)
	}
	if err != nil {
		return err
	}
	fmt.Fprintf(a.out, "%s: %s, %s", render.Visible(list.roster.Source), render.Visible(list.roster.Form), render.Count(len(list.roster.Rows), "row"))
	if list.roster.DateOrder != "" {
		fmt.Fprintf(a.out, ", dates %s", list.roster.DateOrder)
	}
	fmt.Fprintln(a.out)
	var rows [][]string
	for _, m := range list.roster.Mapping {
		rows = append(rows, []string{m.Field.String(), strconv.Itoa(m.Column), render.Visible(m.Header), m.How, render.Visible(list.roster.Rows[0].Values[m.Field])})
	}
	render.Table(a.out, a.style(nil), []string{"Field", "Column", "Header", "Found", "First row"}, rows, 4, 2)
	for _, h := range list.roster.Unused {
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

// remember keeps the roster, who has which account, and what was found; and
// takes out what an earlier run had found, where that was asked for.
func (a *app) remember(ctx context.Context, cmd *cli.Command, p *place, list *people, r *render.Reconciliation) error {
	id, err := p.Identity(ctx)
	if err != nil {
		a.note("note: nothing is remembered of this comparison: %v", err)
		if cmd.IsSet("since") {
			return fmt.Errorf("--since: %w", err)
		}
		return nil
	}
	yard := yardKey(id)
	s, err := a.openStore(ctx)
	if err != nil {
		return err
	}
	defer s.Close()
	earlier, err := a.earlierRun(ctx, cmd, p, s, yard)
	if err != nil {
		return err
	}
	if err := a.keepRoster(ctx, p, list, r.People); err != nil {
		return err
	}
	found := make([]string, len(r.Findings))
	for i := range r.Findings {
		found[i] = strconv.Quote(r.Findings[i].Sameness())
	}
	if len(checkNames(cmd)) == 0 && !cmd.Bool("strict") { // a part would make the rest seem new
		if err := s.AddReconciliation(ctx, yard, &store.Reconciliation{At: a.now(), Found: found}); err != nil {
			return err
		}
	}
	if earlier != nil {
		r.Since = earlier.At
		r.Report, r.Known = r.Report.Without(earlier.Found, found)
	}
	return nil
}

// earlierRun is the run that --since means, nil where it is not given.
func (a *app) earlierRun(ctx context.Context, cmd *cli.Command, p *place, s *store.Store, yard string) (*store.Reconciliation, error) {
	text := cmd.String("since")
	if text == "" {
		return nil, nil
	}
	at := a.now()
	if text != "last" {
		var err error
		if at, err = calendar.ParseTime(text, p.location()); err != nil {
			return nil, usage("--since: %w, or \"last\"", err)
		}
	}
	earlier, err := s.ReconciliationBefore(ctx, yard, at)
	if err == nil && earlier == nil {
		err = fmt.Errorf("--since %s: no comparison of this yard with a roster is remembered from then", text)
	}
	return earlier, err
}

// reconciliationResult writes a reconciliation.
func (a *app) reconciliationResult(r *render.Reconciliation, st render.Style) *result {
	parts := func() []sheet.Sheet { return render.ReconciliationSheets(r) }
	return &result{parts: parts, write: map[string]func(io.Writer) error{
		formatTable: func(w io.Writer) error { render.Reconciled(w, r, st); return nil },
		formatCSV:   func(w io.Writer) error { return render.SheetCSV(w, render.FindingsSheet(r.Findings)) },
		formatTSV:   func(w io.Writer) error { return render.SheetTSV(w, render.FindingsSheet(r.Findings)) },
		formatJSON:  func(w io.Writer) error { return render.ReconciliationJSON(w, r) },
		formatJSONL: func(w io.Writer) error { return render.FindingsJSONL(w, r.Findings) },
		formatXLSX:  func(w io.Writer) error { return render.XLSX(w, parts(), st) },
		formatHTML: func(w io.Writer) error {
			page, err := render.ReconciliationPage(r, st.Zone, a.now())
			if err != nil {
				return err
			}
			return page.Write(w)
		},
	}}
}
