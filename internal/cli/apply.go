package cli

import (
	"bufio"
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"
	"golang.org/x/time/rate"

	"yardbroom/internal/audit"
	"yardbroom/internal/batch"
	"yardbroom/internal/carry"
	"yardbroom/internal/directory"
	"yardbroom/internal/privilege"
	"yardbroom/internal/reconcile"
	"yardbroom/internal/render"
	"yardbroom/internal/settings"
	"yardbroom/internal/source"
	"yardbroom/internal/store"
)

func carryFlags() []cli.Flag {
	return append([]cli.Flag{
		&cli.StringFlag{Name: "on", Usage: "the `WHERE` to carry it out: a yard or a URL (default: where the batch was staged for)"},
		&cli.StringFlag{Name: "server", Usage: "the one of the yard's servers to carry it out on, by `HOST` or URL; also where it was begun on another one"},
		&cli.BoolFlag{Name: "yes", Usage: "do not ask"},
		&cli.BoolFlag{Name: "dry-run", Usage: "read the directory, test every guard, say what would happen, write nothing"},
		&cli.DurationFlag{Name: "await-replication", Usage: "wait up to this `TIME`, such as 60s, until each other server of the yard shows every change"},
		&cli.BoolFlag{Name: "accept-unproved", Usage: "also carry out lines whose last logon could not be read again on the server it came from"},
	}, serverFlags()...)
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
			&cli.BoolFlag{Name: "rehearse", Usage: "carry it out on a copy in memory, of --on or the batch's yard, and show what an audit would say then; --on may be a file or a kept survey"},
			&cli.IntFlag{Name: "only", Usage: "as a trial, only the first `N` lines that are left"},
			&cli.IntFlag{Name: "day-lines", Usage: "allow this many lines in 24 hours"},
			&cli.IntFlag{Name: "day-share", Usage: "allow this share of the yard's accounts in 24 hours, in per cent"},
		}),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			return a.withBatch(ctx, cmd, func(s *store.Store, b *batch.Batch) error {
				if cmd.Bool("rehearse") {
					return a.rehearse(ctx, cmd, b)
				}
				return a.carryOut(ctx, cmd, s, b)
			})
		},
	}
}

func (a *app) undoCommand() *cli.Command {
	return &cli.Command{
		Name: "undo", Usage: "take a batch back, or some of its lines, as far as everything is still as it left it", ArgsUsage: "BATCH [ACCOUNT…]",
		Description: "What would change privileged accounts, or put somebody back into a privileged group, needs a signature: it is left out, unless\nwith --stage, which makes the batch for \"yardbroom batch sign\" and \"yardbroom apply\" and carries nothing out.",
		Flags:       slices.Concat(carryFlags(), paceFlags(), backFlags()),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			return a.withBatch(ctx, cmd, func(s *store.Store, b *batch.Batch) error { return a.undo(ctx, cmd, s, b, cmd.Args().Tail()) })
		},
	}
}

// backFlags are those of commands that bring something back.
func backFlags() []cli.Flag {
	return []cli.Flag{&cli.BoolFlag{Name: "stage", Usage: "make the batch for it, to be signed, and do not carry it out"},
		&cli.BoolFlag{Name: "anew", Usage: "let deleted entries come back as new ones, with other SIDs and GUIDs, where the server does not bring them back; needs a signature"}}
}

// undo takes a batch back, or only the lines of some accounts. An undo of all
// of it that was stopped half-way goes on first.
func (a *app) undo(ctx context.Context, cmd *cli.Command, s *store.Store, b *batch.Batch, accounts []string) error {
	if len(accounts) > 0 || cmd.Bool("stage") || cmd.Bool("dry-run") {
		return a.undoRest(ctx, cmd, s, b, accounts)
	}
	begun, err := carry.Unfinished(ctx, s, func(head *batch.Batch) bool { return head.UndoOf == b.ID })
	if err != nil {
		return err
	}
	for _, back := range begun {
		a.note("batch %d has begun to take batch %d back and was stopped; it goes on", back.ID, b.ID)
		if err := a.carryOut(ctx, cmd, s, back); err != nil {
			return err
		}
	}
	if err = a.undoRest(ctx, cmd, s, b, nil); len(begun) > 0 && errors.Is(err, carry.ErrNothingToUndo) {
		return nil
	}
	return err
}

