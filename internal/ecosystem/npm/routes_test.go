package npm

import (
	"encoding/json"
	"net/http"
	"strings"
	"testing"

	"crelvo/internal/core/fault"
	"crelvo/internal/ecosystem"
	"crelvo/internal/ecosystem/ecosystemtest"
	"crelvo/internal/ecosystem/madeup"
)

// publish sends a package as npm does, and wants a status.
func publish(d *ecosystemtest.Desk, status int, tag string, p madeup.Package) string {
	return d.Send(status, http.MethodPut, strings.ReplaceAll(p.Name, "/", "%2f"), p.NPMDocument(tag, p.NPM()),
		"Content-Type", "application/json")
}

func version(v string) madeup.Package {
	p := deck
	p.Version = v
	return p
}

// TestRoutes walks through a registry as npm does.
func TestRoutes(t *testing.T) {
	d := ecosystemtest.NewDesk(t, New())
	const name, tags = "@skerry%2fdeck-ui", "-/package/@skerry%2fdeck-ui/dist-tags"
	ecosystemtest.Says(t, d.Get(404, name), `"code":"no-such-package"`)
	publish(d, 201, "latest", deck)
	publish(d, 201, "latest", deck) // the same once more
	changed := deck
	changed.Description = "another"
	ecosystemtest.Says(t, publish(d, 403, "latest", changed), "published-already")
	publish(d, 201, "next", version("1.5.0-dev.7"))
	publish(d, 201, "next", version("1.5.0-dev.7")) // another upload of the same snapshot

	var document struct {
		Tags     map[string]string `json:"dist-tags"`
		Versions map[string]struct {
			Dist struct{ Tarball string }
		}
		Readme string
	}
	if err := json.Unmarshal([]byte(d.Get(200, name)), &document); err != nil || document.Tags["latest"] != "1.4.0" ||
		document.Tags["next"] != "1.5.0-dev.7" || document.Readme != deck.Readme {
		t.Fatalf("%+v, %v", document, err)
	}
	for v, of := range document.Versions {
		path, ok := strings.CutPrefix(of.Dist.Tarball, d.Address())
		if !ok || len(d.Get(200, path)) < 100 {
			t.Errorf("the tarball of %s is at %s", v, of.Dist.Tarball)
		}
	}
	if short := d.Get(200, name, "Accept", "application/vnd.npm.install-v1+json"); strings.Contains(short, `"readme"`) ||
		!strings.Contains(short, `"1.4.0"`) {
		t.Error(short)
	}
	ecosystemtest.Says(t, d.Get(200, name+"/latest"), `"version":"1.4.0"`)
	ecosystemtest.Says(t, d.Get(200, name+"/1.5.0-dev.7"), `"version":"1.5.0-dev.7"`)
	d.Get(404, name+"/9.9.9")
	d.Get(404, name+"/-/deck-ui-9.9.9.tgz")
	d.Get(404, name+"/-/other.tgz")
	d.Get(404, name+"/x/y/z")
	d.Get(400, "..%2fetc")
	d.Get(200, "@skerry/deck-ui/-/deck-ui-1.5.0-dev.7.tgz") // the newest upload
	d.Get(200, "")
	ecosystemtest.Says(t, d.Get(200, "@skerry"), "deck-ui")

	ecosystemtest.Says(t, d.Get(200, tags), `"latest":"1.4.0"`)
	ecosystemtest.Says(t, d.Send(200, http.MethodPut, tags+"/stable", []byte(`"1.4.0"`)), `"stable":"1.4.0"`, `"ok":true`)
	d.Send(200, http.MethodDelete, tags+"/stable", nil)
	ecosystemtest.Says(t, d.Send(400, http.MethodDelete, tags+"/latest", nil), "latest-stays")
	d.Send(400, http.MethodPut, tags+"/stable", []byte(`nine`))
	d.Send(400, http.MethodPut, tags+"/1.0.0", []byte(`"1.4.0"`))
	d.Get(404, "-/package/@skerry%2fnothing/dist-tags")
	d.Get(400, "-/package/@skerry%2fdeck-ui/collaborators")

	d.Get(200, "-/ping")
	ecosystemtest.Says(t, d.Get(200, "-/whoami"), `"username":"deckhand"`)
	ecosystemtest.Says(t, d.Get(200, "-/v1/search?text=deck&size=5"), `"name":"@skerry/deck-ui"`, `"total":1`)
	ecosystemtest.Says(t, d.Send(404, http.MethodPost, "-/npm/v1/security/advisories/bulk", []byte("{}")),
		"nothing was looked up")
	d.Send(400, http.MethodPost, "-/npm/v1/security/audits/quick", []byte("{}"))
	for _, path := range []string{"-/npm/v1/tokens", "-/npm/v1/user", "-/org/x", "-/team/x", "-/_view/x", "-/stage"} {
		ecosystemtest.Says(t, d.Get(400, path), "is not offered")
	}
	d.Get(404, "-/nothing")
	ecosystemtest.Says(t, d.Send(201, http.MethodPut, "-/user/org.couchdb.user:deckhand",
		[]byte(`{"name":"deckhand","password":"low-tide"}`)), `"token":"token-of-deckhand-for-npm"`)
	d.Send(401, http.MethodPut, "-/user/org.couchdb.user:deckhand", []byte(`{"name":"deckhand","password":"x"}`))
	d.Send(400, http.MethodPut, "-/user/org.couchdb.user:deckhand", []byte(`[]`))
	d.Send(200, http.MethodDelete, "-/user/token/x", nil)

	d.Why["left-pad"] = fault.New(fault.NotFound, "claimed", "the name is claimed")
	if a := d.Ask(http.MethodGet, "left-pad", nil); a.Header().Get("npm-notice") != "the name is claimed" {
		t.Errorf("%v", a.Header())
	}
}

