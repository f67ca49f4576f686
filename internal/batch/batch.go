// Package batch stages bulk change: which entries, which actions, what each
// would change, and what must still be true when it is done. Nothing reaches
// a directory except from a batch.
package batch

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"yardbroom/internal/audit"
	"yardbroom/internal/directory"
	"yardbroom/internal/homes"
	"yardbroom/internal/parallel"
	"yardbroom/internal/pattern"
	"yardbroom/internal/source"
	"yardbroom/internal/store"
	"yardbroom/internal/wording"
)

// Batch is a list of changes to one directory.
type Batch struct {
	ID       int             `json:"-"`
	State    State           `json:"-"`
	Identity source.Identity `json:"identity"`
	Yard     string          `json:"yard,omitempty"` // name in the settings, or URL
	Source   string          `json:"source"`         // what was read to stage it
	Server   string          `json:"server,omitempty"`
	Created  time.Time       `json:"created"`
	By       string          `json:"by"`
	Why      string          `json:"why,omitempty"`
	Actions  []string        `json:"actions"`
	UndoOf   int             `json:"undo_of,omitempty"`
	Round    string          `json:"round,omitempty"` // the round that staged it
	// Ladder and Rung are where it takes accounts, or, with UndoOf, brings them
	// back from. Signed tells that the rung wants a signature.
	Ladder string `json:"ladder,omitempty"`
	Rung   string `json:"rung,omitempty"`
	Signed bool   `json:"signed,omitempty"`
	// KeepDeleted is how long what it deletes is kept as LDIF, where that is not as
	// long as the settings say for all.
	KeepDeleted string `json:"keep_deleted,omitempty"`
	// EvenEnabled tells that accounts may be deleted that are enabled.
	EvenEnabled bool `json:"even_enabled,omitempty"`
	// JudgedFor is the time for which its findings were judged, where that was
	// still to come when it was staged: it is not carried out before.
	JudgedFor time.Time `json:"judged_for,omitzero"`
	// Accounts is how many accounts the yard had when it was staged, 0 where
	// nobody counted.
	Accounts int       `json:"accounts,omitempty"`
	Until    time.Time `json:"until,omitzero"` // when it is to be taken back; zero for never
	Lines    []Line    `json:"-"`
}

// State is where a batch stands.
type State string

// The states of a batch.
const (
	Staged    State = "staged"
	Begun     State = "begun" // carried out in part; apply goes on
	Done      State = "done"  // every line settled
	Discarded State = "discarded"
)

// Line is one entry of the batch with its ordered actions.
type Line struct {
	N     int       `json:"n"`
	State LineState `json:"-"`
	Note  string    `json:"-"` // why it is in that state
	// Settled is the number of the journal record that says so, and At its time.
	Settled int       `json:"-"`
	At      time.Time `json:"-"`
	// Undone is the batch that has taken it back, 0 where none has, or nobody asked.
	Undone int `json:"-"`

	DN         string           `json:"dn"`
	ID         string           `json:"id"` // identity, in its readable form
	Account    string           `json:"account"`
	Kind       string           `json:"kind"`
	Reason     string           `json:"reason"`
	Check      string           `json:"check,omitempty"` // that the line comes from
	Confidence audit.Confidence `json:"confidence"`
	Privileged []string         `json:"privileged,omitempty"` // privileged groups it belongs to
	Guard      []Guard          `json:"guard"`
	Actions    []Action         `json:"actions"`
	Changes    []Change         `json:"changes"`
	Warnings   []string         `json:"warnings,omitempty"`
	ByHand     []string         `json:"by_hand,omitempty"` // what is left to be done by somebody once it is done
	// Also is what is touched besides the entry itself.
	Also []Touched `json:"also,omitempty"`
	// Partly tells of a line of an undo that it leaves something for another.
	Partly bool `json:"partly,omitempty"`
	// DoneOn is the server on which a line of an undo was done.
	DoneOn string `json:"done_on,omitempty"`
	// Anew tells of a restore that the entry may come back as another one, with a
	// SID and a GUID of its own, where the server does not keep the deleted object.
	Anew bool `json:"anew,omitempty"`
	// LastSignIn is the last sign-in that was known when a ladder staged it.
	LastSignIn time.Time `json:"last_sign_in,omitzero"`
	// Since is when what put the account on the ladder began.
	Since time.Time `json:"since,omitzero"`
	// Passed are actions of the rung that were so already.
	Passed []string `json:"passed,omitempty"`
}

