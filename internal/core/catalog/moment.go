package catalog

import (
	"strconv"
	"strings"
	"time"

	"crelvo/internal/core/fault"
)

// Moment is a time as of which something is read, in microseconds since 1970;
// 0 is now.
type Moment int64

// MomentOf is the moment of a time.
func MomentOf(t time.Time) Moment { return Moment(t.UnixMicro()) }

// Time is the moment as a time in UTC.
func (m Moment) Time() time.Time { return time.UnixMicro(int64(m)).UTC() }

// String writes the moment as it stands in addresses; now is "".
func (m Moment) String() string {
	if m == 0 {
		return ""
	}
	return m.Time().Format("2006-01-02T15:04:05.999999Z07:00")
}

// momentForms are the forms of RFC 3339, with or without seconds, and a day,
// which is its beginning in UTC.
var momentForms = []string{time.RFC3339Nano, "2006-01-02T15:04Z07:00", time.DateOnly}

// SplitMoment takes the moment off the name of a repository: platform@2026-11-01
// or platform@2026-11-01T08:00Z. now is what may not be exceeded.
func SplitMoment(name string, now time.Time) (repository string, at Moment, err error) {
	repository, text, ok := strings.Cut(name, "@")
	if !ok {
		return name, 0, nil
	}
	for _, form := range momentForms {
		t, err := time.Parse(form, text)
		if err != nil {
			continue
		}
		if t.After(now) {
			return repository, 0, fault.New(fault.Invalid, "in-the-future", "%s is in the future, by the server's clock", text).
				WithHint("Give a moment that has passed; a day means its beginning, 00:00 UTC.")
		}
		if t.Year() < 2000 {
			break
		}
		return repository, MomentOf(t), nil
	}
	return repository, 0, fault.New(fault.Invalid, "bad-moment", "%q is no moment", text).
		WithHint("Write it like 2026-11-01, which is its beginning in UTC, or 2026-11-01T08:00Z.")
}

// AtSpelled is a repository as of a moment where a name may have no @, no colon and no
// capital: platform__2026-11-01t08.00z; Spelled gives back the usual form.
func (r Repository) AtSpelled() string {
	return strings.NewReplacer("@", "__", ":", ".", "T", "t", "Z", "z").Replace(r.At())
}

// Spelled is the name of a repository in the usual form; what AtSpelled did not write
// stays as it is.
func Spelled(name string) string {
	repository, text, ok := strings.Cut(name, "__")
	if !ok {
		return name
	}
	return repository + "@" + strings.Replace(strings.ToUpper(text), ".", ":", 2)
}

// LengthForms and MomentForms are how lengths of time and moments are written, in every
// flag and every parameter.
const (
	LengthForms = "30m, 12h, 7d or 2w"
	MomentForms = "2026-11-01, 2026-11-01T08:00Z, or a length of time such as 7d, -7d or +7d"
)

// ParseLength reads a length of time: Go's durations, and whole days and weeks. Errors
// are faults.
func ParseLength(text string) (time.Duration, error) {
	for unit, hours := range map[string]int{"d": 24, "w": 7 * 24} {
		if count, ok := strings.CutSuffix(text, unit); ok {
			if n, err := strconv.Atoi(count); err == nil && n >= 0 && n < 100_000 {
				return time.Duration(n*hours) * time.Hour, nil
			}
		}
	}
	length, err := time.ParseDuration(text)
	if err != nil || length < 0 {
		return 0, fault.New(fault.Invalid, "bad-length", "%q is no length of time; write it like %s", text, LengthForms)
	}
	return length, nil
}

// ParseMoment reads a moment: a day, a time with its zone, or how long from now: with a
// sign, or without one before now and with later after it. A day begins at midnight in
// the zone of now. Errors are faults.
func ParseMoment(text string, now time.Time, later bool) (time.Time, error) {
	for _, form := range []string{time.RFC3339, "2006-01-02T15:04Z07:00", "2006-01-02 15:04 MST"} {
		if at, err := time.Parse(form, text); err == nil {
			return at, nil
		}
	}
	if day, err := time.ParseInLocation(time.DateOnly, text, now.Location()); err == nil {
		return day, nil
	}
	unsigned := strings.TrimLeft(text, "+-")
	if len(text)-len(unsigned) > 1 {
		unsigned = ""
	}
	switch {
	case strings.HasPrefix(text, "+"):
		later = true
	case strings.HasPrefix(text, "-"):
		later = false
	}
	length, err := ParseLength(unsigned)
	if err != nil {
		return time.Time{}, fault.New(fault.Invalid, "bad-moment", "%q is no moment; write it as %s", text, MomentForms)
	}
	if later {
		return now.Add(length), nil
	}
	return now.Add(-length), nil
}
