package rounds

import (
	"context"
	"maps"
	"slices"
	"time"

	"yardbroom/internal/work"
)

// looksAgain is how long a keeper sleeps at most, so that it hears of a clock that was
// set and of a machine that slept.
const looksAgain = 30 * time.Second

// Keep runs the rounds that have a schedule when their times come, one after the other,
// until it is told to stop; then it ends after the step that it is in. What was missed
// since the last run is caught up once. Ended is told of each run.
func (r *Runner) Keep(ctx context.Context, req Request, ended func(name string, run *Run, err error)) error {
	k := &keeper{Runner: r, req: req, ended: ended, tried: map[string]time.Time{}}
	for ctx.Err() == nil {
		next, err := k.turn(ctx)
		if err != nil {
			return err
		}
		timer := time.NewTimer(min(next.Sub(r.Now()), looksAgain))
		select {
		case <-timer.C:
		case <-ctx.Done():
			timer.Stop()
		}
	}
	return nil
}

// keeper runs rounds when their times come.
type keeper struct {
	*Runner
	req   Request
	ended func(name string, run *Run, err error)
	tried map[string]time.Time // the last time of the schedule that was run for
}

// turn runs all rounds whose time has come, and returns when the next one's comes.
func (k *keeper) turn(ctx context.Context) (next time.Time, err error) {
	for _, name := range slices.Sorted(maps.Keys(k.Settings.Rounds)) {
		planned, timed, err := k.due(ctx, name)
		if err != nil {
			return next, err
		}
		if !timed {
			continue
		}
		if !planned.IsZero() && ctx.Err() == nil {
			req := k.req
			req.Planned = planned
			run, err := k.Run(ctx, name, &req)
			k.ended(name, run, err)
			k.tried[name] = planned
		}
		round := k.Settings.Rounds[name]
		when, _, err := round.Schedule(k.Settings)
		if err != nil {
			return next, err
		}
		if at := when.Next(k.Now()); next.IsZero() || at.Before(next) {
			next = at
		}
	}
	if next.IsZero() {
		return next, work.Wrong("no round has a schedule: set at, or cron")
	}
	return next, nil
}

// due is the time of the schedule for which a round has to run now, zero where there is
// none. What a keeper begins with is not missed, unless the round has run before.
func (k *keeper) due(ctx context.Context, name string) (planned time.Time, timed bool, err error) {
	round := k.Settings.Rounds[name]
	when, timed, err := round.Schedule(k.Settings)
	if err != nil || !timed {
		return planned, timed, err
	}
	planned = when.Last(k.Now())
	began, known := k.tried[name]
	kept, err := k.Store(ctx)
	if err != nil {
		return planned, timed, err
	}
	runs, err := kept.Runs(ctx, name, 1)
	if err != nil {
		return planned, timed, err
	}
	if len(runs) > 0 && runs[0].Began.After(began) {
		began, known = runs[0].Began, true
	}
	if !known {
		k.tried[name] = planned
		return time.Time{}, timed, nil
	}
	if !began.Before(planned) {
		planned = time.Time{}
	}
	return planned, timed, nil
}
