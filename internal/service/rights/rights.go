package rights

import (
	"context"
	"errors"
	"slices"
	"strings"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
)

// NewGrant is a grant to be given; Packages is a pattern, "" for all.
type NewGrant struct {
	Holder, Role, Repositories, Packages string
}

func (n NewGrant) Parse() (access.Grant, error) {
	g := access.Grant{Holder: n.Holder, Role: access.Role(n.Role), Repositories: n.Repositories}
	if !slices.Contains(access.Roles, g.Role) {
		return g, act.Invalid("bad-role", "there is no role %q", n.Role).
			WithHint("Choose reader, publisher, promoter, curator or admin.")
	}
	if !repositoriesForm(n.Repositories) {
		return g, act.Invalid("bad-repositories", "%q is neither the name of a repository nor a pattern", n.Repositories).
			WithHint("Write a name, or a pattern with * for any run of characters, such as shore-*.")
	}
	if n.Packages != "" {
		p, err := packagesPattern(n.Packages)
		if err != nil {
			return g, err
		}
		g.Packages = p
		if g.Role == access.Admin {
			return g, act.Invalid("admin-of-packages",
				"the role admin is about whole repositories, not about some of their packages").
				WithHint("Leave the pattern out, or give the role curator.")
		}
	}
	if (n.Holder == access.Anonymous || n.Holder == access.Everybody) && g.Role != access.Reader &&
		g.Role != access.Publisher ||
		n.Holder == access.Anonymous && g.Role != access.Reader {
		return g, act.Invalid("too-much", "%s cannot be given to %s", g.Role, n.Holder).
			WithHint("Give it to users, robots or teams.")
	}
	return g, nil
}

// packagesPattern reads a pattern that rights are limited to: of packages, since
// they are about all their versions.
func packagesPattern(text string) (purl.Pattern, error) {
	p, err := purl.ParsePattern(text)
	if err == nil && !p.Whole() {
		err = act.Invalid("pattern-with-version", "%q names versions; rights are about all versions of a package", text).
			WithHint("Leave out what follows the @.")
	}
	return p, err
}

func repositoriesForm(text string) bool {
	return text != "" && len(text) <= 63 && strings.Trim(text, "abcdefghijklmnopqrstuvwxyz0123456789-*") == ""
}

// about is what a grant is about: who gives or takes it must manage all of it. A
// pattern stands for all names that it fits, since only a * fits a *.
func about(g access.Grant) access.Object {
	return access.Of(catalog.Repository{Name: g.Repositories})
}

// Grants lists the grants on what the caller is an admin of, by holder.
func (s *Rights) Grants(ctx context.Context, caller access.Caller) ([]record.StoredGrant, error) {
	if err := s.MustBeAdmin(caller); err != nil {
		return nil, err
	}
	all, err := s.DB.Grants(ctx)
	return slices.DeleteFunc(all, func(g record.StoredGrant) bool {
		return !access.Decide(caller, access.Manage, about(g.Grant)).Allowed
	}), err
}

// MustBeAdmin checks that the caller is an admin of something.
func (s *Rights) MustBeAdmin(caller access.Caller) error {
	return s.directory.Allow(caller, access.ManageSome, act.Everything)
}

// AddGrant gives somebody a role.
func (s *Rights) AddGrant(ctx context.Context, caller access.Caller, n NewGrant) (record.StoredGrant, error) {
	g, err := n.Parse()
	if err != nil {
		return record.StoredGrant{}, err
	}
	if err := s.directory.Allow(caller, access.Manage, about(g)); err != nil {
		return record.StoredGrant{}, err
	}
	if err := s.namedOnes(caller, []string{g.Repositories}); err != nil {
		return record.StoredGrant{}, err
	}
	stored := record.StoredGrant{Grant: g, By: caller.Name, At: s.Now()}
	return stored, s.changeAccess(ctx, func(tx *record.Tx) error {
		principalID, teamID, err := holderOf(ctx, tx, g.Holder)
		if err != nil {
			return err
		}
		id, ok, err := tx.AddGrant(ctx, principalID, teamID, stored)
		if err != nil {
			return err
		}
		if !ok {
			return fault.New(fault.Conflict, "granted-already", "%s is %s already", g.Holder, g)
		}
		stored.ID = id
		event := s.Event(caller, record.EventGrantGiven)
		event.Subject, event.Repository = g.Holder, nameOnly(g.Repositories)
		event.Detail = map[string]string{"after": g.String()}
		return tx.Append(ctx, event)
	})
}

// nameOnly gives the name of a repository, and "" for a pattern.
func nameOnly(repositories string) string {
	if strings.Contains(repositories, "*") {
		return ""
	}
	return repositories
}

