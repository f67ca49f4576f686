package wording

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestWhatWasLikelyMeant(t *testing.T) {
	names := []string{"disable", "delete", "describe", "enable", "unlock"}
	assert.Equal(t, []string{"disable"}, Nearest("disbale", names))
	assert.Equal(t, []string{"enable"}, Nearest("ENABEL", names))
	assert.Empty(t, Nearest("rename", names))
	assert.Empty(t, DidYouMean("rename", names))
	assert.Equal(t, " (did you mean unlock?)", DidYouMean("unlok", names))
	assert.Equal(t, " (did you mean stale or stale-computer?)", DidYouMean("stal", []string{"stale-computer", "stale", "early"}))
}
