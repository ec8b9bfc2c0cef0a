package kinds

import (
	"encoding/json"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"testing"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"crelvo/internal/core/catalog"
	"crelvo/internal/ecosystem"
	"crelvo/internal/ecosystem/ecosystemtest"
	"crelvo/internal/ecosystem/helm"
	"crelvo/internal/ecosystem/madeup"
	"crelvo/internal/ecosystem/oci"
)

var gangway = madeup.Package{Name: "gangway", Version: "1.4.0", Description: "Lets people aboard"}

// door asks at the door of images, and wants a status.
func door(
	t *testing.T, d *ecosystemtest.Desk, status int, method, path string, body []byte,
) (text string, h http.Header) {
	t.Helper()
	a := d.AskDoor(method, path, body, "Content-Type", v1.MediaTypeImageManifest)
	if a.Code != status {
		t.Errorf("%s %s: %d %.300s; want %d", method, path, a.Code, a.Body, status)
	}
	return a.Body.String(), a.Header()
}

// push pushes an artifact to a tag, with all that it names but what is held back.
func push(
	t *testing.T, d *ecosystemtest.Desk, status int, name, tag string, i madeup.Image, heldBack ...string,
) string {
	t.Helper()
	for sum, content := range i.Blobs {
		if !slices.Contains(heldBack, sum) {
			door(t, d, 201, http.MethodPost, name+"/blobs/uploads/?digest="+url.QueryEscape(sum), content)
		}
	}
	text, _ := door(t, d, status, http.MethodPut, name+"/manifests/"+tag, i.Manifest)
	return text
}

// published are the versions of the chart, in the order in which they came.
func published(t *testing.T, d *ecosystemtest.Desk, name string) (all []catalog.Version) {
	t.Helper()
	p, err := d.Package(t.Context(), d.Repository.Key(helm.Name, "", name))
	if err == ecosystem.ErrNoPackage {
		return nil
	}
	if err != nil {
		t.Fatal(err)
	}
	return p.Versions
}

// TestChartsPushed: a chart that is pushed as an artifact is a chart like any other, and is
// pulled as it was pushed.
func TestChartsPushed(t *testing.T) {
	d := ecosystemtest.NewDesk(t, oci.New(helm.New()))
	chart := gangway.Chart()
	proof := gangway.Provenance(chart)
	image := gangway.ChartImage(chart, proof)
	push(t, d, 201, "gangway", "1.4.0", image)
	all := published(t, d, "gangway")
	if len(all) != 1 || all[0].Version != "1.4.0" || len(all[0].Files) != 2 ||
		all[0].Details.Description != gangway.Description {
		t.Fatalf("%+v", all)
	}
	for _, reference := range []string{"1.4.0", madeup.Digest(image.Manifest)} {
		for _, method := range []string{http.MethodHead, http.MethodGet} {
			text, h := door(t, d, 200, method, "gangway/manifests/"+reference, nil)
			if h.Get("Docker-Content-Digest") != madeup.Digest(image.Manifest) ||
				h.Get("Content-Type") != v1.MediaTypeImageManifest || method == http.MethodGet && text != string(image.Manifest) {
				t.Errorf("%s %s: %v %s", method, reference, h, text)
			}
		}
	}
	for sum, content := range image.Blobs {
		if text, _ := door(t, d, 200, http.MethodGet, "gangway/blobs/"+sum, nil); text != string(content) {
			t.Errorf("another %s came back", sum)
		}
	}
	// Sent again it is the same; with another manifest it is not.
	push(t, d, 201, "gangway", "1.4.0", image)
	if said := push(t, d, 409, "gangway", "1.4.0", gangway.ChartImage(chart, nil)); !strings.Contains(said,
		"its digest is "+madeup.Digest(image.Manifest)+", and stays") {
		t.Error(said)
	}
	if text, _ := door(t, d, 200, http.MethodGet, "gangway/tags/list", nil); !strings.Contains(text, `"tags":["1.4.0"]`) {
		t.Error(text)
	}
	// Below a path of its own it is an artifact like any other.
	push(t, d, 201, "charts/gangway", "1.4.0", image)
	door(t, d, 200, http.MethodGet, "charts/gangway/manifests/1.4.0", nil)
	door(t, d, 202, http.MethodDelete, "gangway/manifests/1.4.0", nil)
	door(t, d, 404, http.MethodGet, "gangway/manifests/1.4.0", nil)
	if all := published(t, d, "gangway"); len(all) != 0 {
		t.Errorf("what was deleted is there: %+v", all)
	}
}

