package service

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
	"crelvo/internal/ecosystem/maven"
	"crelvo/internal/record"
	"crelvo/internal/record/recordtest"
	"crelvo/internal/service/promotion"
	"crelvo/internal/service/rights"
	"crelvo/internal/store/storetest"
)

// weighing is content of so many bytes, other ones for each name.
func weighing(size int, name string) string { return name + string(storetest.Random(size-len(name))) }

func (n *node) quota(t *testing.T, of string, soft, hard int64) {
	t.Helper()
	if _, err := n.Quotas.SetQuota(t.Context(), n.admin, of, &soft, &hard); err != nil {
		t.Fatal(err)
	}
}

// used counts what a quota bounds, anew.
func (n *node) used(t *testing.T, of string) int64 {
	t.Helper()
	n.Quotas.Recount()
	d, err := n.Quotas.Quota(t.Context(), n.admin, of)
	if err != nil {
		t.Fatal(err)
	}
	return d.Used
}

// TestQuota: what goes beyond a quota is refused with what would help, keeps nothing, and
// fits once there is room, however many come at once.
func TestQuota(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	r := n.repository(t)
	n.set(t, "name: lean\nrepositories: [releases]\nkeep: [newest 1]\n")
	const size, hard = 100_000, 450_000
	publish := func(version string) error { return n.publish(t, r, version, weighing(size, version)) }
	n.quota(t, "releases", 150_000, hard)
	if err := publish("1.0"); err != nil {
		t.Fatal(err)
	}
	before := n.stored(t)
	err := n.publish(t, r, "2.0", string(storetest.Random(hard)))
	if f := fault.Of(err); f.Kind != fault.Full || f.Code != "quota-reached" || !strings.Contains(f.Error(), "releases may use") ||
		!strings.Contains(f.Hint, "pkg:maven/example.skerry.berth/tide-model (") || !strings.Contains(f.Hint, "quota set releases") {
		t.Errorf("%v; %s", err, fault.Of(err).Hint)
	}
	if after := n.stored(t); after != before {
		t.Errorf("%d files are stored, %d were before what was refused", after, before)
	}
	var all sync.WaitGroup
	var in atomic.Int64
	for i := range 8 {
		all.Go(func() {
			err := publish(fmt.Sprintf("3.%d", i))
			if err == nil {
				in.Add(1)
			} else if fault.Of(err).Code != "quota-reached" {
				t.Error(err)
			}
		})
	}
	all.Wait()
	if used := n.used(t, "releases"); used > hard || in.Load() == 0 {
		t.Errorf("%d of 8 got in; %d bytes are used", in.Load(), used)
	}
	// One after the other, all that fits gets in.
	for used := n.used(t, "releases"); used+size < hard-1000; used = n.used(t, "releases") {
		if err := publish(fmt.Sprintf("3.1%d", used)); err != nil {
			t.Errorf("with %d used: %v", used, err)
			break
		}
	}
	if err = publish("4.0"); !strings.Contains(fault.Of(err).Hint, "crelvo sweep run lean") {
		t.Errorf("%v; %s", err, fault.Of(err).Hint)
	}
	// Where somebody may see some packages alone, nobody who is refused is told of others.
	if err := n.Rights.AddTeam(t.Context(), n.admin, "crew", "", nil); err != nil {
		t.Fatal(err)
	}
	if _, err := n.Rights.AddGrant(t.Context(), n.admin, rights.NewGrant{Role: string(access.Publisher), Holder: "team:crew",
		Repositories: "releases", Packages: "pkg:maven/example.skerry.shop/*"}); err != nil {
		t.Fatal(err)
	}
	if err = publish("4.0"); fault.Of(err).Code != "quota-reached" || strings.Contains(fault.Of(err).Hint, "pkg:") {
		t.Errorf("%v; %s", err, fault.Of(err).Hint)
	}
	pattern, err := purl.ParsePattern("pkg:maven/example.skerry.shop/*")
	if err != nil {
		t.Fatal(err)
	}
	some := access.Caller{ID: 9, Name: "shop", Grants: []access.Grant{{Role: access.Reader, Repositories: "releases",
		Packages: pattern}}}
	if seen, err := n.Quotas.Quotas(t.Context(), some); err != nil || len(seen) != 0 {
		t.Errorf("who sees some packages alone sees %+v, %v", seen, err)
	}
	for range 2 { // once, however often it is looked
		if err := n.chore(t.Context(), "watching quotas"); err != nil {
			t.Fatal(err)
		}
	}
	var told []string
	if err := n.Rights.Events(t.Context(), n.admin, record.EventFilter{Action: string(record.EventQuotaReached)},
		func(e record.SealedEvent) error {
			told = append(told, e.Detail["bound"])
			return nil
		}); err != nil || !slices.Equal(told, []string{"soft"}) {
		t.Errorf("told of %v, %v", told, err)
	}
	concerns, err := n.Status.Concerns(t.Context(), n.admin)
	if text := fmt.Sprint(concerns); err != nil || !strings.Contains(text, "releases uses") {
		t.Errorf("%s, %v", text, err)
	}
	n.sweep(t, "lean", true)
	if err := publish("5.0"); err != nil {
		t.Errorf("after a sweep: %v", err)
	}
	if err := n.Quotas.RemoveQuota(t.Context(), n.admin, "releases"); err != nil {
		t.Fatal(err)
	}
	if err := n.publish(t, r, "6.0", string(storetest.Random(hard))); err != nil {
		t.Errorf("without a quota: %v", err)
	}
}

