package service

import (
	"bytes"
	"context"
	"errors"
	"io"
	"slices"
	"strings"
	"testing"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/bundle"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	core "crelvo/internal/core/safety"
	"crelvo/internal/ecosystem"
	"crelvo/internal/ecosystem/madeup"
	"crelvo/internal/record/recordtest"
	"crelvo/internal/service/bundles"
	"crelvo/internal/service/keys"
	"crelvo/internal/service/repositories"
	"crelvo/internal/service/safety"
)

// sites makes a Crelvo that makes bundles, and one that trusts it.
func sites(t *testing.T) (near, far *node) {
	t.Helper()
	near = newNode(t, recordtest.URL(t))
	if err := near.Keys.AddKey(t.Context(), near.admin, keys.NewKey{Name: "ferry-release"}); err != nil {
		t.Fatal(err)
	}
	return near, newNodeThatTrusts(t, near)
}

// bundled makes a bundle.
func (n *node) bundled(t *testing.T, w bundles.Wish) (m bundle.Manifest, raw []byte) {
	t.Helper()
	w.Key = "ferry-release"
	made, err := n.Bundles.Make(t.Context(), n.admin, w)
	if err != nil {
		t.Fatal(err)
	}
	var b bytes.Buffer
	if err := made.Write(t.Context(), &b); err != nil {
		t.Fatal(err)
	}
	return made.Manifest, b.Bytes()
}

func (n *node) load(ctx context.Context, by access.Caller, raw io.Reader, to string, decisions bool) (
	*bundles.Loading, error,
) {
	l, err := n.Bundles.Open(ctx, by, raw, bundles.Into{All: to})
	if err != nil {
		return nil, err
	}
	return l, l.Load(ctx, decisions)
}

// there are the versions of a package, sorted.
func (n *node) there(t *testing.T, key catalog.PackageKey) (all []string) {
	t.Helper()
	p, err := n.Holdings.Package(t.Context(), key)
	if errors.Is(err, ecosystem.ErrNoPackage) {
		return nil
	}
	if err != nil {
		t.Fatal(err)
	}
	for _, v := range p.Versions {
		all = append(all, v.Version)
	}
	slices.Sort(all)
	return all
}

