package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"yardbroom/internal/render"
	"yardbroom/internal/settings"
	"yardbroom/internal/work"
)

func (a *app) exemptCommand() *cli.Command {
	return &cli.Command{
		Name: "exempt", Usage: "accounts deliberately left alone: add, list, end",
		Description: help("exempt"),
		Commands: []*cli.Command{
			{
				Name: "add", Usage: "leave an account alone, or a subtree, or what a filter selects", ArgsUsage: "[ACCOUNT]",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "reason", Usage: "why, as `TEXT`; required"},
					&cli.StringFlag{Name: "owner", Usage: "`WHO` answers for it; required"},
					&cli.StringFlag{
						Name:  "until",
						Usage: "the last `DATE` it holds (2027-06-30), or a span from now (90d, 12w, 6mo)",
					},
					&cli.StringSliceFlag{
						Name:  "check",
						Usage: "only from the check `NAME`; may be given several times",
					},
					&cli.StringFlag{Name: "dn", Usage: "the entry with this `DN`, instead of ACCOUNT"},
					&cli.StringFlag{Name: "subtree", Usage: "everything at or below this `DN`"},
					&cli.StringFlag{Name: "filter", Usage: "what this RFC 4515 `FILTER` selects"},
					&cli.StringFlag{
						Name:  "person",
						Usage: "the person of the roster with this `ID`, who needs no account",
					},
				},
				Action: a.exemptAdd,
			},
			{Name: "list", Usage: "the exemptions, of the settings and added here", Action: a.exemptList},
			{Name: "end", Usage: "end an exemption that was added here", ArgsUsage: "NUMBER", Action: a.exemptEnd},
		},
	}
}

func (a *app) exemptAdd(ctx context.Context, cmd *cli.Command) error {
	if cmd.Args().Len() > 1 {
		return usage("give one account; \"%s --help\" shows how", cmd.FullName())
	}
	e := settings.Exemption{
		Match: settings.Match{
			Account: cmd.Args().First(),
			DN:      cmd.String("dn"),
			Subtree: cmd.String("subtree"),
			Filter:  cmd.String("filter"),
			Person:  cmd.String("person"),
		},
		Checks: checkNames(cmd), Reason: cmd.String("reason"), Owner: cmd.String("owner"), Until: cmd.String("until"),
	}
	kept, err := a.work.Exempt(ctx, e)
	if wrong := (work.RequestError{}); errors.As(err, &wrong) {
		return usage("%w; \"%s --help\" shows how", err, cmd.FullName())
	}
	if err != nil {
		return err
	}
	fmt.Fprintf(a.out, "exemption %d: %s is left alone%s%s\n", kept.Number, render.Visible(kept.Match.String()),
		inChecks(kept.Checks), untilText(kept.Until))
	return nil
}

func inChecks(names []string) string {
	if len(names) == 0 {
		return " in every check"
	}
	return " in " + strings.Join(names, ", ")
}

func untilText(until string) string {
	if until == "" {
		return ", without end"
	}
	return ", until " + until
}

func (a *app) exemptList(ctx context.Context, cmd *cli.Command) error {
	if err := noArguments(cmd); err != nil {
		return err
	}
	all, err := a.work.Exemptions(ctx)
	if err != nil {
		return err
	}
	var rows [][]string
	for i := range all {
		e := &all[i]
		number := "settings"
		if e.Number != 0 {
			number = strconv.Itoa(e.Number)
		}
		checks := "every check"
		if len(e.Checks) > 0 {
			checks = strings.Join(e.Checks, ", ")
		}
		state := cmp.Or(e.Until, "without end")
		if e.Ended(a.now()) {
			state += " (ended)"
		}
		rows = append(
			rows,
			[]string{
				number,
				render.Visible(e.Match.String()),
				checks,
				render.Visible(e.Reason),
				render.Visible(e.Owner),
				state,
			},
		)
	}
	if len(rows) == 0 {
		a.note("nothing is exempt")
		return nil
	}
	render.Table(a.out, a.style(nil), []string{"Number", "Left alone", "In", "Reason", "Owner", "Until"}, rows, 1, 2, 3,
		4)
	return nil
}

func (a *app) exemptEnd(ctx context.Context, cmd *cli.Command) error {
	n, err := strconv.Atoi(cmd.Args().First())
	if err != nil || cmd.Args().Len() != 1 {
		return usage(
			"give the number of one exemption; \"yardbroom exempt list\" shows them (those of the settings end there)")
	}
	if err := a.work.EndExemption(ctx, n); err != nil {
		return err
	}
	fmt.Fprintf(a.out, "exemption %d is ended\n", n)
	return nil
}
