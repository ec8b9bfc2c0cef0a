// Package demo fills a service with the demo scenario: the Skerry Line, a
// made-up ferry operator, and about eight weeks of its builds, published
// through the real protocols.
package demo

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"time"

	"crelvo/internal/api"
	"crelvo/internal/client"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/service"
	"crelvo/internal/service/repositories"
	"crelvo/internal/service/targets"
)

// The fixed credentials of the demo.
const (
	User     = "traffic-office"
	Password = "low-tide-at-noon"
	// Token belongs to the first user, admin.
	Token = "demo-token-of-the-traffic-office"
)

// Clock is a clock that the seeding sets to the past, and that then runs with
// the real one.
type Clock struct{ offset atomic.Int64 }

// Now is the time by the clock.
func (c *Clock) Now() time.Time { return time.Now().Add(time.Duration(c.offset.Load())) }

func (c *Clock) set(t time.Time) { c.offset.Store(int64(time.Until(t))) }

func (c *Clock) reset() { c.offset.Store(0) }

// weeks is how long ago the scenario begins.
const weeks = 8

// Seed makes the scenario, unless it is there already. The service answers at address.
func Seed(ctx context.Context, s *service.Service, address string, clock *Clock, others Others) error {
	shore := others.Shore
	if len(s.Directory.Repositories()) > 0 {
		return move(ctx, s, others)
	}
	defer clock.reset()
	today := time.Now().UTC().Truncate(24 * time.Hour)
	start := today.AddDate(0, 0, -7*weeks).Add(8 * time.Hour)
	clock.set(start)
	tokens, err := people(ctx, s)
	if err != nil {
		return err
	}
	as := func(who string) *client.Client {
		return &client.Client{Server: address, Token: tokens[who], Agent: "crelvo-demo"}
	}
	for _, r := range shoreRepositories(shore) {
		if _, err := as(User).AddRepository(ctx, r); err != nil {
			return err
		}
	}
	if err := teams(ctx, s); err != nil {
		return err
	}
	made, err := as(User).AddToken(ctx, api.NewToken{For: "ci-berth", Name: nightly, Can: []string{"publish"},
		On: []string{"snapshots"}, Seconds: int64(time.Since(start).Seconds()) + 3*24*3600})
	if err != nil {
		return err
	}
	tokens[nightly] = made.Secret
	y := &yard{address: address, tokens: tokens, clock: clock, web: &http.Client{Timeout: time.Minute}}
	if err := y.track(ctx, as(User), shore); err != nil {
		return err
	}
	if err := y.build(ctx, start, today); err != nil {
		return err
	}
	if err := y.publishMade(ctx, start, today); err != nil {
		return err
	}
	if err := y.underway(ctx, today); err != nil {
		return err
	}
	// A correction that nobody has taken further yet.
	if err := y.deploy(ctx, "staging", "ci-berth", modules[0], "1.4.1", 118,
		today.AddDate(0, 0, -1).Add(13*time.Hour)); err != nil {
		return err
	}
	if err := y.crew(ctx, today.AddDate(0, 0, -1).Add(15*time.Hour)); err != nil {
		return err
	}
	if err := y.keep(ctx, as(User), today); err != nil {
		return err
	}
	if err := y.abroad(ctx, as(User)); err != nil {
		return err
	}
	if err := archive(ctx, as(User), s.Settings.Folder); err != nil {
		return err
	}
	if err := warn(ctx, as(User), shore); err != nil {
		return err
	}
	if err := y.vet(ctx, as(User)); err != nil {
		return err
	}
	// What would move in if the mirror were given up for a repository of one's own.
	if _, err := as(User).BeginTransfer(ctx, api.NewTransferRun{From: "shore-npm", To: "releases",
		DryRun: true}); err != nil {
		return err
	}
	if err := relay(ctx, as(User), others.Far); err != nil {
		return err
	}
	if err := carry(ctx, as(User)); err != nil {
		return err
	}
	return bound(ctx, as(User))
}

// relay keeps two other servers in step, and plain web space: the public shore, and the far site, to which one relay
// is paused, and which another finds to have something else under the same name.
func relay(ctx context.Context, c *client.Client, far string) error {
	// While its relay is made, nobody is there.
	for _, one := range []api.NewTarget{farTarget("mainland", "npm", Nowhere), farTarget("mainland-pypi", "pypi", far)} {
		if err := c.SetTarget(ctx, one); err != nil {
			return err
		}
	}
	for _, n := range []api.NewRelay{
		{Name: "tide-tables", Repository: "releases", Target: "public-maven",
			Only: []string{"pkg:maven/example.skerry.berth/tide-model"}},
		{Name: "public-pypi", Repository: "releases", Target: "public-pypi"},
		{Name: "mainland", Repository: "releases", Target: "mainland", Only: []string{"pkg:npm/@skerry/*"},
			Zone: "Europe/Oslo", BytesRate: 2 << 20, Anyway: true},
		{Name: "mainland-pypi", Repository: "releases", Target: "mainland-pypi", Anyway: true}} {
		if _, err := c.AddRelay(ctx, n); err != nil {
			return err
		}
		if n.Name == "mainland" { // the line is needed for something else
			paused := true
			if _, err := c.EditRelay(ctx, n.Name, api.RelayChange{Paused: &paused}); err != nil {
				return err
			}
		}
	}
	return c.SetTarget(ctx, farTarget("mainland", "npm", far))
}

