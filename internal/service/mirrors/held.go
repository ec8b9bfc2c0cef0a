package mirrors

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"net/url"

	"crelvo/internal/core/bundle"
	"crelvo/internal/core/purl"
	"crelvo/internal/service/repositories"
	"crelvo/internal/upstream"
)

// mostHeld is how long what is told at once may be, in bytes.
const mostHeld = 64 << 20

// ErrNotHeld is that the upstream of a mirror does not tell what it keeps: it is no repository of another Crelvo that
// keeps packages itself.
var ErrNotHeld = errors.New("the upstream does not tell what it keeps")

// heldAt is where the upstream of a mirror, a repository of another Crelvo, tells what it keeps, or ErrNotHeld.
func (m *Mirror) heldAt() (string, error) {
	if len(m.Mirror.Upstreams) != 1 {
		return "", ErrNotHeld
	}
	server, name, err := repositories.CrelvoAt(m.Mirror.Upstreams[0].URL, m.Ecosystem)
	if err != nil {
		return "", ErrNotHeld
	}
	return server + "api/v1/repositories/" + url.PathEscape(name) + "/held", nil
}

// Held asks the upstream of a mirror what it keeps. The error is ErrNotHeld, a fault, or that of the context.
func (s *Mirrors) Held(ctx context.Context, m *Mirror, q bundle.Question) (h bundle.Held, err error) {
	address, err := m.heldAt()
	if err != nil {
		return h, err
	}
	q.Ecosystem = m.Ecosystem
	response, err := s.askHeld(ctx, m, address, q, true)
	if err != nil {
		return h, err
	}
	defer response.Body.Close()
	raw, err := io.ReadAll(io.LimitReader(response.Body, mostHeld+1))
	if err != nil {
		return h, s.upstreamFault(m, err)
	}
	wrong := func(format string, args ...any) error {
		return s.upstreamFault(m, m.Source.Wrong(m.Mirror.Upstreams[0].URL, format, args...))
	}
	if err := json.Unmarshal(raw, &h); err != nil || len(raw) > mostHeld {
		return h, wrong("sent something else than what it keeps: %.100q", string(raw))
	}
	if err := bundle.Check(h.Packages); err != nil {
		return h, wrong("tells of what cannot be: %v", err)
	}
	for _, p := range h.Packages {
		if p.Ecosystem != m.Ecosystem {
			return h, wrong("tells of packages of another kind: %.200q", p.PURL().String())
		}
	}
	if h.Next != "" {
		if _, err := purl.Parse(h.Next); err != nil || h.Next == q.After {
			return h, wrong("does not tell where to go on")
		}
	}
	return h, nil
}

// HeldFiles asks the upstream of a mirror for files of packages, by SHA-256, which come as the rest of a bundle; it
// must be closed. The error is ErrNotHeld, a fault, or that of the context.
func (s *Mirrors) HeldFiles(
	ctx context.Context, m *Mirror, packages []string, sums []bundle.Sum,
) (io.ReadCloser, error) {
	address, err := m.heldAt()
	if err != nil {
		return nil, err
	}
	return s.askFiles(ctx, m, address, bundle.Wanted{Packages: packages, SHA256: sums})
}

func (s *Mirrors) askFiles(ctx context.Context, m *Mirror, address string, of bundle.Wanted) (io.ReadCloser, error) {
	response, err := s.askHeld(ctx, m, address+"/files", of, false)
	if err != nil {
		return nil, err
	}
	return response.Body, nil
}

// HeldFile asks the upstream of a mirror for one file of a package, by SHA-256, from a byte on; it must be closed. The
// error is ErrNotHeld, also that the file is not there, a fault, or that of the context.
func (s *Mirrors) HeldFile(
	ctx context.Context, m *Mirror, of string, sum bundle.Sum, from int64,
) (io.ReadCloser, error) {
	address, err := m.heldAt()
	if err != nil {
		return nil, err
	}
	return s.askFiles(ctx, m, address, bundle.Wanted{Packages: []string{of}, SHA256: []bundle.Sum{sum}, From: &from})
}

func (s *Mirrors) askHeld(
	ctx context.Context, m *Mirror, address string, question any, document bool,
) (*upstream.Response, error) {
	raw, err := json.Marshal(question)
	if err != nil {
		return nil, err
	}
	response, err := m.Source.Get(ctx, upstream.Request{At: m.Mirror.Upstreams[0].URL, Address: address, Question: raw,
		Document: document})
	var failure *upstream.Failure
	switch {
	case errors.Is(err, upstream.ErrAbsent),
		errors.As(err, &failure) && (failure.Status == http.StatusConflict || failure.Status == http.StatusMethodNotAllowed):
		return nil, ErrNotHeld
	case err != nil && ctx.Err() == nil:
		return nil, s.upstreamFault(m, err)
	}
	return response, err
}
