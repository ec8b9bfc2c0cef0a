package locked

import (
	"bytes"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strings"

	"crelvo/internal/core/purl"
)

// component is one of a CycloneDX document (https://cyclonedx.org/specification/overview/).
type component struct {
	PURL       string      `json:"purl"`
	Components []component `json:"components"`
}

func readCycloneDX(raw []byte, found *found) error {
	var bom struct {
		Format     string      `json:"bomFormat"`
		Components []component `json:"components"`
	}
	if err := json.Unmarshal(raw, &bom); err != nil {
		return err
	}
	if bom.Format != "CycloneDX" {
		return errors.New("its bomFormat is another one")
	}
	return addComponents(bom.Components, found)
}

func addComponents(all []component, found *found) error {
	for _, c := range all {
		if p, err := purl.Parse(c.PURL); err == nil {
			if err := found.addPURL(p, c.PURL); err != nil {
				return err
			}
		}
		if err := addComponents(c.Components, found); err != nil {
			return err
		}
	}
	return nil
}

// readCycloneDXML reads the same in XML (https://cyclonedx.org/docs/1.6/xml/).
func readCycloneDXML(raw []byte, found *found) error {
	tokens := xml.NewDecoder(bytes.NewReader(raw))
	var within []string
	for {
		token, err := tokens.Token()
		if err == io.EOF && within == nil {
			return errors.New("it has no element bom")
		}
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		switch t := token.(type) {
		case xml.StartElement:
			if len(within) == 0 && t.Name.Local != "bom" {
				return fmt.Errorf("its element is %.100q, not bom", t.Name.Local)
			}
			within = append(within, t.Name.Local)
		case xml.EndElement:
			within = within[:len(within)-1]
		case xml.CharData:
			n := len(within)
			if n < 3 || within[n-1] != "purl" || within[n-2] != "component" || within[n-3] != "components" {
				continue
			}
			text := strings.TrimSpace(string(t))
			if p, err := purl.Parse(text); err == nil {
				if err := found.addPURL(p, text); err != nil {
					return err
				}
			}
		}
	}
}

// spdxTags and spdxReference are lines of a document of SPDX 2 as tags and values (SPDX specification 2.3,
// 6.1 and 7.21).
var (
	spdxTags      = regexp.MustCompile(`(?m)^SPDXVersion:\s*SPDX-2`)
	spdxReference = regexp.MustCompile(`(?m)^ExternalRef:\s*PACKAGE[-_]MANAGER\s+purl\s+(\S+)`)
)

func readSPDXTags(raw []byte, found *found) error {
	if !spdxTags.Match(raw) {
		return errors.New("its SPDXVersion is none of SPDX 2")
	}
	for _, m := range spdxReference.FindAllSubmatch(raw, most+1) {
		if p, err := purl.Parse(string(m[1])); err == nil {
			if err := found.addPURL(p, string(m[1])); err != nil {
				return err
			}
		}
	}
	return nil
}

// readSPDX reads a document of SPDX 2 in JSON (SPDX specification 2.3, 7.21: external references
// of the type purl).
func readSPDX(raw []byte, found *found) error {
	var document struct {
		Version  string `json:"spdxVersion"`
		Packages []struct {
			References []struct {
				Type    string `json:"referenceType"`
				Locator string `json:"referenceLocator"`
			} `json:"externalRefs"`
		} `json:"packages"`
	}
	if err := json.Unmarshal(raw, &document); err != nil {
		return err
	}
	if !strings.HasPrefix(document.Version, "SPDX-2") {
		return errors.New("its spdxVersion is none of SPDX 2")
	}
	for _, p := range document.Packages {
		for _, r := range p.References {
			if r.Type != "purl" {
				continue
			}
			if of, err := purl.Parse(r.Locator); err == nil {
				if err := found.addPURL(of, r.Locator); err != nil {
					return err
				}
			}
		}
	}
	return nil
}
