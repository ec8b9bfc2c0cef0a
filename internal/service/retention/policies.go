package retention

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"github.com/riverqueue/river"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/core/query"
	"crelvo/internal/core/retention"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/service/publishing"
	"crelvo/internal/service/schedule"
)

// PolicyView is a retention policy as somebody sees it.
type PolicyView struct {
	record.Policy
	Rules retention.Policy
	// About are the repositories that it is about now, as far as the caller may read
	// all of them.
	About []catalog.Repository
	Next  []time.Time
	Last  *record.Sweep
	May   bool // change and run it
}

// about are the repositories that hold anything and that a policy names.
func (s *Retention) about(policy *retention.Policy) (all []catalog.Repository) {
	for _, r := range s.directory.Repositories() {
		if !r.Gathers() && slices.ContainsFunc(policy.Repositories, func(pattern string) bool {
			return purl.Glob(pattern, r.Name)
		}) {
			all = append(all, r)
		}
	}
	return all
}

// Wholly are those of repositories of which the caller may read everything.
func (s *Retention) Wholly(caller access.Caller, all []catalog.Repository) []catalog.Repository {
	return slices.DeleteFunc(slices.Clone(all), func(r catalog.Repository) bool {
		sight, ok := s.directory.SightOf(caller, r)
		return !ok || sight != ""
	})
}

// maySweep checks that the caller may remove from everything that a policy is
// about; one with a pattern may be about repositories that are yet to be made.
func (s *Retention) maySweep(caller access.Caller, policy *retention.Policy) error {
	for _, name := range policy.Repositories {
		if strings.Contains(name, "*") {
			return s.directory.Allow(caller, access.Manage, access.Object{})
		}
		r, err := s.directory.Repository(caller, name, access.Remove)
		if err != nil {
			return err
		}
		if err := s.directory.Allow(caller, access.Remove, access.Object{Repository: r, Package: anyPackage}); err != nil {
			return err
		}
		if r.Gathers() {
			return fault.New(fault.Conflict, "not-kept-there", "%s is a chain: it holds nothing itself", name).
				WithHint("Name its members.")
		}
	}
	return nil
}

// anyPackage stands for whatever package there may be: only what fits any name fits
// it.
var anyPackage = purl.PURL{Ecosystem: "*", Namespace: "*", Name: "*"}

// ParsePolicy reads a policy, and checks what only the service knows: its schedule.
func ParsePolicy(text string) (retention.Policy, retention.Lines, error) {
	p, lines, err := retention.ParseFile(text)
	if err == nil && p.Schedule != "" {
		if p.Zone == "" {
			p.Zone = "UTC"
		}
		_, err = schedule.Parse(p.Schedule, p.Zone)
		if key := "schedule"; err != nil {
			if fault.Of(err).Code == "bad-zone" {
				key = "zone"
			}
			err = lines.Wrong(key, err)
		}
	}
	return p, lines, err
}

// Policies lists the policies that are about something of which the caller may
// read everything.
func (s *Retention) Policies(ctx context.Context, caller access.Caller) ([]PolicyView, error) {
	stored, err := s.DB.Policies(ctx)
	if err != nil {
		return nil, err
	}
	last, err := s.DB.LastSweeps(ctx)
	if err != nil {
		return nil, err
	}
	var views []PolicyView
	for _, p := range stored {
		v, ok, err := s.viewPolicy(caller, p, last)
		if err != nil {
			return nil, err
		}
		if ok {
			views = append(views, v)
		}
	}
	return views, nil
}

func (s *Retention) viewPolicy(
	caller access.Caller, p record.Policy, last []record.Sweep,
) (v PolicyView, ok bool, err error) {
	v = PolicyView{Policy: p}
	if v.Rules, _, err = ParsePolicy(p.Text); err != nil {
		return v, false, err
	}
	v.May = s.maySweep(caller, &v.Rules) == nil
	v.About = s.Wholly(caller, s.about(&v.Rules))
	if len(v.About) == 0 && !v.May {
		return v, false, nil
	}
	if v.Rules.Schedule != "" && !p.Paused {
		if v.Next, err = schedule.NextTimes(v.Rules.Schedule, v.Rules.Zone, s.Now(), 5); err != nil {
			return v, false, err
		}
	}
	if i := slices.IndexFunc(last, func(x record.Sweep) bool { return x.Policy == p.Name }); i >= 0 {
		v.Last = &last[i]
	}
	return v, true, nil
}

// Policy finds a policy by its name.
func (s *Retention) Policy(ctx context.Context, caller access.Caller, name string) (PolicyView, error) {
	all, err := s.Policies(ctx, caller)
	if err != nil {
		return PolicyView{}, err
	}
	if i := slices.IndexFunc(all, func(v PolicyView) bool { return v.Name == name }); i >= 0 {
		return all[i], nil
	}
	return PolicyView{}, fault.New(fault.NotFound, "no-such-policy", "there is no policy %s that you may see", name).
		WithHint("crelvo policy list shows them.")
}

