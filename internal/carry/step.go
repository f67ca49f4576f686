package carry

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"yardbroom/internal/batch"
	"yardbroom/internal/homes"
	"yardbroom/internal/source"
)

// Step is one write to the server.
type Step struct {
	N      int    `json:"n"`
	Action string `json:"action"` // of the line, that it belongs to
	Op     Op     `json:"op"`
	DN     string `json:"dn"` // the entry's name when the step was begun
	// ID is the raw identity of the entry, "" for one that does not exist yet.
	ID       batch.Octets      `json:"id,omitempty"`
	Mods     []batch.Mod       `json:"mods,omitempty"`
	Values   []ValueMod        `json:"values,omitempty"`
	RDN      string            `json:"rdn,omitempty"`
	Superior string            `json:"superior,omitempty"`
	Attrs    []batch.ImageAttr `json:"attrs,omitempty"`
	Home     *homes.Place      `json:"home,omitempty"`
	Archive  string            `json:"archive,omitempty"` // the file that a home folder goes into
	Sum      string            `json:"sum,omitempty"`     // its SHA-256
	// Proof holds what the server changes besides a password, as it was before,
	// and Version how often that had been set, where the server tells.
	Proof   []batch.ImageAttr `json:"proof,omitempty"`
	Marked  bool              `json:"marked,omitempty"` // reanimate: as Samba wants it where objects are kept whole
	Version uint32            `json:"version,omitempty"`

	secret string // the password of OpPassword, which is never written down
}

// Op is the kind of a step.
type Op string

// The kinds of steps. Values changes single values in another entry's list,
// where a whole list would trample on somebody else's change. The last four
// are done to a home folder.
const (
	OpModify    Op = "modify"
	OpValues    Op = "values"
	OpRename    Op = "rename"
	OpDelete    Op = "delete"
	OpAdd       Op = "add"
	OpReanimate Op = "reanimate"
	OpPassword  Op = "password"
	// OpPermissions exchanges values and the entry's access list, in one write.
	OpPermissions Op = "permissions"

	OpSetAside    Op = "set-home-aside"
	OpPutHomeBack Op = "put-home-back"
	OpArchiveHome Op = "archive-home"
	OpRemoveHome  Op = "remove-home"
)

// ValueMod takes one value out of an attribute, puts one in, or both.
type ValueMod struct {
	Attr   string       `json:"attr"`
	Remove batch.Octets `json:"remove,omitempty"`
	Add    batch.Octets `json:"add,omitempty"`
}

// target is the new name of an entry that a step renames, adds or brings
// back.
func (s *Step) target() string {
	if s.Op == OpAdd {
		return s.DN
	}
	return s.RDN + "," + s.Superior
}

type intent struct {
	Step   Step         `json:"step"`
	Before *batch.Image `json:"before,omitempty"`
	Host   string       `json:"host,omitempty"` // the server that it is sent to
}

// do carries out one step: intent, write, read back, outcome. The assertion
// holds what was read of the entry's guarded attributes. A write that was
// lost with its connection, and that reading shows not to have been done, is
// sent again, as a step of its own.
func (w *worker) do(
	ctx context.Context, l *batch.Line, past *history, s Step, before *batch.Image, assertion string,
) error {
	for tries := 1; ; tries++ {
		if err := ctx.Err(); err != nil {
			return err
		}
		again, err := w.try(l, past, s, before, assertion)
		if !again || tries == maxTries {
			return err
		}
	}
}

const maxTries = 3

// try makes one attempt at a step. From its intent to its outcome nothing
// may be interrupted half-way, so it does not take the caller's context.
func (w *worker) try(
	l *batch.Line, past *history, s Step, before *batch.Image, assertion string,
) (again bool, err error) {
	ctx := context.Background()
	if err := w.wait(ctx); err != nil {
		return false, err
	}
	defer w.common.hold(s.written())()
	s.N = past.next()
	in := intent{Step: s, Before: before, Host: w.server.HostName()}
	if _, err := w.Store.Append(ctx, w.record(eventIntent, l.N, in)); err != nil {
		return false, journalError{err}
	}
	past.intend(in)
	answer := w.send(&s, assertion)
	if !source.Lost(answer) {
		return false, w.conclude(ctx, l, past, answer)
	}
	if err := w.server.Reconnect(ctx); err != nil {
		return false, unread(err)
	}
	err = w.conclude(ctx, l, past, answer)
	last := past.steps[len(past.steps)-1].outcome
	return err != nil && last != nil && last.Untouched, err
}

// send does what a step is for.
func (w *worker) send(s *Step, assertion string) error {
	if folder, ok := s.operation().(onFolder); ok {
		if w.OnCopy {
			return nil // no folder is touched for a copy of a directory
		}
		return folder.do()
	}
	return s.write().send(w.server, assertion)
}

