package pypi

import (
	"context"
	"errors"
	"io"
	"mime/multipart"
	"net/http"
	"strings"

	"crelvo/internal/core/catalog"
	"crelvo/internal/ecosystem"
)

// Send implements ecosystem.Sending: each distribution by the form that twine
// sends, to the address that it sends it to.
func (PyPI) Send(ctx context.Context, s ecosystem.Shipment) error {
	for _, f := range s.Files {
		if !isDistribution(f.Extension) {
			continue
		}
		err := sendDistribution(ctx, s, f)
		var no *ecosystem.Refusal
		if errors.As(err, &no) && (no.Status == http.StatusConflict || no.Status == http.StatusBadRequest) && strings.Contains(strings.ToLower(no.Said), "already") {
			err = nil // an attempt before this one arrived
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func sendDistribution(ctx context.Context, s ecosystem.Shipment, f catalog.File) error {
	content, err := s.Open(f)
	if err != nil {
		return err
	}
	defer content.Close()
	kind, python := "sdist", "source"
	if f.Extension == wheel {
		kind, python = "bdist_wheel", "py3"
		if m := wheelForm.FindStringSubmatch(strings.TrimSuffix(f.Name, "."+wheel)); m != nil {
			python = m[4]
		}
	}
	boundary := multipart.NewWriter(io.Discard).Boundary()
	body := ecosystem.Piped(func(w io.Writer) error {
		form := multipart.NewWriter(w)
		if err := form.SetBoundary(boundary); err != nil {
			return err
		}
		for _, field := range [][2]string{{":action", "file_upload"}, {"protocol_version", "1"}, {"metadata_version", "2.1"}, {"name", s.Name}, {"version", s.Version},
			{"filetype", kind}, {"pyversion", python}, {"sha256_digest", f.Digests.Hex("sha256")}, {"md5_digest", f.Digests.Hex("md5")}} {
			if err := form.WriteField(field[0], field[1]); err != nil {
				return err
			}
		}
		part, err := form.CreateFormFile("content", f.Name)
		if err == nil {
			_, err = io.Copy(part, content)
		}
		return errors.Join(err, form.Close())
	})
	defer body.Close()
	_, _, err = s.Ask(ctx, http.MethodPost, s.URL, body, -1, map[string]string{"Content-Type": "multipart/form-data; boundary=" + boundary})
	return err
}
