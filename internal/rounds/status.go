package rounds

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"time"

	"yardbroom/internal/settings"
	"yardbroom/internal/store"
	"yardbroom/internal/wording"
	"yardbroom/internal/work"
)

// Status is how a round stands.
type Status struct {
	Name  string
	Round *settings.Round
	// Last is the last run, nil where none was; it may go on at this moment.
	Last    *Run
	Running bool
	Next    time.Time // zero where it runs only when it is told to
	// Missed is the time of the schedule at which it should have run and did not, zero
	// where there is none.
	Missed  time.Time
	Held    *Held
	Waiting int // mails and posts that could not be handed over yet
	Refused int // those of the last run that somebody refused
}

// Trouble says what is wrong with a round, each in a sentence.
func (s *Status) Trouble() (all []string) {
	if s.Held != nil && s.Held.Released == nil {
		all = append(all, fmt.Sprintf("held by the brake since run %d: %s", s.Held.Run, s.Held.Stops[0].Why))
	}
	if !s.Missed.IsZero() {
		all = append(all, "overdue: it should have run at "+wording.Moment(s.Missed, s.zone()))
	}
	switch {
	case s.Last == nil && s.Next.IsZero():
		// It runs when somebody says so.
	case s.Last == nil:
		all = append(all, "it has never run; the first time comes at "+wording.Moment(s.Next, s.zone()))
	case s.Running:
	case s.Last.Outcome == Failed, s.Last.Outcome == Killed:
		what := string(s.Last.Outcome)
		if faults := s.Last.Faults(); len(faults) > 0 {
			what += ": " + faults[0]
		}
		all = append(all, fmt.Sprintf("run %d %s", s.Last.ID, what))
	}
	if s.Waiting > 0 {
		all = append(all, wording.Count(s.Waiting, "message")+" could not be handed over yet")
	}
	if s.Refused > 0 {
		all = append(all, wording.Count(s.Refused, "message")+" of the last run were refused")
	}
	return all
}

// Outcome is how the last run ended, or that it goes on.
func (s *Status) Outcome() string {
	switch {
	case s.Last == nil:
		return "never"
	case s.Running:
		return "running"
	}
	return string(s.Last.Outcome)
}

// LastTime is when the last run began, NextTime when the next one comes, Lasted how
// long the last one took, all in words.
func (s *Status) LastTime() string {
	if s.Last == nil {
		return ""
	}
	return s.Last.Began.In(s.zone()).Format("Mon 2006-01-02 15:04")
}

// NextTime is when the next run comes, in words.
func (s *Status) NextTime() string {
	if s.Next.IsZero() {
		return "when told to"
	}
	return s.Next.Format("Mon 2006-01-02 15:04 MST")
}

// Lasted is how long the last run took, in words.
func (s *Status) Lasted() string {
	if s.Last == nil || s.Last.Ended.IsZero() {
		return ""
	}
	return Lasting(s.Last.Ended.Sub(s.Last.Began))
}

// Lasting is a span of time in words: "4 s", "3 min", "2 h 5 min".
func Lasting(d time.Duration) string {
	switch minutes := int(d.Round(time.Minute).Minutes()); {
	case d < time.Minute:
		return fmt.Sprintf("%d s", int(d.Round(time.Second).Seconds()))
	case minutes < 60:
		return fmt.Sprintf("%d min", minutes)
	default:
		return fmt.Sprintf("%d h %d min", minutes/60, minutes%60)
	}
}

// ListShape is how all rounds stand, for programs. It is a contract: fields may be
// added.
type ListShape struct {
	Schema string       `json:"schema"` // yardbroom/rounds/1
	Rounds []RoundShape `json:"rounds"`
}

// RoundShape is how one round stands.
type RoundShape struct {
	Round   string    `json:"round"`
	Outcome string    `json:"outcome"` // of the last run; never, running
	Run     int       `json:"run,omitempty"`
	Began   time.Time `json:"began,omitzero"`
	Ended   time.Time `json:"ended,omitzero"`
	New     int       `json:"new"`
	Next    time.Time `json:"next,omitzero"`
	Trouble []string  `json:"trouble"`
}

// ListOf makes the shape.
func ListOf(all []*Status) ListShape {
	out := ListShape{Schema: "yardbroom/rounds/1", Rounds: []RoundShape{}}
	for _, s := range all {
		one := RoundShape{Round: s.Name, Outcome: s.Outcome(), Next: s.Next, Trouble: append([]string{}, s.Trouble()...)}
		if s.Last != nil {
			one.Run, one.Began, one.Ended, one.New = s.Last.ID, s.Last.Began, s.Last.Ended, s.Last.New().All()
		}
		out.Rounds = append(out.Rounds, one)
	}
	return out
}

