package relays

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"golang.org/x/time/rate"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/chain"
	"crelvo/internal/ecosystem"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/service/targets"
)

const (
	// sentAtOnce is how many versions a node sends at the same time.
	sentAtOnce = 4
	// lookedAtOnce is how many versions are looked at with one question.
	lookedAtOnce = 5000
)

// look takes up what arrived.
func (s *Relays) look(ctx context.Context) (err error) {
	all, err := s.relays(ctx)
	if err != nil {
		return err
	}
	defer func() {
		if err != nil {
			s.missed.Store(true)
		}
	}()
	s.mu.Lock()
	arrived := s.arrived
	s.arrived = map[catalog.PackageKey]bool{}
	s.mu.Unlock()
	missed := s.missed.Swap(false)
	if !missed && len(arrived) == 0 {
		return nil
	}
	targets, err := s.DB.Targets(ctx)
	if err != nil {
		return err
	}
	if missed {
		for _, r := range all {
			if err := s.takeUp(ctx, r, targets, catalog.PackageKey{}); err != nil {
				return err
			}
		}
	}
	for key := range arrived {
		for _, r := range all {
			if r.RepositoryID != key.RepositoryID {
				continue
			}
			if err := s.takeUp(ctx, r, targets, key); err != nil {
				return err
			}
		}
	}
	return nil
}

// catchUp takes up what a relay missed.
func (s *Relays) catchUp(ctx context.Context, r record.Relay) error {
	targets, err := s.DB.Targets(ctx)
	if err != nil {
		return err
	}
	if err := s.takeUp(ctx, r, targets, catalog.PackageKey{}); err != nil {
		return err
	}
	if err := s.DB.LookedForRelay(ctx, r.ID, s.Now()); err != nil {
		return err
	}
	select {
	case s.kick <- struct{}{}:
	default:
	}
	return s.tell(ctx)
}

// takeUp takes up the versions of a package that a relay is about; of all packages if key names none.
func (s *Relays) takeUp(
	ctx context.Context, r record.Relay, targets []record.Target, key catalog.PackageKey,
) error {
	i := slices.IndexFunc(targets, func(d record.Target) bool { return d.Name == r.Target })
	if i < 0 || key.Ecosystem != "" && key.Ecosystem != targets[i].Ecosystem {
		return nil
	}
	key.Ecosystem = targets[i].Ecosystem
	if err := s.queueMarks(ctx, r, targets[i], key); err != nil {
		return err
	}
	_, byLabels := s.Ecosystem(key.Ecosystem).(ecosystem.Maturing)
	wanted := chain.NewFilter(&catalog.MirrorSettings{Allow: r.Patterns})
	for after := int64(0); ; {
		some, err := s.DB.Unrelayed(ctx, r.ID, key, after, lookedAtOnce)
		if err != nil || len(some) == 0 {
			return err
		}
		after = some[len(some)-1].VersionID
		var items []record.RelayItem
		for _, item := range some {
			p := item.PURL()
			if (byLabels || r.Holds.Takes(item.Snapshot)) && wanted.Admits(p).Allowed {
				items = append(items, item)
			}
		}
		if len(items) == 0 {
			continue
		}
		n, err := s.DB.QueueRelayed(ctx, r.ID, items, s.Now())
		if err != nil {
			return err
		}
		if n > 0 {
			if err := s.tell(ctx); err != nil {
				return err
			}
		}
	}
}

func (s *Relays) tell(ctx context.Context) error {
	return s.DB.Within(ctx, func(tx *record.Tx) error { return tx.Tell(ctx, record.Change{Kind: record.OfRelay}) })
}

// manyAtOnce is how many versions are sent together to a target that is a plain tree, whose documents are written
// for all of them.
const manyAtOnce = 500

