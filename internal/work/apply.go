package work

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"yardbroom/internal/batch"
	"yardbroom/internal/carry"
	"yardbroom/internal/settings"
)

// CarryRequest says where and how a batch is carried out.
type CarryRequest struct {
	// On is the yard or URL to carry it out on, with how to reach it; its Where is
	// "" for the one that the batch was staged for.
	On From
	// Server is the one of the yard's servers to use, by host or URL, also where
	// the batch was begun on another one; "" is the one it was begun on, or any.
	Server string
	// AcceptUnproved carries out lines whose guard could not be read on the
	// server that it came from.
	AcceptUnproved bool
	Pace           carry.Pace
	// Barred are lines that must not be begun, by their numbers, and why.
	Barred map[int]string
	// Passwords are where new ones go; nil where no batch may set any.
	Passwords *Passwords
	// AwaitReplication is how long other servers of the yard are waited for until
	// they show every change; 0 asks none.
	AwaitReplication time.Duration
	// Wait is how long another one that carries out a batch in this state folder
	// is waited for.
	Wait time.Duration
	// Agree asks whether a batch is to be carried out, and returns why not. Nil
	// where that is agreed.
	Agree func(b *batch.Batch, agreed *batch.Agreement) error
	Watch Watch
}

// Watch is told of what happens while it happens. Each function may be nil.
type Watch struct {
	// Begins is told that from now on a stop waits for what has been begun.
	Begins func()
	// Settled is told of each line that has come to an end, Ended of each batch.
	Settled func(*batch.Batch, *batch.Line)
	Ended   func(*Carried)
	// Foretold is told what would become of a batch, by a dry run.
	Foretold func(*Foretold)
	// Replica is told what another server shows of what was changed.
	Replica func(Replica)
	// Left is told who was left out of a batch that takes another back, or, where
	// undoOf is 0, brings deleted entries back.
	Left func(undoOf int, refusals []batch.Refusal)
	// Returning is told of a deleted entry before it is brought back.
	Returning func(*Returning)
	// Overdue is told of a batch whose time is over, before it is taken back.
	Overdue func(carry.Due)
	// Staged is told of a batch that brings something back and waits for a
	// signature.
	Staged func(*Staged)
}

// Carried is what became of a batch.
type Carried struct {
	Batch  *batch.Batch
	Result carry.Result
	// Behind are other servers that do not show every change.
	Behind []Replica
}

// NotDone tells whether lines are left that should have been done.
func (c *Carried) NotDone() bool {
	return c.Result.NotDone() > 0 || c.Result.Halted != "" && !c.Result.Planned || len(c.Behind) > 0
}

// Replica is what another server of the yard shows of a batch.
type Replica struct {
	Server  string        // host, or URL where it could not be asked
	Waited  time.Duration // for it
	Missing []*batch.Line // of which it does not show everything
	Err     error         // why it could not be asked
}

// Apply carries out what is left of a batch, or goes on with one that was
// stopped.
func (s *Session) Apply(ctx context.Context, b *batch.Batch, r *CarryRequest) (*Carried, error) {
	kept, err := s.Store(ctx)
	if err != nil {
		return nil, err
	}
	if b.Open() == 0 && b.State != batch.Begun {
		return nil, nothingLeft(b)
	}
	if b.Open() > 0 {
		agreed, err := b.CheckAgreed(ctx, kept, s.Settings, s.now())
		if err != nil {
			return nil, err
		}
		if r.Agree != nil {
			if err := r.Agree(b, agreed); err != nil {
				return nil, err
			}
		}
	}
	unlock, err := Await(ctx, r.Wait, kept.Lock)
	if err != nil {
		return nil, err
	}
	defer unlock()
	// Somebody else may have carried it out while it was being asked.
	if b, err = batch.Load(ctx, kept, b.ID); err != nil {
		return nil, err
	}
	if b.Open() == 0 {
		return s.conclude(ctx, b, r)
	}
	p, err := s.target(ctx, b, r)
	if err != nil {
		return nil, err
	}
	defer p.Close()
	job, err := s.job(ctx, p, b, r)
	if err != nil {
		return nil, err
	}
	if err := s.forgetDeleted(); err != nil {
		return nil, err
	}
	job.Keep = s.keepDeleted(b)
	defer s.noteDeleted(b)
	r.Watch.begins()
	res, err := job.Run(ctx, r.Pace)
	if err != nil {
		return nil, err
	}
	done := &Carried{Batch: b, Result: res}
	r.Watch.ended(done)
	s.signHead(context.WithoutCancel(ctx))
	if r.AwaitReplication > 0 {
		done.Behind, err = s.awaitReplication(ctx, b, p.Yard, job.Server.HostName(), r)
	}
	return done, err
}

// Foretold is what would become of a batch.
type Foretold struct {
	Batch *batch.Batch
	carry.Foretold
	// Bound is the account that was signed in; TellsRights whether the server
	// tells beforehand what that may write.
	Bound       string
	TellsRights bool
}

// DryRun reads the directory, tests every guard and judges every line as Apply
// would, and writes nothing.
func (s *Session) DryRun(ctx context.Context, b *batch.Batch, r *CarryRequest) (*Foretold, error) {
	if b.Open() == 0 {
		return nil, nothingLeft(b)
	}
	p, err := s.target(ctx, b, r)
	if err != nil {
		return nil, err
	}
	defer p.Close()
	job, err := s.job(ctx, p, b, r)
	if err != nil {
		return nil, err
	}
	foretold, err := job.DryRun(ctx, r.Pace)
	if err != nil {
		return nil, err
	}
	out := &Foretold{Batch: b, Foretold: *foretold, Bound: job.Server.Bound, TellsRights: job.Server.TellsRights()}
	if r.Watch.Foretold != nil {
		r.Watch.Foretold(out)
	}
	return out, nil
}

