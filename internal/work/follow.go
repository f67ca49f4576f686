package work

import (
	"context"
	"slices"

	"yardbroom/internal/directory"
	"yardbroom/internal/logs"
	"yardbroom/internal/tracing"
)

// Happening is something that a log said just now.
type Happening struct {
	*logs.Event
	Account string // its name, or the name in the log that no account has
	Known   bool   // that is an account
}

// Follow reads the logs as Trace does, or for all accounts where no name is given, and
// goes on with what is written to them until ctx ends. What was there at first is handed
// to begun, nil where all accounts are followed; what comes then to take.
func (s *Session) Follow(
	ctx context.Context, p *Place, name string, from *LogsFrom, begun func(*AccountTrace) error, take func(*Happening) error,
) error {
	t := &AccountTrace{Name: name}
	all, err := s.logsFor(p, from, &t.AsOf, &t.Logs)
	if err != nil {
		return err
	}
	if slices.ContainsFunc(all, func(l *logs.Log) bool { return l.Path == "-" }) || len(all) == 0 {
		return Wrong("--follow: name logs that are files, in the settings (logs) or with --log")
	}
	f := &follower{take: take}
	var only *logs.Only
	if name == "" {
		err = f.everybody(ctx, s, p)
	} else {
		only, err = f.one(ctx, s, p, t, from)
	}
	if err != nil {
		return err
	}
	c := &tracing.Collector{Book: f.book, Since: t.Since}
	reading := &logs.Reading{Logs: all, Now: s.now(), Only: only, Take: func(e *logs.Event) error {
		if f.caughtUp {
			return f.happens(e)
		}
		if name == "" {
			return nil
		}
		return c.Take(e)
	}}
	return reading.Follow(ctx, func(reports []*logs.Report) error {
		f.caughtUp = true
		if name == "" {
			return begun(nil)
		}
		t.Logs.take(reports, c)
		if err := s.judge(ctx, all, c, t); err != nil {
			return err
		}
		return begun(t)
	})
}

// follower hands over what happens to accounts.
type follower struct {
	book     *tracing.Book
	nameOf   func(number int) string
	single   bool // only one account matters, or one name
	nobody   bool // and that is no account's
	caughtUp bool
	take     func(*Happening) error
}

func (f *follower) one(ctx context.Context, s *Session, p *Place, t *AccountTrace, from *LogsFrom) (*logs.Only, error) {
	var names tracing.Names
	var err error
	if f.book, names, err = s.begin(ctx, p, t, from); err != nil {
		return nil, err
	}
	f.single, f.nobody, f.nameOf = true, t.Account == nil, func(int) string { return t.Name }
	if t.Account != nil {
		f.nameOf = func(int) string { return t.Account.Name() }
	}
	return logs.NewOnly(needles(names)...), nil
}

func (f *follower) everybody(ctx context.Context, s *Session, p *Place) error {
	survey, err := p.Survey(ctx)
	if err != nil {
		return err
	}
	var accounts []*directory.Account
	f.book, accounts, err = s.bookOf(ctx, p, survey)
	f.nameOf = func(number int) string { return accounts[number].Name() }
	return err
}

func (f *follower) happens(e *logs.Event) error {
	h := &Happening{Event: e, Account: e.Name}
	switch number, m := f.book.Find(e); m {
	case tracing.Known:
		h.Account, h.Known = f.nameOf(number), !f.nobody
	case tracing.Nobody:
		if f.single || e.What != logs.Refused && e.What != logs.SignedIn {
			return nil
		}
	case tracing.Elsewhere, tracing.Several:
		return nil
	}
	return f.take(h)
}
