package cli

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// TestDeployedSettings: what the files that it is deployed by set is a setting.
func TestDeployedSettings(t *testing.T) {
	command := serveCommand()
	forms := []*regexp.Regexp{
		regexp.MustCompile(`(?m)^\s+- --([a-z-]+)=`),     // what containers are started with
		regexp.MustCompile(`(?m)^#?([a-z-]+): \S`),       // the file with settings
		regexp.MustCompile(`\bCRELVO_([A-Z_]+)(?:: |=)`), // the environment
	}
	given := map[string]bool{"crelvo-image": true, "admin-password": true, "admin-token": true, "image": true}
	seen := 0
	for file, wanted := range map[string][]int{"compose.yaml": {0, 2}, "kubernetes/crelvo.yaml": {0, 2},
		"systemd/crelvo.yaml": {1}} {
		text, err := os.ReadFile(filepath.Join("../../deploy", file))
		if err != nil {
			t.Fatal(err)
		}
		for _, form := range wanted {
			for _, found := range forms[form].FindAllStringSubmatch(string(text), -1) {
				name := strings.ReplaceAll(strings.ToLower(found[1]), "_", "-")
				if seen++; command.Flags().Lookup(name) == nil && !given[name] {
					t.Errorf("%s sets %s, which is no setting", file, name)
				}
			}
		}
	}
	if seen < 20 {
		t.Errorf("only %d settings are set", seen)
	}
}
