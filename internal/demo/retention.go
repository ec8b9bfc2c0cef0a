package demo

import (
	"context"
	"fmt"
	"net/url"
	"time"

	"crelvo/internal/api"
	"crelvo/internal/client"
)

// policies are what stays of the scenario, and why.
var policies = []string{`# What CI makes every day piles up; what somebody may still need stays.
name: development-builds
description: What CI makes every day
repositories: [snapshots]
keep:
  - newest 2 of each development-version
  - younger than 14d
  - downloaded within 30d
  - promoted with its build
grace: 14d
schedule: 30 3 * * *
zone: Europe/Oslo
most-versions: 200
most-share: 80%
`, `name: sea-trials
description: Candidates that were tried, and are not sailing
repositories: [staging]
keep:
  - newest 2 of each package
  - younger than 14d
grace: 30d
most-share: 20%
`, `name: copies
description: Copies of third-party packages; they can be fetched again
repositories: [shore-maven, shore-npm, shore-pypi, shore-nuget, shore-cargo, shore-oci, shore-helm]
keep:
  - downloaded within 90d
  - last used up to 20GiB
grace: 3d
schedule: 0 5 * * 0
zone: Europe/Oslo
`}

// keep sets the policies, pins what an audit wants, and sweeps once, a week ago;
// one version was missed and brought back.
func (y *yard) keep(ctx context.Context, admin *client.Client, today time.Time) error {
	y.clock.set(today.AddDate(0, 0, -8).Add(9 * time.Hour))
	for _, text := range policies {
		if _, err := admin.SetPolicy(ctx, api.SetPolicy{Text: text}); err != nil {
			return err
		}
	}
	audit := today.AddDate(0, 7, 0)
	if err := admin.SetPin(ctx, api.SetPin{PURL: "pkg:maven/" + group + "/fare-engine@1.2.0", Repository: "staging",
		Reason: "the fare audit of next year looks at it", Until: audit.Format(time.RFC3339)}); err != nil {
		return err
	}
	y.clock.set(today.AddDate(0, 0, -7).Add(2 * time.Hour))
	id, err := y.sweep(ctx, admin, "development-builds")
	if err != nil {
		return err
	}
	y.clock.set(today.AddDate(0, 0, -6).Add(8 * time.Hour))
	page, err := admin.Sweep(ctx, id, url.Values{"limit": {"1"}})
	if err != nil || len(page.Items) == 0 {
		return fmt.Errorf("the demo's sweep took nothing: %w", err)
	}
	if _, err := admin.UndoSweep(ctx, id, []string{page.Items[0].PURL}); err != nil {
		return err
	}
	y.clock.set(today.AddDate(0, 0, -1).Add(10 * time.Hour))
	_, err = y.sweep(ctx, admin, "sea-trials")
	return err
}

// sweep sweeps by a policy, until that is done or asks.
func (y *yard) sweep(ctx context.Context, admin *client.Client, policy string) (int64, error) {
	x, err := admin.RunSweep(ctx, api.RunSweep{Policy: policy})
	for err == nil && x.State == "underway" {
		select {
		case <-time.After(50 * time.Millisecond): // between two looks at it
		case <-ctx.Done():
			return 0, ctx.Err()
		}
		var page api.SweepPage
		page, err = admin.Sweep(ctx, x.ID, nil)
		x = page.Sweep
	}
	return x.ID, err
}