// holderOf finds whom a grant is for.
func holderOf(ctx context.Context, tx *record.Tx, holder string) (principalID, teamID int64, err error) {
	if holder == access.Everybody || holder == access.Anonymous {
		return 0, 0, nil
	}
	if name, ok := strings.CutPrefix(holder, access.TeamPrefix); ok {
		t, err := teamOf(ctx, tx, name)
		return 0, t.ID, err
	}
	p, err := tx.Principal(ctx, holder)
	if errors.Is(err, record.ErrNotFound) {
		err = fault.New(fault.NotFound, "no-such-user", "there is no user or robot %q", holder).
			WithHint("Teams are written team:NAME; everybody who signs in is signed-in, and whoever asks is anonymous.")
	}
	return p.ID, 0, err
}

// RemoveGrant takes a role away.
func (s *Rights) RemoveGrant(ctx context.Context, caller access.Caller, id int64) error {
	if err := s.MustBeAdmin(caller); err != nil {
		return err
	}
	return s.changeAccess(ctx, func(tx *record.Tx) error {
		g, err := tx.RemoveGrant(ctx, id)
		if err == nil && !access.Decide(caller, access.Manage, about(g.Grant)).Allowed {
			err = record.ErrNotFound // grants on other repositories are nobody's business
		}
		if errors.Is(err, record.ErrNotFound) {
			return fault.New(fault.NotFound, "no-such-grant", "there is no grant %d", id).
				WithHint("crelvo grant list shows them.")
		}
		if err != nil {
			return err
		}
		event := s.Event(caller, record.EventGrantTakenAway)
		event.Subject, event.Repository = g.Holder, nameOnly(g.Repositories)
		event.Detail = map[string]string{"before": g.Grant.String()}
		if err := s.adminRemains(ctx, tx); err != nil {
			return err
		}
		return tx.Append(ctx, event)
	})
}

// adminRemains refuses what would leave nobody to look after the service.
func (s *Rights) adminRemains(ctx context.Context, tx *record.Tx) error {
	any, err := tx.AnyAdmin(ctx)
	if err == nil && !any {
		err = fault.New(fault.Conflict, "last-admin", "then no user would be left who is admin on *").
			WithHint("Make another one first: crelvo grant add admin --to NAME --on '*'.")
	}
	return err
}

// Verdict answers whether somebody may do something, and why.
type Verdict struct {
	access.Decision
	Who string
	// In is the repository that decides, where that is not the one that was asked
	// for: what is published to a chain goes to one that it names.
	In string
	// Can names those who can grant what is missing.
	Can string
}

// CheckGrant tells whether a user, a robot, a team, access.Everybody or
// access.Anonymous may do an action on a repository, and because of which grant.
// Others than oneself only an admin of the repository may ask about.
func (s *Rights) CheckGrant(
	ctx context.Context, caller access.Caller, who, action, name string, p purl.PURL,
) (Verdict, error) {
	do := access.Action(action)
	if !slices.Contains(access.Actions, do) {
		return Verdict{}, act.Invalid("bad-action", "there is no action %q", action).
			WithHint("Choose read, publish, promote, remove or manage.")
	}
	r, err := s.directory.Repository(caller, name, access.Read)
	if err != nil {
		return Verdict{}, err
	}
	if who == "" {
		who = caller.Name
	}
	asked := caller
	if who != caller.Name || caller.Anonymous() {
		if err := s.directory.Allow(caller, access.Manage, access.Of(r)); err != nil {
			return Verdict{}, err
		}
		if asked, err = s.callerFor(ctx, who); err != nil {
			return Verdict{}, err
		}
	}
	o := access.Object{Repository: r, Package: p}
	if c := r.Chain; c != nil && do == access.Publish {
		d, id := s.directory.Known(), c.ReleasesTo
		if purl.IsSnapshot(p.Ecosystem, p.Version) || id == 0 {
			id = c.SnapshotsTo
		}
		target, ok := d.ByID[id]
		if !ok {
			return Verdict{}, fault.New(fault.Conflict, "no-target", "%s does not take what is published to it", r.Name)
		}
		o.Repository = target
	}
	v := Verdict{Decision: access.Decide(asked, do, o), Who: who, In: o.Repository.Name}
	if !v.Allowed {
		v.Can = s.directory.WhoGrants(o)
	}
	return v, nil
}

// callerFor is somebody as a caller without a token.
func (s *Rights) callerFor(ctx context.Context, who string) (access.Caller, error) {
	if who == access.Anonymous {
		return s.Nobody(ctx, Origin{})
	}
	if name, ok := strings.CutPrefix(who, access.TeamPrefix); ok || who == access.Everybody {
		all, err := s.DB.Grants(ctx)
		if err != nil {
			return access.Caller{}, err
		}
		if ok {
			if _, err := teamOf(ctx, s.DB, name); err != nil {
				return access.Caller{}, err
			}
		}
		c := access.Caller{ID: -1, Name: who}
		for _, g := range all {
			if g.Holder == who || g.Holder == access.Everybody || g.Holder == access.Anonymous {
				c.Grants = append(c.Grants, g.Grant)
			}
		}
		return c, nil
	}
	p, err := s.DB.Principal(ctx, who)
	if errors.Is(err, record.ErrNotFound) {
		err = fault.New(fault.NotFound, "no-such-user", "there is no user or robot %q", who)
	}
	return CallerOf(p), err
}