// carry makes a bundle for a ship that is out of reach.
func carry(ctx context.Context, c *client.Client) error {
	body, _, err := c.MakeBundle(ctx, api.NewBundle{From: []string{"releases", "shore-npm"},
		Only: []string{"pkg:npm/@skerry/*"}, WithNeeds: true, SignWith: "ferry-release"})
	if err != nil {
		return err
	}
	defer body.Close()
	_, err = io.Copy(io.Discard, body)
	return err
}

// bound gives quotas: one that is kept, and one that is not quite.
func bound(ctx context.Context, c *client.Client) error {
	const mib = 1 << 20
	for of, bounds := range map[string][2]int64{"snapshots": {10 * mib, 50 * mib}, "releases": {0, 64 * mib}} {
		if _, err := c.SetQuota(ctx, of, api.QuotaChange{Soft: &bounds[0], Hard: &bounds[1]}); err != nil {
			return err
		}
	}
	return nil
}

// archive adds a second store, beside the first, and moves a repository there.
func archive(ctx context.Context, c *client.Client, data string) error {
	folder, err := filepath.Abs(filepath.Join(data, "archive"))
	if err == nil {
		err = os.MkdirAll(folder, 0o700)
	}
	if err == nil {
		_, err = c.AddStore(ctx, api.NewStore{Name: "archive", Kind: "folder", Folder: folder})
	}
	if err != nil {
		return err
	}
	return c.MoveToStore(ctx, api.NewStoreMove{Repositories: []string{"crew-tools"}, To: "archive"})
}

// move points mirrors and targets at where the others are this time.
func move(ctx context.Context, s *service.Service, others Others) error {
	shore := others.Shore
	caller, err := s.Rights.CallerNamed(ctx, User)
	for ecosystem, path := range ShorePaths {
		if err != nil {
			return err
		}
		_, err = s.Repositories.EditRepository(ctx, caller, "shore-"+ecosystem,
			repositories.SettingsChange{Mirror: func(m *catalog.MirrorSettings) {
				m.Upstreams = []catalog.Upstream{{URL: shore + path}}
			}})
		if fault.Is(err, fault.NotFound) {
			err = nil // a demo of before, which had none of these
		}
	}
	if err == nil {
		err = moveFeed(ctx, s, caller, shore)
	}
	if err != nil {
		return err
	}
	for _, n := range []targets.NewTarget{{Name: "public-maven", Ecosystem: "maven", URL: shore + Landing},
		{Name: "public-pypi", Ecosystem: "pypi", URL: shore + Web + "pypi/", Tree: true, ReadAt: shore + Web + "pypi/"}} {
		n.User, n.Secret = LandingUser, LandingSecret
		if err := s.Targets.SetTarget(ctx, caller, n); err != nil {
			return err
		}
	}
	for name, ecosystem := range farTargets {
		if err := s.Targets.SetTarget(ctx, caller, targets.NewTarget(farTarget(name, ecosystem, others.Far))); err != nil {
			return err
		}
	}
	return nil
}

