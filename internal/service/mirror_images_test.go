package service

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/opencontainers/go-digest"
	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem/madeup"
	"crelvo/internal/record/recordtest"
	"crelvo/internal/service/repositories"
)

// imagesElsewhere is an upstream of images with many tags, of which it lists a few at once,
// and with what is about one of them.
type imagesElsewhere struct {
	mu    sync.Mutex
	tags  []string
	about map[string]string // documents by path
	asked []string
	fails bool
}

// ServeHTTP implements http.Handler.
func (e *imagesElsewhere) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.asked = append(e.asked, strings.TrimPrefix(r.URL.Path, "/v2/x/"))
	text, ok := e.about[r.URL.Path]
	switch {
	case e.fails:
		w.WriteHeader(http.StatusInternalServerError)
	case ok:
		fmt.Fprint(w, text)
	case r.URL.Path != "/v2/x/tags/list":
		http.NotFound(w, r)
	default:
		const page = 3
		from, _ := slices.BinarySearch(e.tags, r.URL.Query().Get("last")+"\x00")
		left := e.tags[from:]
		if len(left) > page {
			w.Header().Set("Link", fmt.Sprintf(`</v2/x/tags/list?n=3&last=%s>; rel="next"`, left[page-1]))
			left = left[:page]
		}
		if err := json.NewEncoder(w).Encode(map[string]any{"name": "x", "tags": left}); err != nil {
			panic(err) // to a recorder
		}
	}
}

// took gives the requests since it was asked last.
func (e *imagesElsewhere) took() []string {
	e.mu.Lock()
	defer e.mu.Unlock()
	asked := e.asked
	e.asked = nil
	return asked
}

// TestListedElsewhere: the tags of an upstream are read page by page, no further than they
// are wanted; what it says is about an image is listed with what is kept, and asked for once
// while it is fresh.
func TestListedElsewhere(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	e := &imagesElsewhere{about: map[string]string{}}
	for i := range 10 {
		e.tags = append(e.tags, fmt.Sprintf("1.%d.0", i))
	}
	server := httptest.NewServer(e)
	defer server.Close()
	r, err := n.Repositories.AddRepository(t.Context(), n.admin,
		repositories.NewRepository{Repository: catalog.Repository{Name: "shore", Kind: catalog.Mirror, Holds: catalog.Both,
			Ecosystem: "oci", Mirror: &catalog.MirrorSettings{Upstreams: []catalog.Upstream{{URL: server.URL + "/v2/"}},
				Freshness: time.Minute, AbsentFor: time.Minute}}})
	if err != nil {
		t.Fatal(err)
	}
	key := r.Key("oci", "", "x")
	for _, c := range []struct {
		after       string
		limit, asks int
		want        string
	}{{"", 100, 4, strings.Join(e.tags, " ")}, {"", 4, 2, "1.0.0 1.1.0 1.2.0 1.3.0"}, {"1.7.0", 100, 1, "1.8.0 1.9.0"},
		{"1.2.5", 2, 1, "1.3.0 1.4.0"}, {"2", 5, 1, ""}} {
		e.took()
		all, err := n.Resolving.Labels(t.Context(), key, c.after, c.limit)
		var names []string
		for _, l := range all {
			names = append(names, l.Name)
		}
		if got := strings.Join(names, " "); err != nil || got != c.want || len(e.took()) != c.asks {
			t.Errorf("after %q, %d: %q, %v", c.after, c.limit, got, err)
		}
	}

	// Whoever sets the mirror up is told what it finds.
	for sample, want := range map[string]string{"pkg:oci/x": "lists 3 tags of pkg:oci/x",
		"pkg:oci/none": "does not have a list of the tags", "pkg:oci/x@9.9.9": "does not have pkg:oci/x@9.9.9",
		"pkg:oci/x@latest": "it answers and has pkg:oci/x@latest"} {
		p, err := purl.Parse(sample)
		if err != nil {
			t.Fatal(err)
		}
		e.mu.Lock()
		e.about["/v2/x/manifests/latest"] = "{}"
		e.mu.Unlock()
		said, err := n.Mirrors.CheckMirror(t.Context(), n.admin, catalog.Repository{}, r.Name, p)
		if err != nil || len(said) != 1 || !strings.Contains(said[0].Said, want) {
			t.Errorf("%s: %+v, %v", sample, said, err)
		}
	}

	image := imageOf("1.0.0")
	of := madeup.Digest(image.Manifest)
	note := image.Referrer("application/spdx+json", "application/spdx+json", []byte("{}"))
	index := v1.Index{Manifests: []v1.Descriptor{{MediaType: note.MediaType, ArtifactType: "application/spdx+json",
		Digest: digest.Digest(madeup.Digest(note.Manifest)), Size: int64(len(note.Manifest)), Annotations: map[string]string{"made": "by hand"}},
		{MediaType: note.MediaType, Digest: "sha256:no digest"}}}
	text, err := json.Marshal(index)
	if err != nil {
		t.Fatal(err)
	}
	about := func() (all []catalog.Version) {
		t.Helper()
		all, err := n.Resolving.About(t.Context(), key, of, "", 100)
		if err != nil {
			t.Fatal(err)
		}
		return all
	}
	e.took()
	if all := about(); len(all) != 0 || len(e.took()) != 2 {
		t.Errorf("before there is any: %+v", all)
	}
	if about(); len(e.took()) != 0 {
		t.Error("it is asked again at once")
	}
	// An upstream without such a list keeps it under a tag.
	e.about["/v2/x/manifests/"+strings.Replace(of, ":", "-", 1)] = string(text)
	n.later(2 * time.Minute)
	all := about()
	if len(all) != 1 || all[0].Version != madeup.Digest(note.Manifest) || all[0].Size() != int64(len(note.Manifest)) ||
		!strings.Contains(string(all[0].Details.Native["annotations"]), "by hand") {
		t.Errorf("%+v", all)
	}
	e.took()
	e.fails = true
	if about(); len(e.took()) != 0 {
		t.Error("it is asked again at once")
	}
	// When it fails, what is kept is told.
	n.later(2 * time.Minute)
	if all := about(); len(all) != 0 {
		t.Errorf("%+v", all)
	}
	e.fails = false
	e.about["/v2/x/referrers/"+of] = "<html>"
	n.later(time.Hour)
	if all := about(); len(all) != 0 {
		t.Errorf("a page is read as %+v", all)
	}
}
