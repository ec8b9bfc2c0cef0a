package e2e

import (
	"crypto/sha256"
	"fmt"
	"net/http"
	"os"
	"strings"
	"testing"
	"time"

	"crelvo/internal/demo"
	"crelvo/internal/ecosystem/madeup"
	"crelvo/test/house"
)

// crate makes a folder from which cargo works: a library, with dependencies as they stand
// in a Cargo.toml.
func (w *workshop) crate(folder, name, version, code string, needs ...string) {
	w.t.Helper()
	w.write(folder+"/Cargo.toml", []byte("[package]\nname = \""+name+"\"\nversion = \""+version+
		"\"\nedition = \"2021\"\ndescription = \"Reads the hull\"\nlicense = \"MIT\"\n\n[dependencies]\n"+
		strings.Join(needs, "\n")+"\n"))
	w.write(folder+"/src/lib.rs", []byte(code))
}

// TestCargo does with the real cargo what people do with it: it is pointed at a chain with
// a mirror behind, publishes, builds from an empty home, yanks, searches, and is refused.
func TestCargo(t *testing.T) {
	t.Parallel()
	brine := madeup.Package{Name: "brine-codec", Version: "0.3.1", Description: "Packs", Licence: "MIT"}
	_, public := shore(t, demo.Shelves["cargo"]("cargo/", brine, madeup.Package{Name: "hull-sensor", Version: "99.0.0"}))
	mirror := "cargo-mirror"
	if err := shared.AddMirrorOf(t.Context(), "cargo", mirror, public+demo.ShorePaths["cargo"], quick); err != nil {
		t.Fatal(err)
	}
	for _, of := range []string{"", "pkg:cargo/brine-codec"} {
		if out, _, code := crelvoAsAdmin(t, "mirror", "check", "--ecosystem", "cargo", "--upstream", public+
			demo.ShorePaths["cargo"], "--for", of); code != 0 || strings.Contains(out, "BAD") {
			t.Errorf("the upstream, asked for %q: %s", of, out)
		}
	}
	p := newPointed(t, mirror, rust()...)
	p.crate("project", "hull-sensor", "1.4.0", "pub fn salt() -> &'static str { brine_codec::NAME }\n",
		`brine-codec = "0.3"`)
	undo := p.pointAndBack([]string{"cargo", "--at", p.chain, "--publish"}, "project/.cargo/config.toml",
		"home/.cargo/credentials.toml")
	says(t, p.read("project/.cargo/config.toml"), `replace-with = "`+p.chain+`"`,
		`global-credential-providers = ["cargo:token"]`)

	p.run("project", "cargo", "publish", "--registry", p.chain)
	if a := ask(t, http.MethodGet, "/at/"+p.releases+"/cargo/hu/ll/hull-sensor", ""); a.Status != 200 ||
		!strings.Contains(string(a.Body), `"name":"brine-codec"`) {
		t.Errorf("what was published: %d %s", a.Status, a.Body)
	}
	p.fails([]string{"already exists"}, "project", "cargo", "publish", "--registry", p.chain)
	p.crate("project", "hull-sensor", "1.5.0-dev.1", "pub fn salt() -> &'static str { brine_codec::NAME }\n",
		`brine-codec = "0.3"`)
	p.run("project", "cargo", "publish", "--registry", p.chain)
	p.mistakes("cargo", true, "project/.cargo/config.toml", "home/.cargo/credentials.toml")

	// Somebody else builds from an empty home, through the chain alone: ours from the
	// house, though the public source has a higher version, and theirs by the mirror.
	p.crate("project", "ferry", "0.1.0", "pub fn salt() -> &'static str { hull_sensor::salt() }\n",
		`hull-sensor = { version = "1", registry = "`+p.chain+`" }`)
	p.run("project", "cargo", "build")
	says(t, p.read("project/Cargo.lock"), `name = "hull-sensor"`+"\nversion = \"1.4.0\"", `name = "brine-codec"`)
	says(t, p.run("project", "cargo", "search", "hull", "--registry", p.chain), "hull-sensor = ")
	eventually(t, 20*time.Second, "the download is counted", func() bool {
		return strings.Contains(string(must(t, http.MethodGet, "/api/v1/use?by=client&purl=pkg:cargo/hull-sensor", "", 200).
			Body), `"cargo"`)
	})

	// What is yanked is not chosen any more, and stays for whoever has it locked.
	p.run("project", "cargo", "yank", "--registry", p.chain, "--version", "1.4.0", "hull-sensor")
	p.run("project", "cargo", "build", "--locked")
	p.write("project/Cargo.lock", nil)
	p.fails([]string{"hull-sensor"}, "project", "cargo", "build")
	p.run("project", "cargo", "yank", "--undo", "--registry", p.chain, "--version", "1.4.0", "hull-sensor")
	p.run("project", "cargo", "build")

	p.fails([]string{"cargo owner is not offered by this server", "crelvo grant add"}, "project", "cargo", "owner",
		"--registry", p.chain, "--add", "cook", "hull-sensor")
	p.crate("project", "hull_sensor", "2.0.0", "pub fn x() {}\n")
	p.fails([]string{"the same name as hull_sensor"}, "project", "cargo", "publish", "--registry", p.chain)
	undo()
	p.point(0, "cargo", "--at", p.chain, "--publish", "--write", "--yes")
	p.write("home/.cargo/credentials.toml", []byte("[registries."+p.chain+"]\ntoken = \"crelvo_wrong\"\n"))
	p.fails([]string{"token rejected for `" + p.chain + "`"}, "project", "cargo", "publish", "--registry", p.chain)
}

