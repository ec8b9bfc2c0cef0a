package api

import (
	"fmt"
	"time"
)

// Length writes a length of time in its largest unit: 3 days, 5 hours.
func Length(d time.Duration) string {
	for _, u := range []struct {
		length time.Duration
		name   string
	}{{24 * time.Hour, "day"}, {time.Hour, "hour"}, {time.Minute, "minute"}} {
		if n := d / u.length; n == 1 {
			return "1 " + u.name
		} else if n > 1 {
			return fmt.Sprintf("%d %ss", n, u.name)
		}
	}
	return "less than a minute"
}

// Bytes writes a size with a binary unit.
func Bytes(n int64) string {
	const step = 1024
	if n < step {
		return fmt.Sprintf("%d B", n)
	}
	value, unit := float64(n), ""
	for _, unit = range []string{"KiB", "MiB", "GiB", "TiB", "PiB"} {
		if value /= step; value < step {
			break
		}
	}
	return fmt.Sprintf("%.1f %s", value, unit)
}