// undoRest takes back what no other batch has taken back, or is about to.
func (a *app) undoRest(ctx context.Context, cmd *cli.Command, s *store.Store, b *batch.Batch, accounts []string) error {
	back, refusals, err := carry.Inverse(ctx, s, b, accounts, actor(), a.now().UTC())
	if err == nil {
		var more []batch.Refusal
		more, err = a.withoutBarred(ctx, s, back)
		refusals = append(refusals, more...)
		if err == nil && len(back.Lines) == 0 {
			err = carry.ErrNothingToUndo
		}
	}
	if err != nil {
		a.tellRefusals("undone", refusals)
		return err
	}
	return a.bringBack(ctx, cmd, s, back, refusals, fmt.Sprintf("undo %d", b.ID))
}

// bringBack carries out a batch that the journal made, but for what needs a
// signature; with --stage it makes it for that. The command is how to come here
// again.
func (a *app) bringBack(ctx context.Context, cmd *cli.Command, s *store.Store, back *batch.Batch, refusals []batch.Refusal, command string) error {
	more, err := a.reassess(ctx, cmd, s, back)
	refusals = append(refusals, more...)
	if cmd.Bool("anew") {
		back.AllowAnew("")
	}
	var unsigned []batch.Refusal
	if err == nil && !cmd.Bool("stage") {
		unsigned, err = carry.WithoutPrivileged(back, command)
		refusals = append(refusals, unsigned...)
	}
	if hosts := carry.Hosts(back); len(hosts) > 0 {
		a.note("the lines were not all done on one server: %s", strings.Join(hosts, ", "))
	}
	verb := "undone"
	if back.UndoOf == 0 {
		verb = "brought back"
	}
	a.tellRefusals(verb, refusals)
	if err != nil {
		return err
	}
	if !cmd.Bool("stage") {
		if err := a.saveAndCarry(ctx, cmd, s, back); err != nil || len(unsigned) == 0 {
			return err
		}
		return &exitError{exitNotDone, fmt.Errorf("%s left for a signature: \"yardbroom %s --stage\" makes the batch for it", render.Count(len(unsigned), "line"), command)}
	}
	if err := back.Save(ctx, s); err != nil {
		return err
	}
	return a.tellStaged(ctx, s, back)
}

// reassess judges a batch that the journal has made by the directory as it is
// now.
func (a *app) reassess(ctx context.Context, cmd *cli.Command, s *store.Store, b *batch.Batch) ([]batch.Refusal, error) {
	p, err := a.target(ctx, cmd, s, b)
	if err != nil {
		return nil, err
	}
	defer p.Close()
	id, err := p.Identity(ctx)
	if err != nil {
		return nil, err
	}
	if !id.Same(b.Identity) {
		return nil, fmt.Errorf("batch %d is for %s, but %s is %s: nothing was done", b.UndoOf, b.Identity, p.Where(), id)
	}
	protection, err := a.protection(ctx, p)
	if err != nil {
		return nil, err
	}
	powers := &privilege.Climber{From: p.Source, Dialect: protection.Dialect, Rules: privilege.RulesFor(id, a.set.Audit.PrivilegedGroups)}
	if server, ok := p.server(); ok && slices.ContainsFunc(b.Lines, func(l batch.Line) bool { return l.Has(batch.Restore) }) {
		last, err := carry.LastTrial(ctx, s, id, server.HostName())
		if err != nil {
			return nil, err
		}
		if last != nil && !last.Itself {
			b.AllowAnew(last.String() + ": rights given to the old SID are lost")
		}
	}
	refusals, err := b.Reassess(ctx, p.Source, powers, &protection)
	if err == nil && len(b.Lines) == 0 {
		err = carry.ErrNothingToUndo
	}
	return refusals, err
}

// withoutBarred takes the lines out of a batch that would enable somebody who
// is not to be enabled.
func (a *app) withoutBarred(ctx context.Context, s *store.Store, b *batch.Batch) (refusals []batch.Refusal, err error) {
	barred, err := a.barred(ctx, s, b)
	if err != nil {
		return nil, err
	}
	b.Lines = slices.DeleteFunc(b.Lines, func(l batch.Line) bool {
		why, is := barred[l.N]
		if is {
			refusals = append(refusals, batch.Refusal{DN: l.DN, Account: l.Account, Why: why})
		}
		return is
	})
	for i := range b.Lines {
		b.Lines[i].N = i + 1
	}
	return refusals, nil
}

