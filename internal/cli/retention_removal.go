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

func removeCommand(s *session) *cobra.Command {
	var in string
	cmd := &cobra.Command{Use: "remove PURL", Short: "Take a version out of use; for a time it can be brought back",
		Args: arguments(cobra.ExactArgs(1)),
		Long: "Take a version out of use. It goes the way of a sweep: it can be brought back for a time of grace, and " +
			"after\n" +
			"that its bytes are reclaimed. Who still uses it: crelvo who-uses PURL.",
		Example: "  crelvo remove pkg:npm/%40skerry/deck-ui@2.0.0 --in releases",
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := checkPURL(args[0]); err != nil {
				return err
			}
			return answer(s, cmd, func(ctx context.Context, c *client.Client) (api.Sweep, error) {
				return c.RemoveVersion(ctx, in, args[0])
			}, func(w io.Writer, x api.Sweep) {
				fmt.Fprintf(w, "Took %s out of %s. Bring it back within %s: crelvo sweep undo %d\n", args[0], in, x.Grace, x.ID)
			})
		}}
	inFlag(cmd, s, &in, "the repository that holds it")
	return cmd
}

func pinCommand(s *session) *cobra.Command {
	var p api.SetPin
	var until string
	cmd := &cobra.Command{Use: "pin PURL",
		Short: "Keep a version from every sweep; without a version, list what is pinned",
		Args:  arguments(cobra.MaximumNArgs(1)),
		Example: "  crelvo pin pkg:maven/example.skerry.berth/tide-model@1.2.0 --in releases --reason 'the audit of 2027' " +
			"--until 2027-06-30\n  crelvo pin",
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 0 {
				return answer(s, cmd, func(ctx context.Context, c *client.Client) ([]api.Pin, error) {
					return c.Pins(ctx)
				}, func(w io.Writer, all []api.Pin) {
					var rows [][]string
					for _, p := range all {
						rows = append(rows, []string{p.PURL, p.Repository, p.By, timeText(p.At), optionalTime(p.Until, "for good"),
							p.Reason})
					}
					table(w, []string{"VERSION", "IN", "BY", "SINCE", "UNTIL", "REASON"}, nil, rows)
				})
			}
			if p.Repository == "" {
				return usageError{fmt.Errorf("--in is missing: say which repository")}
			}
			if err := checkPURL(args[0]); err != nil {
				return err
			}
			p.PURL = args[0]
			if until != "" {
				at, err := parseMoment(until, time.Now(), true)
				if err != nil {
					return err
				}
				p.Until = at.Format(time.RFC3339Nano)
			}
			did := "%s in %s stays, whatever the policies say."
			if p.Off {
				did = "%s in %s is not pinned any more."
			}
			return s.done(cmd, func(ctx context.Context, c *client.Client) error {
				return c.SetPin(ctx, p)
			}, did, p.PURL, p.Repository)
		}}
	f := cmd.Flags()
	f.StringVar(&p.Repository, "in", "", "the repository that holds it")
	f.StringVar(&p.Reason, "reason", "", "why it must stay")
	f.StringVar(&until, "until", "", "until when, such as 2027-06-30 or +90d; left out: for good")
	f.BoolVar(&p.Off, "off", false, "take the pin off")
	must(cmd.RegisterFlagCompletionFunc("in", s.completeRepositories))
	return cmd
}

func reclaimCommand(s *session) *cobra.Command {
	var now, list bool
	cmd := &cobra.Command{Use: "reclaim", Short: "Free the bytes that nothing names any more",
		Args: arguments(cobra.NoArgs),
		Long: "Free the bytes of what was removed and whose grace has ended, and of publications that came to nothing. " +
			"What\n" +
			"nothing names is marked first, and freed by a run an hour or more later; --now frees it at once. It runs by\n" +
			"itself every night.",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if list {
				return answer(s, cmd, func(ctx context.Context, c *client.Client) ([]api.Reclaiming, error) {
					return c.Reclaimings(ctx)
				}, func(w io.Writer, all []api.Reclaiming) {
					var rows [][]string
					for _, r := range all {
						rows = append(rows, []string{timeText(r.BegunAt), r.BegunBy, optionalTime(r.EndedAt, "under way"),
							strconv.Itoa(r.Versions), strconv.Itoa(r.Marked), strconv.Itoa(r.Files), api.Bytes(r.Bytes), r.Failure})
					}
					table(w, []string{"BEGUN", "BY", "ENDED", "VERSIONS", "MARKED", "FREED FILES", "FREED", "FAILURE"},
						[]int{3, 4, 5, 6}, rows)
				})
			}
			return answer(s, cmd, func(ctx context.Context, c *client.Client) (api.Reclaiming, error) {
				return c.Reclaim(ctx, now)
			}, func(w io.Writer, r api.Reclaiming) {
				if r.Failure != "" {
					fmt.Fprintf(w, "It could not be ended: %s\n", r.Failure)
				}
				fmt.Fprintf(w, "The grace of %s had ended. Freed %s: %s. Marked %s that nothing names",
					count(r.Versions, "version"), count(r.Files, "file"), api.Bytes(r.Bytes), count(r.Marked, "file"))
				if r.Marked > 0 && !now {
					fmt.Fprint(w, ": the next run, an hour or more from now, frees them")
				}
				fmt.Fprintln(w, ".")
			})
		}}
	cmd.Flags().BoolVar(&now, "now", false, "also what no earlier run has marked")
	cmd.Flags().BoolVar(&list, "list", false, "list the last runs instead")
	return cmd
}
