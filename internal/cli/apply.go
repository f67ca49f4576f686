package cli

import (
	"bufio"
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"yardbroom/internal/audit"
	"yardbroom/internal/batch"
	"yardbroom/internal/carry"
	"yardbroom/internal/directory"
	"yardbroom/internal/render"
	"yardbroom/internal/settings"
	"yardbroom/internal/source"
	"yardbroom/internal/store"
)

func carryFlags() []cli.Flag {
	return append([]cli.Flag{
		&cli.StringFlag{Name: "on", Usage: "the `WHERE` to carry it out: a yard or a URL (default: where the batch was staged for)"},
		&cli.BoolFlag{Name: "yes", Usage: "do not ask"},
		&cli.BoolFlag{Name: "dry-run", Usage: "read the directory, test every guard, say what would happen, write nothing"},
		&cli.BoolFlag{Name: "accept-unproved", Usage: "also carry out lines whose last logon could not be read again on the server it came from"},
	}, serverFlags()...)
}

func (a *app) applyCommand() *cli.Command {
	return &cli.Command{
		Name: "apply", Usage: "carry a batch out, or go on with one that was stopped", ArgsUsage: "BATCH", Flags: carryFlags(),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			return a.withBatch(ctx, cmd, func(s *store.Store, b *batch.Batch) error { return a.carryOut(ctx, cmd, s, b) })
		},
	}
}

func (a *app) undoCommand() *cli.Command {
	return &cli.Command{
		Name: "undo", Usage: "take a batch back, as far as everything is still as it left it", ArgsUsage: "BATCH", Flags: carryFlags(),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			return a.withBatch(ctx, cmd, func(s *store.Store, b *batch.Batch) error {
				back, refusals, err := carry.Inverse(ctx, s, b, actor(), a.now().UTC())
				if err == nil {
					var more []batch.Refusal
					more, err = a.withoutLeavers(ctx, back)
					refusals = append(refusals, more...)
				}
				for _, r := range refusals {
					fmt.Fprintln(a.err, render.Visible(fmt.Sprintf("not undone: %s (%s): %s", r.Account, render.Place(r.DN), r.Why)))
				}
				if err != nil {
					return err
				}
				return a.saveAndCarry(ctx, cmd, s, back)
			})
		},
	}
}

// withoutLeavers takes the lines out of an undo that would enable an account
// whose person has left by the last roster.
func (a *app) withoutLeavers(ctx context.Context, b *batch.Batch) (refusals []batch.Refusal, err error) {
	d, err := directory.DialectNamed(b.Identity.Dialect)
	if err != nil {
		return nil, err
	}
	raw := func(l *batch.Line) string {
		id, _ := source.ReadIdentity(d, l.ID) // one that is none is nobody's
		return id
	}
	var enabled []string
	for i := range b.Lines {
		if b.Lines[i].SwitchesOn() {
			enabled = append(enabled, raw(&b.Lines[i]))
		}
	}
	if len(enabled) == 0 {
		return nil, nil
	}
	left, err := a.leavers(ctx, b.Identity, b.Yard, enabled)
	if err != nil {
		return nil, err
	}
	b.Lines = slices.DeleteFunc(b.Lines, func(l batch.Line) bool {
		who := left[raw(&l)]
		if who == nil || !l.SwitchesOn() {
			return false
		}
		refusals = append(refusals, batch.Refusal{DN: l.DN, Account: l.Account,
			Why: audit.PersonName(who) + " has left, by the last roster; if that is wrong, give the right one to \"yardbroom reconcile\", or say with \"yardbroom link reject\" that it is not theirs"})
		return true
	})
	for i := range b.Lines {
		b.Lines[i].N = i + 1
	}
	if len(b.Lines) == 0 {
		return refusals, carry.ErrNothingToUndo
	}
	return refusals, nil
}

