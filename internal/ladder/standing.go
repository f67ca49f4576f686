package ladder

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"yardbroom/internal/audit"
	"yardbroom/internal/directory"
	"yardbroom/internal/settings"
)

// Facts are what the directory, the roster and the settings say of one account at
// a moment.
type Facts struct {
	ID, DN, Account, Kind string
	// Start is the finding of what puts accounts on the ladder, nil where that is not
	// true of it. Untold says why nobody can tell, where that is so.
	Start  *audit.Finding
	Untold string
	// LastSignIn is the latest that is known anywhere.
	LastSignIn time.Time
	// Enabled tells that it can sign in, for sure; Over that what put it on the
	// ladder is over, for sure, and how that is known.
	Enabled bool
	Over    string
	// Exempt, OnLeave and Suspended say why it is left alone, "" where it is not.
	Exempt, OnLeave, Suspended string
	SuspendedUntil             time.Time
	// Recipients are those whom the next rung wants to tell and who have an address.
	// Asked tells that they were looked for, which is done when it is time.
	Recipients []Recipient
	Asked      bool
}

// Recipient is somebody who is told what is to come.
type Recipient struct {
	Who     string // person, manager, owner, or "" for an address of the settings
	Name    string
	Address string
	Tongue  string // language tag, "" where nobody knows
}

// State is where an account stands, in one word.
type State string

// The states of an account on a ladder.
const (
	Climbing State = "on the ladder"
	Due      State = "due"
	Held     State = "held"
	Waiting  State = "in a batch"
	AtTop    State = "at the top"
	Woken    State = "leaving"
	Left     State = "left as it is" // it woke, and could not be brought back
	Gone     State = "deleted"
	Unknown  State = "not known"
	Strange  State = "not put there by the ladder"
)

// Reason is something that holds an account where it is.
type Reason struct {
	Why   string
	Until time.Time // zero where nobody can tell
}

// Standing is where an account stands on a ladder, and what comes next.
type Standing struct {
	*Facts
	Way    *Way
	Ladder string
	State  State
	Rung   string // it stands on; "" before the first
	Since  time.Time
	// Next is the rung that comes next, nil at the top. Due is when its time has
	// come; Day when it can be climbed, which telling people and what holds it put
	// off: zero where nobody can tell.
	Next *settings.Rung
	Due  time.Time
	Day  time.Time
	// Tell are those who are to be told now, Told those who were.
	Tell []Recipient
	// ToTell tells that it is time to, whether anybody has an address or not, and
	// nobody was told by other means.
	ToTell bool
	Told   []Told
	Holds  []Reason
	// At is the moment for which this was judged.
	At time.Time
	// Awake says why it leaves the ladder, "" where it does not.
	Awake string
}

// Ready tells whether it can be taken to the next rung.
func (s *Standing) Ready() bool { return s.State == Due }

// Against says what speaks against taking it to a rung now, though a batch that does so
// was staged before; "" where nothing does.
func (s *Standing) Against(rung string) string {
	switch {
	case s.Awake != "":
		return s.Awake
	case s.Next == nil || s.Next.Name != rung:
		return "the rung that comes next is another one"
	case len(s.Holds) > 0:
		return s.Holds[0].Why
	case s.Facts.Start == nil:
		return "what puts accounts on this ladder is not true of it now"
	case s.Day.IsZero() || s.Day.After(s.At):
		return "its time has not come, by the settings as they are now"
	}
	return ""
}

