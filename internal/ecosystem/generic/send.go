package generic

import (
	"bytes"
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"net/url"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fileset"
	"crelvo/internal/ecosystem"
)

// Send implements ecosystem.Sending: what the other server lacks of each pack, and then the manifest.
func (Generic) Send(ctx context.Context, s ecosystem.Shipment) error {
	at := s.URL + setsDoor + "/" + url.PathEscape(s.Name)
	var manifest *catalog.File
	for i, f := range s.Files {
		switch f.Extension {
		case manifestKind:
			manifest = &s.Files[i]
		case packKind:
			if err := sendPack(ctx, s, at, f); err != nil {
				return err
			}
		}
	}
	if manifest == nil {
		return &ecosystem.Rejection{Said: "its manifest is not there", Final: true}
	}
	content, err := s.Open(*manifest)
	if err != nil {
		return err
	}
	defer content.Close()
	to := at + "/" + url.PathEscape(s.Version) + "/" + manifestFile
	if len(s.Labels) > 0 {
		to += "?" + url.Values{"label": s.Labels}.Encode()
	}
	_, _, err = s.Ask(ctx, http.MethodPut, to, io.NewSectionReader(content, 0, manifest.Digests.Size),
		manifest.Digests.Size, map[string]string{"Content-Type": fileset.MediaType})
	return err
}

// sendPack sends those chunks of a pack that the other server lacks.
func sendPack(ctx context.Context, s ecosystem.Shipment, at string, f catalog.File) error {
	content, err := s.Open(f)
	if err != nil {
		return err
	}
	defer content.Close()
	chunks, err := fileset.ReadPack(content, f.Digests.Size)
	if err != nil {
		return &ecosystem.Rejection{Said: f.Name + " cannot be read: " + err.Error(), Final: true}
	}
	version := "?version=" + url.QueryEscape(s.Version)
	lacking := map[string]bool{}
	for begin := 0; begin < len(chunks); begin += MaxAsked {
		var asked struct {
			Chunks []string `json:"chunks"`
		}
		for _, c := range chunks[begin:min(len(chunks), begin+MaxAsked)] {
			asked.Chunks = append(asked.Chunks, hex.EncodeToString(c.Digest[:]))
		}
		raw, err := json.Marshal(asked)
		if err != nil {
			return err
		}
		_, said, err := s.Ask(ctx, http.MethodPost, at+"/lacking"+version, bytes.NewReader(raw), int64(len(raw)),
			map[string]string{"Content-Type": "application/json"})
		if err != nil {
			return err
		}
		var told struct {
			Lacking []string `json:"lacking"`
		}
		if err := json.Unmarshal(said, &told); err != nil {
			return &ecosystem.Rejection{Said: "it does not tell which chunks it lacks", Final: true}
		}
		for _, text := range told.Lacking {
			lacking[text] = true
		}
	}
	if len(lacking) == 0 {
		return nil
	}
	body := ecosystem.Piped(func(w io.Writer) error {
		pack, from, read := fileset.NewPackWriter(w), int64(0), make([]byte, 0, 1<<20)
		for _, c := range chunks {
			if text := hex.EncodeToString(c.Digest[:]); lacking[text] {
				delete(lacking, text)
				read = append(read[:0], make([]byte, c.Length)...)
				if _, err := content.ReadAt(read, from); err != nil && !errors.Is(err, io.EOF) {
					return err
				}
				if err := pack.Add(c, read); err != nil {
					return err
				}
			}
			from += int64(c.Length)
		}
		return pack.Close()
	})
	defer body.Close()
	_, _, err = s.Ask(ctx, http.MethodPost, at+"/packs"+version, body, -1,
		map[string]string{"Content-Type": "application/octet-stream"})
	return err
}
