package transfers

import (
	"context"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"
	"golang.org/x/time/rate"

	"crelvo/internal/core/access"
	"crelvo/internal/core/bundle"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/chain"
	"crelvo/internal/core/fault"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/service/publishing"
)

// moving is a transfer that is worked on.
type moving struct {
	record.Transfer
	s      *Transfers
	worker string

	caller   access.Caller // as they may do things now
	from, to catalog.Repository
	wanted   chain.Filter
	held     bool          // from is a mirror of another Crelvo, which tells what it keeps
	limit    *rate.Limiter // of what is fetched from it; nil: none

	begun   time.Time
	fetched atomic.Int64 // bytes, by this worker
	noted   int64        // of these
}

const (
	// movedAtOnce is how many versions become visible together, and fetchedAtOnce of how many packages
	// something is fetched at the same time.
	movedAtOnce   = 200
	fetchedAtOnce = 16
)

// work does a transfer, from where it is. What fails for a reason that may pass is taken up again.
func (s *Transfers) work(ctx context.Context, m *moving) {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	m.begun = s.Now()
	var signs sync.WaitGroup
	signs.Go(func() {
		s.Every(ctx, act.Chore{Every: time.Second, What: "noting how far a transfer is", Always: true,
			Do: func(ctx context.Context) error { return m.note(ctx, stop) }})
	})
	err := m.doPatiently(ctx)
	stopped := ctx.Err() != nil
	stop()
	signs.Wait()
	ending, done := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
	defer done()
	if noteErr := m.note(ending, func() {}); noteErr != nil {
		s.Log.Error("how far a transfer is could not be noted", "transfer", m.ID, "error", noteErr)
	}
	f := fault.Of(err)
	switch {
	case stopped:
		err = s.DB.LeaveTransfer(ending, m.ID, m.worker)
	case err == nil:
		_, err = s.ended(ending, m.caller, m.Transfer, record.TransferDone, "")
	case f.Kind == fault.Unavailable:
		// It waits, as it says, until it is taken up again.
	case f.Kind != fault.Internal:
		_, err = s.ended(ending, access.Caller{Name: m.ByName}, m.Transfer, record.TransferBroken, f.Message)
	}
	if err != nil {
		s.Log.Error("a transfer was interrupted, and is taken up again", "transfer", m.ID, "error", err)
	}
}

// note is a sign of life, and tells those who look how far it is. Who may not go on is stopped.
func (m *moving) note(ctx context.Context, stop func()) error {
	fetched := m.fetched.Load()
	still, err := m.s.DB.TouchTransfer(ctx, m.ID, m.worker, fetched-m.noted, m.s.Now())
	if err != nil {
		return err
	}
	if !still {
		stop()
		return nil
	}
	m.noted = fetched
	return m.s.DB.Within(ctx, func(tx *record.Tx) error { return tx.Tell(ctx, change(m.Transfer)) })
}

const (
	// firstPause is how long it waits for an upstream that is away before it tries again, then twice as long, and so on;
	// after so many tries others may have the place.
	firstPause = time.Second
	tries      = 5
)

// doPatiently is do for as long as what is away may come back soon.
func (m *moving) doPatiently(ctx context.Context) (err error) {
	pause := firstPause
	for range tries {
		if err = m.do(ctx); err == nil || ctx.Err() != nil || fault.Of(err).Kind != fault.Unavailable {
			return err
		}
		if err := m.s.moved(ctx, m, fault.Of(err).Message); err != nil {
			return err
		}
		select {
		case <-time.After(pause):
		case <-ctx.Done():
			return ctx.Err()
		}
		pause *= 2
	}
	return err
}

// do does what is left of it.
func (m *moving) do(ctx context.Context) error {
	if err := m.look(ctx); err != nil {
		return err
	}
	m.wanted = asWanted(m.Patterns)
	if m.Failure != "" { // it waited for something
		if err := m.s.moved(ctx, m, ""); err != nil {
			return err
		}
	}
	steps := []struct {
		state string
		do    func(context.Context) error
	}{{record.TransferPlanning, m.plan}, {record.TransferMoving, m.move}, {record.TransferChecking, m.check}}
	for i, step := range steps {
		if m.State != step.state {
			continue
		}
		if err := step.do(ctx); err != nil {
			return err
		}
		if i+1 == len(steps) || m.Dry {
			return nil
		}
		m.State = steps[i+1].state
		if err := m.s.moved(ctx, m, ""); err != nil {
			return err
		}
	}
	return nil
}

// moved notes how far a transfer is, and what it waits for; "": nothing.
func (s *Transfers) moved(ctx context.Context, m *moving, waits string) error {
	m.Failure = waits
	return s.DB.Within(ctx, func(tx *record.Tx) error {
		_, err := tx.MoveTransfer(ctx, m.ID, m.State, waits, s.Now())
		return err
	})
}

// look finds out who asked for it and what they may do now, and what the repositories are.
func (m *moving) look(ctx context.Context) (err error) {
	if m.caller, err = m.s.rights.Still(ctx, m.ByName, m.Token); err != nil {
		return err
	}
	for _, end := range []struct {
		id   int64
		name string
		r    *catalog.Repository
		may  access.Action
	}{{m.FromID, m.From, &m.from, access.Read}, {m.ToID, m.To, &m.to, access.Publish}} {
		known, ok := m.s.directory.RepositoryByID(end.id)
		if !ok {
			return fault.New(fault.Conflict, "repository-removed", "%s was removed", end.name)
		}
		if *end.r, err = m.s.directory.Repository(m.caller, known.Name, end.may); err != nil {
			return err
		}
	}
	m.to.Sight = ""
	return nil
}

