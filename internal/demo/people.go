package demo

import (
	"context"
	"errors"
	"net/http"
	"time"

	"crelvo/internal/api"
	"crelvo/internal/client"
	"crelvo/internal/core/access"
	"crelvo/internal/core/purl"
	"crelvo/internal/service"
	"crelvo/internal/service/rights"
)

// people makes the users and robots, with a token each.
func people(ctx context.Context, s *service.Service) (map[string]string, error) {
	grant := func(r access.Role, on string) access.Grant { return access.Grant{Role: r, Repositories: on} }
	ours, err := purl.ParsePattern("pkg:npm/@skerry/*")
	if err != nil {
		return nil, err
	}
	all := []rights.NewPrincipal{
		{Name: User, Password: Password, Description: "looks after the service",
			Grants: []access.Grant{grant(access.Admin, "*")}},
		{Name: "deckhand", Password: "knots-and-splices", Description: "developer"},
		{Name: "purser", Password: "tickets-please-all", Description: "release manager",
			Grants: []access.Grant{grant(access.Reader, "snapshots")}},
		{Name: "ci-berth", Robot: true, Description: "builds the berth planner", Grants: []access.Grant{
			grant(access.Publisher, "snapshots"), grant(access.Publisher, "staging"), grant(access.Reader, "releases"),
			grant(access.Reader, "platform")}},
		{Name: "ci-deck", Robot: true, Description: "builds what passengers see", Grants: []access.Grant{
			{Role: access.Publisher, Repositories: "snapshots", Packages: ours}, grant(access.Reader, "platform")}},
	}
	tokens := map[string]string{}
	for _, p := range all {
		if err := s.Rights.AddPrincipal(ctx, rights.Bootstrapper, p); err != nil {
			return nil, err
		}
		owner, err := s.Rights.CallerNamed(ctx, p.Name)
		if err != nil {
			return nil, err
		}
		secret, _, err := s.Rights.AddToken(ctx, owner, rights.NewToken{Name: "demo", Length: 366 * 24 * time.Hour})
		if err != nil {
			return nil, err
		}
		tokens[p.Name] = secret
	}
	return tokens, nil
}

// teams makes the teams, with their rights on the repositories.
func teams(ctx context.Context, s *service.Service) error {
	all := []struct {
		name, description string
		members           []string
		grants            []rights.NewGrant
	}{
		{"berth-crew", "who build the berth planner", []string{"deckhand"}, []rights.NewGrant{
			{Role: "publisher", Repositories: "snapshots"}, {Role: "reader", Repositories: "staging"},
			{Role: "reader", Repositories: "platform"},
			{Role: "reader", Repositories: "releases"}, {Role: "reader", Repositories: "shore-*"},
			{Role: "reader", Repositories: "mainland-*"}}},
		{"crew-office", "who let releases sail", []string{"purser"}, []rights.NewGrant{
			{Role: "promoter", Repositories: "staging"}, {Role: "promoter", Repositories: "releases"},
			{Role: "publisher", Repositories: "crew-tools"},
			{Role: "reader", Repositories: "platform"}, {Role: "reader", Repositories: "shore-*"},
			{Role: "reader", Repositories: "mainland-*"}}},
	}
	for _, t := range all {
		if err := s.Rights.AddTeam(ctx, rights.Bootstrapper, t.name, t.description, t.members); err != nil {
			return err
		}
		for _, g := range t.grants {
			g.Holder = access.TeamPrefix + t.name
			if _, err := s.Rights.AddGrant(ctx, rights.Bootstrapper, g); err != nil {
				return err
			}
		}
	}
	return nil
}

// nightly is a token of a robot that ends soon.
const nightly = "nightly"

// mistakes are what people did wrong in the last hour: a right that is missing,
// and a token that was revoked.
func (y *yard) mistakes(ctx context.Context, admin *client.Client, at time.Time) error {
	y.clock.set(at)
	robot := &client.Client{Server: admin.Server, Token: y.tokens[nightly], Agent: "maven-resolver/1.9"}
	if _, err := robot.Repository(ctx, "snapshots"); err != nil {
		return err
	}
	old, err := admin.AddToken(ctx, api.NewToken{For: "deckhand", Name: "old-laptop", Can: []string{"read"}})
	if err != nil {
		return err
	}
	if err := admin.RevokeToken(ctx, "deckhand", "old-laptop"); err != nil {
		return err
	}
	hand := &client.Client{Server: admin.Server, Token: old.Secret, Agent: "npm/11"}
	if _, err := hand.Repository(ctx, "platform"); !refusedAs(err, http.StatusUnauthorized) {
		return errors.Join(errors.New("the revoked token was taken"), err)
	}
	hand.Token = y.tokens["deckhand"]
	if _, err := hand.Withdraw(ctx, "releases", api.Withdraw{PURL: "pkg:pypi/tidecast@0.6.0",
		Reason: "a trial"}); !refusedAs(err, http.StatusForbidden) {
		return errors.Join(errors.New("deckhand was let in"), err)
	}
	return nil
}

func refusedAs(err error, status int) bool {
	var p *api.Problem
	return errors.As(err, &p) && p.Status == status
}
