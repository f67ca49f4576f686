package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"yardbroom/internal/batch"
	"yardbroom/internal/render"
	"yardbroom/internal/settings"
	"yardbroom/internal/sheet"
	"yardbroom/internal/work"
)

func (a *app) showCommand() *cli.Command {
	return &cli.Command{
		Name: "show", Usage: "an account: its state, and what matters about it; or several", ArgsUsage: "[ACCOUNT…]",
		Description: help("show"),
		Flags:       slices.Concat(readFlags(), conditionFlags(), signInFlags(), []cli.Flag{asOfFlag(), kindFlag("accounts"), &cli.BoolFlag{Name: "all", Usage: "show everything, and not only what fits a screen"}}, outputFlags(allFormats)),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			asked, err := a.conditions(cmd)
			if err != nil {
				return err
			}
			if !cmd.Args().Present() && asked.Empty() {
				return usage("give an account, or conditions; \"%s --help\" shows how", cmd.FullName())
			}
			targets, err := a.targets(cmd, allFormats)
			if err != nil {
				return err
			}
			q, err := question(cmd)
			if err != nil {
				return err
			}
			p, err := a.work.Open(ctx, from(cmd))
			if err != nil {
				return err
			}
			defer p.Close()
			names, err := a.shownNames(ctx, p, cmd.Args().Slice(), asked, &q)
			if err != nil {
				return err
			}
			if len(names) > 1 && slices.ContainsFunc(targets, func(t target) bool { return t.format != formatTable && t.format != formatJSONL }) {
				return usage("several accounts are shown as a table or as jsonl; for other formats give one account, or use \"yardbroom list\"")
			}
			for i, name := range names {
				if i > 0 && targets[0].format == formatTable {
					fmt.Fprintln(a.out)
				}
				found, err := a.work.Show(ctx, p, name, &q)
				if err != nil {
					return err
				}
				card := withCommands(found, cmd.String("from"))
				card.All = cmd.Bool("all")
				if err := a.deliver(targets, a.cardResult(card, a.style(p.Zone()))); err != nil {
					return err
				}
			}
			return nil
		},
	}
}

// mostShown is how many accounts are shown in full, one below the other.
const mostShown = 20

// shownNames are the accounts to show: those named, and those who fulfil conditions.
func (a *app) shownNames(ctx context.Context, p *work.Place, names []string, asked settings.Filter, q *work.Question) ([]string, error) {
	if len(names) == 1 && asked.Empty() && !strings.Contains(names[0], "*") {
		return names, nil
	}
	if !asked.Empty() {
		asked.Kind = cmp.Or(asked.Kind, "accounts")
	}
	chosen, err := a.choose(ctx, p, asked, q)
	if err != nil {
		return nil, err
	}
	entries, err := a.namedAmong(ctx, p, names, chosen)
	if err != nil {
		return nil, err
	}
	if len(entries) == 0 {
		return nil, fmt.Errorf("no account fulfils the conditions (%s)", asked.Describe())
	}
	var dns []string
	for i := range entries[:min(mostShown, len(entries))] {
		dns = append(dns, entries[i].DN)
	}
	if more := len(entries) - len(dns); more > 0 {
		a.note("note: %d more are not shown: \"yardbroom list\" shows all, in a line each", more)
	}
	return dns, nil
}

// cardResult writes an account.
func (a *app) cardResult(c *render.AccountCard, st render.Style) *result {
	parts := func() []sheet.Sheet { return render.CardSheets(c, st.Zone) }
	return &result{parts: parts, rows: func() *sheet.Sheet { return &parts()[0] }, style: st, table: func(w io.Writer, st render.Style) { render.Card(w, c, st) }, write: map[string]func(io.Writer) error{
		formatJSON:  func(w io.Writer) error { return render.JSON(w, c.Shape()) },
		formatJSONL: func(w io.Writer) error { return render.JSONLine(w, c.Shape()) },
		formatXLSX:  func(w io.Writer) error { return render.XLSX(w, parts(), st) },
		formatHTML:  func(w io.Writer) error { return a.writePage(w, render.CardPage(c, st.Zone, a.now())) },
	}}
}

// withCommands adds the commands that would do something about an account. What would
// be refused, or waits in a batch already, is not advised.
func withCommands(found *work.Card, from string) *render.AccountCard {
	c := &render.AccountCard{Card: found}
	c.Act = func(action string) string {
		b := c.Open(action)
		switch {
		case c.Account.BuiltIn, c.Known.Exempt != "", action == batch.Enable && c.NotToBeEnabled != "":
			return ""
		case b != nil:
			return fmt.Sprintf("yardbroom batch show %d", b.ID)
		}
		return stageLine([]string{action}, from, c.Account.Name())
	}
	c.Command = stageCommandFor(c, from)
	return c
}

// stageLine is the command that stages something for an account.
func stageLine(what []string, from, account string) string {
	line := "yardbroom stage " + strings.Join(what, " ")
	if from != "" {
		line += " --from " + quoted([]string{from})
	}
	return line + " " + quoted([]string{account})
}

// stageCommandFor is the command that would clear the first finding.
func stageCommandFor(c *render.AccountCard, from string) string {
	if c.Account.BuiltIn || c.Known.Exempt != "" || c.Known.Suspended != nil {
		return ""
	}
	for _, f := range c.Findings {
		if len(f.Suggest) > 0 && !f.Hidden && (f.Suggest[0] != batch.Enable || c.NotToBeEnabled == "") {
			if b := c.Open(f.Suggest[0]); b != nil {
				return fmt.Sprintf("yardbroom batch show %d", b.ID)
			}
			what := []string{f.Suggest[0]}
			switch fix := f.Fix(); {
			case f.Suggest[0] == batch.Move:
				what = append(what, "--to OU=…")
			case f.Suggest[0] == batch.Set && fix != nil:
				what = append(what, quoted([]string{fix.Attr + "=" + fix.New}))
			case f.Suggest[0] == batch.Set, f.Suggest[0] == batch.Fill, f.Suggest[0] == batch.Rename:
				continue // what to write only a person knows
			}
			return stageLine(what, from, c.Account.Name())
		}
	}
	return ""
}
