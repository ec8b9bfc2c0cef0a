package service

import (
	"context"
	"errors"
	"io"
	"slices"
	"strings"
	"testing"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
	"crelvo/internal/record"
	"crelvo/internal/record/recordtest"
	"crelvo/internal/service/act"
	"crelvo/internal/service/publishing"
	"crelvo/internal/service/repositories"
	"crelvo/internal/service/rights"
)

func parsed(t *testing.T, text string) purl.PURL {
	t.Helper()
	p, err := purl.Parse(text)
	if err != nil {
		t.Fatal(err)
	}
	return p
}

// put publishes a jar as some coordinates.
func (n *node) put(t *testing.T, r catalog.Repository, by access.Caller, as string) error {
	t.Helper()
	given := false
	_, err := n.Publishing.PublishByHand(t.Context(), by, r, parsed(t, as), func() (publishing.ByHand, error) {
		if given {
			return publishing.ByHand{}, io.EOF
		}
		given = true
		return publishing.ByHand{Name: "some.jar", Body: strings.NewReader(jar(t, as))}, nil
	})
	return err
}

// TestSight: everything that lists, counts, finds or answers shows a caller what
// it may read, and nothing else: of a repository of which it may read some
// packages, and through chains with open and with closed members.
func TestSight(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	ctx := t.Context()
	there := map[string]catalog.Repository{}
	add := func(r repositories.NewRepository) {
		t.Helper()
		made, err := n.Repositories.AddRepository(ctx, n.admin, r)
		if err != nil {
			t.Fatal(err)
		}
		there[made.Name] = made
	}
	for _, name := range []string{"public", "secret"} {
		add(repositories.NewRepository{Repository: catalog.Repository{Name: name, Kind: catalog.House,
			Holds: catalog.Releases}})
	}
	members := []repositories.NewMember{{Name: "public"}, {Name: "secret"}}
	add(repositories.NewRepository{Repository: catalog.Repository{Name: "closed", Kind: catalog.Chain,
		Holds: catalog.Both}, Members: members})
	add(repositories.NewRepository{Repository: catalog.Repository{Name: "open", Kind: catalog.Chain, Holds: catalog.Both},
		Members: members, OpenMembers: true})
	add(repositories.NewRepository{Repository: catalog.Repository{Name: "around", Kind: catalog.Chain,
		Holds: catalog.Both}, Members: []repositories.NewMember{{Name: "open"}}})
	const tide, fare, hidden = "pkg:maven/example.skerry/tide@1.0", "pkg:maven/example.skerry.fare/fare@1.0",
		"pkg:maven/example.skerry.hull/hull@1.0"
	for as, in := range map[string]string{tide: "public", fare: "public", hidden: "secret"} {
		if err := n.put(t, there[in], n.admin, as); err != nil {
			t.Fatal(err)
		}
	}
	user := func(name string, grants ...string) access.Caller {
		t.Helper()
		var parsed []access.Grant
		for _, text := range grants {
			on, packages, _ := strings.Cut(text, " ")
			g, err := rights.NewGrant{Holder: name, Role: "reader", Repositories: on, Packages: packages}.Parse()
			if err != nil {
				t.Fatal(err)
			}
			parsed = append(parsed, g)
		}
		if err := n.Rights.AddPrincipal(ctx, n.admin, rights.NewPrincipal{Name: name, Grants: parsed}); err != nil {
			t.Fatal(err)
		}
		c, err := n.Rights.CallerNamed(ctx, name)
		if err != nil {
			t.Fatal(err)
		}
		return c
	}
	for _, c := range []struct {
		caller access.Caller
		sees   map[string]string // by repository; those that are not there cannot be read
	}{
		{user("all-of-public", "public"), map[string]string{"public": "fare tide"}},
		{user("tide-only", "public pkg:maven/example.skerry/*"), map[string]string{"public": "tide"}},
		{user("closed-only", "closed"), map[string]string{"closed": ""}},
		{user("closed-and-public", "closed", "public"), map[string]string{"closed": "fare tide", "public": "fare tide"}},
		{user("closed-and-tide", "closed", "public pkg:maven/*/tide"), map[string]string{"closed": "tide", "public": "tide"}},
		{user("open-only", "open"), map[string]string{"open": "fare hull tide"}},
		{user("open-for-hull", "open pkg:maven/example.skerry.hull/*"), map[string]string{"open": "hull"}},
		{user("around-only", "around"), map[string]string{"around": ""}},
		{user("around-and-open", "around", "open"), map[string]string{"around": "fare hull tide", "open": "fare hull tide"}},
		{n.admin, map[string]string{"public": "fare tide", "secret": "hull", "closed": "fare hull tide",
			"open": "fare hull tide", "around": "fare hull tide"}},
	} {
		for name := range there {
			what := c.caller.Name + " in " + name
			want, readable := c.sees[name]
			r, err := n.Directory.Repository(c.caller, name, access.Read)
			if !readable {
				if fault.Of(err).Code != "no-such-repository" {
					t.Errorf("%s: %v; it is not to be read", what, err)
				}
				if _, err := n.Search.Search(ctx, c.caller, "", name, 10, 0); fault.Of(err).Code != "no-such-repository" {
					t.Errorf("%s: searched: %v", what, err)
				}
				continue
			}
			if err != nil {
				t.Errorf("%s: %v", what, err)
				continue
			}
			check := func(how string, names []string) {
				t.Helper()
				slices.Sort(names)
				if got := strings.Join(names, " "); got != want {
					t.Errorf("%s shows by %s %q; want %q", what, how, got, want)
				}
			}
			found, err := n.Search.Search(ctx, c.caller, "", name, 10, 0)
			if err != nil {
				t.Fatal(err)
			}
			var names []string
			for _, f := range found {
				names = append(names, f.Name)
			}
			check("search", names)
			hits, total, err := n.Search.Hits(ctx, r, "maven", ecosystem.Search{Limit: 10})
			if err != nil || total != len(hits) {
				t.Fatal(total, err)
			}
			names = nil
			for _, h := range hits {
				names = append(names, h.Name)
			}
			check("a client's search", names)
			check("the tree", n.tree(t, r, "example"))
			names = nil
			var explained []string
			for _, as := range []string{tide, fare, hidden} {
				p := parsed(t, as)
				if _, err := n.Resolving.Package(ctx, r.Key(p.Ecosystem, p.Namespace, p.Name)); err == nil {
					names = append(names, p.Name)
				} else if !errors.Is(err, ecosystem.ErrNoPackage) {
					t.Errorf("%s: %v", what, err)
				}
				e, err := n.Resolving.Explain(ctx, c.caller, p, name)
				if err != nil {
					t.Fatal(err)
				}
				for _, step := range e.Steps {
					if !strings.Contains(want, p.Name) && step.Name == "secret" && c.caller.Name != "admin" && name != "open" {
						t.Errorf("%s: the explanation of %s names %s", what, p.Name, step.Name)
					}
				}
				if e.Ours != "" && !strings.Contains(want, p.Name) {
					t.Errorf("%s: the explanation of %s says that the name is ours, %s", what, p.Name, e.Ours)
				}
				if len(e.Answering()) > 0 {
					explained = append(explained, p.Name)
				}
			}
			check("documents", names)
			check("explanations", explained)
			check("files", n.fileNames(t, r, tide, fare, hidden))
			totals, err := n.Repositories.Totals(ctx, r)
			if err != nil {
				t.Fatal(err)
			}
			if r.Kind == catalog.House && totals[r.ID].Packages != int64(len(strings.Fields(want))) {
				t.Errorf("%s counts %d packages; want %q", what, totals[r.ID].Packages, want)
			}
			ecosystems, err := n.Repositories.EcosystemsIn(ctx, r)
			if err != nil || (len(ecosystems) > 0) != (want != "") {
				t.Errorf("%s has %v, %v; want something: %v", what, ecosystems, err, want != "")
			}
			then, err := n.Repositories.TotalAsOf(ctx, func() catalog.Repository {
				r := r
				r.AsOf = catalog.MomentOf(time.Now().Add(time.Hour))
				return r
			}())
			if err != nil || then.Packages != int64(len(strings.Fields(want))) {
				t.Errorf("%s counted %d packages as of a moment, %v; want %q", what, then.Packages, err, want)
			}
			for _, as := range []string{tide, fare, hidden} {
				p := parsed(t, as)
				for _, in := range []string{"public", "secret"} {
					_, heard := n.Directory.Heard(c.caller, record.Change{Kind: record.OfPackage, Repository: in, Ecosystem: "maven",
						Namespace: p.Namespace, Name: p.Name})
					if heard && !strings.Contains(c.sees[in], p.Name) && (in == "secret") == (p.Name == "hull") {
						t.Errorf("%s hears of %s in %s", c.caller.Name, p.Name, in)
					}
				}
			}
		}
	}
}

