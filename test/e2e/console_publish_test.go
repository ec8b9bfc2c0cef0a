package e2e

import (
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"crelvo/test/browser"
	"crelvo/test/house"
)

// TestConsolePublish publishes files that are chosen and dropped on a repository's page:
// what says itself what it is, what has to be told, and what is refused.
func TestConsolePublish(t *testing.T) {
	releases := repository(t, "releases")
	tab, do := openConsole(t)
	see := browser.ShowsText
	if err := browser.SignIn(tab, shared.Address, "admin", house.Password); err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	write := func(name, content string) string {
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, []byte(content), 0o600); err != nil {
			t.Fatal(err)
		}
		return path
	}
	files := []string{
		write("build-output.jar", bigJar(t, pom("example.skerry.berth", "handed", "1.0.0"), 1<<20)),
		write("handed-1.0.0-sources.jar", jar(t, "sources")),
		write("brine-http-2.1.0.jar", jar(t, "brine")),
		write("dev.jar", jarWithPOM(t, pom("example.skerry.berth", "handed", "1.1-SNAPSHOT"))),
	}
	do(chromedp.Navigate(shared.Address+"/repositories/"+releases), browser.ClickText("Publish"),
		see("Drop package files or their folder"),
		chromedp.SetUploadFiles(chromedp.CSS("input[type=file]"), files),
		see("What becomes visible", "handed@1.0.0", "handed-1.0.0-sources.jar", "from build-output.jar",
			"holds releases, and 1.1-SNAPSHOT is a snapshot", "says what it is", "Publish 1 version"))
	if a := ask(t, http.MethodGet, "/at/"+releases+"/maven/"+groupPath+"/handed/1.0.0/handed-1.0.0.pom",
		""); a.Status != 404 {
		t.Errorf("it is there before it was published: %d", a.Status)
	}
	do(typeInto("input[name=group]", "org.openshore"), browser.ClickText("Use these"),
		see("maven/org.openshore/brine-http@2.1.0", "Publish 2 versions"),
		browser.ClickText("Leave out maven/example.skerry.berth/handed@1.1-SNAPSHOT"),
		chromedp.WaitEnabled(chromedp.Search(`//button[.='Publish 2 versions']`)), browser.ClickText("Publish 2 versions"),
		see("it can be used now", "Publish more"))
	for _, path := range []string{groupPath + "/handed/1.0.0/handed-1.0.0.jar", groupPath +
		"/handed/1.0.0/handed-1.0.0-sources.jar", "org/openshore/brine-http/2.1.0/brine-http-2.1.0.pom"} {
		must(t, http.MethodGet, "/at/"+releases+"/maven/"+path, "", 200)
	}

	// Dropped on another tab, they open this one.
	const drop = `(() => {
		const data = new DataTransfer();
		data.items.add(new File(["notes"], "notes.txt"));
		data.items.add(new File([%pom%], "handed-1.2.0.pom"));
		document.querySelector("h1").dispatchEvent(new DragEvent("drop", {dataTransfer: data, bubbles: true, cancelable: true}));
	})()`
	do(browser.ClickText("Publish more"), browser.ClickText("Arrivals"), see("handed"))
	if _, err := chromedp.Run(tab, chromedp.Evaluate[any](strings.ReplaceAll(drop, "%pom%", "`"+
		pom("example.skerry.berth", "handed", "1.2.0", "<packaging>pom</packaging>")+"`"))); err != nil {
		t.Fatal(err)
	}
	do(see("handed@1.2.0", "notes.txt", "no package file that Crelvo recognises", "Publish 1 version"),
		chromedp.WaitEnabled(chromedp.Search(`//button[.='Publish 1 version']`)), browser.ClickText("Publish 1 version"),
		see("it can be used now"))
	must(t, http.MethodGet, "/at/"+releases+"/maven/"+groupPath+"/handed/1.2.0/handed-1.2.0.pom", "", 200)

	// Other bytes for what is there are refused before they are sent.
	do(browser.ClickText("Clear"), chromedp.SetUploadFiles(chromedp.CSS("input[type=file]"),
		[]string{write("again.jar", bigJar(t, pom("example.skerry.berth", "handed", "1.0.0"), 1<<10))}),
		see("was published by admin on", "The next free version is 1.0.1"))
}
