package e2e

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"crelvo/internal/api"
	"crelvo/internal/ecosystem/madeup"
	"crelvo/test/house"
)

// plainServer is a web server that hands out the files of a folder as they are.
func plainServer(t *testing.T) (folder, at string) {
	t.Helper()
	nginx, err := exec.LookPath("nginx")
	if err != nil {
		nginx = "/usr/sbin/nginx"
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	address := l.Addr().String()
	if err := l.Close(); err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	folder = filepath.Join(dir, "www")
	if err := os.Mkdir(folder, 0o755); err != nil {
		t.Fatal(err)
	}
	config := filepath.Join(dir, "nginx.conf")
	if err := os.WriteFile(config, fmt.Appendf(nil, `daemon off; master_process off; pid %[1]s/pid; error_log stderr;
events {}
http { access_log off; client_body_temp_path %[1]s; proxy_temp_path %[1]s; fastcgi_temp_path %[1]s; uwsgi_temp_path %[1]s;
scgi_temp_path %[1]s; types { text/html html; } default_type application/octet-stream;
server { listen %[2]s; root %[3]s; } }`, dir, address, folder), 0o600); err != nil {
		t.Fatal(err)
	}
	ctx, stop := context.WithCancel(context.Background())
	server := exec.CommandContext(ctx, nginx, "-c", config, "-p", dir)
	server.Stderr = os.Stderr
	if err := server.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		stop()
		_ = server.Wait() // it was ended
	})
	eventually(t, 10*time.Second, "nginx to answer", func() bool {
		conn, err := net.Dial("tcp", address)
		if err == nil {
			err = conn.Close()
		}
		return err == nil
	})
	return folder, "http://" + address
}

// plainGet asks a web server, without any credentials.
func plainGet(t *testing.T, address string) (status int, body string) {
	t.Helper()
	response, err := http.Get(address)
	if err != nil {
		t.Fatal(err)
	}
	defer response.Body.Close()
	raw, err := io.ReadAll(response.Body)
	if err != nil {
		t.Fatal(err)
	}
	return response.StatusCode, string(raw)
}

// plainClients install what is in the trees of a web server: the version that is named.
var plainClients = map[string]func(t *testing.T, at, version string){
	"npm": func(t *testing.T, at, version string) {
		w := newWorkshop(t, "npm_config_update_notifier=false", "npm_config_fund=false", "npm_config_loglevel=warn",
			"npm_config_audit=false")
		w.write("home/.npmrc", []byte("registry="+at+"\n"))
		w.project("ferry", map[string]string{"@skerry/deck-ui": "^1.0.0", "plain-kelp": "^1.0.0"})
		w.run("ferry", "npm", "install")
		says(t, w.read("ferry/node_modules/@skerry/deck-ui/package.json"), version)
		says(t, w.read("ferry/node_modules/plain-kelp/package.json"), version)
	},
	"pypi": func(t *testing.T, at, version string) {
		w := newPython(t)
		w.pip("download", "--no-deps", "--dest", "got", "--index-url", at+"simple/", "tidecast")
		if _, err := os.Stat(w.dir + "/got/" + tidecast(version).WheelName()); err != nil {
			t.Error(err)
		}
	},
	"nuget": func(t *testing.T, at, version string) {
		w := newWorkshop(t)
		config := `<configuration><packageSources><clear/><add key="tree" value="` + at +
			`index.json" protocolVersion="3"/></packageSources></configuration>`
		for _, file := range []string{"home/.nuget/NuGet/NuGet.Config", "home/.config/NuGet/NuGet.Config"} {
			w.write(file, []byte(config))
		}
		w.nuget("install", turnstile(version).Name, "-OutputDirectory", w.dir+"/got", "-NoCache")
		if _, err := os.Stat(w.dir + "/got/" + turnstile(version).Name + "." + version); err != nil {
			t.Error(err)
		}
	},
	"cargo": func(t *testing.T, at, version string) {
		w := newWorkshop(t, rust()...)
		w.write("home/.cargo/config.toml", []byte("[registries.tree]\nindex = \"sparse+"+at+"\"\n"))
		w.write("ferry/Cargo.toml", []byte("[package]\nname = \"ferry\"\nversion = \"0.1.0\"\nedition = \"2021\"\n\n"+
			"[dependencies]\nhull-sensor = { version = \"1\", registry = \"tree\" }\n"))
		w.write("ferry/src/lib.rs", nil)
		w.run("ferry", "cargo", "fetch")
		says(t, w.read("ferry/Cargo.lock"), `name = "hull-sensor"`, `version = "`+version+`"`)
	},
	"helm": func(t *testing.T, at, version string) {
		w := newWorkshop(t)
		w.run("", tool("helm"), "repo", "add", "tree", at)
		w.run("", tool("helm"), "pull", "tree/sluice", "--untar", "--untardir", "got")
		says(t, w.read("got/sluice/Chart.yaml"), version)
	},
	"maven": func(t *testing.T, at, version string) {
		server, _, _ := strings.Cut(at, "/at/")
		m := newMavenAt(t, server, "none", "tree")
		m.mustRun(m.project("berth-user", "1.0.0", "tree", "tree",
			"package skerry; public class berth_user { int all = berth_core.berths(); }",
			dependency("berth-core", "["+version+",)")), "package")
	},
}

