// Package parallel does many small things on all processors.
package parallel

import (
	"runtime"
	"sync"
	"sync/atomic"
)

// Workers is how many goroutines do so many pieces of work.
func Workers(pieces int) int { return min(runtime.GOMAXPROCS(0), pieces) }

// Do does so many pieces of work, each once, and returns when all are done. Workers are
// numbered from 0; one does one piece after the other.
func Do(pieces int, work func(worker, piece int)) {
	var next atomic.Int64
	var wg sync.WaitGroup
	for worker := range Workers(pieces) {
		wg.Go(func() {
			for n := int(next.Add(1)) - 1; n < pieces; n = int(next.Add(1)) - 1 {
				work(worker, n)
			}
		})
	}
	wg.Wait()
}

// atOnce is how many things are a chunk.
const atOnce = 1024

// Chunks is how many chunks so many things make.
func Chunks(n int) int { return (n + atOnce - 1) / atOnce }

// Each does the work for each of n things: those of one chunk in their order, one after
// the other.
func Each(n int, work func(chunk, i int)) {
	Do(Chunks(n), func(_, chunk int) {
		for i := chunk * atOnce; i < min((chunk+1)*atOnce, n); i++ {
			work(chunk, i)
		}
	})
}
