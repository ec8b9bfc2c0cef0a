package e2e

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"

	"crelvo/internal/demo"
	"crelvo/internal/ecosystem/madeup"
	"crelvo/test/house"
)

func newPython(t *testing.T) *workshop {
	t.Helper()
	// The machine's own settings may name other indexes.
	return newWorkshop(t, "PIP_CONFIG_FILE="+os.DevNull, "PIP_DISABLE_PIP_VERSION_CHECK=1", "PIP_NO_CACHE_DIR=1",
		"PIP_ROOT_USER_ACTION=ignore",
		"TWINE_USERNAME=admin", "TWINE_PASSWORD="+house.Token, "TWINE_NON_INTERACTIVE=1")
}

// pip is the command that runs pip.
func pip(args ...string) (string, []string) {
	if path, err := exec.LookPath("pip"); err == nil {
		return path, args
	}
	return "python3", append([]string{"-m", "pip"}, args...)
}

func (w *workshop) pip(args ...string) string {
	w.t.Helper()
	name, args := pip(args...)
	return w.run("", name, args...)
}

// twine uploads files, and gives what was said.
func (w *workshop) twine(repository string, files ...string) (string, error) {
	w.t.Helper()
	return w.try("", "/usr/bin/twine", append([]string{"upload", "--disable-progress-bar", "--repository-url",
		address(repository, "pypi")}, files...)...)
}

func tidecast(version string) madeup.Package {
	return madeup.Package{Name: "tidecast", Version: version, Description: "Tides as they come", Licence: "MIT",
		Author: "Deck Hands", Readme: "# tidecast\n"}
}

// dist writes the distributions of a package.
func (w *workshop) dist(folder string, p madeup.Package) []string {
	return []string{w.write(folder+"/"+p.WheelName(), p.Wheel()), w.write(folder+"/"+p.SdistName(), p.Sdist())}
}

