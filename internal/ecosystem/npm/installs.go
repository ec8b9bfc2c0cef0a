package npm

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"github.com/tidwall/gjson"

	"crelvo/internal/core/catalog"
	"crelvo/internal/ecosystem"
)

var (
	_ ecosystem.Installs = NPM{}
	_ ecosystem.Telling  = NPM{}
	_ ecosystem.Signed   = NPM{}
	_ ecosystem.Attested = NPM{}
)

// RunsAtInstall implements ecosystem.Installs.
func (NPM) RunsAtInstall(d *catalog.Details) bool {
	return gjson.GetBytes(d.Native[nativeInstall], "hasInstallScript").Bool()
}

// Maintainers implements ecosystem.Telling: maintainers, and who published it
// (https://github.com/npm/registry/blob/main/docs/responses/package-metadata.md).
func (NPM) Maintainers(d *catalog.Details) (names []string) {
	rest := d.Native[nativeRest]
	add := func(person gjson.Result) {
		// Old ones are written as text: Ada Reed <ada@skerry.example>
		name, _, _ := strings.Cut(person.String(), "<")
		if person.IsObject() {
			name = person.Get("name").String()
		}
		if name = strings.TrimSpace(name); name != "" && !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	add(gjson.GetBytes(rest, "_npmUser"))
	gjson.GetBytes(rest, "maintainers").ForEach(func(_, person gjson.Result) bool {
		add(person)
		return true
	})
	slices.Sort(names)
	return names
}

// Unpacked implements ecosystem.Telling.
func (NPM) Unpacked(d *catalog.Details) int64 {
	return max(0, gjson.GetBytes(d.Native[nativeDist], "unpackedSize").Int())
}

// Signatures implements ecosystem.Signed: those of the registry, of a name, a version and the integrity
// of its archive (https://docs.npmjs.com/about-registry-signatures).
func (NPM) Signatures(key catalog.PackageKey, v *catalog.Version) (all []ecosystem.Endorsement) {
	signatures := gjson.GetBytes(v.Details.Native[nativeDist], "signatures")
	for i := range v.Files {
		f := &v.Files[i]
		if f.Extension != tarball || !f.Digests.Has("sha512") {
			continue
		}
		message := fmt.Appendf(nil, "%s@%s:sha512-%s", joinName(key.Namespace, key.Name), v.Version,
			base64.StdEncoding.EncodeToString(f.Digests.SHA512[:]))
		signatures.ForEach(func(_, one gjson.Result) bool {
			if raw, err := base64.StdEncoding.DecodeString(one.Get("sig").String()); err == nil && len(all) < mostSignatures {
				all = append(all, ecosystem.Endorsement{Message: message, Signature: raw})
			}
			return true
		})
	}
	return all
}

// AttestedAt implements ecosystem.Attested.
func (NPM) AttestedAt(key catalog.PackageKey, v *catalog.Version, _ string) string {
	if !gjson.GetBytes(v.Details.Native[nativeDist], "attestations").IsObject() {
		return ""
	}
	return "-/npm/v1/attestations/" + url.PathEscape(joinName(key.Namespace, key.Name)) + "@" + url.PathEscape(v.Version)
}

// Bundles implements ecosystem.Attested.
func (NPM) Bundles(raw []byte) (all []json.RawMessage, err error) {
	var answer struct {
		Attestations []struct {
			Bundle json.RawMessage `json:"bundle"`
		} `json:"attestations"`
	}
	err = json.Unmarshal(raw, &answer)
	for _, a := range answer.Attestations {
		all = append(all, a.Bundle)
	}
	return all, err
}

// mostSignatures is how many signatures of a version are looked at.
const mostSignatures = 5

// NeededBy implements ecosystem.Installs. What is read of a list has it only as it is written.
func (NPM) NeededBy(d *catalog.Details) []catalog.Dependency {
	if d.Dependencies != nil || d.Native[nativeInstall] == nil {
		return d.Dependencies
	}
	m, err := parseManifest(d.Native[nativeInstall], false)
	if err != nil {
		return nil
	}
	read, err := m.details()
	if err != nil {
		return nil
	}
	return read.Dependencies
}
