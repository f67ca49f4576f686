package directory

import (
	"hash/maphash"
	"iter"
	"strings"
	"sync"
	"sync/atomic"
)

// wordTexts are the attributes whose values many accounts share.
var wordTexts = Attrs(AttrC, AttrL, AttrST, AttrCO, AttrCompany, AttrDepartment, AttrTitle,
	AttrPhysicalDeliveryOfficeName, AttrOperatingSystem)

// Words are the values that many accounts of a survey share (departments,
// towns), each kept once and known by its number, so that they need little
// memory and can be judged once for all. Values that find no room stay with
// their accounts: what is said of words must be said of these too. Several
// parts of a survey may add words at once.
type Words struct {
	once  sync.Once
	slots []atomic.Uint32 // numbers, by the hash of the word
	runs  [mostWords / wordRun]atomic.Pointer[[wordRun]Word]
	last  atomic.Uint32 // the number given last; 0 is none
}

// Word is a value of an attribute.
type Word struct {
	Attr AttrID
	Text string
}

const (
	mostWords   = 1 << 14
	longestWord = 100
	wordRun     = 1 << 7
	wordSlots   = 2 * mostWords
	wordProbes  = 16
)

var wordSeed = maphash.MakeSeed()

// number returns the number of a value, which becomes a word where there is
// room for it.
func (w *Words) number(attr AttrID, text string) (n int, ok bool) {
	if w == nil || len(text) > longestWord {
		return 0, false
	}
	w.once.Do(func() { w.slots = make([]atomic.Uint32, wordSlots) })
	at := maphash.String(wordSeed, text) + uint64(attr)
	for range wordProbes {
		slot := &w.slots[at%wordSlots]
		n := slot.Load()
		if n == 0 {
			if n, ok = w.add(attr, text); !ok {
				return 0, false
			}
			if slot.CompareAndSwap(0, n) {
				return int(n), true
			}
			n = slot.Load() // another part was faster; the number is never met
		}
		if known := w.at(int(n)); known == (Word{attr, text}) {
			return int(n), true
		}
		at++
	}
	return 0, false
}

// add gives a value a number that nobody knows yet.
func (w *Words) add(attr AttrID, text string) (n uint32, ok bool) {
	if w.last.Load() >= mostWords-1 {
		return 0, false
	}
	if n = w.last.Add(1); n >= mostWords {
		return 0, false
	}
	run := &w.runs[n/wordRun]
	if run.Load() == nil {
		run.CompareAndSwap(nil, &[wordRun]Word{})
	}
	run.Load()[n%wordRun] = Word{attr, strings.Clone(text)}
	return n, true
}

func (w *Words) at(n int) Word { return w.runs[n/wordRun].Load()[n%wordRun] }

// Limit is greater than every number of a word, once all parts are read.
func (w *Words) Limit() int { return min(int(w.last.Load())+1, mostWords) }

// All goes through the words by number.
func (w *Words) All() iter.Seq2[int, Word] {
	return func(yield func(int, Word) bool) {
		for n := 1; n < w.Limit(); n++ {
			if !yield(n, w.at(n)) {
				return
			}
		}
	}
}