func shoreRepositories(shore string) []api.NewRepository {
	list := func(items ...string) *[]string { return &items }
	text := func(s string) *string { return &s }
	fresh, open := 30.0, true
	return []api.NewRepository{
		{Name: "snapshots", Holds: "snapshots", Description: "development builds, straight from CI"},
		{Name: "staging", Holds: "releases", Description: "release candidates, waiting for the sea trial"},
		{Name: "releases", Holds: "releases", Description: "what sails", AnonymousRead: true},
		{Name: "crew-tools", Holds: "both", Description: "for the crew office only"},
		{Name: "shore-maven", Kind: "mirror", Ecosystem: "maven", Holds: "releases",
			Description: "third-party packages, copied when first used",
			Mirror: &api.MirrorChange{Upstreams: list(shore), FreshSeconds: &fresh,
				Deny: list("pkg:maven/org.openshore/brine-http@vers:maven/<2.0.1"),
				Prefetch: &api.PrefetchChange{Patterns: list("pkg:maven/org.openshore/*"), Schedule: text("30 5 * * 1-5"),
					Zone: text("Europe/Oslo")}}},
		{Name: "shore-npm", Kind: "mirror", Ecosystem: "npm", Holds: "both",
			Description: "third-party packages, copied when first used",
			Mirror:      &api.MirrorChange{Upstreams: list(shore + ShorePaths["npm"]), FreshSeconds: &fresh}},
		{Name: "shore-pypi", Kind: "mirror", Ecosystem: "pypi", Holds: "both",
			Description: "third-party packages, copied when first used",
			Mirror:      &api.MirrorChange{Upstreams: list(shore + ShorePaths["pypi"]), FreshSeconds: &fresh}},
		{Name: "shore-nuget", Kind: "mirror", Ecosystem: "nuget", Holds: "both",
			Description: "third-party packages, copied when first used",
			Mirror:      &api.MirrorChange{Upstreams: list(shore + ShorePaths["nuget"]), FreshSeconds: &fresh}},
		{Name: "shore-cargo", Kind: "mirror", Ecosystem: "cargo", Holds: "both",
			Description: "third-party packages, copied when first used",
			Mirror:      &api.MirrorChange{Upstreams: list(shore + ShorePaths["cargo"]), FreshSeconds: &fresh}},
		{Name: "shore-oci", Kind: "mirror", Ecosystem: "oci", Holds: "both",
			Description: "third-party images, copied when first used",
			Mirror:      &api.MirrorChange{Upstreams: list(shore + ShorePaths["oci"]), FreshSeconds: &fresh}},
		{Name: "shore-helm", Kind: "mirror", Ecosystem: "helm", Holds: "both",
			Description: "third-party charts, copied when first used",
			Mirror:      &api.MirrorChange{Upstreams: list(shore + ShorePaths["helm"]), FreshSeconds: &fresh}},
		{Name: "shore-symbols", Kind: "mirror", Ecosystem: "symbols", Holds: "both",
			Description: "debug symbols of third-party programs, copied when first used",
			Mirror:      &api.MirrorChange{Upstreams: list(shore + ShorePaths["symbols"]), FreshSeconds: &fresh}},
		{Name: "mainland-maven", Kind: "mirror", Ecosystem: "maven", Holds: "releases",
			Description: "the yard on the mainland",
			Mirror:      &api.MirrorChange{Upstreams: list(Nowhere)}},
		{Name: "platform", Kind: "chain", Description: "the one address for everything",
			Chain: &api.ChainChange{Members: &[]api.Member{{Name: "releases"}, {Name: "snapshots"}, {Name: "shore-maven"},
				{Name: "shore-npm"}, {Name: "shore-pypi"}, {Name: "shore-nuget"}, {Name: "shore-cargo"},
				{Name: "shore-oci"}, {Name: "shore-helm"}, {Name: "shore-symbols"}, {Name: "mainland-maven", MaySkip: true}},
				SnapshotsTo: text("snapshots"), ReleasesTo: text("staging"), OpenMembers: &open}},
	}
}

