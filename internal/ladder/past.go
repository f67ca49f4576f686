// Package ladder tells where accounts stand on ladders, since when, what holds
// them and what comes next. Where somebody stands follows from the journal, and
// from what the directory and the roster say now; nothing is kept besides.
package ladder

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"time"

	"yardbroom/internal/batch"
	"yardbroom/internal/carry"
	"yardbroom/internal/directory"
	"yardbroom/internal/source"
	"yardbroom/internal/store"
)

// Events of the journal about accounts on ladders, and about ladders. Their body
// is an Event.
const (
	EventWoke    = "woke"
	EventAdopted = "adopted"
	EventGaveUp  = "step given up"
	EventNoDown  = "nothing to take back"
	EventHeld    = "held"
	EventLetGo   = "let go"
	EventTold    = "told"
	EventToldDay = "told on the day"
	EventBounced = "mail came back"
	EventSeen    = "seen by a ladder"
	EventUnseen  = "seen no more"
	EventSet     = "ladder set"
)

var events = []string{EventWoke, EventGaveUp, EventAdopted, EventNoDown, EventHeld, EventLetGo, EventTold, EventToldDay, EventBounced, EventSeen, EventUnseen}

// Event is the journal's body of what is known of one account, besides what
// batches have done to it. Times are in UTC.
type Event struct {
	Directory source.Identity `json:"directory"`
	Ladder    string          `json:"ladder,omitempty"`
	Rung      string          `json:"rung,omitempty"`
	ID        string          `json:"id"` // in its readable form
	Account   string          `json:"account"`
	DN        string          `json:"dn,omitempty"`
	Until     time.Time       `json:"until,omitzero"` // of a hold
	Why       string          `json:"why,omitempty"`
	// Address is who was told, or has answered; Day the day that was told; Ref what
	// the mail or the workbook is found by again.
	Address string    `json:"address,omitempty"`
	Day     time.Time `json:"day,omitzero"`
	Ref     string    `json:"ref,omitempty"`
	Mail    string    `json:"mail,omitempty"` // what the whole mail is found by
	By      string    `json:"by,omitempty"`   // mail or workbook
	// Down are the batches that are to be taken back for one who woke.
	Down []int `json:"down,omitempty"`
}

// Step is a rung that an account has been taken to.
type Step struct {
	Rung string
	At   time.Time
	// Batch and Line took it there; 0 of one that was adopted.
	Batch, Line int
	// LastSignIn is the last sign-in that was known then; for one that was adopted,
	// the time of that.
	LastSignIn time.Time
	Place      string // the container that it was put into, "" where it was not moved
	From       string // its name before
	Off        bool   // it was switched off, or was so already
	Gone       bool   // it was deleted
	// OnlyOff tells that nothing else was done that could be taken back.
	OnlyOff bool
	// Since is what had put it on the ladder, zero where nobody knows.
	Since time.Time
}

// Told is that somebody was told what is to come.
type Told struct {
	Event    // with the rung and the address
	At       time.Time
	CameBack bool
}

// Hold is somebody's word that an account stays where it is.
type Hold struct {
	Until, At time.Time
	Why, By   string
	Ref       string // of what it answers
}

// Way is what the journal knows of an account on ladders.
type Way struct {
	ID, Account, DN string
	Ladder          string // that it is on, or was on last
	// Steps are the rungs that it stands on, the lowest first.
	Steps []Step
	// Since is when it came to stand where it stands.
	Since time.Time
	// Anew is when it left a ladder, or was brought back by hand, since when
	// everything counts anew. Zero where it never has.
	Anew time.Time
	// Woke is why it left the ladder, "" where it is on it. Down are the steps that
	// are still to be taken back, the last first; Stays says why others are not.
	Woke  string
	Down  []Step
	Stays []string
	// LeftOff tells that a step which has switched it off was taken back, and has left
	// it so.
	LeftOff bool
	// DownWaits is the open batch that is to take one of them back.
	DownWaits int
	// Seen is since when the checks of a ladder find it, by the ladder's name.
	Seen map[string]time.Time
	Told []Told
	// OnTheDay are the rungs, with their batches, that somebody was told of on the
	// day.
	OnTheDay map[int]bool
	Hold     *Hold    // the last one
	Objected []string // what the answers answered that have held it
	// Waits is the open batch that would take it further, WaitsOn the ladder that it
	// is of, and Halfway how far it came where it was begun.
	Waits   int
	WaitsOn string
	Halfway string
}

