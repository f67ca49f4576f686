package parallel

import (
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestEverythingIsDoneOnceAndInOrderWithinAChunk(t *testing.T) {
	for _, n := range []int{0, 1, atOnce - 1, atOnce, atOnce + 1, 10*atOnce + 7} {
		done := make([]atomic.Int32, n)
		last := make([]int, Chunks(n))
		Each(n, func(chunk, i int) {
			done[i].Add(1)
			assert.Equal(t, i/atOnce, chunk)
			assert.GreaterOrEqual(t, i, last[chunk])
			last[chunk] = i
		})
		for i := range done {
			assert.Equal(t, int32(1), done[i].Load(), "%d of %d", i, n)
		}
	}
}

func TestOneWorkerDoesOnePieceAtATime(t *testing.T) {
	busy := make([]atomic.Bool, Workers(1000))
	var all atomic.Int32
	Do(1000, func(worker, _ int) {
		assert.False(t, busy[worker].Swap(true))
		all.Add(1)
		busy[worker].Store(false)
	})
	assert.Equal(t, int32(1000), all.Load())
}
