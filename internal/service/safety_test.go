package service

import (
	"archive/zip"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"path"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	core "crelvo/internal/core/safety"
	"crelvo/internal/ecosystem"
	"crelvo/internal/record"
	"crelvo/internal/record/recordtest"
	"crelvo/internal/service/repositories"
	"crelvo/internal/service/safety"
)

// osvRecord is a record of the OSV format about versions of a package before a fix.
func osvRecord(id, ecosystem, name, fixed, modified, more string) string {
	return fmt.Sprintf(`{"id": %q, "modified": %q, "summary": "It %s leaks", %s "affected": [{"package":
		{"ecosystem": %q, "name": %q}, "ranges": [{"type": "ECOSYSTEM", "events": [{"introduced": "0"}, {"fixed": %q}]}]}]}`,
		id, modified, name, more, ecosystem, name, fixed)
}

const rated = `"severity": [{"type": "CVSS_V3", "score": "CVSS:3.1/AV:N/AC:L/PR:N/UI:N/S:U/C:H/I:H/A:H"}],`

// jarOf asks for the jar of a version, and tells as what it is refused.
func (n *node) jarOf(t *testing.T, r catalog.Repository, version string) (code string) {
	t.Helper()
	_, err := n.Resolving.File(t.Context(), catalog.FileQuestion{Key: r.Key("maven", "example.skerry.berth", "tide-model"),
		Version: version, Extension: "jar"})
	if errors.Is(err, ecosystem.ErrNoFile) {
		return "absent"
	}
	if err != nil {
		return fault.Of(err).Code
	}
	return ""
}

// versionsOf lists the versions that a document would have.
func (n *node) versionsOf(t *testing.T, r catalog.Repository) (versions []string) {
	t.Helper()
	p, err := n.Resolving.Package(t.Context(), r.Key("maven", "example.skerry.berth", "tide-model"))
	if errors.Is(err, ecosystem.ErrNoPackage) {
		return nil
	}
	if err != nil {
		t.Fatal(err)
	}
	for _, v := range p.Versions {
		versions = append(versions, v.Version)
	}
	slices.Sort(versions)
	return versions
}

func (n *node) imports(t *testing.T, records ...string) record.FeedReport {
	t.Helper()
	report, err := n.Safety.Import(t.Context(), n.admin, "ours.json", []byte("["+strings.Join(records, ",")+"]"))
	if err != nil {
		t.Fatal(err)
	}
	return report
}

