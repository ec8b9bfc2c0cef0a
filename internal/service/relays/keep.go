package relays

import (
	"context"
	"fmt"
	"slices"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/service/keys"
	"crelvo/internal/service/schedule"
)

// Settings are what a relay is to be.
type Settings struct {
	Name, Repository, Target string
	Only                     []string      // patterns; none: everything
	Holds                    catalog.Holds // which maturity is sent
	FromNow                  bool          // what is there already is not sent
	Removals                 bool          // what is removed here is removed there, too
	Schedule, Zone, Hours    string
	Rate                     int64
}

// Change is what is to be different in a relay; what is nil stays.
type Change struct {
	Target, Schedule, Zone, Hours *string
	Only                          *[]string
	Holds                         *catalog.Holds
	Rate                          *int64
	Paused, Removals              *bool
}

// View is a relay, and how far it is.
type View struct {
	record.Relay
	Repository string
	Ecosystem  string
	State      record.RelayState
	Next       []time.Time // when it is looked for what was missed
	Open       bool        // it may send at the moment
}

const (
	defaultSchedule = "17 * * * *"
	defaultZone     = "UTC"
	nextTimes       = 5
	mostPatterns    = 100
)

// Relays lists all relays by name, for an admin.
func (s *Relays) Relays(ctx context.Context, caller access.Caller) ([]View, error) {
	if err := s.directory.Allow(caller, access.Manage, act.Everything); err != nil {
		return nil, err
	}
	all, err := s.DB.Relays(ctx)
	if err != nil {
		return nil, err
	}
	states, err := s.DB.RelayStates(ctx)
	if err != nil {
		return nil, err
	}
	targets, err := s.DB.Targets(ctx)
	if err != nil {
		return nil, err
	}
	views := make([]View, len(all))
	for i, r := range all {
		v := View{Relay: r, Open: !r.Paused && within(r.Hours, r.Zone, s.Now())}
		known, _ := s.directory.RepositoryByID(r.RepositoryID)
		v.Repository = known.Name
		for _, d := range targets {
			if d.Name == r.Target {
				v.Ecosystem = d.Ecosystem
			}
		}
		for _, state := range states {
			if state.RelayID == r.ID {
				v.State = state
			}
		}
		if v.Next, err = schedule.NextTimes(r.Schedule, r.Zone, s.Now(), nextTimes); err != nil {
			return nil, err
		}
		views[i] = v
	}
	return views, nil
}

// Relay is one of them.
func (s *Relays) Relay(ctx context.Context, caller access.Caller, name string) (View, error) {
	all, err := s.Relays(ctx, caller)
	if err != nil {
		return View{}, err
	}
	i := slices.IndexFunc(all, func(v View) bool { return v.Name == name })
	if i < 0 {
		return View{}, fault.New(fault.NotFound, "no-such-relay", "there is no relay %q", name).
			WithHint("crelvo relay list shows those that there are.")
	}
	return all[i], nil
}

// MostItems is how many versions of a relay are told.
const MostItems = 200

// Items lists what a relay sends, or sent, by state.
func (s *Relays) Items(
	ctx context.Context, caller access.Caller, name, state string,
) ([]record.RelayItem, error) {
	v, err := s.Relay(ctx, caller, name)
	if err != nil {
		return nil, err
	}
	return s.DB.Relayed(ctx, v.ID, state, MostItems)
}

// Add adds a relay, once its target was reached; anyway leaves that out.
func (s *Relays) Add(ctx context.Context, caller access.Caller, n Settings, anyway bool) (View, error) {
	if err := s.directory.Allow(caller, access.Manage, act.Everything); err != nil {
		return View{}, err
	}
	if !keys.KeyName.MatchString(n.Name) {
		return View{}, act.Invalid("bad-name", "%.80q cannot be the name of a relay", n.Name).
			WithHint("Use small letters, digits, points and dashes.")
	}
	from, err := s.directory.Repository(caller, n.Repository, access.Read)
	if err != nil {
		return View{}, err
	}
	if !from.Own() {
		return View{}, fault.New(fault.Conflict, "not-a-house", "%s is a %s; only what house repositories have is relayed",
			from.Name, from.Kind)
	}
	r := record.Relay{Name: n.Name, RepositoryID: from.ID, Target: n.Target, Patterns: n.Only, Holds: n.Holds,
		Schedule: n.Schedule, Zone: n.Zone, Hours: n.Hours, Rate: n.Rate, Removals: n.Removals,
		ByName: caller.Name, MadeAt: s.Now()}
	if n.FromNow {
		r.Since = &r.MadeAt
	}
	return s.write(ctx, caller, r, record.EventRelayMade, !anyway)
}

