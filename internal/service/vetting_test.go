package service

import (
	"context"
	"crypto/sha1"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	core "crelvo/internal/core/safety"
	"crelvo/internal/ecosystem"
	"crelvo/internal/ecosystem/madeup"
	"crelvo/internal/record/recordtest"
	"crelvo/internal/service/repositories"
	"crelvo/internal/service/safety"
)

// kelp is an npm upstream with a package whose versions were published days ago, by their versions.
func kelp(
	t *testing.T, name string, more map[string]string, daysAgo map[string]int, inside ...map[string][]madeup.Entry,
) map[string]string {
	t.Helper()
	files, times, versions, newest := map[string]string{}, map[string]string{}, map[string]any{}, ""
	for version, days := range daysAgo {
		manifest := fmt.Sprintf(`{"name": %q, "version": %q, %s}`, name, version, more[version])
		if more[version] == "" {
			manifest = fmt.Sprintf(`{"name": %q, "version": %q, "license": "MIT"}`, name, version)
		}
		entries := []madeup.Entry{{Name: "package/package.json", Content: manifest}}
		for _, more := range inside {
			entries = append(entries, more[version]...)
		}
		archive := string(madeup.TarGz(entries...))
		path := name + "/-/" + name + "-" + version + ".tgz"
		sum := sha1.Sum([]byte(archive))
		var fields map[string]any
		if err := json.Unmarshal([]byte(manifest), &fields); err != nil {
			t.Fatal(err)
		}
		fields["dist"] = map[string]any{"tarball": path, "shasum": hex.EncodeToString(sum[:])}
		versions[version], files[path] = fields, archive
		times[version] = time.Now().AddDate(0, 0, -days).UTC().Format(time.RFC3339)
		if newest == "" || purl.Compare("npm", version, newest) > 0 {
			newest = version
		}
	}
	raw, err := json.Marshal(map[string]any{"name": name, "dist-tags": map[string]string{"latest": newest}, "time": times,
		"versions": versions})
	if err != nil {
		t.Fatal(err)
	}
	files[name] = string(raw)
	return files
}

// outside is a repository with what may be asked of it.
type outside struct {
	*node
	r catalog.Repository
}

// has lists the versions that a document has, the lowest first.
func (o outside) has(t *testing.T, ecosystemName, namespace, name string) (versions []string) {
	t.Helper()
	p, err := o.Resolving.Package(t.Context(), o.r.Key(ecosystemName, namespace, name))
	if errors.Is(err, ecosystem.ErrNoPackage) {
		return nil
	}
	if err != nil {
		t.Fatal(err)
	}
	for _, v := range p.Versions {
		versions = append(versions, v.Version)
	}
	slices.SortFunc(versions, func(a, b string) int { return purl.Compare(ecosystemName, a, b) })
	return versions
}

// file asks for a file of a version: "" if it is there, else the code of the refusal or absent.
func (o outside) file(
	t *testing.T, ecosystemName, namespace, name, version, file string,
) (code string, f *fault.Error) {
	t.Helper()
	_, err := o.Resolving.File(t.Context(), catalog.FileQuestion{Key: o.r.Key(ecosystemName, namespace, name),
		Version: version, Name: file})
	switch {
	case errors.Is(err, ecosystem.ErrNoFile):
		return "absent", nil
	case err != nil:
		return fault.Of(err).Code, fault.Of(err)
	}
	return "", nil
}

