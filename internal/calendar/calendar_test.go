package calendar

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestSpansAndTimes(t *testing.T) {
	at := time.Date(2026, 3, 31, 12, 0, 0, 0, time.UTC)
	for text, want := range map[string]string{"90d": "2025-12-31", "12w": "2026-01-06", "1mo": "2026-03-03", "1y": "2025-03-31"} {
		s, err := ParseSpan(text)
		require.NoError(t, err)
		assert.Equal(t, want, s.Before(at).Format(time.DateOnly), text)
	}
	dublin, err := time.LoadLocation("Europe/Dublin")
	require.NoError(t, err)
	end, err := ParseTime("2026-07-01", dublin)
	require.NoError(t, err)
	assert.Equal(t, "2026-07-01T22:59:59.999999999Z", end.UTC().Format(time.RFC3339Nano), "the end of that day there")
	_, err = ParseTime("1.7.2026", dublin)
	assert.Error(t, err)
}

func TestRelativeTimes(t *testing.T) {
	dublin, err := time.LoadLocation("Europe/Dublin")
	require.NoError(t, err)
	now := time.Date(2026, 3, 29, 12, 0, 0, 0, dublin) // the day has 23 hours
	for text, want := range map[string]string{"now": "2026-03-29T11:00:00Z", "today": "2026-03-29T00:00:00Z", "1d ago": "2026-03-28T12:00:00Z",
		"in 1mo": "2026-04-29T11:00:00Z", "2026-04-01": "2026-03-31T23:00:00Z", "2026-04-01T08:00:00+05:00": "2026-04-01T03:00:00Z"} {
		got, err := ParseRelative(text, now, First)
		require.NoError(t, err, text)
		assert.Equal(t, want, got.UTC().Format(time.RFC3339), text)
	}
	last, err := ParseRelative("2026-04-01", now, Last)
	require.NoError(t, err)
	assert.Equal(t, "2026-04-01T22:59:59Z", last.UTC().Truncate(time.Second).Format(time.RFC3339))
	for _, text := range []string{"", "soon", "90d", "ago", "in 2026-01-01", "2026-13-01"} {
		_, err := ParseRelative(text, now, First)
		assert.Error(t, err, text)
	}
}
