package roster

import (
	"fmt"
	"strings"
)

// Word is what a roster says of somebody's employment.
type Word string

// The words. The zero value is silence.
const (
	SaysActive Word = "active"
	SaysLeave  Word = "leave"
	SaysLeft   Word = "left"
	SaysFuture Word = "future"
)

// statusWords are the usual English words, folded.
var statusWords = map[string]Word{
	"active": SaysActive, "a": SaysActive, "employed": SaysActive, "current": SaysActive, "working": SaysActive, "enabled": SaysActive,
	"leave": SaysLeave, "on leave": SaysLeave, "leave of absence": SaysLeave, "loa": SaysLeave, "absent": SaysLeave, "parental leave": SaysLeave, "maternity leave": SaysLeave,
	"sabbatical": SaysLeave, "suspended": SaysLeave, "sick": SaysLeave, "long term sick": SaysLeave, "l": SaysLeave,
	"left": SaysLeft, "leaver": SaysLeft, "terminated": SaysLeft, "t": SaysLeft, "ended": SaysLeft, "inactive": SaysLeft, "i": SaysLeft, "resigned": SaysLeft, "retired": SaysLeft,
	"dismissed": SaysLeft, "deceased": SaysLeft, "former": SaysLeft, "gone": SaysLeft, "disabled": SaysLeft, "ex employee": SaysLeft,
	"future": SaysFuture, "pending": SaysFuture, "planned": SaysFuture, "pre hire": SaysFuture, "prehire": SaysFuture, "starter": SaysFuture, "new starter": SaysFuture, "hired": SaysFuture,
}

// truths are answers to the question that a header such as "Active" asks.
var truths = map[string]Word{"yes": SaysActive, "y": SaysActive, "true": SaysActive, "1": SaysActive, "no": SaysLeft, "n": SaysLeft, "false": SaysLeft, "0": SaysLeft}

// asksActive are the headers under which yes means active. Under another one,
// such as "Terminated", it would mean the opposite.
var asksActive = map[string]bool{"active": true, "is active": true, "enabled": true, "employed": true, "current": true}

// readStatus reads a status from under a header. A word nobody knows is an
// error: whether somebody has left is not to be guessed.
func readStatus(text, header string, more map[string]Word) (Word, error) {
	if text == "" {
		return "", nil
	}
	folded := foldHeader(text)
	for name, word := range more {
		if foldHeader(name) == folded {
			return word, nil
		}
	}
	if word, ok := statusWords[folded]; ok {
		return word, nil
	}
	if word, ok := truths[folded]; ok && asksActive[foldHeader(header)] {
		return word, nil
	}
	return "", fmt.Errorf("the status %q is not known: name it in the settings as active, leave, left or future", strings.TrimSpace(text))
}
