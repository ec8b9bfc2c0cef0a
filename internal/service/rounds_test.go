package service

import (
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"testing"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/ecosystem"
	"crelvo/internal/ecosystem/maven"
	"crelvo/internal/record/recordtest"
	"crelvo/internal/service/repositories"
	"crelvo/internal/service/rights"
)

// deploying is a client that sends the files of a Maven release one by one.
type deploying struct {
	*node
	t      *testing.T
	r      catalog.Repository
	caller access.Caller
	now    time.Time

	version string
}

func newDeploying(t *testing.T) *deploying {
	t.Helper()
	n := newNode(t, recordtest.URL(t))
	d := &deploying{node: n, t: t, r: n.repository(t), caller: n.admin, version: "1.0",
		now: time.Date(2026, 11, 1, 8, 0, 0, 0, time.UTC)}
	n.Settings.Now = func() time.Time { return d.now }
	return d
}

const tidePOM = `<project><groupId>example.skerry</groupId><artifactId>tide-model</artifactId><version>%s</version></project>`

func (d *deploying) place(classifier, extension string) ecosystem.Place {
	name := "tide-model-" + d.version
	if classifier != "" {
		name += "-" + classifier
	}
	return ecosystem.Place{Namespace: "example.skerry", Name: "tide-model", Version: d.version, FileName: name + "." +
		extension, Classifier: classifier, Extension: extension}
}

// send sends a file: pom, jar=CONTENT, sources=CONTENT, or war=CONTENT.
func (d *deploying) send(what string) error {
	d.t.Helper()
	kind, content, _ := strings.Cut(what, "=")
	place, body := d.place("", kind), ""
	switch kind {
	case "pom":
		body = fmt.Sprintf(tidePOM, d.version)
	case "sources":
		place, body = d.place("sources", "jar"), jar(d.t, content)
	default:
		body = jar(d.t, content)
	}
	d.now = d.now.Add(time.Second)
	_, err := d.Publishing.Receive(d.t.Context(), d.caller, d.r, maven.Maven{}, place, strings.NewReader(body),
		int64(len(body)))
	return err
}

// cut sends a file that does not arrive whole.
func (d *deploying) cut(kind string) {
	d.t.Helper()
	d.now = d.now.Add(time.Second)
	place := d.place("", kind)
	if kind == "sources" {
		place = d.place("sources", "jar")
	}
	if _, err := d.Publishing.Receive(d.t.Context(), d.caller, d.r, maven.Maven{}, place,
		io.MultiReader(strings.NewReader("PK"), failing{}), 1000); err == nil {
		d.t.Fatal("a cut file was taken")
	}
}

type failing struct{}

func (failing) Read([]byte) (int, error) { return 0, errors.New("cut") }

func (d *deploying) finish() error { return d.finishWhile(func() {}) }

// finishWhile calls meanwhile after the files were looked at.
func (d *deploying) finishWhile(meanwhile func()) error {
	d.now = d.now.Add(time.Second)
	return d.Publishing.Finish(d.t.Context(), d.caller, d.r,
		ecosystem.Completion{Key: d.r.Key("maven", "example.skerry", "tide-model"),
			Version: func(version, _ string) bool { return version == d.version }, Lacks: func(files []catalog.File) string {
				defer meanwhile()
				if !slices.ContainsFunc(files, func(f catalog.File) bool { return f.Extension == "pom" }) {
					return "its pom"
				}
				return ""
			}})
}

// listed names the files of the version that can be seen; "" if it cannot.
func (d *deploying) listed() string {
	d.t.Helper()
	p, err := d.Resolving.Package(d.t.Context(), d.r.Key("maven", "example.skerry", "tide-model"))
	if errors.Is(err, ecosystem.ErrNoPackage) {
		return ""
	}
	if err != nil {
		d.t.Fatal(err)
	}
	var names []string
	for _, v := range p.Versions {
		for _, f := range v.Files {
			if v.Version == d.version {
				names = append(names, strings.TrimPrefix(f.Name, "tide-model-"+d.version))
			}
		}
	}
	slices.Sort(names)
	return strings.Join(names, " ")
}

