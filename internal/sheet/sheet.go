// Package sheet holds tables of typed cells: what lists, findings and
// comparisons are before they are written in some format.
package sheet

import (
	"cmp"
	"strconv"
	"strings"
	"time"
)

// Kind tells what the cells of a column hold.
type Kind string

// The kinds. A cell of any kind may be nil, for nothing.
const (
	Text   Kind = "text"    // string
	Number Kind = "number"  // int
	Time   Kind = "time"    // time.Time, in UTC
	Truth  Kind = "boolean" // bool
	Texts  Kind = "texts"   // []string
)

// Column is one column of a sheet.
type Column struct {
	Name  string // in data formats
	Title string // for people; Name where empty
	Kind  Kind
	Wide  bool // gives way where room is short
	Key   bool // is shown in full, whatever else has to go
	// Choices are what may be filled in, where a person is to.
	Choices []string
}

// Heading is what to call the column for people.
func (c *Column) Heading() string {
	if c.Title != "" {
		return c.Title
	}
	return c.Name
}

// Sheet is a table.
type Sheet struct {
	Name    string // short, fit for a file name
	Title   string // for people
	Text    string // a sentence or two about it
	Columns []Column
	Rows    [][]any
}

// Between is what stands between several texts in one cell.
const Between = "; "

// TextOf writes a cell for a text format: times by RFC 3339 in UTC, several
// texts with Between between them, nothing for nil.
func TextOf(cell any) string {
	switch v := cell.(type) {
	case string:
		return v
	case int:
		return strconv.Itoa(v)
	case bool:
		if v {
			return "true"
		}
		return "false"
	case time.Time:
		return v.UTC().Format(time.RFC3339)
	case []string:
		return strings.Join(v, Between)
	}
	return ""
}

// SortKey returns what to compare instead of a cell, so that a long column is
// sorted without making the same text small again and again.
func SortKey(cell any) any {
	switch v := cell.(type) {
	case string:
		return strings.ToLower(v)
	case []string:
		return strings.ToLower(TextOf(v))
	}
	return cell
}

// Compare orders two sort keys of one column, nil behind everything.
func Compare(a, b any) int {
	switch {
	case a == nil && b == nil:
		return 0
	case a == nil:
		return 1
	case b == nil:
		return -1
	}
	switch x := a.(type) {
	case int:
		if y, ok := b.(int); ok {
			return cmp.Compare(x, y)
		}
	case time.Time:
		if y, ok := b.(time.Time); ok {
			return x.Compare(y)
		}
	case bool:
		if y, ok := b.(bool); ok && x != y {
			if x {
				return 1
			}
			return -1
		}
	}
	return strings.Compare(TextOf(a), TextOf(b))
}
