package work

import (
	"context"
	"fmt"
	"slices"
	"time"

	"yardbroom/internal/batch"
	"yardbroom/internal/carry"
	"yardbroom/internal/directory"
	"yardbroom/internal/ladder"
	"yardbroom/internal/roster"
	"yardbroom/internal/settings"
	"yardbroom/internal/source"
)

// goOn carries out what an earlier climb has begun, or was stopped before: what
// brings accounts back, and what its rung lets be carried out unattended.
func (c *climbing) goOn(ctx context.Context) error {
	c.went = map[string][]*ClimbBatch{}
	open, err := c.open(ctx)
	if err != nil || len(open) == 0 || c.r.StageOnly {
		return err
	}
	// Days may have passed since they were staged, so all is judged anew first.
	if c.all, err = c.s.Ladders(ctx, c.p, &c.r.Question); err != nil {
		return err
	}
	for _, b := range open {
		one := &ClimbBatch{Batch: b, Rung: b.Rung, Down: b.UndoOf != 0}
		if c.carry(ctx, one); one.Waits == "" {
			c.went[b.Ladder] = append(c.went[b.Ladder], one)
		}
		if err := c.giveUp(ctx, one.Batch); err != nil {
			return err
		}
	}
	return nil
}

// giveUp gives up a batch with lines that were stopped half-way and must not be finished
// any more: what was done of these is to be taken back, and the others are staged again.
func (c *climbing) giveUp(ctx context.Context, b *batch.Batch) error {
	if b.UndoOf != 0 || b.State != batch.Begun {
		return nil
	}
	var all []*ladder.Event
	for i := range b.Lines {
		l := &b.Lines[i]
		if why := c.against(b, l); l.State == batch.Failed && why != "" {
			all = append(all, &ladder.Event{Directory: b.Identity, Ladder: b.Ladder, Rung: b.Rung, ID: l.ID, Account: l.Account,
				Why: "its step was stopped half-way, and must not be finished: " + why, Down: []int{b.ID}})
		}
	}
	if len(all) == 0 {
		return nil
	}
	if err := c.s.Discard(ctx, b); err != nil {
		return err
	}
	return c.s.appendAll(ctx, c.kept, ladder.EventGaveUp, all)
}

// open are the batches that a climb may carry out by itself and that an earlier one
// did not, or not whole.
func (c *climbing) open(ctx context.Context) (open []*batch.Batch, err error) {
	heads, err := batch.Heads(ctx, c.kept)
	if err != nil {
		return nil, err
	}
	id, err := c.p.Identity(ctx)
	if err != nil {
		return nil, err
	}
	for _, head := range heads {
		l := c.s.Settings.LadderNamed(head.Ladder)
		if l == nil || !head.Identity.Same(id) || head.State != batch.Begun && head.State != batch.Staged ||
			len(c.r.Ladders) > 0 && !slices.Contains(c.r.Ladders, l.Name) {
			continue
		}
		b, err := c.s.Batch(ctx, head.ID)
		if err != nil {
			return nil, err
		}
		agreed, err := c.s.Agreement(ctx, b)
		if err != nil {
			return nil, err
		}
		if b.UndoOf != 0 || unattended(l, b.Rung) || agreed.Valid > 0 { // else a person carries it out
			open = append(open, b)
		}
	}
	return open, nil
}

// notNow tells of the lines of a batch that takes accounts up, by their numbers, what
// has come between since it was staged.
func (c *climbing) notNow(b *batch.Batch) map[int]string {
	why := map[int]string{}
	for i := range b.Lines {
		if text := c.against(b, &b.Lines[i]); text != "" {
			why[b.Lines[i].N] = text
		}
	}
	return why
}

// against says what has come between a line that takes an account up and now, "" where
// nothing has.
func (c *climbing) against(b *batch.Batch, l *batch.Line) string {
	at := slices.IndexFunc(c.all.All, func(one *OneLadder) bool { return one.Name == b.Ladder })
	if b.UndoOf != 0 || at < 0 {
		return ""
	}
	all := c.all.All[at].Standings
	n := slices.IndexFunc(all, func(st *ladder.Standing) bool { return st.ID == l.ID })
	if n < 0 {
		return "it is not on the ladder any more"
	}
	return all[n].Against(b.Rung)
}

func unattended(l *settings.Ladder, rung string) bool {
	i, is := l.Rung(rung)
	return is && l.Rungs[i].Unattended
}

// notToClimb tells of lines of a batch of a ladder, by their numbers, why they must
// not be begun now: somebody holds the account, or it stands elsewhere than when the
// batch was staged.
func (s *Session) notToClimb(ctx context.Context, b *batch.Batch) (map[int]string, error) {
	if b.Ladder == "" || b.UndoOf != 0 || b.ID == 0 {
		return nil, nil
	}
	kept, err := s.Store(ctx)
	if err != nil {
		return nil, err
	}
	past, err := ladder.Read(ctx, kept, b.Identity)
	if err != nil {
		return nil, err
	}
	suspended, err := carry.Suspensions(ctx, kept, b.Identity, s.now())
	if err != nil {
		return nil, err
	}
	away, err := s.onLeave(ctx, b)
	if err != nil {
		return nil, err
	}
	why := map[int]string{}
	for i := range b.Lines {
		l := &b.Lines[i]
		w := past.Of(l.ID)
		one, off := suspended[l.ID]
		switch {
		case w.HeldAt(s.now()):
			why[l.N] = fmt.Sprintf("it is held until %s: %s (%s)", w.Hold.Until.Format(time.DateOnly), w.Hold.Why, w.Hold.By)
		case off:
			why[l.N] = "it is suspended " + one.String()
		case away[l.N]:
			why[l.N] = "its person is on leave, by the last roster"
		case w.Since.After(b.Created):
			why[l.N] = "it does not stand where it stood when the batch was staged; climb again"
		}
	}
	return why, nil
}

// onLeave are the numbers of the lines of a batch whose people are on leave by the last
// roster.
func (s *Session) onLeave(ctx context.Context, b *batch.Batch) (map[int]bool, error) {
	d, err := directory.DialectNamed(b.Identity.Dialect)
	if err != nil {
		return nil, err
	}
	lines := map[string]int{}
	var ids []string
	for i := range b.Lines {
		if id, err := source.ReadIdentity(d, b.Lines[i].ID); err == nil {
			lines[id], ids = b.Lines[i].N, append(ids, id)
		}
	}
	away, err := s.rememberedAs(ctx, b.Identity, b.Yard, roster.Leave, ids)
	out := map[int]bool{}
	for id := range away {
		out[lines[id]] = true
	}
	return out, err
}
