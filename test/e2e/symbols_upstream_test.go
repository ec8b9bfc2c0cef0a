package e2e

import (
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"strings"
	"syscall"
	"testing"
	"time"

	"crelvo/internal/api"
	"crelvo/internal/ecosystem/madeup"
	"crelvo/test/house"
)

// debuginfod starts Debian's server of symbols for what is in a folder, and gives its address and what ends it.
func debuginfod(t *testing.T, w *workshop, folder string) (address string, stop func()) {
	t.Helper()
	free, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	port := free.Addr().(*net.TCPAddr).Port
	free.Close()
	cmd := exec.Command("debuginfod", "-F", "-c", "1", "-p", fmt.Sprint(port), "-d", w.dir+"/debuginfod.sqlite", folder)
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	stop = func() {
		_ = cmd.Process.Kill() // it may have ended
		_ = cmd.Wait()
	}
	t.Cleanup(stop)
	return fmt.Sprintf("http://127.0.0.1:%d/", port), stop
}

// crelvoSays is what crelvo prints, which must not fail.
func crelvoSays(t *testing.T, args ...string) string {
	t.Helper()
	text, errs, code := crelvoAsAdmin(t, args...)
	if code != 0 {
		t.Fatalf("crelvo %s: %d %s", strings.Join(args, " "), code, errs)
	}
	return text
}

// TestSymbolsUpstream: what is to be known of programs of others is fetched from their debuginfod through a chain, is
// kept, and is there when that server is not any more.
func TestSymbolsUpstream(t *testing.T) {
	t.Parallel()
	w := newWorkshop(t)
	w.write("shore/src/turnstile.c", []byte(turnstileSource))
	w.run("shore", "gcc", "-g", "-O0", "-Wl,--build-id", "-o", "turnstile", "src/turnstile.c")
	w.run("", "mkdir", "here")
	w.run("", "objcopy", "--strip-all", "shore/turnstile", "here/crashed")
	_, rest, _ := strings.Cut(w.run("shore", "eu-readelf", "-n", "turnstile"), "Build ID: ")
	id, _, _ := strings.Cut(rest, "\n")
	upstream, stop := debuginfod(t, w, w.dir+"/shore")
	eventually(t, 30*time.Second, "debuginfod has looked at "+id, func() bool {
		answer, err := http.Get(upstream + "buildid/" + id + "/debuginfo")
		if err != nil {
			return false
		}
		answer.Body.Close()
		return answer.StatusCode == http.StatusOK
	})
	mirror := fmt.Sprintf("mirror-%d", made.Add(1))
	if err := shared.AddMirrorOf(t.Context(), "symbols", mirror, upstream,
		map[string]any{"absentSeconds": 3600}); err != nil {
		t.Fatal(err)
	}
	through := addChain(t, repository(t, "releases"), mirror)
	// Rules about facts say nothing of symbols.
	crelvoSays(t, "repo", "edit", through, "--cooldown", "14")
	caches := 0
	afresh := func() []string {
		caches++
		return []string{"DEBUGINFOD_URLS=" + symbolsAt(through),
			fmt.Sprintf("DEBUGINFOD_CACHE_PATH=%s/cache-%d", w.dir, caches)}
	}
	find := func(args ...string) string {
		return strings.TrimSpace(w.run("", "env", append(append(afresh(), "debuginfod-find"), args...)...))
	}
	// A section alone is not fetched with all the rest.
	if raw, err := os.ReadFile(find("section", id, ".debug_info")); err != nil || len(raw) == 0 {
		t.Errorf("a section: %d bytes, %v", len(raw), err)
	}
	says(t, crelvoSays(t, "show", "pkg:symbols/"+id, "--in", mirror), "section/.debug_info")
	w.run("", "cp", "-r", "shore/src", "kept")
	backtrace := func() {
		t.Helper()
		says(t, w.run("here", "env", append(afresh(), "gdb", "-q", "-batch", "-iex", "set debuginfod enabled on", "-ex",
			"break gate", "-ex", "run", "-ex", "next", "-ex", "print open", "./crashed")...),
			"gate (fares=21) at src/turnstile.c:3", "int open = fares * 2;", "$1 = 42")
	}
	source := w.dir + "/shore/src/turnstile.c"
	w.run("", "cmp", find("source", id, source), "kept/turnstile.c")
	w.run("", "rm", "-r", "shore/src") // gdb has to ask for it
	backtrace()
	for _, args := range [][]string{{"debuginfo", id}, {"executable", id}} {
		w.run("", "cmp", find(args...), "shore/turnstile")
	}
	nothing := strings.Repeat("0", 40)
	w.fails([]string{"No such file"}, "", "env", append(afresh(), "debuginfod-find", "debuginfo", nothing)...)

	stop()
	w.run("", "rm", "-r", "shore")
	backtrace()
	w.run("", "cmp", find("source", id, source), "kept/turnstile.c")
	// What was not there is known, and what was never asked for is not.
	get := func(path string) house.Answer { return ask(t, http.MethodGet, "/at/"+through+"/symbols/"+path, "") }
	if a := get("buildid/" + nothing + "/debuginfo"); a.Status != http.StatusNotFound {
		t.Errorf("what was not there: %d %s", a.Status, a.Body)
	}
	if a := get("buildid/" + strings.Repeat("1", 40) + "/debuginfo"); a.Status != http.StatusServiceUnavailable ||
		!strings.Contains(string(a.Body), mirror) {
		t.Errorf("what nobody can tell: %d %s", a.Status, a.Body)
	}
	if a := get("buildid/not-an-id/debuginfo"); a.Status != http.StatusNotFound {
		t.Errorf("no build id: %d %s", a.Status, a.Body)
	}
	says(t, string(get("metadata?key=file&value=turnstile").Body), `"complete":false`)
	all := symbolsOf(t, "pkg:symbols/"+id+"@debuginfo", mirror)
	if len(all) != 1 || all[0].Key != id || !all[0].Debug || all[0].File != "debuginfo" {
		t.Errorf("%+v", all)
	}
	says(t, crelvoSays(t, "symbols", "find", id, "--in", through), "pkg:symbols/"+id+"@debuginfo", mirror)
	folder := ask(t, http.MethodGet, "/at/"+mirror+"/symbols/buildid/"+id+"/", "")
	says(t, string(folder.Body), "debuginfo", "executable", "section", "source")
}

