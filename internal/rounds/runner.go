package rounds

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"strings"
	"time"

	"yardbroom/internal/render"
	"yardbroom/internal/settings"
	"yardbroom/internal/store"
	"yardbroom/internal/wording"
	"yardbroom/internal/work"
)

// Runner runs rounds.
type Runner struct {
	*work.Session
	// Log gets what happens, for machines; nil where nobody reads it.
	Log *slog.Logger
	// Host is what this machine calls itself.
	Host string
	// Send delivers messages; nil is by the network.
	Send Sender
	// Begins is told that from now on a stop waits for what has been begun. May be
	// nil.
	Begins func()

	playing bool // on a copy of the state folder: nothing is kept, or carried out
}

// Request says how a round is run.
type Request struct {
	// Wait is how long another run of the round, or another that carries a batch
	// out, is waited for.
	Wait time.Duration
	// Planned is the time of the schedule that the run stands for, zero where
	// somebody asked for it.
	Planned time.Time
	// AsOf judges for another time than now; "" is now.
	AsOf string
}

// Named is a round of the settings.
func (r *Runner) Named(name string) (*settings.Round, error) {
	round, ok := r.Settings.Rounds[name]
	if ok {
		return &round, nil
	}
	names := slices.Sorted(maps.Keys(r.Settings.Rounds))
	if len(names) == 0 {
		return nil, work.Wrong("there is no round %q: the settings have none", name)
	}
	return nil, work.Wrong("there is no round %q%s: there are %s", name, wording.DidYouMean(name, names), strings.Join(names, ", "))
}

// reader is the name by which is remembered what a round has told.
func reader(round string) string { return "round " + round }

// Run runs a round, and returns what it did. There is an error only where it could
// not be run at all, or what it did could not be written down.
func (r *Runner) Run(ctx context.Context, name string, req *Request) (*Run, error) {
	round, err := r.Named(name)
	if err != nil {
		return nil, err
	}
	s := r.Fresh()
	defer s.Close()
	kept, err := s.Store(ctx)
	if err != nil {
		return nil, err
	}
	unlock, err := work.Await(ctx, req.Wait, func() (func(), error) { return kept.LockRound(name) })
	if err != nil {
		return nil, err
	}
	defer unlock()
	w := &running{by: r, Session: s, kept: kept, round: round, name: name, req: req,
		run: &Run{Schema: RunSchema, Round: name, By: s.By, Began: s.Now().UTC(), Planned: req.Planned}}
	if err := w.begin(ctx); err != nil {
		return nil, err
	}
	w.deliver(ctx) // what waits from earlier runs
	w.yards(ctx)
	// What was found is written down also where the run was told to stop.
	err = w.end(context.WithoutCancel(ctx), ctx.Err() != nil)
	w.deliver(ctx)
	if ctx.Err() == nil && !w.by.playing {
		w.prune(ctx)
	}
	return w.run, err
}

// running is a run that goes on.
type running struct {
	*work.Session
	by       *Runner
	kept     *store.Store
	round    *settings.Round
	name     string
	req      *Request
	run      *Run
	held     *Held             // why it does not run on; nil where it does
	last     map[string]*Facts // of the last run that was done, by yard
	before   []int             // how many lines the last runs have touched
	reports  []*report
	told     []int // presences that are told of
	messages []*store.Message
	links    []render.Link // pages that the run has written for a web server
	killed   []*Run        // runs that were killed since the last one that told what it did
	first    bool          // no run has told anybody anything before
	lastDone time.Time     // when the last run ended that was done, zero where none was
}

// begin writes down that the run begins, and looks up what came before.
func (w *running) begin(ctx context.Context) error {
	w.Note = func(text string) {
		w.run.Notes = append(w.run.Notes, strings.TrimPrefix(text, "note: "))
		w.log("%s", text)
	}
	w.Ask = nil
	if err := w.recall(ctx); err != nil {
		return err
	}
	var err error
	if w.held, err = heldOf(ctx, w.kept, w.name); err != nil {
		return err
	}
	record, err := w.run.record()
	if err != nil {
		return err
	}
	if err := w.kept.BeginRun(ctx, record); err != nil {
		return err
	}
	w.run.ID = record.ID
	w.log("run %d begins", w.run.ID)
	return nil
}

// usualRuns is how many runs tell what is usual.
const usualRuns = 10

