package cli

import (
	"context"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"crelvo/internal/api"
	"crelvo/internal/client"
)

func claimCommand(s *session) *cobra.Command {
	return group("claim", "List, make and lift claims: names that no mirror may answer for", claimList(s), claimAdd(s),
		claimLift(s))
}

// allClaims is what claim list shows.
type allClaims struct {
	Claims    []api.Claim       `json:"claims"`
	Published *api.ClaimedNames `json:"published,omitempty"`
}

func claimList(s *session) *cobra.Command {
	var in, words string
	cmd := &cobra.Command{Use: "list",
		Short:   "List claims and lifts; with --in also the names that a chain's house members published",
		Args:    arguments(cobra.NoArgs),
		Example: "  crelvo claim list --in platform --name berth",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return answer(s, cmd, func(ctx context.Context, c *client.Client) (all allClaims, err error) {
				if all.Claims, err = c.Claims(ctx); err != nil || in == "" {
					return all, err
				}
				names, err := c.ClaimedNames(ctx, in, words)
				all.Published = &names
				return all, err
			}, showClaims)
		}}
	cmd.Flags().StringVar(&in, "in", "", "a chain")
	cmd.Flags().StringVar(&words, "name", "", "only published names with this in them")
	must(cmd.RegisterFlagCompletionFunc("in", s.completeRepositories))
	return cmd
}

func showClaims(w io.Writer, all allClaims) {
	var rows [][]string
	for _, c := range all.Claims {
		state := "claimed"
		if c.Lifted {
			state = "lifted"
		}
		rows = append(rows, []string{c.Pattern, state, c.By, timeText(c.At), c.Reason})
	}
	if rows == nil {
		fmt.Fprintln(w,
			"Nothing is claimed by pattern. Claim names before they are published: crelvo claim add PATTERN --reason …")
	} else {
		table(w, []string{"PATTERN", "IS", "BY", "SINCE", "REASON"}, nil, rows)
	}
	if all.Published == nil {
		return
	}
	fmt.Fprintf(w, "\n%s claimed since published:\n", counted(int64(all.Published.Total), "name"))
	rows = nil
	for _, n := range all.Published.Names {
		rows = append(rows, []string{n.PURL, strings.Join(n.In, ", "), timeText(n.Since)})
	}
	table(w, []string{"NAME", "PUBLISHED IN", "SINCE"}, nil, rows)
}

func claimAdd(s *session) *cobra.Command {
	return changeClaim(s, "add PATTERN", "Claim the names that a pattern fits",
		"  crelvo claim add 'pkg:maven/example.skerry.*/*' --reason 'our group'",
		func(ctx context.Context, c *client.Client, n api.NewClaim) (api.Claim, error) {
			made, err := c.AddClaim(ctx, n)
			if already, err := alreadySo(err, func() (bool, error) { return true, nil }); err != nil || !already {
				return made, err
			}
			return api.Claim{Pattern: n.Pattern}, nil
		},
		func(c api.Claim) string {
			return "Claimed " + c.Pattern + ": no mirror behind a chain answers for these names any more."
		})
}

func claimLift(s *session) *cobra.Command {
	return changeClaim(s, "lift PATTERN", "End a claim, or let mirrors answer for names that were published here",
		"  crelvo claim lift pkg:maven/org.openshore/brine-http --reason 'a patched copy that we published once'",
		func(ctx context.Context, c *client.Client, n api.NewClaim) (api.Claim, error) {
			return c.LiftClaim(ctx, n)
		},
		func(c api.Claim) string {
			if c.Lifted {
				return "Lifted " + c.Pattern + ": mirrors may answer for these names, although they were published or claimed here."
			}
			return "The claim " + c.Pattern + " has ended. Names that were published here stay claimed."
		})
}

func changeClaim(
	s *session, use, short, example string, do func(context.Context, *client.Client, api.NewClaim) (api.Claim, error),
	done func(api.Claim) string,
) *cobra.Command {
	var reason string
	cmd := &cobra.Command{Use: use, Short: short, Example: example, Args: arguments(cobra.ExactArgs(1)),
		RunE: func(cmd *cobra.Command, args []string) error {
			if reason == "" {
				return usageError{fmt.Errorf("--reason is missing: say why, so that others understand it later")}
			}
			return answer(s, cmd, func(ctx context.Context, c *client.Client) (api.Claim, error) {
				return do(ctx, c, api.NewClaim{Pattern: args[0], Reason: reason})
			}, func(w io.Writer, c api.Claim) { fmt.Fprintln(w, done(c)) })
		}}
	cmd.Flags().StringVar(&reason, "reason", "", "why")
	return cmd
}
