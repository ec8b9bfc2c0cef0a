package e2e

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"testing"

	"github.com/CycloneDX/cyclonedx-go"

	"crelvo/test/house"
)

// packaged makes packages, or an image, for this machine into a folder.
func packaged(t *testing.T, into string, more ...string) {
	t.Helper()
	command := exec.CommandContext(t.Context(), "go", append([]string{"run", ".", "--into", into, "--version",
		"v0.9.0-3-g1234567", "--at", "1795000000", "--only", "linux-" + runtime.GOARCH}, more...)...)
	command.Dir = filepath.Join(filepath.Dir(house.Program()), "..", "packaging")
	if out, err := command.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
}

// TestPackages: what make package makes has all that it should, in the forms of Debian and of
// RPM, and what is in it runs as the unit says.
func TestPackages(t *testing.T) {
	t.Parallel()
	w := newWorkshop(t)
	dir, err := house.TempDir()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	packaged(t, w.dir+"/dist")
	stem := "crelvo-0.9.0+3+g1234567-linux-" + runtime.GOARCH
	w.run("dist", "sha256sum", "--check", "--strict", "SHA256SUMS")
	debian, red := w.dir+"/dist/"+stem+".deb", w.dir+"/dist/"+stem+".rpm"
	w.run("", "dpkg-deb", "--extract", debian, w.dir+"/debian")
	says(t, w.run("", "dpkg-deb", "--field", debian), "Version: 0.9.0+3+g1234567-1")
	listed := strings.Split(w.run("", "rpm", "--query", "--list", "--package", red), "\n")
	for _, file := range []string{"/usr/bin/crelvo", "/usr/lib/systemd/system/crelvo.service", "/etc/crelvo/crelvo.yaml",
		"/usr/share/man/man1/crelvo.1.gz", "/usr/share/man/man1/crelvo-publish.1.gz", "/usr/share/doc/crelvo/README.md",
		"/usr/share/bash-completion/completions/crelvo"} {
		if stat, err := os.Stat(w.dir + "/debian" + file); err != nil || stat.Size() == 0 {
			t.Errorf("%s in the package for Debian: %v", file, err)
		}
		if !slices.Contains(listed, file) {
			t.Errorf("%s is not in the package as RPM", file)
		}
	}
	for _, query := range [][]string{{"--queryformat", "%{VERSION}"}, {"--scripts"}, {"--configfiles"}} {
		said := w.run("", "rpm", append([]string{"--query", "--package", red}, query...)...)
		says(t, said, map[string]string{"--queryformat": "0.9.0+3+g1234567", "--scripts": "useradd --system",
			"--configfiles": "/etc/crelvo/crelvo.yaml"}[query[0]])
	}
	unit, err := os.ReadFile(w.dir + "/debian/usr/lib/systemd/system/crelvo.service")
	if err != nil {
		t.Fatal(err)
	}
	says(t, string(unit), "ExecStart=/usr/bin/crelvo serve --config /etc/crelvo/crelvo.yaml\n")
	says(t, w.run("", w.dir+"/debian/usr/bin/crelvo", "--version"), "v0.9.0-3-g1234567")
	checkContents(t, w.dir+"/dist/"+stem+".cdx.json")

	installed, err := house.StartOf(w.dir+"/debian/usr/bin/crelvo", dir+"/data", "--config",
		w.dir+"/debian/etc/crelvo/crelvo.yaml")
	if err != nil {
		t.Fatal(err)
	}
	if err := installed.Stop(); err != nil {
		t.Error(err)
	}
}

// checkContents looks at the list of what a program consists of.
func checkContents(t *testing.T, path string) {
	t.Helper()
	file, err := os.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	defer file.Close()
	var is cyclonedx.BOM
	if err := cyclonedx.NewBOMDecoder(file, cyclonedx.BOMFileFormatJSON).Decode(&is); err != nil {
		t.Fatal(err)
	}
	var names []string
	for _, c := range *is.Components {
		names = append(names, c.Name)
		if c.Version == "" || !strings.HasPrefix(c.PackageURL, "pkg:") {
			t.Errorf("%+v", c)
		}
	}
	for _, name := range []string{"stdlib", "github.com/labstack/echo/v5", "react", "react-dom"} {
		if !slices.Contains(names, name) {
			t.Errorf("%s is not among the contents", name)
		}
	}
	if slices.Contains(names, "vite") || slices.Contains(names, "github.com/goreleaser/nfpm/v2") {
		t.Error("what only builds it is among the contents")
	}
}

// TestOwnImage: the image that make image makes is pushed into a running Crelvo, and comes back
// as it was; what is in it is the program and nothing else, and not for root.
func TestOwnImage(t *testing.T) {
	t.Parallel()
	w := newWorkshop(t)
	packaged(t, w.dir, "--image", "crelvo-image.tar")
	if err := shared.AddRepository(t.Context(), "own-image", "both"); err != nil {
		t.Fatal(err)
	}
	at := strings.TrimPrefix(shared.Address, "http://") + "/own-image/crelvo:0.9.0"
	credentials := "admin:" + house.Token
	w.run("", "skopeo", "--insecure-policy", "copy", "--all", "--dest-tls-verify=false", "--dest-creds", credentials,
		"oci-archive:crelvo-image.tar", "docker://"+at)
	says(t, w.run("", "skopeo", "inspect", "--tls-verify=false", "--creds", credentials, "docker://"+at),
		`"org.opencontainers.image.title": "Crelvo"`)
	w.run("", tool("crane"), "auth", "login", strings.Split(at, "/")[0], "-u", "admin", "-p", house.Token)
	w.run("", tool("crane"), "validate", "--remote", at)
	var config struct {
		Config struct {
			User       string
			Entrypoint []string
			Cmd        []string
		} `json:"config"`
	}
	if err := json.Unmarshal([]byte(w.run("", tool("crane"), "config", at)), &config); err != nil {
		t.Fatal(err)
	}
	if c := config.Config; c.User != "65532:65532" || !slices.Equal(c.Entrypoint, []string{"/usr/bin/crelvo"}) ||
		!slices.Equal(c.Cmd, []string{"serve"}) {
		t.Errorf("it is run as %+v", c)
	}
	w.run("", tool("crane"), "export", at, "files.tar")
	files := strings.Fields(w.run("", "tar", "--list", "--file", "files.tar"))
	slices.Sort(files)
	if want := []string{"data", "etc", "etc/group", "etc/passwd", "tmp", "usr", "usr/bin", "usr/bin/crelvo"}; !slices.
		Equal(files, want) {
		t.Errorf("in it are %v", files)
	}
	w.run("", "tar", "--extract", "--file", "files.tar", "usr/bin/crelvo")
	says(t, w.run("", filepath.Join(w.dir, "usr/bin/crelvo"), "--version"), "v0.9.0-3-g1234567")
}
