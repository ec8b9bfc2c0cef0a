package safety

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"crelvo/internal/core/purl"
)

const openVEXDocument = `{"@context": "https://openvex.dev/ns/v0.2.0", "@id": "urn:x", "author": "The Openshore Project",
 "timestamp": "2026-11-01T08:00:00Z", "version": 1, "statements": [
 {"vulnerability": {"name": "ISLE-1"}, "products": [{"@id": "pkg:npm/kelp@1.0.0"},
  {"@id": "urn:x", "identifiers": {"purl": "pkg:npm/%40skerry/deck-ui@2.0.0?x=y"}}], "status": "not_affected",
  "justification": "vulnerable_code_not_in_execute_path", "impact_statement": "it is\nnever called"},
 {"vulnerability": {"name": "ISLE-2"}, "products": [{"@id": "pkg:npm/kelp@1.0.0"}], "status": "affected",
  "action_statement": "take 2.0.0"},
 {"vulnerability": {"name": "ISLE-3"}, "products": [{"@id": "pkg:oci/ferry", "subcomponents": [{"@id": "pkg:npm/kelp@1.0.0"}]}],
  "status": "not_affected", "justification": "component_not_present"},
 {"vulnerability": {"name": "ISLE-4"}, "products": [{"@id": "pkg:npm/kelp"}], "status": "fixed"},
 {"vulnerability": {"name": "ISLE-5"}, "products": [{"@id": "cpe:2.3:a:x"}], "status": "fixed"},
 {"vulnerability": {"name": "ISLE-6"}, "status": "not_affected"}]}`

const cycloneVEXDocument = `{"bomFormat": "CycloneDX", "specVersion": "1.6", "version": 1,
 "components": [{"type": "library", "name": "x", "components": [{"type": "library", "name": "kelp", "bom-ref": "k",
  "purl": "pkg:npm/kelp@1.0.0"}]}],
 "vulnerabilities": [
 {"id": "ISLE-1", "analysis": {"state": "not_affected", "justification": "code_not_reachable", "detail": "never called"},
  "affects": [{"ref": "k"}]},
 {"id": "ISLE-2", "analysis": {"state": "in_triage"}, "affects": [{"ref": "k"}]},
 {"id": "ISLE-3", "analysis": {"state": "exploitable"}, "affects": [{"ref": "k"}]},
 {"id": "ISLE-4", "analysis": {"state": "resolved"}, "affects": [{"ref": "pkg:npm/kelp@2.0.0"}]}]}`

// accepted says what a document accepts, and why it does not accept the rest.
func accepted(t *testing.T, raw string) string {
	t.Helper()
	all, err := ParseVEX([]byte(raw))
	if err != nil {
		t.Fatal(err)
	}
	var said []string
	for _, s := range all {
		patterns, why := s.Accepts()
		if why != "" {
			said = append(said, s.Advisory+": "+why)
		}
		for _, p := range patterns {
			said = append(said, fmt.Sprint(s.Advisory, " for ", p.String(), " ", s.Justification, " ", s.Text))
		}
	}
	return strings.Join(said, "\n")
}

func TestParseVEX(t *testing.T) {
	for raw, want := range map[string]string{
		openVEXDocument: "ISLE-1 for pkg:npm/kelp@1.0.0 vulnerable_code_not_in_execute_path it is never called\n" +
			"ISLE-1 for pkg:npm/@skerry/deck-ui@2.0.0 vulnerable_code_not_in_execute_path it is never called\n" +
			"ISLE-2: it says affected\nISLE-3: it is about a part of a product, in that product only\n" +
			"ISLE-4 for pkg:npm/kelp  \n" + `ISLE-5: "cpe:2.3:a:x" is no package URL` + "\nISLE-6: it names no product",
		cycloneVEXDocument: "ISLE-1 for pkg:npm/kelp@1.0.0 vulnerable_code_not_in_execute_path never called\n" +
			"ISLE-2: it says under_investigation\nISLE-3: it says affected\nISLE-4 for pkg:npm/kelp@2.0.0  ",
	} {
		if got := accepted(t, raw); got != want {
			t.Errorf("accepted is\n%s\nnot\n%s", got, want)
		}
	}
	for _, raw := range []string{"", "{}", "[]", `{"bomFormat": "other"}`, `{"@context": "https://openvex.dev/ns", "statements": 3}`} {
		if all, err := ParseVEX([]byte(raw)); err == nil {
			t.Errorf("%q is read as %v", raw, all)
		}
	}
}

// TestWriteVEX: what is written is read back as it was.
func TestWriteVEX(t *testing.T) {
	now := time.Date(2026, 11, 20, 8, 0, 0, 0, time.UTC)
	var all []Statement
	for pattern, justification := range map[string]string{"pkg:npm/@skerry/deck-ui@2.0.0": "component_not_present",
		"pkg:npm/kelp@1.0.0": "", "pkg:npm/*": "", "pkg:npm/kelp@1.*": "", "pkg:npm/kelp@vers:npm/<2": ""} {
		p, err := purl.ParsePattern(pattern)
		if err != nil {
			t.Fatal(err)
		}
		if s, ok := StatementOf(Waiver{Advisory: "ISLE-1", Pattern: p, Reason: "only ours", Until: now}, justification); ok {
			all = append(all, s)
		}
	}
	if len(all) != 2 {
		t.Fatalf("%d of the waivers can be said: %+v", len(all), all)
	}
	for name, write := range map[string]func() ([]byte, error){
		"OpenVEX":   func() ([]byte, error) { return OpenVEX(all, "urn:x", "Crelvo", now) },
		"CycloneDX": func() ([]byte, error) { return CycloneVEX(all, now) },
	} {
		raw, err := write()
		if err != nil {
			t.Fatal(err)
		}
		got := strings.Split(accepted(t, string(raw)), "\n")
		want := "ISLE-1 for pkg:npm/@skerry/deck-ui@2.0.0 component_not_present only ours (until 2026-11-20)"
		if len(got) != 2 || !strings.Contains(strings.Join(got, "\n"), want) ||
			!strings.Contains(strings.Join(got, "\n"), "ISLE-1: it says affected") {
			t.Errorf("%s: %q", name, got)
		}
	}
}

func FuzzParseVEX(f *testing.F) {
	f.Add([]byte(openVEXDocument))
	f.Add([]byte(cycloneVEXDocument))
	f.Fuzz(func(t *testing.T, raw []byte) {
		all, err := ParseVEX(raw)
		if err != nil {
			return
		}
		for _, s := range all {
			if patterns, why := s.Accepts(); (len(patterns) == 0) != (why != "") {
				t.Errorf("%+v: %v, %q", s, patterns, why)
			}
		}
	})
}
