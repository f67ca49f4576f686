package carry

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"

	"yardbroom/internal/batch"
	"yardbroom/internal/directory"
	"yardbroom/internal/homes"
	"yardbroom/internal/privilege"
	"yardbroom/internal/source"
)

// common is what the workers of one run share.
type common struct {
	mu        sync.Mutex
	privilege *privilege.Holders
	rules     privilege.Rules
	lacking   map[string]bool          // guarded attributes that the server cannot have
	writing   map[string]chan struct{} // entries that a step is writing, until it is over
	leaving   []left                   // the names that lines have taken from entries
	nobodies  []string                 // names that the server uses to stand for none

	reading sync.Mutex
	owners  *homes.Owners // of home folders, once one is to be set aside
}

func (c *common) known() *privilege.Holders {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.privilege
}

func (c *common) learn(p *privilege.Holders) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.privilege = p
}

// leave takes note of a name that nobody has any more.
func (c *common) leave(l left) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.leaving = append(c.leaving, l)
}

// standIn takes note of a name that the server uses to stand for none.
func (c *common) standIn(name string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.nobodies = append(c.nobodies, name)
}

func (c *common) standIns() []string {
	c.mu.Lock()
	defer c.mu.Unlock()
	return slices.Clone(c.nobodies)
}

// hold keeps other workers from writing the entry until release is called:
// two people who leave one group do so one after the other.
func (c *common) hold(key string) (release func()) {
	for {
		c.mu.Lock()
		over, busy := c.writing[key]
		if !busy {
			mine := make(chan struct{})
			c.writing[key] = mine
			c.mu.Unlock()
			return func() {
				c.mu.Lock()
				delete(c.writing, key)
				c.mu.Unlock()
				close(mine)
			}
		}
		c.mu.Unlock()
		<-over
	}
}

// written names the entry that a step writes, for hold.
func (s *Step) written() string {
	if s.ID != "" {
		return string(s.ID)
	}
	return directory.FoldDN(s.DN)
}

// workers are the first one, and as many more as there are to be connections,
// each with one of its own.
func (r *run) workers(ctx context.Context, first *worker) ([]*worker, error) {
	all := []*worker{first}
	for len(all) < min(r.Connections, r.Batch.Open()) {
		server, err := r.Server.Another(context.WithoutCancel(ctx))
		if err != nil {
			dismiss(all)
			return nil, err
		}
		all = append(all, r.worker(server))
	}
	return all, nil
}

// dismiss closes the connections of all workers but the first, whose is the
// job's.
func dismiss(workers []*worker) {
	for _, w := range workers[1:] {
		w.closeOthers()
		w.server.Close()
	}
}

func (w *worker) closeOthers() {
	for _, s := range w.others {
		s.Close()
	}
}

// alone tells whether a line runs while no other does: one that touches a
// privileged group, and one that other lines may stand below.
func (r *run) alone(l *batch.Line) bool {
	return l.Powerful() || l.Container() || l.Along() > 0 || r.above[directory.FoldDN(l.DN)]
}

// maxFailures is the most lines that may fail before the batch halts: five,
// or two per cent of its lines where that is less, but at least one.
func maxFailures(lines int) int { return max(1, min(5, lines*2/100)) }

// lines does something for each line that is left, in their order, several at
// once where there are several connections. The first runs by itself, so that
// what would stop all of them stops after one. Those that may go in a bundle are
// carried out together.
func (r *run) lines(
	ctx context.Context, first *worker, res *Result, each func(*worker, context.Context, *batch.Line) error,
	mayBundle func(*batch.Line) bool,
) error {
	workers, err := r.workers(ctx, first)
	if err != nil {
		return err
	}
	defer dismiss(workers)
	c := newCrew(workers)
	s := newSupervisor(r, res)
	r.above = batch.NamesAbove(r.Batch.Lines,
		func(l *batch.Line) bool { return l.Has(batch.Delete) || l.Has(batch.Restore) })
	var together []*batch.Line // the bundle that is being made up
	send := func() {
		if lines := together; len(lines) > 0 {
			together = nil
			c.do(func(w *worker) { w.bundle(ctx, lines, s) })
		}
	}
	begun := 0
	for i := range r.Batch.Lines {
		l := &r.Batch.Lines[i]
		if l.State.Settled() {
			continue
		}
		if s.isOver(ctx, begun) {
			break
		}
		begun++
		if begun > 1 && mayBundle(l) {
			if together = append(together, l); len(together) == bundleSize {
				send()
			}
			continue
		}
		send()
		if begun == 1 || r.alone(l) {
			c.wait()
			s.take(ctx, l, each(first, ctx, l), begun == 1)
			continue
		}
		c.do(func(w *worker) { s.take(ctx, l, each(w, ctx, l), false) })
	}
	if !s.over() || s.res.Planned {
		send()
	}
	c.wait()
	return s.err
}

