package pypi

import (
	"archive/zip"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
)

// fileFacts is what Native keeps of a file, by its name.
type fileFacts struct {
	RequiresPython string `json:"requiresPython,omitempty"`
	// Metadata is the SHA-256 of the core metadata in a wheel, in hexadecimal.
	Metadata string `json:"metadata,omitempty"`
	// Yanked is why an upstream withdrew this file; nil if it did not (PEP 592).
	Yanked *string `json:"yanked,omitempty"`
	// Provenance is the address of what an upstream has about where it was built (PEP 740).
	Provenance string `json:"provenance,omitempty"`
}

// readMetadata finds the core metadata in a distribution; nil if an old source
// distribution has none.
func readMetadata(ctx context.Context, p ecosystem.Place, file ecosystem.SizedReaderAt) ([]byte, error) {
	switch p.Extension {
	case wheel:
		entry, err := wheelEntry(ctx, p, file)
		if err != nil {
			return nil, err
		}
		return ecosystem.ReadZipEntry(ctx, entry, maxMetadata)
	case zipped:
		archive, err := ecosystem.OpenZip(ctx, file)
		if err != nil {
			return nil, err
		}
		for _, entry := range archive.File {
			if isPackageInfo(entry.Name) {
				return ecosystem.ReadZipEntry(ctx, entry, maxMetadata)
			}
		}
		return nil, nil
	}
	var raw []byte
	walk := ecosystem.WalkTarGz
	if p.Extension == bzipped {
		walk = ecosystem.WalkTarBz2
	}
	err := walk(ctx, file, func(name string, _ int64, r io.Reader) error {
		if raw != nil || !isPackageInfo(name) {
			return nil
		}
		var err error
		raw, err = ecosystem.ReadAtMost(r, maxMetadata)
		return err
	})
	if raw != nil && errors.Is(err, ecosystem.ErrUnseen) {
		err = nil // the rest is read when it arrives
	}
	return raw, err
}

func isPackageInfo(name string) bool {
	ok, err := path.Match("*/PKG-INFO", path.Clean(name))
	return err == nil && ok
}

// wheelEntry finds METADATA in the .dist-info folder of a wheel's own name.
func wheelEntry(ctx context.Context, p ecosystem.Place, file ecosystem.SizedReaderAt) (*zip.File, error) {
	archive, err := ecosystem.OpenZip(ctx, file)
	if err != nil {
		return nil, err
	}
	for _, entry := range archive.File {
		folder, ok := strings.CutSuffix(entry.Name, ".dist-info/METADATA")
		if !ok || strings.Contains(folder, "/") {
			continue
		}
		name, version, _ := strings.Cut(folder, "-")
		if purl.NormalName(Name, name) == p.Name && purl.NormalVersion(Name,
			strings.ReplaceAll(version, "_", "-")) == p.Version {
			return entry, nil
		}
	}
	return nil, fmt.Errorf("it has no %s-%s.dist-info/METADATA", strings.ReplaceAll(p.Name, "-", "_"), p.Version)
}

// licenceTexts are the texts of licences in a wheel, which stand beside its metadata (PEP 639 has
// them in a folder of their own).
func licenceTexts(ctx context.Context, file ecosystem.SizedReaderAt) *ecosystem.LicenceTexts {
	texts := new(ecosystem.LicenceTexts)
	archive, err := ecosystem.OpenZip(ctx, file)
	if err != nil {
		return texts
	}
	texts.ReadZip(ctx, archive, func(name string) bool {
		folder, base := path.Split(name)
		folder = strings.TrimSuffix(folder, "/")
		return ecosystem.IsLicenceFile(base) && !strings.Contains(strings.TrimSuffix(folder, "/licenses"), "/") &&
			strings.HasSuffix(strings.TrimSuffix(folder, "/licenses"), ".dist-info")
	})
	return texts
}

// Inspect implements ecosystem.Ecosystem.
func (PyPI) Inspect(ctx context.Context, place ecosystem.Place, file ecosystem.SizedReaderAt) (catalog.Details, error) {
	if !isDistribution(place.Extension) {
		return catalog.Details{}, nil
	}
	wrong := func(err error) (catalog.Details, error) {
		return catalog.Details{}, fault.New(fault.Invalid, "bad-distribution", "%s is no Python distribution: %v",
			place.FileName, err).
			WithHint("Make it with python -m build; the file may have been cut.")
	}
	raw, err := readMetadata(ctx, place, file)
	if err != nil {
		return wrong(err)
	}
	var facts fileFacts
	var d catalog.Details
	if raw != nil {
		m, err := parseMetadata(raw)
		if err != nil {
			return wrong(errors.New("its metadata cannot be read: " + err.Error()))
		}
		if purl.NormalName(Name, m.get("name")) != place.Name || purl.NormalVersion(Name, m.get("version")) != place.Version {
			return catalog.Details{}, fault.New(fault.Invalid, "metadata-disagrees", "the metadata in %s says %s %s",
				place.FileName, m.get("name"), m.get("version")).WithHint("Build it anew; files must not be renamed.")
		}
		d = m.details()
		if place.Extension == wheel && len(d.Licences) == 0 {
			d.Licences = licenceTexts(ctx, file).Or(nil)
		}
		facts.RequiresPython = m.get("requires-python")
		if place.Extension == wheel {
			sum := sha256.Sum256(raw)
			facts.Metadata = hex.EncodeToString(sum[:])
		}
	}
	return withFacts(d, place.FileName, facts), nil
}

func withFacts(d catalog.Details, file string, facts fileFacts) catalog.Details {
	raw, err := json.Marshal(facts)
	if err != nil {
		panic(err) // strings can be written
	}
	if d.Native == nil {
		d.Native = map[string]json.RawMessage{}
	}
	d.Native[file] = raw
	return d
}

func factsOf(v *catalog.Version, file string) (facts fileFacts) {
	raw := v.Details.Native[file]
	if raw == nil || bytes.Equal(raw, []byte("{}")) {
		return facts
	}
	_ = json.Unmarshal(raw, &facts) // what cannot be read tells nothing
	return facts
}

// Whole implements ecosystem.Ecosystem. Each file is complete by itself.
func (PyPI) Whole(_ catalog.Details, files []catalog.File) bool {
	for _, f := range files {
		if isDistribution(f.Extension) {
			return true
		}
	}
	return false
}
