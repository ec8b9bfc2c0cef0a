package retention

import (
	"context"
	"slices"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/service/quotas"
)

// sweepable tells what sweeps by the policies that are about a repository would free now.
// Planning may take longer than somebody waits for it; it goes on, and is known next time.
func (s *Retention) sweepable(ctx context.Context, r catalog.Repository) (all []quotas.Sweepable) {
	stored, err := s.DB.Policies(ctx)
	if err != nil {
		return nil
	}
	for _, p := range stored {
		rules, _, err := ParsePolicy(p.Text)
		if err != nil || !names(s.about(&rules), r) {
			continue
		}
		total, _, err := act.Figure(ctx, s.Act, "sweepable "+p.Name+" "+act.Itoa(r.ID),
			func(ctx context.Context) (t PlanTotal, err error) {
				err = s.DB.Facts(ctx, func(f record.Facts) error {
					plan, err := s.plan(ctx, f, &rules, []catalog.Repository{r}, time.Time{},
						func(*PlanLine) error { return nil })
					if err == nil {
						t = plan.Total
					}
					return err
				})
				return t, err
			})
		if err == nil && total.Freed > 0 {
			all = append(all, quotas.Sweepable{Policy: p.Name, Versions: total.Swept, Bytes: total.Freed})
		}
	}
	return all
}

func names(all []catalog.Repository, r catalog.Repository) bool {
	return slices.ContainsFunc(all, func(other catalog.Repository) bool { return other.ID == r.ID })
}

const (
	// roomBatch is how many versions are taken out of a mirror at a time, and mirrorGrace how
	// long their bytes stay: the upstream is likely to have them still.
	roomBatch   = 200
	mirrorGrace = 24 * time.Hour
)

// makeRoomNow makes room if a mirror refused something for lack of it.
func (s *Retention) makeRoomNow(ctx context.Context) error {
	if !s.cramped.Swap(false) {
		return nil
	}
	return s.makeRoom(ctx)
}

// makeRoom takes out of mirrors that use nearly all that they may what was not asked for for
// longest.
func (s *Retention) makeRoom(ctx context.Context) error {
	most, err := s.quotas.Cramped(ctx)
	if err != nil {
		return err
	}
	for id, stay := range most {
		r, _ := s.directory.RepositoryByID(id)
		for n := roomBatch; n == roomBatch; {
			ids, err := s.DB.UsedLeast(ctx, id, stay, roomBatch)
			if err == nil && len(ids) > 0 {
				err = s.takeOutLeast(ctx, r, ids)
			}
			if err != nil {
				return err
			}
			n = len(ids)
		}
	}
	if len(most) > 0 {
		s.quotas.Recount()
	}
	return nil
}

func (s *Retention) takeOutLeast(ctx context.Context, r catalog.Repository, ids []int64) error {
	return s.DB.Within(ctx, func(tx *record.Tx) error {
		held, err := tx.Hold(ctx, ids)
		if err != nil || len(held) == 0 {
			return err
		}
		if err := tx.TakeOut(ctx, held, mirrorGrace, s.Now()); err != nil {
			return err
		}
		caller := access.Caller{Name: "crelvo"}
		sweep, err := s.recordRemoval(ctx, tx, caller, r, held, mirrorGrace)
		if err != nil {
			return err
		}
		event := s.Event(caller, record.EventVersionsRemoved)
		event.Repository, event.Subject = r.Name, r.Name
		event.Detail = map[string]string{"sweep": act.Itoa(sweep.ID), "why": "room within its quota"}
		if err := tx.Append(ctx, event); err != nil {
			return err
		}
		keys, err := tx.KeysOf(ctx, held)
		if err != nil {
			return err
		}
		return s.tellPackages(ctx, tx, keys)
	})
}
