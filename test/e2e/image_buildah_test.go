package e2e

import (
	"strings"
	"testing"

	"crelvo/test/house"
)

// TestImagesBuildah: what Buildah builds is pushed, and pulled as it was; it and Podman are
// one library at this.
func TestImagesBuildah(t *testing.T) {
	t.Parallel()
	snapshots := repository(t, "snapshots")
	w := newWorkshop(t)
	w.write("policy.json", []byte(`{"default":[{"type":"insecureAcceptAnything"}]}`))
	w.write("berth", []byte("plans"))
	buildah := func(root string, args ...string) []string {
		return append([]string{"--storage-driver", "vfs", "--root", w.dir + "/" + root, "--runroot", w.dir + "/run-" + root},
			args...)
	}
	run := func(root string, args ...string) string {
		t.Helper()
		return strings.TrimSpace(w.run("", "buildah", buildah(root, args...)...))
	}
	made, err := w.try("", "buildah", buildah("one", "from", "--signature-policy", "policy.json", "scratch")...)
	if err != nil {
		t.Skipf("buildah may not work on this machine: %s", made)
	}
	container := strings.TrimSpace(made)
	run("one", "add", container, "berth", "/usr/bin/berth")
	run("one", "config", "--cmd", "/usr/bin/berth", "--label", "made=here", container)
	run("one", "commit", "--signature-policy", "policy.json", container, "berth:1")
	image := "docker://" + host() + "/" + snapshots + "/buildah/berth:1.5.0-dev.1"
	w.fails([]string{"unauthorized"}, "", "buildah", buildah("one", "push", "--signature-policy", "policy.json",
		"--tls-verify=false", "--creds", "admin:wrong", "berth:1", image)...)
	with := []string{"--signature-policy", "policy.json", "--tls-verify=false", "--creds", "admin:" + house.Token}
	run("one", append(append([]string{"push"}, with...), "berth:1", image)...)
	run("two", append(append([]string{"pull"}, with...), image)...)
	says(t, run("two", "inspect", "--type", "image", host()+"/"+snapshots+"/buildah/berth:1.5.0-dev.1"), `"made": "here"`)
	if out, said, code := crelvoAsAdmin(t, "show", "pkg:oci/buildah/berth@1.5.0-dev.1", "--layers", "--in",
		snapshots); code != 0 || !strings.Contains(out, "label made") {
		t.Errorf("%s%s", out, said)
	}
}