// TestSymbolsOfOthers: what an upstream sends for a build id that has another one is not passed off as that.
func TestSymbolsOfOthers(t *testing.T) {
	t.Parallel()
	const id = "c0ffee00c0ffee00c0ffee00c0ffee00c0ffee00"
	upstream := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Write(madeup.ELF("beef"+id[4:], true, true))
	}))
	defer upstream.Close()
	mirror := fmt.Sprintf("mirror-%d", made.Add(1))
	if err := shared.AddMirrorOf(t.Context(), "symbols", mirror, upstream.URL, nil); err != nil {
		t.Fatal(err)
	}
	a := ask(t, http.MethodHead, "/at/"+mirror+"/symbols/buildid/"+id+"/debuginfo", "")
	if a.Status == http.StatusOK && a.Header.Get("X-Debuginfod-Size") != "" {
		t.Errorf("%d %v", a.Status, a.Header)
	}
	a, err := shared.Ask(t.Context(), http.MethodGet, "/at/"+mirror+"/symbols/buildid/"+id+"/debuginfo", house.Token, nil)
	if err == nil && a.Status == http.StatusOK {
		t.Errorf("it came: %d bytes", len(a.Body))
	}
	eventually(t, 20*time.Second, mirror+" tells what is wrong", func() bool {
		return strings.Contains(crelvoSays(t, "mirror", "show", mirror), "it is not the debuginfo of")
	})
	if all := done(desk(house.Token).Symbols(t.Context(), id, "", "", mirror))(t); len(all) != 0 {
		t.Errorf("it was kept: %+v", []api.Symbol(all))
	}
}
