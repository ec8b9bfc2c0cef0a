package cli

import (
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"crelvo/internal/api"
	"crelvo/internal/core/junit"
)

var checkedOnce = []checkedFile{{File: "app/package-lock.json", What: "npm's lock file", Packages: []checkedPackage{
	{api.CheckedVersion{PURL: "pkg:npm/a@1", State: "let in"}, 3},
	{api.CheckedVersion{PURL: "pkg:npm/b@1", State: "kept out", Why: `its licence is "X"`, Hint: "Take another."}, 7},
	{api.CheckedVersion{PURL: "pkg:npm/c@1", State: "awaiting", Why: "nobody has decided"}, 0},
	{api.CheckedVersion{PURL: "pkg:golang/d@1", State: "not known", Why: "it is not known"}, 9}}}}

// TestWriteSARIF has a result for whatever is not let in, at its line if that is known.
func TestWriteSARIF(t *testing.T) {
	var b bytes.Buffer
	if err := writeSARIF(&b, checkedOnce); err != nil {
		t.Fatal(err)
	}
	var log struct {
		Version string
		Runs    []struct {
			Tool struct {
				Driver struct{ Rules []struct{ ID string } }
			}
			Results []struct {
				RuleID, Level string
				Message       struct{ Text string }
				Locations     []struct {
					PhysicalLocation struct {
						ArtifactLocation struct{ URI string }
						Region           *struct{ StartLine int }
					}
				}
			}
		}
	}
	if err := json.Unmarshal(b.Bytes(), &log); err != nil || log.Version != "2.1.0" || len(log.Runs) != 1 {
		t.Fatalf("%v: %s", err, b.String())
	}
	run := log.Runs[0]
	var said []string
	for _, r := range run.Results {
		at := r.Locations[0].PhysicalLocation
		line := "no line"
		if at.Region != nil {
			line = strings.Repeat("|", at.Region.StartLine)
		}
		said = append(said, r.RuleID+" "+r.Level+" "+at.ArtifactLocation.URI+" "+line+" "+r.Message.Text)
	}
	want := []string{`kept-out error app/package-lock.json ||||||| pkg:npm/b@1: its licence is "X". Take another`,
		"awaiting error app/package-lock.json no line pkg:npm/c@1: nobody has decided",
		"not-known note app/package-lock.json ||||||||| pkg:golang/d@1: it is not known"}
	if strings.Join(said, "\n") != strings.Join(want, "\n") || len(run.Tool.Driver.Rules) != len(stateRules) {
		t.Errorf("the results are\n%s", strings.Join(said, "\n"))
	}
}

// TestWriteJUnit has a case for each version, which fails if a build would.
func TestWriteJUnit(t *testing.T) {
	var b bytes.Buffer
	if err := writeJUnit(&b, checkedOnce); err != nil {
		t.Fatal(err)
	}
	summary, err := junit.Read(&b)
	if err != nil || summary.Tests != 4 || summary.Failed != 2 || summary.Skipped != 1 {
		t.Errorf("%+v, %v", summary, err)
	}
}

// TestLockedFiles reads files by their names, and folders without what was installed in them.
func TestLockedFiles(t *testing.T) {
	dir := t.TempDir()
	for name, content := range map[string]string{"a/requirements.txt": "kelp==1.0\nkelp==1.0\n",
		"a/node_modules/x/yarn.lock": "not read", "a/b/Pipfile.lock": `{"default": {"wrack": {"version": "==2.0"}}}`,
		"a/notes.txt": "not read", "c/notes.txt": "", "d/yarn.lock": "none"} {
		path := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(content), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	files, err := lockedFiles([]string{dir + "/a", dir + "/a/requirements.txt"})
	if err != nil {
		t.Fatal(err)
	}
	var said []string
	for _, f := range files {
		for _, p := range f.Packages {
			said = append(said, filepath.Base(f.File)+" "+p.PURL)
		}
	}
	if strings.Join(said, ", ") != "Pipfile.lock pkg:pypi/wrack@2.0, requirements.txt pkg:pypi/kelp@1.0, "+
		"requirements.txt pkg:pypi/kelp@1.0" {
		t.Errorf("%q", said)
	}
	for path, says := range map[string]string{dir + "/c": "has none of the files", dir + "/c/notes.txt": "none of the files that are known",
		dir + "/d": "cannot be read as Yarn's", dir + "/nowhere": "no such file"} {
		if _, err := lockedFiles([]string{path}); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v", path, err)
		}
	}
}
