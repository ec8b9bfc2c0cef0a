package repositories

import (
	"cmp"
	"context"
	"net/url"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/chain"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
	"crelvo/internal/service/act"
	"crelvo/internal/service/schedule"
	"crelvo/internal/upstream"
)

// The settings that a mirror has if nothing else is said.
const (
	defaultFreshness = 10 * time.Minute
	defaultAbsentFor = 5 * time.Minute
	defaultConnect   = 5 * time.Second
	defaultFirstByte = 20 * time.Second
	defaultSilence   = 30 * time.Second
	defaultParallel  = 16
	defaultLargest   = 8 << 30
	maxUpstreams     = 8
	maxPatterns      = 500
	maxMembers       = 100
)

// CheckMirror fills in what was left out of the settings of a mirror, and
// checks them.
func (s *Repositories) CheckMirror(ctx context.Context, r *catalog.Repository) error {
	m := r.Mirror
	if m == nil {
		return act.Invalid("no-upstream", "a mirror needs the address that it fetches from").
			WithHint("Give at least one upstream.")
	}
	if e := s.Ecosystems[r.Ecosystem]; e == nil {
		return act.Invalid("no-such-ecosystem", "this server does not know the ecosystem %q", r.Ecosystem)
	} else if _, ok := e.(ecosystem.Mirrored); !ok {
		return act.Invalid("not-mirrored", "packages of the ecosystem %s cannot be mirrored", r.Ecosystem)
	}
	if len(m.Upstreams) == 0 || len(m.Upstreams) > maxUpstreams {
		return act.Invalid("bad-upstreams", "a mirror has 1 to %d upstreams, not %d", maxUpstreams, len(m.Upstreams)).
			WithHint("Give its address first, then those to fall back on.")
	}
	m.Upstreams = slices.Clone(m.Upstreams)
	for i := range m.Upstreams {
		u := &m.Upstreams[i]
		if guided, ok := s.Ecosystems[r.Ecosystem].(ecosystem.Guided); ok {
			// Its clients are given the address of the entrance itself.
			u.URL = strings.TrimSuffix(strings.TrimSpace(u.URL), "/"+guided.Entrance())
		}
		address, err := webAddress(u.URL)
		if err != nil {
			return err
		}
		if slices.ContainsFunc(m.Upstreams[:i], func(o catalog.Upstream) bool { return o.URL == address }) {
			return act.Invalid("bad-upstreams", "the upstream %s is there twice", address)
		}
		u.URL, u.Private = address, upstream.LeadsToPrivate(ctx, address)
	}
	m.Freshness, m.AbsentFor = cmp.Or(m.Freshness, defaultFreshness), cmp.Or(m.AbsentFor, defaultAbsentFor)
	m.Connect, m.FirstByte, m.Silence = cmp.Or(m.Connect, defaultConnect), cmp.Or(m.FirstByte, defaultFirstByte),
		cmp.Or(m.Silence, defaultSilence)
	m.Parallel, m.Largest = cmp.Or(m.Parallel, defaultParallel), cmp.Or(m.Largest, defaultLargest)
	for what, d := range map[string]time.Duration{"freshness": m.Freshness,
		"the time for which absence is remembered": m.AbsentFor,
		"the time to connect":                      m.Connect, "the time until the first byte": m.FirstByte,
		"the time of silence": m.Silence} {
		if d < 50*time.Millisecond || d > 366*24*time.Hour {
			return act.Invalid("bad-time", "%s cannot be %s", what, d)
		}
	}
	if m.Parallel < 1 || m.Parallel > 1000 || m.Largest < 1 {
		return act.Invalid("bad-limit", "a mirror makes 1 to 1000 requests at once, and takes files of at least one byte")
	}
	if m.Proxy != "" {
		if u, err := url.Parse(m.Proxy); err != nil || u.Host == "" ||
			u.Scheme != "http" && u.Scheme != "https" && u.Scheme != "socks5" {
			return act.Invalid("bad-proxy", "the address of the proxy cannot be used").
				WithHint("Write it like http://proxy.skerry.example:3128.")
		}
	}
	for _, host := range m.RedirectTo {
		if _, err := path.Match(host, "x"); err != nil || host == "" || strings.ContainsAny(host, "/ ") {
			return act.Invalid("bad-host", "%q is no host to redirect to", host).
				WithHint("Write it like files.openshore.example or *.openshore.example.")
		}
	}
	return CheckPatterns(m, r.Ecosystem)
}

// webAddress checks the address of an upstream, and gives it with a slash at
// the end.
func webAddress(text string) (string, error) {
	u, err := url.Parse(strings.TrimSpace(text))
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return "", act.Invalid("bad-address", "%q is no address of an upstream", text).
			WithHint("Write it like https://maven.openshore.example/.")
	}
	if u.User != nil {
		return "", act.Invalid("bad-address", "the address of an upstream cannot have a password in it").
			WithHint("Give user and secret apart from it; they are kept encrypted.")
	}
	if u.RawQuery != "" || u.Fragment != "" {
		return "", act.Invalid("bad-address", "the address of an upstream cannot have a query").
			WithHint("Leave out what follows ? or #.")
	}
	u.Path = strings.TrimSuffix(u.Path, "/") + "/"
	u.RawPath = ""
	return u.String(), nil
}