// TestCargoPromotes: a crate is promoted with what it needs, which gets the versions of
// releases, and the result builds.
func TestCargoPromotes(t *testing.T) {
	t.Parallel()
	snapshots, releases := repository(t, "snapshots"), repository(t, "releases")
	codec := madeup.Package{Name: "skerry-codec", Version: "0.4.0-dev.2", Description: "Packs", Licence: "MIT"}
	sensor := madeup.Package{Name: "skerry-hull", Version: "1.5.0-dev.7", Description: "Reads", Licence: "MIT",
		Needs: map[string]string{"skerry-codec": "=0.4.0-dev.2"}}
	index := "sparse+" + address(snapshots, "cargo")
	for _, m := range []madeup.Package{codec, sensor} {
		if a := ask(t, http.MethodPut, "/at/"+snapshots+"/cargo/api/v1/crates/new",
			string(m.CargoUpload(m.Cargo(index)))); a.Status != 200 {
			t.Fatalf("%d %s", a.Status, a.Body)
		}
	}
	w := newWorkshop(t, rust()...)
	track := releases + "-track"
	for _, args := range [][]string{{"track", "add", track, "--stages", snapshots + "," + releases},
		{"promote", "pkg:cargo/skerry-codec@0.4.0-dev.2", "pkg:cargo/skerry-hull@1.5.0-dev.7", "--along", track, "--to",
			releases, "--yes"}} {
		w.run("", "env", append([]string{"CRELVO_SERVER=" + shared.Address, "CRELVO_TOKEN=" + house.Token, house.Program()},
			args...)...)
	}
	line := string(must(t, http.MethodGet, "/at/"+releases+"/cargo/sk/er/skerry-hull", "", 200).Body)
	says(t, line, `"vers":"1.5.0"`, `"req":"=0.4.0"`)
	w.crate("ferry", "ferry", "0.1.0", "pub const X: &str = skerry_hull::NAME;\n",
		`skerry-hull = { version = "1.5", registry = "ours" }`)
	w.write("ferry/.cargo/config.toml", []byte("[registries.ours]\nindex = \"sparse+"+address(releases, "cargo")+
		"\"\n[registry]\nglobal-credential-providers = [\"cargo:token\"]\n"))
	w.write("home/.cargo/credentials.toml", []byte("[registries.ours]\ntoken = \""+house.Token+"\"\n"))
	w.run("ferry", "cargo", "build")
	says(t, w.read("ferry/Cargo.lock"), "name = \"skerry-codec\"\nversion = \"0.4.0\"")
}

