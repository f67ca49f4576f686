package work

import (
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

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
