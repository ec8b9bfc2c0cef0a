package safety

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"crelvo/internal/core/purl"
	"crelvo/internal/core/text"
)

// Statement says whether a vulnerability is one of some packages, as exchanges of
// exploitability do (VEX).
type Statement struct {
	Advisory string
	Products []string // package URLs; a version may be left out
	// Parts: it is about a part of the products only, in these.
	Parts  bool
	Status Status
	// Justification is why they are not affected, as OpenVEX says it; "" if that is not said.
	Justification string
	Text          string // for people
}

// Status is what a statement says.
type Status string

// The statuses, as OpenVEX names them.
const (
	StatusNotAffected  Status = "not_affected"
	StatusFixed        Status = "fixed"
	StatusAffected     Status = "affected"
	StatusInvestigated Status = "under_investigation"
)

// Justifications are why something is not affected, as OpenVEX names them
// (https://github.com/openvex/spec/blob/main/OPENVEX-SPEC.md), each with what CycloneDX calls it
// (https://cyclonedx.org/docs/1.6/json/#vulnerabilities_items_analysis_justification).
var Justifications = [][2]string{{"component_not_present", "code_not_present"},
	{"vulnerable_code_not_present", "code_not_present"}, {"vulnerable_code_not_in_execute_path", "code_not_reachable"},
	{"vulnerable_code_cannot_be_controlled_by_adversary", "requires_environment"},
	{"inline_mitigations_already_exist", "protected_by_mitigating_control"}}

// openVEX and its parts are a document of OpenVEX 0.2.0.
type openVEX struct {
	Context    string             `json:"@context"`
	ID         string             `json:"@id"`
	Author     string             `json:"author"`
	Timestamp  time.Time          `json:"timestamp"`
	Version    int                `json:"version"`
	Statements []openVEXStatement `json:"statements"`
}

type openVEXStatement struct {
	Vulnerability struct {
		Name string `json:"name"`
	} `json:"vulnerability"`
	Products      []openVEXProduct `json:"products"`
	Status        Status           `json:"status"`
	Justification string           `json:"justification,omitempty"`
	Impact        string           `json:"impact_statement,omitempty"`
	Action        string           `json:"action_statement,omitempty"`
}

type openVEXProduct struct {
	ID          string            `json:"@id"`
	Identifiers map[string]string `json:"identifiers,omitempty"`
	Parts       []json.RawMessage `json:"subcomponents,omitempty"`
}

// openVEXContext is by what a document is known to be one.
const openVEXContext = "https://openvex.dev/ns"

// cycloneVEX and its parts are the vulnerabilities of a CycloneDX document.
type cycloneVEX struct {
	Format          string                 `json:"bomFormat"`
	SpecVersion     string                 `json:"specVersion"`
	Version         int                    `json:"version"`
	Metadata        *cycloneMetadata       `json:"metadata,omitempty"`
	Components      []cycloneComponent     `json:"components,omitempty"`
	Vulnerabilities []cycloneVulnerability `json:"vulnerabilities"`
}

type cycloneMetadata struct {
	Timestamp time.Time `json:"timestamp"`
}

type cycloneComponent struct {
	Type       string             `json:"type"`
	Ref        string             `json:"bom-ref,omitempty"`
	Name       string             `json:"name"`
	Version    string             `json:"version,omitempty"`
	PURL       string             `json:"purl,omitempty"`
	Components []cycloneComponent `json:"components,omitempty"`
}

type cycloneVulnerability struct {
	ID       string          `json:"id"`
	Analysis cycloneAnalysis `json:"analysis"`
	Affects  []cycloneRef    `json:"affects"`
}

type cycloneAnalysis struct {
	State         string   `json:"state"`
	Justification string   `json:"justification,omitempty"`
	Response      []string `json:"response,omitempty"`
	Detail        string   `json:"detail,omitempty"`
}

type cycloneRef struct {
	Ref string `json:"ref"`
}

// The bounds of what statements say, in bytes.
const (
	longestVulnerability = 200
	longestStatement     = 1900
)

// ParseVEX reads a document in the OpenVEX or CycloneDX format.
func ParseVEX(raw []byte) ([]Statement, error) {
	all, err := parseVEX(raw)
	for i := range all {
		all[i].Advisory = text.Clean(all[i].Advisory, false, longestVulnerability)
		all[i].Text = text.Clean(all[i].Text, false, longestStatement)
	}
	return all, err
}

func parseVEX(raw []byte) ([]Statement, error) {
	var known struct {
		Context string `json:"@context"`
		Format  string `json:"bomFormat"`
	}
	if err := json.Unmarshal(raw, &known); err != nil {
		return nil, fmt.Errorf("it cannot be read: %w", err)
	}
	switch {
	case strings.HasPrefix(known.Context, openVEXContext):
		return parseOpenVEX(raw)
	case known.Format == "CycloneDX":
		return parseCycloneVEX(raw)
	}
	return nil, errors.New("it is neither a document of OpenVEX nor one of CycloneDX")
}

func parseOpenVEX(raw []byte) (all []Statement, err error) {
	var d openVEX
	if err := json.Unmarshal(raw, &d); err != nil {
		return nil, fmt.Errorf("it cannot be read: %w", err)
	}
	for _, s := range d.Statements {
		one := Statement{Advisory: s.Vulnerability.Name, Status: s.Status, Justification: s.Justification, Text: s.Impact}
		if one.Text == "" {
			one.Text = s.Action
		}
		for _, p := range s.Products {
			one.Parts = one.Parts || len(p.Parts) > 0
			id := p.Identifiers["purl"]
			if id == "" {
				id = p.ID
			}
			one.Products = append(one.Products, id)
		}
		all = append(all, one)
	}
	return all, nil
}