// Top is the step that it stands on, nil where it has not taken any.
func (w *Way) Top() *Step {
	if len(w.Steps) == 0 {
		return nil
	}
	return &w.Steps[len(w.Steps)-1]
}

// Rung is the name of the rung that it stands on, "" before the first.
func (w *Way) Rung() string {
	if top := w.Top(); top != nil {
		return top.Rung
	}
	return ""
}

// Gone tells whether the ladder has deleted it.
func (w *Way) Gone() bool { return w.Top() != nil && w.Top().Gone }

// Place is the container that the ladder has put it into last, "" where it has
// moved it nowhere.
func (w *Way) Place() string {
	for _, s := range slices.Backward(w.Steps) {
		if s.Place != "" {
			return s.Place
		}
	}
	return ""
}

// Off tells whether the ladder has switched it off: by a step that stands, or by one that
// was taken back without switching it on again.
func (w *Way) Off() bool {
	return w.LeftOff || slices.ContainsFunc(w.Steps, func(s Step) bool { return s.Off })
}

// Below is when it came to the rung below the one that it stands on, or left a ladder
// before that.
func (w *Way) Below() time.Time {
	if len(w.Steps) < 2 {
		return w.Anew
	}
	return w.Steps[len(w.Steps)-2].At
}

// OffSince is when the ladder has switched it off, zero where it has not.
func (w *Way) OffSince() time.Time {
	for _, s := range w.Steps {
		if s.Off {
			return s.At
		}
	}
	return time.Time{}
}

// LastSignIn is the last sign-in that was known when it stepped on the ladder.
func (w *Way) LastSignIn() time.Time {
	if len(w.Steps) == 0 {
		return time.Time{}
	}
	return w.Steps[0].LastSignIn
}

// HeldAt tells whether somebody's word holds it at a time.
func (w *Way) HeldAt(t time.Time) bool { return w.Hold != nil && w.Hold.Until.After(t) }

// Past is what the journal knows of all accounts on the ladders of a directory.
type Past struct {
	Directory source.Identity
	ways      map[string]*Way // by identity, in its readable form
	settled   map[int]*batch.Batch
	set       map[string]Definition
}

// Of is the way of an account; one that the journal does not know has none yet.
func (p *Past) Of(id string) *Way {
	if w := p.ways[id]; w != nil {
		return w
	}
	return &Way{ID: id}
}

// Ways are all that there are, by account.
func (p *Past) Ways() []*Way {
	all := make([]*Way, 0, len(p.ways))
	for _, w := range p.ways {
		all = append(all, w)
	}
	slices.SortFunc(all, func(a, b *Way) int { return cmp.Or(cmp.Compare(a.Account, b.Account), cmp.Compare(a.ID, b.ID)) })
	return all
}

// Known is what a ladder was like when it was last climbed, and whether it ever
// was.
func (p *Past) Known(ladder string) (Definition, bool) {
	d, ok := p.set[ladder]
	return d, ok
}

// happening is one thing that the journal knows of one account.
type happening struct {
	seq  int
	id   string
	then func(*Way)
}

// ReadAll reads the pasts of the ladders of all directories that the journal knows.
func ReadAll(ctx context.Context, s *store.Store) (all []*Past, err error) {
	records, err := s.Events(ctx, EventTold)
	if err != nil {
		return nil, err
	}
	for i := range records {
		var e Event
		if err := json.Unmarshal(records[i].Body, &e); err != nil {
			return nil, fmt.Errorf("journal record %d: %w", records[i].Seq, err)
		}
		if slices.ContainsFunc(all, func(p *Past) bool { return p.Directory.Same(e.Directory) }) {
			continue
		}
		p, err := Read(ctx, s, e.Directory)
		if err != nil {
			return nil, err
		}
		all = append(all, p)
	}
	return all, nil
}

// Again reads the same past once more, without what can have changed no more.
func (p *Past) Again(ctx context.Context, s *store.Store) (*Past, error) {
	return read(ctx, s, p.Directory, p.settled)
}

// Read reads the past of a directory's ladders from the journal.
func Read(ctx context.Context, s *store.Store, id source.Identity) (*Past, error) {
	return read(ctx, s, id, map[int]*batch.Batch{})
}

