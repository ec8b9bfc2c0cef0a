package resolving

import (
	"context"
	"time"

	"crelvo/internal/core/catalog"
	"crelvo/internal/ecosystem"
	"crelvo/internal/service/act"
	"crelvo/internal/service/mirrors"
)

// Source answers for one repository: house, mirror and chain are the three of it, and
// remembering is around each of them.
type Source interface {
	// File finds a file.
	File(ctx context.Context, q catalog.FileQuestion) (ecosystem.Found, error)
	// Package is what there is of a package, of a snapshot with its uploads if version is
	// one, and until when that holds if nothing changes.
	Package(ctx context.Context, key catalog.PackageKey, version string) (*catalog.Package, time.Time, error)
}

// sourceOf gives the source of the repository that a key names, which lets in what the
// repository does, and the key to ask it with: what is seen of a chain depends on who asks, and
// what is in any other repository does not. ok is false if there is no such repository.
func (s *Resolving) sourceOf(key catalog.PackageKey) (source Source, asked catalog.PackageKey, ok bool) {
	r, ok := s.directory.Known().ByID[key.RepositoryID]
	if !ok {
		return nil, key, false
	}
	if !r.Gathers() {
		key.Sight = ""
	}
	r.Sight = key.Sight
	return remembering{s, r.Own(), admitting{s, r, s.everything(r)}}, key, true
}

// everything is the source of a repository that lets in all that there is.
func (s *Resolving) everything(r catalog.Repository) Source {
	switch r.Kind {
	case catalog.House:
		return house{s}
	case catalog.Mirror:
		return mirror{s, s.mirrors.Of(r.ID)}
	}
	return behind{s, r}
}

// There is what there is of a package in a repository, whether or not it lets it in.
func (s *Resolving) There(ctx context.Context, r catalog.Repository, key catalog.PackageKey) (*catalog.Package, error) {
	p, _, err := s.everything(r).Package(ctx, key, "")
	return p, err
}

// house is what a house repository keeps.
type house struct{ s *Resolving }

// File implements Source.
func (h house) File(ctx context.Context, q catalog.FileQuestion) (found ecosystem.Found, err error) {
	found.File, err = h.s.DB.File(ctx, q)
	// What a label does not lead to any more is still there by its name.
	if _, byContent := h.s.Ecosystem(q.Key.Ecosystem).(ecosystem.Maturing); byContent && err == nil && q.Version != "" {
		found.Withdrawn, err = h.s.DB.WithdrawalOf(ctx, q.Key, q.Version)
	}
	return found, err
}

// Package implements Source.
func (h house) Package(ctx context.Context, key catalog.PackageKey, _ string) (*catalog.Package, time.Time, error) {
	p, err := h.s.holdings.Package(ctx, key)
	return p, mirrors.Forever, err
}

// mirror is what a mirror keeps, and what its upstream has.
type mirror struct {
	s *Resolving
	m *mirrors.Mirror
}

// File implements Source.
func (m mirror) File(ctx context.Context, q catalog.FileQuestion) (ecosystem.Found, error) {
	return m.s.mirrors.File(ctx, m.m, q)
}

// Package implements Source.
func (m mirror) Package(
	ctx context.Context, key catalog.PackageKey, version string,
) (*catalog.Package, time.Time, error) {
	return m.s.mirrors.Package(ctx, m.m, key, version)
}

// behind is what the members of a chain have.
type behind struct {
	s *Resolving
	r catalog.Repository
}

// File implements Source.
func (b behind) File(ctx context.Context, q catalog.FileQuestion) (ecosystem.Found, error) {
	return b.s.chainFile(ctx, b.r, q)
}

// Package implements Source.
func (b behind) Package(
	ctx context.Context, key catalog.PackageKey, version string,
) (*catalog.Package, time.Time, error) {
	return b.s.chainPackage(ctx, b.r, key, version)
}

// remembering keeps what a source answered, for as long as it holds.
type remembering struct {
	s    *Resolving
	kept bool // what there is of packages is remembered where it is kept
	Source
}

// File implements Source.
func (r remembering) File(ctx context.Context, q catalog.FileQuestion) (ecosystem.Found, error) {
	age := r.s.Age(q.Key)
	if known, ok := r.s.files.Get(q); ok && known.Generation == age {
		return known.Value, nil
	}
	found, err := r.Source.File(ctx, q)
	// Which upload of a mirror's snapshot is the newest is not known for long.
	if err == nil && !q.Open && found.Arriving == nil && (found.Mirror == "" || q.Name != "") {
		r.s.files.Add(q, act.Aged[ecosystem.Found]{Value: found, Generation: age})
	}
	return found, err
}

// Package implements Source. One snapshot is asked for by few.
func (r remembering) Package(
	ctx context.Context, key catalog.PackageKey, version string,
) (*catalog.Package, time.Time, error) {
	if r.kept || version != "" {
		return r.Source.Package(ctx, key, version)
	}
	return r.s.holdings.Remembered(key, func() (*catalog.Package, time.Time, error) {
		return r.Source.Package(ctx, key, "")
	})
}
