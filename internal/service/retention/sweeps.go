package retention

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/riverqueue/river"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/retention"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
)

// sweepArgs is a job that begins a sweep on its schedule.
type sweepArgs struct {
	Policy string `json:"policy"`
}

// Kind implements river.JobArgs.
func (sweepArgs) Kind() string { return "sweep" }

type sweepWorker struct {
	river.WorkerDefaults[sweepArgs]
	service *Retention
}

// Work implements river.Worker.
func (w *sweepWorker) Work(ctx context.Context, job *river.Job[sweepArgs]) error {
	s := w.service
	stored, err := s.DB.Policies(ctx)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(stored, func(p record.Policy) bool { return p.Name == job.Args.Policy })
	if i < 0 || stored[i].Paused {
		return nil // it was removed, or is not to run
	}
	rules, _, err := ParsePolicy(stored[i].Text)
	if err != nil {
		return err
	}
	_, err = s.beginSweep(ctx, access.Caller{Name: "schedule"}, stored[i].Text, &rules, s.about(&rules), false)
	if fault.Of(err).Code == "sweep-underway" {
		return nil
	}
	return err
}

const (
	SweepBatch = 200
	// sweepPause is how long a sweep rests after each batch, in times of what that
	// took: publishing and downloads come first.
	sweepPause = 3
	// SilentSweep is after how long without a sign of life a sweep is taken over.
	SilentSweep = 20 * time.Second
	// itemsAtOnce is how many items are recorded with one statement.
	itemsAtOnce = 5000
)

// Sweep begins a sweep by a policy: what it takes is put on record, and then taken
// in the background. Where that is more than the policy lets a run take, it stops
// there and asks, unless goOn is set.
func (s *Retention) Sweep(ctx context.Context, caller access.Caller, name string, goOn bool) (record.Sweep, error) {
	v, err := s.Policy(ctx, caller, name)
	if err != nil {
		return record.Sweep{}, err
	}
	if err := s.maySweep(caller, &v.Rules); err != nil {
		return record.Sweep{}, err
	}
	return s.beginSweep(ctx, caller, v.Text, &v.Rules, s.about(&v.Rules), goOn)
}

func (s *Retention) beginSweep(
	ctx context.Context, caller access.Caller, text string, policy *retention.Policy, repositories []catalog.Repository,
	goOn bool,
) (record.Sweep, error) {
	now := s.Now()
	sweep := record.Sweep{Policy: policy.Name, Text: text, State: record.SweepUnderway, Grace: policy.Grace,
		BegunBy: caller.Name, BegunAt: now}
	for _, r := range repositories {
		sweep.Repositories = append(sweep.Repositories, r.ID)
	}
	err := s.DB.Within(ctx, func(tx *record.Tx) error {
		if err := tx.LockName(ctx, "sweep "+policy.Name); err != nil {
			return err
		}
		open, err := tx.Sweeps(ctx, record.SweepFilter{Policy: policy.Name,
			States: []string{record.SweepAsking, record.SweepUnderway}})
		if err != nil {
			return err
		}
		for _, o := range open {
			if o.State == record.SweepUnderway {
				return fault.New(fault.Conflict, "sweep-underway", "sweep %d by %s is under way", o.ID, policy.Name).
					WithHint("crelvo sweep show %d tells how far it is.", o.ID)
			}
			// Today's plan takes the place of the one that asks.
			o.State, o.Why, o.EndedAt, o.AliveAt, o.Done, o.Spared = record.SweepCancelled, "a later one took its place", &now,
				now, 0, 0
			if _, err := tx.MoveSweep(ctx, o.ID, []string{record.SweepAsking}, o); err != nil {
				return err
			}
		}
		return s.recordSweep(ctx, tx, caller, policy, repositories, &sweep, goOn)
	})
	if err != nil {
		return sweep, err
	}
	found, err := s.DB.Sweeps(ctx, record.SweepFilter{ID: sweep.ID})
	if err == nil && len(found) == 0 {
		err = record.ErrNotFound
	}
	if err != nil {
		return sweep, err
	}
	return found[0], nil
}

