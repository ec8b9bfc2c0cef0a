package cargo

import (
	"bytes"
	"context"
	"encoding/binary"
	"encoding/json"
	"io"
	"maps"
	"net/http"
	"strings"

	"crelvo/internal/ecosystem"
)

// Send implements ecosystem.Sending: what cargo publish sends, to the address that the
// registry's config.json names.
func (k Cargo) Send(ctx context.Context, s ecosystem.Shipment) error {
	f, err := k.Only(s)
	if err != nil {
		return err
	}
	var token map[string]string // without a scheme
	if s.Secret != "" && s.User == "" {
		token = map[string]string{"Authorization": s.Secret}
	}
	_, said, err := s.Ask(ctx, http.MethodGet, s.URL+"config.json", nil, 0, token)
	if err != nil {
		return err
	}
	var where struct{ API string }
	if json.Unmarshal(said, &where) != nil || where.API == "" {
		return &ecosystem.Rejection{Said: s.URL + "config.json does not say where crates are published (api)", Final: true}
	}
	if _, said, err = s.Ask(ctx, http.MethodGet, s.URL+indexPath(s.Name), nil, 0, token); err != nil {
		return err
	}
	for line := range bytes.Lines(said) {
		var e entry
		if json.Unmarshal(line, &e) == nil && e.Vers == s.Version && strings.EqualFold(e.Name, s.Name) {
			return ecosystem.Already(f, e.Cksum)
		}
	}
	content, err := s.Open(f)
	if err != nil {
		return err
	}
	defer content.Close()
	_, details, err := readCrate(ctx, ecosystem.Sized(content, f.Digests.Size))
	if err != nil {
		return err
	}
	raw, err := announced(details.Native[nativeEntry], details.Description)
	if err != nil {
		return err
	}
	head := binary.LittleEndian.AppendUint32(nil, uint32(len(raw)))
	head = binary.LittleEndian.AppendUint32(append(head, raw...), uint32(f.Digests.Size))
	body := io.MultiReader(bytes.NewReader(head), io.NewSectionReader(content, 0, f.Digests.Size))
	_, _, err = s.Ask(ctx, http.MethodPut, strings.TrimSuffix(where.API, "/")+"/api/v1/crates/new", body,
		int64(len(head))+f.Digests.Size, token)
	return err
}

// announced is what is said of a crate beside it, which names some things otherwise than
// the index does.
func announced(native json.RawMessage, description string) ([]byte, error) {
	var e struct {
		entry
		Deps []map[string]any `json:"deps"`
	}
	if err := json.Unmarshal(native, &e); err != nil {
		return nil, err
	}
	for _, d := range e.Deps {
		d["version_req"] = d["req"]
		if crate, renamed := d["package"]; renamed {
			d["explicit_name_in_toml"], d["name"] = d["name"], crate
		}
	}
	maps.Copy(e.Features, e.Features2)
	none := []string{}
	return json.Marshal(map[string]any{"name": e.Name, "vers": e.Vers, "deps": e.Deps, "features": e.Features,
		"authors": none, "description": description, "keywords": none, "categories": none, "badges": map[string]any{},
		"links": e.Links, "rust_version": e.RustVersion})
}
