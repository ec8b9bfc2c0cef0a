// Package counting counts in memory what is too frequent to be written each time:
// downloads, uses of tokens, what mirrors do. Flush writes it; who wants to show counts
// flushes first, and then sees all that was counted before.
package counting

import (
	"context"
	"errors"
	"maps"
	"slices"
	"sync"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/upstream"
)

// Counting is what was counted. Its methods may be called at the same time.
type Counting struct {
	*act.Act

	flushing  sync.Mutex // held while counts are written: who asks for them sees all before
	downloads counter
	mirrors   mirrorCounter
}

// New makes the room.
func New(a *act.Act) *Counting { return &Counting{Act: a} }

// Chores implements act.Busy.
func (c *Counting) Chores() []act.Chore {
	return []act.Chore{{Every: 2 * time.Second, What: "counting downloads", Do: c.Flush, Last: true}}
}

// WriteNow writes what was counted, where a request wants to show it. What cannot be
// counted now is no reason to refuse the request.
func (c *Counting) WriteNow(ctx context.Context) {
	if err := c.Flush(ctx); err != nil {
		c.Log.Warn("what was counted could not be written yet", "error", err)
	}
}

// lose tells that something that was counted had to be dropped.
func (c *Counting) lose(rows int) {
	c.Log.Error("some counts cannot be written and were dropped", "rows", rows)
	c.Worry("counts", act.Concern{Level: "wrong", What: act.Plural(int64(rows), "row") +
		" of what was counted could not be written and was dropped, last at " + c.Now().UTC().Format(act.TimeForm),
		Do:   "The log of the service has the time; tell whoever looks after Crelvo. All other counts were written.",
		Page: "/status"})
}

// Downloaded counts a download of a version.
func (c *Counting) Downloaded(version int64, caller access.Caller) {
	c.downloads.add(version, caller, c.Now())
}

// TokenUsed notes the last use of a token.
func (c *Counting) TokenUsed(use record.TokenUse) { c.downloads.tokenUsed(use) }

// Mirror counts something in the hour of a mirror.
func (c *Counting) Mirror(mirror int64, count func(h *record.MirrorHour)) {
	c.mirrors.add(mirror, c.Now(), count)
}

// Observer notes what the upstreams of a mirror do.
func (c *Counting) Observer(mirror int64) upstream.Observer { return &mirrorObserver{c, mirror} }

// Flush writes what was counted. What cannot be written now is kept for the
// next time, and what can never be written is dropped, with a concern.
func (c *Counting) Flush(ctx context.Context) error {
	c.flushing.Lock()
	defer c.flushing.Unlock()
	taken := c.downloads.take()
	hours, contacts := c.mirrors.take()
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
	lateDays, badDays, err1 := act.WriteAll(ctx, c.DB, days, func(tx *record.Tx, days []*dayCount) error {
		return tx.CountDownloads(ctx, downloadsOf(days))
	})
	lateWith, badWith, err2 := act.WriteAll(ctx, c.DB, slices.Collect(maps.Keys(taken.with)),
		func(tx *record.Tx, with []versionToken) error {
			var versions, owners []int64
			var names []string
			for _, k := range with {
				versions, owners, names = append(versions, k.version), append(owners, k.principal), append(names, k.token)
			}
			return tx.NoteTokenDownloads(ctx, owners, names, versions, c.Now())
		})
	lateUses, badUses, err3 := act.WriteAll(ctx, c.DB, slices.Collect(maps.Values(taken.tokens)),
		func(tx *record.Tx, uses []record.TokenUse) error { return tx.NoteTokenUses(ctx, uses) })
	lateHours, badHours, err4 := act.WriteAll(ctx, c.DB, hours, func(tx *record.Tx, hours []record.MirrorHour) error {
		return tx.CountMirrors(ctx, hours)
	})
	lateContacts, badContacts, err5 := act.WriteAll(ctx, c.DB, contacts,
		func(tx *record.Tx, contacts []record.UpstreamContact) error { return tx.NoteContacts(ctx, contacts) })
	c.mirrors.giveBack(lateHours, lateContacts)
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
	c.downloads.giveBack(back)
	if lost := len(badDays) + len(badWith) + len(badUses) + len(badHours) + len(badContacts); lost > 0 {
		c.lose(lost)
	}
	return errors.Join(err1, err2, err3, err4, err5)
}