// recordSweep plans a sweep and puts it on record.
func (s *Retention) recordSweep(
	ctx context.Context, tx *record.Tx, caller access.Caller, policy *retention.Policy, repositories []catalog.Repository,
	sweep *record.Sweep, goOn bool,
) error {
	id, err := tx.AddSweep(ctx, *sweep)
	if err != nil {
		return err
	}
	sweep.ID = id
	var items []record.SweepItem
	write := func() error {
		err := tx.AddItems(ctx, id, items)
		items = items[:0]
		return err
	}
	var plan *SweepPlan
	ctx = record.Patiently(ctx)
	err = s.DB.Facts(ctx, func(f record.Facts) (err error) {
		plan, err = s.plan(ctx, f, policy, repositories, time.Time{}, func(l *PlanLine) error {
			if l.Fate != retention.Swept {
				return nil
			}
			item := record.SweepItem{Position: sweep.Versions, VersionID: l.ID, Bytes: l.Bytes, Freed: l.Freed, Users: l.Users,
				State: record.ItemPlanned}
			if used := l.UsedAt; !used.IsZero() {
				item.UsedAt = &used
			}
			sweep.Versions++
			sweep.Bytes += l.Bytes
			sweep.Freed += l.Freed
			if items = append(items, item); len(items) == itemsAtOnce {
				return write()
			}
			return nil
		})
		return err
	})
	if err == nil && len(items) > 0 {
		err = write()
	}
	if err != nil {
		return err
	}
	action := record.EventSweepBegun
	if len(plan.Asks) > 0 && !goOn {
		action, sweep.State, sweep.Why = record.EventSweepAsked, record.SweepAsking, strings.Join(plan.Asks, "; ")
	}
	if err := tx.SetSweep(ctx, *sweep); err != nil {
		return err
	}
	event := s.Event(caller, action)
	event.Subject = sweepTitle(*sweep)
	event.Detail = map[string]string{"versions": fmt.Sprint(sweep.Versions), "bytes": fmt.Sprint(sweep.Bytes)}
	if sweep.Why != "" {
		event.Detail["why"] = sweep.Why
	}
	return tx.Append(ctx, event, sweepChange(sweep.ID))
}

func sweepTitle(sweep record.Sweep) string {
	if sweep.Policy == "" {
		return "sweep " + act.Itoa(sweep.ID)
	}
	return fmt.Sprintf("sweep %d by %s", sweep.ID, sweep.Policy)
}

func sweepChange(id int64) record.Change {
	return record.Change{Kind: record.OfSweep, Name: act.Itoa(id)}
}

