package web

import (
	"compress/gzip"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"

	"crelvo/internal/api"
	"crelvo/internal/core/access"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem/madeup"
	"crelvo/internal/service/publishing"
)

// read gets a document as the admin of all.
func (w *walker) read(t *testing.T, path string, into any) string {
	t.Helper()
	r := httptest.NewRequest("GET", path, nil)
	r.Header.Set("Authorization", "Bearer "+w.secrets["manages-all"])
	answer := httptest.NewRecorder()
	w.server.Handler().ServeHTTP(answer, r)
	if answer.Code != http.StatusOK {
		t.Fatalf("GET %s: %d %s", path, answer.Code, answer.Body)
	}
	if into != nil {
		if err := json.Unmarshal(answer.Body.Bytes(), into); err != nil {
			t.Fatal(err)
		}
	}
	return answer.Body.String()
}

// TestPages: packages with many versions and folders with many entries come page
// by page, each entry once and in order.
func TestPages(t *testing.T) {
	w := newWalker(t)
	w.ensure(t)
	own, err := w.Directory.Repository(w.admin, "own", access.Publish)
	if err != nil {
		t.Fatal(err)
	}
	const versions = 25
	for i := range versions {
		p := madeup.Package{Name: "kelp-colors", Version: fmt.Sprintf("1.%d.0", i), Description: "Colours", Licence: "MIT"}
		given := false
		if _, err := w.Publishing.PublishByHand(t.Context(), w.admin, own, purl.PURL{}, func() (publishing.ByHand, error) {
			if given {
				return publishing.ByHand{}, io.EOF
			}
			given = true
			return publishing.ByHand{Name: "kelp.tgz", Body: strings.NewReader(string(p.NPM()))}, nil
		}); err != nil {
			t.Fatal(err)
		}
	}
	var names []string
	after := ""
	for pages := 1; ; pages++ {
		var p api.Package
		w.read(t, "/api/v1/package?limit=10&purl=pkg:npm/kelp-colors&after="+after, &p)
		if p.Total != versions || len(p.Versions) > 10 {
			t.Errorf("page %d has %d of %d versions", pages, len(p.Versions), p.Total)
		}
		for _, v := range p.Versions {
			names = append(names, v.Version)
		}
		if after = p.Next; after == "" {
			break
		}
	}
	if len(names) != versions || names[0] != "1.24.0" || names[24] != "1.0.0" {
		t.Errorf("%q", names)
	}
	names = nil
	for next := ""; ; {
		var f api.Folder
		w.read(t, "/api/v1/repositories/own/folder?ecosystem=npm&path=kelp-colors&limit=7&after="+url.QueryEscape(next), &f)
		if f.Total != versions {
			t.Errorf("%d entries", f.Total)
		}
		for _, e := range f.Entries {
			names = append(names, e.Name)
		}
		if next = f.Next; next == "" {
			break
		}
	}
	if len(names) != versions || names[0] != "1.24.0" || names[24] != "1.0.0" {
		t.Errorf("%q", names)
	}
	// Who takes it compressed gets the same so.
	r := httptest.NewRequest("GET", "/api/v1/package?purl=pkg:npm/kelp-colors", nil)
	r.Header.Set("Authorization", "Bearer "+w.secrets["manages-all"])
	r.Header.Set("Accept-Encoding", "gzip")
	answer := httptest.NewRecorder()
	w.server.Handler().ServeHTTP(answer, r)
	z, err := gzip.NewReader(answer.Body)
	if err != nil || answer.Header().Get("Content-Encoding") != "gzip" {
		t.Fatalf("%v: %v", answer.Header(), err)
	}
	plain, err := io.ReadAll(z)
	if err != nil || string(plain) != w.read(t, "/api/v1/package?purl=pkg:npm/kelp-colors", nil) {
		t.Errorf("compressed it is %.200s, %v", plain, err)
	}
	// A name that is not there any more begins anew, and one version is itself.
	var p api.Package
	w.read(t, "/api/v1/package?purl=pkg:npm/kelp-colors@1.3.0", &p)
	if p.Total != 1 || p.Next != "" || len(p.Versions) != 1 {
		t.Errorf("%+v", p)
	}
}
