package status

import (
	"context"
	"fmt"
	"time"

	"crelvo/internal/api"
	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/service/rights"
)

const (
	// littleRoom is below which share of a disk there is little room left.
	littleRoom = 10 // percent
	// longWait is after how long a promotion waits for long.
	longWait = 7 * 24 * time.Hour
	// Crowded is from how many versions on a repository of snapshots should have a
	// policy.
	Crowded = 500
)

// Concerns lists what is wrong or will be soon, as far as the caller may see it.
func (s *Status) Concerns(ctx context.Context, caller access.Caller) ([]act.Concern, error) {
	var all []act.Concern
	for _, find := range []func(context.Context, access.Caller) ([]act.Concern, error){s.failingMirrors, s.openSweeps,
		s.waitingPromotions, s.growing, s.quotas.Concerns, s.safety.Concerns, s.vetting.Concerns, s.publishing.Unfinished,
		s.promotion.ShutGates} {
		found, err := find(ctx, caller)
		if err != nil {
			return nil, err
		}
		all = append(all, found...)
	}
	if s.directory.Allow(caller, access.Manage, act.Everything) != nil {
		return all, nil
	}
	all = append(all, s.Worrying()...)
	for _, find := range []func(context.Context) ([]act.Concern, error){s.storeConcerns, s.backups.Concerns,
		s.relays.Concerns, s.targets.Concerns, s.mirrors.Concerns,
		s.endingTokens} {
		found, err := find(ctx)
		if err != nil {
			return nil, err
		}
		all = append(all, found...)
	}
	return all, nil
}

func (s *Status) failingMirrors(ctx context.Context, caller access.Caller) (found []act.Concern, err error) {
	contacts, err := s.mirrors.MirrorContacts(ctx)
	if err != nil {
		return nil, err
	}
	for _, r := range s.directory.Readable(caller) {
		for _, c := range contacts[r.ID] {
			if c.FailingSince != nil {
				found = append(found, act.Concern{Level: "wrong",
					What: fmt.Sprintf("The upstream of %s fails since %s: it %s", r.Name, c.FailingSince.UTC().Format(act.TimeForm),
						c.Failure),
					Do:   "What is kept is served. Look at the upstream, or name another one in the settings of the mirror.",
					Page: "/repositories/" + r.Name + "/upstream"})
			} else if c.Scarce(s.Now()) {
				found = append(found, act.Concern{Level: "soon",
					What: fmt.Sprintf("The upstream of %s lets it ask %d more times, of %d", r.Name, c.AllowedLeft, c.AllowedMost),
					Do:   "What is kept is served. Sign in to the upstream, if that allows more, or fetch less ahead.",
					Page: "/repositories/" + r.Name + "/upstream"})
			}
		}
	}
	return found, nil
}

func (s *Status) openSweeps(ctx context.Context, caller access.Caller) (found []act.Concern, err error) {
	open, err := s.retention.Sweeps(ctx, caller, record.SweepFilter{States: []string{record.SweepAsking,
		record.SweepFailed}, Limit: 20})
	for _, v := range open {
		page := "/sweeps/" + act.Itoa(v.ID)
		if v.State == record.SweepAsking {
			found = append(found, act.Concern{Level: "waits",
				What: fmt.Sprintf("Sweep %d by %s stopped and asks: %s", v.ID, v.Policy, v.Why),
				Do:   "Look at what it would take; let it go on, or stop it.", Page: page})
		} else if v.BegunAt.After(s.Now().Add(-longWait)) {
			found = append(found, act.Concern{Level: "wrong",
				What: fmt.Sprintf("Sweep %d by %s failed: %s", v.ID, v.Policy, v.Why), Do: "Mend the policy, and sweep again.",
				Page: page})
		}
	}
	return found, err
}