// ComesDown tells whether it takes back what a ladder has done.
func (b *Batch) ComesDown() bool { return b.Ladder != "" && b.UndoOf != 0 }

// LineState is where a line stands.
type LineState string

// The states of a line.
const (
	Waiting  LineState = "waiting"
	Dropped  LineState = "dropped"      // taken out by a person
	Applied  LineState = "done"         // carried out and read back
	InPart   LineState = "done in part" // carried out but for what the note lists
	Drifted  LineState = "drifted"      // the guard no longer held; nothing was done
	Refused  LineState = "refused"      // protection, or the server's refusal; nothing was done
	Unproved LineState = "unproved"     // the guard could not be read everywhere
	Failed   LineState = "failed"       // begun and not finished; the note says how far it came
	Unknown  LineState = "not known"    // in the middle of a write of which nobody could see yet what became of it
)

// LineStates are all of them, in the order in which they are told.
var LineStates = []LineState{Applied, InPart, Waiting, Unknown, Failed, Drifted, Refused, Unproved, Dropped}

// Settled tells whether apply has nothing more to do for the line.
func (s LineState) Settled() bool { return s != Waiting && s != Failed && s != Unknown }

// Touched tells whether something of the line was done, or may have been.
func (s LineState) Touched() bool {
	return s == Applied || s == InPart || s == Failed || s == Unknown
}

// Action is one thing to do to an entry.
type Action struct {
	Name   string       `json:"name"`
	To     string       `json:"to,omitempty"`     // move, restore: the new parent
	RDN    string       `json:"rdn,omitempty"`    // move, restore: the leaf of the name
	Put    []Mod        `json:"put,omitempty"`    // the changes, where they are known at staging
	Groups []Membership `json:"groups,omitempty"` // what is joined or left
	Stays  []string     `json:"stays,omitempty"`  // leave-groups: the groups that must not be touched
	Unlock bool         `json:"unlock,omitempty"` // reset-password: lift a lock too
	Image  *Image       `json:"image,omitempty"`  // restore: the entry as it was
	Powers []string     `json:"powers,omitempty"` // restore: the privileged groups that it gets back into
	Spelt  []Reference  `json:"spelt,omitempty"`  // move, back: references that wrote the old name in a way of their own
	Home   *homes.Place `json:"home,omitempty"`   // the folder that is set aside, put back or archived
}

// Membership is a group that an account is in, or is to be in.
type Membership struct {
	DN   string `json:"dn"`
	ID   string `json:"id"`   // of the group, in its readable form
	Attr string `json:"attr"` // by which the group lists it
	// Privileged are the privileged groups that the group is, or leads to.
	Privileged []string `json:"privileged,omitempty"`

	protected string // why the group must not be written
}

// Mod changes one attribute from Old to New, whole lists of values.
type Mod struct {
	Attr string   `json:"attr"`
	Old  []Octets `json:"old"`
	New  []Octets `json:"new"`
}

// Inverse takes the change back.
func (m Mod) Inverse() Mod { return Mod{Attr: m.Attr, Old: m.New, New: m.Old} }

// Permissions tells whether it is about the entry's access list.
func (m Mod) Permissions() bool { return strings.EqualFold(m.Attr, directory.AttrSecurityDescriptor) }

// Guard is that the attribute holds some values.
func (m Mod) Guard(values []Octets) Guard {
	g := Guard{Attr: m.Attr, Rule: Equal, Values: values}
	if m.Permissions() {
		g.Rule = Permissions
	}
	return g
}

// Guard is what must still be true of an entry.
type Guard struct {
	Attr   string   `json:"attr"`
	Rule   Rule     `json:"rule"`
	Values []Octets `json:"values"`
	// Server is the server whose own value this is, for an attribute that is
	// not replicated.
	Server string `json:"server,omitempty"`
}

// Rule is how a guard compares.
type Rule string