// SetPolicy makes or changes a policy, as it is written. made tells which.
func (s *Retention) SetPolicy(
	ctx context.Context, caller access.Caller, text string, paused bool,
) (v PolicyView, made bool, err error) {
	p, lines, err := ParsePolicy(text)
	if err != nil {
		return v, false, err
	}
	if err := s.maySweep(caller, &p); err != nil {
		return v, false, err
	}
	for i, pattern := range p.Repositories {
		if len(s.about(&retention.Policy{Repositories: []string{pattern}})) == 0 && !strings.Contains(pattern, "*") {
			return v, false, lines.Wrong("repositories", fault.New(fault.NotFound, "no-such-repository",
				"there is no repository %s", p.Repositories[i]))
		}
	}
	// Who may not touch what the policy was about so far may not change it.
	if was, err := s.Policy(ctx, caller, p.Name); err == nil {
		if err := s.maySweep(caller, &was.Rules); err != nil {
			return v, false, err
		}
	} else if !fault.Is(err, fault.NotFound) {
		return v, false, err
	} else if taken, err := s.policyExists(ctx, p.Name); err != nil || taken {
		return v, false, errors.Join(err, fault.New(fault.Conflict, "name-taken", "there is a policy %s already", p.Name))
	}
	stored := record.Policy{Name: p.Name, Text: text, Paused: paused, ChangedBy: caller.Name, ChangedAt: s.Now()}
	err = s.DB.Within(ctx, func(tx *record.Tx) error {
		var err error
		if made, err = tx.SetPolicy(ctx, stored); err != nil {
			return err
		}
		event := s.Event(caller, map[bool]record.Action{true: record.EventPolicyMade, false: record.EventPolicyChanged}[made])
		event.Subject = p.Name
		event.Detail = map[string]string{"text": text}
		return tx.Append(ctx, event, record.Change{Kind: record.OfPolicy, Name: p.Name})
	})
	if err != nil {
		return v, made, err
	}
	v, err = s.Policy(ctx, caller, p.Name)
	return v, made, err
}

func (s *Retention) policyExists(ctx context.Context, name string) (bool, error) {
	stored, err := s.DB.Policies(ctx)
	return slices.ContainsFunc(stored, func(p record.Policy) bool { return p.Name == name }), err
}

// RemovePolicy removes a policy. What it swept stays as it is.
func (s *Retention) RemovePolicy(ctx context.Context, caller access.Caller, name string) error {
	v, err := s.Policy(ctx, caller, name)
	if err == nil {
		err = s.maySweep(caller, &v.Rules)
	}
	if err != nil {
		return err
	}
	return s.DB.Within(ctx, func(tx *record.Tx) error {
		if _, err := tx.DropPolicy(ctx, name); err != nil {
			return err
		}
		event := s.Event(caller, record.EventPolicyRemoved)
		event.Subject = name
		return tx.Append(ctx, event, record.Change{Kind: record.OfPolicy, Name: name})
	})
}

// othersOn are the policies, besides one, that have a say in what stays in a
// repository.
type policiesBeside []*retention.Policy

func (s *Retention) OtherPolicies(ctx context.Context, but string) (others policiesBeside, err error) {
	stored, err := s.DB.Policies(ctx)
	for _, p := range stored {
		if p.Name == but || p.Paused {
			continue
		}
		rules, _, err := ParsePolicy(p.Text)
		if err != nil {
			return nil, err
		}
		others = append(others, &rules)
	}
	return others, err
}

// On puts a policy first, and after it those of the others that are about a
// repository too.
func (o policiesBeside) On(first *retention.Policy, r catalog.Repository) []*retention.Policy {
	set := []*retention.Policy{first}
	for _, p := range o {
		if slices.ContainsFunc(p.Repositories, func(pattern string) bool { return purl.Glob(pattern, r.Name) }) {
			set = append(set, p)
		}
	}
	return set
}

func queriesOf(policies []*retention.Policy) []query.Query {
	all := make([]query.Query, len(policies))
	for i, p := range policies {
		all[i] = p.Query
	}
	return all
}