// saveAndCarry keeps a batch that undo or restore made, and carries it out.
// A dry run keeps nothing.
func (a *app) saveAndCarry(ctx context.Context, cmd *cli.Command, s *store.Store, b *batch.Batch) error {
	if cmd.Bool("dry-run") {
		for i := range b.Lines {
			b.Lines[i].State = batch.Waiting
		}
		b.State = batch.Staged
		return a.carryOut(ctx, cmd, s, b)
	}
	if err := b.Save(ctx, s); err != nil {
		return err
	}
	err := a.carryOut(ctx, cmd, s, b)
	if err == nil {
		return nil
	}
	// One that was never begun is not left lying about: the command that
	// made it makes another.
	if kept, loadErr := batch.Load(ctx, s, b.ID); loadErr == nil && kept.State == batch.Staged {
		return errors.Join(err, kept.Discard(ctx, s, actor(), a.now().UTC()))
	}
	return err
}

func (a *app) restoreCommand() *cli.Command {
	return &cli.Command{
		Name: "restore", Usage: "bring a deleted account back, disabled", ArgsUsage: "ACCOUNT", Flags: carryFlags(),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if cmd.Args().Len() != 1 {
				return usage("give one account, by logon name or by the DN it had")
			}
			name := cmd.Args().First()
			s, err := a.openStore(ctx)
			if err != nil {
				return err
			}
			defer s.Close()
			deleted, err := carry.FindDeleted(ctx, s, name)
			if err != nil {
				return err
			}
			var b *batch.Batch
			if len(deleted) > 0 {
				b, err = a.restoreFromJournal(ctx, s, &deleted[0])
			} else {
				b, err = a.restoreFromGrave(ctx, cmd, name)
			}
			if err != nil {
				return err
			}
			return a.saveAndCarry(ctx, cmd, s, b)
		},
	}
}

func (a *app) restoreFromJournal(ctx context.Context, s *store.Store, d *carry.Deleted) (*batch.Batch, error) {
	old, err := batch.Load(ctx, s, d.Batch)
	if err != nil {
		return nil, err
	}
	return carry.Return(old.Identity, old.Yard, d, nil, actor(), a.now().UTC())
}

// restoreFromGrave looks for an account that this journal never deleted
// among the directory's own deleted objects.
func (a *app) restoreFromGrave(ctx context.Context, cmd *cli.Command, name string) (*batch.Batch, error) {
	p, err := a.openNamed(ctx, cmd, cmd.String("on"))
	if err != nil {
		return nil, err
	}
	defer p.Close()
	server, ok := p.server()
	if !ok {
		return nil, usage("--on %s is not a directory server", p.name)
	}
	graves, err := server.Deleted(ctx, name)
	if err != nil {
		return nil, err
	}
	if len(graves) != 1 {
		return nil, fmt.Errorf("%d deleted accounts called %q in the journal and in %s", len(graves), name, server.URL)
	}
	id, err := server.Identity(ctx)
	if err != nil {
		return nil, err
	}
	return carry.Return(id, cmp.Or(cmd.String("on"), a.set.Default), nil, &graves[0], actor(), a.now().UTC())
}

// errNotAgreed ends a command whose question was answered with no.
var errNotAgreed = errors.New("not agreed; nothing was done")

// target is the server that a batch is carried out on. The connection does
// not end with the context: what was begun is finished first.
func (a *app) target(ctx context.Context, cmd *cli.Command, b *batch.Batch) (*place, error) {
	where := cmp.Or(cmd.String("on"), b.Yard, a.set.Default)
	if where == "" {
		return nil, usage("batch %d was staged from %s: say where to carry it out with --on", b.ID, b.Source)
	}
	p, err := a.openNamed(context.WithoutCancel(ctx), cmd, where)
	if err != nil {
		return nil, err
	}
	if _, ok := p.server(); !ok {
		p.Close()
		return nil, usage("--on %s is not a directory server", where)
	}
	return p, nil
}

