package rounds

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"time"

	"yardbroom/internal/audit"
	"yardbroom/internal/batch"
	"yardbroom/internal/carry"
	"yardbroom/internal/listing"
	"yardbroom/internal/render"
	"yardbroom/internal/roster"
	"yardbroom/internal/settings"
	"yardbroom/internal/wording"
	"yardbroom/internal/work"
)

// report is something that a step has found: findings, or a list.
type report struct {
	yard  string
	step  string
	title string
	zone  *time.Location
	// whole is what was found, shown what is reported of it, and fresh what is new.
	whole, shown, fresh *audit.Report
	reconciled          *work.Reconciliation // whole, where people were compared
	list                *listing.List
	trend               *work.Trend
	concerned           concerned // whom findings concern, where somebody wants to know
}

// yardRun is what a run does with one yard.
type yardRun struct {
	*running
	*YardRun
	place *work.Place
	// failed says which step failed, since when nothing is changed any more.
	failed string
}

// do does the steps of the round.
func (y *yardRun) do(ctx context.Context) {
	place, err := y.Session.Open(ctx, work.From{Where: y.Yard})
	if isStopped(ctx, err) {
		return
	}
	if err != nil {
		y.Error = fault(err)
		y.logAt(slog.LevelError, "%s: %s", y.Yard, y.Error)
		return
	}
	defer place.Close()
	y.place = place
	if id, err := place.Identity(ctx); err == nil {
		y.Base = id.Base
	}
	steps := slices.Clone(y.round.Steps)
	if y.round.Apply && !slices.ContainsFunc(steps, func(s settings.Step) bool { return s.Apply != nil }) {
		steps = append(steps, settings.Step{Apply: &settings.ApplyStep{}})
	}
	for i := range steps {
		if ctx.Err() != nil {
			return
		}
		y.step(ctx, &steps[i])
	}
	if err := y.waiting(ctx); err != nil && y.Error == "" {
		y.Error = fault(err)
	}
}

// changing are the steps that change a directory, or prepare it.
var changing = []string{"stage", "due", "apply", "climb"}

// notPlayed are the steps that a preview leaves out.
var notPlayed = []string{"survey", "due", "apply", "answers"}

// step does one step.
func (y *yardRun) step(ctx context.Context, s *settings.Step) {
	out := &StepRun{Began: y.Now().UTC()}
	var do func(context.Context, *StepRun) error
	switch {
	case s.Survey != nil:
		out.Step, do = "survey", func(ctx context.Context, out *StepRun) error { return y.survey(ctx, s.Survey, out) }
	case s.Audit != nil:
		out.Step, do = "audit", func(ctx context.Context, out *StepRun) error { return y.audit(ctx, s.Audit, out) }
	case s.List != nil:
		out.Step, out.Title = "list", s.List.Title
		do = func(ctx context.Context, out *StepRun) error { return y.list(ctx, s.List, out) }
	case s.Reconcile != nil:
		out.Step, do = "reconcile", func(ctx context.Context, out *StepRun) error { return y.reconcile(ctx, s.Reconcile, out) }
	case s.Stage != nil:
		out.Step, do = "stage", func(ctx context.Context, out *StepRun) error { return y.stage(ctx, s.Stage, out) }
	case s.Due != nil:
		out.Step, do = "due", y.due
	case s.Apply != nil:
		out.Step, do = "apply", func(ctx context.Context, out *StepRun) error { return y.apply(ctx, s.Apply, out) }
	case s.Climb != nil:
		out.Step, do = "climb", func(ctx context.Context, out *StepRun) error { return y.climb(ctx, s.Climb, out) }
	case s.Answers != nil:
		out.Step, do = "answers", y.answers
	}
	y.Steps = append(y.Steps, out)
	// A step that is begun comes to its end: of those that are told to stop, only
	// batches know how to stop between two lines.
	whole := context.WithoutCancel(ctx)
	if y.by.playing && slices.Contains(notPlayed, out.Step) {
		out.Skipped = "this is a preview"
	}
	if out.Step == "due" || out.Step == "apply" || out.Step == "climb" {
		whole = ctx
	}
	if out.Skipped == "" && slices.Contains(changing, out.Step) {
		out.Skipped = y.mustNot(context.WithoutCancel(ctx))
	}
	if out.Skipped == "" {
		if err := do(whole, out); err != nil && !isStopped(ctx, err) {
			out.Error, y.failed = fault(err), out.Name()
		}
	}
	out.Ended = y.Now().UTC()
	level := slog.LevelInfo
	if out.Error != "" || out.Skipped != "" {
		level = slog.LevelWarn
	}
	y.logAt(level, "%s: %s: %s", y.Yard, out.Name(), out.Said())
	y.soFar(context.WithoutCancel(ctx))
}

