package cli

import (
	"context"
	"fmt"
	"io"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"crelvo/internal/api"
	"crelvo/internal/client"
	"crelvo/internal/core/catalog"
)

// eventFlags select events.
type eventFlags struct {
	client.EventQuery
	since string
}

func (e *eventFlags) add(cmd *cobra.Command, s *session) {
	f := cmd.Flags()
	f.StringVar(&e.since, "since", "", "only since "+catalog.MomentForms)
	f.StringVar(&e.Who, "who", "", "only by this user or robot")
	f.StringVar(&e.Action, "what", "", "only of this kind, such as 'version published' or refused")
	f.StringVar(&e.Repository, "in", "", "only about this repository")
	f.StringVar(&e.Subject, "about", "", "only about what has this in its name")
	must(cmd.RegisterFlagCompletionFunc("in", s.completeRepositories))
}

func (e *eventFlags) query() (client.EventQuery, error) {
	if e.since != "" {
		var err error
		if e.Since, err = parseSince(e.since); err != nil {
			return e.EventQuery, err
		}
	}
	return e.EventQuery, nil
}

func eventsCommand(s *session) *cobra.Command {
	var flags eventFlags
	cmd := &cobra.Command{Use: "events", Short: "Show the activity record, the newest first",
		Args:    arguments(cobra.NoArgs),
		Example: "  crelvo events --since 1d --who ci-berth\n  crelvo events --what refused\n  crelvo events verify",
		RunE: func(cmd *cobra.Command, _ []string) error {
			q, err := flags.query()
			if err != nil {
				return err
			}
			return answer(s, cmd, func(ctx context.Context, c *client.Client) ([]api.Event, error) {
				return c.Events(ctx, q)
			}, showEvents)
		}}
	flags.add(cmd, s)
	cmd.Flags().IntVar(&flags.Limit, "limit", 50, "at most so many, up to 1000")
	cmd.AddCommand(eventsVerify(s), eventsExport(s))
	return cmd
}

func showEvents(w io.Writer, events []api.Event) {
	if len(events) == 0 {
		fmt.Fprintln(w, "Nothing on record fits.")
		return
	}
	var rows [][]string
	for _, e := range events {
		var details []string
		for _, key := range sortedKeys(e.Detail) {
			if e.Detail[key] != "" {
				details = append(details, key+": "+e.Detail[key])
			}
		}
		who := e.Who
		if e.Token != "" {
			who += " (" + e.Token + ")"
		}
		rows = append(rows, []string{timeText(e.At), who, e.Address, e.Action, e.Repository,
			strings.TrimSpace(e.Subject + "  " + strings.Join(details, ", "))})
	}
	table(w, []string{"WHEN", "WHO", "FROM", "WHAT", "REPOSITORY", "SUBJECT"}, nil, rows)
}

func eventsVerify(s *session) *cobra.Command {
	var noted string
	cmd := &cobra.Command{Use: "verify", Short: "Compute the chain of all events again, and tell whether it is whole",
		Args:    arguments(cobra.NoArgs),
		Example: "  crelvo events verify\n  crelvo events verify --noted 4711:9f86d08…   # what an earlier one told",
		RunE: func(cmd *cobra.Command, _ []string) error {
			var number int64
			id, seal, _ := strings.Cut(noted, ":")
			if noted != "" {
				var err error
				if number, err = strconv.ParseInt(id, 10, 64); err != nil || seal == "" {
					return usageError{fmt.Errorf("--noted is NUMBER:SEAL, as an earlier verify told it, not %q", noted)}
				}
			}
			c, err := s.client()
			if err != nil {
				return err
			}
			chain, err := c.VerifyEvents(cmd.Context(), number, seal)
			if err != nil {
				return err
			}
			if err := s.show(cmd.OutOrStdout(), chain, func() {
				if chain.Broken == 0 {
					fmt.Fprintf(cmd.OutOrStdout(),
						"All %d events are as they were written. Note the last one, to tell later that nothing was taken away: %d:%s\n",
						chain.Events, chain.Last, chain.Hash)
				}
			}); err != nil {
				return err
			}
			if chain.Broken != 0 {
				return fmt.Errorf("the activity record was changed: event %d is the first that is not as it was written (%s)",
					chain.Broken, chain.Why)
			}
			return nil
		}}
	cmd.Flags().StringVar(&noted, "noted", "", "NUMBER:SEAL of an event, as an earlier verify told it")
	return cmd
}

func eventsExport(s *session) *cobra.Command {
	var flags eventFlags
	cmd := &cobra.Command{Use: "export", Short: "Write the activity record as JSON lines, the oldest first",
		Args:    arguments(cobra.NoArgs),
		Example: "  crelvo events export --since 30d > events.jsonl",
		RunE: func(cmd *cobra.Command, _ []string) error {
			q, err := flags.query()
			if err != nil {
				return err
			}
			c, err := s.client()
			if err != nil {
				return err
			}
			return c.ExportEvents(cmd.Context(), q, cmd.OutOrStdout())
		}}
	flags.add(cmd, s)
	return cmd
}
