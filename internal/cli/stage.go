package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"yardbroom/internal/batch"
	"yardbroom/internal/render"
	"yardbroom/internal/sheet"
	"yardbroom/internal/tracing"
	"yardbroom/internal/whole"
	"yardbroom/internal/wording"
	"yardbroom/internal/work"
)

func (a *app) stageCommand() *cli.Command {
	return &cli.Command{
		Name: "stage", Usage: "make a batch: choose accounts and what to do with them", ArgsUsage: "ACTION[,ACTION…] [ACCOUNT…]",
		Description: help("stage", "actions", strings.Join(batch.ActionNames, ", ")),
		Commands:    a.actionCommands(),
		Flags: append(
			slices.Concat(fromFlags(), conditionFlags(), rosterFlags(), signInFlags()),
			asOfFlag(),
			noRosterFlag(),
			&cli.StringSliceFlag{Name: "check", Usage: "the accounts that the check `NAME` finds"},
			kindFlag("users"),
			&cli.StringFlag{Name: "file", Usage: "the accounts named in a CSV `FILE`, one a row"},
			&cli.StringFlag{
				Name:  "column",
				Usage: "the `NAME` of the column in --file (default: dn, account, or the only one)",
			},
			&cli.StringFlag{Name: "given", Usage: "for rename: the new given `NAME`"},
			&cli.StringFlag{Name: "family", Usage: "for rename: the new family `NAME`"},
			&cli.StringFlag{Name: "display", Usage: "for rename: the new display `NAME` (default: follows)"},
			&cli.StringFlag{Name: "logon", Usage: "for rename: the new logon `NAME` (default: stays)"},
			&cli.StringFlag{
				Name:  "mail",
				Usage: "for rename: the new `ADDRESS` (default: follows; the old one stays as a second)",
			},
			&cli.StringFlag{Name: "principal", Usage: "for rename: the new sign-in `NAME` (default: follows)"},
			&cli.StringSliceFlag{Name: "keep", Usage: "for rename: what does not follow the new name: mail, principal or display, as `WHAT`; may be given several times"},
			&cli.StringFlag{Name: "to", Usage: "the container `DN` for move"},
			&cli.StringFlag{
				Name:  "text",
				Usage: "for describe: the new description, a `TEXT` with {date}, {batch}, {reason} and {old}",
			},
			&cli.StringFlag{Name: "expires", Usage: "for expire: the last `DATE` on which the account may be used"},
			&cli.StringSliceFlag{Name: "group", Usage: "for join-group and leave-group: a `GROUP`, by name or DN"},
			&cli.BoolFlag{Name: "unlock", Usage: "for reset-password: lift a lock too"},
			&cli.StringFlag{Name: "until", Usage: "the `DATE` on which the batch is to be taken back"},
			&cli.BoolFlag{
				Name:  "even-enabled",
				Usage: "for delete: also what is enabled, or has not been disabled for long; the batch then needs a signature",
			},
			&cli.StringFlag{Name: "why", Usage: "a `TEXT` to keep with the batch"},
			&cli.StringFlag{
				Name:  "on-collision",
				Usage: "append-account: where a name is taken at the target, put the logon name into it",
			},
			&cli.BoolFlag{Name: "include-likely", Usage: "also stage findings that are likely, not sure"},
			&cli.BoolFlag{
				Name:  "whole-roster",
				Usage: "the roster is whole, though by it more than a tenth of the directory would have to go",
			},
			&cli.StringFlag{Name: "refused", Usage: "write what cannot be staged, and why, as CSV into a `FILE`"},
			&cli.IntFlag{Name: "max-lines", Usage: "allow this many lines in the batch"},
			&cli.IntFlag{Name: "max-share", Usage: "allow this share of the yard's accounts, in per cent"},
		),
		Action: a.stage,
	}
}

func (a *app) stage(ctx context.Context, cmd *cli.Command) error {
	r, err := a.stageRequest(cmd)
	if err != nil {
		return err
	}
	if r.Is(batch.ArchiveHome) {
		return a.stageArchives(ctx, cmd, r)
	}
	if err := a.work.CheckStage(r); err != nil {
		return err
	}
	p, err := a.work.Open(ctx, from(cmd))
	if err != nil {
		return err
	}
	defer p.Close()
	staged, err := a.work.Stage(ctx, p, r)
	if err == nil || len(staged.Refusals) > 0 { // they may be why
		err = cmp.Or(err, a.tellNotStaged(cmd, staged))
	}
	if err != nil {
		return err
	}
	a.tellStaged(staged)
	a.tellForeseen(staged)
	return stagedWhole(staged)
}

// stagedWhole tells by the exit status whether everything that was chosen is staged.
func stagedWhole(staged *work.Staged) error {
	if len(staged.Refusals) > 0 {
		return &exitError{status: exitNotDone}
	}
	return nil
}

// stageArchives stages what archives home folders that were set aside.
func (a *app) stageArchives(ctx context.Context, cmd *cli.Command, r *work.StageRequest) error {
	if r.Until != "" {
		return usage("%s has no inverse, so it cannot be staged with --until", batch.ArchiveHome)
	}
	p, err := a.work.Open(ctx, from(cmd))
	if err != nil {
		return err
	}
	defer p.Close()
	staged, err := a.work.StageArchives(ctx, p, r.Names, r.Why, r.MaxLines)
	a.tellRefusals("staged", staged.Refusals)
	if err != nil {
		return err
	}
	a.tellStaged(staged)
	return stagedWhole(staged)
}