// TestChanges: what npm deprecate and npm unpublish send.
func TestChanges(t *testing.T) {
	d := ecosystemtest.NewDesk(t, New())
	const name = "@skerry%2fdeck-ui"
	publish(d, 201, "latest", version("1.0.0"))
	publish(d, 201, "latest", version("1.1.0"))
	var document map[string]any
	read := func() map[string]any {
		document = nil
		if err := json.Unmarshal([]byte(d.Get(200, name+"?write=true")), &document); err != nil {
			t.Fatal(err)
		}
		return document["versions"].(map[string]any)
	}
	send := func(status int, method, path string) string {
		raw, err := json.Marshal(document)
		if err != nil {
			t.Fatal(err)
		}
		return d.Send(status, method, path, raw, "Content-Type", "application/json")
	}
	read()["1.0.0"].(map[string]any)["deprecated"] = "too dark"
	send(200, http.MethodPut, name)
	if got := read()["1.0.0"].(map[string]any)["deprecated"]; got != "too dark" {
		t.Errorf("deprecated: %v", got)
	}
	read()["1.0.0"].(map[string]any)["deprecated"] = ""
	send(200, http.MethodPut, name)
	if got := read()["1.0.0"].(map[string]any)["deprecated"]; got != nil {
		t.Errorf("still deprecated: %v", got)
	}
	delete(read(), "1.0.0")
	rev := document["_rev"].(string)
	send(200, http.MethodPut, name+"/-rev/"+rev)
	d.Send(200, http.MethodDelete, name+"/-/deck-ui-1.0.0.tgz/-rev/"+rev, nil)
	if versions := read(); len(versions) != 1 {
		t.Errorf("%d versions are left", len(versions))
	}
	d.Send(403, http.MethodDelete, name+"/-rev/1-other", nil)
	d.Send(200, http.MethodDelete, name+"/-rev/"+document["_rev"].(string), nil)
	d.Get(404, name)
	d.Send(404, http.MethodDelete, name+"/other", nil)
	d.Send(404, http.MethodPut, name+"/other", nil)
}

