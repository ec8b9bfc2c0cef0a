package cargo

import (
	"crelvo/internal/ecosystem"
)

// Where cargo's settings and secrets are
// (https://doc.rust-lang.org/cargo/reference/config.html).
const projectFile, secretFile, sparse = ".cargo/config.toml", "~/.cargo/credentials.toml", "sparse+"

var (
	project  = ecosystem.Source{File: projectFile, Title: "Where crates come from", Form: ecosystem.TOML}
	personal = ecosystem.Source{File: secretFile, Title: "Who you are (the name is the same in both files)",
		Windows: `%USERPROFILE%\.cargo\credentials.toml`, Form: ecosystem.TOML}
	settings = ecosystem.Settings{All: []ecosystem.Setting{
		{In: project, Path: []string{"registries", "{id}", "index"}, Value: sparse + "{address}",
			Env: "CARGO_REGISTRIES_{ID}_INDEX"},
		{In: personal, Path: []string{"registries", "{id}", "token"}, Value: "{token}", Env: "CARGO_REGISTRIES_{ID}_TOKEN"},
		// Without it cargo signs in to no registry but the public one.
		{In: project, Path: []string{"registry", "global-credential-providers"}, Value: `["cargo:token"]`,
			Env: "CARGO_REGISTRY_GLOBAL_CREDENTIAL_PROVIDERS"},
		{In: project, Path: []string{"source", "crates-io", "replace-with"}, Value: "{id}",
			Only: func(p ecosystem.Pointing) bool { return p.Everything },
			Else: "takes what the public registry has from %s"}}}
)

// Clients implements ecosystem.Ecosystem.
func (Cargo) Clients() []ecosystem.PackageClient {
	return []ecosystem.PackageClient{{Name: "cargo", Title: "Cargo", Agents: []string{"cargo/", "cargo "}, Publishes: true,
		Parts: settings.Parts,
		Uses:  settings.Uses, Variables: settings.Variables, Strays: settings.Strays, Probe: "config.json",
		Upload: "PUT api/v1/crates/new", Bearer: true,
		Commands: ecosystem.Orders{Build: "cargo build", Add: "cargo add {what} --registry {id}", Version: "@=",
			Publish: "cargo publish --registry {id}"}.Of(ecosystem.PlainName)}}
}