// The rules of guards. Container compares the name of the parent. Groups,
// IsMember and NotMember look at which groups list the entry, Permissions at its
// access list.
const (
	Equal     Rule = "equal"
	NoLater   Rule = "no-later" // no sign-in later than the one known
	Container Rule = "container"
	Groups    Rule = "groups"     // exactly these
	IsMember  Rule = "member"     // of each of these
	NotMember Rule = "not-member" // of none of these

	Permissions Rule = "permissions" // the entry's own, as directory.SamePermissions compares
)

// ofGroups tells whether the guard is about groups, not about the entry.
func (g *Guard) ofGroups() bool { return g.Rule == Groups || g.Rule == IsMember || g.Rule == NotMember }

// Remarks are what whoever reviews the line should know: its warnings, and what it leaves
// to be done by hand.
func (l *Line) Remarks() []string {
	all := slices.Clone(l.Warnings)
	for _, text := range l.ByHand {
		all = append(all, "by hand: "+text)
	}
	return all
}

// ofAttribute tells whether the guard is about values that the entry shows by itself.
func (g *Guard) ofAttribute() bool { return g.Rule == Equal || g.Rule == NoLater }

// Image is an entry and every reference to it, as they were at one moment.
// It never holds secrets.
type Image struct {
	DN         string      `json:"dn"`
	Attrs      []ImageAttr `json:"attrs"`
	References []Reference `json:"references"`
	// Incomplete names the attributes whose list of values was not whole.
	Incomplete []string `json:"incomplete,omitempty"`
}

// ImageAttr is one attribute of an image.
type ImageAttr struct {
	Name   string   `json:"name"`
	Values []Octets `json:"values"`
}

// Reference is another entry that names this one.
type Reference struct {
	DN    string `json:"dn"`
	ID    string `json:"id,omitempty"` // its identity in the readable form: it may be renamed meanwhile
	Attr  string `json:"attr"`
	Value Octets `json:"value"` // as it stands there
	// Privileged marks a privileged group, which an undo never gives back.
	Privileged bool `json:"privileged,omitempty"`
}

// Entry returns the image's entry.
func (im *Image) Entry() directory.Entry {
	e := directory.Entry{DN: im.DN}
	for _, a := range im.Attrs {
		e.Set(a.Name, Plain(a.Values)...)
	}
	return e
}

// Anew returns what an entry made anew of the image has: an account disabled,
// without what is the server's to write and without secrets.
func (im *Image) Anew(d *directory.Dialect) []ImageAttr {
	old := im.Entry()
	all := []ImageAttr{{Name: "objectClass", Values: OctetsOf(old.Get("objectClass"))}}
	for _, attr := range im.Attrs {
		// An operational attribute is taken in a modify, not in an add.
		if !directory.IsServerOwned(attr.Name) && !strings.EqualFold(attr.Name, "pwdPolicySubentry") {
			all = append(all, attr)
		}
	}
	if flags, err := directory.ParseFlags(old.First("userAccountControl")); d == directory.AD && err == nil {
		all = append(
			all,
			ImageAttr{
				Name:   "userAccountControl",
				Values: []Octets{Octets(strconv.FormatInt(flags|directory.UACDisabled, 10))},
			},
		)
	}
	return all
}

// ImageOf makes an image of an entry, without references.
func ImageOf(e *directory.Entry) Image {
	im := Image{DN: e.DN}
	for _, a := range e.Attrs {
		if directory.IsSecret(a.Name) {
			continue
		}
		if e.Incomplete(a.Name) {
			im.Incomplete = append(im.Incomplete, a.Name)
		}
		im.Attrs = append(im.Attrs, ImageAttr{a.Name, OctetsOf(a.Values)})
	}
	return im
}

// Octets is an attribute value in JSON: text as it is, other octets in
// base64 behind a mark.
type Octets string

const octetsMark = "base64:"

// MarshalText writes the value without loss.
func (o Octets) MarshalText() ([]byte, error) {
	if utf8.ValidString(string(o)) && !strings.HasPrefix(string(o), octetsMark) {
		return []byte(o), nil
	}
	return []byte(octetsMark + base64.StdEncoding.EncodeToString([]byte(o))), nil
}