// TestCargoPromotesLocked: a program that is promoted with what it needs is installed as it was
// locked: its Cargo.lock has the versions and the digests of the releases.
func TestCargoPromotesLocked(t *testing.T) {
	t.Parallel()
	snapshots, releases := repository(t, "snapshots"), repository(t, "releases")
	chain := addChain(t, releases, snapshots)
	index := "sparse+" + address(chain, "cargo")
	codec := madeup.Package{Name: "skerry-codec", Version: "0.4.0-dev.2", Description: "Packs", Licence: "MIT"}
	packed := codec.Cargo(index)
	// It comes before what it states the digest of, by name.
	tool := madeup.Package{Name: "berth-tool", Version: "1.5.0-dev.7", Description: "Reads", Licence: "MIT",
		Needs: map[string]string{"skerry-codec": "=0.4.0-dev.2"}, Files: []madeup.Entry{
			{Name: "src/main.rs", Content: "fn main() { println!(\"{}\", skerry_codec::NAME) }\n"},
			{Name: "Cargo.lock", Content: fmt.Sprintf("version = 3\n\n[[package]]\nname = \"berth-tool\"\n"+
				"version = \"1.5.0-dev.7\"\ndependencies = [\n \"skerry-codec\",\n]\n\n[[package]]\nname = \"skerry-codec\"\n"+
				"version = \"0.4.0-dev.2\"\nsource = %q\nchecksum = \"%x\"\n", index, sha256.Sum256(packed))}}}
	for _, upload := range [][]byte{codec.CargoUpload(packed), tool.CargoUpload(tool.Cargo(index))} {
		if a := ask(t, http.MethodPut, "/at/"+snapshots+"/cargo/api/v1/crates/new", string(upload)); a.Status != 200 {
			t.Fatalf("%d %s", a.Status, a.Body)
		}
	}
	w := newWorkshop(t, rust()...)
	w.write("home/.cargo/config.toml", []byte("[registries.ours]\nindex = \""+index+
		"\"\n[registry]\nglobal-credential-providers = [\"cargo:token\"]\n"))
	w.write("home/.cargo/credentials.toml", []byte("[registries.ours]\ntoken = \""+house.Token+"\"\n"))
	install := []string{"cargo", "install", "--locked", "--registry", "ours", "--root", w.dir + "/tools", "berth-tool"}
	w.run("", install[0], append(install[1:], "--version", "=1.5.0-dev.7")...)
	track := releases + "-track"
	for _, args := range [][]string{{"track", "add", track, "--stages", snapshots + "," + releases},
		{"promote", "pkg:cargo/skerry-codec@0.4.0-dev.2", "pkg:cargo/berth-tool@1.5.0-dev.7", "--along", track, "--to",
			releases, "--yes"}} {
		w.run("", "env", append([]string{"CRELVO_SERVER=" + shared.Address, "CRELVO_TOKEN=" + house.Token, house.Program()},
			args...)...)
	}
	says(t, w.run("", install[0], append(install[1:], "--force")...), "berth-tool v1.5.0")
	says(t, w.run("", w.dir+"/tools/bin/berth-tool"), "skerry-codec")
	file := func(name string) []byte {
		return must(t, http.MethodGet, "/at/"+chain+"/cargo/files/"+name+".crate", "", 200).Body
	}
	w.write("berth-tool.crate", file("berth-tool/1.5.0/berth-tool-1.5.0"))
	says(t, w.run("", "tar", "-xzOf", "berth-tool.crate", "berth-tool-1.5.0/Cargo.lock"),
		fmt.Sprintf("checksum = \"%x\"", sha256.Sum256(file("skerry-codec/0.4.0/skerry-codec-0.4.0"))))
}

