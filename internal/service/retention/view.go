package retention

import (
	"context"
	"fmt"
	"slices"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
)

// SweepView is a sweep as somebody sees it.
type SweepView struct {
	record.Sweep
	Repositories []catalog.Repository // those of which the caller may read everything
	May          bool                 // undo, stop
}

// Sweeps lists sweeps of what the caller may read all of, the newest first.
func (s *Retention) Sweeps(ctx context.Context, caller access.Caller, f record.SweepFilter) ([]SweepView, error) {
	whole := s.Wholly(caller, s.directory.Repositories())
	f.Repositories = []int64{}
	for _, r := range whole {
		f.Repositories = append(f.Repositories, r.ID)
	}
	found, err := s.DB.Sweeps(ctx, f)
	if err != nil {
		return nil, err
	}
	views := make([]SweepView, len(found))
	for i, sweep := range found {
		views[i] = SweepView{Sweep: sweep, May: true}
		for _, id := range sweep.Repositories {
			r, ok := s.directory.RepositoryByID(id)
			if ok && slices.Contains(f.Repositories, id) {
				views[i].Repositories = append(views[i].Repositories, r)
			}
			views[i].May = views[i].May && ok && s.directory.Allow(caller, access.Remove,
				access.Object{Repository: r, Package: anyPackage}) == nil
		}
	}
	return views, nil
}

// SweepByID finds a sweep.
func (s *Retention) SweepByID(ctx context.Context, caller access.Caller, id int64) (SweepView, error) {
	found, err := s.Sweeps(ctx, caller, record.SweepFilter{ID: id})
	if err == nil && len(found) == 0 {
		err = fault.New(fault.NotFound, "no-such-sweep", "there is no sweep %d that you may see", id).
			WithHint("crelvo sweep list shows them.")
	}
	if err != nil {
		return SweepView{}, err
	}
	return found[0], nil
}

// SweepItems lists what a sweep took, in its order, of what the caller may read all
// of.
func (s *Retention) SweepItems(
	ctx context.Context, caller access.Caller, v SweepView, f record.ItemFilter,
) ([]record.SweepItem, error) {
	f.SweepID = v.ID
	items, err := s.DB.SweepItems(ctx, f)
	return slices.DeleteFunc(items, func(i record.SweepItem) bool {
		return !slices.ContainsFunc(v.Repositories, func(r catalog.Repository) bool { return r.ID == i.RepositoryID })
	}), err
}

// StopSweep ends a sweep that asks or is under way. What it took already can be
// brought back.
func (s *Retention) StopSweep(ctx context.Context, caller access.Caller, id int64) (SweepView, error) {
	v, err := s.SweepByID(ctx, caller, id)
	if err == nil {
		err = s.mayTouch(v)
	}
	if err != nil {
		return v, err
	}
	err = s.DB.Within(ctx, func(tx *record.Tx) error {
		now := s.Now()
		done, err := tx.MoveSweep(ctx, id, []string{record.SweepAsking, record.SweepUnderway},
			record.Sweep{State: record.SweepCancelled, Why: "stopped by " + caller.Name, AliveAt: now, EndedAt: &now})
		if err == nil && !done {
			err = fault.New(fault.Conflict, "sweep-ended", "sweep %d has ended: it is %s", id, v.State)
		}
		if err != nil {
			return err
		}
		event := s.Event(caller, record.EventSweepStopped)
		event.Subject = sweepTitle(v.Sweep)
		return tx.Append(ctx, event, sweepChange(id))
	})
	if err != nil {
		return v, err
	}
	return s.SweepByID(ctx, caller, id)
}

func (s *Retention) mayTouch(v SweepView) error {
	if v.May {
		return nil
	}
	return fault.New(fault.Denied, "missing-role",
		"for sweep %d you need to be a curator of all repositories that it was about", v.ID).
		WithHint("Ask an admin for that role.")
}

// Back is what came of undoing a sweep.
type Back struct {
	Back int
	// Not are those that could not be brought back, with why.
	Not []NotBack
}

// NotBack is a version that was not brought back.
type NotBack struct {
	Item record.SweepItem
	Why  string
}