// Said is what became of a step, in few words.
func (s *StepRun) Said() string {
	switch {
	case s.Error != "":
		return "failed: " + s.Error
	case s.Skipped != "":
		return "not done: " + s.Skipped
	}
	var parts []string
	switch s.Step {
	case "survey":
		parts = append(parts, fmt.Sprintf("kept %s, %d entries", s.Survey, s.Entries))
	case "audit", "reconcile":
		parts = append(parts, wording.Count(s.Findings, "finding"), fmt.Sprintf("%d new", s.New))
	case "list":
		parts = append(parts, wording.Count(s.Rows, "row"))
	case "answers":
		parts = append(parts, wording.Count(s.Rows, "account")+" held by answers")
	}
	for _, b := range s.Batches {
		parts = append(parts, b.Said())
	}
	if s.InOpen > 0 {
		parts = append(parts, wording.Count(s.InOpen, "account")+" waiting in an open batch already")
	}
	if s.Refused > 0 {
		parts = append(parts, fmt.Sprintf("%d cannot be staged", s.Refused))
	}
	if len(parts) == 0 {
		return "nothing to do"
	}
	out := parts[0]
	for _, p := range parts[1:] {
		out += ", " + p
	}
	return out
}

// Said is what became of a batch, in few words.
func (b *BatchRun) Said() string {
	out := fmt.Sprintf("batch %d: %s", b.Batch, wording.Count(b.Lines, "line"))
	if len(b.States) > 0 {
		out = fmt.Sprintf("batch %d: %s", b.Batch, batch.CountStates(b.States))
	}
	if b.Waits != "" {
		out += ", waits for " + b.Waits
	}
	if b.Halted != "" {
		out += ", halted: " + b.Halted
	}
	return out
}

// mustNot says why nothing may be changed, "" where it may.
func (y *yardRun) mustNot(ctx context.Context) string {
	if y.failed != "" {
		return fmt.Sprintf("%s failed before it", y.failed)
	}
	if y.held != nil && y.held.Released == nil {
		return fmt.Sprintf("the brake stopped run %d, and nobody has released the round", y.held.Run)
	}
	if y.stopped() {
		return "the brake has stopped this run"
	}
	if err := y.learn(ctx); err != nil {
		return fault(err)
	}
	stops := y.held.notReleased(brakeOnReading(y.Yard, y.round.Brake.WithDefaults(), y.Facts, y.last[y.Yard]))
	if len(stops) > 0 {
		y.run.Stops = append(y.run.Stops, stops...)
		return "the brake: " + stops[0].Why
	}
	return ""
}

// stopped tells whether the brake has stopped the run in this yard.
func (y *yardRun) stopped() bool {
	return slices.ContainsFunc(y.run.Stops, func(s Stop) bool { return s.Yard == y.Yard })
}

// learn finds out what the brake has to know, where no step has.
func (y *yardRun) learn(ctx context.Context) error {
	if y.Facts == nil {
		survey, err := y.place.Survey(ctx)
		if err != nil {
			return err
		}
		y.Facts = factsOf(survey)
	}
	if y.Facts.People == 0 && y.round.Roster.From != "" {
		from := y.rosterFrom()
		list, err := y.Session.ReadRoster(ctx, y.place, &from)
		if err != nil {
			return err
		}
		y.Facts.People = list.About.Rows
	}
	return nil
}