func read(ctx context.Context, s *store.Store, id source.Identity, settled map[int]*batch.Batch) (*Past, error) {
	d, err := directory.DialectNamed(id.Dialect)
	if err != nil {
		return nil, err
	}
	climbs, err := carry.ReadClimbs(ctx, s, id, settled)
	if err != nil {
		return nil, err
	}
	var all []happening
	for i := range climbs {
		all = append(all, climbed(d, &climbs[i])...)
	}
	p := &Past{Directory: id, settled: settled, ways: map[string]*Way{}, set: map[string]Definition{}}
	records, err := s.Events(ctx, append(events, EventSet)...)
	if err != nil {
		return nil, err
	}
	for i := range records {
		r := &records[i]
		if r.Event == EventSet {
			if err := p.defined(r); err != nil {
				return nil, err
			}
			continue
		}
		var e Event
		if err := json.Unmarshal(r.Body, &e); err != nil {
			return nil, fmt.Errorf("journal record %d: %w", r.Seq, err)
		}
		if e.Directory.Same(id) {
			all = append(all, happening{r.Seq, e.ID, func(w *Way) { w.note(r, &e) }})
		}
	}
	slices.SortStableFunc(all, func(a, b happening) int { return cmp.Compare(a.seq, b.seq) })
	for _, h := range all {
		w := p.ways[h.id]
		if w == nil {
			w = &Way{ID: h.id, OnTheDay: map[int]bool{}, Seen: map[string]time.Time{}}
			p.ways[h.id] = w
		}
		h.then(w)
	}
	return p, nil
}

// climbed are the things that happened by a line of a batch, and by those that
// take it back.
func climbed(d *directory.Dialect, c *carry.Climbed) (all []happening) {
	l, b := c.Line, c.Batch
	if !l.State.Settled() && b.State != batch.Discarded {
		all = append(all, happening{l.Settled, l.ID, func(w *Way) {
			w.named(l)
			if w.Waits, w.WaitsOn = b.ID, b.Ladder; c.Begun {
				w.Halfway = "begun, and stopped"
			}
		}})
	}
	if !l.State.Touched() || !l.State.Settled() && b.State != batch.Discarded {
		return all
	}
	all = append(all, happening{l.Settled, l.ID, func(w *Way) { w.step(b, l, d) }})
	for _, back := range c.Back {
		if back.Batch.State == batch.Discarded && !back.Line.State.Touched() {
			continue
		}
		switch s := back.Line.State; {
		case (s == batch.Applied || s == batch.InPart) && !back.Line.Partly:
			all = append(all, happening{back.Line.Settled, l.ID, func(w *Way) { w.down(b.ID, back) }})
		case !s.Settled():
			all = append(all, happening{math.MaxInt, l.ID, func(w *Way) { w.DownWaits = back.Batch.ID }})
		case s == batch.Drifted, s == batch.Refused:
			all = append(all, happening{back.Line.Settled, l.ID, func(w *Way) { w.stays(b.ID, back) }})
		}
	}
	return all
}

func (w *Way) named(l *batch.Line) { w.Account, w.DN = l.Account, l.DN }

// step takes it to a rung.
func (w *Way) step(b *batch.Batch, l *batch.Line, d *directory.Dialect) {
	w.named(l)
	s := Step{Rung: b.Rung, At: l.At, Batch: b.ID, Line: l.N, LastSignIn: l.LastSignIn, Since: l.Since, From: l.DN, Off: l.SwitchesOff() || slices.Contains(l.Passed, batch.Disable), Gone: l.Has(batch.Delete)}
	s.OnlyOff = true
	for _, a := range l.Actions {
		s.OnlyOff = s.OnlyOff && (a.Name == batch.Disable || a.Name == batch.Expire)
		if a.Name == batch.Move {
			s.Place, w.DN = a.To, a.RDN+","+a.To
		}
	}
	if w.Woke != "" || w.Ladder != b.Ladder {
		w.Steps, w.Down, w.Stays, w.LeftOff = nil, nil, nil, false
	}
	w.Ladder, w.Woke = b.Ladder, ""
	w.Steps, w.Since = append(w.Steps, s), l.At
}

