package service

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	core "crelvo/internal/core/safety"
	"crelvo/internal/ecosystem"
	"crelvo/internal/ecosystem/madeup"
	"crelvo/internal/record"
	"crelvo/internal/record/recordtest"
	"crelvo/internal/service/repositories"
	"crelvo/internal/service/rights"
	"crelvo/internal/service/transfers"
)

// both makes a repository for releases and snapshots.
func (n *node) both(t *testing.T, name string) catalog.Repository {
	t.Helper()
	r, err := n.Repositories.AddRepository(t.Context(), n.admin, repositories.NewRepository{
		Repository: catalog.Repository{Name: name, Kind: catalog.House, Holds: catalog.Both}})
	if err != nil {
		t.Fatal(err)
	}
	return r
}

// transferred has a transfer done, and gives how it ended.
func (n *node) transferred(t *testing.T, by access.Caller, w transfers.Wish) transfers.View {
	t.Helper()
	v, err := n.Transfers.Begin(t.Context(), by, w)
	if err != nil {
		t.Fatal(err)
	}
	return n.untilMoved(t, v.ID)
}

func (n *node) untilMoved(t *testing.T, id int64) transfers.View {
	t.Helper()
	for end := time.Now().Add(60 * time.Second); ; time.Sleep(5 * time.Millisecond) {
		if err := n.chore(t.Context(), "taking up transfers"); err != nil {
			t.Fatal(err)
		}
		v, err := n.Transfers.Transfer(t.Context(), n.admin, id)
		if err != nil {
			t.Fatal(err)
		}
		if v.EndedAt != nil {
			return v
		}
		if time.Now().After(end) {
			t.Fatalf("transfer %d does not end: %+v", id, v)
		}
	}
}

// counted are the versions of a transfer by what became of them, as text.
func counted(v transfers.View) string {
	var all []string
	for _, state := range slices.Sorted(maps.Keys(v.Counts)) {
		all = append(all, fmt.Sprint(state, " ", v.Counts[state].Versions))
	}
	return strings.Join(all, ", ")
}

// outside tells which versions of a transfer do not come, and why.
func (n *node) outside(t *testing.T, id int64) map[string]string {
	t.Helper()
	items, err := n.Transfers.Items(t.Context(), n.admin, id, "outside", 0)
	if err != nil {
		t.Fatal(err)
	}
	why := map[string]string{}
	for _, item := range items {
		why[item.Name+" "+item.Version] = item.Why
	}
	return why
}

func scale(version string) madeup.Package {
	return madeup.Package{Name: "@skerry/scale", Version: version, Licence: "MIT"}
}

