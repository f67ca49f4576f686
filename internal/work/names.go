package work

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"unicode/utf8"

	"yardbroom/internal/directory"
	"yardbroom/internal/sheet"
)

// ReadNames reads the names of accounts in a CSV file: in the column of this
// title, or where that is "" in the one that usual titles tell. A single column
// without such a title is a list without a header. Name is what errors call the
// file.
func ReadNames(in io.Reader, name, column string) ([]string, error) {
	raw, err := io.ReadAll(in)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	if column == "" {
		if names := plainNames(raw); names != nil {
			return names, nil
		}
	}
	t, err := sheet.ReadCSV(bytes.NewReader(raw))
	switch {
	case errors.Is(err, sheet.ErrEmpty):
		return nil, fmt.Errorf("%s is empty", name)
	case err != nil:
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	at, isHeader := nameColumn(t.Header, column)
	if at < 0 {
		return nil, Wrong("%s: no column is called %q; there are %s", name, column, strings.Join(t.Header, ", "))
	}
	var names []string
	if !isHeader {
		names = append(names, sheet.UnsafeCell(strings.TrimSpace(t.Header[at])))
	}
	for _, row := range t.Rows {
		if at >= len(row.Cells) || strings.TrimSpace(row.Cells[at]) == "" {
			return nil, fmt.Errorf("%s: line %d has no name", name, row.Line)
		}
		names = append(names, strings.TrimSpace(row.Cells[at]))
	}
	if len(names) == 0 {
		return nil, fmt.Errorf("%s names nobody", name)
	}
	return names, nil
}

// nameTitles are the titles of columns that hold names, the surest first.
var nameTitles = []string{"dn", "account", "distinguishedName", "sAMAccountName", "uid", "userPrincipalName", "name"}

// plainNames are the names in a text that has one a line and nothing else, nil where it
// may be a table. DNs hold commas, which are no separators there.
func plainNames(raw []byte) (names []string) {
	if !utf8.Valid(raw) {
		return nil
	}
	for line := range strings.Lines(strings.TrimPrefix(string(raw), "\ufeff")) {
		line = strings.TrimSpace(line)
		switch {
		case line == "":
		case directory.IsDN(line):
			names = append(names, line)
		case strings.ContainsAny(line, ",;\t\""):
			return nil
		default:
			names = append(names, line)
		}
	}
	if len(names) > 0 && slices.ContainsFunc(nameTitles, func(title string) bool { return strings.EqualFold(title, names[0]) }) {
		return nil // a table of one column
	}
	return names
}

// nameColumn finds the column of names.
func nameColumn(header []string, want string) (at int, isHeader bool) {
	index := func(title string) int {
		return slices.IndexFunc(header, func(h string) bool { return strings.EqualFold(strings.TrimSpace(h), title) })
	}
	if want != "" {
		return index(want), true
	}
	for _, title := range nameTitles {
		if i := index(title); i >= 0 {
			return i, true
		}
	}
	if len(header) == 1 {
		return 0, false
	}
	return -1, false
}
