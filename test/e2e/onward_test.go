package e2e

import (
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"crelvo/internal/api"
	"crelvo/internal/demo"
	"crelvo/internal/ecosystem/madeup"
	"crelvo/test/house"
)

// TestOnward sends releases of each ecosystem on to another repository, by the
// protocol of its clients; what is there already is not sent again, and what is
// there as something else fails at once.
func TestOnward(t *testing.T) {
	admin := desk(house.Token)
	there, taken := repository(t, "releases"), repository(t, "releases")
	snapshots, releases := repository(t, "snapshots"), repository(t, "releases")
	n := made.Add(1)
	ways := map[string]struct{ path, user string }{"npm": {"npm/", ""}, "pypi": {"pypi/", "admin"},
		"nuget": {"nuget/package", ""}}
	packages := map[string]madeup.Package{"npm": {Name: "@skerry/deck-ui", Version: "2.0.0-dev.1", Author: "x"},
		"pypi":  {Name: "tidecast", Version: "2.0.0.dev1"},
		"nuget": {Name: "Skerry.TurnstileLink", Version: "2.0.0-dev.1", Author: "x", Description: "x"}}
	var onward, purls []string
	for ecosystem, way := range ways {
		for _, to := range []string{there, taken} {
			name := fmt.Sprintf("%s-%s-%d", ecosystem, map[bool]string{true: "there", false: "taken"}[to == there], n)
			if err := admin.SetTarget(t.Context(), api.NewTarget{Name: name, Ecosystem: ecosystem,
				URL: shared.Address + "/at/" + to + "/" + way.path, User: way.user, Secret: house.Token}); err != nil {
				t.Fatal(err)
			}
			onward = append(onward, name)
		}
		p := packages[ecosystem]
		publishMade(t, snapshots, ecosystem, p)
		purls = append(purls, fmt.Sprintf("pkg:%s/%s@%s", ecosystem, strings.ToLower(p.Name), p.Version))
		p.Version, p.Description, p.Readme = "2.0.0", "Something else", "Something else\n"
		publishMade(t, taken, ecosystem, p)
	}
	track := fmt.Sprintf("track-%d", n)
	if err := admin.AddTrack(t.Context(), api.Track{Name: track,
		Stages: []api.Stage{{Repository: snapshots}, {Repository: releases, Onward: onward}}}); err != nil {
		t.Fatal(err)
	}
	p := done(admin.Promote(t.Context(), api.NewPromotion{Track: track, PURLs: purls}))(t)
	if p.State != "done" || len(p.Deliveries) != 6 {
		t.Fatalf("%+v", p)
	}
	settled := func() bool {
		p.PromotionPage = done(admin.Promotion(t.Context(), p.ID))(t)
		for _, d := range p.Deliveries {
			if d.State == "waiting" {
				return false
			}
		}
		return true
	}
	eventually(t, 30*time.Second, "everything was sent, or not", settled)
	for _, d := range p.Deliveries {
		want := "done"
		if strings.Contains(d.Target, "taken") {
			want = "failed"
		}
		if d.State != want || want == "failed" && !strings.Contains(d.Said, "with other bytes") {
			t.Errorf("%+v; want %s", d, want)
		}
	}
	for _, file := range []string{"npm/@skerry/deck-ui/-/deck-ui-2.0.0.tgz",
		"pypi/files/tidecast/2.0.0/tidecast-2.0.0-py3-none-any.whl",
		"nuget/flat/skerry.turnstilelink/2.0.0/skerry.turnstilelink.2.0.0.nupkg"} {
		if string(must(t, http.MethodGet, "/at/"+there+"/"+file, "", 200).
			Body) != string(must(t, http.MethodGet, "/at/"+releases+"/"+file, "", 200).Body) {
			t.Errorf("%s is another file there", file)
		}
	}
	// Trying again finds the same, and what was sent stays sent.
	p.PromotionPage = done(admin.SendOnAgain(t.Context(), p.ID))(t)
	eventually(t, 30*time.Second, "it was tried again", settled)
	if _, err := admin.SendOnAgain(t.Context(), p.ID); err != nil {
		t.Errorf("trying once more: %v", err)
	}
	eventually(t, 30*time.Second, "it was tried again", settled)
	if out, errs, code := crelvoAsAdmin(t, "promotion", "show", fmt.Sprint(p.ID), "--files"); code != 0 ||
		!strings.Contains(out, "LAST ANSWER") || !strings.Contains(out, "with other bytes") ||
		!strings.Contains(out, "package/package.json: version") {
		t.Errorf("%d %s %s", code, out, errs)
	}
	if out, errs, code := crelvoAsAdmin(t, "status"); code != 0 ||
		!strings.Contains(out, fmt.Sprintf("Something of promotion %d could not be sent on to ", p.ID)) {
		t.Errorf("%d %s %s", code, out, errs)
	}
	refusedWith(t, admin.RemoveTarget(t.Context(), onward[0]), "goes on to "+onward[0])
}