// tendSweeps carries on with sweeps that nobody is at: new ones, and those of a
// process that ended.
func (s *Retention) tendSweeps(ctx context.Context) error {
	for ctx.Err() == nil {
		now := s.Now()
		id, err := s.DB.TakeSweep(ctx, now.Add(-SilentSweep), now)
		if errors.Is(err, record.ErrNotFound) {
			return nil
		}
		if err == nil {
			err = s.carrySweep(ctx, id)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// carrySweep takes what a sweep has planned, in batches, until all of it is looked
// at.
func (s *Retention) carrySweep(ctx context.Context, id int64) error {
	found, err := s.DB.Sweeps(ctx, record.SweepFilter{ID: id})
	if err != nil || len(found) == 0 {
		return err
	}
	sweep := found[0]
	policy, _, err := ParsePolicy(sweep.Text)
	if err != nil {
		return s.endSweep(ctx, sweep, record.SweepFailed, fault.Of(err).Message)
	}
	others, err := s.OtherPolicies(ctx, policy.Name)
	if err != nil {
		return err
	}
	for {
		items, err := s.DB.SweepItems(ctx, record.ItemFilter{SweepID: id, States: []string{record.ItemPlanned}, After: -1,
			Limit: SweepBatch})
		if err != nil {
			return err
		}
		if len(items) == 0 {
			return s.endSweep(ctx, sweep, record.SweepDone, "")
		}
		begun := time.Now()
		goes, err := s.takeBatch(ctx, sweep, &policy, others, items)
		if err != nil || !goes {
			return err
		}
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(min(sweepPause*time.Since(begun), 2*time.Second)):
		}
	}
}

// takeBatch takes a batch out of use, of it what is swept still: something may
// have changed since the plan. goes is false if the sweep was stopped.
func (s *Retention) takeBatch(
	ctx context.Context, sweep record.Sweep, policy *retention.Policy, others policiesBeside, items []record.SweepItem,
) (goes bool, err error) {
	ids := make([]int64, len(items))
	for i, item := range items {
		ids[i] = item.VersionID
	}
	err = s.DB.Within(ctx, func(tx *record.Tx) error {
		held, err := tx.Hold(ctx, ids)
		if err != nil {
			return err
		}
		verdicts, err := s.judgeAgain(ctx, tx.Facts(), policy, others, held)
		if err != nil {
			return err
		}
		var out []int64
		spared := map[string][]int{}
		var removed []int
		for _, item := range items {
			v, judged := verdicts[item.VersionID]
			switch {
			case !judged:
				spared["it is not there any more"] = append(spared["it is not there any more"], item.Position)
			case v.Fate == retention.Swept:
				out, removed = append(out, item.VersionID), append(removed, item.Position)
			case v.Fate == retention.Outside:
				spared["the policy is not about it any more"] = append(spared["the policy is not about it any more"], item.Position)
			default:
				spared[v.Title()] = append(spared[v.Title()], item.Position)
			}
		}
		now := s.Now()
		if err := tx.TakeOut(ctx, out, sweep.Grace, now); err != nil {
			return err
		}
		if err := tx.MoveItems(ctx, sweep.ID, removed, record.ItemRemoved, "", now); err != nil {
			return err
		}
		for note, positions := range spared {
			if err := tx.MoveItems(ctx, sweep.ID, positions, record.ItemSpared, note, now); err != nil {
				return err
			}
		}
		progress := record.Sweep{State: record.SweepUnderway, AliveAt: now, Done: len(removed),
			Spared: len(items) - len(removed)}
		if goes, err = tx.MoveSweep(ctx, sweep.ID, []string{record.SweepUnderway}, progress); err != nil {
			return err
		}
		if !goes {
			return errStopped
		}
		keys, err := tx.KeysOf(ctx, out)
		if err != nil {
			return err
		}
		return s.tellPackages(ctx, tx, keys, sweepChange(sweep.ID))
	})
	if errors.Is(err, errStopped) {
		return false, nil
	}
	return goes, err
}

// errStopped undoes the batch of a sweep that somebody stopped meanwhile.
var errStopped = errors.New("the sweep was stopped")

// tellPackages announces that packages are not as they were.
func (s *Retention) tellPackages(
	ctx context.Context, tx *record.Tx, keys []catalog.PackageKey, more ...record.Change,
) error {
	for _, key := range keys {
		r, _ := s.directory.RepositoryByID(key.RepositoryID)
		more = append(more, record.Change{Kind: record.OfPackage, RepositoryID: key.RepositoryID, Repository: r.Name,
			Ecosystem: key.Ecosystem, Namespace: key.Namespace, Name: key.Name})
	}
	return tx.Tell(ctx, more...)
}

// judgeAgain judges versions by what is known now. What stays only because of what
// else stays was left out when it was planned.
func (s *Retention) judgeAgain(
	ctx context.Context, facts record.Facts, policy *retention.Policy, others policiesBeside, ids []int64,
) (map[int64]retention.Verdict, error) {
	p := &planning{s: s, facts: facts, policy: policy, others: others, now: s.Now()}
	verdicts := map[int64]retention.Verdict{}
	if len(ids) == 0 {
		return verdicts, nil
	}
	batch, in, err := facts.PackagesOf(ctx, ids, nil)
	if err != nil {
		return nil, err
	}
	repositories := map[int64][]int64{}
	for i, id := range in {
		repositories[id] = append(repositories[id], batch[i].ID)
	}
	var all []int64
	promotes := policy.Is(retention.Promoted)
	for id := range repositories {
		all = append(all, id)
	}
	for _, other := range others {
		promotes = promotes || other.Is(retention.Promoted)
	}
	slices.Sort(all)
	if p.pins, err = facts.Pinned(ctx, all, p.now); err != nil {
		return nil, err
	}
	if p.held, err = facts.Held(ctx); err != nil {
		return nil, err
	}
	if promotes {
		if p.promoted, p.promotedBuilds, err = facts.Promoted(ctx, p.now); err != nil {
			return nil, err
		}
	}
	wanted := map[int64]bool{}
	for _, id := range ids {
		wanted[id] = true
	}
	for _, id := range all {
		r, ok := s.directory.RepositoryByID(id)
		if !ok {
			continue // it was removed meanwhile
		}
		policies := others.On(policy, r)
		of, _, err := facts.PackagesOf(ctx, ids, queriesOf(policies))
		if err != nil {
			return nil, err
		}
		of = slices.DeleteFunc(of, func(f record.FactPackage) bool { return !slices.Contains(repositories[id], f.ID) })
		rooms, err := p.rooms(ctx, r, policies)
		if err != nil {
			return nil, err
		}
		again := stretch{policies: policies, packages: of}
		for range of {
			again.in, again.rooms = append(again.in, r), append(again.rooms, rooms)
		}
		err = p.judge(ctx, again, func(_ catalog.Repository, pack *retention.Package, judged []retention.Verdict) error {
			for i, v := range pack.Versions {
				if wanted[v.ID] {
					verdicts[v.ID] = judged[i]
				}
			}
			return nil
		})
		if err != nil {
			return nil, err
		}
	}
	return verdicts, nil
}

// endSweep notes the end of a sweep.
func (s *Retention) endSweep(ctx context.Context, sweep record.Sweep, state, why string) error {
	return s.DB.Within(ctx, func(tx *record.Tx) error {
		now := s.Now()
		done, err := tx.MoveSweep(ctx, sweep.ID, []string{record.SweepUnderway},
			record.Sweep{State: state, Why: why, AliveAt: now, EndedAt: &now})
		if err != nil || !done {
			return err
		}
		found, err := tx.Sweeps(ctx, record.SweepFilter{ID: sweep.ID})
		if err != nil || len(found) == 0 {
			return err
		}
		event := s.Event(access.Caller{Name: sweep.BegunBy}, record.Action("sweep "+state))
		event.Subject = sweepTitle(sweep)
		event.Detail = map[string]string{"removed": fmt.Sprint(found[0].Done), "spared": fmt.Sprint(found[0].Spared)}
		return tx.Append(ctx, event, sweepChange(sweep.ID))
	})
}
