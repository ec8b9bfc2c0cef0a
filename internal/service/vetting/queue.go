package vetting

import (
	"context"

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
	var over []int64
	for _, q := range requests {
		r := readable[q.Key.RepositoryID]
		q.Key.Sight = r.Sight
		if !s.directory.Shows(q.Key) {
			continue
		}
		if len(all) == mostListed {
			more = true
			break
		}
		w := Waiting{VettingRequest: q, MayDecide: access.Decide(caller, access.Manage, access.Of(r)).Allowed}
		w.Assessment, err = s.assess(ctx, r, act.PURLOf(q.Key, q.Version))
		switch {
		case ctx.Err() != nil:
			return nil, false, ctx.Err()
		case fault.Is(err, fault.NotFound) || err == nil && w.Verdict.Ground != safety.Awaiting &&
			w.Verdict.Ground != safety.TooYoung && w.Verdict.Ground != safety.ByLicence:
			if w.MayDecide { // and so sees all of it
				over = append(over, q.ID)
			}
			continue
		case err != nil:
			w.Unknown = fault.Of(err).Message
		}
		all = append(all, w)
	}
	if len(over) > 0 {
		err = s.DB.DropVettingRequests(ctx, over)
	}
	return all, more, err
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
