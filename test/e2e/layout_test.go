package e2e

import (
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"crelvo/internal/api"
	"crelvo/test/browser"
	"crelvo/test/house"
)

// TestMavenOutsideTheLayout: what is no name of the layout is not there, a folder
// without its slash leads to the folder, and files beside a version are taken.
func TestMavenOutsideTheLayout(t *testing.T) {
	r := repository(t, "releases")
	base := "/at/" + r + "/maven/" + groupPath + "/"
	must(t, "PUT", base+"tide-model/1.0/tide-model-1.0.jar", jar(t, "x"), 201)
	must(t, "PUT", base+"tide-model/1.0/ivy-1.0.xml", "<ivy-module/>", 201)
	must(t, "PUT", base+"tide-model/1.0/tide-model-1.0.pom", pom("example.skerry.berth", "tide-model", "1.0"), 201)
	must(t, "PUT", base+"tide-model/maven-metadata.xml", releaseMetadata("tide-model", "1.0"), 201)
	must(t, "PUT", base+"sbt-slip_2.12_1.0/0.1/sbt-slip-0.1.jar", jar(t, "y"), 201)
	must(t, "PUT", base+"sbt-slip_2.12_1.0/0.1/sbt-slip-0.1.pom", pom("example.skerry.berth", "sbt-slip", "0.1"), 201)
	must(t, "PUT", base+"sbt-slip_2.12_1.0/maven-metadata.xml", releaseMetadata("sbt-slip_2.12_1.0", "0.1"), 201)
	for _, c := range []struct {
		path   string
		status int
		says   string
	}{
		{"tide-model/1.0/ivy-1.0.xml", 200, "<ivy-module/>"},
		{"tide-model/1.0/ivy-1.0.xml.sha1", 200, sha1Hex("<ivy-module/>")},
		{"tide-model/1.0/ivy-2.0.xml", 404, "holds no file"},
		{"tide-model/1.0/other-1.0.jar", 404, "does not belong"},
		{"tide-model/1.0/tide-model.jar", 404, "does not belong"},
		{"sbt-slip_2.12_1.0/0.1/sbt-slip-0.1.jar", 200, ""},
		{"sbt-slip_2.12_1.0/0.1/sbt-slip_2.12_1.0-0.1.jar", 404, ""},
		{"tide-model/1.0", 301, ""},
		{"tide-model", 301, ""},
	} {
		if a := must(t, "GET", base+c.path, "", c.status); !strings.Contains(string(a.Body), c.says) {
			t.Errorf("%s: %s; want %q", c.path, a.Body, c.says)
		}
	}
}

// TestReceiving: who sends a version without saying that it is complete is told what
// is missing and until when, reads it back, and finds it in what is being received;
// nobody else sees it.
func TestReceiving(t *testing.T) {
	r := repository(t, "releases")
	folder := "/at/" + r + "/maven/" + groupPath + "/tide-model/3.0/"
	content := jar(t, "x")
	if a := must(t, "PUT", folder+"tide-model-3.0.jar", content, 201); !strings.Contains(string(a.Body),
		"is not listed yet") || !strings.Contains(string(a.Body), "given up at") {
		t.Errorf("the answer is %s", a.Body)
	}
	if a := must(t, "GET", folder+"tide-model-3.0.jar", "", 200); string(a.Body) != content {
		t.Error("its publisher reads back something else")
	}
	a, err := shared.Ask(t.Context(), http.MethodGet, folder+"tide-model-3.0.jar",
		person(t, fmt.Sprintf("lookout-%d", made.Add(1)), "robot", api.NewGrant{Role: "reader", Repositories: r}).Token, nil)
	if err != nil || a.Status != 404 {
		t.Errorf("somebody else is answered with %d, %v", a.Status, err)
	}
	out, errs, code := crelvoAsAdmin(t, "receiving", "--in", r)
	if code != 0 || !strings.Contains(out, "tide-model@3.0") ||
		!strings.Contains(out, "lacks a file that every version has, such as its pom; given up") {
		t.Errorf("receiving: %d %s %s", code, out, errs)
	}
	tab, do := openConsole(t)
	if err := browser.SignIn(tab, shared.Address, "admin", house.Password); err != nil {
		t.Fatal(err)
	}
	do(chromedp.Navigate(shared.Address+"/repositories/"+r),
		browser.ShowsText("Being received", "tide-model@3.0", "1 file", "by admin",
			"It lacks a file that every version has, such as its pom, and is given up on"))
	eventually(t, 20*time.Second, "the status tells of it", func() bool {
		out, _, _ := crelvoAsAdmin(t, "status")
		return strings.Contains(out, "lacks a file that every version has")
	})
	must(t, "PUT", folder+"tide-model-3.0.pom", pom("example.skerry.berth", "tide-model", "3.0"), 201)
	eventually(t, 20*time.Second, "it is listed by itself", func() bool {
		out, _, _ := crelvoAsAdmin(t, "receiving", "--in", r)
		return strings.Contains(out, "Nothing is being received")
	})
	must(t, "GET", folder+"tide-model-3.0.jar", "", 200)
}