// TestPublishRefuses: what is cut, or is not what it is said to be, is refused.
func TestPublishRefuses(t *testing.T) {
	d := ecosystemtest.NewDesk(t, New())
	whole := deck.NPMDocument("latest", deck.NPM())
	for _, c := range []struct {
		path string
		body []byte
		code string
	}{
		{"@skerry%2fdeck-ui", nil, ""}, {"@skerry%2fdeck-ui", whole[:len(whole)-40], ""},
		{"@skerry%2fdeck-ui", []byte("{}"), ""}, {"@skerry%2fdeck-ui", []byte("[]"), ""},
		{"@skerry%2fother", whole, ""}, {"..%2fx", whole, "bad-name"},
		{"@skerry%2fdeck-ui", version("9.9.9").NPMDocument("latest", deck.NPM()), "manifest-disagrees"},
		{"@skerry%2fdeck-ui", deck.NPMDocument("1.0.0", deck.NPM()), "bad-tag"},
		{"@skerry%2fdeck-ui", deck.NPMDocument("latest", []byte("hello")), ""},
	} {
		if said := d.Send(400, http.MethodPut, c.path, c.body); !strings.Contains(said, `"error"`) ||
			!strings.Contains(said, c.code) {
			t.Errorf("%s %.40q: %s", c.path, c.body, said)
		}
	}
	upper := madeup.Package{Name: "Kelp", Version: "1.0.0"}
	ecosystemtest.Says(t, publish(d, 400, "latest", upper), "capital")
	d.Refuses = fault.New(fault.Denied, "role-missing", "deckhand may not publish")
	publish(d, 403, "latest", deck)
}

func TestSend(t *testing.T) {
	changed := deck
	changed.Description = "another"
	ecosystemtest.CheckSend(t, New(), "", map[string][]byte{"x.tgz": deck.NPM()},
		map[string][]byte{"x.tgz": changed.NPM()})
	if err := New().Send(t.Context(), ecosystem.Shipment{}); err == nil {
		t.Error("a version without a file was sent")
	}
}

func TestStrays(t *testing.T) {
	p := ecosystem.Pointing{Address: "http://h/at/platform/npm/", ID: "platform", Everything: true, PublishReleases: true,
		Own: []string{"@skerry"}}
	for _, c := range []struct {
		name, file, text, variable, want string
		strays                           func(ecosystem.Files, ecosystem.Pointing) []string
	}{
		{name: "nothing", strays: straysRC},
		{name: "a variable", strays: straysRC, variable: "NPM_CONFIG_REGISTRY", want: "NPM_CONFIG_REGISTRY"},
		{name: "where it publishes", strays: straysRC, file: "package.json",
			text: `{"name":"@skerry/x","publishConfig":{"registry":"https://elsewhere.example/"}}`, want: "elsewhere.example"},
		{name: "a variable of Yarn", strays: straysYarn, variable: "YARN_NPM_REGISTRY_SERVER",
			want: "YARN_NPM_REGISTRY_SERVER"},
		{name: "where Yarn publishes", strays: straysYarn, file: ".yarnrc.yml",
			text: "npmPublishRegistry: \"https://elsewhere.example/\"\n", want: "elsewhere.example"},
	} {
		f := ecosystem.Files{Ours: func(a string) bool {
			return strings.HasPrefix(a, "http://h/")
		}, Read: func(file string) string {
			if file == c.file {
				return c.text
			}
			return ""
		}, Env: func(name string) string {
			if name == c.variable {
				return "https://elsewhere.example/"
			}
			return ""
		}}
		if said := strings.Join(c.strays(f, p), "\n"); (said == "") != (c.want == "") || !strings.Contains(said, c.want) {
			t.Errorf("%s: %q, want %q", c.name, said, c.want)
		}
		text := c.text
		for _, piece := range mendsYarn(f, p) {
			if piece.File != c.file {
				continue
			}
			var err error
			if text, err = piece.Edit(text); err != nil {
				t.Error(err)
			}
		}
		if strings.Contains(text, "elsewhere") {
			t.Errorf("%s: mended to %s", c.name, text)
		}
	}
}
