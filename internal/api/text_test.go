package api

import (
	"testing"
	"time"
)

func TestLength(t *testing.T) {
	for d, want := range map[time.Duration]string{0: "less than a minute", 59 * time.Second: "less than a minute",
		time.Minute:      "1 minute",
		90 * time.Minute: "1 hour", 47 * time.Hour: "1 day", 49 * time.Hour: "2 days"} {
		if got := Length(d); got != want {
			t.Errorf("Length(%s) = %q; want %q", d, got, want)
		}
	}
}

func TestBytes(t *testing.T) {
	for n, want := range map[int64]string{0: "0 B", 1023: "1023 B", 1024: "1.0 KiB", 1536: "1.5 KiB", 5 << 20: "5.0 MiB",
		3 << 40: "3.0 TiB", 1 << 62: "4096.0 PiB"} {
		if got := Bytes(n); got != want {
			t.Errorf("Bytes(%d) = %q; want %q", n, got, want)
		}
	}
}