// TestTransferBetween: what moves from one repository to another is there as it was, with its labels, its
// time and its publisher; what was there already stays, and what cannot come is told.
func TestTransferBetween(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	ctx := t.Context()
	old, to := n.both(t, "old"), n.both(t, "new")
	key, there := old.Key("npm", "@skerry", "scale"), to.Key("npm", "@skerry", "scale")
	for _, version := range []string{"1.0.0", "1.1.0", "1.2.0-dev.1"} {
		n.npm(t, n.admin, old, scale(version))
	}
	if err := errors.Join(n.Publishing.SetLabel(ctx, n.admin, key, "stable", "1.0.0"),
		n.Publishing.WithdrawVersion(ctx, n.admin, "old", purl.PURL{Ecosystem: "npm", Namespace: "@skerry", Name: "scale",
			Version: "1.0.0"}, "it weighs wrong", false),
		n.publish(t, old, "1.0", "one"), n.publish(t, old, "2.0", "two"), n.publish(t, to, "2.0", "other"),
		n.publish(t, old, "3.0", "three"), n.publish(t, to, "3.0", "three")); err != nil {
		t.Fatal(err)
	}
	images := old.Key("oci", "", "x")
	image := madeup.Package{Name: "x", Version: "1.0.0"}.Image("linux/amd64", nil)
	if err := errors.Join(n.sendParts(t, images, image), n.push(t, old, image, "1.0.0", "latest")); err != nil {
		t.Fatal(err)
	}
	was, err := n.Holdings.Package(ctx, key)
	if err != nil {
		t.Fatal(err)
	}
	n.later(48 * time.Hour)
	before := catalog.MomentOf(n.Now())

	plan := n.transferred(t, n.admin, transfers.Wish{From: "old", To: "new", Dry: true})
	if got := counted(plan); got != "new 5, refused 1, there 1" || plan.State != record.TransferDone {
		t.Fatalf("the plan is %s, %s", plan.State, got)
	}
	if p, err := n.Holdings.Package(ctx, there); !errors.Is(err, ecosystem.ErrNoPackage) {
		t.Errorf("a plan did something: %v, %v", p, err)
	}
	v := n.transferred(t, n.admin, transfers.Wish{From: "old", To: "new"})
	if got := counted(v); got != "came 5, refused 1, there 1" || v.State != record.TransferDone {
		t.Fatalf("it is %s, %s: %v", v.State, got, n.outside(t, v.ID))
	}
	why := n.outside(t, v.ID)["tide-model 2.0"]
	if why != "new has it already, and has other bytes in tide-model-2.0.jar" {
		t.Errorf("other bytes do not come because %q", why)
	}
	p, err := n.Holdings.Package(ctx, there)
	if err != nil || len(p.Versions) != 3 {
		t.Fatalf("%+v, %v", p, err)
	}
	if !maps.Equal(p.Labels, was.Labels) || p.Labels["stable"] != "1.0.0" {
		t.Errorf("the labels are %v, and were %v", p.Labels, was.Labels)
	}
	for _, v := range p.Versions {
		from := was.Versions[slices.IndexFunc(was.Versions,
			func(o catalog.Version) bool { return o.Exact() == v.Exact() })]
		if !v.PublishedAt.Equal(from.PublishedAt) || v.PublishedBy != from.PublishedBy || differsIn(v, from) ||
			(v.Withdrawn != nil) != (v.Version == "1.0.0") {
			t.Errorf("%s is %+v, and was %+v", v.Exact(), v, from)
		}
	}
	there.AsOf = before
	if p, err := n.Holdings.Package(ctx, there); !errors.Is(err, ecosystem.ErrNoPackage) {
		t.Errorf("before it came, it was there: %v, %v", p, err)
	}
	pulled, err := n.Resolving.Package(ctx, to.Key("oci", "", "x"))
	if err != nil || pulled.Labels["1.0.0"] != madeup.Digest(image.Manifest) {
		t.Errorf("the image is %+v, %v", pulled, err)
	}
	for digest, content := range image.Blobs {
		f, err := n.DB.File(ctx, catalog.FileQuestion{Key: to.Key("oci", "", "x"), Name: sumOf(t, digest).FileName()})
		if err != nil || f.Digests.Size != int64(len(content)) {
			t.Errorf("%s is not there: %v", digest, err)
		}
	}
	if again := counted(n.transferred(t, n.admin, transfers.Wish{From: "old", To: "new"})); again != "refused 1, there 6" {
		t.Errorf("the second time it is %s", again)
	}
	// What is only wanted, and since when.
	for want, w := range map[string]transfers.Wish{
		"there 1": {From: "old", To: "new", Dry: true, Only: []string{"pkg:npm/@skerry/scale@1.1.0"}},
		"":        {From: "old", To: "new", Dry: true, Since: n.Now().Add(-time.Hour)},
		"refused 1, there 2": {From: "old", To: "new", Dry: true, Only: []string{"pkg:maven/*"},
			Since: n.Now().Add(-72 * time.Hour)},
	} {
		if got := counted(n.transferred(t, n.admin, w)); got != want {
			t.Errorf("of %+v the plan is %q, not %q", w, got, want)
		}
	}
	for code, w := range map[string]transfers.Wish{"same-repository": {From: "old", To: "old"},
		"no-such-repository": {From: "nowhere", To: "new"}, "bad-pattern": {From: "old", To: "new", Only: []string{"x"}}} {
		if _, err := n.Transfers.Begin(ctx, n.admin, w); fault.Of(err).Code != code {
			t.Errorf("%+v is answered with %v, not %s", w, err, code)
		}
	}
}

