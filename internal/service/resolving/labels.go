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
	"crelvo/internal/service/mirrors"
)

var _ ecosystem.LabelReader = (*Resolving)(nil)

// Labels implements ecosystem.LabelReader.
func (s *Resolving) Labels(
	ctx context.Context, key catalog.PackageKey, after string, limit int,
) ([]catalog.Label, error) {
	r, members, err := s.labelMembers(ctx, key)
	if err != nil {
		return nil, err
	}
	houses, elsewhere, err := elsewhereOf(s, members, key, func(m chain.Member, of *mirrors.Mirror,
		at catalog.PackageKey) ([]catalog.Label, error) {
		more, err := s.mirrors.Labels(ctx, of, at, after, limit)
		if err != nil && m.MaySkip {
			return nil, nil
		} else if err != nil {
			err = s.memberFault(r, m, "the tags of "+key.Name, err)
		}
		return more, err
	})
	if err != nil {
		return nil, err
	}
	all, err := s.DB.Labels(ctx, houses, key, after, limit)
	if err == nil {
		all = merged(all, elsewhere, limit, func(x catalog.Label) string { return x.Name })
	}
	if err == nil && len(all) == 0 && after == "" {
		// A package without labels is another thing than none.
		_, err = s.Package(ctx, key)
	}
	return all, err
}

// elsewhereOf asks the mirrors among some members for what they have of a package, and gives
// the ids of the others.
func elsewhereOf[T any](
	s *Resolving, members []chain.Member, key catalog.PackageKey,
	ask func(m chain.Member, of *mirrors.Mirror, at catalog.PackageKey) ([]T, error),
) (houses []int64, elsewhere []T, err error) {
	for _, m := range members {
		if !m.Fetches() {
			houses = append(houses, m.ID)
			continue
		}
		at, of := key, s.mirrors.Of(m.ID)
		if at.RepositoryID, at.Sight = m.ID, ""; of == nil {
			continue // it was removed a moment ago
		}
		more, err := ask(m, of, at)
		if err != nil {
			return nil, nil, err
		}
		elsewhere = append(elsewhere, more...)
	}
	return houses, elsewhere, nil
}

// merged puts what is elsewhere to what is here, by name, and of one name what is here.
func merged[T any](here, elsewhere []T, limit int, name func(T) string) []T {
	if len(elsewhere) == 0 {
		return here
	}
	all := append(here, elsewhere...)
	slices.SortStableFunc(all, func(a, b T) int { return strings.Compare(name(a), name(b)) })
	all = slices.CompactFunc(all, func(a, b T) bool { return name(a) == name(b) })
	return all[:min(limit, len(all))]
}

// About implements ecosystem.LabelReader.
func (s *Resolving) About(
	ctx context.Context, key catalog.PackageKey, subject, after string, limit int,
) ([]catalog.Version, error) {
	_, members, err := s.labelMembers(ctx, key)
	if err != nil {
		return nil, err
	}
	houses, elsewhere, err := elsewhereOf(s, members, key, func(_ chain.Member, of *mirrors.Mirror,
		at catalog.PackageKey) ([]catalog.Version, error) {
		return s.mirrors.About(ctx, of, at, subject, after, limit)
	})
	if err != nil {
		return nil, err
	}
	all, err := s.DB.About(ctx, houses, key, subject, after, limit)
	if err == nil {
		all = merged(all, elsewhere, limit, func(x catalog.Version) string { return x.Version })
	}
	return all, err
}

// WithdrawnLabel implements ecosystem.LabelReader.
func (s *Resolving) WithdrawnLabel(
	ctx context.Context, key catalog.PackageKey, label string,
) (version, reason string, ok bool, err error) {
	_, members, err := s.labelMembers(ctx, key)
	if err != nil {
		return "", "", false, err
	}
	version, reason, err = s.DB.WithdrawnLabel(ctx, directory.IDsOf(members), key, label)
	if errors.Is(err, record.ErrNotFound) {
		return "", "", false, nil
	}
	return version, reason, err == nil, err
}

// labelMembers are the repositories that tell the labels of a package behind the one that is
// asked, in the order in which their word counts.
func (s *Resolving) labelMembers(
	ctx context.Context, key catalog.PackageKey,
) (r catalog.Repository, members []chain.Member, err error) {
	r, ok := s.directory.Known().ByID[key.RepositoryID]
	if !ok || !s.directory.Shows(key) {
		return r, nil, ecosystem.ErrNoPackage
	}
	r.Sight = key.Sight
	members, err = s.answering(ctx, r, key)
	return r, members, err
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