func (s *Status) waitingPromotions(ctx context.Context, caller access.Caller) (found []act.Concern, err error) {
	waiting, _, err := s.promotion.Promotions(ctx, caller,
		record.PromotionFilter{States: []string{record.PromotionWaiting, record.PromotionDone},
			Since: s.Now().Add(-8 * longWait), Limit: 200}, "")
	for _, p := range waiting {
		page := "/promotions/" + act.Itoa(p.ID)
		if p.State == record.PromotionWaiting && s.Now().Sub(p.AskedAt) > longWait {
			found = append(found, act.Concern{Level: "soon",
				What: fmt.Sprintf("Promotion %d to %s waits since %s", p.ID, p.To, p.AskedAt.UTC().Format(act.TimeForm)),
				Do:   "Approve it, refuse it, or cancel it.", Page: page})
		}
		for _, d := range p.Deliveries {
			if d.State == record.DeliveryWaiting && d.Said != "" && p.EndedAt != nil && s.Now().Sub(*p.EndedAt) > longWait {
				found = append(found, act.Concern{Level: "soon",
					What: fmt.Sprintf("Something of promotion %d waits to be sent on to %s: %s", p.ID, d.Target, d.Said),
					Do:   "Look whether its target is reached.", Page: page})
				break
			}
			if d.State == record.DeliveryFailed {
				found = append(found, act.Concern{Level: "wrong",
					What: fmt.Sprintf("Something of promotion %d could not be sent on to %s: %s", p.ID, d.Target, d.Said),
					Do:   "Mend it there, and send it again.", Page: page})
				break
			}
		}
	}
	return found, err
}

// growing finds repositories of snapshots that no policy keeps small.
func (s *Status) growing(ctx context.Context, caller access.Caller) (found []act.Concern, err error) {
	var houses []catalog.Repository
	for _, r := range s.retention.Wholly(caller, s.directory.Repositories()) {
		if r.Accepts(true) {
			houses = append(houses, r)
		}
	}
	totals, err := s.repositories.Totals(ctx, houses...)
	if err != nil {
		return nil, err
	}
	policies, err := s.retention.OtherPolicies(ctx, "")
	if err != nil {
		return nil, err
	}
	for _, r := range houses {
		if t := totals[r.ID]; t.Versions >= Crowded && len(policies.On(nil, r)) == 1 {
			found = append(found, act.Concern{Level: "soon",
				What: fmt.Sprintf("%s holds %d versions, %s, and no policy says what stays", r.Name, t.Versions,
					api.Bytes(t.Bytes)),
				Do: "Write a retention policy, and see what it would do before it is saved.", Page: "/policies/new"})
		}
	}
	return found, nil
}

func (s *Status) storeConcerns(ctx context.Context) (found []act.Concern, err error) {
	if found, err = s.verifying.Concerns(ctx); err != nil {
		return nil, err
	}
	found = append(found, s.store.Concerns()...)
	free, known, err := s.store.Free()
	if err != nil {
		return found, err
	}
	stored, _, err := act.Stored(ctx, s.Act)
	if err != nil {
		return nil, err
	}
	if known && (free*100 < (free+stored.Bytes)*littleRoom || free < 1<<30) {
		found = append(found, act.Concern{Level: "wrong",
			What: fmt.Sprintf("The disk of the store has room for %s more", api.Bytes(free)),
			Do:   "Sweep what nobody needs and reclaim its bytes, or give it a larger disk.", Page: "/retention/space"})
	}
	runs, err := s.DB.Reclaimings(ctx, 1)
	if err == nil && len(runs) == 1 && runs[0].Failure != "" {
		found = append(found, act.Concern{Level: "wrong", What: "Bytes could not be reclaimed: " + runs[0].Failure,
			Do: "Look at the log of the service, and run crelvo reclaim.", Page: "/retention/space"})
	}
	return found, err
}

func (s *Status) endingTokens(ctx context.Context) (found []act.Concern, err error) {
	tokens, err := s.DB.AllTokens(ctx)
	for _, t := range tokens {
		left := t.ExpiresAt.Sub(s.Now())
		if t.Robot && left > 0 && rights.EndsSoon(t.CreatedAt, t.ExpiresAt, s.Now()) {
			found = append(found, act.Concern{Level: "soon",
				What: fmt.Sprintf("The token %s of the robot %s ends on %s", t.Name, t.Owner,
					t.ExpiresAt.UTC().Format(act.TimeForm)), Do: "Make a new one and give it to the robot; then revoke this one.",
				Page: "/tokens"})
		}
	}
	return found, err
}
