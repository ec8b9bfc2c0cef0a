package safety

import (
	"context"
	"errors"
	"slices"
	"strconv"
	"strings"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/core/safety"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
)

// NewVetting is a decision that somebody wants to take.
type NewVetting struct {
	Refused      bool
	Patterns     []string
	Repositories []string // names, or patterns of them; none is all
	Reason       string
	Until        time.Time // zero: it does not end by itself
}

// The bounds of decisions: how many patterns are decided about at once, and how many decisions may
// stand, in all and of such as do not name one package, each of which is looked at for every
// question.
const (
	mostVetted   = 500
	mostStanding = 50_000
	mostWide     = 1000
	longestName  = 100 // of a pattern of names of repositories
)

// Vet decides about what patterns fit, about all of them or none, and gives the decisions.
func (s *Safety) Vet(ctx context.Context, caller access.Caller, n NewVetting) (made []record.Vetting, err error) {
	if err := s.mayDecide(caller, n.Repositories); err != nil {
		return nil, err
	}
	if len(n.Patterns) == 0 || len(n.Patterns) > mostVetted {
		return nil, act.Invalid("bad-pattern", "name 1 to %d packages or patterns", mostVetted)
	}
	if n.Reason = strings.TrimSpace(n.Reason); n.Reason == "" {
		return nil, act.Invalid("no-reason", "a decision says why it was taken")
	}
	for _, name := range n.Repositories {
		if len(name) > longestName {
			return nil, act.Invalid("bad-pattern", "%.70q… is too long to be the name of a repository", name)
		}
	}
	now := s.Now()
	if !n.Until.IsZero() && !n.Until.After(now) {
		return nil, act.Invalid("bad-time", "%s is over", n.Until.UTC().Format(act.TimeForm)).
			WithHint("Name a day to come.")
	}
	event := s.Event(caller, record.EventVetted)
	detail := map[string]string{"decision": "accepted", "reason": n.Reason, "until": "ended by somebody",
		"repositories": "all"}
	if n.Refused {
		detail["decision"] = "refused"
	}
	if !n.Until.IsZero() {
		detail["until"] = n.Until.UTC().Format(act.TimeForm)
	}
	if len(n.Repositories) > 0 {
		detail["repositories"] = strings.Join(n.Repositories, ", ")
	}
	standing, err := s.standing(ctx)
	if err != nil {
		return nil, err
	}
	all, wide := standing.vettings.Len()
	for _, text := range n.Patterns {
		pattern, err := purl.ParsePattern(text)
		if err != nil {
			return nil, err
		}
		if _, named := pattern.Exact(); !named {
			wide++
		}
		if all++; all > mostStanding || wide > mostWide {
			return nil, act.Invalid("too-many", "%d decisions may stand, of which %d are about more than one package",
				mostStanding, mostWide).
				WithHint("End some that are not needed any more, or take one for several by a pattern.")
		}
		v := record.Vetting{Refused: n.Refused, Pattern: pattern.String(), Repositories: n.Repositories, Reason: n.Reason,
			By: caller.Name, MadeAt: now}
		if !n.Until.IsZero() {
			v.Until = &n.Until
		}
		made = append(made, v)
	}
	err = s.DB.Within(ctx, func(tx *record.Tx) error {
		for i := range made {
			if made[i].ID, err = tx.AddVetting(ctx, made[i]); err != nil {
				return err
			}
			event.Subject, event.Detail = made[i].Pattern, detail
			var changes []record.Change
			if i == len(made)-1 {
				changes = append(changes, record.Change{Kind: record.OfVetting})
			}
			if err := tx.Append(ctx, event, changes...); err != nil {
				return err
			}
		}
		return nil
	})
	if err == nil {
		err = s.answer(ctx, made)
	}
	return made, err
}

// answer takes away the requests that decisions answer. What a wide one accepts may still be kept
// out for its licence.
func (s *Safety) answer(ctx context.Context, made []record.Vetting) error {
	var decisions []safety.Vetting
	for _, row := range made {
		v, err := vettingOf(row)
		if err != nil {
			return err
		}
		if v.Refused || v.NamesPackage() {
			decisions = append(decisions, v)
		}
	}
	known := s.directory.Known().ByID
	ids := make([]int64, 0, len(known))
	for id := range known {
		ids = append(ids, id)
	}
	requests, err := s.DB.VettingRequests(ctx, ids)
	if err != nil || len(decisions) == 0 {
		return err
	}
	var answered []int64
	for _, q := range requests {
		p := act.PURLOf(q.Key, q.Version)
		if slices.ContainsFunc(decisions, func(v safety.Vetting) bool {
			return v.About(known[q.Key.RepositoryID].Name) && v.Covers(p, s.Now())
		}) {
			answered = append(answered, q.ID)
		}
	}
	if len(answered) == 0 {
		return nil
	}
	return s.DB.DropVettingRequests(ctx, answered)
}

// mayDecide tells whether somebody may decide for repositories: who looks after each, or after
// the whole server.
func (s *Safety) mayDecide(caller access.Caller, repositories []string) error {
	if len(repositories) == 0 || slices.ContainsFunc(repositories, func(name string) bool {
		return strings.Contains(name, "*")
	}) {
		return s.directory.Allow(caller, access.Manage, act.Everything)
	}
	for _, name := range repositories {
		if _, err := s.directory.Repository(caller, name, access.Manage); err != nil {
			return err
		}
	}
	return nil
}

// Vettings lists the decisions about repositories that the caller may read, those that ended too
// if all is wanted; the newest first.
func (s *Safety) Vettings(ctx context.Context, caller access.Caller, all bool) (found []record.Vetting, err error) {
	if all {
		const most = 10_000
		found, err = s.DB.Vettings(ctx, most)
	} else {
		found, err = s.DB.StandingVettings(ctx, s.Now())
	}
	if err != nil {
		return nil, err
	}
	readable := s.directory.Readable(caller)
	return slices.DeleteFunc(found, func(v record.Vetting) bool {
		one := safety.Vetting{For: v.Repositories}
		return len(v.Repositories) > 0 && !slices.ContainsFunc(readable, func(r catalog.Repository) bool {
			return one.About(r.Name)
		})
	}), nil
}

// EndVetting ends a decision.
func (s *Safety) EndVetting(ctx context.Context, caller access.Caller, id int64) error {
	return s.DB.Within(ctx, func(tx *record.Tx) error {
		v, err := tx.Vetting(ctx, id)
		now := s.Now()
		if errors.Is(err, record.ErrNotFound) || err == nil && (v.EndedAt != nil || v.Until != nil && !v.Until.After(now)) {
			return fault.New(fault.NotFound, "no-such-vetting", "no decision %d stands", id).
				WithHint("crelvo vetting list shows those that do.")
		}
		if err != nil {
			return err
		}
		if err := s.mayDecide(caller, v.Repositories); err != nil {
			return err
		}
		if err := tx.EndVetting(ctx, id, caller.Name, now); err != nil {
			return err
		}
		event := s.Event(caller, record.EventVettingEnded)
		event.Subject = v.Pattern
		event.Detail = map[string]string{"vetting": strconv.FormatInt(id, 10), "decision": map[bool]string{false: "accepted",
			true: "refused"}[v.Refused]}
		return tx.Append(ctx, event, record.Change{Kind: record.OfVetting})
	})
}
