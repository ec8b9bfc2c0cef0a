package helm

import (
	"cmp"
	"encoding/base64"
	"errors"
	"fmt"
	"net/url"
	"regexp"
	"strconv"
	"strings"

	"crelvo/internal/core/splice"
	"crelvo/internal/ecosystem"
)

// Where helm keeps its repositories, and who one is at hosts of OCI artifacts
// (https://helm.sh/docs/helm/helm/).
const (
	listFile, hostFile       = "~/.config/helm/repositories.yaml", "~/.config/helm/registry/config.json"
	listWindows, hostWindows = `%APPDATA%\helm\repositories.yaml`, `%APPDATA%\helm\registry\config.json`
)

// Clients implements ecosystem.Ecosystem.
func (Helm) Clients() []ecosystem.PackageClient {
	return []ecosystem.PackageClient{{Name: "helm", Title: "Helm", Agents: []string{"Helm/"}, Publishes: true,
		Outside: true, Parts: parts, Uses: uses, Commands: commands, Probe: indexFile,
		Variables: func(p ecosystem.Pointing) []splice.Setting {
			return []splice.Setting{{Key: ecosystem.TokenVariable, Value: p.Token()}}
		},
		Upload: "PUT crelvo-check-1.0.0." + archive,
		Strays: func(f ecosystem.Files, _ ecosystem.Pointing) (said []string) {
			for name, file := range map[string]string{"HELM_REPOSITORY_CONFIG": listFile, "HELM_REGISTRY_CONFIG": hostFile} {
				if other := f.Env(name); other != "" {
					said = append(said, fmt.Sprintf("the variable %s is %s, so helm does not read %s: unset it", name, other, file))
				}
			}
			return said
		}}}
}

func parts(p ecosystem.Pointing) []ecosystem.Piece {
	all := []ecosystem.Piece{{Title: "Where charts come from, and who you are there", File: listFile, Windows: listWindows,
		Language: "yaml", Secret: true, Edit: func(text string) (string, error) { return listRepository(text, p) }}}
	if p.Publishes() {
		all = append(all, ecosystem.Piece{Title: "Who you are where charts are pushed", File: hostFile, Windows: hostWindows,
			Language: "json", Secret: true, Edit: func(text string) (string, error) {
				return splice.PutJSON(text, []string{"auths", hostOf(p.Address), "auth"},
					base64.StdEncoding.EncodeToString([]byte(p.User+":"+p.Token())))
			}})
	}
	return all
}

// hostOf is that of an address, with its port.
func hostOf(address string) string {
	if u, err := url.Parse(address); err == nil {
		return u.Host
	}
	return ""
}

// commands use the repository. Where there are no files, as in CI, the first adds it.
func commands(p ecosystem.Pointing) []string {
	all := []string{fmt.Sprintf(`echo "$CRELVO_TOKEN" | helm repo add %s %s --username %s --password-stdin`, p.ID,
		strings.TrimSuffix(p.Address, "/"), cmp.Or(p.User, "NAME")), "helm repo update " + p.ID}
	what := "CHART"
	if p.PURL.Name != "" {
		what = p.PURL.Name
	}
	pull := "helm pull " + p.ID + "/" + what
	if p.PURL.Version != "" {
		pull += " --version " + p.PURL.Version
	}
	all = append(all, pull)
	if p.Publishes() {
		push := "helm push " + what + "-VERSION.tgz oci://" + hostOf(p.Address) + "/" + p.ID
		if p.Plain() {
			push += " --plain-http"
		}
		all = append(all, push)
	}
	return all
}

// repository is one that helm knows.
type repository struct {
	Name     string `yaml:"name"`
	URL      string `yaml:"url"`
	Username string `yaml:"username"`
	Password string `yaml:"password"`
}

// repositoriesIn reads what helm knows.
func repositoriesIn(text string) ([]repository, error) {
	var all struct {
		Repositories []repository `yaml:"repositories"`
	}
	err := splice.ReadYAML([]byte(text), &all)
	return all.Repositories, err
}

