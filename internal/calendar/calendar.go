// Package calendar reads the times and spans of time that people write on
// the command line, in settings and in filters.
package calendar

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"yardbroom/internal/pattern"
)

// Span is a length of time in whole calendar units, such as 90d, 12w or 6mo.
type Span struct {
	Months, Days int
}

// Days makes a Span of n days.
func Days(n int) Span { return Span{Days: n} }

var spanForm = pattern.Lazy(`^([0-9]{1,5})(d|w|mo|y)$`)

// ParseSpan reads a number and a unit: d, w, mo or y.
func ParseSpan(text string) (Span, error) {
	m := spanForm().FindStringSubmatch(text)
	if m == nil {
		return Span{}, fmt.Errorf("%q is not a span of time: write 90d, 12w, 6mo or 1y", text)
	}
	n, err := strconv.Atoi(m[1])
	switch m[2] {
	case "w":
		return Span{Days: 7 * n}, err
	case "mo":
		return Span{Months: n}, err
	case "y":
		return Span{Months: 12 * n}, err
	}
	return Span{Days: n}, err
}

// UnmarshalText reads a Span as ParseSpan does.
func (s *Span) UnmarshalText(text []byte) (err error) {
	*s, err = ParseSpan(string(text))
	return err
}

// Before returns the moment that lies the span before t.
func (s Span) Before(t time.Time) time.Time { return t.AddDate(0, -s.Months, -s.Days) }

// After returns the moment that lies the span after t.
func (s Span) After(t time.Time) time.Time { return t.AddDate(0, s.Months, s.Days) }

func (s Span) String() string {
	if s.Months != 0 {
		return strconv.Itoa(s.Months) + "mo"
	}
	return strconv.Itoa(s.Days) + "d"
}

// Past is a time gone by: so long ago, or the beginning of a day.
type Past struct {
	span Span
	day  string // as a date is written, "" for a span
}

// ParsePast reads a span such as 90d, or a date.
func ParsePast(text string) (Past, error) {
	if span, err := ParseSpan(text); err == nil {
		return Past{span: span}, nil
	}
	if _, err := time.Parse(time.DateOnly, text); err != nil {
		return Past{}, fmt.Errorf("%q is neither a span of time (90d, 12w, 6mo, 1y) nor a date (2026-02-15)", text)
	}
	return Past{day: text}, nil
}

// UnmarshalText reads a span or a date, as ParsePast does.
func (p *Past) UnmarshalText(text []byte) (err error) {
	*p, err = ParsePast(string(text))
	return err
}

// At returns the time, seen from now; a day begins in now's zone.
func (p Past) At(now time.Time) time.Time {
	if p.day == "" {
		return p.span.Before(now)
	}
	day, err := time.ParseInLocation(time.DateOnly, p.day, now.Location())
	if err != nil {
		panic(err) // it was read as one
	}
	return day
}

// String writes it as it is read.
func (p Past) String() string {
	if p.day == "" {
		return p.span.String()
	}
	return p.day
}

// ParseDay reads a word for a day gone by: today, yesterday, or a day of the week, which
// means the last one before today. It returns the beginning of that day.
func ParseDay(word string, now time.Time) (time.Time, error) {
	today := time.Date(now.Year(), now.Month(), now.Day(), 0, 0, 0, 0, now.Location())
	switch word = strings.ToLower(word); word {
	case "today":
		return today, nil
	case "yesterday":
		return today.AddDate(0, 0, -1), nil
	}
	for d := time.Sunday; d <= time.Saturday; d++ {
		if name := strings.ToLower(d.String()); word == name || word == name[:3] {
			return today.AddDate(0, 0, -(int(today.Weekday()-d+6)%7 + 1)), nil
		}
	}
	return time.Time{}, fmt.Errorf("%q is no day: write today, yesterday, or monday to sunday", word)
}

// DaysBetween counts the days from a time to another as people count them, by the dates
// of a zone: from late in the evening to the next morning it is one.
func DaysBetween(from, to time.Time, loc *time.Location) int {
	date := func(t time.Time) time.Time {
		y, m, d := t.In(loc).Date()
		return time.Date(y, m, d, 0, 0, 0, 0, time.UTC)
	}
	return int(date(to).Sub(date(from)) / (24 * time.Hour))
}

// ParseStart reads an RFC 3339 time, or a date, which means the beginning of that day in
// loc.
func ParseStart(text string, loc *time.Location) (time.Time, error) {
	if day, err := time.ParseInLocation(time.DateOnly, text, loc); err == nil {
		return day, nil
	}
	return ParseTime(text, loc)
}

// ParseTime reads an RFC 3339 time, or a date, which means the end of that
// day in loc.
func ParseTime(text string, loc *time.Location) (time.Time, error) {
	if t, err := time.Parse(time.RFC3339, text); err == nil {
		return t, nil
	}
	t, err := time.ParseInLocation(time.DateOnly, text, loc)
	if err != nil {
		return time.Time{}, fmt.Errorf("%q is not a time: write 2027-02-15 or 2027-02-15T08:00:00Z", text)
	}
	return t.AddDate(0, 0, 1).Add(-time.Nanosecond), nil
}

// Bound says which end of a day is meant by a date.
type Bound int

// A date stands for the first moment of its day, or for the last.
const (
	First Bound = iota
	Last
)

// ParseRelative reads a moment as people say it: "now", "today" (its first
// moment), "90d ago", "in 2w", a date, which means one end of its day in
// now's zone, or an RFC 3339 time.
func ParseRelative(text string, now time.Time, bound Bound) (time.Time, error) {
	text = strings.TrimSpace(text)
	switch text {
	case "now":
		return now, nil
	case "today":
		return time.Date(now.Year(), now.Month(), now.Day(), 0, 0, 0, 0, now.Location()), nil
	}
	if span, ok := strings.CutSuffix(text, " ago"); ok {
		s, err := ParseSpan(strings.TrimSpace(span))
		return s.Before(now), err
	}
	if span, ok := strings.CutPrefix(text, "in "); ok {
		s, err := ParseSpan(strings.TrimSpace(span))
		return s.After(now), err
	}
	if day, err := time.ParseInLocation(time.DateOnly, text, now.Location()); err == nil && bound == First {
		return day, nil
	}
	t, err := ParseTime(text, now.Location())
	if err != nil {
		return t, fmt.Errorf("%q is not a time: write 90d ago, in 2w, now, today, 2027-02-15 or 2027-02-15T08:00:00Z",
			text)
	}
	return t, nil
}
