package reconcile

import (
	"cmp"
	"iter"
	"math/bits"
	"slices"

	"yardbroom/internal/directory"
)

// holders tells who holds a value: one, or several. It is made of all values at once,
// which are sorted by their keys; these are random, so that the highest bits of one say
// where it stands.
type holders struct {
	keys  []directory.Key
	who   []int32  // in step with the keys, and of one key in their order
	begin []uint32 // where the keys with each of the highest bits begin, and where all end
	shift int      // what leaves these bits of the first half of a key
}

// held is a value that somebody holds.
type held struct {
	key directory.Key
	who int32
}

// holdersOf returns who of n holds which values; empty ones nobody does. The values are
// asked for on several goroutines at once.
func holdersOf(n int, values func(who int32) iter.Seq[string]) *holders {
	chunks := make([][]held, chunksOf(n))
	inChunks(n, func(chunk, i int) {
		for v := range values(int32(i)) {
			if v != "" {
				chunks[chunk] = append(chunks[chunk], held{directory.TextKey(v), int32(i)})
			}
		}
	})
	all := 0
	for _, c := range chunks {
		all += len(c)
	}
	h := &holders{shift: 64 - bits.Len(uint(all))}
	h.take(h.sorted(chunks, all), all)
	return h
}

// place is where a key stands, as far as its highest bits say.
func (h *holders) place(k directory.Key) uint64 { return k[0] >> h.shift }

// sorted puts what is held in the order of the keys.
func (h *holders) sorted(chunks [][]held, n int) []held {
	begin := make([]uint32, 1<<(64-h.shift)+1)
	for _, c := range chunks {
		for i := range c {
			begin[h.place(c[i].key)+1]++
		}
	}
	for i := 1; i < len(begin); i++ {
		begin[i] += begin[i-1]
	}
	next := slices.Clone(begin)
	all := make([]held, n)
	for _, c := range chunks {
		for i := range c {
			at := &next[h.place(c[i].key)]
			all[*at] = c[i]
			*at++
		}
	}
	inChunks(len(begin)-1, func(_, i int) {
		if same := all[begin[i]:begin[i+1]]; len(same) > 1 {
			slices.SortFunc(same, func(a, b held) int {
				return cmp.Or(compareKeys(a.key, b.key), cmp.Compare(a.who, b.who))
			})
		}
	})
	return all
}

// take takes over what is held, which is sorted; what somebody holds twice they hold once.
func (h *holders) take(all []held, n int) {
	h.keys, h.who = make([]directory.Key, 0, n), make([]int32, 0, n)
	h.begin = make([]uint32, 1<<(64-h.shift)+1)
	for i := range all {
		if i > 0 && all[i] == all[i-1] {
			continue
		}
		h.keys, h.who = append(h.keys, all[i].key), append(h.who, all[i].who)
		h.begin[h.place(all[i].key)+1]++
	}
	for i := 1; i < len(h.begin); i++ {
		h.begin[i] += h.begin[i-1]
	}
}

// isEmpty tells that nobody holds anything.
func (h *holders) isEmpty() bool { return len(h.keys) == 0 }

// has tells whether anybody holds a value.
func (h *holders) has(value string) bool { return len(h.of(value)) > 0 }

// of returns all holders of a value. The list is not to be changed.
func (h *holders) of(value string) []int32 {
	k := directory.TextKey(value)
	begin, end := h.begin[h.place(k)], h.begin[h.place(k)+1]
	keys := h.keys[begin:end]
	from, there := slices.BinarySearchFunc(keys, k, compareKeys)
	if !there {
		return nil
	}
	to := from + 1
	if to < len(keys) && keys[to] == k { // hardly ever, but then there may be very many
		n, _ := slices.BinarySearchFunc(keys[to:], k, func(a, b directory.Key) int { return cmp.Or(compareKeys(a, b), -1) })
		to += n
	}
	return h.who[int(begin)+from : int(begin)+to : int(begin)+to]
}

func compareKeys(a, b directory.Key) int {
	return cmp.Or(cmp.Compare(a[0], b[0]), cmp.Compare(a[1], b[1]))
}

// last returns the last holder of a value.
func (h *holders) last(value string) (who int32, there bool) {
	all := h.of(value)
	if len(all) == 0 {
		return 0, false
	}
	return all[len(all)-1], true
}
