// Package carry carries batches out: it reads each entry again, tests what
// must still be true, writes what it is about to do into the journal before
// it does it, does it so that a value changed meanwhile stops it, reads it
// back, and can take it back.
//
// A line is a row of actions, an action a row of steps, a step one write to
// the server. Each step is journaled twice: its intent, with the image
// before, is on disk before the write; its outcome, with the image after,
// follows it. After a kill at any instant an intent without an outcome is
// settled by reading the entry, never by doing it blindly again.
package carry

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"golang.org/x/time/rate"

	"yardbroom/internal/batch"
	"yardbroom/internal/directory"
	"yardbroom/internal/homes"
	"yardbroom/internal/privilege"
	"yardbroom/internal/settings"
	"yardbroom/internal/source"
	"yardbroom/internal/store"
)

// Job is a batch, the one writable server to carry it out on, and what has to be
// known for that.
type Job struct {
	Store         *store.Store
	Batch         *batch.Batch
	Server        *source.Server
	Protection    batch.Protection
	DefaultPolicy string
	By            string
	Now           func() time.Time
	// Settings hold the limits, the rule of signatures, and further privileged
	// groups.
	Settings *settings.Settings
	// AnotherServer lets a batch that was begun on one server go on on another.
	AnotherServer bool
	// OnCopy tells that the server is a copy in memory: nobody has to agree, no
	// limit of a day holds, and home folders are left alone.
	OnCopy bool
	// AcceptUnproved carries out lines whose guard could not be read on the
	// server that it came from.
	AcceptUnproved bool
	// Other connects to another server of the yard by its host name, for
	// guards on values that are not replicated.
	Other func(ctx context.Context, host string) (*source.Server, error)
	// Keep is given what there was of each entry, before it is deleted. Nil keeps
	// nothing but the journal's image.
	Keep func(l *batch.Line, there []batch.LDIFChange) error
	// Deliver hands a new password over before it is set. Nil where no batch
	// may set any.
	Deliver func(l *batch.Line, password string) error
	// Barred says of lines, by their numbers, why they must not be begun.
	Barred map[int]string
	// Homes map the home folders that the directory names.
	Homes []homes.Share
	// Settled is told of each line that has come to an end, or stays open for a
	// reason; Tell of what is waited for. Each may be nil.
	Settled func(l *batch.Line)
	Tell    func(text string)
}

// Pace says how many lines are carried out, and how fast.
type Pace struct {
	// Connections is how many lines may be carried out at once, each over a
	// connection of its own; 0 and 1 mean one after the other.
	Connections int
	// Rate, if positive, is how many writes a second the server is given.
	Rate float64
	// Only, if positive, is how many lines are tried before it stops.
	Only int
	// DayLines and DayShare (per cent of the yard's accounts) are other limits of
	// a day than those of the settings, where they are positive.
	DayLines, DayShare int
}

// run is a job that is being carried out, at some pace.
type run struct {
	*Job
	Pace
	*common
	agreement *batch.Agreement
	limiter   *rate.Limiter // of writes; nil for as many as can be
	// above are the folded names that entries which are deleted or brought back
	// stand below.
	above map[string]bool
	// foretold is what lines of a dry run would have changed; nil where lines are
	// carried out.
	foretold *names
}

// worker carries out lines of a run over a connection of its own.
type worker struct {
	*run
	server   *source.Server
	policies map[string]batch.LockPolicy
	others   map[string]*source.Server // by host
	// foresight is made where somebody wants to know what may be done.
	foresight *source.Foresight
}

// worker makes one that works over a connection.
func (r *run) worker(server *source.Server) *worker {
	return &worker{run: r, server: server, policies: map[string]batch.LockPolicy{}, others: map[string]*source.Server{}}
}

// Result is what became of a batch.
type Result struct {
	Counts map[batch.LineState]int
	Halted string // why it stopped early, "" where it did not
	// Planned tells that it stopped where it was to stop.
	Planned bool   `json:",omitempty"`
	Head    string // hash of the last journal record
}