// recall looks up the last runs. One that never ended was killed.
func (w *running) recall(ctx context.Context) error {
	runs, err := w.kept.Runs(ctx, w.name, 100)
	if err != nil {
		return err
	}
	w.last, w.first = map[string]*Facts{}, true
	for _, k := range runs {
		earlier, err := read(k)
		if err != nil {
			return err
		}
		if k.Ended.IsZero() {
			if err := w.endKilled(ctx, earlier); err != nil {
				return err
			}
		}
		switch {
		case earlier.Outcome == Killed && w.first:
			w.killed = append(w.killed, earlier)
		case earlier.Outcome != Killed:
			w.first = false
		}
		if earlier.Outcome == Done {
			w.usual(earlier)
		}
	}
	return nil
}

// endKilled writes down that a run was killed.
func (w *running) endKilled(ctx context.Context, r *Run) error {
	r.Outcome, r.Ended = Killed, w.run.Began
	record, err := r.record()
	if err != nil {
		return err
	}
	w.note("run %d was killed, or the machine stopped; what it found is told now", r.ID)
	return w.kept.EndRun(ctx, &store.Ending{Run: record})
}

// usual takes in what a run that was done tells of what is usual.
func (w *running) usual(r *Run) {
	if w.lastDone.IsZero() {
		w.lastDone = r.Ended
	}
	if len(w.before) < usualRuns {
		w.before = append(w.before, r.Touched())
	}
	for _, y := range r.Yards {
		if w.last[y.Yard] == nil {
			w.last[y.Yard] = y.Facts
		}
	}
}

// note tells a person something that is no result.
func (w *running) note(format string, args ...any) { w.Note(fmt.Sprintf(format, args...)) }

// log writes a line into the run's log.
func (w *running) log(format string, args ...any) { w.logAt(slog.LevelInfo, format, args...) }

// logAt writes a line that machines should know the weight of.
func (w *running) logAt(level slog.Level, format string, args ...any) {
	text := fmt.Sprintf(format, args...)
	w.run.Log = append(w.run.Log, LogLine{w.Now().UTC(), text})
	if w.by.Log != nil {
		w.by.Log.Log(context.Background(), level, text, "round", w.name, "run", w.run.ID)
	}
}

// heldOf is why a round does not run on, nil where it does.
func heldOf(ctx context.Context, kept *store.Store, round string) (*Held, error) {
	b, err := kept.BrakeOf(ctx, round)
	if b == nil || err != nil {
		return nil, err
	}
	h := &Held{}
	if err := json.Unmarshal(b.Why, h); err != nil {
		return nil, fmt.Errorf("round %s: %w", round, err)
	}
	return h, nil
}

// end writes down how the run ended, with all that it has to say, at once.
func (w *running) end(ctx context.Context, interrupted bool) error {
	r := w.run
	r.Ended = w.Now().UTC()
	ending := &store.Ending{}
	switch {
	case interrupted:
		// Nobody is told: the next run finds and tells all of it.
		r.Outcome, r.Error = Killed, "it was told to stop"
	case len(r.Stops) > 0:
		r.Outcome = Stopped
		if err := w.brake(ending); err != nil {
			return err
		}
	case len(r.Faults()) > 0:
		r.Outcome = Failed
	case w.isHeld() && w.changes():
		r.Outcome = OnHold
	default:
		r.Outcome = Done
		ending.Unbrake = w.held != nil && w.held.Released != nil
	}
	if !interrupted {
		w.publishAll(ctx)
		ending.Told, ending.Messages = map[string][]int{reader(w.name): w.told}, w.messages
	}
	level := slog.LevelInfo
	if r.Outcome != Done {
		level = slog.LevelError
	}
	w.logAt(level, "run %d ended: %s", r.ID, r.Outcome)
	record, err := r.record()
	if err != nil {
		return err
	}
	ending.Run = record
	if err := w.kept.EndRun(ctx, ending); err != nil {
		return fmt.Errorf("round %s: what run %d did could not be written down: %w", w.name, r.ID, err)
	}
	return nil
}

// changes tells whether the round has steps that change a directory, or prepare it.
func (w *running) changes() bool {
	return w.round.Apply || slices.ContainsFunc(w.round.Steps, func(s settings.Step) bool { return s.Stage != nil || s.Due != nil })
}