// job is a batch as it is carried out on a place.
func (s *Session) job(ctx context.Context, p *Place, b *batch.Batch, r *CarryRequest) (*carry.Job, error) {
	server, _ := p.Server()
	if err := s.RefuseMissing(ctx, p, nil); err != nil {
		return nil, err
	}
	protection, err := s.protection(ctx, p)
	if err != nil {
		return nil, err
	}
	protection.Returning = b.ComesDown()
	kept, err := s.Store(ctx)
	if err != nil {
		return nil, err
	}
	job := &carry.Job{Store: kept, Batch: b, Server: server, Protection: protection, Settings: s.Settings,
		DefaultPolicy: p.Yard.DefaultPolicy, By: s.By, Now: s.Now, AcceptUnproved: r.AcceptUnproved,
		Other: s.otherServer(p.Yard), Homes: p.Yard.Homes, AnotherServer: r.Server != ""}
	if r.Passwords != nil {
		if err := r.Passwords.learn(ctx, p, b); err != nil {
			return nil, err
		}
		job.Deliver = r.Passwords.Deliver
	}
	// What was made long ago is judged by the roster of today.
	if job.Barred, err = s.barred(ctx, b); err != nil {
		return nil, err
	}
	maps.Copy(job.Barred, r.Barred)
	if settled := r.Watch.Settled; settled != nil {
		job.Settled = func(l *batch.Line) { settled(b, l) }
	}
	job.Tell = func(text string) { s.note("%s", text) }
	return job, nil
}

// target is the server that a batch is carried out on: the one that the request
// names, or the one that it was begun on. The connection does not end with the
// context: what was begun is finished first.
func (s *Session) target(ctx context.Context, b *batch.Batch, r *CarryRequest) (*Place, error) {
	on := r.On
	if on.Where = cmp.Or(on.Where, b.Yard, s.Settings.Default); on.Where == "" {
		return nil, Wrong("batch %d was staged from %s: say where to carry it out with --on", b.ID, b.Source)
	}
	kept, err := s.Store(ctx)
	if err != nil {
		return nil, err
	}
	begun, err := carry.BegunOn(ctx, kept, b)
	if err != nil {
		return nil, err
	}
	only := r.Server
	if only == "" && slices.Contains(s.Settings.Yards[on.Where].Servers, begun.URL) {
		only = begun.URL
	}
	p, err := s.OpenOne(context.WithoutCancel(ctx), on, only)
	if err != nil {
		if r.Server == "" && only != "" {
			err = fmt.Errorf(
				"%w\n%s, where it was begun, cannot be used: wait for it, or say with --server on which server it is to go on",
				err,
				begun.Host,
			)
		}
		return nil, err
	}
	if _, ok := p.Server(); !ok {
		p.Close()
		return nil, Wrong("--on %s is not a directory server", on.Where)
	}
	return p, nil
}

// ErrDone is the error for a batch that has been carried out to its end already.
var ErrDone = errors.New("it has been carried out already")

func nothingLeft(b *batch.Batch) error {
	if b.State == batch.Done {
		counts := map[batch.LineState]int{}
		for i := range b.Lines {
			counts[b.Lines[i].State]++
		}
		return fmt.Errorf("batch %d: %w: %s", b.ID, ErrDone, batch.CountStates(counts))
	}
	return fmt.Errorf("batch %d has no line left to carry out: it is %s", b.ID, b.State)
}

// conclude ends a batch without open lines that was stopped after the last of
// them, before it could say so.
func (s *Session) conclude(ctx context.Context, b *batch.Batch, r *CarryRequest) (*Carried, error) {
	if b.State != batch.Begun {
		return nil, nothingLeft(b)
	}
	kept, err := s.Store(ctx)
	if err != nil {
		return nil, err
	}
	job := &carry.Job{Store: kept, Batch: b, By: s.By, Now: s.Now}
	res, err := job.Close(ctx)
	if err != nil {
		return nil, err
	}
	done := &Carried{Batch: b, Result: res}
	r.Watch.ended(done)
	s.signHead(ctx)
	return done, nil
}

func (w *Watch) begins() {
	if w.Begins != nil {
		w.Begins()
	}
}

func (w *Watch) ended(done *Carried) {
	if w.Ended != nil {
		w.Ended(done)
	}
}

// awaitReplication asks each other server of the yard whether it shows what the
// batch has changed, and returns those that do not.
func (s *Session) awaitReplication(
	ctx context.Context, b *batch.Batch, yard settings.Yard, host string, r *CarryRequest,
) (behind []Replica, err error) {
	kept, err := s.Store(ctx)
	if err != nil {
		return nil, err
	}
	tell := func(one Replica) {
		if r.Watch.Replica != nil {
			r.Watch.Replica(one)
		}
		if one.Err != nil || len(one.Missing) > 0 {
			behind = append(behind, one)
		}
	}
	for _, url := range yard.Servers {
		server, err := s.connectTo(ctx, yard, url)
		if err != nil {
			tell(Replica{Server: url, Err: err})
			continue
		}
		if strings.EqualFold(server.HostName(), host) {
			server.Close()
			continue
		}
		one := Replica{Server: server.HostName()}
		one.Missing, one.Waited, err = carry.Replicated(ctx, kept, b, server, r.AwaitReplication)
		server.Close()
		if err != nil {
			return behind, err
		}
		tell(one)
	}
	return behind, nil
}
