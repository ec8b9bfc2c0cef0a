package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
	"crelvo/internal/record"
)

func plural(n int64, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// Found is a package in a search's answer.
type Found struct {
	record.Summary
	Repository catalog.Repository
}

// PURL names the package.
func (f Found) PURL() purl.PURL {
	return purl.PURL{Ecosystem: f.Ecosystem, Namespace: f.Namespace, Name: f.Name}
}

// Search finds packages by words of their names, in what the caller may read.
// repository may be "" for all.
func (s *Service) Search(ctx context.Context, caller access.Caller, query, repository string, limit, skip int) ([]Found, error) {
	readable := s.Readable(caller)
	if repository != "" {
		r, err := s.Repository(caller, repository, access.Read)
		if err != nil {
			return nil, err
		}
		readable = []catalog.Repository{r}
	}
	// Behind a chain are others, which its reader may see through it.
	byID := map[int64]catalog.Repository{}
	var ids []int64
	for _, r := range readable {
		if r.Kind == catalog.Chain && repository == "" {
			continue
		}
		for _, m := range s.membersOf(r) {
			byID[m.ID] = m.Repository
			ids = append(ids, m.ID)
		}
	}
	// A purl or coordinates are words too, once their punctuation is gone.
	words := strings.FieldsFunc(strings.TrimPrefix(query, "pkg:maven/"), func(r rune) bool {
		return r == ' ' || r == ':' || r == '/' || r == '\t'
	})
	if len(words) > 10 {
		words = words[:10]
	}
	rows, err := s.db.Search(ctx, ids, words, limit, skip)
	found := make([]Found, len(rows))
	for i, row := range rows {
		found[i] = Found{row, byID[row.RepositoryID]}
	}
	return found, err
}

// Holding is a package in one repository.
type Holding struct {
	Repository catalog.Repository
	Package    *catalog.Package
	Uses       map[int64]record.Use // by version id
}

// Show gives a package, or one version of it, in every repository that has it
// and that the caller may read. Versions are ordered the newest first, uploads
// of a snapshot too. What is behind a chain, and what the upstream of a mirror
// lists, is shown only if the repository is named.
func (s *Service) Show(ctx context.Context, caller access.Caller, p purl.PURL, repository string) ([]Holding, error) {
	readable := s.Readable(caller)
	if repository != "" {
		r, err := s.Repository(caller, repository, access.Read)
		if err != nil {
			return nil, err
		}
		readable = []catalog.Repository{r}
	}
	var holdings []Holding
	for _, r := range readable {
		key := r.Key(p.Ecosystem, p.Namespace, p.Name)
		var found *catalog.Package
		var err error
		switch {
		case repository != "":
			found, err = s.Package(ctx, key)
		case r.Kind == catalog.Chain:
			continue
		default:
			found, err = s.housePackage(ctx, key)
		}
		if errors.Is(err, ecosystem.ErrNoPackage) {
			continue
		}
		if err != nil {
			return nil, err
		}
		shown := *found
		shown.Versions = slices.DeleteFunc(slices.Clone(found.Versions), func(v catalog.Version) bool {
			return p.Version != "" && v.Version != p.Version && v.Upload != p.Version
		})
		if len(shown.Versions) == 0 {
			continue
		}
		slices.SortFunc(shown.Versions, func(a, b catalog.Version) int {
			if c := purl.Compare(p.Ecosystem, b.Version, a.Version); c != 0 {
				return c
			}
			if a.Newer(b) {
				return -1
			}
			return 1
		})
		ids := make([]int64, len(shown.Versions))
		for i, v := range shown.Versions {
			ids[i] = v.ID
		}
		uses, err := s.db.Uses(ctx, ids)
		if err != nil {
			return nil, err
		}
		holdings = append(holdings, Holding{Repository: r, Package: &shown, Uses: uses})
	}
	if holdings == nil {
		return nil, fault.New(fault.NotFound, "no-such-package", "no repository that you may read holds %s", p).
			WithHint("crelvo search finds packages by parts of their names.")
	}
	return holdings, nil
}

// Hits implements ecosystem.Desk.
func (s *Service) Hits(ctx context.Context, repository catalog.Repository, ecosystemName string, q ecosystem.Search) ([]ecosystem.Hit, int, error) {
	words := strings.FieldsFunc(q.Text, func(r rune) bool { return r == ' ' || r == '/' || r == '\t' || r == ',' })
	rows, total, err := s.db.Hits(ctx, idsOf(s.membersOf(repository)), ecosystemName, words[:min(len(words), 10)], q.Snapshots, q.Skip, q.Limit)
	hits := make([]ecosystem.Hit, len(rows))
	for i, row := range rows {
		hits[i] = ecosystem.Hit{Namespace: row.Namespace, Name: row.Name, Latest: row.Latest, Versions: row.Versions, Details: row.Details,
			PublishedBy: row.PublishedBy, ChangedAt: row.ChangedAt, Downloads: row.Downloads}
	}
	return hits, total, err
}
