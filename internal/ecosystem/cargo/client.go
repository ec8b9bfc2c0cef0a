package cargo

import (
	"fmt"
	"strings"

	"crelvo/internal/core/splice"
	"crelvo/internal/ecosystem"
)

// Where cargo's settings and secrets are
// (https://doc.rust-lang.org/cargo/reference/config.html).
const projectFile, secretFile, sparse = ".cargo/config.toml", "~/.cargo/credentials.toml", "sparse+"

// tokens is the setting without which cargo signs in to no registry but the public one.
const tokens = `["cargo:token"]`

// variable is how the variables of a registry begin.
func variable(id string) string {
	return "CARGO_REGISTRIES_" + strings.ToUpper(strings.ReplaceAll(id, "-", "_"))
}

// Clients implements ecosystem.Ecosystem.
func (Cargo) Clients() []ecosystem.PackageClient {
	return []ecosystem.PackageClient{{Name: "cargo", Title: "Cargo", Publishes: true, Parts: parts, Uses: uses,
		Strays: strays,
		Probe:  "config.json", Upload: "PUT api/v1/crates/new", Bearer: true,
		Variables: func(p ecosystem.Pointing) []splice.Setting {
			return []splice.Setting{{Key: variable(p.ID) + "_INDEX", Value: sparse + p.Address},
				{Key: variable(p.ID) + "_TOKEN", Value: p.Token()},
				{Key: "CARGO_REGISTRY_GLOBAL_CREDENTIAL_PROVIDERS", Value: "cargo:token"}}
		},
		Commands: func(p ecosystem.Pointing) (all []string) {
			all = []string{"cargo build"}
			if p.PURL.Name != "" {
				what := p.PURL.Name
				if p.PURL.Version != "" {
					what += "@=" + p.PURL.Version
				}
				all = []string{"cargo add " + what + " --registry " + p.ID}
			}
			if p.Publishes() {
				all = append(all, "cargo publish --registry "+p.ID)
			}
			return all
		}}}
}

func parts(p ecosystem.Pointing) []ecosystem.Piece {
	set := func(table string, values ...splice.Setting) func(string) (string, error) {
		return func(text string) (string, error) { return splice.SetTOML(text, table, "", values) }
	}
	where := ecosystem.Sequence(set("registries."+p.ID, splice.Setting{Key: "index", Value: sparse + p.Address}),
		set("registry", splice.Setting{Key: "global-credential-providers", Value: tokens}))
	if p.Everything {
		where = ecosystem.Sequence(where, set("source.crates-io", splice.Setting{Key: "replace-with", Value: p.ID}))
	}
	return []ecosystem.Piece{
		{Title: "Where crates come from", File: projectFile, Language: "toml", Edit: where},
		{Title: "Who you are (the name is the same in both files)", File: secretFile,
			Windows: `%USERPROFILE%\.cargo\credentials.toml`, Language: "toml", Secret: true,
			Edit: set("registries."+p.ID, splice.Setting{Key: "token", Value: p.Token()})},
	}
}

// registries are the tables of that kind in a file, by the name of the registry.
func registries(text string) map[string]map[string]string {
	all := map[string]map[string]string{}
	for _, table := range splice.TablesTOML(text) {
		if id, ok := strings.CutPrefix(table, "registries."); ok {
			if found := splice.GetTOML(text, table); len(found) > 0 {
				all[strings.Trim(id, `"`)] = found[0]
			}
		}
	}
	return all
}

func uses(f ecosystem.Files) (all []ecosystem.Use) {
	secrets := registries(f.Read(secretFile))
	for id, r := range registries(f.Read(projectFile)) {
		address, ok := strings.CutPrefix(f.Expand(r["index"]), sparse)
		if !ok || !f.Ours(address) {
			continue
		}
		u := ecosystem.Use{Address: address, ID: id, In: projectFile, Publish: true}
		if token := f.Env(variable(id) + "_TOKEN"); token != "" {
			u.Secret, u.SecretIn = token, "the variable "+variable(id)+"_TOKEN"
		} else if token := secrets[id]["token"]; token != "" {
			u.Secret, u.SecretIn = token, secretFile
		} else if len(secrets) > 0 {
			u.SecretIn = secretFile
			for other := range secrets {
				u.Elsewhere(other)
			}
		}
		all = append(all, u)
	}
	return all
}

// strays is what sends cargo elsewhere than where it is pointed.
func strays(f ecosystem.Files, p ecosystem.Pointing) []string {
	said := f.Overridden(variable(p.ID) + "_INDEX")
	if to := splice.GetTOML(f.Read(projectFile), "source.crates-io"); p.Everything && len(to) > 0 &&
		to[0]["replace-with"] != p.ID {
		said = append(said,
			fmt.Sprintf("%s takes what the public registry has from %s: write replace-with = %q into [source.crates-io]",
				projectFile, to[0]["replace-with"], p.ID))
	}
	return said
}