// next takes versions that are due, of one relay: several for a target that takes them together.
func (s *Relays) next(ctx context.Context) (items []record.RelayItem, relay record.Relay, err error) {
	open, all, err := s.open(ctx)
	if err != nil || open == nil {
		return nil, relay, err
	}
	now := s.Now()
	item, ok, err := s.DB.TakeRelayed(ctx, open, now, now.Add(targets.Lease))
	if err != nil || !ok {
		return nil, relay, err
	}
	for _, r := range all {
		if r.ID == item.RelayID {
			relay = r
		}
	}
	items = []record.RelayItem{item}
	together, err := s.targets.TakesMany(ctx, relay.Target)
	if err == nil && together {
		var more []record.RelayItem
		more, err = s.DB.TakeMoreRelayed(ctx, relay.ID, now, item.NextAt, manyAtOnce)
		items = append(items, more...)
	}
	if err != nil { // what was taken is sent alone
		s.Log.Warn("what else a relay may send now could not be found", "relay", relay.Name, "error", err)
	}
	return items, relay, nil
}

// open are the ids of those relays, of all, that may send now.
func (s *Relays) open(ctx context.Context) (ids []int64, all []record.Relay, err error) {
	if all, err = s.relays(ctx); err != nil || s.Draining.Load() {
		return nil, nil, err
	}
	for _, r := range all {
		if !r.Paused && within(r.Hours, r.Zone, s.Now()) {
			ids = append(ids, r.ID)
		}
	}
	return ids, all, nil
}

// send tries to send versions, and notes what came of it.
func (s *Relays) send(ctx context.Context, r record.Relay, items []record.RelayItem) {
	limited, cancel := context.WithTimeout(ctx, targets.Lease-time.Minute)
	failed := s.sendThem(limited, r, items)
	cancel()
	noting, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer cancel()
	for _, item := range items {
		if err := s.note(ctx, noting, r, item, failed[item.VersionID]); err != nil {
			s.Log.Error("what came of relaying a version could not be noted", "relay", r.Name, "error", err)
		}
	}
	if err := s.tellOfSent(noting, r, items, failed); err != nil {
		s.Log.Error("what labels versions have that were relayed is not told", "relay", r.Name, "error", err)
	}
	if err := s.tell(noting); err != nil {
		s.Log.Error("that versions were relayed could not be told", "relay", r.Name, "error", err)
	}
}

// sendThem tries to send versions, and gives why those were not sent that were not. What went before it could be
// sent is no failure.
func (s *Relays) sendThem(ctx context.Context, r record.Relay, items []record.RelayItem) map[int64]error {
	failed := map[int64]error{}
	all := func(err error) map[int64]error {
		for _, item := range items {
			failed[item.VersionID] = err
		}
		return failed
	}
	var ids []int64
	for _, item := range items {
		ids = append(ids, item.VersionID)
	}
	of, err := s.DB.VersionsByID(ctx, ids)
	if err != nil {
		return all(err)
	}
	details, err := s.DB.DetailsOf(ctx, ids)
	if err != nil {
		return all(err)
	}
	from, ok := s.directory.RepositoryByID(r.RepositoryID)
	if !ok { // this node has not heard of it yet
		if err := s.directory.Load(ctx); err != nil {
			return all(err)
		}
		if from, ok = s.directory.RepositoryByID(r.RepositoryID); !ok {
			return all(errors.New("its repository was removed")) // and may be brought back
		}
	}
	ids = ids[:0]
	for _, v := range of {
		if err := s.kept(ctx, from, v, details[v.ID]); err != nil {
			failed[v.ID] = err
			continue
		}
		ids = append(ids, v.ID)
	}
	limit := s.limit(r)
	maps.Copy(failed, s.targets.SendAll(ctx, r.Target, ids, func(f ecosystem.SeekableFile) ecosystem.SeekableFile {
		if limit == nil {
			return f
		}
		return &slowed{f, ctx, limit}
	}))
	return failed
}

// note notes what came of an attempt to send a version, which ended with ctx at the latest.
func (s *Relays) note(ctx, noting context.Context, r record.Relay, item record.RelayItem, err error) error {
	now, leased := s.Now(), item.NextAt
	if err != nil && ctx.Err() != nil {
		item.Said, item.NextAt = "the server ended in the middle of it", now
		return s.DB.SetRelayed(noting, item, leased)
	}
	o := s.targets.After(r.Target, item.Attempts, err)
	if o.Back {
		s.cameBack(noting, r)
	}
	item.Said, item.Attempts = o.Said, o.Attempts
	switch {
	case o.Sent:
		item.State, item.EndedAt = record.RelaySent, &now
	case o.Failed:
		item.State, item.EndedAt = record.RelayFailed, &now
	default:
		item.NextAt = o.Next
	}
	return s.DB.SetRelayed(noting, item, leased)
}