// Stand judges where an account stands. It is nil for one that is not on the
// ladder.
func Stand(l *settings.Ladder, w *Way, f *Facts, now time.Time) *Standing {
	s := &Standing{Facts: f, Way: w, Ladder: l.Name, Rung: w.Rung(), Since: w.Since, At: now}
	switch {
	case w.Gone():
		s.State = Gone
		return s
	case w.Ladder == l.Name && len(w.Down) > 0:
		s.Awake, s.State = w.Woke, Woken
		if len(w.Steps) > 0 { // only its last step was given up
			s.Awake = cmp.Or(awake(l, w, f), w.Woke)
		}
		return s
	}
	if len(w.Steps) == 0 {
		_, span := l.Starts.By()
		if f.Start == nil || f.Exempt != "" {
			return nil
		}
		if s.Since = span.After(started(l, w, f, now)); s.Since.After(now) {
			return nil
		}
	} else if s.Awake = awake(l, w, f); s.Awake != "" {
		s.State = Woken
		return s
	}
	if s.next(l, w); s.Next == nil {
		return s
	}
	s.schedule(w, now)
	return s
}

// Behind is where an account stands that has left a ladder and could not be brought back,
// and why not.
func Behind(l *settings.Ladder, w *Way, f *Facts, now time.Time) *Standing {
	s := &Standing{Facts: f, Way: w, Ladder: l.Name, Since: w.Since, At: now, Awake: w.Woke, State: Left}
	for _, why := range w.Stays {
		s.Holds = append(s.Holds, Reason{Why: why})
	}
	return s
}

// started is when what puts accounts on the ladder began for one, or when it last
// left a ladder, whichever is later.
func started(l *settings.Ladder, w *Way, f *Facts, now time.Time) time.Time {
	since := f.Start.Since
	if l.Starts.Found != nil {
		if since = w.Seen[l.Name]; since.IsZero() {
			since = now
		}
	}
	return later(since, w.Anew)
}

// awake says why somebody who stands on a rung leaves the ladder, "" where they do
// not. Only what is known for sure wakes anybody.
func awake(l *settings.Ladder, w *Way, f *Facts) string {
	by, _ := l.Starts.By()
	switch {
	case f.Exempt != "":
		return f.Exempt
	case w.Off() && f.Enabled:
		return "it was enabled by somebody"
	case by != settings.StartLeft && f.LastSignIn.After(w.LastSignIn()):
		return "it signed in on " + f.LastSignIn.UTC().Format(time.DateOnly)
	}
	return f.Over
}

// next finds the rung that comes after the one it stands on.
func (s *Standing) next(l *settings.Ladder, w *Way) {
	at := 0
	if s.Rung != "" {
		i, known := l.Rung(s.Rung)
		if !known {
			s.State = Held
			s.Holds = append(s.Holds, Reason{Why: fmt.Sprintf("the ladder has no rung %s any more; \"yardbroom ladder adopt\" puts it on another", s.Rung)})
			return
		}
		at = i + 1
	}
	if at == len(l.Rungs) {
		s.State = AtTop
		return
	}
	s.Next = &l.Rungs[at]
}

// schedule finds out on which day the next rung can be climbed, and what holds it
// until then.
func (s *Standing) schedule(w *Way, now time.Time) {
	f := s.Facts
	s.Due = s.Next.After.After(s.Since)
	s.Day = s.Due
	hold := func(why string, until time.Time) {
		s.Holds = append(s.Holds, Reason{why, until})
		if until.After(s.Day) && !s.Day.IsZero() {
			s.Day = until
		}
		if until.IsZero() {
			s.Day = time.Time{}
		}
	}
	if w.HeldAt(now) {
		hold(fmt.Sprintf("%s (%s)", w.Hold.Why, w.Hold.By), w.Hold.Until)
	}
	if f.Suspended != "" {
		hold(f.Suspended, f.SuspendedUntil)
	}
	if f.OnLeave != "" {
		hold(f.OnLeave, time.Time{})
	}
	switch place := w.Place(); {
	case place != "" && w.Halfway == "" && directory.FoldDN(parentOf(f.DN)) != directory.FoldDN(place):
		hold(fmt.Sprintf("somebody has moved it to %s; \"yardbroom ladder adopt\" takes it on where it is", parentOf(f.DN)), time.Time{})
	case f.Start == nil && f.Untold != "":
		hold("whether that is still so cannot be told: "+f.Untold, time.Time{})
	case f.Start == nil:
		hold("what puts accounts on this ladder is not true of it now", time.Time{})
	case f.Start.Unconfirmed:
		hold("its owner is likely, not sure; \"yardbroom link confirm\" confirms it", time.Time{})
	case f.Start.Confidence == audit.Likely && !s.Next.IncludeLikely:
		hold("it is likely, not sure (include_likely of the rung takes it in)", time.Time{})
	}
	s.told(w, now)
	switch {
	case w.Waits != 0:
		s.State = Waiting
	case len(s.Holds) > 0:
		s.State = Held
	case !s.Day.IsZero() && !s.Day.After(now):
		s.State = Due
	default:
		s.State = Climbing
	}
}

