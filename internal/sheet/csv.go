package sheet

import (
	"bytes"
	"encoding/csv"
	"errors"
	"io"
	"unicode/utf8"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"
	"golang.org/x/text/transform"
)

// Table is a table that somebody has had in a spreadsheet.
type Table struct {
	Header []string
	Rows   []Row
}

// Row is a row of a table; Line is the line of the file that it begins in.
type Row struct {
	Line  int
	Cells []string
}

// ErrEmpty is the error for a table without a header.
var ErrEmpty = errors.New("it is empty")

// ReadCSV reads a table as programs write it that people use (RFC 4180): with
// commas, or with semicolons or tabs where the header has more of those; in UTF-8, in
// UTF-16 where a mark in front says so, else in Windows-1252. A line that only names
// the separator ("sep=;") is passed over. Cells that were made harmless are what they
// were; rows may be of different lengths.
func ReadCSV(in io.Reader) (*Table, error) {
	raw, err := io.ReadAll(transform.NewReader(in, unicode.BOMOverride(encoding.Nop.NewDecoder())))
	if err != nil {
		return nil, err
	}
	if !utf8.Valid(raw) {
		if raw, err = charmap.Windows1252.NewDecoder().Bytes(raw); err != nil {
			return nil, err
		}
	}
	skipped := 0
	if first, rest, _ := bytes.Cut(raw, []byte("\n")); len(bytes.TrimSpace(first)) == len("sep=;") && bytes.HasPrefix(first, []byte("sep=")) {
		raw, skipped = rest, 1
	}
	r := csv.NewReader(bytes.NewReader(raw))
	r.FieldsPerRecord = -1
	r.Comma = separator(raw)
	header, err := r.Read()
	if err == io.EOF {
		return nil, ErrEmpty
	}
	if err != nil {
		return nil, err
	}
	t := &Table{Header: header}
	for {
		cells, err := r.Read()
		if err == io.EOF {
			return t, nil
		}
		if err != nil {
			return nil, err
		}
		line, _ := r.FieldPos(0)
		for i := range cells {
			cells[i] = UnsafeCell(cells[i])
		}
		t.Rows = append(t.Rows, Row{line + skipped, cells})
	}
}

// separator is what stands between the cells of a header.
func separator(text []byte) rune {
	header, _, _ := bytes.Cut(text, []byte("\n"))
	best, most := ',', bytes.Count(header, []byte(","))
	for _, c := range []rune{';', '\t'} {
		if n := bytes.Count(header, []byte(string(c))); n > most {
			best, most = c, n
		}
	}
	return best
}
