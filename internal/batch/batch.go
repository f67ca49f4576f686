// Package batch stages bulk change: which entries, which actions, what each
// would change, and what must still be true when it is done. Nothing reaches
// a directory except from a batch.
package batch

import (
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"
	"unicode/utf8"

	"yardbroom/internal/directory"
	"yardbroom/internal/source"
	"yardbroom/internal/store"
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
	Lines    []Line          `json:"-"`
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

	DN         string   `json:"dn"`
	ID         string   `json:"id"` // identity, in its readable form
	Account    string   `json:"account"`
	Kind       string   `json:"kind"`
	Reason     string   `json:"reason"`
	Confidence string   `json:"confidence"`
	Privileged []string `json:"privileged,omitempty"` // privileged groups it belongs to
	Guard      []Guard  `json:"guard"`
	Actions    []Action `json:"actions"`
	Changes    []Change `json:"changes"`
	Warnings   []string `json:"warnings,omitempty"`
}

// LineState is where a line stands.
type LineState string

// The states of a line.
const (
	Waiting  LineState = "waiting"
	Dropped  LineState = "dropped"  // taken out by a person
	Applied  LineState = "done"     // carried out and read back
	Drifted  LineState = "drifted"  // the guard no longer held; nothing was done
	Refused  LineState = "refused"  // protection, or the server's refusal; nothing was done
	Unproved LineState = "unproved" // the guard could not be read everywhere
	Failed   LineState = "failed"   // begun and not finished; the note says how far it came
)

// Settled tells whether apply has nothing more to do for the line.
func (s LineState) Settled() bool { return s != Waiting && s != Failed }

// Action is one thing to do to an entry.
type Action struct {
	Name  string `json:"name"`
	To    string `json:"to,omitempty"`    // move, restore: the new parent
	RDN   string `json:"rdn,omitempty"`   // move, restore: the leaf of the name
	Put   []Mod  `json:"put,omitempty"`   // put-back: what an undo changes
	Image *Image `json:"image,omitempty"` // restore: the entry as it was
}

// Mod changes one attribute from Old to New, whole lists of values.
type Mod struct {
	Attr string   `json:"attr"`
	Old  []Octets `json:"old"`
	New  []Octets `json:"new"`
}

// Change is what a line would change, for people.
type Change struct {
	What string `json:"what"`
	Old  string `json:"old"`
	New  string `json:"new"`
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

// The rules of guards. Container compares the name of the parent.
const (
	Equal     Rule = "equal"
	NoLater   Rule = "no-later" // no sign-in later than the one known
	Container Rule = "container"
)

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

// summary is the journal's body of those events.
type summary struct {
	Digest   string   `json:"digest"`
	Lines    int      `json:"lines"`
	Actions  []string `json:"actions"`
	Why      string   `json:"why,omitempty"`
	Accounts []string `json:"accounts,omitempty"` // dropped
}

// Digest returns the SHA-256 over everything of the batch that decides what
// is done: its head, its lines, and which of them were dropped.
func (b *Batch) Digest() (string, error) {
	h := sha256.New()
	enc := json.NewEncoder(h)
	if err := enc.Encode(b); err != nil {
		return "", err
	}
	for i := range b.Lines {
		if err := enc.Encode(&b.Lines[i]); err != nil {
			return "", err
		}
		fmt.Fprintln(h, b.Lines[i].State == Dropped)
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

func (b *Batch) record(event, by string, at time.Time, dropped ...string) (*store.Record, error) {
	digest, err := b.Digest()
	if err != nil {
		return nil, err
	}
	body, err := json.Marshal(summary{Digest: digest, Lines: b.Open(), Actions: b.Actions, Why: b.Why, Accounts: dropped})
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
	head, err := json.Marshal(b)
	if err != nil {
		return err
	}
	kept := &store.Batch{State: string(Staged), Head: head}
	for i := range b.Lines {
		body, err := json.Marshal(&b.Lines[i])
		if err != nil {
			return err
		}
		b.Lines[i].State = Waiting
		kept.Lines = append(kept.Lines, store.Line{N: b.Lines[i].N, State: string(Waiting), Body: body})
	}
	record, err := b.record(EventStaged, b.By, b.Created)
	if err != nil {
		return err
	}
	_, err = s.AddBatch(ctx, kept, func(id int) *store.Record {
		b.ID, b.State, record.Batch = id, Staged, id
		return record
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
	digest, err := b.Digest()
	if err != nil {
		return nil, err
	}
	records, err := s.Journal(ctx, id, 0)
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
	return b, nil
}

func decode(kept *store.Batch) (*Batch, error) {
	b := &Batch{}
	if err := json.Unmarshal(kept.Head, b); err != nil {
		return nil, err
	}
	b.ID, b.State = kept.ID, State(kept.State)
	b.Lines = make([]Line, len(kept.Lines))
	for i, l := range kept.Lines {
		if l.Body != nil {
			if err := json.Unmarshal(l.Body, &b.Lines[i]); err != nil {
				return nil, err
			}
		}
		b.Lines[i].N, b.Lines[i].State, b.Lines[i].Note = l.N, LineState(l.State), l.Note
	}
	return b, nil
}

// List returns all batches; their lines hold numbers and states only.
func List(ctx context.Context, s *store.Store) ([]*Batch, error) {
	kept, err := s.Batches(ctx)
	if err != nil {
		return nil, err
	}
	all := make([]*Batch, len(kept))
	for i, k := range kept {
		if all[i], err = decode(k); err != nil {
			return nil, fmt.Errorf("batch %d: %w", k.ID, err)
		}
	}
	return all, nil
}

// Drop takes the lines of these accounts, by logon name or DN, out of a
// staged batch. A name that no line has is an error, and nothing is dropped.
func (b *Batch) Drop(ctx context.Context, s *store.Store, accounts []string, by string, at time.Time) (int, error) {
	if b.State != Staged {
		return 0, fmt.Errorf("batch %d is %s; lines can be dropped only before it is carried out", b.ID, b.State)
	}
	var lines []store.Line
	for _, name := range accounts {
		found := false
		for i := range b.Lines {
			l := &b.Lines[i]
			if !strings.EqualFold(l.Account, name) && directory.FoldDN(l.DN) != directory.FoldDN(name) {
				continue
			}
			found = true
			if l.State == Waiting {
				l.State = Dropped
				lines = append(lines, store.Line{N: l.N, State: string(Dropped), Note: "by " + by})
			}
		}
		if !found {
			return 0, fmt.Errorf("batch %d has no line for %q; \"yardbroom batch show %d\" lists them", b.ID, name, b.ID)
		}
	}
	record, err := b.record(EventDropped, by, at, accounts...)
	if err != nil {
		return 0, err
	}
	_, err = s.SetLines(ctx, b.ID, lines, record)
	return len(lines), err
}

// Discard gives a batch up. One that was begun stays in the journal and can
// still be undone.
func (b *Batch) Discard(ctx context.Context, s *store.Store, by string, at time.Time) error {
	if b.State != Staged && b.State != Begun {
		return fmt.Errorf("batch %d is %s already", b.ID, b.State)
	}
	_, err := s.SetBatchState(ctx, b.ID, string(Discarded), &store.Record{At: at, By: by, Event: EventDiscarded, Batch: b.ID})
	return err
}
