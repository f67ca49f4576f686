// Package render writes findings, accounts, batches and journals: as tables
// for people, and as CSV and JSON for programs. Values from a directory are
// hostile; here they are made harmless for where they go.
package render

import (
	"fmt"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/jedib0t/go-pretty/v6/text"

	"yardbroom/internal/directory"
)

// Visible shows control characters, terminal escapes, invalid octets and the
// characters that reorder text, instead of sending them.
func Visible(s string) string {
	if !strings.ContainsFunc(s, hidden) && utf8.ValidString(s) {
		return s
	}
	var b strings.Builder
	for i, r := range s {
		switch {
		case r == utf8.RuneError && !strings.HasPrefix(s[i:], "\uFFFD"):
			fmt.Fprintf(&b, `\x%02x`, s[i])
		case r == '\n':
			b.WriteString(`\n`)
		case r == '\t':
			b.WriteString(`\t`)
		case hidden(r) && r < 0x100:
			fmt.Fprintf(&b, `\x%02x`, r)
		case hidden(r):
			fmt.Fprintf(&b, `\u%04x`, r)
		default:
			b.WriteRune(r)
		}
	}
	return b.String()
}

// hidden tells whether a terminal would act on a character instead of
// showing it: control and format characters, and line separators.
func hidden(r rune) bool {
	return unicode.IsControl(r) || unicode.Is(unicode.Cf, r) || r == '\u2028' || r == '\u2029' || r == utf8.RuneError
}

// Place writes where an entry stands, as directory.Place does.
func Place(dn string) string { return Visible(directory.Place(dn)) }

// Day writes a date in a zone, "" for the zero time.
func Day(t time.Time, loc *time.Location) string {
	if t.IsZero() {
		return ""
	}
	return t.In(loc).Format(time.DateOnly)
}

// Wrap breaks a line at blanks so that it fits a width; the lines after the
// first are indented.
func Wrap(s string, width int, indent string) string {
	var b strings.Builder
	at := 0
	for i, word := range strings.Fields(s) {
		n := displayWidth(word)
		switch {
		case i > 0 && at+1+n > width:
			b.WriteString("\n" + indent)
			at = displayWidth(indent)
		case i > 0:
			b.WriteByte(' ')
			at++
		}
		b.WriteString(word)
		at += n
	}
	return b.String()
}

// Hang wraps what begins at a column of a line of some width; the lines after the first
// begin there too.
func Hang(s string, width, column int) string {
	return strings.ReplaceAll(Wrap(s, max(width-column, 30), ""), "\n", "\n"+strings.Repeat(" ", column))
}

// wrapCell is Wrap for a cell of a table: words that are wider than it are broken too.
func wrapCell(s string, width int) string {
	var words []string
	for _, word := range strings.Fields(s) {
		for displayWidth(word) > width {
			part := text.Trim(word, width)
			if part == "" {
				break // it is one character, and wider than the column
			}
			words = append(words, part)
			word = strings.TrimPrefix(word, part)
		}
		words = append(words, word)
	}
	return Wrap(strings.Join(words, " "), width, "")
}

// Heading makes a title stand out.
func Heading(s string, st Style) string { return st.paint(s, text.Bold) }

// Paragraphs writes a check's text, which is Markdown, for a terminal.
func Paragraphs(markdown string, st Style) string {
	const widest = 100
	lines := strings.Split(markdown, "\n")
	for i, line := range lines {
		title, rest, ok := strings.Cut(strings.TrimPrefix(line, "**"), "**")
		if ok = ok && strings.HasPrefix(line, "**"); !ok {
			title, rest = "", line
		}
		wrapped := Wrap(title+rest, min(st.Width, widest), "")
		lines[i] = Heading(wrapped[:len(title)], st) + wrapped[len(title):]
	}
	return strings.Join(lines, "\n")
}