// TestCargoAsOf: an older moment of a chain gives cargo the crates of then, and takes none.
func TestCargoAsOf(t *testing.T) {
	releases := repository(t, "releases")
	chain := addChain(t, releases)
	publishMade(t, releases, "cargo", madeup.Package{Name: "skerry-codec", Version: "0.4.0"})
	then := publishedAt(t, releases, "pkg:cargo/skerry-codec@0.4.0").Add(time.Microsecond)
	publishMade(t, releases, "cargo", madeup.Package{Name: "skerry-codec", Version: "0.4.1"})
	w := newWorkshop(t, rust()...)
	w.crate("ferry", "ferry", "0.1.0", "pub const X: &str = skerry_codec::NAME;\n",
		`skerry-codec = { version = "0.4", registry = "ours" }`)
	w.write("home/.cargo/credentials.toml", []byte("[registries.ours]\ntoken = \""+house.Token+"\"\n"))
	for from, version := range map[string]string{chain: "0.4.1", asOf(chain, then): "0.4.0"} {
		w.write("ferry/.cargo/config.toml", []byte("[registries.ours]\nindex = \"sparse+"+address(from, "cargo")+
			"\"\n[registry]\nglobal-credential-providers = [\"cargo:token\"]\n"))
		w.write("ferry/Cargo.lock", nil)
		w.run("ferry", "cargo", "build")
		says(t, w.read("ferry/Cargo.lock"), "name = \"skerry-codec\"\nversion = \""+version+"\"")
	}
	late := madeup.Package{Name: "skerry-codec", Version: "0.4.2"}
	a := ask(t, http.MethodPut, "/at/"+asOf(releases, then)+"/cargo/api/v1/crates/new",
		string(late.CargoUpload(late.Cargo(""))))
	if a.Status < 400 || a.Status >= 500 {
		t.Errorf("a crate was taken by the past: %d %s", a.Status, a.Body)
	}
	must(t, http.MethodGet, "/at/"+asOf(releases, then)+"/cargo/files/skerry-codec/0.4.1/skerry-codec-0.4.1.crate", "",
		404)
}

// TestCargoMirrorOfOurs: a mirror of another Crelvo serves its crates to the real cargo, and
// knows of one that was removed there that it is not there, and not that credentials are wrong.
func TestCargoMirrorOfOurs(t *testing.T) {
	t.Parallel()
	source := repository(t, "releases")
	publishMade(t, source, "cargo", madeup.Package{Name: "skerry-codec", Version: "0.4.0"})
	publishMade(t, source, "cargo", madeup.Package{Name: "skerry-gone", Version: "1.0.0"})
	done(desk(house.Token).RemoveVersion(t.Context(), source, "pkg:cargo/skerry-gone@1.0.0"))(t)
	mirror := source + "-mirror"
	if err := shared.AddMirrorOf(t.Context(), "cargo", mirror, address(source, "cargo"),
		map[string]any{"user": "admin", "secret": house.Token, "freshSeconds": 0.1}); err != nil {
		t.Fatal(err)
	}
	w := newWorkshop(t, rust()...)
	w.crate("ferry", "ferry", "0.1.0", "pub const X: &str = skerry_codec::NAME;\n",
		`skerry-codec = { version = "0.4", registry = "ours" }`)
	w.write("home/.cargo/credentials.toml", []byte("[registries.ours]\ntoken = \""+house.Token+"\"\n"))
	w.write("ferry/.cargo/config.toml", []byte("[registries.ours]\nindex = \"sparse+"+address(mirror, "cargo")+
		"\"\n[registry]\nglobal-credential-providers = [\"cargo:token\"]\n"))
	w.run("ferry", "cargo", "build")
	must(t, http.MethodGet, "/at/"+mirror+"/cargo/sk/er/skerry-gone", "", 404)
}

// rust is what a toolchain needs to know that was installed for the person who runs the
// tests, whose home is another one here.
func rust() []string {
	env := []string{"CARGO_TERM_COLOR=never", "CARGO_NET_RETRY=0"}
	if home, err := os.UserHomeDir(); err == nil {
		if _, err := os.Stat(home + "/.rustup"); err == nil {
			env = append(env, "RUSTUP_HOME="+home+"/.rustup")
		}
	}
	return env
}
