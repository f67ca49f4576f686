// Package schedule tells when a job's time comes: at times of day on days of the
// week, or by a five-field cron expression, in a time zone. A time of day that
// the clock skips in spring comes once, an hour off; one that it shows twice in
// autumn comes once.
package schedule

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/robfig/cron/v3"
)

// Schedule is the times of a job. The zero value never comes.
type Schedule struct {
	zone  *time.Location
	rules []rule
}

// rule is one cron expression.
type rule struct {
	cron.Schedule
	// hourly says that it goes through all hours, so that it is the hours that
	// pass which count and not those that the clock shows.
	hourly bool
	text   string // its five fields
}

var fields = cron.NewParser(cron.Minute | cron.Hour | cron.Dom | cron.Month | cron.Dow)

// Cron reads a five-field cron expression, whose times are those of a zone.
func Cron(expression string, zone *time.Location) (Schedule, error) {
	parts := strings.Fields(expression)
	if len(parts) != 5 {
		return Schedule{}, fmt.Errorf("%q is not a cron expression of five fields: minute, hour, day of the month, "+
			"month, day of the week", expression)
	}
	parsed, err := fields.Parse(strings.Join(parts, " "))
	if err != nil {
		return Schedule{}, fmt.Errorf("%q is not a cron expression: %w", expression, err)
	}
	s := Schedule{zone: zone, rules: []rule{{parsed, strings.HasPrefix(parts[1], "*"), strings.Join(parts, " ")}}}
	if parsed.Next(time.Date(2027, 1, 1, 0, 0, 0, 0, time.UTC)).IsZero() {
		return Schedule{}, fmt.Errorf("%q never comes", expression)
	}
	return s, nil
}

// Daily reads times of day (06:00) and days of the week (mon, or mon-fri); no
// days are all of them.
func Daily(times, days []string, zone *time.Location) (Schedule, error) {
	s := Schedule{zone: zone}
	if len(times) == 0 {
		return s, errors.New("name a time of day, such as 06:00")
	}
	week := "*"
	if len(days) > 0 {
		for _, day := range days {
			if !isDays(day) {
				return s, fmt.Errorf("%q is not a day: write mon, tue, wed, thu, fri, sat, sun, or mon-fri", day)
			}
		}
		week = strings.ToLower(strings.Join(days, ","))
	}
	for _, text := range times {
		at, err := time.Parse("15:04", text)
		if err != nil {
			return s, fmt.Errorf("%q is not a time of day: write 06:00", text)
		}
		one, err := Cron(fmt.Sprintf("%d %d * * %s", at.Minute(), at.Hour(), week), zone)
		if err != nil {
			return s, fmt.Errorf("days: %s: %w", strings.Join(days, ", "), err)
		}
		s.rules = append(s.rules, one.rules...)
	}
	return s, nil
}

var weekdays = []string{"mon", "tue", "wed", "thu", "fri", "sat", "sun"}

// isDays tells whether a text is a day of the week, or two with a hyphen between
// them, the earlier one first.
func isDays(text string) bool {
	first, last, several := strings.Cut(strings.ToLower(text), "-")
	from, to := slices.Index(weekdays, first), slices.Index(weekdays, last)
	return from >= 0 && (!several || to > from)
}

// Next is the first time after a moment, zero where there is none.
func (s Schedule) Next(after time.Time) time.Time {
	var first time.Time
	for _, r := range s.rules {
		if t := r.next(after, s.zone); !t.IsZero() && (first.IsZero() || t.Before(first)) {
			first = t
		}
	}
	return first
}

func (r *rule) next(after time.Time, zone *time.Location) time.Time {
	after = after.In(zone)
	if r.hourly {
		return r.Schedule.Next(after)
	}
	// The rule goes by what the clock on the wall shows, so that its times are
	// there whether the clock skips them or shows them twice.
	shown := onWall(after, time.UTC)
	for {
		if shown = r.Schedule.Next(shown); shown.IsZero() {
			return shown
		}
		if t := firstOnWall(shown, zone); t.After(after) {
			return t
		}
	}
}

// onWall is the moment at which clocks of a zone show what a time shows.
func onWall(t time.Time, zone *time.Location) time.Time {
	return time.Date(t.Year(), t.Month(), t.Day(), t.Hour(), t.Minute(), t.Second(), t.Nanosecond(), zone)
}

// firstOnWall is the earlier one of two such moments in autumn.
func firstOnWall(shown time.Time, zone *time.Location) time.Time {
	t := onWall(shown, zone)
	for _, back := range []time.Duration{time.Hour, 30 * time.Minute} {
		if earlier := t.Add(-back); onWall(earlier, time.UTC).Equal(shown) {
			return earlier
		}
	}
	return t
}

// spans are how far back Last looks, one after the other.
var spans = []time.Duration{2 * time.Hour, 26 * time.Hour, 8 * 24 * time.Hour, 63 * 24 * time.Hour, 9 * 366 * 24 * time.Hour}

// Last is the last time at or before a moment, zero where there is none within
// nine years.
func (s Schedule) Last(at time.Time) time.Time {
	for _, span := range spans {
		var last time.Time
		for t := s.Next(at.Add(-span)); !t.IsZero() && !t.After(at); t = s.Next(t) {
			last = t
		}
		if !last.IsZero() {
			return last
		}
	}
	return time.Time{}
}

// Usual is how long it usually is from one time to the next, as seen from a
// moment: the longest wait among the next eight.
func (s Schedule) Usual(from time.Time) time.Duration {
	var longest time.Duration
	t := s.Next(from)
	for range 8 {
		next := s.Next(t)
		if t.IsZero() || next.IsZero() {
			break
		}
		longest = max(longest, next.Sub(t))
		t = next
	}
	return longest
}
