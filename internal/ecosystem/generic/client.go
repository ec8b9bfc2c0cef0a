package generic

import (
	"crelvo/internal/core/splice"
	"crelvo/internal/ecosystem"
)

// Clients implements ecosystem.Ecosystem: files are got and sent with whatever speaks HTTP. Folders are by crelvo
// itself, which knows who one is.
func (g Generic) Clients() []ecosystem.PackageClient {
	curl := ecosystem.Curl(g)
	curl.Publishes = true
	curl.Upload = "PUT crelvo-check/1.0.0/file"
	curl.Commands = func(p ecosystem.Pointing) []string {
		what := "NAME/VERSION"
		if p.PURL.Name != "" {
			what = p.PURL.Name + "/VERSION"
			if p.PURL.Version != "" {
				what = p.PURL.Name + "/" + p.PURL.Version
			}
		}
		all := []string{"curl --netrc --fail --remote-name " + p.Address + what + "/FILE",
			"curl --netrc --fail --location '" + p.Address + what + "/?as=tar.gz' | tar -xz"}
		if p.Publishes() {
			all = append(all, "curl --netrc --fail --upload-file FOLDER.tar.gz '"+p.Address+what+"?unpack=tar.gz'")
		}
		return all
	}
	reads := curl.Uses
	curl.Uses = func(f ecosystem.Files) []ecosystem.Use {
		all := reads(f)
		for _, u := range all {
			u.Publish = true
			all = append(all, u)
		}
		return all
	}
	curl.Variables = func(p ecosystem.Pointing) []splice.Setting {
		return []splice.Setting{{Key: ecosystem.TokenVariable, Value: p.Token()}}
	}
	return []ecosystem.PackageClient{curl}
}
