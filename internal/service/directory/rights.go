package directory

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/service/act"
)

// Allow decides whether the caller may do the action, and if not, says in a
// fault what is missing and who can grant it. To publish to a chain is to publish
// to a repository that it names.
func (s *Directory) Allow(caller access.Caller, action access.Action, o access.Object) error {
	asked := o
	if c := o.Repository.Chain; c != nil && action == access.Publish {
		d := s.Known()
		if releases, ok := d.ByID[c.ReleasesTo]; ok &&
			access.Decide(caller, action, access.Object{Repository: releases, Package: o.Package}).Allowed {
			return nil
		}
		if snapshots, ok := d.ByID[c.SnapshotsTo]; ok {
			o.Repository = snapshots
		} else if releases, ok := d.ByID[c.ReleasesTo]; ok {
			o.Repository = releases
		}
	}
	decision := access.Decide(caller, action, o)
	switch {
	case decision.Allowed:
		return nil
	case caller.Anonymous():
		return fault.New(fault.Unknown, "sign-in-needed", "this needs somebody to sign in").
			WithHint("Give a token as the password (Basic) or as a Bearer token; make one with crelvo token new.")
	case decision.TokenLimit:
		return fault.New(fault.Denied, "token-too-narrow", "the token %q of %s may not %s%s", caller.Token, caller.Name,
			action, whereOf(asked)).
			WithHint("Use a token that may, or make one: crelvo token new --can %s.", action)
	}
	f := fault.New(fault.Denied, "role-missing", "%s needs the role %s%s to %s", caller.Name, decision.Missing, whereOf(o),
		action)
	return f.WithHint("%s%s.", alsoHas(caller, decision, o), s.WhoGrants(o))
}

// whereOf says where a right is missing.
func whereOf(o access.Object) string {
	switch {
	case o.Repository.Name == "":
		return " on all repositories"
	case o.Package.Name == "":
		return " on " + o.Repository.Name
	}
	of := o.Package
	of.Version, of.Qualifiers = "", nil
	return " on " + o.Repository.Name + " for " + of.Typed()
}

// alsoHas tells for what the caller has the role that is missing here.
func alsoHas(caller access.Caller, d access.Decision, o access.Object) string {
	var has []string
	for _, g := range d.Elsewhere {
		if text := g.String(); !slices.Contains(has, text) && len(has) < MaxNamed {
			has = append(has, text)
		}
	}
	if has == nil || o.Repository.Name == "" {
		return ""
	}
	return caller.Name + " is " + strings.Join(has, " and ") + ". "
}

// MaxNamed is how many names a sentence has at most.
const MaxNamed = 3

// WhoGrants names those who can grant rights on something.
func (s *Directory) WhoGrants(o access.Object) string {
	return s.who(o, "An admin", "or") + " can grant it"
}

// WhoManages names those who look after a repository.
func (s *Directory) WhoManages(r catalog.Repository) string {
	return s.who(access.Of(r), "the admins", "and")
}

// who names those who look after something: nobody is what they are called if none is known, and
// last the word between them.
func (s *Directory) who(o access.Object, nobody, last string) string {
	var names []string
	for _, g := range s.adminGrants() {
		if access.Decide(access.Caller{ID: 1, Grants: []access.Grant{g}}, access.Manage, access.Of(o.Repository)).Allowed &&
			!slices.Contains(names, g.Holder) {
			names = append(names, g.Holder)
		}
	}
	switch {
	case len(names) == 0:
		return nobody
	case len(names) > MaxNamed:
		return fmt.Sprintf("%s and %d more", strings.Join(names[:MaxNamed], ", "), len(names)-MaxNamed)
	}
	return strings.Join(names, " "+last+" ")
}

// adminGrants are all grants of the role admin. Where they cannot be read, those
// that were read before have to do.
func (s *Directory) adminGrants() []access.Grant {
	known, generation := s.admins.Load(), s.AccessAge()
	if known != nil && known.Generation == generation {
		return known.Value
	}
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	now, err := s.DB.AdminGrants(ctx)
	if err != nil {
		if known != nil {
			return known.Value
		}
		return nil
	}
	s.admins.Store(&act.Aged[[]access.Grant]{Value: now, Generation: generation})
	return now
}

// Target implements ecosystem.Desk.
func (s *Directory) Target(
	caller access.Caller, repository catalog.Repository, snapshot bool,
) (catalog.Repository, error) {
	if repository.Chain == nil {
		return repository, nil
	}
	id, what := repository.Chain.ReleasesTo, "releases"
	if snapshot {
		id, what = repository.Chain.SnapshotsTo, "snapshots"
	}
	target, ok := s.Known().ByID[id]
	if !ok {
		return repository, fault.New(fault.Conflict, "no-target", "%s does not take %s", repository.Name, what).
			WithHint("Publish to a house repository, or have an admin name the one that %s of %s go to.", what, repository.Name)
	}
	err := s.Allow(caller, access.Publish, access.Of(target))
	if err != nil && !repository.Chain.OpenMembers && !access.Decide(caller, access.Read, access.Of(target)).Allowed {
		// What stands behind a chain is not told to who may not read it.
		f := fault.Of(err)
		err = fault.New(f.Kind, f.Code, "%s may not publish %s to %s", cmp.Or(caller.Name, "nobody"), what, repository.Name).
			WithHint("%s.", s.WhoGrants(act.Everything))
	}
	target.Sight, _ = s.SightOf(caller, target)
	return target, err
}
