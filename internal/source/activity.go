package source

import (
	"bufio"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"yardbroom/internal/calendar"
	"yardbroom/internal/directory"
)

// ReadActivity reads sign-ins that other systems recorded: CSV with a header
// that names the columns account, time and source, or JSON lines with these
// fields. Times are RFC 3339, or dates, which mean the end of that day in
// loc. The latest of several for one account counts. Result keys are
// directory.TextKey of the account.
func ReadActivity(r io.Reader, name string, loc *time.Location) (map[directory.Key]directory.SignIn, error) {
	in := bufio.NewReader(&shortRows{in: r, line: 1})
	all := map[directory.Key]directory.SignIn{}
	add := func(line int, account, at, source string) error {
		if strings.TrimSpace(account) == "" {
			return fmt.Errorf("%s: line %d has no account", name, line)
		}
		t, err := calendar.ParseTime(strings.TrimSpace(at), loc)
		if err != nil {
			return fmt.Errorf("%s: line %d, account %q: %w", name, line, account, err)
		}
		k := directory.TextKey(strings.TrimSpace(account))
		if _, known := all[k]; !known && len(all) == mostActive {
			return fmt.Errorf("%s: line %d: more than %d different accounts", name, line, mostActive)
		}
		if t.After(all[k].At) {
			all[k] = directory.SignIn{At: t.UTC(), Source: strings.TrimSpace(source)}
		}
		return nil
	}
	first, err := in.Peek(1)
	switch {
	case errors.Is(err, io.EOF):
		return nil, fmt.Errorf("%s is empty", name)
	case err != nil:
		return nil, fmt.Errorf("%s: %w", name, err)
	case first[0] == '{':
		return all, readActivityLines(in, name, add)
	}
	return all, readActivityTable(in, name, add)
}

const (
	mostActive = 5_000_000 // accounts with sign-ins elsewhere
	mostRow    = 1 << 20   // octets
)

// shortRows fails where a row goes on for longer than any does: a line without
// an end, or a quote that is never closed.
type shortRows struct {
	in     io.Reader
	line   int // on which the row began
	lines  int // it has had
	octets int // it has had
	begun  bool
	json   bool // a line is a row, whatever is quoted
	quoted bool
}

func (s *shortRows) Read(p []byte) (int, error) {
	n, err := s.in.Read(p)
	if n > 0 && !s.begun {
		s.begun, s.json = true, p[0] == '{'
	}
	for _, c := range p[:n] {
		s.octets++
		switch c {
		case '"':
			s.quoted = !s.quoted && !s.json
		case '\n':
			if s.lines++; !s.quoted {
				s.line, s.lines, s.octets = s.line+s.lines, 0, 0
			}
		}
		if s.octets > mostRow {
			return 0, fmt.Errorf(
				"the row that begins in line %d is longer than %d KB, or a quote in it is never closed", s.line,
				mostRow>>10)
		}
	}
	return n, err
}

func readActivityLines(in io.Reader, name string, add func(int, string, string, string) error) error {
	lines := bufio.NewScanner(in)
	lines.Buffer(nil, 2*mostRow)
	for n := 1; lines.Scan(); n++ {
		if strings.TrimSpace(lines.Text()) == "" {
			continue
		}
		var row struct{ Account, Time, Source string }
		err := json.Unmarshal(lines.Bytes(), &row)
		if lines.Err() != nil {
			break // this is what came before it
		}
		if err != nil {
			return fmt.Errorf("%s: line %d is not a JSON object with account, time and source: %w", name, n, err)
		}
		if err := add(n, row.Account, row.Time, row.Source); err != nil {
			return err
		}
	}
	if err := lines.Err(); err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	return nil
}

func readActivityTable(in io.Reader, name string, add func(int, string, string, string) error) error {
	rows := csv.NewReader(in)
	header, err := rows.Read()
	if err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	header[0] = strings.TrimPrefix(header[0], "\ufeff")
	column := func(title string) int {
		return slices.IndexFunc(header, func(h string) bool { return strings.EqualFold(strings.TrimSpace(h), title) })
	}
	account, at, source := column("account"), column("time"), column("source")
	if account < 0 || at < 0 {
		return fmt.Errorf("%s: the first line must name the columns account, time and source; it names %s", name,
			strings.Join(header, ", "))
	}
	for {
		row, err := rows.Read()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		line, _ := rows.FieldPos(0)
		where := ""
		if source >= 0 {
			where = row[source]
		}
		if err := add(line, row[account], row[at], where); err != nil {
			return err
		}
	}
}