// What advisories are about is kept out of files and documents alike, by what is malicious
// everywhere, and by the others where the repository says so; at once, and at every node.
func TestKeptOut(t *testing.T) {
	url := recordtest.URL(t)
	n, other := newNode(t, url), newNode(t, url)
	ctx, stop := context.WithCancel(t.Context())
	var running sync.WaitGroup
	running.Go(func() { n.Run(ctx) })
	running.Go(func() { other.Run(ctx) })
	defer func() { stop(); running.Wait() }()
	r := n.repository(t)
	behind, err := n.Repositories.AddRepository(t.Context(), n.admin, repositories.NewRepository{
		Repository: catalog.Repository{Name: "platform", Kind: catalog.Chain, Holds: catalog.Both},
		Members:    []repositories.NewMember{{Name: r.Name}}})
	if err != nil {
		t.Fatal(err)
	}
	for _, version := range []string{"1.3", "1.4", "1.5"} {
		if err := n.publish(t, r, version, version); err != nil {
			t.Fatal(err)
		}
	}
	// is waits until it is so at both nodes, by itself and through a chain.
	is := func(when string, out ...string) {
		t.Helper()
		var want []string
		for _, v := range []string{"1.3", "1.4", "1.5"} {
			if !slices.Contains(out, v) {
				want = append(want, v)
			}
		}
		end := time.Now().Add(20 * time.Second)
		for {
			wrong := ""
			for _, at := range []*node{n, other} {
				for _, of := range []catalog.Repository{r, behind} {
					if got := at.versionsOf(t, of); !slices.Equal(got, want) {
						wrong = fmt.Sprintf("the document of %s has %v, not %v", of.Name, got, want)
					}
					for _, v := range []string{"1.3", "1.4", "1.5"} {
						code := map[bool]string{true: ecosystem.KeptOut}[slices.Contains(out, v)]
						if got := at.jarOf(t, of, v); got != code {
							wrong = fmt.Sprintf("%s of %s is answered with %q, not %q", v, of.Name, got, code)
						}
					}
				}
			}
			if wrong == "" {
				return
			}
			if time.Now().After(end) {
				t.Fatalf("%s: %s", when, wrong)
			}
			time.Sleep(10 * time.Millisecond)
		}
	}
	is("nothing is known")

	const name = "example.skerry.berth:tide-model"
	first := osvRecord("ISLE-1", "Maven", name, "1.5", "2026-11-01T08:00:00Z", rated)
	if report := n.imports(t, first); report.Added != 1 {
		t.Errorf("the report is %+v", report)
	}
	is("an advisory alone")
	critical := core.Critical
	if _, err := n.Repositories.EditRepository(t.Context(), n.admin, r.Name,
		repositories.SettingsChange{Refuse: &critical}); err != nil {
		t.Fatal(err)
	}
	is("the repository keeps out what is critical", "1.3", "1.4")

	waived, err := other.Safety.Waive(t.Context(), other.admin, safety.NewWaiver{Advisory: "ISLE-1",
		Pattern: "pkg:maven/example.skerry.berth/tide-model@1.4", Reason: "only our own input",
		Until: time.Now().Add(time.Hour)})
	if err != nil {
		t.Fatal(err)
	}
	is("one version is waived", "1.3")
	if err := n.Safety.EndWaiver(t.Context(), n.admin, waived.ID); err != nil {
		t.Fatal(err)
	}
	is("the waiver was ended", "1.3", "1.4")
	if _, err := n.Safety.Waive(t.Context(), n.admin, safety.NewWaiver{Advisory: "ISLE-1",
		Pattern: "pkg:maven/example.skerry.berth/tide-model", Reason: "for a moment",
		Until: time.Now().Add(1500 * time.Millisecond)}); err != nil {
		t.Fatal(err)
	}
	is("all of it is waived")
	is("the waiver ended by itself", "1.3", "1.4")

	if report := n.imports(t, osvRecord("ISLE-1", "Maven", name, "1.4", "2026-11-02T08:00:00Z",
		rated)); report.Changed != 1 {
		t.Errorf("the report is %+v", report)
	}
	is("the advisory says less now", "1.3")
	if report := n.imports(t, first); report.Changed+report.Added != 0 {
		t.Errorf("what was known before replaces it: %+v", report)
	}
	is("what was known before came again", "1.3")
	n.imports(t, osvRecord("ISLE-1", "Maven", name, "1.5", "2026-11-03T08:00:00Z",
		rated+`"withdrawn": "2026-11-03T08:00:00Z",`))
	is("the advisory was withdrawn")

	n.imports(t, osvRecord("MAL-2026-1", "Maven", name, "1.4", "2026-11-03T08:00:00Z", ""))
	is("what is malicious", "1.3")
	none := core.Unknown
	if _, err := n.Repositories.EditRepository(t.Context(), n.admin, r.Name,
		repositories.SettingsChange{Refuse: &none}); err != nil {
		t.Fatal(err)
	}
	is("whatever the repository says", "1.3")
	_, err = n.Safety.Waive(t.Context(), n.admin, safety.NewWaiver{Advisory: "MAL-2026-1", Pattern: "pkg:maven/example.skerry.berth/*",
		Reason: "it is ours"})
	if fault.Of(err).Code != "too-wide" {
		t.Errorf("a wide waiver of what is malicious: %v", err)
	}
	n.imports(t, osvRecord("MAL-2026-2", "Maven", name, "99", "2026-11-03T08:00:00Z", ""))
	is("nothing is let in", "1.3", "1.4", "1.5")
	why := n.Resolving.WhyNot(t.Context(), behind.Key("maven", "example.skerry.berth", "tide-model"), "")
	if why == nil || !strings.Contains(why.Message, "malicious") {
		t.Errorf("why nothing is there is told as %v", why)
	}
	explained, err := n.Resolving.Explain(t.Context(), n.admin, purl.PURL{Ecosystem: "maven", Namespace: "example.skerry.berth",
		Name: "tide-model", Version: "1.5"}, "platform")
	if err != nil || len(explained.Answering()) != 0 || explained.Steps[0].Said != "kept out" {
		t.Errorf("it is explained as %+v, %v", explained.Steps, err)
	}
	if all, _, err := n.Safety.Affected(t.Context(), n.admin); err != nil || len(all) != 3 ||
		all[0].Finding.ID != "MAL-2026-1" || !all[0].Refused {
		t.Errorf("what is affected is %+v, %v", all, err)
	}
}

