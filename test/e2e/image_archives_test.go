package e2e

import (
	"strings"
	"testing"

	"crelvo/internal/ecosystem/madeup"
	"crelvo/test/house"
)

// TestImageArchives: archives of images, of all kinds that tools write, are published, and
// fetched as others read them.
func TestImageArchives(t *testing.T) {
	t.Parallel()
	releases, repository := repository(t, "releases"), repository(t, "both")
	w := newWorkshop(t)
	run := func(want int, args ...string) string {
		t.Helper()
		cmd := append([]string{"CRELVO_SERVER=" + shared.Address, "CRELVO_TOKEN=" + house.Token, house.Program()}, args...)
		if want == 0 {
			return w.run("", "env", cmd...)
		}
		out, err := w.try("", "env", cmd...)
		if err == nil {
			t.Errorf("%q: done: %s", args, out)
		}
		return out
	}
	crane := func(args ...string) string {
		t.Helper()
		return strings.TrimSpace(w.run("", tool("crane"), append(args, "--insecure")...))
	}
	crane("auth", "login", host(), "-u", "admin", "-p", house.Token)
	image := host() + "/" + repository + "/"
	w.write("amd.tar.gz", madeup.TarGz(madeup.Entry{Name: "usr/bin/berth", Content: "for amd64"}))
	w.write("arm.tar.gz", madeup.TarGz(madeup.Entry{Name: "usr/bin/berth", Content: "for arm64"}))
	crane("append", "-f", "amd.tar.gz", "--platform", "linux/amd64", "-t", image+"berth:amd")
	crane("append", "-f", "arm.tar.gz", "--platform", "linux/arm64", "-t", image+"berth:arm")
	for _, arch := range []string{"amd", "arm"} {
		crane("mutate", "--set-platform", "linux/"+arch+"64", image+"berth:"+arch, "-t", image+"berth:"+arch)
	}
	crane("index", "append", "-m", image+"berth:amd", "-m", image+"berth:arm", "-t", image+"berth:1.5.0")
	digest := crane("digest", image+"berth:1.5.0")

	// All of it, and one platform.
	says(t, run(0, "fetch", "pkg:oci/berth@1.5.0", "--in", repository), "berth-1.5.0.tar")
	run(0, "fetch", "pkg:oci/berth@1.5.0", "--in", repository, "--platform", "linux/arm64")
	says(t, run(1, "fetch", "pkg:oci/berth@1.5.0", "--in", repository, "--platform", "linux/s390x"),
		"linux/amd64, linux/arm64")
	says(t, w.run("", "skopeo", "inspect", "--override-arch", "arm64", "oci-archive:berth-1.5.0-linux-arm64.tar"),
		`"Architecture": "arm64"`)

	// A layout as an archive and as a folder, and what docker save writes.
	says(t, run(2, "publish", "berth-1.5.0.tar", "--to", repository), "--as pkg:oci/")
	says(t, run(0, "publish", "berth-1.5.0.tar", "--to", repository, "--as", "pkg:oci/skerry/berth"),
		"pkg:oci/skerry/berth@"+digest+"?tag=1.5.0")
	if got := crane("digest", image+"skerry/berth:1.5.0"); got != digest {
		t.Errorf("it is %s, and was %s", got, digest)
	}
	w.run("", "skopeo", "--insecure-policy", "copy", "--all", "oci-archive:berth-1.5.0.tar", "oci:layout:1.6.0")
	says(t, run(0, "publish", "layout", "--to", repository, "--as", "pkg:oci/folder"),
		"pkg:oci/folder@sha256:", "?tag=1.6.0")
	w.run("", "skopeo", "--insecure-policy", "copy", "--override-arch", "amd64", "oci-archive:berth-1.5.0.tar",
		"docker-archive:saved.tar:docker.skerry.example/saved/berth:2.0.0-dev.1")
	says(t, run(0, "publish", "saved.tar", "--to", repository), "pkg:oci/saved/berth@sha256:", "?tag=2.0.0-dev.1")
	crane("pull", image+"saved/berth:2.0.0-dev.1", "pulled.tar")

	// What is refused, and what is no archive.
	says(t, run(1, "publish", "saved.tar", "--to", releases), "is a snapshot")
	w.write("cut.tar", []byte(w.read("saved.tar")[:2000]))
	says(t, run(1, "publish", "cut.tar", "--to", repository), "no whole archive")
}
