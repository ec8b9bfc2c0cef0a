// Package safety is about what is let in: what advisories say of versions, and what follows
// from that where they are asked for.
package safety

import (
	"cmp"
	"context"
	"slices"
	"sync/atomic"
	"time"

	"crelvo/internal/core/attest"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/purl"
	"crelvo/internal/core/safety"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/service/directory"
	"crelvo/internal/service/keys"
)

// Safety knows the advisories, and what people decided. It is safe for use by several at once.
type Safety struct {
	*act.Act
	act.Underway
	directory *directory.Directory
	keys      *keys.Keys

	changes atomic.Uint64 // of advisories
	known   *act.Weighted[catalog.PackageKey, act.Aged[[]safety.Known]]
	asides  *act.Weighted[catalog.PackageKey, aside]
	keyed   atomic.Pointer[act.Aged[[]attest.Key]]
	roots   atomic.Pointer[act.Aged[[]keys.TrustRoot]]
	decides atomic.Uint64            // changes of waivers and vettings
	decided atomic.Pointer[standing] // as they were at some number of changes; nil before any is known
	ends    chan struct{}            // has one when it is to be looked again which decision ends next
}

// standing are the decisions that nobody ended, as of a moment.
type standing struct {
	waivers  safety.Waivers
	vettings safety.Vettings
	of       uint64    // changes before it was read
	next     time.Time // when the first of them ends by itself; zero if none does
}

func (s *standing) ends(until time.Time) {
	if !until.IsZero() && (s.next.IsZero() || until.Before(s.next)) {
		s.next = until
	}
}

// each lists the waivers, the oldest last.
func (s *standing) each() (all []safety.Waiver) {
	for _, some := range s.waivers {
		all = append(all, some...)
	}
	slices.SortFunc(all, func(a, b safety.Waiver) int { return cmp.Compare(b.ID, a.ID) })
	return all
}

// New makes the room.
func New(a *act.Act, directory *directory.Directory, keys *keys.Keys) *Safety {
	s := &Safety{Act: a, directory: directory, keys: keys, ends: make(chan struct{}, 1)}
	s.known = act.NewWeighted[catalog.PackageKey](a.Remembered, 50_000, func(k act.Aged[[]safety.Known]) int64 {
		weight := int64(200)
		for _, one := range k.Value {
			weight += 300 + int64(len(one.Summary)) + 50*int64(len(one.Versions)+len(one.Aliases))
			for _, r := range one.Ranges {
				weight += 60 * int64(len(r.Events))
			}
		}
		return weight
	})
	s.asides = act.NewWeighted[catalog.PackageKey](a.Remembered, 10_000, func(k aside) int64 {
		return 300 + 400*int64(len(k.Value.looks))
	})
	return s
}

// trusted are the keys whose signatures are trusted.
func (s *Safety) trusted(ctx context.Context) ([]attest.Key, error) {
	age := s.AnyAge()
	if known := s.keyed.Load(); known != nil && known.Generation == age {
		return known.Value, nil
	}
	read, err := s.keys.StatementKeys(ctx)
	if err != nil {
		return nil, err
	}
	s.keyed.Store(&act.Aged[[]attest.Key]{Value: read, Generation: age})
	return read, nil
}

// Purge forgets what may be out of date.
func (s *Safety) Purge() {
	s.asides.Purge()
	s.changes.Add(1)
	s.known.Purge()
	s.forgetDecisions()
}

func (s *Safety) forgetDecisions() {
	s.decides.Add(1)
	select {
	case s.ends <- struct{}{}:
	default:
	}
}

// Hear implements act.Hearer.
func (s *Safety) Hear(c record.Change) error {
	switch c.Kind {
	case record.OfAdvisory:
		s.changes.Add(1)
	case record.OfWaiver, record.OfVetting:
		s.forgetDecisions()
	}
	return nil
}