// published is a feed in the layout in which OSV publishes.
type published struct {
	mu      sync.Mutex
	records map[string][2]string // by id: when it changed, and itself
	asked   []string
	broken  string // what is answered with a failure
}

func (p *published) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	p.mu.Lock()
	defer p.mu.Unlock()
	name := strings.TrimPrefix(r.URL.Path, "/all/")
	p.asked = append(p.asked, name)
	dir, file := path.Split(name)
	switch {
	case name == p.broken:
		http.Error(w, "broken", http.StatusBadGateway)
	case dir != "Maven/":
		http.NotFound(w, r)
	case file == "modified_id.csv":
		var lines []string
		for id, of := range p.records {
			lines = append(lines, of[0]+","+id)
		}
		slices.Sort(lines)
		slices.Reverse(lines)
		fmt.Fprintln(w, strings.Join(lines, "\n"))
	case file == "all.zip":
		var raw bytes.Buffer
		archive := zip.NewWriter(&raw)
		for id, of := range p.records {
			if entry, err := archive.Create(id + ".json"); err == nil {
				fmt.Fprint(entry, of[1])
			}
		}
		if err := archive.Close(); err != nil {
			http.Error(w, err.Error(), http.StatusInternalServerError)
			return
		}
		w.Write(raw.Bytes()) //nolint:errcheck // a client that left
	default:
		of, ok := p.records[strings.TrimSuffix(file, ".json")]
		if !ok {
			http.NotFound(w, r)
			return
		}
		fmt.Fprint(w, of[1])
	}
}

func (p *published) put(id, modified, record string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.records[id] = [2]string{modified, record}
}

// taken gives what was asked for since the last time.
func (p *published) taken() (asked []string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	asked, p.asked = p.asked, nil
	return slices.DeleteFunc(asked, func(name string) bool { return !strings.HasPrefix(name, "Maven/") })
}

