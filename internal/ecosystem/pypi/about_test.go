package pypi

import (
	"encoding/json"
	"strings"
	"testing"

	"crelvo/internal/core/purl"
	"crelvo/internal/core/safety"
	"crelvo/internal/ecosystem/ecosystemtest"
)

// TestAbout: the document about a version has its files and what advisories say of it, and
// says nothing of vulnerabilities where none are known.
func TestAbout(t *testing.T) {
	d := ecosystemtest.NewDesk(t, PyPI{})
	for _, version := range []string{"0.6.0", "0.7.0", "0.8.0.dev1"} {
		p := tide
		p.Version = version
		upload(t, d, 200, p, p.WheelName(), p.Wheel())
	}
	ask := func(path string) (a about) {
		t.Helper()
		if err := json.Unmarshal([]byte(d.Get(200, path)), &a); err != nil {
			t.Fatal(err)
		}
		return a
	}
	if a := ask("tidecast/json"); a.Info.Version != "0.7.0" || a.Vulnerabilities != nil || len(a.URLs) != 1 ||
		!strings.HasSuffix(a.URLs[0].URL, "/tidecast-0.7.0-py3-none-any.whl") || len(a.URLs[0].Digests["sha256"]) != 64 ||
		a.Info.Summary != tide.Description || a.URLs[0].PackageType != "bdist_wheel" {
		t.Errorf("where no advisories are known: %+v", a)
	}
	d.Known = []safety.Known{{ID: "ISLE-1", Summary: "It leaks", Affected: safety.Affected{
		Package: purl.PURL{Ecosystem: Name, Name: "tidecast"}, Ranges: []safety.Range{{Events: []safety.Event{
			{Kind: safety.Introduced, Version: "0"}, {Kind: safety.Fixed, Version: "0.7.0"}}}}}}}
	if a := ask("Tidecast/0.6/json"); a.Vulnerabilities == nil || len(*a.Vulnerabilities) != 1 ||
		(*a.Vulnerabilities)[0].ID != "ISLE-1" || (*a.Vulnerabilities)[0].FixedIn[0] != "0.7.0" {
		t.Errorf("a version that is affected: %+v", a)
	}
	if a := ask("tidecast/0.7.0/json"); a.Vulnerabilities == nil || len(*a.Vulnerabilities) != 0 {
		t.Errorf("one that is not: %+v", a)
	}
	d.Get(404, "tidecast/9.9.9/json")
	d.Get(404, "kelp/json")
}
