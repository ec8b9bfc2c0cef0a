package builds

import (
	"context"
	"errors"

	"crelvo/internal/core/access"
	"crelvo/internal/core/fault"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
)

// speaksFor checks that the caller may begin and record builds of a name. The name
// belongs to whom an admin gave it, or to who used it first with the right to
// publish something.
func (s *Builds) speaksFor(
	ctx context.Context, tx *record.Tx, caller access.Caller, name string,
) (record.BuildName, error) {
	if !s.publishesSomewhere(caller) {
		return record.BuildName{}, fault.New(fault.Denied, "role-missing",
			"%s may not publish anywhere, and so has no builds", caller.Name).
			WithHint("%s.", s.directory.WhoGrants(act.Everything))
	}
	n, err := tx.TakeBuildName(ctx, record.BuildName{Name: name, OwnerID: caller.ID, Owner: caller.Name, At: s.Now()})
	if err == nil && n.OwnerID != caller.ID {
		err = fault.New(fault.Denied, "others-build-name", "builds called %s belong to %s", name, n.Owner).
			WithHint("Use the token of %s, or another name; an admin can give the name away: crelvo build give %s WHO.", n.Owner,
				name)
	}
	return n, err
}

// publishesSomewhere tells whether the caller may publish anything, with the token
// that it came with.
func (s *Builds) publishesSomewhere(caller access.Caller) bool {
	for _, r := range s.directory.Known().ByID {
		if r.Own() && access.Decide(caller, access.Publish, access.Of(r)).Allowed {
			return true
		}
	}
	return false
}

// mayGiveNames checks that the caller may say whose builds are whose.
func (s *Builds) mayGiveNames(caller access.Caller) error {
	if caller.Limited() {
		return fault.New(fault.Denied, "token-too-narrow", "the token %q is limited, so it cannot say whose builds are whose",
			caller.Token).
			WithHint("Sign in with a password: crelvo login.")
	}
	return s.directory.Allow(caller, access.Manage, act.Everything)
}

// BuildNames lists whose builds are whose.
func (s *Builds) BuildNames(ctx context.Context, caller access.Caller) ([]record.BuildName, error) {
	if err := s.directory.Allow(caller, access.SignedIn, act.Everything); err != nil {
		return nil, err
	}
	return s.DB.BuildNames(ctx)
}

// GiveBuildName says to whom builds of a name belong from now on; to "" is to who
// uses it next.
func (s *Builds) GiveBuildName(ctx context.Context, caller access.Caller, name, to string) error {
	if err := s.mayGiveNames(caller); err != nil {
		return err
	}
	if _, _, err := SplitBuild(name + "#1"); err != nil {
		return err
	}
	return s.changeBuilds(ctx, func(tx *record.Tx) error {
		event := s.Event(caller, record.EventBuildNameGiven)
		event.Subject, event.Detail = name, map[string]string{"to": to}
		if to == "" {
			done, err := tx.FreeBuildName(ctx, name)
			if err == nil && !done {
				err = fault.New(fault.NotFound, "no-such-build-name", "builds called %s belong to nobody", name)
			}
			if err != nil {
				return err
			}
			return tx.Append(ctx, event, record.Change{Kind: record.OfBuild, Name: name})
		}
		p, err := s.DB.Principal(ctx, to)
		if errors.Is(err, record.ErrNotFound) {
			return fault.New(fault.NotFound, "no-such-user", "there is no user or robot %q", to)
		}
		if err == nil {
			err = tx.GiveBuildName(ctx, record.BuildName{Name: name, OwnerID: p.ID, Owner: p.Name, GivenBy: caller.Name,
				At: s.Now()})
		}
		if err != nil {
			return err
		}
		return tx.Append(ctx, event, record.Change{Kind: record.OfBuild, Name: name})
	})
}

// RemoveBuild drops the record of a build that made nothing, such as one that was
// begun by mistake or in somebody else's name.
func (s *Builds) RemoveBuild(ctx context.Context, caller access.Caller, title string) error {
	if err := s.mayGiveNames(caller); err != nil {
		return err
	}
	name, number, err := SplitBuild(title)
	if err != nil {
		return err
	}
	return s.changeBuilds(ctx, func(tx *record.Tx) error {
		b, err := tx.Build(ctx, record.BuildFilter{Name: name, Number: number})
		if errors.Is(err, record.ErrNotFound) {
			return NoBuild(title)
		}
		if err != nil {
			return err
		}
		done, err := tx.RemoveBuild(ctx, b.ID)
		if err == nil && !done {
			err = fault.New(fault.Conflict, "build-in-use", "%s made versions that are on record, so it stays", title).
				WithHint("Builds that come can be given to somebody else: crelvo build give %s WHO.", name)
		}
		if err != nil {
			return err
		}
		event := s.Event(caller, record.EventBuildRemoved)
		event.Subject, event.Detail = title, map[string]string{"begun by": b.Owner}
		return tx.Append(ctx, event, record.Change{Kind: record.OfBuild, Name: title})
	})
}
