package carry

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"yardbroom/internal/batch"
	"yardbroom/internal/directory"
	"yardbroom/internal/source"
)

// outcome is what became of a step, as it was seen and not as it was answered.
type outcome struct {
	N       int  `json:"n"`
	Done    bool `json:"done"`
	Settled bool `json:"settled,omitempty"` // found by reading, though nobody had said so
	// Untouched says that the entry was found as it was before the step.
	Untouched bool         `json:"untouched,omitempty"`
	Error     string       `json:"error,omitempty"`
	Answer    string       `json:"answer,omitempty"` // the error that the server answered, though it was done
	After     *batch.Image `json:"after,omitempty"`
}

// sight is what was found by reading an entry back.
type sight struct {
	entry  *directory.Entry // nil where it is not there
	effect effect
}

// errUnknown is the error of a step of which nobody can tell yet whether it was
// done. It has no outcome; the next run looks again.
var errUnknown = errors.New("whether it was done is not known; \"yardbroom apply\" finds out when the server is back")

// unread is the error of a step of which nobody could read how it ended,
// whether the connection could not be made again or was lost once more.
func unread(err error) error {
	return fmt.Errorf("%w: %w", errUnknown, err)
}

// errStopped stands for the answer to a write that a stopped process sent.
var errStopped = errors.New("stopped in the middle of this step")

// conclude finds out by reading what became of the last step, whatever was
// answered to it: nil for success, a refusal, or that no answer came. It writes
// down what it saw, and returns why the step was not done. Where that cannot be
// told it writes nothing.
func (w *worker) conclude(ctx context.Context, l *batch.Line, past *history, answer error) error {
	o, err := w.see(ctx, l, past, answer)
	if errors.Is(err, errUnknown) {
		return err
	}
	return w.finish(ctx, l, past, o, err)
}

// see finds out what became of the last step, and returns why it was not done.
func (w *worker) see(ctx context.Context, l *batch.Line, past *history, answer error) (outcome, error) {
	if folder, ok := past.last().operation().(onFolder); ok {
		return w.seeFolder(folder, past, answer)
	}
	seen, err := w.look(ctx, past.last(), answer)
	if err != nil {
		return outcome{}, unread(err)
	}
	if host := w.elsewhere(past); host != "" && seen.effect != effectDone {
		return outcome{}, fmt.Errorf("%w: it was begun on %s, and this server does not show it yet", errUnknown, host)
	}
	return w.outcomeOf(l, past, seen, answer)
}

// firstPause is how long the first time is waited before an entry is read once
// more.
const firstPause = 50 * time.Millisecond

// look reads an entry back, again and again for as long as the yard's settings
// say, until it shows that a step was done: what was read may be older than the
// write. A refusal that was given before anything could be done needs one look.
func (w *worker) look(ctx context.Context, s *Step, answer error) (seen sight, err error) {
	within := w.server.SettlesWithin()
	for waited, pause := time.Duration(0), firstPause; ; pause *= 2 {
		if seen.entry, err = readBack(ctx, w.server, s); err != nil {
			return seen, err
		}
		seen.effect = effectOf(s, seen.entry)
		if seen.effect == effectDone || seen.effect == effectHidden || firm(answer) || waited >= within {
			break
		}
		pause = min(pause, within-waited)
		time.Sleep(pause)
		waited += pause
	}
	if s.Op == OpPassword && !firm(answer) {
		err = w.provePassword(ctx, s, answer, &seen)
	}
	return seen, err
}

// firm tells whether a refusal was given for what the server found before it
// would have changed anything.
func firm(answer error) bool {
	return source.RefusedFor(answer, source.Drifted, source.Denied, source.Taken, source.NotEmpty, source.Missing,
		source.Needed, source.SignedOut, source.Unfit)
}

// outcomeOf tells from what was seen what became of the last step. The error says
// why it was not done.
func (w *worker) outcomeOf(l *batch.Line, past *history, seen sight, answer error) (outcome, error) {
	o, err := judged(past.last(), seen.effect, answer)
	if e := seen.entry; e != nil && !e.Has("isDeleted") {
		im := batch.ImageOf(e)
		o.After = &im
		if past.last().Op == OpAdd && o.Done {
			past.newID = e.First(w.server.Dialect.Identity.String())
		}
		if source.RefusedFor(err, source.Drifted) {
			err = w.sayWhatChanged(l, past, e, err)
			o.Error = err.Error()
		}
	}
	return o, err
}

// changedError is a refusal by the server's own comparison, with what is
// different now.
type changedError struct {
	what string
	err  error
}

func (e changedError) Error() string { return e.what }
func (e changedError) Unwrap() error { return e.err }

// sayWhatChanged names the guard for which a server refused a write.
func (w *worker) sayWhatChanged(l *batch.Line, past *history, e *directory.Entry, err error) error {
	if directory.FoldDN(e.DN) == directory.FoldDN(l.DN) || past.done(batch.Move) || past.done(batch.Rename) {
		if drift := batch.Drift(w.guards(l, past), e, past.mods()); drift != "" {
			return changedError{"changed in the moment before the write: " + drift, err}
		}
	}
	return err
}

