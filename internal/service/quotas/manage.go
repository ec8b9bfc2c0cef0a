package quotas

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"crelvo/internal/api"
	"crelvo/internal/core/access"
	"crelvo/internal/core/fault"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
)

// View is a quota with what is used of it.
type View struct {
	record.Quota
	Used         int64
	AsOf         time.Time // of the count
	Repositories []string  // that it is about
}

// State says how a quota stands: within, warned from the soft bound on, full from the hard
// one.
func (v View) State() string {
	return map[string]string{"": "within", "soft": "warned", "hard": "full"}[v.reached()]
}

func (v View) reached() string {
	switch {
	case v.Hard > 0 && v.Used >= v.Hard-v.Hard/100: // where the next file does not fit
		return "hard"
	case v.Soft > 0 && v.Used >= v.Soft:
		return "soft"
	}
	return ""
}

// All tells how all quotas stand.
func (s *Quotas) All(ctx context.Context) ([]View, error) {
	b, err := s.bounds(ctx)
	if err != nil {
		return nil, err
	}
	all := make([]View, len(b.all))
	for i, one := range b.all {
		v := View{Quota: one.Quota}
		one.mu.Lock()
		v.Used, err = s.used(ctx, one)
		v.AsOf = one.at
		one.mu.Unlock()
		if err != nil {
			return nil, err
		}
		for _, id := range one.repositories {
			if r, ok := s.directory.RepositoryByID(id); ok {
				v.Repositories = append(v.Repositories, r.Name)
			}
		}
		all[i] = v
	}
	return all, nil
}

// Quotas lists those that the caller may see: admins of the server all, others those of the
// repositories of which they may read everything.
func (s *Quotas) Quotas(ctx context.Context, caller access.Caller) ([]View, error) {
	all, err := s.All(ctx)
	if err != nil || s.directory.Allow(caller, access.Manage, act.Everything) == nil {
		return all, err
	}
	return slices.DeleteFunc(all, func(v View) bool {
		r, ok := s.directory.RepositoryByID(v.RepositoryID)
		sight, sees := s.directory.SightOf(caller, r)
		return !ok || !sees || sight != ""
	}), nil
}

// Detail is what a quota is used for.
type Detail struct {
	View
	Most   []record.Heavy // the packages that use most
	Sweeps []Sweepable
}

// Quota shows one that the caller may see.
func (s *Quotas) Quota(ctx context.Context, caller access.Caller, title string) (d Detail, err error) {
	all, err := s.Quotas(ctx, caller)
	if err != nil {
		return d, err
	}
	i := slices.IndexFunc(all, func(v View) bool { return Title(v.Quota) == title })
	if i < 0 {
		return d, noQuota(title)
	}
	d.View = all[i]
	var ids []int64
	for _, name := range d.Repositories {
		if r, err := s.directory.Repository(caller, name, access.Read); err == nil {
			ids = append(ids, r.ID)
			d.Sweeps = append(d.Sweeps, s.swept(ctx, r)...)
		}
	}
	d.Most, err = s.DB.Heaviest(ctx, ids, 10)
	return d, err
}

func noQuota(title string) error {
	return fault.New(fault.NotFound, "no-such-quota", "%s has no quota", title).
		WithHint("crelvo quota list shows those that there are.")
}

// SetQuota gives something a quota; bounds that are nil stay as they are.
func (s *Quotas) SetQuota(
	ctx context.Context, caller access.Caller, title string, soft, hard *int64,
) (d Detail, err error) {
	if err := s.directory.Allow(caller, access.Manage, act.Everything); err != nil {
		return d, err
	}
	q, err := s.about(ctx, caller, title)
	if err != nil {
		return d, err
	}
	if soft != nil {
		q.Soft = *soft
	}
	if hard != nil {
		q.Hard = *hard
	}
	switch {
	case q.Soft < 0 || q.Hard < 0 || q.Soft == 0 && q.Hard == 0:
		return d, act.Invalid("bad-quota", "a quota has a soft bound, a hard one, or both; 0 is none")
	case q.Hard > 0 && q.Soft > q.Hard:
		return d, act.Invalid("bad-quota", "the soft bound (%s) is above the hard one (%s)", api.Bytes(q.Soft),
			api.Bytes(q.Hard))
	}
	err = s.DB.Within(ctx, func(tx *record.Tx) error {
		if err := tx.SetQuota(ctx, q); err != nil {
			return err
		}
		event := s.eventOf(caller, record.EventQuotaSet, q)
		event.Detail = map[string]string{"soft": bound64(q.Soft), "hard": bound64(q.Hard)}
		return tx.Append(ctx, event, record.Change{Kind: record.OfQuota})
	})
	if err != nil {
		return d, err
	}
	return s.Quota(ctx, caller, title)
}

func bound64(n int64) string {
	if n == 0 {
		return "none"
	}
	return api.Bytes(n)
}

func (s *Quotas) eventOf(caller access.Caller, action record.Action, q record.Quota) record.Event {
	event := s.Event(caller, action)
	event.Subject = Title(q)
	if q.About == record.QuotaOfRepository {
		event.Repository = q.Name
	}
	return event
}