// wait holds the next write back where the server is given only so many.
func (r *run) wait(ctx context.Context) error {
	if r.limiter == nil {
		return nil
	}
	return r.limiter.Wait(ctx)
}

// history is what the journal knows of a line's steps.
type history struct {
	steps  []pastStep
	newID  string       // identity of an entry that was added anew
	notes  []string     // what is worth knowing of a line that was done
	lacks  []string     // what of it was not done, or did not come back
	before *batch.Image // image before the first step
}

type pastStep struct {
	Step
	before  *batch.Image
	outcome *outcome
	host    string    // the server that it was sent to
	at      time.Time // of the outcome, where it was read from the journal
}

// past reads what was done of a line already. An intent that has no outcome
// is settled first.
func (w *worker) past(ctx context.Context, l *batch.Line) (*history, error) {
	h, err := w.recorded(ctx, l)
	if err != nil || !h.open() {
		return h, err
	}
	if err := w.conclude(ctx, l, h, errStopped); err != nil && h.open() {
		return h, err
	}
	return h, nil
}

// seenPast is past, but writes nothing: what became of an intent without an
// outcome is only looked at.
func (w *worker) seenPast(ctx context.Context, l *batch.Line) (*history, error) {
	h, err := w.recorded(ctx, l)
	if err != nil || !h.open() {
		return h, err
	}
	o, err := w.see(ctx, l, h, errStopped)
	if err != nil && errors.Is(err, errUnknown) {
		return h, err
	}
	h.conclude(o)
	return h, nil
}

// recorded is what the journal knows of a line.
func (w *worker) recorded(ctx context.Context, l *batch.Line) (*history, error) {
	if _, first := w.unseen.LoadAndDelete(l.N); first || w.Batch.State == batch.Staged && l.State == batch.Waiting {
		return &history{}, nil
	}
	return readHistory(ctx, w.Store.Journal, w.Batch.ID, l.N, w.server.Dialect)
}

func (h *history) next() int { return len(h.steps) + 1 }

func (h *history) last() *Step { return &h.steps[len(h.steps)-1].Step }

func (h *history) intend(in intent) {
	h.steps = append(h.steps, pastStep{Step: in.Step, before: in.Before, host: in.Host})
	if h.before == nil {
		h.before = in.Before
	}
}

func (h *history) conclude(o outcome) { h.steps[len(h.steps)-1].outcome = &o }

// open tells whether the last step has no outcome yet.
func (h *history) open() bool {
	return len(h.steps) > 0 && h.steps[len(h.steps)-1].outcome == nil
}

// begun tells whether anything was changed.
func (h *history) begun() bool {
	return slices.ContainsFunc(h.steps, func(s pastStep) bool { return s.outcome != nil && s.outcome.Done })
}

// mainOps are the steps by which each action is known to be done; others of
// the same action guard it or follow from it.
var mainOps = map[string][]Op{
	batch.Disable: {
		OpModify,
	}, batch.Enable: {OpModify}, batch.Unlock: {OpModify}, batch.LeaveRole: {OpModify}, batch.PutBack: {OpModify},
	batch.Set: {
		OpModify,
	}, batch.Fill: {OpModify}, batch.Add: {OpModify}, batch.Clear: {OpModify}, batch.Describe: {OpModify}, batch.Expire: {OpModify}, batch.Hide: {OpModify},
	batch.Unmark: {OpPermissions, OpModify}, batch.Mark: {OpPermissions, OpModify},
	batch.ResetPassword: {
		OpPassword,
	}, batch.Rename: {OpRename}, batch.Move: {OpRename}, batch.Delete: {OpDelete}, batch.Restore: {OpReanimate, OpAdd},
	batch.SetHomeAside: {OpSetAside}, batch.PutHomeBack: {OpPutHomeBack}, batch.ArchiveHome: {OpRemoveHome},
}

// done tells whether an action's main step was carried out.
func (h *history) done(action string) bool { return h.main(action) != nil }

func (h *history) main(action string) *pastStep {
	for i := range h.steps {
		s := &h.steps[i]
		if s.Action == action && slices.Contains(mainOps[action], s.Op) && s.outcome != nil && s.outcome.Done {
			return s
		}
	}
	return nil
}

// mods are the changes that the line has made to its own entry.
func (h *history) mods() []batch.Mod {
	var all []batch.Mod
	for _, s := range h.steps {
		if (s.Op == OpModify || s.Op == OpReanimate || s.Op == OpPermissions) && s.outcome != nil && s.outcome.Done {
			all = append(all, s.Mods...)
		}
	}
	return all
}

func decodeBody(body json.RawMessage, into any, seq int) error {
	if err := json.Unmarshal(body, into); err != nil {
		return fmt.Errorf("journal record %d cannot be read: %w", seq, err)
	}
	return nil
}
