package madeup

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"
)

// ChartYAML is the Chart.yaml of the package as a chart; Needs are charts that it depends on.
func (p Package) ChartYAML() string {
	var b strings.Builder
	fmt.Fprintf(&b, "apiVersion: v2\nname: %s\nversion: %s\n", p.Name, p.Version)
	if p.Description != "" {
		fmt.Fprintf(&b, "description: %s\n", p.Description)
	}
	fmt.Fprintf(&b, "type: application\nappVersion: %q\n", p.Version)
	if p.Homepage != "" {
		fmt.Fprintf(&b, "home: %s\n", p.Homepage)
	}
	if len(p.Keywords) > 0 {
		fmt.Fprintf(&b, "keywords: [%s]\n", strings.Join(p.Keywords, ", "))
	}
	if p.Author != "" {
		fmt.Fprintf(&b, "maintainers:\n  - name: %s\n", p.Author)
	}
	if p.Licence != "" {
		fmt.Fprintf(&b, "annotations:\n  licenses: %s\n", p.Licence)
	}
	if len(p.Needs) > 0 {
		b.WriteString("dependencies:\n")
	}
	for _, name := range slices.Sorted(maps.Keys(p.Needs)) {
		fmt.Fprintf(&b, "  - name: %s\n    version: %q\n    repository: \"\"\n", name, p.Needs[name])
	}
	return b.String()
}

// Chart is the package as a chart: without templates of its own, one that says hello.
func (p Package) Chart() []byte {
	entries := []Entry{{p.Name + "/Chart.yaml", p.ChartYAML()}, {p.Name + "/values.yaml", "replicas: 1\n" + p.Values}}
	files := p.Files
	if files == nil {
		files = []Entry{{"templates/notice.yaml", "apiVersion: v1\nkind: ConfigMap\nmetadata:\n  name: {{ .Release.Name }}-notice\n" +
			"data:\n  replicas: {{ .Values.replicas | quote }}\n  version: {{ .Chart.AppVersion | quote }}\n"}}
	}
	if p.Readme != "" {
		entries = append(entries, Entry{p.Name + "/README.md", p.Readme})
	}
	for _, e := range files {
		entries = append(entries, Entry{p.Name + "/" + e.Name, e.Content})
	}
	for _, name := range slices.Sorted(maps.Keys(p.Needs)) {
		// A chart is made with what it needs in it.
		inner := Package{Name: name, Version: strings.TrimLeft(p.Needs[name], "^~="), Description: "Needed by " + p.Name}
		entries = append(entries, Entry{p.Name + "/charts/" + name + "/Chart.yaml", inner.ChartYAML()})
	}
	return TarGz(entries...)
}

// Provenance is what helm package --sign writes beside a chart, but for the signature,
// which is none.
func (p Package) Provenance(chart []byte) []byte {
	return fmt.Appendf(nil, "-----BEGIN PGP SIGNED MESSAGE-----\nHash: SHA512\n\n%s\n...\nfiles:\n  %s-%s.tgz: %s\n"+
		"-----BEGIN PGP SIGNATURE-----\n\nwsBc\n-----END PGP SIGNATURE-----\n", p.ChartYAML(), p.Name,
		p.Version, Digest(chart))
}

// ChartImage is a chart as helm push makes an artifact of it, perhaps with provenance.
func (p Package) ChartImage(chart, provenance []byte) Image {
	config, err := json.Marshal(map[string]string{"apiVersion": "v2", "name": p.Name, "version": p.Version})
	must(err)
	const types = "application/vnd.cncf.helm."
	m := v1.Manifest{MediaType: v1.MediaTypeImageManifest, Config: descriptor(types+"config.v1+json", config),
		Layers:      []v1.Descriptor{descriptor(types+"chart.content.v1.tar+gzip", chart)},
		Annotations: map[string]string{v1.AnnotationTitle: p.Name, "example.skerry.pushed": "with care"}}
	m.SchemaVersion = 2
	blobs := map[string][]byte{Digest(config): config, Digest(chart): chart}
	if provenance != nil {
		m.Layers = append(m.Layers, descriptor(types+"chart.provenance.v1.prov", provenance))
		blobs[Digest(provenance)] = provenance
	}
	raw, err := json.Marshal(m)
	must(err)
	return Image{MediaType: m.MediaType, Manifest: raw, Blobs: blobs}
}
