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

	"yardbroom/internal/batch"
	"yardbroom/internal/directory"
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
}

type outcome struct {
	N       int  `json:"n"`
	Done    bool `json:"done"`
	Settled bool `json:"settled,omitempty"` // found by reading, after a kill or a lost connection
	// Untouched says that the entry was found as it was before the step.
	Untouched bool         `json:"untouched,omitempty"`
	Error     string       `json:"error,omitempty"`
	After     *batch.Image `json:"after,omitempty"`
}

// do carries out one step: intent, write, read back, outcome. The assertion
// holds what was read of the entry's guarded attributes. A write that was
// lost with its connection, and that reading shows not to have been done, is
// sent again, as a step of its own.
func (r *Runner) do(ctx context.Context, l *batch.Line, past *history, s Step, before *batch.Image, assertion string) error {
	for tries := 1; ; tries++ {
		if err := ctx.Err(); err != nil {
			return err
		}
		again, err := r.try(l, past, s, before, assertion)
		if !again || tries == maxTries {
			return err
		}
	}
}

const maxTries = 3

// try makes one attempt at a step. From its intent to its outcome nothing
// may be interrupted half-way, so it does not take the caller's context.
func (r *Runner) try(l *batch.Line, past *history, s Step, before *batch.Image, assertion string) (again bool, err error) {
	ctx := context.Background()
	if err := r.wait(ctx); err != nil {
		return false, err
	}
	defer r.common.hold(s.written())()
	s.N = past.next()
	if _, err := r.Store.Append(ctx, r.record(eventIntent, l.N, intent{Step: s, Before: before})); err != nil {
		return false, journalError{err}
	}
	past.intend(s, before)
	writeErr := r.write(&s, assertion)
	if !source.Lost(writeErr) {
		return false, r.conclude(ctx, l, past, writeErr, false)
	}
	if err := r.Server.Reconnect(ctx); err != nil {
		return false, unread(err)
	}
	err = r.settleStep(ctx, l, past, writeErr)
	last := past.steps[len(past.steps)-1].outcome
	return err != nil && last != nil && last.Untouched, err
}

// wait holds the next write back where the server is given only so many.
func (r *Runner) wait(ctx context.Context) error {
	if r.Rate == nil {
		return nil
	}
	return r.Rate.Wait(ctx)
}

// unread is the error of a step of which nobody could read how it ended,
// whether the connection could not be made again or was lost once more.
func unread(err error) error {
	return fmt.Errorf("how a step ended could not be read; apply again when the server is back: %w", err)
}

// settleStep finds out by reading whether the last intent was carried out.
func (r *Runner) settleStep(ctx context.Context, l *batch.Line, past *history, why error) error {
	return r.conclude(ctx, l, past, why, true)
}

// conclude reads the entry back and writes the outcome of the last intent.
func (r *Runner) conclude(ctx context.Context, l *batch.Line, past *history, writeErr error, settled bool) error {
	s := past.last()
	if s.Op.onFolder() {
		return r.concludeFolder(ctx, l, past, writeErr, settled)
	}
	if writeErr != nil && !settled {
		return r.finish(ctx, l, past, outcome{N: s.N, Error: writeErr.Error()}, writeErr)
	}
	e, err := r.readBack(ctx, s)
	if err != nil {
		return unread(err)
	}
	o, err := r.outcomeOf(past, e, writeErr, settled)
	return r.finish(ctx, l, past, o, err)
}

// outcomeOf tells from the entry as it is now what became of the last step. The
// error says why it was not done.
func (r *Runner) outcomeOf(past *history, e *directory.Entry, writeErr error, settled bool) (outcome, error) {
	s := past.last()
	effect := effectOf(s, e)
	if s.Op == OpPassword && writeErr == nil && !settled {
		effect = effectDone // what it changes for certain cannot be read
	}
	o, err := judged(s, effect, writeErr, settled)
	if e != nil && !e.Has("isDeleted") {
		im := batch.ImageOf(e)
		o.After = &im
		if s.Op == OpAdd {
			past.newID = e.First(r.Server.Dialect.Identity.String())
		}
	}
	return o, err
}

