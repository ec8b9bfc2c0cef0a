package ecosystemtest

import (
	"context"
	"time"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/purl"
	"crelvo/internal/core/safety"
	"crelvo/internal/ecosystem"
)

var _ ecosystem.Adviser = (*Desk)(nil)

// Advised implements ecosystem.Adviser, by what the test puts into Known; nil is that no
// advisories are known at all.
func (d *Desk) Advised(
	_ context.Context, keys []catalog.PackageKey,
) (all map[catalog.PackageKey]safety.Advice, known bool, err error) {
	all = map[catalog.PackageKey]safety.Advice{}
	for _, key := range keys {
		key = catalog.PackageKey{Ecosystem: key.Ecosystem, Namespace: key.Namespace, Name: key.Name}
		of := purl.PURL{Ecosystem: key.Ecosystem, Namespace: key.Namespace, Name: key.Name}
		for _, k := range d.Known {
			if k.Package.String() == of.String() {
				advice := all[key]
				advice.Of, advice.Now, advice.Known = of, d.Now, append(advice.Known, k)
				all[key] = advice
			}
		}
	}
	return all, d.Known != nil, nil
}

// AdvisoriesChanged implements ecosystem.Adviser.
func (d *Desk) AdvisoriesChanged(context.Context) (at time.Time, err error) {
	if d.Known != nil {
		at = d.Now
	}
	return at, nil
}

// AdvisedIn implements ecosystem.Adviser.
func (d *Desk) AdvisedIn(_ context.Context, ecosystem string, each func(safety.Known) error) error {
	for _, k := range d.Known {
		if k.Package.Ecosystem == ecosystem {
			if err := each(k); err != nil {
				return err
			}
		}
	}
	return nil
}