// UnmarshalText is the inverse of MarshalText.
func (o *Octets) UnmarshalText(text []byte) error {
	coded, ok := strings.CutPrefix(string(text), octetsMark)
	if !ok {
		*o = Octets(text)
		return nil
	}
	raw, err := base64.StdEncoding.DecodeString(coded)
	*o = Octets(raw)
	return err
}

// OctetsOf turns values as they are read into values of a batch.
func OctetsOf(values []string) []Octets {
	out := make([]Octets, len(values))
	for i, v := range values {
		out[i] = Octets(v)
	}
	return out
}

// Plain is the inverse of OctetsOf.
func Plain(values []Octets) []string {
	out := make([]string, len(values))
	for i, v := range values {
		out[i] = string(v)
	}
	return out
}

// ErrTampered is the error for a batch that is not what the journal says was
// staged.
var ErrTampered = errors.New("the batch was changed outside yardbroom since it was staged; discard it and stage again")

// Events of the journal that carry a batch's digest.
const (
	EventStaged    = "staged"
	EventDropped   = "dropped"
	EventDiscarded = "discarded"
)

// Events of the journal from which it follows where a batch and its lines stand.
const (
	EventBegun   = "apply"
	EventSettled = "line"
	EventEnded   = "applied"
)

// Settlement is the journal's body of a line that was given a state.
type Settlement struct {
	State   LineState `json:"state"`
	Note    string    `json:"note,omitempty"`
	Account string    `json:"account"`
	DN      string    `json:"dn"`
	Along   int       `json:"along,omitempty"` // how many entries moved along
}

// Settle is the settlement of the line in a state.
func (l *Line) Settle(state LineState, note string) Settlement {
	return Settlement{State: state, Note: note, Account: l.Account, DN: l.DN, Along: l.Along()}
}

// stateOf is the state of a batch after one of its records.
func stateOf(r *store.Sealed) (State, error) {
	switch r.Event {
	case EventStaged:
		return Staged, nil
	case EventDiscarded:
		return Discarded, nil
	case EventBegun:
		return Begun, nil
	}
	var end struct{ Counts map[LineState]int }
	if err := json.Unmarshal(r.Body, &end); err != nil {
		return "", fmt.Errorf("journal record %d: %w", r.Seq, err)
	}
	for state, n := range end.Counts {
		if n > 0 && !state.Settled() {
			return Begun, nil
		}
	}
	return Done, nil
}

// standing gives batches, and the lines that they have, the states that follow
// from the journal. Of one batch only, where that is not 0.
func standing(ctx context.Context, s *store.Store, id int, lines bool, all ...*Batch) error {
	last, err := s.LastOfBatches(ctx, id, EventStaged, EventDiscarded, EventBegun, EventEnded)
	if err != nil {
		return err
	}
	for _, b := range all {
		r, known := last[b.ID]
		if !known {
			return fmt.Errorf("batch %d: the journal does not know that it was staged: %w", b.ID, ErrTampered)
		}
		if b.State, err = stateOf(&r); err != nil {
			return err
		}
	}
	if !lines {
		return nil
	}
	settled, err := s.LastOfLines(ctx, id, EventSettled)
	if err != nil {
		return err
	}
	for _, b := range all {
		for i := range b.Lines {
			l := &b.Lines[i]
			r, known := settled[store.LineOf{Batch: b.ID, Line: l.N}]
			if !known || l.State == Dropped {
				continue
			}
			var body Settlement
			if err := json.Unmarshal(r.Body, &body); err != nil {
				return fmt.Errorf("journal record %d: %w", r.Seq, err)
			}
			l.State, l.Note, l.Settled, l.At = body.State, body.Note, r.Seq, r.At
		}
	}
	return nil
}

// summary is the journal's body of those events.
type summary struct {
	Digest   string   `json:"digest"`
	Lines    int      `json:"lines"`
	Actions  []string `json:"actions"`
	Why      string   `json:"why,omitempty"`
	Accounts []string `json:"accounts,omitempty"` // dropped
}

