package e2e

import (
	"crypto/ed25519"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"crelvo/internal/api"
	"crelvo/internal/client"
	"crelvo/internal/ecosystem/madeup"
	"crelvo/test/house"
)

// person makes a user with a role, or a robot, and gives a client of theirs.
func person(t *testing.T, name, kind string, grants ...api.NewGrant) *client.Client {
	t.Helper()
	admin := desk(house.Token)
	done(admin.AddUser(t.Context(), api.NewUser{Name: name, Kind: kind}))(t)
	for _, g := range grants {
		g.Holder = name
		post(t, "/api/v1/grants", g, nil)
	}
	return desk(done(admin.AddToken(t.Context(), api.NewToken{For: name, Name: "tests"}))(t).Secret)
}

func refusedWith(t *testing.T, err error, parts ...string) {
	t.Helper()
	for _, part := range parts {
		if err == nil || !strings.Contains(err.Error(), part) {
			t.Errorf("%v; want a refusal that says %q", err, part)
		}
	}
}

// TestApproval: who asks cannot approve, one refusal is enough, and what was
// approved is done at once.
func TestApproval(t *testing.T) {
	admin := desk(house.Token)
	n := made.Add(1)
	names := func(role string) string { return fmt.Sprintf("%s-%d", role, n) }
	_, snapshots, releases := track(t, admin)
	rights := []api.NewGrant{{Role: "publisher", Repositories: snapshots}, {Role: "promoter", Repositories: releases}}
	purser, mate := person(t, names("purser"), "user", rights...),
		person(t, names("mate"), "user", api.NewGrant{Role: "reader", Repositories: releases},
			api.NewGrant{Role: "reader", Repositories: snapshots})
	stranger := person(t, names("stranger"), "user")
	post(t, "/api/v1/teams", api.NewTeam{Name: names("crew"), Members: []string{names("purser"), names("mate")}}, nil)
	name := names("line")
	if err := admin.AddTrack(t.Context(), api.Track{Name: name,
		Stages: []api.Stage{{Repository: snapshots}, {Repository: releases,
			Gates: []string{"approved 1 by " + names("crew")}}}}); err != nil {
		t.Fatal(err)
	}
	ask := func(version string) api.AskedPromotion {
		publishSnapshot(t, snapshots, "tide-model", version)
		p := done(purser.Promote(t.Context(), api.NewPromotion{Track: name,
			PURLs: []string{"pkg:maven/example.skerry.berth/tide-model@" + version + "-SNAPSHOT"}}))(t)
		if p.State != "waiting" || p.MayVote {
			t.Fatalf("%+v", p)
		}
		return p
	}
	p := ask("1.0.0")
	_, err := purser.Decide(t.Context(), p.ID, api.Say{Approve: true})
	refusedWith(t, err, "somebody else must approve")
	_, err = admin.Decide(t.Context(), p.ID, api.Say{Approve: true})
	refusedWith(t, err, "in none of the teams")
	_, err = stranger.Promotion(t.Context(), p.ID)
	refusedWith(t, err, "no promotion")
	if all := done(stranger.Promotions(t.Context(), nil))(t); len(all.Promotions) != 0 {
		t.Errorf("a stranger sees %+v", all)
	}
	_, err = stranger.Promote(t.Context(), api.NewPromotion{Track: name, PURLs: []string{"pkg:maven/a/b@1"}})
	refusedWith(t, err, "no track")
	_, err = mate.Promote(t.Context(), api.NewPromotion{Track: name,
		PURLs: []string{"pkg:maven/example.skerry.berth/tide-model@1.0.0-SNAPSHOT"}})
	refusedWith(t, err, "needs the role promoter on "+releases)
	if mine := done(mate.Promotions(t.Context(), map[string][]string{"mine": {"true"}}))(t); len(mine.Promotions) != 1 ||
		!mine.Promotions[0].MayVote {
		t.Errorf("%+v waits for the mate", mine)
	}
	p.PromotionPage = done(mate.Decide(t.Context(), p.ID, api.Say{Approve: true, Comment: "calm sea"}))(t)
	if p.State != "done" ||
		p.Votes[0].Comment != "calm sea" || p.Answers[0].State != "pass" {
		t.Errorf("%+v", p)
	}
	must(t, http.MethodGet, "/at/"+releases+"/maven/"+groupPath+"/tide-model/1.0.0/tide-model-1.0.0.jar", "", 200)

	p = ask("1.1.0")
	_, err = mate.Decide(t.Context(), p.ID, api.Say{})
	refusedWith(t, err, "says why")
	if p.PromotionPage = done(mate.Decide(t.Context(), p.ID, api.Say{Comment: "it leaks"}))(t); p.State != "refused" ||
		!strings.Contains(p.Why, "it leaks") {
		t.Errorf("%+v", p)
	}
	p = ask("1.2.0")
	_, err = mate.CancelPromotion(t.Context(), p.ID, "")
	refusedWith(t, err, "needs the role promoter")
	if p.PromotionPage = done(purser.CancelPromotion(t.Context(), p.ID, "forgot something"))(t); p.State != "cancelled" ||
		!strings.Contains(p.Why, "forgot something") {
		t.Errorf("%+v", p)
	}
	p = ask("1.3.0")
	if out, errs, code := crelvoAsAdmin(t, "promotion", "show", fmt.Sprint(p.ID)); code != 0 ||
		!strings.Contains(out, "waits for 1 of "+names("crew")) {
		t.Errorf("%d %s %s", code, out, errs)
	}
	if rest := done(purser.Promotions(t.Context(),
		map[string][]string{"track": {name}, "state": {"done"}}))(t); len(rest.Promotions) != 1 {
		t.Errorf("%d are done", len(rest.Promotions))
	}
}

