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
	snippets = append(snippets,
		ecosystem.Snippet{Title: "Where Maven finds it", File: "pom.xml", Language: "xml",
			Text: fmt.Sprintf("<repositories>\n  <repository>\n    <id>%s</id>\n    <url>%s</url>\n    <snapshots><enabled>%t</enabled></snapshots>\n  </repository>\n</repositories>\n",
				id, address, p.Repository.Holds != catalog.Releases)},
		ecosystem.Snippet{Title: "Where Maven publishes", File: "pom.xml", Language: "xml", Text: distribution(p.Repository, id, address)},
		ecosystem.Snippet{Title: "Who you are (the id is the same in both files)", File: "~/.m2/settings.xml", Language: "xml",
			Text: fmt.Sprintf("<servers>\n  <server>\n    <id>%s</id>\n    <username>%s</username>\n    <password>${env.CRELVO_TOKEN}</password>\n  </server>\n</servers>\n", id, user)},
		ecosystem.Snippet{Title: "Gradle", File: "build.gradle.kts", Language: "kotlin",
			Text: fmt.Sprintf("repositories {\n  maven {\n    url = uri(%q)\n    credentials {\n      username = %q\n      password = System.getenv(\"CRELVO_TOKEN\")\n    }\n  }\n}\n", p.Address, p.User)})
	return snippets
}

func distribution(r catalog.Repository, id, address string) string {
	var b strings.Builder
	b.WriteString("<distributionManagement>\n")
	if r.Holds != catalog.Snapshots {
		fmt.Fprintf(&b, "  <repository>\n    <id>%s</id>\n    <url>%s</url>\n  </repository>\n", id, address)
	}
	if r.Holds != catalog.Releases {
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
