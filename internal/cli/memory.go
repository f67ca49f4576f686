package cli

import (
	"runtime"
	"runtime/debug"
	"runtime/metrics"
)

// A large directory is held in few and long-lived pieces, so memory is kept near what is
// in use: collecting begins again when that has grown by two fifths. While little is in
// use that would be all the time, for nothing, so some garbage is let lie.
const (
	leastGrowth  = 40       // per cent
	garbageToLie = 64 << 20 // octets
)

// paceCollector sets when the garbage collector runs, anew after each of its runs.
func paceCollector() {
	debug.SetGCPercent(growth(4 << 20)) // the least heap that it takes for one
	sentinel()
}

// growth is by how many per cent so much memory in use may grow.
func growth(inUse uint64) int {
	return max(leastGrowth, int(garbageToLie*100/max(inUse, 1<<20)))
}

// sentinel is found to be garbage by each run of the collector, and takes its place
// again.
func sentinel() {
	type mark struct{ _ *byte } // of a size of its own, so that it is found by itself
	runtime.SetFinalizer(&mark{}, func(*mark) {
		live := []metrics.Sample{{Name: "/gc/heap/live:bytes"}}
		metrics.Read(live)
		if live[0].Value.Kind() == metrics.KindUint64 {
			debug.SetGCPercent(growth(live[0].Value.Uint64()))
		}
		sentinel()
	})
}