// TestPromoteTwice: of promotions that collide one wins, and the other says so;
// an undone release nobody had is free again, and one that somebody had is not.
func TestPromoteTwice(t *testing.T) {
	admin := desk(house.Token)
	name, snapshots, releases := track(t, admin, "behind 0")
	publishSnapshot(t, snapshots, "tide-model", "2.0.0")
	publishSnapshot(t, snapshots, "fare-engine", "2.0.0")
	purls := []string{"pkg:maven/example.skerry.berth/tide-model@2.0.0-SNAPSHOT",
		"pkg:maven/example.skerry.berth/fare-engine@2.0.0-SNAPSHOT"}
	results := make([]api.AskedPromotion, 6)
	var racing sync.WaitGroup
	for i := range results {
		racing.Go(func() {
			p, err := admin.Promote(t.Context(), api.NewPromotion{Track: name, PURLs: purls[i%2 : 1+i%2+(1-i%2)*(i/2%2)],
				Notes: fmt.Sprint(i)})
			if err != nil {
				t.Error(err)
			}
			results[i] = p
		})
	}
	racing.Wait()
	won := map[string]int64{}
	for _, p := range results {
		// Who asks for what another has just asked for is told of that one.
		if p.Already && p.State == "underway" {
			eventually(t, 20*time.Second, "the one that is underway ends", func() bool {
				p.PromotionPage = done(admin.Promotion(t.Context(), p.ID))(t)
				return p.State != "underway"
			})
		}
		if p.State != "done" {
			if p.State != "failed" || !strings.Contains(p.Why, "somebody else was quicker") &&
				!strings.Contains(p.Why, "already") {
				t.Errorf("%+v", p)
			}
			continue
		}
		for _, v := range p.Versions {
			if other, ok := won[v.PURL]; ok && other != p.ID {
				t.Errorf("%s was promoted by %d and by %d", v.PURL, other, p.ID)
			}
			won[v.PURL] = p.ID
		}
	}
	if len(won) == 0 {
		t.Fatal("none of them won")
	}
	must(t, http.MethodGet, "/at/"+releases+"/maven/"+groupPath+"/tide-model/maven-metadata.xml", "", 200, 404)

	p := done(admin.Promote(t.Context(), api.NewPromotion{Track: name, PURLs: purls[:1], As: []string{"2.5.0"}}))(t)
	if p.State != "done" {
		t.Fatalf("%+v", p)
	}
	p.PromotionPage = done(admin.UndoPromotion(t.Context(), p.ID, ""))(t)
	file := "/at/" + releases + "/maven/" + groupPath + "/tide-model/2.5.0/tide-model-2.5.0.jar"
	must(t, http.MethodGet, file, "", 404)
	// Nobody had it, so something else may have its name.
	publishSnapshot(t, snapshots, "tide-model", "2.0.0", "<name>other</name>")
	p = done(admin.Promote(t.Context(), api.NewPromotion{Track: name, PURLs: purls[:1],
		As: []string{"pkg:maven/example.skerry.berth/tide-model@2.5.0"}}))(t)
	if p.State != "done" {
		t.Fatalf("%+v", p)
	}
	must(t, http.MethodGet, file, "", 200)
	_, err := admin.UndoPromotion(t.Context(), p.ID, "")
	refusedWith(t, err, "was downloaded once")
	done(admin.UndoPromotion(t.Context(), p.ID, "wrong tide"))(t)
	must(t, http.MethodGet, file, "", 404)
	publishSnapshot(t, snapshots, "tide-model", "2.0.0", "<name>third</name>")
	p = done(admin.Promote(t.Context(), api.NewPromotion{Track: name, PURLs: purls[:1], As: []string{"2.5.0"}}))(t)
	if p.State != "failed" || !strings.Contains(p.Why, "does not come back as something else") {
		t.Errorf("%+v", p)
	}
	p = done(admin.Promote(t.Context(), api.NewPromotion{Track: name, PURLs: purls[:1], As: []string{"1.0.0"},
		DryRun: true}))(t)
	if p.State == "done" && len(won) == 2 {
		t.Errorf("an older version than is there passes: %+v", p)
	}
	for _, wrong := range []api.NewPromotion{{Track: "none", PURLs: purls}, {Track: name},
		{Track: name, PURLs: purls, Build: "a#1"}, {Track: name, Build: "nobody#1"},
		{Track: name, PURLs: []string{"pkg:maven/a/b"}},
		{Track: name, PURLs: purls, To: snapshots}, {Track: name, PURLs: purls, To: "elsewhere"},
		{Track: name, PURLs: purls, As: []string{"1/2"}}, {Track: name, PURLs: purls[:1], As: []string{"pkg:npm/x@1.0.0"}}} {
		if p, err := admin.Promote(t.Context(), wrong); err == nil {
			t.Errorf("%+v was taken: %+v", wrong, p)
		}
	}
}

