package schedule

import (
	"time"

	"github.com/robfig/cron/v3"
)

// Times is one rule of a schedule for a scheduler of another kind: numbers as clocks
// and calendars show them, nil for all of them. Weekdays count from Sunday, 0.
type Times struct {
	Minutes, Hours, Days, Months, Weekdays []int
	// Expression is the rule as five fields.
	Expression string
}

// Times are the rules of a schedule.
func (s Schedule) Times() (all []Times) {
	for _, r := range s.rules {
		spec, ok := r.Schedule.(*cron.SpecSchedule)
		if !ok {
			continue // the parser makes no others of five fields
		}
		all = append(all, Times{
			Minutes: numbers(spec.Minute, 0, 59), Hours: numbers(spec.Hour, 0, 23), Days: numbers(spec.Dom, 1, 31),
			Months: numbers(spec.Month, 1, 12), Weekdays: numbers(spec.Dow, 0, 6), Expression: r.text,
		})
	}
	return all
}

// numbers are those whose bits are set; nil for all of them.
func numbers(bits uint64, from, to int) (all []int) {
	for n := from; n <= to; n++ {
		if bits&(1<<n) != 0 {
			all = append(all, n)
		}
	}
	if len(all) == to-from+1 {
		return nil
	}
	return all
}

// Zone is where the clocks stand by which the schedule goes.
func (s Schedule) Zone() *time.Location { return s.zone }