// UndoSweep brings back what a sweep took: all of it, or what fits one of some
// patterns, by its version or by the name of its upload.
func (s *Retention) UndoSweep(ctx context.Context, caller access.Caller, id int64, patterns []string) (Back, error) {
	var back Back
	v, err := s.SweepByID(ctx, caller, id)
	if err == nil {
		err = s.mayTouch(v)
	}
	if err != nil {
		return back, err
	}
	var wanted []purl.Pattern
	for _, text := range patterns {
		p, err := purl.ParsePattern(text)
		if err != nil {
			return back, err
		}
		wanted = append(wanted, p)
	}
	for after := -1; ; {
		items, err := s.DB.SweepItems(ctx, record.ItemFilter{SweepID: id, States: []string{record.ItemRemoved}, After: after,
			Limit: SweepBatch})
		if err != nil {
			return back, err
		}
		if len(items) == 0 {
			break
		}
		after = items[len(items)-1].Position
		items = slices.DeleteFunc(items, func(i record.SweepItem) bool {
			return wanted != nil && !slices.ContainsFunc(wanted, func(p purl.Pattern) bool {
				return p.Match(act.PURLOf(i.Key(), i.Version)) || i.Upload != "" && p.Match(act.PURLOf(i.Key(), i.Upload))
			})
		})
		if len(items) > 0 {
			if err := s.bringBack(ctx, caller, v.Sweep, items, &back); err != nil {
				return back, err
			}
		}
	}
	if back.Back == 0 && len(back.Not) == 0 {
		return back, fault.New(fault.NotFound, "nothing-to-undo", "sweep %d took nothing that fits and can be brought back",
			id).WithHint("crelvo sweep show %d lists what it took.", id)
	}
	return back, nil
}

func (s *Retention) bringBack(
	ctx context.Context, caller access.Caller, sweep record.Sweep, items []record.SweepItem, back *Back,
) error {
	ids := make([]int64, len(items))
	for i, item := range items {
		ids[i] = item.VersionID
	}
	var not []NotBack
	var came []int64
	err := s.DB.Within(ctx, func(tx *record.Tx) error {
		now := s.Now()
		not, came = nil, nil // it may be tried again
		returned, err := tx.BringBack(ctx, ids, now)
		if err != nil {
			return err
		}
		var positions []int
		for _, r := range returned {
			item := items[slices.Index(ids, r.ID)]
			if r.Why != "" {
				not = append(not, NotBack{item, r.Why})
				continue
			}
			positions, came = append(positions, item.Position), append(came, r.ID)
		}
		if len(came) == 0 {
			return nil
		}
		if err := tx.MoveItems(ctx, sweep.ID, positions, record.ItemBack, "by "+caller.Name, now); err != nil {
			return err
		}
		keys, err := tx.KeysOf(ctx, came)
		if err != nil {
			return err
		}
		if err := s.tellPackages(ctx, tx, keys, sweepChange(sweep.ID)); err != nil {
			return err
		}
		event := s.Event(caller, record.EventVersionsBroughtBack)
		event.Subject = sweepTitle(sweep)
		event.Detail = map[string]string{"versions": fmt.Sprint(len(came))}
		return tx.Append(ctx, event)
	})
	if err == nil {
		back.Not, back.Back = append(back.Not, not...), back.Back+len(came)
	}
	return err
}

// recordRemoval puts on record what somebody removed by hand: it goes the way of a
// sweep.
func (s *Retention) recordRemoval(
	ctx context.Context, tx *record.Tx, caller access.Caller, r catalog.Repository, ids []int64, grace time.Duration,
) (record.Sweep, error) {
	now := s.Now()
	sweep := record.Sweep{State: record.SweepDone, Grace: grace, BegunBy: caller.Name, BegunAt: now, EndedAt: &now,
		Repositories: []int64{r.ID}, Versions: len(ids), Done: len(ids)}
	uses, err := tx.Weights(ctx, ids)
	if err != nil {
		return sweep, err
	}
	items := make([]record.SweepItem, len(uses))
	for i, u := range uses {
		items[i] = record.SweepItem{Position: i, VersionID: u.VersionID, Bytes: u.Bytes, Freed: u.Bytes, UsedAt: u.UsedAt,
			Users: u.Users, State: record.ItemRemoved, At: &now}
		sweep.Bytes += u.Bytes
	}
	sweep.Freed = sweep.Bytes
	if sweep.ID, err = tx.AddSweep(ctx, sweep); err != nil {
		return sweep, err
	}
	return sweep, tx.AddItems(ctx, sweep.ID, items)
}
