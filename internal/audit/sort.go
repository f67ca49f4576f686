package audit

import (
	"cmp"
	"runtime"
	"slices"
	"strings"
	"sync"
)

// sortKey stands for a finding while it is sorted: a finding is large, and a comparison of
// all that it has slow.
type sortKey struct {
	rank   int64  // by severity, check and days, for those of no bundle
	begins uint64 // how its bundle begins, or else its account
	of     *Finding
}

// sorted returns the findings of all parts in the order of reports.
func (c Catalog) sorted(parts [][]*Finding) []Finding {
	keys := c.keys(parts)
	sortTogether(keys, runtime.GOMAXPROCS(0))
	sorted := make([]Finding, len(keys))
	for i := range keys {
		sorted[i] = *keys[i].of
	}
	return sorted
}

func (c Catalog) keys(parts [][]*Finding) []sortKey {
	order := map[string]int{}
	for i, c := range c {
		order[c.Name] = i
	}
	n := 0
	for _, part := range parts {
		n += len(part)
	}
	keys := make([]sortKey, 0, n)
	for _, part := range parts {
		for _, f := range part {
			k := sortKey{rank: (int64(High-f.Severity)<<16 | int64(order[f.Check])) << 36, of: f}
			if f.bundle == "" {
				k.rank += 1<<33 - int64(f.Days) // those of no bundle come first
				k.begins = beginning(f.Account)
			} else {
				k.rank += 1 << 35
				k.begins = beginning(f.bundle)
			}
			keys = append(keys, k)
		}
	}
	return keys
}

// beginning is the first octets of a text as a number that compares as they do.
func beginning(text string) (n uint64) {
	for i := range 8 {
		n <<= 8
		if i < len(text) {
			n |= uint64(text[i])
		}
	}
	return n
}

func (k sortKey) compare(o sortKey) int {
	if k.rank != o.rank {
		return cmp.Compare(k.rank, o.rank)
	}
	if k.begins != o.begins {
		return cmp.Compare(k.begins, o.begins)
	}
	return compareWithin(k.of, o.of)
}

// compareWithin orders two findings of one check and severity.
func compareWithin(a, b *Finding) int {
	if n := strings.Compare(a.bundle, b.bundle); n != 0 {
		return n
	}
	if n := cmp.Compare(b.Days, a.Days); n != 0 {
		return n
	}
	if n := strings.Compare(a.Account, b.Account); n != 0 {
		return n
	}
	if n := strings.Compare(a.DN, b.DN); n != 0 {
		return n
	}
	return slices.CompareFunc(a.Evidence, b.Evidence, func(x, y Evidence) int {
		return cmp.Or(strings.Compare(x.Attr, y.Attr), strings.Compare(x.Value, y.Value))
	})
}

// worthSharing is how many findings are sorted by more than one processor.
const worthSharing = 4096

// sortTogether sorts on so many processors.
func sortTogether(keys []sortKey, processors int) {
	if processors < 2 || len(keys) < worthSharing {
		slices.SortFunc(keys, sortKey.compare)
		return
	}
	half := len(keys) / 2
	var wg sync.WaitGroup
	wg.Go(func() { sortTogether(keys[:half], processors/2) })
	sortTogether(keys[half:], processors-processors/2)
	wg.Wait()
	first, second := slices.Clone(keys[:half]), keys[half:]
	for i := range keys {
		if len(second) == 0 || len(first) > 0 && first[0].compare(second[0]) <= 0 {
			keys[i], first = first[0], first[1:]
		} else {
			keys[i], second = second[0], second[1:]
		}
		if len(first) == 0 {
			return // what is left stands where it belongs
		}
	}
}
