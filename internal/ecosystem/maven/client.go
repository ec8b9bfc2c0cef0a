package maven

import (
	"fmt"
	"strconv"
	"strings"

	"crelvo/internal/core/splice"
	"crelvo/internal/ecosystem"
)

// Clients implements ecosystem.Ecosystem.
func (Maven) Clients() []ecosystem.PackageClient {
	return []ecosystem.PackageClient{
		{Name: "maven", Title: "Maven", Agents: []string{"Apache-Maven"}, Publishes: true, Parts: mavenParts,
			Reference: "${env.CRELVO_TOKEN}", Uses: usesMaven,
			Strays: straysMaven, Mends: mendsMaven, Upload: upload,
			Commands: func(p ecosystem.Pointing) []string {
				if p.Publishes() {
					return []string{"mvn verify", "mvn deploy"}
				}
				return []string{"mvn verify"}
			}},
		{Name: "gradle", Title: "Gradle", Agents: []string{"Gradle"}, Publishes: true, Parts: gradleParts, Uses: usesGradle,
			Strays: straysGradle,
			Upload: upload,
			Variables: func(p ecosystem.Pointing) []splice.Setting {
				return []splice.Setting{{Key: "ORG_GRADLE_PROJECT_" + camel(p.ID) + "Username", Value: p.User},
					{Key: "ORG_GRADLE_PROJECT_" + camel(p.ID) + "Password", Value: p.Token()}}
			},
			Commands: func(p ecosystem.Pointing) []string {
				if p.Publishes() {
					return []string{"gradle build", "gradle publish"}
				}
				return []string{"gradle build"}
			}},
		{Name: "sbt", Title: "sbt", Agents: []string{"sbt"}, Publishes: true, Parts: sbtParts, Uses: usesSbt,
			Strays: straysSbt, Upload: upload,
			Commands: func(p ecosystem.Pointing) []string {
				if p.Publishes() {
					return []string{"sbt update", "sbt publish"}
				}
				return []string{"sbt update"}
			}},
		{Name: "ivy", Title: "Ivy", Agents: []string{"Apache Ivy", "Ivy/"}, Parts: ivyParts, Uses: usesIvy, Strays: straysIvy,
			Reference: "${env.CRELVO_TOKEN}",
			Commands: func(p ecosystem.Pointing) []string {
				return []string{"ivy -settings ivysettings.xml -ivy ivy.xml -retrieve 'lib/[artifact]-[revision].[ext]'"}
			}},
	}
}

// upload is an upload such as all these clients make.
const upload = "PUT crelvo/check/1.0/check-1.0.pom"

const settingsFile = "~/.m2/settings.xml"

// way is a way of steps in an XML file; name=value tells which of several by a
// child id.
func way(names ...string) (steps []splice.Step) {
	for _, name := range names {
		name, id, ok := strings.Cut(name, "=")
		s := splice.Step{Name: name}
		if ok {
			s.Child, s.Value = "id", id
		}
		steps = append(steps, s)
	}
	return steps
}

func set(value string, names ...string) func(string) (string, error) {
	return func(text string) (string, error) { return splice.SetXML(text, way(names...), "", value) }
}

func mavenParts(p ecosystem.Pointing) []ecosystem.Piece {
	server, title := "server="+p.ID, "Who you are (the id is the same in both files)"
	personal := []func(string) (string, error){
		set(p.User, "settings", "servers", server, "username"), set(p.Token(), "settings", "servers", server, "password")}
	var pom []func(string) (string, error)
	if p.Everything {
		title = "Who you are, and that everything comes from there"
		mirror := "mirror=" + p.ID
		personal = append(personal, set("*", "settings", "mirrors", mirror, "mirrorOf"),
			set(p.Address, "settings", "mirrors", mirror, "url"))
		if p.Snapshots {
			// The mirror answers for central, which has no snapshots unless it is said.
			profile := "profile=" + p.ID
			for _, of := range [][]string{{"repositories", "repository=central"},
				{"pluginRepositories", "pluginRepository=central"}} {
				personal = append(personal, set(p.Address, "settings", "profiles", profile, of[0], of[1], "url"),
					set("true", "settings", "profiles", profile, of[0], of[1], "snapshots", "enabled"))
			}
			personal = append(personal, activate(p.ID))
		}
	} else {
		repository := "repository=" + p.ID
		pom = append(pom, set(p.Address, "project", "repositories", repository, "url"),
			set(strconv.FormatBool(p.Releases), "project", "repositories", repository, "releases", "enabled"),
			set(strconv.FormatBool(p.Snapshots), "project", "repositories", repository, "snapshots", "enabled"))
	}
	for _, to := range []struct {
		element string
		wanted  bool
	}{{"repository", p.PublishReleases}, {"snapshotRepository", p.PublishSnapshots}} {
		if to.wanted {
			pom = append(pom, set(p.ID, "project", "distributionManagement", to.element, "id"),
				set(p.Address, "project", "distributionManagement", to.element, "url"))
		}
	}
	pieces := []ecosystem.Piece{{Title: title, File: settingsFile, Language: "xml", Secret: true,
		Edit: ecosystem.Sequence(personal...)}}
	if pom != nil {
		title := "Where packages come from"
		if p.Publishes() {
			title = "Where it publishes"
		}
		pieces = append([]ecosystem.Piece{{Title: title, File: "pom.xml", Language: "xml", There: true,
			Edit: ecosystem.Sequence(pom...)}}, pieces...)
	}
	return append(dependency(p), pieces...)
}

