package wording

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestNumbersAndNamesInSentences(t *testing.T) {
	assert.Equal(t, "0 lines", Count(0, "line"))
	assert.Equal(t, "1 line", Count(1, "line"))
	assert.Equal(t, "17 lines", Count(17, "line"))
	assert.Empty(t, Some(nil))
	assert.Equal(t, "a, b, c", Some([]string{"a", "b", "c"}))
	assert.Equal(t, "a, b, c, …", Some([]string{"a", "b", "c", "d"}))
	assert.Empty(t, Moment(time.Time{}, time.UTC))
	assert.Equal(t, "2026-11-20 12:30 UTC", Moment(time.Date(2026, 11, 20, 12, 30, 59, 0, time.UTC), time.UTC))
}
