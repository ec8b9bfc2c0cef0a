package schedule

import (
	"strconv"
	"strings"
	"time"

	"github.com/robfig/cron/v3"
)

// wallTime is a schedule that names times of the day by the clock on the wall. On
// the day that clocks go forward, a time that does not come is the first moment
// after the gap; on the day that they go back, one that comes twice is the first.
type wallTime struct {
	times *cron.SpecSchedule // as if in UTC
	zone  *time.Location
}

// Next implements cron.Schedule.
func (w wallTime) Next(after time.Time) time.Time {
	for at := wall(after.In(w.zone)); ; {
		if at = w.times.Next(at); at.IsZero() {
			return at
		}
		if moment := momentOf(at, w.zone); moment.After(after) {
			return moment
		}
	}
}

// wall is what the clock on the wall shows at a moment, as if in UTC.
func wall(at time.Time) time.Time {
	year, month, day := at.Date()
	hour, minute, second := at.Clock()
	return time.Date(year, month, day, hour, minute, second, at.Nanosecond(), time.UTC)
}

// momentOf is the first moment at which the clock on the wall shows that or, where
// it never does, more.
func momentOf(shown time.Time, zone *time.Location) time.Time {
	year, month, day := shown.Date()
	hour, minute, second := shown.Clock()
	at := time.Date(year, month, day, hour, minute, second, 0, zone)
	begin, end := at.ZoneBounds()
	switch is := wall(at); {
	case is.After(shown):
		return begin
	case is.Before(shown):
		return end
	case begin.IsZero():
		return at
	}
	_, offset := begin.Add(-time.Second).Zone()
	if earlier := shown.Add(-time.Duration(offset) * time.Second).In(zone); earlier.Before(at) &&
		wall(earlier).Equal(shown) {
		return earlier
	}
	return at
}

// everyHour is the mark of a field that is not limited, in the bits of its values.
const everyHour = 1 << 63

// readSchedule reads a schedule in the cron form of five fields, or one of its
// short forms. One that goes on through all hours goes on when clocks change, too.
func readSchedule(schedule string, zone *time.Location) (cron.Schedule, error) {
	parsed, err := cron.ParseStandard("CRON_TZ=UTC " + sundayIsZero(schedule))
	if err != nil {
		return nil, err
	}
	times, ok := parsed.(*cron.SpecSchedule)
	switch {
	case !ok:
		return parsed, nil
	case times.Hour&everyHour != 0:
		times.Location = zone
		return times, nil
	}
	return wallTime{times, zone}, nil
}

// sundayIsZero writes a schedule whose last field may have 7 for Sunday with 0.
func sundayIsZero(schedule string) string {
	fields := strings.Fields(schedule)
	if len(fields) != 5 {
		return schedule
	}
	parts := strings.Split(fields[4], ",")
	for i, part := range parts {
		span, step, stepped := strings.Cut(part, "/")
		if span == "7" && !stepped {
			parts[i] = "0"
		}
		from, to, isSpan := strings.Cut(span, "-")
		if !isSpan || to != "7" {
			continue
		}
		by := 1
		if n, err := strconv.Atoi(step); stepped && err == nil && n > 0 {
			by = n
		} else if stepped {
			continue
		}
		first, err := strconv.Atoi(from)
		if err != nil {
			if first = strings.Index("sunmontuewedthufrisat", strings.ToLower(from)) / 3; len(from) != 3 || first < 0 {
				continue
			}
		}
		var days []string
		for day := first; day >= 0 && day <= 7; day += by {
			days = append(days, strconv.Itoa(day%7))
		}
		if days != nil {
			parts[i] = strings.Join(days, ",")
		}
	}
	fields[4] = strings.Join(parts, ",")
	return strings.Join(fields, " ")
}