// TestOutsideCheck is asked with a signature, and its answer counts.
func TestOutsideCheck(t *testing.T) {
	block, _ := pem.Decode(must(t, http.MethodGet, "/keys/Crelvo-Checks", "", 200).Body)
	public := done(x509.ParsePKIXPublicKey(block.Bytes))(t).(ed25519.PublicKey)
	answers := make(chan string, 1)
	outside := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, err := io.ReadAll(r.Body)
		sum := sha256.Sum256(body)
		digest := "sha-256=:" + base64.StdEncoding.EncodeToString(sum[:]) + ":"
		input := strings.TrimPrefix(r.Header.Get("Signature-Input"), "crelvo=")
		message := fmt.Sprintf(
			"\"@method\": POST\n\"@target-uri\": http://%s%s\n\"content-digest\": %s\n\"@signature-params\": %s", r.Host,
			r.URL.Path, digest, input)
		signature, sigErr := base64.StdEncoding.DecodeString(strings.Trim(strings.TrimPrefix(r.Header.Get("Signature"),
			"crelvo="), ":"))
		if err != nil || sigErr != nil || !ed25519.Verify(public, []byte(message), signature) ||
			!strings.Contains(string(body), `"to":"3.0.0"`) {
			t.Errorf("it was asked %s with %v", body, r.Header)
		}
		answer := <-answers
		if answer == "" {
			w.WriteHeader(http.StatusAccepted)
		}
		_, _ = io.WriteString(w, answer)
	}))
	defer outside.Close()
	admin := desk(house.Token)
	name, snapshots, _ := track(t, admin, "asks "+outside.URL+"/ok within 5s")
	publishSnapshot(t, snapshots, "tide-model", "3.0.0")
	n := api.NewPromotion{Track: name, PURLs: []string{"pkg:maven/example.skerry.berth/tide-model@3.0.0-SNAPSHOT"}}
	for _, c := range []struct{ answer, state, fact string }{
		{`{"pass": false, "fact": "no pilot"}`, "failed", "it says no: no pilot"}, {`what?`, "failed", "is not"},
		{`{"pass": true, "fact": "pilot aboard"}`, "done", "pilot aboard"}} {
		answers <- c.answer
		n.DryRun = c.state == "done"
		p := done(admin.Promote(t.Context(), n))(t)
		if p.State != c.state || !strings.Contains(p.Answers[0].Facts[0], c.fact) {
			t.Errorf("%s: %+v", c.answer, p)
		}
	}
	n.DryRun = false
	answers <- ""
	p := done(admin.Promote(t.Context(), n))(t)
	if p.State != "waiting" {
		t.Fatalf("%+v", p)
	}
	answers <- `{"pass": true, "fact": "aboard now"}`
	eventually(t, 15*time.Second, "it was asked again", func() bool {
		return done(admin.Promotion(t.Context(), p.ID))(t).State == "done"
	})
	nowhere, snapshots, _ := track(t, admin, "asks http://127.0.0.1:9/ within 1s")
	publishSnapshot(t, snapshots, "tide-model", "3.0.0")
	n.Track = nowhere
	if p := done(admin.Promote(t.Context(), n))(t); p.State != "failed" ||
		!strings.Contains(p.Why, "could not be reached") {
		t.Errorf("%+v", p)
	}
}

