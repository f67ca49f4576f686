package sheet

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"errors"
	"io"

	"golang.org/x/text/encoding"
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
// commas, or with semicolons where the header has more of those; in UTF-8, or in
// UTF-16 where a mark in front says so. Cells that were made harmless are what
// they were; rows may be of different lengths.
func ReadCSV(in io.Reader) (*Table, error) {
	text := bufio.NewReader(transform.NewReader(in, unicode.BOMOverride(encoding.Nop.NewDecoder())))
	r := csv.NewReader(text)
	r.FieldsPerRecord = -1
	if first, _ := text.Peek(text.Size()); moreSemicolons(first) {
		r.Comma = ';'
	}
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
		t.Rows = append(t.Rows, Row{line, cells})
	}
}

func moreSemicolons(text []byte) bool {
	header, _, _ := bytes.Cut(text, []byte("\n"))
	return bytes.Count(header, []byte(";")) > bytes.Count(header, []byte(","))
}
