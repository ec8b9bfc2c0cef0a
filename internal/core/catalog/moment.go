package catalog

import (
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