func (y *yardRun) rosterFrom() work.RosterFrom {
	r := &y.round.Roster
	from := work.RosterFrom{Where: r.From, TokenFile: r.TokenFile, Sheet: r.Sheet, Encoding: r.Encoding, Dates: r.Dates}
	for field, column := range r.Map {
		if from.Map == nil {
			from.Map = map[roster.Field]string{}
		}
		if f, err := roster.ParseField(field); err == nil { // the settings were checked
			from.Map[f] = column
		}
	}
	return from
}

func (y *yardRun) question(checks []string) work.Question {
	return work.Question{Checks: checks, AsOf: y.req.AsOf, SignIns: y.round.Activity, Roster: y.rosterFrom()}
}

func (y *yardRun) survey(ctx context.Context, s *settings.SurveyStep, out *StepRun) error {
	m, err := y.Session.KeepSurvey(ctx, y.place, fmt.Sprintf("%s-%s-%d", y.Yard, y.run.Began.Format("20060102-150405"), y.run.ID), s.Full)
	if err != nil {
		return err
	}
	out.Survey, out.Entries = m.Name, m.Entries
	return nil
}

func (y *yardRun) audit(ctx context.Context, s *settings.AuditStep, out *StepRun) error {
	q := y.question(s.Checks)
	if len(q.Checks) == 0 && slices.ContainsFunc(y.round.Steps, func(s settings.Step) bool { return s.Reconcile != nil }) {
		q.Checks = y.Session.DirectoryChecks() // the others are looked at there
	}
	whole, err := y.Session.Judge(ctx, y.place, &q)
	if err != nil {
		return err
	}
	if err := y.Session.NoteMissing(ctx, y.place, whole.Survey); err != nil {
		return err
	}
	fresh, memory, err := y.Session.Remember(ctx, y.place, &q, whole, work.Before{Reader: reader(y.name)})
	if err != nil {
		return err
	}
	return y.found(ctx, &report{step: "audit", title: "Audit", whole: whole, fresh: fresh}, s.New, memory, out)
}

// found takes in what a step has found.
func (y *yardRun) found(ctx context.Context, r *report, onlyNew bool, memory work.Memory, out *StepRun) (err error) {
	r.yard, r.zone = y.Yard, y.place.Zone()
	if r.shown = r.whole; onlyNew {
		r.shown = r.fresh
	}
	y.Facts = factsOf(r.whole.Survey)
	if r.reconciled != nil {
		y.Facts.People = r.reconciled.Roster.Rows
	}
	out.Findings, out.New = len(r.whole.Findings), len(r.fresh.Findings)
	y.Findings.add(r.whole.Findings)
	y.New.add(r.fresh.Findings)
	y.Known += len(r.whole.Findings) - len(r.fresh.Findings)
	if r.concerned, err = whom(ctx, y.place.Source, ways(y.round), r.fresh.Findings); err != nil {
		return err
	}
	if r.trend, err = y.Session.TrendSoFar(ctx, y.place); err != nil {
		return err
	}
	y.told = append(y.told, memory.Left()...)
	y.reports = append(y.reports, r)
	return nil
}

func (y *yardRun) reconcile(ctx context.Context, s *settings.ReconcileStep, out *StepRun) error {
	from := y.rosterFrom()
	list, err := y.Session.ReadRoster(ctx, y.place, &from)
	if err != nil {
		return err
	}
	// Whoever is missing in half a roster would seem to be nobody's, and it would be the
	// last one that is known.
	if stop := y.held.notReleased(brakeOnRoster(y.Yard, y.round.Brake.WithDefaults(), list.About.Rows, y.last[y.Yard])); len(stop) > 0 {
		y.run.Stops = append(y.run.Stops, stop...)
		out.Skipped = "the brake: " + stop[0].Why
		return nil
	}
	found, err := y.Session.Reconcile(ctx, y.place, &work.ReconcileRequest{
		Question: y.question(s.Checks), Strict: s.Strict, Another: true, Before: work.Before{Reader: reader(y.name)}})
	if err != nil {
		return err
	}
	// What it returns is what is new.
	fresh := found.Report
	whole := *found
	whole.Report = found.Whole
	return y.found(ctx, &report{step: "reconcile", title: "People and accounts", whole: found.Whole, fresh: fresh, reconciled: &whole},
		s.New, found.Memory, out)
}

