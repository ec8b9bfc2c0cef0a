package vetting

import (
	"context"
	"errors"

	"golang.org/x/sync/errgroup"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
	"crelvo/internal/service/act"
	"crelvo/internal/service/safety"
)

// Checked is what whoever asked a repository for a version would be told.
type Checked struct {
	PURL purl.PURL
	// Refusal says why it would be refused; nil if it would not be. Of what is kept out its cause
	// is a safety.Refusal.
	Refusal *fault.Error
	// Unknown is why nothing can be told.
	Unknown string
}

// MostChecked is how many versions are checked at once.
const MostChecked = 500

// Check tells of versions what whoever asked a repository for them would be told, in their order.
// What cannot be found out in time is not known.
func (s *Vetting) Check(ctx context.Context, caller access.Caller, name string, all []purl.PURL) ([]Checked, error) {
	r, err := s.directory.Repository(caller, name, access.Read)
	if err != nil {
		return nil, err
	}
	if len(all) > MostChecked {
		return nil, act.Invalid("too-many", "%d versions can be checked at once, and no more", MostChecked)
	}
	looking, end := context.WithTimeout(ctx, longestLook)
	defer end()
	checked := make([]Checked, len(all))
	var hands errgroup.Group
	hands.SetLimit(lookedAtOnce)
	for i, p := range all {
		hands.Go(func() error {
			checked[i] = s.check(looking, r, p)
			return nil
		})
	}
	_ = hands.Wait() // none of them fails
	return checked, ctx.Err()
}

func (s *Vetting) check(ctx context.Context, r catalog.Repository, p purl.PURL) (c Checked) {
	c.PURL = p
	key := r.Key(p.Ecosystem, p.Namespace, p.Name)
	e := s.Ecosystem(p.Ecosystem)
	switch {
	case e == nil:
		c.Unknown = "this server does not know the ecosystem " + p.Ecosystem
		return c
	case !s.directory.Shows(key):
		c.Refusal = fault.Of(s.absent(r, p))
		return c
	}
	if _, byContent := e.(ecosystem.Maturing); byContent {
		a, err := s.assess(ctx, r, p, "")
		if err != nil {
			return c.because(ctx, err)
		}
		if a.Verdict.Refused {
			c.Refusal = safety.Refused(r, p, catalog.KeptOut{By: r.ID, Version: p.Version, Why: a.Verdict.Why})
		}
		return c
	}
	found, err := s.resolving.Package(ctx, key)
	if err != nil && !errors.Is(err, ecosystem.ErrNoPackage) {
		return c.because(ctx, err)
	}
	if err == nil {
		for i := range found.Versions {
			if found.Versions[i].Version == p.Version {
				return c
			}
		}
	}
	if c.Refusal = s.resolving.WhyNot(ctx, key, p.Version); c.Refusal == nil {
		c.Refusal = fault.Of(s.absent(r, p))
	}
	if ctx.Err() != nil {
		return c.because(ctx, ctx.Err())
	}
	return c
}

// because is what is not known for a reason.
func (c Checked) because(ctx context.Context, err error) Checked {
	c.Refusal, c.Unknown = nil, fault.Of(err).Message
	if ctx.Err() != nil {
		c.Unknown = "it took too long to find out; ask again"
	}
	return c
}
