package ladder

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"yardbroom/internal/calendar"
	"yardbroom/internal/settings"
	"yardbroom/internal/source"
	"yardbroom/internal/store"
)

// Definition is what of a ladder decides on when somebody steps: what puts them
// on it, and the waiting times of its rungs.
type Definition struct {
	Starts string     `json:"starts"`
	Span   string     `json:"span"`
	Rungs  []RungTime `json:"rungs"`
}

// RungTime is a rung of a definition.
type RungTime struct {
	Name    string   `json:"name"`
	After   string   `json:"after"`
	Actions []string `json:"actions"`
}

// DefinitionOf is that of a ladder of the settings.
func DefinitionOf(l *settings.Ladder) Definition {
	by, span := l.Starts.By()
	d := Definition{Starts: string(by), Span: span.String()}
	for i := range l.Rungs {
		d.Rungs = append(d.Rungs, RungTime{l.Rungs[i].Name, l.Rungs[i].After.String(), l.Rungs[i].Actions})
	}
	return d
}

// Equal tells whether two are the same.
func (d Definition) Equal(other Definition) bool {
	return d.Starts == other.Starts && d.Span == other.Span &&
		slices.EqualFunc(d.Rungs, other.Rungs, func(a, b RungTime) bool {
			return a.Name == b.Name && a.After == b.After && slices.Equal(a.Actions, b.Actions)
		})
}

// Changes says what another definition has otherwise, a line each.
func (d Definition) Changes(now Definition) (out []string) {
	if d.Starts != now.Starts || d.Span != now.Span {
		out = append(out, fmt.Sprintf("starts: %s for %s, was %s for %s", now.Starts, now.Span, d.Starts, d.Span))
	}
	find := func(all []RungTime, name string) int {
		return slices.IndexFunc(all, func(r RungTime) bool { return r.Name == name })
	}
	for _, r := range now.Rungs {
		i := find(d.Rungs, r.Name)
		switch {
		case i < 0:
			out = append(out, fmt.Sprintf("rung %s is new (after %s: %s)", r.Name, r.After, strings.Join(r.Actions, ", ")))
			continue
		case d.Rungs[i].After != r.After:
			out = append(out, fmt.Sprintf("rung %s: after %s, was %s", r.Name, r.After, d.Rungs[i].After))
		}
		if !slices.Equal(d.Rungs[i].Actions, r.Actions) {
			out = append(out, fmt.Sprintf("rung %s: %s, was %s", r.Name, strings.Join(r.Actions, ", "), strings.Join(d.Rungs[i].Actions, ", ")))
		}
	}
	for _, r := range d.Rungs {
		if find(now.Rungs, r.Name) < 0 {
			out = append(out, fmt.Sprintf("rung %s is gone", r.Name))
		}
	}
	return out
}

// Apply is a ladder as the definition has it: its times, and only the rungs that
// it knows.
func (d Definition) Apply(l settings.Ladder) settings.Ladder {
	if by, _ := l.Starts.By(); string(by) == d.Starts {
		if span, err := calendar.ParseSpan(d.Span); err == nil {
			l.Starts = l.Starts.With(span)
		}
	}
	var rungs []settings.Rung
	for _, r := range d.Rungs {
		one := settings.Rung{Name: r.Name, Actions: r.Actions}
		if i, is := l.Rung(r.Name); is {
			one = l.Rungs[i]
		}
		if span, err := calendar.ParseSpan(r.After); err == nil {
			one.After = span
		}
		rungs = append(rungs, one)
	}
	l.Rungs = rungs
	return l
}

// definedBody is the journal's body of a ladder that was climbed as it is set.
type definedBody struct {
	Directory source.Identity `json:"directory"`
	Ladder    string          `json:"ladder"`
	Definition
}

func (p *Past) defined(r *store.Sealed) error {
	var body definedBody
	if err := json.Unmarshal(r.Body, &body); err != nil {
		return fmt.Errorf("journal record %d: %w", r.Seq, err)
	}
	if body.Directory.Same(p.Directory) {
		p.set[body.Ladder] = body.Definition
	}
	return nil
}

// Define writes into the journal how a ladder is set, where that is not known yet.
func (p *Past) Define(ctx context.Context, s *store.Store, l *settings.Ladder, by string, at time.Time) error {
	now := DefinitionOf(l)
	if was, known := p.set[l.Name]; known && was.Equal(now) {
		return nil
	}
	body, err := json.Marshal(definedBody{p.Directory, l.Name, now})
	if err != nil {
		return err
	}
	_, err = s.Append(ctx, &store.Record{At: at, By: by, Event: EventSet, Body: body})
	p.set[l.Name] = now
	return err
}