// TestBundle: what a bundle carries is on the other side as it was, with its labels, withdrawals, times and
// publishers; the same bundle may be loaded again, and the next one brings what came since.
func TestBundle(t *testing.T) {
	near, far := sites(t)
	ctx := t.Context()
	from, to := near.both(t, "releases"), far.both(t, "releases")
	scales, images := near.both(t, "scales"), from.Key("oci", "", "x")
	image := madeup.Package{Name: "x", Version: "1.0.0"}.Image("linux/amd64", nil)
	near.npm(t, near.admin, from, scale("1.0.0"))
	near.npm(t, near.admin, from, scale("1.1.0"))
	key, there := from.Key("npm", "@skerry", "scale"), to.Key("npm", "@skerry", "scale")
	if err := errors.Join(near.Publishing.SetLabel(ctx, near.admin, key, "stable", "1.0.0"),
		near.Publishing.WithdrawVersion(ctx, near.admin, "releases", purl.PURL{Ecosystem: "npm", Namespace: "@skerry",
			Name: "scale", Version: "1.0.0"}, "it weighs wrong", false),
		near.publish(t, from, "1.0", "one"), near.publish(t, from, "2.0-SNAPSHOT", "two"),
		near.sendParts(t, images, image), near.push(t, from, image, "1.0.0", "latest")); err != nil {
		t.Fatal(err)
	}
	was, err := near.Holdings.Package(ctx, key)
	if err != nil {
		t.Fatal(err)
	}
	near.later(time.Hour)
	far.later(time.Hour)
	m, raw := near.bundled(t, bundles.Wish{From: []string{"releases"}})
	l, err := far.load(ctx, far.admin, bytes.NewReader(raw), "", false)
	if err != nil || l.New != 5 || l.There != 0 || !slices.Equal(l.Keys, []string{"from-near"}) {
		t.Fatalf("%+v, %v", l, err)
	}
	p, err := far.Holdings.Package(ctx, there)
	if err != nil || len(p.Versions) != 2 || p.Labels["stable"] != "1.0.0" || p.Labels["latest"] != "1.1.0" {
		t.Fatalf("%+v, %v", p, err)
	}
	for _, v := range p.Versions {
		i := slices.IndexFunc(was.Versions, func(o catalog.Version) bool { return o.Version == v.Version })
		o := was.Versions[i]
		if !v.PublishedAt.Equal(o.PublishedAt) || v.PublishedBy != o.PublishedBy || !slices.Equal(v.Details.Licences,
			o.Details.Licences) || string(v.Details.Native["version"]) != string(o.Details.Native["version"]) ||
			v.Files[0].Digests != o.Files[0].Digests || (v.Withdrawn != nil) != (v.Version == "1.0.0") {
			t.Errorf("%s is %+v, and was %+v", v.Version, v, o)
		}
	}
	if got := far.there(t, to.Key("oci", "", "x")); len(got) != 1 {
		t.Errorf("of the image there is %v", got)
	}
	for digest := range image.Blobs {
		if _, err := far.DB.File(ctx, catalog.FileQuestion{Key: to.Key("oci", "", "x"),
			Name: sumOf(t, digest).FileName()}); err != nil {
			t.Errorf("a part of the image: %v", err)
		}
	}
	if got := far.there(t, tideKey(to)); !slices.Equal(got, []string{"1.0",
		"2.0-SNAPSHOT"}) {
		t.Errorf("of Maven there is %v", got)
	}
	l, err = far.load(ctx, far.admin, bytes.NewReader(raw), "", false)
	if err != nil || l.New != 0 || l.There != 5 {
		t.Errorf("again: %+v, %v", l, err)
	}

	near.later(time.Hour)
	near.npm(t, near.admin, from, scale("1.2.0"))
	near.npm(t, near.admin, scales, scale("7.0.0"))
	if err := near.Publishing.SetLabel(ctx, near.admin, key, "stable", "1.1.0"); err != nil {
		t.Fatal(err)
	}
	next, more := near.bundled(t, bundles.Wish{From: []string{"releases"},
		Since: &bundle.Basis{ID: m.ID, MadeAt: m.MadeAt}})
	if versions, _ := next.Totals(); versions != 1 || len(next.Packages) != 1 {
		t.Fatalf("what came since is %+v", next.Packages)
	}
	fresh := newNodeThatTrusts(t, near)
	fresh.both(t, "releases")
	if _, err := fresh.load(ctx, fresh.admin, bytes.NewReader(more), "", false); fault.Of(err).Code != "bundle-before" {
		t.Errorf("without the one before: %v", err)
	}
	if l, err = far.load(ctx, far.admin, bytes.NewReader(more), "", false); err != nil || l.New != 1 {
		t.Fatalf("the next one: %+v, %v", l, err)
	}
	if p, err = far.Holdings.Package(ctx, there); err != nil || len(p.Versions) != 3 || p.Labels["stable"] != "1.1.0" ||
		p.Labels["latest"] != "1.2.0" {
		t.Errorf("%+v, %v", p, err)
	}
	all, err := far.Bundles.Bundles(ctx, far.admin)
	if err != nil || len(all) != 3 || all[0].Since != m.ID || all[0].Came != 1 || all[2].Origin["releases"] != "releases" {
		t.Errorf("on record is %+v, %v", all, err)
	}
}

