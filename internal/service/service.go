// Package service is what Crelvo does: one file per use case. It carries values
// from records, bytes and ecosystems to the core's decisions and acts on the
// answers.
package service

import (
	"context"
	"crelvo/internal/ecosystem/kinds"
	"hash/maphash"
	"log/slog"
	"sync"
	"sync/atomic"
	"time"

	"github.com/riverqueue/river"

	lru "github.com/hashicorp/golang-lru/v2"
	"golang.org/x/sync/singleflight"

	"crelvo/internal/blob"
	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/ecosystem"
	"crelvo/internal/record"
	"crelvo/internal/service/counting"
	"crelvo/internal/service/secret"
)

// defaultLongest is how long a token may last if nothing else is said.
const defaultLongest = 366 * 24 * time.Hour

// Settings of a Service; zero fields take the defaults.
type Settings struct {
	// QuietPeriod is how long after the last file a version is held to be
	// complete when its client does not say so. Default one minute.
	QuietPeriod time.Duration
	Log         *slog.Logger
	// Now is the clock; the demo's past is made with another one.
	Now func() time.Time
	// SecretKey encrypts the credentials for upstreams. All nodes need the same.
	SecretKey [32]byte
	// LongestToken is how long a token may last. Default 366 days.
	LongestToken time.Duration
	// LargestFile is how large a published file may be where its repository does not
	// say it, in bytes. Default 20 GiB.
	LargestFile int64
	// AdoptStore takes the store for the one of the records, whatever it is.
	AdoptStore bool
	// LoseSecrets forgets what another key encrypted, instead of refusing to start.
	LoseSecrets bool
	// Version names the program to upstreams.
	Version string
}

// Service is Crelvo without its interfaces. It implements ecosystem.Desk.
type Service struct {
	db          *record.DB
	blobs       blob.Store
	ecosystems  map[string]ecosystem.Ecosystem
	databaseNow func(context.Context) (time.Time, error)
	settings    Settings
	safe        secret.Safe
	log         *slog.Logger

	repositories atomic.Pointer[directory]
	loading      sync.Mutex
	tellLoaded   []func(*directory) error // before it counts
	settled      atomic.Uint64            // raised by every change of settings
	seed         maphash.Seed
	generations  [4096]atomic.Uint64                               // by the hash of a package's name; raised by every change
	packages     *weighted[catalog.PackageKey, aged[record.Known]] // as one repository keeps them
	composed     *weighted[catalog.PackageKey, aged[record.Known]] // as a mirror or chain puts them together
	rendered     *weighted[renderedKey, rendered]
	rendering    singleflight.Group
	files        *lru.Cache[catalog.FileQuestion, aged[ecosystem.Found]]
	documents    *weighted[documentKey, aged[record.UpstreamDocument]]
	anything     atomic.Uint64 // raised by every change of any package
	folders      *lru.Cache[folderKey, aged[ecosystem.Folder]]
	plugins      *lru.Cache[catalog.PackageKey, aged[map[int64][]ecosystem.Plugin]]
	small        *lru.Cache[[32]byte, []byte] // contents of small files

	mirrors atomic.Pointer[map[int64]*mirror]
	jobs    jobs

	sights           *lru.Cache[catalog.Sight, seen]
	accessGeneration atomic.Uint64
	nobodys          atomic.Pointer[aged[[]access.Grant]] // what who did not sign in may do
	brake            *brake
	refusals         refusals
	admins           atomic.Pointer[aged[[]access.Grant]]
	callers          *lru.Cache[[32]byte, aged[knownCaller]]
	hashing          chan struct{} // how many passwords are hashed at once
	trying           singleflight.Group

	buildGeneration atomic.Uint64
	openBuilds      atomic.Pointer[aged[[]record.OpenBuild]]
	promoting       promoting

	// lookedAt is up to when completeQuiet has seen what was touched.
	lookedAt time.Time

	counting *counting.Counting
	watchers watchers
	keeping  keeping
	worries  worries
	unasked  unasked
}

// aged is a cached value with the generation it was read in.
type aged[T any] struct {
	value      T
	generation uint64
	until      time.Time // where time ends it too
}

const abandonAfter = 24 * time.Hour

