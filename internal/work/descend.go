package work

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"yardbroom/internal/batch"
	"yardbroom/internal/carry"
	"yardbroom/internal/ladder"
	"yardbroom/internal/settings"
)

// wake writes down who leaves the ladder, and what is to be taken back of what it
// has done to them.
func (c *climbing) wake(ctx context.Context, l *LadderClimb) error {
	var all []*ladder.Event
	for _, st := range l.Standings {
		if st.State != ladder.Woken {
			continue
		}
		l.Woke = append(l.Woke, st)
		if st.Way.Woke == st.Awake || st.Way.Woke != "" && len(st.Way.Steps) == 0 {
			continue // it did before
		}
		e := &ladder.Event{Directory: c.all.past.Directory, Ladder: l.Name, Rung: st.Rung, ID: st.ID, Account: st.Account, DN: st.DN, Why: st.Awake}
		for _, step := range st.Way.Steps {
			if step.Batch != 0 && (!step.OnlyOff || enablesAgain(l.Ladder, step.Rung)) {
				e.Down = append(e.Down, step.Batch)
			}
		}
		all = append(all, e)
	}
	return c.s.appendAll(ctx, c.kept, ladder.EventWoke, all)
}

func enablesAgain(l *settings.Ladder, rung string) bool {
	i, is := l.Rung(rung)
	return is && l.Rungs[i].EnableAgain
}

// down brings those back who have left the ladder: what was done last first, and
// what was done before only when that is back.
func (c *climbing) down(ctx context.Context, l *LadderClimb) error {
	tried := map[int]bool{}
	for ctx.Err() == nil {
		past, err := c.all.past.Again(ctx, c.kept)
		if err != nil {
			return err
		}
		next := map[int][]string{} // accounts by the batch that is to be taken back
		for _, w := range past.Ways() {
			if w.Ladder == l.Name && len(w.Down) > 0 && w.DownWaits == 0 {
				next[w.Down[0].Batch] = append(next[w.Down[0].Batch], w.ID)
			}
		}
		last := 0
		for n := range next {
			if !tried[n] {
				last = max(last, n)
			}
		}
		if last == 0 {
			return nil
		}
		tried[last] = true
		if err := c.takeBack(ctx, l, last, next[last]); err != nil {
			return err
		}
	}
	return nil
}

// takeBack takes back what one batch has done to some accounts. What needs a
// signature is a batch of its own.
func (c *climbing) takeBack(ctx context.Context, l *LadderClimb, n int, accounts []string) error {
	b, err := c.s.Batch(ctx, n)
	if err != nil {
		return err
	}
	one := &ClimbBatch{Rung: b.Rung, Down: true}
	back, refusals, err := carry.ComeDown(ctx, c.kept, b, accounts, enablesAgain(l.Ladder, b.Rung), c.s.By, c.s.now())
	if one.Refusals = refusals; err == nil {
		var more []batch.Refusal
		if more, err = c.s.withoutBarred(ctx, back); err == nil {
			one.Refusals = append(one.Refusals, more...)
			more, err = c.s.reassess(ctx, back, &c.r.CarryRequest)
			one.Refusals = append(one.Refusals, more...)
		}
	}
	if errors.Is(err, carry.ErrNothingToUndo) {
		l.Batches = append(l.Batches, one)
		return c.nothingBack(ctx, b, accounts, one.Refusals)
	}
	if err != nil {
		one.Error = err
		l.Batches = append(l.Batches, one)
		return nil
	}
	for _, part := range apart(back) {
		one.Batch = part
		if err := c.keep(ctx, part); err != nil {
			return err
		}
		if one.Waits = "somebody to carry it out"; !c.r.StageOnly {
			one.Waits = ""
			c.carry(ctx, one)
		}
		l.Batches = append(l.Batches, one)
		one = &ClimbBatch{Rung: b.Rung, Down: true}
	}
	return nil
}

// nothingBack writes down that there is nothing to take back for some accounts, or why it
// cannot be.
func (c *climbing) nothingBack(ctx context.Context, b *batch.Batch, accounts []string, refusals []batch.Refusal) error {
	var all []*ladder.Event
	for i := range b.Lines {
		l := &b.Lines[i]
		if !slices.Contains(accounts, l.ID) {
			continue
		}
		e := &ladder.Event{Directory: b.Identity, Ladder: b.Ladder, Rung: b.Rung, ID: l.ID, Account: l.Account, Down: []int{b.ID}}
		if at := slices.IndexFunc(refusals, func(no batch.Refusal) bool { return no.Account == l.Account }); at >= 0 {
			e.Why = fmt.Sprintf("what batch %d did is not taken back: %s", b.ID, refusals[at].Why)
		}
		all = append(all, e)
	}
	return c.s.appendAll(ctx, c.kept, ladder.EventNoDown, all)
}

// apart are the lines of a batch that need no signature, and those that do, as
// batches of their own.
func apart(b *batch.Batch) (parts []*batch.Batch) {
	for _, powerful := range []bool{false, true} {
		part := *b
		part.Lines = nil
		for _, l := range b.Lines {
			if (l.Powerful() || l.Anew) == powerful {
				l.N = len(part.Lines) + 1
				part.Lines = append(part.Lines, l)
			}
		}
		if len(part.Lines) > 0 {
			parts = append(parts, &part)
		}
	}
	return parts
}