// Edit changes a relay.
func (s *Relays) Edit(ctx context.Context, caller access.Caller, name string, c Change, anyway bool) (View, error) {
	v, err := s.Relay(ctx, caller, name)
	if err != nil {
		return v, err
	}
	r, reach := v.Relay, c.Target != nil && *c.Target != v.Target
	for _, one := range []struct{ to, is *string }{{c.Target, &r.Target}, {c.Schedule, &r.Schedule},
		{c.Zone, &r.Zone}, {c.Hours, &r.Hours}} {
		if one.to != nil {
			*one.is = *one.to
		}
	}
	if c.Only != nil {
		r.Patterns = *c.Only
	}
	if c.Holds != nil {
		r.Holds = *c.Holds
	}
	if c.Rate != nil {
		r.Rate = *c.Rate
	}
	if c.Paused != nil {
		r.Paused = *c.Paused
	}
	if c.Removals != nil {
		r.Removals = *c.Removals
	}
	return s.write(ctx, caller, r, record.EventRelayChanged, reach && !anyway)
}

// write checks a relay and puts it on record.
func (s *Relays) write(
	ctx context.Context, caller access.Caller, r record.Relay, action record.Action, reach bool,
) (View, error) {
	if r.Holds == "" {
		r.Holds = catalog.Releases
	}
	if r.Schedule == "" {
		r.Schedule = defaultSchedule
	}
	if r.Zone == "" {
		r.Zone = defaultZone
	}
	if err := s.checked(ctx, r); err != nil {
		return View{}, err
	}
	if reach {
		if err := s.reach(ctx, r.Target); err != nil {
			return View{}, err
		}
	}
	err := s.DB.Within(ctx, func(tx *record.Tx) error {
		id, ok, err := tx.SetRelay(ctx, r)
		if err != nil {
			return err
		}
		if !ok {
			return fault.New(fault.Conflict, "name-taken", "there is a relay %s already", r.Name)
		}
		event := s.Event(caller, action)
		from, _ := s.directory.RepositoryByID(r.RepositoryID)
		event.Repository, event.Subject = from.Name, "relay "+r.Name
		event.Detail = map[string]string{"target": r.Target, "holds": string(r.Holds), "schedule": r.Schedule,
			"zone": r.Zone}
		if r.Paused {
			event.Detail["paused"] = "yes"
		}
		if r.Removals {
			event.Detail["removals"] = "yes"
		}
		r.ID = id
		return tx.Append(ctx, event, record.Change{Kind: record.OfRelay, Name: r.Name})
	})
	if err != nil {
		return View{}, err
	}
	s.forget()
	if !r.Paused {
		if err := s.catchUp(ctx, r); err != nil {
			return View{}, err
		}
	}
	return s.Relay(ctx, caller, r.Name)
}

// checked refuses a relay that could not work.
func (s *Relays) checked(ctx context.Context, r record.Relay) error {
	if len(r.Patterns) > mostPatterns {
		return act.Invalid("too-many-patterns", "a relay has at most %d patterns", mostPatterns)
	}
	for _, text := range r.Patterns {
		if _, err := purl.ParsePattern(text); err != nil {
			return act.Invalid("bad-pattern", "%v", err)
		}
	}
	if _, err := schedule.Parse(r.Schedule, r.Zone); err != nil {
		return err
	}
	if r.Hours != "" {
		if _, _, err := parseHours(r.Hours); err != nil {
			return err
		}
	}
	switch {
	case !slices.Contains([]catalog.Holds{catalog.Releases, catalog.Snapshots, catalog.Both}, r.Holds):
		return act.Invalid("bad-maturity", "%.40q is no maturity: releases, snapshots or both", string(r.Holds))
	case r.Rate < 0 || r.Rate > 0 && r.Rate < mostRead:
		return act.Invalid("bad-rate", "it cannot send %d bytes a second", r.Rate).
			WithHint("Give at least 64 KiB, or nothing for no bound.")
	}
	targets, err := s.DB.Targets(ctx)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(targets, func(d record.Target) bool { return d.Name == r.Target })
	if i < 0 {
		return fault.New(fault.NotFound, "no-such-target", "there is no target %q", r.Target).
			WithHint("crelvo target list shows them; crelvo target add adds one.")
	}
	from, _ := s.directory.RepositoryByID(r.RepositoryID)
	if _, byLabels := s.Ecosystem(targets[i].Ecosystem).(ecosystem.Maturing); byLabels && r.Holds != catalog.Both &&
		r.Holds != from.Holds {
		return fault.New(fault.Conflict, "maturity-by-labels", "what an image is, its labels say, and %s holds %s", from.Name,
			from.Holds).WithHint("Relay both, or from a repository that holds %s alone.", r.Holds)
	}
	return nil
}

