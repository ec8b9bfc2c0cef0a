package oci

import (
	"cmp"
	"encoding/base64"
	"fmt"
	"net/url"
	"strings"

	"crelvo/internal/core/splice"
	"crelvo/internal/ecosystem"
)

// secretFile is where the tools of images keep who one is, for each host; all that are here
// read it.
const secretFile = "~/.docker/config.json"

// upload is how clients begin to push.
const upload = "POST " + root + "/{id}/crelvo-check/blobs/uploads/"

// Clients implements ecosystem.Ecosystem. An image is named with its host, so there is
// nothing to set up but who one is.
func (OCI) Clients() []ecosystem.PackageClient {
	tool := func(name, title string, o ecosystem.Orders, agents ...string) ecosystem.PackageClient {
		return ecosystem.PackageClient{Name: name, Title: title, Agents: agents, Publishes: true, Outside: true,
			Parts: signIn, Uses: uses,
			Commands:  func(p ecosystem.Pointing) []string { return commands(o, p) },
			Variables: token, Upload: upload}
	}
	return []ecosystem.PackageClient{
		tool("docker", "Docker", ecosystem.Orders{Build: "docker login", Add: "docker pull {what}", Publish: "docker push {what}"}, "docker/"),
		tool("podman", "Podman, Buildah", ecosystem.Orders{Build: "podman login", Add: "podman pull {what}", Publish: "podman push {what}"},
			"containers/", "Buildah/"),
		tool("skopeo", "Skopeo", ecosystem.Orders{Build: "skopeo login", Add: "skopeo copy docker://{what} oci:image",
			Publish: "skopeo copy oci:image docker://{what}"}, "skopeo/"),
		tool("crane", "crane", ecosystem.Orders{Build: "crane auth login", Add: "crane pull {what} image.tar",
			Publish: "crane push image.tar {what}"},
			"go-containerregistry/", "crane/"),
		tool("oras", "ORAS", ecosystem.Orders{Build: "oras login", Add: "oras pull {what}",
			Publish: "oras push {what} FILE"}, "oras"),
		containerd(), buildkit(signIn, uses), kubernetes(),
	}
}

// host is that of an address, with its port.
func host(address string) string {
	if u, err := url.Parse(address); err == nil {
		return u.Host
	}
	return ""
}

// commands name an image as clients do: with its host and its repository. Where there is
// no file with the secret, as in CI, the first signs in.
func commands(o ecosystem.Orders, p ecosystem.Pointing) []string {
	name := host(p.Address) + "/" + p.ID + "/" + wantedOf(p)
	all := []string{fmt.Sprintf(`echo "$CRELVO_TOKEN" | %s %s --username %s --password-stdin`, o.Build, host(p.Address),
		cmp.Or(p.User, "NAME")), strings.ReplaceAll(o.Add, "{what}", name)}
	if p.Publishes() {
		pushed := p
		pushed.PURL.Version, pushed.PURL.Qualifiers = "", nil
		all = append(all, strings.ReplaceAll(o.Publish, "{what}", host(p.Address)+"/"+p.ID+"/"+wantedOf(pushed)))
	}
	return all
}

// signIn is who one is, for the host.
func signIn(p ecosystem.Pointing) []ecosystem.Piece {
	return []ecosystem.Piece{{Title: "Who you are, for this host", File: secretFile,
		Windows: `%USERPROFILE%\.docker\config.json`, Language: "json", Secret: true,
		Edit: func(text string) (string, error) {
			return splice.PutJSON(text, []string{"auths", host(p.Address), "auth"},
				base64.StdEncoding.EncodeToString([]byte(p.User+":"+p.Token())))
		}}}
}

// uses finds what the host of an address is signed in to with.
func uses(f ecosystem.Files) []ecosystem.Use {
	auth, ok := splice.GetJSON(f.Read(secretFile), []string{"auths", host(f.At), "auth"})
	if !ok {
		return nil
	}
	u := ecosystem.Use{Address: f.At, In: secretFile, SecretIn: secretFile, Publish: true}
	plain, err := base64.StdEncoding.DecodeString(auth)
	if err != nil {
		u.Wrong = "what " + secretFile + " has for " + host(f.At) + " cannot be read: sign in again"
		return []ecosystem.Use{u}
	}
	u.User, u.Secret, _ = strings.Cut(string(plain), ":")
	return []ecosystem.Use{u}
}