// Run has everything decided anew when a decision ends by itself.
func (s *Safety) Run(ctx context.Context) {
	const again = time.Minute // clocks may be set
	timer := time.NewTimer(again)
	defer timer.Stop()
	for {
		wait := again
		if known, err := s.standing(ctx); err == nil && !known.next.IsZero() {
			if wait = known.next.Sub(s.Now()); wait <= 0 {
				s.decides.Add(1)
				s.SettingsChanged()
				continue
			}
		}
		timer.Reset(min(wait, again))
		select {
		case <-ctx.Done():
			return
		case <-s.ends:
		case <-timer.C:
		}
	}
}

// standing are the decisions of now.
func (s *Safety) standing(ctx context.Context) (*standing, error) {
	of := s.decides.Load()
	if known := s.decided.Load(); known != nil && known.of == of {
		return known, nil
	}
	waivers, err := s.DB.StandingWaivers(ctx, s.Now())
	if err != nil {
		return nil, err
	}
	vettings, err := s.DB.StandingVettings(ctx, s.Now())
	if err != nil {
		return nil, err
	}
	read := &standing{waivers: safety.Waivers{}, of: of}
	for _, row := range waivers {
		w, err := waiverOf(row)
		if err != nil {
			s.Log.Error("a waiver on record cannot be read", "id", row.ID, "error", err)
			continue
		}
		read.waivers[w.Advisory] = append(read.waivers[w.Advisory], w)
		read.ends(w.Until)
	}
	var all []safety.Vetting
	for _, row := range vettings {
		v, err := vettingOf(row)
		if err != nil {
			s.Log.Error("a vetting on record cannot be read", "id", row.ID, "error", err)
			continue
		}
		all = append(all, v)
		read.ends(v.Until)
	}
	read.vettings = safety.NewVettings(all...)
	s.decided.Store(read)
	return read, nil
}

func waiverOf(row record.Waiver) (w safety.Waiver, err error) {
	w = safety.Waiver{ID: row.ID, Advisory: row.Advisory, Reason: row.Reason, By: row.By}
	if row.Until != nil {
		w.Until = *row.Until
	}
	w.Pattern, err = purl.ParsePattern(row.Pattern)
	return w, err
}

func vettingOf(row record.Vetting) (v safety.Vetting, err error) {
	v = safety.Vetting{ID: row.ID, Refused: row.Refused, For: row.Repositories, Reason: row.Reason, By: row.By,
		MadeAt: row.MadeAt}
	if row.Until != nil {
		v.Until = *row.Until
	}
	v.Pattern, err = purl.ParsePattern(row.Pattern)
	return v, err
}

// Known is what advisories say of a package, wherever it is.
func (s *Safety) Known(ctx context.Context, key catalog.PackageKey) ([]safety.Known, error) {
	key.RepositoryID, key.AsOf, key.Sight = 0, 0, ""
	if purl.OSVName(key.Ecosystem) == "" {
		return nil, nil
	}
	age := s.changes.Load()
	if known, ok := s.known.Get(key); ok && known.Generation == age {
		return known.Value, nil
	}
	all, err := s.DB.AdvisoriesOf(ctx, key)
	if err != nil {
		return nil, err
	}
	s.known.Add(key, act.Aged[[]safety.Known]{Value: all[key], Generation: age})
	return all[key], nil
}

// Ahead reads what advisories say of many packages by one question: they will be judged one after the other.
func (s *Safety) Ahead(ctx context.Context, keys []catalog.PackageKey) error {
	age := s.changes.Load()
	var lacking []catalog.PackageKey
	for _, key := range keys {
		key.RepositoryID, key.AsOf, key.Sight = 0, 0, ""
		if known, ok := s.known.Get(key); (!ok || known.Generation != age) && purl.OSVName(key.Ecosystem) != "" {
			lacking = append(lacking, key)
		}
	}
	if lacking == nil {
		return nil
	}
	all, err := s.DB.AdvisoriesOf(ctx, lacking...)
	if err != nil {
		return err
	}
	for _, key := range lacking {
		s.known.Add(key, act.Aged[[]safety.Known]{Value: all[key], Generation: age})
	}
	return nil
}
