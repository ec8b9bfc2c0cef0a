// Package e2e tests the real program through its real interfaces: the package
// protocol with the real mvn, the command line, the console in a browser.
package e2e

import (
	"archive/zip"
	"bytes"
	"context"
	"crypto/sha1"
	"encoding/hex"
	"flag"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"crelvo/internal/store/storetest"
	"crelvo/test/house"
)

// shared is a service that most tests use, each with repositories of its own. Those run side
// by side that wait for clients or services of their own; not those that record builds,
// since what others publish meanwhile with the same token would be taken as theirs.
var shared *house.House

func TestMain(m *testing.M) {
	flag.Parse()
	os.Exit(run(m))
}

func run(m *testing.M) int {
	dir, err := house.TempDir()
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	defer os.RemoveAll(dir)
	settings := []string{"--quiet-period", "3s", "--log-level", "debug"}
	if os.Getenv("CRELVO_TEST_STORE") != "folder" { // services of single tests have folders
		if err := os.Mkdir(dir+"/s3", 0o700); err != nil {
			fmt.Fprintln(os.Stderr, err)
			return 1
		}
		objects, err := storetest.Launch(context.Background(), dir+"/s3")
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			return 1
		}
		defer objects.Stop()
		for _, e := range storetest.Environment() {
			name, value, _ := strings.Cut(e, "=")
			os.Setenv(name, value)
		}
		settings = append(settings, "--store", objects.Setting())
	}
	if shared, err = house.Start(dir+"/data", settings...); err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	code := m.Run()
	if err := shared.Stop(); err != nil {
		fmt.Fprintln(os.Stderr, "the shared service did not stop in order:", err)
		code = 1
	}
	if code != 0 {
		if err := os.WriteFile(os.TempDir()+"/crelvo-e2e.log", []byte(shared.Log()), 0o600); err == nil {
			fmt.Fprintln(os.Stderr, "the service's log is in "+os.TempDir()+"/crelvo-e2e.log")
		}
	}
	return code
}

var made atomic.Int64

// ownHouse starts a service for one test.
func ownHouse(t *testing.T) *house.House {
	t.Helper()
	dir, err := house.TempDir()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	h, err := house.Start(dir + "/data")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := h.Stop(); err != nil {
			t.Error(err)
		}
	})
	return h
}

// repository makes a repository for one test and gives its name.
func repository(t *testing.T, holds string) string {
	t.Helper()
	top, _, _ := strings.Cut(strings.ToLower(t.Name()), "/")
	name := fmt.Sprintf("%.40s-%s-%d", top, holds, made.Add(1))
	if err := shared.AddRepository(t.Context(), name, holds); err != nil {
		t.Fatal(err)
	}
	return name
}

// ask makes a request as admin to the shared service.
func ask(t *testing.T, method, path, body string, headers ...string) house.Answer {
	t.Helper()
	var r io.Reader
	if body != "" {
		r = strings.NewReader(body)
	}
	a, err := shared.Ask(t.Context(), method, path, house.Token, r, headers...)
	if err != nil {
		t.Fatalf("%s %s: %v", method, path, err)
	}
	return a
}

// must asks and wants one of the statuses.
func must(t *testing.T, method, path, body string, statuses ...int) house.Answer {
	t.Helper()
	a := ask(t, method, path, body)
	for _, s := range statuses {
		if a.Status == s {
			return a
		}
	}
	t.Fatalf("%s %s: %d %s: %s; want %v", method, path, a.Status, a.Reason, a.Body, statuses)
	return a
}

// post sends a value to an operation as admin, and reads its answer; out may be
// nil.
func post(t *testing.T, path string, in, out any) {
	t.Helper()
	if a, err := shared.JSON(t.Context(), http.MethodPost, path, in, out); err != nil || a.Status >= 300 {
		t.Fatalf("%s: %d %s %v", path, a.Status, a.Body, err)
	}
}

// eventually waits for a condition.
func eventually(t *testing.T, limit time.Duration, what string, holds func() bool) {
	t.Helper()
	deadline := time.Now().Add(limit)
	for !holds() {
		if time.Now().After(deadline) {
			t.Fatalf("not within %v: %s", limit, what)
		}
		time.Sleep(20 * time.Millisecond) // between two looks at the condition
	}
}

func pom(group, artifact, version string, more ...string) string {
	return fmt.Sprintf(
		"<?xml version=\"1.0\"?>\n"+
			"<project><modelVersion>4.0.0</modelVersion><groupId>%s</groupId><artifactId>%s</artifactId><version>%s</version>%s</project>\n",
		group, artifact, version, strings.Join(more, ""))
}

// jar makes a zip archive with one entry of that content.
func jar(t *testing.T, content string) string { return archive(t, "content.txt", content) }

// jarWithPOM makes a jar as mvn does, with its pom inside.
func jarWithPOM(t *testing.T, pom string) string {
	return archive(t, "META-INF/maven/example.skerry.berth/inside/pom.xml", pom)
}

func archive(t *testing.T, name, content string) string {
	t.Helper()
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	w, err := z.Create(name)
	if err == nil {
		_, err = io.WriteString(w, content)
	}
	if err == nil {
		err = z.Close()
	}
	if err != nil {
		t.Fatal(err)
	}
	return b.String()
}

func sha1Hex(s string) string {
	sum := sha1.Sum([]byte(s))
	return hex.EncodeToString(sum[:])
}

const groupPath = "example/skerry/berth"

// publishRelease sends a release as build tools do.
func publishRelease(t *testing.T, repository, artifact, version, content string) {
	t.Helper()
	base := fmt.Sprintf("/at/%s/maven/%s/%s", repository, groupPath, artifact)
	file := fmt.Sprintf("%s/%s/%s-%s", base, version, artifact, version)
	must(t, http.MethodPut, file+".jar", jar(t, content), 201)
	must(t, http.MethodPut, file+".pom", pom("example.skerry.berth", artifact, version), 201)
	must(t, http.MethodPut, base+"/maven-metadata.xml", releaseMetadata(artifact, version), 201)
}

func releaseMetadata(artifact, version string) string {
	return fmt.Sprintf(
		"<metadata><groupId>example.skerry.berth</groupId><artifactId>%s</artifactId><versioning><release>%s</release><versions><version>%s</version></versions></versioning></metadata>", artifact, version, version)
}

// crelvo runs the command line with a home of its own.
func crelvo(t *testing.T, home, stdin string, args ...string) (stdout, stderr string, code int) {
	t.Helper()
	return command(t, []string{"HOME=" + home}, stdin, args...)
}

// crelvoAsAdmin runs the command line with admin's token.
func crelvoAsAdmin(t *testing.T, args ...string) (stdout, stderr string, code int) {
	t.Helper()
	return command(t, []string{"HOME=" + t.TempDir(), "CRELVO_TOKEN=" + house.Token}, "", args...)
}

func command(t *testing.T, environment []string, stdin string, args ...string) (stdout, stderr string, code int) {
	t.Helper()
	most := time.Minute
	if os.Getenv("CRELVO_SOAK") != "" {
		most = time.Hour
	}
	ctx, cancel := context.WithTimeout(t.Context(), most)
	defer cancel()
	cmd := exec.CommandContext(ctx, house.Program(), args...)
	cmd.Env = append(environment, "PATH="+os.Getenv("PATH"), "TZ=UTC", "CRELVO_SERVER="+shared.Address)
	cmd.Stdin = strings.NewReader(stdin)
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	err := cmd.Run()
	if err != nil && cmd.ProcessState == nil {
		t.Fatal(err)
	}
	return out.String(), errs.String(), cmd.ProcessState.ExitCode()
}
