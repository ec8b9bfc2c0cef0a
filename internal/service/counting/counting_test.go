package counting

import (
	"testing"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/upstream"
)

// TestGivenBack: what could not be written is added to what was counted meanwhile, and
// of two notes the later one stays.
func TestGivenBack(t *testing.T) {
	at := time.Date(2026, 11, 27, 9, 30, 0, 0, time.UTC)
	now := at
	c := New(act.New(nil, nil, act.Settings{Now: func() time.Time { return now }}))
	deckhand := access.Caller{ID: 7, Name: "deckhand", Token: "laptop", UserAgent: "npm/10.8"}
	c.Downloaded(1, deckhand)
	c.TokenUsed(record.TokenUse{TokenID: 3, At: at})
	c.Mirror(5, func(h *record.MirrorHour) { h.Hits++ })
	watch := c.Observer(5)
	watch.Failed(&upstream.Failure{Upstream: "https://a/", What: "refused"}, at, at)
	taken := c.downloads.take()
	hours, contacts := c.mirrors.take()

	now = at.Add(time.Minute)
	c.Downloaded(1, deckhand)
	c.Downloaded(1, access.Caller{UserAgent: "curl/8"})
	c.TokenUsed(record.TokenUse{TokenID: 3, At: now})
	c.Mirror(5, func(h *record.MirrorHour) { h.Hits++; h.Misses++ })
	watch.Answered("https://a/", now, 20*time.Millisecond)
	c.downloads.giveBack(taken)
	c.mirrors.giveBack(hours, contacts)

	all := c.downloads.take()
	if len(all.days) != 2 || len(all.users) != 1 || len(all.with) != 1 || !all.tokens[3].At.Equal(now) {
		t.Errorf("%+v", all)
	}
	for day, n := range all.days {
		if want := map[string]int64{"person": 2, "nobody": 1}[day.who]; n.n != want || !n.last.Equal(now) {
			t.Errorf("%+v: %+v, want %d", day, n, want)
		}
	}
	hours, contacts = c.mirrors.take()
	if len(hours) != 1 || hours[0].Hits != 2 || hours[0].Misses != 1 || hours[0].Requests != 1 {
		t.Errorf("%+v", hours)
	}
	if len(contacts) != 1 || !contacts[0].ContactAt.Equal(now) || contacts[0].FailedAt == nil ||
		contacts[0].FailingSince != nil {
		t.Errorf("%+v", contacts)
	}
	if again := c.downloads.take(); len(again.days) != 0 {
		t.Errorf("taken twice: %+v", again)
	}
}