// query is what a list asks for.
func query(s *settings.ListStep) *listing.Query {
	f := &s.Filter
	return &listing.Query{What: f.Kind, Filter: f.Filter, Under: f.Under, When: f.Where, Columns: s.Columns, Sort: s.Sort}
}

func (y *yardRun) list(ctx context.Context, s *settings.ListStep, out *StepRun) error {
	found, err := y.Session.List(ctx, y.place, query(s), &work.Question{AsOf: y.req.AsOf, SignIns: y.round.Activity})
	if err != nil {
		return err
	}
	for _, note := range found.Notes {
		y.Note(note)
	}
	out.Rows = len(found.Sheet.Rows)
	if s.Title != "" {
		found.Sheet.Title = s.Title
	}
	y.reports = append(y.reports, &report{yard: y.Yard, step: "list", title: found.Sheet.Title, zone: y.place.Zone(), list: found})
	return nil
}

// errStopped is the error of a step that the brake has stopped.
var errStopped = errors.New("the brake has stopped it")

func (y *yardRun) stage(ctx context.Context, s *settings.StageStep, out *StepRun) error {
	r := work.RequestOf(s, y.question(s.Checks), y.run.Began.In(y.zone()))
	if r.Round = y.name; r.Why == "" {
		r.Why = "round " + y.name
	}
	r.Consider = func(b *batch.Batch) error {
		stops := y.held.notReleased(brakeOnLines(y.Yard, y.round.Brake.WithDefaults(), y.run.Touched()+len(b.Lines), y.Facts.Accounts,
			y.before))
		if len(stops) == 0 {
			return nil
		}
		y.run.Stops = append(y.run.Stops, stops...)
		return errStopped
	}
	staged, err := y.Session.Stage(ctx, y.place, r)
	out.Refused, out.InOpen = len(staged.Refusals), staged.InOpen
	for i, no := range staged.Refusals {
		if i == mostRefusals {
			y.note("%d more cannot be staged", len(staged.Refusals)-i)
			break
		}
		y.note("not staged: %s (%s): %s", no.Account, render.Place(no.DN), no.Why)
	}
	switch {
	case errors.Is(err, errStopped):
		out.Skipped = "the brake: " + y.run.Stops[len(y.run.Stops)-1].Why
		return nil
	case errors.Is(err, batch.ErrNothing):
		return nil
	case err != nil:
		return err
	}
	out.Batches = append(out.Batches, BatchRun{Batch: staged.Batch.ID, Actions: staged.Batch.Actions, Lines: len(staged.Batch.Lines)})
	return nil
}

// mostRefusals is how many are named who cannot be staged.
const mostRefusals = 10

// carrying is how a round carries batches out.
func (y *yardRun) carrying(out *BatchRun) work.CarryRequest {
	return work.CarryRequest{Wait: y.req.Wait, Watch: work.Watch{
		Begins: y.by.Begins,
		Ended: func(done *work.Carried) {
			out.States = done.Result.Counts
			if done.Batch.Open() > 0 && !done.Result.Planned {
				out.Halted = done.Result.Halted
			}
		},
	}}
}

// due takes back the batches of the yard whose time is over.
func (y *yardRun) due(ctx context.Context, out *StepRun) error {
	all, err := y.Session.Due(ctx)
	if err != nil {
		return err
	}
	all = slices.DeleteFunc(all, func(d carry.Due) bool {
		return d.Batch.Yard != y.Yard || d.Batch.Until.After(y.Now())
	})
	lines := y.run.Touched()
	for _, d := range all {
		lines += d.Left
	}
	if len(all) == 0 {
		return nil
	}
	stops := y.held.notReleased(brakeOnLines(y.Yard, y.round.Brake.WithDefaults(), lines, y.Facts.Accounts, y.before))
	if len(stops) > 0 {
		y.run.Stops = append(y.run.Stops, stops...)
		out.Skipped = "the brake: " + stops[0].Why
		return nil
	}
	var failed error
	for _, d := range all {
		one := BatchRun{Batch: d.Batch.ID, Actions: d.Batch.Actions, Lines: d.Left}
		back, err := y.Session.Undo(ctx, d.Batch, nil, &work.BackRequest{CarryRequest: y.carrying(&one)})
		if back != nil && back.Unsigned > 0 {
			one.Waits = fmt.Sprintf("a signature to be taken back: \"yardbroom %s --stage\"", back.Command)
		}
		out.Batches = append(out.Batches, one)
		failed = errors.Join(failed, err)
	}
	return failed
}

