package mirrors

import (
	"context"
	"encoding/json"
	"errors"
	"io"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/makeup"
	"crelvo/internal/ecosystem"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/upstream"
)

// largestLook is how many bytes an archive may have that is fetched to be looked into.
const largestLook = 256 << 20

// Looked is a file of a version that is looked at.
type Looked struct {
	Name    string
	Digests catalog.Digests
	File    ecosystem.SizedReaderAt
	Details catalog.Details // as the file says, and the one that every version has
}

// Look gives take the archive of a version that people look into, whether it is kept or not. What is
// fetched for that is not kept afterwards, so that nothing comes in by it.
func (s *Mirrors) Look(
	ctx context.Context, m *Mirror, key catalog.PackageKey, v *catalog.Version, take func(Looked) error,
) error {
	q, ok := archiveOf(m, key, v)
	if !ok {
		return fault.New(fault.NotFound, "no-archive", "%s has no archive that could be looked into",
			act.PURLOf(key, v.Version).Typed())
	}
	var details catalog.Details
	if byPath, ok := m.Speaks.(ecosystem.ByPath); ok {
		marker := byPath.Marker(act.PURLOf(key, v.Version), "")
		marker.Key, marker.Upload = key, v.Upload
		if err := s.look(ctx, m, marker, func(l Looked) error { details = l.Details; return nil }); err != nil {
			return err
		}
	}
	return s.look(ctx, m, q, func(l Looked) error {
		l.Details = details.Merge(l.Details)
		return take(l)
	})
}

// look gives take one file.
func (s *Mirrors) look(ctx context.Context, m *Mirror, q catalog.FileQuestion, take func(Looked) error) error {
	place, err := m.Speaks.PlaceOf(q)
	if err != nil {
		return err
	}
	inspected := func(l Looked) (err error) {
		// What it says is told where it can be read; what cannot be is told of by who looks into it.
		l.Details, err = m.Speaks.Inspect(ctx, place, l.File)
		if err != nil && ctx.Err() != nil {
			return err
		}
		return take(l)
	}
	kept, err := s.DB.File(ctx, q)
	if err == nil {
		content, err := s.store.Open(ctx, kept)
		if err != nil {
			return err
		}
		defer content.Close()
		return inspected(Looked{Name: kept.Name, Digests: kept.Digests, File: ecosystem.Sized(content, kept.Digests.Size)})
	}
	if !errors.Is(err, record.ErrNotFound) {
		return err
	}
	path, digests, err := s.fileAt(ctx, m, &q, &place)
	if err != nil {
		return err
	}
	response, err := m.Source.Get(ctx, m.requestFor(path))
	if errors.Is(err, upstream.ErrAbsent) {
		return ecosystem.ErrNoFile
	}
	if err != nil {
		return s.upstreamFault(m, err)
	}
	defer response.Body.Close()
	tooLarge := fault.New(fault.TooLarge, "file-too-large", "%s has more than %d MiB, and is not looked into", q.Name,
		largestLook>>20)
	if response.Length > largestLook {
		return tooLarge
	}
	body := &cutReader{from: response.Body, left: largestLook}
	staged, err := s.store.Staging(ctx, m.Repository, body, response.Length, q.Name)
	if body.err == errTooLong {
		return tooLarge
	}
	if err != nil {
		if body.err != nil { // it is not ours
			err = s.upstreamFault(m, body.err)
		}
		return err
	}
	defer staged.Discard()
	sum := s.fetchChecksum(ctx, m, response.Upstream, path, digests)
	if sum.err != nil {
		return s.upstreamFault(m, sum.err)
	}
	if got := staged.Digests().Hex(sum.algorithm); sum.hex != "" && got != sum.hex {
		return s.upstreamFault(m, m.Source.Wrong(response.Upstream,
			"sent other bytes for %s than its own checksum says: their %s is %s, not %s", q.Name, sum.algorithm, got, sum.hex))
	}
	return inspected(Looked{Name: q.Name, Digests: staged.Digests(), File: staged})
}

// archiveOf chooses the archive of a version that people look into.
func archiveOf(m *Mirror, key catalog.PackageKey, v *catalog.Version) (catalog.FileQuestion, bool) {
	questions := map[string]catalog.FileQuestion{}
	var names []string
	add := func(q catalog.FileQuestion) {
		if _, twice := questions[q.Name]; !twice {
			names = append(names, q.Name)
			q.Key, q.Version, q.Upload = key, v.Version, v.Upload
			questions[q.Name] = q
		}
	}
	for _, f := range v.Files {
		add(catalog.FileQuestion{Name: f.Name})
	}
	for _, q := range m.Speaks.Companions(act.PURLOf(key, v.Version), v.Details, v.Files) {
		add(q)
	}
	chosen := makeup.Choose(names)
	return questions[chosen], chosen != ""
}

const (
	// largestAttestation is how many bytes an upstream may answer about where a file was built.
	largestAttestation = 256 << 10
	// mostBundles is how many statements about that are looked at.
	mostBundles = 4
)

// Attestations are the Sigstore bundles that an upstream has about where a file of a version was built, none
// of them verified.
func (s *Mirrors) Attestations(
	ctx context.Context, m *Mirror, key catalog.PackageKey, v *catalog.Version, file string,
) ([]json.RawMessage, error) {
	attested, ok := m.Speaks.(ecosystem.Attested)
	if !ok {
		return nil, nil
	}
	path := attested.AttestedAt(key, v, file)
	if path == "" {
		return nil, nil
	}
	request := m.requestFor(path)
	request.Accept, request.Document = "application/json", true
	response, err := m.Source.Get(ctx, request)
	if errors.Is(err, upstream.ErrAbsent) {
		return nil, nil
	}
	if err != nil {
		return nil, s.upstreamFault(m, err)
	}
	defer response.Body.Close()
	body := &cutReader{from: response.Body, left: largestAttestation}
	raw, err := io.ReadAll(body)
	if body.err == errTooLong {
		return nil, nil // nobody needs so much to say it
	}
	if err != nil {
		return nil, s.upstreamFault(m, err)
	}
	bundles, err := attested.Bundles(raw)
	if err != nil {
		return nil, nil // it says nothing that is understood
	}
	return bundles[:min(len(bundles), mostBundles)], nil
}