// New makes a service and looks after what an earlier process may have left.
// Nothing else may use the store yet.
func New(ctx context.Context, db *record.DB, blobs blob.Store, settings Settings) (*Service, error) {
	ctx = record.Patiently(ctx)
	if settings.QuietPeriod == 0 {
		settings.QuietPeriod = time.Minute
	}
	if settings.LargestFile == 0 {
		settings.LargestFile = 20 << 30
	}
	if settings.LongestToken == 0 {
		settings.LongestToken = defaultLongest
	}
	if settings.Log == nil {
		settings.Log = slog.Default()
	}
	if settings.Now == nil {
		settings.Now = time.Now
	}
	s := &Service{db: db, databaseNow: db.Now, blobs: blobs, settings: settings, safe: secret.New(settings.SecretKey), log: settings.Log, seed: maphash.MakeSeed(),
		ecosystems: map[string]ecosystem.Ecosystem{}, hashing: make(chan struct{}, 2)}
	s.counting = counting.New(db, s.Now, s.countsLost)
	for _, e := range kinds.All() {
		s.ecosystems[e.Name()] = e
	}
	s.accessGeneration.Store(1)
	s.packages = newWeighted[catalog.PackageKey](20_000, packageMemory, weightOf)
	s.composed = newWeighted[catalog.PackageKey](20_000, packageMemory, weightOf)
	s.rendered = newWeighted[renderedKey](20_000, documentMemory, func(r rendered) int64 { return r.document.Weight() })
	s.files = newCache[catalog.FileQuestion, aged[ecosystem.Found]](50_000)
	s.callers = newCache[[32]byte, aged[knownCaller]](10_000)
	s.brake = newBrake()
	s.sights = newCache[catalog.Sight, seen](10_000)
	s.small = newCache[[32]byte, []byte](smallCount)
	s.plugins = newCache[catalog.PackageKey, aged[map[int64][]ecosystem.Plugin]](10_000)
	s.folders = newCache[folderKey, aged[ecosystem.Folder]](200)
	s.documents = newWeighted[documentKey](20_000, packageMemory, weightOfListing)
	if err := s.knowStore(ctx); err != nil {
		return nil, err
	}
	if err := s.knowKey(ctx); err != nil {
		return nil, err
	}
	if err := s.tidy(ctx); err != nil {
		return nil, err
	}
	workers := river.NewWorkers()
	s.workPrefetch(workers)
	s.workRetention(workers)
	if err := s.newJobs(workers); err != nil {
		return nil, err
	}
	s.scheduleNights()
	s.tellLoaded = append(s.tellLoaded, s.setMirrors, s.schedulePrefetch)
	return s, s.loadRepositories(ctx)
}

// Ecosystem finds an ecosystem by its purl type; nil if there is none.
func (s *Service) Ecosystem(name string) ecosystem.Ecosystem { return s.ecosystems[name] }

// Now is the time by the service's clock.
func (s *Service) Now() time.Time { return s.settings.Now() }

// surelyNow is the time that ends what cannot come back: the earlier one of the
// service's clock and the database's, so that one that jumps ahead frees nothing.
func (s *Service) surelyNow(ctx context.Context) (time.Time, error) {
	theirs, err := s.databaseNow(ctx)
	if now := s.Now(); err == nil && now.Before(theirs) {
		return now, nil
	}
	return theirs, err
}

// Ready tells whether the records can be reached.
func (s *Service) Ready(ctx context.Context) error { return s.db.PingContext(ctx) }

// Run does what goes on in the background until ctx ends, and then writes what
// is still only in memory.
func (s *Service) Run(ctx context.Context) {
	var running sync.WaitGroup
	running.Go(func() { s.db.Listen(ctx, s.heard, s.forgetAll) })
	running.Go(func() { s.every(ctx, 2*time.Second, "counting downloads", s.counting.Flush) })
	running.Go(func() {
		s.every(ctx, max(min(s.settings.QuietPeriod/4, 10*time.Second), 50*time.Millisecond), "completing quiet versions", s.completeQuiet)
	})
	running.Go(func() { s.every(ctx, 2*time.Second, "noting refusals", s.noteRefusals) })
	running.Go(func() { s.every(ctx, time.Minute, "giving up versions", s.giveUp) })
	running.Go(func() { s.every(ctx, 10*time.Minute, "dropping what was begun", s.dropBegun) })
	running.Go(func() { s.every(ctx, time.Minute, "ending runs that nobody works on", s.endLostRuns) })
	running.Go(func() { s.every(ctx, time.Hour, "forgetting what was not there", s.forgetAbsences) })
	running.Go(func() { s.every(ctx, 5*time.Second, "looking after stored bytes", s.askAboutLeft) })
	running.Go(func() { s.runJobs(ctx) })
	running.Go(func() { s.every(ctx, 2*time.Second, "looking after promotions", s.tendPromotions) })
	running.Go(func() { s.every(ctx, time.Second, "sending versions on", s.deliver) })
	running.Go(func() { s.every(ctx, time.Second, "sweeping", s.tendSweeps) })
	running.Go(func() { s.every(ctx, time.Hour, "forgetting downloads of long ago", s.forgetUse) })
	running.Wait()
	s.promoting.end()
	final, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer cancel()
	if err := s.counting.Flush(final); err != nil {
		s.log.Error("the last downloads were not counted", "error", err)
	}
	if err := s.noteRefusals(final); err != nil {
		s.log.Error("the last refusals were not noted", "error", err)
	}
}

func (s *Service) every(ctx context.Context, interval time.Duration, what string, do func(context.Context) error) {
	ticker := time.NewTicker(interval)
	defer ticker.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
			if err := do(record.Patiently(ctx)); err != nil && ctx.Err() == nil {
				s.log.Error(what+" failed", "error", err)
			}
		}
	}
}

