package api

import "fmt"

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