// TestQuotaOfUnknownLength: what does not say how long it is ends where the room does, and
// the last of the room can be used.
func TestQuotaOfUnknownLength(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	r := n.repository(t)
	n.quota(t, "releases", 0, 1<<20)
	send := func(version string, size int) error {
		read := int64(0)
		content := jar(t, weighing(size, version))
		_, err := n.Publishing.Receive(t.Context(), n.admin, r, maven.Maven{}, ecosystem.Place{
			Namespace: "example.skerry.berth", Name: "tide-model", Version: version, Extension: "jar",
			FileName: "tide-model-" + version + ".jar"}, io.TeeReader(strings.NewReader(content), counter{&read}), -1)
		if err != nil && read > 2<<20 {
			t.Errorf("%d bytes were read of what does not fit", read)
		}
		return err
	}
	if err := send("1.0", 8<<20); fault.Of(err).Code != "quota-reached" {
		t.Errorf("too much: %v", err)
	}
	if err := send("1.0", 900_000); err != nil {
		t.Errorf("what fits: %v", err)
	}
	if err := send("2.0", 900_000); fault.Of(err).Code != "quota-reached" {
		t.Errorf("a second one: %v", err)
	}
	if n, err := n.Publishing.Continue(t.Context(), n.admin, r.Name, "in-pieces", 0,
		strings.NewReader(string(storetest.Random(400_000)))); fault.Of(err).Code != "quota-reached" {
		t.Errorf("in pieces: %d, %v", n, err)
	}
}

type counter struct{ n *int64 }

func (c counter) Write(p []byte) (int, error) {
	*c.n += int64(len(p))
	return len(p), nil
}

// TestQuotasOf teams and stores, and whom they are for.
func TestQuotasOf(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	n.folderStore(t, "archive")
	one, two, other := n.house(t, "berth-one", ""), n.house(t, "berth-two", ""), n.house(t, "shore", "archive")
	if err := n.Rights.AddTeam(t.Context(), n.admin, "crew", "", nil); err != nil {
		t.Fatal(err)
	}
	if _, err := n.Rights.AddGrant(t.Context(), n.admin, rights.NewGrant{Role: string(access.Admin), Holder: "team:crew",
		Repositories: "berth-*"}); err != nil {
		t.Fatal(err)
	}
	n.quota(t, "team:crew", 0, 250_000)
	n.quota(t, "store:archive", 0, 150_000)
	for _, c := range []struct {
		r    catalog.Repository
		fits bool
	}{{one, true}, {two, true}, {one, false}, {two, false}, {other, true}, {other, false}} {
		version := fmt.Sprintf("1.%d", n.used(t, "team:crew")+n.used(t, "store:archive"))
		err := n.publish(t, c.r, version, weighing(100_000, version))
		if c.fits && err != nil || !c.fits && fault.Of(err).Code != "quota-reached" {
			t.Errorf("%s: %v, which should be %v", c.r.Name, err, c.fits)
		}
	}
	all, err := n.Quotas.Quotas(t.Context(), n.admin)
	if err != nil || len(all) != 2 || strings.Join(all[1].Repositories, " ") != "berth-one berth-two" {
		t.Errorf("%+v, %v", all, err)
	}
	nobody := access.Caller{ID: 9, Name: "nobody"}
	if seen, err := n.Quotas.Quotas(t.Context(), nobody); err != nil || len(seen) != 0 {
		t.Errorf("%+v, %v", seen, err)
	}
	hard := int64(1)
	for of, code := range map[string]string{"team:crew": "denied", "team:none": "no-such-team", "store:none": "no-such-store",
		"none": "no-such-repository"} {
		by := n.admin
		if code == "denied" {
			by, code = nobody, "may-not"
		}
		if _, err := n.Quotas.SetQuota(t.Context(), by, of, nil, &hard); err == nil ||
			code != "may-not" && fault.Of(err).Code != code {
			t.Errorf("%s: %v", of, err)
		}
	}
}

