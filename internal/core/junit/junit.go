// Package junit reads summaries of tests from JUnit XML, as most test runners
// write it.
package junit

import (
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strings"
)

// Summary is how many tests there were, and what became of them.
type Summary struct {
	Tests   int `json:"tests" doc:"how many ran or were skipped"`
	Failed  int `json:"failed"`
	Errors  int `json:"errors" doc:"those that ended in another way than their assertions"`
	Skipped int `json:"skipped"`
	// Names are those of failed tests, the first ones.
	Names []string `json:"names,omitempty" doc:"failed ones, the first of them"`
}

// maxNames is how many names of failed tests are kept.
const maxNames = 20

// Passed tells whether there were tests, and none of them failed.
func (s Summary) Passed() bool { return s.Tests > s.Skipped && s.Failed+s.Errors == 0 }

// Add puts two summaries together.
func (s *Summary) Add(o Summary) {
	s.Tests, s.Failed, s.Errors, s.Skipped = s.Tests+o.Tests, s.Failed+o.Failed, s.Errors+o.Errors, s.Skipped+o.Skipped
	for _, name := range o.Names {
		s.name(name)
	}
}

func (s *Summary) name(name string) {
	if len(s.Names) < maxNames {
		s.Names = append(s.Names, name)
	}
}

// Read counts the test cases of a report. The cases count, and not what suites
// say of them, which differs between runners.
func Read(r io.Reader) (Summary, error) {
	var s Summary
	decoder := xml.NewDecoder(r)
	reports, inCase, bad, skipped := false, "", "", false
	for depth := 0; ; {
		token, err := decoder.Token()
		if err == io.EOF {
			break
		}
		if err != nil {
			return Summary{}, fmt.Errorf("it is no JUnit XML: %w", err)
		}
		switch t := token.(type) {
		case xml.StartElement:
			if depth++; depth > 100 {
				return Summary{}, errors.New("its elements are nested too deep")
			}
			switch t.Name.Local {
			case "testsuites", "testsuite":
				reports = true
			case "testcase":
				inCase, bad, skipped = nameOf(t), "", false
				s.Tests++
			case "failure", "error":
				if inCase != "" && bad == "" {
					bad = t.Name.Local
				}
			case "skipped":
				skipped = inCase != ""
			}
		case xml.EndElement:
			depth--
			if t.Name.Local != "testcase" {
				continue
			}
			switch {
			case bad == "failure":
				s.Failed++
				s.name(inCase)
			case bad == "error":
				s.Errors++
				s.name(inCase)
			case skipped:
				s.Skipped++
			}
			inCase = ""
		}
	}
	if !reports {
		return Summary{}, errors.New("it is no JUnit XML: it has no <testsuite>")
	}
	return s, nil
}

func nameOf(t xml.StartElement) string {
	var class, name string
	for _, a := range t.Attr {
		switch a.Name.Local {
		case "classname":
			class = a.Value
		case "name":
			name = a.Value
		}
	}
	name = strings.Trim(class+"."+name, ".")
	if name == "" {
		return "a test without a name"
	}
	return name[:min(len(name), 200)]
}
