package helm

import (
	"context"
	"io"
	"net/http"

	"crelvo/internal/core/catalog"
	"crelvo/internal/ecosystem"
)

// Send implements ecosystem.Sending: each file by PUT to its name below the address, the
// chart first.
func (k Helm) Send(ctx context.Context, s ecosystem.Shipment) error {
	for _, extension := range []string{archive, provenance} {
		for _, f := range s.Files {
			if f.Extension != extension {
				continue
			}
			if err := send(ctx, s, f); err != nil {
				return err
			}
		}
	}
	return nil
}

func send(ctx context.Context, s ecosystem.Shipment, f catalog.File) error {
	there, err := s.SHA256At(ctx, s.URL+f.Name)
	if err != nil {
		return err
	}
	if there != "" {
		return ecosystem.Already(f, there)
	}
	content, err := s.Open(f)
	if err != nil {
		return err
	}
	defer content.Close()
	_, _, err = s.Ask(ctx, http.MethodPut, s.URL+f.Name, io.NewSectionReader(content, 0, f.Digests.Size),
		f.Digests.Size, map[string]string{"Content-Type": typeOf(f.Name)})
	return err
}