// TestOnwardFaults sends to a server that does wrong: it is tried again, and comes
// through at last.
func TestOnwardFaults(t *testing.T) {
	admin := desk(house.Token)
	u, public := shore(t, demo.Files{})
	_, snapshots, releases := track(t, admin)
	name, line := fmt.Sprintf("public-%d", made.Add(1)), fmt.Sprintf("track-%d", made.Add(1))
	if err := admin.SetTarget(t.Context(), api.NewTarget{Name: name, Ecosystem: "maven", URL: public +
		demo.Landing, User: demo.LandingUser, Secret: demo.LandingSecret}); err != nil {
		t.Fatal(err)
	}
	if err := admin.AddTrack(t.Context(), api.Track{Name: line,
		Stages: []api.Stage{{Repository: snapshots}, {Repository: releases, Onward: []string{name}}}}); err != nil {
		t.Fatal(err)
	}
	switchTo(t, u, demo.Fault{Kind: "error", Path: ".jar", Times: 1})
	publishSnapshot(t, snapshots, "tide-model", "4.0.0")
	p := done(admin.Promote(t.Context(), api.NewPromotion{Track: line,
		PURLs: []string{"pkg:maven/example.skerry.berth/tide-model@4.0.0-SNAPSHOT"}}))(t)
	eventually(t, 15*time.Second, "the fault is on record", func() bool {
		return strings.Contains(done(admin.Promotion(t.Context(), p.ID))(t).Deliveries[0].Said, "500")
	})
	eventually(t, 40*time.Second, "it was sent on", func() bool {
		return done(admin.Promotion(t.Context(), p.ID))(t).Deliveries[0].State == "done"
	})
	landed := u.Landed()
	for _, file := range []string{"tide-model-4.0.0.jar", "tide-model-4.0.0.jar.sha1", "tide-model-4.0.0.pom.md5"} {
		if landed[demo.Landing+groupPath+"/tide-model/4.0.0/"+file] == nil {
			t.Errorf("%s is not there", file)
		}
	}
	if d := done(admin.Promotion(t.Context(), p.ID))(t).Deliveries[0]; d.Attempts != 2 {
		t.Errorf("%d attempts", d.Attempts)
	}
}