// TestPyPI does with the real twine and pip what people do with them.
func TestPyPI(t *testing.T) {
	t.Parallel()
	releases := repository(t, "releases")
	w := newPython(t)
	old := tidecast("1.3.0")
	files := w.dist("dist", tidecast("1.4.0"))
	w.write("dist/"+tidecast("1.4.0").WheelName()+".asc",
		[]byte("-----BEGIN PGP SIGNATURE-----\n\nmade up\n-----END PGP SIGNATURE-----\n"))
	for _, all := range [][]string{w.dist("dist", old), append(files, files[0]+".asc"),
		files} { // the last are there already
		if out, err := w.twine(releases, all...); err != nil {
			t.Fatalf("%v\n%s", err, out)
		}
	}
	other := tidecast("1.4.0")
	other.Readme = "other\n"
	out, err := w.twine(releases, w.dist("other", other)...)
	if flat := strings.Join(strings.Fields(out), " "); err == nil ||
		!strings.Contains(flat, "tidecast 1.4.0 was published by admin on") ||
		!strings.Contains(flat, "The next free version is 1.4.1") {
		t.Errorf("publishing other bytes: %v\n%s", err, out)
	}
	out, err = w.twine(releases, w.dist("dev", tidecast("1.5.0.dev7"))...)
	if flat := strings.Join(strings.Fields(out), " "); err == nil ||
		!strings.Contains(flat, "holds releases, and 1.5.0.dev7 is a snapshot") {
		t.Errorf("publishing a snapshot: %v\n%s", err, out)
	}
	// What is not there already is not skipped as if it were.
	skip := func(repository string, files ...string) (string, error) {
		return w.twine(repository, append([]string{"--skip-existing"}, files...)...)
	}
	if out, err := skip(releases, w.dist("other", other)...); err != nil || !strings.Contains(out, "Skipping") {
		t.Errorf("skipping what exists: %v\n%s", err, out)
	}
	if out, err := skip(releases, w.dist("dev", tidecast("1.5.0.dev7"))...); err == nil {
		t.Errorf("a snapshot was skipped as if it were there:\n%s", out)
	}
	if out, err := skip(addChain(t, releases), w.dist("new", tidecast("1.9.0"))...); err == nil ||
		!strings.Contains(strings.Join(strings.Fields(out), " "), "does not take releases") {
		t.Errorf("a chain without a place for releases: %v\n%s", err, out)
	}

	index := withToken(address(releases, "pypi")) + "simple/"
	if got := w.pip("index", "versions", "-i", index, "TideCast"); !strings.Contains(got, "1.4.0, 1.3.0") {
		t.Errorf("pip index versions: %s", got)
	}
	// Debian's pip reads the JSON index more strictly than newer ones.
	w.run("", "/usr/bin/python3", "-m", "pip", "install", "-v", "--target", w.dir+"/debian", "-i", index, "tidecast")
	if got := w.read("debian/tidecast/__init__.py"); !strings.Contains(got, "1.4.0") {
		t.Errorf("Debian's pip installed %s", got)
	}
	got := w.pip("install", "-v", "--target", w.dir+"/site", "-i", index, "tidecast")
	var major, minor int
	if _, using, _ := strings.Cut(got, "Using pip "); using == "" {
		t.Errorf("pip does not say which one it is: %s", got)
	} else if _, err := fmt.Sscanf(using, "%d.%d", &major, &minor); err != nil {
		t.Errorf("%v: %s", err, got)
	}
	// By its present name the metadata of wheels is known to pip since 23.2.
	if knows := major*100+minor >= 2302; strings.Contains(got, "whl.metadata") != knows {
		t.Errorf("whether pip knows of the metadata alone is %v, and it asked: %s", knows, got)
	}
	if got := w.read("site/tidecast/__init__.py"); !strings.Contains(got, "1.4.0") {
		t.Errorf("it installed %s", got)
	}
	a := must(t, http.MethodGet, "/at/"+releases+"/pypi/files/tidecast/1.3.0/"+old.SdistName(), "", 200)
	if string(a.Body) != string(old.Sdist()) {
		t.Error("the source distribution is another")
	}
	a = must(t, http.MethodGet, "/at/"+releases+"/pypi/files/tidecast/1.4.0/"+tidecast("1.4.0").WheelName()+".asc", "",
		200)
	if !strings.Contains(string(a.Body), "made up") {
		t.Errorf("the signature is %s", a.Body)
	}
	a = ask(t, http.MethodGet, "/at/"+releases+"/pypi/simple/tidecast/", "", "Accept",
		"application/vnd.pypi.simple.v1+json")
	var page struct {
		Versions []string
		Files    []struct {
			Filename string
			Hashes   map[string]string
			Size     int64
			Signed   bool `json:"gpg-sig"`
			Upload   time.Time
		}
	}
	if err := json.Unmarshal(a.Body, &page); err != nil || len(page.Versions) != 2 || len(page.Files) != 4 ||
		page.Files[2].Size == 0 || !page.Files[2].Signed {
		t.Errorf("%s, %v", a.Body, err)
	}
	sum := page.Files[2].Hashes["sha256"]
	w.write("good.txt", []byte("tidecast==1.4.0 --hash=sha256:"+sum+"\n"))
	w.pip("install", "--target", w.dir+"/hashed", "--require-hashes", "-i", index, "-r", w.dir+"/good.txt")
	w.run("", "/usr/bin/python3", "-m", "pip", "install", "--target", w.dir+"/debian-hashed", "--require-hashes", "-i",
		index, "-r", w.dir+"/good.txt")
	w.write("bad.txt", []byte("tidecast==1.4.0 --hash=sha256:"+strings.Repeat("ab", 32)+"\n"))
	name, args := pip("install", "--target", w.dir+"/bad", "--require-hashes", "-i", index, "-r", w.dir+"/bad.txt")
	w.fails([]string{"DO NOT MATCH THE HASHES"}, "", name, args...)

	// Withdrawn, it is passed over, unless it is asked for by its version.
	if _, errs, code := crelvoAsAdmin(t, "withdraw", "pkg:pypi/tidecast@1.4.0", "--in", releases, "--reason",
		"wrong moon"); code != 0 {
		t.Fatalf("withdraw: %d %s", code, errs)
	}
	w.pip("install", "--target", w.dir+"/after", "-i", index, "tidecast")
	if got := w.read("after/tidecast/__init__.py"); !strings.Contains(got, "1.3.0") {
		t.Errorf("after the withdrawal it installed %s", got)
	}
	if got := w.pip("install", "--target", w.dir+"/exact", "-i", index, "tidecast==1.4.0"); !strings.Contains(got,
		"wrong moon") {
		t.Errorf("installing what is withdrawn says %s", got)
	}
	if _, errs, code := crelvoAsAdmin(t, "withdraw", "pkg:pypi/tidecast@1.4.0", "--in", releases, "--undo"); code != 0 {
		t.Fatalf("withdraw --undo: %d %s", code, errs)
	}
	if got := w.pip("index", "versions", "-i", index, "tidecast"); !strings.Contains(got, "1.4.0") {
		t.Errorf("after the withdrawal ended: %s", got)
	}
}