// newNodeThatTrusts is one more Crelvo on the other side.
func newNodeThatTrusts(t *testing.T, near *node) *node {
	t.Helper()
	far := newNode(t, recordtest.URL(t))
	all, err := near.Keys.Keys(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	if err := far.Keys.AddKey(t.Context(), far.admin, keys.NewKey{Name: "from-near", Public: all[0].Text}); err != nil {
		t.Fatal(err)
	}
	return far
}

// TestBundleIsAllOrNothing: if one version cannot come, none does; and it is told which, and why.
func TestBundleIsAllOrNothing(t *testing.T) {
	near, far := sites(t)
	ctx := t.Context()
	from, to := near.both(t, "releases"), far.both(t, "releases")
	near.npm(t, near.admin, from, scale("1.0.0"))
	near.npm(t, near.admin, from, scale("1.1.0"))
	other := scale("1.1.0")
	other.Licence = "BSD-3-Clause"
	far.npm(t, far.admin, to, other)
	_, raw := near.bundled(t, bundles.Wish{From: []string{"releases"}})
	there := to.Key("npm", "@skerry", "scale")
	_, err := far.load(ctx, far.admin, bytes.NewReader(raw), "", false)
	if f := fault.Of(err); f.Code != "bundle-refused" || !strings.Contains(f.Message, "@skerry/scale@1.1.0 cannot: "+
		"releases has it already, and has other bytes in scale-1.1.0.tgz") {
		t.Errorf("other bytes: %v", err)
	}
	if got := far.there(t, there); !slices.Equal(got, []string{"1.1.0"}) {
		t.Errorf("of what could not come there is %v", got)
	}

	strict, err := far.Repositories.AddRepository(ctx, far.admin, repositories.NewRepository{
		Repository: catalog.Repository{Name: "strict", Kind: catalog.House, Holds: catalog.Both,
			Safety: core.Rules{Licences: core.LicenceRules{Refuse: []string{"MIT"}}}}})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := far.load(ctx, far.admin, bytes.NewReader(raw), "strict", false); fault.Of(err).Code != "bundle-refused" ||
		!strings.Contains(err.Error(), "strict keeps it out") {
		t.Errorf("a licence that is not let in, which only the files tell: %v", err)
	}
	if got := far.there(t, strict.Key("npm", "@skerry", "scale")); got != nil {
		t.Errorf("of what is kept out there is %v", got)
	}
	reader := access.Caller{ID: 77, Name: "reader"}
	if _, err := far.load(ctx, reader, bytes.NewReader(raw), "", false); err == nil {
		t.Error("somebody without a right loaded it")
	}
	wish := bundles.Wish{From: []string{"releases"}, Key: "ferry-release"}
	if _, err := near.Bundles.Make(ctx, reader, wish); err == nil {
		t.Error("somebody without a right made one")
	}
}

// TestBundleOnItsWay: what was changed on its way, or is signed by nobody who is trusted, is not loaded; what was
// cut goes on, and bytes that came are not reclaimed before it is whole.
func TestBundleOnItsWay(t *testing.T) {
	near, far := sites(t)
	ctx := t.Context()
	from, to := near.both(t, "releases"), far.both(t, "releases")
	there := to.Key("npm", "@skerry", "scale")
	for _, version := range []string{"1.0.0", "1.1.0", "1.2.0"} {
		near.npm(t, near.admin, from, scale(version))
	}
	m, raw := near.bundled(t, bundles.Wish{From: []string{"releases"}})

	stranger := newNode(t, recordtest.URL(t))
	stranger.both(t, "releases")
	if _, err := stranger.load(ctx, stranger.admin, bytes.NewReader(raw), "", false); fault.Of(err).Code != "not-trusted" {
		t.Errorf("where its key is not trusted: %v", err)
	}
	forged := bytes.Replace(raw, []byte(`"publishedBy"`), []byte(`"publishedBY"`), 1)
	if _, err := far.load(ctx, far.admin, bytes.NewReader(forged), "", false); fault.Of(err).Code != "not-trusted" {
		t.Errorf("with another manifest: %v", err)
	}
	last := m.Packages[0].Versions[2].Files[0].SHA256
	at := bytes.Index(raw, []byte(last.String()+"\x00"))
	damaged := slices.Clone(raw)
	damaged[at-len("files/sha256/")+512] ^= 1
	if _, err := far.load(ctx, far.admin, bytes.NewReader(damaged), "", false); fault.Of(err).Code != "bad-bundle" {
		t.Errorf("with other bytes: %v", err)
	}
	if got := far.there(t, there); got != nil {
		t.Errorf("of what was damaged there is %v", got)
	}
	l, err := far.Bundles.Open(ctx, far.admin, bytes.NewReader(raw), bundles.Into{})
	if err != nil || len(l.Lacking) != 1 || l.Lacking[last] == 0 {
		t.Fatalf("after what came before the damage it lacks %v, %v", l.Lacking, err)
	}
	if _, err := far.Retention.Reclaim(ctx, far.admin, true); err != nil {
		t.Fatal(err)
	}
	rest := func(yield func(*bundle.Writer)) []byte {
		var b bytes.Buffer
		r, err := bundle.NewReader(bytes.NewReader(raw))
		if err != nil {
			t.Fatal(err)
		}
		w, err := bundle.NewWriter(&b, r.Signed, m.MadeAt)
		if err != nil {
			t.Fatal(err)
		}
		yield(w)
		if err := w.Close(); err != nil {
			t.Fatal(err)
		}
		return b.Bytes()
	}
	if _, err := far.load(ctx, far.admin, bytes.NewReader(rest(func(*bundle.Writer) {})), "", false); fault.Of(err).Code !=
		"bundle-incomplete" {
		t.Errorf("without its last file: %v", err)
	}
	content, err := near.Store.OpenBytes(ctx, last, m.Packages[0].Versions[2].Files[0].Size)
	if err != nil {
		t.Fatal(err)
	}
	defer content.Close()
	l, err = far.load(ctx, far.admin, bytes.NewReader(rest(func(w *bundle.Writer) {
		if err := w.Add(last, m.Packages[0].Versions[2].Files[0].Size, content); err != nil {
			t.Fatal(err)
		}
	})), "", false)
	if err != nil || l.New != 3 {
		t.Fatalf("with what was lacking: %+v, %v", l, err)
	}
	if got := far.there(t, there); len(got) != 3 {
		t.Errorf("there is %v", got)
	}
	if left, err := far.DB.Landed(ctx, to.ID, [][]byte{last[:]}); err != nil || len(left) != 0 {
		t.Errorf("what belongs to versions waits still: %v, %v", left, err)
	}
}

// TestBundleWithNeeds: what is needed comes along, from a mirror too, which fetches it; decisions are taken over
// by an admin who wants that.
func TestBundleWithNeeds(t *testing.T) {
	near, far := sites(t)
	ctx := t.Context()
	from := near.both(t, "releases")
	far.both(t, "approved")
	rope := scale("1.0.0")
	rope.Name, rope.Needs = "@skerry/rope", map[string]string{"@skerry/scale": "^1.0.0", "absent": "^1.0.0"}
	near.npm(t, near.admin, from, rope)
	for _, version := range []string{"1.0.0", "1.3.0", "2.0.0"} {
		near.npm(t, near.admin, from, scale(version))
	}
	if _, err := near.Safety.Vet(ctx, near.admin, safety.NewVetting{Patterns: []string{"pkg:npm/@skerry/rope"},
		Reason: "used on all ferries"}); err != nil {
		t.Fatal(err)
	}
	m, raw := near.bundled(t, bundles.Wish{From: []string{"releases"}, Only: []string{"pkg:npm/@skerry/rope"},
		WithNeeds: true})
	if len(m.Packages) != 2 || m.Packages[1].Versions[0].Version != "1.3.0" || !m.Packages[1].Versions[0].Needed ||
		len(m.LeftOut) != 1 || !strings.Contains(m.LeftOut[0].PURL, "absent") {
		t.Fatalf("it has %+v, and leaves out %+v", m.Packages, m.LeftOut)
	}
	if _, err := far.load(ctx, far.admin, bytes.NewReader(raw), "approved", true); err != nil {
		t.Fatal(err)
	}
	standing, err := far.DB.StandingVettings(ctx, far.Now())
	if err != nil || len(standing) != 1 || standing[0].By != far.admin.Name ||
		!strings.HasPrefix(standing[0].Reason, "used on all ferries (bundle ") {
		t.Errorf("decisions: %+v, %v", standing, err)
	}
}

// TestBundleOfTwo: what two repositories have in common goes to one once; who may publish some of a repository
// loads no more than that, and moves no labels of the rest; what does not fit is told before anything is visible.
func TestBundleOfTwo(t *testing.T) {
	near, far := sites(t)
	ctx := t.Context()
	from, other, to := near.both(t, "releases"), near.both(t, "other"), far.both(t, "inbound")
	for _, r := range []catalog.Repository{from, other} {
		near.npm(t, near.admin, r, scale("1.0.0"))
	}
	rope := scale("1.0.0")
	rope.Name = "@skerry/rope"
	near.npm(t, near.admin, other, rope)
	m, raw := near.bundled(t, bundles.Wish{From: []string{"releases", "other"}})
	if len(m.Packages) != 3 {
		t.Fatalf("it has %+v", m.Packages)
	}
	far.quota(t, "inbound", 0, 100)
	if _, err := far.load(ctx, far.admin, bytes.NewReader(raw), "inbound", false); !fault.Is(err, fault.Full) {
		t.Errorf("what does not fit: %v", err)
	}
	far.quota(t, "inbound", 0, 1<<20)
	only, err := purl.ParsePattern("pkg:npm/@skerry/scale")
	if err != nil {
		t.Fatal(err)
	}
	some := access.Caller{ID: 77, Name: "some", Grants: []access.Grant{{Role: access.Publisher, Repositories: "inbound",
		Packages: only}}}
	if _, err := far.load(ctx, some, bytes.NewReader(raw), "inbound", false); fault.Of(err).Code != "bundle-refused" ||
		!strings.Contains(err.Error(), "rope") {
		t.Errorf("by somebody who may publish some of it: %v", err)
	}
	if got := far.there(t, to.Key("npm", "@skerry", "scale")); got != nil {
		t.Errorf("there is %v", got)
	}
	l, err := far.load(ctx, far.admin, bytes.NewReader(raw), "inbound", false)
	if err != nil || l.New != 2 || l.There != 1 {
		t.Fatalf("%+v, %v", l, err)
	}
	if _, size := m.Totals(); far.used(t, "inbound") != size {
		t.Errorf("it uses %d bytes, and the bundle has %d", far.used(t, "inbound"), size)
	}
	// Into a repository in another store come bytes that are here already, and are then there too.
	far.folderStore(t, "second")
	second := far.house(t, "elsewhere", "second")
	if l, err = far.load(ctx, far.admin, bytes.NewReader(raw), "elsewhere", false); err != nil || l.New != 2 {
		t.Fatalf("%+v, %v", l, err)
	}
	far.workAtMoves(t)
	id, err := far.Store.IDOf("second")
	if err != nil {
		t.Fatal(err)
	}
	if size, err := far.DB.StoreBytes(ctx, id); err != nil || size == 0 {
		t.Errorf("in the second store are %d bytes, %v", size, err)
	}
	if got := far.there(t, second.Key("npm", "@skerry", "rope")); len(got) != 1 {
		t.Errorf("there is %v", got)
	}
}