// prune removes what the settings keep no longer. That it could not be removed is no
// fault of the run, which has ended; the log and the doctor say so.
func (w *running) prune(ctx context.Context) {
	old, err := w.Prunable(ctx)
	if err == nil && !old.Nothing() {
		if err = w.Prune(ctx, old); err == nil {
			w.log("removed, as the settings keep them no longer: %s", old)
		}
	}
	if err != nil {
		w.log("what is kept no longer could not be removed: %v", err)
	}
}

// publishAll writes and makes all that a run has to say. What cannot be written is a
// fault of the run, which whatever is written after it says.
func (w *running) publishAll(ctx context.Context) {
	if err := w.publish(); err != nil {
		w.fail(err)
	}
	before := w.run.Outcome
	if err := w.writeMetrics(ctx); err != nil {
		w.fail(err)
	}
	w.tell()
	if w.run.Outcome != before {
		if err := w.writeMetrics(ctx); err != nil {
			w.log("%s", fault(err))
		}
	}
}

// brake makes the next runs stage and carry out nothing, until somebody lets them.
func (w *running) brake(ending *store.Ending) error {
	held := &Held{Run: w.run.ID, At: w.run.Ended, Stops: w.run.Stops}
	why, err := json.Marshal(held)
	if err != nil {
		return err
	}
	body, err := json.Marshal(map[string]any{"round": w.name, "run": w.run.ID, "stops": w.run.Stops})
	ending.Brake = &store.Brake{Round: w.name, Run: w.run.ID, Why: why}
	ending.Record = &store.Record{At: w.run.Ended, By: w.By, Event: store.EventBraked, Body: body}
	return err
}

// Release lets a round that was stopped run on, for a reason that is journaled.
func (r *Runner) Release(ctx context.Context, name, why string) (*Held, error) {
	if _, err := r.Named(name); err != nil {
		return nil, err
	}
	kept, err := r.Store(ctx)
	if err != nil {
		return nil, err
	}
	held, err := heldOf(ctx, kept, name)
	switch {
	case err != nil:
		return nil, err
	case held == nil:
		return nil, fmt.Errorf("the round %s was not stopped", name)
	case held.Released != nil:
		return nil, fmt.Errorf("the round %s was released already, by %s", name, held.Released.By)
	case strings.TrimSpace(why) == "":
		return nil, work.Wrong("say why with --why")
	}
	held.Released = &Release{By: r.By, Why: why, At: r.Now().UTC()}
	text, err := json.Marshal(held)
	if err != nil {
		return nil, err
	}
	body, err := json.Marshal(map[string]any{"round": name, "run": held.Run, "why": why})
	if err != nil {
		return nil, err
	}
	return held, kept.SetBrake(ctx, &store.Brake{Round: name, Run: held.Run, Why: text},
		&store.Record{At: r.Now().UTC(), By: r.By, Event: store.EventReleased, Body: body})
}

// yards does the steps, yard by yard.
func (w *running) yards(ctx context.Context) {
	for _, name := range w.round.YardNames(w.Settings) {
		y := &yardRun{running: w, YardRun: &YardRun{Yard: name, Steps: []*StepRun{}}}
		w.run.Yards = append(w.run.Yards, y.YardRun)
		if ctx.Err() == nil {
			y.do(ctx)
		}
	}
}

// folder is where the reports of a run lie.
func (w *running) folder() string {
	return work.RunFolder(w.State, w.name, w.run.ID)
}

// Touched counts the lines that the run staged, or took back.
func (r *Run) Touched() int {
	n := r.Lines()
	for _, step := range r.steps("due") {
		for _, b := range step.Batches {
			n += b.Lines
		}
	}
	return n
}

// fault is an error in words, without line breaks.
func fault(err error) string {
	return strings.Join(strings.FieldsFunc(err.Error(), func(c rune) bool { return c == '\n' }), "; ")
}

// soFar writes down how far the run is, so that one that is killed shows it.
func (w *running) soFar(ctx context.Context) {
	record, err := w.run.record()
	if err == nil {
		err = w.kept.NoteRun(ctx, record)
	}
	if err != nil {
		w.log("how far the run is could not be written down: %v", err) // its end says so too
	}
}

// isStopped tells whether an error only says that the program was told to stop.
func isStopped(ctx context.Context, err error) bool {
	return ctx.Err() != nil && errors.Is(err, context.Canceled)
}

// zone is the time zone of the round.
func (w *running) zone() *time.Location {
	if zone, err := w.round.Zone(w.Settings); err == nil {
		return zone
	}
	return time.UTC
}
