package cli

import (
	"bytes"
	"crypto/rand"
	"crypto/sha256"
	"testing"

	"crelvo/internal/api"
)

// TestChooseVersion: without a version, what is fetched is the newest release that is
// kept and not withdrawn, else the newest of what is left.
func TestChooseVersion(t *testing.T) {
	snapshot := api.VersionGroup{Version: "2.0-SNAPSHOT", Snapshot: true}
	listed := api.VersionGroup{Version: "1.9", Listed: true}
	withdrawn := api.VersionGroup{Version: "1.8", Withdrawn: &api.Withdrawal{Reason: "wrong moon"}}
	release := api.VersionGroup{Version: "1.7"}
	for _, c := range []struct {
		what     string
		versions []api.VersionGroup
		want     string
	}{
		{"a release goes before a newer snapshot", []api.VersionGroup{snapshot, listed, withdrawn, release}, "1.7"},
		{"a snapshot before what is withdrawn or only listed", []api.VersionGroup{listed, withdrawn, snapshot},
			"2.0-SNAPSHOT"},
		{"what is withdrawn before what is only listed", []api.VersionGroup{listed, withdrawn}, "1.8"},
		{"and what there is", []api.VersionGroup{listed}, "1.9"},
	} {
		if got := chooseVersion(c.versions).Version; got != c.want {
			t.Errorf("%s: %s; want %s", c.what, got, c.want)
		}
	}
}

// TestHashBeside computes what would be computed in turn, whatever the pieces are.
func TestHashBeside(t *testing.T) {
	content := make([]byte, 3*besideChunk*besideChunks+1)
	rand.Read(content) // it never fails
	for _, piece := range []int{1 << 10, besideChunk, besideChunk + 1, len(content)} {
		digest := sha256.New()
		b := hashBeside(digest)
		reused := make([]byte, piece)
		for rest := content; len(rest) > 0; {
			n := copy(reused, rest)
			if wrote, err := b.Write(reused[:n]); wrote != n || err != nil {
				t.Fatalf("%d of %d bytes, %v", wrote, n, err)
			}
			rest = rest[n:]
		}
		b.end()
		if want := sha256.Sum256(content); !bytes.Equal(digest.Sum(nil), want[:]) {
			t.Errorf("in pieces of %d bytes it is another digest", piece)
		}
	}
}
