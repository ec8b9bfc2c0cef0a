package vetting

import (
	"context"
	"sync"

	"golang.org/x/sync/errgroup"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
)

// lookedAtOnce is how many packages are looked at at the same time.
const lookedAtOnce = 8

// Unvetted tells which of some versions come from outside without that a person accepted them,
// or that a repository which has what comes from outside vetted lets them in.
func (s *Vetting) Unvetted(ctx context.Context, all []purl.PURL) (map[string]bool, error) {
	var mu sync.Mutex
	open, looked := map[string]bool{}, map[string]bool{}
	hands, ctx := errgroup.WithContext(ctx)
	hands.SetLimit(lookedAtOnce)
	for _, p := range all {
		if looked[p.String()] {
			continue
		}
		looked[p.String()] = true
		hands.Go(func() error {
			ok, err := s.vetted(ctx, p)
			if err == nil && !ok {
				mu.Lock()
				open[p.String()] = true
				mu.Unlock()
			}
			return err
		})
	}
	return open, hands.Wait()
}

// vetted tells whether a version is ours, or was vetted in any repository.
func (s *Vetting) vetted(ctx context.Context, p purl.PURL) (bool, error) {
	known := s.directory.Known()
	var houses []int64
	for id, r := range known.ByID {
		if r.Own() {
			houses = append(houses, id)
		}
	}
	in, err := s.DB.PublishedIn(ctx, houses, catalog.PackageKey{Ecosystem: p.Ecosystem, Namespace: p.Namespace,
		Name: p.Name})
	if err != nil || len(in) > 0 {
		return len(in) > 0, err
	}
	for _, r := range known.ByID {
		if r.Own() || r.Fetches() && r.Ecosystem != p.Ecosystem {
			continue
		}
		a, err := s.assess(ctx, r, p, "")
		if ctx.Err() != nil {
			return false, ctx.Err()
		}
		if fault.Is(err, fault.NotFound) {
			continue
		}
		if err != nil {
			return false, err
		}
		if !a.Verdict.Refused && (r.Safety.Vets || a.Verdict.Vetting != nil) {
			return true, nil
		}
	}
	return false, nil
}
