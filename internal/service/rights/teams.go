package rights

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"strings"

	"crelvo/internal/core/access"
	"crelvo/internal/core/fault"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
)

// teamOf finds a team by name.
func teamOf(ctx context.Context, from interface {
	Team(ctx context.Context, name string) (record.Team, error)
}, name string) (record.Team, error) {
	t, err := from.Team(ctx, name)
	if errors.Is(err, record.ErrNotFound) {
		err = fault.New(fault.NotFound, "no-such-team", "there is no team %q", name).WithHint("crelvo team list shows them.")
	}
	return t, err
}

// Teams lists the teams that the caller is in; an admin of something sees all.
func (s *Rights) Teams(ctx context.Context, caller access.Caller) ([]record.Team, error) {
	if err := s.directory.Allow(caller, access.SignedIn, act.Everything); err != nil {
		return nil, err
	}
	if s.MustBeAdmin(caller) == nil {
		return s.DB.Teams(ctx, 0)
	}
	return s.DB.Teams(ctx, caller.ID)
}

// AddTeam makes a team of users and robots.
func (s *Rights) AddTeam(ctx context.Context, caller access.Caller, name, description string, members []string) error {
	if err := s.directory.Allow(caller, access.Manage, act.Everything); err != nil {
		return err
	}
	if err := act.CheckName("team", name); err != nil {
		return err
	}
	return s.changeAccess(ctx, func(tx *record.Tx) error {
		id, ok, err := tx.AddTeam(ctx, record.Team{Name: name, Description: description, CreatedAt: s.Now()})
		if err != nil {
			return err
		}
		if !ok {
			return fault.New(fault.Conflict, "name-taken", "there is a team %q already", name)
		}
		if err := join(ctx, tx, id, members); err != nil {
			return err
		}
		event := s.Event(caller, record.EventTeamMade)
		event.Subject, event.Detail = access.TeamPrefix+name, map[string]string{"members": strings.Join(members, " ")}
		return tx.Append(ctx, event)
	})
}

func join(ctx context.Context, tx *record.Tx, id int64, names []string) error {
	unknown, err := tx.Join(ctx, id, names)
	if err == nil && unknown != nil {
		err = fault.New(fault.NotFound, "no-such-user", "there is no user or robot %q", unknown[0])
	}
	return err
}

// TeamChange is what is to be different.
type TeamChange struct {
	Description *string
	Join, Leave []string
}

// EditTeam changes a team.
func (s *Rights) EditTeam(ctx context.Context, caller access.Caller, name string, change TeamChange) error {
	refusal := s.directory.Allow(caller, access.Manage, act.Everything)
	if refusal != nil && s.MustBeAdmin(caller) != nil {
		return refusal
	}
	return s.changeAccess(ctx, func(tx *record.Tx) error {
		t, err := teamOf(ctx, tx, name)
		if err != nil {
			return err
		}
		if refusal != nil {
			if ok, err := ownTeam(ctx, tx, caller, t); err != nil || !ok {
				return cmp.Or(err, refusal)
			}
		}
		for _, leaver := range change.Leave {
			if !slices.Contains(t.Members(), leaver) {
				return fault.New(fault.NotFound, "no-such-member", "%s is not in the team %s", leaver, name)
			}
		}
		event := s.Event(caller, record.EventTeamChanged)
		event.Subject, event.Detail = access.TeamPrefix+name,
			map[string]string{"joined": strings.Join(change.Join, " "), "left": strings.Join(change.Leave, " ")}
		if change.Description != nil && *change.Description != t.Description {
			event.Detail["description"] = t.Description + " → " + *change.Description
			t.Description = *change.Description
			if err := tx.SetTeam(ctx, t); err != nil {
				return err
			}
		}
		if err := join(ctx, tx, t.ID, change.Join); err != nil {
			return err
		}
		if err := tx.Leave(ctx, t.ID, change.Leave); err != nil {
			return err
		}
		if err := s.adminRemains(ctx, tx); err != nil {
			return err
		}
		return tx.Append(ctx, event)
	})
}

// ownTeam tells whether the caller is a member of a team that is admin of something:
// it looks after itself, and gives nobody more than the caller has.
func ownTeam(ctx context.Context, tx *record.Tx, caller access.Caller, t record.Team) (bool, error) {
	if !slices.Contains(t.Members(), caller.Name) || caller.Limited() {
		return false, nil
	}
	all, err := tx.Grants(ctx)
	return slices.ContainsFunc(all, func(g record.StoredGrant) bool {
		return g.Holder == access.TeamPrefix+t.Name && g.Role == access.Admin
	}), err
}

// RemoveTeam removes a team with its grants.
func (s *Rights) RemoveTeam(ctx context.Context, caller access.Caller, name string) error {
	if err := s.directory.Allow(caller, access.Manage, act.Everything); err != nil {
		return err
	}
	return s.changeAccess(ctx, func(tx *record.Tx) error {
		t, err := teamOf(ctx, tx, name)
		if err != nil {
			return err
		}
		if err := tx.RemoveTeam(ctx, t.ID); err != nil {
			return err
		}
		if err := s.adminRemains(ctx, tx); err != nil {
			return err
		}
		event := s.Event(caller, record.EventTeamRemoved)
		event.Subject, event.Detail = access.TeamPrefix+name, map[string]string{"members before": t.Names}
		return tx.Append(ctx, event)
	})
}