// encode writes the batch as it is kept.
func (b *Batch) encode() (kept *store.Batch, err error) {
	kept = &store.Batch{ID: b.ID, Lines: make([]store.Line, len(b.Lines))}
	if kept.Head, err = json.Marshal(b); err != nil {
		return nil, err
	}
	return kept, eachLine(len(b.Lines), func(i int) (err error) {
		l := &b.Lines[i]
		kept.Lines[i] = store.Line{N: l.N, Dropped: l.State == Dropped}
		kept.Lines[i].Body, err = json.Marshal(l)
		return err
	})
}

// eachLine does something for each of so many lines, on all processors, and returns the
// error of the first for which there was one.
func eachLine(n int, do func(i int) error) error {
	errs := make([]error, parallel.Chunks(n))
	parallel.Each(n, func(chunk, i int) {
		if err := do(i); errs[chunk] == nil {
			errs[chunk] = err
		}
	})
	for _, err := range errs {
		if err != nil {
			return err
		}
	}
	return nil
}

// Digest returns the SHA-256 over everything of the batch that decides what
// is done: its head, its lines, and which of them were dropped.
func (b *Batch) Digest() (string, error) {
	kept, err := b.encode()
	if err != nil {
		return "", err
	}
	return digestOf(kept), nil
}

func digestOf(kept *store.Batch) string {
	h := sha256.New()
	fmt.Fprintf(h, "%s\n", kept.Head)
	for i := range kept.Lines {
		fmt.Fprintf(h, "%s\n%t\n", kept.Lines[i].Body, kept.Lines[i].Dropped)
	}
	return hex.EncodeToString(h.Sum(nil))
}

// Unchanged fails where the batch that is kept is another one than this by now, or stands
// otherwise.
func (b *Batch) Unchanged(ctx context.Context, s *store.Store) error {
	kept, err := s.Batch(ctx, b.ID)
	if err != nil {
		return err
	}
	now := &Batch{ID: b.ID}
	if err := standing(ctx, s, b.ID, false, now); err != nil {
		return err
	}
	digest, err := b.Digest()
	if err == nil && (digestOf(kept) != digest || now.State != b.State) {
		err = fmt.Errorf("batch %d was changed meanwhile, and is %s now; look at it again", b.ID, now.State)
	}
	return err
}

func (b *Batch) record(event, by string, at time.Time, dropped ...string) (*store.Record, error) {
	digest, err := b.Digest()
	if err != nil {
		return nil, err
	}
	body, err := json.Marshal(
		summary{Digest: digest, Lines: b.Open(), Actions: b.Actions, Why: b.Why, Accounts: dropped})
	return &store.Record{At: at, By: by, Event: event, Batch: b.ID, Body: body}, err
}

// Open counts the lines that are still to be carried out.
func (b *Batch) Open() int {
	n := 0
	for i := range b.Lines {
		if !b.Lines[i].State.Settled() {
			n++
		}
	}
	return n
}

// Save keeps a new batch and gives it its number.
func (b *Batch) Save(ctx context.Context, s *store.Store) error {
	_, err := s.AddBatch(ctx, func(id int) (*store.Batch, *store.Record, error) {
		b.ID, b.State = id, Staged
		b.number()
		for i := range b.Lines {
			b.Lines[i].State = Waiting
		}
		kept, err := b.encode()
		if err != nil {
			return nil, nil, err
		}
		record, err := b.record(EventStaged, b.By, b.Created)
		return kept, record, err
	})
	return err
}

// Load reads a batch and proves by the journal that it is the one that was
// staged.
func Load(ctx context.Context, s *store.Store, id int) (*Batch, error) {
	kept, err := s.Batch(ctx, id)
	if err != nil {
		return nil, err
	}
	b, err := decode(kept)
	if err != nil {
		return nil, fmt.Errorf("batch %d: %w", id, errors.Join(ErrTampered, err))
	}
	again, err := b.encode()
	if err != nil {
		return nil, err
	}
	// JSON that only means the same was not written here.
	same := bytes.Equal(again.Head, kept.Head)
	for i := range again.Lines {
		same = same && bytes.Equal(again.Lines[i].Body, kept.Lines[i].Body)
	}
	if !same {
		return nil, fmt.Errorf("batch %d: %w", id, ErrTampered)
	}
	digest := digestOf(kept)
	records, err := s.About(ctx, id)
	if err != nil {
		return nil, err
	}
	staged := ""
	for _, r := range records {
		if r.Event == EventStaged || r.Event == EventDropped {
			var body summary
			if err := json.Unmarshal(r.Body, &body); err != nil {
				return nil, fmt.Errorf("journal record %d: %w", r.Seq, err)
			}
			staged = body.Digest
		}
	}
	if staged != digest {
		return nil, fmt.Errorf("batch %d: %w", id, ErrTampered)
	}
	return b, standing(ctx, s, id, true, b)
}

