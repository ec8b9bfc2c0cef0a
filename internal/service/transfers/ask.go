package transfers

import (
	"context"
	"errors"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
)

// Wish is a transfer that is asked for.
type Wish struct {
	From, To string    // repositories
	Only     []string  // patterns of packages and versions that are wanted; none: everything
	Since    time.Time // only what was published since then; zero: everything
	Dry      bool      // only plan it
	Rate     int64     // bytes a second that are fetched at most; 0: no bound
}

// View is a transfer, and how far it is.
type View struct {
	record.Transfer
	Counts map[string]record.TransferCount // by what becomes of the versions
}

// mostPatterns is how many patterns a transfer may have.
const mostPatterns = 1000

// Begin has a transfer planned and done, for somebody who may read what is taken and publish where it goes.
// What else that asks for is found out version by version, and told in the plan.
func (s *Transfers) Begin(ctx context.Context, caller access.Caller, w Wish) (View, error) {
	from, to, err := s.ends(caller, w.From, w.To)
	if err != nil {
		return View{}, err
	}
	if len(w.Only) > mostPatterns {
		return View{}, act.Invalid("too-many-patterns", "a transfer has at most %d patterns", mostPatterns)
	}
	for _, text := range w.Only {
		if _, err := purl.ParsePattern(text); err != nil {
			return View{}, act.Invalid("bad-pattern", "%v", err)
		}
	}
	if w.Rate < 0 {
		return View{}, act.Invalid("bad-rate", "it cannot be fetched at %d bytes a second", w.Rate)
	}
	t := record.Transfer{FromID: from.ID, From: from.Name, ToID: to.ID, To: to.Name, Patterns: w.Only, Dry: w.Dry,
		Rate: w.Rate, ByName: caller.Name, Token: caller.Token, BegunAt: s.Now()}
	if !w.Since.IsZero() {
		t.Since = &w.Since
	}
	err = s.DB.Within(ctx, func(tx *record.Tx) error {
		if t.ID, err = tx.AddTransfer(ctx, t); err != nil {
			return err
		}
		if t.Dry { // it does nothing
			return tx.Tell(ctx, change(t))
		}
		return tx.Append(ctx, s.event(caller, record.EventTransferBegun, t), change(t))
	})
	if err != nil {
		return View{}, err
	}
	s.Go(func(ctx context.Context) {
		if err := s.takeUp(ctx); err != nil {
			s.Log.Error("a transfer could not be taken up at once", "error", err)
		}
	})
	return s.Transfer(ctx, caller, t.ID)
}

// ends finds the two repositories of a transfer.
func (s *Transfers) ends(caller access.Caller, fromName, toName string) (from, to catalog.Repository, err error) {
	if from, err = s.directory.Repository(caller, fromName, access.Read); err != nil {
		return from, to, err
	}
	if to, err = s.directory.Repository(caller, toName, access.Publish); err != nil {
		return from, to, err
	}
	switch {
	case from.ID == to.ID:
		err = act.Invalid("same-repository", "%s is where it comes from and where it goes to", to.Name)
	case from.Chain != nil:
		err = fault.New(fault.Conflict, "from-chain", "%s is a chain, and keeps nothing itself", from.Name).
			WithHint("Name a repository behind it.")
	case to.Chain != nil:
		err = fault.New(fault.Conflict, "to-chain", "%s is a chain, and keeps nothing itself", to.Name).
			WithHint("Name the repository that is to have the packages.")
	case !to.Own():
		err = fault.New(fault.Conflict, "to-mirror", "%s is a mirror, and keeps only what its upstream has", to.Name)
	}
	return from, to, err
}

func change(t record.Transfer) record.Change {
	return record.Change{Kind: record.OfTransfer, Name: act.Itoa(t.ID)}
}

func (s *Transfers) event(caller access.Caller, action record.Action, t record.Transfer) record.Event {
	e := s.Event(caller, action)
	e.Repository, e.Subject = t.To, "transfer "+act.Itoa(t.ID)
	e.Detail = map[string]string{"from": t.From}
	if t.Failure != "" {
		e.Detail["why"] = t.Failure
	}
	return e
}

// mostListed is how many transfers are listed.
const mostListed = 100

