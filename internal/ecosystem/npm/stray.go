package npm

import (
	"encoding/json"
	"strings"

	"crelvo/internal/core/splice"
	"crelvo/internal/ecosystem"
)

// scopesToo points our own scopes where everything is pointed, if a project says of
// them where they are: that goes before the address of everything.
func scopesToo(p ecosystem.Pointing) func(text string) (string, error) {
	return func(text string) (string, error) {
		for _, scope := range p.Own {
			key := scope + ":registry"
			if said, ok := splice.GetINI(text, "", key); !ok || !strings.HasPrefix(scope, "@") ||
				strings.Trim(said, `"`) == p.Address {
				continue
			}
			var err error
			if text, err = splice.SetINI(text, "", key, p.Address); err != nil {
				return "", err
			}
		}
		return text, nil
	}
}

// straysRC is what sends npm, pnpm and Yarn 1 elsewhere.
func straysRC(f ecosystem.Files, p ecosystem.Pointing) (said []string) {
	if p.Everything {
		said = f.Overridden("npm_config_registry", "NPM_CONFIG_REGISTRY", "YARN_REGISTRY")
	}
	for _, scope := range p.Own {
		for _, file := range []string{".npmrc", "~/.npmrc"} {
			if value, ok := splice.GetINI(f.Read(file), "", scope+":registry"); ok && strings.HasPrefix(scope, "@") {
				said = append(said, f.Alone(file, scope+":registry", strings.Trim(value, `"`),
					"our own packages would be asked for there; take the line out")...)
				break // the project's goes before the personal one
			}
		}
	}
	return append(said, straysManifest(f, p)...)
}

// straysYarn is what sends Yarn 2 and later elsewhere.
func straysYarn(f ecosystem.Files, p ecosystem.Pointing) (said []string) {
	if p.Everything {
		said = f.Overridden("YARN_NPM_REGISTRY_SERVER")
	}
	for _, file := range []string{".yarnrc.yml", "~/.yarnrc.yml"} {
		text := f.Read(file)
		for _, scope := range p.Own {
			if name, ok := strings.CutPrefix(scope, "@"); ok {
				value, _ := splice.GetYAML(text, "npmScopes", name, "npmRegistryServer")
				said = append(said, f.Alone(file, "npmRegistryServer of "+scope, strings.Trim(value, `"'`),
					"our own packages would be asked for there; take it out")...)
			}
		}
		if p.Publishes() {
			value, _ := splice.GetYAML(text, "npmPublishRegistry")
			said = append(said, f.Alone(file, "npmPublishRegistry", strings.Trim(value, `"'`),
				"it publishes there; take the line out")...)
		}
	}
	return append(said, straysManifest(f, p)...)
}

// publishKeys are the settings of package.json that say where it is published, and the
// file as it is.
func publishKeys(f ecosystem.Files, p ecosystem.Pointing) (keys []string, says map[string]any) {
	var manifest struct {
		Name          string
		PublishConfig map[string]any
	}
	if !p.Publishes() || json.Unmarshal([]byte(f.Read("package.json")), &manifest) != nil {
		return nil, nil
	}
	keys = []string{"registry"}
	if scope, _, ok := strings.Cut(manifest.Name, "/"); ok {
		keys = append(keys, scope+":registry")
	}
	return keys, manifest.PublishConfig
}

// straysManifest is what the project's own package.json says of where it is published.
func straysManifest(f ecosystem.Files, p ecosystem.Pointing) (said []string) {
	keys, says := publishKeys(f, p)
	for _, key := range keys {
		value, _ := says[key].(string)
		said = append(said, f.Alone("package.json", "publishConfig."+key, value,
			"it publishes there, whatever its other files say; take it out, or write "+p.Address)...)
	}
	return said
}

// mendsManifest points what a project says of where it is published.
func mendsManifest(f ecosystem.Files, p ecosystem.Pointing) (pieces []ecosystem.Piece) {
	keys, _ := publishKeys(f, p)
	for _, key := range keys {
		pieces = append(pieces, ecosystem.Piece{Title: "Where it publishes", File: "package.json", Language: "json",
			Edit: func(text string) (string, error) {
				return splice.SetJSON(text, []string{"publishConfig", key}, p.Address)
			}})
	}
	return pieces
}

// mendsYarn points our own scopes, and where it publishes, if they are said to be
// elsewhere.
func mendsYarn(f ecosystem.Files, p ecosystem.Pointing) []ecosystem.Piece {
	pieces := mendsManifest(f, p)
	var paths [][]string
	for _, scope := range p.Own {
		if name, ok := strings.CutPrefix(scope, "@"); ok {
			paths = append(paths, []string{"npmScopes", name, "npmRegistryServer"})
		}
	}
	if p.Publishes() {
		paths = append(paths, []string{"npmPublishRegistry"})
	}
	for _, file := range []string{".yarnrc.yml", "~/.yarnrc.yml"} {
		for _, path := range paths {
			if _, ok := splice.GetYAML(f.Read(file), path...); ok {
				pieces = append(pieces, ecosystem.Piece{Title: "What was elsewhere", File: file, Language: "yaml",
					Edit: func(text string) (string, error) { return splice.SetYAML(text, path, `"`+p.Address+`"`) }})
			}
		}
	}
	return pieces
}