// judged is the outcome of a step that was found to have some effect. The
// error says why it was not done.
func judged(s *Step, e effect, writeErr error, settled bool) (outcome, error) {
	o := outcome{N: s.N, Settled: settled}
	switch e {
	case effectDone:
		o.Done = true
		return o, nil
	case effectNone:
		o.Error, o.Untouched = "it was not done", true
		switch {
		case s.Op.onFolder() && writeErr != nil:
			o.Error = writeErr.Error()
		case writeErr == nil && !settled:
			o.Error = "the server took it and did not do it"
		}
	default:
		o.Error = "the entry is neither as it was nor as it should be"
		if s.Op.onFolder() {
			o.Error = "the folder is neither as it was nor as it should be"
		}
	}
	return o, cmp.Or(writeErr, errors.New(o.Error))
}

func (r *Runner) finish(ctx context.Context, l *batch.Line, past *history, o outcome, result error) error {
	if _, err := r.Store.Append(ctx, r.record(eventOutcome, l.N, o)); err != nil {
		return journalError{err}
	}
	past.conclude(o)
	return result
}

// write sends the step's request.
func (r *Runner) write(s *Step, assertion string) error {
	if s.Op.onFolder() {
		return r.writeFolder(s)
	}
	entry := source.Entry{DN: s.DN, ID: string(s.ID)}
	switch s.Op {
	case OpModify:
		// The old value is deleted by name, so that the server refuses where it is
		// no longer there.
		changes := make([]source.Change, len(s.Mods))
		for i, m := range s.Mods {
			changes[i] = source.Change{Attr: m.Attr, Delete: batch.Plain(m.Old), Add: batch.Plain(m.New)}
		}
		return r.Server.Modify(entry, changes, assertion)
	case OpValues:
		changes := make([]source.Change, len(s.Values))
		for i, v := range s.Values {
			changes[i] = source.Change{Attr: v.Attr, Delete: present(v.Remove), Add: present(v.Add)}
		}
		return r.Server.Modify(entry, changes, "")
	case OpPassword:
		return r.Server.SetPassword(entry, s.secret, replacements(s.Mods))
	case OpRename:
		return r.Server.Rename(entry, s.RDN, s.Superior, assertion)
	case OpDelete:
		return r.Server.Delete(entry, assertion)
	case OpAdd:
		attributes := make([]directory.Attribute, len(s.Attrs))
		for i, a := range s.Attrs {
			attributes[i] = directory.Attribute{Name: a.Name, Values: batch.Plain(a.Values)}
		}
		return r.Server.Add(s.DN, attributes)
	case OpReanimate:
		return r.Server.Reanimate(s.DN, s.target(), replacements(s.Mods))
	}
	return fmt.Errorf("unknown step %q", s.Op)
}

// present is a list of the value, or of none.
func present(v batch.Octets) []string {
	if v == "" {
		return nil
	}
	return []string{string(v)}
}

func replacements(mods []batch.Mod) []source.Replacement {
	all := make([]source.Replacement, len(mods))
	for i, m := range mods {
		all[i] = source.Replacement{Attr: m.Attr, Values: batch.Plain(m.New)}
	}
	return all
}

// readBack reads what the step was about. Nil means that the entry is not
// there.
func (r *Runner) readBack(ctx context.Context, s *Step) (*directory.Entry, error) {
	var e *directory.Entry
	var err error
	if s.Op == OpValues {
		e, err = r.Server.Lists(ctx, string(s.ID), s.looked()...)
	} else if s.Op == OpAdd || s.ID == "" {
		var found []directory.Entry
		found, err = r.Server.Get(ctx, []string{s.DN})
		if len(found) == 1 {
			e = &found[0]
		}
	} else {
		deleted := s.Op == OpReanimate
		e, err = r.Server.ByIdentity(ctx, string(s.ID), deleted)
	}
	if errors.Is(err, source.ErrNotFound) {
		return nil, nil
	}
	return e, err
}

// looked are the values by which a step on lists is known to be done.
func (s *Step) looked() (values []source.Value) {
	for _, v := range s.Values {
		for _, value := range []batch.Octets{v.Remove, v.Add} {
			if value != "" {
				values = append(values, source.Value{Attr: v.Attr, Value: string(value)})
			}
		}
	}
	return values
}

type effect int

const (
	effectNone effect = iota
	effectDone
	effectOther
)