// NotDone counts the lines that should have been done and were not.
func (r Result) NotDone() int {
	n := 0
	for state, count := range r.Counts {
		if state != batch.Applied && state != batch.Dropped && !(r.Planned && state == batch.Waiting) {
			n += count
		}
	}
	return n
}

// Events of the journal.
const (
	eventIntent  = "intent"
	eventOutcome = "outcome"
)

type beginning struct {
	Server   string          `json:"server"`
	Host     string          `json:"host"`
	Bound    string          `json:"bound"`
	Identity source.Identity `json:"identity"`
	Lines    int             `json:"lines"`
	Signed   []string        `json:"signed,omitempty"` // by whom, whose signatures count
}

// Run carries out what is left of the batch. The context ends it between two
// steps; what was begun is finished first.
func (j *Job) Run(ctx context.Context, pace Pace) (Result, error) {
	r := &run{Job: j, Pace: pace, agreement: &batch.Agreement{}}
	if pace.Rate > 0 {
		r.limiter = rate.NewLimiter(rate.Limit(pace.Rate), 1)
	}
	res := Result{Counts: map[batch.LineState]int{}}
	if !r.OnCopy {
		unlock, err := r.reserve(ctx)
		if err != nil {
			return res, err
		}
		defer unlock()
	}
	if err := r.ready(ctx); err != nil {
		return res, err
	}
	if err := r.permitted(ctx); err != nil {
		return res, err
	}
	sealed, err := r.Store.Append(ctx, r.record(batch.EventBegun, 0, beginning{
		Server: r.Server.URL, Host: r.Server.HostName(), Bound: r.Server.Bound, Identity: r.Batch.Identity, Lines: r.Batch.Open(), Signed: r.signedBy()}))
	if err != nil {
		return res, err
	}
	res.Head, r.Batch.State = sealed.Hash, batch.Begun
	first := r.worker(r.Server)
	defer first.closeOthers()
	err = r.untilRest(ctx)
	if err == nil {
		err = r.lines(ctx, first, &res, (*worker).line, r.mayBundle)
	}
	if err == nil {
		err = first.proveUnnamed(context.WithoutCancel(ctx))
	}
	return res, errors.Join(err, r.end(ctx, &res))
}

// reserve keeps everybody else from changing the batch while it is carried out,
// and makes sure that nobody has since it was loaded, and that the journal is
// whole.
func (r *run) reserve(ctx context.Context) (unlock func(), err error) {
	if err := r.Store.Whole(ctx); err != nil {
		return nil, err
	}
	if unlock, err = r.Store.LockBatch(r.Batch.ID); err != nil {
		return nil, err
	}
	if err := r.unchanged(ctx); err != nil {
		unlock()
		return nil, err
	}
	return unlock, nil
}

// unchanged fails where the kept batch is not the one that was loaded.
func (r *run) unchanged(ctx context.Context) error {
	now, err := batch.Load(ctx, r.Store, r.Batch.ID)
	if err != nil {
		return err
	}
	was, err := r.Batch.Digest()
	if err != nil {
		return err
	}
	is, err := now.Digest()
	if err == nil && (is != was || now.State != r.Batch.State) {
		err = fmt.Errorf("batch %d was changed meanwhile, and is %s now; look at it again", r.Batch.ID, now.State)
	}
	return err
}

// Close ends a batch whose lines were all settled by a process that was
// stopped before it could say so. It needs no server.
func (j *Job) Close(ctx context.Context) (Result, error) {
	res := Result{Counts: map[batch.LineState]int{}}
	return res, (&run{Job: j}).end(ctx, &res)
}

// end counts what became of the lines and writes it into the journal.
func (r *run) end(ctx context.Context, res *Result) error {
	for i := range r.Batch.Lines {
		res.Counts[r.Batch.Lines[i].State]++
	}
	sealed, err := r.Store.Append(context.WithoutCancel(ctx), r.record(batch.EventEnded, 0, *res))
	if err == nil {
		res.Head = sealed.Hash
		if r.Batch.Open() == 0 {
			r.Batch.State = batch.Done
		}
	}
	return err
}