func parseCycloneVEX(raw []byte) (all []Statement, err error) {
	var d cycloneVEX
	if err := json.Unmarshal(raw, &d); err != nil {
		return nil, fmt.Errorf("it cannot be read: %w", err)
	}
	byRef := map[string]string{}
	var note func(all []cycloneComponent)
	note = func(all []cycloneComponent) {
		for _, c := range all {
			if c.Ref != "" && c.PURL != "" {
				byRef[c.Ref] = c.PURL
			}
			note(c.Components)
		}
	}
	note(d.Components)
	for _, v := range d.Vulnerabilities {
		one := Statement{Advisory: v.ID, Text: v.Analysis.Detail}
		switch v.Analysis.State {
		case "not_affected", "false_positive":
			one.Status = StatusNotAffected
		case "resolved", "resolved_with_pedigree":
			one.Status = StatusFixed
		case "exploitable":
			one.Status = StatusAffected
		default:
			one.Status = StatusInvestigated
		}
		if i := slices.IndexFunc(Justifications, func(j [2]string) bool {
			return j[1] == v.Analysis.Justification
		}); i >= 0 && v.Analysis.Justification != "" {
			one.Justification = Justifications[i][0]
		}
		for _, a := range v.Affects {
			id := a.Ref
			if of := byRef[a.Ref]; of != "" {
				id = of
			}
			one.Products = append(one.Products, id)
		}
		all = append(all, one)
	}
	return all, nil
}

// Accepts gives the patterns that a statement accepts its advisory for; why is why it does not.
func (s Statement) Accepts() (patterns []purl.Pattern, why string) {
	switch {
	case s.Advisory == "":
		return nil, "it names no vulnerability"
	case s.Status != StatusNotAffected && s.Status != StatusFixed:
		return nil, "it says " + string(s.Status)
	case s.Parts:
		return nil, "it is about a part of a product, in that product only"
	case len(s.Products) == 0:
		return nil, "it names no product"
	}
	for _, product := range s.Products {
		p, err := purl.Parse(product)
		if err != nil {
			return nil, fmt.Sprintf("%.100q is no package URL", product)
		}
		p.Qualifiers = nil
		pattern, err := purl.ParsePattern(p.Typed())
		if err != nil || strings.Contains(product, "*") {
			return nil, fmt.Sprintf("%.100q is no package URL", product)
		}
		patterns = append(patterns, pattern)
	}
	return patterns, ""
}

// StatementOf is what a waiver says: that it is not affected, if it says why as statements do,
// else that it is and that this is accepted. ok is false if it is about more than one package or
// a range, which statements cannot name.
func StatementOf(w Waiver, justification string) (s Statement, ok bool) {
	if _, named := w.Pattern.Exact(); !named || w.Pattern.Ranged() || strings.Contains(w.Pattern.String(), "*") {
		return s, false
	}
	s = Statement{Advisory: w.Advisory, Products: []string{w.Pattern.String()}, Status: StatusAffected, Text: w.Reason}
	if justification != "" {
		s.Status, s.Justification = StatusNotAffected, justification
	}
	if !w.Until.IsZero() {
		s.Text += " (until " + day(w.Until) + ")"
	}
	return s, true
}

// OpenVEX writes statements as a document of OpenVEX.
func OpenVEX(all []Statement, id, author string, at time.Time) ([]byte, error) {
	d := openVEX{Context: openVEXContext + "/v0.2.0", ID: id, Author: author, Timestamp: at, Version: 1,
		Statements: []openVEXStatement{}}
	for _, s := range all {
		one := openVEXStatement{Status: s.Status, Justification: s.Justification, Impact: s.Text}
		if one.Vulnerability.Name = s.Advisory; s.Status == StatusAffected {
			one.Impact, one.Action = "", "It is accepted: "+s.Text
		}
		for _, p := range s.Products {
			one.Products = append(one.Products, openVEXProduct{ID: p})
		}
		d.Statements = append(d.Statements, one)
	}
	return json.MarshalIndent(d, "", "  ")
}

// CycloneVEX writes statements as a document of CycloneDX 1.6.
func CycloneVEX(all []Statement, at time.Time) ([]byte, error) {
	d := cycloneVEX{Format: "CycloneDX", SpecVersion: "1.6", Version: 1, Metadata: &cycloneMetadata{at},
		Vulnerabilities: []cycloneVulnerability{}}
	known := map[string]bool{}
	for _, s := range all {
		v := cycloneVulnerability{ID: s.Advisory, Analysis: cycloneAnalysis{State: "exploitable", Detail: s.Text,
			Response: []string{"will_not_fix"}}}
		if s.Status == StatusNotAffected {
			v.Analysis.State, v.Analysis.Response = "not_affected", nil
			for _, j := range Justifications {
				if j[0] == s.Justification {
					v.Analysis.Justification = j[1]
				}
			}
		}
		for _, product := range s.Products {
			v.Affects = append(v.Affects, cycloneRef{product})
			if !known[product] {
				known[product] = true
				p, err := purl.Parse(product)
				if err != nil {
					return nil, err
				}
				d.Components = append(d.Components, cycloneComponent{Type: "library", Ref: product, Name: p.Name,
					Version: p.Version, PURL: p.String()})
			}
		}
		d.Vulnerabilities = append(d.Vulnerabilities, v)
	}
	return json.MarshalIndent(d, "", "  ")
}