// platformForm is a system with an architecture, and perhaps a variant.
var platformForm = regexp.MustCompile(`^[a-z0-9*_.-]{1,30}(/[a-z0-9*_.-]{1,30}){1,2}$`)

func CheckPatterns(m *catalog.MirrorSettings, ecosystem string) error {
	for _, list := range [][]string{m.Allow, m.Deny, m.Prefetch.Patterns} {
		if len(list) > maxPatterns {
			return act.Invalid("too-many-patterns", "a list has at most %d patterns", maxPatterns)
		}
		for _, text := range list {
			if _, err := purl.ParsePattern(text); err != nil {
				return err
			}
		}
	}
	p := &m.Prefetch
	if p.Follow && len(m.Upstreams) > 0 {
		if _, _, err := CrelvoAt(m.Upstreams[0].URL, ecosystem); err != nil {
			return err
		}
	}
	if len(p.Patterns) == 0 {
		if p.Schedule != "" {
			return act.Invalid("no-patterns", "a prefetch schedule needs patterns").
				WithHint("Say what is to be fetched, such as pkg:maven/org.openshore/*.")
		}
		*p = catalog.Prefetch{Follow: p.Follow}
		return nil
	}
	p.Newest, p.Zone = cmp.Or(p.Newest, 1), cmp.Or(p.Zone, "UTC")
	if p.Newest < 1 || p.Newest > 100 {
		return act.Invalid("bad-newest", "a prefetch takes the newest 1 to 100 versions, not %d", p.Newest)
	}
	for _, platform := range p.Platforms {
		if !platformForm.MatchString(platform) {
			return act.Invalid("bad-platform", "%.60q is no platform of images", platform).
				WithHint("Write it as linux/amd64, or with * for any run of characters.")
		}
	}
	if p.Schedule == "" {
		return nil
	}
	_, err := schedule.Parse(p.Schedule, p.Zone)
	return err
}

// checkChain checks the members of a chain.
func checkChain(r catalog.Repository, byID func(int64) (catalog.Repository, bool)) error {
	c := r.Chain
	if c == nil || len(c.Members) == 0 {
		return act.Invalid("no-members", "a chain needs members").WithHint("Name the repositories behind it, in their order.")
	}
	if len(c.Members) > maxMembers {
		return act.Invalid("too-many-members", "a chain has at most %d members", maxMembers)
	}
	seen := map[int64]bool{}
	for _, m := range c.Members {
		member, ok := byID(m.RepositoryID)
		if !ok {
			return act.Invalid("no-such-member", "a repository that is to be a member is not there any more").
				WithHint("Look at the list again.")
		}
		if seen[m.RepositoryID] {
			return act.Invalid("member-twice", "%s is a member twice", member.Name).WithHint("Name it once, at its place.")
		}
		seen[m.RepositoryID] = true
	}
	if circle := chain.Circle(r, byID); circle != nil {
		return fault.New(fault.Conflict, "circle", "the chain would go in a circle: %s", strings.Join(circle, " → ")).
			WithHint("Take one of them out.")
	}
	for _, to := range []struct {
		id       int64
		snapshot bool
		what     string
	}{{c.ReleasesTo, false, "releases"}, {c.SnapshotsTo, true, "snapshots"}} {
		if to.id == 0 {
			continue
		}
		target, ok := byID(to.id)
		if !ok || !target.Accepts(to.snapshot) {
			return act.Invalid("bad-target",
				"%s that are published to a chain go to a house repository that holds them, and %q does not", to.what, target.Name)
		}
	}
	return nil
}

// NewMember is a member by its name.
type NewMember struct {
	Name    string
	MaySkip bool
}

// chainOf finds the repositories that a chain is to be made of. The caller must
// be able to read those that were not there before, and to publish to the
// targets; to open members to whoever reads the chain, to manage them.
func (s *Repositories) chainOf(
	caller access.Caller, before *catalog.ChainSettings, members []NewMember, releasesTo, snapshotsTo string, open bool,
) (*catalog.ChainSettings, error) {
	if before == nil {
		before = new(catalog.ChainSettings)
	}
	c := &catalog.ChainSettings{OpenMembers: open}
	d := s.directory.Known()
	for _, m := range members {
		r := d.ByName[m.Name]
		was := r.ID != 0 && slices.ContainsFunc(before.Members, func(m catalog.Member) bool { return m.RepositoryID == r.ID })
		var err error
		switch {
		case open && !(was && before.OpenMembers):
			r, err = s.directory.Repository(caller, m.Name, access.Manage)
		case !was:
			r, err = s.directory.Repository(caller, m.Name, access.Read)
		}
		if err != nil {
			return nil, err
		}
		c.Members = append(c.Members, catalog.Member{RepositoryID: r.ID, MaySkip: m.MaySkip})
	}
	for _, to := range []struct {
		name string
		id   *int64
	}{{releasesTo, &c.ReleasesTo}, {snapshotsTo, &c.SnapshotsTo}} {
		if to.name == "" {
			continue
		}
		if r := d.ByName[to.name]; r.ID != 0 && (r.ID == before.ReleasesTo || r.ID == before.SnapshotsTo) {
			*to.id = r.ID
			continue
		}
		r, err := s.directory.Repository(caller, to.name, access.Publish)
		if err != nil {
			return nil, err
		}
		*to.id = r.ID
	}
	return c, nil
}