// LastTime is the last time of a round's schedule, zero where it has none.
func (r *Runner) LastTime(name string) (time.Time, error) {
	round, err := r.Named(name)
	if err != nil {
		return time.Time{}, err
	}
	when, timed, err := round.Schedule(r.Settings)
	if err != nil || !timed {
		return time.Time{}, err
	}
	return when.Last(r.Now()), nil
}

func (s *Status) zone() *time.Location {
	if s.Next.IsZero() {
		return time.UTC
	}
	return s.Next.Location()
}

// Statuses is how all rounds stand, by name. Late is how long after its time a round
// may begin.
func (r *Runner) Statuses(ctx context.Context, late time.Duration) (all []*Status, err error) {
	for _, name := range slices.Sorted(maps.Keys(r.Settings.Rounds)) {
		s, err := r.StatusOf(ctx, name, late)
		if err != nil {
			return nil, err
		}
		all = append(all, s)
	}
	return all, nil
}

// StatusOf is how one round stands.
func (r *Runner) StatusOf(ctx context.Context, name string, late time.Duration) (*Status, error) {
	round, err := r.Named(name)
	if err != nil {
		return nil, err
	}
	kept, err := r.Store(ctx)
	if err != nil {
		return nil, err
	}
	s := &Status{Name: name, Round: round}
	runs, err := kept.Runs(ctx, name, 1)
	if err != nil {
		return nil, err
	}
	now := r.Now()
	when, timed, err := round.Schedule(r.Settings)
	if err != nil {
		return nil, err
	}
	if timed {
		s.Next = when.Next(now)
	}
	if len(runs) > 0 {
		if s.Last, err = read(runs[0]); err != nil {
			return nil, err
		}
		if s.Running, err = isRunning(kept, name, s.Last); err != nil {
			return nil, err
		}
		if planned := when.Last(now.Add(-late)); timed && s.Last.Began.Before(planned) {
			s.Missed = planned
		}
		if err := deliveries(ctx, kept, s.Last); err != nil {
			return nil, err
		}
		for _, to := range s.Last.Told {
			if to.State == store.DeliveryRefused {
				s.Refused++
			}
		}
	}
	if s.Held, err = heldOf(ctx, kept, name); err != nil {
		return nil, err
	}
	waiting, err := kept.Waiting(ctx)
	for _, m := range waiting {
		if m.Round == name {
			s.Waiting += len(m.To)
		}
	}
	return s, err
}

// isRunning tells whether a run goes on: it has not ended, and somebody has the
// round's lock. One that has not ended and does not go on was killed.
func isRunning(kept *store.Store, name string, last *Run) (bool, error) {
	if !last.Ended.IsZero() {
		return false, nil
	}
	unlock, err := kept.LockRound(name)
	switch {
	case err == nil:
		unlock()
		last.Outcome = Killed
		return false, nil
	case work.IsBusy(err):
		return true, nil
	}
	return false, err
}

// Past are the last runs of a round, the latest first.
func (r *Runner) Past(ctx context.Context, name string, most int) (all []*Run, err error) {
	if _, err := r.Named(name); err != nil {
		return nil, err
	}
	kept, err := r.Store(ctx)
	if err != nil {
		return nil, err
	}
	runs, err := kept.Runs(ctx, name, most)
	if err != nil {
		return nil, err
	}
	for i, k := range runs {
		run, err := read(k)
		if err != nil {
			return nil, err
		}
		if i == 0 {
			if _, err := isRunning(kept, name, run); err != nil {
				return nil, err
			}
		}
		all = append(all, run)
	}
	return all, deliveries(ctx, kept, all...)
}

// deliveries puts into runs what became of their messages.
func deliveries(ctx context.Context, kept *store.Store, runs ...*Run) error {
	ids := make([]int, len(runs))
	for i, run := range runs {
		ids[i] = run.ID
	}
	messages, err := kept.MessagesOf(ctx, ids...)
	if err != nil {
		return err
	}
	type sent struct {
		run       int
		how, whom string
	}
	states := map[sent]store.Delivery{}
	for _, m := range messages {
		for _, to := range m.To {
			states[sent{m.Run, m.Kind, to.Address}] = to
		}
	}
	for _, run := range runs {
		for i := range run.Told {
			to := &run.Told[i]
			if state, ok := states[sent{run.ID, to.How, to.Address}]; ok {
				to.State, to.Error = state.State, state.Error
			}
		}
	}
	return nil
}
