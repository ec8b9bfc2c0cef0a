// Command screenshots makes the pictures in docs/screenshots from the demo data.
package main

import (
	"archive/zip"
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"github.com/chromedp/chromedp"

	"crelvo/internal/demo"
	"crelvo/internal/ecosystem/madeup"
	"crelvo/test/browser"
)

const (
	listen  = "127.0.0.1:8790"
	address = "http://" + listen
	folder  = "docs/screenshots"
)

func main() {
	if err := run(context.Background()); err != nil {
		fmt.Fprintln(os.Stderr, "screenshots:", err)
		os.Exit(1)
	}
}

func run(ctx context.Context) error {
	service := exec.CommandContext(ctx, "bin/crelvo", "demo", "--listen", listen)
	service.Stderr = os.Stderr
	service.Cancel = func() error { return service.Process.Signal(os.Interrupt) }
	output, err := service.StdoutPipe()
	if err != nil {
		return err
	}
	if err := service.Start(); err != nil {
		return err
	}
	defer func() {
		_ = service.Process.Signal(os.Interrupt)
		_ = service.Wait() // the demo's folder is gone with it
	}()
	lines := bufio.NewScanner(output)
	ready := false
	for !ready && lines.Scan() {
		ready = strings.HasPrefix(lines.Text(), "ready")
	}
	if !ready {
		return errors.New("the demo did not start")
	}
	go func() {
		for lines.Scan() { // the rest must not block it
		}
	}()
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	return errors.Join(pages(ctx), terminals(ctx))
}

// page is a picture of a page of the console.
type page struct {
	name, path    string
	shows         string
	width, height int
	before        []chromedp.Action[chromedp.Void]
	dark          bool
}

// handOver writes some files that a person may hand over.
func handOver(dir string) (names []string, err error) {
	var third bytes.Buffer
	archive := zip.NewWriter(&third)
	if _, err := archive.Create("org/openshore/brine/Brine.class"); err != nil {
		return nil, err
	}
	if err := archive.Close(); err != nil {
		return nil, err
	}
	tidecast := madeup.Package{Name: "tidecast", Version: "0.7.0", Description: "Tides, told ahead", Licence: "MIT",
		Author: "Skerry Line"}
	link := madeup.Package{Name: "Skerry.TurnstileLink", Version: "1.6.0-beta.2", Description: "Talks to turnstiles",
		Licence: "MIT", Author: "Deck Hands"}
	for _, file := range []struct {
		name string
		raw  []byte
	}{{"tidecast-0.7.0-py3-none-any.whl", tidecast.Wheel()}, {"tidecast-0.7.0.tar.gz", tidecast.Sdist()},
		{"skerry.turnstilelink.nupkg", link.NuGet()}, {"brine-http-2.2.0.jar", third.Bytes()}} {
		name := filepath.Join(dir, file.name)
		if err := os.WriteFile(name, file.raw, 0o600); err != nil {
			return nil, err
		}
		names = append(names, name)
	}
	return names, nil
}

