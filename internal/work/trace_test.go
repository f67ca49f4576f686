package work

import (
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"yardbroom/internal/directory"
	"yardbroom/internal/logs"
)

// That something is not in the logs before a time says nothing where the log that holds it
// begins only then.
func TestSinceWhenLogsCover(t *testing.T) {
	day := func(n int) time.Time { return time.Date(2026, 11, n, 0, 0, 0, 0, time.UTC) }
	for name, c := range map[string]struct {
		reports []*logs.Report
		want    time.Time
	}{
		"a rotated log begins with its oldest file": {[]*logs.Report{{Series: "a", First: day(1)}, {Series: "a", First: day(5), Events: 2}}, day(1)},
		"the later of two":                          {[]*logs.Report{{Series: "a", First: day(1), Events: 1}, {Series: "b", First: day(4), Events: 1}}, day(4)},
		"one that is empty covers nothing less":     {[]*logs.Report{{Series: "a", First: day(3), Events: 1}, {Series: "b"}}, day(3)},
		"one that could not be read":                {[]*logs.Report{{Series: "a", First: day(3), Events: 1}, {Series: "b", Error: errors.New("gone")}}, day(20)},
		"none":                                      {nil, time.Time{}},
	} {
		assert.Equal(t, c.want, covered(c.reports, day(20)), name)
	}
}

func TestWhatIsWrongWithALogIsSaid(t *testing.T) {
	day := func(n int) time.Time { return time.Date(2026, 11, n, 0, 0, 0, 0, time.UTC) }
	whole := logs.Report{Lines: 9, Known: 9, First: day(3), Last: day(9), Oldest: true, Newest: true}
	for _, c := range []struct {
		name   string
		change func(*logs.Report)
		since  time.Time
		want   []string
	}{
		{"nothing", func(*logs.Report) {}, time.Time{}, nil},
		{"empty", func(r *logs.Report) { *r = logs.Report{} }, time.Time{}, []string{"is empty"}},
		{"unreadable", func(r *logs.Report) { r.Error = errors.New("no right") }, time.Time{}, []string{"cannot be read: no right"}},
		{"another log", func(r *logs.Report) { r.Known = 0 }, time.Time{}, []string{"holds nothing of the kinds that are known: is it another log, or does it need fields in the settings?"}},
		{"broken lines", func(r *logs.Report) { r.Broken, r.FaultLine, r.Fault = 2, 7, "not a time" }, time.Time{}, []string{"has 2 lines that cannot be read, the first in line 7: not a time"}},
		{"of another day", func(*logs.Report) {}, day(10), []string{"ends before that, on 2026-11-09"}},
		{"rotated away", func(*logs.Report) {}, day(1), []string{"begins only on 2026-11-03 00:00"}},
		{"an older file of a series", func(r *logs.Report) { r.Newest = false }, day(10), nil},
		{"a newer file of a series", func(r *logs.Report) { r.Oldest = false }, day(1), nil},
	} {
		r := whole
		c.change(&r)
		assert.Equal(t, c.want, Faults(&r, c.since, time.UTC), c.name)
	}
}

func TestEveryAttributeWithALastChangeHasWords(t *testing.T) {
	for _, attr := range directory.DatedAttributes() {
		assert.NotEmpty(t, lastChanges[attr], attr)
	}
	assert.Len(t, lastChanges, len(directory.DatedAttributes()))
}
