package work

import (
	"context"
	"fmt"
	"strings"

	"yardbroom/internal/directory"
	"yardbroom/internal/listing"
	"yardbroom/internal/source"
	"yardbroom/internal/store"
	"yardbroom/internal/tracing"
	"yardbroom/internal/wording"
)

// watch reads the logs of a place, where it has any: what they say of accounts goes to the
// checks, and the last sign-in of each counts as one that another system has recorded, as
// do those that were remembered from earlier logs. It is done once for a place.
func (s *Session) watch(ctx context.Context, p *Place, from *LogsFrom, survey *directory.Survey) error {
	if from.None {
		return nil
	}
	if err := s.countRemembered(ctx, p, survey); err != nil {
		return err
	}
	if p.watched == nil {
		c, accounts, read, err := s.gather(ctx, p, from, survey)
		if c == nil || err != nil {
			return err
		}
		p.signIns = nil
		p.watched = c.Watch(accounts, func(a *directory.Account, t *tracing.Trace) {
			p.signIns = append(p.signIns, signInsOf(a, t, survey.Dialect)...)
		})
		s.note("note: %s name %s and %s that no account has", wording.Count(len(read.Reports), "log"), wording.Count(len(p.watched.Accounts), "account"),
			wording.Count(len(p.watched.Strangers), "name"))
	}
	for a := range survey.Accounts.All() {
		if seen := p.watched.Accounts[a.Key]; seen != nil {
			countSignIn(survey, a, &seen.In)
		}
	}
	return nil
}

// refuseUnread refuses to go by findings while a log of sign-ins could not be read: who is
// unused by the others may be in use by that one.
func (p *Place) refuseUnread() error {
	if len(p.unread) == 0 {
		return nil
	}
	return fmt.Errorf("the log %s could not be read, and who is in use by it is not known: nothing is staged by findings; --no-logs stages without logs", wording.List(p.unread))
}

// logsThere tells whether the logs of a place can be opened, before anything is done that
// rests on who is in use by them.
func (s *Session) logsThere(p *Place, from *LogsFrom) error {
	all, _, err := s.logsOf(p, from, s.now())
	if err != nil {
		return err
	}
	p.unread = nil
	for _, l := range withoutStdin(all) {
		if _, _, err := l.Newest(); err != nil {
			p.unread = append(p.unread, l.Path)
		}
	}
	return p.refuseUnread()
}

// gather reads the logs of a place for all accounts; nil where there are none.
func (s *Session) gather(
	ctx context.Context, p *Place, from *LogsFrom, survey *directory.Survey,
) (*tracing.Collector, []*directory.Account, *Logs, error) {
	all, since, err := s.logsOf(p, from, s.now())
	if err != nil || len(all) == 0 {
		return nil, nil, nil, err
	}
	book, accounts, err := s.bookOf(ctx, p, survey)
	if err != nil {
		return nil, nil, nil, err
	}
	read := &Logs{Since: since}
	c := &tracing.Collector{Book: book, Everybody: true, Since: since}
	if err := s.readLogs(ctx, all, nil, c, read); err != nil {
		return nil, nil, nil, err
	}
	s.noteFaults(p, read)
	p.unread = nil
	for _, r := range read.Reports {
		if r.Error != nil {
			p.unread = append(p.unread, r.Name)
		}
	}
	return c, accounts, read, nil
}

// noteFaults says which logs do not say what they should.
func (s *Session) noteFaults(p *Place, l *Logs) {
	for _, r := range l.Reports {
		for _, fault := range Faults(r, l.Since, p.Zone()) {
			s.note("note: log %s %s", r.Name, fault)
		}
	}
}

// countSignIn takes a sign-in for one of another system, unless a later one is known.
func countSignIn(survey *directory.Survey, a *directory.Account, in *tracing.Use) {
	if in.Last.IsZero() || a.Logon == "" {
		return
	}
	k := directory.TextKey(a.Logon)
	if !in.Last.After(survey.Elsewhere[k].At) {
		return
	}
	if survey.Elsewhere == nil {
		survey.Elsewhere = map[directory.Key]directory.SignIn{}
	}
	survey.Elsewhere[k] = directory.SignIn{At: in.Last, Source: usedFrom(in)}
}