// effectOf compares an entry with what a step was to do to it.
func effectOf(s *Step, e *directory.Entry) effect {
	if e == nil {
		switch s.Op {
		case OpDelete:
			return effectDone
		case OpAdd:
			return effectNone
		}
		return effectOther
	}
	here := directory.FoldDN(e.DN)
	switch s.Op {
	case OpDelete:
		return effectNone
	case OpAdd:
		return effectDone
	case OpRename:
		switch here {
		case directory.FoldDN(s.target()):
			return effectDone
		case directory.FoldDN(s.DN):
			return effectNone
		}
		return effectOther
	case OpReanimate:
		switch {
		case e.First("isDeleted") == "TRUE":
			return effectNone
		case here == directory.FoldDN(s.target()):
			return effectDone
		}
		return effectOther
	case OpValues:
		return effectOfValues(s.Values, e)
	case OpPassword:
		return effectOfPassword(s, e)
	}
	return effectOfMods(s.Mods, e)
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
		if end := strings.IndexByte(v, '}'); strings.HasPrefix(v, "{") && end > 1 && strings.Trim(v[1:end], "0123456789") == "" {
			v = v[end+1:]
		}
		return strings.Join(strings.Fields(v), " ")
	}
	plain := make([]string, len(now))
	for i, v := range now {
		plain[i] = bare(v)
	}
	return len(now) == len(want) && !slices.ContainsFunc(want, func(w batch.Octets) bool { return !hasValue(plain, bare(string(w))) })
}

func exactList(now []string, want []batch.Octets) bool {
	return len(now) == len(want) && !slices.ContainsFunc(want, func(w batch.Octets) bool { return !slices.Contains(now, string(w)) })
}

func effectOfValues(values []ValueMod, e *directory.Entry) effect {
	for _, v := range values {
		if v.Remove != "" && hasValue(e.Get(v.Attr), string(v.Remove)) || v.Add != "" && !hasValue(e.Get(v.Attr), string(v.Add)) {
			return effectNone
		}
	}
	return effectDone
}

func sameList(now []string, want []batch.Octets) bool {
	return len(now) == len(want) && !slices.ContainsFunc(want, func(w batch.Octets) bool { return !hasValue(now, string(w)) })
}

// hasValue compares as directory strings and names do.
func hasValue(values []string, v string) bool {
	return slices.ContainsFunc(values, func(h string) bool {
		return h == v || strings.EqualFold(h, v) || strings.Contains(h, "=") && directory.FoldDN(h) == directory.FoldDN(v)
	})
}

// history is what the journal knows of a line's steps.
type history struct {
	steps  []pastStep
	newID  string // identity of an entry that was added anew
	notes  []string
	before *batch.Image // image before the first step
}

type pastStep struct {
	Step
	before  *batch.Image
	outcome *outcome
	at      time.Time // of the outcome, where it was read from the journal
}

// past reads what was done of a line already. An intent that has no outcome
// is settled first.
func (r *Runner) past(ctx context.Context, l *batch.Line) (*history, error) {
	h := &history{}
	if r.Batch.State == batch.Staged && l.State == batch.Waiting {
		return h, nil
	}
	h, err := readHistory(ctx, r.Store.Journal, r.Batch.ID, l.N, r.Server.Dialect)
	if err != nil {
		return nil, err
	}
	if n := len(h.steps); n > 0 && h.steps[n-1].outcome == nil && !r.DryRun {
		if err := r.settleStep(ctx, l, h, errors.New("stopped in the middle of this step")); err != nil && h.steps[n-1].outcome == nil {
			return nil, err
		}
	}
	return h, nil
}

func (h *history) next() int { return len(h.steps) + 1 }

func (h *history) last() *Step { return &h.steps[len(h.steps)-1].Step }

func (h *history) intend(s Step, before *batch.Image) {
	h.steps = append(h.steps, pastStep{Step: s, before: before})
	if h.before == nil {
		h.before = before
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
	batch.Disable: {OpModify}, batch.Enable: {OpModify}, batch.Unlock: {OpModify}, batch.PutBack: {OpModify},
	batch.Set: {OpModify}, batch.Fill: {OpModify}, batch.Add: {OpModify}, batch.Clear: {OpModify}, batch.Describe: {OpModify}, batch.Expire: {OpModify}, batch.Hide: {OpModify},
	batch.ResetPassword: {OpPassword}, batch.Rename: {OpRename}, batch.Move: {OpRename}, batch.Delete: {OpDelete}, batch.Restore: {OpReanimate, OpAdd},
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
		if (s.Op == OpModify || s.Op == OpReanimate) && s.outcome != nil && s.outcome.Done {
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
