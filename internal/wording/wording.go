// Package wording puts numbers and names into sentences, for messages of the
// core and for what is drawn.
package wording

import (
	"fmt"
	"strings"
	"time"
)

// Count writes a number with its noun: "1 line", "17 lines".
func Count(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return fmt.Sprintf("%d %s", n, Plural(noun))
}

// Plural writes a noun for several: "lines", "entries".
func Plural(noun string) string {
	if stem, is := strings.CutSuffix(noun, "y"); is && !strings.HasSuffix(stem, "a") && !strings.HasSuffix(stem, "e") {
		return stem + "ies"
	}
	return noun + "s"
}

// Are writes a number with its noun and verb: "1 line is", "17 lines are".
func Are(n int, noun string) string {
	if n == 1 {
		return Count(n, noun) + " is"
	}
	return Count(n, noun) + " are"
}

// List writes names as a sentence has them: "a, b and c".
func List(names []string) string {
	if len(names) < 2 {
		return strings.Join(names, "")
	}
	return strings.Join(names[:len(names)-1], ", ") + " and " + names[len(names)-1]
}

// Some writes the first few of some names.
func Some(names []string) string {
	if len(names) > 3 {
		return strings.Join(names[:3], ", ") + ", …"
	}
	return strings.Join(names, ", ")
}

// Moment writes a time for people, with its zone; "" for the zero time.
func Moment(t time.Time, loc *time.Location) string {
	if t.IsZero() {
		return ""
	}
	return t.In(loc).Format("2006-01-02 15:04 MST")
}