// dependency is what a project says to use a package.
func dependency(p ecosystem.Pointing) []ecosystem.Piece {
	if p.PURL.Name == "" {
		return nil
	}
	version := p.PURL.Version
	if version == "" {
		version = "VERSION"
	}
	text := fmt.Sprintf(
		"<dependency>\n  <groupId>%s</groupId>\n  <artifactId>%s</artifactId>\n  <version>%s</version>\n</dependency>\n",
		p.PURL.Namespace, p.PURL.Name, version)
	return []ecosystem.Piece{{Title: "To use the package", File: "pom.xml", Language: "xml", ByHand: true,
		Edit: func(string) (string, error) { return text, nil }}}
}

// activate makes a profile active, beside those that are.
func activate(id string) func(string) (string, error) {
	return func(text string) (string, error) {
		root, err := splice.ReadXML(text)
		if err != nil {
			return "", err
		}
		for _, active := range root.Below("activeProfiles", "activeProfile") {
			if strings.TrimSpace(active.Text) == id {
				return text, nil
			}
		}
		return splice.AddXML(text, way("settings", "activeProfiles", "activeProfile"), id)
	}
}

// usesMaven reads the settings and the project as Maven does: a mirror of
// everything stands before what the project names.
func usesMaven(f ecosystem.Files) (uses []ecosystem.Use) {
	settings, err := splice.ReadXML(f.Read(settingsFile))
	if err != nil {
		return []ecosystem.Use{{In: settingsFile, Wrong: settingsFile + " cannot be read: " + err.Error()}}
	}
	project, err := splice.ReadXML(f.Read("pom.xml"))
	if err != nil {
		return []ecosystem.Use{{In: "pom.xml", Wrong: "pom.xml cannot be read: " + err.Error()}}
	}
	add := func(e *splice.Element, in string, publish bool) {
		if address := f.Expand(e.Says("url")); f.Ours(address) {
			u := ecosystem.Use{Address: strings.TrimSuffix(address, "/") + "/", ID: e.Says("id"), In: in, Publish: publish}
			secretMaven(f, settings, &u)
			uses = append(uses, u)
		}
	}
	everything := false
	for _, m := range settings.Below("mirrors", "mirror") {
		everything = everything || strings.HasPrefix(m.Says("mirrorOf"), "*")
		add(m, settingsFile, false)
	}
	if !everything {
		for _, r := range settings.Below("profiles", "profile", "repositories", "repository") {
			add(r, settingsFile, false)
		}
		for _, r := range project.Below("repositories", "repository") {
			add(r, "pom.xml", false)
		}
	}
	for _, what := range []string{"repository", "snapshotRepository"} {
		for _, r := range project.Below("distributionManagement", what) {
			add(r, "pom.xml", true)
		}
	}
	return uses
}

func secretMaven(f ecosystem.Files, settings *splice.Element, u *ecosystem.Use) {
	other := ""
	for _, server := range settings.Below("servers", "server") {
		if server.Says("id") != u.ID {
			other = server.Says("id")
			continue
		}
		u.User, u.SecretIn = f.Expand(server.Says("username")), settingsFile
		u.Secret = f.Expand(server.Says("password"))
		return
	}
	if other != "" {
		u.SecretIn = settingsFile
		u.Elsewhere(other)
	}
}

// camel makes a name for a property: shore-maven becomes shoreMaven.
func camel(id string) string {
	parts := strings.Split(id, "-")
	for i, part := range parts[1:] {
		if part != "" {
			parts[1+i] = strings.ToUpper(part[:1]) + part[1:]
		}
	}
	return strings.Join(parts, "")
}