func (r *run) signedBy() (names []string) {
	for _, sig := range r.agreement.Signatures {
		if sig.Void == "" {
			names = append(names, sig.Principal+" "+sig.Key)
		}
	}
	return names
}

// clockTolerance is how far clocks may be apart.
const clockTolerance = 5 * time.Minute

// ready refuses what must not even be begun.
func (r *run) ready(ctx context.Context) error {
	b := r.Batch
	switch {
	case b.State == batch.Done:
		return fmt.Errorf("batch %d is done already", b.ID)
	case b.State == batch.Discarded:
		return fmt.Errorf("batch %d was discarded", b.ID)
	case b.JudgedFor.After(r.Now()) && !r.OnCopy:
		return fmt.Errorf("batch %d was judged for %s, which is still to come: what it rests on is not so yet", b.ID,
			b.JudgedFor.Format(time.RFC3339))
	case b.Created.After(r.Now().Add(clockTolerance)):
		return fmt.Errorf(
			"batch %d was staged at %s, which is still to come by this machine's clock: one of the two clocks was wrong, and with it what the batch rests on; stage it again",
			b.ID,
			b.Created.Format(time.RFC3339),
		)
	}
	id, err := r.Server.Identity(ctx)
	if err != nil {
		return err
	}
	if !id.Same(b.Identity) {
		return fmt.Errorf("batch %d is for %s, but %s is %s: nothing was done", b.ID, b.Identity, r.Server.URL, id)
	}
	if err := r.sameServer(ctx); err != nil {
		return err
	}
	if slices.ContainsFunc(b.Lines, resetsPassword) {
		if err := mayReset(r.Server); err != nil {
			return fmt.Errorf("batch %d resets passwords: %w", b.ID, err)
		}
	}
	rules := privilege.RulesFor(id, r.Settings.Audit.PrivilegedGroups)
	holders, err := privilege.Read(ctx, r.Server, r.Server.Dialect, rules, r.Now())
	if err != nil {
		return err
	}
	if unknown := holders.Unknown(); len(unknown) > 0 {
		return fmt.Errorf(
			"the settings call %s privileged (audit: privileged_groups), and %s shows no group of that name to %s, so who is in it cannot be told: nothing was done",
			strings.Join(unknown, " and "),
			r.Server.URL,
			r.Server.Bound,
		)
	}
	r.common = &common{privilege: holders, rules: rules, writing: map[string]chan struct{}{}}
	if r.common.lacking, err = r.lacking(ctx); err != nil {
		return err
	}
	if !holders.Judged &&
		slices.ContainsFunc(b.Lines, func(l batch.Line) bool { return l.SwitchesOff() || len(l.GivesUp()) > 0 }) {
		return fmt.Errorf(
			"%s does not show its administrators' groups to %s, so whom this would lock out cannot be judged: bind with an account that may read them",
			r.Server.URL,
			r.Server.Bound,
		)
	}
	return nil
}

// permitted refuses a batch that nobody has agreed to, or that is too much for a
// day, or for which no password can be handed over.
func (r *run) permitted(ctx context.Context) (err error) {
	if no, err := r.Server.TakesWrites(ctx); err != nil || no != "" {
		return cmp.Or(err, noWrites(r.Server, no))
	}
	if r.Deliver == nil && slices.ContainsFunc(r.Batch.Lines, resetsPassword) {
		return fmt.Errorf("batch %d resets passwords: say with --passwords where the new password goes", r.Batch.ID)
	}
	if r.OnCopy {
		return nil
	}
	if r.agreement, err = r.Batch.CheckAgreed(ctx, r.Store, r.Settings, r.Now()); err != nil {
		return err
	}
	return r.withinDay(ctx)
}

func noWrites(s *source.Server, why string) error {
	return fmt.Errorf("%s takes no writes: %s; give the writable server's own URL. Nothing was done", s.URL, why)
}