// tree lists the names of packages that the tree of a repository shows below a
// namespace.
func (n *node) tree(t *testing.T, r catalog.Repository, namespace string) (names []string) {
	t.Helper()
	branches, packages, err := n.Resolving.Below(t.Context(), r, "maven", namespace, ".")
	if err != nil {
		t.Fatal(err)
	}
	for _, p := range packages {
		names = append(names, p.Name)
	}
	for _, b := range branches {
		names = append(names, n.tree(t, r, namespace+"."+b.Segment)...)
	}
	return names
}

func (n *node) fileNames(t *testing.T, r catalog.Repository, all ...string) (names []string) {
	t.Helper()
	for _, as := range all {
		p := parsed(t, as)
		_, err := n.Resolving.File(t.Context(), catalog.FileQuestion{Key: r.Key(p.Ecosystem, p.Namespace, p.Name),
			Version: p.Version, Name: p.Name + "-1.0.jar"})
		if err == nil {
			names = append(names, p.Name)
		} else if !errors.Is(err, ecosystem.ErrNoFile) {
			t.Error(err)
		}
	}
	return names
}

// TestPartialPublishing: a publisher for some packages publishes those.
func TestPartialPublishing(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	r := n.repository(t)
	g, err := rights.NewGrant{Holder: "ci-tide", Role: "publisher", Repositories: "releases",
		Packages: "pkg:maven/example.skerry.tide/*"}.Parse()
	if err != nil {
		t.Fatal(err)
	}
	if err := n.Rights.AddPrincipal(t.Context(), n.admin,
		rights.NewPrincipal{Name: "ci-tide", Robot: true, Grants: []access.Grant{g}}); err != nil {
		t.Fatal(err)
	}
	robot, err := n.Rights.CallerNamed(t.Context(), "ci-tide")
	if err != nil {
		t.Fatal(err)
	}
	// As it is found for a caller: with a part of it in sight.
	if r, err = n.Directory.Repository(robot, "releases", access.Publish); err != nil || r.Sight == "" {
		t.Fatal(r.Sight, err)
	}
	if err := n.put(t, r, robot, "pkg:maven/example.skerry.tide/model@1.0"); err != nil {
		t.Error(err)
	}
	err = n.put(t, r, robot, "pkg:maven/example.skerry.fare/engine@1.0")
	f := fault.Of(err)
	if f.Code != "role-missing" ||
		f.Message != "ci-tide needs the role publisher on releases for pkg:maven/example.skerry.fare/engine to publish" ||
		f.Hint != "ci-tide is publisher on releases for pkg:maven/example.skerry.tide/*. admin can grant it." {
		t.Errorf("%v: %s", err, f.Hint)
	}
	key := r.Key("maven", "example.skerry.tide", "model")
	if err := n.Publishing.Withdraw(t.Context(), robot, key, map[string]*string{"1.0": new(string)}); err != nil {
		t.Error(err)
	}
	if err := n.Retention.Remove(t.Context(), robot, key, []string{"1.0"}); fault.Of(err).Code != "role-missing" {
		t.Errorf("removed: %v", err)
	}
}

