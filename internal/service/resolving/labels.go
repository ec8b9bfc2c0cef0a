package resolving

import (
	"context"
	"errors"
	"net/url"
	"slices"
	"strings"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/chain"
	"crelvo/internal/ecosystem"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/service/directory"
)

var _ ecosystem.LabelReader = (*Resolving)(nil)

// Labels implements ecosystem.LabelReader.
func (s *Resolving) Labels(
	ctx context.Context, key catalog.PackageKey, after string, limit int,
) ([]catalog.Label, error) {
	r, ok := s.directory.Known().ByID[key.RepositoryID]
	if !ok || !s.directory.Shows(key) {
		return nil, ecosystem.ErrNoPackage
	}
	r.Sight = key.Sight
	members, err := s.answering(ctx, r, key)
	if err != nil {
		return nil, err
	}
	var houses []int64
	var elsewhere []catalog.Label
	for _, m := range members {
		if !m.Fetches() {
			houses = append(houses, m.ID)
			continue
		}
		at := key
		at.RepositoryID, at.Sight = m.ID, ""
		more, err := s.mirrors.Labels(ctx, s.mirrors.Of(m.ID), at, after, limit)
		if err != nil && !m.MaySkip {
			return nil, s.memberFault(r, m, "the tags of "+key.Name, err)
		}
		elsewhere = append(elsewhere, more...)
	}
	all, err := s.DB.Labels(ctx, houses, key, after, limit)
	if err == nil && elsewhere != nil {
		all = append(all, elsewhere...)
		slices.SortStableFunc(all, func(a, b catalog.Label) int { return strings.Compare(a.Name, b.Name) })
		all = slices.CompactFunc(all, func(a, b catalog.Label) bool { return a.Name == b.Name })
		all = all[:min(limit, len(all))]
	}
	if err == nil && len(all) == 0 && after == "" {
		// A package without labels is another thing than none.
		_, err = s.Package(ctx, key)
	}
	return all, err
}

// About implements ecosystem.LabelReader.
func (s *Resolving) About(
	ctx context.Context, key catalog.PackageKey, subject, after string, limit int,
) ([]catalog.Version, error) {
	houses, err := s.labelHouses(ctx, key)
	if err != nil {
		return nil, err
	}
	return s.DB.About(ctx, houses, key, subject, after, limit)
}

// WithdrawnLabel implements ecosystem.LabelReader.
func (s *Resolving) WithdrawnLabel(
	ctx context.Context, key catalog.PackageKey, label string,
) (version, reason string, ok bool, err error) {
	houses, err := s.labelHouses(ctx, key)
	if err != nil {
		return "", "", false, err
	}
	version, reason, err = s.DB.WithdrawnLabel(ctx, houses, key, label)
	if errors.Is(err, record.ErrNotFound) {
		return "", "", false, nil
	}
	return version, reason, err == nil, err
}

// labelHouses are the repositories whose records tell the labels of a package, in the
// order in which their word counts.
func (s *Resolving) labelHouses(ctx context.Context, key catalog.PackageKey) ([]int64, error) {
	r, ok := s.directory.Known().ByID[key.RepositoryID]
	if !ok || !s.directory.Shows(key) {
		return nil, ecosystem.ErrNoPackage
	}
	r.Sight = key.Sight
	members, err := s.answering(ctx, r, key)
	return directory.IDsOf(members), err
}

// answering are the members behind a repository that may answer for a package.
func (s *Resolving) answering(ctx context.Context, r catalog.Repository, key catalog.PackageKey) (
	answering []chain.Member, err error,
) {
	if !r.Gathers() {
		return []chain.Member{{Repository: r}}, nil
	}
	ours, err := s.ours(ctx, r, key)
	if err != nil {
		return nil, err
	}
	for _, m := range s.directory.MembersFor(r, key) {
		if chain.Excuse(m, chain.Question{PURL: act.PURLOf(key, ""), Ours: ours}).Said == "" {
			answering = append(answering, m)
		}
	}
	return answering, nil
}

// chainLabelled is chainFile for what a label points to, and for parts of a package: the
// first member that has it answers.
func (s *Resolving) chainLabelled(
	ctx context.Context, r catalog.Repository, q catalog.FileQuestion,
) (ecosystem.Found, error) {
	members, err := s.answering(ctx, r, q.Key)
	if err != nil {
		return ecosystem.Found{}, err
	}
	for _, m := range members {
		of := q
		of.Key.RepositoryID, of.Key.Sight = m.ID, ""
		found, err := s.File(ctx, of)
		switch {
		case errors.Is(err, ecosystem.ErrNoFile):
		case err != nil && m.MaySkip:
		case err != nil:
			return found, s.memberFault(r, m, act.PURLOf(q.Key, "").String(), err)
		default:
			found.From = m.Name
			return found, nil
		}
	}
	return ecosystem.Found{}, ecosystem.ErrNoFile
}

// ComesFrom implements ecosystem.Origins.
func (s *Resolving) ComesFrom(mirror, host string) bool {
	r := s.directory.Known().ByName[mirror]
	if r.Mirror == nil {
		return false
	}
	host = strings.ToLower(host)
	return slices.ContainsFunc(r.Mirror.Upstreams, func(u catalog.Upstream) bool {
		at, err := url.Parse(u.URL)
		return err == nil && (at.Host == host || at.Hostname() == host || strings.HasSuffix(at.Hostname(), "."+host))
	})
}