func pages(ctx context.Context) error {
	dir, err := os.MkdirTemp("", "crelvo-shot-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	handed, err := handOver(dir)
	if err != nil {
		return err
	}
	all := []page{
		{name: "repositories", path: "/", shows: "brine-codec"},
		{name: "repositories-phone", path: "/", shows: "brine-codec", width: 390, height: 780},
		{name: "repository", path: "/repositories/snapshots", shows: "tide-model", before: []chromedp.Action[chromedp.Void]{
			browser.Unfold("tide-model"), browser.Unfold("1.5.0-SNAPSHOT"), browser.Unfold("maven-metadata.xml")}},
		{name: "publish", path: "/repositories/releases/publish", shows: "Drop package files",
			before: []chromedp.Action[chromedp.Void]{
				chromedp.SetUploadFiles(chromedp.CSS("input[type=file]"), handed),
				browser.ShowsText("What becomes visible", "says what it is", "holds releases")}},
		{name: "chain", path: "/repositories/platform", shows: "Try a name", before: []chromedp.Action[chromedp.Void]{
			chromedp.SendKeys(chromedp.CSS("input[name=explain]"), "org.openshore:brine-http:2.1.1"),
			browser.ClickText("Who answers?"), browser.ShowsText("answers.")}},
		{name: "mirror", path: "/repositories/shore-maven/upstream", shows: "First byte of the upstream"},
		{name: "package", path: "/package/npm/@skerry/deck-ui@2.1.0", shows: "warning lights"},
		{name: "image", path: "/package/oci/berth-planner@1.4.0", shows: "linux/arm64",
			before: []chromedp.Action[chromedp.Void]{browser.ShowsText("also in", "Label history"),
				chromedp.Evaluate[chromedp.Void](`[...document.querySelectorAll("h2")].find((h) => h.textContent === "Layers")
					.scrollIntoView({ block: "center" })`)}},
		{name: "file-set", path: "/package/generic/chart-tiles@2026.11.1", shows: "Shares what it is kept in",
			before: []chromedp.Action[chromedp.Void]{browser.ClickText("README.md"), browser.ShowsText("Depths between"),
				chromedp.Evaluate[chromedp.Void](`[...document.querySelectorAll("h2")].find((h) => h.textContent === "Contents")
					.scrollIntoView({ block: "start" }); window.scrollBy(0, -200)`)}},
		{name: "search", path: "/search?q=" + url.QueryEscape("skerry holds:releases age:>14d "), shows: "deck-ui",
			before: []chromedp.Action[chromedp.Void]{
				chromedp.SendKeys(chromedp.CSS("[role=combobox]"), "li"), browser.ShowsText("a licence, as the package says")}},
		{name: "track", path: "/tracks/ferry", shows: "asked for"},
		{name: "promotion", path: "/promotions/25", shows: "waits for"},
		{name: "safety", path: "/safety", shows: "kept here"},
		{name: "vetting", path: "/safety/vetting", shows: "wrack-chart", before: []chromedp.Action[chromedp.Void]{
			chromedp.Evaluate[chromedp.Void](`[...document.querySelectorAll("button")].findLast((b) =>
				b.textContent === "Decide…").click()`), browser.ShowsText("It needs 2 packages", "Decide for shore-npm")}},
		{name: "space", path: "/retention/space", shows: "Where it goes"},
		{name: "rights", path: "/rights", shows: "berth-crew", dark: true},
	}
	tab, stop, err := browser.Start(ctx, 1280, 800)
	if err != nil {
		return err
	}
	defer stop()
	if err := browser.SignIn(tab, address, demo.User, demo.Password); err != nil {
		return err
	}
	for _, p := range all {
		made, err := shoot(tab, p)
		if err != nil {
			return fmt.Errorf("%s: %w", p.name, err)
		}
		if err := os.WriteFile(made.file, made.png, 0o644); err != nil {
			return err
		}
	}
	return nil
}

type picture struct {
	file string
	png  []byte
}

func shoot(tab context.Context, p page) (picture, error) {
	if p.width == 0 {
		p.width, p.height = 1280, 800
	}
	theme := "light"
	if p.dark {
		theme = "dark"
	}
	err := browser.Within(tab, 20*time.Second,
		chromedp.EmulateViewport(int64(p.width), int64(p.height)),
		chromedp.Navigate(address+"/mark.svg"), // to be at the address whose storage is set
		chromedp.Evaluate[chromedp.Void](fmt.Sprintf("localStorage.setItem('crelvo-theme', %q)", theme)),
		chromedp.Navigate(address+p.path), browser.ShowsText(p.shows))
	if err == nil {
		err = browser.Within(tab, 20*time.Second, browser.ChartsDrawn())
	}
	if err == nil {
		err = browser.Within(tab, 20*time.Second, p.before...)
	}
	if err != nil {
		return picture{}, err
	}
	png, err := chromedp.Run(tab, chromedp.CaptureScreenshot())
	return picture{filepath.Join(folder, p.name+".png"), png}, err
}

// terminals are pictures of commands and what they print.
func terminals(ctx context.Context) error {
	shots := []struct {
		name     string
		commands []string
	}{
		{"cli-point", []string{"crelvo point npm --at platform --publish --write --yes",
			"crelvo point npm --at platform --publish --check",
			"sed -i s,/platform/,/releases/, .npmrc", "crelvo point npm --at platform --check"}},
		{"cli-promote", []string{"crelvo promote --build ticket-widgets#57 --along ferry --dry-run",
			"crelvo promotion list --state done --limit 4", "crelvo repo arrivals releases --since 14d"}},
		{"cli-sweep", []string{"crelvo sweep plan development-builds --limit 4", "crelvo sweep list",
			"crelvo usage --limit 6"}},
	}
	for _, s := range shots {
		if err := terminal(ctx, s.name, s.commands); err != nil {
			return fmt.Errorf("%s: %w", s.name, err)
		}
	}
	return nil
}

func terminal(ctx context.Context, name string, commands []string) error {
	program, err := filepath.Abs("bin")
	if err != nil {
		return err
	}
	done, err := os.CreateTemp("", "crelvo-shot-")
	if err != nil {
		return err
	}
	defer os.Remove(done.Name())
	defer done.Close()
	var script strings.Builder
	fmt.Fprintf(&script,
		"export PATH=%s:$PATH CRELVO_SERVER=%s CRELVO_TOKEN=%s HOME=$(mktemp -d)\nmkdir $HOME/deck-ui; cd $HOME/deck-ui\n",
		program, address, demo.Token)
	for _, c := range commands {
		fmt.Fprintf(&script, "printf '\\033[1;36m$\\033[0m %%s\\n' %q\n%s\necho\n", c, c)
	}
	fmt.Fprintf(&script, "echo drawn > %s\nsleep 60\n", done.Name())
	// xterm runs in a display of its own; the picture is of that display.
	shot := fmt.Sprintf(
		`xterm -geometry 158x42+0+0 -fa 'DejaVu Sans Mono' -fs 10 -bg '#12191c' -fg '#e8ebe6' -b 12 +sb -e sh -c "$SCRIPT" &
for i in $(seq 200); do grep -q drawn %s && break; sleep 0.05; done
sleep 0.5; import -window root %s; kill $!`, done.Name(), filepath.Join(folder, name+".png"))
	cmd := exec.CommandContext(ctx, "xvfb-run", "-a", "-s", "-screen 0 1290x740x24", "sh", "-c", shot)
	cmd.Env = append(os.Environ(), "SCRIPT="+script.String())
	if output, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, output)
	}
	return nil
}
