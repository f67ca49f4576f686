package reconcile

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

// best tries every assignment.
func best(edges []edge, but int) (most int32) {
	var try func(at int, sum int32, people, accounts uint64)
	try = func(at int, sum int32, people, accounts uint64) {
		most = max(most, sum)
		for i := at; i < len(edges); i++ {
			p, a := uint64(1)<<edges[i].person, uint64(1)<<edges[i].account
			if i != but && people&p == 0 && accounts&a == 0 {
				try(i+1, sum+edges[i].weight, people|p, accounts|a)
			}
		}
	}
	try(0, 0, 0, 0)
	return most
}

func TestTheAssignmentIsTheBestAndStatesWhatStandsOut(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		people, accounts := rapid.IntRange(1, 5).Draw(t, "people"), rapid.IntRange(1, 5).Draw(t, "accounts")
		var edges []edge
		for p := range people {
			for a := range accounts {
				if w := rapid.Int32Range(-3, 12).Draw(t, "weight"); w > 0 {
					edges = append(edges, edge{int32(p), int32(a), w})
				}
			}
		}
		all := best(edges, -1)
		var want, got []edge
		margins := map[edge]int32{}
		const least = 2
		for i, e := range edges {
			if margin := all - best(edges, i); margin >= least {
				want = append(want, e)
				margins[e] = margin
			}
		}
		for _, s := range assign(edges, least) {
			for _, e := range edges {
				if e.person == s.person && e.account == s.account {
					got = append(got, e)
					assert.GreaterOrEqual(t, s.margin, int32(least))
				}
			}
		}
		// What dominates is taken first, with a margin that is at least the true
		// bar; nothing that does not stand out is stated.
		assert.ElementsMatch(t, want, got)
		for _, piece := range newGraph(edges).components() {
			m := newMatching(piece)
			for p := range m.people {
				m.improve(p, none, none)
			}
			assert.Equal(t, best(piece, -1), m.weight())
		}
	})
}

func TestATieIsNotStated(t *testing.T) {
	assert.Empty(t, assign([]edge{{0, 0, 10}, {0, 1, 10}}, 1))
	assert.Equal(t, []stated{{0, 0, 9}}, assign([]edge{{0, 0, 10}, {0, 1, 1}}, 1))
	// The greedy choice, 0 with 0, would leave 1 with nothing.
	assert.Equal(t, []stated{{0, 1, 6}, {1, 0, 6}}, assign([]edge{{0, 0, 10}, {0, 1, 8}, {1, 0, 8}}, 5))
}

func TestAVeryLargeComponentIsLeftOpen(t *testing.T) {
	var edges []edge
	for p := range int32(100) {
		for a := range int32(100) {
			edges = append(edges, edge{p, a, 10 + (p*a)%7})
		}
	}
	assert.Empty(t, assign(edges, 5))
}
