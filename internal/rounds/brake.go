package rounds

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"yardbroom/internal/directory"
	"yardbroom/internal/settings"
	"yardbroom/internal/wording"
)

// Facts are what the brake knows of a reading.
type Facts struct {
	Taken    time.Time `json:"taken,omitzero"`
	Accounts int       `json:"accounts"`
	Whole    bool      `json:"whole"`
	Gaps     string    `json:"gaps,omitempty"`   // what is missing, in words
	Asked    []string  `json:"asked,omitempty"`  // servers whose own sign-ins were read
	Silent   []string  `json:"silent,omitempty"` // servers that did not answer
	People   int       `json:"people,omitempty"` // rows of the roster
}

// factsOf are the facts of a survey.
func factsOf(s *directory.Survey) *Facts {
	gaps := s.Gaps.Describe()
	if s.Broken > 0 {
		gaps = append(gaps, wording.Count(s.Broken, "record")+" could not be read")
	}
	return &Facts{Taken: s.Taken, Accounts: s.Accounts.Len(), Asked: s.Asked, Silent: s.Silent,
		Whole: s.Whole() && s.Broken == 0, Gaps: strings.Join(gaps, ", ")}
}

// StopKind is a reason for the brake to stop a run.
type StopKind string

// The kinds of stops.
const (
	StopLines   StopKind = "lines"   // more lines than the round may stage
	StopShare   StopKind = "share"   // more of the yard's accounts
	StopUsual   StopKind = "usual"   // far more than it usually does
	StopWhole   StopKind = "whole"   // what was read is not whole
	StopOlder   StopKind = "older"   // it was read before what the last run read
	StopSmaller StopKind = "smaller" // far fewer accounts than the last time
	StopSilent  StopKind = "silent"  // a server that told its sign-ins before did not
	StopRoster  StopKind = "roster"  // the roster is far shorter than the last time
)

// Stop is one reason why the brake stopped a run.
type Stop struct {
	Kind StopKind `json:"kind"`
	Yard string   `json:"yard"`
	Why  string   `json:"why"`
	Seen float64  `json:"seen,omitempty"` // the number that was too large, or too small
}

// brakeOnReading judges what was read, before anything is staged. Last is what the run
// before has read, nil where there was none.
func brakeOnReading(yard string, b settings.Brake, now, last *Facts) (stops []Stop) {
	stop := func(kind StopKind, seen float64, format string, args ...any) {
		stops = append(stops, Stop{kind, yard, fmt.Sprintf(format, args...), seen})
	}
	if !now.Whole {
		stop(StopWhole, 0, "what was read is not whole: %s", now.Gaps)
	}
	if last == nil {
		return stops
	}
	if !now.Taken.IsZero() && now.Taken.Before(last.Taken) {
		stop(StopOlder, 0, "it was read at %s, and the last run read what was there at %s", wording.Moment(now.Taken, time.UTC),
			wording.Moment(last.Taken, time.UTC))
	}
	if lost := loses(now.Accounts, last.Accounts); lost > b.YardLoses {
		stop(StopSmaller, lost, "%s, and %d at the last run: %.0f %% fewer, where %.0f %% are allowed",
			wording.Count(now.Accounts, "account"), last.Accounts, lost, b.YardLoses)
	}
	var missing []string
	for _, server := range last.Asked {
		if !slices.Contains(now.Asked, server) {
			missing = append(missing, server)
		}
	}
	if len(missing) > 0 {
		stop(StopSilent, float64(len(missing)), "sign-ins are missing of %s, which told them at the last run",
			wording.Some(missing))
	}
	return append(stops, brakeOnRoster(yard, b, now.People, last)...)
}

// brakeOnRoster judges how many rows a roster has, 0 where none was read.
func brakeOnRoster(yard string, b settings.Brake, rows int, last *Facts) []Stop {
	if last == nil || rows == 0 {
		return nil
	}
	lost := loses(rows, last.People)
	if lost <= b.RosterLoses {
		return nil
	}
	return []Stop{{StopRoster, yard, fmt.Sprintf("the roster has %s, and had %d at the last run: %.0f %% fewer, where %.0f %% are allowed",
		wording.Count(rows, "row"), last.People, lost, b.RosterLoses), lost}}
}

// loses is by how much a number is smaller than the last one, in per cent.
func loses(now, last int) float64 {
	if now >= last {
		return 0
	}
	return 100 * float64(last-now) / float64(last)
}

// fewLines are never too many by what is usual.
const fewLines = 10

// leastRuns is how many runs it takes to know what is usual.
const leastRuns = 3

// brakeOnLines judges how many lines a run would have staged with the next batch.
// Before are the numbers of lines of the last runs.
func brakeOnLines(yard string, b settings.Brake, lines, accounts int, before []int) (stops []Stop) {
	stop := func(kind StopKind, format string, args ...any) {
		stops = append(stops, Stop{kind, yard, fmt.Sprintf(format, args...), float64(lines)})
	}
	if lines > b.Lines {
		stop(StopLines, "it would stage %s, where %d are allowed", wording.Count(lines, "line"), b.Lines)
	}
	if share := 100 * float64(lines) / float64(max(accounts, 1)); share > b.Share && lines > fewLines {
		stop(StopShare, "it would stage %s, %.1f %% of %d accounts, where %.1f %% are allowed", wording.Count(lines, "line"),
			share, accounts, b.Share)
	}
	if usual := median(before); len(before) >= leastRuns && lines > fewLines && float64(lines) > b.TimesUsual*max(usual, 1) {
		stop(StopUsual, "it would stage %s; usually it stages %.0f", wording.Count(lines, "line"), usual)
	}
	return stops
}

func median(numbers []int) float64 {
	if len(numbers) == 0 {
		return 0
	}
	sorted := slices.Sorted(slices.Values(numbers))
	middle := len(sorted) / 2
	if len(sorted)%2 == 0 {
		return float64(sorted[middle-1]+sorted[middle]) / 2
	}
	return float64(sorted[middle])
}

// Release is a person's word that a round may run on.
type Release struct {
	By  string    `json:"by"`
	Why string    `json:"why"`
	At  time.Time `json:"at"`
}

// Held is why a round does not run on, and whether a person has let it.
type Held struct {
	Run      int       `json:"run"`
	At       time.Time `json:"at"`
	Stops    []Stop    `json:"stops"`
	Released *Release  `json:"released,omitempty"`
}

// tolerance is by how much more a run may do than what a person has let pass,
// since the directory does not stand still meanwhile.
const tolerance = 1.1

// allows tells whether a person has let this reason pass: it is one of those they
// saw, and not much more.
func (h *Held) allows(s Stop) bool {
	return h != nil && h.Released != nil && slices.ContainsFunc(h.Stops, func(seen Stop) bool {
		return seen.Kind == s.Kind && seen.Yard == s.Yard && s.Seen <= seen.Seen*tolerance
	})
}

// notReleased are the stops that nobody has let pass.
func (h *Held) notReleased(stops []Stop) []Stop {
	return slices.DeleteFunc(stops, h.allows)
}
