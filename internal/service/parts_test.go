package service

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
	"crelvo/internal/ecosystem/madeup"
	"crelvo/internal/ecosystem/oci"
	"crelvo/internal/record"
	"crelvo/internal/record/recordtest"
	"crelvo/internal/service/repositories"
)

func sumOf(t testing.TB, digest string) catalog.Sum {
	t.Helper()
	sum, ok := catalog.ParseSum(digest)
	if !ok {
		t.Fatalf("%q is no digest", digest)
	}
	return sum
}

// images is a repository for images, of which all are called x.
func (n *node) images(t *testing.T) (catalog.Repository, catalog.PackageKey) {
	t.Helper()
	r, err := n.Repositories.AddRepository(t.Context(), n.admin,
		repositories.NewRepository{Repository: catalog.Repository{Name: "images", Kind: catalog.House, Holds: catalog.Both}})
	if err != nil {
		t.Fatal(err)
	}
	return r, r.Key("oci", "", "x")
}

// sendParts sends the blobs of an image.
func (n *node) sendParts(t *testing.T, key catalog.PackageKey, i madeup.Image) error {
	var all error
	for digest, content := range i.Blobs {
		all = errors.Join(all, n.Publishing.TakePart(t.Context(), n.admin, key, bytes.NewReader(content), int64(len(content)),
			sumOf(t, digest)))
	}
	return all
}

// push publishes an image whose blobs are there.
func (n *node) push(t *testing.T, r catalog.Repository, i madeup.Image, tags ...string) error {
	ctx := t.Context()
	sum := sumOf(t, madeup.Digest(i.Manifest))
	staged, err := n.Store.Stage(ctx, r, bytes.NewReader(i.Manifest), int64(len(i.Manifest)), "manifest")
	if err != nil {
		return err
	}
	defer staged.Discard()
	p := ecosystem.Publication{Labels: tags, MediaType: i.MediaType, Files: []ecosystem.StagedFile{{Staged: staged,
		Place: ecosystem.Place{Name: "x", Version: sum.String(), FileName: sum.FileName(), Extension: "manifest"}}}}
	var m v1.Manifest
	if err := json.Unmarshal(i.Manifest, &m); err != nil {
		t.Fatal(err)
	}
	for digest, content := range i.Blobs {
		part := ecosystem.NamedPart{Sum: sumOf(t, digest), Size: int64(len(content)), Extension: "layer",
			MediaType: "application/x-layer"}
		for _, l := range m.Layers {
			if string(l.Digest) == digest {
				part.MediaType = l.MediaType
			}
		}
		p.Parts = append(p.Parts, part)
	}
	_, err = n.Publishing.Publish(ctx, n.admin, r, oci.New(), p)
	return err
}

func imageOf(content string) madeup.Image {
	return madeup.Package{Name: "x", Version: content}.Image("linux/amd64", nil)
}

// TestParts: a part waits a day for a version that names it; one that was named stays
// until the last version that names it has gone to history, and its bytes go then.
func TestParts(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	ctx := t.Context()
	r, key := n.images(t)
	empty := n.stored(t)
	later := n.Now().Add(25 * time.Hour)
	reclaim := func() {
		t.Helper()
		if err := n.DB.DropUnnamedParts(ctx, later, time.Time{}); err != nil {
			t.Fatal(err)
		}
		for range 2 { // what was marked is freed by the next
			if _, err := n.Retention.Reclaim(ctx, n.admin, true); err != nil {
				t.Fatal(err)
			}
		}
	}
	has := func(i madeup.Image) (count int) {
		t.Helper()
		for digest := range i.Blobs {
			_, err := n.Resolving.File(ctx, catalog.FileQuestion{Key: key, Name: sumOf(t, digest).FileName()})
			switch {
			case err == nil:
				count++
			case !errors.Is(err, ecosystem.ErrNoFile):
				t.Fatal(err)
			}
		}
		return count
	}
	stray := imageOf("stray")
	if err := n.sendParts(t, key, stray); err != nil {
		t.Fatal(err)
	}
	if err := n.chore(ctx, "dropping parts that nothing names"); err != nil || has(stray) != 2 {
		t.Errorf("%d parts of today are there: %v", has(stray), err)
	}
	reclaim()
	if has(stray) != 0 || n.stored(t) != empty {
		t.Errorf("%d parts and %d files are there", has(stray), n.stored(t))
	}
	// Two images have a layer in common.
	one := imageOf("one")
	two := madeup.Package{Name: "x", Version: "two"}.Image("linux/amd64", &one)
	for tag, i := range map[string]madeup.Image{"1.0.0": one, "1.1.0": two} {
		if err := errors.Join(n.sendParts(t, key, i), n.push(t, r, i, tag)); err != nil {
			t.Fatal(err)
		}
	}
	remove := func(i madeup.Image) {
		t.Helper()
		if err := n.DB.Within(ctx, func(tx *record.Tx) error {
			_, err := tx.RemoveVersions(ctx, key, []string{madeup.Digest(i.Manifest)}, 0, n.Now())
			return err
		}); err != nil {
			t.Fatal(err)
		}
		n.Changed(key)
		if _, err := n.Retention.Reclaim(ctx, n.admin, true); err != nil {
			t.Fatal(err)
		}
		reclaim()
	}
	reclaim()
	if has(one) != 2 || has(two) != 3 {
		t.Fatalf("%d and %d parts are there", has(one), has(two))
	}
	remove(one)
	if has(one) != 1 || has(two) != 3 {
		t.Errorf("without the first image there are %d and %d parts", has(one), has(two))
	}
	if f, err := n.Resolving.File(ctx, catalog.FileQuestion{Key: key, Label: "1.1.0"}); err != nil ||
		f.Digests.Size != int64(len(two.Manifest)) || f.MediaType != two.MediaType {
		t.Errorf("%+v, %v", f, err)
	}
	remove(two)
	if has(two) != 0 || n.stored(t) != empty {
		t.Errorf("%d parts and %d files are left", has(two), n.stored(t))
	}
}

