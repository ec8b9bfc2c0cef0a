package cli

import (
	"context"
	"fmt"
	"io"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"crelvo/internal/api"
	"crelvo/internal/client"
)

func waiverCommand(s *session) *cobra.Command {
	return group("waiver", "Accept advisories for some versions, with a reason and an end", waiverList(s), waiverAdd(s),
		waiverEnd(s))
}

func tableOfWaivers(w io.Writer, all []api.Waiver) {
	var rows [][]string
	for _, n := range all {
		until := optionalTime(n.Until, "somebody ends it")
		if n.EndedAt != nil {
			until = fmt.Sprintf("ended %s by %s", timeText(*n.EndedAt), n.EndedBy)
		} else if n.Until != nil && n.Until.Before(time.Now()) {
			until = "ended " + timeText(*n.Until)
		}
		rows = append(rows, []string{strconv.FormatInt(n.ID, 10), n.Advisory, n.Pattern, until, n.By, n.Reason})
	}
	table(w, []string{"WAIVER", "ADVISORY", "FOR", "UNTIL", "BY", "REASON"}, []int{0}, rows)
}

func waiverList(s *session) *cobra.Command {
	var all bool
	cmd := &cobra.Command{Use: "list", Short: "List the waivers that stand", Args: arguments(cobra.NoArgs),
		Example: "  crelvo waiver list\n  crelvo waiver list --all",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return answer(s, cmd, func(ctx context.Context, c *client.Client) ([]api.Waiver, error) {
				return c.Waivers(ctx, all)
			}, func(w io.Writer, all []api.Waiver) {
				if len(all) == 0 {
					fmt.Fprintln(w, "No advisory is accepted for anything.")
					return
				}
				tableOfWaivers(w, all)
			})
		}}
	cmd.Flags().BoolVar(&all, "all", false, "those that have ended too")
	return cmd
}

func waiverAdd(s *session) *cobra.Command {
	var reason, until string
	cmd := &cobra.Command{Use: "add ADVISORY PATTERN", Short: "Accept an advisory for what a pattern fits",
		Args: arguments(cobra.ExactArgs(2)),
		Long: "Accept an advisory, by its id or an alias, for what a pattern fits: repositories and gates that keep out what\n" +
			"it is about let that in. It touches no other advisory. That a package is malicious can be accepted only for\n" +
			"one version that is named.",
		Example: "  crelvo waiver add ISLE-2026-0007 pkg:npm/kelp-colors@1.2.0 --until 30d --reason 'only on our own input'",
		RunE: func(cmd *cobra.Command, args []string) error {
			n := api.NewWaiver{Advisory: args[0], Pattern: args[1], Reason: reason}
			if reason == "" {
				return usageError{fmt.Errorf("say why it is right to go on with it: --reason")}
			}
			if until != "" {
				at, err := parseMoment(until, time.Now(), true)
				if err != nil {
					return err
				}
				n.Until = &at
			}
			return answer(s, cmd, func(ctx context.Context, c *client.Client) ([]api.Waiver, error) {
				w, err := c.MakeWaiver(ctx, n)
				return []api.Waiver{w}, err
			}, tableOfWaivers)
		}}
	cmd.Flags().StringVar(&reason, "reason", "", "why it is right to go on with it")
	cmd.Flags().StringVar(&until, "until", "", "when it ends: a day, a moment, or how long from now, such as 30d (default: when somebody ends it)")
	return cmd
}

func waiverEnd(s *session) *cobra.Command {
	return &cobra.Command{Use: "end WAIVER", Short: "End a waiver", Args: arguments(cobra.ExactArgs(1)),
		Example: "  crelvo waiver end 3",
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil {
				return usageError{fmt.Errorf("%q is no number of a waiver; crelvo waiver list shows them", args[0])}
			}
			c, err := s.client()
			if err != nil {
				return err
			}
			if err := c.EndWaiver(cmd.Context(), id); err != nil {
				return err
			}
			return s.said(cmd, "Ended waiver %d.", id)
		}}
}

const refuseFlag = "how bad an advisory must be to keep out what it affects: low, medium, high or critical (none: only what is malicious is kept out)"

// keptOut says what a repository does not let in because of advisories.
func keptOut(r api.Repository) string {
	if r.Refuse == "" {
		return "what is malicious"
	}
	return "what is malicious, and what advisories are about that are " + r.Refuse + " or worse"
}