func uses(f ecosystem.Files) (all []ecosystem.Use) {
	text := f.Read(listFile)
	known, err := repositoriesIn(text)
	// What stands before something that cannot be read, such as a secret that was pasted with
	// a line break, is what is meant.
	for err != nil && text != "" {
		text = text[:strings.LastIndexByte(strings.TrimRight(text, "\n"), '\n')+1]
		known, err = repositoriesIn(text)
	}
	auth, _ := splice.GetJSON(f.Read(hostFile), []string{"auths", hostOf(f.At), "auth"})
	for _, r := range known {
		u := ecosystem.Use{Address: strings.TrimSuffix(r.URL, "/") + "/", ID: r.Name, In: listFile, User: r.Username,
			Secret: r.Password, SecretIn: listFile, Publish: auth != "" && hostOf(r.URL) == hostOf(f.At)}
		all = append(all, u)
	}
	return all
}

// noRepositories is how helm writes that it knows none.
var noRepositories = regexp.MustCompile(`(?m)^repositories:[ \t]*(\[\])?[ \t]*\n?$`)

// listRepository adds a repository to those that helm knows, or changes where the one of
// that name is, and who one is there. All else stays as it is.
func listRepository(text string, p ecosystem.Pointing) (string, error) {
	want := repository{p.ID, strings.TrimSuffix(p.Address, "/"), p.User, p.Token()}
	unclear := errors.New(listFile + " is written in a way that cannot be changed safely")
	text = strings.ReplaceAll(text, "\r\n", "\n")
	known, err := repositoriesIn(text)
	if err != nil {
		return "", fmt.Errorf("%s cannot be read: %w", listFile, err)
	}
	at := -1
	for i, r := range known {
		if r.Name == p.ID {
			at = i
		}
	}
	if text != "" && !strings.HasSuffix(text, "\n") {
		text += "\n"
	}
	switch {
	case at >= 0:
		text, err = changeRepository(text, at, want)
	case len(known) > 0:
		if _, below, ok := strings.Cut("\n"+text, "\nrepositories:\n"); ok {
			first := below[:strings.IndexByte(below, '-')]
			before := text[:len(text)-len(below)]
			text = before + want.item(strings.TrimLeft(first, "\n")) + below
		}
	case noRepositories.MatchString(text):
		text = noRepositories.ReplaceAllLiteralString(text, "repositories:\n"+want.item(""))
	default:
		if text == "" {
			text = "apiVersion: \"\"\n"
		}
		text += "repositories:\n" + want.item("")
	}
	if err != nil {
		return "", err
	}
	now, err := repositoriesIn(text)
	if err != nil {
		return "", unclear
	}
	others := 0
	found := false
	for _, r := range now {
		if r == want {
			found = true
		} else if r.Name != p.ID {
			others++
		}
	}
	kept := len(known)
	if at >= 0 {
		kept--
	}
	if !found || others != kept {
		return "", unclear
	}
	return text, nil
}

// item is the repository in a list.
func (r repository) item(indent string) string {
	var quote splice.ScalarYAML
	return indent + "- name: " + quote.Written(r.Name) + "\n" + indent + "  url: " + quote.Written(r.URL) + "\n" + indent +
		"  username: " + quote.Written(r.Username) + "\n" + indent + "  password: " + quote.Written(r.Password) + "\n"
}

// changeRepository changes the one at a place of the list.
func changeRepository(text string, at int, want repository) (string, error) {
	scalars, err := splice.ScalarsYAML([]byte(text))
	if err != nil {
		return "", err
	}
	there := map[string]splice.ScalarYAML{}
	for _, s := range scalars {
		if len(s.Path) == 3 && s.Path[0] == "repositories" && s.Path[1] == strconv.Itoa(at) {
			there[s.Path[2]] = s
		}
	}
	values := []struct{ key, value string }{{"url", want.URL}, {"username", want.Username}, {"password", want.Password}}
	name := there["name"]
	line := strings.LastIndexByte(text[:name.From], '\n') + 1
	column := strings.Index(text[line:name.From], "name")
	var splices []ecosystem.Splice
	lacking := ""
	for _, v := range values {
		if s, ok := there[v.key]; ok {
			splices = append(splices, ecosystem.Splice{Start: s.From, End: s.To, New: s.Written(v.value)})
			continue
		}
		if column < 0 {
			continue // what is read back tells that it is lacking
		}
		var quote splice.ScalarYAML
		lacking += strings.Repeat(" ", column) + v.key + ": " + quote.Written(v.value) + "\n"
	}
	if lacking != "" {
		end := name.To + strings.IndexByte(text[name.To:], '\n') + 1
		splices = append(splices, ecosystem.Splice{Start: end, End: end, New: lacking})
	}
	return string(ecosystem.Spliced([]byte(text), splices)), nil
}
