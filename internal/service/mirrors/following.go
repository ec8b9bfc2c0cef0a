package mirrors

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/url"
	"strconv"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/chain"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/core/text"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/service/repositories"
	"crelvo/internal/upstream"
)

const (
	// askedEvery is how often a mirror that follows its upstream asks what changed there.
	askedEvery = 5 * time.Second
	// followLease is for how long a node is at it until it has to say that it goes on.
	followLease = 2 * time.Minute
	// changesAtOnce is how many changes are asked for at once, and notedAfter after how many taken over it is noted.
	changesAtOnce = 500
	notedAfter    = 20
	// mostChanges is how long their list may be, in bytes.
	mostChanges = 4 << 20
	// longestFollowed is how many letters are kept of what went wrong.
	longestFollowed = 1000
)

// changes is what another Crelvo tells of a repository; see api.Changes.
type changes struct {
	Complete bool
	Number   int64
	Left     int
	Changes  []struct {
		Number int64
		PURL   string
		At     time.Time
		is     purl.PURL
	}
}

// follow begins to ask, for each mirror that follows its upstream, what changed there; it waits for none.
func (s *Mirrors) follow(context.Context) error {
	for _, m := range *s.mirrors.Load() {
		if !m.Mirror.Prefetch.Follow || !m.following.CompareAndSwap(false, true) {
			continue
		}
		s.Go(func(ctx context.Context) {
			defer m.following.Store(false)
			if err := s.followOne(record.Patiently(ctx), m); err != nil && ctx.Err() == nil {
				s.Log.Error("following the changes of an upstream failed", "mirror", m.Name, "error", err)
			}
		})
	}
	return nil
}

// followOne takes over what changed at the upstream of a mirror.
func (s *Mirrors) followOne(ctx context.Context, m *Mirror) error {
	address := m.Mirror.Upstreams[0].URL
	f, ok, err := s.DB.ClaimFollowing(ctx, m.ID, address, s.Now(), s.Now().Add(followLease))
	if err != nil || !ok {
		return err
	}
	was := f
	failed := s.takeOver(ctx, m, &f)
	now := s.Now()
	f.AskedAt, f.Failure = &now, ""
	switch {
	case failed != nil && ctx.Err() == nil:
		f.Failure = text.Clean(fault.Of(s.inWords(m, failed)).Message, false, longestFollowed)
	case failed == nil && f.Behind == 0:
		f.DoneAt, f.Oldest = &now, nil
	}
	ending, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer cancel()
	// It is asked again in a while by whichever node comes first.
	if err := s.DB.NoteFollowing(ending, f, now.Add(askedEvery-time.Second)); err != nil {
		return err
	}
	if f.Failure == was.Failure && f.Behind == was.Behind && f.Number == was.Number {
		return nil
	}
	return s.tellMirror(ending, m)
}

func (s *Mirrors) tellMirror(ctx context.Context, m *Mirror) error {
	return s.DB.Within(ctx, func(tx *record.Tx) error {
		return tx.Tell(ctx, record.Change{Kind: record.OfMirror, RepositoryID: m.ID, Repository: m.Name})
	})
}

// takeOver takes over what changed, until nothing is left.
func (s *Mirrors) takeOver(ctx context.Context, m *Mirror, f *record.Following) error {
	p := &prefetching{s: s, m: m, admitted: chain.NewFilter(m.Mirror),
		chosen: chain.NewFilter(&catalog.MirrorSettings{Allow: m.Mirror.Prefetch.Patterns})}
	for began := false; ctx.Err() == nil; {
		some, err := s.changesAfter(ctx, m, f.Number)
		if err != nil {
			return err
		}
		f.Behind = some.Left
		if !some.Complete {
			if began {
				return m.Source.Wrong(m.Mirror.Upstreams[0].URL, "does not tell what changed after the number that it told")
			}
			began = true
			// What changed before is not told one by one: all of it is looked at, as the prefetch rule does.
			if err := s.lookAtAll(ctx, m); err != nil {
				return err
			}
			f.Number, f.Behind = some.Number, 0
			continue
		}
		if len(some.Changes) == 0 {
			f.Number, f.Behind = max(f.Number, some.Number), 0
			return nil
		}
		for i, c := range some.Changes {
			at := c.At
			f.Oldest = &at
			if err := s.takeOne(ctx, p, f, c.is); err != nil {
				return err
			}
			f.Number, f.Behind = c.Number, max(0, f.Behind-1)
			if i%notedAfter == notedAfter-1 {
				if err := s.DB.NoteFollowing(ctx, *f, s.Now().Add(followLease)); err != nil {
					return err
				}
			}
		}
	}
	return ctx.Err()
}

