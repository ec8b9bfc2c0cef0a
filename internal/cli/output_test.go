package cli

import (
	"strings"
	"testing"
)

// TestTableFolds: on a narrow terminal texts are folded, and numbers stay whole.
func TestTableFolds(t *testing.T) {
	head, rows := []string{"PACKAGE", "SIZE", "DESCRIPTION"},
		[][]string{{"pkg:maven/example.skerry.berth/berth-planner", "1234.5 MiB",
			"Finds a berth for every ferry, in any weather"}, {"pkg:npm/x", "1 B", ""}}
	if lines := tableLines(head, []int{1}, rows, 0); len(lines) != 3 || !strings.HasSuffix(lines[1], "in any weather") {
		t.Errorf("with room for all: %q", lines)
	}
	lines := tableLines(head, []int{1}, rows, 50)
	for _, line := range lines {
		if len(line) > 50 {
			t.Errorf("%q is too long", line)
		}
	}
	flat := strings.Join(lines, "")
	if len(lines) < 4 || !strings.Contains(flat, "1234.5 MiB") || strings.Contains(flat, "…") ||
		!strings.Contains(flat, "weather") || !strings.Contains(flat, "planner") {
		t.Errorf("folded to %q", lines)
	}
	if got := fold("", 5); len(got) != 1 || got[0] != "" {
		t.Errorf("nothing is %q", got)
	}
	h, r, some := chosen([]string{"size", "nonsense", "package"}, head, []int{1}, rows)
	if strings.Join(h, " ") != "SIZE PACKAGE" || len(r) != 1 || r[0] != 0 || some[1][0] != "1 B" {
		t.Errorf("chosen are %v %v %v", h, r, some)
	}
}

// TestServersByName: tokens belong to their servers, under whichever name.
func TestServersByName(t *testing.T) {
	const home, away = "http://127.0.0.1:8700", "https://mainland.skerry.example"
	kept := stored{}.with("", home, "one").with("mainland", away, "two")
	if kept.Server != home || kept.tokenOf(home) != "one" || kept.tokenOf(away) != "two" ||
		kept.tokenOf("https://other.example") != "" {
		t.Errorf("%+v", kept)
	}
	s := &session{server: "mainland"}
	if server, err := s.address(kept); err != nil || server != away {
		t.Errorf("mainland is %s, %v", server, err)
	}
	if again := kept.with("", away, "three"); again.tokenOf(away) != "three" || again.Named["mainland"].Token != "three" {
		t.Errorf("signed in again: %+v", again)
	}
	if out := kept.without(away); out.tokenOf(away) != "" || out.tokenOf(home) != "one" ||
		out.Named["mainland"].Server != away || kept.tokenOf(away) != "two" {
		t.Errorf("signed out: %+v", out)
	}
	for text, want := range map[string]string{"localhost:8700": "http://localhost:8700",
		"127.0.0.1:1": "http://127.0.0.1:1", "packages.skerry.example": "https://packages.skerry.example",
		"http://a.example/": "http://a.example", "ftp://a.example": "", "http://u:p@a.example": "", "": ""} {
		if got, err := serverAddress(text); got != want || (err != nil) != (want == "") {
			t.Errorf("%q is %q, %v", text, got, err)
		}
	}
}
