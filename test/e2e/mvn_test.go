package e2e

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"crelvo/internal/demo"
	"crelvo/test/house"
)

// maven is a person's Maven: a settings file and a local repository of its own.
type maven struct {
	t        *testing.T
	dir      string
	settings string
	at       string // the service
}

// newMaven sets mvn up so that it sees a stand-in for the public repository and
// the shared service only.
func newMaven(t *testing.T, token string, repositories ...string) *maven {
	t.Helper()
	return newMavenAt(t, shared.Address, token, repositories...)
}

// newMavenAt is newMaven for another service.
func newMavenAt(t *testing.T, at, token string, repositories ...string) *maven {
	t.Helper()
	if _, err := exec.LookPath("mvn"); err != nil {
		t.Fatal("mvn is not installed; run make test, which installs it")
	}
	_, public := shore(t, demo.Tree(demo.MavenTree))
	m := &maven{t: t, dir: t.TempDir(), at: at}
	var servers, sources strings.Builder
	for _, r := range repositories {
		fmt.Fprintf(&servers, "<server><id>%s</id><username>ci-berth</username><password>%s</password></server>", r, token)
		fmt.Fprintf(&sources,
			"<repository><id>%s</id><url>%s/at/%s/maven/</url><releases><enabled>true</enabled></releases><snapshots><enabled>true</enabled><updatePolicy>always</updatePolicy></snapshots></repository>", r, at, r)
	}
	m.settings = filepath.Join(m.dir, "settings.xml")
	m.write(m.settings, fmt.Sprintf(`<settings>
<localRepository>%s/local</localRepository>
<servers>%s</servers>
<mirrors><mirror><id>public</id><mirrorOf>central</mirrorOf><url>%s</url></mirror></mirrors>
<profiles><profile><id>crelvo</id><repositories>%s</repositories></profile></profiles>
<activeProfiles><activeProfile>crelvo</activeProfile></activeProfiles>
</settings>`, m.dir, servers.String(), public, sources.String()))
	return m
}

// newMavenVia sets mvn up so that it sees one address of the shared service, and
// nothing else.
func newMavenVia(t *testing.T, repository string) *maven {
	t.Helper()
	m := &maven{t: t, dir: t.TempDir(), at: shared.Address}
	m.settings = filepath.Join(m.dir, "settings.xml")
	const open = "<releases><enabled>true</enabled></releases><snapshots><enabled>true</enabled></snapshots>"
	m.write(m.settings, fmt.Sprintf(`<settings>
<localRepository>%s/local</localRepository>
<servers><server><id>platform</id><username>ci-berth</username><password>%s</password></server></servers>
<mirrors><mirror><id>platform</id><mirrorOf>*</mirrorOf><url>%s/at/%s/maven/</url></mirror></mirrors>
<profiles><profile><id>crelvo</id>
<repositories><repository><id>central</id><url>http://central</url>%s</repository></repositories>
<pluginRepositories><pluginRepository><id>central</id><url>http://central</url>%s</pluginRepository></pluginRepositories>
</profile></profiles>
<activeProfiles><activeProfile>crelvo</activeProfile></activeProfiles>
</settings>`, m.dir, house.Token, shared.Address, repository, open, open))
	return m
}

func (m *maven) write(path, content string) {
	m.t.Helper()
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		m.t.Fatal(err)
	}
	if err := os.WriteFile(path, []byte(content), 0o644); err != nil {
		m.t.Fatal(err)
	}
}

// project writes a project that is published to the repositories.
func (m *maven) project(name, version, snapshots, releases, code string, dependencies ...string) string {
	dir := filepath.Join(m.dir, name)
	plugin := func(artifact, version, more string) string {
		return fmt.Sprintf("<plugin><artifactId>maven-%s-plugin</artifactId><version>%s</version>%s</plugin>", artifact,
			version, more)
	}
	m.write(filepath.Join(dir, "pom.xml"), fmt.Sprintf(`<project xmlns="http://maven.apache.org/POM/4.0.0">
<modelVersion>4.0.0</modelVersion><groupId>example.skerry.berth</groupId><artifactId>%s</artifactId><version>%s</version>
<name>%s</name><description>made for a test</description><licenses><license><name>Apache-2.0</name></license></licenses>
<properties><maven.compiler.source>17</maven.compiler.source><maven.compiler.target>17</maven.compiler.target><project.build.sourceEncoding>UTF-8</project.build.sourceEncoding></properties>
<distributionManagement><repository><id>%s</id><url>%s/at/%s/maven/</url></repository><snapshotRepository><id>%s</id><url>%s/at/%s/maven/</url></snapshotRepository></distributionManagement>
<dependencies>%s</dependencies>
<build><plugins>%s</plugins></build></project>`, name, version, name,
		releases, m.at, releases, snapshots, m.at, snapshots, strings.Join(dependencies, ""),
		plugin("resources", "3.3.0", "")+plugin("compiler", "3.10.1", "")+plugin("jar", "3.3.0", "")+
			plugin("install", "3.1.0", "")+plugin("deploy", "3.0.0", "")+
			plugin("surefire", "2.22.3",
				"<executions><execution><id>default-test</id><phase>none</phase></execution></executions>")))
	m.write(filepath.Join(dir, "src/main/java/skerry", className(name)+".java"), code)
	return dir
}

