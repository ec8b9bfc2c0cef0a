package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"crelvo/internal/demo"
	"crelvo/test/house"
)

var (
	shellBlock   = regexp.MustCompile("(?s)\n```sh\n(.*?)\n```")
	crelvoLine   = regexp.MustCompile(`^\s*(?:bin/)?crelvo `)
	documentLink = regexp.MustCompile(`\]\(([^)#:]+)(?:#[^)]*)?\)`)
	inSentence   = regexp.MustCompile("`(crelvo [a-z][^`…|<>{]*)`")
)

// documentsRun runs the commands of the README and of docs/ that only read, on the demo's
// data; of the others it sees that there are such commands and flags. Links lead
// somewhere.
func documentsRun(t *testing.T, h *house.House) {
	documents, err := filepath.Glob("../../docs/*.md")
	if err != nil || len(documents) < 5 {
		t.Fatalf("%v, %v", documents, err)
	}
	program, err := filepath.Abs("../../bin")
	if err != nil {
		t.Fatal(err)
	}
	ran, seen, sentences := 0, 0, map[string]bool{}
	there := func(line, document string) {
		t.Helper()
		cmd := exec.CommandContext(t.Context(), "sh", "-c", line)
		cmd.Env = []string{"HOME=" + t.TempDir(), "PATH=" + program + ":" + os.Getenv("PATH")}
		if out, err := cmd.CombinedOutput(); err != nil {
			t.Errorf("%s speaks of %s: %v\n%.300s", document, line, err, out)
		}
	}
	for _, document := range append(documents, "../../README.md") {
		raw, err := os.ReadFile(document)
		if err != nil {
			t.Fatal(err)
		}
		for _, link := range documentLink.FindAllStringSubmatch(string(raw), -1) {
			if _, err := os.Stat(filepath.Join(filepath.Dir(document), link[1])); err != nil {
				t.Errorf("%s leads to %s, which is not there", filepath.Base(document), link[1])
			}
		}
		text := string(raw)
		for _, named := range inSentence.FindAllStringSubmatch(text, -1) {
			if named := named[1] + " --help"; !sentences[named] {
				sentences[named] = true
				there(named, filepath.Base(document))
			}
		}
		for _, block := range shellBlock.FindAllStringSubmatch(string(raw), -1) {
			for line := range strings.SplitSeq(strings.ReplaceAll(block[1], "\\\n", " "), "\n") {
				if !crelvoLine.MatchString(line) || strings.Contains(line, "…") {
					continue
				}
				line, _, _ = strings.Cut(strings.TrimPrefix(strings.TrimSpace(line), "bin/"), "   #")
				line = strings.TrimSpace(strings.TrimPrefix(line, "bin/"))
				first, _, _ := strings.Cut(line, " | ") // what it is handed to is another program
				words := strings.Fields(first)
				reading := slices.Contains(reads, words[1]) || len(words) > 2 && slices.Contains(reads, words[2]) ||
					strings.Contains(line, "--check") || strings.Contains(line, "--dry-run")
				// Nor are there networks and files of other people.
				reading = reading && !strings.Contains(line, "https://") && !strings.Contains(line, "edited.yaml")
				if seen++; !reading {
					line = strings.SplitN(first, " > ", 2)[0] + " --help" // its flags are read first
				} else {
					ran++
				}
				cmd := exec.CommandContext(t.Context(), "sh", "-c", line)
				cmd.Dir = aProject(t)
				cmd.Env = []string{"HOME=" + cmd.Dir, "PATH=" + program + ":" + os.Getenv("PATH"), "TZ=UTC", "CRELVO_SERVER=" +
					h.Address, "CRELVO_TOKEN=" + demo.Token}
				// Whatever is not known, or is not so, has a code; 4 is a "no" of grant check, 7 that status has something to tell.
				if out, err := cmd.CombinedOutput(); err != nil &&
					!(strings.Contains(line, "--exit-code") || strings.Contains(line, "--check") || cmd.ProcessState.ExitCode() == 4) {
					t.Errorf("%s: %s: %v\n%s", filepath.Base(document), line, err, out)
				}
			}
		}
	}
	if len(sentences) < 60 {
		t.Errorf("only %d commands are spoken of", len(sentences))
	}
	if seen < 45 || ran < 15 {
		t.Errorf("only %d commands were found, and %d run", seen, ran)
	}
}
