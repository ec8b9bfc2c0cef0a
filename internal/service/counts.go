package service

import (
	"context"
	"maps"
	"sync"
	"time"

	"crelvo/internal/record"
)

// counter counts in memory, so that no download waits for its count.
type counter struct {
	mu sync.Mutex
	counted
}

type versionDay struct {
	version int64
	day     time.Time
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
	days   map[versionDay]int64
	users  map[versionUser]bool
	tokens map[int64]record.TokenUse
	with   map[versionToken]bool
}

func newCounted() counted {
	return counted{days: map[versionDay]int64{}, users: map[versionUser]bool{}, tokens: map[int64]record.TokenUse{}, with: map[versionToken]bool{}}
}

// begun makes the maps where there are none; mu must be held.
func (c *counter) begun() {
	if c.days == nil {
		c.counted = newCounted()
	}
}

func (c *counter) add(version, principal int64, token string, at time.Time) {
	day := at.UTC().Truncate(24 * time.Hour)
	c.mu.Lock()
	defer c.mu.Unlock()
	c.begun()
	c.days[versionDay{version, day}]++
	if principal != 0 {
		user := versionUser{version, principal}
		c.users[user] = true
		if token != "" {
			c.with[versionToken{user, token}] = true
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
		c.days[k] += n
	}
	maps.Copy(c.users, t.users)
	maps.Copy(c.with, t.with)
	for id, use := range t.tokens {
		if _, later := c.tokens[id]; !later {
			c.tokens[id] = use
		}
	}
}

// flushCounts writes what was counted.
func (s *Service) flushCounts(ctx context.Context) error {
	taken := s.downloads.take()
	hours, contacts := s.mirroring.take()
	if len(taken.days)+len(taken.users)+len(taken.tokens)+len(hours)+len(contacts) == 0 {
		return nil
	}
	var batch record.Downloads
	for k, n := range taken.days {
		batch.VersionIDs = append(batch.VersionIDs, k.version)
		batch.Days = append(batch.Days, k.day)
		batch.Counts = append(batch.Counts, n)
	}
	var versions, principals []int64
	for k := range taken.users {
		versions, principals = append(versions, k.version), append(principals, k.principal)
	}
	var with, owners []int64
	var names []string
	for k := range taken.with {
		with, owners, names = append(with, k.version), append(owners, k.principal), append(names, k.token)
	}
	var uses []record.TokenUse
	for _, u := range taken.tokens {
		uses = append(uses, u)
	}
	err := s.db.Within(ctx, func(tx *record.Tx) error {
		if err := tx.CountDownloads(ctx, batch); err != nil {
			return err
		}
		if err := tx.CountUsers(ctx, versions, principals, s.Now()); err != nil {
			return err
		}
		if err := tx.NoteTokenDownloads(ctx, owners, names, with, s.Now()); err != nil {
			return err
		}
		if err := tx.NoteTokenUses(ctx, uses); err != nil {
			return err
		}
		if err := tx.NoteUses(ctx, batch.VersionIDs, s.Now()); err != nil {
			return err
		}
		if err := tx.CountMirrors(ctx, hours); err != nil {
			return err
		}
		return tx.NoteContacts(ctx, contacts)
	})
	if err != nil {
		s.mirroring.giveBack(hours, contacts)
		s.downloads.giveBack(taken)
	}
	return err
}