func differsIn(a, b catalog.Version) bool {
	return !slices.EqualFunc(a.Files, b.Files, func(a, b catalog.File) bool {
		return a.Name == b.Name && a.Digests == b.Digests
	})
}

// TestTransferRights: a transfer does what whoever asked for it may do, by the token that they used, and no
// more; also if that changes while it waits.
func TestTransferRights(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	ctx := t.Context()
	old := n.both(t, "old")
	n.both(t, "new")
	other := madeup.Package{Name: "@crew/rota", Version: "1.0.0", Licence: "MIT"}
	n.npm(t, n.admin, old, scale("1.0.0"))
	n.npm(t, n.admin, old, other)
	var grants []access.Grant
	for _, g := range []rights.NewGrant{{Holder: "purser", Role: "reader", Repositories: "old"},
		{Holder: "purser", Role: "publisher", Repositories: "new", Packages: "pkg:npm/@skerry/*"}} {
		parsed, err := g.Parse()
		if err != nil {
			t.Fatal(err)
		}
		grants = append(grants, parsed)
	}
	if err := n.Rights.AddPrincipal(ctx, n.admin, rights.NewPrincipal{Name: "purser", Grants: grants}); err != nil {
		t.Fatal(err)
	}
	purser, err := n.Rights.CallerNamed(ctx, "purser")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := n.Transfers.Begin(ctx, purser, transfers.Wish{From: "new", To: "old"}); !fault.Is(err, fault.Denied) {
		t.Errorf("who may not publish begins a transfer: %v", err)
	}
	v := n.transferred(t, purser, transfers.Wish{From: "old", To: "new"})
	if got := counted(v); got != "came 1, refused 1" {
		t.Errorf("it is %s", got)
	}
	if why := n.outside(t, v.ID)["rota 1.0.0"]; !strings.Contains(why, "needs the role publisher on new for pkg:npm/@crew/rota") {
		t.Errorf("the other does not come because %q", why)
	}
	// Others do not see it.
	if err := n.Rights.AddPrincipal(ctx, n.admin, rights.NewPrincipal{Name: "bosun", Grants: grants}); err != nil {
		t.Fatal(err)
	}
	bosun, err := n.Rights.CallerNamed(ctx, "bosun")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := n.Transfers.Items(ctx, bosun, v.ID, "", 0); !fault.Is(err, fault.NotFound) {
		t.Errorf("others see it: %v", err)
	}
	if all, err := n.Transfers.Transfers(ctx, bosun); err != nil || len(all) != 0 {
		t.Errorf("others see %v, %v", all, err)
	}
	if _, err := n.Transfers.Stop(ctx, bosun, v.ID); !fault.Is(err, fault.NotFound) {
		t.Errorf("others stop it: %v", err)
	}

	// By a token that is for little, little comes.
	n.npm(t, n.admin, old, scale("1.1.0"))
	secret, _, err := n.Rights.AddToken(ctx, purser, rights.NewToken{Name: "ci", Only: []string{"pkg:npm/@skerry/scale"},
		On: []string{"new"}})
	if err != nil {
		t.Fatal(err)
	}
	byToken, err := n.Rights.ByToken(ctx, secret, rights.Origin{})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := n.Transfers.Begin(ctx, byToken, transfers.Wish{From: "old", To: "new"}); err == nil {
		t.Error("a token that may not read it takes from it")
	}
	secret, _, err = n.Rights.AddToken(ctx, purser, rights.NewToken{Name: "both", On: []string{"old", "new"}})
	if err != nil {
		t.Fatal(err)
	}
	if byToken, err = n.Rights.ByToken(ctx, secret, rights.Origin{}); err != nil {
		t.Fatal(err)
	}
	waiting, err := n.Transfers.Begin(ctx, byToken, transfers.Wish{From: "old", To: "new"})
	if err != nil {
		t.Fatal(err)
	}
	if err := n.Rights.RevokeToken(ctx, purser, "", "both"); err != nil {
		t.Fatal(err)
	}
	if v = n.untilMoved(t, waiting.ID); v.State != record.TransferBroken || !strings.Contains(v.Failure, "was revoked") {
		t.Errorf("the token was revoked, and it is %s, %s, %q", v.State, counted(v), v.Failure)
	}
}

