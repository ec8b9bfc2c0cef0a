package counting

import (
	"maps"
	"sync"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/ecosystem/kinds"
	"crelvo/internal/record"
)

// counter counts in memory, so that no download waits for its count.
type counter struct {
	mu sync.Mutex
	counted
}

// versionDay is what downloads are counted by.
type versionDay struct {
	version int64
	day     time.Time
	client  string
	who     string // "person", "robot" or "nobody"
}

type dayUser struct {
	versionDay
	principal int64
}

// tally is how often, and when last.
type tally struct {
	n    int64
	last time.Time
}

func (t tally) plus(other tally) tally {
	if other.last.After(t.last) {
		t.last = other.last
	}
	t.n += other.n
	return t
}

type versionUser struct{ version, principal int64 }

// versionToken is that a version was downloaded with a token: what a build used
// is known by it.
type versionToken struct {
	versionUser
	token string
}

// counted is what was counted and not written yet.
type counted struct {
	days   map[versionDay]tally
	users  map[dayUser]time.Time // when last
	tokens map[int64]record.TokenUse
	with   map[versionToken]bool
}

func newCounted() counted {
	return counted{days: map[versionDay]tally{}, users: map[dayUser]time.Time{}, tokens: map[int64]record.TokenUse{},
		with: map[versionToken]bool{}}
}

// begun makes the maps where there are none; mu must be held.
func (c *counter) begun() {
	if c.days == nil {
		c.counted = newCounted()
	}
}

func (c *counter) add(version int64, caller access.Caller, at time.Time) {
	day := versionDay{version: version, day: at.UTC().Truncate(24 * time.Hour),
		client: kinds.ClientName(caller.UserAgent), who: "person"}
	switch {
	case caller.Anonymous():
		day.who = "nobody"
	case caller.Robot:
		day.who = "robot"
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.begun()
	c.days[day] = c.days[day].plus(tally{1, at})
	if caller.ID != 0 {
		c.users[dayUser{day, caller.ID}] = at
		if caller.Token != "" {
			c.with[versionToken{versionUser{version, caller.ID}, caller.Token}] = true
		}
	}
}

func (c *counter) tokenUsed(use record.TokenUse) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.begun()
	c.tokens[use.TokenID] = use
}

func (c *counter) take() counted {
	c.mu.Lock()
	defer c.mu.Unlock()
	taken := c.counted
	c.counted = counted{}
	return taken
}

// giveBack adds what could not be written, for the next time.
func (c *counter) giveBack(t counted) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.begun()
	for k, n := range t.days {
		c.days[k] = c.days[k].plus(n)
	}
	for k, at := range t.users {
		if at.After(c.users[k]) {
			c.users[k] = at
		}
	}
	maps.Copy(c.with, t.with)
	for id, use := range t.tokens {
		if _, later := c.tokens[id]; !later {
			c.tokens[id] = use
		}
	}
}

// dayCount is one row of what was downloaded, with the users among who asked.
type dayCount struct {
	versionDay
	tally
	users map[int64]time.Time
}

func downloadsOf(days []*dayCount) (batch record.Downloads) {
	for _, k := range days {
		batch.VersionIDs, batch.Days = append(batch.VersionIDs, k.version), append(batch.Days, k.day)
		batch.Clients, batch.Whos, batch.Counts = append(batch.Clients, k.client), append(batch.Whos, k.who),
			append(batch.Counts, k.n)
		batch.Lasts = append(batch.Lasts, k.last)
		for principal, at := range k.users {
			batch.UserVersionIDs, batch.UserDays = append(batch.UserVersionIDs, k.version), append(batch.UserDays, k.day)
			batch.UserClients, batch.UserWhos, batch.UserIDs = append(batch.UserClients, k.client),
				append(batch.UserWhos, k.who), append(batch.UserIDs, principal)
			batch.UserLasts = append(batch.UserLasts, at)
		}
	}
	return batch
}