// resetsPassword tells whether a line is still to set a password.
func resetsPassword(l batch.Line) bool { return !l.State.Settled() && l.Has(batch.ResetPassword) }

// lacking are the guarded attributes that the server's schema does not know.
func (r *run) lacking(ctx context.Context) (map[string]bool, error) {
	all := map[string]bool{}
	for i := range r.Batch.Lines {
		for _, name := range batch.Attributes(r.Batch.Lines[i].Guard) {
			if _, known := all[name]; known {
				continue
			}
			lacks, err := r.Server.Lacks(ctx, name)
			if err != nil {
				return nil, fmt.Errorf("reading the schema of %s: %w", r.Server.URL, err)
			}
			all[name] = lacks
		}
	}
	return all, nil
}

// localError is a cause on this machine, which says nothing of the line: it stays
// open.
type localError struct{ error }

func (e localError) Unwrap() error { return e.error }

// lostError is a connection that was lost while nothing was written. The line
// keeps its state.
type lostError struct{ error }

func (e lostError) Unwrap() error { return e.error }

// journalError is a record that could not be written.
type journalError struct{ error }

func (r *run) record(event string, line int, body any) *store.Record {
	text, err := json.Marshal(body)
	if err != nil {
		panic(err) // the bodies are this package's own types
	}
	return &store.Record{At: r.Now().UTC(), By: r.By, Event: event, Batch: r.Batch.ID, Line: line, Body: text}
}

// settle gives a line its state, in the store and in the journal.
func (r *run) settle(l *batch.Line, state batch.LineState, note string) error {
	l.State, l.Note = state, note
	_, err := r.Store.Append(context.Background(),
		r.record(batch.EventSettled, l.N, l.Settle(state, note)))
	if err != nil {
		return journalError{err}
	}
	return nil
}

// line carries out one line. An error that it returns has also been settled
// as the line's state, unless the state is still waiting: then nothing was
// begun and the reason lies outside the line.
func (w *worker) line(ctx context.Context, l *batch.Line) error {
	past, err := w.past(ctx, l)
	if errors.Is(err, errUnknown) {
		return w.settled(l, past, err)
	}
	if err != nil {
		return err
	}
	entry, err := w.find(ctx, l, past)
	switch {
	case errors.Is(err, source.ErrNotFound):
		return w.settle(l, batch.Drifted, gone)
	case err != nil:
		return err
	}
	if entry, err = w.afterAttempt(ctx, l, entry, past); err != nil {
		return w.settled(l, past, err)
	}
	v, err := w.mustNot(ctx, l, entry, past)
	switch {
	case err != nil:
		return err
	case v.state != "":
		return w.settle(l, v.state, v.note)
	}
	if len(l.Actions) > 1 && !past.begun() {
		// None is begun where another could not be done.
		if err := w.allPossible(ctx, l, entry, past); err != nil {
			return w.settled(l, past, err)
		}
	}
	err = w.actions(ctx, l, entry, past)
	if err != nil && ctx.Err() != nil && errors.Is(err, ctx.Err()) {
		return err
	}
	return w.settled(l, past, err)
}

// verdict is the state that a line comes to, and why. Its state is "" where it
// stays open.
type verdict struct {
	state batch.LineState
	note  string
}

const gone = "the entry is gone"

// mustNot tells why a line must not be done, or not be gone on with: what it
// touches, its guards, and what could not be read of them. The zero verdict is
// that it may.
func (w *worker) mustNot(ctx context.Context, l *batch.Line, e *directory.Entry, past *history) (verdict, error) {
	why, err := w.refusal(ctx, l, e)
	switch {
	case err != nil:
		return verdict{}, err
	case why != "" && past.begun():
		return verdict{batch.Failed, "begun, and must not be gone on with: " + why}, nil
	case why != "":
		return verdict{batch.Refused, why}, nil
	case e == nil:
		return verdict{}, nil
	}
	drift, unproved, err := w.drift(ctx, l, e, past)
	switch {
	case err != nil:
		return verdict{}, err
	case drift != "" && past.begun():
		return verdict{batch.Failed, "begun, then changed by somebody else: " + drift}, nil
	case drift != "":
		return verdict{batch.Drifted, drift + w.notHere(l)}, nil
	case unproved != "" && !w.AcceptUnproved:
		return verdict{batch.Unproved, unproved}, nil
	}
	return verdict{}, nil
}

