package cli

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestMemoryGrowsAsGarbageIsExpected(t *testing.T) {
	const mb = 1 << 20
	for _, c := range []struct {
		live    uint64
		garbage float64
		want    int
	}{
		{4 * mb, 1, 1600},     // little in use: garbage is let lie
		{64 * mb, 1, 100},     // as much again
		{1000 * mb, 1, 40},    // nothing but garbage comes
		{1000 * mb, 0.8, 50},  // four fifths of it
		{1000 * mb, 0.01, 59}, // hardly any, which may end
		{300 * mb, 0.01, 104},
		{0, 0, 25600},
	} {
		assert.Equal(t, c.want, growth(c.live, c.garbage), "%d MB, %v", c.live/mb, c.garbage)
	}
}

func TestTheCollectorLearnsHowMuchIsGarbage(t *testing.T) {
	p := &pace{live: 100, allocated: 1000}
	assert.InDelta(t, 0.25, p.learn(250, 1200), 0.001) // 150 of 200 are in use
	assert.InDelta(t, 1, p.learn(200, 1500), 0.001)    // less is in use than before
	assert.InDelta(t, 0, p.learn(900, 1600), 0.001)    // a run that ended late
	assert.InDelta(t, 1, p.learn(900, 1600), 0.001)
}