// apply carries out what the round has staged and has the signatures it needs.
func (y *yardRun) apply(ctx context.Context, s *settings.ApplyStep, out *StepRun) error {
	open, err := y.openHere(ctx)
	if err != nil {
		return err
	}
	var ready []*batch.Batch
	unsigned := 0
	for _, b := range open {
		agreed, err := y.Session.Agreement(ctx, b)
		if err != nil {
			return err
		}
		if !agreed.Enough() {
			continue // it waits
		}
		if ready = append(ready, b); agreed.Valid == 0 {
			unsigned += b.Open()
		}
	}
	if most := y.round.Brake.WithDefaults().Lines; unsigned > most {
		stop := Stop{StopLines, y.Yard, fmt.Sprintf("it would carry out %s without a signature, where %d are allowed",
			wording.Count(unsigned, "line"), most), float64(unsigned)}
		if !y.held.allows(stop) {
			y.run.Stops = append(y.run.Stops, stop)
			out.Skipped = "the brake: " + stop.Why
			return nil
		}
	}
	var failed error
	for _, b := range ready {
		if ctx.Err() != nil {
			break
		}
		one := BatchRun{Batch: b.ID, Actions: b.Actions, Lines: b.Open()}
		r := y.carrying(&one)
		r.AcceptUnproved, r.Pace = s.AcceptUnproved, carry.Pace{Connections: max(s.Connections, 1), Rate: s.Rate}
		_, err := y.Session.Apply(ctx, b, &r)
		out.Batches = append(out.Batches, one)
		if err != nil && !isStopped(ctx, err) {
			failed = errors.Join(failed, fmt.Errorf("batch %d: %w", b.ID, err))
		}
	}
	return failed
}

// openHere are the open batches of the round for this yard.
func (y *yardRun) openHere(ctx context.Context) ([]*batch.Batch, error) {
	open, err := y.Session.OpenBatches(ctx, y.name)
	return slices.DeleteFunc(open, func(b *batch.Batch) bool { return b.Yard != y.Yard }), err
}

// waiting says of the open batches of the round for what they wait.
func (y *yardRun) waiting(ctx context.Context) error {
	open, err := y.openHere(ctx)
	if err != nil {
		return err
	}
	var still []BatchRun
	for _, b := range open {
		if b.Open() == 0 {
			continue
		}
		agreed, err := y.Session.Agreement(ctx, b)
		if err != nil {
			return err
		}
		waits := "somebody to carry it out"
		if missing := agreed.Needed - agreed.Valid; missing == 1 {
			waits = "a signature"
		} else if missing > 1 {
			waits = fmt.Sprintf("%d signatures", missing)
		} else if !agreed.Enough() {
			waits = "whoever staged it to be proved"
		} else if y.round.Apply {
			waits = "the next run"
		}
		still = append(still, BatchRun{Batch: b.ID, Actions: b.Actions, Lines: b.Open(), Waits: waits})
	}
	for _, step := range y.Steps {
		for i := range step.Batches {
			if at := slices.IndexFunc(still, func(b BatchRun) bool { return b.Batch == step.Batches[i].Batch }); at >= 0 {
				step.Batches[i].Waits = still[at].Waits
				still = slices.Delete(still, at, at+1)
			}
		}
	}
	if len(still) > 0 {
		now := y.Now().UTC()
		y.Steps = append(y.Steps, &StepRun{Step: "waiting", Title: "earlier batches", Began: now, Ended: now, Batches: still})
	}
	return nil
}
