package mirrors

import (
	"strings"
	"testing"
	"time"

	"crelvo/internal/core/catalog"
)

// TestDates tells when versions of lists were published, of which some say more than others.
func TestDates(t *testing.T) {
	first := time.Date(2026, 11, 1, 8, 0, 0, 0, time.UTC)
	later, before := first.AddDate(0, 0, 5), first.AddDate(0, 0, -90)
	listed := func(version string, seen, uploaded time.Time) catalog.ListedVersion {
		return catalog.ListedVersion{Version: version, SeenAt: seen, UploadedAt: uploaded}
	}
	var never time.Time
	for _, c := range []struct {
		what string
		all  []catalog.ListedVersion
		want string // a day of each, in their order
	}{
		{"all say when", []catalog.ListedVersion{listed("1.0", first, before), listed("1.1", later, later.AddDate(0, 0, -1))},
			"2026-08-03 2026-11-05"},
		{"none does: the newest of the first list may have come just before",
			[]catalog.ListedVersion{listed("1.0", first, never), listed("1.10", first, never), listed("1.9", first, never)},
			"1970-01-01 2026-11-01 1970-01-01"},
		{"what came later came then", []catalog.ListedVersion{listed("1.0", first, never), listed("0.9", later, never)},
			"2026-11-01 2026-11-06"},
		{"the last one says when, and is not the newest",
			[]catalog.ListedVersion{listed("1.0", first, before), listed("2.0", first, never)}, "2026-08-03 1970-01-01"},
		{"nobody publishes after it was seen", []catalog.ListedVersion{listed("1.0", first, later)}, "2026-11-01"},
		{"nothing", nil, ""},
	} {
		d := newDates(c.all, "maven")
		var got []string
		for _, l := range c.all {
			got = append(got, d.of(l).Format("2006-01-02"))
		}
		if strings.Join(got, " ") != c.want {
			t.Errorf("%s: %q, not %q", c.what, got, c.want)
		}
	}
}
