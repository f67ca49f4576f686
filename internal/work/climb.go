package work

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"

	"yardbroom/internal/audit"
	"yardbroom/internal/batch"
	"yardbroom/internal/directory"
	"yardbroom/internal/ladder"
	"yardbroom/internal/settings"
	"yardbroom/internal/source"
	"yardbroom/internal/store"
	"yardbroom/internal/wording"
)

// ClimbRequest says which ladders are climbed, and how far by itself.
type ClimbRequest struct {
	// Question is the roster and the sign-ins that count besides the directory.
	Question
	CarryRequest
	Ladders []string // names; none are all of the yard
	// WholeRoster says that the roster is whole, though by it much of the directory
	// would have to go.
	WholeRoster bool
	// StageOnly carries nothing out, whatever the rungs allow.
	StageOnly bool
	// Consider may refuse a batch before it is kept; nil where nobody wants to.
	Consider func(*batch.Batch) error
}

// Climb is what became of climbing the ladders of a yard.
type Climb struct {
	Ladders *Ladders // as they stood before
	All     []*LadderClimb
}

// LadderClimb is what became of climbing one ladder.
type LadderClimb struct {
	*OneLadder
	// Woke are those who leave the ladder, Batches what was staged and carried out
	// for them and for those who go up, in this order.
	Woke    []*ladder.Standing
	Batches []*ClimbBatch
	// Stepped are those of whom all that a rung does was so already.
	Stepped []*ladder.Standing
	// Later counts those whose time has come and who are more than a batch may have.
	Later int
	// Letters are to be written and handed over; Untold is why there are none though
	// somebody is to be told.
	Letters []*ladder.Letter
	Untold  string
	Error   error
}

// ClimbBatch is a batch of a ladder.
type ClimbBatch struct {
	Batch    *batch.Batch // nil where nothing could be staged
	Rung     string
	Down     bool // it brings accounts back
	Refusals []batch.Refusal
	Carried  *Carried
	Waits    string // for what, "" where it was carried out
	Error    error
}

// NotDone tells whether something is left that should have been done.
func (c *Climb) NotDone() bool {
	return slices.ContainsFunc(c.All, func(l *LadderClimb) bool {
		return l.Error != nil || slices.ContainsFunc(l.Batches, func(b *ClimbBatch) bool {
			return b.Error != nil || b.Carried != nil && b.Carried.NotDone()
		})
	})
}

// Climb brings back those who woke, and takes those whose time has come one rung
// further: one batch a rung. It writes the mails that are due, which somebody has to
// hand over.
func (s *Session) Climb(ctx context.Context, p *Place, r *ClimbRequest) (*Climb, error) {
	if _, live := p.Server(); !live {
		return nil, Wrong("a ladder is climbed on a live yard; \"yardbroom ladder show\" reads files too")
	}
	if r.AsOf != "" {
		return nil, Wrong("a ladder is climbed now; \"yardbroom ladder forecast\" tells of other days")
	}
	for _, name := range r.Ladders {
		if _, err := (&Ladders{All: oneEach(s.laddersOf(p))}).LadderNamed(name); err != nil {
			return nil, err
		}
	}
	if err := s.RefuseMissing(ctx, p, nil); err != nil {
		return nil, err
	}
	kept, err := s.Store(ctx)
	if err != nil {
		return nil, err
	}
	unlock, err := Await(ctx, r.Wait, kept.LockLadders)
	if err != nil {
		return nil, err
	}
	defer unlock()
	if err := kept.Whole(ctx); err != nil {
		return nil, err
	}
	if err := s.logsThere(p, &r.Logs); err != nil {
		return nil, err
	}
	c := &climbing{s: s, p: p, r: r, kept: kept}
	if err := c.goOn(ctx); err != nil {
		return nil, err
	}
	all, err := s.Ladders(ctx, p, &r.Question)
	if err != nil {
		return nil, err
	}
	if err := p.refuseUnread(); err != nil {
		return nil, err
	}
	if all.list != nil && all.list.Fresh { // what is left for people is judged by it too
		was := s.predecessorOf(all.past.Directory, all.list)
		if err := s.keepRoster(all.past.Directory, all.list, was, all.people); err != nil {
			return nil, err
		}
	}
	out := &Climb{Ladders: all}
	c.all = all
	for _, one := range all.All {
		if len(r.Ladders) > 0 && !slices.Contains(r.Ladders, one.Name) {
			continue
		}
		l := &LadderClimb{OneLadder: one}
		out.All = append(out.All, l)
		if ctx.Err() != nil {
			return out, ctx.Err()
		}
		if l.Error = c.ladder(ctx, l); l.Error != nil && errors.Is(l.Error, ErrHeldBack) {
			return out, l.Error
		}
	}
	return out, nil
}