// barred returns the lines that must not be begun for what the state folder
// knows, by their numbers, and says why: they would enable an account whose
// person has left by the last roster, or that another batch has suspended until
// a date; or they rest on a roster that a later one contradicts.
func (a *app) barred(ctx context.Context, s *store.Store, b *batch.Batch) (map[int]string, error) {
	d, err := directory.DialectNamed(b.Identity.Dialect)
	if err != nil {
		return nil, err
	}
	on, off := map[string]int{}, map[string]int{} // by raw identity
	for i := range b.Lines {
		l := &b.Lines[i]
		id, _ := source.ReadIdentity(d, l.ID) // one that is none is nobody's
		switch {
		case l.SwitchesOn():
			on[id] = l.N
		case l.Check == "leaver-enabled":
			off[id] = l.N
		}
	}
	why := map[int]string{}
	if len(on) > 0 {
		reasons, err := a.notToBeEnabled(ctx, s, b.Identity, b.Yard, b.UndoOf, slices.Collect(maps.Keys(on)))
		if err != nil {
			return nil, err
		}
		for id, reason := range reasons {
			why[on[id]] = reason
		}
	}
	if len(off) > 0 {
		reasons, err := a.notLeft(ctx, b, slices.Collect(maps.Keys(off)))
		if err != nil {
			return nil, err
		}
		for id, reason := range reasons {
			why[off[id]] = reason
		}
	}
	return why, nil
}

// notLeft tells of accounts, by raw identity, whose people were leavers when
// the batch was staged and are none by a roster that was read since, or by what
// was decided about whose account it is.
func (a *app) notLeft(ctx context.Context, b *batch.Batch, accounts []string) (map[string]string, error) {
	if !a.remembers() {
		return nil, nil
	}
	p := &place{yard: a.set.Yards[b.Yard]}
	opt, err := a.matchOptions(ctx, p)
	if err != nil {
		return nil, err
	}
	found, list, err := a.remembered(b.Identity, opt.Links, accounts...)
	if err != nil || list == nil {
		return nil, err
	}
	if !list.about.Read.After(b.Created) { // the batch may rest on another
		accounts = slices.DeleteFunc(accounts, func(account string) bool {
			return !slices.ContainsFunc(opt.Links, func(l reconcile.Link) bool { return l.Account == account && l.Rejected })
		})
	}
	left := a.leaversAmong(found, list, p)
	why := map[string]string{}
	for _, account := range accounts {
		if left[account] == nil {
			why[account] = "its person has not left, by the roster of " + list.about.Read.Format(time.DateOnly) + " and the links; stage it again"
		}
	}
	return why, nil
}

