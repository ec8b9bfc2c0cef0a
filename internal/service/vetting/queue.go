package vetting

import (
	"context"

	"golang.org/x/sync/errgroup"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/safety"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
)

// Waiting is a version that awaits a decision, and who wants it.
type Waiting struct {
	record.VettingRequest
	Assessment
	// Unknown: nothing can be told of it at the moment, for a reason.
	Unknown string
	// MayDecide: whoever asks may.
	MayDecide bool
}

// mostListed is how much of the queue is listed.
const mostListed = 200

// Queue lists what awaits a decision in repositories that the caller may read, or in the one that
// is named; what was wanted last first. What was decided since is gone from it.
func (s *Vetting) Queue(ctx context.Context, caller access.Caller, name string) (all []Waiting, more bool, err error) {
	readable := map[int64]catalog.Repository{}
	if name != "" {
		r, err := s.directory.Repository(caller, name, access.Read)
		if err != nil {
			return nil, false, err
		}
		readable[r.ID] = r
	} else {
		for _, r := range s.directory.Readable(caller) {
			readable[r.ID] = r
		}
	}
	ids := make([]int64, 0, len(readable))
	for id := range readable {
		ids = append(ids, id)
	}
	requests, err := s.DB.VettingRequests(ctx, ids)
	if err != nil {
		return nil, false, err
	}
	for _, q := range requests {
		r := readable[q.Key.RepositoryID]
		if q.Key.Sight = r.Sight; !s.directory.Shows(q.Key) {
			continue
		}
		if len(all) == mostListed {
			more = true
			break
		}
		all = append(all, Waiting{VettingRequest: q, Assessment: Assessment{Repository: r, PURL: act.PURLOf(q.Key,
			q.Version)},
			MayDecide: access.Decide(caller, access.Manage, access.Of(r)).Allowed})
	}
	over := s.lookAt(ctx, all)
	if err := ctx.Err(); err != nil {
		return nil, false, err
	}
	var dropped []int64
	open := all[:0]
	for i, w := range all {
		switch {
		case !over[i]:
			open = append(open, w)
		case w.MayDecide: // and so sees all of it
			dropped = append(dropped, w.ID)
		}
	}
	if len(dropped) > 0 {
		err = s.DB.DropVettingRequests(ctx, dropped)
	}
	return open, more, err
}

// lookAt finds out what is known of what is waiting, some at the same time, and tells which of it
// waits no more.
func (s *Vetting) lookAt(ctx context.Context, all []Waiting) (over []bool) {
	looking, end := context.WithTimeout(ctx, longestLook)
	defer end()
	over = make([]bool, len(all))
	var hands errgroup.Group
	hands.SetLimit(lookedAtOnce)
	for i := range all {
		hands.Go(func() error {
			w := &all[i]
			a, err := s.assess(looking, w.Repository, w.PURL, "")
			switch ground := a.Verdict.Ground; {
			case looking.Err() != nil:
				w.Unknown = "it took too long to find out"
			case fault.Is(err, fault.NotFound):
				over[i] = true
			case err != nil:
				w.Unknown = fault.Of(err).Message
			default:
				w.Assessment = a
				over[i] = ground != safety.Awaiting && ground != safety.TooYoung && ground != safety.ByLicence
			}
			return nil
		})
	}
	_ = hands.Wait() // none of them fails
	return over
}

// Concerns tell of what awaits a decision of whoever asks.
func (s *Vetting) Concerns(ctx context.Context, caller access.Caller) ([]act.Concern, error) {
	var ids []int64
	for _, r := range s.directory.Readable(caller) {
		if access.Decide(caller, access.Manage, access.Of(r)).Allowed {
			ids = append(ids, r.ID)
		}
	}
	n, err := s.DB.CountVettingRequests(ctx, ids)
	if err != nil || n == 0 {
		return nil, err
	}
	return []act.Concern{{Level: "waits", Page: "/safety/vetting",
		What: "Somebody wants " + act.Plural(n, "version") + " that nobody has decided about",
		Do:   "crelvo vetting queue tells what is known of each."}}, nil
}