// publishPlain publishes a version of every ecosystem that has plain trees.
func publishPlain(t *testing.T, repository, version string) {
	t.Helper()
	publishMade(t, repository, "npm", deckUI(version))
	publishMade(t, repository, "npm", madeup.Package{Name: "plain-kelp", Version: version, Licence: "MIT"})
	publishMade(t, repository, "pypi", tidecast(version))
	publishMade(t, repository, "nuget", turnstile(version))
	publishMade(t, repository, "cargo", madeup.Package{Name: "hull-sensor", Version: version, Licence: "MIT"})
	w := newWorkshop(t)
	w.write("sluice/Chart.yaml", []byte("apiVersion: v2\nname: sluice\nversion: "+version+"\n"))
	w.write("sluice/templates/gate.yaml", []byte("apiVersion: v1\nkind: ConfigMap\nmetadata:\n  name: gate\n"))
	w.run("", tool("helm"), "package", "sluice")
	chart := string(w.read("sluice-" + version + ".tgz"))
	if a := ask(t, http.MethodPut, "/at/"+repository+"/helm/sluice-"+version+".tgz", chart); a.Status > 201 {
		t.Fatalf("%d %s", a.Status, a.Body)
	}
	m := newMavenAt(t, shared.Address, house.Token, repository)
	m.mustRun(m.project("berth-core", version, repository, repository,
		"package skerry; public class berth_core { public static int berths() { return 4; } }"), "deploy")
}

