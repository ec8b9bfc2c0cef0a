package safety

import (
	"context"
	"time"

	"crelvo/internal/core/attest"
	"crelvo/internal/core/catalog"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/service/keys"
)

// besides is what is known of a package besides what its versions say of themselves.
type besides struct {
	Downloads int64
	looks     map[string]look
}

// look is what was found inside a version, and where that was built as far as it is verified.
type look struct {
	record.Look
	builtFrom []attest.Provenance
}

// aside is that as of a generation and a moment.
type aside struct {
	act.Aged[besides]
	at time.Time
}

// asideHolds is how long it holds how often something was downloaded.
const asideHolds = 10 * time.Minute

func (s *Safety) asideOf(ctx context.Context, r catalog.Repository, key catalog.PackageKey) (*besides, error) {
	key.RepositoryID, key.AsOf, key.Sight = r.ID, 0, ""
	age := s.Age(key)
	if known, ok := s.asides.Get(key); ok && known.Generation == age && s.Now().Sub(known.at) < asideHolds {
		return &known.Value, nil
	}
	roots, err := s.trustRoots(ctx)
	if err != nil {
		return nil, err
	}
	b := besides{looks: map[string]look{}}
	if b.Downloads, err = s.DB.AsideOf(ctx, key, func(l record.Look) {
		from := keys.Provenance(roots, l.Bundles, l.Digests)
		l.Bundles = nil // which are large, and verified
		b.looks[l.Version] = look{l, from}
	}); err != nil {
		return nil, err
	}
	s.asides.Add(key, aside{act.Aged[besides]{Value: b, Generation: age}, s.Now()})
	return &b, nil
}

// trustRoots are those that verify where something was built.
func (s *Safety) trustRoots(ctx context.Context) ([]keys.TrustRoot, error) {
	age := s.AnyAge()
	if known := s.roots.Load(); known != nil && known.Generation == age {
		return known.Value, nil
	}
	read, err := s.keys.TrustRoots(ctx)
	if err != nil {
		return nil, err
	}
	s.roots.Store(&act.Aged[[]keys.TrustRoot]{Value: read, Generation: age})
	return read, nil
}