// cameBack has what waits for another attempt tried now: what kept it is over, perhaps.
func (s *Relays) cameBack(ctx context.Context, r record.Relay) {
	if err := s.DB.HurryRelayed(ctx, r.ID, s.Now(), s.Now().Add(targets.LongestAway)); err != nil {
		s.Log.Warn("what waits for a server that is there again waits on", "relay", r.Name, "error", err)
	}
}

// kept tells why a version is kept out where it is: what is not handed out here is not spread either.
func (s *Relays) kept(
	ctx context.Context, from catalog.Repository, v record.MadeVersion, details catalog.Details,
) error {
	judge, err := s.safety.Judge(ctx, from, v.Key())
	if err != nil {
		return err
	}
	if verdict := judge.Of(&catalog.Version{Version: v.Version, Details: details}); verdict.Refused {
		return &ecosystem.Rejection{Said: from.Name + " keeps it out: " + verdict.Why}
	}
	return nil
}

// mostRead is how many bytes of a relay that is slowed are read at once.
const mostRead = 64 << 10

// limit is how fast a relay may send; nil if it may as fast as it can.
func (s *Relays) limit(r record.Relay) *rate.Limiter {
	if r.Rate == 0 {
		return nil
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	l := s.limits[r.ID]
	if l == nil || l.Limit() != rate.Limit(r.Rate) {
		l = rate.NewLimiter(rate.Limit(r.Rate), mostRead)
		s.limits[r.ID] = l
	}
	return l
}

// slowed is a file that is read no faster than a relay may send.
type slowed struct {
	ecosystem.SeekableFile
	ctx   context.Context
	limit *rate.Limiter
}

// Read implements io.Reader.
func (f *slowed) Read(p []byte) (int, error) {
	n, err := f.SeekableFile.Read(p[:min(len(p), mostRead)])
	if waited := f.limit.WaitN(f.ctx, n); waited != nil {
		return n, waited
	}
	return n, err
}

// ReadAt implements io.ReaderAt.
func (f *slowed) ReadAt(p []byte, at int64) (done int, err error) {
	for done < len(p) && err == nil {
		some := p[done:min(len(p), done+mostRead)]
		if err = f.limit.WaitN(f.ctx, len(some)); err != nil {
			return done, err
		}
		var n int
		n, err = f.SeekableFile.ReadAt(some, at+int64(done))
		done += n
	}
	return done, err
}

// parseHours reads a stretch of the day: 20:00-06:00.
func parseHours(text string) (from, to time.Duration, err error) {
	var h1, m1, h2, m2 int
	if n, err := fmt.Sscanf(text, "%d:%d-%d:%d", &h1, &m1, &h2, &m2); err != nil || n != 4 ||
		text != fmt.Sprintf("%02d:%02d-%02d:%02d", h1, m1, h2, m2) || h1 > 23 || h2 > 24 || m1 > 59 || m2 > 59 ||
		h2 == 24 && m2 > 0 || h1 == h2 && m1 == m2 || h1 < 0 || h2 < 0 || m1 < 0 || m2 < 0 {
		return 0, 0, act.Invalid("bad-hours", "%.40q are no hours of a day", text).WithHint("Write them like 20:00-06:00.")
	}
	at := func(h, m int) time.Duration { return time.Duration(h)*time.Hour + time.Duration(m)*time.Minute }
	return at(h1, m1), at(h2, m2), nil
}

// within tells whether a moment is in a stretch of the day, in a zone; "" is all of it.
func within(hours, zone string, now time.Time) bool {
	if hours == "" {
		return true
	}
	from, to, err := parseHours(hours)
	if err != nil {
		return false
	}
	if in, err := time.LoadLocation(zone); err == nil {
		now = now.In(in)
	}
	at := time.Duration(now.Hour())*time.Hour + time.Duration(now.Minute())*time.Minute
	if from < to {
		return at >= from && at < to
	}
	return at >= from || at < to
}
