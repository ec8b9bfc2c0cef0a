package maven

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"crelvo/internal/core/splice"
	"crelvo/internal/ecosystem"
)

// straysMaven finds mirrors in a person's settings that Maven takes before what it is
// pointed at. Of several it takes the one that names a repository's id, and else the
// first whose pattern fits (Maven's guide to mirror settings).
func straysMaven(f ecosystem.Files, p ecosystem.Pointing) (said []string) {
	for _, m := range before(f, p) {
		address, _, _ := ecosystem.Separate(f.Expand(m.Says("url")))
		said = append(said,
			fmt.Sprintf(
				"the mirror %s in %s, of %s, goes before it and leads to %s: take it out, or write !%s into its mirrorOf",
				m.Says("id"), settingsFile, m.Says("mirrorOf"), address, asked(p)))
	}
	return said
}

// asked is the id of the repository that Maven looks for a mirror of.
func asked(p ecosystem.Pointing) string {
	if p.Everything {
		return "central"
	}
	return p.ID
}

// before are the mirrors that Maven takes before what it is pointed at.
func before(f ecosystem.Files, p ecosystem.Pointing) (found []*splice.Element) {
	settings, err := splice.ReadXML(f.Read(settingsFile))
	if err != nil {
		return nil // which is said already
	}
	ours := false // our own mirror was seen
	for _, m := range settings.Below("mirrors", "mirror") {
		if f.Ours(f.Expand(m.Says("url"))) {
			ours = true
			continue
		}
		if of := m.Says("mirrorOf"); of == asked(p) || !ours && mirrors(of, asked(p)) {
			found = append(found, m)
		}
	}
	return found
}

// mendsMaven lets older mirrors be, but for what Maven is pointed at: of all else they
// stay mirrors, unless everything is to come from one place. They keep their addresses.
func mendsMaven(f ecosystem.Files, p ecosystem.Pointing) (pieces []ecosystem.Piece) {
	for _, m := range before(f, p) {
		id, of := m.Says("id"), m.Says("mirrorOf")+",!"+p.ID
		if p.Everything {
			of = "replaced-by-" + p.ID // which is the id of no repository
		}
		if id == "" || id == p.ID {
			continue
		}
		pieces = append(pieces, ecosystem.Piece{Title: "An older mirror", File: settingsFile, Language: "xml",
			Edit: set(of, "settings", "mirrors", "mirror="+id, "mirrorOf")})
	}
	return pieces
}

// mirrors tells whether the pattern of a mirror fits a repository's id. That one is on
// this machine, which external:* leaves out, is not looked at.
func mirrors(pattern, id string) bool {
	all := strings.FieldsFunc(pattern, func(r rune) bool { return r == ',' || r == ' ' || r == '\n' || r == '\t' })
	if slices.Contains(all, "!"+id) {
		return false
	}
	return slices.Contains(all, "*") || slices.Contains(all, "external:*") || slices.Contains(all, id)
}

// gradleAddress is where a build file names a repository, in Groovy's and in Kotlin's form.
var gradleAddress = regexp.MustCompile(`\burl\s*[=(]?\s*(?:uri\(\s*)?["'](https?://[^"'\s]+)["']`)

// straysGradle is what keeps Gradle from asking where its build file points it.
func straysGradle(f ecosystem.Files, p ecosystem.Pointing) (said []string) {
	for _, file := range []string{"settings.gradle", "settings.gradle.kts"} {
		for _, mode := range []string{"FAIL_ON_PROJECT_REPOS", "PREFER_SETTINGS"} {
			if text := f.Read(file); strings.Contains(text, mode) && !strings.Contains(text, p.Address) {
				said = append(said,
					fmt.Sprintf(
						"%s says %s, so the repositories of build.gradle are not asked: write %s into its dependencyResolutionManagement",
						file, mode, p.Address))
			}
		}
	}
	name := camel(p.ID)
	properties := f.Read(gradleProperties)
	for _, what := range []string{"Username", "Password"} {
		variable := "ORG_GRADLE_PROJECT_" + name + what
		if value, _ := splice.GetINI(properties, "", name+what); f.Env(variable) != "" && f.Env(variable) != value {
			said = append(said, fmt.Sprintf("the variable %s goes before %s, and says something else: unset it", variable,
				gradleProperties))
		}
	}
	if !p.Everything {
		return said
	}
	// Gradle asks repositories in their order; those outside of our block are asked too.
	text := f.Read("build.gradle")
	ours, ok := splice.InBlock(text, "//", p.ID)
	at := len(text)
	if ok {
		at = strings.Index(text, ours)
	}
	for _, public := range []string{"mavenCentral()", "google()", "gradlePluginPortal()", "jcenter()"} {
		if i := strings.Index(text, public); i >= 0 && i < at {
			said = append(said, fmt.Sprintf("%s in build.gradle is asked before it: take it out", public))
		}
	}
	asked, _, _ := strings.Cut(text[:at], "publishing") // where it publishes, it does not ask
	for _, other := range gradleAddress.FindAllStringSubmatch(asked, -1) {
		if !f.Ours(other[1]) {
			shown, _, _ := ecosystem.Separate(other[1])
			said = append(said,
				fmt.Sprintf("the repository %s in build.gradle is asked before it: take it out, or write it below", shown))
		}
	}
	return said
}

// straysSbt is what makes sbt pass over the resolvers of its build.
func straysSbt(f ecosystem.Files, _ ecosystem.Pointing) (said []string) {
	const option = "sbt.override.build.repos=true"
	for _, where := range []struct{ name, text string }{{"the variable SBT_OPTS", f.Env("SBT_OPTS")},
		{"the variable JAVA_OPTS", f.Env("JAVA_OPTS")},
		{".sbtopts", f.Read(".sbtopts")}, {".jvmopts", f.Read(".jvmopts")}} {
		if strings.Contains(where.text, option) {
			said = append(said,
				fmt.Sprintf(
					"%s says %s, so the resolvers of build.sbt are not asked, only those of ~/.sbt/repositories: take it out, or "+
						"write the address there", where.name, option))
		}
	}
	return said
}

// straysIvy is what sends modules to another resolver than the usual one.
func straysIvy(f ecosystem.Files, p ecosystem.Pointing) (said []string) {
	root, err := splice.ReadXML(f.Read("ivysettings.xml"))
	if err != nil || root == nil {
		return nil // which is said already
	}
	for _, s := range root.Below("settings") {
		if usual := s.Attrs["defaultResolver"]; usual != "" && usual != p.ID {
			said = append(said, fmt.Sprintf("the usual resolver in ivysettings.xml is %s: write defaultResolver=%q", usual,
				p.ID))
		}
	}
	for _, m := range root.Below("modules", "module") {
		if to := m.Attrs["resolver"]; to != "" && to != p.ID {
			said = append(said,
				fmt.Sprintf(
					"ivysettings.xml asks for modules of %s at the resolver %s, and not here: take that line of <modules> out, if "+
						"they are to come from here", cmp.Or(m.Attrs["organisation"], "*"), to))
		}
	}
	return said
}
