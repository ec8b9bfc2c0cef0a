package e2e

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"crelvo/internal/api"
	"crelvo/internal/ecosystem/madeup"
	"crelvo/test/house"
)

// TestUnseenOverTheWire asks, by every protocol and by the API, as somebody who
// may read some packages of one repository and a chain whose members are closed.
// What is not theirs is as if it were not there, under every address.
func TestUnseenOverTheWire(t *testing.T) {
	open, secret := repository(t, "releases"), repository(t, "releases")
	closed := addChain(t, open, secret)
	mine, theirs := "fog-lights", "engine-secrets"
	publish := func(in, name string) {
		t.Helper()
		p := madeup.Package{Name: name, Version: "1.0.0", Description: "About " + name, Licence: "MIT", Author: "Deck Hands"}
		publishMade(t, in, "npm", p)
		publishMade(t, in, "pypi", p)
		publishMade(t, in, "nuget", p)
		publishRelease(t, in, name, "1.0.0", name)
	}
	publish(open, mine)
	publish(open, theirs)      // in the repository, but for others
	publish(secret, "ballast") // behind the chain, but for others
	who := fmt.Sprintf("lamp-trimmer-%d", made.Add(1))
	post(t, "/api/v1/users", api.NewUser{Name: who, Kind: "robot"}, nil)
	post(t, "/api/v1/grants", api.NewGrant{Holder: who, Role: "reader", Repositories: open, Packages: "pkg:*/*fog*"}, nil)
	post(t, "/api/v1/grants", api.NewGrant{Holder: who, Role: "reader", Repositories: closed}, nil)
	var token api.MadeToken
	post(t, "/api/v1/tokens", api.NewToken{For: who, Name: "lamp"}, &token)
	get := func(path string) house.Answer {
		t.Helper()
		a, err := shared.Ask(t.Context(), http.MethodGet, path, token.Secret, nil)
		if err != nil {
			t.Fatal(err)
		}
		return a
	}
	hidden := func(a house.Answer, path string) {
		t.Helper()
		said := a.Reason + " " + string(a.Body)
		for _, name := range []string{"engine", "ballast", secret} {
			asked := strings.Contains(path, name)
			if strings.Contains(said, name) && !asked {
				t.Errorf("%s tells of %s: %d %s", path, name, a.Status, said)
			}
		}
	}

	// Lists show what is theirs, and count it.
	for _, in := range []string{open, closed} {
		for path, shows := range map[string]string{
			"/npm/":                               mine,
			"/npm/-/v1/search?text=":              mine,
			"/npm/-/v1/search?text=secrets":       `"total":0`,
			"/pypi/simple/":                       mine,
			"/nuget/search?q=":                    mine,
			"/nuget/search?q=engine":              `"totalHits":0`,
			"/nuget/autocomplete?q=":              mine,
			"/maven/" + groupPath + "/":           mine,
			"/npm/" + mine:                        "1.0.0",
			"/pypi/simple/" + mine + "/":          "1.0.0",
			"/nuget/flat/" + mine + "/index.json": "1.0.0",
			"/maven/" + groupPath + "/" + mine + "/maven-metadata.xml": "<release>1.0.0</release>",
		} {
			a := get("/at/" + in + path)
			if a.Status != 200 || !strings.Contains(string(a.Body), shows) {
				t.Errorf("%s%s: %d %.300s; want %q", in, path, a.Status, a.Body, shows)
			}
			hidden(a, path)
		}
		// What is not theirs is not there: the same answer as for what does not exist.
		for _, name := range []string{theirs, "ballast", "never-published"} {
			for _, path := range []string{
				"/npm/" + name, "/npm/" + name + "/-/" + name + "-1.0.0.tgz", "/npm/-/package/" + name + "/dist-tags",
				"/pypi/simple/" + name + "/", "/nuget/flat/" + name + "/index.json", "/nuget/registration/" + name + "/index.json",
				"/nuget/flat/" + name + "/1.0.0/" + name + ".1.0.0.nupkg",
				"/maven/" + groupPath + "/" + name + "/maven-metadata.xml", "/maven/" + groupPath + "/" + name + "/1.0.0/" + name +
					"-1.0.0.jar",
			} {
				a := get("/at/" + in + path)
				if a.Status != 404 {
					t.Errorf("%s%s: %d %.200s", in, path, a.Status, a.Body)
				}
				hidden(a, path)
				like := get("/at/" + in + strings.ReplaceAll(path, name, "never-published"))
				if want := strings.ReplaceAll(string(like.Body), "never-published", name); string(a.Body) != want ||
					a.Reason != strings.ReplaceAll(like.Reason, "never-published", name) {
					t.Errorf("%s%s is told apart from what was never published:\n%s %s\n%s %s", in, path, a.Reason, a.Body,
						like.Reason, want)
				}
			}
		}
	}

	// The API too.
	for _, path := range []string{"/api/v1/repositories", "/api/v1/packages?q=", "/api/v1/packages?q=ecosystem:npm",
		"/api/v1/packages?q=ballast", "/api/v1/status",
		"/api/v1/repositories/" + open, "/api/v1/repositories/" + closed, "/api/v1/repositories/" + closed +
			"/folder?ecosystem=npm",
		"/api/v1/repositories/" + closed + "/claimed-names", "/api/v1/repositories/" + closed +
			"/explain?purl=pkg:npm/ballast@1.0.0",
		"/api/v1/repositories/" + closed + "/point?client=npm", "/api/v1/searches/completions?q=repo:", "/api/v1/events"} {
		a := get(path)
		if a.Status != 200 {
			t.Errorf("%s: %d %s", path, a.Status, a.Body)
		}
		hidden(a, path)
	}
	var shown api.Repository
	if _, err := shared.JSON(t.Context(), http.MethodGet, "/api/v1/repositories/"+open, nil, &shown); err != nil ||
		shown.Packages != 8 {
		t.Errorf("%s has %d packages, %v", open, shown.Packages, err)
	}
	if a := get("/api/v1/repositories/" + open); !strings.Contains(string(a.Body), `"packages":4,"versions":4`) {
		t.Errorf("counted for %s: %s", who, a.Body)
	}
	for path, status := range map[string]int{"/api/v1/repositories/" + secret: 404, "/at/" + secret + "/npm/": 404,
		"/api/v1/package?purl=pkg:npm/" + theirs: 404,
		"/api/v1/readme?purl=pkg:npm/ballast":    404, "/api/v1/repositories/" + secret + "/check?action=read": 404,
		"/api/v1/users": 403, "/api/v1/grants": 403} {
		a := get(path)
		if a.Status != status {
			t.Errorf("%s: %d %s; want %d", path, a.Status, a.Body, status)
		}
		hidden(a, path)
	}

	// Who listens hears of theirs, and nothing more from the moment it is out.
	listening, stop := context.WithCancel(t.Context())
	defer stop()
	r, err := http.NewRequestWithContext(listening, http.MethodGet, shared.Address+"/api/v1/live", nil)
	if err != nil {
		t.Fatal(err)
	}
	r.Header.Set("Authorization", "Bearer "+token.Secret)
	stream, err := http.DefaultClient.Do(r)
	if err != nil {
		t.Fatal(err)
	}
	defer stream.Body.Close()
	ended := make(chan string, 1)
	go func() {
		heard, _ := io.ReadAll(stream.Body) // it ends by the service or by the test
		ended <- string(heard)
	}()
	publishRelease(t, secret, "ballast", "1.1.0", "x")
	publishRelease(t, open, theirs, "1.1.0", "x")
	publishRelease(t, open, mine, "1.1.0", "x")
	var short api.MadeToken
	post(t, "/api/v1/tokens", api.NewToken{For: who, Name: "another"}, &short)
	must(t, http.MethodDelete, "/api/v1/tokens/lamp?for="+who, "", 204)
	select {
	case heard := <-ended:
		if !strings.Contains(heard, mine) || strings.Contains(heard, "ballast") || strings.Contains(heard, theirs) ||
			strings.Contains(heard, secret) {
			t.Errorf("heard:\n%s", heard)
		}
	case <-time.After(20 * time.Second):
		t.Error("the stream goes on after its token was revoked")
	}
	token = short

	// With the right on the other member the chain shows it, at once.
	post(t, "/api/v1/grants", api.NewGrant{Holder: who, Role: "reader", Repositories: secret}, nil)
	if a := get("/at/" + closed + "/npm/ballast"); a.Status != 200 {
		t.Errorf("granted: %d %s", a.Status, a.Body)
	}
	if a := get("/at/" + closed + "/npm/" + theirs); a.Status != 404 {
		t.Errorf("not granted: %d %s", a.Status, a.Body)
	}
	// And when the owner says that members are open, all of it.
	patch(t, closed, map[string]any{"chain": map[string]any{"openMembers": true}}, 200)
	if a := get("/at/" + closed + "/npm/" + theirs); a.Status != 200 {
		t.Errorf("opened: %d %s", a.Status, a.Body)
	}
	if a := get("/at/" + open + "/npm/" + theirs); a.Status != 404 {
		t.Errorf("the member itself: %d %s", a.Status, a.Body)
	}
}