// tellNotStaged says who cannot be staged, and writes it down where that is asked
// for.
func (a *app) tellNotStaged(cmd *cli.Command, staged *work.Staged) error {
	a.tellRefusals("staged", staged.Refusals)
	if file := cmd.String("refused"); file != "" {
		return writeRefusals(file, staged.Refusals)
	}
	if len(staged.Refusals) > fewRefusals {
		a.note("--refused FILE writes all of them, with the reasons, as CSV")
	}
	return nil
}

// tellForeseen says what will keep a batch that is staged from being carried out
// as things are.
func (a *app) tellForeseen(staged *work.Staged) {
	if staged.UnknownRights != nil {
		a.note("note: whether all of it may be done could not be found out: %v", staged.UnknownRights)
	}
	reasons, names := byReason(staged.Foreseen)
	slices.Sort(reasons)
	for _, why := range reasons { // marked, not refused: another account may carry it out
		a.note("note: %s %s, %s: %s; apply it with an account that may", staged.Bound, why,
			wording.Count(len(names[why]), "line"), wording.Some(names[why]))
	}
	for _, one := range staged.StillAt {
		what := one.Judged.Verdict()
		if one.Judged.Cause == tracing.NotKnown {
			what = strings.TrimSuffix("by something on "+one.Judged.Source.Name(), " on ")
		}
		a.note("note: %s will be locked again: %s; refused %s, and still going on. See: yardbroom trace %s", one.Name, what,
			wording.Count(one.Refused, "time"), quoted([]string{one.Name}))
	}
	if staged.Unencrypted {
		a.note(
			"note: passwords are set over an encrypted connection only, and this one is not: give the yard an ldaps:// address, or starttls",
		)
	}
}

// briefly is the style for a batch that is shown on the way to something else.
func (a *app) briefly() render.Style {
	st := a.style(time.Local)
	st.Limit = 40
	return st
}

// tellStaged shows a batch that was just made, and how to go on with it.
func (a *app) tellStaged(staged *work.Staged) {
	b := staged.Batch
	if len(staged.Agreement.Unproved) > 0 && staged.Unproved != nil {
		a.note("note: staged by an unproved name, %s: %v", b.By, staged.Unproved)
	}
	render.Batch(a.out, b, staged.Agreement, a.briefly())
	fmt.Fprintf(a.out, "\nNothing is changed yet. Take lines out: yardbroom batch pick %d, or batch drop %d ACCOUNT…\n",
		b.ID, b.ID)
	if !staged.Agreement.Enough() {
		fmt.Fprintf(a.out, "Another person signs it: yardbroom batch sign %d\n", b.ID)
	}
	fmt.Fprintf(
		a.out,
		"Try it on a copy: yardbroom apply %d --rehearse; against the directory: yardbroom apply %d --dry-run\nCarry it out: yardbroom apply %d\n",
		b.ID,
		b.ID,
		b.ID,
	)
}

// fewRefusals is how many refusals are told one by one.
const fewRefusals = 20

// tellRefusals says of which accounts something is not done: one by one where
// they are few, else by reason.
func (a *app) tellRefusals(what string, refusals []batch.Refusal) {
	if len(refusals) <= fewRefusals {
		for _, r := range refusals {
			fmt.Fprintln(a.err,
				render.Visible(fmt.Sprintf("not %s: %s (%s): %s", what, r.Account, render.Place(r.DN), r.Why)))
		}
		return
	}
	reasons, names := byReason(refusals)
	slices.SortStableFunc(reasons, func(x, y string) int { return len(names[y]) - len(names[x]) })
	for i, why := range reasons {
		if i == fewRefusals {
			a.note("not %s, for other reasons: %d more", what, len(reasons)-i)
			break
		}
		fmt.Fprintln(
			a.err,
			render.Visible(
				fmt.Sprintf("not %s, %s: %s: %s", what, wording.Count(len(names[why]), "line"), why,
					wording.Some(names[why])),
			),
		)
	}
}

// byReason returns the reasons of refusals in the order they come, and whom each
// is about.
func byReason(refusals []batch.Refusal) (reasons []string, names map[string][]string) {
	names = map[string][]string{}
	for _, r := range refusals {
		if names[r.Why] == nil {
			reasons = append(reasons, r.Why)
		}
		names[r.Why] = append(names[r.Why], r.Account)
	}
	return reasons, names
}

// writeRefusals keeps what could not be staged, and why, as CSV.
func writeRefusals(path string, refusals []batch.Refusal) error {
	out := sheet.Sheet{
		Name: "refused",
		Columns: []sheet.Column{
			{Name: "account", Kind: sheet.Text},
			{Name: "dn", Kind: sheet.Text},
			{Name: "why", Kind: sheet.Text},
		},
	}
	for _, r := range refusals {
		out.Rows = append(out.Rows, []any{r.Account, r.DN, r.Why})
	}
	return whole.Share(path, func(w io.Writer) error { return render.SheetCSV(w, &out) })
}
