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
	"sync"
	"time"

	"golang.org/x/time/rate"

	"yardbroom/internal/batch"
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
	// unseen are the numbers of the lines of a batch that nobody has begun with before,
	// until they are looked at: the journal can know nothing of them.
	unseen sync.Map
	// foretold is what lines of a dry run would have changed; nil where lines are
	// carried out.
	foretold *changedNames
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
	if r.Batch.State == batch.Staged {
		for i := range r.Batch.Lines {
			r.unseen.Store(r.Batch.Lines[i].N, nil)
		}
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
	ended := r.end(ctx, &res)
	if errors.As(err, new(journalError)) { // the end may not be written either
		return res, err
	}
	return res, errors.Join(err, ended)
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
	if err := r.Batch.Unchanged(ctx, r.Store); err != nil {
		unlock()
		return nil, err
	}
	return unlock, nil
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
	if err != nil {
		return journalError{err}
	}
	res.Head = sealed.Hash
	if r.Batch.Open() == 0 {
		r.Batch.State = batch.Done
	}
	return nil
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
			"the settings call %s privileged (audit: privileged_groups), and %s, so who is in it cannot be told: nothing was done",
			strings.Join(unknown, " and "), r.shown("shows no group of that name"))
	}
	if !r.OnCopy { // which shows all that it holds
		if err := holders.See(ctx, r.Server); err != nil {
			return fmt.Errorf("reading who may see the members of privileged groups: %w", err)
		}
	}
	if closed := holders.Closed(); len(closed) > 0 {
		return fmt.Errorf("%s, so who is privileged cannot be told: nothing was done", r.shown("does not show who is in "+strings.Join(closed, " and ")))
	}
	r.common = &common{privilege: holders, rules: rules, writing: map[string]chan struct{}{}}
	if r.common.lacking, err = r.lacking(ctx); err != nil {
		return err
	}
	if !holders.Judged &&
		slices.ContainsFunc(b.Lines, func(l batch.Line) bool { return l.SwitchesOff() || len(l.GivesUp()) > 0 }) {
		remedy := "bind with an account that may read them"
		if r.OnCopy {
			remedy = "rehearse on a directory or a file that has them"
		}
		return fmt.Errorf("%s, so whom this would lock out cannot be judged: %s",
			r.shown("does not show its administrators' groups"), remedy)
	}
	return nil
}

// shown says of whoever answers what is shown to the bound account, or not. Of a copy nobody
// knows under which address it is served.
func (r *run) shown(what string) string {
	if r.OnCopy {
		return "what was copied " + what
	}
	return fmt.Sprintf("%s %s to %s", r.Server.URL, what, r.Server.Bound)
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
