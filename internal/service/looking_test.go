package service

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/sha512"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
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
	"crelvo/internal/service/keys"
	"crelvo/internal/service/repositories"
	"crelvo/internal/service/rights"
	"crelvo/internal/service/safety"
)

// TestLookInside: what awaits a decision is looked into without being kept, and rules can ask for what
// is inside, who looks after it, how large it is, and how much its package is used here.
func TestLookInside(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	ctx, stop := context.WithCancel(t.Context())
	var running sync.WaitGroup
	running.Go(func() { n.Run(ctx) })
	defer func() { stop(); running.Wait() }()
	text := func(name, content string) madeup.Entry {
		return madeup.Entry{Name: "package/" + name, Content: content}
	}
	code := text("kelp.node", "\x7fELF"+strings.Repeat("\x00", 80))
	ada := `"license": "MIT", "_npmUser": {"name": "ada"}, "maintainers": [{"name": "ada"}, "Bo Reed <bo@skerry.example>"]`
	cy := strings.Replace(ada, `[{"name": "ada"}`, `[{"name": "cy"}`, 1)
	shore := newElsewhere(t, kelp(t, "kelp", map[string]string{"1.0.0": ada, "1.1.0": ada, "1.2.0": ada, "1.3.0": cy},
		map[string]int{"1.0.0": 90, "1.1.0": 60, "1.2.0": 30, "1.3.0": 20}, map[string][]madeup.Entry{
			"1.0.0": {text("kelp.js", "old")}, "1.1.0": {text("kelp.js", "new"), text("tide.js", "new")},
			"1.2.0": {text("kelp.js", "new"), code}}))
	r, err := n.Repositories.AddRepository(ctx, n.admin, repositories.NewRepository{
		Repository: catalog.Repository{Name: "shore", Kind: catalog.Mirror, Holds: catalog.Both, Ecosystem: "npm",
			Mirror: &catalog.MirrorSettings{Upstreams: []catalog.Upstream{{URL: shore.URL}}}}})
	if err != nil {
		t.Fatal(err)
	}
	set := func(rules ...string) {
		t.Helper()
		admission := core.Rules{Vets: true}
		for _, text := range rules {
			a, err := core.ParseAcceptance(text)
			if err != nil {
				t.Fatal(err)
			}
			admission.Accepts = append(admission.Accepts, a)
		}
		if _, err := n.Repositories.EditRepository(ctx, n.admin, r.Name, repositories.SettingsChange{
			Admission: func(was *core.Rules) { *was = admission }}); err != nil {
			t.Fatal(err)
		}
	}
	named := func(version string) purl.PURL { return purl.PURL{Ecosystem: "npm", Name: "kelp", Version: version} }
	get := func(version string) *fault.Error {
		t.Helper()
		found, err := n.Resolving.File(ctx, catalog.FileQuestion{Key: r.Key("npm", "", "kelp"), Version: version,
			Name: "kelp-" + version + ".tgz"})
		if err == nil {
			_, err = found.Kept(ctx)
		}
		if err == nil {
			return nil
		}
		return n.Vetting.Wanted(ctx, n.admin, fault.Of(err))
	}
	// comes waits until a version is let in, or tells which condition is in its way.
	comes := func(version string) string {
		t.Helper()
		last := ""
		for end := time.Now().Add(10 * time.Second); time.Now().Before(end); time.Sleep(10 * time.Millisecond) {
			if get(version) == nil {
				return ""
			}
			a, err := n.Vetting.Assess(ctx, n.admin, r.Name, named(version))
			if err != nil {
				t.Fatal(err)
			}
			last = ""
			for _, c := range a.Tried[0] {
				if !c.Fits {
					last += c.Fact
				}
			}
			if a.Facts.Looked && last != "" {
				return last
			}
		}
		return last
	}

	// Who wants it has it looked into, and gets it if there is nothing inside.
	set("no-binaries")
	if f := get("1.1.0"); f == nil || f.Code != "kept-out" {
		t.Errorf("nobody looked, and it is answered with %v", f)
	}
	if why := comes("1.1.0"); why != "" {
		t.Errorf("there is nothing inside, and it is kept out: %s", why)
	}
	if why := comes("1.2.0"); why != "a processor runs kelp.node as it is" {
		t.Errorf("it is kept out because %q", why)
	}
	p, err := n.Resolving.There(ctx, r, r.Key("npm", "", "kelp"))
	if err != nil {
		t.Fatal(err)
	}
	for _, v := range p.Versions {
		if kept := !v.Listed; kept != (v.Version == "1.1.0") {
			t.Errorf("kept of %s: %t", v.Version, kept)
		}
	}
	in, err := n.Vetting.LookInside(ctx, n.admin, r.Name, named("1.2.0"))
	if err != nil {
		t.Fatal(err)
	}
	var differ []string
	for _, d := range in.Differences {
		differ = append(differ, fmt.Sprint(d.Path, " ", d.Before != nil, d.After != nil))
	}
	want := []string{"kelp.node false true", "package.json true true", "tide.js true false"}
	if !slices.Equal(differ, want) ||
		in.BeforePURL.Version != "1.1.0" || !slices.Equal(in.Archive.Code, []string{"kelp.node"}) {
		t.Errorf("inside is %v since %s, code %v", differ, in.BeforePURL, in.Archive.Code)
	}
	reader := access.Caller{ID: n.admin.ID + 1, Name: "reader"}
	if _, err := n.Vetting.LookInside(ctx, reader, r.Name, named("1.2.0")); err == nil {
		t.Error("somebody who may not decide had it fetched")
	}

	// A chain decides for itself, and has it looked into where it comes from.
	rule, err := core.ParseAcceptance("no-binaries")
	if err != nil {
		t.Fatal(err)
	}
	behind, err := n.Repositories.AddRepository(ctx, n.admin, repositories.NewRepository{
		Repository: catalog.Repository{Name: "north", Kind: catalog.Chain, Holds: catalog.Both,
			Safety: core.Rules{Vets: true, Accepts: []core.Acceptance{rule}}},
		Members: []repositories.NewMember{{Name: r.Name}}})
	if err != nil {
		t.Fatal(err)
	}
	if in, err := n.Vetting.LookInside(ctx, n.admin, behind.Name, named("1.1.0")); err != nil || in.Archive.Code != nil {
		t.Errorf("through a chain: %v, %v", in.Archive.Code, err)
	}
	if got := (outside{n, behind}).has(t, "npm", "", "kelp"); !slices.Equal(got, []string{"1.1.0"}) {
		t.Errorf("through a chain there are %v", got)
	}

	set("same-maintainers")
	if f := get("1.2.0"); f != nil {
		t.Errorf("the same look after it: %v", f)
	}
	a, err := n.Vetting.Assess(ctx, n.admin, r.Name, named("1.3.0"))
	if err != nil || a.Tried[0][0].Fits || a.Tried[0][0].Fact != "cy did not look after 1.2.0" ||
		!slices.Equal(a.Facts.Maintainers, []string{"Bo Reed", "ada", "cy"}) {
		t.Errorf("a new one: %+v, %v", a.Tried, err)
	}
	set("size-within 10%")
	if f := get("1.3.0"); f == nil {
		t.Error("nobody says how large it is, and it came in")
	}
	set("downloads 3")
	if f := get("1.3.0"); f == nil {
		t.Error("nobody downloaded it, and it came in")
	}
	if _, err := n.DB.ExecContext(ctx, `insert into version_use (version_id, used_at, downloads, users)
		select id, now(), 3, 1 from version where version = '1.1.0'`); err != nil {
		t.Fatal(err)
	}
	n.later(time.Hour)
	if f := get("1.3.0"); f != nil {
		t.Errorf("it was downloaded often enough: %v", f)
	}
}

