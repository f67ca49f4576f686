package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"github.com/urfave/cli/v3"

	"yardbroom/internal/batch"
	"yardbroom/internal/carry"
	"yardbroom/internal/render"
	"yardbroom/internal/wording"
	"yardbroom/internal/work"
)

func carryFlags() []cli.Flag {
	return append([]cli.Flag{
		&cli.StringFlag{
			Name:  "on",
			Usage: "the `WHERE` to carry it out: a yard or a URL (default: where the batch was staged for)",
		},
		&cli.StringFlag{
			Name:  "server",
			Usage: "the one of the yard's servers to carry it out on, by `HOST` or URL; also where it was begun on another one",
		},
		&cli.BoolFlag{Name: "yes", Usage: "do not ask"},
		&cli.BoolFlag{
			Name:  "dry-run",
			Usage: "read the directory, test every guard, say what would happen, write nothing",
		},
		&cli.DurationFlag{
			Name:  "await-replication",
			Usage: "wait up to this `TIME`, such as 60s, until each other server of the yard shows every change",
		},
		waitFlag(),
		&cli.BoolFlag{
			Name:  "accept-unproved",
			Usage: "also carry out lines whose last logon could not be read again on the server it came from",
		},
	}, serverFlags()...)
}

// waitFlag says how long somebody else who is at work is waited for.
func waitFlag() cli.Flag {
	return &cli.DurationFlag{
		Name:  "wait",
		Usage: "wait up to this `TIME`, such as 10m, for another yardbroom that is at work; else the exit status is 5",
	}
}

// paceFlags say how fast a batch is carried out.
func paceFlags() []cli.Flag {
	return []cli.Flag{
		&cli.IntFlag{Name: "connections", Value: 8, Usage: "carry out this many lines at once"},
		&cli.FloatFlag{Name: "rate", Usage: "at most this many writes a second, for a busy server"},
	}
}

func (a *app) applyCommand() *cli.Command {
	return &cli.Command{
		Name: "apply", Usage: "carry a batch out, or go on with one that was stopped", ArgsUsage: "BATCH",
		Flags: slices.Concat(carryFlags(), paceFlags(), passwordFlags(), []cli.Flag{
			&cli.BoolFlag{
				Name:  "rehearse",
				Usage: "carry it out on a copy in memory, of --on or the batch's yard, and show what an audit would say then; --on may be a file or a kept survey",
			},
			&cli.IntFlag{Name: "only", Usage: "as a trial, only the first `N` lines that are left"},
			&cli.IntFlag{Name: "day-lines", Usage: "allow this many lines in 24 hours"},
			&cli.IntFlag{Name: "day-share", Usage: "allow this share of the yard's accounts in 24 hours, in per cent"},
		}),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			b, err := a.batchNamed(ctx, cmd)
			if err != nil {
				return err
			}
			if cmd.Bool("rehearse") {
				return a.rehearse(ctx, cmd, b)
			}
			return a.apply(ctx, cmd, b)
		},
	}
}

func (a *app) undoCommand() *cli.Command {
	return &cli.Command{
		Name: "undo", Usage: "take a batch back, or some of its lines, as far as everything is still as it left it", ArgsUsage: "BATCH [ACCOUNT…]",
		Description: help("undo"),
		Flags:       slices.Concat(carryFlags(), paceFlags(), backFlags()),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			b, err := a.batchNamed(ctx, cmd)
			if err != nil {
				return err
			}
			r, err := a.backRequest(cmd)
			if err != nil {
				return err
			}
			back, err := a.work.Undo(ctx, b, cmd.Args().Tail(), r)
			return broughtBack(back, err)
		},
	}
}

// backFlags are those of commands that bring something back.
func backFlags() []cli.Flag {
	return []cli.Flag{
		&cli.BoolFlag{Name: "stage", Usage: "make the batch for it, to be signed, and do not carry it out"},
		&cli.BoolFlag{
			Name:  "anew",
			Usage: "let deleted entries come back as new ones, with other SIDs and GUIDs, where the server does not bring them back; needs a signature",
		},
	}
}

// apply carries a batch out, or tries whether it could be.
func (a *app) apply(ctx context.Context, cmd *cli.Command, b *batch.Batch) error {
	r, err := a.carryRequest(cmd)
	if err != nil {
		return err
	}
	notDone := false
	if cmd.Bool("dry-run") {
		var foretold *work.Foretold
		if foretold, err = a.work.DryRun(ctx, b, r); err == nil {
			notDone = foretold.NotDone()
		}
	} else {
		var done *work.Carried
		if done, err = a.work.Apply(ctx, b, r); err == nil {
			notDone = done.NotDone()
		}
	}
	if errors.Is(err, work.ErrDone) {
		a.note("%v; nothing is left to do", err)
		if b, err = a.work.Batch(ctx, b.ID); err != nil {
			return err
		}
		notDone = slices.ContainsFunc(b.Lines, func(l batch.Line) bool { return l.State != batch.Applied && l.State != batch.Dropped })
	}
	if notDone {
		return &exitError{status: exitNotDone}
	}
	return err
}

