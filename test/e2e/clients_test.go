package e2e

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"crelvo/internal/checkout"
	"crelvo/internal/demo"
	"crelvo/internal/ecosystem/madeup"
	"crelvo/test/house"
)

// workshop is a folder in which real package clients run, with a home of their
// own.
type workshop struct {
	t           *testing.T
	dir         string
	environment []string
}

func newWorkshop(t *testing.T, environment ...string) *workshop {
	t.Helper()
	dir := t.TempDir()
	w := &workshop{t: t, dir: dir, environment: append([]string{"HOME=" + dir + "/home", "PATH=" + os.Getenv("PATH"),
		"TZ=UTC", "LANG=C.UTF-8", "CI=true", "NO_COLOR=1"}, environment...)}
	if err := os.Mkdir(dir+"/home", 0o755); err != nil {
		t.Fatal(err)
	}
	return w
}

// write makes a file below the folder, and gives its path.
func (w *workshop) write(name string, content []byte) string {
	w.t.Helper()
	path := filepath.Join(w.dir, name)
	err := os.MkdirAll(filepath.Dir(path), 0o755)
	if err == nil {
		err = os.WriteFile(path, content, 0o600)
	}
	if err != nil {
		w.t.Fatal(err)
	}
	return path
}

func (w *workshop) read(name string) string {
	w.t.Helper()
	raw, err := os.ReadFile(filepath.Join(w.dir, name))
	if err != nil {
		w.t.Fatal(err)
	}
	return string(raw)
}

// try runs a client in a folder, and gives what it printed.
func (w *workshop) try(folder, name string, args ...string) (string, error) {
	w.t.Helper()
	ctx, cancel := context.WithTimeout(w.t.Context(), 3*time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, name, args...)
	cmd.Dir = filepath.Join(w.dir, folder)
	cmd.Env = w.environment
	out, err := cmd.CombinedOutput()
	return string(out), err
}

// run is try, and wants no failure.
func (w *workshop) run(folder, name string, args ...string) string {
	w.t.Helper()
	out, err := w.try(folder, name, args...)
	if err != nil {
		w.t.Fatalf("%s %s: %v\n%s", name, strings.Join(args, " "), err, out)
	}
	return out
}

// fails is try, and wants a failure that says all of that.
func (w *workshop) fails(says []string, folder, name string, args ...string) {
	w.t.Helper()
	out, err := w.try(folder, name, args...)
	if err == nil {
		w.t.Errorf("%s %s: done; want a failure\n%s", name, strings.Join(args, " "), out)
	}
	// Clients break lines as they like.
	flat := strings.Join(strings.Fields(out), " ")
	for _, want := range says {
		if !strings.Contains(flat, want) {
			w.t.Errorf("%s %s: does not say %q:\n%s", name, strings.Join(args, " "), want, out)
		}
	}
}

// fromNPM is the path of a client that was installed for the tests.
func fromNPM(path string) string { return checkout.Path("test/clients/node_modules/" + path) }

// address is the door of a repository, as clients are given it.
func address(repository, ecosystem string) string {
	return shared.Address + "/at/" + repository + "/" + ecosystem + "/"
}

func withToken(address string) string {
	return strings.Replace(address, "http://", "http://admin:"+house.Token+"@", 1)
}

// publishMade publishes a made-up package by hand.
func publishMade(t *testing.T, repository, ecosystem string, p madeup.Package) {
	t.Helper()
	var a house.Answer
	switch ecosystem {
	case "npm":
		a = ask(t, http.MethodPut, "/at/"+repository+"/npm/"+strings.ReplaceAll(p.Name, "/", "%2f"),
			string(p.NPMDocument("latest", p.NPM())))
	case "pypi":
		body, contentType := demo.UploadForm(p, p.WheelName(), p.Wheel())
		a = ask(t, http.MethodPost, "/at/"+repository+"/pypi/", string(body), "Content-Type", contentType)
	case "nuget":
		a = ask(t, http.MethodPut, "/at/"+repository+"/nuget/package", string(p.NuGet()))
	case "cargo":
		a = ask(t, http.MethodPut, "/at/"+repository+"/cargo/api/v1/crates/new", string(p.CargoUpload(p.Cargo(""))))
	}
	if a.Status != 200 && a.Status != 201 {
		t.Fatalf("publishing %s %s %s: %d %s", ecosystem, p.Name, p.Version, a.Status, a.Body)
	}
}

// shelf starts a stand-in upstream with made-up packages of an ecosystem, and a
// mirror of it.
func shelf(
	t *testing.T, ecosystem string, packages ...madeup.Package,
) (u *demo.Upstream, content demo.Files, mirror string) {
	t.Helper()
	content = demo.Shelves[ecosystem](ecosystem+"/", packages...)
	u, at := shore(t, content)
	mirror = fmt.Sprintf("mirror-%d", made.Add(1))
	if err := shared.AddMirrorOf(t.Context(), ecosystem, mirror, at+demo.ShorePaths[ecosystem], quick); err != nil {
		t.Fatal(err)
	}
	return u, content, mirror
}

func npmShelfOf(packages ...madeup.Package) demo.Files {
	return demo.Shelves["npm"]("npm/", packages...)
}

// waitPast waits until a moment has passed.
func waitPast(t *testing.T, moment time.Time) {
	t.Helper()
	eventually(t, 5*time.Second, "time goes on", func() bool { return time.Now().After(moment.Add(time.Millisecond)) })
}