// restart is what the records see of a service that was killed and started.
func (d *deploying) restart() {
	d.t.Helper()
	if err := d.Store.Tidy(d.t.Context(), true); err != nil {
		d.t.Fatal(err)
	}
}

// TestFinishWhileSent: two jobs with one token that publish the same second cannot both have
// it, but what one of them is told to be complete can be seen, whatever the other sends
// meanwhile.
func TestFinishWhileSent(t *testing.T) {
	d := newDeploying(t)
	for _, what := range []string{"jar=a", "pom"} {
		if err := d.send(what); err != nil {
			t.Fatal(err)
		}
	}
	looks := 0
	err := d.finishWhile(func() {
		if looks++; looks <= 3 {
			if err := d.send("pom"); err != nil {
				t.Error(err)
			}
		}
	})
	if listed := d.listed(); err != nil || listed != ".jar .pom" {
		t.Errorf("completed after %d looks with %v, listed is %q", looks, err, listed)
	}
	// Who sends without end is told.
	d.version = "1.1"
	if err := d.send("pom"); err != nil {
		t.Fatal(err)
	}
	var f *fault.Error
	err = d.finishWhile(func() {
		if err := d.send("pom"); err != nil {
			t.Error(err)
		}
	})
	if listed := d.listed(); !errors.As(err, &f) || f.Code != "still-sent-to" || listed != "" {
		t.Errorf("completed with %v, listed is %q", err, listed)
	}
}

// TestPublishingAgain: whatever was cut, killed or rebuilt, in whichever order: a
// release is listed whole, from one round, or not at all; and trying again leads
// to it.
func TestPublishingAgain(t *testing.T) {
	const whole = "-sources.jar .jar .pom"
	d, tries := newDeploying(t), 0
	for _, first := range [][]string{{"pom", "jar=a", "sources=a"}, {"jar=a", "pom", "sources=a"},
		{"sources=a", "jar=a", "pom"}} {
		for at := range first {
			for _, how := range []string{"cut", "killed", "left"} {
				for _, rebuilt := range []bool{false, true} {
					t.Run(fmt.Sprint(first, " ", how, " at ", at, " rebuilt ", rebuilt), func(t *testing.T) {
						tries++
						d.t, d.version = t, fmt.Sprint("1.", tries)
						for _, what := range first[:at] {
							if err := d.send(what); err != nil {
								t.Fatal(err)
							}
						}
						kind, _, _ := strings.Cut(first[at], "=")
						switch how {
						case "cut":
							d.cut(kind)
						case "killed":
							if err := d.send(first[at]); err != nil {
								t.Fatal(err)
							}
							d.restart()
						case "left": // and comes back after the time that the advice names
							if err := d.send(first[at]); err != nil {
								t.Fatal(err)
							}
							d.now = d.now.Add(2 * d.Settings.QuietPeriod)
						}
						for _, what := range first {
							if rebuilt {
								what = strings.ReplaceAll(what, "=a", "=b")
							}
							if err := d.send(what); err != nil {
								t.Fatalf("%s: %v", what, err)
							}
							if got := d.listed(); got != "" {
								t.Fatalf("listed in the middle: %s", got)
							}
						}
						if err := d.finish(); err != nil {
							t.Fatal(err)
						}
						if got := d.listed(); got != whole {
							t.Errorf("listed: %s", got)
						}
					})
				}
			}
		}
	}
}

// TestHalfARound: what an earlier round sent does not make a later one whole, by
// itself or by the client's word.
func TestHalfARound(t *testing.T) {
	d := newDeploying(t)
	for _, what := range []string{"jar=a", "pom"} {
		if err := d.send(what); err != nil {
			t.Fatal(err)
		}
	}
	d.restart()
	if err := d.send("jar=a"); err != nil { // the same again, and then no more
		t.Fatal(err)
	}
	if err := d.finish(); fault.Of(err).Code != "not-whole" || !strings.Contains(err.Error(), "its pom") {
		t.Errorf("completed without its pom: %v", err)
	}
	d.now = d.now.Add(3 * d.Settings.QuietPeriod)
	if err := d.chore(t.Context(), "completing quiet versions"); err != nil || d.listed() != "" {
		t.Errorf("the half became visible: %s, %v", d.listed(), err)
	}
	if err := d.send("pom"); err != nil {
		t.Fatal(err)
	}
	if err := d.finish(); err != nil || d.listed() != ".jar .pom" {
		t.Errorf("%s, %v", d.listed(), err)
	}
}

