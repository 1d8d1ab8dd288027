package cli

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestSpans(t *testing.T) {
	for text, want := range map[string]time.Duration{
		"90s": 90 * time.Second, "10m": 10 * time.Minute, "1d": 24 * time.Hour, "1d12h": 36 * time.Hour,
		"-5m": -5 * time.Minute, "0s": 0, "2h30m": 150 * time.Minute,
	} {
		got, err := parseSpan(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, got, text)
	}
	for _, text := range []string{"", "ten", "5", "d", "1.5d", "--5m", "99999d", "1d-2h"} {
		_, err := parseSpan(text)
		assert.ErrorContains(t, err, "write it like 90s, 10m, 2h or 3d", text)
	}
	for want, d := range map[string]time.Duration{
		"0s": 300 * time.Millisecond, "1m 30s": 90 * time.Second, "3d 4h": 76*time.Hour + 5*time.Minute,
		"-2m": -2 * time.Minute, "1h": time.Hour,
	} {
		assert.Equal(t, want, spell(d))
	}
}

// A time is read in its zone; one that the zone does not have is refused, and a
// time of day that is over means tomorrow's.
func TestMoments(t *testing.T) {
	lisbon, err := time.LoadLocation("Europe/Lisbon")
	require.NoError(t, err)
	now := time.Date(2026, 3, 28, 22, 0, 0, 0, time.UTC)
	for text, want := range map[string]string{
		"2026-11-24T02:00:00+01:00": "2026-11-24T01:00:00Z",
		"2026-07-01 02:00":          "2026-07-01T01:00:00Z", // summer time
		"2026-07-01T02:00:30":       "2026-07-01T01:00:30Z",
		"23:15":                     "2026-03-28T23:15:00Z",
		"21:59:30":                  "2026-03-29T20:59:30Z", // past: tomorrow, which begins summer time
	} {
		got, err := moment(text, lisbon, now)
		require.NoError(t, err, text)
		assert.Equal(t, want, got.UTC().Format(time.RFC3339), text)
	}
	_, err = moment("2026-03-29 01:30", lisbon, now)
	require.ErrorContains(t, err, "the clocks are put forward over it")
	for _, text := range []string{"", "tomorrow", "25:00", "2026-02-30 10:00", "2026-11-24"} {
		_, err := moment(text, lisbon, now)
		assert.ErrorContains(t, err, "is no time; write it like 02:00", text)
	}
	at := time.Date(2026, 7, 1, 1, 0, 0, 0, time.UTC)
	assert.Equal(t, "2026-07-01 02:00:00 WEST (Europe/Lisbon; 01:00:00 UTC)", whenIn(at, "Europe/Lisbon"))
	assert.Equal(t, "2026-07-01 01:00:00 UTC", whenIn(at, "Nowhere/Land"))
}