// abroad uses third-party packages through the chain over the last day, claims
// the names of the house, and fetches ahead once.
func (y *yard) abroad(ctx context.Context, admin *client.Client) error {
	now := time.Now().UTC().Truncate(time.Hour)
	y.clock.set(now.Add(-26 * time.Hour))
	for pattern, reason := range map[string]string{
		"pkg:maven/example.skerry.*/*": "our own group; nothing of it comes from elsewhere",
		"pkg:npm/@skerry/*":            "our own scope; nothing of it comes from elsewhere",
		"pkg:nuget/Skerry.*":           "our own prefix; nothing of it comes from elsewhere",
		"pkg:cargo/hull-*":             "our own crates; nothing of them comes from elsewhere",
		"pkg:oci/berth-*":              "our own images; nothing of them comes from elsewhere",
		"pkg:helm/gangway":             "our own chart; nothing of it comes from elsewhere"} {
		if _, err := admin.AddClaim(ctx, api.NewClaim{Pattern: pattern, Reason: reason}); err != nil {
			return err
		}
	}
	for hour := 25; hour >= 1; hour-- {
		at := now.Add(-time.Duration(hour) * time.Hour).Add(7 * time.Minute)
		y.clock.set(at)
		uses := 2 + hour*5%9
		if at.Hour() < 6 || at.Hour() > 18 {
			uses /= 3
		}
		for i := range uses {
			p := shore[i%2]
			version := p.versions[len(p.versions)-2]
			if i%2 == 0 && hour < 14 { // a new version is taken up
				version = p.versions[len(p.versions)-1]
			}
			who := []string{"deckhand", "ci-berth", "purser"}[(hour+i)%3]
			for _, ending := range []string{".pom", ".jar"} {
				path := fmt.Sprintf("/at/platform/maven/%s/%s/%s/%s-%s%s", strings.ReplaceAll(p.group, ".", "/"), p.name, version,
					p.name, version, ending)
				if err := y.get(ctx, who, path); err != nil {
					return err
				}
			}
		}
	}
	if err := y.useShelves(ctx, now.Add(-5*time.Hour)); err != nil {
		return err
	}
	// Nobody near has it, so the yard on the mainland is asked, and is down.
	y.clock.set(now.Add(-30 * time.Minute))
	if _, err := admin.Explain(ctx, "platform", "pkg:maven/org.mainland/slipway@1.0.0"); err != nil {
		return err
	}
	if err := y.mistakes(ctx, admin, now.Add(-25*time.Minute)); err != nil {
		return err
	}
	y.clock.set(now.Add(-20 * time.Minute))
	if _, err := admin.Prefetch(ctx, "shore-maven"); err != nil {
		return err
	}
	for {
		runs, err := admin.PrefetchRuns(ctx, "shore-maven", 1)
		if err != nil || len(runs) == 1 && runs[0].State != "running" {
			return err
		}
		select {
		case <-time.After(20 * time.Millisecond): // between two looks at the run
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// lines are the development lines of the berth build: which CI runs made
// snapshots of them, and the day of the release, if there was one.
var lines = []struct {
	version     string
	first, last int
	released    int // days after the start; 0 for not yet
}{
	{"1.2.0", 101, 104, 10},
	{"1.3.0", 105, 109, 25},
	{"1.4.0", 110, 114, 42},
	{"1.5.0", 115, 118, 0},
}

// build runs the CI of eight weeks.
func (y *yard) build(ctx context.Context, start, today time.Time) error {
	const runs = 18
	for _, line := range lines {
		for run := line.first; run <= line.last; run++ {
			day := (run - 101) * (7*weeks - 1) / (runs - 1)
			at := start.AddDate(0, 0, day).Add(time.Duration(run*37%240) * time.Minute)
			began := at.Add(-time.Minute)
			for _, m := range modules {
				if err := y.deploy(ctx, "snapshots", "ci-berth", m, line.version+"-SNAPSHOT", run, at); err != nil {
					return err
				}
				at = at.Add(40 * time.Second)
			}
			if err := y.ship(ctx, line.version, run, at); err != nil {
				return err
			}
			if err := y.record(ctx, berth, run, began); err != nil {
				return err
			}
		}
		if line.released == 0 {
			continue
		}
		for _, m := range shipped {
			if err := y.note(ctx, "snapshots/"+m.name, m, semver(line.version, line.last), line.version); err != nil {
				return err
			}
		}
		at := start.AddDate(0, 0, line.released).Add(5 * time.Hour)
		if err := y.sail(ctx, fmt.Sprintf("%s#%d", berth, line.last), notes[line.version], at); err != nil {
			return err
		}
		if err := y.useLine(ctx, line.version, at.Add(30*time.Hour), today); err != nil {
			return err
		}
	}
	return nil
}

// useLine downloads a release day by day; a newer line is liked better.
func (y *yard) useLine(ctx context.Context, version string, from, until time.Time) error {
	day := 0
	for at := from; at.Before(until); at = at.AddDate(0, 0, 2) {
		y.clock.set(at)
		for i, m := range modules {
			for _, who := range []string{"deckhand", "ci-berth", "purser"}[:1+(day+i)%3] {
				path := fmt.Sprintf("/at/releases/maven/%s/%s/%s/%s-%s.jar", groupPath, m.name, version, m.name, version)
				if err := y.get(ctx, who, path); err != nil {
					return err
				}
			}
		}
		for i, m := range shipped {
			who := []string{"deckhand", "ci-berth", "purser"}[(day+i)%3]
			if err := y.pull(ctx, who, "releases", m.name, version); err != nil {
				return err
			}
		}
		day++
		if day > 6 {
			break
		}
	}
	return nil
}

// crew publishes a tool of the crew office by hand.
func (y *yard) crew(ctx context.Context, at time.Time) error {
	y.clock.set(at)
	m := module{name: "rota-sheet", title: "Rota sheet", description: "Prints who works on which ferry",
		licence: "Apache-2.0", size: 24 << 10, maker: berthTeam}
	files, cleanUp, err := m.files("example.skerry.crew", "2.0.3", 1)
	if err != nil {
		return err
	}
	defer cleanUp()
	c := &client.Client{Server: y.address, Token: y.tokens["purser"], Agent: "crelvo-demo"}
	local, err := client.Locals(ctx, files)
	if err != nil {
		return err
	}
	_, err = c.Publish(ctx, "crew-tools", "", local, nil)
	return err
}
