package service

import (
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"

	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
	"crelvo/internal/ecosystem/madeup"
	"crelvo/internal/record"
	"crelvo/internal/record/recordtest"
	"crelvo/internal/service/promotion"
	"crelvo/internal/service/publishing"
)

// TestPromotedDigests: locks of crates that are promoted together have the digests that those get,
// in whatever order they come. Of two that state each other's, one has it, and the other leaves it
// out.
func TestPromotedDigests(t *testing.T) {
	q := newLine(t, recordtest.URL(t))
	const old = "1.0.0-dev.1"
	var purls []string
	crate := func(name string, locked ...string) {
		t.Helper()
		lock := "version = 3\n"
		for _, other := range append([]string{name}, locked...) {
			lock += fmt.Sprintf("\n[[package]]\nname = %q\nversion = %q\nchecksum = \"00\"\n", other, old)
		}
		p := madeup.Package{Name: name, Version: old, Licence: "MIT",
			Files: []madeup.Entry{{Name: "Cargo.lock", Content: strings.Replace(lock, "checksum = \"00\"\n", "", 1)}}}
		given := false
		if _, err := q.Publishing.PublishByHand(t.Context(), q.admin, q.snapshots, purl.PURL{},
			func() (publishing.ByHand, error) {
				if given {
					return publishing.ByHand{}, io.EOF
				}
				given = true
				return publishing.ByHand{Name: name + ".crate", Body: strings.NewReader(string(p.Cargo("")))}, nil
			}); err != nil {
			t.Fatal(err)
		}
		purls = append(purls, "pkg:cargo/"+name+"@"+old)
	}
	crate("anchor", "buoy")        // before what it locks
	crate("buoy", "cable")         // which locks another
	crate("cable")                 // and that one nothing
	crate("davit", "echo")         // davit and echo
	crate("echo", "davit", "buoy") // lock each other
	p, err := q.Promotion.Promote(t.Context(), q.admin, promotion.Request{Track: "ferry", PURLs: purls})
	if err != nil || p.State != record.PromotionDone {
		t.Fatalf("%s %q, %v", p.State, p.Why, err)
	}

	digests, locks := map[string]string{}, map[string]string{}
	for _, name := range []string{"anchor", "buoy", "cable", "davit", "echo"} {
		released, err := q.Resolving.Package(t.Context(), q.releases.Key("cargo", "", name))
		if err != nil {
			t.Fatal(err)
		}
		f := released.Versions[0].Files[0]
		digests[name] = f.Digests.Hex("sha256")
		content, err := q.Store.Open(t.Context(), f)
		if err != nil {
			t.Fatal(err)
		}
		err = errors.Join(ecosystem.WalkTarGz(t.Context(), ecosystem.Sized(content, f.Digests.Size),
			func(entry string, _ int64, r io.Reader) error {
				if !strings.HasSuffix(entry, "/Cargo.lock") {
					return nil
				}
				raw, err := io.ReadAll(r)
				locks[name] = string(raw)
				return err
			}), content.Close())
		if err != nil {
			t.Fatal(err)
		}
	}
	states := func(other string) string {
		return fmt.Sprintf("name = %q\nversion = \"1.0.0\"\nchecksum = %q\n", other, digests[other])
	}
	for _, of := range [][2]string{{"anchor", "buoy"}, {"buoy", "cable"}, {"echo", "buoy"}} {
		if !strings.Contains(locks[of[0]], states(of[1])) {
			t.Errorf("the lock of %s lacks the digest of %s, %s:\n%s", of[0], of[1], digests[of[1]], locks[of[0]])
		}
	}
	if one, other := strings.Contains(locks["davit"], states("echo")),
		strings.Contains(locks["echo"], states("davit")); one == other ||
		strings.Count(locks["davit"]+locks["echo"], "checksum") != 2 {
		t.Errorf("of those that lock each other, one has the digest of the other:\n%s\n%s", locks["davit"], locks["echo"])
	}
	for name, lock := range locks {
		if strings.Contains(lock, old) || strings.Contains(lock, `"00"`) {
			t.Errorf("the lock of %s: %s", name, lock)
		}
	}
}
