package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"yardbroom/internal/calendar"
	"yardbroom/internal/sheet"
	"yardbroom/internal/wording"
)

func (a *app) dueCommand() *cli.Command {
	return &cli.Command{
		Name: "due", Usage: "batches that were staged until a date: list them, take back those whose time is over",
		Description: help("due"),
		Flags: append(append(append(carryFlags(), paceFlags()...), outputFlags(rowFormats)...),
			&cli.BoolFlag{Name: "apply", Usage: "take back what is due"},
			&cli.StringFlag{Name: "as-of", Usage: "say what will be due on this `DATE`"}),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if err := a.noArguments(cmd); err != nil {
				return err
			}
			if cmd.Bool("apply") && cmd.IsSet("as-of") {
				return usage("--as-of is for looking; \"yardbroom undo BATCH\" takes a batch back before its time")
			}
			if !cmd.Bool("apply") && (cmd.Bool("yes") || cmd.Bool("dry-run")) {
				return usage("--yes and --dry-run go with --apply")
			}
			if cmd.Bool("apply") {
				return a.takeBackDue(ctx, cmd)
			}
			asOf := a.now()
			if text := cmd.String("as-of"); text != "" {
				var err error
				if asOf, err = calendar.ParseTime(text, time.Local); err != nil {
					return usage("--as-of: %w", err)
				}
			}
			all, err := a.work.Due(ctx)
			if err != nil {
				return err
			}
			if err := a.tellHeld(ctx); err != nil {
				return err
			}
			if len(all) == 0 {
				a.note("no batch is to be taken back; \"yardbroom stage … --until DATE\" makes one that is")
				return nil
			}
			list := &sheet.Sheet{Name: "due", Columns: []sheet.Column{
				numbered("batch", "Batch"), column("until", "Until", sheet.Time), column("due", "Due", sheet.Text), column("lines", "Lines", sheet.Number),
				column("actions", "Actions", sheet.Text), column("by", "By", sheet.Text), column("why", "Why", sheet.Text),
			}}
			for _, d := range all {
				list.Rows = append(list.Rows, []any{d.Batch.ID, d.Batch.Until, dueIn(d.Batch.Until, asOf), d.Left, strings.Join(d.Batch.Actions, ","), d.Batch.By, d.Batch.Why})
			}
			return a.writeList(cmd, list, a.style(time.Local), 6, 4)
		},
	}
}

// dueIn says how far off a time is, in days as people count them.
func dueIn(t, now time.Time) string {
	switch n := calendar.DaysBetween(now, t, time.Local); {
	case n == 1:
		return "tomorrow"
	case n > 1:
		return fmt.Sprintf("in %d days", n)
	case t.After(now):
		return "later today"
	case n == 0:
		return "today"
	default:
		return "for " + wording.Count(-n, "day")
	}
}

// takeBackDue takes back every batch whose time is over.
func (a *app) takeBackDue(ctx context.Context, cmd *cli.Command) error {
	r, err := a.backRequest(cmd)
	if err != nil {
		return err
	}
	all, err := a.work.TakeBackDue(ctx, r)
	if err == nil && len(all) == 0 {
		a.note("nothing is due")
	}
	for _, back := range all {
		err = errors.Join(err, broughtBack(back, nil))
	}
	return err
}

// tellHeld says how many home folders have been held long enough.
func (a *app) tellHeld(ctx context.Context) error {
	switch n, err := a.work.HeldLongEnough(ctx); {
	case err != nil:
		return err
	case n == 1:
		a.note("one home folder has been held long enough: yardbroom stage archive-home")
	case n > 1:
		a.note("%d home folders have been held long enough: yardbroom stage archive-home", n)
	}
	return nil
}
