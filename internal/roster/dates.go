package roster

import (
	_ "embed"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
	"unicode"

	"golang.org/x/text/unicode/norm"

	"yardbroom/internal/directory"
	"yardbroom/internal/pattern"
)

// DateOrder tells in which order day, month and year stand where all are
// numbers and the year does not give itself away.
type DateOrder string

// The orders. The zero value is found out.
const (
	ISO        DateOrder = "iso" // 2027-02-15, or nothing is open
	DayFirst   DateOrder = "day-first"
	MonthFirst DateOrder = "month-first"
	YearFirst  DateOrder = "year-first" // 27/02/15
)

// The errors for dates of which nobody can tell which day is meant.
var (
	ErrAmbiguous = errors.New(
		"dates such as 03/04/2027 may mean two days: say whether they are day-first or month-first")
	ErrShortYear = errors.New(
		"dates such as 03/04/27 may begin or end with the year: say whether they are day-first, month-first or year-first",
	)
)

// never are texts that stand for no date; years from 9000 on do too.
var never = map[string]bool{
	"":              true,
	"-":             true,
	"--":            true,
	"n/a":           true,
	"na":            true,
	"none":          true,
	"null":          true,
	"never":         true,
	"permanent":     true,
	"00/00/0000":    true,
	"0000-00-00":    true,
	"unbefristet":   true,
	"offen":         true,
	"indéterminée":  true,
	"cdi":           true,
	"indefinido":    true,
	"indeterminato": true,
	"無期":            true,
	"无固定期限":         true,
}

//go:embed months.txt
var monthsText string

// months are the months by name, folded.
var months = sync.OnceValue(func() map[string]time.Month {
	all := map[string]time.Month{}
	for line := range strings.Lines(monthsText) {
		if line[0] == '#' {
			continue
		}
		for i, name := range strings.Fields(line) {
			all[directory.FoldText(name)] = time.Month(i + 1)
		}
	}
	return all
})

// written is a date as far as its text tells it.
type written struct {
	year, month, day int
	// numbers are the three of a date that is numbers only and whose year does
	// not stand first with four digits; short is one whose year has two.
	numbers [3]int
	open    bool
	short   bool
}

var (
	clockTime = pattern.Lazy(`[T ]\d{1,2}:\d{2}.*$`)
	eightLong = pattern.Lazy(`^(\d{4})(\d{2})(\d{2})$`)
	serial    = pattern.Lazy(`^(\d{5})(?:\.\d+)?$`)
	datePiece = pattern.Lazy(`\pL[\pL\pM]*|\d+`)
)

// between are words that stand between the parts of a date, folded.
var between = set("de del di da of the den d th st nd rd er г года р року год tháng năm ngày 年 月 日 년 월 일")

func set(words string) map[string]bool {
	all := map[string]bool{}
	for _, w := range strings.Fields(words) {
		all[directory.FoldText(w)] = true
	}
	return all
}

// The days that numbers of spreadsheets may mean: from 1950 to 2099. They
// count from the last day but one of 1899.
const firstSerial, lastSerial = 18264, 73050

