package e2e

import (
	"os"
	"strings"
	"testing"

	"crelvo/internal/ecosystem/madeup"
	"crelvo/test/house"
)

// TestFleetClients: clients whose one act is many requests do not notice that each may go to
// another node.
func TestFleetClients(t *testing.T) {
	t.Parallel()
	f := newFleet(t, 3)
	all := f.at()
	if err := all.AddRepository(t.Context(), "releases", "releases"); err != nil {
		t.Fatal(err)
	}
	w := newWorkshop(t)
	crane := func(args ...string) string {
		t.Helper()
		return strings.TrimSpace(w.run("", tool("crane"), append(args, "--insecure")...))
	}
	// An image with a large layer, which crane sends by several requests.
	at := strings.TrimPrefix(all.Address, "http://")
	crane("auth", "login", at, "-u", "admin", "-p", house.Token)
	w.write("layer.tar.gz", madeup.TarGz(madeup.Entry{Name: "usr/bin/brine", Content: noise(12 << 20)}))
	crane("append", "-f", "layer.tar.gz", "-t", at+"/releases/brine:1.0.0")
	crane("validate", "--remote", at+"/releases/brine:1.0.0")
	if tags := crane("ls", at+"/releases/brine"); tags != "1.0.0" {
		t.Errorf("the tags are %q", tags)
	}
	// Our own client sends a large file in pieces.
	content := jar(t, noise(20<<20))
	w.write("firmware.jar", []byte(content))
	run := func(args ...string) {
		t.Helper()
		w.run("", "env", append([]string{"CRELVO_SERVER=" + all.Address, "CRELVO_TOKEN=" + house.Token, house.Program()},
			args...)...)
	}
	run("publish", "firmware.jar", "--to", "releases", "--as", "pkg:maven/example.skerry/firmware@1.0")
	run("fetch", "pkg:maven/example.skerry/firmware@1.0?type=jar", "--dir", "got")
	if got := string(w.read("got/firmware-1.0.jar")); got != content {
		t.Errorf("%d bytes were fetched of %d", len(got), len(content))
	}
	for name, use := range fleetClients {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			use(t, all.Address)
		})
	}
}

// fleetClients publish to the repository releases of a service, and have what they published
// back, by the clients that people have.
var fleetClients = map[string]func(t *testing.T, at string){
	"npm": func(t *testing.T, at string) {
		w := newWorkshop(t, "npm_config_update_notifier=false", "npm_config_fund=false", "npm_config_loglevel=warn")
		from := at + "/at/releases/npm/"
		w.write("home/.npmrc", []byte("registry="+from+"\n"+strings.TrimPrefix(from, "http:")+":_authToken="+
			house.Token+"\n"))
		w.source("deck", deckUI("1.0.0"))
		w.run("deck", "npm", "publish")
		w.project("ferry", map[string]string{"@skerry/deck-ui": "^1.0.0"})
		w.run("ferry", "npm", "install")
		says(t, w.read("ferry/node_modules/@skerry/deck-ui/index.js"), "1.0.0")
	},
	"pypi": func(t *testing.T, at string) {
		w := newPython(t)
		w.run("", "/usr/bin/twine", append([]string{"upload", "--disable-progress-bar", "--repository-url",
			at + "/at/releases/pypi/"}, w.dist("dist", tidecast("1.4.0"))...)...)
		w.pip("download", "--no-deps", "--dest", "got", "--index-url",
			strings.Replace(at, "http://", "http://admin:"+house.Token+"@", 1)+"/at/releases/pypi/simple/", "tidecast")
		if _, err := os.Stat(w.dir + "/got/" + tidecast("1.4.0").WheelName()); err != nil {
			t.Error(err)
		}
	},
	"maven": func(t *testing.T, at string) {
		m := newMavenAt(t, at, house.Token, "releases")
		m.mustRun(m.project("berth-core", "1.0.0", "releases", "releases",
			"package skerry; public class berth_core { public static int berths() { return 4; } }"), "deploy")
		other := newMavenAt(t, at, house.Token, "releases")
		other.mustRun(other.project("berth-user", "1.0.0", "releases", "releases",
			"package skerry; public class berth_user { int all = berth_core.berths(); }", dependency("berth-core", "1.0.0")),
			"package")
	},
	"nuget": func(t *testing.T, at string) {
		w := newWorkshop(t)
		config := `<configuration><packageSources><clear/><add key="releases" value="` + at +
			`/at/releases/nuget/index.json" protocolVersion="3"/></packageSources><packageSourceCredentials><releases>` +
			`<add key="Username" value="admin"/><add key="ClearTextPassword" value="` + house.Token +
			`"/></releases></packageSourceCredentials></configuration>`
		for _, file := range []string{"home/.nuget/NuGet/NuGet.Config", "home/.config/NuGet/NuGet.Config"} {
			w.write(file, []byte(config))
		}
		w.write("a.nupkg", turnstile("1.4.0").NuGet())
		w.nuget("push", w.dir+"/a.nupkg", "-Source", "releases", "-ApiKey", house.Token)
		w.nuget("install", turnstile("1.4.0").Name, "-OutputDirectory", w.dir+"/got", "-NoCache")
		if _, err := os.Stat(w.dir + "/got/" + turnstile("1.4.0").Name + ".1.4.0"); err != nil {
			t.Error(err)
		}
	},
	"cargo": func(t *testing.T, at string) {
		w := newWorkshop(t, rust()...)
		w.write("home/.cargo/config.toml", []byte("[registries.releases]\nindex = \"sparse+"+at+
			"/at/releases/cargo/\"\n[registry]\nglobal-credential-providers = [\"cargo:token\"]\n"))
		w.write("home/.cargo/credentials.toml", []byte("[registries.releases]\ntoken = \"Bearer "+house.Token+"\"\n"))
		crate := func(folder, name string, needs string) {
			w.write(folder+"/Cargo.toml", []byte("[package]\nname = \""+name+"\"\nversion = \"1.4.0\"\nedition = "+
				"\"2021\"\ndescription = \"Reads\"\nlicense = \"MIT\"\n\n[dependencies]\n"+needs))
			w.write(folder+"/src/lib.rs", []byte("pub fn salt() {}\n"))
		}
		crate("hull", "hull-sensor", "")
		w.run("hull", "cargo", "publish", "--registry", "releases", "--allow-dirty")
		crate("ferry", "ferry", `hull-sensor = { version = "1", registry = "releases" }`)
		w.run("ferry", "cargo", "build")
	},
	"helm": func(t *testing.T, at string) {
		w := newWorkshop(t)
		host := strings.TrimPrefix(at, "http://")
		w.write("sluice/Chart.yaml", []byte("apiVersion: v2\nname: sluice\nversion: 1.4.0\n"))
		w.write("sluice/templates/gate.yaml", []byte("apiVersion: v1\nkind: ConfigMap\nmetadata:\n  name: gate\n"))
		w.run("", tool("helm"), "package", "sluice")
		w.run("", tool("helm"), "registry", "login", host, "--username", "admin", "--password", house.Token, "--plain-http")
		w.run("", tool("helm"), "push", "sluice-1.4.0.tgz", "oci://"+host+"/releases", "--plain-http")
		w.run("", tool("helm"), "repo", "add", "releases", at+"/at/releases/helm/", "--username", "admin", "--password",
			house.Token)
		w.run("", tool("helm"), "pull", "releases/sluice", "--version", "1.4.0", "--untar", "--untardir", "got")
		says(t, w.read("got/sluice/Chart.yaml"), "1.4.0")
	},
}