// judged is the outcome of a step that was found to have some effect. The
// error says why it was not done.
func judged(s *Step, seen effect, answer error) (outcome, error) {
	var refused *source.Refused
	heard := answer == nil || errors.As(answer, &refused)
	o := outcome{N: s.N, Settled: answer != nil}
	thing := "entry"
	if s.onFolder() {
		thing = "folder"
	}
	switch {
	case seen == effectDone && s.Op != OpPassword && source.RefusedFor(answer, source.Drifted):
		// Its own comparison failed, so somebody else has done the same. (A password
		// is set without one.)
		o.Error = "it is so already, by somebody else in the same moment: " + answer.Error()
	case seen == effectDone:
		if o.Done = true; heard && answer != nil {
			o.Answer = answer.Error()
		}
		return o, nil
	case seen == effectHidden && answer == nil:
		return o, fmt.Errorf("%w: the server answered that it was done, and nothing shows it", errUnknown)
	case seen == effectHidden:
		o.Error = "nothing shows whether it was done"
	case seen == effectNone && answer == nil && !s.onFolder():
		return o, fmt.Errorf("%w: the server answered that it was done, and shows the entry as it was", errUnknown)
	case seen == effectNone:
		o.Error, o.Untouched = "it was not done", true
		if answer != nil && (heard || s.onFolder()) {
			o.Error = answer.Error()
		}
	case firm(answer):
		o.Error = answer.Error()
	default:
		o.Error = "the " + thing + " is neither as it was nor as it should be"
		if heard && answer != nil {
			o.Error += "; " + answer.Error()
		}
	}
	o.Settled = !heard
	return o, cmp.Or(answer, errors.New(o.Error))
}

func (w *worker) finish(ctx context.Context, l *batch.Line, past *history, o outcome, result error) error {
	if _, err := w.Store.Append(ctx, w.record(eventOutcome, l.N, o)); err != nil {
		return journalError{err}
	}
	past.conclude(o)
	return result
}

type effect int

const (
	effectNone effect = iota
	effectDone
	effectOther
	effectHidden // nothing that can be read shows it
)

// effectOfAdd tells whether an entry is the one that was to be added, or somebody
// else's of the same name. Servers may add values, and write flags as they like.
func effectOfAdd(attrs []batch.ImageAttr, e *directory.Entry) effect {
	for _, a := range attrs {
		if strings.EqualFold(a.Name, "userAccountControl") || directory.IsServerOwned(a.Name) {
			continue
		}
		now := e.Get(a.Name)
		if len(now) < len(a.Values) ||
			!keptList(now, a.Values) &&
				slices.ContainsFunc(a.Values, func(v batch.Octets) bool { return !hasValue(now, string(v)) }) {
			return effectOther
		}
	}
	return effectDone
}

func effectOfMods(mods []batch.Mod, e *directory.Entry) effect {
	// A change may be of case or blanks only, so exact values decide where
	// they can; servers may give back others that are equal to them.
	for _, same := range []func([]string, []batch.Octets) bool{exactList, sameList, keptList} {
		asNew, asOld := true, true
		for _, m := range mods {
			now := e.Get(m.Attr)
			asNew = asNew && same(now, m.New)
			asOld = asOld && same(now, m.Old)
		}
		switch {
		case asNew:
			return effectDone
		case asOld:
			return effectNone
		}
	}
	return effectOther
}

// keptList compares as servers keep some values: numbered, where their order
// counts (X-ORDERED, as slapd writes it: {0}…), or with other blanks.
func keptList(now []string, want []batch.Octets) bool {
	bare := func(v string) string {
		if end := strings.IndexByte(v, '}'); strings.HasPrefix(v, "{") && end > 1 &&
			strings.Trim(v[1:end], "0123456789") == "" {
			v = v[end+1:]
		}
		return strings.Join(strings.Fields(v), " ")
	}
	plain := make([]string, len(now))
	for i, v := range now {
		plain[i] = bare(v)
	}
	return len(now) == len(want) &&
		!slices.ContainsFunc(want, func(w batch.Octets) bool { return !hasValue(plain, bare(string(w))) })
}

func exactList(now []string, want []batch.Octets) bool {
	return len(now) == len(want) &&
		!slices.ContainsFunc(want, func(w batch.Octets) bool { return !slices.Contains(now, string(w)) })
}

func sameList(now []string, want []batch.Octets) bool {
	return len(now) == len(want) &&
		!slices.ContainsFunc(want, func(w batch.Octets) bool { return !hasValue(now, string(w)) })
}

// hasValue compares as directory strings and names do.
func hasValue(values []string, v string) bool {
	return slices.ContainsFunc(values, func(h string) bool {
		return h == v || strings.EqualFold(h, v) ||
			strings.Contains(h, "=") && directory.FoldDN(h) == directory.FoldDN(v)
	})
}
