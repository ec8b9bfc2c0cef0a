package oci

import (
	"bytes"
	"encoding/json"
	"errors"
	"slices"
	"strings"
	"testing"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"crelvo/internal/core/catalog"
	"crelvo/internal/ecosystem"
	"crelvo/internal/ecosystem/madeup"
)

// restate gives an image another tag inside, with those that it names.
func restate(t *testing.T, i madeup.Image, from, to string, named ...madeup.Image) ecosystem.Restated {
	t.Helper()
	made, err := New().Restate(t.Context(), ecosystem.ToRestate{Version: madeup.Digest(i.Manifest), Raw: i.Manifest,
		MediaType: i.MediaType, From: from, To: to,
		Part: func(sum catalog.Sum) ([]byte, error) { return i.Blobs[sum.String()], nil },
		Became: func(version string) (ecosystem.Became, error) {
			for _, child := range named {
				if madeup.Digest(child.Manifest) == version {
					r := restate(t, child, from, to, named...)
					if r.Files == nil {
						break
					}
					return ecosystem.Became{Version: r.Version, Size: int64(len(r.Files[len(r.Files)-1].Raw))}, nil
				}
			}
			return ecosystem.Became{Version: version}, nil
		}})
	if err != nil {
		t.Fatal(err)
	}
	return made
}

func TestRestate(t *testing.T) {
	p := planner
	p.Version = "1.5.0-dev.7"
	amd, arm := p.Image("linux/amd64", nil), p.Image("linux/arm64", nil)
	made := restate(t, amd, "1.5.0-dev.7", "1.5.0")
	if len(made.Files) != 2 {
		t.Fatalf("%d files change", len(made.Files))
	}
	config, manifest := made.Files[0], made.Files[1]
	// Every byte but those of the version, and of the digest that follows, is as it was.
	var was v1.Manifest
	if err := json.Unmarshal(amd.Manifest, &was); err != nil {
		t.Fatal(err)
	}
	label := func(raw []byte) []byte {
		return bytes.Replace(raw, []byte(`image.version":"1.5.0-dev.7"`), []byte(`image.version":"1.5.0"`), 1)
	}
	if want := label(amd.Blobs[string(was.Config.Digest)]); !bytes.Equal(config.Raw, want) {
		t.Errorf("the configuration is\n%s\nwant\n%s", config.Raw, want)
	}
	var is v1.Manifest
	if err := json.Unmarshal(manifest.Raw, &is); err != nil {
		t.Fatal(err)
	}
	if string(is.Config.Digest) != madeup.Digest(config.Raw) || is.Config.Size != int64(len(config.Raw)) ||
		is.Annotations["org.opencontainers.image.version"] != "1.5.0" || made.Version != madeup.Digest(manifest.Raw) ||
		len(is.Layers) != len(was.Layers) || is.Layers[0].Digest != was.Layers[0].Digest {
		t.Errorf("%s became %s", amd.Manifest, manifest.Raw)
	}
	if manifest.Was != strings.Replace(madeup.Digest(amd.Manifest), ":", "-", 1) ||
		config.Name != strings.Replace(string(is.Config.Digest), ":", "-", 1) {
		t.Errorf("%s, %s", manifest.Was, config.Name)
	}
	if len(config.Changes) != 1 || config.Changes[0] != (ecosystem.Edit{What: "label org.opencontainers.image.version",
		Old: "1.5.0-dev.7", New: "1.5.0"}) {
		t.Errorf("%+v", config.Changes)
	}
	if !slices.Contains(made.Mentions, "config Env 1") {
		t.Errorf("it mentions %q", made.Mentions)
	}
	// It is the same whenever it is made, and what it became stays what it is.
	if again := restate(t, amd, "1.5.0-dev.7", "1.5.0"); again.Version != made.Version {
		t.Error("it becomes something else each time")
	}
	if other := restate(t, amd, "1.6.0-dev.1", "1.6.0"); other.Files != nil ||
		other.Version != madeup.Digest(amd.Manifest) {
		t.Errorf("%+v", other)
	}
	if v := restate(t, amd, "v1.5.0-dev.7", "v1.5.0"); v.Version != made.Version {
		t.Error("a v in front of the tag matters")
	}

	index := p.Index(amd, arm)
	made = restate(t, index, "1.5.0-dev.7", "1.5.0", amd, arm)
	var list v1.Index
	if err := json.Unmarshal(made.Files[0].Raw, &list); err != nil {
		t.Fatal(err)
	}
	for i, child := range []madeup.Image{amd, arm} {
		r := restate(t, child, "1.5.0-dev.7", "1.5.0")
		if d := list.Manifests[i]; string(d.Digest) != r.Version || d.Size != int64(len(r.Files[1].Raw)) ||
			d.Platform == nil {
			t.Errorf("%+v is not %s", d, r.Version)
		}
	}
	about := amd.Referrer("application/spdx+json", "application/spdx+json", []byte("{}"))
	if made = restate(t, about, "1.5.0-dev.7", "1.5.0", amd); len(made.Files) != 1 ||
		!bytes.Contains(made.Files[0].Raw, []byte(restate(t, amd, "1.5.0-dev.7", "1.5.0").Version)) {
		t.Errorf("what is about it became %+v", made)
	}
}

// TestRestateRefused: what cannot be made honestly is not made.
func TestRestateRefused(t *testing.T) {
	p := planner
	p.Version = "1.5.0-dev.7"
	i := p.Image("linux/amd64", nil)
	away := errors.New("away")
	ask := func(raw []byte, mediaType string, part func(catalog.Sum) ([]byte, error)) (ecosystem.Restated, error) {
		return New().Restate(t.Context(), ecosystem.ToRestate{Version: madeup.Digest(raw), Raw: raw, MediaType: mediaType,
			From: "1.5.0-dev.7", To: "1.5.0", Part: part,
			Became: func(string) (ecosystem.Became, error) { return ecosystem.Became{}, away }})
	}
	here := func(sum catalog.Sum) ([]byte, error) { return i.Blobs[sum.String()], nil }
	if _, err := ask(i.Manifest, i.MediaType, func(catalog.Sum) ([]byte, error) { return nil, away }); err != away {
		t.Errorf("%v", err)
	}
	if index := p.Index(i); true {
		if _, err := ask(index.Manifest, index.MediaType, here); err != away {
			t.Errorf("%v", err)
		}
	}
	if _, err := ask(i.Manifest, i.MediaType, func(catalog.Sum) ([]byte, error) { return []byte("{"), nil }); err == nil {
		t.Error("half a configuration is restated")
	}
	copied := bytes.Replace(i.Manifest, []byte(`"config":{`), []byte(`"config":{"data":"e30=",`), 1)
	if _, err := ask(copied, i.MediaType, here); err == nil || !strings.Contains(err.Error(), "copy") {
		t.Errorf("a copy of the configuration in the manifest: %v", err)
	}
	if made, err := ask([]byte(`{"what":"1.5.0-dev.7"}`), "application/x.unknown", here); err != nil || made.Files != nil {
		t.Errorf("%+v, %v", made, err)
	}
}
