package npm

import (
	"slices"
	"strings"

	"crelvo/internal/core/splice"
	"crelvo/internal/ecosystem"
)

// Clients implements ecosystem.Ecosystem.
func (NPM) Clients() []ecosystem.PackageClient {
	rc := func(always bool) func(p ecosystem.Pointing) []ecosystem.Piece {
		return func(p ecosystem.Pointing) []ecosystem.Piece {
			secret := func(text string) (string, error) {
				return splice.SetINI(text, "", nerf(p.Address)+":_authToken", p.Token())
			}
			if always {
				secret = ecosystem.Sequence(secret, func(text string) (string, error) {
					return splice.SetINI(text, "", nerf(p.Address)+":always-auth", "true")
				})
			}
			return []ecosystem.Piece{
				{Title: "Where packages come from", File: ".npmrc", Language: "ini",
					Edit: ecosystem.Sequence(func(text string) (string, error) {
						return splice.SetINI(text, "", registryKey(p), p.Address)
					}, scopesToo(p))},
				{Title: "Who you are, for this address only", File: "~/.npmrc", Language: "ini", Secret: true, Edit: secret},
			}
		}
	}
	commands := func(program, add string) func(p ecosystem.Pointing) []string {
		return func(p ecosystem.Pointing) (all []string) {
			all = []string{program + " install"}
			if p.PURL.Name != "" {
				all = []string{program + " " + add + " " + exact(p)}
			}
			if p.Publishes() {
				all = append(all, program+" publish")
			}
			return all
		}
	}
	const variable = "${CRELVO_TOKEN}"
	return []ecosystem.PackageClient{
		{Name: "npm", Title: "npm", Agents: []string{"npm"}, Publishes: true, Parts: rc(false), Reference: variable,
			Commands: commands("npm", "install"), Uses: usesRC, Strays: straysRC, Mends: mendsManifest, Probe: "-/ping",
			Upload: "PUT crelvo-check", Bearer: true},
		{Name: "pnpm", Title: "pnpm", Agents: []string{"pnpm"}, Publishes: true, Parts: rc(false), Reference: variable,
			Commands: commands("pnpm", "add"), Uses: usesRC, Strays: straysRC, Mends: mendsManifest, Probe: "-/ping",
			Upload: "PUT crelvo-check", Bearer: true},
		{Name: "yarn", Title: "Yarn 2 and later", Agents: []string{"yarn"}, Publishes: true, Parts: yarnParts,
			Commands: commands("yarn", "add"),
			Uses:     usesYarn, Strays: straysYarn, Mends: mendsYarn, Probe: "-/ping", Upload: "PUT crelvo-check", Bearer: true,
			Variables: func(p ecosystem.Pointing) []splice.Setting {
				return []splice.Setting{{Key: "YARN_NPM_REGISTRY_SERVER", Value: p.Address},
					{Key: "YARN_NPM_AUTH_TOKEN", Value: p.Token()}, {Key: "YARN_NPM_ALWAYS_AUTH", Value: "1"}}
			}},
		{Name: "yarn-1", Title: "Yarn 1", Publishes: true, Parts: rc(true), Reference: variable,
			Commands: commands("yarn", "add"), Uses: usesRC, Strays: straysRC, Mends: mendsManifest, Probe: "-/ping",
			Upload: "PUT crelvo-check", Bearer: true},
	}
}

// registryKey is the setting for the address: of everything, or of a scope where
// the repository does not answer for everything.
func registryKey(p ecosystem.Pointing) string {
	if !p.Everything && strings.HasPrefix(p.PURL.Namespace, "@") {
		return p.PURL.Namespace + ":registry"
	}
	return "registry"
}

func exact(p ecosystem.Pointing) string {
	what := joinName(p.PURL.Namespace, p.PURL.Name)
	if p.PURL.Version != "" {
		what += "@" + p.PURL.Version
	}
	return what
}

// nerf is an address as npm names what belongs to it: without the scheme.
func nerf(address string) string {
	_, rest, _ := strings.Cut(address, ":")
	return rest
}

// usesRC reads what npm, pnpm and Yarn 1 read: the project's file before the
// personal one.
func usesRC(f ecosystem.Files) (uses []ecosystem.Use) {
	taken := map[string]bool{}
	for _, file := range []string{".npmrc", "~/.npmrc"} {
		for _, s := range splice.AllINI(f.Read(file), "") {
			if s.Key != "registry" && !strings.HasSuffix(s.Key, ":registry") || taken[s.Key] {
				continue
			}
			taken[s.Key] = true
			address := strings.Trim(f.Expand(s.Value), `"`)
			if !f.Ours(address) {
				continue
			}
			u := ecosystem.Use{Address: address, ID: nerf(address), In: file, Publish: true}
			secretRC(f, &u)
			uses = append(uses, u)
		}
	}
	return uses
}

// secretRC finds the token that npm would send to an address: that of the longest
// path that the address begins with.
func secretRC(f ecosystem.Files, u *ecosystem.Use) {
	files := []string{".npmrc", "~/.npmrc"}
	at := strings.TrimSuffix(nerf(u.Address), "/") + "/"
	for prefix := at; strings.Count(prefix, "/") > 2; prefix = prefix[:strings.LastIndex(strings.TrimSuffix(prefix, "/"),
		"/")+1] {
		for _, file := range files {
			if value, ok := splice.GetINI(f.Read(file), "", prefix+":_authToken"); ok {
				u.Secret, u.SecretIn = f.Expand(strings.Trim(value, `"`)), file
				return
			}
		}
	}
	for _, file := range files {
		for _, s := range splice.AllINI(f.Read(file), "") {
			if other, ok := strings.CutSuffix(s.Key, ":_authToken"); ok && (f.Ours("http:"+other) || f.Ours("https:"+other)) {
				u.SecretIn = file
				u.Elsewhere(other)
				return
			}
		}
	}
}