func className(name string) string { return strings.ReplaceAll(name, "-", "_") }

func dependency(artifact, version string) string {
	return fmt.Sprintf(
		"<dependency><groupId>example.skerry.berth</groupId><artifactId>%s</artifactId><version>%s</version></dependency>",
		artifact, version)
}

// quickJVM are settings for a program that runs a few seconds: less is compiled, and no
// thread waits for the others.
const quickJVM = " -XX:TieredStopAtLevel=1 -XX:+UseSerialGC -Xshare:auto"

// run runs mvn in a folder and gives its output.
func (m *maven) run(dir string, args ...string) (string, error) {
	ctx, cancel := context.WithTimeout(m.t.Context(), 5*time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, "mvn", append([]string{"-B", "-ntp", "-s", m.settings}, args...)...)
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), "HOME="+m.dir, "MAVEN_OPTS=-Duser.home="+m.dir+quickJVM)
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	err := cmd.Run()
	return out.String(), err
}

func (m *maven) mustRun(dir string, args ...string) string {
	m.t.Helper()
	out, err := m.run(dir, args...)
	if err != nil {
		m.t.Fatalf("mvn %s: %v\n%s", strings.Join(args, " "), err, out)
	}
	return out
}

const tideModel = "package skerry;\npublic class tide_model { public static int height() { return %d; } }\n"

