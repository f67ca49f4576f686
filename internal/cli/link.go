package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"time"

	"github.com/urfave/cli/v3"

	"yardbroom/internal/render"
	"yardbroom/internal/sheet"
	"yardbroom/internal/wording"
	"yardbroom/internal/work"
)

func (a *app) linkCommand() *cli.Command {
	flags := func() []cli.Flag {
		return append(slices.Concat(fromFlags(), rosterFlags()),
			&cli.StringFlag{Name: "why", Usage: "a `TEXT` to keep with the decision"})
	}
	return &cli.Command{
		Name: "link", Usage: "confirmed and rejected pairs of account and person",
		Description: help("link"),
		Commands: []*cli.Command{
			{Name: "confirm", Usage: "this account is this person's", ArgsUsage: "ACCOUNT PERSON", Flags: flags(),
				Action: func(ctx context.Context, cmd *cli.Command) error { return a.linkDecide(ctx, cmd, work.Confirmed) }},
			{Name: "reject", Usage: "this account is not this person's", ArgsUsage: "ACCOUNT PERSON", Flags: flags(),
				Action: func(ctx context.Context, cmd *cli.Command) error { return a.linkDecide(ctx, cmd, work.Rejected) }},
			{Name: "list", Usage: "all decisions in force", Flags: outputFlags(rowFormats), Action: a.linkList},
			{Name: "end", Usage: "take a decision back", ArgsUsage: "NUMBER", Action: a.linkEnd},
			{
				Name:   "export",
				Usage:  "write the decisions as CSV",
				Flags:  []cli.Flag{&cli.StringFlag{Name: "output", Usage: "write to `FILE`, whole or not at all"}},
				Action: a.linkExport,
			},
			{Name: "import", Usage: "take over decisions that export wrote", ArgsUsage: "FILE", Action: a.linkImport},
		},
	}
}

func (a *app) linkDecide(ctx context.Context, cmd *cli.Command, verdict work.Verdict) error {
	if cmd.Args().Len() != 2 {
		return usage("give an account and a person; \"%s --help\" shows how", cmd.FullName())
	}
	list, err := rosterFrom(cmd)
	if err != nil {
		return err
	}
	p, err := a.work.Open(ctx, from(cmd))
	if err != nil {
		return err
	}
	defer p.Close()
	l, err := a.work.Decide(
		ctx,
		p,
		work.Decision{
			Verdict: verdict,
			Account: cmd.Args().First(),
			Person:  cmd.Args().Get(1),
			Why:     cmd.String("why"),
			Roster:  list,
		},
	)
	if err != nil {
		return err
	}
	is := "is"
	if verdict == work.Rejected {
		is = "is not"
	}
	fmt.Fprintf(a.out, "link %d: %s %s %s\n", l.Number, render.Visible(l.Account), is, render.Visible(l.Name))
	return nil
}

func (a *app) linkList(ctx context.Context, cmd *cli.Command) error {
	if err := a.noArguments(cmd); err != nil {
		return err
	}
	all, err := a.work.Links(ctx)
	if err != nil {
		return err
	}
	if len(all) == 0 {
		a.note("nothing is linked")
		return nil
	}
	list := &sheet.Sheet{Name: "links", Columns: []sheet.Column{
		numbered("number", "Number"), column("account", "Account", sheet.Text), column("verdict", "Verdict", sheet.Text),
		column("person", "Person", sheet.Text), column("by", "By", sheet.Text), column("on", "On", sheet.Text), column("why", "Why", sheet.Text),
	}}
	for _, l := range all {
		list.Rows = append(list.Rows, []any{l.Number, l.Account, string(l.Verdict), l.Name, l.By, l.At.Format(time.DateOnly), l.Why})
	}
	return a.writeList(cmd, list, a.style(nil), 6, 1, 3, 4)
}

func (a *app) linkEnd(ctx context.Context, cmd *cli.Command) error {
	n, err := strconv.Atoi(cmd.Args().First())
	if err != nil || cmd.Args().Len() != 1 {
		return usage("give the number of one link; \"yardbroom link list\" shows them")
	}
	if err := a.work.EndLink(ctx, n); err != nil {
		return err
	}
	fmt.Fprintf(a.out, "link %d is ended\n", n)
	return nil
}

func (a *app) linkExport(ctx context.Context, cmd *cli.Command) error {
	if err := a.noArguments(cmd); err != nil {
		return err
	}
	all, err := a.work.Links(ctx)
	if err != nil {
		return err
	}
	return a.result(cmd.String("output"), func(w io.Writer) error { return render.SheetCSV(w, work.LinkSheet(all)) })
}

func (a *app) linkImport(ctx context.Context, cmd *cli.Command) error {
	if cmd.Args().Len() != 1 {
		return usage("give one file that \"yardbroom link export\" wrote")
	}
	path := cmd.Args().First()
	in, err := os.Open(path)
	if err != nil {
		return fmt.Errorf("%s: %w", path, errors.Unwrap(err))
	}
	defer in.Close()
	n, err := a.work.ImportLinks(ctx, in, path)
	if err != nil {
		return err
	}
	fmt.Fprintf(a.out, "%s taken over\n", wording.Count(n, "link"))
	return nil
}
