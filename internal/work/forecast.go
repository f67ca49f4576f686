package work

import (
	"context"
	"time"

	"yardbroom/internal/calendar"
	"yardbroom/internal/ladder"
	"yardbroom/internal/settings"
	"yardbroom/internal/source"
)

// ForecastRequest says what to foresee.
type ForecastRequest struct {
	Question
	Ladder string
	Until  string // a date, or a span from now
	// With are other waiting times, one for each rung; none are those of the settings.
	With []calendar.Span
}

// Forecast is who would stand where on a ladder if nobody woke.
type Forecast struct {
	*ladder.Forecast
	Ladder *settings.Ladder // with the waiting times that were asked for
	Now    *OneLadder
	At     time.Time
	Until  time.Time
}

// Forecast foresees a ladder: those who stand on it, and those who would come on it, if
// nobody signed in, came back or was held any more.
func (s *Session) Forecast(ctx context.Context, p *Place, r *ForecastRequest) (*Forecast, error) {
	survey, err := p.Survey(ctx)
	if err != nil {
		return nil, err
	}
	at, err := s.asOf(r.AsOf, p.Location(), survey)
	if err != nil {
		return nil, err
	}
	until := at.AddDate(0, 6, 0)
	if r.Until != "" {
		if until, err = dateAfter(r.Until, at, p); err != nil {
			return nil, err
		}
	}
	if !until.After(at) {
		return nil, Wrong("--until %s is not later than %s", r.Until, at.Format(time.DateOnly))
	}
	if err := s.addSignIns(r.SignIns, p, survey); err != nil {
		return nil, err
	}
	if err := s.watch(ctx, p, &r.Logs, survey); err != nil {
		return nil, err
	}
	with, err := s.withTimes(p, r)
	if err != nil {
		return nil, err
	}
	all, err := with.laddersIn(ctx, p, &ladderQuestion{Question: r.Question}, survey, at)
	if err != nil {
		return nil, err
	}
	now, err := all.LadderNamed(r.Ladder)
	if err != nil {
		return nil, err
	}
	on := map[string]bool{}
	for _, one := range all.All {
		for _, st := range one.Standings {
			on[st.ID] = true
		}
	}
	then, err := with.gatherLadders(ctx, p, &ladderQuestion{Question: r.Question}, survey, until)
	if err != nil {
		return nil, err
	}
	var coming []*ladder.Facts
	for i, l := range then.ladders {
		for _, id := range then.starters(i, l) {
			shown := source.ShowIdentity(survey.Dialect, id)
			f := then.facts(l, id, then.past.Of(shown))
			if f == nil || f.Exempt != "" || on[shown] {
				continue
			}
			on[shown] = true // the first ladder that takes it has it
			if l.Name == r.Ladder {
				coming = append(coming, f)
			}
		}
	}
	day := func(t time.Time) time.Time { return t.AddDate(0, 0, 1) }
	return &Forecast{Forecast: ladder.Foresee(now.Ladder, now.Standings, coming, all.past, at, until, day), Ladder: now.Ladder, Now: now, At: at, Until: until}, nil
}

// dateAfter reads a date, or a span from a time.
func dateAfter(text string, from time.Time, p *Place) (time.Time, error) {
	if span, err := calendar.ParseSpan(text); err == nil {
		return span.After(from), nil
	}
	t, err := calendar.ParseTime(text, p.Location())
	if err != nil {
		return t, Wrong("--until: %q is neither a date nor a span of time: write 2027-02-15, or 90d", text)
	}
	return t.UTC(), nil
}

// withTimes is the session with other waiting times of a ladder.
func (s *Session) withTimes(p *Place, r *ForecastRequest) (*Session, error) {
	one, err := (&Ladders{All: oneEach(s.laddersOf(p))}).LadderNamed(r.Ladder)
	if err != nil || len(r.With) == 0 {
		return s, err
	}
	if len(r.With) != len(one.Rungs) {
		return nil, Wrong("--with: the ladder %s has %d rungs: give a time for each", r.Ladder, len(one.Rungs))
	}
	set := *s.Settings
	set.Ladders = append([]settings.Ladder{}, s.Settings.Ladders...)
	for i := range set.Ladders {
		l := &set.Ladders[i]
		if l.Name != r.Ladder {
			continue
		}
		l.Rungs = append([]settings.Rung{}, l.Rungs...)
		for j := range l.Rungs {
			l.Rungs[j].After = r.With[j]
		}
	}
	return s.with(&set)
}