const gradleProperties = "~/.gradle/gradle.properties"

func gradleParts(p ecosystem.Pointing) []ecosystem.Piece {
	name := camel(p.ID)
	repository := fmt.Sprintf(
		"maven {\n    name = '%[1]s'\n    url = '%[2]s'\n    credentials {\n"+
			"      username = findProperty('%[1]sUsername') ?: ''\n      password = findProperty('%[1]sPassword') ?: ''\n"+
			"    }\n", name, p.Address)
	if p.Plain() {
		repository += "    // Gradle before 6.2 does not know it, and needs no leave.\n" +
			"    if (it.hasProperty('allowInsecureProtocol')) { allowInsecureProtocol = true }\n"
	}
	repository += "  }"
	block := "repositories {\n  " + repository + "\n}\n"
	if p.Publishes() {
		block += "plugins.withId('maven-publish') {\n  publishing.repositories {\n  " + repository + "\n  }\n}\n"
	}
	return []ecosystem.Piece{
		{Title: "Where packages come from (Groovy; in a build.gradle.kts write the same in Kotlin)", File: "build.gradle",
			Language: "groovy",
			Edit:     func(text string) (string, error) { return splice.Block(text, "//", p.ID, block) }},
		{Title: "Who you are", File: gradleProperties, Language: "properties", Secret: true, Edit: ecosystem.Sequence(
			func(text string) (string, error) { return splice.SetINI(text, "", name+"Username", p.User) },
			func(text string) (string, error) { return splice.SetINI(text, "", name+"Password", p.Token()) })},
	}
}

// usesGradle reads the addresses that stand in a build file, and for each the
// properties that its repository names.
func usesGradle(f ecosystem.Files) (uses []ecosystem.Use) {
	properties := f.Read(gradleProperties)
	for _, file := range []string{"build.gradle", "build.gradle.kts", "settings.gradle", "settings.gradle.kts"} {
		text := f.Read(file)
		publishing := strings.Index(text, "publishing")
		for at := 0; ; {
			address, rest, ok := quoted(text[at:])
			if !ok {
				break
			}
			at = len(text) - len(rest)
			if !f.Ours(address) {
				continue
			}
			u := ecosystem.Use{Address: strings.TrimSuffix(address, "/") + "/", In: file, Publish: publishing >= 0 &&
				at > publishing, SecretIn: gradleProperties}
			closes := strings.Index(rest, "}")
			named := rest[:max(closes, 0)]
			for key, into := range map[string]*string{"Username'": &u.User, "Password'": &u.Secret} {
				before, _, ok := strings.Cut(named, key)
				if !ok {
					continue
				}
				u.ID = before[strings.LastIndexByte(before, '\'')+1:]
				value, found := splice.GetINI(properties, "", u.ID+strings.TrimSuffix(key, "'"))
				if !found {
					value = f.Env("ORG_GRADLE_PROJECT_" + u.ID + strings.TrimSuffix(key, "'"))
				}
				*into = value
			}
			if u.Secret == "" && u.ID != "" {
				for _, s := range splice.AllINI(properties, "") {
					if other, ok := strings.CutSuffix(s.Key, "Password"); ok {
						u.Elsewhere(other)
					}
				}
			}
			uses = append(uses, u)
		}
	}
	return uses
}

// quoted gives the next text in quotes, and what is after it.
func quoted(text string) (inner, rest string, ok bool) {
	at := strings.IndexAny(text, `'"`)
	if at < 0 {
		return "", "", false
	}
	inner, rest, ok = strings.Cut(text[at+1:], text[at:at+1])
	return inner, rest, ok
}

func sbtParts(p ecosystem.Pointing) []ecosystem.Piece {
	insecure := ""
	if p.Plain() {
		insecure = ".withAllowInsecureProtocol(true)"
	}
	at := fmt.Sprintf("(%q at %q)%s", p.ID, p.Address, insecure)
	block := "resolvers += " + at + "\ncredentials += Credentials(Path.userHome / \".sbt\" / \".credentials\")\n"
	if p.Publishes() {
		block += "publishMavenStyle := true\npublishTo := Some(" + at + ")\n"
	}
	return []ecosystem.Piece{
		{Title: "Where packages come from", File: "build.sbt", Language: "scala",
			Edit: func(text string) (string, error) { return splice.Block(text, "//", p.ID, block) }},
		{Title: "Who you are, for this host", File: sbtCredentials, Language: "properties", Secret: true,
			Edit: ecosystem.Sequence(
				func(text string) (string, error) { return splice.SetINI(text, "", "realm", "Crelvo") },
				func(text string) (string, error) { return splice.SetINI(text, "", "host", p.Host()) },
				func(text string) (string, error) { return splice.SetINI(text, "", "user", p.User) },
				func(text string) (string, error) { return splice.SetINI(text, "", "password", p.Token()) })},
	}
}

