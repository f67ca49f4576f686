package directory

import (
	"strconv"
	"time"
)

// Moment is a time that an attribute shows, or the knowledge that it shows
// none. The zero Moment is an absent attribute. A large directory has
// millions of them, so one is a single number: the state, the attribute, and
// microseconds since 1601-01-01 UTC, which reach to the year 2742. An end that
// is later still, which stands for "never" in practice, is Beyond; what happened
// before or after that cannot be read.
type Moment uint64

const (
	momentAbsent = iota
	momentNone   // the attribute is there and says "never"
	momentSet
	momentUnreadable

	momentStateBits = 2
	momentAttrBits  = 7
	momentShift     = momentStateBits + momentAttrBits
	maxMicros       = 1<<(64-momentShift) - 1
)

func moment(micros uint64, attr AttrID, state uint64) Moment {
	return Moment(min(micros, maxMicros)<<momentShift | uint64(attr)<<momentStateBits | state)
}

func (m Moment) state() uint64 { return uint64(m) & (1<<momentStateBits - 1) }

// Attr is the attribute that shows the moment.
func (m Moment) Attr() AttrID { return AttrID(m >> momentStateBits & (1<<momentAttrBits - 1)) }

// MomentOf makes a Moment of a time, as if attr had shown it.
func MomentOf(t time.Time, attr AttrID) Moment {
	if t.IsZero() {
		return moment(0, attr, momentNone)
	}
	seconds := t.Unix() - fileTimeEpoch
	if seconds < 0 {
		return moment(0, attr, momentUnreadable)
	}
	return moment(uint64(seconds)*1e6+uint64(t.Nanosecond()/1000), attr, momentSet)
}

// readTicks reads a file time as ParseFileTime does, without the way through
// a time.Time, since a large directory has millions of them.
func readTicks(value string, attr AttrID) Moment {
	if value == "0" {
		return moment(0, attr, momentNone)
	}
	ticks, ok := digits(value)
	if !ok {
		n, err := strconv.ParseInt(value, 10, 64)
		if err != nil || n < 0 {
			return moment(0, attr, momentUnreadable)
		}
		ticks = uint64(n)
	}
	if ticks == 0 || ticks == NeverExpires {
		return moment(0, attr, momentNone)
	}
	return moment(ticks/10, attr, momentSet)
}

// digits reads a number of 18 digits at most, as the times of today have; ok is false for
// every other text.
func digits(text string) (n uint64, ok bool) {
	if text == "" || len(text) > 18 {
		return 0, false
	}
	for i := range len(text) {
		c := text[i] - '0'
		if c > 9 {
			return 0, false
		}
		n = n*10 + uint64(c)
	}
	return n, true
}

func readMoment(value string, attr AttrID, parse func(string) (time.Time, error)) Moment {
	t, err := parse(value)
	if err != nil {
		return moment(0, attr, momentUnreadable)
	}
	return MomentOf(t, attr)
}

// readGeneralized reads a time as ParseGeneralizedTime does.
func readGeneralized(value string, attr AttrID) Moment {
	if seconds, ok := usualTime(value); ok {
		return moment(seconds*1e6, attr, momentSet)
	}
	return readMoment(value, attr, ParseGeneralizedTime)
}

// usualTime reads a time in the form in which servers write nearly all of theirs,
// 20261130183422.0Z or without the fraction, as seconds since 1601; ok is false for every
// other one, right or wrong.
func usualTime(s string) (seconds uint64, ok bool) {
	if len(s) != 15 && (len(s) != 17 || s[14] != '.' || s[15] != '0') || s[len(s)-1] != 'Z' {
		return 0, false
	}
	date, isDate := digits(s[:8])
	clock, isClock := digits(s[8:14])
	if !isDate || !isClock {
		return 0, false
	}
	year, month, day := date/10000, date/100%100, date%100
	hour, minute, second := clock/10000, clock/100%100, clock%100
	if year < 1601 || month < 1 || month > 12 || day < 1 || day > 28 && day > daysIn(year, month) ||
		hour > 23 || minute > 59 || second > 59 {
		return 0, false
	}
	// Years that begin in March have the odd day at their end.
	if month -= 1; month < 2 {
		month, year = month+12, year-1
	}
	days := year*365 + year/4 - year/100 + year/400 + (153*(month-2)+2)/5 + day - 1
	return (days-daysTo1601)*86400 + hour*3600 + minute*60 + second, true
}

// daysTo1601 are the days from 1 March of the year 0 to 1 January 1601.
const daysTo1601 = 584694

func daysIn(year, month uint64) uint64 {
	switch month {
	case 4, 6, 9, 11:
		return 30
	case 2:
		if year%4 == 0 && (year%100 != 0 || year%400 == 0) {
			return 29
		}
		return 28
	}
	return 31
}

// Beyond tells whether the moment is later than a Moment can tell.
func (m Moment) Beyond() bool { return m.Known() && uint64(m>>momentShift) == maxMicros }

// Known tells whether the moment is a time.
func (m Moment) Known() bool { return m.state() == momentSet }

// Present tells whether the attribute was there, whatever it said.
func (m Moment) Present() bool { return m.state() != momentAbsent }

// Unreadable tells whether the attribute was there and could not be read.
func (m Moment) Unreadable() bool { return m.state() == momentUnreadable }

// Time returns the moment in UTC, the zero time where it is not known.
func (m Moment) Time() time.Time {
	if !m.Known() {
		return time.Time{}
	}
	micros := int64(m >> momentShift)
	return time.Unix(fileTimeEpoch+micros/1e6, micros%1e6*1000).UTC()
}

// After tells whether both are known and m is the later one, or only m is
// known.
func (m Moment) After(o Moment) bool {
	return m.Known() && (!o.Known() || m>>momentShift > o>>momentShift)
}

// notLaterThan returns the moment, unreadable where it lies after a time
// that it cannot lie after.
func (m Moment) notLaterThan(t time.Time) Moment {
	if m.Known() && m.Time().After(t) {
		return moment(0, m.Attr(), momentUnreadable)
	}
	return m
}
