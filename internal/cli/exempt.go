package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"yardbroom/internal/audit"
	"yardbroom/internal/calendar"
	"yardbroom/internal/directory"
	"yardbroom/internal/render"
	"yardbroom/internal/settings"
	"yardbroom/internal/store"
)

func (a *app) exemptCommand() *cli.Command {
	return &cli.Command{
		Name: "exempt", Usage: "accounts deliberately left alone: add, list, end",
		Description: "An exempt entry appears in no finding, or in none of the named checks. Exempt from every check, it is\nprotected from batches too. Exemptions of the settings count as well.",
		Commands: []*cli.Command{
			{
				Name: "add", Usage: "leave an account alone, or a subtree, or what a filter selects", ArgsUsage: "[ACCOUNT]",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "reason", Usage: "why, as `TEXT`; required"},
					&cli.StringFlag{Name: "owner", Usage: "`WHO` answers for it; required"},
					&cli.StringFlag{Name: "until", Usage: "the last `DATE` it holds (2027-06-30), or a span from now (90d, 12w, 6mo)"},
					&cli.StringSliceFlag{Name: "check", Usage: "only from the check `NAME`; may be given several times"},
					&cli.StringFlag{Name: "dn", Usage: "the entry with this `DN`, instead of ACCOUNT"},
					&cli.StringFlag{Name: "subtree", Usage: "everything at or below this `DN`"},
					&cli.StringFlag{Name: "filter", Usage: "what this RFC 4515 `FILTER` selects"},
					&cli.StringFlag{Name: "person", Usage: "the person of the roster with this `ID`, who needs no account"},
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
		Match:  settings.Match{Account: cmd.Args().First(), DN: cmd.String("dn"), Subtree: cmd.String("subtree"), Filter: cmd.String("filter"), Person: cmd.String("person")},
		Checks: checkNames(cmd), Reason: cmd.String("reason"), Owner: cmd.String("owner"), Until: cmd.String("until"),
	}
	if span, err := calendar.ParseSpan(e.Until); err == nil {
		e.Until = span.After(a.now()).Format(time.DateOnly)
	}
	if err := e.Check(); err != nil {
		return usage("%w; \"%s --help\" shows how", err, cmd.FullName())
	}
	for _, name := range e.Checks {
		if _, err := a.catalog.Named(name); err != nil {
			return usage("--check: %w", err)
		}
	}
	body, err := json.Marshal(e)
	if err != nil {
		return err
	}
	s, err := a.openStore(ctx)
	if err != nil {
		return err
	}
	defer s.Close()
	id, err := s.Decide(ctx, store.Exemptions, body, &store.Record{At: a.now().UTC(), By: actor(), Event: store.EventExempted, Body: body})
	if err != nil {
		return err
	}
	fmt.Fprintf(a.out, "exemption %d: %s is left alone%s%s\n", id, render.Visible(e.Match.String()), inChecks(e.Checks), untilText(e.Until))
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
	var rows [][]string
	row := func(n string, e *settings.Exemption) {
		checks := "every check"
		if len(e.Checks) > 0 {
			checks = strings.Join(e.Checks, ", ")
		}
		state := orElse(e.Until, "without end")
		if t, err := calendar.ParseTime(e.Until, time.UTC); err == nil && a.now().After(t) {
			state += " (ended)"
		}
		rows = append(rows, []string{n, render.Visible(e.Match.String()), checks, render.Visible(e.Reason), render.Visible(e.Owner), state})
	}
	for i := range a.set.Exemptions {
		row("settings", &a.set.Exemptions[i])
	}
	kept, err := a.keptExemptions(ctx)
	if err != nil {
		return err
	}
	for i := range kept {
		row(strconv.Itoa(kept[i].id), &kept[i].Exemption)
	}
	if len(rows) == 0 {
		a.note("nothing is exempt")
		return nil
	}
	render.Table(a.out, a.style(nil), []string{"Number", "Left alone", "In", "Reason", "Owner", "Until"}, rows, 1, 2, 3, 4)
	return nil
}

func (a *app) exemptEnd(ctx context.Context, cmd *cli.Command) error {
	n, err := strconv.Atoi(cmd.Args().First())
	if err != nil || cmd.Args().Len() != 1 {
		return usage("give the number of one exemption; \"yardbroom exempt list\" shows them (those of the settings end there)")
	}
	s, err := a.openStore(ctx)
	if err != nil {
		return err
	}
	defer s.Close()
	err = s.End(ctx, store.Exemptions, n, func(body []byte) *store.Record {
		return &store.Record{At: a.now().UTC(), By: actor(), Event: store.EventExemptionEnded, Body: body}
	})
	if err != nil {
		return err
	}
	fmt.Fprintf(a.out, "exemption %d is ended\n", n)
	return nil
}

// numbered is an exemption kept in the state folder.
type numbered struct {
	settings.Exemption
	id int
}

func (a *app) keptExemptions(ctx context.Context) ([]numbered, error) {
	rows, err := a.decisions(ctx, store.Exemptions)
	if err != nil {
		return nil, err
	}
	var all []numbered
	for _, r := range rows {
		n := numbered{id: r.ID}
		if err := json.Unmarshal(r.Body, &n.Exemption); err != nil {
			return nil, fmt.Errorf("exemption %d cannot be read: %w", r.ID, err)
		}
		all = append(all, n)
	}
	return all, nil
}

// decisions are those that the state folder keeps. Reading them makes no
// state folder where there is none.
func (a *app) decisions(ctx context.Context, k store.Kind) ([]store.Decision, error) {
	s, err := a.openKept(ctx)
	if s == nil || err != nil {
		return nil, err
	}
	defer s.Close()
	return s.Decisions(ctx, k)
}

// exemptions are all there are, with what their filters select in a place.
func (a *app) exemptions(ctx context.Context, p *place) ([]audit.Exemption, error) {
	kept, err := a.keptExemptions(ctx)
	if err != nil {
		return nil, err
	}
	list := a.set.Exemptions
	for _, k := range kept {
		list = append(list[:len(list):len(list)], k.Exemption)
	}
	var all []audit.Exemption
	for _, one := range list {
		e := audit.Exemption{Exemption: one}
		if one.Until != "" {
			if e.Until, err = calendar.ParseTime(one.Until, p.location()); err != nil {
				return nil, fmt.Errorf("exemption of %s: until: %w", one.Match, err)
			}
		}
		if one.Match.Filter != "" {
			found, err := p.Select(ctx, one.Match.Filter, []string{"1.1"})
			if err != nil {
				return nil, fmt.Errorf("exemption of %s: %w", one.Match, err)
			}
			e.Selected = map[directory.Key]bool{}
			for i := range found {
				e.Selected[directory.KeyOf(found[i].DN)] = true
			}
		}
		all = append(all, e)
	}
	return all, nil
}
