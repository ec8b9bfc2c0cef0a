package service

import (
	"context"
	"errors"
	"maps"
	"slices"
	"sync"
	"time"

	"crelvo/internal/core/access"
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
	return counted{days: map[versionDay]tally{}, users: map[dayUser]time.Time{}, tokens: map[int64]record.TokenUse{}, with: map[versionToken]bool{}}
}

// begun makes the maps where there are none; mu must be held.
func (c *counter) begun() {
	if c.days == nil {
		c.counted = newCounted()
	}
}

func (c *counter) add(version int64, caller access.Caller, at time.Time) {
	day := versionDay{version: version, day: at.UTC().Truncate(24 * time.Hour), client: record.ClientName(caller.UserAgent), who: "person"}
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

// flushCounts writes what was counted. What cannot be written now is kept for the
// next time, and what can never be written is dropped, with a concern.
func (s *Service) flushCounts(ctx context.Context) error {
	s.counting.Lock()
	defer s.counting.Unlock()
	taken := s.downloads.take()
	hours, contacts := s.mirroring.take()
	if len(taken.days)+len(taken.users)+len(taken.tokens)+len(hours)+len(contacts) == 0 {
		return nil
	}
	rows := make(map[versionDay]*dayCount, len(taken.days))
	var days []*dayCount
	for k, n := range taken.days {
		rows[k] = &dayCount{k, n, map[int64]time.Time{}}
		days = append(days, rows[k])
	}
	for k, at := range taken.users {
		if row := rows[k.versionDay]; row != nil {
			row.users[k.principal] = at
		}
	}
	lateDays, badDays, err1 := writeAll(ctx, s.db, days, func(tx *record.Tx, days []*dayCount) error { return tx.CountDownloads(ctx, downloadsOf(days)) })
	lateWith, badWith, err2 := writeAll(ctx, s.db, slices.Collect(maps.Keys(taken.with)), func(tx *record.Tx, with []versionToken) error {
		var versions, owners []int64
		var names []string
		for _, k := range with {
			versions, owners, names = append(versions, k.version), append(owners, k.principal), append(names, k.token)
		}
		return tx.NoteTokenDownloads(ctx, owners, names, versions, s.Now())
	})
	lateUses, badUses, err3 := writeAll(ctx, s.db, slices.Collect(maps.Values(taken.tokens)), func(tx *record.Tx, uses []record.TokenUse) error { return tx.NoteTokenUses(ctx, uses) })
	lateHours, badHours, err4 := writeAll(ctx, s.db, hours, func(tx *record.Tx, hours []record.MirrorHour) error { return tx.CountMirrors(ctx, hours) })
	lateContacts, badContacts, err5 := writeAll(ctx, s.db, contacts, func(tx *record.Tx, contacts []record.UpstreamContact) error { return tx.NoteContacts(ctx, contacts) })
	s.mirroring.giveBack(lateHours, lateContacts)
	back := newCounted()
	for _, row := range lateDays {
		back.days[row.versionDay] = row.tally
		for principal, at := range row.users {
			back.users[dayUser{row.versionDay, principal}] = at
		}
	}
	for _, k := range lateWith {
		back.with[k] = true
	}
	for _, use := range lateUses {
		back.tokens[use.TokenID] = use
	}
	s.downloads.giveBack(back)
	if lost := len(badDays) + len(badWith) + len(badUses) + len(badHours) + len(badContacts); lost > 0 {
		s.log.Error("some counts cannot be written and were dropped", "rows", lost)
		s.worry("counts", Concern{Level: "wrong", What: plural(int64(lost), "row") + " of what was counted could not be written and was dropped, last at " + s.Now().UTC().Format(timeForm),
			Do: "The log of the service has the time; tell whoever looks after Crelvo. All other counts were written.", Page: "/status"})
	}
	return errors.Join(err1, err2, err3, err4, err5)
}

// countedNow writes what was counted, where a request wants to show it. What
// cannot be counted now is no reason to refuse the request.
func (s *Service) countedNow(ctx context.Context) {
	if err := s.flushCounts(ctx); err != nil {
		s.log.Warn("what was counted could not be written yet", "error", err)
	}
}

func downloadsOf(days []*dayCount) (batch record.Downloads) {
	for _, k := range days {
		batch.VersionIDs, batch.Days = append(batch.VersionIDs, k.version), append(batch.Days, k.day)
		batch.Clients, batch.Whos, batch.Counts = append(batch.Clients, k.client), append(batch.Whos, k.who), append(batch.Counts, k.n)
		batch.Lasts = append(batch.Lasts, k.last)
		for principal, at := range k.users {
			batch.UserVersionIDs, batch.UserDays = append(batch.UserVersionIDs, k.version), append(batch.UserDays, k.day)
			batch.UserClients, batch.UserWhos, batch.UserIDs = append(batch.UserClients, k.client), append(batch.UserWhos, k.who), append(batch.UserIDs, principal)
			batch.UserLasts = append(batch.UserLasts, at)
		}
	}
	return batch
}
