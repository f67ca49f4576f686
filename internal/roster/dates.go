package roster

import (
	"errors"
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"
)

// DateOrder tells in which order day and month stand.
type DateOrder string

// The orders. The zero value is found out.
const (
	ISO        DateOrder = "iso" // 2027-02-15
	DayFirst   DateOrder = "day-first"
	MonthFirst DateOrder = "month-first"
)

// ErrAmbiguous is the error for dates of which nobody can tell whether the
// day or the month stands first.
var ErrAmbiguous = errors.New("dates such as 03/04/2027 may mean two days: say whether they are day-first or month-first")

var (
	isoDate    = regexp.MustCompile(`^(\d{4})-(\d{1,2})-(\d{1,2})(?:[T ]\d{2}:\d{2}.*)?$`)
	slashDate  = regexp.MustCompile(`^(\d{1,2})[./-](\d{1,2})[./-](\d{4})(?: \d{1,2}:\d{2}.*)?$`)
	namedDate  = regexp.MustCompile(`^(\d{1,2})[ -]([A-Za-z]{3,9})[ -,]*(\d{4})$`)
	namedFirst = regexp.MustCompile(`^([A-Za-z]{3,9}) (\d{1,2}),? (\d{4})$`)
)

// never are texts that stand for no date; years from 9000 on do too.
var never = map[string]bool{"": true, "-": true, "--": true, "n/a": true, "na": true, "none": true, "null": true, "never": true, "permanent": true, "00/00/0000": true, "0000-00-00": true}

// dateOrder finds out in which order the dates of a roster stand: a number
// above 12 proves it. Where none does, somebody has to say.
func dateOrder(rows []line, columns []Mapped, asked DateOrder) (DateOrder, error) {
	var dayFirst, monthFirst, open []int
	for _, m := range columns {
		if m.Field != Start && m.Field != End {
			continue
		}
		for _, l := range rows {
			if m.Column > len(l.cells) {
				continue
			}
			if cell := l.cells[m.Column-1]; len(cell) > 4 && cell[4] == '-' {
				continue // the year stands first
			}
			parts := slashDate.FindStringSubmatch(strings.TrimSpace(l.cells[m.Column-1]))
			if parts == nil {
				continue
			}
			a, _ := strconv.Atoi(parts[1])
			b, _ := strconv.Atoi(parts[2])
			switch {
			case a > 12 && b <= 12:
				dayFirst = append(dayFirst, l.n)
			case b > 12 && a <= 12:
				monthFirst = append(monthFirst, l.n)
			case a != b:
				open = append(open, l.n)
			}
		}
	}
	switch {
	case len(dayFirst) > 0 && len(monthFirst) > 0:
		return "", fmt.Errorf("row %d writes the day first and row %d the month: correct one of them", dayFirst[0], monthFirst[0])
	case len(dayFirst) > 0:
		return agree(DayFirst, asked, dayFirst[0])
	case len(monthFirst) > 0:
		return agree(MonthFirst, asked, monthFirst[0])
	case asked != "":
		return asked, nil
	case len(open) > 0:
		return "", fmt.Errorf("row %d: %w", open[0], ErrAmbiguous)
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
		if t, err := time.Parse(time.DateOnly, text[:len(time.DateOnly)]); err == nil && t.Year() >= 1900 && t.Year() < 9000 {
			return t, nil // as most write it
		}
	}
	year, month, day := "", "", ""
	if m := isoDate.FindStringSubmatch(text); m != nil {
		year, month, day = m[1], m[2], m[3]
	} else if m := slashDate.FindStringSubmatch(text); m != nil && order == DayFirst {
		day, month, year = m[1], m[2], m[3]
	} else if m != nil && order == MonthFirst {
		month, day, year = m[1], m[2], m[3]
	} else if m != nil && m[1] == m[2] {
		day, month, year = m[1], m[2], m[3]
	} else if m := namedDate.FindStringSubmatch(text); m != nil {
		day, month, year = m[1], monthNumber(m[2]), m[3]
	} else if m := namedFirst.FindStringSubmatch(text); m != nil {
		month, day, year = monthNumber(m[1]), m[2], m[3]
	}
	y, _ := strconv.Atoi(year)
	mo, _ := strconv.Atoi(month)
	d, _ := strconv.Atoi(day)
	t := time.Date(y, time.Month(mo), d, 0, 0, 0, 0, time.UTC)
	switch {
	case y >= 9000:
		return time.Time{}, nil
	case y < 1900 || mo < 1 || mo > 12 || t.Day() != d:
		return time.Time{}, fmt.Errorf("%q is not a date", text)
	}
	return t, nil
}

// monthNumber reads an English month by its first three letters.
func monthNumber(name string) string {
	if at := strings.Index("janfebmaraprmayjunjulaugsepoctnovdec", strings.ToLower(name[:3])); at%3 == 0 {
		return strconv.Itoa(at/3 + 1)
	}
	return ""
}
