package cli

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"yardbroom/internal/audit"
	"yardbroom/internal/calendar"
	"yardbroom/internal/directory"
	"yardbroom/internal/render"
	"yardbroom/internal/sheet"
	"yardbroom/internal/source"
	"yardbroom/internal/wording"
	"yardbroom/internal/work"
)

func (a *app) auditCommand() *cli.Command {
	return &cli.Command{
		Name: "audit", Usage: "report what is untidy, check by check",
		Flags: slices.Concat(readFlags(), conditionFlags(), signInFlags(), []cli.Flag{asOfFlag(), kindFlag("all"),
			&cli.StringSliceFlag{Name: "check", Usage: "only the check `NAME`; may be given several times"},
			limitFlag("rows a check", 5), briefFlag(),
			&cli.StringFlag{
				Name:  "since",
				Usage: "show only what is new since an audit that is remembered, `last` or the last one at or before a date; or compare with a kept survey",
			},
			newToFlag(), rememberFlag(), namesFlag(),
			&cli.StringFlag{
				Name:  "fail-on",
				Usage: "exit with status 3 if there is a finding of this `SEVERITY` or above",
			}, noRosterFlag(),
		}, rosterFlags(), outputFlags(allFormats)),
		Action: a.audit,
	}
}

func (a *app) audit(ctx context.Context, cmd *cli.Command) error {
	end, err := a.outcome(cmd)
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
	p, err := a.work.Open(ctx, from(cmd))
	if err != nil {
		return err
	}
	defer p.Close()
	report, err := a.work.Judge(ctx, p, &q)
	if err != nil {
		return err
	}
	chosen, err := a.choose(ctx, p, asked, &q)
	if err != nil {
		return err
	}
	missing := a.work.NoteMissing
	if cmd.IsSet("fail-on") {
		missing = a.work.RefuseMissing
	}
	if err := missing(ctx, p, report.Survey); err != nil {
		return err
	}
	if err := a.work.CountNew(ctx, p, report); err != nil {
		return err
	}
	st, err := a.findingStyle(cmd, p.Zone())
	if err != nil {
		return err
	}
	before, remembered, err := a.notNew(cmd)
	if err != nil {
		return err
	}
	var memory work.Memory
	if remembered {
		if report, memory, err = a.work.Remember(ctx, p, &q, report, before); err != nil {
			return err
		}
	}
	memory, report = chosen.OfMemory(memory, report), chosen.Of(report)
	trend := func() (*work.Trend, error) { return a.work.TrendSoFar(ctx, p) }
	out, findings := a.reportResult(report, trend, st), report.Findings
	if since := cmd.String("since"); since != "" && !remembered {
		c, err := a.compare(ctx, p, report, &earlierQuestion{at(cmd, since), &q, asked, chosen})
		if err != nil {
			return err
		}
		out, findings = a.sinceResult(c, st), c.New
	}
	if err := a.deliver(end.targets, out); err != nil {
		return err
	}
	if err := a.told(ctx, before, memory); err != nil {
		return err
	}
	a.tellNotes(report, end.targets)
	return end.verdict(p, findings)
}

// findingStyle is how findings are shown: some of each check, or all of those asked for.
func (a *app) findingStyle(cmd *cli.Command, zone *time.Location) (st render.Style, err error) {
	st = a.style(zone)
	st.Brief = cmd.Bool("brief")
	usual := 5
	if len(checkNames(cmd)) > 0 {
		usual = 0
	}
	st.Limit, err = a.limitOf(cmd, st, usual)
	return st, err
}

func briefFlag() cli.Flag {
	return &cli.BoolFlag{Name: "brief", Usage: "a line a row: what does not fit the terminal is cut"}
}

func newToFlag() cli.Flag {
	return &cli.StringFlag{
		Name:  "new-to",
		Usage: "show only what was not shown to `READER` before, a name of your choice",
	}
}

// notNew is what the command line says of findings that are not new; false where
// it says nothing, or names a survey.
func (a *app) notNew(cmd *cli.Command) (work.Before, bool, error) {
	since, reader := cmd.String("since"), cmd.String("new-to")
	switch {
	case since != "" && reader != "":
		return work.Before{}, false, usage("give --since or --new-to, not both")
	case reader != "":
		return work.Before{Reader: reader}, true, nil
	}
	b, remembered := work.BeforeMoment(a.sinceDay(since))
	b.Keep = cmd.Bool("remember")
	return b, remembered || b.Keep && since == "", nil
}

// sinceDay is the date that a word for a day means, such as monday or yesterday: the
// last such day. Where a kept survey is called so, that is meant; which one it is is
// said either way.
func (a *app) sinceDay(since string) string {
	day, err := calendar.ParseDay(since, a.now())
	if err != nil {
		return since
	}
	kept, _, err := a.work.Surveys()
	date := day.Format(time.DateOnly)
	if err == nil && slices.ContainsFunc(kept, func(m *source.Manifest) bool { return m.Name == since }) {
		a.note("note: %s is taken as the kept survey of this name; for the day say --since %s", since, date)
		return since
	}
	a.note("note: %s is taken as the day %s", since, date)
	return date
}

