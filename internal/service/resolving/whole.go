package resolving

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"crelvo/internal/core/catalog"
	"crelvo/internal/ecosystem"
	"crelvo/internal/service/act"
	"crelvo/internal/service/mirrors"
)

var _ ecosystem.Lister = (*Resolving)(nil)

// wholeKey names a document about all packages of a repository.
type wholeKey struct {
	repositoryID int64
	at           catalog.Moment
	sight        catalog.Sight
	ecosystem    string
}

// asking is how many packages are put together at the same time for such a document.
const asking = 8

// Whole implements ecosystem.Lister. The document is made anew where a package of the
// ecosystem has changed; what it says of those that have not is remembered.
func (s *Resolving) Whole(
	ctx context.Context, repository catalog.Repository, ecosystemName string, j ecosystem.Joined,
) (ecosystem.Whole, error) {
	key := wholeKey{repository.ID, repository.AsOf, repository.Sight, ecosystemName}
	// Every change of a package raises the generation of its ecosystem.
	age := s.Age(catalog.PackageKey{Ecosystem: ecosystemName})
	if known, ok := s.wholes.Get(key); ok && known.Generation == age && s.Now().Before(known.Until) {
		return known.Value, nil
	}
	making := s.making.DoChan(fmt.Sprintf("%v %d", key, age), func() (any, error) {
		made, until, err := s.makeWhole(context.WithoutCancel(ctx), repository, ecosystemName, j)
		if err == nil {
			s.wholes.Add(key, act.Aged[ecosystem.Whole]{Value: made, Generation: age, Until: until})
		}
		return made, err
	})
	select {
	case <-ctx.Done():
		return ecosystem.Whole{}, ctx.Err()
	case made := <-making:
		if made.Err != nil {
			return ecosystem.Whole{}, made.Err
		}
		return made.Val.(ecosystem.Whole), nil
	}
}

// makeWhole puts the document together.
func (s *Resolving) makeWhole(
	ctx context.Context, repository catalog.Repository, ecosystemName string, j ecosystem.Joined,
) (made ecosystem.Whole, until time.Time, err error) {
	keys, err := s.named(ctx, repository, ecosystemName)
	if err != nil {
		return made, until, err
	}
	each := make([]ecosystem.Part, len(keys))
	changed := time.Unix(0, 0)
	until = mirrors.Forever
	var mu sync.Mutex
	var all errgroup.Group
	all.SetLimit(asking)
	for i, key := range keys {
		all.Go(func() error {
			p, holds, err := s.packageUntil(ctx, key, "")
			mu.Lock()
			if holds.Before(until) {
				until = holds
			}
			mu.Unlock()
			if errors.Is(err, ecosystem.ErrNoPackage) {
				return nil
			}
			if err != nil {
				return err
			}
			d, err := s.holdings.Rendered(p, "in "+j.ContentType, func(ecosystem.Document) (ecosystem.Document, error) {
				part, err := j.Each(p)
				return ecosystem.Assemble(j.ContentType, p.Changed, part), err
			})
			if err != nil {
				return err
			}
			each[i] = d.Parts()[0]
			mu.Lock()
			defer mu.Unlock()
			if p.Changed.After(changed) {
				changed = p.Changed
			}
			for _, stale := range p.Stale {
				if !slices.ContainsFunc(made.Stale, func(s catalog.Staleness) bool { return s.Mirror == stale.Mirror }) {
					made.Stale = append(made.Stale, stale)
				}
			}
			return nil
		})
	}
	if err := all.Wait(); err != nil {
		return made, until, err
	}
	made.Document = j.Join(each, changed)
	return made, until, nil
}

// named are the packages that a repository may have anything of, in the order of their
// names. What the houses among its members keep of them is read ahead.
func (s *Resolving) named(
	ctx context.Context, repository catalog.Repository, ecosystemName string,
) (keys []catalog.PackageKey, err error) {
	rows, err := s.DB.Named(ctx, s.directory.ScopeOf(repository), repository.AsOf, ecosystemName)
	if err != nil {
		return nil, err
	}
	kept := map[int64][]catalog.PackageKey{}
	for _, row := range rows {
		keys = append(keys, repository.Key(ecosystemName, row.Namespace, row.Name))
		of := repository.Key(ecosystemName, row.Namespace, row.Name)
		of.RepositoryID, of.Sight = row.RepositoryID, ""
		kept[row.RepositoryID] = append(kept[row.RepositoryID], of)
	}
	for _, of := range kept {
		if err := s.holdings.Ahead(ctx, of); err != nil {
			return nil, err
		}
	}
	for _, m := range s.directory.MembersOf(repository) {
		of := s.mirrors.Of(m.ID)
		if of == nil || of.Ecosystem != ecosystemName {
			continue
		}
		names, err := s.mirrors.Names(ctx, of, repository.AsOf)
		if err != nil && m.MaySkip {
			continue
		}
		if err != nil {
			return nil, s.memberFault(repository, m, "what it has of "+ecosystemName, err)
		}
		for _, name := range names {
			keys = append(keys, repository.Key(ecosystemName, "", name))
		}
	}
	slices.SortFunc(keys, func(a, b catalog.PackageKey) int {
		return strings.Compare(a.Namespace+"\x00"+a.Name, b.Namespace+"\x00"+b.Name)
	})
	return slices.Compact(keys), nil
}
