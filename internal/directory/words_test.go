package directory

import (
	"fmt"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Several parts meet the same values at once; each has one number, by which it
// is found again, and what finds no room is none.
func TestWordsHaveOneNumberEach(t *testing.T) {
	const met = mostWords * 3 / 2
	words := &Words{}
	numbers := make([][]int, 4)
	var all sync.WaitGroup
	for part := range numbers {
		all.Go(func() {
			numbers[part] = make([]int, met)
			for i := range met {
				at := (i*7 + part*met/3) % met
				attr := []AttrID{AttrTitle, AttrL}[at%2]
				if n, ok := words.number(attr, fmt.Sprint("word ", at/2)); ok {
					numbers[part][at] = n
				}
			}
		})
	}
	all.Wait()
	for at := range met {
		attr := []AttrID{AttrTitle, AttrL}[at%2]
		text := fmt.Sprint("word ", at/2)
		again, ok := words.number(attr, text)
		for part := range numbers {
			if n := numbers[part][at]; n != 0 {
				require.True(t, ok, text)
				require.Equal(t, again, n, text)
				require.Equal(t, Word{attr, text}, words.at(n))
			}
		}
	}
	assert.LessOrEqual(t, words.Limit(), mostWords)
	known := 0
	for n, one := range words.All() {
		if again, ok := words.number(one.Attr, one.Text); ok && again == n {
			known++
		}
	}
	assert.Greater(t, known, mostWords*9/10)
}

// What is a word stays one, and what is none stays none, so that a value is
// counted in one place.
func TestWordsWithoutRoom(t *testing.T) {
	words := &Words{}
	first, _ := words.number(AttrTitle, "Astronomer")
	for i := range mostWords * 2 {
		words.number(AttrL, fmt.Sprint(i))
	}
	_, ok := words.number(AttrL, "one more")
	assert.False(t, ok)
	n, ok := words.number(AttrTitle, "Astronomer")
	assert.True(t, ok)
	assert.Equal(t, first, n)
	var none *Words
	_, ok = none.number(AttrTitle, "Astronomer")
	assert.False(t, ok)
}
