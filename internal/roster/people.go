package roster

import (
	"slices"
	"strconv"
	"strings"
	"time"

	"yardbroom/internal/names"
	"yardbroom/internal/parallel"
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
	// Shared tells that others have the key of these rows, the person id say.
	Shared bool
	// Former are the values of rows that ended before somebody went on under
	// another id.
	Former []Values
	// Conflict says what the roster contradicts itself in, "" where it does
	// not.
	Conflict string
}

// All are the present and former values of a field; none is blank.
func (p *Person) All(f Field) []string {
	var all []string
	if v := p.Values[f]; v != "" {
		all = append(all, v)
	}
	for i := range p.Former {
		if v := p.Former[i][f]; v != "" && !slices.Contains(all, v) {
			all = append(all, v)
		}
	}
	return all
}

// Since is somebody who went on in another row: what the new one leaves open
// the old one tells.
func (p *Person) Since(old *Person) Person {
	one := *p
	one.Rows = append(slices.Clone(old.Rows), p.Rows...)
	slices.Sort(one.Rows)
	one.Former = append(append(slices.Clone(p.Former), old.Values), old.Former...)
	for f, v := range old.Values {
		if f := Field(f); one.Values[f] == "" && f != Start && f != End && f != Status {
			one.Values[f] = v
		}
	}
	if !old.Start.IsZero() && old.Start.Before(one.Start) {
		one.Start = old.Start
	}
	return one
}

// Trust tells what counts where a row's status and an end date in the past
// disagree.
type Trust bool

// What may be trusted.
const (
	TrustStatus Trust = false
	TrustDates  Trust = true
)

// People merges the rows of each person and tells their states on a day,
// which is midnight in UTC of the day meant. Rows of one person are those with
// one person id, or without one with one mail address or logon name; rows that
// share a name only are different people, unless they are alike in everything.
// Trust tells what counts where a status and an end date disagree.
func (r *Roster) People(day time.Time, trust Trust) []Person {
	var each [][]*Row              // the rows of each person
	sharing := map[*Row][][]*Row{} // those of all who share a key, by the first row of each
	for _, rows := range r.alike() {
		if len(rows) == 1 {
			each = append(each, rows)
			continue
		}
		several := namedAlike(rows)
		if len(several) > 1 {
			for _, own := range several {
				sharing[own[0]] = several
			}
		}
		each = append(each, several...)
	}
	people := make([]Person, len(each))
	parallel.Each(len(each), func(_, i int) {
		people[i] = merge(each[i], day, trust)
		if several := sharing[each[i][0]]; several != nil {
			people[i].Conflict, people[i].Shared = sharedKey(each[i], several), true
		}
	})
	return people
}

// alike are the rows that share a key, those of each key in their order, and the keys in
// that of their first rows.
func (r *Roster) alike() [][]*Row {
	numbers := make(map[string]int32, len(r.Rows)) // of keys
	of, many := make([]int32, len(r.Rows)), make([]int32, 0, len(r.Rows))
	var key []byte
	for i := range r.Rows {
		key = r.Rows[i].appendKey(key[:0])
		n, known := numbers[string(key)]
		if !known {
			n = int32(len(many))
			numbers[string(key)] = n
			many = append(many, 0)
		}
		of[i] = n
		many[n]++
	}
	all := make([][]*Row, len(many))
	room := make([]*Row, len(r.Rows))
	for n, size := range many {
		all[n], room = room[:0:size], room[size:]
	}
	for i, n := range of {
		all[n] = append(all[n], &r.Rows[i])
	}
	return all
}

// appendKey appends what rows of one person share: with names only, everything.
func (r *Row) appendKey(b []byte) []byte {
	key := r.key()
	if key[0] == "names" {
		key = append(key, r.Values[:]...)
	}
	for _, part := range key {
		b = append(append(b, part...), 0)
	}
	return b
}

// namedAlike parts rows of one key into those of one person each: one number
// on two names that have nothing in common is two people's.
func namedAlike(rows []*Row) [][]*Row {
	var groups [][]*Row
	for _, row := range rows {
		at := slices.IndexFunc(groups, func(own []*Row) bool {
			return slices.ContainsFunc(own, func(other *Row) bool { return !row.Values.otherThan(&other.Values) })
		})
		if at < 0 {
			at = len(groups)
			groups = append(groups, nil)
		}
		groups[at] = append(groups[at], row)
	}
	return groups
}

// otherThan tells whether two rows name two people, as far as their names can
// be compared: those have nothing in common, or the given names have not and
// nothing else tells that it is one person. A marriage changes one name.
func (v *Values) otherThan(other *Values) bool {
	if v[Family] == other[Family] && v[Given] == other[Given] {
		return false
	}
	xFamily, xGiven := v.names()
	yFamily, yGiven := other.names()
	if names.Families(&xFamily, &yGiven).Agrees() && names.Givens(&xGiven, &yFamily).Agrees() {
		return false // in the other order
	}
	family, given := names.Families(&xFamily, &yFamily), names.Givens(&xGiven, &yGiven)
	return given.Differs() && !family.Agrees() || given == names.Unlike && !v.oneDesk(other)
}

// oneDesk tells whether two rows have one address, or one department and title.
func (v *Values) oneDesk(other *Values) bool {
	same := func(f Field) bool { return v[f] != "" && strings.EqualFold(v[f], other[f]) }
	return same(Mail) || same(Department) && same(Title)
}

func (v *Values) names() (family, given names.Word) {
	if v[Family] != "" || v[Given] != "" {
		return names.New(v[Family]), names.New(v[Given])
	}
	f, g, _ := names.Split(v[FullName])
	return names.New(f), names.New(g)
}

// sharedKey says who else has the key of a person's rows.
func sharedKey(own []*Row, groups [][]*Row) string {
	key := own[0].key()
	var rows []string
	for _, other := range groups {
		if other[0] != own[0] {
			rows = append(rows, strconv.Itoa(other[0].N))
		}
	}
	what := map[string]string{PersonID.String(): "person id", Mail.String(): "mail address", Logon.String(): "logon name"}[key[0]]
	return "the " + what + " " + key[1] + " is also that of somebody of another name, row " + strings.Join(rows, ", ")
}

// rank orders states by what counts for somebody with several posts.
var rank = map[State]int{Active: 3, Leave: 2, Future: 1, Left: 0}

func merge(rows []*Row, day time.Time, trust Trust) Person {
	p := Person{State: Left}
	var current *Row
	for _, row := range rows {
		p.Rows = append(p.Rows, row.N)
		state, conflict := row.state(day, trust)
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
func (r *Row) state(day time.Time, trust Trust) (State, string) {
	back := !r.End.IsZero() && r.Start.After(r.End) // left, and came back
	ended := !r.End.IsZero() && r.End.Before(day) && !back
	begun := r.Start.IsZero() || !r.Start.After(day)
	switch r.Status {
	case WordLeft:
		if !r.End.IsZero() && !ended && !back {
			return running(begun), "the status says left, the end date " + r.Values[End] + " is still to come"
		}
		return Left, ""
	case WordActive, WordLeave:
		if ended && trust == TrustStatus {
			return stateOf(
				r.Status,
				begun,
			), "the status says " + string(r.Status) + ", the end date " + r.Values[End] + " is past"
		}
	}
	if ended {
		return Left, ""
	}
	return stateOf(r.Status, begun), ""
}

func stateOf(w Word, begun bool) State {
	switch {
	case w == WordFuture || !begun:
		return Future
	case w == WordLeave:
		return Leave
	}
	return Active
}

// running is the state of a post that has not ended.
func running(begun bool) State { return stateOf("", begun) }
