package cli

import (
	"runtime"
	"runtime/debug"
	"runtime/metrics"
	"slices"
)

// A large directory is held in few and long-lived pieces, so memory is kept near what is
// in use: collecting begins again when garbage is expected to be two fifths of that, by
// how much of what was allocated had become garbage the last time. While little is in use
// that would be all the time, for nothing, so some garbage is let lie. What is expected
// may be wrong, and is allowed to be by so much. Who makes garbage all the time and keeps
// little of it, as a rehearsal of many lines does, has more of it lie, as long as collecting
// takes too much of the processor time.
const (
	garbageShare = 40        // per cent of what is in use
	garbageToLie = 64 << 20  // octets
	mostWrong    = 192 << 20 // octets
	mostWork     = 0.12      // of the processor time since the run before
	mostPatience = 2.5       // times the garbage, about as much as Go lets lie of itself
	mostBorne    = 256 << 20 // octets of garbage that patience goes up to
)

// pace is what the collector found the last time.
type pace struct {
	live, allocated  uint64
	collecting, busy float64 // seconds of processor time so far: its own, and all
	patience         float64 // by how many times more garbage is let lie
}

// paceCollector sets when the garbage collector runs, anew after each of its runs.
func paceCollector() {
	p := &pace{live: 4 << 20, patience: 1} // the least heap that it takes for one
	debug.SetGCPercent(growth(p.live, 1, p.patience))
	p.sentinel()
}

// growth is by how many per cent memory in use may grow when so much is in use, a share of
// what is allocated becomes garbage, and there is some patience with it.
func growth(live uint64, garbage, patience float64) int {
	live = max(live, 1<<20)
	share := func(octets uint64) float64 { return float64(octets*100) / float64(live) }
	tolerated := max(garbageShare, share(garbageToLie))
	tolerated = max(tolerated, min(patience*tolerated, share(mostBorne)))
	return int(min(tolerated/max(garbage, 0.01), tolerated+share(mostWrong)))
}

// sentinel is found to be garbage by each run of the collector, and takes its place
// again.
func (p *pace) sentinel() {
	type mark struct{ _ *byte } // of a size of its own, so that it is found by itself
	runtime.SetFinalizer(&mark{}, func(*mark) {
		now := []metrics.Sample{{Name: "/gc/heap/live:bytes"}, {Name: "/gc/heap/allocs:bytes"},
			{Name: "/cpu/classes/gc/mark/assist:cpu-seconds"}, {Name: "/cpu/classes/gc/mark/dedicated:cpu-seconds"},
			{Name: "/cpu/classes/user:cpu-seconds"}}
		metrics.Read(now)
		if slices.ContainsFunc(now, func(s metrics.Sample) bool { return s.Value.Kind() == metrics.KindBad }) {
			return // a version of Go that does not count so: the pace stays
		}
		live, allocated := now[0].Value.Uint64(), now[1].Value.Uint64()
		collecting := now[2].Value.Float64() + now[3].Value.Float64()
		p.bear(collecting, collecting+now[4].Value.Float64())
		debug.SetGCPercent(growth(live, p.learn(live, allocated), p.patience))
		p.sentinel()
	})
}

// bear takes note of how much processor time collecting and all has taken so far, and of
// what follows for the patience with garbage.
func (p *pace) bear(collecting, busy float64) {
	switch work, all := collecting-p.collecting, busy-p.busy; {
	case all <= 0:
	case work > mostWork*all:
		p.patience = min(p.patience*1.5, mostPatience)
	case work < mostWork/2*all:
		p.patience = max(p.patience/1.5, 1)
	}
	p.collecting, p.busy = collecting, busy
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
