package e2e

import (
	"encoding/base64"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"crelvo/internal/api"
	"crelvo/internal/ecosystem/madeup"
	"crelvo/test/house"
)

const turnstileSource = `#include <stdio.h>
static int gate(int fares) {
  int open = fares * 2;
  printf("gate %d\n", open);
  return open;
}
int main(void) { return gate(21) == 42 ? 0 : 1; }
`

// compiled makes a program without symbols, its symbols and its source in a folder, and gives the folder and the
// build id.
func compiled(t *testing.T, w *workshop) (folder, id string) {
	t.Helper()
	w.write("yard/src/turnstile.c", []byte(turnstileSource))
	for _, dir := range []string{"bin", "debug", "src"} {
		if err := os.MkdirAll(filepath.Join(w.dir, "set", dir), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	w.run("yard", "gcc", "-g", "-O0", "-Wl,--build-id", "-o", "turnstile", "src/turnstile.c")
	w.run("yard", "objcopy", "--only-keep-debug", "turnstile", "../set/debug/turnstile.debug")
	w.run("yard", "objcopy", "--strip-all", "turnstile", "../set/bin/turnstile")
	w.run("yard", "cp", "src/turnstile.c", "../set/src/turnstile.c")
	notes := w.run("yard", "eu-readelf", "-n", "turnstile")
	_, rest, _ := strings.Cut(notes, "Build ID: ")
	id, _, _ = strings.Cut(rest, "\n")
	w.run("", "rm", "-r", "yard/src") // who debugs does not have it
	return filepath.Join(w.dir, "set"), id
}

// symbolsOf waits until a version was looked into.
func symbolsOf(t *testing.T, purl, repository string) (all []api.Symbol) {
	t.Helper()
	eventually(t, 20*time.Second, "the symbols of "+purl, func() bool {
		all = done(desk(house.Token).Symbols(t.Context(), "", "", purl, repository))(t)
		return len(all) > 0
	})
	return all
}

// TestSymbols: gdb stops in a program that has no symbols, and shows the line of its source; debuginfod-find gets
// what it asks for; a core file tells which versions its process was of.
func TestSymbols(t *testing.T) {
	t.Parallel()
	w := newWorkshop(t)
	folder, id := compiled(t, w)
	releases := repository(t, "releases")
	through := addChain(t, releases)
	setAt(t, shared.Address, "publish", folder, "--to", releases, "--as", "pkg:generic/turnstile-firmware@3.1.0")
	all := symbolsOf(t, "pkg:generic/turnstile-firmware@3.1.0", releases)
	slices.SortFunc(all, func(a, b api.Symbol) int { return strings.Compare(a.Path, b.Path) })
	if len(all) != 2 || all[0].Path != "bin/turnstile" || !all[0].Code || all[0].Debug || !all[0].Known ||
		all[0].Key != id ||
		!all[1].Debug || all[1].Code {
		t.Fatalf("%+v", all)
	}
	at := symbolsAt(through)
	w.run("", "cp", "set/bin/turnstile", "crashed")
	w.run("", "mv", "set", "away")
	debug := func(args ...string) string {
		return w.run("", "env", append([]string{"DEBUGINFOD_URLS=" + at, "DEBUGINFOD_CACHE_PATH=" + w.dir + "/cache"},
			args...)...)
	}
	says(t, debug("gdb", "-q", "-batch", "-iex", "set debuginfod enabled on", "-ex", "break gate", "-ex", "run", "-ex", "next",
		"-ex", "print open", "-ex", "generate-core-file "+w.dir+"/core", "./crashed"),
		"gate (fares=21) at src/turnstile.c:3", "int open = fares * 2;", "$1 = 42")
	found := strings.TrimSpace(debug("debuginfod-find", "debuginfo", id))
	w.run("", "cmp", found, "away/debug/turnstile.debug")
	found = strings.TrimSpace(debug("debuginfod-find", "executable", id))
	w.run("", "cmp", found, "away/bin/turnstile")
	if raw, err := os.ReadFile(strings.TrimSpace(debug("debuginfod-find", "section", id, ".debug_info"))); err != nil ||
		len(raw) == 0 {
		t.Errorf("a section: %d bytes, %v", len(raw), err)
	}
	if raw, err := os.ReadFile(strings.TrimSpace(debug("debuginfod-find", "source", id,
		w.dir+"/yard/src/turnstile.c"))); err != nil ||
		string(raw) != turnstileSource {
		t.Errorf("the source: %q, %v", raw, err)
	}
	says(t, debug("eu-stack", "--core", "core", "--executable", "crashed", "--source"), "gate", "turnstile.c:4")
	w.fails([]string{"No such file"}, "", "env", "DEBUGINFOD_URLS="+at, "DEBUGINFOD_CACHE_PATH="+w.dir+"/cache",
		"debuginfod-find", "debuginfo", strings.Repeat("0", 40))
	// Who may read nothing there gets nothing.
	w.fails(nil, "", "env", "DEBUGINFOD_URLS="+address(through, "symbols"), "DEBUGINFOD_CACHE_PATH="+w.dir+"/other",
		"debuginfod-find", "debuginfo", id)

	for _, what := range []string{id, filepath.Join(w.dir, "crashed"), filepath.Join(w.dir, "core"), "turnstile.debug"} {
		text, errs, code := crelvoAsAdmin(t, "symbols", "find", what, "--in", releases)
		if says(t, text, "pkg:generic/turnstile-firmware@3.1.0", "debug/turnstile.debug", id); code != 0 {
			t.Errorf("%s: %d %s", what, code, errs)
		}
	}
	text, _, _ := crelvoAsAdmin(t, "symbols", "find", filepath.Join(w.dir, "core"))
	says(t, text, "libc.so.6", "No repository that you may read has it.")
	if _, errs, code := crelvoAsAdmin(t, "symbols", "find", filepath.Join(w.dir, "away/src/turnstile.c")); code == 0 {
		t.Errorf("a source file is found: %s", errs)
	}
	a := ask(t, http.MethodGet, "/at/"+releases+"/symbols/metadata?key=file&value=/x/turnstile", "")
	says(t, string(a.Body), `"buildid":"`+id+`","file":"bin/turnstile"`)
	if a := ask(t, http.MethodGet, "/at/"+releases+"/symbols/_.debug/elf-buildid-sym-"+id+"/_.debug",
		""); a.Status != 200 {
		t.Errorf("by the layout of symbol servers: %d %s", a.Status, a.Body)
	}
	if a := ask(t, http.MethodGet, "/at/"+releases+"/symbols/turnstile/elf-buildid-"+id+"/turnstil_",
		""); a.Status != 404 {
		t.Errorf("a compressed one: %d %s", a.Status, a.Body)
	}
}

// TestSymbolsGate: what nobody could debug does not cross the hop, until its symbols were published.
func TestSymbolsGate(t *testing.T) {
	t.Parallel()
	w := newWorkshop(t)
	folder, _ := compiled(t, w)
	name, snapshots, releases := track(t, desk(house.Token), "with-symbols")
	of := "pkg:generic/gate-firmware@1.0.0-dev"
	setAt(t, shared.Address, "publish", filepath.Join(folder, "bin"), "--to", snapshots, "--as", of)
	symbolsOf(t, of, snapshots)
	promote := []string{"promote", of, "--along", name, "--to", releases}
	text, errs, code := crelvoAsAdmin(t, promote...)
	if says(t, text+errs, "the symbols of turnstile in gate-firmware 1.0.0 are in neither"); code == 0 {
		t.Error("it crossed")
	}
	symbolsSet := "pkg:generic/gate-symbols@1.0.0-dev"
	setAt(t, shared.Address, "publish", filepath.Join(folder, "debug"), "--to", snapshots, "--as", symbolsSet)
	symbolsOf(t, symbolsSet, snapshots)
	if text, errs, code := crelvoAsAdmin(t, promote...); code != 0 {
		t.Errorf("%d: %s%s", code, text, errs)
	}
	// A policy keeps them as long as the release: the newest set of symbols is of another one.
	setAt(t, shared.Address, "publish", filepath.Join(folder, "src"), "--to", snapshots, "--as",
		"pkg:generic/gate-symbols@1.1.0-dev")
	policy := w.write("policy.yaml", []byte(fmt.Sprintf("name: policy-%d\nrepositories: [%s]\nkeep:\n"+
		"  - newest 1 of each package\n  - symbols of what stays\n", made.Add(1), snapshots)))
	text, errs, code = crelvoAsAdmin(t, "sweep", "plan", policy, "--fate", "")
	if says(t, text, "has the symbols of gate-firmware 1.0.0"); code != 0 {
		t.Error(errs)
	}
}

// TestSymbolsInImages: layers are looked into if it is asked for, of all platforms, and what is in them is handed out.
func TestSymbolsInImages(t *testing.T) {
	t.Parallel()
	w := newWorkshop(t)
	releases := repository(t, "releases")
	crane := func(args ...string) { w.run("", tool("crane"), append(args, "--insecure")...) }
	crane("auth", "login", host(), "-u", "admin", "-p", house.Token)
	image := host() + "/" + releases + "/gate:1.0.0"
	ids := map[string]string{"amd": strings.Repeat("a1", 20), "arm": strings.Repeat("b2", 20)}
	for arch, id := range ids {
		w.write(arch+"/usr/bin/gate", madeup.ELF(id, true, true))
		w.write(arch+"/etc/gate.conf", []byte("beep = on\n"))
		w.run("", "tar", "-C", arch, "-czf", arch+".tar.gz", "usr", "etc")
		crane("append", "-f", arch+".tar.gz", "--platform", "linux/"+arch+"64", "-t", image+arch)
		crane("mutate", "--set-platform", "linux/"+arch+"64", image+arch, "-t", image+arch)
	}
	crane("index", "append", "-m", image+"amd", "-m", image+"arm", "-t", image)
	of := "pkg:oci/gate?tag=1.0.0"
	look := func() (string, string, int) {
		return crelvoAsAdmin(t, "symbols", "look", of, "--in", releases)
	}
	out, errs, code := look()
	if code != 0 || strings.Count(out, "pkg:oci/gate@sha256:") != 3 {
		t.Fatal(out + errs)
	}
	parts := strings.Fields(out[strings.Index(out, "pkg:oci"):])
	for arch, id := range ids {
		eventually(t, 20*time.Second, "the symbols of "+arch, func() bool {
			return len(done(desk(house.Token).Symbols(t.Context(), id, "", "", releases))(t)) == 1
		})
		if a := ask(t, http.MethodGet, "/at/"+releases+"/symbols/buildid/"+id+"/debuginfo", ""); a.Status != 200 ||
			string(a.Body) != string(madeup.ELF(id, true, true)) {
			t.Errorf("%s: %d, %d bytes", arch, a.Status, len(a.Body))
		}
	}
	list, _, _ := crelvoAsAdmin(t, "symbols", "list", parts[1], "--in", releases)
	says(t, list, "usr/bin/gate", "code and symbols", parts[1])
	// Who may only read does not have others work.
	reader := person(t, fmt.Sprintf("debugger-%d", made.Add(1)), "robot", api.NewGrant{Role: "reader",
		Repositories: releases}).Token
	_, errs, code = command(t, []string{"HOME=" + t.TempDir(), "CRELVO_TOKEN=" + reader}, "", "symbols", "look", of, "--in",
		releases)
	if code == 0 {
		t.Error("a reader may ask for it")
	}
	says(t, errs, "publisher")
}

// TestSymbolsInPackages: what is inside of wheels, packages of NuGet and of npm is found there, and handed out alone.
func TestSymbolsInPackages(t *testing.T) {
	t.Parallel()
	w := newWorkshop(t)
	folder, id := compiled(t, w)
	program, err := os.ReadFile(filepath.Join(folder, "bin/turnstile"))
	if err != nil {
		t.Fatal(err)
	}
	w.write("hello/main.go", []byte("package main\n\nfunc main() { println(\"aboard\") }\n"))
	w.write("hello/go.mod", []byte("module skerry.example/hello\n\ngo 1.24\n"))
	cache, err := exec.Command("go", "env", "GOCACHE").Output() // or Go itself would be compiled again
	if err != nil {
		t.Fatal(err)
	}
	w.run("hello", "env", "CGO_ENABLED=0", "GOFLAGS=-trimpath", "GOCACHE="+strings.TrimSpace(string(cache)), "HOME="+w.dir,
		"go", "build", "-o", "hello", ".")
	compiledByGo, err := os.ReadFile(filepath.Join(w.dir, "hello/hello"))
	if err != nil {
		t.Fatal(err)
	}
	to := repository(t, "both")
	publishMade(t, to, "pypi", madeup.Package{Name: "tidegate", Version: "1.0.0", Licence: "MIT",
		Files: []madeup.Entry{{Name: "tidegate/native.so", Content: string(program)}}})
	publishMade(t, to, "npm", madeup.Package{Name: "tide-gate", Version: "1.0.0", Licence: "MIT",
		Files: []madeup.Entry{{Name: "package/hello.node", Content: string(compiledByGo)},
			{Name: "package/gate.js.map", Content: `{"version":3,"sources":["gate.ts"]}`}}})
	all := symbolsOf(t, "pkg:pypi/tidegate@1.0.0", to)
	if len(all) != 1 || all[0].Key != id || all[0].Path != "tidegate/native.so" || all[0].File == "" {
		t.Errorf("%+v", all)
	}
	if a := ask(t, http.MethodGet, all[0].Address, ""); a.Status != 200 || string(a.Body) != string(program) {
		t.Errorf("%s: %d, %d bytes", all[0].Address, a.Status, len(a.Body))
	}
	all = symbolsOf(t, "pkg:npm/tide-gate@1.0.0", to)
	slices.SortFunc(all, func(a, b api.Symbol) int { return strings.Compare(a.Format, b.Format) })
	if len(all) != 2 || !all[0].Code || !all[0].Debug || all[0].Key == "" || all[1].Format != "source-map" {
		t.Errorf("%+v", all)
	}

	n := newNuGet(t, to)
	link := turnstile("1.4.0")
	n.write("link.nupkg", link.NuGet())
	link.PackageType = "SymbolsPackage"
	link.Files = []madeup.Entry{{Name: "lib/net45/Skerry.TurnstileLink.pdb", Content: portablePDB("0123456789abcdef")}}
	n.write("link.snupkg", link.NuGet())
	for _, file := range []string{"link.nupkg", "link.snupkg"} {
		n.nuget("push", file, "-Source", to, "-ApiKey", house.Token)
	}
	eventually(t, 20*time.Second, "the symbols of the package", func() bool {
		all = done(desk(house.Token).Symbols(t.Context(), "", "skerry.turnstilelink.pdb", "", to))(t)
		return len(all) == 1
	})
	// The first three parts of the id are in little endian.
	if all[0].Format != "portable-pdb" || all[0].Key != "33323130"+"3534"+"3736"+"3839616263646566"+"ffffffff" {
		t.Errorf("%+v", all[0])
	}
	if a := ask(t, http.MethodGet, "/at/"+to+"/symbols/Skerry.TurnstileLink.pdb/"+strings.ToUpper(all[0].Key)+
		"/Skerry.TurnstileLink.pdb", ""); a.Status != 200 || !strings.HasPrefix(string(a.Body), "BSJB") {
		t.Errorf("%d %.100s", a.Status, a.Body)
	}
}

// portablePDB is a portable PDB with an id of sixteen bytes, as small as one can be.
func portablePDB(id string) string {
	head := "BSJB\x01\x00\x01\x00\x00\x00\x00\x00\x0c\x00\x00\x00PDB v1.0\x00\x00\x00\x00\x00\x00\x01\x00"
	return head + "\x30\x00\x00\x00\x20\x00\x00\x00#Pdb\x00\x00\x00\x00" + id + strings.Repeat("\x00", 16)
}

// symbolsAt is where debuggers ask, as somebody who may read.
func symbolsAt(repository string) string {
	return strings.Replace(address(repository, "symbols"), "http://", "http://ci:"+house.Token+"@", 1)
}

// TestPointedByHand: clients that keep nothing in files are told what to type, and whether it would work.
func TestPointedByHand(t *testing.T) {
	t.Parallel()
	releases := repository(t, "releases")
	at := strings.TrimSuffix(address(releases, "symbols"), "/")
	says(t, crelvoSays(t, "point", "windbg", "--at", releases), ".sympath+ srv*C:\\symbols*"+at, "!sym prompts on",
		"set \"_NT_SYMBOL_PATH=srv*C:\\symbols*"+at, "WinDbg keeps this in no file")
	says(t, crelvoSays(t, "point", "dotnet-symbol", "--at", releases),
		`--authenticated-server-path "$CRELVO_TOKEN" `+at+" --symbols")
	says(t, crelvoSays(t, "point", "dotnet-symbol", "--at", releases, "--check"), "dotnet-symbol is at "+at+
		"/, and gets in by the secret in the variable CRELVO_TOKEN")
	if _, errs, code := crelvoAsAdmin(t, "point", "windbg", "--at", releases, "--write"); code == 0 ||
		!strings.Contains(errs, "tells what to type") {
		t.Errorf("%d %s", code, errs)
	}
	// What dotnet-symbol sends: a password alone.
	a, err := shared.Ask(t.Context(), http.MethodGet, "/at/"+releases+"/symbols/metadata?key=buildid&value=00", "", nil,
		"Authorization", "Basic "+base64.StdEncoding.EncodeToString([]byte(":"+house.Token)))
	if err != nil || a.Status != http.StatusOK {
		t.Errorf("a token without a name: %d %s, %v", a.Status, a.Body, err)
	}
}
