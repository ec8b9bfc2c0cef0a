package maven

import (
	"encoding/xml"
	"fmt"
	"strings"

	"crelvo/internal/core/catalog"
	"crelvo/internal/ecosystem"
)

// Point implements ecosystem.Ecosystem.
func (Maven) Point(p ecosystem.Pointing) []ecosystem.Snippet {
	id, address, user := quote(p.Repository.Name), quote(p.Address), quote(p.User)
	var snippets []ecosystem.Snippet
	if c := p.PURL; c.Name != "" {
		version := c.Version
		if version == "" {
			version = "VERSION"
		}
		snippets = append(snippets,
			ecosystem.Snippet{Title: "Maven dependency", File: "pom.xml", Language: "xml",
				Text: fmt.Sprintf("<dependency>\n  <groupId>%s</groupId>\n  <artifactId>%s</artifactId>\n  <version>%s</version>\n</dependency>\n",
					quote(c.Namespace), quote(c.Name), quote(version))},
			ecosystem.Snippet{Title: "Gradle dependency", File: "build.gradle.kts", Language: "kotlin",
				Text: fmt.Sprintf("implementation(%q)\n", c.Namespace+":"+c.Name+":"+version)})
	}
	if p.Repository.Kind == catalog.Chain {
		snippets = append(snippets, ecosystem.Snippet{Title: "Maven asks this address for everything", File: "~/.m2/settings.xml", Language: "xml",
			Text: fmt.Sprintf("<mirrors>\n  <mirror>\n    <id>%s</id>\n    <mirrorOf>*</mirrorOf>\n    <url>%s</url>\n  </mirror>\n</mirrors>\n", id, address)})
	}
	snippets = append(snippets,
		ecosystem.Snippet{Title: "Where Maven finds it", File: "pom.xml", Language: "xml",
			Text: fmt.Sprintf("<repositories>\n  <repository>\n    <id>%s</id>\n    <url>%s</url>\n    <snapshots><enabled>%t</enabled></snapshots>\n  </repository>\n</repositories>\n",
				id, address, p.Repository.Holds != catalog.Releases)})
	if releases, snapshots := takes(p.Repository); releases || snapshots {
		snippets = append(snippets, ecosystem.Snippet{Title: "Where Maven publishes", File: "pom.xml", Language: "xml", Text: distribution(releases, snapshots, id, address)})
	}
	return append(snippets,
		ecosystem.Snippet{Title: "Who you are (the id is the same in both files)", File: "~/.m2/settings.xml", Language: "xml",
			Text: fmt.Sprintf("<servers>\n  <server>\n    <id>%s</id>\n    <username>%s</username>\n    <password>${env.CRELVO_TOKEN}</password>\n  </server>\n</servers>\n", id, user)},
		ecosystem.Snippet{Title: "Gradle", File: "build.gradle.kts", Language: "kotlin",
			Text: fmt.Sprintf("repositories {\n  maven {\n    url = uri(%q)\n    credentials {\n      username = %q\n      password = System.getenv(\"CRELVO_TOKEN\")\n    }\n  }\n}\n", p.Address, p.User)})
}

// takes tells what may be published to a repository's address.
func takes(r catalog.Repository) (releases, snapshots bool) {
	switch {
	case r.AsOf != 0: // nothing can be added to the past
		return false, false
	case r.Chain != nil:
		return r.Chain.ReleasesTo != 0, r.Chain.SnapshotsTo != 0
	case r.Kind == catalog.Mirror:
		return false, false
	}
	return r.Holds != catalog.Snapshots, r.Holds != catalog.Releases
}

func distribution(releases, snapshots bool, id, address string) string {
	var b strings.Builder
	b.WriteString("<distributionManagement>\n")
	if releases {
		fmt.Fprintf(&b, "  <repository>\n    <id>%s</id>\n    <url>%s</url>\n  </repository>\n", id, address)
	}
	if snapshots {
		fmt.Fprintf(&b, "  <snapshotRepository>\n    <id>%s</id>\n    <url>%s</url>\n  </snapshotRepository>\n", id, address)
	}
	b.WriteString("</distributionManagement>\n")
	return b.String()
}

// quote makes text fit for XML.
func quote(text string) string {
	var b strings.Builder
	_ = xml.EscapeText(&b, []byte(text)) // a strings.Builder never fails
	return b.String()
}
