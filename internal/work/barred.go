package work

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"time"

	"yardbroom/internal/audit"
	"yardbroom/internal/batch"
	"yardbroom/internal/carry"
	"yardbroom/internal/directory"
	"yardbroom/internal/reconcile"
	"yardbroom/internal/roster"
	"yardbroom/internal/source"
)

// barred returns the lines that must not be begun for what the state folder
// knows, by their numbers, and says why: they would enable an account whose
// person has left by the last roster, or that another batch has suspended until
// a date; or they rest on a roster that a later one contradicts.
func (s *Session) barred(ctx context.Context, b *batch.Batch) (map[int]string, error) {
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
		case s.findsLeavers(l.Check):
			off[id] = l.N
		}
	}
	why, err := s.notToClimb(ctx, b)
	if err != nil {
		return nil, err
	}
	if why == nil {
		why = map[int]string{}
	}
	if len(on) > 0 {
		reasons, err := s.notToBeEnabled(ctx, b.Identity, b.Yard, b.UndoOf, slices.Collect(maps.Keys(on)))
		if err != nil {
			return nil, err
		}
		for id, reason := range reasons {
			why[on[id]] = reason
		}
	}
	if len(off) > 0 {
		reasons, err := s.notLeft(ctx, b, slices.Collect(maps.Keys(off)))
		if err != nil {
			return nil, err
		}
		for id, reason := range reasons {
			why[off[id]] = reason
		}
	}
	return why, nil
}

// findsLeavers tells whether a line stands for the finding of a check that finds
// leavers.
func (s *Session) findsLeavers(check string) bool {
	for i := range s.Settings.Ladders {
		if l := &s.Settings.Ladders[i]; check == audit.LadderCheckName(l.Name) {
			return l.Starts.Left != nil
		}
	}
	c := s.Catalog.Find(check)
	return c != nil && c.Leavers
}

// withoutBarred takes the lines out of a batch that must not be begun, and
// numbers the others anew.
func (s *Session) withoutBarred(ctx context.Context, b *batch.Batch) (refusals []batch.Refusal, err error) {
	barred, err := s.barred(ctx, b)
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

// notToBeEnabled tells of accounts, by raw identity, why they must not be
// enabled. What takes back the batch that suspended one may.
func (s *Session) notToBeEnabled(
	ctx context.Context, id source.Identity, yard string, undoOf int, accounts []string,
) (map[string]string, error) {
	d, err := directory.DialectNamed(id.Dialect)
	if err != nil {
		return nil, err
	}
	kept, err := s.Store(ctx)
	if err != nil {
		return nil, err
	}
	suspended, err := carry.Suspensions(ctx, kept, id, s.now())
	if err != nil {
		return nil, err
	}
	why := map[string]string{}
	for _, account := range accounts {
		if one, is := suspended[source.ShowIdentity(d, account)]; is && one.Batch != undoOf {
			why[account] = fmt.Sprintf("it is suspended %s; \"yardbroom undo %d\" with its name ends that", one,
				one.Batch)
		}
	}
	left, err := s.leavers(ctx, id, yard, accounts)
	for account, who := range left {
		why[account] = audit.PersonName(
			who,
		) + " has left, by the last roster; if that is wrong, give the right one to \"yardbroom reconcile\", or say with \"yardbroom link reject\" that it is not theirs"
	}
	return why, err
}

// notLeft tells of accounts, by raw identity, whose people were leavers when
// the batch was staged and are none by a roster that was read since, or by what
// was decided about whose account it is.
func (s *Session) notLeft(ctx context.Context, b *batch.Batch, accounts []string) (map[string]string, error) {
	if !s.remembers() {
		return nil, nil
	}
	p := &Place{Yard: s.Settings.Yards[b.Yard]}
	opt, err := s.matchOptions(ctx, p)
	if err != nil {
		return nil, err
	}
	found, list, err := s.remembered(b.Identity, opt.Links, accounts...)
	if err != nil || list == nil {
		return nil, err
	}
	if !list.About.Read.After(b.Created) { // the batch may rest on another
		accounts = slices.DeleteFunc(accounts, func(account string) bool {
			return !slices.ContainsFunc(opt.Links,
				func(l reconcile.Link) bool { return l.Account == account && l.Rejected })
		})
	}
	left := s.among(found, list, p, roster.Left)
	why := map[string]string{}
	for _, account := range accounts {
		if left[account] == nil {
			why[account] = "its person has not left, by the roster of " + list.About.Read.Format(
				time.DateOnly) + " and the links; stage it again"
		}
	}
	return why, nil
}

// leavers tells, of accounts of a directory by raw identity, whose people have
// left by the last roster, where that is sure: who they are.
func (s *Session) leavers(
	ctx context.Context, id source.Identity, yard string, accounts []string,
) (map[string]*roster.Person, error) {
	return s.rememberedAs(ctx, id, yard, roster.Left, accounts)
}

// rememberedAs tells the same of those who are in some state by the last roster.
func (s *Session) rememberedAs(
	ctx context.Context, id source.Identity, yard string, state roster.State, accounts []string,
) (map[string]*roster.Person, error) {
	if !s.remembers() {
		return nil, nil
	}
	p := &Place{Yard: s.Settings.Yards[yard]}
	opt, err := s.matchOptions(ctx, p)
	if err != nil {
		return nil, err
	}
	found, list, err := s.remembered(id, opt.Links, accounts...)
	if err != nil || list == nil {
		return nil, err
	}
	return s.among(found, list, p, state), nil
}

// among tells the same of what was remembered already.
func (s *Session) among(found map[string]*reconcile.Known, list *Roster, p *Place, state roster.State) map[string]*roster.Person {
	byKey := map[string]*roster.Person{}
	everybody := s.peopleOn(list, s.Now(), p)
	for i := range everybody {
		byKey[reconcile.PersonKey(&everybody[i])] = &everybody[i]
	}
	out := map[string]*roster.Person{}
	for account, k := range found {
		if !k.Sure && k.By != reconcile.ByLink || len(k.People) == 0 {
			continue
		}
		if who := byKey[k.People[0]]; who != nil && who.State == state {
			out[account] = who
		}
	}
	return out
}

// whyNotEnable tells why an account must not be enabled, "" where nothing is
// known against it.
func (s *Session) whyNotEnable(ctx context.Context, p *Place, acc *directory.Account) (string, error) {
	kept, err := s.storeIfAny(ctx)
	if kept == nil || err != nil {
		return "", err
	}
	any, err := carry.SuspendsAny(ctx, kept, s.Now())
	if err != nil || !any && !s.remembers() {
		return "", err
	}
	id, err := p.Identity(ctx)
	if err != nil {
		return "", nil // which directory this is cannot be told, so nothing is known of it
	}
	why, err := s.notToBeEnabled(ctx, id, p.Name, 0, []string{acc.ID})
	return why[acc.ID], err
}
