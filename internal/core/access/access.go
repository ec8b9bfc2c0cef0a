// Package access decides who may do what. It is pure: it is given the caller,
// what is asked and the repository, and answers with the reason.
package access

import (
	"path"
	"slices"
	"strings"

	"crelvo/internal/core/catalog"
)

// Action is something that a caller may ask to do.
type Action string

// The actions, and the least role that each needs.
const (
	Read     Action = "read"     // reader
	Publish  Action = "publish"  // publisher
	Remove   Action = "remove"   // curator
	Manage   Action = "manage"   // admin: settings of a repository, and all that is not about one
	SignedIn Action = "signedin" // any known caller
	Anyone   Action = "anyone"   // whoever asks: to sign in, or to see that there is a service
)

// Role is what a grant gives.
type Role string

// The roles. Each includes those before it.
const (
	Reader    Role = "reader"
	Publisher Role = "publisher"
	Promoter  Role = "promoter"
	Curator   Role = "curator"
	Admin     Role = "admin"
)

var ladder = []Role{Reader, Publisher, Promoter, Curator, Admin}

var needed = map[Action]Role{Read: Reader, Publish: Publisher, Remove: Curator, Manage: Admin}

// Grant gives a role on the repositories whose name fits a pattern
// (* for any run of characters).
type Grant struct {
	Role         Role
	Repositories string
}

// Caller is who asks. The zero Caller is anonymous.
type Caller struct {
	ID        int64
	Name      string
	Robot     bool
	Grants    []Grant
	Token     string   // the name of the token that was used, if any
	Can       []Action // what the token is limited to; nil is everything
	On        []string // the repository patterns that the token is limited to; nil is all
	Address   string   // where the request came from
	UserAgent string
}

// Anonymous tells whether nobody signed in.
func (c Caller) Anonymous() bool { return c.ID == 0 }

// Decision is an answer with its reason.
type Decision struct {
	Allowed bool
	// Missing is the role that would have been needed, when it was refused for
	// lack of a grant.
	Missing Role
	// TokenLimit is set when the caller's grants would do, but the token that
	// was used is limited to less.
	TokenLimit bool
}

// Decide tells whether the caller may do the action on the repository. For
// actions that are about no repository, give the zero one.
func Decide(c Caller, action Action, repository catalog.Repository) Decision {
	if action == Anyone {
		return Decision{Allowed: true}
	}
	if action == SignedIn {
		return Decision{Allowed: !c.Anonymous()}
	}
	if action == Read && repository.AnonymousRead {
		return Decision{Allowed: true}
	}
	role := needed[action]
	granted := slices.ContainsFunc(c.Grants, func(g Grant) bool {
		return role != "" && includes(g.Role, role) && fits(g.Repositories, repository.Name)
	})
	if !granted {
		return Decision{Missing: role}
	}
	if c.Can != nil && !tokenCan(c.Can, action) ||
		c.On != nil && !slices.ContainsFunc(c.On, func(p string) bool { return fits(p, repository.Name) }) {
		return Decision{TokenLimit: true}
	}
	return Decision{Allowed: true}
}

// tokenCan: who may publish may read what was published.
func tokenCan(can []Action, action Action) bool {
	return slices.Contains(can, action) || action == Read && len(can) > 0
}

func includes(has, wants Role) bool {
	return slices.Index(ladder, has) >= slices.Index(ladder, wants)
}

func fits(pattern, name string) bool {
	// What is about no repository needs a grant on all of them.
	if name == "" {
		return pattern == "*"
	}
	ok, err := path.Match(pattern, name)
	return err == nil && ok && !strings.ContainsAny(pattern, "[\\?")
}
