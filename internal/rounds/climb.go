package rounds

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"yardbroom/internal/batch"
	"yardbroom/internal/mail"
	"yardbroom/internal/render"
	"yardbroom/internal/settings"
	"yardbroom/internal/work"
)

// climb climbs the ladders of the yard.
func (y *yardRun) climb(ctx context.Context, s *settings.ClimbStep, out *StepRun) error {
	r := &work.ClimbRequest{Question: y.question(nil), Ladders: s.Ladders, StageOnly: !y.round.Apply || y.by.playing,
		CarryRequest: work.CarryRequest{Wait: y.req.Wait, Watch: work.Watch{Begins: y.by.Begins}}}
	lines := 0
	r.Consider = func(b *batch.Batch) error {
		stops := y.held.notReleased(brakeOnLines(y.Yard, y.round.Brake.WithDefaults(), y.run.Touched()+lines+len(b.Lines), y.Facts.Accounts,
			y.before))
		if len(stops) == 0 {
			lines += len(b.Lines)
			return nil
		}
		y.run.Stops = append(y.run.Stops, stops...)
		return errStopped
	}
	c, err := y.Session.Climb(ctx, y.place, r)
	if c == nil {
		return err
	}
	for _, l := range c.All {
		err = errors.Join(err, y.climbed(ctx, l, out))
	}
	if errors.Is(err, errStopped) {
		out.Skipped = "the brake: " + y.run.Stops[len(y.run.Stops)-1].Why
		return nil
	}
	return err
}

// climbed takes in what became of one ladder.
func (y *yardRun) climbed(ctx context.Context, l *work.LadderClimb, out *StepRun) (err error) {
	for _, b := range l.Batches {
		out.Refused += len(b.Refusals)
		for i, no := range b.Refusals {
			if i == mostRefusals {
				y.note("%s: %d more cannot be staged", l.Name, len(b.Refusals)-i)
				break
			}
			y.note("%s: not staged: %s (%s): %s", l.Name, no.Account, render.Place(no.DN), no.Why)
		}
		if b.Error != nil {
			err = errors.Join(err, fmt.Errorf("ladder %s, rung %s: %w", l.Name, b.Rung, b.Error))
		}
		if b.Batch == nil {
			continue
		}
		one := BatchRun{Batch: b.Batch.ID, Actions: b.Batch.Actions, Lines: len(b.Batch.Lines), Waits: b.Waits}
		if b.Carried != nil {
			one.States = b.Carried.Result.Counts
			if b.Batch.Open() > 0 && !b.Carried.Result.Planned {
				one.Halted = b.Carried.Result.Halted
			}
		}
		out.Batches = append(out.Batches, one)
	}
	for _, st := range l.Woke {
		y.note("%s: %s leaves the ladder: %s", l.Name, st.Account, st.Awake)
	}
	if l.Later > 0 {
		y.note("%s: %d more are due than a batch may have", l.Name, l.Later)
	}
	if l.Untold != "" {
		y.note("%s: nobody was told: %s", l.Name, l.Untold)
	}
	if l.Error != nil && !errors.Is(l.Error, errStopped) {
		err = errors.Join(err, fmt.Errorf("ladder %s: %w", l.Name, l.Error))
	}
	return errors.Join(err, KeepLetters(ctx, y.Session, l.Letters))
}

// answers reads the replies to what ladders have told.
func (y *yardRun) answers(ctx context.Context, out *StepRun) error {
	got, err := y.Session.ReadAnswers(ctx, mail.IMAP{Set: &y.Settings.Answers})
	if got == nil {
		return err
	}
	for _, e := range got.Held {
		y.note("%s is held until %s by an answer of %s", e.Account, e.Until.Format("2006-01-02"), e.Address)
	}
	for _, e := range got.CameBack {
		y.note("the mail to %s about %s came back", e.Address, e.Account)
	}
	for _, why := range got.Doubtful {
		y.note("not believed: %s", why)
	}
	out.Rows = len(got.Held)
	return errors.Join(err, KeepLetters(ctx, y.Session, got.Letters))
}

// checkClimb refuses a step that names ladders that the round's yards do not have.
func checkClimb(s *work.Session, round string, step *settings.ClimbStep) error {
	r := s.Settings.Rounds[round]
	for _, name := range step.Ladders {
		l := s.Settings.LadderNamed(name)
		if l == nil {
			return fmt.Errorf("no ladder is called %q", name)
		}
		if !slices.ContainsFunc(r.YardNames(s.Settings), func(yard string) bool { return slices.Contains(s.Settings.LaddersOf(yard), l) }) {
			return fmt.Errorf("the ladder %s is of another yard", name)
		}
	}
	return nil
}

// checkLadders refuses ladders that name checks or actions that there are not.
func checkLadders(s *work.Session) *settings.Fault {
	for i := range s.Settings.Ladders {
		l := &s.Settings.Ladders[i]
		wrong := func(err error, path ...any) *settings.Fault {
			return &settings.Fault{Path: append([]any{"ladders", i}, path...), Err: err}
		}
		if err := known(s, l.Checks); err != nil {
			return wrong(err, "checks")
		}
		if l.Of != nil && l.Of.Kind != "" {
			if err := knownKind(l.Of.Kind); err != nil {
				return wrong(err, "of", "kind")
			}
		}
		for j := range l.Rungs {
			if err := checkRung(s, l, &l.Rungs[j]); err != nil {
				return wrong(err, "rungs", j)
			}
		}
	}
	return nil
}