// A feed is read whole once, and then by what changed; a run that failed goes on where it was.
func TestFeed(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	there := &published{records: map[string][2]string{}}
	server := httptest.NewServer(there)
	defer server.Close()
	one := func(i int, modified string) string {
		id := fmt.Sprintf("ISLE-%d", i)
		record := osvRecord(id, "Maven", fmt.Sprintf("org.openshore:brine-%d", i), "2.0", modified, rated)
		there.put(id, modified, record)
		return id
	}
	for i := range 20 {
		one(i, fmt.Sprintf("2026-11-01T08:00:%02dZ", i))
	}
	there.put("DSA-1", "2026-11-01T07:00:00Z", `{"id": "DSA-1", "modified": "2026-11-01T07:00:00Z", "affected": []}`)
	hostile := "ISLE-X\x1b[2J" + strings.Repeat("y", 5000)
	there.put(hostile, "2026-11-01T07:00:00Z", `{"id": "ISLE-X"}`)
	// ended waits until a feed was read.
	ended := func() record.Feed {
		t.Helper()
		for end := time.Now().Add(20 * time.Second); time.Now().Before(end); time.Sleep(5 * time.Millisecond) {
			f, err := n.Safety.Feed(t.Context(), n.admin, "openshore")
			if err != nil {
				t.Fatal(err)
			}
			if f.EndedAt != nil && !f.Running {
				return f
			}
		}
		t.Fatal("the feed is not read")
		return record.Feed{}
	}
	run := func() record.Feed {
		t.Helper()
		if _, err := n.Safety.RunFeed(t.Context(), n.admin, "openshore"); err != nil {
			t.Fatal(err)
		}
		return ended()
	}
	if _, err := n.Safety.AddFeed(t.Context(), n.admin, safety.NewFeed{Name: "openshore",
		Location: server.URL + "/all"}); err != nil {
		t.Fatal(err)
	}
	f := ended()
	if r := f.Report; f.Failure != "" || r.Read != 22 || r.Added != 20 || r.Foreign != 1 || r.Failed != 1 ||
		len(r.Faults) != 1 || !strings.Contains(r.Faults[0], "ISLE-X") || strings.Contains(r.Faults[0], "\x1b") ||
		len(r.Faults[0]) > 400 {
		t.Errorf("the first run: %+v, %q", r, f.Failure)
	}
	if asked := there.taken(); !slices.Equal(asked, []string{"Maven/modified_id.csv", "Maven/all.zip"}) {
		t.Errorf("it asked for %v", asked)
	}
	if f = run(); f.Report.Read != 0 || f.Failure != "" {
		t.Errorf("nothing is new: %+v, %q", f.Report, f.Failure)
	}
	if asked := there.taken(); !slices.Equal(asked, []string{"Maven/modified_id.csv"}) {
		t.Errorf("it asked for %v", asked)
	}
	for i := range 150 { // three change at a time
		one(100+i, time.Date(2026, 11, 2, 8, 0, i/3, 0, time.UTC).Format(time.RFC3339))
	}
	one(3, "2026-11-02T09:00:00Z")
	there.broken = "Maven/ISLE-230.json"
	if f = run(); !strings.Contains(f.Failure, "502") || f.Report.Added != 100 {
		t.Errorf("a run that fails in the middle: %+v, %q", f.Report, f.Failure)
	}
	there.taken()
	there.broken = ""
	if f = run(); f.Failure != "" || f.Report.Added != 50 || f.Report.Changed != 1 || len(there.taken()) != 53 {
		t.Errorf("it goes on: %+v, %q", f.Report, f.Failure)
	}
	if counts, err := n.DB.CountAdvisories(t.Context()); err != nil || counts.Advisories != 170 {
		t.Errorf("%+v are known, %v", counts, err)
	}
	events := 0
	if err := n.Rights.Events(t.Context(), n.admin, record.EventFilter{Action: "advisories imported", Limit: 100},
		func(record.SealedEvent) error { events++; return nil }); err != nil || events != 3 {
		t.Errorf("%d events tell of it, %v", events, err)
	}
}

// A small file that unpacks to much is read no further than it may be, and what was read of
// it stays.
func TestImportIsBounded(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	var raw bytes.Buffer
	archive := zip.NewWriter(&raw)
	put := func(name, content string) {
		entry, err := archive.Create(name)
		if err == nil {
			_, err = io.WriteString(entry, content)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	for i := range 600 {
		put(fmt.Sprintf("ISLE-%d.json", i), osvRecord(fmt.Sprintf("ISLE-%d", i), "npm", "kelp-colors", "2.0.0",
			"2026-11-01T08:00:00Z", rated))
	}
	spaces := strings.Repeat(" ", 4<<20)
	for i := range 100 {
		put(fmt.Sprintf("zero-%d.json", i), spaces)
	}
	if err := archive.Close(); err != nil {
		t.Fatal(err)
	}
	report, err := n.Safety.Import(t.Context(), n.admin, "all.zip", raw.Bytes())
	if f := fault.Of(err); f.Code != "too-large" || !strings.Contains(f.Hint, "feed") {
		t.Errorf("it is taken as %+v, %v", report, err)
	}
	if counts, err := n.DB.CountAdvisories(t.Context()); err != nil || counts.Advisories < 500 {
		t.Errorf("%+v are known, %v", counts, err)
	}
}