// usedFrom is where a sign-in came from, and by what, as evidence has it.
func usedFrom(u *tracing.Use) string {
	if u.Machine == "" {
		return "log, " + u.Via
	}
	return strings.TrimSuffix(u.Machine+", "+u.Via, ", ")
}

// countRemembered counts the sign-ins that were kept from logs.
func (s *Session) countRemembered(ctx context.Context, p *Place, survey *directory.Survey) error {
	kept, err := s.storeIfAny(ctx)
	if kept == nil || err != nil {
		return err
	}
	if any, err := kept.AnySignIns(ctx); err != nil || !any {
		return err
	}
	id, err := p.Identity(ctx)
	if err != nil {
		return nil // which directory this is cannot be told, so nothing is known of it
	}
	all, err := kept.SignIns(ctx, directoryKey(id))
	if err != nil || len(all) == 0 {
		return err
	}
	known := make(map[string]*store.SignIn, len(all))
	for i := range all {
		known[all[i].ID] = &all[i]
	}
	for a := range survey.Accounts.All() {
		if one := known[source.ShowIdentity(survey.Dialect, a.ID)]; one != nil {
			countSignIn(survey, a, &tracing.Use{Machine: one.Source, Via: one.Via, Last: one.At})
		}
	}
	return nil
}

// addLogged adds to a query what the logs of a place tell of sign-ins, where it has any.
func (s *Session) addLogged(ctx context.Context, p *Place, q *listing.Query, from *LogsFrom) error {
	if len(from.Paths) == 0 && len(p.Yard.Logs) == 0 || from.None {
		return nil
	}
	survey, err := p.Survey(ctx)
	if err != nil {
		return err
	}
	survey.Elsewhere = q.SignIns
	err = s.watch(ctx, p, from, survey)
	q.SignIns = survey.Elsewhere
	return err
}

// directoryKey tells directories apart in the state.
func directoryKey(id source.Identity) string { return id.ID + " " + directory.FoldDN(id.Base) }

// Kept is what was remembered of logs.
type Kept struct {
	Accounts, SignIns int
	Logs
}

// KeepSignIns remembers when each account signed in last from each source, by its logs, so
// that these may rotate away.
func (s *Session) KeepSignIns(ctx context.Context, p *Place, from *LogsFrom) (*Kept, error) {
	survey, err := p.Survey(ctx)
	if err != nil {
		return nil, err
	}
	c, accounts, read, err := s.gather(ctx, p, from, survey)
	if err != nil {
		return nil, err
	}
	if c == nil {
		return nil, Wrong("no logs are named: add them to the settings (logs), or name one with --log")
	}
	p.signIns = nil
	c.Each(func(t *tracing.Trace) {
		if t.Number >= 0 {
			p.signIns = append(p.signIns, signInsOf(accounts[t.Number], t, survey.Dialect)...)
		}
	})
	who := map[string]bool{}
	for i := range p.signIns {
		who[p.signIns[i].ID] = true
	}
	return &Kept{Logs: *read, Accounts: len(who), SignIns: len(p.signIns)}, s.keepSignIns(ctx, p)
}

// keepSignIns remembers what the logs of a place have told of sign-ins, once they were
// read.
func (s *Session) keepSignIns(ctx context.Context, p *Place) error {
	if len(p.signIns) == 0 {
		return nil
	}
	id, err := p.Identity(ctx)
	if err != nil {
		return err
	}
	kept, err := s.Store(ctx)
	if err != nil {
		return err
	}
	return kept.KeepSignIns(ctx, directoryKey(id), p.signIns)
}

// signInsOf are the last sign-ins of an account from each source.
func signInsOf(a *directory.Account, t *tracing.Trace, d *directory.Dialect) (all []store.SignIn) {
	for _, src := range t.Sources {
		if src.SignedIn > 0 {
			all = append(all, store.SignIn{ID: source.ShowIdentity(d, a.ID), Source: src.Name(), Via: src.Via, At: src.LastSignIn})
		}
	}
	return all
}
