package sheet

import "strings"

// SafeCell makes a cell harmless for spreadsheets, which take some texts for
// formulas: it gets a quote before it, which UnsafeCell takes off.
func SafeCell(s string) string {
	if s != "" && strings.ContainsRune("=+-@\t\r'", rune(s[0])) {
		return "'" + s
	}
	return s
}

// UnsafeCell is the inverse of SafeCell.
func UnsafeCell(s string) string {
	if len(s) > 1 && s[0] == '\'' && strings.ContainsRune("=+-@\t\r'", rune(s[1])) {
		return s[1:]
	}
	return s
}
