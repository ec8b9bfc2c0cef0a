package pointing

import (
	"context"
	"net/url"
	"slices"
	"strings"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
	"crelvo/internal/ecosystem/kinds"
	"crelvo/internal/service/act"
	"crelvo/internal/service/rights"
)

// FindClient finds a package client by its name, with its ecosystem. Of those that every
// ecosystem has, ecosystemName chooses; "" is the first.
func FindClient(name, ecosystemName string) (ecosystem.PackageClient, ecosystem.Ecosystem, error) {
	var names []string
	for _, e := range kinds.All() {
		for _, c := range append(e.Clients(), ecosystem.Curl(e)) {
			if c.Name == name && (ecosystemName == "" || e.Name() == ecosystemName) {
				return c, e, nil
			}
			if !slices.Contains(names, c.Name) {
				names = append(names, c.Name)
			}
		}
	}
	return ecosystem.PackageClient{}, nil, fault.New(fault.NotFound, "no-such-client", "there is no client %q", name).
		WithHint("Choose one of %s.", strings.Join(names, ", "))
}

// Pointed is what a client is to be pointed at, and the least token that does.
type Pointed struct {
	Client    ecosystem.PackageClient
	Ecosystem ecosystem.Ecosystem
	ecosystem.Pointing
	Token rights.NewToken // without a name
}

// maxOwn is how many namespaces of our own a client is told.
const maxOwn = 20

// ownNamespaces are the first parts of names that are claimed, or published in the
// houses of a repository.
func (s *Pointing) ownNamespaces(
	ctx context.Context, r catalog.Repository, ecosystemName string,
) (own []string, err error) {
	for _, c := range s.directory.Known().Claims {
		kind, name, _ := c.Pattern.Parts()
		if scope, rest, ok := strings.Cut(name, "/"); kind == ecosystemName && ok && rest == "*" && !c.Lifted &&
			!strings.Contains(scope, "*") {
			own = append(own, scope)
		}
	}
	var houses []catalog.Repository
	for _, m := range s.directory.MembersOf(r) {
		if m.Own() {
			m.Sight = ""
			houses = append(houses, m.Repository)
		}
	}
	if len(houses) > 0 {
		branches, err := s.DB.Branches(ctx, s.directory.ScopeOf(houses...), 0, ecosystemName, "", "/")
		if err != nil {
			return nil, err
		}
		for _, b := range branches {
			own = append(own, b.Segment)
		}
	}
	slices.Sort(own)
	own = slices.Compact(own)
	return own[:min(len(own), maxOwn)], nil
}

// Point tells how a client is pointed at a repository, to read or also to publish.
// address is that of the service.
func (s *Pointing) Point(
	ctx context.Context, caller access.Caller, name, client, ecosystemName, address string, publish bool, of purl.PURL,
) (Pointed, error) {
	r, err := s.directory.Repository(caller, name, access.Read)
	if err != nil {
		return Pointed{}, err
	}
	if of.Ecosystem != "" {
		ecosystemName = of.Ecosystem
	} else if ecosystemName == "" && r.Fetches() {
		ecosystemName = r.Ecosystem
	}
	if client != "curl" && !r.Fetches() && of.Ecosystem == "" {
		ecosystemName = ""
	}
	c, e, err := FindClient(client, ecosystemName)
	if err != nil {
		if _, other, anyErr := FindClient(client, ""); anyErr == nil {
			return Pointed{}, act.Invalid("other-ecosystem", "%s is a client for %s packages, and this is about %s", client,
				other.Title(), ecosystemName)
		}
		return Pointed{}, err
	}
	p := Pointed{Client: c, Ecosystem: e, Pointing: ecosystem.Pointing{Address: address + "/at/" + r.At() + "/" +
		e.Name() + "/", ID: r.Name, User: caller.Name,
		Everything: r.Gathers(), PURL: of}}
	p.Token = rights.NewToken{Can: []access.Action{access.Read}, On: []string{r.Name}}
	if p.Own, err = s.ownNamespaces(ctx, r, e.Name()); err != nil {
		return Pointed{}, err
	}
	for _, m := range s.directory.MembersOf(r) {
		p.Releases = p.Releases || m.Fetches() || m.Holds.Takes(false)
		p.Snapshots = p.Snapshots || m.Accepts(true)
		if m.Fetches() && m.Ecosystem == e.Name() {
			for _, u := range m.Mirror.Upstreams {
				if at, err := url.Parse(u.URL); err == nil && !slices.Contains(p.Upstreams, at.Host) {
					p.Upstreams = append(p.Upstreams, at.Host)
				}
			}
		}
	}
	add := func(id int64) {
		if name := s.directory.Known().ByID[id].Name; name != "" && !slices.Contains(p.Token.On, name) {
			p.Token.On = append(p.Token.On, name)
		}
	}
	if r.Chain != nil && !r.Chain.OpenMembers {
		for _, m := range s.directory.MembersOf(r) {
			add(m.ID)
		}
	}
	if !publish {
		return p, nil
	}
	if !c.Publishes {
		return p, act.Invalid("does-not-publish", "%s does not publish", c.Title)
	}
	switch {
	case r.AsOf != 0:
	case r.Chain != nil:
		p.PublishReleases, p.PublishSnapshots = r.Chain.ReleasesTo != 0, r.Chain.SnapshotsTo != 0
		add(r.Chain.ReleasesTo)
		add(r.Chain.SnapshotsTo)
	default:
		p.PublishReleases, p.PublishSnapshots = r.Accepts(false), r.Accepts(true)
	}
	if !p.Publishes() {
		return p, fault.New(fault.Conflict, "takes-nothing", "%s takes nothing that is published", r.At()).
			WithHint("Point at a house repository, or at a chain that says where releases or snapshots go.")
	}
	p.Token.Can = []access.Action{access.Publish}
	return p, s.directory.Allow(caller, access.Publish, access.Object{Repository: r, Package: of})
}
