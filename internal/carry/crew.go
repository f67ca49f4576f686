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

// crew returns the workers: the runner itself, and as many more as there are
// to be connections, each with one of its own.
func (r *Runner) crew(ctx context.Context) ([]*Runner, error) {
	all := []*Runner{r}
	for len(all) < min(r.Connections, r.Batch.Open()) {
		s, err := r.Server.Another(context.WithoutCancel(ctx))
		if err != nil {
			dismiss(all)
			return nil, err
		}
		w := *r
		w.Server, w.policies, w.others, w.foresight = s, map[string]batch.LockPolicy{}, map[string]*source.Server{}, nil
		all = append(all, &w)
	}
	return all, nil
}

// dismiss closes the connections of all workers but the first, which is the
// runner itself.
func dismiss(crew []*Runner) {
	for _, w := range crew[1:] {
		w.closeOthers()
		w.Server.Close()
	}
}

func (r *Runner) closeOthers() {
	for _, s := range r.others {
		s.Close()
	}
}

// alone tells whether a line runs while no other does: one that touches a
// privileged group, and one that other lines may stand below.
func alone(l *batch.Line) bool {
	return l.Powerful() || l.Container() || l.Along() > 0
}

// maxFailures is the most lines that may fail before the batch halts: five,
// or two per cent of its lines where that is less, but at least one.
func maxFailures(lines int) int { return max(1, min(5, lines*2/100)) }

// lines carries out what is left of the lines, in their order, several at
// once where there are several connections. The first runs by itself, so that
// what would stop all of them stops after one.
func (r *Runner) lines(ctx context.Context, res *Result) error {
	crew, err := r.crew(ctx)
	if err != nil {
		return err
	}
	defer dismiss(crew)
	free := make(chan *Runner, len(crew))
	for _, w := range crew {
		free <- w
	}
	all := func() { // everybody is back
		for range crew {
			<-free
		}
		for _, w := range crew {
			free <- w
		}
	}
	j := &judge{Runner: r, res: res, limit: maxFailures(len(r.Batch.Lines)), known: map[*batch.Line]bool{}}
	for i := range r.Batch.Lines {
		j.known[&r.Batch.Lines[i]] = r.Batch.Lines[i].State == batch.Failed
	}
	begun := 0
	var together []*batch.Line // the stride that is being made up
	send := func() {
		if len(together) > 0 {
			w, lines := <-free, together
			together = nil
			go func() {
				defer func() { free <- w }()
				w.stride(ctx, lines, j)
			}()
		}
	}
	for i := range r.Batch.Lines {
		l := &r.Batch.Lines[i]
		if l.State.Settled() {
			continue
		}
		if r.Only > 0 && begun == r.Only {
			j.halt(fmt.Sprintf("the first %d lines were to be done", r.Only), true)
		}
		if ctx.Err() != nil {
			j.halt("it was interrupted", false)
		}
		if j.over() {
			break
		}
		begun++
		if begun > 1 && r.simple(l) {
			if together = append(together, l); len(together) == strideLength {
				send()
			}
			continue
		}
		send()
		if begun == 1 || alone(l) {
			all()
			j.take(ctx, l, r.line(ctx, l), begun == 1)
			continue
		}
		w := <-free
		go func() {
			defer func() { free <- w }()
			j.take(ctx, l, w.line(ctx, l), false)
		}()
	}
	if !j.over() || j.res.Planned {
		send()
	}
	all()
	return j.err
}

// judge decides from what becomes of lines whether to go on.
type judge struct {
	*Runner
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

func (j *judge) over() bool {
	j.mu.Lock()
	defer j.mu.Unlock()
	return j.stopped
}

func (j *judge) halt(why string, planned bool) {
	j.mu.Lock()
	defer j.mu.Unlock()
	j.stop(why)
	j.res.Planned = j.res.Planned || planned
}

func (j *judge) stop(why string) {
	if !j.stopped {
		j.stopped, j.res.Halted = true, why
	}
}

// take takes note of what became of a line.
func (j *judge) take(ctx context.Context, l *batch.Line, err error, first bool) {
	j.mu.Lock()
	defer j.mu.Unlock()
	var journal journalError
	var lost lostError
	var local localError
	switch {
	case errors.As(err, &journal):
		j.stopped = true // nothing may be done that cannot be written down
		j.err = errors.Join(j.err, err)
		return
	case err != nil && ctx.Err() != nil:
		j.stop("it was interrupted")
		return
	case err == nil:
	case l.State == batch.Waiting && source.RefusedFor(err, source.Denied):
		j.stop(fmt.Sprintf("the account that is bound may not write %s (%s): nothing was changed there and the line stays open; give the account the right, and apply again", l.Account, err))
		return
	case l.State == batch.Waiting && alwaysHalts(err) != "":
		j.stop(alwaysHalts(err))
		return
	case l.State == batch.Waiting && errors.As(err, &local):
		if j.Progress != nil {
			j.Progress(l)
		}
		if j.failures++; j.failures >= j.limit {
			j.stop(err.Error())
		}
		return
	case l.State == batch.Waiting, errors.As(err, &lost):
		j.stop(err.Error())
		return
	case errors.Is(err, errUnknown):
		j.stop(err.Error())
	}
	if j.Progress != nil {
		j.Progress(l)
	}
	if halt := alwaysHalts(err); halt != "" {
		j.stop(halt)
		return
	}
	if first && l.State == batch.Unproved {
		j.stop("the guard of the first line could not be read")
		return
	}
	if l.State == batch.Failed && !j.known[l] || l.State == batch.Refused && err != nil {
		if j.failures++; j.failures >= j.limit {
			j.stop(fmt.Sprintf("%d of %d lines failed, which is the limit", j.failures, len(j.Batch.Lines)))
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
