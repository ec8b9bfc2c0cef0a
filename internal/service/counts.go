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
	mu     sync.Mutex
	days   map[versionDay]int64
	users  map[versionUser]bool
	tokens map[int64]record.TokenUse
}

type versionDay struct {
	version int64
	day     time.Time
}

type versionUser struct{ version, principal int64 }

func (c *counter) add(version, principal int64, at time.Time) {
	day := at.UTC().Truncate(24 * time.Hour)
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.days == nil {
		c.days, c.users = map[versionDay]int64{}, map[versionUser]bool{}
	}
	c.days[versionDay{version, day}]++
	if principal != 0 {
		c.users[versionUser{version, principal}] = true
	}
}

func (c *counter) tokenUsed(use record.TokenUse) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.tokens == nil {
		c.tokens = map[int64]record.TokenUse{}
	}
	c.tokens[use.TokenID] = use
}

func (c *counter) take() (days map[versionDay]int64, users map[versionUser]bool, tokens map[int64]record.TokenUse) {
	c.mu.Lock()
	defer c.mu.Unlock()
	days, users, tokens = c.days, c.users, c.tokens
	c.days, c.users, c.tokens = nil, nil, nil
	return days, users, tokens
}

// giveBack adds what could not be written, for the next time.
func (c *counter) giveBack(days map[versionDay]int64, users map[versionUser]bool, tokens map[int64]record.TokenUse) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.days == nil {
		c.days, c.users = map[versionDay]int64{}, map[versionUser]bool{}
	}
	for k, n := range days {
		c.days[k] += n
	}
	maps.Copy(c.users, users)
	if c.tokens == nil {
		c.tokens = tokens
	}
}

// flushCounts writes what was counted.
func (s *Service) flushCounts(ctx context.Context) error {
	days, users, tokens := s.downloads.take()
	hours, contacts := s.mirroring.take()
	if len(days)+len(users)+len(tokens)+len(hours)+len(contacts) == 0 {
		return nil
	}
	var batch record.Downloads
	for k, n := range days {
		batch.VersionIDs = append(batch.VersionIDs, k.version)
		batch.Days = append(batch.Days, k.day)
		batch.Counts = append(batch.Counts, n)
	}
	var versions, principals []int64
	for k := range users {
		versions, principals = append(versions, k.version), append(principals, k.principal)
	}
	var uses []record.TokenUse
	for _, u := range tokens {
		uses = append(uses, u)
	}
	err := s.db.Within(ctx, func(tx *record.Tx) error {
		if err := tx.CountDownloads(ctx, batch); err != nil {
			return err
		}
		if err := tx.CountUsers(ctx, versions, principals, s.Now()); err != nil {
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
		s.downloads.giveBack(days, users, tokens)
	}
	return err
}
