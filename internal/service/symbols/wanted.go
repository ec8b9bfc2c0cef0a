package symbols

import (
	"context"
	"errors"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/service/search"
)

// mostWanted is how many versions may wait to be looked into because somebody wants it.
const mostWanted = 1000

// Want has a version looked into again, and of images, which are not looked into by themselves, the layers: of all
// that it is made of. It is done in the background; these versions are given.
func (s *Symbols) Want(
	ctx context.Context, caller access.Caller, of purl.PURL, repository string,
) (all []record.UnlookedVersion, err error) {
	holdings, _, err := s.search.HoldingsOf(ctx, caller, of, repository, search.VersionPage{Limit: 1})
	if err != nil {
		return nil, err
	}
	h := holdings[0]
	key := h.Package.Key
	key.RepositoryID, key.Sight = h.Repository.ID, ""
	if !h.Repository.Own() {
		return nil, fault.New(fault.Conflict, "not-a-house", "%s is a %s; only what house repositories hold is looked into when "+
			"it is wanted", h.Repository.At(), h.Repository.Kind).WithHint("Say in which repository it is, with --in.")
	}
	if err := s.directory.Allow(caller, access.Publish,
		access.Object{Repository: h.Repository, Package: act.PURLOf(key, "")}); err != nil {
		return nil, err
	}
	found := h.Package.Versions[0]
	all = []record.UnlookedVersion{{ID: found.ID, Key: key, Version: found.Version, Upload: found.Upload}}
	if layered, ok := s.Ecosystem(key.Ecosystem).(ecosystem.Layered); ok {
		parts, err := s.partsOf(ctx, layered, key, found)
		if err != nil {
			return nil, err
		}
		all = append(all, parts...)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.wanted)+len(all) > mostWanted {
		return nil, fault.New(fault.Unavailable, "too-much-wanted", "%d versions wait to be looked into already",
			len(s.wanted)).WithHint("Ask again in some minutes.")
	}
	s.wanted = append(s.wanted, all...)
	return all, nil
}

// partsOf are the versions that a version is made of.
func (s *Symbols) partsOf(
	ctx context.Context, layered ecosystem.Layered, key catalog.PackageKey, v catalog.Version,
) (all []record.UnlookedVersion, err error) {
	parts, _, _ := layered.Belongs(v.Details)
	named := make([]record.NamedVersion, len(parts))
	for i, p := range parts {
		named[i] = record.NamedVersion{Key: key, Version: p.Version}
	}
	if len(named) == 0 {
		return nil, nil
	}
	made, err := s.DB.VersionsNamed(ctx, []int64{key.RepositoryID}, named)
	for _, m := range made {
		all = append(all, record.UnlookedVersion{ID: m.ID, Key: key, Version: m.Version, Upload: m.Upload})
	}
	return all, err
}

// lookIntoWanted looks into what somebody wants, once: what fails then is to be wanted again.
func (s *Symbols) lookIntoWanted(ctx context.Context) (failed error) {
	for {
		s.mu.Lock()
		if len(s.wanted) == 0 || ctx.Err() != nil {
			s.mu.Unlock()
			return failed
		}
		one := s.wanted[0]
		s.wanted = s.wanted[1:]
		s.mu.Unlock()
		failed = errors.Join(failed, s.lookInto(record.Patiently(ctx), []record.UnlookedVersion{one}))
	}
}
