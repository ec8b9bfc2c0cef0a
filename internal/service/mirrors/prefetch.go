package mirrors

import (
	"context"
	"errors"
	"slices"
	"sync"
	"time"

	"github.com/riverqueue/river"
	"golang.org/x/sync/errgroup"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/chain"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/service/directory"
	"crelvo/internal/service/schedule"
)

// prefetchArgs is a job that runs the prefetch rule of a mirror.
type prefetchArgs struct {
	Mirror int64 `json:"mirror"`
	// Run is the run that was begun already; 0 for a scheduled one.
	Run int64 `json:"run,omitempty"`
}

// Kind implements river.JobArgs.
func (prefetchArgs) Kind() string { return "prefetch" }

type prefetchWorker struct {
	river.WorkerDefaults[prefetchArgs]
	service *Mirrors
}

// Work implements river.Worker.
func (w *prefetchWorker) Work(ctx context.Context, job *river.Job[prefetchArgs]) error {
	s := w.service
	m := s.Of(job.Args.Mirror)
	if m == nil {
		return nil // it was removed
	}
	run := record.PrefetchRun{ID: job.Args.Run, RepositoryID: m.ID}
	if run.ID == 0 {
		var err error
		if run, err = s.beginPrefetch(ctx, access.Caller{Name: "schedule"}, m.Repository); fault.Of(err).
			Code == "prefetch-running" {
			return nil
		}
		if err != nil {
			return err
		}
	}
	return s.RunPrefetch(ctx, m, run)
}

// beginPrefetch notes the begin of a run; one at a time.
func (s *Mirrors) beginPrefetch(
	ctx context.Context, caller access.Caller, r catalog.Repository,
) (record.PrefetchRun, error) {
	now := s.Now()
	run := record.PrefetchRun{RepositoryID: r.ID, BegunBy: caller.Name, BegunAt: now, TouchedAt: now}
	last, err := s.DB.PrefetchRuns(ctx, r.ID, 1)
	if err != nil {
		return run, err
	}
	if len(last) == 1 && last[0].EndedAt == nil && last[0].TouchedAt.Before(now.Add(-schedule.AbandonedRun)) {
		lines, err := last[0].Report()
		if err != nil {
			return run, err
		}
		last[0].EndedAt, last[0].Failure = &now, schedule.EndedInTheMiddle
		if err := s.DB.NotePrefetch(ctx, last[0], lines); err != nil {
			return run, err
		}
	}
	err = s.DB.Within(ctx, func(tx *record.Tx) error {
		id, ok, err := tx.BeginPrefetch(ctx, run)
		if err != nil {
			return err
		}
		if !ok {
			return fault.New(fault.Conflict, "prefetch-running", "a prefetch run of %s is under way already", r.Name).
				WithHint("crelvo mirror runs %s shows how far it is.", r.Name)
		}
		run.ID = id
		event := s.Event(caller, record.EventPrefetchBegun)
		event.Repository = r.Name
		return tx.Append(ctx, event, record.Change{Kind: record.OfMirror, RepositoryID: r.ID, Repository: r.Name})
	})
	return run, err
}

// Prefetch runs the prefetch rule of a mirror now, in the background.
func (s *Mirrors) Prefetch(ctx context.Context, caller access.Caller, name string) (record.PrefetchRun, error) {
	r, err := s.Mirror(caller, name, access.Manage)
	if err != nil {
		return record.PrefetchRun{}, err
	}
	if len(r.Mirror.Prefetch.Patterns) == 0 {
		return record.PrefetchRun{}, fault.New(fault.Conflict, "no-prefetch", "%s has no prefetch rule", name).
			WithHint("Say what is to be fetched: crelvo repo edit %s --prefetch 'pkg:%s/…'.", name, r.Ecosystem)
	}
	run, err := s.beginPrefetch(ctx, caller, r)
	if err != nil {
		return run, err
	}
	err = s.schedule.Insert(ctx, prefetchArgs{Mirror: r.ID, Run: run.ID})
	return run, err
}

// PrefetchRuns lists the last runs of a mirror.
func (s *Mirrors) PrefetchRuns(
	ctx context.Context, caller access.Caller, name string, limit int,
) ([]record.PrefetchRun, error) {
	r, err := s.Mirror(caller, name, access.Read)
	if err != nil {
		return nil, err
	}
	return s.DB.PrefetchRuns(ctx, r.ID, limit)
}

// prefetching is a run under way.
type prefetching struct {
	s *Mirrors
	m *Mirror
	// admitted is what the mirror lets in, chosen what the rule is about.
	admitted, chosen chain.Filter

	mu    sync.Mutex
	run   record.PrefetchRun
	lines []record.PrefetchLine
	noted time.Time
}

const (
	prefetchAtOnce = 4
	maxReport      = 5000 // lines that are kept of a run
	noteEvery      = time.Second
)

// RunPrefetch does a run: it brings the lists of the wanted packages up to date
// and fetches their newest versions.
func (s *Mirrors) RunPrefetch(ctx context.Context, m *Mirror, run record.PrefetchRun) error {
	stored, err := s.DB.PrefetchRun(ctx, run.ID)
	if err != nil {
		return err
	}
	p := &prefetching{s: s, m: m, run: stored, admitted: chain.NewFilter(m.Mirror),
		chosen: chain.NewFilter(&catalog.MirrorSettings{Allow: m.Mirror.Prefetch.Patterns})}
	working, done := context.WithCancel(ctx)
	var alive sync.WaitGroup
	touch := func(ctx context.Context) error { return s.DB.TouchPrefetch(ctx, run.ID, s.Now()) }
	if err := touch(ctx); err != nil {
		done()
		return err
	}
	alive.Go(func() {
		s.Every(working, act.Chore{Every: schedule.AbandonedRun / 4, What: "noting that a prefetch run goes on", Do: touch})
	})
	err = p.all(ctx)
	done()
	alive.Wait()
	if err == nil {
		err = ctx.Err()
	}
	now := s.Now()
	p.run.EndedAt = &now
	if err != nil {
		p.run.Failure = fault.Of(err).Message
		if errors.Is(err, context.Canceled) {
			p.run.Failure = "the service was stopped in the middle of it"
		}
	}
	ending, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
	defer cancel()
	return p.note(ending)
}