// TestPlainTrees writes a repository out as files, which a web server hands out and the real clients install
// from: what comes, what is withdrawn and what goes, at no moment with a document that names what is not there.
func TestPlainTrees(t *testing.T) {
	t.Parallel()
	folder, server := plainServer(t)
	from, n := repository(t, "releases"), made.Add(1)
	publishPlain(t, from, "1.0.0")
	trees := map[string]string{} // targets
	for e := range plainClients {
		at, name := "/at/tree/"+e+"/", fmt.Sprintf("plain-%s-%d", e, n)
		if err := os.MkdirAll(folder+at, 0o755); err != nil {
			t.Fatal(err)
		}
		for _, args := range [][]string{
			{"target", "add", name, "--ecosystem", e, "--tree", folder + at, "--read-at", server + at},
			{"relay", "add", name, "--from", from, "--to", name}} {
			if text, errs, code := crelvoAsAdmin(t, args...); code != 0 {
				t.Fatalf("%v: %s %s", args, text, errs)
			}
		}
		trees[e] = name
	}
	tree := func(name string) api.TargetTree {
		t.Helper()
		all, err := desk(house.Token).Targets(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		for _, one := range all {
			if one.Name == name {
				return *one.Tree
			}
		}
		t.Fatalf("there is no target %s", name)
		return api.TargetTree{}
	}
	inStep := func() {
		t.Helper()
		for _, name := range trees {
			eventually(t, 30*time.Second, name+" to be in step", func() bool {
				is, err := desk(house.Token).Relay(t.Context(), name)
				if err != nil {
					t.Fatal(err)
				}
				now := tree(name)
				return is.Waiting == 0 && is.Sent > 0 && now.Waiting == 0 && now.Failure == "" && now.Files > 0
			})
		}
	}
	inStep()
	install := func(version string) {
		t.Helper()
		t.Run("install "+version, func(t *testing.T) {
			for e, use := range plainClients {
				t.Run(e, func(t *testing.T) {
					t.Parallel()
					use(t, server+"/at/tree/"+e+"/", version)
				})
			}
		})
	}
	install("1.0.0")

	// Somebody reads all the time: what a page names is there.
	done, reading := make(chan struct{}), sync.WaitGroup{}
	links, looks := regexp.MustCompile(`href="\.\./\.\./([^"#]+)`), 0
	reading.Go(func() {
		for {
			select {
			case <-done:
				return
			default:
			}
			_, page := plainGet(t, server+"/at/tree/pypi/simple/tidecast/")
			for _, m := range links.FindAllStringSubmatch(page, -1) {
				if status, _ := plainGet(t, server+"/at/tree/pypi/"+m[1]); status != 200 {
					// It may have gone since, which a page that is read now says.
					if _, now := plainGet(t, server+"/at/tree/pypi/simple/tidecast/"); strings.Contains(now, m[1]) {
						t.Errorf("a page names %s, which is not there", m[1])
					}
				}
				looks++
			}
		}
	})
	publishPlain(t, from, "1.1.0")
	inStep()
	install("1.1.0")
	// Two go: one for good, one is withdrawn.
	for _, args := range [][]string{{"remove", "pkg:pypi/tidecast@1.1.0", "--in", from, "--yes"},
		{"withdraw", "pkg:npm/plain-kelp@1.1.0", "--in", from, "--reason", "it leaks"}} {
		if text, errs, code := crelvoAsAdmin(t, args...); code != 0 {
			t.Fatalf("%v: %s %s", args, text, errs)
		}
	}
	eventually(t, 30*time.Second, "the page of tidecast to be without 1.1.0", func() bool {
		_, page := plainGet(t, server+"/at/tree/pypi/simple/tidecast/")
		return !strings.Contains(page, "1.1.0") && strings.Contains(page, "1.0.0")
	})
	eventually(t, 30*time.Second, "its files to be gone", func() bool {
		status, _ := plainGet(t, server+"/at/tree/pypi/files/tidecast/1.1.0/"+tidecast("1.1.0").WheelName())
		return status == 404
	})
	eventually(t, 30*time.Second, "plain-kelp 1.1.0 to be withdrawn", func() bool {
		_, document := plainGet(t, server+"/at/tree/npm/plain-kelp")
		return strings.Contains(document, `"deprecated":"it leaks"`)
	})
	close(done)
	reading.Wait()
	if looks == 0 {
		t.Error("nobody read")
	}

	// Somebody damages a tree: it is found and mended, and nothing else is written.
	file := filepath.Join(folder, "at/tree/maven/example/skerry/berth/berth-core/1.0.0/berth-core-1.0.0.jar")
	if err := os.Remove(file); err != nil {
		t.Fatal(err)
	}
	text, errs, code := crelvoAsAdmin(t, "target", "check", trees["maven"])
	if says(t, text, "1 is missing", "berth-core-1.0.0.jar"); code != 0 {
		t.Fatalf("%d: %s", code, errs)
	}
	eventually(t, 30*time.Second, "the file to be there again", func() bool {
		_, err := os.Stat(file)
		return err == nil
	})
	text, _, _ = crelvoAsAdmin(t, "target", "check", trees["maven"])
	says(t, text, "are as they were written")

	// No two targets write to one place, nor over the server's own data, nor without the address.
	for want, args := range map[string][]string{
		"writes there already": {"--ecosystem", "maven", "--tree", folder + "/at/tree/maven/"},
		"is not there":         {"--ecosystem", "maven", "--tree", folder + "/nowhere"},
		"--read-at":            {"--ecosystem", "npm", "--tree", folder},
		"no plain trees":       {"--ecosystem", "oci", "--tree", folder},
		"no place for a tree":  {"--ecosystem", "maven", "--tree", "gopher://nowhere.example/"},
		"either --url":         {"--ecosystem", "maven"},
	} {
		if _, errs, code := crelvoAsAdmin(t, append([]string{"target", "add", "second"}, args...)...); code == 0 ||
			!strings.Contains(errs, want) {
			t.Errorf("%v: %d, %s", args, code, errs)
		}
	}
}