// TestUnseenClaims: a name that was published in a house which somebody may not
// see is ours all the same: no stranger's package answers for it. That it is so
// is not told.
func TestUnseenClaims(t *testing.T) {
	_, _, mirror := shelf(t, "npm", madeup.Package{Name: "ballast", Version: "9.9.9"},
		madeup.Package{Name: "kelp-colors", Version: "1.0.0"})
	secret := repository(t, "releases")
	publishMade(t, secret, "npm", madeup.Package{Name: "ballast", Version: "1.0.0", Licence: "MIT", Author: "x"})
	closed := addChain(t, mirror, secret)
	who := fmt.Sprintf("lamp-trimmer-%d", made.Add(1))
	var token api.MadeToken
	post(t, "/api/v1/users", api.NewUser{Name: who, Kind: "robot"}, nil)
	for _, on := range []string{closed, mirror} {
		post(t, "/api/v1/grants", api.NewGrant{Holder: who, Role: "reader", Repositories: on}, nil)
	}
	post(t, "/api/v1/tokens", api.NewToken{For: who, Name: "lamp"}, &token)
	get := func(path string) house.Answer {
		t.Helper()
		a, err := shared.Ask(t.Context(), http.MethodGet, path, token.Secret, nil)
		if err != nil {
			t.Fatal(err)
		}
		return a
	}
	if a := get("/at/" + closed + "/npm/kelp-colors"); a.Status != 200 {
		t.Fatalf("what is public: %d %s", a.Status, a.Body)
	}
	for _, path := range []string{"/npm/ballast", "/npm/ballast/-/ballast-9.9.9.tgz", "/npm/ballast/-/ballast-1.0.0.tgz"} {
		a := get("/at/" + closed + path)
		like := get("/at/" + closed + strings.ReplaceAll(path, "ballast", "never-published"))
		if a.Status != 404 || string(a.Body) != strings.ReplaceAll(string(like.Body), "never-published", "ballast") {
			t.Errorf("%s: %d %s; what was never published: %s", path, a.Status, a.Body, like.Body)
		}
	}
	if a := get("/api/v1/repositories/" + closed + "/explain?purl=pkg:npm/ballast@9.9.9"); a.Status != 200 ||
		strings.Contains(string(a.Body), secret) ||
		strings.Contains(string(a.Body), "claimed") ||
		!strings.Contains(string(a.Body), `"ours":""`) && strings.Contains(string(a.Body), `"ours"`) {
		t.Errorf("explained: %d %s", a.Status, a.Body)
	}
	// Asked by itself, the mirror answers for what it mirrors.
	if a := get("/at/" + mirror + "/npm/ballast"); a.Status != 200 || !strings.Contains(string(a.Body), "9.9.9") {
		t.Errorf("the mirror itself: %d %s", a.Status, a.Body)
	}
}
