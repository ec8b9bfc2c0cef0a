package demo

import (
	"context"
	"fmt"
	"strings"
	"time"

	"crelvo/internal/api"
	"crelvo/internal/client"
	"crelvo/internal/ecosystem/madeup"
)

// vettedShelf is what the public source of npm packages has that does not come in by itself:
// something that runs scripts, something under a licence that is refused, and something new.
func vettedShelf(now time.Time) []madeup.Package {
	return []madeup.Package{
		{Name: "wrack-chart", Version: "1.0.0", Description: "Charts that float", Licence: "MIT", Author: "Ida Holm",
			Readme: "# wrack-chart\n"},
		{Name: "wrack-chart", Version: "1.1.0", Description: "Charts that float", Licence: "MIT", Author: "Ida Holm, J. Reef",
			Readme: "# wrack-chart\n\nNow with spray.\n", Needs: map[string]string{"spindrift": "^0.9.0", "fathom-format": "^1.2.0"},
			AtInstall: "node spray.js", Files: []madeup.Entry{{Name: "package/spray.js", Content: "require('./spray.node')\n"},
				{Name: "package/spray.node", Content: "\x7fELF\x02\x01\x01" + strings.Repeat("\x00", 4089)}}},
		{Name: "spindrift", Version: "0.9.0", Description: "Draws spray", Licence: "AGPL-3.0-only", Author: "J. Reef",
			Readme: "# spindrift\n"},
		{Name: "tide-ticker", Version: "2.0.0", Description: "Ticks with the tide", Licence: "Apache-2.0",
			Author: "Open Shore", Readme: "# tide-ticker\n"},
		{Name: "tide-ticker", Version: "2.1.0", Description: "Ticks with the tide", Licence: "Apache-2.0",
			Author: "Open Shore", Readme: "# tide-ticker\n\nAlso at night.\n", Published: now.AddDate(0, 0, -2)},
	}
}

// vet has a mirror let in only what is old enough, or what somebody accepted, and has some of it
// wanted.
func (y *yard) vet(ctx context.Context, admin *client.Client) error {
	refuse, vetted, days := []string{"AGPL-*", "SSPL-*"}, true, 7
	accepts := []string{"older-than 30d, no-advisories from critical, no-scripts",
		"same-maintainers, size-within 50%, no-scripts, no-binaries"}
	if _, err := admin.EditRepository(ctx, "shore-npm", api.RepositoryChange{Admission: &api.AdmissionChange{
		CooldownDays: &days, Vetted: &vetted, Accepts: &accepts, RefuseLicences: &refuse}}); err != nil {
		return err
	}
	until := time.Now().AddDate(0, 0, 90).Truncate(24 * time.Hour)
	for _, n := range []api.NewVetting{
		{Decision: "accepted", Patterns: []string{"pkg:npm/fathom-format"}, Repositories: []string{"shore-npm"},
			Reason: "we read it through; two pages of code", Until: &until},
		{Decision: "refused", Patterns: []string{"pkg:npm/tide-ticker@vers:npm/<2.0.0"},
			Reason: "1.x counts days by the wrong moon; take 2.0.0"}} {
		if _, err := admin.Vet(ctx, n); err != nil {
			return err
		}
	}
	for _, wish := range []struct{ who, name, purpose string }{
		{"deckhand", "wrack-chart@1.1.0", "the tide table of the berth planner"},
		{"purser", "spindrift@0.9.0", "the ferry that splashes on the ticket page"},
		{"deckhand", "tide-ticker@2.1.0", ""}} {
		if _, err := y.as(wish.who).AskForVetting(ctx, api.VettingWish{Repository: "shore-npm", PURL: "pkg:npm/" + wish.name,
			Purpose: wish.purpose}); err != nil {
			return fmt.Errorf("asking for %s: %w", wish.name, err)
		}
	}
	return nil
}