// fewLines are told one by one, whatever became of them; of more, only those that did
// not go as planned.
const fewLines = 50

// carryRequest is how the flags say that a batch is carried out.
func (a *app) carryRequest(cmd *cli.Command) (*work.CarryRequest, error) {
	r := &work.CarryRequest{
		On:               at(cmd, cmd.String("on")),
		Server:           cmd.String("server"),
		AcceptUnproved:   cmd.Bool("accept-unproved"),
		Wait:             cmd.Duration("wait"),
		AwaitReplication: cmd.Duration("await-replication"),
		Pace: carry.Pace{
			Connections: cmd.Int("connections"),
			Rate:        cmd.Float("rate"),
			Only:        cmd.Int("only"),
			DayLines:    cmd.Int("day-lines"),
			DayShare:    cmd.Int("day-share"),
		},
	}
	if n := r.Pace.Connections; cmd.IsSet("connections") && (n < 1 || n > 64) {
		return nil, usage("--connections: %d is not a number from 1 to 64", n)
	}
	if file := cmd.String("passwords"); file != "" {
		var err error
		if r.Passwords, err = work.NewPasswords(file, work.Each(cmd.String("passwords-each")), cmd.StringSlice("passwords-for")); err != nil {
			return nil, err
		}
	} else if cmd.IsSet("passwords-for") || cmd.IsSet("passwords-each") {
		return nil, usage("--passwords-for and --passwords-each go with --passwords")
	}
	if !cmd.Bool("yes") {
		_, typing := a.terminal()
		if !typing && !cmd.Bool("dry-run") && !cmd.Bool("stage") && !cmd.Bool("rehearse") {
			return nil, usage("there is no terminal to ask on: add --yes to carry it out")
		}
		r.Agree = a.agree
	}
	var settled atomic.Int64
	r.Watch = work.Watch{
		Begins: func() { a.carrying.Store(true) }, // to the end of the command: passwords are still to be written
		Settled: func(b *batch.Batch, l *batch.Line) {
			if l.State != batch.Applied || len(b.Lines) <= fewLines {
				a.progress.clear()
				a.tellLine(string(l.State), l, l.Note)
			}
			a.progress.report(fmt.Sprintf("carrying out batch %d", b.ID), settled.Add(1), int64(len(b.Lines)))
		},
		Ended: func(done *work.Carried) {
			a.progress.clear()
			settled.Store(0)
			a.tellResult(done)
		},
		Foretold: a.tellForetold,
		Replica:  a.tellReplica,
		Left: func(undoOf int, refusals []batch.Refusal) {
			if undoOf == 0 {
				a.tellRefusals("brought back", refusals)
			} else {
				a.tellRefusals("undone", refusals)
			}
		},
		Returning: a.tellReturning,
		Overdue: func(d carry.Due) {
			fmt.Fprintf(a.out, "Batch %d was until %s:\n", d.Batch.ID, wording.Moment(d.Batch.Until, time.Local))
		},
		Staged: a.tellStaged,
	}
	return r, nil
}

// backRequest is how the flags say that something is brought back.
func (a *app) backRequest(cmd *cli.Command) (*work.BackRequest, error) {
	r, err := a.carryRequest(cmd)
	if err != nil {
		return nil, err
	}
	back := &work.BackRequest{CarryRequest: *r, Anew: cmd.Bool("anew")}
	switch {
	case cmd.Bool("stage"):
		back.How = work.ByStaging
	case cmd.Bool("dry-run"):
		back.How = work.ByDryRun
	}
	return back, nil
}

// broughtBack turns what became of bringing something back into an exit status.
func broughtBack(back *work.Back, err error) error {
	switch {
	case err != nil:
		return err
	case back.NotDone():
		return &exitError{status: exitNotDone}
	case back.Unsigned > 0:
		return &exitError{
			exitNotDone,
			fmt.Errorf("%s left for a signature: \"yardbroom %s --stage\" makes the batch for it",
				wording.Count(back.Unsigned, "line"), back.Command),
		}
	}
	return nil
}