func decode(kept *store.Batch) (*Batch, error) {
	b := &Batch{}
	if err := json.Unmarshal(kept.Head, b); err != nil {
		return nil, err
	}
	b.ID = kept.ID
	b.Lines = make([]Line, len(kept.Lines))
	return b, eachLine(len(kept.Lines), func(i int) error {
		from, l := &kept.Lines[i], &b.Lines[i]
		if from.Body != nil {
			if err := json.Unmarshal(from.Body, l); err != nil {
				return err
			}
		}
		l.N, l.State = from.N, Waiting
		if from.Dropped {
			l.State = Dropped
		}
		return nil
	})
}

// Heads returns all batches without their lines, oldest first.
func Heads(ctx context.Context, s *store.Store) ([]*Batch, error) {
	kept, err := s.Heads(ctx)
	if err != nil {
		return nil, err
	}
	all := make([]*Batch, len(kept))
	for i := range kept {
		if all[i], err = decode(&kept[i]); err != nil {
			return nil, fmt.Errorf("batch %d: %w", kept[i].ID, err)
		}
	}
	return all, standing(ctx, s, 0, false, all...)
}

// About returns the batches with lines about an entry, by its identity in its readable
// form, oldest first, each with these lines only.
func About(ctx context.Context, s *store.Store, entry string) ([]*Batch, error) {
	kept, err := s.BatchesAbout(ctx, entry)
	if err != nil {
		return nil, err
	}
	all, err := decodeAll(kept)
	if err != nil {
		return nil, err
	}
	for _, b := range all {
		if err := standing(ctx, s, b.ID, true, b); err != nil {
			return nil, err
		}
	}
	return all, nil
}

// List returns all batches; their lines hold numbers and states only.
func List(ctx context.Context, s *store.Store) ([]*Batch, error) {
	kept, err := s.Batches(ctx)
	if err != nil {
		return nil, err
	}
	all, err := decodeAll(kept)
	if err != nil {
		return nil, err
	}
	return all, standing(ctx, s, 0, true, all...)
}

// decodeAll reads batches as they are kept.
func decodeAll(kept []*store.Batch) (all []*Batch, err error) {
	all = make([]*Batch, len(kept))
	for i, k := range kept {
		if all[i], err = decode(k); err != nil {
			return nil, fmt.Errorf("batch %d: %w", k.ID, err)
		}
	}
	return all, nil
}

// Has tells whether an action is among those of the line.
func (l *Line) Has(action string) bool {
	return slices.ContainsFunc(l.Actions, func(a Action) bool { return a.Name == action })
}

// Is tells whether a line is about the account of this logon name or DN.
func (l *Line) Is(name string) bool {
	if directory.FoldDN(l.DN) == directory.FoldDN(name) {
		return true
	}
	for _, is := range []string{l.Account, directory.LeafValue(l.DN)} {
		if strings.Contains(name, "*") && like(strings.ToLower(is), strings.ToLower(name)) || strings.EqualFold(is, name) || strings.EqualFold(strings.TrimSuffix(is, "$"), name) {
			return true
		}
	}
	return false
}

// like tells whether a text is what a pattern says, in which * stands for any text.
func like(text, pattern string) bool {
	parts := strings.Split(pattern, "*")
	if !strings.HasPrefix(text, parts[0]) {
		return false
	}
	text = text[len(parts[0]):]
	for _, part := range parts[1 : len(parts)-1] {
		_, after, found := strings.Cut(text, part)
		if !found {
			return false
		}
		text = after
	}
	return strings.HasSuffix(text, parts[len(parts)-1])
}