// ErrHeldBack is the error of a batch that must not be kept, for somebody who
// considers each.
var ErrHeldBack = errors.New("held back")

func oneEach(all []*settings.Ladder) (out []*OneLadder) {
	for _, l := range all {
		out = append(out, &OneLadder{Ladder: l})
	}
	return out
}

// climbing is one climb of the ladders of a yard.
type climbing struct {
	s    *Session
	p    *Place
	r    *ClimbRequest
	kept *store.Store
	all  *Ladders
	// went are the batches that were gone on with, by ladder.
	went map[string][]*ClimbBatch
}

// carry carries a batch out as far as it has the signatures it needs.
func (c *climbing) carry(ctx context.Context, one *ClimbBatch) {
	b := one.Batch
	agreed, err := c.s.Agreement(ctx, b)
	if err != nil {
		one.Error = err
		return
	}
	if !agreed.Enough() {
		one.Waits = waitsFor(agreed)
		return
	}
	carrying := c.r.CarryRequest
	carrying.Barred = c.notNow(b)
	one.Carried, one.Error = c.s.Apply(ctx, b, &carrying)
	if now, err := batch.Load(ctx, c.kept, b.ID); err == nil {
		one.Batch = now
	}
}

// waitsFor says what a batch is not carried out for the want of.
func waitsFor(agreed *batch.Agreement) string {
	switch missing := agreed.Needed - agreed.Valid; {
	case missing == 1:
		return "a signature"
	case missing > 1:
		return fmt.Sprintf("%d signatures", missing)
	case !agreed.Enough():
		return "whoever staged it to be proved"
	}
	return "somebody to carry it out"
}

// ladder climbs one.
func (c *climbing) ladder(ctx context.Context, l *LadderClimb) error {
	l.Batches = c.went[l.Name]
	if err := c.seen(ctx, l); err != nil {
		return err
	}
	if err := c.wake(ctx, l); err != nil {
		return err
	}
	if err := c.down(ctx, l); err != nil {
		return err
	}
	if err := c.up(ctx, l); err != nil {
		return err
	}
	if err := c.all.past.Define(ctx, c.kept, l.Ladder, c.s.By, c.s.now()); err != nil {
		return err
	}
	return c.mails(ctx, l)
}

// seen writes down whom the checks of a ladder find, and whom they do so no more,
// where nothing else dates that.
func (c *climbing) seen(ctx context.Context, l *LadderClimb) error {
	if l.Starts.Found == nil {
		return nil
	}
	var came, went []*ladder.Event
	there := map[string]bool{}
	for _, name := range l.Checks {
		for _, f := range c.all.foundBy(name) {
			id := source.ShowIdentity(c.all.dialect, f.ID)
			if there[id] {
				continue
			}
			there[id] = true
			if w := c.all.past.Of(id); w.Seen[l.Name].IsZero() {
				came = append(came, &ladder.Event{Directory: c.all.past.Directory, Ladder: l.Name, ID: id, Account: f.Account, DN: f.DN})
			}
		}
	}
	if len(c.all.notLooked(l.Checks)) == 0 {
		for _, w := range c.all.past.Ways() {
			if !w.Seen[l.Name].IsZero() && !there[w.ID] {
				went = append(went, &ladder.Event{Directory: c.all.past.Directory, Ladder: l.Name, ID: w.ID, Account: w.Account})
			}
		}
	}
	return errors.Join(c.s.appendAll(ctx, c.kept, ladder.EventSeen, came), c.s.appendAll(ctx, c.kept, ladder.EventUnseen, went))
}

