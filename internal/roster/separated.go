package roster

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"strings"
)

const (
	mostRecord = 256 << 10 // octets of one row
	mostStray  = 2_000     // rows that a stray quote may cost
)

// readSeparated reads text whose cells stand between delimiters (RFC 4180,
// with other delimiters too). A quote that stands where none may, or that is
// never closed, costs the row it stands in and no other.
func readSeparated(text, encoding string, most Limits) (*table, error) {
	comma, name := delimiter(text)
	t := &table{form: encoding}
	if name != "" {
		t.form += ", separated by " + name
	}
	in := &separated{text: text, comma: comma}
	in.from(0)
	for {
		cells, line, err := in.next()
		switch {
		case err == io.EOF:
			return t, nil
		case err != nil && (len(t.rows) == 0 || len(t.bad) == mostStray):
			return nil, fmt.Errorf("row %d: %w", line, err)
		case err != nil:
			t.bad = append(t.bad, Bad{line, err.Error()})
			continue
		}
		if in.width == 0 {
			in.width = len(cells)
		}
		if err := t.add(line, cells, most); err != nil {
			return nil, err
		}
	}
}

// separated goes through rows of text, and after a row that cannot be read on
// from its second line.
type separated struct {
	text  string
	comma rune
	width int // of the first row
	rows  *csv.Reader
	base  int // where rows began to read
	at    int // where the next row begins
	line  int // the number of its line, from 0
	until int // how far rows may look
	given int // how far it has
}

// from makes the row that begins at an octet the next one.
func (s *separated) from(at int) {
	s.base, s.at, s.given = at, at, at
	s.rows = csv.NewReader(s)
	s.rows.Comma, s.rows.FieldsPerRecord, s.rows.TrimLeadingSpace = s.comma, -1, s.comma != '\t'
}

// Read gives the rows no more than one row can need, so that a quote which is
// never closed is not looked for to the end of a large file.
func (s *separated) Read(p []byte) (int, error) {
	if s.given >= s.until {
		return 0, io.EOF
	}
	n := copy(p, s.text[s.given:s.until])
	s.given += n
	return n, nil
}

var errStray = errors.New("a quote stands where none can, or is never closed")

// next returns the cells of the next row and the number of its line, from 1;
// io.EOF behind the last.
func (s *separated) next() (cells []string, line int, err error) {
	s.skipBlank()
	if s.at == len(s.text) {
		return nil, 0, io.EOF
	}
	s.until = min(len(s.text), s.at+mostRecord)
	line = s.line + 1
	cells, err = s.rows.Read()
	end := s.base + int(s.rows.InputOffset())
	record := s.text[s.at:min(end, len(s.text))]
	switch {
	case err == nil && len(record) == mostRecord && end < len(s.text):
		err = fmt.Errorf("it is longer than %d KB", mostRecord>>10)
	case err != nil || s.swallows(record, len(cells)):
		err = errStray
	default:
		s.at, s.line = end, s.line+strings.Count(record, "\n")
		return cells, line, nil
	}
	first, _, _ := strings.Cut(s.text[s.at:], "\n")
	s.line++
	s.from(min(s.at+len(first)+1, len(s.text)))
	return nil, line, err
}

// skipBlank goes to the next line that is not empty, as the rows themselves do.
func (s *separated) skipBlank() {
	for s.at < len(s.text) {
		switch rest := s.text[s.at:]; {
		case rest[0] == '\n':
			s.at++
		case strings.HasPrefix(rest, "\r\n"):
			s.at += 2
		default:
			return
		}
		s.line++
	}
}

// swallows tells of a row with line breaks in a cell that it rather is several
// rows, the first and the last of which have a stray quote: it has not as many
// cells as the header, or each of its lines alone has.
func (s *separated) swallows(record string, cells int) bool {
	record = strings.TrimRight(record, "\r\n")
	if !strings.Contains(record, "\n") || s.width < 3 {
		return false
	}
	if cells != s.width {
		return true
	}
	for l := range strings.Lines(record) {
		if strings.Count(l, string(s.comma)) < s.width-1 {
			return false
		}
	}
	return true
}
