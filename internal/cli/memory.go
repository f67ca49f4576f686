package cli

import (
	"runtime"
	"runtime/debug"
	"runtime/metrics"
)

// A large directory is held in few and long-lived pieces, so memory is kept near what is
// in use: collecting begins again when garbage is expected to be two fifths of that, by
// how much of what was allocated had become garbage the last time. While little is in use
// that would be all the time, for nothing, so some garbage is let lie. What is expected
// may be wrong, and is allowed to be by so much.
const (
	garbageShare = 40        // per cent of what is in use
	garbageToLie = 64 << 20  // octets
	mostWrong    = 192 << 20 // octets
)

// pace is what the collector found the last time.
type pace struct{ live, allocated uint64 }

// paceCollector sets when the garbage collector runs, anew after each of its runs.
func paceCollector() {
	p := &pace{live: 4 << 20} // the least heap that it takes for one
	debug.SetGCPercent(growth(p.live, 1))
	p.sentinel()
}

// growth is by how many per cent memory in use may grow when so much is in use, and a
// share of what is allocated becomes garbage.
func growth(live uint64, garbage float64) int {
	live = max(live, 1<<20)
	share := func(octets uint64) float64 { return float64(octets*100) / float64(live) }
	tolerated := max(garbageShare, share(garbageToLie))
	return int(min(tolerated/max(garbage, 0.01), tolerated+share(mostWrong)))
}

// sentinel is found to be garbage by each run of the collector, and takes its place
// again.
func (p *pace) sentinel() {
	type mark struct{ _ *byte } // of a size of its own, so that it is found by itself
	runtime.SetFinalizer(&mark{}, func(*mark) {
		now := []metrics.Sample{{Name: "/gc/heap/live:bytes"}, {Name: "/gc/heap/allocs:bytes"}}
		metrics.Read(now)
		if now[0].Value.Kind() != metrics.KindUint64 || now[1].Value.Kind() != metrics.KindUint64 {
			return // a version of Go that does not count so: the pace stays
		}
		live, allocated := now[0].Value.Uint64(), now[1].Value.Uint64()
		debug.SetGCPercent(growth(live, p.learn(live, allocated)))
		p.sentinel()
	})
}

// learn takes note of a run: what is still in use, and what was allocated so far. It
// returns which share of what was allocated since the run before became garbage.
func (p *pace) learn(live, allocated uint64) (garbage float64) {
	garbage = 1
	if grown := float64(live) - float64(p.live); grown > 0 && allocated > p.allocated {
		garbage = 1 - min(grown/float64(allocated-p.allocated), 1)
	}
	p.live, p.allocated = live, allocated
	return garbage
}
