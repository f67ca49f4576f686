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