// down takes a step back.
func (w *Way) down(n int, back carry.Descent) {
	is := func(s Step) bool { return s.Batch == n }
	leaves := func(s Step) bool { return is(s) && s.Off && !back.Line.Has(batch.Enable) }
	w.LeftOff = w.LeftOff || slices.ContainsFunc(w.Down, leaves) || slices.ContainsFunc(w.Steps, leaves)
	before := len(w.Down)
	if w.Down = slices.DeleteFunc(slices.Clone(w.Down), is); len(w.Down) != before {
		w.Anew = back.Line.At // they are back only now
		w.isDown(back.Line.At)
		return
	}
	at := slices.IndexFunc(w.Steps, is)
	if at < 0 {
		return
	}
	w.Steps, w.Since = slices.Delete(slices.Clone(w.Steps), at, at+1), back.Line.At
	if len(w.Steps) == 0 {
		w.Anew, w.Woke = back.Line.At, fmt.Sprintf("taken back by batch %d", back.Batch.ID)
	}
}

// isDown ends the bringing back of one who still stands on a rung: a step from there was
// given up.
func (w *Way) isDown(at time.Time) {
	if len(w.Down) == 0 && len(w.Steps) > 0 {
		w.Woke, w.Since = "", at
	}
}

// stays notes of a step that is not taken back why not.
func (w *Way) stays(n int, back carry.Descent) {
	at := slices.IndexFunc(w.Down, func(s Step) bool { return s.Batch == n })
	if at < 0 {
		return
	}
	// What was done before it can only be taken back after it.
	w.Down = nil
	w.Stays = append(w.Stays, fmt.Sprintf("batch %d: %s", back.Batch.ID, back.Line.Note))
}

// note takes in what the journal says besides batches.
func (w *Way) note(r *store.Sealed, e *Event) {
	w.Account = cmp.Or(e.Account, w.Account)
	w.DN = cmp.Or(e.DN, w.DN)
	switch r.Event {
	case EventWoke:
		w.Woke, w.Anew, w.Since = e.Why, r.At, r.At
		// What is left to take back of a step that was given up stays first.
		for _, s := range slices.Backward(w.Steps) {
			if slices.Contains(e.Down, s.Batch) {
				w.Down = append(w.Down, s)
			}
		}
		w.Steps = nil
	case EventGaveUp:
		w.Woke, w.Down = e.Why, nil
		given := func(s Step) bool { return slices.Contains(e.Down, s.Batch) }
		for _, s := range slices.Backward(w.Steps) {
			if given(s) {
				w.Down = append(w.Down, s)
			}
		}
		if w.Steps = slices.DeleteFunc(slices.Clone(w.Steps), given); len(w.Steps) == 0 {
			w.Anew = r.At
		}
		w.Since = r.At
	case EventAdopted:
		if w.Ladder != e.Ladder || w.Woke != "" {
			w.Steps = nil
		}
		w.Ladder, w.Woke, w.Down, w.Stays, w.Since = e.Ladder, "", nil, nil, r.At
		w.Steps = append(w.Steps, Step{Rung: e.Rung, At: r.At, LastSignIn: r.At, Place: parentOf(e.DN)})
	case EventNoDown:
		w.Down = slices.DeleteFunc(slices.Clone(w.Down), func(s Step) bool { return slices.Contains(e.Down, s.Batch) })
		if e.Why != "" {
			w.Stays = append(w.Stays, e.Why)
		}
		w.isDown(r.At)
	case EventHeld:
		w.Hold = &Hold{Until: e.Until, At: r.At, Why: e.Why, By: cmp.Or(e.Address, r.By), Ref: e.Ref}
		if e.Ref != "" {
			w.Objected = append(w.Objected, e.Ref)
		}
	case EventLetGo:
		if w.Hold != nil {
			w.Hold.Until = r.At
		}
	case EventTold:
		w.Told = append(w.Told, Told{Event: *e, At: r.At})
	case EventBounced:
		for i := range w.Told {
			if w.Told[i].Ref == e.Ref && w.Told[i].Address == e.Address {
				w.Told[i].CameBack = true
			}
		}
	case EventToldDay:
		w.OnTheDay[r.Batch] = true
	case EventSeen:
		w.Seen[e.Ladder] = r.At
	case EventUnseen:
		delete(w.Seen, e.Ladder)
	}
}

// Record makes the journal's record of an event.
func (e *Event) Record(event, by string, at time.Time) (*store.Record, error) {
	body, err := json.Marshal(e)
	return &store.Record{At: at, By: by, Event: event, Body: body}, err
}