// TestMavenBuild is the first ten minutes of a build engineer: deploy a
// snapshot, deploy it again, deploy a release, be refused, and build another
// project from both.
func TestMavenBuild(t *testing.T) {
	t.Parallel()
	snapshots, releases := repository(t, "snapshots"), repository(t, "releases")
	m := newMaven(t, house.Token, snapshots, releases)

	dir := m.project("tide-model", "1.0.0-SNAPSHOT", snapshots, releases, fmt.Sprintf(tideModel, 1))
	m.mustRun(dir, "deploy")
	m.write(filepath.Join(dir, "src/main/java/skerry/tide_model.java"), fmt.Sprintf(tideModel, 2))
	m.mustRun(dir, "deploy")

	var shown struct {
		Versions []struct {
			Version string
			Uploads []struct {
				Name  string
				Files []struct{ Name string }
			}
		}
	}
	if _, err := shared.JSON(t.Context(), http.MethodGet,
		"/api/v1/package?purl=pkg:maven/example.skerry.berth/tide-model&repository="+snapshots, nil, &shown); err != nil {
		t.Fatal(err)
	}
	if len(shown.Versions) != 1 || len(shown.Versions[0].Uploads) != 2 {
		t.Fatalf("after two deployments of a snapshot: %+v; want one version with two uploads", shown)
	}
	first, second := shown.Versions[0].Uploads[1].Name, shown.Versions[0].Uploads[0].Name
	if !strings.HasSuffix(first, "-1") || !strings.HasSuffix(second, "-2") {
		t.Errorf("the uploads are %s and %s; want numbers 1 and 2", first, second)
	}

	release := m.project("fare-engine", "2.0.0", snapshots, releases,
		"package skerry;\npublic class fare_engine { public static int price() { return 7; } }\n")
	m.mustRun(release, "deploy")

	t.Run("a release is published once", func(t *testing.T) {
		m.write(filepath.Join(release, "src/main/java/skerry/fare_engine.java"),
			"package skerry;\npublic class fare_engine { public static int price() { return 9; } }\n")
		out, err := m.run(release, "deploy")
		if err == nil {
			t.Fatal("deploying a release again with other bytes went through")
		}
		want := regexp.MustCompile(
			`409 fare-engine 2\.0\.0 was published by admin on \d{4}-\d\d-\d\d \d\d:\d\d UTC.*The next free version is 2\.0\.1`)
		if !want.MatchString(out) {
			t.Errorf("mvn does not show who was first and what is free:\n%s", out)
		}
	})
	t.Run("a snapshot does not belong among releases", func(t *testing.T) {
		wrong := m.project("tide-model-wrong", "1.0.0-SNAPSHOT", releases, snapshots,
			"package skerry;\npublic class tide_model_wrong {}\n")
		out, err := m.run(wrong, "deploy")
		if err == nil {
			t.Fatal("a snapshot was taken by a repository that holds releases")
		}
		if !strings.Contains(out, releases+" holds releases, and 1.0.0-SNAPSHOT is a snapshot. It belongs in ") ||
			!strings.Contains(out, snapshots) {
			t.Errorf("mvn does not show where it belongs:\n%s", out)
		}
	})
	t.Run("another project is built from both", func(t *testing.T) {
		fresh := newMaven(t, house.Token, snapshots, releases)
		code := "package skerry;\n" +
			"public class berth_planner { public static void main(String[] a) { System.out.println(tide_model.height() + \" " +
			"\" + fare_engine.price()); } }\n"
		user := fresh.project("berth-planner", "1.0.0-SNAPSHOT", snapshots, releases, code,
			dependency("tide-model", "1.0.0-SNAPSHOT"), dependency("fare-engine", "2.0.0"))
		fresh.mustRun(user, "package")
		local := fresh.dir + "/local/example/skerry/berth"
		classpath := strings.Join([]string{user + "/target/classes", local +
			"/tide-model/1.0.0-SNAPSHOT/tide-model-1.0.0-SNAPSHOT.jar", local + "/fare-engine/2.0.0/fare-engine-2.0.0.jar"}, ":")
		out, err := exec.Command("java", "-cp", classpath, "skerry.berth_planner").CombinedOutput()
		if err != nil || strings.TrimSpace(string(out)) != "2 7" {
			t.Errorf("the built program says %q, %v; want the newest snapshot and the release: \"2 7\"", out, err)
		}
	})
	t.Run("a wrong token is explained", func(t *testing.T) {
		stranger := newMaven(t, "crelvo_damagedtokenxxxxxxxxxxxxxxxxxxxxxxxx", snapshots, releases)
		user := stranger.project("tide-model", "1.0.1", snapshots, releases, fmt.Sprintf(tideModel, 3))
		out, err := stranger.run(user, "deploy")
		if err == nil || !strings.Contains(out, "401") {
			t.Errorf("deploying with a damaged token: %v\n%s", err, out)
		}
	})
}

// TestMavenReactor deploys a build of several modules with a parent, with
// sources beside the jars, twice: as a snapshot and as a release.
func TestMavenReactor(t *testing.T) {
	t.Parallel()
	snapshots, releases := repository(t, "snapshots"), repository(t, "releases")
	m := newMaven(t, house.Token, snapshots, releases)
	build := func(version string) {
		dir := m.project("berth-"+version, version, snapshots, releases, "package skerry;\npublic class unused {}\n")
		pom, err := os.ReadFile(filepath.Join(dir, "pom.xml"))
		if err != nil {
			t.Fatal(err)
		}
		parent := strings.Replace(string(pom), "<artifactId>berth-"+version+"</artifactId>", "<artifactId>berth</artifactId>",
			1)
		parent = strings.Replace(parent, "<name>",
			"<packaging>pom</packaging><modules><module>tide-model</module><module>berth-planner</module></modules><name>", 1)
		m.write(filepath.Join(dir, "pom.xml"), parent)
		module := func(name, dependencies string) {
			m.write(filepath.Join(dir, name, "pom.xml"),
				fmt.Sprintf(
					"<project><modelVersion>4.0.0</modelVersion><parent><groupId>example.skerry.berth</groupId><artifactId>berth</artifactId><version>%s</version></parent><artifactId>%s</artifactId><dependencies>%s</dependencies></project>", version, name, dependencies))
			m.write(filepath.Join(dir, name, "src/main/java/skerry", className(name)+".java"), "package skerry;\npublic class "+
				className(name)+" {}\n")
		}
		module("tide-model", "")
		module("berth-planner", dependency("tide-model", "${project.version}"))
		m.mustRun(dir, "deploy")
	}
	build("5.0.0-SNAPSHOT")
	build("5.0.0")
	for _, name := range []string{"berth", "tide-model", "berth-planner"} {
		for r, version := range map[string]string{snapshots: "5.0.0-SNAPSHOT", releases: "5.0.0"} {
			a := must(t, http.MethodGet, "/at/"+r+"/maven/"+groupPath+"/"+name+"/maven-metadata.xml", "", 200)
			if !strings.Contains(string(a.Body), "<version>"+version+"</version>") {
				t.Errorf("%s in %s: %s", name, r, a.Body)
			}
		}
	}
	// The parent and the dependency are found by somebody who has neither.
	fresh := newMaven(t, house.Token, snapshots, releases)
	user := fresh.project("ferry", "1.0.0", snapshots, releases,
		"package skerry;\npublic class ferry { berth_planner planner; tide_model tides; }\n",
		dependency("berth-planner", "5.0.0"))
	fresh.mustRun(user, "package")
	shown := must(t, http.MethodGet, "/api/v1/package?purl=pkg:maven/example.skerry.berth/berth-planner@5.0.0&repository="+
		releases, "", 200)
	for _, want := range []string{`"parent":"pkg:maven/example.skerry.berth/berth@5.0.0"`,
		`"purl":"pkg:maven/example.skerry.berth/tide-model","version":"5.0.0"`} {
		if !strings.Contains(string(shown.Body), want) {
			t.Errorf("the package does not say %s: %s", want, shown.Body)
		}
	}
}