// TestSignedIn: a rule lets in what a key signed that is trusted here, as long as it is.
func TestSignedIn(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	ctx := t.Context()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	files := kelp(t, "kelp", nil, map[string]int{"1.0.0": 90, "1.1.0": 60})
	var document map[string]any
	if err := json.Unmarshal([]byte(files["kelp"]), &document); err != nil {
		t.Fatal(err)
	}
	for version, of := range document["versions"].(map[string]any) {
		dist := of.(map[string]any)["dist"].(map[string]any)
		sum := sha512.Sum512([]byte(files[dist["tarball"].(string)]))
		dist["integrity"] = "sha512-" + base64.StdEncoding.EncodeToString(sum[:])
		// What is signed of 1.1.0 is another version's.
		message := sha256.Sum256([]byte("kelp@1.0.0:" + dist["integrity"].(string)))
		signature, err := ecdsa.SignASN1(rand.Reader, key, message[:])
		if err != nil {
			t.Fatal(err, version)
		}
		dist["signatures"] = []any{map[string]string{"keyid": "SHA256:x",
			"sig": base64.StdEncoding.EncodeToString(signature)}}
	}
	raw, err := json.Marshal(document)
	if err != nil {
		t.Fatal(err)
	}
	files["kelp"] = string(raw)
	public, err := x509.MarshalPKIXPublicKey(&key.PublicKey)
	if err != nil {
		t.Fatal(err)
	}
	rule, err := core.ParseAcceptance("signed-by shore-registry")
	if err != nil {
		t.Fatal(err)
	}
	r, err := n.Repositories.AddRepository(ctx, n.admin, repositories.NewRepository{
		Repository: catalog.Repository{Name: "shore", Kind: catalog.Mirror, Holds: catalog.Both, Ecosystem: "npm",
			Safety: core.Rules{Vets: true, Accepts: []core.Acceptance{rule}},
			Mirror: &catalog.MirrorSettings{Upstreams: []catalog.Upstream{{URL: newElsewhere(t, files).URL}}}}})
	if err != nil {
		t.Fatal(err)
	}
	o := outside{n, r}
	if got := o.has(t, "npm", "", "kelp"); got != nil {
		t.Errorf("no key is trusted, and there are %v", got)
	}
	if err := n.Keys.AddKey(ctx, n.admin, keys.NewKey{Name: "shore-registry",
		Public: string(pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: public}))}); err != nil {
		t.Fatal(err)
	}
	if got := o.has(t, "npm", "", "kelp"); !slices.Equal(got, []string{"1.0.0"}) {
		t.Errorf("with the key there are %v", got)
	}
	if err := n.Keys.RemoveKey(ctx, n.admin, "shore-registry"); err != nil {
		t.Fatal(err)
	}
	if got := o.has(t, "npm", "", "kelp"); got != nil {
		t.Errorf("the key is trusted no more, and there are %v", got)
	}
}

