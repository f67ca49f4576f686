package work

import (
	"encoding/csv"
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
	r := csv.NewReader(in)
	r.FieldsPerRecord = -1
	header, err := r.Read()
	if err == io.EOF {
		return nil, fmt.Errorf("%s is empty", name)
	}
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	header[0] = strings.TrimPrefix(header[0], "\ufeff")
	at, isHeader := nameColumn(header, column)
	if at < 0 {
		return nil, wrong("%s: no column is called %q; there are %s", name, column, strings.Join(header, ", "))
	}
	var names []string
	if !isHeader {
		names = append(names, sheet.UnsafeCell(strings.TrimSpace(header[at])))
	}
	for {
		row, err := r.Read()
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		line, _ := r.FieldPos(0)
		if at >= len(row) || strings.TrimSpace(row[at]) == "" {
			return nil, fmt.Errorf("%s: line %d has no name", name, line)
		}
		names = append(names, sheet.UnsafeCell(strings.TrimSpace(row[at])))
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
