package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"yardbroom/internal/render"
	"yardbroom/internal/source"
	"yardbroom/internal/wording"
)

func (a *app) surveyCommand() *cli.Command {
	return &cli.Command{
		Name: "survey", Usage: "read a yard and keep what was read; list the kept surveys",
		Flags: append(fromFlags(),
			&cli.StringFlag{Name: "name", Usage: "keep it under `NAME` (default: the yard and the time)"},
			&cli.BoolFlag{Name: "list", Usage: "list the kept surveys and read nothing"},
		),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if err := noArguments(cmd); err != nil {
				return err
			}
			if cmd.Bool("list") {
				return a.listSurveys()
			}
			p, err := a.work.Open(ctx, from(cmd))
			if err != nil {
				return err
			}
			defer p.Close()
			m, err := a.work.KeepSurvey(ctx, p, cmd.String("name"))
			if err != nil {
				return err
			}
			fmt.Fprintf(a.out, "kept %s: %d entries of %s\nread it with: yardbroom audit --from %s\n", m.Name,
				m.Entries, render.Visible(m.Identity.Base), m.Name)
			if !m.Complete && p.Broken == 0 {
				a.note("note: it is not whole: %s", strings.Join(missing(m), ", "))
			}
			if p.Broken > 0 {
				return fmt.Errorf("%s: %s could not be read and were left out", p.Where(),
					wording.Count(p.Broken, "record"))
			}
			return nil
		},
	}
}

// missing says why a kept survey is not whole.
func missing(m *source.Manifest) (why []string) {
	for _, one := range []struct {
		n    int
		what string
	}{{m.Referrals, "references to other servers were not followed"}, {m.Outside, "entries outside the base were left out"}, {m.Twice, "entries came twice"}, {m.Hidden, "entries do not show all to this account"}} {
		if one.n > 0 {
			why = append(why, fmt.Sprintf("%d %s", one.n, one.what))
		}
	}
	return why
}

func (a *app) listSurveys() error {
	all, folder, err := a.work.Surveys()
	if err != nil {
		return err
	}
	if len(all) == 0 {
		a.note("no survey is kept in %s", folder)
		return nil
	}
	var rows [][]string
	for _, m := range all {
		whole := "no"
		if m.Complete {
			whole = "yes"
		}
		rows = append(
			rows,
			[]string{
				m.Name,
				m.Taken.Format(time.RFC3339),
				fmt.Sprint(m.Entries),
				whole,
				render.Visible(m.Identity.Base),
				render.Visible(m.Source),
			},
		)
	}
	render.Table(a.out, a.style(nil), []string{"Survey", "Taken", "Entries", "Whole", "Base", "Source"}, rows, 5, 4)
	return nil
}
