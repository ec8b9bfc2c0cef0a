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
func (s *session) once(
	cmd *cobra.Command, make func(ctx context.Context, c *client.Client) error,
	same func(ctx context.Context, c *client.Client) (bool, error), format string, args ...any,
) error {
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

// sameSet tells whether two lists have the same in any order.
func sameSet(a, b []string) bool {
	a, b = slices.Sorted(slices.Values(a)), slices.Sorted(slices.Values(b))
	return slices.Equal(slices.Compact(a), slices.Compact(b))
}
