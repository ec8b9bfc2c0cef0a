package rights

import (
	"context"
	"slices"
	"strconv"
	"sync"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/text"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
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

	writing sync.Mutex // held while they are put on record
}

type refused struct {
	times       int
	at          time.Time // first
	asked, said string    // of the last
}

const (
	// RefusalPause is how long attempts that are alike are gathered after an event
	// about them.
	RefusalPause = time.Minute
	// MaxRefusals is how many kinds of attempts are kept apart at a time.
	MaxRefusals = 200
	// maxWho bounds names that somebody made up.
	maxWho = 100
)

// Refused notes that an attempt was refused; asked says what it asked for.
func (s *Rights) Refused(caller access.Caller, repository, asked string, f *fault.Error) {
	r := Refusal{Who: text.Clean(caller.Name, false, maxWho), Token: caller.Token,
		Address: text.Clean(caller.Address, false, maxWho), Code: f.Code,
		Repository: text.Clean(repository, false, maxWho)}
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
		if len(s.refusals.all) >= MaxRefusals {
			s.refusals.missed++
			return
		}
		known = &refused{at: s.Now()}
		s.refusals.all[r] = known
	}
	known.times++
	known.asked, known.said = text.Clean(asked, false, text.MaxLine), text.Clean(f.Message, false, text.MaxLine)
}

// noteRefusals writes events of what was refused.
func (s *Rights) noteRefusals(ctx context.Context) error {
	now := s.Now()
	s.refusals.writing.Lock()
	defer s.refusals.writing.Unlock()
	due := s.refusals.due(now)
	later, bad, err := act.WriteAll(ctx, s.DB, due, func(tx *record.Tx, due []noting) error {
		for _, n := range due {
			if err := tx.Append(ctx, n.event(now)); err != nil {
				return err
			}
		}
		return nil
	})
	s.refusals.written(due, later, now)
	if len(bad) > 0 {
		s.Log.Error("some refusals cannot be put on record and were dropped", "kinds", len(bad))
		s.Worry("refusals", act.Concern{Level: "wrong", What: act.Plural(int64(len(bad)), "kind") +
			" of refused attempts could not be put on record, last at " + now.UTC().Format(act.TimeForm),
			Do: "Tell whoever looks after Crelvo. All others are on record.", Page: "/activity"})
	}
	return err
}

// noting is what is to be put on record: attempts that were alike or, with the
// zero Refusal, those that could not be told apart.
type noting struct {
	Refusal
	refused
}

func (n noting) event(now time.Time) record.Event {
	if n.Refusal == (Refusal{}) {
		return record.Event{At: now, Action: string(record.EventRefused), Subject: "more than can be told apart",
			Detail: map[string]string{"times": strconv.Itoa(n.times)}}
	}
	e := record.Event{At: n.at, Who: n.Who, Token: n.Token, Address: n.Address, Action: string(record.EventRefused),
		Repository: n.Repository,
		Subject:    n.asked, Detail: map[string]string{"code": n.Code, "said": n.said}}
	if n.times > 1 {
		e.Detail["times"] = strconv.Itoa(n.times)
	}
	return e
}

// due is what is to be put on record now. It stays in memory until it was.
func (r *refusals) due(now time.Time) (due []noting) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for k, at := range r.noted {
		if now.Sub(at) > RefusalPause {
			delete(r.noted, k)
		}
	}
	for k, known := range r.all {
		if _, lately := r.noted[k]; !lately {
			due = append(due, noting{k, *known})
		}
	}
	if r.missed > 0 {
		due = append(due, noting{refused: refused{times: r.missed}})
	}
	return due
}

// written forgets what was due, but for what is still to be written.
func (r *refusals) written(due, later []noting, now time.Time) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, n := range due {
		if slices.Contains(later, n) {
			continue
		}
		if n.Refusal == (Refusal{}) {
			r.missed -= n.times
			continue
		}
		if known := r.all[n.Refusal]; known.times > n.times {
			known.times -= n.times // more came meanwhile
			known.at = now
		} else {
			delete(r.all, n.Refusal)
		}
		if len(r.noted) < 10*MaxRefusals {
			r.noted[n.Refusal] = now
		}
	}
}
