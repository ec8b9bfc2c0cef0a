package retention

import (
	"fmt"
	"testing"
	"time"

	"crelvo/internal/core/purl"
)

// BenchmarkJudge judges a package of 50 versions.
func BenchmarkJudge(b *testing.B) {
	policies := []*Policy{policy(b, "p", "newest 3 of each package", "younger than 14d", "downloaded within 30d",
		"wanted by 3", "labelled latest", "promoted")}
	fits := []bool{true}
	made := make([]Version, 50)
	for i := range made {
		made[i] = Version{ID: int64(i), Version: fmt.Sprintf("1.%d.0", i), At: now.Add(-time.Duration(i) * 24 * time.Hour),
			UploadedAt: now, Fits: fits, Labels: []string{"latest"}[:i/49]}
	}
	versions := make([]Version, len(made))
	for b.Loop() {
		copy(versions, made)
		p := &Package{Key: purl.PURL{Ecosystem: "npm", Namespace: "@skerry", Name: "deck-ui"}, Versions: versions}
		Judge(policies, p, now)
	}
}