// TestAdminRemains: whatever is taken away, somebody can give it back.
func TestAdminRemains(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	ctx := t.Context()
	grants, err := n.Rights.Grants(ctx, n.admin)
	if err != nil || len(grants) != 1 {
		t.Fatal(grants, err)
	}
	yes := true
	attempts := map[string]func(context.Context) error{
		"the grant": func(ctx context.Context) error { return n.Rights.RemoveGrant(ctx, n.admin, grants[0].ID) },
		"the user":  func(ctx context.Context) error { return n.Rights.RemovePrincipal(ctx, n.admin, "admin") },
		"the way in": func(ctx context.Context) error {
			return n.Rights.EditPrincipal(ctx, n.admin, "admin", rights.PrincipalChange{Blocked: &yes})
		},
	}
	for what, attempt := range attempts {
		if err := attempt(ctx); fault.Of(err).Code != "last-admin" {
			t.Errorf("%s: %v", what, err)
		}
	}
	if c, err := n.Rights.CallerNamed(ctx, "admin"); err != nil ||
		n.Directory.Allow(c, access.Manage, act.Everything) != nil {
		t.Errorf("the admin after that: %v, %v", c.Grants, err)
	}
	// Through a team it counts as well; then the team must stay.
	if err := n.Rights.AddPrincipal(ctx, n.admin, rights.NewPrincipal{Name: "traffic-office"}); err != nil {
		t.Fatal(err)
	}
	if err := n.Rights.AddTeam(ctx, n.admin, "masters", "", []string{"traffic-office"}); err != nil {
		t.Fatal(err)
	}
	if _, err := n.Rights.AddGrant(ctx, n.admin, rights.NewGrant{Holder: "team:masters", Role: "admin",
		Repositories: "*"}); err != nil {
		t.Fatal(err)
	}
	if err := n.Rights.RemoveGrant(ctx, n.admin, grants[0].ID); err != nil {
		t.Fatal(err)
	}
	master, err := n.Rights.CallerNamed(ctx, "traffic-office")
	if err != nil {
		t.Fatal(err)
	}
	if err := n.Rights.EditTeam(ctx, master, "masters",
		rights.TeamChange{Leave: []string{"traffic-office"}}); fault.Of(err).Code != "last-admin" {
		t.Errorf("leaving: %v", err)
	}
	if err := n.Rights.RemoveTeam(ctx, master, "masters"); fault.Of(err).Code != "last-admin" {
		t.Errorf("removing the team: %v", err)
	}
}

