package cli

import (
	"context"
	"errors"
	"slices"

	"github.com/spf13/cobra"

	"crelvo/internal/api"
	"crelvo/internal/client"
)

// alreadySo tells whether what a command was to make is there, just as it was asked
// for: then it is no failure to ask again. same looks at what is there.
func alreadySo(err error, same func() (bool, error)) (bool, error) {
	var p *api.Problem
	if !errors.As(err, &p) || p.Code != "name-taken" && p.Code != "granted-already" && p.Code != "claimed-already" {
		return false, err
	}
	so, lookErr := same()
	if lookErr != nil || !so {
		return false, err
	}
	return true, nil
}

// once runs what makes something, and says so if it was there already.
func (s *session) once(cmd *cobra.Command, make func(ctx context.Context, c *client.Client) error, same func(ctx context.Context, c *client.Client) (bool, error), format string, args ...any) error {
	c, err := s.client()
	if err != nil {
		return err
	}
	already, err := alreadySo(make(cmd.Context(), c), func() (bool, error) { return same(cmd.Context(), c) })
	if err != nil {
		return err
	}
	if already {
		return s.said(cmd, "It was so already; nothing was changed.")
	}
	return s.said(cmd, format, args...)
}

// sameRepository tells whether a repository is as it was asked for, in all that was
// given.
func sameRepository(cmd *cobra.Command, n api.NewRepository, there api.Repository) bool {
	given := cmd.Flags().Changed
	switch {
	case n.Kind != there.Kind || n.Kind == "mirror" && n.Ecosystem != there.Ecosystem,
		given("holds") && n.Holds != there.Holds, given("description") && n.Description != there.Description,
		given("anonymous-read") && n.AnonymousRead != there.AnonymousRead, given("only-builds") && n.OnlyBuilds != there.OnlyBuilds,
		given("only-robots") && n.OnlyRobots != there.OnlyRobots, given("closed") && n.Closed != there.Closed,
		given("largest-file") && n.LargestFile != there.LargestFile:
		return false
	case n.Mirror != nil && n.Mirror.Upstreams != nil && (there.Mirror == nil || !slices.Equal(*n.Mirror.Upstreams, there.Mirror.Upstreams)):
		return false
	}
	if n.Chain == nil {
		return true
	}
	if there.Chain == nil {
		return false
	}
	if n.Chain.Members != nil {
		var names, are []string
		for _, m := range *n.Chain.Members {
			names = append(names, m.Name)
		}
		for _, m := range there.Chain.Members {
			are = append(are, m.Name)
		}
		if !slices.Equal(names, are) {
			return false
		}
	}
	return (n.Chain.ReleasesTo == nil || *n.Chain.ReleasesTo == there.Chain.ReleasesTo) && (n.Chain.SnapshotsTo == nil || *n.Chain.SnapshotsTo == there.Chain.SnapshotsTo)
}

// sameSet tells whether two lists have the same in any order.
func sameSet(a, b []string) bool {
	a, b = slices.Sorted(slices.Values(a)), slices.Sorted(slices.Values(b))
	return slices.Equal(slices.Compact(a), slices.Compact(b))
}