// foundBy are the findings of a check.
func (l *Ladders) foundBy(check string) (all []*audit.Finding) {
	for i := range l.report.Findings {
		if f := &l.report.Findings[i]; f.Check == check && f.ID != "" {
			all = append(all, f)
		}
	}
	return all
}

// notLooked says what checks have not looked at.
func (l *Ladders) notLooked(checks []string) (why []string) {
	for _, sum := range l.report.Summary {
		if slices.Contains(checks, sum.Check) {
			why = append(why, sum.NotLooked...)
		}
	}
	return why
}

// keep keeps a batch, unless somebody holds it back.
func (c *climbing) keep(ctx context.Context, b *batch.Batch) error {
	if c.r.Consider != nil {
		if err := c.r.Consider(b); err != nil {
			return errors.Join(ErrHeldBack, err)
		}
	}
	return c.s.keepStaged(ctx, b, &Staged{})
}

// up takes those whose time has come to their next rungs.
func (c *climbing) up(ctx context.Context, l *LadderClimb) error {
	if !c.r.WholeRoster {
		if err := c.s.halfDelivered(ctx, c.p, c.all.report, &Question{Checks: l.startChecks(), Roster: c.r.Roster}); err != nil {
			return err
		}
	}
	for i := range l.Rungs {
		var ready []*ladder.Standing
		for _, st := range l.Standings {
			if st.Ready() && st.Next == &l.Rungs[i] {
				ready = append(ready, st)
			}
		}
		if len(ready) == 0 {
			continue
		}
		if err := c.rung(ctx, l, &l.Rungs[i], ready); err != nil {
			return err
		}
	}
	return nil
}

// startChecks are the checks that put accounts on the ladder.
func (l *OneLadder) startChecks() []string {
	return append([]string{audit.LadderCheckName(l.Name)}, l.Checks...)
}

// rung takes accounts to one rung, by one batch.
func (c *climbing) rung(ctx context.Context, l *LadderClimb, r *settings.Rung, ready []*ladder.Standing) error {
	slices.SortStableFunc(ready, func(a, b *ladder.Standing) int {
		return cmp.Or(a.Day.Compare(b.Day), cmp.Compare(a.Account, b.Account))
	})
	accounts := c.all.report.Survey.Accounts.Len()
	if most := c.s.mostLines(accounts); len(ready) > most {
		l.Later += len(ready) - most
		ready = ready[:most]
	}
	one := &ClimbBatch{Rung: r.Name}
	l.Batches = append(l.Batches, one)
	b, stager, err := c.stage(ctx, l, r, ready, one)
	if stager != nil {
		if err := c.already(ctx, l, r, ready, stager.Already()); err != nil {
			return err
		}
	}
	if errors.Is(err, batch.ErrNothing) {
		return nil
	}
	if err != nil {
		one.Error = err
		return nil
	}
	if err := c.keep(ctx, b); err != nil {
		return err
	}
	one.Batch = b
	if c.r.StageOnly || !r.Unattended {
		agreed, err := c.s.Agreement(ctx, b)
		if err != nil {
			return err
		}
		one.Waits = waitsFor(agreed)
		return nil
	}
	c.carry(ctx, one)
	return nil
}

// mostLines is how many lines a batch may have in a yard of so many accounts.
func (s *Session) mostLines(accounts int) int {
	most := s.Settings.Batch.MaxLines
	for n := most; n > 0 && batch.Share(n, accounts) > s.Settings.Batch.MaxShare; n-- {
		most = n - 1
	}
	return max(most, 1)
}