// TestQuotaOfMirror: a full mirror passes on what it cannot keep, drops what was not asked
// for for longest, and keeps again.
func TestQuotaOfMirror(t *testing.T) {
	files := map[string]string{}
	for i := range 6 {
		files[fmt.Sprintf("org/openshore/brine-http/1.%d/brine-http-1.%d.txt", i, i)] = weighing(100_000, fmt.Sprint(i))
	}
	source := newElsewhere(t, files)
	n := newNode(t, recordtest.URL(t))
	r := n.mirror(t, "shore", source.URL, nil)
	n.quota(t, "shore", 0, 350_000)
	get := func(i int) (kept bool) {
		t.Helper()
		q := brineQuestion(r, fmt.Sprintf("brine-http-1.%d.txt", i))
		q.Version = fmt.Sprintf("1.%d", i)
		found, err := n.Resolving.File(t.Context(), q)
		if err != nil {
			t.Fatal(err)
		}
		if found.Arriving == nil {
			return true
		}
		if _, isKept, _, err := found.Arriving.Ready(t.Context()); err != nil {
			t.Fatal(err)
		} else if isKept {
			return true
		}
		var content strings.Builder
		err = found.Arriving.CopyTo(t.Context(), &content)
		if errors.Is(err, fs.ErrNotExist) { // all of it came meanwhile
			err = nil
		} else if content.Len() != 100_000 {
			t.Fatalf("%d bytes", content.Len())
		}
		if kept = !found.Arriving.Passing(); kept && err == nil {
			_, err = found.Kept(t.Context())
		}
		if err != nil {
			t.Fatal(err)
		}
		return kept
	}
	for i := range 3 {
		if !get(i) {
			t.Errorf("1.%d was not kept", i)
		}
	}
	if get(3) {
		t.Error("it keeps more than it may")
	}
	if err := n.chore(t.Context(), "making room in a full mirror"); err != nil {
		t.Fatal(err)
	}
	if used := n.used(t, "shore"); used > 300_000 {
		t.Errorf("after making room it uses %d", used)
	}
	var held []string
	if err := n.DB.SelectContext(t.Context(), &held, `select version from version where visible_from is not null
		and visible_until is null order by version`); err != nil || !slices.Equal(held, []string{"1.1", "1.2"}) {
		t.Errorf("it has %v, %v", held, err)
	}
	if !get(4) {
		t.Error("there is room, and it is not kept")
	}
}

// TestQuotaOfTarget: what is promoted must fit where it goes.
func TestQuotaOfTarget(t *testing.T) {
	q := newLine(t, recordtest.URL(t))
	q.npm(t, q.admin, q.snapshots, part(1))
	promote := func() promotion.Asked {
		t.Helper()
		p, err := q.Promotion.Promote(t.Context(), q.admin,
			promotion.Request{Track: "ferry", PURLs: []string{"pkg:npm/@skerry/part-1@1.0.0-dev.1"}})
		if err != nil {
			t.Fatal(err)
		}
		return p
	}
	q.quota(t, "releases", 0, 100)
	if p := promote(); p.State != record.PromotionFailed || !strings.Contains(p.Why, "releases may use 100 B") {
		t.Errorf("it is %s: %s", p.State, p.Why)
	}
	if names := q.names(t); names != nil {
		t.Errorf("releases has %v", names)
	}
	q.quota(t, "releases", 0, 500_000)
	if p := promote(); p.State != record.PromotionDone {
		t.Errorf("with room it is %s: %s", p.State, p.Why)
	}
}
