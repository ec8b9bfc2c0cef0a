package demo

import (
	"archive/zip"
	"bytes"
	"context"
	"crypto/md5"
	"crypto/sha1"
	"encoding/hex"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"
)

const (
	group     = "example.skerry.berth"
	groupPath = "example/skerry/berth"
)

// module is one of the modules of the berth build.
type module struct {
	name, title, description, licence string
	size                              int      // of the jar, about, in bytes
	needs                             []string // other modules
	maker                             maker
}

// maker is who makes a package, and where they are found.
type maker struct{ name, site, source string }

var (
	berthTeam = maker{"The Skerry Line berth team", "https://skerry.example", "https://code.skerry.example/berth"}
	openShore = maker{"Open Shore", "https://openshore.example", "https://code.openshore.example"}
	nobody    = maker{"somebody", "https://elsewhere.example", "https://code.elsewhere.example"}
)

var modules = []module{
	{name: "tide-model", title: "Tide model", description: "Heights and times of tides between the islands",
		licence: "Apache-2.0", size: 180 << 10, maker: berthTeam},
	{name: "fare-engine", title: "Fare engine", description: "Fares, seasons and concessions", licence: "Apache-2.0",
		size: 96 << 10, maker: berthTeam},
	{name: "berth-planner", title: "Berth planner", description: "Which ferry lies where, and until when",
		licence: "Apache-2.0", size: 320 << 10,
		needs: []string{"tide-model", "fare-engine"}, maker: berthTeam},
}

// yard publishes and downloads as the people of the scenario.
type yard struct {
	address string
	tokens  map[string]string
	clock   *Clock
	web     *http.Client
}

func (m module) pom(groupID, version string) string {
	var dependencies strings.Builder
	for _, need := range m.needs {
		fmt.Fprintf(&dependencies,
			"    <dependency>\n      <groupId>%s</groupId>\n      <artifactId>%s</artifactId>\n      <version>%s</version>\n"+
				"    </dependency>\n", groupID, need, version)
	}
	return fmt.Sprintf(`<?xml version="1.0" encoding="UTF-8"?>
<project xmlns="http://maven.apache.org/POM/4.0.0">
  <modelVersion>4.0.0</modelVersion>
  <groupId>%s</groupId>
  <artifactId>%s</artifactId>
  <version>%s</version>
  <name>%s</name>
  <description>%s</description>
  <url>%s/%s</url>
  <licenses>
    <license>
      <name>%s</name>
    </license>
  </licenses>
  <developers>
    <developer>
      <name>%s</name>
    </developer>
  </developers>
  <scm>
    <url>%s</url>
  </scm>
  <dependencies>
%s  </dependencies>
</project>
`, groupID, m.name, version, m.title, m.description, m.maker.site, m.name, m.licence, m.maker.name, m.maker.source,
		dependencies.String())
}

// jar makes an archive with the pom inside. The same arguments give the same
// bytes.
func (m module) jar(groupID, version string, run int) ([]byte, error) {
	var b bytes.Buffer
	archive := zip.NewWriter(&b)
	add := func(name string, content []byte) error {
		w, err := archive.Create(name)
		if err != nil {
			return err
		}
		_, err = w.Write(content)
		return err
	}
	if err := add("META-INF/MANIFEST.MF", fmt.Appendf(nil,
		"Manifest-Version: 1.0\r\nImplementation-Version: %s\r\nBuild-Number: %d\r\n\r\n", version, run)); err != nil {
		return nil, err
	}
	if err := add("META-INF/maven/"+groupID+"/"+m.name+"/pom.xml", []byte(m.pom(groupID, version))); err != nil {
		return nil, err
	}
	table := make([]byte, m.size)
	source := rand.NewChaCha8([32]byte([]byte(fmt.Sprintf("%-32.32s", fmt.Sprint(run, m.name)))))
	_, _ = source.Read(table) // it never fails
	if err := add("tables/"+m.name+".bin", table); err != nil {
		return nil, err
	}
	err := archive.Close()
	return b.Bytes(), err
}

func (m module) sources(version string) ([]byte, error) {
	var b bytes.Buffer
	archive := zip.NewWriter(&b)
	w, err := archive.Create("README.md")
	if err == nil {
		_, err = fmt.Fprintf(w, "# %s %s\n\n%s\n", m.title, version, m.description)
	}
	if err != nil {
		return nil, err
	}
	if err := archive.Close(); err != nil {
		return nil, err
	}
	return b.Bytes(), nil
}

// files writes the module's jar to a folder.
func (m module) files(groupID, version string, run int) (paths []string, cleanUp func(), err error) {
	dir, err := os.MkdirTemp("", "crelvo-demo-")
	if err != nil {
		return nil, nil, err
	}
	jar, err := m.jar(groupID, version, run)
	path := filepath.Join(dir, m.name+"-"+version+".jar")
	if err == nil {
		err = os.WriteFile(path, jar, 0o600)
	}
	return []string{path}, func() { os.RemoveAll(dir) }, err
}

