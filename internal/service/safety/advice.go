package safety

import (
	"context"
	"time"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/purl"
	"crelvo/internal/core/safety"
	"crelvo/internal/ecosystem"
	"crelvo/internal/service/act"
)

var _ ecosystem.Adviser = (*Safety)(nil)

// Advised implements ecosystem.Adviser.
func (s *Safety) Advised(
	ctx context.Context, keys []catalog.PackageKey,
) (all map[catalog.PackageKey]safety.Advice, known bool, err error) {
	counts, err := s.Counts(ctx)
	if err != nil || counts.Advisories == 0 {
		return nil, false, err
	}
	standing, err := s.standing(ctx)
	if err != nil {
		return nil, false, err
	}
	all = map[catalog.PackageKey]safety.Advice{}
	add := func(key catalog.PackageKey, said []safety.Known) {
		if len(said) > 0 {
			all[key] = safety.Advice{Of: act.PURLOf(key, ""), Known: said, Waivers: standing.waivers, Now: s.Now()}
		}
	}
	age := s.changes.Load()
	var asked []catalog.PackageKey
	for _, key := range keys {
		key = catalog.PackageKey{Ecosystem: key.Ecosystem, Namespace: key.Namespace, Name: key.Name}
		if remembered, ok := s.known.Get(key); ok && remembered.Generation == age {
			add(key, remembered.Value)
		} else if purl.OSVName(key.Ecosystem) != "" {
			asked = append(asked, key)
		}
	}
	if len(asked) == 0 {
		return all, true, nil
	}
	found, err := s.DB.AdvisoriesOf(ctx, asked...)
	for key, said := range found {
		add(key, said)
	}
	return all, true, err
}

// AdvisoriesChanged implements ecosystem.Adviser.
func (s *Safety) AdvisoriesChanged(ctx context.Context) (time.Time, error) {
	counts, err := s.Counts(ctx)
	return counts.Newest.Time, err
}

// AdvisedIn implements ecosystem.Adviser.
func (s *Safety) AdvisedIn(ctx context.Context, ecosystem string, each func(safety.Known) error) error {
	return s.DB.AdvisoriesIn(ctx, ecosystem, each)
}