// tellReplica says of another server whether it shows what a batch has changed.
func (a *app) tellReplica(r work.Replica) {
	waited := r.Waited.Round(time.Second)
	switch {
	case r.Err != nil:
		fmt.Fprintf(a.out, "Replication: %s could not be asked: %s\n", r.Server, render.Visible(r.Err.Error()))
	case len(r.Missing) == 0:
		fmt.Fprintf(a.out, "Replication: %s shows every change, after %s\n", r.Server, waited)
	default:
		var names []string
		for _, l := range r.Missing {
			names = append(names, l.Account)
		}
		fmt.Fprintf(a.out, "Replication: after %s, %s does not show everything of %s: %s\n", waited, r.Server,
			wording.Count(len(r.Missing), "line"), render.Visible(wording.Some(names)))
	}
}

// errNotAgreed ends a command whose question was answered with no.
var errNotAgreed = errors.New("not agreed; nothing was done")

// tellLine says what has become of a line, or would.
func (a *app) tellLine(state string, l *batch.Line, note string) {
	if note != "" {
		note = ": " + note
	}
	fmt.Fprintln(a.out, render.Visible(fmt.Sprintf("  %-13s %s (%s)%s", state, l.Account, render.Place(l.DN), note)))
}

// tellForetold says what would become of a batch.
func (a *app) tellForetold(f *work.Foretold) {
	for _, l := range f.Lines {
		state := string(l.State)
		if l.State == batch.Applied {
			state = "would be done"
		}
		a.tellLine(state, l.Line, l.Note)
	}
	if !f.TellsRights {
		a.note("note: this server does not tell beforehand what %s may write; a line that it may not do stays open",
			f.Bound)
	}
	fmt.Fprintf(a.out, "\nDry run of batch %d: %d of %s would be done. Nothing was written.\n", f.Batch.ID, f.Done(),
		wording.Count(len(f.Batch.Lines), "line"))
	if f.Halted != "" {
		fmt.Fprintf(a.err, "yardbroom: halted: %s\n", render.Visible(f.Halted))
	}
}

// tellResult says what became of a batch and how to go on.
func (a *app) tellResult(done *work.Carried) {
	b, res := done.Batch, &done.Result
	fmt.Fprintf(a.out, "\nBatch %d: %s\n", b.ID, batch.CountStates(res.Counts))
	fmt.Fprintf(a.out, "Journal head: %s\n", res.Head)
	if res.Halted != "" && !res.Planned && b.Open() > 0 {
		fmt.Fprintf(a.err, "yardbroom: halted: %s\n", render.Visible(res.Halted))
		fmt.Fprintf(a.err, "yardbroom: to go on when that is settled: yardbroom apply %d\n", b.ID)
		if b.UndoOf == 0 {
			fmt.Fprintf(a.err, "yardbroom: to take back what was done: yardbroom undo %d\n", b.ID)
		}
	}
	a.tellByHand(b)
	if res.Planned {
		fmt.Fprintf(a.out, "To go on: yardbroom apply %d\n", b.ID)
	}
	some := res.Counts[batch.Applied]+res.Counts[batch.InPart] > 0
	if b.UndoOf == 0 && slices.ContainsFunc(b.Actions, batch.HasInverse) && some && (res.Halted == "" || res.Planned) {
		fmt.Fprintf(a.out, "To take it back: yardbroom undo %d\n", b.ID)
	}
}

// mostByHand is how many things that are left to do by hand are told.
const mostByHand = 20

// tellByHand says what the lines that are done leave to be done by hand.
func (a *app) tellByHand(b *batch.Batch) {
	told := 0
	for i := range b.Lines {
		l := &b.Lines[i]
		if l.State != batch.Applied && l.State != batch.InPart {
			continue
		}
		for _, what := range l.ByHand {
			if told++; told > mostByHand {
				fmt.Fprintf(a.out, "… and more: yardbroom batch show %d names all of it\n", b.ID)
				return
			}
			fmt.Fprintf(a.out, "Left to do by hand for %s: %s\n", render.Visible(l.Account), render.Visible(what))
		}
	}
}

// agree shows what is about to happen and asks, on a terminal; elsewhere it
// wants --yes.
func (a *app) agree(b *batch.Batch, agreed *batch.Agreement) error {
	terminal, _ := a.terminal()
	render.Batch(a.out, b, agreed, a.briefly())
	fmt.Fprintf(a.err, "\nCarry out %s on %s? Type yes: ", wording.Count(b.Open(), "line"),
		render.Visible(b.Identity.Base))
	answer, err := bufio.NewReader(terminal).ReadString('\n')
	if err != nil || strings.TrimSpace(strings.ToLower(answer)) != "yes" {
		return errNotAgreed
	}
	return nil
}