// stage makes the batch of a rung.
func (c *climbing) stage(
	ctx context.Context, l *LadderClimb, r *settings.Rung, ready []*ladder.Standing, one *ClimbBatch,
) (*batch.Batch, *batch.Stager, error) {
	q := RequestOf(r.Doing(), Question{}, c.s.now().In(c.p.Location()))
	q.Why = fmt.Sprintf("ladder %s, rung %s", l.Name, r.Name)
	stager, order, err := c.s.stager(ctx, c.p, q)
	if err != nil {
		return nil, nil, err
	}
	survey := c.all.report.Survey
	stager.Accounts, stager.Catalog = survey.Accounts.Len(), c.all.report.Catalog
	order.Server = cmp.Or(survey.Server, order.Server)
	if len(survey.Asked) > 1 {
		order.Others = survey.Asked[1:]
	}
	order.Ladder, order.Rung, order.Signed, order.PassOver = l.Name, r.Name, r.Signature, true
	if r.KeepDeleted != nil {
		order.KeepDeleted = r.KeepDeleted.String()
	}
	candidates, err := c.candidates(ctx, survey, q, ready)
	if err != nil {
		return nil, nil, err
	}
	b, refusals, err := stager.Stage(ctx, *order, candidates)
	one.Refusals = slices.DeleteFunc(refusals, func(no batch.Refusal) bool {
		return slices.ContainsFunc(stager.Already(), func(id string) bool {
			return slices.ContainsFunc(ready, func(st *ladder.Standing) bool {
				return st.ID == source.ShowIdentity(c.all.dialect, id) && directory.FoldDN(st.DN) == directory.FoldDN(no.DN)
			})
		})
	})
	if err != nil {
		return nil, stager, err
	}
	more, err := c.s.withoutBarred(ctx, b)
	if one.Refusals = append(one.Refusals, more...); err == nil && len(b.Lines) == 0 {
		err = batch.ErrNothing
	}
	return b, stager, err
}

// candidates are accounts as staging takes them, each read again.
func (c *climbing) candidates(ctx context.Context, survey *directory.Survey, q *StageRequest, ready []*ladder.Standing) ([]batch.Candidate, error) {
	dns := make([]string, len(ready))
	byDN := map[string]*ladder.Standing{}
	for i, st := range ready {
		dns[i] = st.DN
		byDN[directory.FoldDN(st.DN)] = st
	}
	entries, err := c.p.Get(ctx, dns)
	if err != nil {
		return nil, err
	}
	last := lastSignIns(survey, dns)
	var all []batch.Candidate
	for i := range entries {
		st := byDN[directory.FoldDN(entries[i].DN)]
		if st == nil || source.ShowIdentity(c.all.dialect, c.all.dialect.Account(&entries[i]).ID) != st.ID {
			continue // another one has come to this name
		}
		one := batch.Candidate{Entry: entries[i], Finding: st.Start, LastLogon: last[directory.KeyOf(st.DN)], LastSignIn: st.LastSignIn, OffSince: st.Way.OffSince(), AsItIs: true}
		if q.Attr != "" {
			one.Values = []batch.Assignment{{Attr: q.Attr, New: q.Value}}
		}
		account := survey.Dialect.Account(&entries[i])
		if now := survey.LastLogon(&account, farFuture); now.Known() && now.Time().After(st.LastSignIn) {
			one.NotNow = "it has signed in since it was judged"
		}
		all = append(all, one)
	}
	return all, nil
}

// already takes those on to a rung of whom all that it does was so already.
func (c *climbing) already(ctx context.Context, l *LadderClimb, r *settings.Rung, ready []*ladder.Standing, ids []string) error {
	var all []*ladder.Event
	for _, st := range ready {
		if slices.ContainsFunc(ids, func(id string) bool { return source.ShowIdentity(c.all.dialect, id) == st.ID }) {
			l.Stepped = append(l.Stepped, st)
			all = append(all, &ladder.Event{Directory: c.all.past.Directory, Ladder: l.Name, Rung: r.Name, ID: st.ID, Account: st.Account, DN: st.DN,
				Why: "all that the rung does was so already"})
		}
	}
	return c.s.appendAll(ctx, c.kept, ladder.EventAdopted, all)
}

// Said is what became of a batch, in few words.
func (b *ClimbBatch) Said() string {
	switch {
	case b.Error != nil:
		return b.Error.Error()
	case b.Batch == nil:
		return "nothing could be staged"
	case b.Waits != "":
		return fmt.Sprintf("batch %d, %s: waits for %s", b.Batch.ID, wording.Count(len(b.Batch.Lines), "line"), b.Waits)
	case b.Carried == nil:
		return fmt.Sprintf("batch %d", b.Batch.ID)
	}
	return fmt.Sprintf("batch %d: %s", b.Batch.ID, batch.CountStates(b.Carried.Result.Counts))
}