// notToBeEnabled tells of accounts, by raw identity, why they must not be
// enabled. What takes back the batch that suspended one may.
func (a *app) notToBeEnabled(ctx context.Context, s *store.Store, id source.Identity, yard string, undoOf int, accounts []string) (map[string]string, error) {
	d, err := directory.DialectNamed(id.Dialect)
	if err != nil {
		return nil, err
	}
	suspended, err := carry.Suspensions(ctx, s, id, a.now().UTC())
	if err != nil {
		return nil, err
	}
	why := map[string]string{}
	for _, account := range accounts {
		if one, is := suspended[source.ShowIdentity(d, account)]; is && one.Batch != undoOf {
			why[account] = fmt.Sprintf("it is suspended %s; \"yardbroom undo %d\" with its name ends that", one, one.Batch)
		}
	}
	left, err := a.leavers(ctx, id, yard, accounts)
	for account, who := range left {
		why[account] = audit.PersonName(who) + " has left, by the last roster; if that is wrong, give the right one to \"yardbroom reconcile\", or say with \"yardbroom link reject\" that it is not theirs"
	}
	return why, err
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

// errNotAgreed ends a command whose question was answered with no.
var errNotAgreed = errors.New("not agreed; nothing was done")

// target is the server that a batch is carried out on: the one that --server names,
// or the one that it was begun on. The connection does not end with the context:
// what was begun is finished first.
func (a *app) target(ctx context.Context, cmd *cli.Command, s *store.Store, b *batch.Batch) (*place, error) {
	where := cmp.Or(cmd.String("on"), b.Yard, a.set.Default)
	if where == "" {
		return nil, usage("batch %d was staged from %s: say where to carry it out with --on", b.ID, b.Source)
	}
	begun, err := carry.BegunOn(ctx, s, b)
	if err != nil {
		return nil, err
	}
	only := cmd.String("server")
	if only == "" && slices.Contains(a.set.Yards[where].Servers, begun.URL) {
		only = begun.URL
	}
	p, err := a.openOne(context.WithoutCancel(ctx), cmd, where, only)
	if err != nil {
		if cmd.String("server") == "" && only != "" {
			err = fmt.Errorf("%w\n%s, where it was begun, cannot be used: wait for it, or say with --server on which server it is to go on", err, begun.Host)
		}
		return nil, err
	}
	if _, ok := p.server(); !ok {
		p.Close()
		return nil, usage("--on %s is not a directory server", where)
	}
	return p, nil
}

// openOne opens a yard by one of its servers only, named by its URL or its host, or
// by any where that is "". Of a place that is no yard of the settings nothing is
// chosen.
func (a *app) openOne(ctx context.Context, cmd *cli.Command, where, server string) (*place, error) {
	yard, known := a.set.Yards[where]
	if !known || server == "" {
		return a.openNamed(ctx, cmd, where)
	}
	is := func(listed string) bool {
		u, err := url.Parse(listed)
		return strings.EqualFold(listed, server) || err == nil && strings.EqualFold(u.Hostname(), server)
	}
	i := slices.IndexFunc(yard.Servers, is)
	if i < 0 {
		return nil, usage("%s is none of the servers of the yard %s: %s", server, where, strings.Join(yard.Servers, ", "))
	}
	one := yard
	one.Servers = yard.Servers[i : i+1]
	var err error
	if a.keep, err = audit.Attributes(a.set); err != nil {
		return nil, &exitError{exitUsage, err}
	}
	p, err := a.connect(ctx, where, one)
	if err == nil {
		p.yard = yard // guards may rest on the others
	}
	return p, err
}

func (a *app) carryOut(ctx context.Context, cmd *cli.Command, s *store.Store, b *batch.Batch) error {
	dry := cmd.Bool("dry-run")
	if b.Open() == 0 && (dry || b.State != batch.Begun) {
		return nothingLeft(b)
	}
	if !dry {
		if b.Open() > 0 {
			if err := a.agree(ctx, cmd, s, b); err != nil {
				return err
			}
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
			return a.conclude(ctx, s, b)
		}
	}
	p, err := a.target(ctx, cmd, s, b)
	if err != nil {
		return err
	}
	defer p.Close()
	server, _ := p.server()
	if err := a.named(ctx, p, nil, true); err != nil {
		return err
	}
	protection, err := a.protection(ctx, p)
	if err != nil {
		return err
	}
	r := &carry.Runner{Store: s, Batch: b, Server: server, Protection: protection, Settings: a.set,
		DefaultPolicy: p.yard.DefaultPolicy, By: actor(), Now: a.now, DryRun: dry, AcceptUnproved: cmd.Bool("accept-unproved"),
		Other: a.otherServer(p.yard), Homes: p.yard.Homes, AnotherServer: cmd.String("server") != ""}
	if err := pace(cmd, r); err != nil {
		return err
	}
	// What was made long ago is judged by the roster of today.
	if r.Barred, err = a.barred(ctx, s, b); err != nil {
		return err
	}
	r.Progress = func(l *batch.Line) {
		if l.State != batch.Applied || dry || len(b.Lines) <= 50 {
			fmt.Fprintln(a.out, render.Visible(progressLine(l)))
		}
	}
	if !dry {
		if err := a.forgetDeleted(); err != nil {
			return err
		}
		r.Keep = a.keepDeleted(b)
		defer a.tellDeleted(b)
	}
	r.Tell = func(text string) { a.note("%s", text) }
	a.carrying.Store(true) // to the end of the command: passwords are still to be written
	res, err := r.Run(ctx)
	if err != nil {
		return err
	}
	if !dry {
		defer a.signHead(context.WithoutCancel(ctx), s)
	}
	if dry && !server.TellsRights() {
		a.note("note: this server does not tell beforehand what %s may write; a line that it may not do stays open", server.Bound)
	}
	err = a.tellResult(b, res, dry)
	if within := cmd.Duration("await-replication"); within > 0 && !dry {
		err = cmp.Or(err, a.awaitReplication(ctx, r, p.yard, within))
	}
	return err
}

// awaitReplication says of each other server of the yard whether it shows what the
// batch has changed.
func (a *app) awaitReplication(ctx context.Context, r *carry.Runner, yard settings.Yard, within time.Duration) error {
	behind := 0
	for _, url := range yard.Servers {
		s, err := a.connectTo(ctx, yard, url)
		if err != nil {
			fmt.Fprintf(a.out, "Replication: %s could not be asked: %s\n", url, render.Visible(err.Error()))
			behind++
			continue
		}
		if strings.EqualFold(s.HostName(), r.Server.HostName()) {
			s.Close()
			continue
		}
		missing, waited, err := r.Replicated(ctx, s, within)
		s.Close()
		if err != nil {
			return err
		}
		if len(missing) == 0 {
			fmt.Fprintf(a.out, "Replication: %s shows every change, after %s\n", s.HostName(), waited.Round(time.Second))
			continue
		}
		behind++
		var names []string
		for _, l := range missing {
			names = append(names, l.Account)
		}
		fmt.Fprintf(a.out, "Replication: after %s, %s does not show everything of %s: %s\n", waited.Round(time.Second), s.HostName(), render.Count(len(missing), "line"), render.Visible(someOf(names)))
	}
	if behind > 0 {
		return &exitError{status: exitNotDone}
	}
	return nil
}

func nothingLeft(b *batch.Batch) error {
	return fmt.Errorf("batch %d has no line left to carry out: it is %s", b.ID, b.State)
}

// conclude ends a batch without open lines that was stopped after the last of
// them, before it could say so.
func (a *app) conclude(ctx context.Context, s *store.Store, b *batch.Batch) error {
	if b.State != batch.Begun {
		return nothingLeft(b)
	}
	r := &carry.Runner{Store: s, Batch: b, By: actor(), Now: a.now}
	res, err := r.Close(ctx)
	if err != nil {
		return err
	}
	defer a.signHead(ctx, s)
	return a.tellResult(b, res, false)
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
	if res.Halted != "" && !res.Planned && b.Open() > 0 {
		fmt.Fprintf(a.err, "yardbroom: halted: %s\n", render.Visible(res.Halted))
		if !dry {
			fmt.Fprintf(a.err, "yardbroom: to go on when that is settled: yardbroom apply %d\n", b.ID)
		}
		if !dry && b.UndoOf == 0 {
			fmt.Fprintf(a.err, "yardbroom: to take back what was done: yardbroom undo %d\n", b.ID)
		}
	}
	if res.Planned && !dry {
		fmt.Fprintf(a.out, "To go on: yardbroom apply %d\n", b.ID)
	}
	if !dry && b.UndoOf == 0 && slices.ContainsFunc(b.Actions, batch.HasInverse) && res.Counts[batch.Applied]+res.Counts[batch.InPart] > 0 && (res.Halted == "" || res.Planned) {
		fmt.Fprintf(a.out, "To take it back: yardbroom undo %d\n", b.ID)
	}
	if res.NotDone() > 0 || res.Halted != "" && !res.Planned {
		return &exitError{status: exitNotDone}
	}
	return nil
}

// pace tells the runner how fast to go, and where new passwords go.
func pace(cmd *cli.Command, r *carry.Runner) error {
	r.Only, r.DayLines, r.DayShare = cmd.Int("only"), cmd.Int("day-lines"), cmd.Int("day-share")
	r.Connections = cmd.Int("connections")
	if cmd.IsSet("connections") && (r.Connections < 1 || r.Connections > 64) {
		return usage("--connections: %d is not a number from 1 to 64", r.Connections)
	}
	if n := cmd.Float("rate"); n > 0 {
		r.Rate = rate.NewLimiter(rate.Limit(n), 1)
	}
	to, err := passwordFile(cmd)
	if to != nil {
		r.Deliver = to.deliver
	}
	return err
}

// agree shows what is about to happen and asks, on a terminal; elsewhere it
// wants --yes.
func (a *app) agree(ctx context.Context, cmd *cli.Command, s *store.Store, b *batch.Batch) error {
	agreed, err := b.CheckAgreed(ctx, s, a.set, a.now().UTC())
	if err != nil {
		return err
	}
	if cmd.Bool("yes") {
		return nil
	}
	terminal, ok := a.terminal()
	if !ok {
		return usage("there is no terminal to ask on: add --yes to carry batch %d out", b.ID)
	}
	render.Batch(a.out, b, agreed, a.glance())
	fmt.Fprintf(a.err, "\nCarry out %s on %s? Type yes: ", render.Count(b.Open(), "line"), render.Visible(b.Identity.Base))
	answer, err := bufio.NewReader(terminal).ReadString('\n')
	if err != nil || strings.TrimSpace(strings.ToLower(answer)) != "yes" {
		return errNotAgreed
	}
	return nil
}

// connectTo connects to one server of a yard.
func (a *app) connectTo(ctx context.Context, yard settings.Yard, url string) (*source.Server, error) {
	yard.Servers = []string{url}
	return source.Connect(ctx, source.Target{Yard: yard, Ask: a.ask(), Now: a.now})
}

// otherServer connects to another server of the yard by its host name.
func (a *app) otherServer(yard settings.Yard) func(context.Context, string) (*source.Server, error) {
	return func(ctx context.Context, host string) (*source.Server, error) {
		var tried []error
		for _, url := range yard.Servers {
			s, err := a.connectTo(ctx, yard, url)
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