// about is the quota that something has, or that it would get: a repository, team:NAME or
// store:NAME.
func (s *Quotas) about(ctx context.Context, caller access.Caller, title string) (q record.Quota, err error) {
	all, err := s.DB.Quotas(ctx)
	if err != nil {
		return q, err
	}
	if i := slices.IndexFunc(all, func(q record.Quota) bool { return Title(q) == title }); i >= 0 {
		return all[i], nil
	}
	if name, ok := strings.CutPrefix(title, "team:"); ok {
		team, err := s.DB.Team(ctx, name)
		if errors.Is(err, record.ErrNotFound) {
			err = fault.New(fault.NotFound, "no-such-team", "there is no team %q", name).
				WithHint("crelvo team list shows them.")
		}
		return record.Quota{About: record.QuotaOfTeam, Name: name, TeamID: team.ID}, err
	}
	if name, ok := strings.CutPrefix(title, "store:"); ok {
		id, err := s.store.IDOf(name)
		if err == nil && id == 0 {
			err = act.Invalid("bad-quota", "a store has a name; crelvo store list shows it")
		}
		return record.Quota{About: record.QuotaOfStore, Name: name, StoreID: id}, err
	}
	r, err := s.directory.Repository(caller, title, access.Manage)
	if err == nil && r.Gathers() {
		err = fault.New(fault.Conflict, "chain", "%s is a chain, which keeps nothing itself", r.Name).
			WithHint("Give quotas to the repositories behind it.")
	}
	return record.Quota{About: record.QuotaOfRepository, Name: r.Name, RepositoryID: r.ID}, err
}

// RemoveQuota takes a quota away.
func (s *Quotas) RemoveQuota(ctx context.Context, caller access.Caller, title string) error {
	if err := s.directory.Allow(caller, access.Manage, act.Everything); err != nil {
		return err
	}
	all, err := s.DB.Quotas(ctx)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(all, func(q record.Quota) bool { return Title(q) == title })
	if i < 0 {
		return noQuota(title)
	}
	return s.DB.Within(ctx, func(tx *record.Tx) error {
		if err := tx.RemoveQuota(ctx, all[i].ID); err != nil {
			return err
		}
		return tx.Append(ctx, s.eventOf(caller, record.EventQuotaRemoved, all[i]), record.Change{Kind: record.OfQuota})
	})
}

// look notes which bounds are reached that were not, or are not any more. One node tells it.
func (s *Quotas) look(ctx context.Context) error {
	all, err := s.All(ctx)
	if err != nil {
		return err
	}
	for _, v := range all {
		is := v.reached()
		if is == v.Reached {
			continue
		}
		if err := s.DB.Within(ctx, func(tx *record.Tx) error {
			done, err := tx.NoteReached(ctx, v.ID, v.Reached, is)
			if err != nil || !done {
				return err
			}
			change := record.Change{Kind: record.OfQuota}
			if is == "" || is == "soft" && v.Reached == "hard" {
				return tx.Tell(ctx, change)
			}
			event := s.eventOf(access.Caller{Name: "crelvo"}, record.EventQuotaReached, v.Quota)
			event.Detail = map[string]string{"bound": is, "used": api.Bytes(v.Used), "soft": bound64(v.Soft),
				"hard": bound64(v.Hard)}
			return tx.Append(ctx, event, change)
		}); err != nil {
			return err
		}
	}
	return nil
}

// Concerns tells of bounds that are reached, of what the caller is an admin of.
func (s *Quotas) Concerns(ctx context.Context, caller access.Caller) (found []act.Concern, err error) {
	all, err := s.Quotas(ctx, caller)
	if err != nil {
		return nil, err
	}
	for _, v := range all {
		about := act.Everything
		if r, ok := s.directory.RepositoryByID(v.RepositoryID); ok {
			about = access.Of(r)
		}
		if s.directory.Allow(caller, access.Manage, about) != nil {
			continue
		}
		c := act.Concern{Page: "/retention/space",
			Do: "Sweep what nobody needs, or give it more. crelvo quota show " + Title(v.Quota) + " says what uses most."}
		switch r, _ := s.directory.RepositoryByID(v.RepositoryID); {
		case v.reached() == "":
			continue
		case v.reached() == "soft":
			c.Level, c.What = "soon", fmt.Sprintf("%s uses %s, and should use %s at most", capital(named(v.Quota)),
				api.Bytes(v.Used), api.Bytes(v.Soft))
		default:
			c.Level, c.What = "wrong", fmt.Sprintf("%s uses %s of the %s that it may: ", capital(named(v.Quota)),
				api.Bytes(v.Used), api.Bytes(v.Hard))
			if r.Fetches() {
				c.Level, c.What = "soon", c.What+"it drops what was not asked for for longest"
			} else {
				c.What += "little or nothing more can be published there"
			}
		}
		found = append(found, c)
	}
	return found, nil
}

func capital(s string) string {
	if after, ok := strings.CutPrefix(s, "the "); ok {
		return "The " + after
	}
	return s
}

// Cramped lists mirrors that use nearly all that they may, or had no room for something, and
// what they should use at most so that there is room for what is asked for next.
func (s *Quotas) Cramped(ctx context.Context) (most map[int64]int64, err error) {
	b, err := s.bounds(ctx)
	if err != nil {
		return nil, err
	}
	most = map[int64]int64{}
	for _, one := range b.all {
		r, ok := s.directory.RepositoryByID(one.RepositoryID)
		if !ok || !r.Fetches() {
			continue
		}
		one.mu.Lock()
		used, err := s.used(ctx, one)
		wanted := one.wanted
		one.wanted = 0
		one.mu.Unlock()
		if err != nil {
			return nil, err
		}
		bound := one.Hard - one.Hard/20
		if one.Soft > 0 && (one.Hard == 0 || one.Soft < bound) {
			bound = one.Soft
		}
		stay := bound - bound/10
		if wanted > 0 {
			stay = min(stay, one.Hard-wanted)
		}
		if used > bound || wanted > 0 && used > stay {
			most[r.ID] = stay
		}
	}
	return most, nil
}