// TestTrackCommands sets tracks, keys and targets up as an admin does.
func TestTrackCommands(t *testing.T) {
	run := func(code int, args ...string) string {
		t.Helper()
		out, errs, got := crelvoAsAdmin(t, args...)
		if got != code {
			t.Fatalf("crelvo %s: exit code %d, want %d\n%s%s", strings.Join(args, " "), got, code, out, errs)
		}
		return out + errs
	}
	n := made.Add(1)
	snapshots, releases := repository(t, "snapshots"), repository(t, "releases")
	line, key, to := fmt.Sprintf("line-%d", n), fmt.Sprintf("key-%d", n), fmt.Sprintf("public-%d", n)
	says(t, run(0, "key", "add", key, "--sign", "--owner", "Releases <releases@skerry.example>"), "Added the key "+key,
		"/keys/"+key)
	says(t, run(0, "key", "add", key, "--sign"), "so already")
	says(t, run(2, "key", "add", "other"), "give the file with the public key, or --sign")
	says(t, run(0, "key", "list"), key, "signs releases", "openpgp")
	says(t, run(0, "key", "show", key), "BEGIN PGP PUBLIC KEY BLOCK")
	w := newWorkshop(t)
	public := w.write("public.asc", []byte(run(0, "key", "show", key)))
	says(t, run(0, "key", "add", key+"-public", public), "Added the key")
	says(t, run(0, "key", "add", key+"-public", public), "so already")
	says(t, run(1, "key", "add", key+"-public", "--sign"), "there is a key "+key+"-public already")
	says(t, run(1, "key", "add", "broken", w.write("broken.pem", []byte("nothing"))), "no public key in PEM")
	says(t, run(0, "target", "add", to, "--ecosystem", "maven", "--url", "http://127.0.0.1:9/maven", "--user",
		"skerry", "--secret-file", w.write("secret", []byte("gangway\n"))), "Set the target "+to)
	says(t, run(1, "target", "add", to, "--url", "ftp://x"), "no web address")
	says(t, run(0, "target", "list"), to, "http://127.0.0.1:9/maven/", "yes")
	if out := run(0, "target", "list", "-o", "json"); strings.Contains(out, "gangway") {
		t.Errorf("the secret is shown: %s", out)
	}
	says(t, run(1, "track", "add", line, "--stages", snapshots), "a track has 2 to 12 stages")
	says(t, run(1, "track", "add", line, "--stages", releases+","+snapshots), "cannot become snapshots")
	says(t, run(3, "track", "add", line, "--stages", snapshots+",nowhere"), "no repository nowhere")
	says(t, run(0, "track", "add", line, "--stages", snapshots+","+releases, "--description", "a test"), "Made the track "+
		line)
	says(t, run(0, "track", "add", line, "--stages", snapshots+","+releases), "so already")
	says(t, run(1, "track", "add", line, "--stages", snapshots+","+releases, "--description", "another"),
		"there is a track "+line+" already")
	says(t, run(2, "track", "edit", line, "--gate", "tests-passed"), "--into STAGE")
	says(t, run(1, "track", "edit", line, "--into", releases, "--gate", "sesame"), "there is no such gate",
		"recorded-build")
	says(t, run(3, "track", "edit", line, "--into", releases, "--gate", "approved 1 by nobody"), "no team nobody")
	says(t, run(3, "track", "edit", line, "--into", releases, "--sign-with", key+"-public"), "no key "+key+
		"-public to sign with")
	says(t, run(1, "track", "edit", line, "--into", snapshots, "--gate", "tests-passed"), "is the first stage")
	run(0, "track", "edit", line, "--into", releases, "--gate", "tests-passed", "--gate", "waited 36h", "--sign-with", key,
		"--onward", to)
	run(0, "track", "edit", line, "--description", "another")
	says(t, run(0, "track", "show", line), "another", "gate  tests-passed", "gate  waited 36h", "signed with  "+key,
		"goes on to  "+to)
	says(t, run(0, "track", "list"), line, snapshots+" → "+releases)
	says(t, run(1, "key", "remove", key, "--yes"), "signs with "+key)
	run(0, "track", "edit", line, "--into", releases, "--gate", "", "--sign-with", "", "--onward", "")
	if out := run(0, "track", "show", line); strings.Contains(out, "gate") {
		t.Errorf("gates are left: %s", out)
	}
	run(0, "key", "remove", key, "--yes")
	run(0, "target", "remove", to, "--yes")
	says(t, run(3, "target", "remove", to, "--yes"), "no target "+to)
	run(0, "track", "remove", line, "--yes")
	says(t, run(3, "track", "show", line), "no track "+line)
	says(t, run(2, "promote", "--along", line), "say what: --build NAME#NUMBER")
	says(t, run(2, "promote", "--build", "a#1"), "say along which track")
	says(t, run(3, "promotion", "show", "999999"), "no promotion 999999")
	says(t, run(2, "promotion", "approve", "one"), "is no number of a promotion")
	says(t, run(2, "build", "record"), "say which build")
	says(t, run(1, "build", "begin", "a/#1"), "names no build")
	says(t, run(3, "build", "show", "nobody#1"), "no build nobody#1")
	says(t, run(0, "repo", "arrivals", releases), "Nothing came into "+releases)
	says(t, run(2, "repo", "arrivals", releases, "--since", "yesterday"), "is no moment")
}