// TestBuilds: which build made something can be said by a header, by digests, or
// by the time; repositories can insist on it, and on robots.
func TestBuilds(t *testing.T) {
	snapshots := repository(t, "snapshots")
	admin := desk(house.Token)
	n := made.Add(1)
	robot := person(t, fmt.Sprintf("ci-%d", n), "robot", api.NewGrant{Role: "publisher", Repositories: snapshots})
	human := person(t, fmt.Sprintf("human-%d", n), "user", api.NewGrant{Role: "publisher", Repositories: snapshots})
	if a, err := shared.JSON(t.Context(), http.MethodPatch, "/api/v1/repositories/"+snapshots,
		map[string]any{"onlyBuilds": true, "onlyRobots": true}, nil); err != nil || a.Status != 200 {
		t.Fatal(a.Status, err)
	}
	p := madeup.Package{Name: fmt.Sprintf("part-%d", n), Version: "1.0.0-dev.1"}
	publish := func(c *client.Client, version string, headers ...string) house.Answer {
		p.Version = version
		return done(shared.Ask(t.Context(), http.MethodPut, "/at/"+snapshots+"/npm/"+p.Name, c.Token,
			strings.NewReader(string(p.NPMDocument("next", p.NPM()))), headers...))(t)
	}
	if a := publish(human, "1.0.0-dev.1"); a.Status != 403 ||
		!strings.Contains(string(a.Body), "takes only what robots publish") {
		t.Errorf("%d %s", a.Status, a.Body)
	}
	if a := publish(robot, "1.0.0-dev.1"); a.Status != 403 || !strings.Contains(string(a.Body), "Begin one first") {
		t.Errorf("%d %s", a.Status, a.Body)
	}
	name := fmt.Sprintf("parts-%d", n)
	if a := publish(robot, "1.0.0-dev.1", api.BuildHeader, name+"#1"); a.Status >= 300 {
		t.Fatalf("%d %s", a.Status, a.Body)
	}
	done(robot.BeginBuild(t.Context(), name+"#2"))(t)
	if a := publish(robot, "1.0.0-dev.2"); a.Status >= 300 {
		t.Fatalf("%d %s", a.Status, a.Body)
	}
	if a := done(shared.Ask(t.Context(), http.MethodGet, "/at/"+snapshots+"/npm/"+p.Name+"/-/"+p.Name+"-1.0.0-dev.2.tgz",
		robot.Token, nil))(t); a.Status != 200 {
		t.Errorf("%d %s", a.Status, a.Body)
	}
	_, err := human.RecordBuild(t.Context(), api.BuildReport{Name: name, Number: "2"})
	refusedWith(t, err, "belong to ci-")
	if b := done(robot.RecordBuild(t.Context(), api.BuildReport{Name: name, Number: "2",
		JUnit: []string{"<testsuite><testcase/></testsuite>"}}))(t); b.Made != 1 || !b.Tests.Passed() {
		t.Errorf("%+v", b)
	}
	_, err = robot.BeginBuild(t.Context(), name+"#2")
	refusedWith(t, err, "was recorded at")
	second := done(robot.Build(t.Context(), name+"#2"))(t)
	if len(second.MadeIt) != 1 || len(second.Used) != 1 || second.Used[0].PURL != second.MadeIt[0].PURL {
		t.Errorf("%+v", second)
	}
	if d := done(robot.CompareBuilds(t.Context(), name+"#1", name+"#2"))(t); len(d.Made) != 1 ||
		d.Made[0].Before != "1.0.0-dev.1" || d.Made[0].After != "1.0.0-dev.2" || len(d.Used) != 1 {
		t.Errorf("%+v", d)
	}
	_, err = human.RecordBuild(t.Context(), api.BuildReport{Name: name, Number: "9",
		Made: []string{"pkg:npm/" + p.Name + "@1.0.0-dev.1"}})
	refusedWith(t, err, "cannot say which build made it")
	_, err = admin.RecordBuild(t.Context(), api.BuildReport{Name: name + "-by-hand", Number: "9",
		Made: []string{"pkg:npm/" + p.Name + "@1.0.0-dev.1"}})
	refusedWith(t, err, "made by another build")
	_, err = robot.RecordBuild(t.Context(), api.BuildReport{Name: name, Number: "3", JUnit: []string{"<no/>"}})
	refusedWith(t, err, "test report 1")
	_, err = robot.RecordBuild(t.Context(), api.BuildReport{Name: name, Number: "3",
		Digests: []string{strings.Repeat("ab", 32)}})
	refusedWith(t, err, "was published here")
	_, err = person(t, fmt.Sprintf("stranger-%d", n), "user").Build(t.Context(), name+"#2")
	refusedWith(t, err, "no build")

	t.Run("documents", func(t *testing.T) { documents(t, robot, name+"#2", second) })
}

