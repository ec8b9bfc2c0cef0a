package cli

import (
	"encoding/json"
	"encoding/xml"
	"io"
	"maps"
	"slices"
	"strings"
)

// The parts of a log that are written (SARIF 2.1.0,
// https://docs.oasis-open.org/sarif/sarif/v2.1.0/sarif-v2.1.0.html).
type (
	sarifLog struct {
		Schema  string     `json:"$schema"`
		Version string     `json:"version"`
		Runs    []sarifRun `json:"runs"`
	}
	sarifRun struct {
		Tool    sarifTool     `json:"tool"`
		Results []sarifResult `json:"results"`
	}
	sarifTool struct {
		Driver sarifDriver `json:"driver"`
	}
	sarifDriver struct {
		Name    string      `json:"name"`
		Version string      `json:"version"`
		Rules   []sarifRule `json:"rules"`
	}
	sarifRule struct {
		ID    string    `json:"id"`
		Short sarifText `json:"shortDescription"`
	}
	sarifText   struct{ Text string } // with a tag below, since it is written in three places
	sarifResult struct {
		Rule      string          `json:"ruleId"`
		Level     string          `json:"level"`
		Message   sarifText       `json:"message"`
		Locations []sarifLocation `json:"locations"`
	}
	sarifLocation struct {
		Physical sarifPlace `json:"physicalLocation"`
	}
	sarifPlace struct {
		Artifact struct {
			URI string `json:"uri"`
		} `json:"artifactLocation"`
		Region *sarifRegion `json:"region,omitempty"`
	}
	sarifRegion struct {
		Line int `json:"startLine"`
	}
)

// MarshalJSON implements json.Marshaler.
func (t sarifText) MarshalJSON() ([]byte, error) {
	return json.Marshal(map[string]string{"text": t.Text})
}

// stateRules are the rules of a log, by the states that they are about.
var stateRules = map[string]sarifRule{
	"kept out":  {"kept-out", sarifText{"The repository keeps the version out"}},
	"awaiting":  {"awaiting", sarifText{"The version awaits a person's decision"}},
	"not there": {"not-there", sarifText{"The repository does not have the version"}},
	"not known": {"not-known", sarifText{"Nothing can be told of the version"}},
}

// told is what is said of a version that is not simply let in.
func (p checkedPackage) told() string {
	said := p.PURL + ": " + p.Why
	if p.Hint != "" {
		said += ". " + strings.TrimSuffix(p.Hint, ".")
	}
	return said
}

func writeSARIF(w io.Writer, checked []checkedFile) error {
	run := sarifRun{Tool: sarifTool{sarifDriver{Name: "Crelvo", Version: Version}}, Results: []sarifResult{}}
	for _, state := range slices.Sorted(maps.Keys(stateRules)) {
		run.Tool.Driver.Rules = append(run.Tool.Driver.Rules, stateRules[state])
	}
	for _, f := range checked {
		for _, p := range f.Packages {
			rule, tells := stateRules[p.State]
			if !tells {
				continue
			}
			result := sarifResult{Rule: rule.ID, Level: "error", Message: sarifText{p.told()}}
			if !p.bad() {
				result.Level = "note"
			}
			var at sarifLocation
			if at.Physical.Artifact.URI = f.File; p.Line > 0 {
				at.Physical.Region = &sarifRegion{p.Line}
			}
			result.Locations = append(result.Locations, at)
			run.Results = append(run.Results, result)
		}
	}
	encoder := json.NewEncoder(w)
	encoder.SetIndent("", "  ")
	return encoder.Encode(sarifLog{Schema: "https://json.schemastore.org/sarif-2.1.0.json", Version: "2.1.0",
		Runs: []sarifRun{run}})
}

// The parts of a report as CI systems read it, in the form of JUnit.
type (
	junitReport struct {
		XMLName xml.Name     `xml:"testsuites"`
		Suites  []junitSuite `xml:"testsuite"`
	}
	junitSuite struct {
		Name     string      `xml:"name,attr"`
		Tests    int         `xml:"tests,attr"`
		Failures int         `xml:"failures,attr"`
		Errors   int         `xml:"errors,attr"`
		Skipped  int         `xml:"skipped,attr"`
		Cases    []junitCase `xml:"testcase"`
	}
	junitCase struct {
		Class   string     `xml:"classname,attr"`
		Name    string     `xml:"name,attr"`
		Failure *junitSaid `xml:"failure"`
		Skipped *junitSaid `xml:"skipped"`
	}
	junitSaid struct {
		Type    string `xml:"type,attr,omitempty"`
		Message string `xml:"message,attr"`
	}
)

func writeJUnit(w io.Writer, checked []checkedFile) error {
	var report junitReport
	for _, f := range checked {
		suite := junitSuite{Name: f.File, Tests: len(f.Packages)}
		for _, p := range f.Packages {
			one := junitCase{Class: f.What, Name: p.PURL}
			switch {
			case p.bad():
				suite.Failures++
				one.Failure = &junitSaid{p.State, p.told()}
			case p.State == "not known":
				suite.Skipped++
				one.Skipped = &junitSaid{Message: p.told()}
			}
			suite.Cases = append(suite.Cases, one)
		}
		report.Suites = append(report.Suites, suite)
	}
	if _, err := io.WriteString(w, xml.Header); err != nil {
		return err
	}
	encoder := xml.NewEncoder(w)
	encoder.Indent("", "  ")
	if err := encoder.Encode(report); err != nil {
		return err
	}
	_, err := io.WriteString(w, "\n")
	return err
}