// TestEventsVerify: whatever is changed in the record is found.
func TestEventsVerify(t *testing.T) {
	url := recordtest.URL(t)
	n := newNode(t, url)
	for _, name := range []string{"cook", "bosun", "stoker"} {
		if err := n.Rights.AddPrincipal(t.Context(), n.admin, rights.NewPrincipal{Name: name}); err != nil {
			t.Fatal(err)
		}
	}
	whole, err := n.Rights.VerifyEvents(t.Context(), n.admin, 0, "")
	if err != nil || whole.Broken != 0 || whole.Events < 4 {
		t.Fatal(whole, err)
	}
	if again, err := n.Rights.VerifyEvents(t.Context(), n.admin, whole.Last, whole.Hash); err != nil || again.Broken != 0 {
		t.Error(again, err)
	}
	db := recordtest.Open(t, url)
	if _, err := db.ExecContext(t.Context(), "alter table event disable trigger event_stays"); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		change string
		broken int64
	}{
		{"update event set subject = 'nobody' where id = 3", 3},
		{"delete from event where id = 2", 3},
		{"update event set id = 2 where id = 3", 2},
		{"delete from event where id < 3", 4},
	} {
		if _, err := db.ExecContext(t.Context(), c.change); err != nil {
			t.Fatal(err)
		}
		if v, err := n.Rights.VerifyEvents(t.Context(), n.admin, 0, ""); err != nil || v.Broken != c.broken {
			t.Errorf("%s: %+v, %v; want %d", c.change, v, err, c.broken)
		}
	}
	// An end that was cut off leaves a chain that is whole; what was noted tells.
	n2 := newNode(t, recordtest.URL(t))
	if err := n2.Rights.AddPrincipal(t.Context(), n2.admin, rights.NewPrincipal{Name: "cook"}); err != nil {
		t.Fatal(err)
	}
	v, err := n2.Rights.VerifyEvents(t.Context(), n2.admin, 0, "")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := n2.DB.ExecContext(t.Context(), "alter table event disable trigger event_stays"); err != nil {
		t.Fatal(err)
	}
	if _, err := n2.DB.ExecContext(t.Context(), "delete from event where id = $1", v.Last); err != nil {
		t.Fatal(err)
	}
	if cut, err := n2.Rights.VerifyEvents(t.Context(), n2.admin, v.Last, v.Hash); err != nil || cut.Broken != v.Last {
		t.Errorf("%+v, %v; want %d to be missed", cut, err, v.Last)
	}
}