// TestLicencesInside: what no list says of licences is found out when somebody wants it.
func TestLicencesInside(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	ctx := t.Context()
	sound := madeup.Package{Name: "soundings", Version: "1.0.0", Licence: "MIT"}
	const jar, at = "brine-http-1.0.jar", "org/openshore/brine-http/1.0/brine-http-1.0"
	pom := strings.Replace(brinePOM, "</project>", "<licenses><license><name>MIT</name></license></licenses></project>", 1)
	shore := newElsewhere(t, map[string]string{
		"simple/soundings/": `<!DOCTYPE html><html><body><a href="/files/` + sound.SdistName() + `">` + sound.SdistName() +
			`</a></body></html>`,
		"files/" + sound.SdistName(): string(sound.Sdist()),
		at + ".pom":                  pom,
		at + ".jar":                  string(madeup.Zip(madeup.Entry{Name: "brine/Tide.class", Content: "\xca\xfe\xba\xbe\x00\x00\x00\x34"})),
		"org/openshore/brine-http/maven-metadata.xml": "<metadata><groupId>org.openshore</groupId><artifactId>brine-http" +
			"</artifactId><versioning><versions><version>1.0</version></versions></versioning></metadata>"})
	rule, err := core.ParseAcceptance("licences MIT, no-binaries")
	if err != nil {
		t.Fatal(err)
	}
	for _, one := range []struct{ ecosystem, path, namespace, name, version, file string }{
		{"pypi", "/simple/", "", "soundings", "1.0.0", sound.SdistName()},
		{"maven", "/", "org.openshore", "brine-http", "1.0", jar},
	} {
		r, err := n.Repositories.AddRepository(ctx, n.admin, repositories.NewRepository{
			Repository: catalog.Repository{Name: "shore-" + one.ecosystem, Kind: catalog.Mirror, Holds: catalog.Both,
				Ecosystem: one.ecosystem, Safety: core.Rules{Vets: true, Accepts: []core.Acceptance{rule}},
				Mirror: &catalog.MirrorSettings{Upstreams: []catalog.Upstream{{URL: shore.URL + one.path}}}}})
		if err != nil {
			t.Fatal(err)
		}
		o := outside{n, r}
		code, f := o.file(t, one.ecosystem, one.namespace, one.name, one.version, one.file)
		if code != ecosystem.KeptOut {
			t.Errorf("%s: nobody knows its licence, and it is answered with %q", one.ecosystem, code)
			continue
		}
		n.Vetting.Wanted(ctx, n.admin, f)
		for end := time.Now().Add(10 * time.Second); code != "" && time.Now().Before(end); time.Sleep(10 * time.Millisecond) {
			code, f = o.file(t, one.ecosystem, one.namespace, one.name, one.version, one.file)
		}
		if code != "" {
			t.Errorf("%s: it is still kept out: %v", one.ecosystem, f)
		}
	}
}