// TestTransferFromMirror: what a server elsewhere lists moves in, by a mirror of it; what it does not have,
// or the mirror keeps out, is told.
func TestTransferFromMirror(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	ctx := t.Context()
	to := n.both(t, "new")
	files := kelp(t, "kelp", nil, map[string]int{"1.0.0": 90, "1.1.0": 60, "1.2.0": 2})
	delete(files, "kelp/-/kelp-1.1.0.tgz")
	const at = "org/openshore/brine-http/"
	files[at+"1.0/brine-http-1.0.pom"] = brinePOM
	files[at+"1.0/brine-http-1.0.jar"] = jar(t, "brine")
	files[at+"maven-metadata.xml"] = "<metadata><groupId>org.openshore</groupId><artifactId>brine-http</artifactId>" +
		"<versioning><versions><version>1.0</version></versions></versioning></metadata>"
	shore := newElsewhere(t, files)
	waits := map[string]time.Duration{"npm": 7 * 24 * time.Hour}
	for name, kind := range map[string]string{"shore-npm": "npm", "shore-maven": "maven"} {
		if _, err := n.Repositories.AddRepository(ctx, n.admin, repositories.NewRepository{
			Repository: catalog.Repository{Name: name, Kind: catalog.Mirror, Holds: catalog.Both, Ecosystem: kind,
				Safety: core.Rules{Cooldown: waits[kind]},
				Mirror: &catalog.MirrorSettings{Upstreams: []catalog.Upstream{{URL: shore.URL}}}}}); err != nil {
			t.Fatal(err)
		}
	}
	v := n.transferred(t, n.admin, transfers.Wish{From: "shore-npm", To: "new", Only: []string{"pkg:npm/kelp"}})
	why := n.outside(t, v.ID)
	if got := counted(v); got != "came 1, failed 1, refused 1" || v.Fetched == 0 {
		t.Fatalf("it is %s, %d bytes were fetched, %v", got, v.Fetched, why)
	}
	if why["kelp 1.1.0"] != "the upstream lists kelp-1.1.0.tgz, and does not have it" ||
		!strings.HasPrefix(why["kelp 1.2.0"], "shore-npm keeps it out: it was published on ") {
		t.Errorf("it does not come because %v", why)
	}
	p, err := n.Holdings.Package(ctx, to.Key("npm", "", "kelp"))
	if err != nil || len(p.Versions) != 1 || time.Since(p.Versions[0].PublishedAt) < 80*24*time.Hour {
		t.Errorf("there is %+v, %v", p, err)
	}
	v = n.transferred(t, n.admin, transfers.Wish{From: "shore-maven", To: "new",
		Only: []string{"pkg:maven/org.openshore/brine-http"}})
	if p, err = n.Holdings.Package(ctx, to.Key("maven", "org.openshore", "brine-http")); err != nil ||
		counted(v) != "came 1" || len(p.Versions[0].Files) != 2 {
		t.Errorf("it is %s, %v: %+v, %v", counted(v), n.outside(t, v.ID), p, err)
	}
}

