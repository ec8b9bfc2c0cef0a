package access

import (
	"testing"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/purl"
)

func pattern(t *testing.T, text string) purl.Pattern {
	t.Helper()
	p, err := purl.ParsePattern(text)
	if err != nil {
		t.Fatal(err)
	}
	return p
}

func TestDecide(t *testing.T) {
	releases, open := catalog.Repository{Name: "releases"}, catalog.Repository{Name: "open", AnonymousRead: true}
	grant := func(r Role, on string) Grant { return Grant{Role: r, Repositories: on} }
	scoped := func(r Role, on, packages string) Grant {
		return Grant{Role: r, Repositories: on, Packages: pattern(t, packages)}
	}
	user := func(grants ...Grant) Caller { return Caller{ID: 1, Name: "deckhand", Grants: grants} }
	limited := func(can []Action, on []string, grants ...Grant) Caller {
		c := user(grants...)
		c.Token, c.Can, c.On = "t", can, on
		return c
	}
	only := func(packages string, grants ...Grant) Caller {
		c := user(grants...)
		c.Token, c.Only = "t", []purl.Pattern{pattern(t, packages)}
		return c
	}
	deck, other := purl.PURL{Ecosystem: "npm", Namespace: "@skerry", Name: "deck-ui"},
		purl.PURL{Ecosystem: "npm", Name: "kelp-colors"}
	for _, c := range []struct {
		name       string
		caller     Caller
		action     Action
		repository catalog.Repository
		of         purl.PURL
		want       string // yes, token, or the role that is missing
	}{
		{"nobody reads what is closed", Caller{}, Read, releases, deck, "reader"},
		{"nobody reads what is open", Caller{}, Read, open, deck, "yes"},
		{"nobody publishes to what is open", Caller{}, Publish, open, deck, "publisher"},
		{"a reader reads", user(grant(Reader, "releases")), Read, releases, deck, "yes"},
		{"a reader does not publish", user(grant(Reader, "releases")), Publish, releases, deck, "publisher"},
		{"a publisher reads too", user(grant(Publisher, "rel*")), Read, releases, deck, "yes"},
		{"a publisher does not promote", user(grant(Publisher, "*")), Promote, releases, deck, "promoter"},
		{"a promoter does not remove", user(grant(Promoter, "*")), Remove, releases, deck, "curator"},
		{"a curator removes", user(grant(Curator, "*")), Remove, releases, deck, "yes"},
		{"a grant elsewhere", user(grant(Admin, "staging")), Read, releases, deck, "reader"},
		{"an admin of one repository manages it", user(grant(Admin, "releases")), Manage, releases, purl.PURL{}, "yes"},
		{"but not everything", user(grant(Admin, "releases")), Manage, catalog.Repository{}, purl.PURL{}, "admin"},
		{"an admin manages everything", user(grant(Admin, "*")), Manage, catalog.Repository{}, purl.PURL{}, "yes"},
		{"a pattern in the middle", user(grant(Reader, "r*l*s")), Read, releases, deck, "yes"},
		{"a pattern that overlaps itself", user(grant(Reader, "releas*ases")), Read, releases, deck, "reader"},
		{"a grant for packages reaches them", user(scoped(Publisher, "releases", "pkg:npm/@skerry/*")), Publish, releases,
			deck, "yes"},
		{"and no others", user(scoped(Publisher, "releases", "pkg:npm/@skerry/*")), Publish, releases, other, "publisher"},
		{"not for reading either", user(scoped(Publisher, "releases", "pkg:npm/@skerry/*")), Read, releases, other, "reader"},
		{"but lets in at the door", user(scoped(Publisher, "releases", "pkg:npm/@skerry/*")), Publish, releases, purl.PURL{},
			"yes"},
		{"a grant for packages manages nothing", user(scoped(Admin, "*", "pkg:npm/@skerry/*")), Manage, releases, purl.PURL{},
			"admin"},
		{"nor everything", user(scoped(Admin, "*", "pkg:*/*")), Manage, catalog.Repository{}, purl.PURL{}, "admin"},
		{"nor does it read everything", user(scoped(Admin, "*", "pkg:*/*")), Read, catalog.Repository{}, purl.PURL{},
			"reader"},
		{"a token for reading reads", limited([]Action{Read}, nil, grant(Publisher, "*")), Read, releases, deck, "yes"},
		{"a token for reading does not publish", limited([]Action{Read}, nil, grant(Publisher, "*")), Publish, releases, deck,
			"token"},
		{"a token for publishing reads", limited([]Action{Publish}, nil, grant(Publisher, "*")), Read, releases, deck, "yes"},
		{"a token for nothing", limited([]Action{}, nil, grant(Publisher, "*")), Read, releases, deck, "token"},
		{"a token for another repository", limited(nil, []string{"snap*"}, grant(Admin, "*")), Read, releases, deck, "token"},
		{"a token gives no more than its owner has", limited([]Action{Publish}, nil, grant(Reader, "*")), Publish, releases,
			deck, "publisher"},
		{"a token for one repository does not manage everything", limited(nil, []string{"releases"}, grant(Admin, "*")),
			Manage, catalog.Repository{}, purl.PURL{}, "token"},
		{"a token for packages", only("pkg:npm/@skerry/*", grant(Admin, "*")), Publish, releases, deck, "yes"},
		{"a token for other packages", only("pkg:npm/@skerry/*", grant(Admin, "*")), Publish, releases, other, "token"},
		{"a token for packages manages nothing", only("pkg:npm/@skerry/*", grant(Admin, "*")), Manage, releases, purl.PURL{},
			"token"},
		{"an unknown action is nobody's", user(grant(Admin, "*")), Action("sink"), releases, deck, ""},
		{"a pattern is no regular expression", user(grant(Admin, "[a-z]eleases")), Read, releases, deck, "reader"},
		{"signed in", user(), SignedIn, catalog.Repository{}, purl.PURL{}, "yes"},
		{"not signed in", Caller{}, SignedIn, catalog.Repository{}, purl.PURL{}, ""},
	} {
		d := Decide(c.caller, c.action, Object{c.repository, c.of})
		got := string(d.Missing)
		switch {
		case d.Allowed:
			got = "yes"
		case d.TokenLimit:
			got = "token"
		}
		if got != c.want {
			t.Errorf("%s: %q; want %q", c.name, got, c.want)
		}
	}
}

