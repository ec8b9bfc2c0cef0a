package npm

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"

	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
)

// Send implements ecosystem.Sending: the document that npm publish sends, with
// the tarball in it.
func (n NPM) Send(ctx context.Context, s ecosystem.Shipment) error {
	f, err := n.Only(s)
	if err != nil {
		return err
	}
	content, err := s.Open(f)
	if err != nil {
		return err
	}
	defer content.Close()
	t, err := readTarball(ctx, ecosystem.Sized(content, f.Digests.Size))
	if err != nil {
		return err
	}
	var manifest map[string]any
	if err := json.Unmarshal(t.Manifest, &manifest); err != nil {
		return err
	}
	name := joinName(s.Namespace, s.Name)
	address := s.URL + url.PathEscape(name)
	status, said, err := s.Ask(ctx, http.MethodGet, address, nil, 0, map[string]string{"Accept": "application/json"})
	if err != nil {
		return err
	}
	var there struct {
		Versions map[string]struct {
			Dist struct {
				Shasum string `json:"shasum"`
			} `json:"dist"`
		} `json:"versions"`
	}
	if status == http.StatusOK && json.Unmarshal(said, &there) == nil {
		if v, ok := there.Versions[s.Version]; ok {
			if v.Dist.Shasum == f.Digests.Hex("sha1") {
				return nil
			}
			return &ecosystem.Rejection{Said: fmt.Sprintf("%s@%s is there already, with other bytes", name, s.Version),
				Final: true}
		}
	}
	manifest["_id"] = name + "@" + s.Version
	manifest["dist"] = map[string]string{"shasum": f.Digests.Hex("sha1"), "tarball": address + "/-/" + f.Name,
		"integrity": "sha512-" + base64.StdEncoding.EncodeToString(f.Digests.SHA512[:])}
	tag := latestTag
	if purl.IsSnapshot(Name, s.Version) {
		tag = "next"
	}
	head, err := json.Marshal(map[string]any{"_id": name, "name": name, "dist-tags": map[string]string{tag: s.Version},
		"versions": map[string]any{s.Version: manifest}})
	if err != nil {
		return err
	}
	// The attachment is written behind what else there is, so that it is never held
	// in memory.
	file, err := json.Marshal(f.Name)
	if err != nil {
		return err
	}
	body := ecosystem.Piped(func(w io.Writer) error {
		_, err := fmt.Fprintf(w, `%s,"_attachments":{%s:{"content_type":"application/octet-stream","length":%d,"data":"`,
			head[:len(head)-1], file, f.Digests.Size)
		if err == nil {
			encoder := base64.NewEncoder(base64.StdEncoding, w)
			_, err = io.Copy(encoder, io.NewSectionReader(content, 0, f.Digests.Size))
			err = errors.Join(err, encoder.Close())
		}
		if err == nil {
			_, err = io.WriteString(w, `"}}}`)
		}
		return err
	})
	defer body.Close()
	_, _, err = s.Ask(ctx, http.MethodPut, address, body, -1, map[string]string{"Content-Type": "application/json"})
	return err
}