const sbtCredentials = "~/.sbt/.credentials"

func usesSbt(f ecosystem.Files) (uses []ecosystem.Use) {
	text, secrets := f.Read("build.sbt"), f.Read(sbtCredentials)
	for rest := text; ; {
		address, after, ok := quoted(rest)
		if !ok {
			return uses
		}
		rest = after
		if !f.Ours(address) {
			continue
		}
		u := ecosystem.Use{Address: strings.TrimSuffix(address, "/") + "/", In: "build.sbt", SecretIn: sbtCredentials,
			Publish: strings.Contains(text, "publishTo")}
		host, known := splice.GetINI(secrets, "", "host")
		u.User, _ = splice.GetINI(secrets, "", "user")
		u.Secret, _ = splice.GetINI(secrets, "", "password")
		if pointed := (ecosystem.Pointing{Address: address}); known && host != pointed.Host() {
			u.ID = pointed.Host()
			u.Elsewhere(host)
		}
		uses = append(uses, u)
	}
}

func ivyParts(p ecosystem.Pointing) []ecosystem.Piece {
	root := splice.Step{Name: "ivysettings"}
	attr := func(attr, value string, steps ...splice.Step) func(string) (string, error) {
		return func(text string) (string, error) {
			return splice.SetXML(text, append([]splice.Step{root}, steps...), attr, value)
		}
	}
	secret := splice.Step{Name: "credentials", Attr: "host", Value: p.Host()}
	resolver := splice.Step{Name: "ibiblio", Attr: "name", Value: p.ID}
	resolvers := splice.Step{Name: "resolvers"}
	return []ecosystem.Piece{
		{Title: "Where packages come from; the secret is read from the personal file", File: "ivysettings.xml",
			Language: "xml", Edit: ecosystem.Sequence(
				attr("file", "${user.home}/.ivy2/crelvo.properties",
					splice.Step{Name: "properties", Attr: "file", Value: "${user.home}/.ivy2/crelvo.properties"}),
				attr("defaultResolver", p.ID, splice.Step{Name: "settings"}),
				attr("realm", "Crelvo", secret), attr("username", "${crelvo.user}", secret),
				attr("passwd", "${crelvo.token}", secret),
				attr("root", p.Address, resolvers, resolver), attr("m2compatible", "true", resolvers, resolver))},
		{Title: "Who you are", File: "~/.ivy2/crelvo.properties", Language: "properties", Secret: true,
			Edit: ecosystem.Sequence(
				func(text string) (string, error) { return splice.SetINI(text, "", "crelvo.user", p.User) },
				func(text string) (string, error) { return splice.SetINI(text, "", "crelvo.token", p.Token()) })},
	}
}

func usesIvy(f ecosystem.Files) (uses []ecosystem.Use) {
	const secrets = "~/.ivy2/crelvo.properties"
	root, err := splice.ReadXML(f.Read("ivysettings.xml"))
	if err != nil {
		return []ecosystem.Use{{In: "ivysettings.xml", Wrong: "ivysettings.xml cannot be read: " + err.Error()}}
	}
	for _, r := range append(root.Below("resolvers", "ibiblio"), root.Below("resolvers", "chain", "ibiblio")...) {
		address := r.Attrs["root"]
		if !f.Ours(address) {
			continue
		}
		u := ecosystem.Use{Address: strings.TrimSuffix(address, "/") + "/", ID: r.Attrs["name"], In: "ivysettings.xml",
			SecretIn: secrets}
		user, _ := splice.GetINI(f.Read(secrets), "", "crelvo.user")
		token, _ := splice.GetINI(f.Read(secrets), "", "crelvo.token")
		host := (ecosystem.Pointing{Address: address}).Host()
		for _, c := range root.Below("credentials") {
			put := strings.NewReplacer("${crelvo.user}", user, "${crelvo.token}", token)
			if c.Attrs["host"] != host {
				u.ID = host
				u.Elsewhere(c.Attrs["host"])
				continue
			}
			u.Wrong = ""
			u.User = f.Expand(put.Replace(c.Attrs["username"]))
			u.Secret = f.Expand(put.Replace(c.Attrs["passwd"]))
			break
		}
		uses = append(uses, u)
	}
	return uses
}
