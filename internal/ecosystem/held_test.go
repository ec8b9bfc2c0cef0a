package ecosystem

import (
	"crypto/sha256"
	"net/http"
	"sync"
	"testing"
	"time"
)

// TestHeldSaysWhen: bytes that are held once say of each place when they came there, whoever asks at the same time, and
// what is said of the bytes is as of any file.
func TestHeldSaysWhen(t *testing.T) {
	content := []byte("high water")
	held := Hold(content, sha256.Sum256(content))
	here := time.Date(2026, 11, 30, 6, 15, 0, 0, time.FixedZone("", 3600))
	there := here.Add(time.Minute)
	var all sync.WaitGroup
	for _, at := range []time.Time{here, there, here, there} {
		all.Go(func() {
			for range 1000 {
				if said := held.lastModified(at); len(said) != 1 || said[0] != at.UTC().Format(http.TimeFormat) {
					t.Errorf("of %s it says %v", at, said)
					return
				}
			}
		})
	}
	all.Wait()
	const etag = `"b997736f73e60bdfc6fde41d9f7746383168e7468ae085ac77fa9dd829c6c39a"`
	const digest = "sha-256=:uZdzb3PmC9/G/eQdn3dGODFo50aK4IWsd/qd2CnGw5o=:"
	if held.length[0] != "10" || held.etag[0] != etag || held.digest[0] != digest {
		t.Errorf("%v %v %v", held.length, held.etag, held.digest)
	}
}