// deploy sends what a build tool sends: files with their checksums, and then
// the metadata that ends the deployment.
func (y *yard) deploy(
	ctx context.Context, repository, who string, m module, version string, run int, at time.Time,
) error {
	y.clock.set(at)
	jar, err := m.jar(group, version, run)
	if err != nil {
		return err
	}
	sources, err := m.sources(version)
	if err != nil {
		return err
	}
	exact, folder := version, fmt.Sprintf("/at/%s/maven/%s/%s/%s/", repository, groupPath, m.name, version)
	metadata := fmt.Sprintf(
		"<metadata><groupId>%s</groupId><artifactId>%s</artifactId><versioning><release>%s</release><versions><version>%s</version></versions></versioning></metadata>",
		group, m.name, version, version)
	metadataPath := fmt.Sprintf("/at/%s/maven/%s/%s/maven-metadata.xml", repository, groupPath, m.name)
	if base, ok := strings.CutSuffix(version, "-SNAPSHOT"); ok {
		stamp := at.UTC().Format("20060102.150405")
		exact = fmt.Sprintf("%s-%s-%d", base, stamp, run-100)
		metadata = fmt.Sprintf(
			"<metadata><groupId>%s</groupId><artifactId>%s</artifactId><version>%s</version><versioning><snapshot><timestamp>%s</timestamp><buildNumber>%d</buildNumber></snapshot></versioning></metadata>",
			group, m.name, version, stamp, run-100)
		metadataPath = folder + "maven-metadata.xml"
	}
	for _, f := range []struct {
		ending  string
		content []byte
	}{{".pom", []byte(m.pom(group, version))}, {".jar", jar}, {"-sources.jar", sources}} {
		path := folder + m.name + "-" + exact + f.ending
		if err := y.put(ctx, who, path, f.content); err != nil {
			return err
		}
		sha, md := sha1.Sum(f.content), md5.Sum(f.content)
		if err := y.put(ctx, who, path+".sha1", []byte(hex.EncodeToString(sha[:]))); err != nil {
			return err
		}
		if err := y.put(ctx, who, path+".md5", []byte(hex.EncodeToString(md[:]))); err != nil {
			return err
		}
	}
	return y.put(ctx, who, metadataPath, []byte(metadata))
}

func (y *yard) put(ctx context.Context, who, path string, content []byte) error {
	return y.ask(ctx, http.MethodPut, who, path, content)
}

func (y *yard) get(ctx context.Context, who, path string) error {
	return y.ask(ctx, http.MethodGet, who, path, nil)
}

func (y *yard) ask(ctx context.Context, method, who, path string, content []byte) error {
	return y.askWith(ctx, method, who, path, content, "")
}

// agentOf is how the client of an ecosystem names itself.
func agentOf(path string) string {
	parts := strings.SplitN(path, "/", 5)
	if parts[1] == "v2" {
		return "containers/5.24.1 (github.com/containers/image)"
	}
	if len(parts) < 5 || parts[1] != "at" {
		return "crelvo-demo"
	}
	return map[string]string{"maven": "Apache-Maven/3.9 (Java 21; Linux)", "npm": "npm/11 node/v22 linux x64",
		"pypi": "pip/25 linux", "nuget": "NuGet Command Line/6.1", "cargo": "cargo/1.95.0 (2026-03-21)",
		"helm": "Helm/3.22.0", "generic": "curl/8.5.0"}[parts[3]]
}

func (y *yard) askWith(ctx context.Context, method, who, path string, content []byte, contentType string) error {
	return y.answered(ctx, method, who, path, content, contentType, io.Discard)
}

func (y *yard) fetch(ctx context.Context, who, path string, into io.Writer) error {
	return y.answered(ctx, http.MethodGet, who, path, nil, "", into)
}

// answered asks as somebody, and passes the answer on.
func (y *yard) answered(
	ctx context.Context, method, who, path string, content []byte, contentType string, into io.Writer,
) error {
	r, err := http.NewRequestWithContext(ctx, method, y.address+path, bytes.NewReader(content))
	if err != nil {
		return err
	}
	r.SetBasicAuth(who, y.tokens[who])
	r.Header.Set("User-Agent", agentOf(path))
	if contentType != "" {
		r.Header.Set("Content-Type", contentType)
	}
	response, err := y.web.Do(r)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if response.StatusCode < 300 {
		_, err = io.Copy(into, response.Body)
		return err
	}
	said, err := io.ReadAll(io.LimitReader(response.Body, 300))
	if err != nil {
		return err
	}
	return fmt.Errorf("the demo could not %s %s as %s: %s: %s", method, path, who, response.Status, said)
}
