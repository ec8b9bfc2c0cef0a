package maven

import (
	"crypto/sha1"
	"fmt"
	"net/http"
	"strings"
	"testing"

	"crelvo/internal/core/fault"
	"crelvo/internal/ecosystem/ecosystemtest"
)

func pomOf(artifact, version, packaging string) []byte {
	return fmt.Appendf(nil,
		"<project><modelVersion>4.0.0</modelVersion><groupId>example.skerry</groupId><artifactId>%s</artifactId><version>%s</version><packaging>%s</packaging><name>%[1]s</name></project>", artifact, version, packaging)
}

// deploy sends a version as mvn does: files with their checksums, then metadata.
func deploy(t *testing.T, d *ecosystemtest.Desk, artifact, version, stem, metadata string, files map[string][]byte) {
	t.Helper()
	at := "example/skerry/" + artifact + "/"
	for extension, content := range files {
		path := at + version + "/" + stem + "." + extension
		ecosystemtest.Says(t, d.Send(201, http.MethodPut, path, content), "Received.")
		ecosystemtest.Says(t, d.Send(200, http.MethodPut, path+".sha1", fmt.Appendf(nil, "%x", sha1.Sum(content))), "right")
	}
	if version != stem[len(artifact)+1:] {
		d.Send(201, http.MethodPut, at+version+"/maven-metadata.xml", []byte(metadata))
		return
	}
	d.Send(201, http.MethodPut, at+"maven-metadata.xml", []byte(metadata))
	d.Send(200, http.MethodPut, at+"maven-metadata.xml.sha1", []byte(strings.Repeat("0", 40)))
}

func metadataOf(artifact, version string) string {
	return fmt.Sprintf(
		"<metadata><groupId>example.skerry</groupId><artifactId>%s</artifactId><versioning><versions><version>%s</version></versions></versioning></metadata>", artifact, version)
}

// TestRoutes walks through a repository as mvn does.
func TestRoutes(t *testing.T) {
	d := ecosystemtest.NewDesk(t, Maven{})
	const at = "example/skerry/tide-model/"
	d.Get(404, at+"1.0/tide-model-1.0.pom")
	d.Get(404, at+"maven-metadata.xml")
	content := jar(t, "a", "b")
	// What is being received can be read back by whoever sends it.
	d.Send(201, http.MethodPut, at+"1.0/tide-model-1.0.jar", content)
	if a := d.Ask(http.MethodGet, at+"1.0/tide-model-1.0.jar", nil); a.Code != 200 ||
		a.Header().Get("Crelvo-State") != "receiving" {
		t.Errorf("%d %v", a.Code, a.Header())
	}
	ecosystemtest.Says(t, d.Send(400, http.MethodPut, at+"1.0/tide-model-1.0.jar.sha1", []byte(strings.Repeat("0", 40))),
		"damaged on its way")
	deploy(t, d, "tide-model", "1.0", "tide-model-1.0", metadataOf("tide-model", "1.0"),
		map[string][]byte{"pom": pomOf("tide-model", "1.0", "jar"), "jar": content})
	deploy(t, d, "tide-plugin", "2.0", "tide-plugin-2.0", metadataOf("tide-plugin", "2.0"),
		map[string][]byte{"pom": pomOf("tide-plugin", "2.0", "maven-plugin"),
			"jar": jar(t, "META-INF/maven/plugin.xml", "<plugin><name>tide</name><goalPrefix>tide</goalPrefix></plugin>")})

	ecosystemtest.Says(t, d.Get(200, at+"1.0/tide-model-1.0.jar"), "PK")
	ecosystemtest.Says(t, d.Get(200, at+"1.0/tide-model-1.0.jar.sha1"), fmt.Sprintf("%x", sha1.Sum(content)))
	for _, algorithm := range []string{"md5", "sha256", "sha512"} {
		d.Get(200, at+"1.0/tide-model-1.0.pom."+algorithm)
	}
	ecosystemtest.Says(t, d.Get(200, at+"maven-metadata.xml"), "<release>1.0</release>")
	ecosystemtest.Says(t, d.Get(200, at+"maven-metadata.xml.sha1"), "")
	ecosystemtest.Says(t, d.Get(200, "example/skerry/maven-metadata.xml"), "<prefix>tide</prefix>")
	d.Get(404, "example/maven-metadata.xml")
	d.Get(404, at+"9.9/tide-model-9.9.jar")
	d.Get(404, at+"1.0/other")
	d.Get(404, at+"1.0/tide-model-1.1.jar")
	d.Get(400, "example/../tide")
	ecosystemtest.Says(t, d.Get(200, at), "1.0", "maven-metadata.xml")
	ecosystemtest.Says(t, d.Get(200, at+"1.0/"), "tide-model-1.0.jar")
	d.Get(301, "example/skerry/tide-model")
	d.Get(404, "no/such/folder/")

	// A snapshot, with uploads of their own.
	const upload = "1.1-20261101.080000-1"
	deploy(t, d, "tide-model", "1.1-SNAPSHOT", "tide-model-"+upload,
		"<metadata><groupId>example.skerry</groupId><artifactId>tide-model</artifactId><version>1.1-SNAPSHOT</version><versioning><snapshot><timestamp>20261101.080000</timestamp><buildNumber>1</buildNumber></snapshot></versioning></metadata>",
		map[string][]byte{"pom": pomOf("tide-model", "1.1-SNAPSHOT", "jar"), "jar": content})
	d.Get(200, at+"1.1-SNAPSHOT/tide-model-"+upload+".jar")
	d.Get(200, at+"1.1-SNAPSHOT/tide-model-1.1-SNAPSHOT.jar") // the newest
	ecosystemtest.Says(t, d.Get(200, at+"1.1-SNAPSHOT/maven-metadata.xml"), "<timestamp>20261101.080000</timestamp>",
		"<value>"+upload+"</value>")
	d.Get(404, at+"1.2-SNAPSHOT/maven-metadata.xml")
	d.Why["secret"] = fault.New(fault.NotFound, "claimed", "the name is claimed")
	ecosystemtest.Says(t, d.Get(404, "example/skerry/secret/1.0/secret-1.0.pom"), "the name is claimed")
}