// TestMavenDeployFile publishes a third-party file with its coordinates.
func TestMavenDeployFile(t *testing.T) {
	t.Parallel()
	releases := repository(t, "releases")
	m := newMaven(t, house.Token, releases)
	file := filepath.Join(m.dir, "brine.jar")
	m.write(file, jar(t, "brine"))
	deploy := func(extra ...string) (string, error) {
		return m.run(m.dir, append([]string{"org.apache.maven.plugins:maven-deploy-plugin:3.0.0:deploy-file",
			"-Dfile=" + file, "-DrepositoryId=" + releases, "-Durl=" + shared.Address + "/at/" + releases + "/maven/",
			"-DgroupId=org.openshore", "-DartifactId=brine-http", "-Dversion=2.1.0", "-Dpackaging=jar"}, extra...)...)
	}
	if out, err := deploy(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	a := must(t, http.MethodGet, "/at/"+releases+"/maven/org/openshore/brine-http/2.1.0/brine-http-2.1.0.jar", "", 200)
	if string(a.Body) != jar(t, "brine") {
		t.Error("the file came back changed")
	}
	if a := must(t, http.MethodGet, "/at/"+releases+"/maven/org/openshore/brine-http/maven-metadata.xml", "",
		200); !strings.Contains(string(a.Body), "<release>2.1.0</release>") {
		t.Errorf("the metadata does not list the version: %s", a.Body)
	}
	if out, err := deploy(); err != nil {
		t.Errorf("the very same file a second time must succeed: %v\n%s", err, out)
	}
	m.write(file, jar(t, "other brine"))
	if out, err := deploy(); err == nil || !strings.Contains(out, "The next free version is 2.1.1") {
		t.Errorf("other bytes: %v\n%s", err, out)
	}
}

// TestMavenTwoJobs deploys the same snapshot from two CI jobs at once.
func TestMavenTwoJobs(t *testing.T) {
	t.Parallel()
	snapshots, releases := repository(t, "snapshots"), repository(t, "releases")
	var jobs sync.WaitGroup
	outputs := make([]string, 2)
	succeeded := make([]bool, 2)
	for i := range outputs {
		m := newMaven(t, house.Token, snapshots, releases)
		dir := m.project("tide-model", "3.0.0-SNAPSHOT", snapshots, releases, fmt.Sprintf(tideModel, i))
		jobs.Go(func() {
			out, err := m.run(dir, "deploy")
			outputs[i], succeeded[i] = out, err == nil
		})
	}
	jobs.Wait()
	a := must(t, http.MethodGet,
		"/api/v1/package?purl=pkg:maven/example.skerry.berth/tide-model@3.0.0-SNAPSHOT&repository="+snapshots, "", 200, 404)
	uploads := strings.Count(string(a.Body), `"packaging":"jar"`)
	want := 0
	for i, ok := range succeeded {
		if ok {
			want++
		} else if !strings.Contains(outputs[i], "409") && !strings.Contains(outputs[i], "422") {
			// Only the same second and number may be refused, and then aloud.
			t.Errorf("job %d failed:\n%s", i, outputs[i])
		}
	}
	if want == 0 || uploads != want {
		t.Errorf("%d uploads are listed of %d that were acknowledged: %s\n%s", uploads, want, a.Body,
			strings.Join(outputs, "\n"))
	}
}