// find reads the line's entry by its identity. An entry that a restore is to
// bring back, or that the line itself deleted, or whose home is all that is
// left of it, is nil.
func (w *worker) find(ctx context.Context, l *batch.Line, past *history) (*directory.Entry, error) {
	if l.Actions[0].Name == batch.Restore && !past.done(batch.Restore) || past.done(batch.Delete) {
		return nil, nil
	}
	id, err := source.ReadIdentity(w.server.Dialect, l.ID)
	if err != nil {
		return nil, err
	}
	if past.newID != "" {
		id = past.newID
	}
	e, err := w.server.ByIdentity(ctx, id, false)
	if errors.Is(err, source.ErrNotFound) && l.Has(batch.ArchiveHome) {
		return nil, nil // its home outlives it
	}
	return e, err
}

// refusal judges everything that the line touches, as it is now: protection,
// the powers that it was signed with, and who would be left in privileged
// groups.
func (w *worker) refusal(ctx context.Context, l *batch.Line, e *directory.Entry) (string, error) {
	if why := w.Barred[l.N]; why != "" {
		return why, nil
	}
	found, err := batch.Footprints(ctx, w.server, w.server.Dialect, w.climber(), []batch.Planned{{Line: l, Entry: e}})
	if err != nil {
		return "", err
	}
	f := &found[0]
	if why := w.Protection.Refuse(l, e, f); why != "" {
		return why, nil
	}
	if more := f.Exceeds(l); len(more) > 0 {
		return "it is about " + strings.Join(more,
			" and ") + " now, and was not when this was staged: stage it again", nil
	}
	return w.lastOf(ctx, l, e, f)
}

// climber asks the server who is privileged, at this moment.
func (w *worker) climber() *privilege.Climber {
	return &privilege.Climber{From: w.server, Dialect: w.server.Dialect, Rules: w.common.rules}
}

// lastOf tells whether a privileged group would be left without an enabled
// member. Somebody else may be at work on the same group, so all of them are
// read again.
func (w *worker) lastOf(ctx context.Context, l *batch.Line, e *directory.Entry, f *batch.Footprint) (string, error) {
	now := *l
	now.Privileged = f.Powers
	losing := now.GivesUp()
	if e == nil || len(losing) == 0 {
		return "", nil
	}
	fresh, err := privilege.Read(ctx, w.server, w.server.Dialect, w.common.rules, w.Now())
	if err != nil {
		return "", fmt.Errorf("its privileged groups could not be read: %w", err)
	}
	w.common.learn(fresh)
	if emptied := fresh.WouldEmpty([]privilege.Going{{DN: e.DN, Groups: losing}}); len(emptied) > 0 {
		return strings.Join(emptied, " and ") + " would have no enabled member left", nil
	}
	return "", nil
}

// guards are those of a line that still mean something: once it was moved, its
// container is the line's own doing.
func (w *worker) guards(l *batch.Line, past *history) []batch.Guard {
	if !past.done(batch.Move) && !past.done(batch.Rename) && !past.done(batch.Restore) {
		return l.Guard
	}
	return slices.DeleteFunc(slices.Clone(l.Guard), func(g batch.Guard) bool { return g.Rule == batch.Container })
}

