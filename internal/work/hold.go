package work

import (
	"context"
	"strings"
	"time"

	"yardbroom/internal/directory"
	"yardbroom/internal/ladder"
	"yardbroom/internal/settings"
	"yardbroom/internal/source"
	"yardbroom/internal/store"
)

// LadderRequest is what somebody wants to be known about one account on ladders.
type LadderRequest struct {
	Account string
	Ladder  string // where it is to be adopted
	Rung    string
	Until   string // of a hold: a date, or a span from now
	Why     string
}

// Hold keeps an account on its rung until a date.
func (s *Session) Hold(ctx context.Context, p *Place, r *LadderRequest) (*ladder.Event, error) {
	if strings.TrimSpace(r.Why) == "" {
		return nil, Wrong("say with --why why it is held")
	}
	until, err := s.untilDate(r.Until, p)
	if err != nil {
		return nil, err
	}
	e, err := s.ladderEvent(ctx, p, r.Account)
	if err != nil {
		return nil, err
	}
	e.Until, e.Why = until, r.Why
	return e, s.journalEvent(ctx, ladder.EventHeld, e)
}

// untilDate reads a date to come, or a span from now.
func (s *Session) untilDate(text string, p *Place) (time.Time, error) {
	if text == "" {
		return time.Time{}, Wrong("say with --until until when: a date, or a span such as 90d")
	}
	until, err := dateAfter(text, s.now(), p)
	if err != nil {
		return until, err
	}
	if !until.After(s.now()) {
		return until, Wrong("--until %s is over", text)
	}
	return until, nil
}

// LetGo ends a hold.
func (s *Session) LetGo(ctx context.Context, p *Place, r *LadderRequest) (*ladder.Event, error) {
	e, err := s.ladderEvent(ctx, p, r.Account)
	if err != nil {
		return nil, err
	}
	kept, err := s.Store(ctx)
	if err != nil {
		return nil, err
	}
	past, err := ladder.Read(ctx, kept, e.Directory)
	if err != nil {
		return nil, err
	}
	if !past.Of(e.ID).HeldAt(s.now()) {
		return nil, Wrong("nobody holds %s", e.Account)
	}
	e.Why = r.Why
	return e, s.journalEvent(ctx, ladder.EventLetGo, e)
}

// Adopt takes an account on that stands on a rung without the ladder's having put it
// there, since now.
func (s *Session) Adopt(ctx context.Context, p *Place, r *LadderRequest) (*ladder.Event, error) {
	all, err := s.Ladders(ctx, p, &Question{})
	if err != nil {
		return nil, err
	}
	one, err := all.LadderNamed(r.Ladder)
	if err != nil {
		return nil, err
	}
	e, err := s.ladderEvent(ctx, p, r.Account)
	if err != nil {
		return nil, err
	}
	rung := r.Rung
	if rung == "" {
		for i := range one.Rungs {
			if to := one.Rungs[i].To; to != "" && directory.FoldDN(to) == directory.FoldDN(parentOf(e.DN)) {
				rung = one.Rungs[i].Name
			}
		}
	}
	if _, known := one.Ladder.Rung(rung); !known {
		return nil, Wrong("say with --rung on which rung it stands: %s", strings.Join(rungNames(one.Ladder), ", "))
	}
	for _, s := range all.Of(e.ID) {
		if s.Ladder != one.Name && s.Rung != "" && s.State != ladder.Gone {
			return nil, Wrong("%s is on the ladder %s; an account is on one at most", e.Account, s.Ladder)
		}
		if s.State == ladder.Woken {
			return nil, Wrong("%s leaves the ladder (%s) and is to be brought back; \"yardbroom ladder climb\" does that", e.Account, s.Awake)
		}
	}
	e.Ladder, e.Rung, e.Why = one.Name, rung, r.Why
	return e, s.journalEvent(ctx, ladder.EventAdopted, e)
}

func rungNames(l *settings.Ladder) (names []string) {
	for i := range l.Rungs {
		names = append(names, l.Rungs[i].Name)
	}
	return names
}

// ladderEvent begins an event about an account that is named.
func (s *Session) ladderEvent(ctx context.Context, p *Place, name string) (*ladder.Event, error) {
	entry, err := s.FindAccount(ctx, p, name)
	if err != nil {
		return nil, err
	}
	id, d, err := p.Dialect(ctx)
	if err != nil {
		return nil, err
	}
	a := d.Account(entry)
	return &ladder.Event{Directory: id, ID: source.ShowIdentity(d, a.ID), Account: a.Name(), DN: entry.DN}, nil
}

// journalEvent writes an event about an account.
func (s *Session) journalEvent(ctx context.Context, event string, e *ladder.Event) error {
	kept, err := s.Store(ctx)
	if err != nil {
		return err
	}
	r, err := e.Record(event, s.By, s.now())
	if err != nil {
		return err
	}
	_, err = kept.Append(ctx, r)
	return err
}

// appendAll writes several events at once.
func (s *Session) appendAll(ctx context.Context, kept *store.Store, event string, all []*ladder.Event) error {
	for _, e := range all {
		r, err := e.Record(event, s.By, s.now())
		if err != nil {
			return err
		}
		if _, err := kept.Append(ctx, r); err != nil {
			return err
		}
	}
	return nil
}
