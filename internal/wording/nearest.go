package wording

import (
	"cmp"
	"slices"
	"strings"

	"github.com/antzucaro/matchr"
)

// Nearest are the names that somebody who wrote a name most likely meant, the
// likeliest first: at most three, none where none is near.
func Nearest(name string, names []string) []string {
	type near struct {
		name string
		far  int
	}
	asked := strings.ToLower(name)
	most := max(1, (len(asked)+1)/3)
	var found []near
	for _, n := range names {
		low := strings.ToLower(n)
		far := matchr.OSA(asked, low)
		if len(asked) > 2 && (strings.HasPrefix(low, asked) || strings.HasPrefix(asked, low) && len(low) > 2) {
			far = min(far, 1)
		}
		if far <= most {
			found = append(found, near{n, far})
		}
	}
	slices.SortStableFunc(found, func(a, b near) int {
		return cmp.Or(cmp.Compare(a.far, b.far), cmp.Compare(len(a.name), len(b.name)))
	})
	out := make([]string, 0, 3)
	for _, f := range found[:min(3, len(found))] {
		out = append(out, f.name)
	}
	return out
}

// DidYouMean stands in a message behind a name that there is not: " (did you mean a or
// b?)", nothing where no name is near.
func DidYouMean(name string, names []string) string {
	near := Nearest(name, names)
	switch n := len(near); n {
	case 0:
		return ""
	case 1:
		return " (did you mean " + near[0] + "?)"
	default:
		return " (did you mean " + strings.Join(near[:n-1], ", ") + " or " + near[n-1] + "?)"
	}
}