// drift tests the guards. The second result says which guard could not be
// read where it has to be.
func (w *worker) drift(
	ctx context.Context, l *batch.Line, e *directory.Entry, past *history,
) (drift, unproved string, err error) {
	guards := w.guards(l, past)
	mine := past.mods()
	if past.attempted(OpPassword) && !e.Has(lockAttr) {
		mine = append(mine, batch.Mod{Attr: lockAttr}) // which the attempt has lifted
	}
	if drift := batch.Drift(guards, e, mine); drift != "" {
		return drift, "", nil
	}
	if batch.GuardsGroups(guards) {
		drift, err := w.groupDrift(ctx, guards, e, past)
		if drift != "" || err != nil {
			return drift, "", err
		}
	}
	for _, g := range guards {
		if g.Server == "" || strings.EqualFold(g.Server, w.server.HostName()) {
			continue
		}
		other, err := w.other(ctx, g.Server)
		if err != nil {
			unproved = fmt.Sprintf("%s is %s's own value, and that server could not be asked: %v", g.Attr, g.Server,
				err)
			continue
		}
		id, err := source.ReadIdentity(w.server.Dialect, l.ID)
		if err != nil {
			return "", "", err
		}
		there, err := other.ByIdentity(ctx, id, false)
		if err != nil {
			unproved = fmt.Sprintf("%s on %s: %v", g.Attr, g.Server, err)
			continue
		}
		noLater := slices.DeleteFunc(slices.Clone(guards), func(g batch.Guard) bool { return g.Rule != batch.NoLater })
		if drift := batch.Drift(noLater, there, nil); drift != "" {
			return drift + " on " + g.Server, "", nil
		}
	}
	return "", unproved, nil
}

func (w *worker) other(ctx context.Context, host string) (*source.Server, error) {
	if s := w.others[host]; s != nil {
		return s, nil
	}
	if w.Other == nil {
		return nil, errors.New("it is not among the yard's servers")
	}
	s, err := w.Other(ctx, host)
	if err == nil {
		w.others[host] = s
	}
	return s, err
}

// settled gives a line the state that follows from an error of its step, and
// returns the error.
func (w *worker) settled(l *batch.Line, past *history, err error) error {
	v, err := past.end(err)
	if v.state == "" {
		l.Note = cmp.Or(v.note, l.Note)
		return err
	}
	if settleErr := w.settle(l, v.state, v.note); settleErr != nil {
		return settleErr
	}
	return err
}

// end tells to which state a line comes by an error of its step, nil for none. A
// line that could not be done for what is no matter of its own stays open. The
// error that it returns says more where a connection was lost.
func (h *history) end(err error) (verdict, error) {
	var journal journalError
	var refused *source.Refused
	var local localError
	var changed changedError
	switch {
	case errors.As(err, &journal):
		return verdict{}, err
	case err == nil && len(h.lacks) > 0:
		return verdict{batch.InPart, strings.Join(slices.Concat(h.lacks, h.notes), "; ")}, nil
	case err == nil:
		return verdict{batch.Applied, strings.Join(h.notes, "; ")}, nil
	case h.open():
		return verdict{batch.Unknown, err.Error()}, err
	case source.Lost(err):
		return verdict{}, lostError{err} // it goes on when the server is back
	case h.begun():
		return verdict{batch.Failed, err.Error()}, err
	case source.RefusedFor(err, source.Denied, source.Elsewhere, source.SignedOut), errors.As(err, &local):
		return verdict{note: err.Error()}, err // it waits until that is put right
	case errors.As(err, &changed):
		return verdict{batch.Drifted, err.Error()}, err
	case errors.As(err, &refused) && (firm(err) || h.untouched()), h.untouched():
		return verdict{batch.Refused, err.Error()}, err
	}
	return verdict{batch.Failed, err.Error()}, err
}

// allPossible tells whether what is left of a line's actions can be done to the
// entry as it is now.
func (w *worker) allPossible(ctx context.Context, l *batch.Line, e *directory.Entry, past *history) error {
	for i := range l.Actions {
		a := &l.Actions[i]
		if past.done(a.Name) {
			continue
		}
		if err := w.possible(ctx, l, a, e); err != nil {
			return err
		}
	}
	return nil
}
