// Package safety is about what is let in: what advisories say of versions, and what follows
// from that where they are asked for.
package safety

import (
	"cmp"
	"context"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/core/safety"
	"crelvo/internal/ecosystem"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/service/directory"
)

// Safety knows the advisories and waivers. It is safe for use by several at once.
type Safety struct {
	*act.Act
	directory *directory.Directory

	changes atomic.Uint64 // of advisories
	known   *act.Weighted[catalog.PackageKey, act.Aged[[]safety.Known]]
	waived  atomic.Uint64            // changes of waivers
	waivers atomic.Pointer[standing] // as they were at some number of changes; nil before any is known
	ends    chan struct{}            // has one when it is to be looked again which waiver ends next

	running sync.WaitGroup
	mu      sync.Mutex
	alive   context.Context // ends with the service, which may begin again
	end     context.CancelFunc
}

// standing are the waivers that nobody ended, as of a moment.
type standing struct {
	all  safety.Waivers
	of   uint64    // changes before it was read
	next time.Time // when the first of them ends by itself; zero if none does
}

// each lists them, the oldest last.
func (s *standing) each() (all []safety.Waiver) {
	for _, some := range s.all {
		all = append(all, some...)
	}
	slices.SortFunc(all, func(a, b safety.Waiver) int { return cmp.Compare(b.ID, a.ID) })
	return all
}

// New makes the room.
func New(a *act.Act, directory *directory.Directory) *Safety {
	s := &Safety{Act: a, directory: directory, ends: make(chan struct{}, 1)}
	s.alive, s.end = context.WithCancel(context.Background())
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
	return s
}

// Purge forgets what may be out of date.
func (s *Safety) Purge() {
	s.changes.Add(1)
	s.known.Purge()
	s.forgetWaivers()
}

func (s *Safety) forgetWaivers() {
	s.waived.Add(1)
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
	case record.OfWaiver:
		s.forgetWaivers()
	}
	return nil
}

// Run lets go of what a waiver accepted when that ends by itself.
func (s *Safety) Run(ctx context.Context) {
	const again = time.Minute // clocks may be set
	timer := time.NewTimer(again)
	defer timer.Stop()
	for {
		wait := again
		if known, err := s.standing(ctx); err == nil && !known.next.IsZero() {
			if wait = known.next.Sub(s.Now()); wait <= 0 {
				s.waived.Add(1)
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

// standing are the waivers of now.
func (s *Safety) standing(ctx context.Context) (*standing, error) {
	of := s.waived.Load()
	if known := s.waivers.Load(); known != nil && known.of == of {
		return known, nil
	}
	rows, err := s.DB.StandingWaivers(ctx, s.Now())
	if err != nil {
		return nil, err
	}
	read := &standing{all: safety.Waivers{}, of: of}
	for _, row := range rows {
		w, err := waiverOf(row)
		if err != nil {
			s.Log.Error("a waiver on record cannot be read", "id", row.ID, "error", err)
			continue
		}
		read.all[w.Advisory] = append(read.all[w.Advisory], w)
		if !w.Until.IsZero() && (read.next.IsZero() || w.Until.Before(read.next)) {
			read.next = w.Until
		}
	}
	s.waivers.Store(read)
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

// Judge decides about the versions of one package in one repository.
type Judge struct {
	repository catalog.Repository
	of         purl.PURL
	rules      safety.Rules
	known      []safety.Known
	waivers    safety.Waivers
	now        time.Time
}

// Judge gives who decides about a package in a repository. What was let in at a moment is
// judged as it was then, but for what is malicious.
func (s *Safety) Judge(ctx context.Context, r catalog.Repository, key catalog.PackageKey) (*Judge, error) {
	known, err := s.Known(ctx, key)
	if err != nil || len(known) == 0 {
		return nil, err
	}
	standing, err := s.standing(ctx)
	if err != nil {
		return nil, err
	}
	j := &Judge{repository: r, of: act.PURLOf(key, ""), rules: r.Safety, known: known, waivers: standing.all,
		now: s.Now()}
	if key.AsOf != 0 {
		j.rules = safety.Rules{}
	}
	return j, nil
}

// Verdict tells whether a version is let in; a nil Judge lets in everything.
func (j *Judge) Verdict(version string) safety.Verdict {
	if j == nil {
		return safety.Verdict{}
	}
	p := j.of
	p.Version = version
	return safety.Decide(j.rules, p, safety.Find(j.known, version), j.waivers, j.now)
}

// Findings are what advisories say of a version, the worst first, whether or not it is let
// in.
func (j *Judge) Findings(version string) []safety.Finding {
	if j == nil {
		return nil
	}
	return safety.Find(j.known, version)
}

// Refusal is what whoever asks for a version is told that is not let in; nil if it is.
func (j *Judge) Refusal(version string) error {
	v := j.Verdict(version)
	if !v.Refused {
		return nil
	}
	p := j.of
	p.Version = version
	return Refused(j.repository, p, v)
}

// Refused says that a repository does not let a version in.
func Refused(r catalog.Repository, p purl.PURL, v safety.Verdict) error {
	f := fault.New(fault.Denied, ecosystem.KeptOut, "%s keeps out %s: %s", r.At(), p.Typed(), v.Why)
	if fixed := v.By.FixedIn; len(fixed) > 0 {
		return f.WithHint("It is mended in %s. crelvo advisory show %s tells more.", fixed[len(fixed)-1], v.By.ID)
	}
	return f.WithHint("Take another version. crelvo advisory show %s tells more.", v.By.ID)
}