// TestReleaseTagRace: of many who give one release tag to different images at once, one
// does, and the tag stays with it.
func TestReleaseTagRace(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	r, key := n.images(t)
	const pushers = 8
	var pushing sync.WaitGroup
	outcomes := make([]error, pushers)
	for i := range pushers {
		image := imageOf(fmt.Sprint("image ", i))
		if err := n.sendParts(t, key, image); err != nil {
			t.Fatal(err)
		}
		pushing.Go(func() { outcomes[i] = n.push(t, r, image, "1.0.0", "latest") })
	}
	pushing.Wait()
	winner := -1
	for i, err := range outcomes {
		switch {
		case err == nil && winner >= 0:
			t.Errorf("both %d and %d were told that it is theirs", winner, i)
		case err == nil:
			winner = i
		case fault.Of(err).Code != "label-stays":
			t.Errorf("%d: %v", i, err)
		}
	}
	labels, err := n.Resolving.Labels(t.Context(), key, "", 10)
	if err != nil || winner < 0 || len(labels) != 2 ||
		labels[0].Version != madeup.Digest(imageOf(fmt.Sprint("image ", winner)).Manifest) || labels[0].Name != "1.0.0" {
		t.Errorf("%+v, %v; the winner is %d", labels, err, winner)
	}
	// Taken away, it does not come back as something else.
	if err := n.Publishing.SetLabel(t.Context(), n.admin, key, "1.0.0", ""); err != nil {
		t.Fatal(err)
	}
	other := imageOf("image " + fmt.Sprint((winner+1)%pushers))
	if err := n.push(t, r, other, "1.0.0"); fault.Of(err).Code != "label-stays" {
		t.Errorf("it came back: %v", err)
	}
	if err := n.push(t, r, imageOf(fmt.Sprint("image ", winner)), "1.0.0"); err != nil {
		t.Error(err)
	}
	if err := n.Publishing.SetLabel(t.Context(), n.admin, key, "1.0.0", madeup.Digest(other.Manifest)); err == nil {
		t.Error("it was moved by hand")
	}
}

// TestPartsBesideReclaiming pushes images of few layers again and again while parts that
// nobody names are dropped at once and reclaimed: what was acknowledged is whole.
func TestPartsBesideReclaiming(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	r, key := n.images(t)
	ctx := t.Context()
	done := make(chan struct{})
	var dropping, pushing sync.WaitGroup
	dropping.Go(func() {
		for {
			select {
			case <-done:
				return
			default:
			}
			if err := n.DB.DropUnnamedParts(ctx, n.Now().Add(time.Hour), time.Time{}); err != nil {
				t.Error(err)
				return
			}
			if _, err := n.Retention.Reclaim(ctx, n.admin, true); err != nil {
				t.Error(err)
				return
			}
		}
	})
	var mu sync.Mutex
	pushed := map[string]madeup.Image{}
	for pusher := range 4 {
		pushing.Go(func() {
			for i := range 12 {
				base := imageOf(fmt.Sprint("layer ", i%3))
				image := madeup.Package{Name: "x", Version: fmt.Sprint(pusher, i)}.Image("linux/amd64", &base)
				// A part may be gone before it is named: then it is sent again, as a client would.
				err := error(fault.New(fault.NotFound, "part-unknown", ""))
				for try := 0; try < 50 && err != nil && fault.Of(err).Code == "part-unknown"; try++ {
					if err = n.sendParts(t, key, image); err == nil {
						err = n.push(t, r, image)
					}
				}
				if err != nil {
					t.Errorf("%d %d: %v", pusher, i, err)
					return
				}
				mu.Lock()
				pushed[madeup.Digest(image.Manifest)] = image
				mu.Unlock()
			}
		})
	}
	pushing.Wait()
	close(done)
	dropping.Wait()
	for digest, image := range pushed {
		for part := range image.Blobs {
			f, err := n.Resolving.File(ctx, catalog.FileQuestion{Key: key, Name: sumOf(t, part).FileName()})
			if err != nil {
				t.Fatalf("%s of %s: %v", part, digest, err)
			}
			opened, err := n.Store.Open(ctx, f.File)
			if err != nil {
				t.Fatalf("%s of %s: %v", part, digest, err)
			}
			if err := opened.Close(); err != nil {
				t.Error(err)
			}
		}
	}
	n.wholeStore(t)
}