// TestChartsPulled: a chart that was published as a file is pulled as an artifact.
func TestChartsPulled(t *testing.T) {
	d := ecosystemtest.NewDesk(t, oci.New(helm.New()))
	publish := func(version string) {
		t.Helper()
		p := gangway
		p.Version = version
		staged, err := d.Stage(t.Context(), catalog.Repository{}, strings.NewReader(string(p.Chart())), -1, "x.tgz")
		if err != nil {
			t.Fatal(err)
		}
		defer staged.Discard()
		k := helm.New()
		place, _, err := k.Arrived(t.Context(), "x.tgz", staged)
		if err == nil {
			_, err = d.Publish(t.Context(), d.Caller, d.Repository, k,
				ecosystem.Publication{Files: []ecosystem.StagedFile{{Place: place, Staged: staged}}})
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	for _, version := range []string{"1.4.0", "1.10.0", "1.11.0-dev.1+b7"} {
		publish(version)
	}
	for version, tag := range map[string]string{"1.4.0": "1.4.0", "1.11.0-dev.1+b7": "1.11.0-dev.1_b7"} {
		text, h := door(t, d, 200, http.MethodGet, "gangway/manifests/"+tag, nil)
		sum := madeup.Digest([]byte(text))
		if h.Get("Docker-Content-Digest") != sum {
			t.Errorf("%s has the digest %s, and not %s", tag, sum, h.Get("Docker-Content-Digest"))
		}
		if again, _ := door(t, d, 200, http.MethodGet, "gangway/manifests/"+sum, nil); again != text {
			t.Error("by its digest it is another")
		}
		var m v1.Manifest
		if err := json.Unmarshal([]byte(text), &m); err != nil || m.Annotations[v1.AnnotationVersion] != version {
			t.Fatalf("%s, %v", text, err)
		}
		for _, of := range append(m.Layers, m.Config) {
			if content, _ := door(t, d, 200, http.MethodGet, "gangway/blobs/"+string(of.Digest), nil); madeup.Digest(
				[]byte(content)) != string(of.Digest) || int64(len(content)) != of.Size {
				t.Errorf("%s is another", of.Digest)
			}
		}
	}
	// Tags come by page, between those of an image of that name.
	push(t, d, 201, "gangway", "1.3", madeup.Package{Name: "gangway", Version: "1.3"}.Image("linux/amd64", nil))
	var pages []string
	for at := "gangway/tags/list?n=2"; at != ""; {
		text, h := door(t, d, 200, http.MethodGet, at, nil)
		pages = append(pages, text[strings.Index(text, `"tags"`):])
		link := h.Get("Link")
		if at = ""; link != "" {
			at = link[strings.Index(link, "gangway/"):strings.IndexByte(link, '>')]
		}
	}
	if got := strings.Join(pages, ""); got != `"tags":["1.10.0","1.11.0-dev.1_b7"]}`+"\n"+`"tags":["1.3","1.4.0"]}`+"\n" {
		t.Errorf("the pages are %s", got)
	}
	reason := "it lets nobody off"
	if err := d.Withdraw(t.Context(), d.Caller, d.Repository.Key(helm.Name, "", "gangway"),
		map[string]*string{"1.4.0": &reason}); err != nil {
		t.Fatal(err)
	}
	if said, _ := door(t, d, 404, http.MethodGet, "gangway/manifests/1.4.0", nil); !strings.Contains(said, reason) {
		t.Error(said)
	}
	if said, _ := door(t, d, 200, http.MethodGet, "gangway/tags/list", nil); strings.Contains(said, `"1.4.0"`) {
		t.Error("what is withdrawn is listed")
	}
	door(t, d, 404, http.MethodGet, "nothing/tags/list", nil)
}

// TestChartsRefused: what is no chart, or another than it says, is refused, and nothing of
// it is kept.
func TestChartsRefused(t *testing.T) {
	d := ecosystemtest.NewDesk(t, oci.New(helm.New()))
	chart := gangway.Chart()
	other := gangway
	other.Version = "9.0.0"
	whole := gangway.ChartImage(chart, nil)
	for what, c := range map[string]struct {
		name, tag string
		image     madeup.Image
		heldBack  []string
		says      string
	}{
		"another tag":      {"gangway", "latest", whole, nil, "Push it to gangway:1.4.0"},
		"another name":     {"kelp", "1.4.0", whole, nil, "Push it to gangway:1.4.0"},
		"another config":   {"gangway", "9.0.0", other.ChartImage(chart, nil), nil, "its config says gangway 9.0.0"},
		"no chart":         {"gangway", "1.4.0", gangway.ChartImage([]byte("hello"), nil), nil, "not a chart"},
		"other provenance": {"gangway", "1.4.0", gangway.ChartImage(chart, other.Provenance(chart)), nil, "provenance"},
		"two charts": {"gangway", "1.4.0", gangway.ChartImage(chart, other.Chart()), nil,
			"no chart and its provenance"},
		"not sent": {"gangway", "1.4.1", whole, []string{madeup.Digest(chart)}, "was not sent"},
	} {
		fresh := ecosystemtest.NewDesk(t, oci.New(helm.New()))
		status := 400
		if c.heldBack != nil {
			status = 404
		}
		if said := push(t, fresh, status, c.name, c.tag, c.image, c.heldBack...); !strings.Contains(said, c.says) {
			t.Errorf("%s: %s", what, said)
		}
		if all := published(t, fresh, c.name); len(all) != 0 {
			t.Errorf("%s: %+v is there", what, all)
		}
	}
	push(t, d, 201, "gangway", "1.4.0", gangway.Image("linux/amd64", nil))
	if said := push(t, d, 409, "gangway", "1.4.0", whole); !strings.Contains(said, "has the image gangway:1.4.0") {
		t.Error(said)
	}
	// Nor the other way round.
	d = ecosystemtest.NewDesk(t, oci.New(helm.New()))
	push(t, d, 201, "gangway", "1.4.0", whole)
	if said := push(t, d, 409, "gangway", "1.4.0", gangway.Image("linux/amd64", nil)); !strings.Contains(said,
		"has the Helm package gangway:1.4.0") {
		t.Error(said)
	}
	push(t, d, 201, "gangway", "1.4.1", gangway.Image("linux/amd64", nil))
}