// told puts the day off until everybody who is to be told has been, long enough
// before.
func (s *Standing) told(w *Way, now time.Time) {
	if s.Next.Tell == nil {
		return
	}
	n := s.Next.Tell.WithDefaults()
	from := s.tellFrom(w, &n)
	if !s.Asked {
		if !s.Day.IsZero() {
			s.Day = later(s.Day, n.Before.After(later(now, from)))
		}
		return
	}
	open := s.open(w, s.Recipients, from)
	if s.byOtherMeans(w, from) {
		open = nil
	}
	if len(open) == 0 && !s.heard() && n.Otherwise != "" {
		open = s.open(w, []Recipient{{Address: n.Otherwise}}, from)
	}
	var day time.Time // that was told
	for _, t := range s.Told {
		day = later(day, later(t.Day, n.Before.After(t.At)))
	}
	timely := !now.Before(from) && w.Waits == 0 && !slices.ContainsFunc(s.Holds, func(r Reason) bool {
		return r.Until.IsZero() || n.Before.Before(r.Until).After(now)
	})
	s.ToTell = timely && (len(open) > 0 || !s.heard())
	switch {
	case len(open) > 0:
		if timely {
			s.Tell = open
		}
		day = later(day, n.Before.After(later(now, from)))
	case !s.heard():
		why := "nobody can be told: " + strings.Join(n.Who, " and ") + " without an address"
		if len(s.Told) > 0 {
			why = "nobody could be told: the mail came back"
		}
		s.Holds, s.Day = append(s.Holds, Reason{Why: why}), time.Time{}
	}
	if !s.Day.IsZero() {
		s.Day = later(s.Day, day)
	}
}

// tellFrom is when it is time to tell somebody. What was said before, ahead of
// another day or before somebody objected, does not count.
func (s *Standing) tellFrom(w *Way, n *settings.Notice) time.Time {
	due := s.Due
	if w.Hold != nil {
		due = later(due, w.Hold.Until)
	}
	from := later(n.Before.Before(due), s.Since)
	if w.Hold != nil {
		from = later(from, w.Hold.At)
	}
	return from
}

// open are those who were not told since a time; those who were are noted.
func (s *Standing) open(w *Way, all []Recipient, from time.Time) (open []Recipient) {
	for _, r := range all {
		at := slices.IndexFunc(w.Told, func(t Told) bool {
			return strings.EqualFold(t.Address, r.Address) && t.Rung == s.Next.Name && !t.At.Before(from)
		})
		if at < 0 {
			open = append(open, r)
			continue
		}
		s.Told = append(s.Told, w.Told[at])
	}
	return open
}

// byOtherMeans tells whether somebody was given a workbook to answer in, and notes
// that.
func (s *Standing) byOtherMeans(w *Way, from time.Time) bool {
	at := slices.IndexFunc(w.Told, func(t Told) bool { return t.By == "workbook" && t.Rung == s.Next.Name && !t.At.Before(from) })
	if at >= 0 {
		s.Told = append(s.Told, w.Told[at])
	}
	return at >= 0
}

// heard tells whether anybody was told whose mail did not come back.
func (s *Standing) heard() bool {
	return slices.ContainsFunc(s.Told, func(t Told) bool { return !t.CameBack })
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

func parentOf(dn string) string {
	_, parent := directory.SplitDN(dn)
	return parent
}
