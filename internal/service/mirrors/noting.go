package mirrors

import (
	"context"
	"fmt"
	"runtime/debug"
	"sync"
	"time"

	"golang.org/x/sync/semaphore"

	"crelvo/internal/record"
	"crelvo/internal/service/act"
)

const (
	// mostNoted is how much may wait to be written, by the weight of what is remembered,
	// in bytes; who brings more waits.
	mostNoted = 32 << 20
	// notedAtOnce is how many documents are written by one transaction.
	notedAtOnce = 16
	// afterAnswer is how long what is to be written waits for others, and for the answer that
	// is made of it: to write takes as much processor time.
	afterAnswer = 20 * time.Millisecond
)

// noted is what an upstream said, and is not on record yet.
type noted struct {
	m        *Mirror
	document record.UpstreamDocument
	tell     bool // it is news
	weight   int64
}

// key is where it is on record.
func (w *noted) key() documentKey { return documentKey{w.m.ID, w.document.Path} }

// noting writes what upstreams say, beside the answers that are made of it: should the
// service end before, they are asked again.
type noting struct {
	room    *semaphore.Weighted
	mu      sync.Mutex
	waiting map[documentKey]*noted
	order   []documentKey
	writing bool
	written sync.Cond // something is not waiting any more
}

func newNoting() *noting {
	n := &noting{waiting: map[documentKey]*noted{}, room: semaphore.NewWeighted(mostNoted)}
	n.written.L = &n.mu
	return n
}

// of gives what waits to be written for a path; nil if nothing does.
func (n *noting) of(key documentKey) *record.UpstreamDocument {
	n.mu.Lock()
	defer n.mu.Unlock()
	if w := n.waiting[key]; w != nil {
		return &w.document
	}
	return nil
}

// add has something written, in the place of what waits for the same path. It tells
// whether somebody must begin to write.
func (n *noting) add(ctx context.Context, w *noted) (begin bool, err error) {
	w.weight = min(w.weight, mostNoted)
	if err := n.room.Acquire(ctx, w.weight); err != nil {
		return false, err
	}
	n.mu.Lock()
	defer n.mu.Unlock()
	key := w.key()
	if before := n.waiting[key]; before != nil {
		w.tell = w.tell || before.tell
		n.room.Release(before.weight)
	} else {
		n.order = append(n.order, key)
	}
	n.waiting[key] = w
	begin, n.writing = !n.writing, true
	return begin, nil
}

// some are what to write next; none if nothing is left, and then writing has ended.
func (n *noting) some() (all []*noted) {
	n.mu.Lock()
	defer n.mu.Unlock()
	for _, key := range n.order[:min(len(n.order), notedAtOnce)] {
		all = append(all, n.waiting[key])
	}
	n.writing = len(all) > 0
	return all
}

// done takes away what was written, or could not be. What came meanwhile for the same path
// stays.
func (n *noting) done(all []*noted) {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.order = n.order[len(all):]
	for _, w := range all {
		if n.waiting[w.key()] != w {
			n.order = append(n.order, w.key())
			continue
		}
		delete(n.waiting, w.key())
		n.room.Release(w.weight)
	}
	n.written.Broadcast()
}

// wait waits until nothing of a kind waits to be written.
func (n *noting) wait(of func(*noted) bool) {
	n.mu.Lock()
	defer n.mu.Unlock()
	for {
		waits := false
		for _, w := range n.waiting {
			waits = waits || of(w)
		}
		if !waits {
			return
		}
		n.written.Wait()
	}
}

// write has all that waits put on record, many at once. What cannot be is taken from among
// the others, which are put by themselves then; done is called for each.
func (n *noting) write(put func([]*noted) error, done func(w *noted, err error)) {
	careful := func(some []*noted) (err error) {
		defer func() {
			if bad := recover(); bad != nil { // what comes from elsewhere must not end the service
				err = fmt.Errorf("writing failed badly: %v\n%s", bad, debug.Stack())
			}
		}()
		return put(some)
	}
	for all := n.some(); len(all) > 0; all = n.some() {
		failed := careful(all)
		for i, w := range all {
			err := failed
			if err != nil && len(all) > 1 && !record.Unreachable(err) {
				err = careful(all[i : i+1])
			}
			done(w, err)
		}
		n.done(all)
	}
}

// setDocument takes note of what an upstream said; tell is whether it is news. It is
// known at once, and written soon.
func (s *Mirrors) setDocument(ctx context.Context, m *Mirror, d record.UpstreamDocument, tell bool) error {
	known := act.Aged[record.UpstreamDocument]{Value: d, Generation: s.Age(d.About)}
	s.documents.Add(documentKey{m.ID, d.Path}, known)
	begin, err := s.noting.add(ctx, &noted{m, d, tell, weightOfListing(known)})
	if begin {
		time.AfterFunc(afterAnswer, func() { s.noting.write(s.put, s.wasPut) })
	}
	return err
}

// put puts what upstreams said on record, all of it or none.
func (s *Mirrors) put(all []*noted) error {
	ctx := record.Patiently(context.Background())
	return s.DB.Within(ctx, func(tx *record.Tx) error {
		for _, w := range all {
			if err := tx.SetUpstreamDocument(ctx, w.document); err != nil {
				return err
			}
			about := w.document.About
			if !w.tell {
				continue
			}
			if err := tx.Tell(ctx, record.Change{Kind: record.OfPackage, RepositoryID: w.m.ID, Repository: w.m.Name,
				Ecosystem: w.m.Ecosystem, Namespace: about.Namespace, Name: about.Name}); err != nil {
				return err
			}
		}
		return nil
	})
}

// wasPut remembers what was put on record as current, or tells that it was not.
func (s *Mirrors) wasPut(w *noted, err error) {
	if err != nil {
		s.Log.Error("what an upstream said could not be written; it is asked again after a restart", "mirror", w.m.Name,
			"path", w.document.Path, "error", err)
	}
	known, ok := s.documents.Get(w.key())
	if ok && w.tell && known.Value.CheckedAt.Equal(w.document.CheckedAt) {
		// That it was told ended what was known; it is the same still.
		s.documents.Add(w.key(), act.Aged[record.UpstreamDocument]{Value: w.document, Generation: s.Age(w.document.About)})
	}
}

// End fetches no more, and waits until all is written.
func (s *Mirrors) End() {
	s.Underway.End()
	s.noting.wait(func(*noted) bool { return true })
}
