// Package access decides who may do what. It is pure: it is given the caller,
// what is asked and of what, and answers with the reason.
package access

import (
	"slices"
	"strings"
	"time"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/purl"
)

// Action is something that a caller may ask to do.
type Action string

// The actions, and the least role that each needs.
const (
	Read     Action = "read"     // reader
	Publish  Action = "publish"  // publisher
	Promote  Action = "promote"  // promoter
	Remove   Action = "remove"   // curator
	Manage   Action = "manage"   // admin: settings of a repository, and all that is not about one
	SignedIn Action = "signedin" // any known caller
	Anyone   Action = "anyone"   // whoever asks: to sign in, or to see that there is a service
	// ManageSome is for those who manage some repository at least.
	ManageSome Action = "manage-some"
)

// Actions are those that roles are needed for, in the order of the roles.
var Actions = []Action{Read, Publish, Promote, Remove, Manage}

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

// Roles are all roles; each includes those before it.
var Roles = []Role{Reader, Publisher, Promoter, Curator, Admin}

var needed = map[Action]Role{Read: Reader, Publish: Publisher, Promote: Promoter, Remove: Curator, Manage: Admin}

// Needed is the least role that an action needs; "" if it needs none.
func Needed(a Action) Role { return needed[a] }

// Holders of grants besides users, robots and teams.
const (
	Everybody = "signed-in" // everybody who signed in
	Anonymous = "anonymous" // whoever asks
)

// TeamPrefix begins the name of a team where users and robots stand too.
const TeamPrefix = "team:"

// Grant gives a role on the repositories whose name fits a pattern (* for any
// run of characters), for all packages or those that a pattern fits.
type Grant struct {
	ID     int64
	Holder string // a user, a robot, team:NAME, Everybody or Anonymous
	Role   Role
	// Repositories is a name or a pattern.
	Repositories string
	// Packages is the zero Pattern for all.
	Packages purl.Pattern
}

// String says the grant in words: publisher on snapshots for pkg:npm/@skerry/*.
func (g Grant) String() string {
	text := string(g.Role) + " on " + g.Repositories
	if g.Packages != (purl.Pattern{}) {
		text += " for " + g.Packages.String()
	}
	return text
}

// Caller is who asks. The zero Caller is anonymous and may do nothing.
type Caller struct {
	ID    int64
	Name  string
	Robot bool
	// Grants are all that count for the caller, those of teams and of everybody
	// too.
	Grants    []Grant
	Token     string         // the name of the token that was used, if any
	Can       []Action       // what the token is limited to; nil is everything
	On        []string       // the repository patterns that the token is limited to; nil is all
	Only      []purl.Pattern // the packages that the token is limited to; nil is all
	TokenEnds time.Time      // of the token, if one was used
	TokenMade time.Time
	Address   string // where the request came from
	UserAgent string
	// Generation is which state of all rights the caller was found in; 0 for one that
	// came with no secret.
	Generation uint64
	// Build is the build that the request says it belongs to; 0 is none.
	Build int64
	// LabelsLater: what the request publishes gets its labels afterwards, with the times when they were set elsewhere.
	LabelsLater bool
}

// Anonymous tells whether nobody signed in.
func (c Caller) Anonymous() bool { return c.ID == 0 }

// Limited tells whether the caller came with a token that is limited to less
// than its owner may.
func (c Caller) Limited() bool { return c.Can != nil || c.On != nil || c.Only != nil }

// Object is what somebody wants to do something with: a package in a
// repository, or with the zero PURL the repository, or with the zero Repository
// what is about no repository.
type Object struct {
	Repository catalog.Repository
	Package    purl.PURL
}

// Of is a repository as such.
func Of(r catalog.Repository) Object { return Object{Repository: r} }

// Decision is an answer with its reason.
type Decision struct {
	Allowed bool
	// Because is the grant that allowed it; zero where none was needed.
	Because Grant
	// Missing is the role that would have been needed, when it was refused for
	// lack of a grant.
	Missing Role
	// Elsewhere are grants of the caller that would do, but on other repositories
	// or for other packages.
	Elsewhere []Grant
	// TokenLimit is set when the caller's grants would do, but the token that
	// was used is limited to less.
	TokenLimit bool
}

