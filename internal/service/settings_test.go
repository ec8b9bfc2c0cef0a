package service

import (
	"testing"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/record/recordtest"
	"crelvo/internal/service/act"
	"crelvo/internal/service/repositories"
)

// TestSettingsOfRepositories: what cannot be made cannot be changed to either, and is
// refused for the same reason.
func TestSettingsOfRepositories(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	ctx := t.Context()
	upstream := &catalog.MirrorSettings{Upstreams: []catalog.Upstream{{URL: "https://maven.openshore.example/"}}}
	kinds := map[catalog.Kind]repositories.NewRepository{
		catalog.House: {Repository: catalog.Repository{Kind: catalog.House, Holds: catalog.Both}},
		catalog.Mirror: {Repository: catalog.Repository{Kind: catalog.Mirror, Holds: catalog.Both, Ecosystem: "maven",
			Mirror: upstream}},
		catalog.Chain: {Repository: catalog.Repository{Kind: catalog.Chain, Holds: catalog.Both},
			Members: []repositories.NewMember{{Name: "the-mirror"}}},
	}
	for _, kind := range []catalog.Kind{catalog.House, catalog.Mirror, catalog.Chain} {
		r := kinds[kind]
		r.Name = "the-" + string(kind)
		if _, err := n.Repositories.AddRepository(ctx, n.admin, r); err != nil {
			t.Fatal(err)
		}
	}
	yes, small, negative, odd, some := true, int64(1<<20), int64(-1), catalog.Holds("everything"), catalog.Releases
	wrong := "not a name"
	for _, c := range []struct {
		what   string
		kind   catalog.Kind
		change repositories.SettingsChange
		code   string
	}{
		{"odd versions", catalog.House, repositories.SettingsChange{Holds: &odd}, "bad-holds"},
		{"odd versions", catalog.Mirror, repositories.SettingsChange{Holds: &odd}, "bad-holds"},
		{"a negative size", catalog.House, repositories.SettingsChange{LargestFile: &negative}, "bad-size"},
		{"only builds", catalog.Mirror, repositories.SettingsChange{OnlyBuilds: &yes}, "not-a-house"},
		{"only robots", catalog.Chain, repositories.SettingsChange{OnlyRobots: &yes}, "not-a-house"},
		{"closed", catalog.Mirror, repositories.SettingsChange{Closed: &yes}, "not-a-house"},
		{"a size", catalog.Chain, repositories.SettingsChange{LargestFile: &small}, "not-a-house"},
		{"only releases", catalog.Chain, repositories.SettingsChange{Holds: &some}, "holds-nothing"},
		{"an upstream", catalog.House, repositories.SettingsChange{Mirror: func(m *catalog.MirrorSettings) {
			*m = *upstream
		}}, "not-a-mirror"},
		{"an upstream that is none", catalog.Mirror, repositories.SettingsChange{Mirror: func(m *catalog.MirrorSettings) {
			m.Upstreams = []catalog.Upstream{{URL: "ftp://x"}}
		}}, "bad-address"},
		{"a pattern that is none", catalog.Mirror, repositories.SettingsChange{Mirror: func(m *catalog.MirrorSettings) {
			m.Allow = []string{"%%%"}
		}}, "bad-pattern"},
		{"members", catalog.House, repositories.SettingsChange{Members: &[]repositories.NewMember{{Name: "the-mirror"}}},
			"not-a-chain"},
		{"a member that is not there", catalog.Chain,
			repositories.SettingsChange{Members: &[]repositories.NewMember{{Name: "nowhere"}}}, "no-such-repository"},
		{"a target that is not there", catalog.Chain, repositories.SettingsChange{ReleasesTo: &wrong}, "no-such-repository"},
		{"a target that is no house", catalog.Chain, repositories.SettingsChange{ReleasesTo: &[]string{"the-mirror"}[0]},
			"bad-target"},
	} {
		_, err := n.Repositories.EditRepository(ctx, n.admin, "the-"+string(c.kind), c.change)
		if code := fault.Of(err).Code; code != c.code {
			t.Errorf("%s of a %s, changed: %q (%v), want %q", c.what, c.kind, code, err, c.code)
		}
		r := kinds[c.kind]
		r.Name = "new-" + string(c.kind)
		act.Set(&r.Holds, c.change.Holds)
		act.Set(&r.LargestFile, c.change.LargestFile)
		act.Set(&r.OnlyBuilds, c.change.OnlyBuilds)
		act.Set(&r.OnlyRobots, c.change.OnlyRobots)
		act.Set(&r.Closed, c.change.Closed)
		act.Set(&r.Members, c.change.Members)
		act.Set(&r.ReleasesTo, c.change.ReleasesTo)
		if c.change.Mirror != nil {
			settings := *upstream
			c.change.Mirror(&settings)
			r.Mirror = &settings
		}
		if _, err := n.Repositories.AddRepository(ctx, n.admin, r); fault.Of(err).Code != c.code {
			t.Errorf("%s of a %s, made: %q (%v), want %q", c.what, c.kind, fault.Of(err).Code, err, c.code)
		}
	}
}
