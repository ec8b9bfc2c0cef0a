package catalog

import (
	"testing"
	"time"

	"crelvo/internal/core/fault"
)

func TestSplitMoment(t *testing.T) {
	now := time.Date(2026, 11, 23, 10, 0, 0, 0, time.UTC)
	for name, want := range map[string]string{
		"platform":                             "platform ",
		"platform@2026-11-01":                  "platform 2026-11-01T00:00:00Z",
		"platform@2026-11-01T08:00Z":           "platform 2026-11-01T08:00:00Z",
		"platform@2026-11-01T08:00:01.5+01:00": "platform 2026-11-01T07:00:01.5Z",
		"platform@2026-11-23T10:00Z":           "platform 2026-11-23T10:00:00Z",
	} {
		r, at, err := SplitMoment(name, now)
		if got := r + " " + at.String(); err != nil || got != want {
			t.Errorf("%s is %q, %v; want %q", name, got, err, want)
		}
		if again, same, err := SplitMoment((Repository{Name: r, AsOf: at}).At(), now); err != nil || again != r ||
			same != at {
			t.Errorf("%s read again is %s as of %s, %v", name, again, same, err)
		}
	}
	for name, code := range map[string]string{"platform@": "bad-moment", "platform@yesterday": "bad-moment",
		"platform@2026-13-01": "bad-moment",
		"platform@1969-11-01": "bad-moment", "platform@2026-11-24": "in-the-future",
		"a@2026-11-01@2026-11-02": "bad-moment"} {
		if r, at, err := SplitMoment(name, now); fault.Of(err).Code != code {
			t.Errorf("%s is %s as of %s, %v; want %s", name, r, at, err, code)
		}
	}
}

func TestListedThen(t *testing.T) {
	day := func(n int) time.Time { return time.Date(2026, 11, n, 0, 0, 0, 0, time.UTC) }
	gone := ListedVersion{SeenAt: day(2), GoneAt: day(4)}
	for at, want := range map[time.Time]bool{day(1): false, day(2): true, day(3): true, day(4): false} {
		if gone.Then(MomentOf(at)) != want {
			t.Errorf("listed on %s: %v; want %v", at, !want, want)
		}
	}
	if gone.Then(0) || !(ListedVersion{SeenAt: day(2)}).Then(0) {
		t.Error("what is listed now is told wrongly")
	}
}

func FuzzSplitMoment(f *testing.F) {
	f.Add("platform@2026-11-01T08:00Z")
	f.Fuzz(func(t *testing.T, name string) {
		r, at, err := SplitMoment(name, time.Date(2026, 11, 23, 10, 0, 0, 0, time.UTC))
		if err != nil {
			return
		}
		if again, same, err := SplitMoment((Repository{Name: r, AsOf: at}).At(),
			time.Date(2026, 11, 23, 10, 0, 0, 0, time.UTC)); err != nil || again != r || same != at {
			t.Errorf("%q: %s as of %s becomes %s as of %s, %v", name, r, at, again, same, err)
		}
	})
}

func TestMoment(t *testing.T) {
	now := time.Date(2026, 11, 27, 9, 0, 0, 0, time.UTC)
	for text, want := range map[string]string{"2026-11-01": "2026-11-01T00:00:00Z",
		"2026-11-01T08:00Z": "2026-11-01T08:00:00Z", "2026-11-01T09:00:05+01:00": "2026-11-01T08:00:05Z",
		"7d": "2026-11-20T09:00:00Z", "2w": "2026-11-13T09:00:00Z", "90m": "2026-11-27T07:30:00Z",
		"+1d": "2026-11-28T09:00:00Z", "-1d": "2026-11-26T09:00:00Z"} {
		if at, err := ParseMoment(text, now, false); err != nil || at.UTC().Format(time.RFC3339) != want {
			t.Errorf("%s is %v, %v; want %s", text, at, err, want)
		}
	}
	if at, err := ParseMoment("7d", now, true); err != nil || !at.Equal(now.AddDate(0, 0, 7)) {
		t.Errorf("in 7d is %v, %v", at, err)
	}
	for _, text := range []string{"", "yesterday", "2026-13-01", "--7d", "soon", "+", "+3 days", "7", "7x"} {
		if at, err := ParseMoment(text, now, false); err == nil {
			t.Errorf("%q is %v", text, at)
		}
	}
}
