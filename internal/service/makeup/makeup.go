package makeup

import (
	"cmp"
	"context"
	"errors"
	"io"
	"slices"
	"strings"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/makeup"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
	"crelvo/internal/service/act"
	"crelvo/internal/service/search"
)

// Asked is a version that is asked about: as it is, or the one for a platform among what it
// is made of.
type Asked struct {
	PURL       purl.PURL
	Repository string // "" is wherever it is
	Platform   string // "" is the first
}

// Version is what one version is made of.
type Version struct {
	PURL       purl.PURL
	Title      string // what people call it: its labels, or the beginning of its digest
	Repository string
	// Platforms are those among which Platform was chosen; none if it is of one.
	Platforms []string
	Child     string // the version for that platform; "" if it is of one
	makeup.Makeup
	kept catalog.PackageKey // where its parts are
}

// maxSmall is how large a file may be that is read as a whole, in bytes.
const maxSmall = 4 << 20

// Of tells what a version is made of.
func (s *Makeup) Of(ctx context.Context, caller access.Caller, a Asked) (v Version, err error) {
	e, ok := s.Ecosystem(a.PURL.Ecosystem).(ecosystem.Layered)
	if !ok {
		return v, fault.New(fault.Invalid, "no-layers", "%s is not of a kind that has layers", a.PURL)
	}
	holdings, _, err := s.search.HoldingsOf(ctx, caller, a.PURL, a.Repository, search.VersionPage{Limit: 1})
	if err != nil {
		return v, err
	}
	h := holdings[0]
	found := h.Package.Versions[0]
	v.PURL, v.Repository, v.Title = act.PURLOf(h.Package.Key, found.Version), h.Repository.Name, titleOf(h.Package, found)
	key := h.Repository.Key(a.PURL.Ecosystem, a.PURL.Namespace, a.PURL.Name)
	version := found.Version
	if parts, _, _ := e.Belongs(found.Details); len(parts) > 0 {
		part, platforms, err := choose(parts, a.Platform)
		if err != nil {
			return v, fault.New(fault.NotFound, "no-such-platform", "%s has no image for %s", v.Title, a.Platform).
				WithHint("It has them for %s.", strings.Join(platforms, ", "))
		}
		v.Platforms, v.Child, version = platforms, part, part
	}
	raw, mediaType, kept, err := s.own(ctx, key, version)
	if err != nil {
		return v, err
	}
	v.kept = key
	v.kept.RepositoryID, v.kept.Sight = kept, ""
	var failed error
	v.Makeup, err = e.Makeup(ctx, raw, mediaType, func(sum catalog.Sum) (raw []byte, err error) {
		raw, _, _, failed = s.small(ctx, catalog.FileQuestion{Key: key, Name: sum.FileName()})
		return raw, failed
	})
	if failed != nil {
		return v, failed
	}
	if err != nil {
		err = fault.New(fault.Invalid, "unreadable", "%s cannot be read: %v", v.PURL, err)
	}
	return v, err
}

func titleOf(p *catalog.Package, v catalog.Version) string {
	return cmp.Or(strings.Join(p.LabelsAt(v.Version), ", "), purl.ShortVersion(v.Version))
}

// choose finds the part for a platform; "" is the first that is for one.
func choose(parts []ecosystem.VersionPart, platform string) (version string, platforms []string, err error) {
	for _, p := range parts {
		if p.What == "" || strings.HasPrefix(p.What, "unknown/") {
			continue // what builders write down beside the images
		}
		platforms = append(platforms, p.What)
		if version == "" && (platform == "" || p.What == platform || strings.HasPrefix(p.What, platform+"/")) {
			version = p.Version
		}
	}
	if version == "" && platform == "" {
		return parts[0].Version, platforms, nil
	}
	if version == "" {
		err = errors.New("none is for it")
	}
	return version, platforms, err
}