// Find returns the lines that are meant, each once: by logon name (with or without the $
// of computers, or with * for any text), by DN, by the name of the entry, or by their
// numbers (2 or 5-9, several with commas between them). A name that no line has is an
// error.
func (b *Batch) Find(names []string) (found []*Line, err error) {
	taken := map[int]bool{}
	for _, name := range names {
		lines, err := b.lines(name)
		if err != nil {
			return nil, err
		}
		for _, l := range lines {
			if !taken[l.N] {
				taken[l.N] = true
				found = append(found, l)
			}
		}
	}
	return found, nil
}

// lines are those that one name means.
func (b *Batch) lines(name string) (found []*Line, err error) {
	for i := range b.Lines {
		if b.Lines[i].Is(name) {
			found = append(found, &b.Lines[i])
		}
	}
	if len(found) > 0 {
		return found, nil
	}
	if numbered().MatchString(name) {
		for span := range strings.SplitSeq(name, ",") {
			first, last, isSpan := strings.Cut(span, "-")
			from, _ := strconv.Atoi(first)
			to := from
			if isSpan {
				to, _ = strconv.Atoi(last)
			}
			if from < 1 || to < from || to > len(b.Lines) {
				return nil, fmt.Errorf("batch %d has the lines 1 to %d, so there is no %s", b.ID, len(b.Lines), span)
			}
			for n := from; n <= to; n++ {
				found = append(found, &b.Lines[n-1])
			}
		}
		return found, nil
	}
	accounts := make([]string, len(b.Lines))
	for i := range b.Lines {
		accounts[i] = b.Lines[i].Account
	}
	return nil, fmt.Errorf("batch %d has no line for %q%s; \"yardbroom batch show %d\" lists them", b.ID, name,
		wording.DidYouMean(name, accounts), b.ID)
}

// numbered is how numbers of lines are written.
var numbered = pattern.Lazy(`^[0-9]{1,9}(-[0-9]{1,9})?(,[0-9]{1,9}(-[0-9]{1,9})?)*$`)

// Keep takes all other lines than these out of a staged batch.
func (b *Batch) Keep(ctx context.Context, s *store.Store, names []string, by string, at time.Time) (int, error) {
	found, err := b.Find(names)
	if err != nil {
		return 0, err
	}
	kept := map[int]bool{}
	for _, l := range found {
		kept[l.N] = l.State != Dropped
	}
	drop, err := b.absent(kept)
	if err != nil {
		return 0, err
	}
	return b.DropLines(ctx, s, drop, by, at)
}

// Drop takes the lines that Find finds out of a staged batch. A name that no line has
// is an error, and nothing is dropped.
func (b *Batch) Drop(ctx context.Context, s *store.Store, names []string, by string, at time.Time) (int, error) {
	found, err := b.Find(names)
	if err != nil {
		return 0, err
	}
	return b.DropLines(ctx, s, found, by, at)
}

// Discard gives a batch up. One that was begun stays in the journal and can
// still be undone.
func (b *Batch) Discard(ctx context.Context, s *store.Store, by string, at time.Time) error {
	unlock, err := b.lock(ctx, s)
	if err != nil {
		return err
	}
	defer unlock()
	if b.State != Staged && b.State != Begun {
		return fmt.Errorf("batch %d is %s already", b.ID, b.State)
	}
	_, err = s.Append(ctx, &store.Record{At: at, By: by, Event: EventDiscarded, Batch: b.ID})
	return err
}

// lock keeps everybody else from changing the batch, or carrying it out, and
// reads where it stands now.
func (b *Batch) lock(ctx context.Context, s *store.Store) (unlock func(), err error) {
	if unlock, err = s.LockBatch(b.ID); err != nil {
		return nil, err
	}
	now, err := Load(ctx, s, b.ID)
	if err != nil {
		unlock()
		return nil, err
	}
	b.State = now.State
	for i := range b.Lines {
		b.Lines[i].State, b.Lines[i].Note = now.Lines[i].State, now.Lines[i].Note
	}
	return unlock, nil
}

// CountStates writes how many lines are in which state: "3 done, 1 drifted".
func CountStates(counts map[LineState]int) string {
	var parts []string
	for _, state := range LineStates {
		if n := counts[state]; n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, state))
		}
	}
	return strings.Join(parts, ", ")
}
