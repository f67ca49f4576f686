package schedule

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func berlin(t *testing.T) *time.Location {
	t.Helper()
	zone, err := time.LoadLocation("Europe/Berlin")
	require.NoError(t, err)
	return zone
}

func next(t *testing.T, s Schedule, after string, n int) (times []string) {
	t.Helper()
	at, err := time.Parse(time.RFC3339, after)
	require.NoError(t, err)
	for range n {
		at = s.Next(at)
		times = append(times, at.In(s.zone).Format("Mon 01-02 15:04 MST"))
	}
	return times
}

func TestDailyComesAtItsTimesOnItsDays(t *testing.T) {
	s, err := Daily([]string{"18:00", "06:30"}, []string{"mon", "wed-fri"}, berlin(t))
	require.NoError(t, err)
	assert.Equal(t, []string{
		"Fri 11-27 18:00 CET", "Mon 11-30 06:30 CET", "Mon 11-30 18:00 CET", "Wed 12-02 06:30 CET",
	}, next(t, s, "2026-11-27T12:00:00Z", 4))
}

func TestANightIsNeitherSkippedNorDoneTwiceWhenTheClockIsChanged(t *testing.T) {
	s, err := Daily([]string{"02:30"}, nil, berlin(t))
	require.NoError(t, err)
	assert.Equal(t, []string{"Sat 03-27 02:30 CET", "Sun 03-28 03:30 CEST", "Mon 03-29 02:30 CEST"},
		next(t, s, "2027-03-26T12:00:00Z", 3), "the clock goes from 02:00 to 03:00")
	assert.Equal(t, []string{"Sat 10-30 02:30 CEST", "Sun 10-31 02:30 CEST", "Mon 11-01 02:30 CET"},
		next(t, s, "2027-10-29T12:00:00Z", 3), "the clock shows 02:30 twice")
	every, err := Cron("0 * * * *", berlin(t))
	require.NoError(t, err)
	assert.Equal(t, []string{"Sun 10-31 02:00 CEST", "Sun 10-31 02:00 CET", "Sun 10-31 03:00 CET"},
		next(t, every, "2027-10-30T23:30:00Z", 3), "every hour is every hour that passes")
}

func TestLastIsTheTimeThatWasMissed(t *testing.T) {
	at := time.Date(2027, 3, 28, 12, 0, 0, 0, time.UTC)
	for expression, want := range map[string]string{
		"*/5 * * * *":  "2027-03-28T12:00:00Z",
		"30 2 * * *":   "2027-03-28T01:30:00Z",
		"0 6 * * 1":    "2027-03-22T05:00:00Z",
		"0 6 1 * *":    "2027-03-01T05:00:00Z",
		"0 6 29 2 *":   "2024-02-29T05:00:00Z",
		"1 14 * * sun": "2027-03-21T13:01:00Z",
	} {
		s, err := Cron(expression, berlin(t))
		require.NoError(t, err)
		assert.Equal(t, want, s.Last(at).UTC().Format(time.RFC3339), expression)
	}
	assert.Zero(t, Schedule{}.Last(at))
}

func TestWrongTimesAreRefused(t *testing.T) {
	for expression, why := range map[string]string{
		"0 6 * *":               "five fields",
		"61 6 * * *":            "not a cron expression",
		"0 6 30 2 *":            "never comes",
		"TZ=Asia/Tokyo 6 * * *": "not a cron expression",
		"@daily":                "five fields",
	} {
		_, err := Cron(expression, time.UTC)
		assert.ErrorContains(t, err, why, expression)
	}
	for _, one := range []struct {
		times, days []string
		why         string
	}{
		{nil, nil, "name a time of day"},
		{[]string{"6"}, nil, `"6" is not a time of day`},
		{[]string{"24:30"}, nil, "not a time of day"},
		{[]string{"06:00"}, []string{"weekday"}, `"weekday" is not a day`},
		{[]string{"06:00"}, []string{"fri-mon"}, `"fri-mon" is not a day`},
		{[]string{"06:00"}, []string{"*"}, "not a day"},
	} {
		_, err := Daily(one.times, one.days, time.UTC)
		assert.ErrorContains(t, err, one.why)
	}
}
