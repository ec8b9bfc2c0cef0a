package service

import (
	"context"
	"strconv"
	"sync"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/fault"
	"crelvo/internal/record"
)

// Refusal is an attempt that was refused, for the activity record.
type Refusal struct {
	Who, Token, Address string
	Code                string
	Repository          string
}

// refusals are what was refused and is not on record yet. Attempts that are
// alike are one event with their number, so that who asks again and again fills
// neither the record nor holds up others.
type refusals struct {
	mu     sync.Mutex
	all    map[Refusal]*refused
	noted  map[Refusal]time.Time // when an event was last written of it
	missed int
}

type refused struct {
	times       int
	at          time.Time // first
	asked, said string    // of the last
}

const (
	// refusalPause is how long attempts that are alike are gathered after an event
	// about them.
	refusalPause = time.Minute
	// maxRefusals is how many kinds of attempts are kept apart at a time.
	maxRefusals = 200
)

// Refused notes that an attempt was refused; asked says what it asked for.
func (s *Service) Refused(caller access.Caller, repository, asked string, f *fault.Error) {
	r := Refusal{Who: caller.Name, Token: caller.Token, Address: caller.Address, Code: f.Code, Repository: repository}
	if f.Kind == fault.TooMany {
		r.Who = "" // names can be made up without end
	}
	s.refusals.mu.Lock()
	defer s.refusals.mu.Unlock()
	if s.refusals.all == nil {
		s.refusals.all, s.refusals.noted = map[Refusal]*refused{}, map[Refusal]time.Time{}
	}
	known := s.refusals.all[r]
	if known == nil {
		if len(s.refusals.all) >= maxRefusals {
			s.refusals.missed++
			return
		}
		known = &refused{at: s.Now()}
		s.refusals.all[r] = known
	}
	known.times++
	known.asked, known.said = asked, f.Message
}

// noteRefusals writes events of what was refused.
func (s *Service) noteRefusals(ctx context.Context) error {
	now := s.Now()
	s.refusals.mu.Lock()
	due := map[Refusal]*refused{}
	for r, at := range s.refusals.noted {
		if now.Sub(at) > refusalPause {
			delete(s.refusals.noted, r)
		}
	}
	for r, known := range s.refusals.all {
		if _, lately := s.refusals.noted[r]; lately {
			continue
		}
		due[r] = known
		delete(s.refusals.all, r)
		if len(s.refusals.noted) < 10*maxRefusals {
			s.refusals.noted[r] = now
		}
	}
	missed := s.refusals.missed
	s.refusals.missed = 0
	s.refusals.mu.Unlock()
	if len(due) == 0 && missed == 0 {
		return nil
	}
	return s.db.Within(ctx, func(tx *record.Tx) error {
		for r, known := range due {
			e := record.Event{At: known.at, Who: r.Who, Token: r.Token, Address: r.Address, Action: "refused", Repository: r.Repository,
				Subject: known.asked, Detail: map[string]string{"code": r.Code, "said": known.said}}
			if known.times > 1 {
				e.Detail["times"] = strconv.Itoa(known.times)
			}
			if err := tx.Append(ctx, e); err != nil {
				return err
			}
		}
		if missed == 0 {
			return nil
		}
		return tx.Append(ctx, record.Event{At: now, Action: "refused", Subject: "more than can be told apart", Detail: map[string]string{"times": strconv.Itoa(missed)}})
	})
}
