package cli

import (
	"fmt"
	"strconv"
	"strings"
	"time"
)

// span is a duration as people write it: 90s, 10m, 2h30m, 3d, 1d12h.
type span time.Duration

// mostDays bounds a duration: ten years.
const mostDays = 3660

// parseSpan reads a duration; days may lead it. A sign may stand in front.
func parseSpan(text string) (time.Duration, error) {
	rest, sign := text, time.Duration(1)
	if r, ok := strings.CutPrefix(rest, "-"); ok {
		rest, sign = r, -1
	}
	var days int
	if d, after, ok := strings.Cut(rest, "d"); ok {
		n, err := strconv.Atoi(d)
		if err != nil || n < 0 || n > mostDays {
			return 0, fmt.Errorf("%q is no duration; write it like 90s, 10m, 2h or 3d", text)
		}
		if days, rest = n, after; rest == "" {
			rest = "0s"
		}
	}
	d, err := time.ParseDuration(rest)
	if err != nil || d < 0 || d > mostDays*24*time.Hour {
		return 0, fmt.Errorf("%q is no duration; write it like 90s, 10m, 2h or 3d", text)
	}
	return sign * (time.Duration(days)*24*time.Hour + d), nil
}

// Set is flag.Value's.
func (s *span) Set(text string) error {
	d, err := parseSpan(text)
	*s = span(d)
	return err
}

// String is flag.Value's.
func (s *span) String() string { return spell(time.Duration(*s)) }

func (s span) seconds() int64 { return int64(time.Duration(s) / time.Second) }

// spell writes a duration shortly: 3d 4h, 10m, 42s.
func spell(d time.Duration) string {
	d = d.Round(time.Second)
	if d < 0 {
		return "-" + spell(-d)
	}
	var parts []string
	for _, unit := range []struct {
		size time.Duration
		name string
	}{{24 * time.Hour, "d"}, {time.Hour, "h"}, {time.Minute, "m"}, {time.Second, "s"}} {
		if n := d / unit.size; n > 0 {
			parts = append(parts, fmt.Sprintf("%d%s", n, unit.name))
			d -= n * unit.size
		}
	}
	if len(parts) == 0 {
		return "0s"
	}
	return strings.Join(parts[:min(2, len(parts))], " ")
}

// moment reads a time to come: with its zone as RFC 3339 has it, or in a zone:
// a date and time, or a time of day, today or else tomorrow.
func moment(text string, zone *time.Location, now time.Time) (time.Time, error) {
	if t, err := time.Parse(time.RFC3339, text); err == nil {
		return t, nil
	}
	for _, form := range []string{
		"2006-01-02 15:04", "2006-01-02T15:04", "2006-01-02 15:04:05", "2006-01-02T15:04:05",
	} {
		t, err := time.ParseInLocation(form, text, zone)
		if err != nil {
			continue
		}
		// At the turn from summer time an hour comes twice, and in spring one
		// not at all: what does not read back is not what was written.
		if t.Format(form) != text {
			return t, fmt.Errorf("there is no %s in %s: the clocks are put forward over it", text, zone)
		}
		return t, nil
	}
	for _, form := range []string{"15:04", "15:04:05"} {
		if t, err := time.ParseInLocation(form, text, zone); err == nil {
			now = now.In(zone)
			at := time.Date(now.Year(), now.Month(), now.Day(), t.Hour(), t.Minute(), t.Second(), 0, zone)
			if !at.After(now) {
				at = time.Date(now.Year(), now.Month(), now.Day()+1, t.Hour(), t.Minute(), t.Second(), 0, zone)
			}
			return at, nil
		}
	}
	return time.Time{}, fmt.Errorf(
		"%q is no time; write it like 02:00, \"2026-11-24 02:00\" or 2026-11-24T02:00:00Z", text,
	)
}

// whenIn tells a time in the zone it was meant in, and in UTC.
func whenIn(t time.Time, zone string) string {
	text := t.UTC().Format("2006-01-02 15:04:05 MST")
	if loc, err := time.LoadLocation(zone); err == nil && zone != "" && zone != "UTC" {
		return t.In(loc).Format("2006-01-02 15:04:05 MST") + " (" + zone + "; " + t.UTC().Format("15:04:05") + " UTC)"
	}
	return text
}
