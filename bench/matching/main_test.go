package main

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/bench/muddle"
)

// What is stated is true, and most of what is true is stated, however dirty
// the lists are.
func TestAccuracy(t *testing.T) {
	for _, d := range muddle.Levels {
		t.Run(d.Name, func(t *testing.T) {
			t.Parallel()
			s, err := measure(d, 4000, 3)
			require.NoError(t, err)
			assert.GreaterOrEqual(t, s.precision(), 0.999, "%v", s.wrong)
			assert.Zero(t, s.surelyWrong)
			if !d.NamesOnly { // two columns cannot tell people of one name apart
				assert.GreaterOrEqual(t, s.recall(), 0.97)
			}
			assert.Greater(t, s.recall(), 0.8)
		})
	}
}

// In houses of many cultures nearly all is found, and what is said is true:
// these seeds are not those that weights were set on.
func TestInternationalHouses(t *testing.T) {
	v, err := judgeHouses(3000, []uint64{301, 302, 303})
	require.NoError(t, err)
	most := func(s share, bar float64, what string) {
		assert.LessOrEqual(t, float64(s.part), bar*float64(s.all), "%s: %v", what, v.examples[what])
	}
	most(v.wrong, 0.002, "pairs")
	most(v.wrongSure, 0.001, "sure pairs")
	most(v.falseLeavers, 0.05, "leavers")
	most(v.sureLeavers, 0, "sure leavers")
	most(v.sureNobody, 0.01, "nobodies")
	assert.GreaterOrEqual(t, float64(v.found.part), 0.92*float64(v.found.all))
	assert.Greater(t, v.found.part, v.baseFound.part)
}
