package roster

import (
	_ "embed"
	"fmt"
	"strings"
	"sync"
)

// Word is what a roster says of somebody's employment.
type Word string

// The words. The zero value is silence.
const (
	WordActive Word = "active"
	WordLeave  Word = "leave"
	WordLeft   Word = "left"
	WordFuture Word = "future"
)

//go:embed statuses.txt
var statusesText string

// usualWords are the usual words for a status, folded, in many languages.
type usualWords struct {
	status map[string]Word
	truths map[string]Word // answers to the question that a header such as "Active" asks
}

var words = sync.OnceValue(func() usualWords {
	words, answers := map[string]Word{}, map[string]Word{}
	for meaning, word := range wordLists(statusesText) {
		switch meaning {
		case "yes":
			answers[foldHeader(word)] = WordActive
		case "no":
			answers[foldHeader(word)] = WordLeft
		default:
			words[foldHeader(word)] = Word(meaning)
		}
	}
	return usualWords{words, answers}
})

// asksActive tells of a header that yes means active under it. Under another
// one, such as "Terminated", it would mean the opposite.
func asksActive(header string) bool {
	folded := foldHeader(header)
	return words().status[folded] == WordActive || folded == "is active" || folded == foldHeader("재직여부")
}

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
	if word, ok := words().status[folded]; ok {
		return word, nil
	}
	if word, ok := words().truths[folded]; ok && asksActive(header) {
		return word, nil
	}
	return "", fmt.Errorf("the status %q is not known: name it in the settings as active, leave, left or future",
		strings.TrimSpace(text))
}
