package npm

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"net/http"
	"strings"
	"testing"

	"crelvo/internal/core/purl"
	"crelvo/internal/core/safety"
	"crelvo/internal/ecosystem/ecosystemtest"
)

// leaky is an advisory about versions of kelp-colors.
func leaky(id string, s safety.Severity, events ...safety.Event) safety.Known {
	return safety.Known{ID: id, Aliases: []string{"CVE-2026-1"}, Summary: "It leaks", Rating: safety.Rating{Severity: s},
		Affected: safety.Affected{Package: purl.PURL{Ecosystem: Name, Name: "kelp-colors"},
			Ranges: []safety.Range{{Semver: true, Events: events}}}}
}

// TestAudit answers both ways in which clients ask, for what is affected and nothing else;
// where no advisories are known, it says that.
func TestAudit(t *testing.T) {
	d := ecosystemtest.NewDesk(t, NPM{})
	const bulk, quick = "-/npm/v1/security/advisories/bulk", "-/npm/v1/security/audits/quick"
	asked := []byte(`{"kelp-colors": ["1.0.0", "2.0.0"], "@skerry/deck-ui": ["1.0.0"], "no name": ["1"]}`)
	if said := d.Send(404, http.MethodPost, bulk, asked); !strings.Contains(said, "nothing was looked up") {
		t.Errorf("where nothing is known: %s", said)
	}
	if said := d.Send(400, http.MethodPost, quick, []byte("{}")); !strings.Contains(said, "nothing was looked up") {
		t.Errorf("where nothing is known: %s", said)
	}
	d.Known = []safety.Known{
		leaky("ISLE-1", safety.Medium, safety.Event{Kind: safety.Introduced, Version: "0"},
			safety.Event{Kind: safety.Fixed, Version: "2.0.0"}),
		leaky("MAL-2026-1", safety.Unknown, safety.Event{Kind: safety.Introduced, Version: "3.0.0"}),
	}
	var packed bytes.Buffer
	w := gzip.NewWriter(&packed)
	if _, err := w.Write(asked); err != nil || w.Close() != nil {
		t.Fatal(err)
	}
	var found map[string][]struct {
		ID                   int64
		Title, Severity, URL string
		Versions             string `json:"vulnerable_versions"`
	}
	if err := json.Unmarshal([]byte(d.Send(200, http.MethodPost, bulk, packed.Bytes(), "Content-Encoding", "gzip")),
		&found); err != nil || len(found) != 1 || len(found["kelp-colors"]) != 1 {
		t.Fatalf("%+v, %v", found, err)
	}
	if got := found["kelp-colors"][0]; got.Title != "It leaks (ISLE-1)" || got.Severity != "moderate" ||
		got.Versions != "<2.0.0" || !strings.HasSuffix(got.URL, "/safety/advisories/ISLE-1") || got.ID == 0 {
		t.Errorf("%+v", got)
	}
	tree := `{"name": "ferry", "version": "1.0.0", "dependencies": {"deck-ui": {"version": "1.0.0", "dependencies":
		{"kelp-colors": {"version": "3.1.0"}}}, "kelp-colors": {"version": "1.0.0"}, "gone": null}}`
	said := strings.ReplaceAll(d.Send(200, http.MethodPost, quick, []byte(tree)), `\u003e`, ">")
	for _, want := range []string{`"paths":["deck-ui>kelp-colors"]`, `"paths":["kelp-colors"]`, `"severity":"critical"`,
		`"patched_versions":">=2.0.0"`, `"cves":["CVE-2026-1"]`, `"vulnerable_versions":">=3.0.0"`,
		`"vulnerabilities":{"critical":1,"high":0,"info":0,"low":0,"moderate":1}`, `"totalDependencies":3`} {
		if !strings.Contains(said, want) {
			t.Errorf("%s is not in %s", want, said)
		}
	}
	for what, body := range map[string][]byte{"no list": []byte("[]"), "not packed": asked,
		"deep": []byte(strings.Repeat(`{"dependencies":{"a":`, 300) + "{}" + strings.Repeat("}}", 300))} {
		path, header := quick, "Content-Type"
		if what == "not packed" {
			header = "Content-Encoding"
		}
		d.Send(400, http.MethodPost, path, body, header, "gzip")
	}
}
