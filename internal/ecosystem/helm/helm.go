// Package helm is Crelvo's Helm charts: a repository with an index, as helm repo add has it
// (https://helm.sh/docs/topics/chart_repository/), and the same charts as OCI artifacts
// (https://helm.sh/docs/topics/registries/). The index is made from records: what counts is
// what the Chart.yaml in the archive says.
package helm

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"strings"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/purl"
	"crelvo/internal/core/splice"
	"crelvo/internal/core/text"
	"crelvo/internal/ecosystem"
	"crelvo/internal/ecosystem/onefile"
)

// Name is the purl type.
const Name = "helm"

// The extensions of a chart's files: the archive, and the provenance beside it.
const archive, provenance = "tgz", "prov"

// Helm implements ecosystem.Ecosystem.
type Helm struct{ onefile.Kind }

// New makes the ecosystem.
func New() Helm {
	return Helm{onefile.Kind{Type: Name, Called: "Helm", Archive: "a chart, one .tgz file", Extension: archive,
		Beside: []string{provenance}, MakeIt: "Make it with helm package", Read: read,
		IsName: func(namespace, name string) bool { return namespace == "" && nameForm.MatchString(name) },
		Named: func(name, version, extension string) string {
			if extension == provenance {
				return name + "-" + version + "." + archive + "." + provenance
			}
			return name + "-" + version + "." + extension
		}}}
}

func init() {
	purl.Register(Name, purl.Rules{Snapshot: func(version string) bool { return purl.SnapshotSemver(bare(version)) },
		Compare: func(a, b string) int { return cmp.Or(purl.CompareSemver(bare(a), bare(b)), strings.Compare(a, b)) },
		Is:      func(version string) bool { return purl.IsSemver(bare(version)) }, Sample: "1.5.0", Development: "-dev.1",
		Fits: func(wanted, version string) (bool, bool) { return purl.FitsSemver(wanted, bare(version)) }})
}

// bare is a version without the v that charts may write in front.
func bare(version string) string { return strings.TrimPrefix(version, "v") }

var _ interface {
	ecosystem.Mirrored
	ecosystem.Restamping
	ecosystem.Sending
	ecosystem.Sectioned
} = Helm{}

