package web

import (
	"encoding/json"
	"maps"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
)

// notInConsole are the operations that the console leaves out on purpose, and why.
var notInConsole = map[string]string{
	"repository-changes": "mirrors that follow a repository ask for it",
	"ask-held":           "another Crelvo does it that takes packages from here",
	"take-marks":         "another Crelvo's relay does it",
	"send-held":          "another Crelvo does it that takes packages from here",
	"continue":           "it is named by a digest, which browsers compute of small files alone",
	"begin-build":        "CI does it, with its own token",
	"record-build":       "CI does it, with its own token",
	"show-store":         "the list of stores has all of it",
	"look-for-symbols":   "who debugs does it, on the command line",
	"verify-records":     "it runs every night, and status tells what came of it",
}

// TestConsoleDoesEverything: what the API can do, the console can do, or there is a
// reason why not.
func TestConsoleDoesEverything(t *testing.T) {
	raw, err := newWalker(t).server.OpenAPI()
	if err != nil {
		t.Fatal(err)
	}
	var description struct {
		Paths map[string]map[string]struct {
			OperationID string `json:"operationId"`
		} `json:"paths"`
	}
	if err := json.Unmarshal(raw, &description); err != nil {
		t.Fatal(err)
	}
	sources := map[string]string{}
	var all strings.Builder
	for _, pattern := range []string{"*.ts", "*.tsx", "*/*.ts", "*/*.tsx"} {
		files, err := filepath.Glob("../../console/src/" + pattern)
		if err != nil {
			t.Fatal(err)
		}
		for _, file := range files {
			text, err := os.ReadFile(file)
			if err != nil {
				t.Fatal(err)
			}
			if !strings.HasSuffix(file, ".gen.ts") {
				sources[strings.TrimPrefix(filepath.ToSlash(file), "../../console/src/")] = string(text)
				all.Write(text)
			}
		}
	}
	calls := map[string]bool{}
	for _, call := range regexp.MustCompile(`raw\.([A-Z]+)\(\s*"([^"]+)"`).FindAllStringSubmatch(all.String(), -1) {
		calls[call[1]+" "+call[2]] = true
	}
	calls["POST /api/v1/repositories/{name}/publish"] = strings.Contains(sources["publishing/send.ts"],
		`"/api/v1/repositories/{name}/publish"`)
	calls["GET /api/v1/events/export"] = strings.Contains(sources["rights/activity.tsx"], `"/api/v1/events/export?"`)
	calls["GET /api/v1/live"] = strings.Contains(sources["api/live.ts"], "/api/v1/live")
	if len(calls) < 50 || len(description.Paths) < 50 {
		t.Fatalf("only %d calls and %d paths were found", len(calls), len(description.Paths))
	}
	var ids []string
	for at, methods := range description.Paths {
		for method, op := range methods {
			ids = append(ids, op.OperationID)
			called := calls[strings.ToUpper(method)+" "+at]
			switch why := notInConsole[op.OperationID]; {
			case !called && why == "":
				t.Errorf("the console does not call %s (%s %s), and nothing says why", op.OperationID, method, at)
			case called && why != "":
				t.Errorf("the console calls %s; it is in the list of what it leaves out", op.OperationID)
			}
		}
	}
	for id := range notInConsole {
		if !slices.Contains(ids, id) {
			t.Errorf("there is no operation %s to leave out", id)
		}
	}
	// What can be called is called by some page.
	asked := 0
	for file, text := range sources {
		if path.Base(file) != "calls.ts" {
			continue
		}
		for _, object := range regexp.MustCompile(`(?ms)^export const (\w+) = \{\n(.*?)^\};`).
			FindAllStringSubmatch(text, -1) {
			for _, name := range regexp.MustCompile(`(?m)^  (\w+): `).FindAllStringSubmatch(object[2], -1) {
				asked++
				used := regexp.MustCompile(`\b` + object[1] + `\s*\.` + name[1] + `\b`)
				if !slices.ContainsFunc(slices.Collect(maps.Values(sources)), used.MatchString) {
					t.Errorf("no page asks %s.%s", object[1], name[1])
				}
			}
		}
	}
	if asked < 80 {
		t.Errorf("only %d calls and questions were found", asked)
	}
}