// rememberFlag keeps what was found for later comparisons.
func rememberFlag() cli.Flag {
	return &cli.BoolFlag{Name: "remember", Usage: "remember what is found, as rounds do: --since last counts from it"}
}

// told remembers that a reader was told, once the result is delivered.
func (a *app) told(ctx context.Context, before work.Before, memory work.Memory) error {
	if before.Reader == "" {
		return nil
	}
	return a.work.TellReader(ctx, before.Reader, memory)
}

// reportResult writes a report.
func (a *app) reportResult(r *audit.Report, trend func() (*work.Trend, error), st render.Style) *result {
	return &result{
		parts: func() []sheet.Sheet { return render.CheckSheets(r) },
		names: func() []string { return render.FindingNames(r.Findings) },
		rows:  func() *sheet.Sheet { return render.FindingsSheet(r.Findings) }, style: st, table: func(w io.Writer, st render.Style) { render.Report(w, r, st) }, write: map[string]func(io.Writer) error{
			formatJSON:  func(w io.Writer) error { return render.ReportJSON(w, r) },
			formatJSONL: func(w io.Writer) error { return render.FindingsJSONL(w, r.Findings) },
			formatXLSX:  func(w io.Writer) error { return render.XLSX(w, render.ReportSheets(r), st) },
			formatHTML: func(w io.Writer) error {
				before, err := trend()
				if err != nil {
					return err
				}
				page, err := render.ReportPage(r, before, st.Zone, a.now())
				if err != nil {
					return err
				}
				return a.writePage(w, page)
			},
		},
	}
}

// tellNotes says on standard error what the result alone does not say.
func (a *app) tellNotes(r *audit.Report, targets []target) {
	for _, n := range r.Notes {
		a.note("note: %s", n)
	}
	if slices.ContainsFunc(targets,
		func(t target) bool { return t.format != formatCSV && t.format != formatTSV && t.format != formatJSONL }) {
		return
	}
	for _, s := range r.Summary {
		for _, why := range s.NotLooked {
			a.note("note: %s not looked at: %s", s.Check, why)
		}
	}
}

// outcome is where findings go, and what exit status they make.
type outcome struct {
	targets []target
	fails   bool
	from    audit.Severity // on
}

// outcome reads what the command line says of it, and refuses arguments.
func (a *app) outcome(cmd *cli.Command) (end outcome, err error) {
	if err := a.noArguments(cmd); err != nil {
		return end, err
	}
	if end.targets, err = a.targets(cmd, allFormats); err != nil {
		return end, err
	}
	if name := cmd.String("fail-on"); name != "" {
		if end.from, err = audit.ParseSeverity(name); err != nil {
			return end, usage("--fail-on: %w", err)
		}
		end.fails = true
	}
	return end, nil
}

// verdict turns findings into an exit status.
func (end *outcome) verdict(p *work.Place, findings []audit.Finding) error {
	if p.Broken > 0 {
		return fmt.Errorf("%s: %s could not be read and were left out", p.Where(), wording.Count(p.Broken, "record"))
	}
	if end.fails && slices.ContainsFunc(findings, func(f audit.Finding) bool { return f.Severity >= end.from }) {
		return &exitError{status: exitFindings}
	}
	return nil
}

func (a *app) checksCommand() *cli.Command {
	return &cli.Command{
		Name: "checks", Usage: "what each check means", ArgsUsage: "[NAME]",
		Action: func(_ context.Context, cmd *cli.Command) error {
			if name := cmd.Args().First(); name != "" {
				c, err := a.work.Catalog.Named(name)
				if err != nil {
					return usage("%w", err)
				}
				a.explain(c)
				return nil
			}
			var rows [][]string
			for _, c := range a.work.Catalog {
				rows = append(rows, []string{c.Name, c.Severity.String(), c.Short, strings.Join(c.Suggest, ", ")})
			}
			render.Table(a.out, a.style(nil), []string{"Check", "Severity", "Reports", "Actions"}, rows, 2)
			return nil
		},
	}
}

// explain writes all there is to say of a check.
func (a *app) explain(c *audit.Check) {
	st := a.style(nil)
	var kinds []string
	for _, k := range c.Kinds {
		kinds = append(kinds, wording.Plural(k.String()))
	}
	about := strings.Join(kinds, ", ")
	if slices.Contains(c.Kinds, directory.KindOther) {
		about = "entries of any kind"
	}
	fmt.Fprintf(a.out, "%s: %s, about %s", render.Heading(c.Name, st), c.Severity, about)
	if len(c.Suggest) > 0 {
		fmt.Fprintf(a.out, ", cleared by %s", strings.Join(c.Suggest, " or "))
	}
	switch word := a.work.Settings.Audit.Checks[c.Name]; {
	case word != "":
		fmt.Fprintf(a.out, ". In the settings: %s", word)
	case c.Off:
		fmt.Fprint(a.out, ". Off unless asked for")
	}
	fmt.Fprint(a.out, "\n\n", render.Paragraphs(c.Doc(), st))
}