func yarnParts(p ecosystem.Pointing) []ecosystem.Piece {
	quoted := func(text string) string { return `"` + text + `"` }
	set := func(value string, path ...string) func(string) (string, error) {
		return func(text string) (string, error) { return splice.SetYAML(text, path, value) }
	}
	address := set(quoted(p.Address), "npmRegistryServer")
	if scope, ok := strings.CutPrefix(p.PURL.Namespace, "@"); ok && !p.Everything {
		address = set(quoted(p.Address), "npmScopes", scope, "npmRegistryServer")
	}
	if p.Plain() {
		address = ecosystem.Sequence(address, func(text string) (string, error) {
			if known, ok := splice.GetYAML(text, "unsafeHttpWhitelist"); ok && strings.Contains(known, p.Host()) {
				return text, nil
			} else if ok {
				return "", &splice.Error{Why: "it has a list unsafeHttpWhitelist already; add " + p.Host() + " to it"}
			}
			return splice.SetYAML(text, []string{"unsafeHttpWhitelist"}, "["+quoted(p.Host())+"]")
		})
	}
	if own := ownScopes(p); len(own) > 0 {
		address = ecosystem.Sequence(address, func(text string) (string, error) { return preapprove(text, own) })
	}
	server := strings.TrimSuffix(nerf(p.Address), "/")
	return []ecosystem.Piece{
		{Title: "Where packages come from", File: ".yarnrc.yml", Language: "yaml", Edit: address},
		{Title: "Who you are, for this address only", File: "~/.yarnrc.yml", Language: "yaml", Secret: true,
			Edit: ecosystem.Sequence(
				set("true", "npmRegistries", server, "npmAlwaysAuth"),
				set(quoted(p.Token()), "npmRegistries", server, "npmAuthToken"))},
	}
}

// ownScopes are patterns for our own scopes.
func ownScopes(p ecosystem.Pointing) (patterns []string) {
	scopes := p.Own
	if p.PURL.Namespace != "" && !slices.Contains(scopes, p.PURL.Namespace) {
		scopes = append(slices.Clone(scopes), p.PURL.Namespace)
	}
	for _, scope := range scopes {
		if strings.HasPrefix(scope, "@") {
			patterns = append(patterns, scope+"/*")
		}
	}
	return patterns
}

// preapprove lets Yarn 4 use our own packages at once: by itself it waits until a
// version is a day old, which is meant for what others publish.
func preapprove(text string, patterns []string) (string, error) {
	known, ok := splice.GetYAML(text, "npmPreapprovedPackages")
	var missing []string
	for _, p := range patterns {
		if !strings.Contains(known, p) {
			missing = append(missing, `"`+p+`"`)
		}
	}
	switch {
	case len(missing) == 0:
		return text, nil
	case ok:
		return "", &splice.Error{Why: "it has a list npmPreapprovedPackages already; add " + strings.Join(missing, ", ") +
			" to it"}
	}
	return splice.SetYAML(text, []string{"npmPreapprovedPackages"}, "["+strings.Join(missing, ", ")+"]")
}

func usesYarn(f ecosystem.Files) (uses []ecosystem.Use) {
	project, personal := f.Read(".yarnrc.yml"), f.Read("~/.yarnrc.yml")
	add := func(file, address string) {
		if address = f.Expand(address); !f.Ours(address) {
			return
		}
		u := ecosystem.Use{Address: address, ID: strings.TrimSuffix(nerf(address), "/"), In: file, Publish: true}
		other := ""
		for _, in := range []struct{ file, text string }{{".yarnrc.yml", project}, {"~/.yarnrc.yml", personal}} {
			for _, key := range splice.KeysYAML(in.text, "npmRegistries") {
				server := key
				if strings.HasPrefix(key, "http") {
					server = nerf(key)
				}
				token, ok := splice.GetYAML(in.text, "npmRegistries", key, "npmAuthToken")
				switch {
				case !ok:
				case strings.TrimSuffix(server, "/") == u.ID && u.Secret == "":
					u.Secret, u.SecretIn = f.Expand(strings.Trim(token, `"'`)), in.file
				case f.Ours("http:" + server + "/"):
					other = key
					if u.SecretIn == "" {
						u.SecretIn = in.file
					}
				}
			}
			if token, ok := splice.GetYAML(in.text, "npmAuthToken"); ok && u.Secret == "" {
				u.Secret, u.SecretIn = f.Expand(strings.Trim(token, `"'`)), in.file
			}
		}
		if u.Secret == "" && other != "" {
			u.Elsewhere(other)
		}
		uses = append(uses, u)
	}
	for _, in := range []struct{ file, text string }{{".yarnrc.yml", project}, {"~/.yarnrc.yml", personal}} {
		if address, ok := splice.GetYAML(in.text, "npmRegistryServer"); ok {
			add(in.file, address)
		}
		for _, scope := range splice.KeysYAML(in.text, "npmScopes") {
			if address, ok := splice.GetYAML(in.text, "npmScopes", scope, "npmRegistryServer"); ok {
				add(in.file, address)
			}
		}
		if len(uses) > 0 {
			break
		}
	}
	return uses
}