func TestReasons(t *testing.T) {
	team := Grant{Holder: "team:berth", Role: Publisher, Repositories: "snapshots"}
	reader := Grant{Holder: "deckhand", Role: Reader, Repositories: "*"}
	c := Caller{ID: 1, Grants: []Grant{reader, team}}
	if d := Decide(c, Publish, Of(catalog.Repository{Name: "snapshots"})); d.Because != team {
		t.Errorf("allowed because of %v", d.Because)
	}
	d := Decide(c, Publish, Of(catalog.Repository{Name: "releases"}))
	if d.Allowed || len(d.Elsewhere) != 1 || d.Elsewhere[0] != team {
		t.Errorf("refused with %+v; want the grant on snapshots as the one that is elsewhere", d)
	}
}

func TestSight(t *testing.T) {
	r := catalog.Repository{Name: "snapshots"}
	deck, kelp := purl.PURL{Ecosystem: "npm", Namespace: "@skerry", Name: "deck-ui"},
		purl.PURL{Ecosystem: "npm", Name: "kelp-colors"}
	npm := Grant{Role: Publisher, Repositories: "snap*", Packages: pattern(t, "pkg:npm/*")}
	ours := Grant{Role: Reader, Repositories: "*", Packages: pattern(t, "pkg:npm/@skerry/*")}
	all := Grant{Role: Reader, Repositories: "snapshots"}
	for _, c := range []struct {
		name       string
		caller     Caller
		ok         bool
		deck, kelp bool
	}{
		{"nobody", Caller{}, false, false, false},
		{"all", Caller{ID: 1, Grants: []Grant{ours, all}}, true, true, true},
		{"ours", Caller{ID: 1, Grants: []Grant{ours}}, true, true, false},
		{"either", Caller{ID: 1, Grants: []Grant{ours, npm}}, true, true, true},
		{"both a grant and a token", Caller{ID: 1, Grants: []Grant{npm}, Only: []purl.Pattern{pattern(t, "pkg:npm/kelp*")}},
			true, false, true},
	} {
		s, ok := See(c.caller, r)
		if ok != c.ok {
			t.Errorf("%s: %v; want %v", c.name, ok, c.ok)
			continue
		}
		if ok && (s.Shows(deck) != c.deck || s.Shows(kelp) != c.kelp) {
			t.Errorf("%s: shows %v, %v; want %v, %v", c.name, s.Shows(deck), s.Shows(kelp), c.deck, c.kelp)
		}
	}
}

// TestPatternsOfPatterns: who manages all names that a pattern fits manages the
// pattern, and nobody else does.
func TestPatternsOfPatterns(t *testing.T) {
	for _, c := range []struct {
		has, gives string
		want       bool
	}{
		{"*", "releases", true}, {"*", "*", true}, {"*", "shore-*", true}, {"shore-*", "shore-npm", true},
		{"shore-*", "shore-n*", true},
		{"shore-npm", "shore-*", false}, {"shore-*", "*", false}, {"releases", "staging", false},
	} {
		admin := Caller{ID: 1, Grants: []Grant{{Role: Admin, Repositories: c.has}}}
		if got := Decide(admin, Manage, Of(catalog.Repository{Name: c.gives})).Allowed; got != c.want {
			t.Errorf("an admin of %s manages %s: %v; want %v", c.has, c.gives, got, c.want)
		}
	}
}

func TestTokenWhole(t *testing.T) {
	body := TokenPrefix + "aaaabbbbccccddddeeeeffffgggghhhh"
	whole := body + CheckDigits(body)
	for text, want := range map[string]bool{whole: true, whole[:len(whole)-1]: false, whole + "\n": false, "": false,
		whole[:20] + "\n" + whole[20:]: false, "other": false} {
		if TokenWhole(text) != want {
			t.Errorf("TokenWhole(%q) is %v", text, !want)
		}
	}
}
