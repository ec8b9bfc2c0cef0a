package access

import (
	"testing"

	"crelvo/internal/core/catalog"
)

func TestDecide(t *testing.T) {
	releases, open := catalog.Repository{Name: "releases"}, catalog.Repository{Name: "open", AnonymousRead: true}
	user := func(grants ...Grant) Caller { return Caller{ID: 1, Name: "deckhand", Grants: grants} }
	limited := func(can []Action, on []string, grants ...Grant) Caller {
		c := user(grants...)
		c.Token, c.Can, c.On = "t", can, on
		return c
	}
	for _, c := range []struct {
		name       string
		caller     Caller
		action     Action
		repository catalog.Repository
		want       Decision
	}{
		{"nobody reads what is closed", Caller{}, Read, releases, Decision{Missing: Reader}},
		{"nobody reads what is open", Caller{}, Read, open, Decision{Allowed: true}},
		{"nobody publishes to what is open", Caller{}, Publish, open, Decision{Missing: Publisher}},
		{"a reader reads", user(Grant{Reader, "releases"}), Read, releases, Decision{Allowed: true}},
		{"a reader does not publish", user(Grant{Reader, "releases"}), Publish, releases, Decision{Missing: Publisher}},
		{"a publisher reads too", user(Grant{Publisher, "rel*"}), Read, releases, Decision{Allowed: true}},
		{"a publisher does not remove", user(Grant{Publisher, "*"}), Remove, releases, Decision{Missing: Curator}},
		{"a curator removes", user(Grant{Curator, "*"}), Remove, releases, Decision{Allowed: true}},
		{"a grant elsewhere", user(Grant{Admin, "staging"}), Read, releases, Decision{Missing: Reader}},
		{"an admin of one repository manages it", user(Grant{Admin, "releases"}), Manage, releases, Decision{Allowed: true}},
		{"but not everything", user(Grant{Admin, "releases"}), Manage, catalog.Repository{}, Decision{Missing: Admin}},
		{"an admin manages everything", user(Grant{Admin, "*"}), Manage, catalog.Repository{}, Decision{Allowed: true}},
		{"a token for reading reads", limited([]Action{Read}, nil, Grant{Publisher, "*"}), Read, releases, Decision{Allowed: true}},
		{"a token for reading does not publish", limited([]Action{Read}, nil, Grant{Publisher, "*"}), Publish, releases, Decision{TokenLimit: true}},
		{"a token for publishing reads", limited([]Action{Publish}, nil, Grant{Publisher, "*"}), Read, releases, Decision{Allowed: true}},
		{"a token for another repository", limited(nil, []string{"snap*"}, Grant{Admin, "*"}), Read, releases, Decision{TokenLimit: true}},
		{"a token gives no more than its owner has", limited([]Action{Publish}, nil, Grant{Reader, "*"}), Publish, releases, Decision{Missing: Publisher}},
		{"a token for one repository does not manage everything", limited(nil, []string{"releases"}, Grant{Admin, "*"}), Manage, catalog.Repository{}, Decision{TokenLimit: true}},
		{"an unknown action is nobody's", user(Grant{Admin, "*"}), Action("sink"), releases, Decision{}},
		{"a damaged pattern fits nothing", user(Grant{Admin, "[a-z"}), Read, releases, Decision{Missing: Reader}},
		{"signed in", user(), SignedIn, catalog.Repository{}, Decision{Allowed: true}},
		{"not signed in", Caller{}, SignedIn, catalog.Repository{}, Decision{}},
	} {
		if got := Decide(c.caller, c.action, c.repository); got != c.want {
			t.Errorf("%s: %+v; want %+v", c.name, got, c.want)
		}
	}
}