// Decide tells whether the caller may do the action. Of a repository as such it
// may be done if it may be done for some packages; Manage needs all of them.
func Decide(c Caller, action Action, o Object) Decision {
	switch {
	case action == Anyone:
		return Decision{Allowed: true}
	case action == SignedIn:
		return Decision{Allowed: !c.Anonymous()}
	case action == ManageSome:
		for _, g := range c.Grants {
			if g.Role == Admin && g.Packages == (purl.Pattern{}) {
				return Decision{Allowed: !c.Limited(), TokenLimit: c.Limited(), Because: g}
			}
		}
		return Decision{Missing: Admin}
	case action == Read && o.Repository.AnonymousRead:
		return Decision{Allowed: true, Because: Grant{Holder: Anonymous, Role: Reader, Repositories: o.Repository.Name}}
	}
	role := needed[action]
	refused := Decision{Missing: role}
	if role == "" {
		return refused
	}
	for _, g := range c.Grants {
		if !includes(g.Role, role) {
			continue
		}
		if !g.reaches(action, o) {
			refused.Elsewhere = append(refused.Elsewhere, g)
			continue
		}
		if !c.tokenReaches(action, o) {
			return Decision{TokenLimit: true}
		}
		return Decision{Allowed: true, Because: g}
	}
	return refused
}

func (g Grant) reaches(action Action, o Object) bool {
	if !fits(g.Repositories, o.Repository.Name) {
		return false
	}
	return g.Packages == (purl.Pattern{}) || o.among([]purl.Pattern{g.Packages}, action)
}

// among tells whether patterns let the action be done: with a package that fits
// one of them, or with a repository as such if that is not about all it holds.
func (o Object) among(patterns []purl.Pattern, action Action) bool {
	switch {
	case action == Manage:
		return false
	case o.Package.Name == "":
		return o.Repository.Name != ""
	}
	return anyFits(patterns, o.Package)
}

// tokenReaches: who may publish may read what was published.
func (c Caller) tokenReaches(action Action, o Object) bool {
	if c.Can != nil && !slices.Contains(c.Can, action) && (action != Read || len(c.Can) == 0) {
		return false
	}
	if c.On != nil && !slices.ContainsFunc(c.On, func(p string) bool { return fits(p, o.Repository.Name) }) {
		return false
	}
	return c.Only == nil || o.among(c.Only, action)
}

func anyFits(patterns []purl.Pattern, p purl.PURL) bool {
	return slices.ContainsFunc(patterns, func(pattern purl.Pattern) bool { return pattern.MatchName(p) })
}

func includes(has, wants Role) bool {
	return slices.Index(Roles, has) >= slices.Index(Roles, wants)
}

// fits matches a pattern with *; what is about no repository needs a grant on
// all of them.
func fits(pattern, name string) bool {
	switch {
	case pattern == "*" || pattern == name && name != "":
		return true
	case name == "":
		return false
	}
	head, tail, ok := strings.Cut(pattern, "*")
	if !ok || !strings.HasPrefix(name, head) {
		return false
	}
	name = name[len(head):]
	for {
		middle, rest, more := strings.Cut(tail, "*")
		if !more {
			return strings.HasSuffix(name, tail)
		}
		at := strings.Index(name, middle)
		if at < 0 {
			return false
		}
		name, tail = name[at+len(middle):], rest
	}
}

// Sight is what of a repository somebody may read: the packages that fit one
// pattern of each list. With no lists it is all.
type Sight [][]purl.Pattern

// See tells what the caller may read of a repository; ok is false if nothing.
func See(c Caller, r catalog.Repository) (s Sight, ok bool) {
	if !Decide(c, Read, Of(r)).Allowed {
		return nil, false
	}
	if r.AnonymousRead {
		return nil, true
	}
	var granted []purl.Pattern
	for _, g := range c.Grants {
		if !fits(g.Repositories, r.Name) {
			continue
		}
		if g.Packages == (purl.Pattern{}) {
			granted = nil
			break
		}
		granted = append(granted, g.Packages)
	}
	if granted != nil {
		s = append(s, granted)
	}
	if c.Only != nil {
		s = append(s, c.Only)
	}
	return s, true
}

// Shows tells whether a package is in sight.
func (s Sight) Shows(p purl.PURL) bool {
	for _, list := range s {
		if !anyFits(list, p) {
			return false
		}
	}
	return true
}
