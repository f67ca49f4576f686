package work

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"yardbroom/internal/calendar"
	"yardbroom/internal/store"
)

// Trend is how a yard did over time, by what was remembered of its audits.
type Trend struct {
	Yard string
	// Days are those on which the yard was audited, oldest first, each as its last
	// audits found it. A check that was not looked at on a day counts as it did when it
	// was last looked at.
	Days []TrendDay
	// Came and Went are the findings that came and went between the first day and the
	// last, of the checks that were looked at by the first; what did both is in neither.
	Came, Went []TrendChange
	Zone       *time.Location
}

// TrendDay is one day.
type TrendDay struct {
	At       time.Time // of the last audit of the day
	Checks   map[string]CheckCount
	Accounts map[string]map[string]int // by kind and state
	Places   map[string][4]int         // findings by place and severity
	People   int                       // on the roster
	Whole    bool                      // nothing was missing in what was read
	Looked   []string                  // the checks that were looked at on this day
}

// TrendChange is one finding that came or went.
type TrendChange struct {
	Check string
	FoundEntry
}

// BySeverity counts the findings of a day.
func (d *TrendDay) BySeverity() (n [4]int) {
	for _, c := range d.Checks {
		for level, of := range c.By {
			n[level] += of
		}
	}
	return n
}

// TrendRequest says what trend is asked for.
type TrendRequest struct {
	// Since and Until are dates or times, or spans before now (90d); "" is from the
	// beginning, and to now.
	Since, Until string
}

// Trend reads how a place did over time. It is empty where nothing is remembered of it.
func (s *Session) Trend(ctx context.Context, p *Place, r *TrendRequest) (*Trend, error) {
	zone := p.Zone()
	t := &Trend{Yard: cmp.Or(p.Name, p.Where()), Zone: zone}
	since, until := time.Time{}, s.Now()
	for _, one := range []struct {
		option, text string
		at           *time.Time
		bound        calendar.Bound
	}{{"--since", r.Since, &since, calendar.First}, {"--until", r.Until, &until, calendar.Last}} {
		if one.text == "" {
			continue
		}
		var err error
		if *one.at, err = s.trendBound(one.text, zone, one.bound); err != nil {
			return nil, Wrong("%s: %w", one.option, err)
		}
	}
	id, err := p.Identity(ctx)
	if err != nil {
		return nil, err
	}
	kept, err := s.storeIfAny(ctx)
	if kept == nil || err != nil {
		return t, err
	}
	audits, err := kept.Audits(ctx, yardKey(id))
	if err != nil {
		return nil, err
	}
	first, last, err := t.fill(audits, since, until)
	if err != nil || first == nil {
		return t, err
	}
	came, went, err := kept.Between(ctx, first, last)
	if err != nil {
		return nil, err
	}
	if t.Came, err = changes(came); err != nil {
		return nil, err
	}
	t.Went, err = changes(went)
	// What was not looked at on the first day has not come since: it was first seen.
	t.Came = slices.DeleteFunc(t.Came, func(c TrendChange) bool {
		_, known := t.Days[0].Checks[c.Check]
		return !known
	})
	return t, err
}

// TrendSoFar is the whole trend of a place, nil where nothing is remembered of it, or
// where it cannot be told which directory it is.
func (s *Session) TrendSoFar(ctx context.Context, p *Place) (*Trend, error) {
	if kept, err := s.storeIfAny(ctx); kept == nil || err != nil {
		return nil, err
	}
	if _, err := p.Identity(ctx); err != nil {
		return nil, nil
	}
	return s.Trend(ctx, p, &TrendRequest{})
}

// trendBound reads a date, a time, or a span before now.
func (s *Session) trendBound(text string, zone *time.Location, bound calendar.Bound) (time.Time, error) {
	if span, err := calendar.ParseSpan(text); err == nil {
		return span.Before(s.Now()), nil
	}
	return calendar.ParseRelative(text, s.Now().In(zone), bound)
}

// fill makes the days of audits, and returns the last audit of the first day and that of
// the last one; nil where there is none.
func (t *Trend) fill(audits []*store.Audit, since, until time.Time) (first, end *store.Audit, err error) {
	checks := map[string]CheckCount{} // as they were last looked at
	last := ""
	for _, a := range audits {
		var c Counts
		if err := json.Unmarshal(a.Body, &c); err != nil {
			return nil, nil, fmt.Errorf("audit %d: %w", a.ID, err)
		}
		looked := []string{}
		for name, of := range c.Checks {
			if before, known := checks[name]; of.Looked && !(known && hidesMore(of, before)) {
				checks[name] = of
				looked = append(looked, name)
			}
		}
		if a.At.Before(since) || a.At.After(until) {
			continue
		}
		if day := a.At.In(t.Zone).Format(time.DateOnly); day != last || len(t.Days) == 0 {
			t.Days, last = append(t.Days, TrendDay{Whole: true, Places: map[string][4]int{}}), day
		}
		d := &t.Days[len(t.Days)-1]
		if end = a; len(t.Days) == 1 {
			first = a
		}
		d.At, d.Accounts, d.Whole = a.At, c.Accounts, d.Whole && c.Whole
		d.People = cmp.Or(c.People, d.People)
		d.Checks = map[string]CheckCount{}
		for name, of := range checks {
			d.Checks[name] = of
		}
		d.Looked = append(d.Looked, looked...)
		slices.Sort(d.Looked)
		d.Looked = slices.Compact(d.Looked)
		if a.Kind == auditing {
			d.Places = c.Places
		}
	}
	return first, end, nil
}

// hidesMore tells whether a check could not look at something that it looked at before.
func hidesMore(now, before CheckCount) bool {
	return slices.ContainsFunc(now.NotLooked, func(why string) bool { return !slices.Contains(before.NotLooked, why) })
}

// changes are presences as what they were about.
func changes(presences []store.Presence) (all []TrendChange, err error) {
	for _, p := range presences {
		c := TrendChange{Check: p.Check}
		if err := json.Unmarshal(p.Body, &c.FoundEntry); err != nil {
			return nil, fmt.Errorf("finding %d: %w", p.ID, err)
		}
		all = append(all, c)
	}
	slices.SortStableFunc(all, func(a, b TrendChange) int {
		return cmp.Or(cmp.Compare(b.Severity, a.Severity), cmp.Compare(a.Check, b.Check), cmp.Compare(a.Account, b.Account))
	})
	return all, nil
}
