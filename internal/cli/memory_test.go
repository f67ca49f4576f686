package cli

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestMemoryGrowsAsGarbageIsExpected(t *testing.T) {
	const mb = 1 << 20
	for _, c := range []struct {
		live     uint64
		garbage  float64
		patience float64
		want     int
	}{
		{4 * mb, 1, 1, 1600},     // little in use: garbage is let lie
		{64 * mb, 1, 1, 100},     // as much again
		{1000 * mb, 1, 1, 40},    // nothing but garbage comes
		{1000 * mb, 0.8, 1, 50},  // four fifths of it
		{1000 * mb, 0.01, 1, 59}, // hardly any, which may end
		{300 * mb, 0.01, 1, 104},
		{200 * mb, 1, 2, 80}, // it is collected too often
		{200 * mb, 1, 4, 128},
		{1000 * mb, 1, 4, 40}, // of so much, there is garbage enough
		{0, 0, 1, 25600},
	} {
		assert.Equal(t, c.want, growth(c.live, c.garbage, c.patience), "%d MB, %v, %v", c.live/mb, c.garbage, c.patience)
	}
}

func TestTheCollectorLearnsHowMuchIsGarbage(t *testing.T) {
	p := &pace{live: 100, allocated: 1000}
	assert.InDelta(t, 0.25, p.learn(250, 1200), 0.001) // 150 of 200 are in use
	assert.InDelta(t, 1, p.learn(200, 1500), 0.001)    // less is in use than before
	assert.InDelta(t, 0, p.learn(900, 1600), 0.001)    // a run that ended late
	assert.InDelta(t, 1, p.learn(900, 1600), 0.001)
}

func TestGarbageIsBorneWhileCollectingTakesTooMuchTime(t *testing.T) {
	p := &pace{patience: 1}
	p.bear(0.1, 10)
	assert.InDelta(t, 1, p.patience, 0.001, "little")
	for range 6 {
		p.bear(p.collecting+1, p.busy+5)
	}
	assert.InDelta(t, mostPatience, p.patience, 0.001)
	p.bear(p.collecting+0.8, p.busy+10)
	assert.InDelta(t, mostPatience, p.patience, 0.001, "it does not go to and fro")
	for range 6 {
		p.bear(p.collecting+0.1, p.busy+10)
	}
	assert.InDelta(t, 1, p.patience, 0.001)
	p.bear(p.collecting, p.busy)
	assert.InDelta(t, 1, p.patience, 0.001)
}
