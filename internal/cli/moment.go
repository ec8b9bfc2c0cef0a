package cli

import (
	"errors"
	"time"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
)

// parseDuration reads a length of time, as every flag takes it.
func parseDuration(text string) (time.Duration, error) {
	length, err := catalog.ParseLength(text)
	if err != nil {
		return 0, errors.New(fault.Of(err).Message)
	}
	return length, nil
}

// parseMoment reads a moment, as every flag takes it; a day begins at midnight where the
// command runs.
func parseMoment(text string, now time.Time, later bool) (time.Time, error) {
	at, err := catalog.ParseMoment(text, now, later)
	if err != nil {
		return at, usageError{errors.New(fault.Of(err).Message)}
	}
	return at, nil
}

// parseSince reads since when something is wanted.
func parseSince(text string) (time.Time, error) { return parseMoment(text, time.Now(), false) }