// readWritten parts the text of a date.
func readWritten(text string) (w written, ok bool) {
	text = strings.Map(func(r rune) rune {
		if unicode.Is(unicode.Nd, r) && r > 127 {
			return '0' + digitOf(r)
		}
		return r
	}, norm.NFKC.String(text))
	text = clockTime().ReplaceAllString(strings.TrimSpace(text), "")
	if m := eightLong().FindStringSubmatch(text); m != nil {
		return written{year: number(m[1]), month: number(m[2]), day: number(m[3])}, true
	}
	if m := serial().FindStringSubmatch(text); m != nil {
		n := number(m[1])
		t := time.Date(1899, 12, 30+n, 0, 0, 0, 0, time.UTC)
		return written{year: t.Year(), month: int(t.Month()), day: t.Day()}, firstSerial <= n && n <= lastSerial
	}
	var pieces []string
	for _, piece := range datePiece().FindAllString(text, -1) {
		if !between[directory.FoldText(piece)] {
			pieces = append(pieces, piece)
		}
	}
	if len(pieces) != 3 || !datesOnly(text) {
		return w, false
	}
	if at := slices.IndexFunc(pieces, func(p string) bool { return p[0] < '0' || p[0] > '9' }); at >= 0 {
		return namedMonth(pieces, at)
	}
	for i, p := range pieces {
		w.numbers[i] = number(p)
	}
	switch {
	case len(pieces[0]) == 4:
		return written{
				year:  w.numbers[0],
				month: w.numbers[1],
				day:   w.numbers[2],
			}, len(pieces[1]) <= 2 &&
				len(pieces[2]) <= 2
	case len(pieces[0]) > 2 || len(pieces[1]) > 2:
		return w, false
	case len(pieces[2]) == 4:
		w.open = true
		return w, true
	}
	w.open, w.short = true, true
	return w, len(pieces[2]) == 2
}

// datesOnly tells whether a text has nothing in it but what dates are written
// with: a sign in front, say, makes it something else.
func datesOnly(text string) bool {
	return !strings.ContainsFunc(text, func(r rune) bool {
		return !unicode.IsLetter(r) && !unicode.Is(unicode.M, r) && !unicode.IsDigit(r) &&
			!strings.ContainsRune(" ./-,'’", r)
	})
}

// digitOf is the value of a digit of any script: those of one script follow
// each other from zero.
func digitOf(r rune) rune {
	zero := r
	for zero > r-9 && unicode.Is(unicode.Nd, zero-1) {
		zero--
	}
	return r - zero
}

func number(digits string) int {
	n, err := strconv.Atoi(digits)
	if err != nil {
		return -1 // too long for any date
	}
	return n
}

// namedMonth reads a date whose month is a word: the year is the number that
// cannot be a day, else the last one.
func namedMonth(pieces []string, at int) (w written, ok bool) {
	w.month = int(months()[directory.FoldText(pieces[at])])
	others := slices.Delete(slices.Clone(pieces), at, at+1)
	first, last := number(others[0]), number(others[1])
	switch {
	case len(others[0]) == 4:
		w.year, w.day = first, last
	case len(others[1]) == 4:
		w.day, w.year = first, last
	case len(others[1]) == 2:
		w.day, w.year = first, century(last)
	}
	return w, w.month > 0 && first >= 0 && last >= 0
}

// century is the year that two digits mean: up to 2049, and from 1950 on.
func century(short int) int {
	if short < 50 {
		return 2000 + short
	}
	return 1900 + short
}

// dateWitnesses are rows that tell how dates are written, the first one each; 0
// for none.
type dateWitnesses struct{ dayFirst, monthFirst, yearFirst, yearLast, open, short int }

// ask notes what a date tells.
func (s *dateWitnesses) ask(w written, row int) {
	note := func(at *int) {
		if *at == 0 {
			*at = row
		}
	}
	a, b, c := w.numbers[0], w.numbers[1], w.numbers[2]
	if w.short {
		switch {
		case a > 31:
			note(&s.yearFirst)
			return
		case c > 31:
			note(&s.yearLast)
		case b > 12:
			note(&s.yearLast) // a day in the middle has the month in front of it
		default:
			note(&s.short)
		}
	}
	switch {
	case a > 12 && b <= 12 && !w.short:
		note(&s.dayFirst)
	case b > 12 && a <= 12:
		note(&s.monthFirst)
	case a > 12 && w.short && c > 31:
		note(&s.dayFirst)
	case a != b || w.short:
		note(&s.open)
	}
}

