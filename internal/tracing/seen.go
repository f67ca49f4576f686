package tracing

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"yardbroom/internal/directory"
	"yardbroom/internal/logs"
)

// Watch is what logs say of all accounts of a directory, in short: what checks need.
type Watch struct {
	From, To  time.Time               // between which the logs are
	Accounts  map[directory.Key]*Seen // by the key of their name
	Strangers []*Seen                 // names that no account has
	Origins   []*Origin
}

// Of is what is known of an account; of one that no log names, nothing.
func (w *Watch) Of(a *directory.Account) *Seen {
	if s := w.Accounts[a.Key]; s != nil {
		return s
	}
	return &Seen{}
}

// Watch makes the short of all that was gathered, and hands the traces of accounts over.
// The accounts are those of the book, by their numbers.
func (c *Collector) Watch(accounts []*directory.Account, also func(*directory.Account, *Trace)) *Watch {
	w := &Watch{From: c.First, To: c.Last, Accounts: map[directory.Key]*Seen{}}
	for _, o := range c.Origins() {
		w.Origins = append(w.Origins, o)
	}
	slices.SortFunc(w.Origins, func(a, b *Origin) int {
		return cmp.Or(cmp.Compare(b.Accounts+b.Strangers, a.Accounts+a.Strangers), strings.Compare(a.Name, b.Name))
	})
	c.Each(func(t *Trace) {
		if t.Number < 0 {
			w.Strangers = append(w.Strangers, t.Seen())
		} else {
			a := accounts[t.Number]
			w.Accounts[a.Key] = t.Seen()
			also(a, t)
		}
	})
	return w
}

// Seen is what logs say of one account, in short.
type Seen struct {
	Name        string // of a stranger
	Refused     int
	First, Last time.Time // of the refused
	Source      string    // that was refused most
	// Guessed is true where many refusals from one source ended in a sign-in.
	Guessed *Entry
	// Barred are those refused because of the account's state.
	Barred Refusals
	// Locks are when it was locked out, those that follow each other at once being
	// one, the last mostLocks.
	Locks []time.Time
	// Uses are where somebody signed in at a machine, or its remote desktop.
	Uses []Use
	// In is the last sign-in.
	In Use
}

const (
	mostLocks = 50
	mostUses  = 20
	// oneLock is how far apart servers write the same lock down, and how soon a lock
	// is not one that has come back.
	oneLock = 2 * time.Minute
)

// Entry is a sign-in after many refusals.
type Entry struct {
	Source   string
	Failures int // from there, within an hour before
	At       time.Time
}

// Refusals are those because of an account's state.
type Refusals struct {
	Count       int
	Why         logs.Why // of the last
	First, Last time.Time
	Source      string // of the last
}

// Use is that somebody signed in, from a machine, in some way.
type Use struct {
	Machine string // or address
	Via     string
	Type    logs.LogonType
	First   time.Time
	Last    time.Time
	Count   int
}

// Seen makes the short of a trace.
func (t *Trace) Seen() *Seen {
	s := &Seen{Name: t.Stranger, Refused: t.Refused, First: t.FirstRefused(), Last: t.LastRefused()}
	if len(t.Sources) > 0 && t.Sources[0].Refused > 0 {
		s.Source = t.Sources[0].Name()
	}
	recent := map[string][]time.Time{} // refusals within an hour, by source
	for i := range t.Attempts {
		a := &t.Attempts[i]
		switch a.What {
		case logs.Refused:
			s.refused(a)
			name := a.Source.Name()
			recent[name] = append(slices.DeleteFunc(recent[name], func(at time.Time) bool { return a.At.Sub(at) > time.Hour }), a.At)
		case logs.SignedIn:
			s.signedIn(a, recent)
		case logs.Locked:
			if n := len(s.Locks); n == 0 || a.At.Sub(s.Locks[n-1]) > oneLock {
				s.Locks = append(s.Locks, a.At)
			}
		default:
		}
	}
	s.Locks = s.Locks[max(0, len(s.Locks)-mostLocks):]
	return s
}

func (s *Seen) refused(a *Attempt) {
	switch a.Why {
	case logs.AccountDisabled, logs.AccountExpired, logs.Revoked:
		if s.Barred.Count == 0 {
			s.Barred.First = a.At
		}
		s.Barred.Count++
		s.Barred.Why, s.Barred.Last, s.Barred.Source = a.Why, a.At, a.Source.Name()
	default:
	}
}

func (s *Seen) signedIn(a *Attempt, recent map[string][]time.Time) {
	name := a.Source.Name()
	s.In = Use{Machine: name, Via: a.Via, Type: a.Type, First: a.At, Last: a.At, Count: 1}
	if name != "" {
		failures := 0
		for _, at := range recent[name] {
			if a.At.Sub(at) <= time.Hour {
				failures++
			}
		}
		if failures > 0 && (s.Guessed == nil || failures > s.Guessed.Failures) {
			s.Guessed = &Entry{Source: name, Failures: failures, At: a.At}
		}
		delete(recent, name)
	}
	if !a.Type.IsPerson() {
		return
	}
	i := slices.IndexFunc(s.Uses, func(u Use) bool { return u.Machine == name && u.Type == a.Type })
	if i < 0 {
		if len(s.Uses) < mostUses {
			s.Uses = append(s.Uses, s.In)
		}
		return
	}
	s.Uses[i].Last = a.At
	s.Uses[i].Count++
}
