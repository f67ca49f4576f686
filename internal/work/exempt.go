package work

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"yardbroom/internal/audit"
	"yardbroom/internal/calendar"
	"yardbroom/internal/directory"
	"yardbroom/internal/settings"
	"yardbroom/internal/store"
)

// Exemption is one of the settings, or one kept in the state folder.
type Exemption struct {
	settings.Exemption
	// Number is what it is called by, 0 for one of the settings.
	Number int
}

// Ended tells whether its last day is over at a time.
func (e *Exemption) Ended(at time.Time) bool {
	t, err := calendar.ParseTime(e.Until, time.UTC)
	return err == nil && at.After(t)
}

// Exempt leaves an account, a subtree or what a filter selects alone from now on,
// and returns the number of that. Until may be a span from now.
func (s *Session) Exempt(ctx context.Context, e settings.Exemption) (*Exemption, error) {
	if err := s.CheckExemption(ctx, &e); err != nil {
		return nil, err
	}
	body, err := json.Marshal(e)
	if err != nil {
		return nil, err
	}
	kept, err := s.Store(ctx)
	if err != nil {
		return nil, err
	}
	n, err := kept.Decide(ctx, store.Exemptions, body,
		&store.Record{At: s.now(), By: s.By, Event: store.EventExempted, Body: body})
	return &Exemption{e, n}, err
}

// CheckExemption refuses an exemption that says too little, or that one in force makes
// needless: of the same entries, from the same checks or from all. A span of time in
// Until becomes the date.
func (s *Session) CheckExemption(ctx context.Context, e *settings.Exemption) error {
	if span, err := calendar.ParseSpan(e.Until); err == nil {
		e.Until = span.After(s.Now()).Format(time.DateOnly)
	}
	if err := e.Check(); err != nil {
		return asRequest(err)
	}
	for _, name := range e.Checks {
		if _, err := s.Catalog.Named(name); err != nil {
			return Wrong("--check: %w", err)
		}
	}
	all, err := s.Exemptions(ctx)
	if err != nil {
		return err
	}
	for i := range all {
		was := &all[i]
		same := was.Match == e.Match || was.Match.Account != "" && strings.EqualFold(was.Match.Account, e.Match.Account)
		covers := len(was.Checks) == 0 || len(e.Checks) > 0 && !slices.ContainsFunc(e.Checks, func(name string) bool { return !slices.Contains(was.Checks, name) })
		if same && covers && !was.Ended(s.Now()) {
			by, end := fmt.Sprintf("exemption %d", was.Number), fmt.Sprintf("; to change it, end that one first: yardbroom exempt end %d", was.Number)
			if was.Number == 0 {
				by, end = "the settings", ""
			}
			return fmt.Errorf("%s is exempt already, by %s (%s, until %s)%s", e.Match, by, was.Reason, cmp.Or(was.Until, "it is ended"), end)
		}
	}
	return nil
}

// EndExemption ends an exemption of the state folder.
func (s *Session) EndExemption(ctx context.Context, number int) error {
	return s.endDecision(ctx, store.Exemptions, store.EventExemptionEnded, number)
}

func (s *Session) endDecision(ctx context.Context, kind store.Kind, event string, number int) error {
	kept, err := s.Store(ctx)
	if err != nil {
		return err
	}
	return kept.End(ctx, kind, number, func(body []byte) *store.Record {
		return &store.Record{At: s.now(), By: s.By, Event: event, Body: body}
	})
}

// Exemptions are those of the settings and those kept in the state folder, also
// the ones that have ended.
func (s *Session) Exemptions(ctx context.Context) (all []Exemption, err error) {
	for _, e := range s.Settings.Exemptions {
		all = append(all, Exemption{Exemption: e})
	}
	rows, err := s.decisions(ctx, store.Exemptions)
	if err != nil {
		return nil, err
	}
	for _, r := range rows {
		e := Exemption{Number: r.ID}
		if err := json.Unmarshal(r.Body, &e.Exemption); err != nil {
			return nil, fmt.Errorf("exemption %d cannot be read: %w", r.ID, err)
		}
		all = append(all, e)
	}
	return all, nil
}

// decisions are those that the state folder keeps. Reading them makes no
// state folder where there is none.
func (s *Session) decisions(ctx context.Context, k store.Kind) ([]store.Decision, error) {
	kept, err := s.storeIfAny(ctx)
	if kept == nil || err != nil {
		return nil, err
	}
	return kept.Decisions(ctx, k)
}

// exemptions are all there are, with what their filters select in a place.
func (s *Session) exemptions(ctx context.Context, p *Place) ([]audit.Exemption, error) {
	list, err := s.Exemptions(ctx)
	if err != nil {
		return nil, err
	}
	var all []audit.Exemption
	for _, one := range list {
		e := audit.Exemption{Exemption: one.Exemption}
		if one.Until != "" {
			if e.Until, err = calendar.ParseTime(one.Until, p.Location()); err != nil {
				return nil, fmt.Errorf("exemption of %s: until: %w", one.Match, err)
			}
		}
		if one.Match.Filter != "" {
			found, err := p.Select(ctx, one.Match.Filter, []string{"1.1"})
			if err != nil {
				return nil, fmt.Errorf("exemption of %s: %w", one.Match, err)
			}
			e.Selected = map[directory.Key]bool{}
			for i := range found {
				e.Selected[directory.KeyOf(found[i].DN)] = true
			}
		}
		all = append(all, e)
	}
	return all, nil
}
