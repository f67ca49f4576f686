package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"yardbroom/internal/render"
	"yardbroom/internal/settings"
	"yardbroom/internal/sheet"
	"yardbroom/internal/work"
)

func (a *app) exemptCommand() *cli.Command {
	return &cli.Command{
		Name: "exempt", Usage: "accounts deliberately left alone: add, list, end",
		Description: help("exempt"),
		Commands: []*cli.Command{
			{
				Name: "add", Usage: "leave accounts alone, or a subtree, or what a filter selects", ArgsUsage: "[ACCOUNT…]",
				Flags: slices.Concat([]cli.Flag{
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
					&cli.StringFlag{Name: "subtree", Usage: "everything at or below this `DN`, also what comes later"},
					&cli.StringFlag{
						Name:  "person",
						Usage: "the person of the roster with this `ID`, who needs no account",
					},
					asOfFlag(), kindFlag("users"),
				}, conditionFlags(), signInFlags(), fromFlags()),
				Action: a.exemptAdd,
			},
			{Name: "list", Usage: "the exemptions, of the settings and added here", Flags: outputFlags(rowFormats), Action: a.exemptList},
			{Name: "end", Usage: "end an exemption that was added here", ArgsUsage: "NUMBER", Action: a.exemptEnd},
		},
	}
}

func (a *app) exemptAdd(ctx context.Context, cmd *cli.Command) error {
	e := settings.Exemption{Checks: checkNames(cmd), Reason: cmd.String("reason"), Owner: cmd.String("owner"), Until: cmd.String("until")}
	matches, err := a.exemptMatches(ctx, cmd)
	if err != nil {
		return err
	}
	if len(matches) == 0 {
		matches = []settings.Match{{}} // which is refused
	}
	for _, e.Match = range matches { // all of them are looked at before one is kept
		err := a.work.CheckExemption(ctx, &e)
		if wrong := (work.RequestError{}); errors.As(err, &wrong) {
			return usage("%w; \"%s --help\" shows how", err, cmd.FullName())
		}
		if err != nil {
			return err
		}
	}
	for _, e.Match = range matches {
		kept, err := a.work.Exempt(ctx, e)
		if err != nil {
			return err
		}
		fmt.Fprintf(a.out, "exemption %d: %s is left alone%s%s\n", kept.Number, render.Visible(kept.Match.String()),
			inChecks(kept.Checks), untilText(kept.Until))
	}
	return nil
}

// mostExempted is how many accounts are exempted one by one.
const mostExempted = 200

// exemptMatches are what the command line wants to be exempt: a subtree, a filter or a
// person as they are, accounts looked up, and those who fulfil conditions now.
func (a *app) exemptMatches(ctx context.Context, cmd *cli.Command) (all []settings.Match, err error) {
	for _, m := range []settings.Match{{DN: cmd.String("dn")}, {Subtree: cmd.String("subtree")}, {Person: cmd.String("person")}} {
		if m != (settings.Match{}) {
			all = append(all, m)
		}
	}
	f, err := a.conditions(cmd)
	if err != nil {
		return nil, err
	}
	if len(all)+cmd.Args().Len() == 0 && f.Filter == cmd.String("filter") && f.Kind == "" && f.Filter != "" && f.Where.Empty() && f.Under == "" {
		return []settings.Match{{Filter: f.Filter}}, nil // and so what it selects later, too
	}
	names := cmd.Args().Slice()
	if len(names) == 0 && f.Empty() {
		return all, nil
	}
	if len(all) > 0 {
		return nil, usage("give accounts, conditions, or one of --dn, --subtree and --person; \"%s --help\" shows how", cmd.FullName())
	}
	if f.Empty() && cmd.String("from") == "" && a.work.Settings.Default == "" {
		a.note("note: there is no yard to look them up in, so the names are taken as they are")
		return asTyped(names), nil
	}
	return a.exemptAccounts(ctx, cmd, f, names)
}

// asTyped are the accounts that are called so, whether there are any or not.
func asTyped(names []string) (all []settings.Match) {
	for _, name := range names {
		all = append(all, settings.Match{Account: name})
	}
	return all
}

// exemptAccounts looks up accounts by name, and those who fulfil conditions.
func (a *app) exemptAccounts(ctx context.Context, cmd *cli.Command, f settings.Filter, names []string) (all []settings.Match, err error) {
	p, err := a.work.Open(ctx, from(cmd))
	if err != nil && f.Empty() && cmd.String("from") == "" {
		a.note("note: nobody was looked up, so the names are taken as they are: %v", err)
		return asTyped(names), nil
	}
	if err != nil {
		return nil, err
	}
	defer p.Close()
	q, err := question(cmd)
	if err != nil {
		return nil, err
	}
	if len(names) == 0 {
		f.Kind = cmp.Or(f.Kind, "users")
	}
	chosen, err := a.chosenBy(ctx, p, f, &q, a.work.ChooseOrdinary)
	if err != nil {
		return nil, err
	}
	entries, err := a.namedAmong(ctx, p, names, chosen)
	if err != nil {
		return nil, err
	}
	switch {
	case len(entries) == 0:
		return nil, fmt.Errorf("nobody fulfils the conditions (%s)", f.Describe())
	case len(entries) > mostExempted:
		return nil, fmt.Errorf("%d accounts fulfil the conditions; for so many give a --subtree or a --filter, which holds for later ones, too", len(entries))
	}
	for i := range entries {
		m := settings.Match{Account: cmp.Or(entries[i].First("sAMAccountName"), entries[i].First("uid"))}
		if m.Account == "" {
			m.DN = entries[i].DN
		}
		all = append(all, m)
	}
	return all, nil
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
	if err := a.noArguments(cmd); err != nil {
		return err
	}
	all, err := a.work.Exemptions(ctx)
	if err != nil {
		return err
	}
	if len(all) == 0 {
		a.note("nothing is exempt")
		return nil
	}
	list := &sheet.Sheet{Name: "exemptions", Columns: []sheet.Column{
		column("number", "Number", sheet.Text), column("match", "Left alone", sheet.Text), column("checks", "In", sheet.Text),
		column("reason", "Reason", sheet.Text), column("owner", "Owner", sheet.Text), column("until", "Until", sheet.Text),
	}}
	for i := range all {
		e := &all[i]
		number := "settings"
		if e.Number != 0 {
			number = strconv.Itoa(e.Number)
		}
		state := cmp.Or(e.Until, "without end")
		if e.Ended(a.now()) {
			state += " (ended)"
		}
		list.Rows = append(list.Rows, []any{number, e.Match.String(), cmp.Or(strings.Join(e.Checks, ", "), "every check"), e.Reason, e.Owner, state})
	}
	return a.writeList(cmd, list, a.style(nil), 3, 2, 4, 1)
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
