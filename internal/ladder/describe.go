package ladder

import (
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"yardbroom/internal/store"
)

// Describe says in words what a record of the journal about ladders tells, "" for one
// about something else.
func Describe(r *store.Sealed) string {
	if r.Event == EventSet {
		var set definedBody
		if json.Unmarshal(r.Body, &set) != nil {
			return ""
		}
		rungs := make([]string, len(set.Rungs))
		for i, one := range set.Rungs {
			rungs[i] = one.Name + " after " + one.After
		}
		return fmt.Sprintf("%s: %s for %s, %s", set.Ladder, set.Starts, set.Span, strings.Join(rungs, ", "))
	}
	var e Event
	if json.Unmarshal(r.Body, &e) != nil {
		return ""
	}
	day := func(t time.Time) string { return t.UTC().Format(time.DateOnly) }
	switch r.Event {
	case EventWoke:
		return fmt.Sprintf("%s leaves %s: %s", e.Account, e.Ladder, e.Why)
	case EventGaveUp:
		return fmt.Sprintf("%s, to %s of %s: %s", e.Account, e.Rung, e.Ladder, e.Why)
	case EventAdopted:
		return strings.TrimSuffix(fmt.Sprintf("%s is on %s of %s: %s", e.Account, e.Rung, e.Ladder, e.Why), ": ")
	case EventNoDown:
		return strings.TrimSuffix(fmt.Sprintf("%s: %s", e.Account, e.Why), ": ")
	case EventHeld:
		text := fmt.Sprintf("%s until %s: %s", e.Account, day(e.Until), e.Why)
		if e.Address != "" {
			text += " (" + e.Address + ")"
		}
		return text
	case EventLetGo:
		return strings.TrimSuffix(fmt.Sprintf("%s: %s", e.Account, e.Why), ": ")
	case EventTold:
		return fmt.Sprintf("%s, that %s comes to %s on %s at the earliest", e.Address, e.Account, e.Rung, day(e.Day))
	case EventToldDay:
		return fmt.Sprintf("%s, that %s is on %s", e.Address, e.Account, e.Rung)
	case EventBounced:
		return fmt.Sprintf("%s, about %s and %s", e.Address, e.Account, e.Rung)
	case EventSeen, EventUnseen:
		return e.Account + ", by " + e.Ladder
	}
	return ""
}