// TestPutRefuses: what is not what it is said to be is refused.
func TestPutRefuses(t *testing.T) {
	d := ecosystemtest.NewDesk(t, Maven{})
	const at = "example/skerry/tide-model/"
	for _, c := range []struct {
		path   string
		body   string
		status int
		says   string
	}{
		{"example/skerry/", "x", 400, "folder"},
		{at + "1.0/tide-model-1.1.jar", "x", 400, ""},
		{at + "1.0/tide-model-1.0.jar", "hello", 400, ""},
		{at + "1.0/tide-model-1.0.pom", "<project>", 400, ""},
		{at + "1.0/tide-model-1.0.pom", string(pomOf("other", "1.0", "jar")), 400, ""},
		{at + "1.0/tide-model-1.0.jar.sha1", "nothing", 400, "is no sha1 checksum"},
		{at + "1.0/tide-model-1.0.jar.sha1", strings.Repeat("0", 40), 422, "before its checksum"},
		{at + "1.0/tide-model-1.0.jar.sha1", strings.Repeat("0", 2000), 413, ""},
		{at + "maven-metadata.xml", "<metadata>", 400, ""},
	} {
		ecosystemtest.Says(t, d.Send(c.status, http.MethodPut, c.path, []byte(c.body)), c.says)
	}
	d.Refuses = fault.New(fault.Denied, "role-missing", "deckhand may not publish")
	d.Send(403, http.MethodPut, at+"1.0/tide-model-1.0.jar", jar(t))
	d.Send(403, http.MethodPut, at+"maven-metadata.xml", []byte(metadataOf("tide-model", "1.0")))
}

func TestSend(t *testing.T) {
	files := map[string][]byte{"tide-model-1.0.jar": jar(t, "a", "b"),
		"tide-model-1.0.pom": pomOf("tide-model", "1.0", "jar")}
	ecosystemtest.CheckSend(t, Maven{}, "", files,
		map[string][]byte{"tide-model-1.0.jar": jar(t, "a", "c"), "tide-model-1.0.pom": files["tide-model-1.0.pom"]})
}