// TestListedAffected: what an upstream lists and nobody had is told with an advisory, to those who may
// see the package.
func TestListedAffected(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	ctx := t.Context()
	r, err := n.Repositories.AddRepository(ctx, n.admin, repositories.NewRepository{
		Repository: catalog.Repository{Name: "shore", Kind: catalog.Mirror, Holds: catalog.Both, Ecosystem: "npm",
			Mirror: &catalog.MirrorSettings{Upstreams: []catalog.Upstream{
				{URL: newElsewhere(t, kelp(t, "kelp", nil, map[string]int{"1.0.0": 90, "1.1.0": 60, "2.0.0": 9})).URL}}}}})
	if err != nil {
		t.Fatal(err)
	}
	(outside{n, r}).has(t, "npm", "", "kelp") // so that its list is known
	n.imports(t, osvRecord("ISLE-1", "npm", "kelp", "2.0.0", "2026-11-01T08:00:00Z", rated))
	g, err := rights.NewGrant{Holder: "other", Role: "reader", Repositories: "shore", Packages: "pkg:npm/wrack"}.Parse()
	if err != nil {
		t.Fatal(err)
	}
	if err := n.Rights.AddPrincipal(ctx, n.admin,
		rights.NewPrincipal{Name: "other", Grants: []access.Grant{g}}); err != nil {
		t.Fatal(err)
	}
	other, err := n.Rights.CallerNamed(ctx, "other")
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		caller access.Caller
		want   string
	}{{n.admin, "[1.1.0 1.0.0]"}, {other, ""}} {
		var d safety.Detail
		got := ""
		for end := time.Now().Add(10 * time.Second); time.Now().Before(end); time.Sleep(10 * time.Millisecond) {
			if d, err = n.Safety.Advisory(ctx, c.caller, "ISLE-1"); err != nil {
				t.Fatal(err)
			}
			got = ""
			for _, l := range d.Listed {
				got += fmt.Sprint(l.Versions)
			}
			if got == c.want {
				break // lists are noted a moment later
			}
		}
		if got != c.want {
			t.Errorf("%s is told of %q, not %q", c.caller.Name, got, c.want)
		}
	}
}