// TestTransferGoesOn: a transfer that is cut again and again, by nodes that stop and by ones that vanish,
// ends complete; one that is stopped does nothing more.
func TestTransferGoesOn(t *testing.T) {
	url := recordtest.URL(t)
	n := newNode(t, url)
	ctx := t.Context()
	old := n.both(t, "old")
	to := n.both(t, "new")
	const all = 400
	for i := range all {
		n.npm(t, n.admin, old, madeup.Package{Name: fmt.Sprintf("@skerry/part-%03d", i), Version: "1.0.0", Licence: "MIT"})
	}
	v, err := n.Transfers.Begin(ctx, n.admin, transfers.Wish{From: "old", To: "new"})
	if err != nil {
		t.Fatal(err)
	}
	came := func() int {
		v, err := n.Transfers.Transfer(ctx, n.admin, v.ID)
		if err != nil {
			t.Fatal(err)
		}
		return v.Counts[record.ItemCame].Versions
	}
	for i := range 20 {
		if err := n.chore(ctx, "taking up transfers"); err != nil {
			t.Fatal(err)
		}
		time.Sleep(time.Duration(i*7) * time.Millisecond) // somewhere in it
		n.Transfers.End()
	}
	other := newNode(t, url)
	// A node that vanishes says nothing any more: others take its work after a while.
	if _, err := n.DB.TakeTransfer(ctx, "vanished", n.Now(), n.Now().Add(-30*time.Second)); err != nil &&
		!errors.Is(err, record.ErrNotFound) {
		t.Fatal(err)
	}
	if err := other.chore(ctx, "taking up transfers"); err != nil {
		t.Fatal(err)
	}
	other.later(31 * time.Second)
	if v = other.untilMoved(t, v.ID); counted(v) != fmt.Sprint("came ", all) || came() != all {
		t.Errorf("it is %s: %v", counted(v), n.outside(t, v.ID))
	}
	if keys, err := n.DB.PackagesOf(ctx, to.ID); err != nil || len(keys) != all {
		t.Errorf("there are %d packages, %v", len(keys), err)
	}
	ends := 0
	if err := n.Rights.Events(ctx, n.admin, record.EventFilter{Action: string(record.EventTransferEnded), Limit: 10},
		func(record.SealedEvent) error { ends++; return nil }); err != nil || ends != 1 {
		t.Errorf("its end is told %d times, %v", ends, err)
	}

	third := n.both(t, "third")
	stopped, err := n.Transfers.Begin(ctx, n.admin, transfers.Wish{From: "old", To: "third"})
	if err == nil {
		_, err = n.Transfers.Stop(ctx, n.admin, stopped.ID)
	}
	if err != nil {
		t.Fatal(err)
	}
	if v = n.untilMoved(t, stopped.ID); v.State != record.TransferStopped || len(v.Counts) != 0 {
		t.Errorf("it is %s, %s", v.State, counted(v))
	}
	if _, err := n.Transfers.Stop(ctx, n.admin, stopped.ID); fault.Of(err).Code != "transfer-ended" {
		t.Errorf("it is stopped again: %v", err)
	}
	if keys, err := n.DB.PackagesOf(ctx, third.ID); err != nil || len(keys) != 0 {
		t.Errorf("what was stopped did something: %d, %v", len(keys), err)
	}
}

// TestTransferForgotten: what became of each version is told for some time, and not for ever.
func TestTransferForgotten(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	from := n.both(t, "old")
	n.both(t, "new")
	n.npm(t, n.admin, from, scale("1.0.0"))
	v := n.transferred(t, n.admin, transfers.Wish{From: "old", To: "new"})
	for range 2 { // the second time from memory
		if v, err := n.Transfers.Transfer(t.Context(), n.admin, v.ID); err != nil || counted(v) != "came 1" {
			t.Errorf("%s, %v", counted(v), err)
		}
	}
	n.later(89 * 24 * time.Hour)
	if err := n.chore(t.Context(), "dropping old transfers"); err != nil {
		t.Fatal(err)
	}
	if v, err := n.Transfers.Transfer(t.Context(), n.admin, v.ID); err != nil || counted(v) != "came 1" {
		t.Errorf("%s, %v", counted(v), err)
	}
	n.later(2 * 24 * time.Hour)
	if err := n.chore(t.Context(), "dropping old transfers"); err != nil {
		t.Fatal(err)
	}
	if _, err := n.Transfers.Transfer(t.Context(), n.admin, v.ID); !fault.Is(err, fault.NotFound) {
		t.Errorf("after 91 days it is there: %v", err)
	}
	if all, err := n.DB.Items(t.Context(), v.ID, "", 0, 10); err != nil || len(all) != 0 {
		t.Errorf("its versions are there: %v, %v", all, err)
	}
}