// Transfers lists the last transfers that somebody began; an admin sees everybody's.
func (s *Transfers) Transfers(ctx context.Context, caller access.Caller) ([]View, error) {
	by := caller.Name
	if s.directory.Allow(caller, access.Manage, act.Everything) == nil {
		by = ""
	}
	all, err := s.DB.Transfers(ctx, by, mostListed)
	if err != nil {
		return nil, err
	}
	return s.views(ctx, all)
}

func (s *Transfers) views(ctx context.Context, all []record.Transfer) ([]View, error) {
	views, at := make([]View, len(all)), map[int64]int{}
	var ids []int64
	for i, t := range all {
		views[i] = View{Transfer: t, Counts: map[string]record.TransferCount{}}
		if known, ok := s.counted.Load(t.ID); ok && t.EndedAt != nil {
			views[i].Counts = known.(map[string]record.TransferCount)
			continue
		}
		ids, at[t.ID] = append(ids, t.ID), i
	}
	if ids == nil {
		return views, nil
	}
	counts, err := s.DB.TransferCounts(ctx, ids)
	if err != nil {
		return nil, err
	}
	for _, c := range counts {
		views[at[c.TransferID]].Counts[c.State] = c
	}
	for _, i := range at {
		if views[i].EndedAt != nil { // there may be a million of them, and pages ask again and again
			s.counted.Store(views[i].ID, views[i].Counts)
		}
	}
	return views, nil
}

// Transfer is one of them.
func (s *Transfers) Transfer(ctx context.Context, caller access.Caller, id int64) (View, error) {
	t, err := s.DB.Transfer(ctx, id)
	if errors.Is(err, record.ErrNotFound) || err == nil && t.ByName != caller.Name &&
		s.directory.Allow(caller, access.Manage, act.Everything) != nil {
		return View{}, fault.New(fault.NotFound, "no-such-transfer", "there is no transfer %d of yours", id).
			WithHint("crelvo transfer list shows those that there are.")
	}
	if err != nil {
		return View{}, err
	}
	views, err := s.views(ctx, []record.Transfer{t})
	if err != nil {
		return View{}, err
	}
	return views[0], nil
}

// MostItems is how many versions of a transfer are told at once.
const MostItems = 500

// Items lists versions of a transfer in the order of the plan, after one of them: those in a state, all for
// "", and those that do not come for "outside".
func (s *Transfers) Items(
	ctx context.Context, caller access.Caller, id int64, state string, after int,
) ([]record.TransferItem, error) {
	if _, err := s.Transfer(ctx, caller, id); err != nil {
		return nil, err
	}
	if state == "outside" {
		return s.DB.ItemsOutside(ctx, id, after, MostItems)
	}
	return s.DB.Items(ctx, id, state, after, MostItems)
}

// Stop ends a transfer. What came stays.
func (s *Transfers) Stop(ctx context.Context, caller access.Caller, id int64) (View, error) {
	v, err := s.Transfer(ctx, caller, id)
	if err != nil {
		return v, err
	}
	done, err := s.ended(ctx, caller, v.Transfer, record.TransferStopped, "")
	if err != nil {
		return v, err
	}
	if !done {
		return v, fault.New(fault.Conflict, "transfer-ended", "transfer %d ended already", id)
	}
	return s.Transfer(ctx, caller, id)
}

// ended notes the end of a transfer; done is false if it ended before.
func (s *Transfers) ended(
	ctx context.Context, caller access.Caller, t record.Transfer, state, failure string,
) (done bool, err error) {
	t.Failure = failure
	err = s.DB.Within(ctx, func(tx *record.Tx) error {
		if done, err = tx.MoveTransfer(ctx, t.ID, state, failure, s.Now()); err != nil || !done {
			return err
		}
		if t.Dry {
			return tx.Tell(ctx, change(t))
		}
		event := s.event(caller, record.EventTransferEnded, t)
		event.Detail["state"] = state
		return tx.Append(ctx, event, change(t))
	})
	return done, err
}

// Left estimates how many seconds it still takes, from how fast it was until now.
func (v View) Left(now time.Time) (seconds int64, ok bool) {
	done := v.Counts[record.ItemCame].Versions + v.Counts[record.ItemFailed].Versions
	if v.State != record.TransferMoving || done == 0 {
		return 0, false
	}
	took := now.Sub(v.BegunAt).Seconds()
	if v.Rate > 0 { // the bytes that are to be fetched make it long
		return v.Counts[record.ItemNew].Travels / v.Rate, true
	}
	return int64(took * float64(v.Counts[record.ItemNew].Versions) / float64(done)), true
}
