package cli

import (
	"context"

	"github.com/urfave/cli/v3"

	"yardbroom/internal/batch"
	"yardbroom/internal/render"
)

// rehearse carries a batch out on a copy of the directory in memory, and shows
// what an audit would say afterwards that it does not say now.
func (a *app) rehearse(ctx context.Context, cmd *cli.Command, b *batch.Batch) error {
	played, err := a.work.Rehearse(ctx, b, at(cmd, cmd.String("on")))
	if err != nil {
		return err
	}
	render.Rehearsal(a.out, played, a.style(played.Zone))
	if played.NotDone() {
		return &exitError{status: exitNotDone}
	}
	return nil
}
