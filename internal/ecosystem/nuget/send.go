package nuget

import (
	"bytes"
	"context"
	"errors"
	"io"
	"mime/multipart"
	"net/http"
	"strings"

	"crelvo/internal/core/catalog"
	"crelvo/internal/ecosystem"
)

// keyHeader is the header in which clients send the key to push with.
const keyHeader = "X-NuGet-ApiKey"

// Send implements ecosystem.Sending: a push
// (https://learn.microsoft.com/nuget/api/package-publish-resource) to the address
// that clients push to. The secret goes along as the key.
func (NuGet) Send(ctx context.Context, s ecosystem.Shipment) error {
	for _, f := range s.Files {
		if f.Extension != packed {
			continue
		}
		err := push(ctx, s, f)
		var no *ecosystem.Rejection
		if errors.As(err, &no) && no.Status == http.StatusConflict {
			// The protocol's answer for what is there, whatever its bytes are.
			there, lookErr := sha256There(ctx, s)
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

// sha256There is the digest of the package that the server has; "" if it is not
// found. The service index is looked for beside the address to push to
// (https://learn.microsoft.com/nuget/api/package-base-address-resource).
func sha256There(ctx context.Context, s ecosystem.Shipment) (string, error) {
	base := strings.TrimSuffix(s.URL, "/")
	parent := base[:strings.LastIndexByte(base, '/')]
	for _, index := range []string{parent + "/index.json", base + "/index.json"} {
		status, said, err := s.Ask(ctx, http.MethodGet, index, nil, 0, map[string]string{"Accept": "application/json"})
		var no *ecosystem.Rejection
		if errors.As(err, &no) && no.Final || err == nil && status != http.StatusOK {
			continue
		}
		if err != nil {
			return "", err
		}
		flat, err := resourceIn(ecosystem.Reading{Reader: bytes.NewReader(said), Address: index}, "PackageBaseAddress/3.0.0")
		if err != nil {
			continue
		}
		id, version := strings.ToLower(s.Name), strings.ToLower(s.Version)
		return s.SHA256At(ctx, strings.TrimSuffix(flat, "/")+"/"+id+"/"+version+"/"+New().FileName(id, version))
	}
	return "", nil
}

func push(ctx context.Context, s ecosystem.Shipment, f catalog.File) error {
	content, err := s.Open(f)
	if err != nil {
		return err
	}
	defer content.Close()
	boundary := multipart.NewWriter(io.Discard).Boundary()
	body := ecosystem.Piped(func(w io.Writer) error {
		form := multipart.NewWriter(w)
		if err := form.SetBoundary(boundary); err != nil {
			return err
		}
		part, err := form.CreateFormFile("package", f.Name)
		if err == nil {
			_, err = io.Copy(part, content)
		}
		return errors.Join(err, form.Close())
	})
	defer body.Close()
	_, _, err = s.Ask(ctx, http.MethodPut, strings.TrimSuffix(s.URL, "/"), body, -1,
		map[string]string{"Content-Type": "multipart/form-data; boundary=" + boundary, keyHeader: s.Secret})
	return err
}
