package service

import (
	"context"
	"regexp"
	"slices"
	"strings"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/record"
)

var nameForm = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,61}[a-z0-9]$`)

// checkName checks a name for a repository, user, robot or the like.
func checkName(what, name string) error {
	if nameForm.MatchString(name) {
		return nil
	}
	return fault.New(fault.Invalid, "bad-name", "%q cannot be the name of a %s", name, what).
		WithHint("Use 2 to 63 lower-case letters, digits and hyphens, with no hyphen at either end.")
}

func (s *Service) loadRepositories(ctx context.Context) error {
	all, err := s.db.Repositories(ctx)
	if err != nil {
		return err
	}
	byName := make(map[string]catalog.Repository, len(all))
	for _, r := range all {
		byName[r.Name] = r
	}
	s.repositories.Store(&byName)
	return nil
}

// Repositories lists all repositories by name, whoever may read them.
func (s *Service) Repositories() []catalog.Repository {
	var all []catalog.Repository
	for _, r := range *s.repositories.Load() {
		all = append(all, r)
	}
	slices.SortFunc(all, func(a, b catalog.Repository) int { return strings.Compare(a.Name, b.Name) })
	return all
}

// Readable lists the repositories that the caller may read, by name.
func (s *Service) Readable(caller access.Caller) []catalog.Repository {
	return slices.DeleteFunc(s.Repositories(), func(r catalog.Repository) bool {
		return !access.Decide(caller, access.Read, r).Allowed
	})
}

// Repository finds a repository for a caller who wants to do something there.
// One that the caller may not even read looks to a stranger as if it were not
// there.
func (s *Service) Repository(caller access.Caller, name string, action access.Action) (catalog.Repository, error) {
	r, ok := (*s.repositories.Load())[name]
	if ok {
		if err := s.Allow(caller, action, r); err == nil {
			return r, nil
		} else if caller.Anonymous() || access.Decide(caller, access.Read, r).Allowed || access.Decide(caller, action, r).TokenLimit {
			return r, err
		}
	} else if caller.Anonymous() {
		// The same answer as for one that is there.
		return r, s.Allow(caller, access.Manage, r)
	}
	return r, fault.New(fault.NotFound, "no-such-repository", "there is no repository %q that you may read", name).
		WithHint("crelvo repo list shows those that you may read; an admin can grant you more.")
}

// Totals tells what each repository holds.
func (s *Service) Totals(ctx context.Context) (map[int64]record.Total, error) {
	return s.db.Totals(ctx)
}

// EcosystemsIn tells which ecosystems a repository holds anything of.
func (s *Service) EcosystemsIn(ctx context.Context, r catalog.Repository) ([]string, error) {
	return s.db.Ecosystems(ctx, r.ID)
}

func checkHolds(h catalog.Holds) error {
	if h != catalog.Snapshots && h != catalog.Releases && h != catalog.Both {
		return fault.New(fault.Invalid, "bad-holds", "a repository cannot hold %q", h).
			WithHint("Choose snapshots, releases or both.")
	}
	return nil
}

// AddRepository makes a repository.
func (s *Service) AddRepository(ctx context.Context, caller access.Caller, r catalog.Repository) (catalog.Repository, error) {
	if err := s.Allow(caller, access.Manage, catalog.Repository{}); err != nil {
		return r, err
	}
	if err := checkName("repository", r.Name); err != nil {
		return r, err
	}
	if err := checkHolds(r.Holds); err != nil {
		return r, err
	}
	if r.Kind != catalog.House {
		return r, fault.New(fault.Invalid, "kind-not-made", "repositories of the kind %q cannot be made yet", r.Kind).
			WithHint("Choose house.")
	}
	r.CreatedAt = s.Now()
	var made catalog.Repository
	err := s.changeRepository(ctx, func(tx *record.Tx) (record.Event, error) {
		var ok bool
		var err error
		if made, ok, err = tx.AddRepository(ctx, r); err != nil {
			return record.Event{}, err
		}
		if !ok {
			return record.Event{}, fault.New(fault.Conflict, "name-taken", "there is a repository %q already", r.Name).
				WithHint("Choose another name.")
		}
		event := s.event(caller, "repository made")
		event.Repository = r.Name
		event.Detail = settingsOf(r)
		return event, nil
	})
	return made, err
}

func settingsOf(r catalog.Repository) map[string]string {
	anonymous := "no"
	if r.AnonymousRead {
		anonymous = "yes"
	}
	return map[string]string{"holds": string(r.Holds), "description": r.Description, "anonymous reading": anonymous}
}

// changeRepository runs a transaction about a repository and brings the list
// of this and, through the announcement, of every other node up to date.
func (s *Service) changeRepository(ctx context.Context, do func(tx *record.Tx) (record.Event, error)) error {
	err := s.db.Within(ctx, func(tx *record.Tx) error {
		event, err := do(tx)
		if err != nil {
			return err
		}
		return tx.Append(ctx, event, record.Change{Kind: "repository", Repository: event.Repository})
	})
	if err != nil {
		return err
	}
	return s.loadRepositories(ctx)
}

// RepositoryChange is what is to be different; nil fields stay as they are.
type RepositoryChange struct {
	Holds         *catalog.Holds
	Description   *string
	AnonymousRead *bool
}

// EditRepository changes the settings of a repository.
func (s *Service) EditRepository(ctx context.Context, caller access.Caller, name string, change RepositoryChange) (catalog.Repository, error) {
	before, err := s.Repository(caller, name, access.Manage)
	if err != nil {
		return before, err
	}
	after := before
	if change.Holds != nil {
		after.Holds = *change.Holds
	}
	if change.Description != nil {
		after.Description = *change.Description
	}
	if change.AnonymousRead != nil {
		after.AnonymousRead = *change.AnonymousRead
	}
	if err := checkHolds(after.Holds); err != nil {
		return before, err
	}
	after.ChangedAt = s.Now()
	return after, s.changeRepository(ctx, func(tx *record.Tx) (record.Event, error) {
		event := s.event(caller, "repository changed")
		event.Repository = name
		event.Detail = map[string]string{}
		was := settingsOf(before)
		for k, v := range settingsOf(after) {
			if was[k] != v {
				event.Detail[k] = was[k] + " → " + v
			}
		}
		return event, tx.SetRepository(ctx, after)
	})
}

// RemoveRepository takes a repository out of use; one that holds anything only
// if withContents says so. Its records stay.
func (s *Service) RemoveRepository(ctx context.Context, caller access.Caller, name string, withContents bool) error {
	r, err := s.Repository(caller, name, access.Manage)
	if err != nil {
		return err
	}
	return s.changeRepository(ctx, func(tx *record.Tx) (record.Event, error) {
		event := s.event(caller, "repository removed")
		event.Repository = name
		if err := tx.LockRepository(ctx, r.ID); err != nil {
			return event, err
		}
		packages, err := tx.Packages(ctx, r.ID)
		if err != nil {
			return event, err
		}
		if packages > 0 && !withContents {
			return event, fault.New(fault.Conflict, "not-empty", "%s holds %s", name, plural(packages, "package")).
				WithHint("Say that its contents are to go too (--with-contents), or move them first.")
		}
		return event, tx.RemoveRepository(ctx, r.ID, s.Now())
	})
}
