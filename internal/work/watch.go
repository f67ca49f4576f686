package work

import (
	"context"
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
		p.watched = c.Watch(accounts)
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
	id, err := p.Identity(ctx)
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
	out := &Kept{Logs: *read}
	var all []store.SignIn
	c.Each(func(t *tracing.Trace) {
		if t.Number < 0 || t.SignedIn == 0 {
			return
		}
		out.Accounts++
		for _, src := range t.Sources {
			if src.SignedIn == 0 {
				continue
			}
			all = append(all, store.SignIn{ID: source.ShowIdentity(survey.Dialect, accounts[t.Number].ID), Source: src.Name(), Via: src.Via, At: src.LastSignIn})
		}
	})
	out.SignIns = len(all)
	kept, err := s.Store(ctx)
	if err != nil {
		return nil, err
	}
	return out, kept.KeepSignIns(ctx, directoryKey(id), all)
}
