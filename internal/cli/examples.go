package cli

import (
	"strings"

	"github.com/spf13/cobra"
)

// examples are those of commands that need no more than a name, by their paths. All
// of them are about what the demo has.
var examples = map[string]string{
	"build attach":      "  crelvo build attach 'berth-planner#118' provenance.json",
	"build list":        "  crelvo build list\n  crelvo build list berth",
	"build names":       "  crelvo build names",
	"build show":        "  crelvo build show 'berth-planner#118'",
	"target list":       "  crelvo target list",
	"target remove":     "  crelvo target remove public-maven",
	"grant list":        "  crelvo grant list\n  crelvo grant list --to team:berth-crew",
	"grant remove":      "  crelvo grant remove 7",
	"key list":          "  crelvo key list",
	"key remove":        "  crelvo key remove ferry-release",
	"key show":          "  crelvo key show ferry-release",
	"mirror prefetch":   "  crelvo mirror prefetch shore-maven",
	"mirror runs":       "  crelvo mirror runs shore-maven",
	"mirror show":       "  crelvo mirror show shore-maven",
	"policy list":       "  crelvo policy list",
	"policy pause":      "  crelvo policy pause sea-trials",
	"policy remove":     "  crelvo policy remove sea-trials",
	"policy resume":     "  crelvo policy resume sea-trials",
	"policy show":       "  crelvo policy show sea-trials\n  crelvo policy show sea-trials > sea-trials.yaml",
	"promotion approve": "  crelvo promotion approve 12 --comment 'the sea trial went well'",
	"promotion cancel":  "  crelvo promotion cancel 12 --reason 'a newer one comes'",
	"promotion refuse":  "  crelvo promotion refuse 12 --comment 'the sea trial failed'",
	"promotion send":    "  crelvo promotion send 12",
	"promotion show":    "  crelvo promotion show 1\n  crelvo promotion show 1 --files",
	"promotion undo":    "  crelvo promotion undo 12 --reason 'it leaks'",
	"reclaim":           "  crelvo reclaim",
	"repo list":         "  crelvo repo list\n  crelvo repo list -o json",
	"repo remove":       "  crelvo repo remove crew-tools --with-contents",
	"repo show":         "  crelvo repo show platform",
	"serve": "  crelvo serve --data /var/lib/crelvo\n" +
		"  crelvo serve --listen 0.0.0.0:8700 --public-url https://packages.skerry.example",
	"space":          "  crelvo space",
	"sweep list":     "  crelvo sweep list\n  crelvo sweep list --policy sea-trials",
	"sweep show":     "  crelvo sweep show 1",
	"sweep stop":     "  crelvo sweep stop 2",
	"team list":      "  crelvo team list",
	"team remove":    "  crelvo team remove berth-crew",
	"token list":     "  crelvo token list\n  crelvo token list --for ci-berth",
	"track list":     "  crelvo track list",
	"track edit":     "  crelvo track edit ferry --into releases --gate 'approved 1 by crew-office'",
	"track remove":   "  crelvo track remove ferry",
	"track show":     "  crelvo track show ferry",
	"user block":     "  crelvo user block deckhand",
	"user edit":      "  crelvo user edit deckhand --description 'developer, berths'",
	"user list":      "  crelvo user list",
	"user password":  "  crelvo user password\n  crelvo user password deckhand",
	"user remove":    "  crelvo user remove deckhand",
	"user sign-out":  "  crelvo user sign-out deckhand --tokens",
	"user unblock":   "  crelvo user unblock deckhand",
	"verify":         "  crelvo verify --records",
	"whoami":         "  crelvo whoami",
	"claim list":     "  crelvo claim list\n  crelvo claim list --in platform",
	"demo":           "  crelvo demo\n  crelvo demo --listen 127.0.0.1:8710",
	"demo upstream":  "  crelvo demo upstream",
	"demo fault":     "  crelvo demo fault slow --at http://127.0.0.1:40141",
	"events export":  "  crelvo events export --since 30d > events.jsonl",
	"build remove":   "  crelvo build remove 'berth-planner#118'",
	"build give":     "  crelvo build give berth-planner ci-berth",
	"key add":        "  crelvo key add openshore openshore.asc\n  crelvo key add ferry-release --sign",
	"repo arrivals":  "  crelvo repo arrivals releases --since 7d",
	"sweep undo":     "  crelvo sweep undo 1\n  crelvo sweep undo 1 'pkg:npm/@skerry/*'",
	"sweep run":      "  crelvo sweep run development-builds --dry-run",
	"sweep plan":     "  crelvo sweep plan development-builds",
	"build begin":    "  crelvo build begin 'berth-planner#119'",
	"mirror forget":  "  crelvo mirror forget pkg:maven/org.openshore/brine-http@2.1.0 --in shore-maven",
	"promotion list": "  crelvo promotion list --state done --limit 4",
	"withdraw":       "  crelvo withdraw pkg:pypi/tidecast@0.6.0 --in releases --reason 'wrong by an hour in summer'",
}

// addExamples gives the commands their examples that do not have any themselves.
func addExamples(c *cobra.Command) {
	for _, child := range c.Commands() {
		addExamples(child)
	}
	if text, ok := examples[strings.TrimPrefix(c.CommandPath(), "crelvo ")]; ok && c.Example == "" {
		c.Example = text
	}
}
