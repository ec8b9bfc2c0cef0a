package pypi

import (
	"bytes"
	"context"
	"errors"
	"io"
	"mime/multipart"
	"net/http"
	"strings"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/purl"
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
		var no *ecosystem.Rejection
		if errors.As(err, &no) && (no.Status == http.StatusConflict || no.Status == http.StatusBadRequest) &&
			strings.Contains(strings.ToLower(no.Said), "already") {
			there, lookErr := sha256There(ctx, s, f)
			if lookErr != nil {
				return lookErr
			}
			err = ecosystem.Already(f, there)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// sha256There is the digest by which the server lists a distribution; "" if no list
// of its is found, or not the file. Where the list is, the protocol of uploading
// does not say: it is looked for beside the address, and where the place of uploads
// has its own name.
func sha256There(ctx context.Context, s ecosystem.Shipment, f catalog.File) (string, error) {
	name := purl.NormalName(Name, s.Name)
	base := strings.TrimSuffix(s.URL, "/")
	for _, list := range []string{base + "/simple/", strings.TrimSuffix(base, "/legacy") + "/simple/", base + "/"} {
		status, said, err := s.Ask(ctx, http.MethodGet, list+name+"/", nil, 0, map[string]string{"Accept": PyPI{}.Accepts()})
		var no *ecosystem.Rejection
		if errors.As(err, &no) && no.Final || err == nil && status != http.StatusOK {
			continue
		}
		if err != nil {
			return "", err
		}
		listing, err := PyPI{}.ReadListing(ctx, purl.PURL{Ecosystem: Name, Name: name},
			ecosystem.Reading{Reader: bytes.NewReader(said), Address: list + name + "/"})
		if err != nil {
			continue
		}
		for _, v := range listing.Versions {
			for _, there := range v.Files {
				if there.Name == f.Name {
					return strings.ToLower(there.Digests["sha256"]), nil
				}
			}
		}
	}
	return "", nil
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
		for _, field := range [][2]string{{":action", "file_upload"}, {"protocol_version", "1"}, {"metadata_version", "2.1"},
			{"name", s.Name}, {"version", s.Version},
			{"filetype", kind}, {"pyversion", python}, {"sha256_digest", f.Digests.Hex("sha256")},
			{"md5_digest", f.Digests.Hex("md5")}} {
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
	_, _, err = s.Ask(ctx, http.MethodPost, s.URL, body, -1,
		map[string]string{"Content-Type": "multipart/form-data; boundary=" + boundary})
	return err
}
