package oci

import (
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"crelvo/internal/core/splice"
	"crelvo/internal/ecosystem"
)

// What runs and builds containers asks for images of other hosts, and can be told to ask
// this server first.

// containerdFile is that of whoever runs containers without rights; for the whole machine it
// is in /etc/containerd/certs.d/_default
// (https://github.com/containerd/containerd/blob/main/docs/hosts.md).
const containerdFile = "~/.config/containerd/certs.d/_default/hosts.toml"

// containerdHosts is such a file.
type containerdHosts struct {
	Server string                    `toml:"server,omitempty"`
	Host   map[string]containerdHost `toml:"host"`
}

type containerdHost struct {
	Capabilities []string          `toml:"capabilities"`
	OverridePath bool              `toml:"override_path"`
	Header       map[string]string `toml:"header"`
}

// below is where images of a repository are, for a client that knows a whole address.
func below(p ecosystem.Pointing) string {
	u, err := url.Parse(p.Address)
	if err != nil {
		return ""
	}
	return u.Scheme + "://" + u.Host + OCI{}.Door() + "/" + p.ID
}

func basic(p ecosystem.Pointing) string {
	return base64.StdEncoding.EncodeToString([]byte(p.User + ":" + p.Token()))
}

// containerd asks the repository for the images of all hosts, before these.
func containerd() ecosystem.PackageClient {
	edit := func(p ecosystem.Pointing) func(string) (string, error) {
		return func(text string) (string, error) {
			at := below(p)
			made := fmt.Sprintf("[host.%[1]q]\n  capabilities = [\"pull\", \"resolve\"]\n  override_path = true\n"+
				"  [host.%[1]q.header]\n    authorization = %[2]q\n", at, "Basic "+basic(p))
			if strings.TrimSpace(text) == "" {
				return made, nil
			}
			var there containerdHosts
			if err := toml.Unmarshal([]byte(text), &there); err != nil {
				return "", fmt.Errorf("%s cannot be read: %w", containerdFile, err)
			}
			known, ok := there.Host[at]
			switch {
			case ok && known.Header["authorization"] == "Basic "+basic(p) && known.OverridePath:
				return text, nil
			case ok && len(there.Host) == 1 && there.Server == "":
				return made, nil // it is what was written before
			}
			return "", errors.New("it names other hosts already: which of them is asked first is for a person to say")
		}
	}
	return ecosystem.PackageClient{Name: "containerd", Title: "containerd", Agents: []string{"containerd/"}, Outside: true,
		Parts: func(p ecosystem.Pointing) []ecosystem.Piece {
			return []ecosystem.Piece{{Title: "Who is asked first, for images of any host (for the whole machine: " +
				"/etc/containerd/certs.d/_default/hosts.toml)",
				File: containerdFile, Language: "toml", Secret: true, Edit: edit(p)}}
		},
		Uses: func(f ecosystem.Files) (all []ecosystem.Use) {
			var there containerdHosts
			if toml.Unmarshal([]byte(joinedTOML(f.Read(containerdFile))), &there) != nil {
				return nil
			}
			for address, h := range there.Host {
				u, ok := ecosystem.Use{In: containerdFile, SecretIn: containerdFile}, false
				if u.Address, u.ID, ok = doorOf(address); !ok {
					continue
				}
				plain, err := base64.StdEncoding.DecodeString(strings.TrimPrefix(h.Header["authorization"], "Basic "))
				if err != nil {
					u.Cut()
				}
				u.User, u.Secret, _ = strings.Cut(string(plain), ":")
				all = append(all, u)
			}
			slices.SortFunc(all, func(a, b ecosystem.Use) int { return strings.Compare(a.Address, b.Address) })
			return all
		},
		Commands: func(p ecosystem.Pointing) []string {
			return []string{"nerdctl pull " + host(p.Address) + "/" + p.ID + "/" + wantedOf(p)}
		},
		Variables: token}
}

// joinedTOML is a file in which a text has a line break that was pasted with it.
func joinedTOML(text string) string {
	lines := strings.Split(text, "\n")
	for i := 0; i+1 < len(lines); i++ {
		if strings.Count(lines[i], `"`)%2 == 1 {
			lines[i] += " " + lines[i+1]
			lines = slices.Delete(lines, i+1, i+2)
		}
	}
	return strings.Join(lines, "\n")
}

// doorOf is the door of the repository whose images are below an address.
func doorOf(address string) (door, id string, ok bool) {
	u, err := url.Parse(address)
	if err != nil {
		return "", "", false
	}
	id, ok = strings.CutPrefix(strings.TrimSuffix(u.Path, "/"), OCI{}.Door()+"/")
	return u.Scheme + "://" + u.Host + "/at/" + id + "/" + Name + "/", id, ok && id != "" && !strings.Contains(id, "/")
}

func token(p ecosystem.Pointing) []splice.Setting {
	return []splice.Setting{{Key: ecosystem.TokenVariable, Value: p.Token()}}
}

