package reconcile

import (
	"cmp"
	"math/bits"
	"slices"

	"yardbroom/internal/directory"
	"yardbroom/internal/parallel"
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
func holdersOf(n int, values func(who int32, add func(value string))) *holders {
	chunks := make([][]held, parallel.Chunks(n))
	parallel.Each(n, func(chunk, i int) {
		values(int32(i), func(v string) {
			if v != "" {
				chunks[chunk] = append(chunks[chunk], held{directory.TextKey(v), int32(i)})
			}
		})
	})
	all := slices.Concat(chunks...)
	h := &holders{shift: 64 - bits.Len(uint(len(all)))}
	all = slices.Compact(h.sorted(all)) // what somebody holds twice they hold once
	h.begin = h.begins(all)
	h.keys, h.who = make([]directory.Key, len(all)), make([]int32, len(all))
	for i := range all {
		h.keys[i], h.who[i] = all[i].key, all[i].who
	}
	return h
}

// place is where a key stands, as far as its highest bits say.
func (h *holders) place(k directory.Key) uint64 { return k[0] >> h.shift }

// begins says where what is held begins, in the order of the keys, for each place.
func (h *holders) begins(all []held) []uint32 {
	begin := make([]uint32, 1<<(64-h.shift)+1)
	for i := range all {
		begin[h.place(all[i].key)+1]++
	}
	for i := 1; i < len(begin); i++ {
		begin[i] += begin[i-1]
	}
	return begin
}

// sorted puts what is held in the order of the keys.
func (h *holders) sorted(all []held) []held {
	begin := h.begins(all)
	next := slices.Clone(begin)
	sorted := make([]held, len(all))
	for i := range all {
		at := &next[h.place(all[i].key)]
		sorted[*at] = all[i]
		*at++
	}
	parallel.Each(len(begin)-1, func(_, i int) {
		if same := sorted[begin[i]:begin[i+1]]; len(same) > 1 {
			slices.SortFunc(same, func(a, b held) int {
				return cmp.Or(compareKeys(a.key, b.key), cmp.Compare(a.who, b.who))
			})
		}
	})
	return sorted
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
