package cli

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"yardbroom/internal/batch"
	"yardbroom/internal/render"
	"yardbroom/internal/store"
)

func (a *app) batchCommand() *cli.Command {
	return &cli.Command{
		Name: "batch", Usage: "the staged batches: list, show, pick, drop, export, import, sign, report, discard",
		Commands: []*cli.Command{
			{Name: "list", Usage: "all batches", Action: a.batchList},
			{Name: "show", Usage: "one batch, line by line", ArgsUsage: "BATCH",
				Flags: []cli.Flag{&cli.StringFlag{Name: "format", Value: "table", Usage: "table or json"}}, Action: a.batchShow},
			{Name: "drop", Usage: "take the lines of accounts out of a batch", ArgsUsage: "BATCH ACCOUNT…", Action: a.batchDrop},
			a.pickCommand(), a.exportCommand(), a.importCommand(), a.signCommand(), a.reportCommand(),
			{Name: "discard", Usage: "give a batch up", ArgsUsage: "BATCH", Action: a.batchDiscard},
		},
	}
}

// withBatch opens the state folder and loads the batch that the first
// argument names.
func (a *app) withBatch(ctx context.Context, cmd *cli.Command, do func(s *store.Store, b *batch.Batch) error) error {
	word := cmd.Args().First()
	if word == "" {
		return usage("give the number of a batch; \"yardbroom batch list\" shows them")
	}
	id, err := strconv.Atoi(word)
	if err != nil || id < 1 {
		return usage("%q is not the number of a batch; \"yardbroom batch list\" shows them", word)
	}
	s, err := a.openStore(ctx)
	if err != nil {
		return err
	}
	defer s.Close()
	b, err := batch.Load(ctx, s, id)
	if err != nil {
		return err
	}
	return do(s, b)
}

func (a *app) batchList(ctx context.Context, cmd *cli.Command) error {
	if err := noArguments(cmd); err != nil {
		return err
	}
	s, err := a.openStore(ctx)
	if err != nil {
		return err
	}
	defer s.Close()
	all, err := batch.List(ctx, s)
	if err != nil {
		return err
	}
	if len(all) == 0 {
		a.note("no batch is staged; \"yardbroom stage --help\" shows how to make one")
		return nil
	}
	var rows [][]string
	for _, b := range all {
		yard := b.Yard
		if yard == "" {
			yard = b.Identity.Base
		}
		rows = append(rows, []string{fmt.Sprint(b.ID), string(b.State), strings.Join(b.Actions, ","), tally(b), render.Moment(b.Created, time.Local), render.Visible(b.By), render.Visible(yard), render.Visible(b.Why)})
	}
	render.Table(a.out, a.style(time.Local), []string{"Batch", "State", "Actions", "Lines", "Staged", "By", "Yard", "Why"}, rows, 7, 5, 6)
	return nil
}

// tally counts a batch's lines by state: "12 done, 1 drifted".
func tally(b *batch.Batch) string {
	counts := map[batch.LineState]int{}
	for i := range b.Lines {
		counts[b.Lines[i].State]++
	}
	return countStates(counts)
}

func countStates(counts map[batch.LineState]int) string {
	var parts []string
	for _, state := range batch.LineStates {
		if n := counts[state]; n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, state))
		}
	}
	return strings.Join(parts, ", ")
}

func (a *app) batchShow(ctx context.Context, cmd *cli.Command) error {
	return a.withBatch(ctx, cmd, func(s *store.Store, b *batch.Batch) error {
		switch cmd.String("format") {
		case "json":
			return render.BatchJSON(a.out, b)
		case "table":
			agreed, err := b.Agreement(ctx, s, a.set, a.now().UTC())
			if err != nil {
				return err
			}
			render.Batch(a.out, b, agreed, a.style(time.Local))
			return nil
		}
		return usage("--format: %q is neither table nor json", cmd.String("format"))
	})
}

func (a *app) batchDrop(ctx context.Context, cmd *cli.Command) error {
	return a.withBatch(ctx, cmd, func(s *store.Store, b *batch.Batch) error {
		accounts := cmd.Args().Tail()
		if len(accounts) == 0 {
			return usage("say which accounts to take out of batch %d", b.ID)
		}
		n, err := b.Drop(ctx, s, accounts, actor(), a.now().UTC())
		if err != nil {
			return err
		}
		fmt.Fprintf(a.out, "%s taken out of batch %d; %d left\n", render.Count(n, "line"), b.ID, b.Open())
		return nil
	})
}

func (a *app) batchDiscard(ctx context.Context, cmd *cli.Command) error {
	return a.withBatch(ctx, cmd, func(s *store.Store, b *batch.Batch) error {
		if err := b.Discard(ctx, s, actor(), a.now().UTC()); err != nil {
			return err
		}
		fmt.Fprintf(a.out, "batch %d discarded\n", b.ID)
		return nil
	})
}