// documents attaches statements to a build, and verifies who signed them.
func documents(t *testing.T, robot *client.Client, build string, page api.BuildPage) {
	admin := desk(house.Token)
	public, secret, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	key := fmt.Sprintf("yard-%d", made.Add(1))
	text := string(pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: done(x509.MarshalPKIXPublicKey(public))(t)}))
	if err := admin.AddKey(t.Context(), api.NewKey{Name: key, Public: text}); err != nil {
		t.Fatal(err)
	}
	shown := done(admin.Package(t.Context(), page.MadeIt[0].PURL, page.MadeIt[0].Repository))(t)
	sum := shown.Versions[0].Uploads[0].Files[0].Checksums["sha256"]
	envelope := func(sum string) []byte {
		const kind = "application/vnd.in-toto+json"
		payload := `{"_type":"https://in-toto.io/Statement/v1","subject":[{"digest":{"sha256":"` + sum +
			`"}}],"predicateType":"https://slsa.dev/provenance/v1","predicate":{}}`
		signature := ed25519.Sign(secret, fmt.Appendf(nil, "DSSEv1 %d %s %d %s", len(kind), kind, len(payload), payload))
		return done(json.Marshal(map[string]any{"payloadType": kind, "payload": payload64(payload),
			"signatures": []map[string]string{{"sig": base64.StdEncoding.EncodeToString(signature)}}}))(t)
	}
	if d := done(robot.Attach(t.Context(), build, "provenance.json", envelope(sum)))(t); len(d.SignedBy) != 1 ||
		d.SignedBy[0] != key || d.Type != "https://slsa.dev/provenance/v1" {
		t.Errorf("%+v", d)
	}
	_, err = robot.Attach(t.Context(), build, "other.json", envelope(strings.Repeat("0", 64)))
	refusedWith(t, err, "did not make")
	_, err = robot.Attach(t.Context(), build, "text", []byte(`{}`))
	refusedWith(t, err, "neither a DSSE envelope")
	done(robot.Attach(t.Context(), build, "bom.json", []byte(`{"bomFormat":"CycloneDX","specVersion":"1.6"}`)))(t)
	after := done(robot.Build(t.Context(), build))(t)
	if len(after.Documents) != 2 {
		t.Fatalf("%+v", after.Documents)
	}
	name, number, _ := strings.Cut(build, "#")
	if a := ask(t, http.MethodGet, fmt.Sprintf("/api/v1/builds/%s/%s/documents/%d", name, number, after.Documents[1].ID),
		""); a.Status != 200 || !strings.Contains(string(a.Body), "CycloneDX") {
		t.Errorf("%d %s", a.Status, a.Body)
	}
}

func payload64(text string) string { return base64.StdEncoding.EncodeToString([]byte(text)) }