// reach tries a target.
func (s *Relays) reach(ctx context.Context, target string) error {
	err := s.targets.Reach(ctx, target)
	if err == nil {
		return nil
	}
	return fault.New(fault.Conflict, "not-reached", "it was not reached: %v", err).
		WithHint("Mend it with crelvo target add, or save the relay anyway (--anyway).")
}

// Check tries the target of a relay.
func (s *Relays) Check(ctx context.Context, caller access.Caller, name string) error {
	v, err := s.Relay(ctx, caller, name)
	if err != nil {
		return err
	}
	return s.reach(ctx, v.Target)
}

// Start looks now for what a relay missed, and has what failed tried again.
func (s *Relays) Start(ctx context.Context, caller access.Caller, name string) (View, error) {
	v, err := s.Relay(ctx, caller, name)
	if err != nil {
		return v, err
	}
	if v.Paused {
		return v, fault.New(fault.Conflict, "relay-paused", "%s is paused", name).
			WithHint("crelvo relay resume %s lets it go on.", name)
	}
	err = s.DB.Within(ctx, func(tx *record.Tx) error {
		if err := tx.RetryRelayed(ctx, v.ID, s.Now()); err != nil {
			return err
		}
		event := s.Event(caller, record.EventRelayRun)
		event.Repository, event.Subject = v.Repository, "relay "+name
		return tx.Append(ctx, event, record.Change{Kind: record.OfRelay, Name: name})
	})
	if err == nil {
		err = s.catchUp(ctx, v.Relay)
	}
	if err != nil {
		return v, err
	}
	return s.Relay(ctx, caller, name)
}

// Remove removes a relay. What it sent stays where it is.
func (s *Relays) Remove(ctx context.Context, caller access.Caller, name string) error {
	v, err := s.Relay(ctx, caller, name)
	if err != nil {
		return err
	}
	return s.DB.Within(ctx, func(tx *record.Tx) error {
		if _, err := tx.RemoveRelay(ctx, v.ID); err != nil {
			return err
		}
		event := s.Event(caller, record.EventRelayRemoved)
		event.Repository, event.Subject = v.Repository, "relay "+name
		return tx.Append(ctx, event, record.Change{Kind: record.OfRelay, Name: name})
	})
}

// longBehind is since when a version waits for long.
const longBehind = time.Hour

// Concerns tells which relays fail, or are far behind.
func (s *Relays) Concerns(ctx context.Context) (found []act.Concern, err error) {
	all, err := s.DB.Relays(ctx)
	if err != nil || len(all) == 0 {
		return nil, err
	}
	states, err := s.DB.RelayStates(ctx)
	for _, state := range states {
		i := slices.IndexFunc(all, func(r record.Relay) bool { return r.ID == state.RelayID })
		if i < 0 {
			continue
		}
		r, page := all[i], "/relays/"+all[i].Name
		switch {
		case state.Failed > 0:
			found = append(found, act.Concern{Level: "wrong",
				What: fmt.Sprintf("%d versions could not be relayed by %s to %s: %s", state.Failed, r.Name, r.Target,
					state.Said),
				Do: "Mend it there, and run the relay again.", Page: page})
		case !r.Paused && within(r.Hours, r.Zone, s.Now()) && state.Oldest != nil &&
			state.Oldest.Before(s.Now().Add(-longBehind)):
			found = append(found, act.Concern{Level: "soon",
				What: fmt.Sprintf("The relay %s is %d versions behind, since %s: %s", r.Name, state.Waiting,
					state.Oldest.UTC().Format(act.TimeForm), state.Said),
				Do: "Look whether its target is reached.", Page: page})
		}
	}
	return found, err
}
