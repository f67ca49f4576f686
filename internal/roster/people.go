package roster

import (
	"slices"
	"strings"
	"time"
)

// State is what somebody is to their employer on a day.
type State string

// The states.
const (
	Active State = "active"
	Leave  State = "leave"
	Left   State = "left"
	Future State = "future"
)

// Person is all that a roster says of one person.
type Person struct {
	Rows   []int // numbers, in the order of the source
	Values Values
	State  State
	Start  time.Time // the first day of the current or next post
	LeftOn time.Time // the last day of somebody who left; zero where no row says it
	// Conflict says what the roster contradicts itself in, "" where it does
	// not.
	Conflict string
}

// People merges the rows of each person and tells their states on a day,
// which is midnight in UTC of the day meant. Rows of one person are those with
// one person id, or without one with one mail address or logon name; rows that
// share a name only are different people, unless they are alike in everything.
// trustDates lets an end date in the past count against a status that says
// otherwise.
func (r *Roster) People(day time.Time, trustDates bool) []Person {
	byKey := map[string]int{}
	var groups [][]*Row
	for i := range r.Rows {
		row := &r.Rows[i]
		key := row.key()
		if key[0] == "names" {
			key = append(key, row.Values[:]...)
		}
		k := strings.Join(key, "\x00")
		at, known := byKey[k]
		if !known {
			at = len(groups)
			byKey[k] = at
			groups = append(groups, nil)
		}
		groups[at] = append(groups[at], row)
	}
	people := make([]Person, len(groups))
	for i, rows := range groups {
		people[i] = merge(rows, day, trustDates)
	}
	return people
}

// rank orders states by what counts for somebody with several posts.
var rank = map[State]int{Active: 3, Leave: 2, Future: 1, Left: 0}

func merge(rows []*Row, day time.Time, trustDates bool) Person {
	p := Person{State: Left}
	var current *Row
	for _, row := range rows {
		p.Rows = append(p.Rows, row.N)
		state, conflict := row.state(day, trustDates)
		if p.Conflict == "" {
			p.Conflict = conflict
		}
		if current == nil || rank[state] > rank[p.State] || state == p.State && row.Start.After(current.Start) {
			current, p.State = row, state
		}
		if state == Left && row.End.After(p.LeftOn) {
			p.LeftOn = row.End
		}
	}
	p.Start = current.Start
	if p.State != Left {
		p.LeftOn = time.Time{}
	}
	// What the current post leaves open the others tell.
	for _, row := range append([]*Row{current}, rows...) {
		for f, v := range row.Values {
			if f := Field(f); p.Values[f] == "" && f != Start && f != End && f != Status {
				p.Values[f] = v
			}
		}
	}
	slices.Sort(p.Rows)
	return p
}

// state tells what one row says of a day, and what it contradicts itself in.
func (r *Row) state(day time.Time, trustDates bool) (State, string) {
	back := !r.End.IsZero() && r.Start.After(r.End) // left, and came back
	ended := !r.End.IsZero() && r.End.Before(day) && !back
	begun := r.Start.IsZero() || !r.Start.After(day)
	switch r.Status {
	case SaysLeft:
		if !r.End.IsZero() && !ended && !back {
			return running(begun), "the status says left, the end date " + r.Values[End] + " is still to come"
		}
		return Left, ""
	case SaysActive, SaysLeave:
		if ended && !trustDates {
			return stateOf(r.Status, begun), "the status says " + string(r.Status) + ", the end date " + r.Values[End] + " is past"
		}
	}
	if ended {
		return Left, ""
	}
	return stateOf(r.Status, begun), ""
}

func stateOf(w Word, begun bool) State {
	switch {
	case w == SaysFuture || !begun:
		return Future
	case w == SaysLeave:
		return Leave
	}
	return Active
}

// running is the state of a post that has not ended.
func running(begun bool) State { return stateOf("", begun) }
