package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"yardbroom/internal/render"
	"yardbroom/internal/sheet"
	"yardbroom/internal/source"
	"yardbroom/internal/wording"
)

func (a *app) surveyCommand() *cli.Command {
	return &cli.Command{
		Name: "survey", Usage: "read a yard and keep what was read; list the kept surveys",
		Flags: append(append(fromFlags(), outputFlags(rowFormats)...),
			&cli.StringFlag{Name: "name", Usage: "keep it under `NAME` (default: the yard and the time)"},
			&cli.BoolFlag{Name: "full", Usage: "read everything, not only what has changed since the last survey"},
			&cli.BoolFlag{Name: "list", Usage: "list the kept surveys and read nothing"},
			&cli.BoolFlag{Name: "prune", Usage: "remove the surveys, audits and runs that the settings (keep:) keep no longer, and read nothing"},
			&cli.BoolFlag{Name: "dry-run", Usage: "with --prune: show what would be removed"},
		),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if err := a.noArguments(cmd); err != nil {
				return err
			}
			switch {
			case cmd.Bool("dry-run") && !cmd.Bool("prune"):
				return usage("--dry-run goes with --prune")
			case cmd.Bool("list") && cmd.Bool("prune"):
				return usage("give --list or --prune, not both")
			case cmd.Bool("prune"):
				return a.pruneSurveys(ctx, cmd.Bool("dry-run"))
			case cmd.Bool("list"):
				return a.listSurveys(cmd)
			}
			p, err := a.work.Open(ctx, from(cmd))
			if err != nil {
				return err
			}
			defer p.Close()
			m, err := a.work.KeepSurvey(ctx, p, cmd.String("name"), cmd.Bool("full"))
			if err != nil {
				return err
			}
			fmt.Fprintf(a.out, "kept %s: %d entries of %s\n%sread it with: yardbroom audit --from %s\n", m.Name,
				m.Entries, render.Visible(m.Identity.Base), howRead(m), m.Name)
			if !m.Complete && p.Broken == 0 {
				a.note("note: it is not whole: %s", strings.Join(m.Gaps().Describe(), ", "))
			}
			if p.Broken > 0 {
				return fmt.Errorf("%s: %s could not be read and were left out", p.Where(),
					wording.Count(p.Broken, "record"))
			}
			return nil
		},
	}
}

// howRead says what was read for a survey of a server: only what had changed, or all and why.
func howRead(m *source.Manifest) string {
	switch {
	case m.Since != "":
		what := "nothing has changed"
		if m.Changed+m.Gone > 0 {
			what = fmt.Sprintf("%d new or changed, %d gone", m.Changed, m.Gone)
		}
		return fmt.Sprintf("only changes were read: %s since %s\neverything was read last on %s (read it again with --full)\n",
			what, m.Since, wording.Moment(m.Full, time.Local))
	case m.FullWhy != "":
		return "everything was read: " + render.Visible(m.FullWhy) + "\n"
	}
	return ""
}

func (a *app) listSurveys(cmd *cli.Command) error {
	all, folder, err := a.work.Surveys()
	if err != nil {
		return err
	}
	if len(all) == 0 {
		a.note("no survey is kept in %s", folder)
		return nil
	}
	list := &sheet.Sheet{Name: "surveys", Columns: []sheet.Column{
		column("survey", "Survey", sheet.Text), column("taken", "Taken", sheet.Time), column("entries", "Entries", sheet.Number),
		column("whole", "Whole", sheet.Truth), column("changed", "Changed", sheet.Number), column("gone", "Gone", sheet.Number),
		column("since", "Since", sheet.Text), column("base", "Base", sheet.Text), column("source", "Source", sheet.Text),
	}}
	for _, m := range all {
		list.Rows = append(list.Rows, []any{m.Name, m.Taken, m.Entries, m.Complete, ofChanges(m, m.Changed), ofChanges(m, m.Gone), m.Since, m.Identity.Base, m.Source})
	}
	return a.writeList(cmd, list, a.style(time.Local), 8, 7, 6)
}

// ofChanges is a count of a survey for which only changes were read, nothing of others.
func ofChanges(m *source.Manifest, n int) any {
	if m.Since == "" {
		return nil
	}
	return n
}

// mostPruned is how many surveys are named that go.
const mostPruned = 20

// pruneSurveys removes what is kept no longer, or only shows it.
func (a *app) pruneSurveys(ctx context.Context, only bool) error {
	old, err := a.work.Prunable(ctx)
	if err != nil {
		return err
	}
	stay := fmt.Sprintf("%s, %s and %s stay", wording.Count(old.Stay[0], "survey"), wording.Count(old.Stay[1], "audit"),
		wording.Count(old.Stay[2], "run"))
	if old.Nothing() {
		fmt.Fprintln(a.out, "nothing to remove; "+stay)
		return nil
	}
	for i, m := range old.Surveys {
		if i == mostPruned {
			fmt.Fprintf(a.out, "and %d more\n", len(old.Surveys)-i)
			break
		}
		fmt.Fprintf(a.out, "survey %s, taken %s\n", m.Name, wording.Moment(m.Taken, time.Local))
	}
	verb := "to remove"
	if !only {
		if err := a.work.Prune(ctx, old); err != nil {
			return err
		}
		verb = "removed"
	}
	fmt.Fprintf(a.out, "%s: %s, %d MB; %s\n", verb, old, old.Octets>>20, stay)
	return nil
}
