package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"crelvo/internal/api"
	"crelvo/internal/client"
)

func waiverCommand(s *session) *cobra.Command {
	return group("waiver", "Accept advisories for some versions, with a reason and an end", waiverList(s), waiverAdd(s),
		waiverEnd(s), waiverImport(s), waiverExport(s))
}

func tableOfWaivers(w io.Writer, all []api.Waiver) {
	var rows [][]string
	for _, n := range all {
		rows = append(rows, []string{strconv.FormatInt(n.ID, 10), n.Advisory, n.Pattern,
			endText(n.Until, n.EndedAt, n.EndedBy), n.By, n.Reason})
	}
	table(w, []string{"WAIVER", "ADVISORY", "FOR", "UNTIL", "BY", "REASON"}, []int{0}, rows)
}

// endText says when a decision ends, or how it has ended.
func endText(until, endedAt *time.Time, by string) string {
	switch {
	case endedAt != nil:
		return fmt.Sprintf("ended %s by %s", timeText(*endedAt), by)
	case until != nil && until.Before(time.Now()):
		return "ended " + timeText(*until)
	}
	return optionalTime(until, "somebody ends it")
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
	var reason, until, justification string
	cmd := &cobra.Command{Use: "add ADVISORY PATTERN", Short: "Accept an advisory for what a pattern fits",
		Args: arguments(cobra.ExactArgs(2)),
		Long: "Accept an advisory, by its id or an alias, for what a pattern fits: repositories and gates that keep out what\n" +
			"it is about let that in. It touches no other advisory. That a package is malicious can be accepted only for\n" +
			"one version that is named.",
		Example: "  crelvo waiver add ISLE-2026-0007 pkg:npm/kelp-colors@1.2.0 --until 30d --reason 'only on our own input'",
		RunE: func(cmd *cobra.Command, args []string) error {
			n := api.NewWaiver{Advisory: args[0], Pattern: args[1], Reason: reason, Justification: justification}
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
	cmd.Flags().StringVar(&justification, "justification", "",
		"why it is not affected, as OpenVEX says it, such as vulnerable_code_not_in_execute_path (default: it is, and that is accepted)")
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

func waiverImport(s *session) *cobra.Command {
	return &cobra.Command{Use: "import FILE", Short: "Make waivers of what a VEX document says is not affected",
		Args: arguments(cobra.ExactArgs(1)),
		Long: "Make waivers of the statements of a document in the OpenVEX or CycloneDX format that say that a package is not\n" +
			"affected, or fixed. Others are passed over, and so are those about a part of a product, since a waiver would\n" +
			"accept that part everywhere. What is there already is not made again.",
		Example: "  crelvo waiver import ferry.openvex.json",
		RunE: func(cmd *cobra.Command, args []string) error {
			f, err := os.Open(args[0])
			if err != nil {
				return err
			}
			defer f.Close()
			return answer(s, cmd, func(ctx context.Context, c *client.Client) (api.Stated, error) {
				return c.ImportVEX(ctx, f)
			}, func(w io.Writer, done api.Stated) {
				fmt.Fprintf(w, "%s made, %d there already, %d passed over\n", counted(int64(len(done.Made)), "waiver"),
					done.Already,
					len(done.Passed))
				if len(done.Made) > 0 {
					tableOfWaivers(w, done.Made)
				}
				var rows [][]string
				for _, p := range done.Passed {
					rows = append(rows, []string{p.Advisory, p.Why})
				}
				if len(rows) > 0 {
					fmt.Fprintln(w)
					table(w, []string{"PASSED OVER", "SINCE"}, nil, rows)
				}
			})
		}}
}

func waiverExport(s *session) *cobra.Command {
	var form string
	cmd := &cobra.Command{Use: "export", Short: "Write the waivers that stand as a VEX document",
		Args: arguments(cobra.NoArgs),
		Long: "Write the waivers that stand as statements. Those that say why something is not affected say that; the others\n" +
			"that it is, and that this is accepted. Waivers for patterns and ranges are left out, since statements name\n" +
			"packages.",
		Example: "  crelvo waiver export > ours.openvex.json\n  crelvo waiver export --form cyclonedx > ours.cdx.json",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := s.client()
			if err != nil {
				return err
			}
			raw, err := c.ExportVEX(cmd.Context(), form)
			if err != nil {
				return err
			}
			_, err = fmt.Fprintln(cmd.OutOrStdout(), string(raw))
			return err
		}}
	cmd.Flags().StringVar(&form, "form", "openvex", "openvex or cyclonedx")
	must(cmd.RegisterFlagCompletionFunc("form", fixed("openvex", "cyclonedx")))
	return cmd
}

const refuseFlag = "how bad an advisory must be to keep out what it affects: low, medium, high or critical (none: only what is malicious is kept out)"

// keptOut says what a repository does not let in because of advisories.
func keptOut(r api.Repository) string {
	if r.Refuse == "" {
		return "what is malicious"
	}
	return "what is malicious, and what advisories are about that are " + r.Refuse + " or worse"
}