// wantedOf is the image that is wanted, with what it is asked for by.
func wantedOf(p ecosystem.Pointing) string {
	image, reference := "IMAGE", ":TAG"
	if p.PURL.Name != "" {
		image = strings.TrimPrefix(p.PURL.Namespace+"/"+p.PURL.Name, "/")
	}
	if p.PURL.Version != "" {
		reference = "@" + p.PURL.Version
	}
	if tag := p.PURL.Qualifiers["tag"]; tag != "" {
		reference = ":" + tag
	}
	return image + reference
}

// buildkitFile is that of whoever builds without rights; for the whole machine it is
// /etc/buildkit/buildkitd.toml
// (https://github.com/moby/buildkit/blob/master/docs/buildkitd.toml.md).
const buildkitFile = "~/.config/buildkit/buildkitd.toml"

// buildkit asks the repository for the images of the hosts that are mirrored behind it. Who
// one is, it is told by whoever builds.
func buildkit(signIn func(ecosystem.Pointing) []ecosystem.Piece, uses func(ecosystem.Files) []ecosystem.Use,
) ecosystem.PackageClient {
	return ecosystem.PackageClient{Name: "buildkit", Title: "BuildKit", Agents: []string{"buildkit/"}, Outside: true,
		Publishes: true, Upload: upload,
		Parts: func(p ecosystem.Pointing) []ecosystem.Piece {
			all := signIn(p)
			if len(p.Upstreams) > 0 || p.Plain() {
				all = append(all, ecosystem.Piece{Title: "Who is asked first, for images of hosts that are mirrored here (for " +
					"the whole machine: /etc/buildkit/buildkitd.toml)", File: buildkitFile, Language: "toml",
					Edit: func(text string) (string, error) { return mirrorsIn(text, p) }})
			}
			return all
		},
		Uses: uses, Variables: token,
		Commands: func(p ecosystem.Pointing) []string {
			output := "type=local,dest=out"
			if p.Publishes() {
				p.PURL.Version, p.PURL.Qualifiers = "", nil
				output = "type=image,push=true,name=" + host(p.Address) + "/" + p.ID + "/" + wantedOf(p)
			}
			return []string{"buildctl build --frontend dockerfile.v0 --local context=. --local dockerfile=. --output " + output}
		}}
}

// mirrorsIn says that images of the hosts that are mirrored here come from here.
func mirrorsIn(text string, p ecosystem.Pointing) (string, error) {
	set := func(of, key, value string) (err error) {
		text, err = splice.SetTOML(text, fmt.Sprintf("registry.%q", of), "", []splice.Setting{{Key: key, Value: value}})
		return err
	}
	for _, of := range p.Upstreams {
		if err := set(of, "mirrors", fmt.Sprintf("[%q]", host(p.Address)+"/"+p.ID)); err != nil {
			return "", err
		}
	}
	if p.Plain() {
		return text, set(host(p.Address), "http", "true")
	}
	return text, nil
}

// kubernetesFile is a pull secret
// (https://kubernetes.io/docs/tasks/configure-pod-container/pull-image-private-registry/).
const kubernetesFile = "~/.kube/crelvo-pull-secret.yaml"

// kubernetes gets a pull secret.
func kubernetes() ecosystem.PackageClient {
	return ecosystem.PackageClient{Name: "kubernetes", Title: "Kubernetes", Agents: []string{"kubelet/", "cri-o/"},
		Outside: true, Variables: token,
		Parts: func(p ecosystem.Pointing) []ecosystem.Piece {
			return []ecosystem.Piece{{Title: "A pull secret: apply it, and delete the file", File: kubernetesFile, Language: "yaml",
				Secret: true, Edit: func(string) (string, error) {
					config, err := json.Marshal(map[string]any{"auths": map[string]any{host(p.Address): map[string]string{
						"auth": basic(p)}}})
					return "apiVersion: v1\nkind: Secret\nmetadata:\n  name: crelvo-" + p.ID +
						"\ntype: kubernetes.io/dockerconfigjson\nstringData:\n  .dockerconfigjson: '" + string(config) + "'\n", err
				}}}
		},
		Uses: func(f ecosystem.Files) []ecosystem.Use {
			text := f.Read(kubernetesFile)
			config, _ := splice.GetYAML(text, "stringData", ".dockerconfigjson")
			name, _ := splice.GetYAML(text, "metadata", "name")
			auth, ok := splice.GetJSON(config, []string{"auths", host(f.At), "auth"})
			if !ok {
				return nil
			}
			u := ecosystem.Use{Address: f.At, In: kubernetesFile, SecretIn: kubernetesFile, ID: strings.TrimPrefix(name, "crelvo-")}
			plain, err := base64.StdEncoding.DecodeString(auth)
			if err != nil {
				u.Cut()
			}
			u.User, u.Secret, _ = strings.Cut(string(plain), ":")
			return []ecosystem.Use{u}
		},
		Commands: func(p ecosystem.Pointing) []string {
			return []string{"kubectl apply --filename " + kubernetesFile,
				fmt.Sprintf(`kubectl patch serviceaccount default --patch '{"imagePullSecrets": [{"name": "crelvo-%s"}]}'`, p.ID),
				"kubectl run trial --image " + host(p.Address) + "/" + p.ID + "/" + wantedOf(p)}
		}}
}
