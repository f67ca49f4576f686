package ladder

import (
	"cmp"
	"slices"
	"time"

	"yardbroom/internal/settings"
)

// Foreseen is a step that an account would take.
type Foreseen struct {
	Account, DN string
	From, To    string // rungs, "" for before the first
	Day         time.Time
	Comes       bool // it would come on the ladder, and take no step yet
}

// Count is how many would stand on each rung at the end of a day.
type Count struct {
	Day time.Time
	// Before the first rung, and on each rung of the ladder.
	Before int
	On     []int
	// Steps are those taken since the count before.
	Steps int
}

// Forecast is what would become of a ladder if nobody woke.
type Forecast struct {
	Rungs  []string
	Steps  []Foreseen
	Counts []Count
	// Stay are those of whom nobody can tell when they go on.
	Stay []*Standing
}

// Foresee tells who would take which step until a time. Coming are those who are
// not on the ladder yet, and would be by then: what Stand needs of them.
func Foresee(l *settings.Ladder, now []*Standing, coming []*Facts, ways *Past, at, until time.Time, step func(time.Time) time.Time) *Forecast {
	f := &Forecast{}
	for i := range l.Rungs {
		f.Rungs = append(f.Rungs, l.Rungs[i].Name)
	}
	first := Count{Day: at, On: make([]int, len(l.Rungs))}
	for _, s := range now {
		switch s.State {
		case Gone, Woken, Left, Strange:
			continue
		}
		rung := -1
		if s.Rung != "" {
			rung, _ = l.Rung(s.Rung)
		}
		first.move(-2, rung)
		switch {
		case s.Next != nil && s.Day.IsZero():
			f.Stay = append(f.Stay, s)
		case s.Next != nil:
			f.climb(l, s.Facts, rung, later(s.Day, at), until)
		}
	}
	for _, facts := range coming {
		w := ways.Of(facts.ID)
		_, span := l.Starts.By()
		came := later(span.After(started(l, w, facts, at)), at)
		if came.After(until) {
			continue
		}
		f.Steps = append(f.Steps, Foreseen{Account: facts.Account, DN: facts.DN, Day: came, Comes: true})
		f.climb(l, facts, -1, due(&l.Rungs[0], came), until)
	}
	slices.SortStableFunc(f.Steps, func(a, b Foreseen) int {
		return cmp.Or(a.Day.Compare(b.Day), cmp.Compare(a.Account, b.Account), cmp.Compare(b2i(b.Comes), b2i(a.Comes)))
	})
	f.count(l, first, at, until, step)
	return f
}

func b2i(b bool) int {
	if b {
		return 1
	}
	return 0
}

// due is when a rung can be climbed by whoever comes to the one before.
func due(r *settings.Rung, came time.Time) time.Time {
	day := r.After.After(came)
	if r.Tell != nil {
		n := r.Tell.WithDefaults()
		day = later(day, n.Before.After(came))
	}
	return day
}

// climb lets one go up from a rung, the next step on a day.
func (f *Forecast) climb(l *settings.Ladder, facts *Facts, rung int, day, until time.Time) {
	from := ""
	if rung >= 0 {
		from = l.Rungs[rung].Name
	}
	for rung++; rung < len(l.Rungs) && !day.After(until); rung++ {
		to := l.Rungs[rung].Name
		f.Steps = append(f.Steps, Foreseen{Account: facts.Account, DN: facts.DN, From: from, To: to, Day: day})
		if from = to; rung+1 < len(l.Rungs) {
			day = due(&l.Rungs[rung+1], day)
		}
	}
}

// count counts who stands where at the end of each step of time.
func (f *Forecast) count(l *settings.Ladder, now Count, at, until time.Time, step func(time.Time) time.Time) {
	f.Counts = append(f.Counts, now)
	i := 0
	for day := step(at); ; day = step(day) {
		if day.After(until) {
			day = until
		}
		next := Count{Day: day, Before: now.Before, On: slices.Clone(now.On)}
		for ; i < len(f.Steps) && !f.Steps[i].Day.After(day); i++ {
			s := &f.Steps[i]
			if s.Comes {
				next.move(-2, -1)
				continue
			}
			from, _ := l.Rung(s.From)
			if s.From == "" {
				from = -1
			}
			to, _ := l.Rung(s.To)
			next.move(from, to)
			next.Steps++
		}
		f.Counts, now = append(f.Counts, next), next
		if !day.Before(until) {
			return
		}
	}
}

// move counts one from a rung to another; -1 is before the first, -2 elsewhere.
func (c *Count) move(from, to int) {
	for rung, by := range map[int]int{from: -1, to: 1} {
		switch {
		case rung == -1:
			c.Before += by
		case rung >= 0 && rung < len(c.On):
			c.On[rung] += by
		}
	}
}
