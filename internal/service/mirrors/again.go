package mirrors

import (
	"context"
	"io"

	"crelvo/internal/core/catalog"
	"crelvo/internal/ecosystem"
	"crelvo/internal/record"
)

// Again fetches a file once more that a mirror keeps, for take, which says whether it is the
// right one. Nothing of it is recorded.
func (s *Mirrors) Again(ctx context.Context, f record.NamedFile, take func(r io.Reader) error) error {
	m := s.Of(f.RepositoryID)
	if m == nil {
		return ecosystem.ErrNoFile
	}
	q := catalog.FileQuestion{Key: f.Key(), Version: f.Version, Upload: f.Upload, Name: f.File}
	place, err := m.Speaks.PlaceOf(q)
	if err != nil {
		return err
	}
	path, _, err := s.fileAt(ctx, m, &q, &place)
	if err != nil {
		return err
	}
	response, err := m.Source.Get(ctx, m.requestFor(path))
	if err != nil {
		return err
	}
	defer response.Body.Close()
	return take(response.Body)
}
