package makeup

import (
	"context"
	"errors"
	"io"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/fileset"
	core "crelvo/internal/core/makeup"
	"crelvo/internal/ecosystem"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/service/resolving"
	"crelvo/internal/service/search"
	"crelvo/internal/service/store"
)

// opener is what the files of file sets are asked of.
type opener struct {
	*resolving.Resolving
	*store.Store
}

// Set is a version of a file set.
type Set struct {
	Version
	e      ecosystem.Filed
	key    catalog.PackageKey
	exact  string // the version, or the name of its upload
	Upload string
}

// ofSet finds a version of a file set; ok is false if the ecosystem has none.
func (s *Makeup) ofSet(ctx context.Context, caller access.Caller, a Asked) (v Set, ok bool, err error) {
	if v.e, ok = s.Ecosystem(a.PURL.Ecosystem).(ecosystem.Filed); !ok {
		return v, false, nil
	}
	holdings, _, err := s.search.HoldingsOf(ctx, caller, a.PURL, a.Repository, search.VersionPage{Limit: 1})
	if err != nil {
		return v, true, err
	}
	h := holdings[0]
	found := h.Package.Versions[0]
	v.PURL, v.Repository, v.Title = act.PURLOf(h.Package.Key, found.Version), h.Repository.At(), found.Version
	v.key = h.Repository.Key(a.PURL.Ecosystem, a.PURL.Namespace, a.PURL.Name)
	v.exact, v.Upload = found.Exact(), found.Upload
	_, size := v.e.Holds(found.Details)
	v.Steps = []core.Step{{Size: size}}
	return v, true, nil
}

// Folder gives what stands in a folder of a version of a file set, "" or a path that ends with a slash, from after a
// name on.
func (s *Makeup) Folder(
	ctx context.Context, caller access.Caller, a Asked, folder, after string, limit int,
) (v Set, lines []fileset.Line, more bool, err error) {
	v, ok, err := s.ofSet(ctx, caller, a)
	if !ok {
		err = fault.New(fault.Invalid, "no-file-set", "%s is not of a kind that consists of files", a.PURL)
	}
	if err != nil {
		return v, nil, false, err
	}
	lines, more, err = v.e.List(ctx, opener{s.resolving, s.store}, v.key, v.exact, folder, after, limit)
	if errors.Is(err, ecosystem.ErrNoFile) {
		err = fault.New(fault.NotFound, "no-such-folder", "%s has no folder %.200q", v.PURL, folder)
	}
	return v, lines, more, err
}

// mostShared is of how many versions it is told that they share something with one.
const mostShared = 8

// Shared are other versions of the package, in the same repository, that are kept in the same packs, by how many bytes
// these have.
func (s *Makeup) Shared(ctx context.Context, v Set) ([]record.SharedVersion, error) {
	return s.DB.VersionsShared(ctx, v.key, v.exact, fileset.PackExtension, mostShared)
}

// compareSets compares two versions of file sets.
func (s *Makeup) compareSets(ctx context.Context, caller access.Caller, before, after Asked) (c Comparison, err error) {
	a, _, err := s.ofSet(ctx, caller, before)
	if err != nil {
		return c, err
	}
	b, ok, err := s.ofSet(ctx, caller, after)
	if !ok {
		err = fault.New(fault.Invalid, "no-file-set", "%s is a file set, and %s is none", before.PURL, after.PURL)
	}
	if err != nil {
		return c, err
	}
	open := func(v Set) func() (io.ReadCloser, error) {
		return func() (io.ReadCloser, error) {
			return v.e.Manifest(ctx, opener{s.resolving, s.store}, v.key, v.exact)
		}
	}
	found, err := fileset.Compare(open(a), open(b), mostFiles)
	if err != nil {
		return c, err
	}
	c.Before, c.After = a.Version, b.Version
	c.Files = &Files{Added: found.Added, Changed: found.Changed, Removed: found.Removed, Same: found.Same, New: found.New}
	for _, d := range found.Some {
		c.Files.Some = append(c.Files.Some, core.FileDifference{Path: d.Path, Before: fileOf(d.Before),
			After: fileOf(d.After)})
	}
	return c, nil
}

func fileOf(e *fileset.Entry) *core.File {
	if e == nil {
		return nil
	}
	return &core.File{Path: e.Path, Size: e.Size, Mode: int64(e.Mode), Link: e.Target, Sum: e.Digest}
}
