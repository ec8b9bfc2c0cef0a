package service

import (
	"testing"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/record/recordtest"
	"crelvo/internal/service/repositories"
	"crelvo/internal/service/rights"
)

// TestAdminOfAPattern: a team that is admin of nav-* makes repositories and robots
// whose names fit, tokens for those robots, and looks after itself; and no more.
func TestAdminOfAPattern(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	ctx := t.Context()
	for _, name := range []string{"pilot", "mate"} {
		if err := n.Rights.AddPrincipal(ctx, n.admin, rights.NewPrincipal{Name: name}); err != nil {
			t.Fatal(err)
		}
	}
	if err := n.Rights.AddTeam(ctx, n.admin, "nav", "", []string{"pilot"}); err != nil {
		t.Fatal(err)
	}
	grant := func(by access.Caller, holder, role, on string) error {
		_, err := n.Rights.AddGrant(ctx, by, rights.NewGrant{Holder: holder, Role: role, Repositories: on})
		return err
	}
	if err := grant(n.admin, "team:nav", "admin", "nav-*"); err != nil {
		t.Fatal(err)
	}
	pilot, err := n.Rights.CallerNamed(ctx, "pilot")
	if err != nil {
		t.Fatal(err)
	}
	repository := func(name string, kind catalog.Kind) error {
		r := catalog.Repository{Name: name, Kind: kind, Holds: catalog.Both}
		if kind == catalog.Mirror {
			r.Ecosystem, r.Mirror = "maven",
				&catalog.MirrorSettings{Upstreams: []catalog.Upstream{{URL: "https://maven.openshore.example/"}}}
		}
		_, err := n.Repositories.AddRepository(ctx, pilot, repositories.NewRepository{Repository: r})
		return err
	}
	token := func(of string) error {
		_, _, err := n.Rights.AddToken(ctx, pilot, rights.NewToken{For: of, Name: "night-" + of,
			Can: []access.Action{access.Read}, On: []string{"nav-charts"}, Length: time.Hour})
		return err
	}
	for what, c := range map[string]struct {
		do      func() error
		refused bool
	}{
		"a repository elsewhere": {func() error { return repository("charts", catalog.House) }, true},
		"a mirror":               {func() error { return repository("nav-shore", catalog.Mirror) }, true},
		"a robot elsewhere": {func() error {
			return n.Rights.AddPrincipal(ctx, pilot, rights.NewPrincipal{Name: "ci", Robot: true})
		}, true},
		"a user": {func() error {
			return n.Rights.AddPrincipal(ctx, pilot, rights.NewPrincipal{Name: "nav-friend"})
		}, true},
		"a grant elsewhere": {func() error { return grant(pilot, "mate", "reader", "other-*") }, true},
		"somebody in another's team": {func() error {
			return n.Rights.EditTeam(ctx, pilot, "other", rights.TeamChange{Join: []string{"mate"}})
		}, true},
		"a token of a user": {func() error { return token("mate") }, true},
		"somebody into one's own team": {func() error {
			return n.Rights.EditTeam(ctx, pilot, "nav", rights.TeamChange{Join: []string{"mate"}})
		}, false},
	} {
		if what == "somebody in another's team" {
			if err := n.Rights.AddTeam(ctx, n.admin, "other", "", nil); err != nil {
				t.Fatal(err)
			}
		}
		if err := c.do(); (err != nil) != c.refused || err != nil && !fault.Is(err, fault.Denied) {
			t.Errorf("%s: %v", what, err)
		}
	}
	if err := repository("nav-charts", catalog.House); err != nil {
		t.Fatal(err)
	}
	if err := n.Rights.AddPrincipal(ctx, pilot, rights.NewPrincipal{Name: "nav-ci", Robot: true}); err != nil {
		t.Fatal(err)
	}
	if err := grant(pilot, "nav-ci", "publisher", "nav-charts"); err != nil {
		t.Fatal(err)
	}
	if err := token("nav-ci"); err != nil {
		t.Error(err)
	}
	// Once it may do something elsewhere, its tokens are not theirs to make any more.
	n.repository(t)
	if err := grant(n.admin, "nav-ci", "publisher", "releases"); err != nil {
		t.Fatal(err)
	}
	if err := token("nav-ci"); !fault.Is(err, fault.Denied) {
		t.Errorf("a token for a robot with rights elsewhere: %v", err)
	}
}

// TestNamedAndWithinRights: what is named must be there, and a token for what its owner
// may not is refused.
func TestNamedAndWithinRights(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	ctx := t.Context()
	n.repository(t)
	if err := n.Rights.AddPrincipal(ctx, n.admin,
		rights.NewPrincipal{Name: "deckhand", Grants: []access.Grant{{Role: access.Reader,
			Repositories: "releases"}}}); err != nil {
		t.Fatal(err)
	}
	deckhand, err := n.Rights.CallerNamed(ctx, "deckhand")
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		by    access.Caller
		token rights.NewToken
		code  string
	}{
		{n.admin, rights.NewToken{Name: "aa", On: []string{"releasez"}}, "no-such-repository"},
		{n.admin, rights.NewToken{Name: "bb", On: []string{"rel*"}}, ""},
		{deckhand, rights.NewToken{Name: "cc", Can: []access.Action{access.Publish}, On: []string{"releases"}},
			"beyond-rights"},
		{deckhand, rights.NewToken{Name: "dd", Can: []access.Action{access.Publish}}, "beyond-rights"},
		{deckhand, rights.NewToken{Name: "ee", Can: []access.Action{access.Read}, On: []string{"releases"}}, ""},
	} {
		_, _, err := n.Rights.AddToken(ctx, c.by, c.token)
		if got := fault.Of(err).Code; err == nil && c.code != "" || err != nil && got != c.code {
			t.Errorf("%+v: %v; want %q", c.token, err, c.code)
		}
	}
	if _, err := n.Rights.AddGrant(ctx, n.admin, rights.NewGrant{Holder: "deckhand", Role: "reader",
		Repositories: "snapshotz"}); fault.Of(err).Code != "no-such-repository" {
		t.Errorf("a grant on nothing: %v", err)
	}
	// A token ends itself, however limited it is.
	secret, _, err := n.Rights.AddToken(ctx, n.admin, rights.NewToken{Name: "found", Can: []access.Action{access.Read}})
	if err != nil {
		t.Fatal(err)
	}
	found, err := n.Rights.ByToken(ctx, secret, rights.Origin{})
	if err != nil {
		t.Fatal(err)
	}
	if err := n.Rights.RevokeToken(ctx, found, "", "found"); err != nil {
		t.Error(err)
	}
	if _, err := n.Rights.ByToken(ctx, secret, rights.Origin{}); err == nil {
		t.Error("it still gets in")
	}
}

func TestEndsSoon(t *testing.T) {
	now := time.Date(2026, 11, 27, 8, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		length, left time.Duration
		soon         bool
	}{
		{90 * 24 * time.Hour, 8 * 24 * time.Hour, false}, {90 * 24 * time.Hour, 6 * 24 * time.Hour, true},
		{12 * time.Hour, 11 * time.Hour, false}, {12 * time.Hour, time.Hour, true},
	} {
		ends := now.Add(c.left)
		if got := rights.EndsSoon(ends.Add(-c.length), ends, now); got != c.soon {
			t.Errorf("%s of %s left: %v", c.left, c.length, got)
		}
	}
}
