package work

import (
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"yardbroom/internal/sheet"
)

// ReadNames reads the names of accounts in a CSV file: in the column of this
// title, or where that is "" in the one that usual titles tell. A single column
// without such a title is a list without a header. Name is what errors call the
// file.
func ReadNames(in io.Reader, name, column string) ([]string, error) {
	t, err := sheet.ReadCSV(in)
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

// nameColumn finds the column of names.
func nameColumn(header []string, want string) (at int, isHeader bool) {
	index := func(title string) int {
		return slices.IndexFunc(header, func(h string) bool { return strings.EqualFold(strings.TrimSpace(h), title) })
	}
	if want != "" {
		return index(want), true
	}
	for _, title := range []string{"dn", "account", "distinguishedName", "sAMAccountName", "uid", "userPrincipalName", "name"} {
		if i := index(title); i >= 0 {
			return i, true
		}
	}
	if len(header) == 1 {
		return 0, false
	}
	return -1, false
}