// Pin keeps a version from every sweep, until it is taken off or its time is up.
func (s *Retention) Pin(
	ctx context.Context, caller access.Caller, repository, ecosystem, namespace, name, version, reason string,
	until *time.Time,
) error {
	if reason = strings.TrimSpace(reason); reason == "" || len(reason) > 500 {
		return act.Invalid("no-reason", "a pin has a reason, of 500 characters at most").
			WithHint("Say why it must stay: crelvo pin … --reason TEXT.")
	}
	if until != nil && !until.After(s.Now()) {
		return act.Invalid("bad-until", "%s is past", until.UTC().Format(act.TimeForm))
	}
	r, err := s.directory.Repository(caller, repository, access.Publish)
	if err != nil {
		return err
	}
	key := r.Key(ecosystem, namespace, name)
	if err := s.directory.Allow(caller, access.Publish,
		access.Object{Repository: r, Package: act.PURLOf(key, "")}); err != nil {
		return err
	}
	return s.DB.Within(ctx, func(tx *record.Tx) error {
		done, err := tx.SetPin(ctx, key, record.Pin{Version: version, Reason: reason, By: caller.Name, At: s.Now(),
			Until: until})
		if err == nil && !done {
			err = publishing.NoVersion(r, key, version)
		}
		if err != nil {
			return err
		}
		event := s.Event(caller, record.EventVersionPinned)
		event.Repository, event.Subject = r.Name, act.PURLOf(key, version).String()
		event.Detail = map[string]string{"reason": reason}
		return tx.Append(ctx, event, record.Change{Kind: record.OfPin, RepositoryID: r.ID, Repository: r.Name,
			Ecosystem: ecosystem, Namespace: namespace, Name: name, Version: version})
	})
}

// Unpin takes a pin off: one's own, or with the right to remove any.
func (s *Retention) Unpin(
	ctx context.Context, caller access.Caller, repository, ecosystem, namespace, name, version string,
) error {
	r, err := s.directory.Repository(caller, repository, access.Publish)
	if err != nil {
		return err
	}
	key := r.Key(ecosystem, namespace, name)
	return s.DB.Within(ctx, func(tx *record.Tx) error {
		pins, err := tx.Pins(ctx, record.Scope{Repositories: []int64{r.ID}}, s.Now())
		if err != nil {
			return err
		}
		i := slices.IndexFunc(pins, func(p record.Pin) bool {
			return p.Ecosystem == ecosystem && p.Namespace == namespace && p.Name == name && p.Version == version
		})
		if i < 0 {
			return fault.New(fault.NotFound, "no-such-pin", "%s is not pinned in %s", act.PURLOf(key, version), r.Name)
		}
		if pins[i].By != caller.Name {
			if err := s.directory.Allow(caller, access.Remove,
				access.Object{Repository: r, Package: act.PURLOf(key, "")}); err != nil {
				return err
			}
		}
		if _, err := tx.EndPin(ctx, key, version, caller.Name, s.Now()); err != nil {
			return err
		}
		event := s.Event(caller, record.EventPinEnded)
		event.Repository, event.Subject = r.Name, act.PURLOf(key, version).String()
		return tx.Append(ctx, event, record.Change{Kind: record.OfPin, RepositoryID: r.ID, Repository: r.Name,
			Ecosystem: ecosystem, Namespace: namespace, Name: name, Version: version})
	})
}

// Pins lists the pins of what the caller may read.
func (s *Retention) Pins(ctx context.Context, caller access.Caller) ([]record.Pin, error) {
	return s.DB.Pins(ctx, s.directory.ScopeOf(s.directory.Readable(caller)...), s.Now())
}

// Work takes part in the queue, and says what is done every night.
func (s *Retention) Work(workers *river.Workers) {
	river.AddWorker(workers, &sweepWorker{service: s})
	river.AddWorker(workers, &reclaimWorker{service: s})
	river.AddWorker(workers, &verifyWorker{service: s})
}

// ScheduleNights puts on the schedule what is done every night.
func (s *Retention) ScheduleNights() {
	s.schedule.Keep("verify", map[string]schedule.Rule{"nightly": {Schedule: verifyTimes, Zone: "UTC",
		Args: verifyArgs{}}})
	s.schedule.Keep("reclaim", map[string]schedule.Rule{"nightly": {Schedule: reclaimTimes, Zone: "UTC",
		Args: reclaimArgs{}}})
}

// scheduleSweeps puts the retention policies on the schedule.
func (s *Retention) scheduleSweeps(ctx context.Context) error {
	stored, err := s.DB.Policies(ctx)
	if err != nil {
		return err
	}
	wanted := map[string]schedule.Rule{}
	for _, p := range stored {
		rules, _, err := ParsePolicy(p.Text)
		if err == nil && rules.Schedule != "" && !p.Paused {
			wanted[p.Name] = schedule.Rule{Schedule: rules.Schedule, Zone: rules.Zone, Args: sweepArgs{Policy: p.Name}}
		}
	}
	s.schedule.Keep("sweep", wanted)
	return nil
}

// Hear takes note of other schedules.
func (s *Retention) Hear(c record.Change) error {
	if c.Kind != record.OfPolicy {
		return nil
	}
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	return s.scheduleSweeps(ctx)
}

func (s *Retention) Chores() []act.Chore {
	return []act.Chore{
		{Every: time.Second, What: "sweeping", Do: s.tendSweeps},
		{Every: time.Minute, What: "ending runs that nobody works on", Do: s.endLostRuns},
		{Every: time.Minute, What: "making room in mirrors", Do: s.makeRoom},
		{Every: time.Second, What: "making room in a full mirror", Do: s.makeRoomNow},
	}
}
