package tracing

import (
	"slices"
	"time"
)

// Rhythm is how refused sign-ins follow each other.
type Rhythm struct {
	Tries int // what comes within a few seconds is one
	// Every is the usual time between two, 0 where there are too few to say.
	Every time.Duration
	// Regular is that they come like clockwork, now and then one left out.
	Regular bool
	// DayAndNight is that they go on around the clock, which nobody who types does.
	DayAndNight bool
}

const (
	oneTry     = 5 * time.Second // programs that are refused often ask twice at once
	enough     = 4               // tries before anything is called regular
	usualShare = 70              // per cent of the times between them that must be the usual one
	tolerance  = 20              // per cent by which these may differ from it
	leftOut    = 3               // times the usual one may pass, when a try or two are missing
	wakeful    = 20 * time.Hour  // people sleep
	longestNap = 5 * time.Hour
)

func rhythmOf(times []time.Time) Rhythm {
	var tries []time.Time
	for i, at := range times {
		if i == 0 || at.Sub(times[i-1]) > oneTry {
			tries = append(tries, at)
		}
	}
	r := Rhythm{Tries: len(tries)}
	if len(tries) < enough {
		return r
	}
	var between []time.Duration
	for i := 1; i < len(tries); i++ {
		between = append(between, tries[i].Sub(tries[i-1]))
	}
	sorted := slices.Sorted(slices.Values(between))
	r.Every = sorted[len(sorted)/2]
	usual := 0
	for _, d := range between {
		for n := time.Duration(1); n <= leftOut; n++ {
			if off := (d - n*r.Every).Abs(); off*100 <= n*r.Every*tolerance {
				usual++
				break
			}
		}
	}
	r.Regular = usual*100 >= usualShare*len(between)
	r.DayAndNight = len(tries) >= 2*enough && tries[len(tries)-1].Sub(tries[0]) >= wakeful && longestGap(tries) <= longestNap
	return r
}

func longestGap(tries []time.Time) (longest time.Duration) {
	for i := 1; i < len(tries); i++ {
		longest = max(longest, tries[i].Sub(tries[i-1]))
	}
	return longest
}
