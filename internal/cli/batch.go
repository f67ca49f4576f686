package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"yardbroom/internal/batch"
	"yardbroom/internal/render"
	"yardbroom/internal/sheet"
	"yardbroom/internal/wording"
)

func (a *app) batchCommand() *cli.Command {
	return &cli.Command{
		Name: "batch", Usage: "the staged batches: list, show, pick, drop, export, import, sign, report, discard",
		Commands: []*cli.Command{
			{Name: "list", Usage: "all batches", Flags: outputFlags(rowFormats), Action: a.batchList},
			{Name: "show", Usage: "one batch, line by line", ArgsUsage: "BATCH",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "format", Value: "table", Usage: "table or json"}, limitFlag("lines", 0), briefFlag(),
				}, Action: a.batchShow},
			{
				Name: "drop", Usage: "take lines out of a batch", ArgsUsage: "BATCH ACCOUNT|LINES…",
				Description: help("lines", "command", "drop"),
				Action:      func(ctx context.Context, cmd *cli.Command) error { return a.batchThin(ctx, cmd, a.work.Drop) },
			},
			{
				Name: "keep", Usage: "take all other lines out of a batch", ArgsUsage: "BATCH ACCOUNT|LINES…",
				Description: help("lines", "command", "keep"),
				Action:      func(ctx context.Context, cmd *cli.Command) error { return a.batchThin(ctx, cmd, a.work.KeepOnly) },
			},
			a.pickCommand(), a.exportCommand(), a.importCommand(), a.signCommand(), a.reportCommand(),
			{Name: "discard", Usage: "give a batch up", ArgsUsage: "BATCH", Action: a.batchDiscard},
		},
	}
}

// batchNamed loads the batch that the first argument names.
func (a *app) batchNamed(ctx context.Context, cmd *cli.Command) (*batch.Batch, error) {
	word := cmd.Args().First()
	if word == "" {
		return nil, usage("give the number of a batch; \"yardbroom batch list\" shows them")
	}
	id, err := strconv.Atoi(word)
	if err != nil || id < 1 {
		return nil, usage("%q is not the number of a batch; \"yardbroom batch list\" shows them", word)
	}
	return a.work.Batch(ctx, id)
}

func (a *app) batchList(ctx context.Context, cmd *cli.Command) error {
	if err := a.noArguments(cmd); err != nil {
		return err
	}
	all, err := a.work.Batches(ctx)
	if err == nil {
		err = a.work.MarkUndone(ctx, all...)
	}
	if err != nil {
		return err
	}
	if len(all) == 0 {
		a.note("no batch is staged; \"yardbroom stage --help\" shows how to make one")
		return nil
	}
	list := &sheet.Sheet{Name: "batches", Columns: []sheet.Column{
		numbered("batch", "Batch"), column("state", "State", sheet.Text), column("actions", "Actions", sheet.Text),
		column("lines", "Lines", sheet.Text), column("staged", "Staged", sheet.Time), column("by", "By", sheet.Text),
		column("yard", "Yard", sheet.Text), column("why", "Why", sheet.Text),
	}}
	for _, b := range all {
		list.Rows = append(list.Rows, []any{b.ID, string(b.State), strings.Join(b.Actions, ","), lineStates(b), b.Created, b.By, cmp.Or(b.Yard, b.Identity.Base), b.Why})
	}
	return a.writeList(cmd, list, a.style(time.Local), 7, 5, 6, 3, 2)
}

// lineStates counts a batch's lines by state: "12 done, 1 drifted".
func lineStates(b *batch.Batch) string {
	counts, undone := map[batch.LineState]int{}, 0
	for i := range b.Lines {
		counts[b.Lines[i].State]++
		if b.Lines[i].Undone != 0 {
			undone++
		}
	}
	text := batch.CountStates(counts)
	if undone > 0 {
		text += fmt.Sprintf(" (%d undone)", undone)
	}
	return text
}

func (a *app) batchShow(ctx context.Context, cmd *cli.Command) error {
	b, err := a.batchNamed(ctx, cmd)
	if err != nil {
		return err
	}
	switch cmd.String("format") {
	case "json":
		return render.BatchJSON(a.out, b)
	case "table":
		if err := a.work.MarkUndone(ctx, b); err != nil {
			return err
		}
		agreed, err := a.work.Agreement(ctx, b)
		if err != nil {
			return err
		}
		st := a.style(time.Local)
		st.Brief = cmd.Bool("brief")
		if st.Limit, err = a.limitOf(cmd, st, 0); err != nil {
			return err
		}
		return a.result("", func(w io.Writer) error { render.Batch(w, b, agreed, st); return nil })
	}
	return usage("--format: %q is neither table nor json", cmd.String("format"))
}

// batchThin takes lines out of a batch, in one of two ways.
func (a *app) batchThin(
	ctx context.Context, cmd *cli.Command, thin func(context.Context, *batch.Batch, []string) (int, error),
) error {
	b, err := a.batchNamed(ctx, cmd)
	if err != nil {
		return err
	}
	accounts := cmd.Args().Tail()
	if len(accounts) == 0 {
		return usage("say which lines of batch %d are meant, by account or number; \"%s --help\" shows how", b.ID, cmd.FullName())
	}
	n, err := thin(ctx, b, accounts)
	if err != nil {
		return err
	}
	a.tellDropped(b, n)
	return nil
}

// tellDropped says how many lines were taken out of a batch.
func (a *app) tellDropped(b *batch.Batch, n int) {
	fmt.Fprintf(a.out, "%s taken out of batch %d; %d left\n", wording.Count(n, "line"), b.ID, b.Open())
}

func (a *app) batchDiscard(ctx context.Context, cmd *cli.Command) error {
	b, err := a.batchNamed(ctx, cmd)
	if err != nil {
		return err
	}
	if err := a.work.Discard(ctx, b); err != nil {
		return err
	}
	fmt.Fprintf(a.out, "batch %d discarded\n", b.ID)
	return nil
}