// TestIdleParts: uploads that nobody goes on with make room for others after an hour, and
// until then there is a limit.
func TestIdleParts(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	ctx := t.Context()
	_, key := n.images(t)
	begun := 0
	var err error
	for err == nil && begun < 2000 {
		if _, err = n.Publishing.BeginPart(ctx, n.admin, key); err == nil {
			begun++
		}
	}
	if f := fault.Of(err); f.Kind != fault.TooMany || begun != 500 {
		t.Fatalf("%d were begun: %v", begun, err)
	}
	all, err := n.store.AllBegun(ctx, "")
	if err != nil {
		t.Fatal(err)
	}
	old := time.Now().Add(-2 * time.Hour)
	for _, b := range all[:3] {
		if err := os.Chtimes(filepath.Join(n.dir, "begun", b.Name), old, old); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := n.Publishing.BeginPart(ctx, n.admin, key); err != nil {
		t.Errorf("idle ones make no room: %v", err)
	}
	if all, err = n.store.AllBegun(ctx, ""); err != nil || len(all) > 500 {
		t.Errorf("%d are begun, %v", len(all), err)
	}
}

// TestBuiltUpon: who asks who uses an image is told which others begin with its layers, or say that they
// are built upon it.
func TestBuiltUpon(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	r, key := n.images(t)
	made := func(name string, base *madeup.Image, says ...string) madeup.Image {
		t.Helper()
		i := madeup.Package{Name: "x", Version: name}.Image("linux/amd64", base)
		for _, digest := range says {
			i.Manifest = bytes.Replace(i.Manifest, []byte(`"annotations":{`),
				[]byte(`"annotations":{"org.opencontainers.image.base.digest":"`+digest+`",`), 1)
		}
		if err := errors.Join(n.sendParts(t, key, i), n.push(t, r, i, name)); err != nil {
			t.Fatal(err)
		}
		return i
	}
	base := made("base", nil)
	upon := made("upon", &base)
	made("further", &upon)
	made("other", nil)
	// What was squashed into one layer says it in words alone.
	made("squashed", nil, madeup.Digest(base.Manifest))
	for tag, want := range map[string]string{"base": "further squashed upon", "upon": "further", "squashed": "",
		"further": "", "other": ""} {
		pattern, err := purl.ParsePattern("pkg:oci/x@" + tag)
		if err != nil {
			t.Fatal(err)
		}
		who, err := n.Use.WhoUses(t.Context(), n.admin, pattern, "")
		if err != nil {
			t.Fatalf("%s: %v", tag, err)
		}
		var got []string
		for _, need := range who.Needs {
			got = append(got, need.PURL.Qualifiers["tag"])
		}
		if strings.Join(got, " ") != want {
			t.Errorf("upon %s are %q, want %q", tag, got, want)
		}
	}
}

// TestSearchedImages: a list of packages names an image by its newest tag, whatever came
// after that without one.
func TestSearchedImages(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	r, key := n.images(t)
	for i, tags := range [][]string{{"1.4.0"}, {"1.5.0", "latest"}, nil} {
		image := imageOf(fmt.Sprint(i))
		if err := errors.Join(n.sendParts(t, key, image), n.push(t, r, image, tags...)); err != nil {
			t.Fatal(err)
		}
	}
	found, err := n.Search.Search(t.Context(), n.admin, "x", "", 10, 0)
	if err != nil || len(found) != 1 || found[0].Latest != "latest" && found[0].Latest != "1.5.0" {
		t.Errorf("%+v, %v", found, err)
	}
}

// TestStandingImages: where an image stands is told by the image, and not by what is about it.
func TestStandingImages(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	r, key := n.images(t)
	image := imageOf("1.5.0")
	about := image.Referrer("application/spdx+json", "application/spdx+json", []byte("{}"))
	for _, i := range []madeup.Image{image, about} {
		if err := errors.Join(n.sendParts(t, key, i), n.push(t, r, i)); err != nil {
			t.Fatal(err)
		}
	}
	found, err := n.DB.Standings(t.Context(), record.Scope{Repositories: []int64{r.ID}}, 10)
	if err != nil || len(found) != 1 || found[0].Version != madeup.Digest(image.Manifest) {
		t.Errorf("%+v, %v", found, err)
	}
}
