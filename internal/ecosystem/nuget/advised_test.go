package nuget

import (
	"encoding/json"
	"strings"
	"testing"

	"crelvo/internal/core/purl"
	"crelvo/internal/core/safety"
	"crelvo/internal/ecosystem/ecosystemtest"
)

// TestAdvised follows the way from the service index to what is known; where nothing is, there
// is no such way.
func TestAdvised(t *testing.T) {
	d := ecosystemtest.NewDesk(t, NuGet{})
	if index := d.Get(200, "index.json"); strings.Contains(index, "VulnerabilityInfo") {
		t.Errorf("what is not known is offered: %s", index)
	}
	d.Get(404, "vulnerabilities/index.json")
	known := func(id, name string, s safety.Severity, versions []string, events ...safety.Event) safety.Known {
		return safety.Known{ID: id, Rating: safety.Rating{Severity: s}, Affected: safety.Affected{Versions: versions,
			Package: purl.PURL{Ecosystem: Name, Name: name}, Ranges: []safety.Range{{Events: events}}}}
	}
	zero := safety.Event{Kind: safety.Introduced, Version: "0"}
	d.Known = []safety.Known{
		known("ISLE-1", "openshore.serial", safety.High, []string{"0.9.0"}, zero,
			safety.Event{Kind: safety.Fixed, Version: "2.1.0"}),
		known("ISLE-2", "openshore.serial", safety.Low, nil, safety.Event{Kind: safety.Introduced, Version: "3.0.0"},
			safety.Event{Kind: safety.LastAffected, Version: "3.2.0"}),
		known("MAL-1", "open.shore", safety.Unknown, nil, zero),
	}
	ecosystemtest.Says(t, d.Get(200, "index.json"), `"@type":"VulnerabilityInfo/6.7.0"`, "vulnerabilities/index.json")
	var pages []advisedPage
	if err := json.Unmarshal([]byte(d.Get(200, "vulnerabilities/index.json")), &pages); err != nil || len(pages) != 1 {
		t.Fatalf("%+v, %v", pages, err)
	}
	_, path, ok := strings.Cut(pages[0].ID, doorAdvised)
	var all map[string][]advised
	if err := json.Unmarshal([]byte(d.Get(200, doorAdvised+path)), &all); err != nil || !ok {
		t.Fatalf("%s: %v", pages[0].ID, err)
	}
	page := "http://packages.skerry.example/safety/advisories/"
	want := map[string][]advised{
		"openshore.serial": {{page + "ISLE-1", 2, "(, 2.1.0)"}, {page + "ISLE-1", 2, "[0.9.0]"},
			{page + "ISLE-2", 0, "[3.0.0, 3.2.0]"}},
		"open.shore": {{page + "MAL-1", 3, "(, )"}}}
	for name, ranges := range want {
		if len(all[name]) != len(ranges) {
			t.Fatalf("%s: %+v", name, all[name])
		}
		for i, one := range ranges {
			if all[name][i] != one {
				t.Errorf("%s: %+v, not %+v", name, all[name][i], one)
			}
		}
	}
	d.Known = []safety.Known{}
	if said := d.Get(200, "vulnerabilities/all.json"); said != "{}" {
		t.Errorf("nothing about a package of NuGet: %s", said)
	}
	d.Get(404, "vulnerabilities/other.json")
}
