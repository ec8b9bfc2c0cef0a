package demo

import (
	"crypto/sha1"
	"encoding/hex"
	"fmt"
	"strings"
)

// shorePackage is a third-party package of the scenario.
type shorePackage struct {
	module
	group    string
	versions []string
}

// shore is what the public source of the scenario has: third-party packages,
// and one with the name of a package of the house and a higher version.
var shore = []shorePackage{
	{group: "org.openshore", versions: []string{"2.0.0", "2.0.1", "2.1.0", "2.1.1"},
		module: module{name: "brine-http", title: "Brine HTTP", description: "An HTTP client that keeps", licence: "MIT",
			size: 140 << 10, maker: openShore}},
	{group: "org.openshore", versions: []string{"0.9.0", "1.0.0", "1.1.0"},
		module: module{name: "lodestar-json", title: "Lodestar JSON", description: "Reads and writes JSON",
			licence: "Apache-2.0", size: 60 << 10, maker: openShore}},
	{group: group, versions: []string{"99.0.0"},
		module: module{name: "tide-model", title: "Tide model", description: "Not the one you are looking for",
			licence: "unknown", size: 20 << 10, maker: nobody}},
}

// ShoreMaven is the content of the scenario's public Maven repository.
func ShoreMaven() (Files, error) {
	files := Files{}
	for _, p := range shore {
		folder := strings.ReplaceAll(p.group, ".", "/") + "/" + p.name
		var listed strings.Builder
		for i, version := range p.versions {
			jar, err := p.jar(p.group, version, i+1)
			if err != nil {
				return nil, err
			}
			at := fmt.Sprintf("%s/%s/%s-%s", folder, version, p.name, version)
			files[at+".jar"], files[at+".pom"] = jar, []byte(p.pom(p.group, version))
			fmt.Fprintf(&listed, "<version>%s</version>", version)
		}
		newest := p.versions[len(p.versions)-1]
		files[folder+"/maven-metadata.xml"] = fmt.Appendf(nil,
			"<?xml version=\"1.0\"?>\n"+
				"<metadata><groupId>%s</groupId><artifactId>%s</artifactId><versioning><latest>%s</latest><release>%s</release><versions>%s</versions></versioning></metadata>\n",
			p.group, p.name, newest, newest, listed.String())
	}
	for name, content := range files {
		sum := sha1.Sum(content)
		files[name+".sha1"] = []byte(hex.EncodeToString(sum[:]))
	}
	return files, nil
}
