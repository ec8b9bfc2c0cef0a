package service

import (
	"fmt"
	"slices"
	"testing"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/record/recordtest"
	"crelvo/internal/service/repositories"
	"crelvo/internal/service/rights"
)

// TestPoint: what a client is pointed at, and the least token that does.
func TestPoint(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	add := func(r repositories.NewRepository) {
		t.Helper()
		if _, err := n.Repositories.AddRepository(t.Context(), n.admin, r); err != nil {
			t.Fatal(err)
		}
	}
	house := func(name string, holds catalog.Holds) repositories.NewRepository {
		return repositories.NewRepository{Repository: catalog.Repository{Name: name, Kind: catalog.House, Holds: holds}}
	}
	chain := func(name string, open bool) repositories.NewRepository {
		return repositories.NewRepository{Repository: catalog.Repository{Name: name, Kind: catalog.Chain,
			Holds: catalog.Both},
			Members: []repositories.NewMember{{Name: "releases"}, {Name: "snapshots"}}, ReleasesTo: "staging", OpenMembers: open}
	}
	add(house("releases", catalog.Releases))
	add(house("snapshots", catalog.Snapshots))
	add(house("staging", catalog.Releases))
	add(chain("platform", true))
	add(chain("closed", false))
	add(repositories.NewRepository{Repository: catalog.Repository{Name: "empty", Kind: catalog.Chain, Holds: catalog.Both},
		Members: []repositories.NewMember{{Name: "releases"}}, OpenMembers: true})
	for i, c := range []struct {
		repository, client, ecosystem string
		publish                       bool
		on                            []string
		address                       string
		everything                    bool
		refused                       string
	}{
		{repository: "releases", client: "npm", on: []string{"releases"}, address: "http://h/at/releases/npm/"},
		{repository: "releases", client: "maven", publish: true, on: []string{"releases"},
			address: "http://h/at/releases/maven/"},
		{repository: "platform", client: "pip", on: []string{"platform"}, address: "http://h/at/platform/pypi/",
			everything: true},
		{repository: "platform", client: "twine", publish: true, on: []string{"platform", "staging"},
			address: "http://h/at/platform/pypi/", everything: true},
		{repository: "closed", client: "nuget", on: []string{"closed", "releases", "snapshots"},
			address: "http://h/at/closed/nuget/", everything: true},
		{repository: "releases", client: "curl", on: []string{"releases"}, address: "http://h/at/releases/maven/"},
		{repository: "releases", client: "curl", ecosystem: "pypi", on: []string{"releases"},
			address: "http://h/at/releases/pypi/"},
		{repository: "platform@2026-11-01", client: "npm", on: []string{"platform"},
			address: "http://h/at/platform@2026-11-01T00:00:00Z/npm/", everything: true},
		{repository: "platform@2026-11-01", client: "npm", publish: true, refused: "takes-nothing"},
		{repository: "empty", client: "npm", publish: true, refused: "takes-nothing"},
		{repository: "releases", client: "pip", publish: true, refused: "does-not-publish"},
		{repository: "releases", client: "fax", refused: "no-such-client"},
		{repository: "nowhere", client: "npm", refused: "no-such-repository"},
	} {
		p, err := n.Pointing.Point(t.Context(), n.admin, c.repository, c.client, c.ecosystem, "http://h", c.publish,
			purl.PURL{})
		if c.refused != "" {
			if fault.Of(err).Code != c.refused {
				t.Errorf("%s at %s: %v; want %s", c.client, c.repository, err, c.refused)
			}
			continue
		}
		can := access.Read
		if c.publish {
			can = access.Publish
		}
		if err != nil || p.Address != c.address || p.Everything != c.everything || !slices.Equal(p.Token.On, c.on) ||
			!slices.Equal(p.Token.Can, []access.Action{can}) {
			t.Errorf("%s at %s: %s, %v, a token for %v on %v, %v", c.client, c.repository, p.Address, p.Everything, p.Token.Can,
				p.Token.On, err)
		}
		// With no more than that, it gets in.
		secret, _, err := n.Rights.AddToken(t.Context(), n.admin,
			rights.NewToken{Name: fmt.Sprint("pointed-", i), Can: p.Token.Can, On: p.Token.On})
		if err != nil {
			t.Fatal(err)
		}
		limited, err := n.Rights.ByToken(t.Context(), secret, rights.Origin{})
		if err != nil {
			t.Fatal(err)
		}
		if r, err := n.Directory.Repository(limited, c.repository, access.Read); err != nil || r.Sight != "" {
			t.Errorf("%s at %s: with its token: %q, %v", c.client, c.repository, r.Sight, err)
		}
	}
}