// dateOrder finds out in which order the dates of a roster stand: a number
// above 12 proves it, of years of two digits one above 31. Where none does,
// somebody has to say.
func dateOrder(rows []line, columns []Mapped, asked DateOrder) (DateOrder, error) {
	var s dateWitnesses
	for _, m := range columns {
		if m.Field != Start && m.Field != End {
			continue
		}
		for _, l := range rows {
			if m.Column > len(l.cells) {
				continue
			}
			cell := strings.TrimSpace(l.cells[m.Column-1])
			if len(cell) == len(time.DateOnly) && cell[4] == '-' {
				continue // as most write it: the year stands first
			}
			if w, ok := readWritten(cell); ok && w.open {
				s.ask(w, l.n)
			}
		}
	}
	return s.order(asked)
}

func (s *dateWitnesses) order(asked DateOrder) (DateOrder, error) {
	conflict := func(a int, what string, b int, other string) error {
		return fmt.Errorf("row %d writes the %s first and row %d the %s: correct one of them", a, what, b, other)
	}
	switch {
	case s.yearFirst > 0 && s.yearLast > 0:
		return "", fmt.Errorf("row %d writes the year first and row %d last: correct one of them", s.yearFirst,
			s.yearLast)
	case s.dayFirst > 0 && s.monthFirst > 0 && s.yearFirst == 0:
		return "", conflict(s.dayFirst, "day", s.monthFirst, "month")
	case s.yearFirst > 0:
		return agree(YearFirst, asked, s.yearFirst)
	case s.short > 0 && s.yearLast == 0 && asked == "":
		return "", fmt.Errorf("row %d: %w", s.short, ErrShortYear)
	case s.dayFirst > 0:
		return agree(DayFirst, asked, s.dayFirst)
	case s.monthFirst > 0 && asked != YearFirst:
		return agree(MonthFirst, asked, s.monthFirst)
	case asked != "":
		return asked, nil
	case s.open > 0:
		return "", fmt.Errorf("row %d: %w", s.open, ErrAmbiguous)
	}
	return ISO, nil
}

func agree(found, asked DateOrder, row int) (DateOrder, error) {
	if asked != "" && asked != found {
		return "", fmt.Errorf("row %d proves that dates are %s, not %s", row, found, asked)
	}
	return found, nil
}

// readDate reads a day as midnight in UTC; zero for none.
func readDate(text string, order DateOrder) (time.Time, error) {
	if never[strings.ToLower(text)] {
		return time.Time{}, nil
	}
	if len(text) >= len(time.DateOnly) && (len(text) == len(time.DateOnly) || text[len(time.DateOnly)] == 'T') {
		if t, err := time.Parse(time.DateOnly, text[:len(time.DateOnly)]); err == nil && t.Year() >= 1900 &&
			t.Year() < 9000 {
			return t, nil // as most write it
		}
	}
	w, ok := readWritten(text)
	if !ok {
		return time.Time{}, fmt.Errorf("%q is not a date", text)
	}
	if w.open {
		w = w.in(order)
	}
	t := time.Date(w.year, time.Month(w.month), w.day, 0, 0, 0, 0, time.UTC)
	switch {
	case w.year >= 9000:
		return time.Time{}, nil
	case w.year < 1900 || w.month < 1 || w.month > 12 || t.Day() != w.day:
		return time.Time{}, fmt.Errorf("%q is not a date", text)
	}
	return t, nil
}

// in is a date of numbers in an order. Where the order is not known, day and
// month are alike or it is no date.
func (w written) in(order DateOrder) written {
	a, b, c := w.numbers[0], w.numbers[1], w.numbers[2]
	year := func(n int) int {
		if w.short {
			return century(n)
		}
		return n
	}
	switch {
	case order == YearFirst && w.short:
		return written{year: year(a), month: b, day: c}
	case order == DayFirst, order == ISO && a == b:
		return written{year: year(c), month: b, day: a}
	case order == MonthFirst:
		return written{year: year(c), month: a, day: b}
	}
	return written{}
}
