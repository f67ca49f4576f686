package reconcile

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// What is known of who holds what is what a plain table knows, which is slower.
func TestHoldersAreAsInATable(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	for _, n := range []int{0, 1, 2, 17, 300, 5000} {
		values := make([][]string, n)
		table := map[string][]int32{}
		for who := range values {
			for range r.IntN(4) {
				v := fmt.Sprintf("Value%d", r.IntN(n+1))
				switch r.IntN(6) {
				case 0:
					v = "everybody@larkmoor.example"
				case 1:
					v = strings.ToUpper(v)
				case 2:
					v = ""
				}
				values[who] = append(values[who], v)
				if key := strings.ToLower(v); v != "" && !slices.Contains(table[key], int32(who)) {
					table[key] = append(table[key], int32(who))
				}
			}
		}
		h := holdersOf(n, func(who int32, add func(string)) {
			for _, v := range values[who] {
				add(v)
			}
		})
		assert.Equal(t, len(table) == 0, h.isEmpty())
		for v, who := range table {
			assert.Equal(t, who, h.of(v), "%d: %s", n, v)
			assert.Equal(t, who, h.of(strings.ToUpper(v)))
			assert.True(t, h.has(v))
			last, there := h.last(v)
			assert.True(t, there)
			assert.Equal(t, who[len(who)-1], last)
		}
		for i := range 100 {
			v := fmt.Sprintf("nobody's %d", i)
			assert.Empty(t, h.of(v))
			assert.False(t, h.has(v))
			_, there := h.last(v)
			assert.False(t, there)
		}
	}
}