// TestComesIn: what comes from outside is let in by age, licence, rules and people, in documents
// and files alike, by itself and through chains, of which each decides for itself.
func TestComesIn(t *testing.T) {
	url := recordtest.URL(t)
	n, second := newNode(t, url), newNode(t, url)
	ctx, stop := context.WithCancel(t.Context())
	var running sync.WaitGroup
	running.Go(func() { n.Run(ctx) })
	running.Go(func() { second.Run(ctx) })
	defer func() { stop(); running.Wait() }()
	shore := newElsewhere(t, kelp(t, "kelp", map[string]string{"1.1.0": `"license": "AGPL-3.0-only"`,
		"1.3.0": `"license": "MIT", "scripts": {"postinstall": "node tide.js"}, "dependencies": {"wrack": "^1.0.0"}`},
		map[string]int{"1.0.0": 60, "1.1.0": 40, "1.2.0": 20, "1.3.0": 10, "1.4.0": 1}))
	for path, content := range kelp(t, "wrack", nil, map[string]int{"1.0.0": 100}) {
		shore.put(path, content)
	}
	mirror, err := n.Repositories.AddRepository(t.Context(), n.admin, repositories.NewRepository{
		Repository: catalog.Repository{Name: "shore-npm", Kind: catalog.Mirror, Holds: catalog.Both, Ecosystem: "npm",
			Mirror: &catalog.MirrorSettings{Upstreams: []catalog.Upstream{{URL: shore.URL}}}}})
	if err != nil {
		t.Fatal(err)
	}
	behind := func(name string) catalog.Repository {
		r, err := n.Repositories.AddRepository(t.Context(), n.admin, repositories.NewRepository{
			Repository: catalog.Repository{Name: name, Kind: catalog.Chain, Holds: catalog.Both},
			Members:    []repositories.NewMember{{Name: mirror.Name}}})
		if err != nil {
			t.Fatal(err)
		}
		return r
	}
	north, south := behind("north"), behind("south")
	all := []string{"1.0.0", "1.1.0", "1.2.0", "1.3.0", "1.4.0"}
	// is waits until a repository has just these versions, in documents and files, at both nodes.
	is := func(when string, r catalog.Repository, want ...string) {
		t.Helper()
		end := time.Now().Add(20 * time.Second)
		for {
			wrong := ""
			for _, at := range []outside{{n, r}, {second, r}} {
				if got := at.has(t, "npm", "", "kelp"); !slices.Equal(got, want) {
					wrong = fmt.Sprintf("the document of %s has %v, not %v", r.Name, got, want)
				}
				for _, v := range all {
					if wrong != "" {
						break // what is let in too early would be kept
					}
					code, _ := at.file(t, "npm", "", "kelp", v, "kelp-"+v+".tgz")
					if wants := map[bool]string{true: "", false: ecosystem.KeptOut}[slices.Contains(want, v)]; code != wants {
						wrong = fmt.Sprintf("%s of %s is answered with %q, not %q", v, r.Name, code, wants)
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
	set := func(r catalog.Repository, rules core.Rules) {
		t.Helper()
		if _, err := n.Repositories.EditRepository(t.Context(), n.admin, r.Name, repositories.SettingsChange{
			Admission: func(was *core.Rules) { *was = rules }}); err != nil {
			t.Fatal(err)
		}
	}
	vet := func(refused bool, pattern string, in ...string) int64 {
		t.Helper()
		made, err := n.Safety.Vet(t.Context(), n.admin, safety.NewVetting{Refused: refused, Patterns: []string{pattern},
			Repositories: in, Reason: "read through"})
		if err != nil {
			t.Fatal(err)
		}
		return made[0].ID
	}
	rule := func(text string) core.Acceptance {
		a, err := core.ParseAcceptance(text)
		if err != nil {
			t.Fatal(err)
		}
		return a
	}
	const days = 24 * time.Hour

	set(north, core.Rules{Cooldown: 15 * days})
	is("too young", north, "1.0.0", "1.1.0", "1.2.0")
	_, f := outside{n, north}.file(t, "npm", "", "kelp", "1.4.0", "kelp-1.4.0.tgz")
	if f == nil || !strings.Contains(f.Message, "north keeps out pkg:npm/kelp@1.4.0: it was published on ") ||
		!strings.Contains(f.Hint, "admin can let it in before") {
		t.Errorf("it is refused with %+v", f)
	}
	is("who says nothing", south, all...) // which has all of it kept from now on
	is("what is kept stays", north, all...)
	set(north, core.Rules{Licences: core.LicenceRules{Refuse: []string{"AGPL-*"}}})
	is("a licence", north, "1.0.0", "1.2.0", "1.3.0", "1.4.0")
	set(north, core.Rules{Vets: true})
	is("everything awaits", north)
	wide := vet(false, "pkg:npm/kelp@vers:npm/>=1.1.0|<1.4.0", "north")
	is("a range is accepted", north, "1.1.0", "1.2.0", "1.3.0")
	no := vet(true, "pkg:npm/kelp@1.2.0")
	is("one is refused", north, "1.1.0", "1.3.0")
	is("and everywhere", south, "1.0.0", "1.1.0", "1.3.0", "1.4.0")
	for _, id := range []int64{wide, no} {
		if err := n.Safety.EndVetting(t.Context(), n.admin, id); err != nil {
			t.Fatal(err)
		}
	}
	is("decisions end", north)
	is("here too", south, all...)
	set(north, core.Rules{Vets: true, Accepts: []core.Acceptance{rule("older-than 30d, licences MIT"),
		rule("only pkg:npm/kelp@1.3.0, no-advisories from low")}})
	is("rules", north, "1.0.0", "1.3.0")
	n.imports(t, osvRecord("ISLE-7", "npm", "kelp", "1.4.0", "2026-11-01T08:00:00Z", rated))
	is("an advisory", north, "1.0.0")
	if got := (outside{n, north}).has(t, "npm", "", "wrack"); !slices.Equal(got, []string{"1.0.0"}) {
		t.Errorf("of another there is %v", got)
	}

	a, err := second.Vetting.Assess(t.Context(), second.admin, "north", purl.PURL{Ecosystem: "npm", Name: "kelp", Version: "1.3.0"})
	if err == nil {
		err = second.Vetting.AddNeeds(t.Context(), &a)
	}
	if err != nil {
		t.Fatal(err)
	}
	if a.Verdict.Ground != core.Awaiting || !a.Facts.Runs || len(a.Findings) != 1 || a.Before == nil ||
		a.Before.Version != "1.0.0" ||
		len(a.Tried) != 2 || !a.Tried[1][0].Fits || a.Tried[1][1].Fits || len(a.Needs) != 1 ||
		a.Needs[0].PURL.String() != "pkg:npm/wrack@1.0.0" || a.Needs[0].Verdict.Refused {
		t.Errorf("what is known is %+v", a)
	}
}

// TestQueue: who is refused what awaits a decision is on record once, whoever asks; what was
// decided is gone from it.
func TestQueue(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	ctx, stop := context.WithCancel(t.Context())
	var running sync.WaitGroup
	running.Go(func() { n.Run(ctx) })
	defer func() { stop(); running.Wait() }()
	shore := newElsewhere(t, kelp(t, "kelp", nil, map[string]int{"1.0.0": 60, "1.1.0": 40}))
	mirror, err := n.Repositories.AddRepository(t.Context(), n.admin, repositories.NewRepository{
		Repository: catalog.Repository{Name: "shore-npm", Kind: catalog.Mirror, Holds: catalog.Both, Ecosystem: "npm",
			Safety: core.Rules{Vets: true}, Mirror: &catalog.MirrorSettings{Upstreams: []catalog.Upstream{{URL: shore.URL}}}}})
	if err != nil {
		t.Fatal(err)
	}
	o := outside{n, mirror}
	wants := func(caller access.Caller, version string) *fault.Error {
		t.Helper()
		_, f := o.file(t, "npm", "", "kelp", version, "kelp-"+version+".tgz")
		if f == nil {
			t.Fatal("it is let in")
		}
		return n.Vetting.Wanted(t.Context(), caller, f)
	}
	queue := func() []string {
		t.Helper()
		all, _, err := n.Vetting.Queue(t.Context(), n.admin, "")
		if err != nil {
			t.Fatal(err)
		}
		var said []string
		for _, w := range all {
			said = append(said, fmt.Sprintf("%s %d %s %s", w.PURL.Typed(), w.Asked, strings.Join(w.By, "+"), w.Purpose))
		}
		slices.Sort(said)
		return said
	}
	skipper := access.Caller{ID: 77, Name: "skipper"}
	if f := wants(access.Caller{}, "1.0.0"); f.Hint != "Sign in, and it is put before admin." {
		t.Errorf("a stranger is told %q", f.Hint)
	}
	if f := wants(skipper, "1.0.0"); !strings.Contains(f.Hint, "It was put before admin.") {
		t.Errorf("who asks is told %q", f.Hint)
	}
	wants(skipper, "1.0.0") // at once again, which is not written
	wants(n.admin, "1.0.0")
	// Who asks for what there is of the package wants the newest.
	if f := n.Resolving.WhyNot(t.Context(), mirror.Key("npm", "", "kelp"), ""); f == nil {
		t.Error("nobody says why there is nothing")
	} else {
		n.Vetting.Wanted(t.Context(), skipper, f)
	}
	if got := queue(); !slices.Equal(got, []string{"pkg:npm/kelp@1.0.0 2 skipper+admin ",
		"pkg:npm/kelp@1.1.0 1 skipper "}) {
		t.Errorf("the queue is %q", got)
	}
	kelpIs := purl.PURL{Ecosystem: "npm", Name: "kelp"}
	if _, err := n.Vetting.Ask(t.Context(), n.admin, "shore-npm", kelpIs, " the tide table "); err != nil {
		t.Fatal(err)
	}
	if got := queue(); got[1] != "pkg:npm/kelp@1.1.0 2 skipper+admin the tide table" {
		t.Errorf("the queue is %q", got)
	}
	if _, err := n.Safety.Vet(t.Context(), n.admin, safety.NewVetting{Patterns: []string{"pkg:npm/kelp@1.1.0"},
		Repositories: []string{"shore-npm"}, Reason: "read through"}); err != nil {
		t.Fatal(err)
	}
	for end := time.Now().Add(20 * time.Second); len(queue()) != 1; {
		if time.Now().After(end) {
			t.Fatalf("what was decided stays: %q", queue())
		}
	}
	if _, err := n.Vetting.Ask(t.Context(), n.admin, "shore-npm", kelpIs, ""); fault.Of(err).Code != "let-in" {
		t.Errorf("what is let in is asked for: %v", err)
	}
	for code, bad := range map[string]safety.NewVetting{
		"no-reason":          {Patterns: []string{"pkg:npm/kelp"}},
		"bad-pattern":        {Patterns: []string{"kelp"}, Reason: "read through"},
		"bad-time":           {Patterns: []string{"pkg:npm/kelp"}, Reason: "read through", Until: time.Now().Add(-time.Hour)},
		"role-missing":       {Patterns: []string{"pkg:npm/kelp"}, Reason: "read through"},
		"no-such-repository": {Patterns: []string{"pkg:npm/kelp"}, Reason: "read through", Repositories: []string{"nowhere"}},
	} {
		caller := n.admin
		if code == "role-missing" {
			caller = skipper
		}
		if _, err := n.Safety.Vet(t.Context(), caller, bad); fault.Of(err).Code != code {
			t.Errorf("%+v is answered with %v, not %s", bad, err, code)
		}
	}
}

// TestLooksLike: a name that looks like one of ours awaits a person, whatever rules accept.
func TestLooksLike(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	if err := n.publish(t, n.repository(t), "1.3", "1.3"); err != nil {
		t.Fatal(err)
	}
	list := func(name string) string {
		return "<metadata><groupId>example.skerry.berth</groupId><artifactId>" + name +
			"</artifactId><versioning><versions><version>1.0</version></versions></versioning></metadata>"
	}
	mirror := n.mirror(t, "shore", newElsewhere(t, map[string]string{
		"example/skerry/berth/tide-mode1/maven-metadata.xml": list("tide-mode1"),
		"example/skerry/berth/wave/maven-metadata.xml":       list("wave")}).URL, nil)
	everything, err := core.ParseAcceptance("only pkg:maven/*")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := n.Repositories.EditRepository(t.Context(), n.admin, mirror.Name, repositories.SettingsChange{
		Admission: func(r *core.Rules) { r.Vets, r.Accepts = true, []core.Acceptance{everything} }}); err != nil {
		t.Fatal(err)
	}
	for name, why := range map[string]string{"tide-mode1": "its name looks like example.skerry.berth/tide-model", "wave": ""} {
		a, err := n.Vetting.Assess(t.Context(), n.admin, mirror.Name, purl.PURL{Ecosystem: "maven",
			Namespace: "example.skerry.berth", Name: name})
		if err != nil || a.Verdict.Why != why {
			t.Errorf("%s is kept out because %q, %v", name, a.Verdict.Why, err)
		}
	}
	if !strings.Contains(fmt.Sprint((outside{n, mirror}).has(t, "maven", "example.skerry.berth", "wave")), "1.0") {
		t.Error("what a rule accepts is not there")
	}
}

// TestImagesByName: of images nothing is known but their names, so nothing else keeps them out.
func TestImagesByName(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	house := n.repository(t)
	mirror, err := n.Repositories.AddRepository(t.Context(), n.admin, repositories.NewRepository{
		Repository: catalog.Repository{Name: "shore-oci", Kind: catalog.Mirror, Holds: catalog.Both, Ecosystem: "oci",
			Mirror: &catalog.MirrorSettings{Upstreams: []catalog.Upstream{{URL: "http://127.0.0.1:9/v2/"}}}}})
	if err != nil {
		t.Fatal(err)
	}
	set := func(r catalog.Repository, rules core.Rules) error {
		_, err := n.Repositories.EditRepository(t.Context(), n.admin, r.Name, repositories.SettingsChange{
			Admission: func(was *core.Rules) { *was = rules }})
		return err
	}
	strict := core.Rules{Licences: core.LicenceRules{Allow: []string{"MIT"}, Unstated: core.UnstatedRefused}}
	ground := func(r catalog.Repository) core.Ground {
		t.Helper()
		a, err := n.Vetting.Assess(t.Context(), n.admin, r.Name, purl.PURL{Ecosystem: "oci", Name: "ferry"})
		if err != nil {
			t.Fatal(err)
		}
		return a.Verdict.Ground
	}
	if err := errors.Join(set(house, strict), set(mirror, strict)); err != nil {
		t.Fatal(err)
	}
	if a, b := ground(house), ground(mirror); a != "" || b != "" {
		t.Errorf("images are kept out for their licences: %q, %q", a, b)
	}
	strict.Vets = true
	if err := set(mirror, strict); err != nil || ground(mirror) != core.Awaiting {
		t.Errorf("an image from outside is kept out for %q, %v", ground(mirror), err)
	}
	if _, err := n.Safety.Vet(t.Context(), n.admin, safety.NewVetting{Patterns: []string{"pkg:oci/ferry"},
		Reason: "we know it"}); err != nil {
		t.Fatal(err)
	}
	n.Safety.Purge()
	if g := ground(mirror); g != "" {
		t.Errorf("an image that was accepted is kept out for %q", g)
	}
	if err := set(mirror, core.Rules{Cooldown: time.Hour}); fault.Of(err).Code != "bad-cooldown" {
		t.Errorf("images wait: %v", err)
	}
	if err := set(house, core.Rules{Vets: true}); fault.Of(err).Code != "not-from-outside" {
		t.Errorf("what is ours is vetted: %v", err)
	}
}

// TestNoMomentLetsIn: whoever names a moment gets what was kept then, and nothing that awaits a
// decision or that an advisory keeps out.
func TestNoMomentLetsIn(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	shore := newElsewhere(t, kelp(t, "kelp", nil, map[string]int{"1.0.0": 60, "1.1.0": 40}))
	mirror, err := n.Repositories.AddRepository(t.Context(), n.admin, repositories.NewRepository{
		Repository: catalog.Repository{Name: "shore-npm", Kind: catalog.Mirror, Holds: catalog.Both, Ecosystem: "npm",
			Mirror: &catalog.MirrorSettings{Upstreams: []catalog.Upstream{{URL: shore.URL}}}}})
	if err != nil {
		t.Fatal(err)
	}
	found, err := n.Resolving.File(t.Context(), catalog.FileQuestion{Key: mirror.Key("npm", "", "kelp"), Version: "1.0.0",
		Name: "kelp-1.0.0.tgz"})
	if err == nil {
		_, err = found.Kept(t.Context()) // its bytes go out before it is on record
	}
	if err != nil {
		t.Fatal(err)
	}
	then := mirror
	then.AsOf = catalog.MomentOf(time.Now())
	o := outside{n, then}
	is := func(when, first, second string, want ...string) {
		t.Helper()
		for version, code := range map[string]string{"1.0.0": first, "1.1.0": second} {
			if got, _ := o.file(t, "npm", "", "kelp", version, "kelp-"+version+".tgz"); got != code {
				t.Errorf("%s, %s is answered with %q, not %q", when, version, got, code)
			}
		}
		if got := o.has(t, "npm", "", "kelp"); !slices.Equal(got, want) {
			t.Errorf("%s, the document has %v, not %v", when, got, want)
		}
	}
	n.imports(t, osvRecord("ISLE-7", "npm", "kelp", "9.0.0", "2026-11-01T08:00:00Z", rated))
	for when, rules := range map[string]core.Rules{"what comes from outside is vetted": {Vets: true},
		"what has an advisory is kept out": {Refuse: core.Critical}} {
		if _, err := n.Repositories.EditRepository(t.Context(), n.admin, mirror.Name, repositories.SettingsChange{
			Admission: func(r *core.Rules) { *r = rules }}); err != nil {
			t.Fatal(err)
		}
		n.Safety.Purge()
		is(when, "", ecosystem.KeptOut, "1.0.0")
	}
}