// nameForm is a chart's name
// (https://helm.sh/docs/chart_best_practices/conventions/#chart-names), and what charts
// that are there are called besides.
var nameForm = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]{0,127}$`)

// maxChart is the longest Chart.yaml that is read, in bytes.
const maxChart = 1 << 20

// chart is what a Chart.yaml says (https://helm.sh/docs/topics/charts/#the-chartyaml-file).
type chart struct {
	APIVersion   string            `json:"apiVersion" yaml:"apiVersion"`
	Name         string            `json:"name" yaml:"name"`
	Version      string            `json:"version" yaml:"version"`
	KubeVersion  string            `json:"kubeVersion,omitempty" yaml:"kubeVersion"`
	Description  string            `json:"description,omitempty" yaml:"description"`
	Type         string            `json:"type,omitempty" yaml:"type"`
	Keywords     []string          `json:"keywords,omitempty" yaml:"keywords"`
	Home         string            `json:"home,omitempty" yaml:"home"`
	Sources      []string          `json:"sources,omitempty" yaml:"sources"`
	Dependencies []dependency      `json:"dependencies,omitempty" yaml:"dependencies"`
	Maintainers  []maintainer      `json:"maintainers,omitempty" yaml:"maintainers"`
	Icon         string            `json:"icon,omitempty" yaml:"icon"`
	AppVersion   string            `json:"appVersion,omitempty" yaml:"appVersion"`
	Deprecated   bool              `json:"deprecated,omitempty" yaml:"deprecated"`
	Annotations  map[string]string `json:"annotations,omitempty" yaml:"annotations"`
}

type dependency struct {
	Name       string   `json:"name" yaml:"name"`
	Version    string   `json:"version,omitempty" yaml:"version"`
	Repository string   `json:"repository" yaml:"repository"`
	Condition  string   `json:"condition,omitempty" yaml:"condition"`
	Tags       []string `json:"tags,omitempty" yaml:"tags"`
	Alias      string   `json:"alias,omitempty" yaml:"alias"`
}

type maintainer struct {
	Name  string `json:"name,omitempty" yaml:"name"`
	Email string `json:"email,omitempty" yaml:"email"`
	URL   string `json:"url,omitempty" yaml:"url"`
}

// nativeChart keeps the Chart.yaml of a version.
const nativeChart = "chart"

// read tells what an archive is, or of which chart provenance tells.
func read(ctx context.Context, file ecosystem.SizedReaderAt) (is purl.PURL, d catalog.Details, err error) {
	var raw []byte
	var readme *catalog.Readme
	var texts ecosystem.LicenceTexts
	if signed, err := isProvenance(file); err != nil {
		return is, d, err
	} else if signed {
		if raw, err = signedChart(file); err != nil {
			return is, d, err
		}
	} else {
		t, err := ecosystem.ReadTarball(ctx, file, "Chart.yaml", maxChart)
		if err != nil && t.Manifest == nil {
			return is, d, onefile.NotMine(err)
		}
		if t.Other != "" {
			err = cmp.Or(err, fmt.Errorf("it has two folders, %s and %s", t.Folder, t.Other))
		}
		if err != nil {
			return is, d, err
		}
		raw, readme, texts = t.Manifest, t.Readme, t.Licences
	}
	c, err := readChart(raw)
	if err != nil {
		return is, d, err
	}
	d, err = c.details()
	d.Readme, d.Licences = readme, texts.Or(d.Licences)
	return purl.PURL{Ecosystem: Name, Name: c.Name, Version: c.Version}, d, err
}

// readChart reads a Chart.yaml.
func readChart(raw []byte) (c chart, err error) {
	if err := splice.ReadYAML(raw, &c); err != nil {
		return c, fmt.Errorf("its Chart.yaml cannot be read: %w", err)
	}
	if c.APIVersion == "" {
		return c, errors.New("its Chart.yaml does not say of which form it is (apiVersion)")
	}
	return c, nil
}

// details are what is told of a version.
func (c chart) details() (d catalog.Details, err error) {
	// It is shown again as it is kept: by helm in terminals, too.
	c.Description = text.Clean(c.Description, true, text.MaxText)
	for _, line := range []*string{&c.AppVersion, &c.KubeVersion, &c.Type, &c.Home, &c.Icon} {
		*line = text.Clean(*line, false, text.MaxLine)
	}
	raw, err := json.Marshal(c)
	if err != nil {
		return d, err
	}
	d = catalog.Details{Description: c.Description, Homepage: ecosystem.WebOnly(c.Home),
		Native: map[string]json.RawMessage{nativeChart: raw}}
	for _, m := range c.Maintainers {
		who := m.Name
		if m.Email != "" {
			who = strings.TrimSpace(who + " <" + m.Email + ">")
		}
		d.Authors = append(d.Authors, who)
	}
	if len(c.Sources) > 0 {
		d.Source = ecosystem.WebOnly(c.Sources[0])
	}
	if said := cmp.Or(c.Annotations["org.opencontainers.image.licenses"], c.Annotations["licenses"]); said != "" {
		d.Licences = []catalog.Licence{{Name: said}}
	}
	if len(c.Keywords) > 0 {
		d.Native["keywords"], err = json.Marshal(c.Keywords)
	}
	for _, n := range c.Dependencies {
		if nameForm.MatchString(n.Name) {
			d.Dependencies = append(d.Dependencies, catalog.Dependency{
				PURL: purl.PURL{Ecosystem: Name, Name: n.Name}.String(), Version: n.Version, Optional: n.Condition != ""})
		}
	}
	return d, err
}

// chartOf is the Chart.yaml of a version that is known.
func chartOf(v *catalog.Version) (c chart, err error) {
	if err := json.Unmarshal(v.Details.Native[nativeChart], &c); err != nil {
		return c, errors.New("its record has no Chart.yaml")
	}
	c.Version = v.Version
	return c, nil
}

// Provenance is a clear-signed message (RFC 9580, 7) of the Chart.yaml and, after a line of
// three dots, the digests of the files (https://helm.sh/docs/topics/provenance/).
const (
	signedBegin   = "-----BEGIN PGP SIGNED MESSAGE-----"
	maxProvenance = 2 << 20
)

// isProvenance tells whether a file begins as provenance does.
func isProvenance(file ecosystem.SizedReaderAt) (bool, error) {
	if file.Size() < int64(len(signedBegin)) {
		return false, nil
	}
	head := make([]byte, len(signedBegin))
	if _, err := file.ReadAt(head, 0); err != nil {
		return false, err
	}
	return string(head) == signedBegin, nil
}

// signedChart is the Chart.yaml that provenance tells of.
func signedChart(file ecosystem.SizedReaderAt) ([]byte, error) {
	if file.Size() > maxProvenance {
		return nil, fmt.Errorf("it is longer than %d bytes", maxProvenance)
	}
	raw := make([]byte, file.Size())
	if _, err := file.ReadAt(raw, 0); err != nil {
		return nil, err
	}
	_, text, ok := bytes.Cut(bytes.ReplaceAll(raw, []byte("\r\n"), []byte("\n")), []byte("\n\n"))
	said, _, ended := bytes.Cut(text, []byte("\n...\n"))
	if !ok || !ended || !bytes.Contains(text, []byte("-----BEGIN PGP SIGNATURE-----")) {
		return nil, errors.New("it is no signed Chart.yaml with the digests of its files")
	}
	// Lines that begin with a dash are written with another in front.
	said = bytes.TrimPrefix(bytes.ReplaceAll(said, []byte("\n- -"), []byte("\n-")), []byte("- -"))
	return said, nil
}
