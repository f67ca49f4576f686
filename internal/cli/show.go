package cli

import (
	"context"
	"io"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"yardbroom/internal/batch"
	"yardbroom/internal/render"
	"yardbroom/internal/sheet"
	"yardbroom/internal/work"
)

func (a *app) showCommand() *cli.Command {
	return &cli.Command{
		Name: "show", Usage: "one account: its state, and everything that matters about it", ArgsUsage: "ACCOUNT",
		Description: help("show"),
		Flags:       slices.Concat(fromFlags(), signInFlags(), []cli.Flag{asOfFlag()}, outputFlags(allFormats)),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if cmd.Args().Len() != 1 {
				return usage("give one account; \"%s --help\" shows how", cmd.FullName())
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
			found, err := a.work.Show(ctx, p, cmd.Args().First(), &q)
			if err != nil {
				return err
			}
			card := withCommands(found, cmd.String("from"))
			return a.deliver(targets, a.cardResult(card, a.style(p.Zone())))
		},
	}
}

// cardResult writes an account.
func (a *app) cardResult(c *render.AccountCard, st render.Style) *result {
	parts := func() []sheet.Sheet { return render.CardSheets(c, st.Zone) }
	return &result{parts: parts, write: map[string]func(io.Writer) error{
		formatTable: func(w io.Writer) error { render.Card(w, c, st); return nil },
		formatCSV:   func(w io.Writer) error { return render.SheetCSV(w, &parts()[0]) },
		formatTSV:   func(w io.Writer) error { return render.SheetTSV(w, &parts()[0]) },
		formatJSON:  func(w io.Writer) error { return render.JSON(w, c.Shape()) },
		formatJSONL: func(w io.Writer) error { return render.JSONLine(w, c.Shape()) },
		formatXLSX:  func(w io.Writer) error { return render.XLSX(w, parts(), st) },
		formatHTML:  func(w io.Writer) error { return render.CardPage(c, st.Zone, a.now()).Write(w) },
	}}
}

// withCommands adds the commands that would do something about an account.
func withCommands(found *work.Card, from string) *render.AccountCard {
	c := &render.AccountCard{Card: found}
	c.Act = func(action string) string {
		if c.Account.BuiltIn || action == batch.Enable && c.NotToBeEnabled != "" {
			return "" // it would be refused
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
	if c.Account.BuiltIn {
		return "" // it would be refused
	}
	for _, f := range c.Findings {
		if len(f.Suggest) > 0 && !f.Hidden && (f.Suggest[0] != batch.Enable || c.NotToBeEnabled == "") {
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
