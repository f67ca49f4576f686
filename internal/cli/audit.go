package cli

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"yardbroom/internal/audit"
	"yardbroom/internal/directory"
	"yardbroom/internal/render"
)

func (a *app) auditCommand() *cli.Command {
	return &cli.Command{
		Name: "audit", Usage: "report what is untidy, check by check",
		Flags: append(fromFlags(), asOfFlag(), activityFlag(),
			&cli.StringSliceFlag{Name: "check", Usage: "only the check `NAME`; may be given several times"},
			&cli.StringFlag{Name: "format", Value: "table", Usage: "table, csv, json or jsonl"},
			&cli.StringFlag{Name: "output", Usage: "write to `FILE`, whole or not at all"},
			&cli.IntFlag{Name: "limit", Value: 5, Usage: "rows a check in a table; 0 for all (with --check all are shown)"},
			&cli.StringFlag{Name: "since", Usage: "compare with a kept `SURVEY`: show what is new, count what is still there or gone"},
			&cli.StringFlag{Name: "fail-on", Usage: "exit with status 3 if there is a finding of this `SEVERITY` or above"},
		),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if err := noArguments(cmd); err != nil {
				return err
			}
			format := cmd.String("format")
			if !slices.Contains([]string{"table", "csv", "json", "jsonl"}, format) {
				return usage("--format: %q is none of table, csv, json, jsonl", format)
			}
			failOn, fail, err := failOn(cmd)
			if err != nil {
				return err
			}
			p, err := a.open(ctx, cmd)
			if err != nil {
				return err
			}
			defer p.Close()
			report, err := a.judge(ctx, cmd, p, cmd.StringSlice("check"))
			if err != nil {
				return err
			}
			st := a.style(p.location())
			if st.Limit = cmd.Int("limit"); len(cmd.StringSlice("check")) > 0 && !cmd.IsSet("limit") {
				st.Limit = 0
			}
			if since := cmd.String("since"); since != "" {
				return a.auditSince(ctx, cmd, p, report, since, format, st)
			}
			if err := a.result(cmd.String("output"), func(w io.Writer) error { return writeReport(w, format, report, st) }); err != nil {
				return err
			}
			a.tellNotes(report, format)
			return verdict(p, report.Findings, failOn, fail)
		},
	}
}

func writeReport(w io.Writer, format string, r *audit.Report, st render.Style) error {
	switch format {
	case "csv":
		return render.FindingsCSV(w, r.Findings)
	case "json":
		return render.ReportJSON(w, r)
	case "jsonl":
		return render.FindingsJSONL(w, r.Findings)
	}
	render.Report(w, r, st)
	return nil
}

// tellNotes says on standard error what the result alone does not say.
func (a *app) tellNotes(r *audit.Report, format string) {
	for _, n := range r.Notes {
		a.note("note: %s", n)
	}
	if format == "table" || format == "json" {
		return
	}
	for _, s := range r.Summary {
		for _, why := range s.NotLooked {
			a.note("note: %s not looked at: %s", s.Check, why)
		}
	}
}

func failOn(cmd *cli.Command) (audit.Severity, bool, error) {
	name := cmd.String("fail-on")
	if name == "" {
		return 0, false, nil
	}
	severity, err := audit.ParseSeverity(name)
	if err != nil {
		return 0, false, usage("--fail-on: %w", err)
	}
	return severity, true, nil
}

// verdict turns a report into an exit status.
func verdict(p *place, findings []audit.Finding, failOn audit.Severity, fail bool) error {
	if p.broken > 0 {
		return fmt.Errorf("%s: %s could not be read and were left out", p.Where(), render.Count(p.broken, "record"))
	}
	if fail && slices.ContainsFunc(findings, func(f audit.Finding) bool { return f.Severity >= failOn }) {
		return &exitError{status: exitFindings}
	}
	return nil
}

func noArguments(cmd *cli.Command) error {
	if cmd.Args().Present() {
		return usage("%s takes no arguments, and %q is one; \"%s --help\" shows how", cmd.FullName(), cmd.Args().First(), cmd.FullName())
	}
	return nil
}

func (a *app) checksCommand() *cli.Command {
	return &cli.Command{
		Name: "checks", Usage: "what each check means", ArgsUsage: "[NAME]",
		Action: func(_ context.Context, cmd *cli.Command) error {
			if name := cmd.Args().First(); name != "" {
				c, err := audit.Named(name)
				if err != nil {
					return usage("%w", err)
				}
				a.explain(c)
				return nil
			}
			var rows [][]string
			for _, c := range audit.Checks {
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
		kinds = append(kinds, k.String()+"s")
	}
	about := strings.Join(kinds, ", ")
	if slices.Contains(c.Kinds, directory.KindOther) {
		about = "entries of any kind"
	}
	fmt.Fprintf(a.out, "%s: %s, about %s", render.Heading(c.Name, st), c.Severity, about)
	if len(c.Suggest) > 0 {
		fmt.Fprintf(a.out, ", cleared by %s", strings.Join(c.Suggest, " or "))
	}
	switch word := a.set.Audit.Checks[c.Name]; {
	case word != "":
		fmt.Fprintf(a.out, ". In the settings: %s", word)
	case c.Off:
		fmt.Fprint(a.out, ". Off unless asked for")
	}
	fmt.Fprint(a.out, "\n\n", render.Paragraphs(c.Doc(), st))
}