func (a *app) carryOut(ctx context.Context, cmd *cli.Command, s *store.Store, b *batch.Batch) error {
	if b.Open() == 0 {
		return fmt.Errorf("batch %d has no line left to carry out", b.ID)
	}
	dry := cmd.Bool("dry-run")
	if !dry {
		if err := a.agree(cmd, b); err != nil {
			return err
		}
		unlock, err := s.Lock()
		if err != nil {
			return err
		}
		defer unlock()
		// Somebody else may have carried it out while it was being asked.
		if b, err = batch.Load(ctx, s, b.ID); err != nil {
			return err
		}
		if b.Open() == 0 {
			return fmt.Errorf("batch %d has no line left to carry out", b.ID)
		}
	}
	p, err := a.target(ctx, cmd, b)
	if err != nil {
		return err
	}
	defer p.Close()
	server, _ := p.server()
	protection, err := a.protection(ctx, p, server.Dialect)
	if err != nil {
		return err
	}
	r := &carry.Runner{Store: s, Batch: b, Server: server, Protection: protection, Named: a.set.Audit.PrivilegedGroups,
		DefaultPolicy: p.yard.DefaultPolicy, By: actor(), Now: a.now, DryRun: dry, AcceptUnproved: cmd.Bool("accept-unproved"),
		Other: a.otherServer(p.yard)}
	r.Progress = func(l *batch.Line) {
		if l.State != batch.Applied || dry || len(b.Lines) <= 50 {
			fmt.Fprintln(a.out, render.Visible(progressLine(l)))
		}
	}
	res, err := r.Run(ctx)
	if err != nil {
		return err
	}
	return a.tellResult(b, res, dry)
}

func progressLine(l *batch.Line) string {
	note := l.Note
	if note != "" {
		note = ": " + note
	}
	state := string(l.State)
	if l.Note == "would be done" {
		state, note = "would be done", ""
	}
	return fmt.Sprintf("  %-13s %s (%s)%s", state, l.Account, render.Place(l.DN), note)
}

// tellResult says what became of the batch and how to go on.
func (a *app) tellResult(b *batch.Batch, res carry.Result, dry bool) error {
	if dry {
		fmt.Fprintf(a.out, "\nDry run of batch %d: %d of %s would be done. Nothing was written.\n", b.ID, res.Counts[batch.Applied], render.Count(len(b.Lines), "line"))
	} else {
		fmt.Fprintf(a.out, "\nBatch %d: %s\n", b.ID, countStates(res.Counts))
		fmt.Fprintf(a.out, "Journal head: %s\n", res.Head)
	}
	if res.Halted != "" {
		fmt.Fprintf(a.err, "yardbroom: halted: %s\n", render.Visible(res.Halted))
		if !dry {
			fmt.Fprintf(a.err, "yardbroom: to go on when that is settled: yardbroom apply %d; to take back what was done: yardbroom undo %d\n", b.ID, b.ID)
		}
	}
	if !dry && b.UndoOf == 0 && res.Counts[batch.Applied] > 0 && res.Halted == "" {
		fmt.Fprintf(a.out, "To take it back: yardbroom undo %d\n", b.ID)
	}
	if res.NotDone() > 0 || res.Halted != "" {
		return &exitError{status: exitNotDone}
	}
	return nil
}

// agree shows what is about to happen and asks, on a terminal; elsewhere it
// wants --yes.
func (a *app) agree(cmd *cli.Command, b *batch.Batch) error {
	if cmd.Bool("yes") {
		return nil
	}
	terminal, ok := a.terminal()
	if !ok {
		return usage("there is no terminal to ask on: add --yes to carry batch %d out", b.ID)
	}
	render.Batch(a.out, b, a.style(time.Local))
	fmt.Fprintf(a.err, "\nCarry out %s on %s? Type yes: ", render.Count(b.Open(), "line"), render.Visible(b.Identity.Base))
	answer, err := bufio.NewReader(terminal).ReadString('\n')
	if err != nil || strings.TrimSpace(strings.ToLower(answer)) != "yes" {
		return errNotAgreed
	}
	return nil
}

// otherServer connects to another server of the yard by its host name.
func (a *app) otherServer(yard settings.Yard) func(context.Context, string) (*source.Server, error) {
	return func(ctx context.Context, host string) (*source.Server, error) {
		var tried []error
		for _, url := range yard.Servers {
			one := yard
			one.Servers = []string{url}
			s, err := source.Connect(ctx, source.Target{Yard: one, Ask: a.ask(), Now: a.now})
			if err != nil {
				tried = append(tried, err)
				continue
			}
			if strings.EqualFold(s.HostName(), host) {
				return s, nil
			}
			s.Close()
		}
		return nil, errors.Join(append(tried, fmt.Errorf("none of the yard's servers is %s", host))...)
	}
}