// tidy looks after what a process that was killed left behind: bytes without a
// record are dropped, versions it was receiving do not become visible by
// themselves.
func (s *Service) tidy(ctx context.Context) error {
	leftovers, err := s.blobs.Leftovers(ctx)
	if err != nil {
		return err
	}
	for _, l := range leftovers {
		known, err := s.db.KnowsBlob(ctx, l.SHA256)
		if err != nil {
			return err
		}
		if !known {
			if err := s.blobs.Drop(ctx, l.SHA256); err != nil {
				return err
			}
		}
		if err := s.blobs.Forget(l); err != nil {
			return err
		}
	}
	return s.db.MarkInterrupted(ctx)
}

// heard takes note of a change that some node made.
func (s *Service) heard(c record.Change) {
	switch c.Kind {
	case "package":
		s.changed(catalog.PackageKey{RepositoryID: c.RepositoryID, Ecosystem: c.Ecosystem, Namespace: c.Namespace, Name: c.Name})
	case "access":
		s.accessGeneration.Add(1)
	case "build":
		s.buildGeneration.Add(1)
	case "policy":
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		if err := s.scheduleSweeps(ctx); err != nil {
			s.log.Error("reading the policies failed", "error", err)
		}
	case "repository":
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		if err := s.loadRepositories(ctx); err != nil {
			s.log.Error("reading the repositories failed", "error", err)
		}
	}
	s.watchers.tell(c)
}

// Chore is what a part does again and again while the service runs.
type Chore struct {
	Every time.Duration
	What  string // as an error in the log calls it
	Do    func(context.Context) error
	// Last is done once more when the service ends, so that nothing is lost that is
	// only in memory.
	Last bool
}

// A part of the service may be each of these; the service goes through the list of its
// parts, so that nothing that is remembered, and nobody who listens, can be left out.
type (
	// Purger forgets all that it remembers and that may be out of date.
	Purger interface{ Purge() }
	// Hearer is told of every change that some node made.
	Hearer interface{ Hear(c record.Change) error }
	// Busy has chores.
	Busy interface{ Chores() []Chore }
	// Runner does something of its own until ctx ends, and returns when it has ended.
	Runner interface{ Run(ctx context.Context) }
	// Worker takes part in the queue of jobs.
	Worker interface{ Work(workers *river.Workers) }
)

// forgetAll empties what may be out of date: all that is remembered, and all
// generations, so that nothing can be left out. A test compares it with the
// fields of the Service.
func (s *Service) forgetAll() {
	for _, cache := range []interface{ Purge() }{s.packages, s.composed, s.files, s.documents, s.plugins, s.folders, s.callers} {
		cache.Purge()
	}
	for _, generation := range []*atomic.Uint64{&s.anything, &s.settled, &s.accessGeneration, &s.buildGeneration} {
		generation.Add(1)
	}
	s.heard(record.Change{Kind: "repository"})
	s.heard(record.Change{Kind: "policy"})
}

// generation counts the changes of all packages of a name, in whichever
// repository: chains put several together.
func (s *Service) generation(key catalog.PackageKey) *atomic.Uint64 {
	key.RepositoryID, key.AsOf, key.Sight = 0, 0, ""
	return &s.generations[maphash.Comparable(s.seed, key)%uint64(len(s.generations))]
}

// age is the generation of what is known of a package now. It grows with every
// change of the package and of any repository's settings.
func (s *Service) age(key catalog.PackageKey) uint64 {
	return s.generation(key).Load() + s.settled.Load()
}

// anyAge is the generation of everything: of all packages, settings and claims.
func (s *Service) anyAge() uint64 { return s.anything.Load() + s.settled.Load() }

// settingsChanged notes that the settings of some repository, or a claim, are not as they were.
func (s *Service) settingsChanged() { s.settled.Add(1) }

// accessAge is the generation of who may do what.
func (s *Service) accessAge() uint64 { return s.accessGeneration.Load() }

// accessChanged notes that somebody may do more, or less, than before.
func (s *Service) accessChanged() { s.accessGeneration.Add(1) }

// changed notes that a package is not as it was, and so its namespace.
func (s *Service) changed(key catalog.PackageKey) {
	s.anything.Add(1)
	s.generation(key).Add(1)
	key.Name = ""
	s.generation(key).Add(1)
}

// Watch tells every change from now on until ctx ends. A watcher that does not
// keep up misses some.
func (s *Service) Watch(ctx context.Context) <-chan record.Change { return s.watchers.add(ctx) }

type watchers struct {
	mu  sync.Mutex
	all map[chan record.Change]bool
}

func (w *watchers) add(ctx context.Context) <-chan record.Change {
	c := make(chan record.Change, 64)
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.all == nil {
		w.all = map[chan record.Change]bool{}
	}
	w.all[c] = true
	context.AfterFunc(ctx, func() {
		w.mu.Lock()
		defer w.mu.Unlock()
		delete(w.all, c)
		close(c)
	})
	return c
}

func (w *watchers) tell(change record.Change) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for c := range w.all {
		select {
		case c <- change:
		default:
		}
	}
}

// event begins an event of the caller.
func (s *Service) event(caller access.Caller, action string) record.Event {
	return record.Event{At: s.Now(), Who: caller.Name, Token: caller.Token, Address: caller.Address, Action: action}
}