// lookAtAll has the prefetch rule of a mirror run, if there is one.
func (s *Mirrors) lookAtAll(ctx context.Context, m *Mirror) error {
	if len(m.Mirror.Prefetch.Patterns) == 0 {
		return nil
	}
	run, err := s.beginPrefetch(ctx, access.Caller{Name: "schedule"}, m.Repository)
	if fault.Of(err).Code == "prefetch-running" {
		return nil // which looks at what there is now
	}
	if err != nil {
		return err
	}
	return s.RunPrefetch(ctx, m, run)
}

// longBehind is since when a mirror cannot follow its upstream that somebody is to know.
const longBehind = time.Hour

// Concerns tells which mirrors cannot follow their upstreams.
func (s *Mirrors) Concerns(ctx context.Context) (found []act.Concern, err error) {
	late, err := s.DB.LateFollowing(ctx, s.Now().Add(-longBehind))
	for _, f := range late {
		m := s.Of(f.RepositoryID)
		if m == nil || !m.Mirror.Prefetch.Follow {
			continue
		}
		since := "never"
		if f.DoneAt != nil {
			since = f.DoneAt.UTC().Format(act.TimeForm)
		}
		found = append(found, act.Concern{Level: "soon", Page: "/repositories/" + m.Name + "/prefetch",
			What: fmt.Sprintf("%s cannot follow its upstream (in step last: %s): %s", m.Name, since, f.Failure),
			Do:   "Look at the upstream, or have it not followed: crelvo repo edit " + m.Name + " --follow=false."})
	}
	return found, err
}

// takeOne takes over that a package changed. An error is that the upstream is not there; what is wrong with the
// package alone is none.
func (s *Mirrors) takeOne(ctx context.Context, p *prefetching, f *record.Following, is purl.PURL) error {
	err := s.changedThere(ctx, p, is)
	if err == nil || ctx.Err() != nil {
		return err
	}
	// Is it the package, or is nobody there?
	if _, err := s.changesAfter(ctx, p.m, f.Number); err != nil {
		return err
	}
	if err = s.changedThere(ctx, p, is); err != nil && ctx.Err() == nil {
		s.Log.Info("a change of an upstream could not be taken over", "mirror", p.m.Name, "package", is.String(),
			"error", err)
	}
	return ctx.Err()
}

// changedThere brings the list of a package up to date if it is known or wanted, and fetches its newest versions if
// the prefetch rule is about it.
func (s *Mirrors) changedThere(ctx context.Context, p *prefetching, is purl.PURL) error {
	if !p.admitted.Admits(is).Allowed {
		return nil
	}
	if len(p.m.Mirror.Prefetch.Patterns) == 0 || !p.chosen.Admits(is).Allowed {
		return s.askAgain(ctx, p.m, is)
	}
	before := p.run.Failed
	err := p.one(ctx, is)
	if err == nil && p.run.Failed > before {
		err = errors.New("not all of its newest versions could be fetched")
	}
	return err
}

// askAgain brings the list of a package up to date if it is known.
func (s *Mirrors) askAgain(ctx context.Context, m *Mirror, p purl.PURL) error {
	path := m.Speaks.ListingPath(p)
	if path == "" {
		return nil
	}
	known, err := s.Document(ctx, m, path, m.about(p))
	if err != nil || known == nil {
		return err
	}
	return s.askAnew(ctx, m, p)
}

// changesAfter asks the upstream of a mirror what changed after a number.
func (s *Mirrors) changesAfter(ctx context.Context, m *Mirror, after int64) (c changes, err error) {
	address := m.Mirror.Upstreams[0].URL
	server, name, err := repositories.CrelvoAt(address, m.Ecosystem)
	if err != nil {
		return c, err
	}
	query := url.Values{"ecosystem": {m.Ecosystem}, "after": {strconv.FormatInt(after, 10)},
		"limit": {strconv.Itoa(changesAtOnce)}}
	response, err := m.Source.Get(ctx, upstream.Request{At: address, Document: true, Accept: "application/json",
		Address: server + "api/v1/repositories/" + url.PathEscape(name) + "/changes?" + query.Encode()})
	if errors.Is(err, upstream.ErrAbsent) {
		return c, fault.New(fault.Conflict, "not-followed", "%s does not tell of changes of %s: is it there, and a Crelvo?",
			server, name)
	}
	if err != nil {
		return c, err
	}
	defer response.Body.Close()
	raw, err := io.ReadAll(io.LimitReader(response.Body, mostChanges+1))
	if err != nil {
		return c, err
	}
	if err := json.Unmarshal(raw, &c); err != nil || len(raw) > mostChanges {
		return c, m.Source.Wrong(address, "sent something else than changes: %.100q", string(raw))
	}
	last := after
	for i := range c.Changes {
		one := &c.Changes[i]
		if one.Number <= last {
			return c, m.Source.Wrong(address, "sent changes that are in no order")
		}
		last = one.Number
		one.is, err = purl.Parse(one.PURL)
		if err != nil || one.is.Ecosystem != m.Ecosystem || one.is.Version != "" {
			return c, m.Source.Wrong(address, "tells of a change of %.200q, which is no package here", one.PURL)
		}
	}
	return c, nil
}
