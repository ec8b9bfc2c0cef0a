package demo

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"time"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"crelvo/internal/ecosystem/madeup"
)

// platforms are those that images of the house are made for.
var platforms = []string{"linux/amd64", "linux/arm64"}

// shipped are the modules of the berth build that come as images too.
var shipped = []module{modules[1], modules[2]}

// image is a module as images for all platforms, upon the base that all use; the index is
// the last.
func (m module) image(version string) (all []madeup.Image) {
	p := madeup.Package{Name: m.name, Version: version, Description: m.description, Licence: m.licence,
		Author: m.maker.name, Homepage: m.maker.site + "/" + m.name,
		Files: []madeup.Entry{{Name: "etc/" + m.name + "/berths.conf", Content: noise(m.name, 400)}}}
	for _, platform := range platforms {
		base := minimal("1.1.0").Image(platform, nil)
		all = append(all, p.Image(platform, &base))
	}
	return append(all, p.Index(all...))
}

// minimal is the third-party image that those of the house are built upon.
func minimal(version string) madeup.Package {
	return madeup.Package{Name: "minimal", Version: version, Description: "As little as a program needs", Licence: "MIT",
		Author: "Open Shore", Homepage: "https://openshore.example/minimal",
		Files: []madeup.Entry{{Name: "etc/os-release", Content: "NAME=minimal\nVERSION=" + version + "\n"},
			{Name: "usr/lib/libshore.so", Content: noise("shore "+version, 3000)}}}
}

// noise is content that cannot be made much smaller: so many lines of 64 digits.
func noise(of string, lines int) string {
	var b strings.Builder
	for range lines {
		of = fmt.Sprintf("%x", sha256.Sum256([]byte(of)))
		b.WriteString(of)
	}
	return b.String()
}

// ship pushes the images of a run, and the chart that runs them, as CI does.
func (y *yard) ship(ctx context.Context, version string, run int, at time.Time) error {
	y.clock.set(at)
	for _, m := range shipped {
		tag := semver(version, run)
		images := m.image(tag)
		for i, image := range images {
			reference := madeup.Digest(image.Manifest)
			if i == len(images)-1 {
				reference = tag
			}
			if err := y.push(ctx, "ci-berth", "snapshots/"+m.name, image, reference); err != nil {
				return err
			}
		}
		// What came last is where everybody finds it.
		if err := y.push(ctx, "ci-berth", "snapshots/"+m.name, images[len(images)-1], "main"); err != nil {
			return err
		}
	}
	chart := gangway(semver(version, run))
	return y.put(ctx, "ci-berth", "/at/snapshots/helm/"+chart.Name+"-"+chart.Version+".tgz", chart.Chart())
}

// gangway is the chart with which the house runs its images, and a third-party one.
func gangway(version string) madeup.Package {
	return madeup.Package{Name: "gangway", Version: version, Description: "Runs the berth planner and the fare engine",
		Licence: "Apache-2.0", Author: "The Skerry Line berth team", Homepage: "https://skerry.example/gangway",
		Keywords: []string{"berths", "fares"}, Needs: map[string]string{"tide-gauge": "2.1.0"},
		Values: "planner:\n  image: packages.skerry.example/platform/berth-planner:" + version + "\n" +
			"fares:\n  image: packages.skerry.example/platform/fare-engine:" + version + "\n",
		Readme: "# gangway\n\nRuns the **berth planner** and the **fare engine**, with a tide gauge beside them.\n"}
}

// push pushes one image.
func (y *yard) push(ctx context.Context, who, to string, i madeup.Image, reference string) error {
	for sum, content := range i.Blobs {
		if err := y.ask(ctx, http.MethodPost, who, "/v2/"+to+"/blobs/uploads/?digest="+url.QueryEscape(sum),
			content); err != nil {
			return err
		}
	}
	return y.askWith(ctx, http.MethodPut, who, "/v2/"+to+"/manifests/"+reference, i.Manifest, i.MediaType)
}

// note attaches an SBOM to an image, as scanners do.
func (y *yard) note(ctx context.Context, to string, m module, version, tag string) error {
	images := m.image(version)
	inside := func(p string) string {
		return fmt.Sprintf(`{"name":%q,"externalRefs":[{"referenceCategory":"PACKAGE-MANAGER","referenceType":"purl",
			"referenceLocator":%q}]}`, p, p)
	}
	sbom := fmt.Appendf(nil, `{"spdxVersion":"SPDX-2.3","name":"%s","packages":[%s,%s]}`, m.name+":"+tag,
		inside("pkg:npm/minimal@1.1.0"), inside("pkg:maven/org.openshore/brine-http@2.0.0"))
	about := images[len(images)-1].Referrer("application/spdx+json", "application/spdx+json", sbom)
	return y.push(ctx, "ci-berth", to, about, madeup.Digest(about.Manifest))
}

// pull pulls an image for the first of the platforms.
func (y *yard) pull(ctx context.Context, who, repository, image, tag string) error {
	at := "/v2/" + repository + "/" + image
	raw, err := y.read(ctx, who, at+"/manifests/"+tag)
	if err != nil {
		return err
	}
	var index v1.Index
	if err := json.Unmarshal(raw, &index); err != nil || len(index.Manifests) == 0 {
		return fmt.Errorf("the demo pulled no index as %s:%s: %w", image, tag, err)
	}
	if raw, err = y.read(ctx, who, at+"/manifests/"+string(index.Manifests[0].Digest)); err != nil {
		return err
	}
	var m v1.Manifest
	if err := json.Unmarshal(raw, &m); err != nil {
		return err
	}
	for _, d := range append(m.Layers, m.Config) {
		if err := y.get(ctx, who, at+"/blobs/"+string(d.Digest)); err != nil {
			return err
		}
	}
	return nil
}

// read is get, and gives what came.
func (y *yard) read(ctx context.Context, who, path string) ([]byte, error) {
	var b bytes.Buffer
	err := y.fetch(ctx, who, path, &b)
	return b.Bytes(), err
}