// own is the own file of a version, its media type, and the repository that keeps it.
func (s *Makeup) own(ctx context.Context, key catalog.PackageKey, version string) ([]byte, string, int64, error) {
	sum, _ := catalog.ParseSum(version)
	raw, mediaType, kept, err := s.small(ctx, catalog.FileQuestion{Key: key, Version: version, Name: sum.FileName()})
	if err == nil && raw == nil {
		err = fault.New(fault.NotFound, "no-such-version", "%s is not here", act.PURLOf(key, version))
	}
	return raw, mediaType, kept, err
}

// small reads a small file that is, or can be, kept; nil if there is none such.
func (s *Makeup) small(
	ctx context.Context, q catalog.FileQuestion,
) (raw []byte, mediaType string, repositoryID int64, err error) {
	found, err := s.resolving.File(ctx, q)
	if err == nil {
		found.File, err = found.Kept(ctx)
	}
	if errors.Is(err, ecosystem.ErrNoFile) || errors.Is(err, ecosystem.ErrNotKept) ||
		err == nil && found.Digests.Size > maxSmall {
		return nil, "", 0, nil
	}
	if err != nil {
		return nil, "", 0, err
	}
	content, err := s.store.Open(ctx, found.File)
	if err != nil {
		return nil, "", 0, err
	}
	defer content.Close()
	raw, err = io.ReadAll(content)
	return raw, found.MediaType, found.RepositoryID, err
}

// mostSharing is how many packages are named that have a layer too, and mostLayers of how
// many layers.
const mostSharing, mostLayers = 5, 200

// Sharing names packages that have a layer of a version too, and that the caller may read,
// by the layer.
func (s *Makeup) Sharing(ctx context.Context, caller access.Caller, v Version) (map[string][]string, error) {
	var names []string
	of := map[string]string{}
	layers := v.Layers()
	for _, l := range layers[:min(len(layers), mostLayers)] {
		if sum, ok := catalog.ParseSum(l.Layer); ok {
			names = append(names, sum.FileName())
			of[sum.FileName()] = l.Layer
		}
	}
	var houses []catalog.Repository
	for _, r := range s.directory.Readable(caller) {
		if !r.Gathers() {
			houses = append(houses, r)
		}
	}
	found, err := s.DB.PartsShared(ctx, s.directory.ScopeOf(houses...), v.kept, names, mostSharing)
	sharing := map[string][]string{}
	for name, packages := range found {
		sharing[of[name]] = packages
	}
	return sharing, err
}

// Comparison is how two versions differ.
type Comparison struct {
	Before, After Version
	makeup.Comparison
	Files *Files // nil if they were not asked for
}

// Files are those that are not the same in two versions.
type Files struct {
	Added, Changed, Removed int
	Same                    int                     // of file sets
	New                     int64                   // of file sets: bytes of the second that the first does not have
	Some                    []makeup.FileDifference // the first ones
	// LeftOut is why they were not compared; "" if they were.
	LeftOut string
}

// Compare tells how one version differs from another. Of versions for several platforms it
// compares those for the first that both have.
func (s *Makeup) Compare(
	ctx context.Context, caller access.Caller, before, after Asked, files bool,
) (c Comparison, err error) {
	if _, sets := s.Ecosystem(before.PURL.Ecosystem).(ecosystem.Filed); sets {
		return s.compareSets(ctx, caller, before, after)
	}
	if c.Before, err = s.Of(ctx, caller, before); err != nil {
		return c, err
	}
	if after.Platform == "" && slices.Contains(c.Before.Platforms, c.Before.Platform) {
		after.Platform = c.Before.Platform
	}
	c.After, err = s.Of(ctx, caller, after)
	if fault.Of(err).Code == "no-such-platform" && before.Platform == "" {
		after.Platform = ""
		if c.After, err = s.Of(ctx, caller, after); err == nil {
			before.Platform = c.After.Platform
			c.Before, err = s.Of(ctx, caller, before)
		}
	}
	if err != nil {
		return c, err
	}
	c.Comparison = makeup.Compare(c.Before.Makeup, c.After.Makeup)
	if files {
		c.Files, err = s.files(ctx, c.Before, c.After)
	}
	return c, err
}