// crew are the workers, of whom some are at work.
type crew struct {
	all  []*worker
	free chan *worker
}

func newCrew(workers []*worker) *crew {
	c := &crew{workers, make(chan *worker, len(workers))}
	c.release()
	return c
}

// release lets everybody be free.
func (c *crew) release() {
	for _, w := range c.all {
		c.free <- w
	}
}

// do lets the next one who is free do something, and does not wait for it.
func (c *crew) do(work func(*worker)) {
	w := <-c.free
	go func() {
		defer func() { c.free <- w }()
		work(w)
	}()
}

// wait waits until everybody is back.
func (c *crew) wait() {
	for range c.all {
		<-c.free
	}
	c.release()
}

// supervisor decides from what becomes of lines whether to go on.
type supervisor struct {
	*run
	mu       sync.Mutex
	res      *Result
	limit    int
	failures int
	// known are lines that had failed before, which do not halt the batch again:
	// else nothing behind them could ever be done.
	known   map[*batch.Line]bool
	err     error // what nothing may be done after
	stopped bool
}

func newSupervisor(r *run, res *Result) *supervisor {
	s := &supervisor{run: r, res: res, limit: maxFailures(len(r.Batch.Lines)), known: map[*batch.Line]bool{}}
	for i := range r.Batch.Lines {
		s.known[&r.Batch.Lines[i]] = r.Batch.Lines[i].State == batch.Failed
	}
	return s
}

// isOver tells whether no further line is begun, where so many were.
func (s *supervisor) isOver(ctx context.Context, begun int) bool {
	if s.Only > 0 && begun == s.Only {
		s.halt(fmt.Sprintf("the first %d lines were to be done", s.Only), asPlanned)
	}
	if ctx.Err() != nil {
		s.halt("it was interrupted", early)
	}
	return s.over()
}

func (s *supervisor) over() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.stopped
}

// halted tells whether a run stopped where it was to stop.
type halted bool

const (
	early     halted = false
	asPlanned halted = true
)

func (s *supervisor) halt(why string, how halted) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.stop(why)
	s.res.Planned = s.res.Planned || how == asPlanned
}

func (s *supervisor) stop(why string) {
	if !s.stopped {
		s.stopped, s.res.Halted = true, why
	}
}

func (s *supervisor) tell(l *batch.Line) {
	if s.Job.Settled != nil {
		s.Job.Settled(l)
	}
}

// take takes note of what became of a line.
func (s *supervisor) take(ctx context.Context, l *batch.Line, err error, first bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	var journal journalError
	var lost lostError
	var local localError
	switch {
	case errors.As(err, &journal):
		s.stopped = true  // nothing may be done that cannot be written down
		if s.err == nil { // others say the same
			s.err = err
		}
		return
	case err != nil && ctx.Err() != nil:
		s.stop("it was interrupted")
		return
	case err == nil:
	case l.State == batch.Waiting && source.RefusedFor(err, source.Denied):
		s.stop(
			fmt.Sprintf(
				"the account that is bound may not write %s (%s): nothing was changed there and the line stays open; give the account the right, and apply again",
				l.Account,
				err,
			),
		)
		return
	case l.State == batch.Waiting && alwaysHalts(err) != "":
		s.stop(alwaysHalts(err))
		return
	case l.State == batch.Waiting && errors.As(err, &local):
		s.tell(l)
		if s.failures++; s.failures >= s.limit {
			s.stop(err.Error())
		}
		return
	case l.State == batch.Waiting, errors.As(err, &lost):
		s.stop(err.Error())
		return
	case errors.Is(err, errUnknown):
		s.stop(err.Error())
	}
	s.tell(l)
	if halt := alwaysHalts(err); halt != "" {
		s.stop(halt)
		return
	}
	if first && l.State == batch.Unproved {
		s.stop("the guard of the first line could not be read")
		return
	}
	if l.State == batch.Failed && !s.known[l] || l.State == batch.Refused && err != nil {
		if s.failures++; s.failures >= s.limit {
			s.stop(fmt.Sprintf("%d of %d lines failed, which is the limit", s.failures, len(s.Batch.Lines)))
		}
	}
}

// alwaysHalts tells what no second line needs to be tried after.
func alwaysHalts(err error) string {
	switch {
	case source.RefusedFor(err, source.SignedOut):
		return "the server no longer takes the password"
	case source.RefusedFor(err, source.Denied):
		return "the account that is bound may not write this: the line was begun and is not finished; give the account the right, and apply again"
	case source.RefusedFor(err, source.Elsewhere):
		return "the server sends writes elsewhere (referral): give the writable server's own URL"
	}
	return ""
}
