package cli

import (
	"bytes"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/spf13/cobra"

	"crelvo/internal/api"
)

// TestPlanOf tells a file from the name of a policy.
func TestPlanOf(t *testing.T) {
	cmd := new(cobra.Command)
	cmd.SetIn(strings.NewReader("name: typed\n"))
	file := filepath.Join(t.TempDir(), "policy.yaml")
	if err := os.WriteFile(file, []byte("name: written\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string]api.PlanRequest{file: {Text: "name: written\n"}, "-": {Text: "name: typed\n"},
		"development-builds": {Policy: "development-builds"}} {
		if r, err := planOf(cmd, name, ""); err != nil || r.Text != want.Text || r.Policy != want.Policy || r.AsOf != "" {
			t.Errorf("%s: %+v %v", name, r, err)
		}
	}
	if r, err := planOf(cmd, "development-builds", "2027-01-01"); err != nil ||
		!strings.HasPrefix(r.AsOf, "2027-01-01T00:00:00") {
		t.Errorf("%+v %v", r, err)
	}
	for _, name := range []string{"absent.yaml", "folder/absent"} {
		var usage usageError
		if _, err := planOf(cmd, name, ""); !errors.As(err, &usage) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// TestShowSweepPlan says in words what would go.
func TestShowSweepPlan(t *testing.T) {
	used := time.Date(2026, 10, 1, 8, 0, 0, 0, time.UTC)
	p := api.SweepPlan{Policy: "tidy", At: used, Total: api.PlanTotal{Kept: 2, Swept: 3, Outside: 1, SweptBytes: 4096,
		Freed: 1024},
		Repositories: []api.PlanTotal{{Name: "snapshots", Kept: 2, Swept: 3}},
		Ecosystems:   []api.PlanTotal{{Name: "maven"}, {Name: "npm"}},
		Reasons:      []api.PlanTotal{{Name: "no reason keeps it", Swept: 3, SweptBytes: 4096}},
		Asks:         []string{"it would take 3 versions, and may take 2 without asking"},
		Last:         &api.Sweep{ID: 7, BegunAt: used}, Then: 2, New: 1, Found: 3,
		Lines: []api.PlanLine{{Repository: "snapshots", PURL: "pkg:npm/a@1", Fate: "swept", Reason: "no reason keeps it",
			At: used, UsedAt: &used, Users: 2, Bytes: 2048, Freed: 1024},
			{Repository: "snapshots", PURL: "pkg:npm/a@2", Fate: "kept", Reason: "younger than 14d", Policy: "other", At: used}}}
	var out bytes.Buffer
	showSweepPlan(&out, p)
	for _, want := range []string{"tidy would take 3 of 6 versions, 4.0 KiB, and free 1.0 KiB",
		"It would stop and ask: it would take 3 versions", "sweep 7 of ", "2 of these stayed then, 1 came since",
		"ECOSYSTEM", "pkg:npm/a@1", "2026-10-01", "younger than 14d, by other", "never", "and 1 more: --limit 3"} {
		if !strings.Contains(out.String(), want) {
			t.Errorf("%q is missing in\n%s", want, &out)
		}
	}
	if signed(-2048) != "-2.0 KiB" || signed(0) != "+0 B" {
		t.Errorf("%s %s", signed(-2048), signed(0))
	}
}