func (p *prefetching) all(ctx context.Context) error {
	wanted, err := p.s.Packages(ctx, p.m, p.m.Mirror.Prefetch.Patterns, p.wants)
	if err != nil {
		return err
	}
	p.run.Planned = len(wanted)
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(prefetchAtOnce)
	for _, of := range wanted {
		group.Go(func() error {
			if err := p.one(ctx, of); err != nil {
				p.add(record.PrefetchLine{PURL: of.String(), Outcome: record.PrefetchFailed, Why: fault.Of(err).Message})
			}
			return p.noteNow(ctx)
		})
	}
	return group.Wait()
}

// wants tells whether a pattern of the rule fits a package, or a version.
func (p *prefetching) wants(of purl.PURL) bool {
	return p.admitted.Admits(of).Allowed && p.chosen.Admits(of).Allowed
}

// one fetches the newest versions of a package.
func (p *prefetching) one(ctx context.Context, of purl.PURL) error {
	if byContent, ok := p.m.Speaks.(ecosystem.ByContent); ok {
		return p.labels(ctx, of, byContent)
	}
	key := catalog.PackageKey{RepositoryID: p.m.ID, Ecosystem: of.Ecosystem, Namespace: of.Namespace, Name: of.Name}
	if err := p.s.askAnew(ctx, p.m, of); err != nil {
		return err
	}
	found, _, err := p.s.Package(ctx, p.m, key, "")
	if errors.Is(err, ecosystem.ErrNoPackage) {
		return fault.New(fault.NotFound, "no-such-package", "the upstream lists no version of it")
	}
	if err != nil {
		return err
	}
	judge, err := p.s.safety.Judge(ctx, p.m.Repository, key)
	if err != nil {
		return err
	}
	judge.Among(found.Versions)
	versions := slices.DeleteFunc(slices.Clone(found.Versions), func(v catalog.Version) bool {
		return v.Snapshot || !p.wants(act.PURLOf(key, v.Version)) || judge.Of(&v).Refused
	})
	slices.SortFunc(versions, func(a, b catalog.Version) int { return purl.Compare(of.Ecosystem, b.Version, a.Version) })
	var like []catalog.File
	for _, v := range versions {
		if len(v.Files) > 0 {
			like = v.Files
			break
		}
	}
	for _, v := range versions[:min(len(versions), p.m.Mirror.Prefetch.Newest)] {
		wanted := like
		if len(v.Files) > 0 {
			wanted = v.Files
		}
		line, err := p.version(ctx, act.PURLOf(key, v.Version), v.Details, key, wanted)
		if err != nil {
			line.Outcome, line.Why = record.PrefetchFailed, fault.Of(err).Message
		}
		p.add(line)
	}
	return nil
}

// version fetches a version.
func (p *prefetching) version(
	ctx context.Context, of purl.PURL, details catalog.Details, key catalog.PackageKey, like []catalog.File,
) (record.PrefetchLine, error) {
	line := record.PrefetchLine{PURL: of.String(), Outcome: record.PrefetchThere}
	var err error
	if line.Files, line.Bytes, err = p.s.bring(ctx, p.m, of, details, key, like); line.Files > 0 {
		line.Outcome = record.PrefetchCame
	}
	return line, err
}

func (p *prefetching) add(line record.PrefetchLine) {
	p.mu.Lock()
	defer p.mu.Unlock()
	switch line.Outcome {
	case record.PrefetchCame:
		p.run.Came++
	case record.PrefetchThere:
		p.run.There++
	default:
		p.run.Failed++
	}
	p.run.Bytes += line.Bytes
	if len(p.lines) < maxReport {
		p.lines = append(p.lines, line)
	}
}

// noteNow writes how far the run is, every now and then.
func (p *prefetching) noteNow(ctx context.Context) error {
	p.mu.Lock()
	due := p.s.Now().Sub(p.noted) >= noteEvery
	p.mu.Unlock()
	if !due {
		return ctx.Err()
	}
	return p.note(ctx)
}

func (p *prefetching) note(ctx context.Context) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.noted = p.s.Now()
	p.run.TouchedAt = p.noted
	if err := p.s.DB.NotePrefetch(ctx, p.run, p.lines); err != nil {
		return err
	}
	return p.s.DB.Within(ctx, func(tx *record.Tx) error {
		return tx.Tell(ctx, record.Change{Kind: record.OfMirror, RepositoryID: p.m.ID, Repository: p.m.Name})
	})
}

// Work takes part in the queue.
func (s *Mirrors) Work(workers *river.Workers) {
	river.AddWorker(workers, &prefetchWorker{service: s})
}

// schedulePrefetch puts the prefetch rules of a directory on the schedule.
func (s *Mirrors) schedulePrefetch(d *directory.State) error {
	wanted := map[string]schedule.Rule{}
	for id, r := range d.ByID {
		if r.Mirror != nil && r.Mirror.Prefetch.Schedule != "" {
			wanted[act.Itoa(id)] = schedule.Rule{Schedule: r.Mirror.Prefetch.Schedule, Zone: r.Mirror.Prefetch.Zone,
				Args: prefetchArgs{Mirror: id}}
		}
	}
	s.schedule.Keep("prefetch", wanted)
	return nil
}