// move makes what is to come visible, some of it at a time, and has the next of it fetched meanwhile.
func (m *moving) move(ctx context.Context) error {
	var ready []coming
	for after, left := 0, true; left; {
		items, err := m.s.DB.Items(ctx, m.ID, record.ItemNew, after, movedAtOnce)
		if err != nil {
			return err
		}
		if left = len(items) > 0; left {
			after = items[len(items)-1].N
		}
		if err := m.look(ctx); err != nil {
			return err
		}
		var next []coming
		both, at := errgroup.WithContext(ctx)
		both.Go(func() error { return m.place(at, ready) })
		both.Go(func() (err error) {
			next, err = m.fetch(at, items)
			return err
		})
		if err := both.Wait(); err != nil {
			return err
		}
		ready = next
	}
	return nil
}

// fetch finds the versions of items, and has come what is not here.
func (m *moving) fetch(ctx context.Context, items []record.TransferItem) ([]coming, error) {
	if len(items) == 0 {
		return nil, nil
	}
	coming, told, err := m.gatherHeld(ctx, items)
	if err == nil && !told {
		coming, err = m.gather(ctx, items)
	}
	return coming, err
}

// coming is a version that is to come, with what its repository has of it.
type coming struct {
	record.TransferItem
	key     catalog.PackageKey
	version *catalog.Version
	there   *catalog.Package
	origin  *bundle.Origin        // where another Crelvo had it
	placed  *record.PlacedVersion // it was looked into; nil if it is as the repository that it comes from has it
}

// gather finds the versions of items, and fetches what is not here. What cannot be found or fetched is noted.
func (m *moving) gather(ctx context.Context, items []record.TransferItem) ([]coming, error) {
	var groups [][]record.TransferItem
	var keys []catalog.PackageKey
	for _, item := range items {
		key := m.from.Key(item.Ecosystem, item.Namespace, item.Name)
		if n := len(keys); n == 0 || keys[n-1] != key {
			keys, groups = append(keys, key), append(groups, nil)
		}
		groups[len(groups)-1] = append(groups[len(groups)-1], item)
	}
	if _, err := m.ahead(ctx, keys); err != nil {
		return nil, err
	}
	found := make([][]coming, len(groups))
	all, ctx := errgroup.WithContext(ctx)
	all.SetLimit(fetchedAtOnce)
	for i := range groups {
		all.Go(func() (err error) {
			found[i], err = m.gatherPackage(ctx, keys[i], groups[i])
			return err
		})
	}
	err := all.Wait()
	return slices.Concat(found...), err
}

func (m *moving) gatherPackage(
	ctx context.Context, key catalog.PackageKey, items []record.TransferItem,
) (found []coming, err error) {
	there, err := m.s.resolving.There(ctx, m.from, key)
	if err != nil {
		return nil, m.failed(ctx, items, err)
	}
	at := m.s.mirrors.Of(m.from.ID)
	for _, item := range items {
		v := publishing.Find(there, item.Version, item.Upload)
		if v != nil && at != nil && !v.Snapshot {
			if err := m.bring(ctx, key, there, v); err != nil {
				if err := m.failed(ctx, []record.TransferItem{item}, err); err != nil {
					return nil, err
				}
				continue
			}
			kept, err := m.has(ctx, key)
			if err != nil {
				return nil, err
			}
			from := *v
			if v = publishing.Find(kept, item.Version, item.Upload); v != nil {
				whole := *v
				whole.Outside, whole.Dated, whole.Withdrawn = true, from.Dated, from.Withdrawn
				v = &whole
			}
		}
		if v == nil || len(v.Files) == 0 {
			err := fault.New(fault.NotFound, "source-gone", "it is not in %s any more", m.from.Name)
			if err := m.failed(ctx, []record.TransferItem{item}, err); err != nil {
				return nil, err
			}
			continue
		}
		found = append(found, coming{TransferItem: item, key: key, version: v, there: there})
	}
	return found, nil
}

// bring fetches what is not kept of a version, as fast as it may be.
func (m *moving) bring(ctx context.Context, key catalog.PackageKey, there *catalog.Package, v *catalog.Version) error {
	at := m.s.mirrors.Of(m.from.ID)
	like := v.Files
	for i := 0; len(like) == 0 && i < len(there.Versions); i++ {
		like = there.Versions[i].Files
	}
	_, bytes, err := m.s.mirrors.Bring(ctx, at, key, v, like)
	fetched := m.fetched.Add(bytes)
	if m.Rate > 0 && bytes > 0 {
		due := m.begun.Add(time.Duration(float64(fetched) / float64(m.Rate) * float64(time.Second)))
		select {
		case <-time.After(due.Sub(m.s.Now())):
		case <-ctx.Done():
		}
	}
	return err
}

// failed notes that versions do not come, and why, if it is not the transfer that ends.
func (m *moving) failed(ctx context.Context, items []record.TransferItem, cause error) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	f := fault.Of(cause)
	if f.Kind == fault.Internal {
		return cause
	}
	ns := make([]int, len(items))
	for i, item := range items {
		ns[i] = item.N
	}
	return m.s.DB.Within(ctx, func(tx *record.Tx) error {
		return tx.NoteItems(ctx, m.ID, ns, record.ItemFailed, f.Message, nil)
	})
}

// check compares what came with what came from where it was.
func (m *moving) check(ctx context.Context) error {
	return m.s.DB.FailLost(ctx, m.ID, m.to.ID, "it came, and is not in "+m.to.Name+" any more as it came")
}