// TestSamePomsDoNotRenewTheWait: the time that a refusal names is when it may be
// tried again, however often somebody tries before.
func TestSamePomsDoNotRenewTheWait(t *testing.T) {
	d := newDeploying(t)
	for _, what := range []string{"pom", "jar=a"} {
		if err := d.send(what); err != nil {
			t.Fatal(err)
		}
	}
	stored := d.now
	for d.now.Before(stored.Add(d.Settings.QuietPeriod - 20*time.Second)) {
		if err := d.send("pom"); err != nil {
			t.Fatal(err)
		}
		err := d.send("jar=b")
		if f := fault.Of(err); f.Code != "being-published" ||
			!strings.Contains(f.Hint, stored.Add(d.Settings.QuietPeriod).Format("15:04:05")) {
			t.Fatalf("%v, %s", err, fault.Of(err).Hint)
		}
		d.now = d.now.Add(10 * time.Second)
	}
	d.now = stored.Add(d.Settings.QuietPeriod)
	for _, what := range []string{"pom", "jar=b"} {
		if err := d.send(what); err != nil {
			t.Fatalf("after the time that was named: %v", err)
		}
	}
	if err := d.finish(); err != nil || d.listed() != ".jar .pom" {
		t.Errorf("%s, %v", d.listed(), err)
	}
}

// TestClosed: a release takes what attests its files, further files of its own
// publisher that take nothing's place, and after a promotion nothing at all.
func TestClosed(t *testing.T) {
	d := newDeploying(t)
	for _, what := range []string{"pom", "jar=a"} {
		if err := d.send(what); err != nil {
			t.Fatal(err)
		}
	}
	if err := d.finish(); err != nil {
		t.Fatal(err)
	}
	if err := d.send("war=x"); fault.Of(err).Code != "closed" {
		t.Errorf("another main file: %v", err)
	}
	if err := d.send("sources=s"); err != nil {
		t.Errorf("sources: %v", err)
	}
	if err := d.Rights.AddPrincipal(t.Context(), d.admin,
		rights.NewPrincipal{Name: "deckhand", Grants: []access.Grant{{Role: access.Publisher,
			Repositories: "*"}}}); err != nil {
		t.Fatal(err)
	}
	other, err := d.Rights.CallerNamed(t.Context(), "deckhand")
	if err != nil {
		t.Fatal(err)
	}
	asc := d.place("", "jar.asc")
	asc.FileName = "tide-model-1.0.jar.asc"
	javadoc := d.place("javadoc", "jar")
	if _, err := d.Publishing.Receive(t.Context(), other, d.r, maven.Maven{}, asc, strings.NewReader("signature"),
		-1); err != nil {
		t.Errorf("a signature: %v", err)
	}
	if _, err := d.Publishing.Receive(t.Context(), other, d.r, maven.Maven{}, javadoc, strings.NewReader(jar(t, "doc")),
		-1); fault.Of(err).Code != "others-version" {
		t.Errorf("somebody else's file: %v", err)
	}
	if got := d.listed(); got != "-sources.jar .jar .jar.asc .pom" {
		t.Errorf("it has %s", got)
	}
	p, err := d.Resolving.Package(t.Context(), d.r.Key("maven", "example.skerry", "tide-model"))
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range p.Versions[0].Files {
		if want := map[bool]string{true: "deckhand", false: "admin"}[strings.HasSuffix(f.Name, ".asc")]; f.AddedBy != want {
			t.Errorf("%s was added by %q", f.Name, f.AddedBy)
		}
	}
	closed := true
	if d.r, err = d.Repositories.EditRepository(t.Context(), d.admin, d.r.Name,
		repositories.SettingsChange{Closed: &closed}); err != nil {
		t.Fatal(err)
	}
	if _, err := d.Publishing.Receive(t.Context(), d.admin, d.r, maven.Maven{}, javadoc, strings.NewReader(jar(t, "doc")),
		-1); fault.Of(err).Code != "closed" {
		t.Errorf("in a closed repository: %v", err)
	}
}