// TestPyPISnapshots: twine sends the files of a development version one by one;
// they are one upload, and the newest upload answers.
func TestPyPISnapshots(t *testing.T) {
	t.Parallel()
	snapshots := repository(t, "snapshots")
	w := newPython(t)
	first, second := tidecast("1.5.0.dev7"), tidecast("1.5.0.dev7")
	second.Files = []madeup.Entry{{Name: "tidecast/second.py", Content: "x = 2\n"}}
	for _, p := range []madeup.Package{first, second} {
		if out, err := w.twine(snapshots, w.dist("dist", p)...); err != nil {
			t.Fatalf("%v\n%s", err, out)
		}
	}
	out, _, _ := crelvoAsAdmin(t, "show", "pkg:pypi/tidecast@1.5.0.dev7")
	says(t, out, "1.5.0.dev7", snapshots)
	w.pip("install", "--pre", "--target", w.dir+"/site", "-i", withToken(address(snapshots, "pypi"))+"simple/", "tidecast")
	w.read("site/tidecast/second.py")
}

// TestPyPIUploads sends forms that are not right.
func TestPyPIUploads(t *testing.T) {
	releases := repository(t, "releases")
	p := tidecast("1.4.0")
	good, contentType := demo.UploadForm(p, p.WheelName(), p.Wheel())
	for name, c := range map[string]struct {
		body string
		says string
	}{
		"another name in the form": {strings.Replace(string(good), "\r\n\r\ntidecast\r\n", "\r\n\r\nother\r\n", 1),
			"was sent as other"},
		"another version":    {strings.Replace(string(good), "\r\n\r\n1.4.0\r\n", "\r\n\r\n1.4.1\r\n", 1), "was sent as"},
		"cut":                {string(good[:len(good)-300]), "did not arrive whole"},
		"another action":     {strings.Replace(string(good), "file_upload", "submit", 1), "not for file_upload"},
		"a name with a path": {strings.Replace(string(good), `filename="tidecast`, `filename="../tidecast`, 1), ""},
		"a wrong digest": {strings.Replace(string(good), "\r\n\r\nfile_upload", "\r\n\r\nfile_upload\r\n--"+
			contentType[strings.Index(contentType, "=")+1:]+
			"\r\nContent-Disposition: form-data; name=\"sha256_digest\"\r\n\r\n"+strings.Repeat("ab", 32), 1), "but abab"},
	} {
		a := ask(t, http.MethodPost, "/at/"+releases+"/pypi/", c.body, "Content-Type", contentType)
		if name != "a name with a path" && (a.Status != 400 || !strings.Contains(a.Reason, c.says)) {
			t.Errorf("%s: %d %s", name, a.Status, a.Reason)
		}
		if name == "a name with a path" && a.Status == 200 {
			// Go's parser takes the path off, as RFC 7578 asks; then it is the good one.
			must(t, http.MethodGet, "/at/"+releases+"/pypi/files/tidecast/1.4.0/"+p.WheelName(), "", 200)
		}
	}
	must(t, http.MethodGet, "/at/"+releases+"/pypi/simple/other/", "", 404)
}

// TestPyPIMirror installs through a mirror and a chain, with files beside the
// index, and as of a moment.
func TestPyPIMirror(t *testing.T) {
	t.Parallel()
	soundings := madeup.Package{Name: "soundings", Version: "2.4.0", Licence: "MIT"}
	u, _, mirror := shelf(t, "pypi", soundings)
	releases := repository(t, "releases")
	chain := addChain(t, releases, mirror)
	w := newPython(t)
	needs := tidecast("1.4.0")
	needs.Needs = map[string]string{"soundings": ">=2"}
	publishMade(t, releases, "pypi", needs)
	index := withToken(address(chain, "pypi")) + "simple/"
	w.pip("install", "--target", w.dir+"/site", "-i", index, "tidecast")
	w.read("site/soundings/__init__.py")
	if n := u.Requests()["/pypi/files/"+soundings.WheelName()]; n != 1 {
		t.Errorf("the upstream was asked %d times for the wheel", n)
	}
	then := publishedAt(t, releases, "pkg:pypi/tidecast@1.4.0").Add(time.Microsecond)
	publishMade(t, releases, "pypi", tidecast("1.5.0"))
	w.pip("install", "--no-deps", "--target", w.dir+"/then", "-i", withToken(address(asOf(chain, then), "pypi"))+"simple/",
		"tidecast")
	if got := w.read("then/tidecast/__init__.py"); !strings.Contains(got, "1.4.0") {
		t.Errorf("as of then it installed %s", got)
	}
	// Without its upstream, what was kept still installs.
	switchTo(t, u, demo.Fault{Kind: "gone"})
	w.pip("install", "--no-deps", "--target", w.dir+"/gone", "-i", index, "soundings")
}
