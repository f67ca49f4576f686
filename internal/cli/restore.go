package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"yardbroom/internal/render"
	"yardbroom/internal/wording"
	"yardbroom/internal/work"
)

func (a *app) restoreCommand() *cli.Command {
	return &cli.Command{
		Name: "restore", Usage: "bring a deleted entry back, an account disabled; without a name, list what the journal and the directory know as deleted", ArgsUsage: "[ACCOUNT]", Flags: slices.Concat(carryFlags(), backFlags()),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if cmd.Args().Len() > 1 {
				return usage("give one account, by logon name or by the DN it had")
			}
			name := cmd.Args().First()
			if name == "" {
				return a.listDeleted(ctx, cmd)
			}
			r, err := a.backRequest(cmd)
			if err != nil {
				return err
			}
			back, err := a.work.Restore(ctx, name, r)
			return broughtBack(back, err)
		},
	}
}

// tellReturning says what of a deleted entry comes back, and what does not.
func (a *app) tellReturning(r *work.Returning) {
	by := fmt.Sprintf("by batch %d on %s", r.Batch, wording.Moment(r.At, time.Local))
	if r.Batch == 0 {
		by = fmt.Sprintf("on %s, not by this journal", wording.Moment(r.At, time.Local))
	}
	fmt.Fprintf(a.out, "%s was deleted %s.\n", render.Visible(r.Account), by)
	for _, text := range r.Back {
		fmt.Fprintln(a.out, render.Visible("  comes back: "+text))
	}
	for _, text := range r.Not {
		fmt.Fprintln(a.out, render.Visible("  does not:   "+text))
	}
}

// listDeleted lists what this journal has deleted, and what the directory
// itself keeps of deleted entries, where it can be asked.
func (a *app) listDeleted(ctx context.Context, cmd *cli.Command) error {
	deleted, err := a.work.Deleted(ctx, at(cmd, cmd.String("on")))
	if err != nil {
		return err
	}
	if len(deleted) == 0 {
		a.note("nothing is known as deleted")
		return nil
	}
	var rows [][]string
	for i := range deleted {
		r := &deleted[i]
		rows = append(
			rows,
			[]string{
				render.Visible(r.Account),
				render.Place(r.DN),
				wording.Moment(r.At, time.Local),
				keptBy(r),
				render.Visible(comesBack(r)),
			},
		)
	}
	render.Table(a.out, a.style(time.Local), []string{"Account", "Was in", "Deleted", "Kept by", "Comes back"}, rows, 4,
		1)
	return nil
}

func keptBy(r *work.Returning) string {
	switch {
	case r.Batch == 0:
		return "directory"
	case r.InDirectory:
		return fmt.Sprintf("journal %d/%d, directory", r.Batch, r.Line)
	}
	return fmt.Sprintf("journal %d/%d", r.Batch, r.Line)
}

// comesBack says in one cell what of an entry would come back.
func comesBack(r *work.Returning) string {
	if r.Taken {
		return "nothing: there is an entry of that name again"
	}
	back := r.Back
	if r.Batch != 0 {
		back = back[min(1, len(back)):] // the place stands in a column of its own
	}
	what := strings.Join(back, ", ")
	if len(r.Not) > 0 {
		what += "; not: " + strings.Join(r.Not, "; ")
	}
	return what
}
