package cli

import (
	"fmt"
	"strconv"
	"strings"
	"time"
)

// lengthForms and momentForms are how lengths of time and moments are written, in
// every flag.
const (
	lengthForms = "30m, 12h, 7d or 2w"
	momentForms = "2026-11-01, 2026-11-01T08:00Z, or a length of time such as 7d, -7d or +7d"
)

// parseDuration reads a length of time: Go's durations, and whole days and weeks.
func parseDuration(text string) (time.Duration, error) {
	for unit, hours := range map[string]int{"d": 24, "w": 7 * 24} {
		if count, ok := strings.CutSuffix(text, unit); ok {
			if n, err := strconv.Atoi(count); err == nil && n >= 0 && n < 100_000 {
				return time.Duration(n*hours) * time.Hour, nil
			}
		}
	}
	length, err := time.ParseDuration(text)
	if err != nil || length < 0 {
		return 0, fmt.Errorf("%q is no length of time; write it like %s", text, lengthForms)
	}
	return length, nil
}

// parseMoment reads a moment: a day, a time with its zone, or how long from now: with
// a sign, or without one before now and with later after it. A day begins at midnight
// where the command runs.
func parseMoment(text string, now time.Time, later bool) (time.Time, error) {
	for _, form := range []string{time.RFC3339, "2006-01-02T15:04Z07:00", "2006-01-02 15:04 MST"} {
		if at, err := time.Parse(form, text); err == nil {
			return at, nil
		}
	}
	if day, err := time.ParseInLocation(time.DateOnly, text, now.Location()); err == nil {
		return day, nil
	}
	unsigned, sign := strings.TrimLeft(text, "+-"), text
	if len(text)-len(unsigned) > 1 {
		unsigned = ""
	}
	switch {
	case strings.HasPrefix(sign, "+"):
		later = true
	case strings.HasPrefix(sign, "-"):
		later = false
	}
	length, err := parseDuration(unsigned)
	if err != nil {
		return time.Time{}, usageError{fmt.Errorf("%q is no moment; write it as %s", text, momentForms)}
	}
	if later {
		return now.Add(length), nil
	}
	return now.Add(-length), nil
}

// parseSince reads since when something is wanted.
func parseSince(text string) (time.Time, error) { return parseMoment(text, time.Now(), false) }
