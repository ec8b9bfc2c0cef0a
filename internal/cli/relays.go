package cli

import (
	"context"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"crelvo/internal/api"
	"crelvo/internal/client"
)

func relayCommand(s *session) *cobra.Command {
	return group("relay", "Send what arrives in a repository on to another server, always", relayList(s), relayShow(s),
		relayAdd(s), relayEdit(s), relayDo(s, "check", "Try the target of a relay",
			"The target of %s is there, and lets us in.", (*client.Client).CheckRelay),
		relayDo(s, "run", "Look now for what a relay missed, and try again what failed", "%s looks for what it missed.",
			func(c *client.Client, ctx context.Context, name string) error {
				_, err := c.RunRelay(ctx, name)
				return err
			}),
		relayDo(s, "pause", "Have a relay send nothing for a while", "%s is paused; what arrives waits.", paused(true)),
		relayDo(s, "resume", "Let a relay that is paused go on", "%s goes on.", paused(false)), relayRemove(s))
}

func paused(is bool) func(c *client.Client, ctx context.Context, name string) error {
	return func(c *client.Client, ctx context.Context, name string) error {
		_, err := c.EditRelay(ctx, name, api.RelayChange{Paused: &is})
		return err
	}
}

// relayState says in a few words how far a relay is.
func relayState(r api.Relay, now time.Time) string {
	behind := ""
	if r.Waiting > 0 {
		behind = fmt.Sprintf("%s behind, %s", count(r.Waiting, "version"), api.Bytes(r.Bytes))
		if r.Oldest != nil {
			behind += ", since " + now.Sub(*r.Oldest).Round(time.Second).String()
		}
	}
	all := []string{}
	switch {
	case r.Paused:
		all = append(all, "paused")
	case !r.Open:
		all = append(all, "sends at "+r.Hours)
	case r.Waiting == 0 && r.Failed == 0:
		all = append(all, "in step")
	}
	if behind != "" {
		all = append(all, behind)
	}
	if r.Failed > 0 {
		all = append(all, fmt.Sprintf("%s FAILED", count(r.Failed, "version")))
	}
	return strings.Join(all, "; ")
}

func relayList(s *session) *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List relays, and how far they are", Args: arguments(cobra.NoArgs),
		Example: "  crelvo relay list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return answer(s, cmd, func(ctx context.Context, c *client.Client) ([]api.Relay, error) {
				return c.Relays(ctx)
			}, func(w io.Writer, all []api.Relay) {
				var rows [][]string
				for _, r := range all {
					rows = append(rows, []string{r.Name, r.Repository, r.Target, r.Holds, relayState(r, time.Now()),
						strconv.Itoa(r.Sent), optionalTime(r.LastAt, "never")})
				}
				table(w, []string{"NAME", "FROM", "TO", "SENDS", "STATE", "SENT", "LAST"}, []int{5}, rows)
			})
		}}
}

// shownRelay is a relay with what waits and what failed.
type shownRelay struct {
	api.Relay
	Versions []api.RelayedVersion `json:"versions"`
}

func relayShow(s *session) *cobra.Command {
	return &cobra.Command{Use: "show NAME", Short: "Show a relay, what waits, and what failed",
		Args: arguments(cobra.ExactArgs(1)), Example: "  crelvo relay show mainland",
		RunE: func(cmd *cobra.Command, args []string) error {
			return answer(s, cmd, func(ctx context.Context, c *client.Client) (shown shownRelay, err error) {
				if shown.Relay, err = c.Relay(ctx, args[0]); err != nil {
					return shown, err
				}
				shown.Versions = []api.RelayedVersion{}
				for _, state := range []string{"failed", "waiting"} {
					some, err := c.Relayed(ctx, args[0], state)
					if err != nil {
						return shown, err
					}
					shown.Versions = append(shown.Versions, some...)
				}
				return shown, nil
			}, showOneRelay)
		}}
}

func removalsText(r api.Relay) string {
	if r.Removals {
		return "what is removed here is removed there, too"
	}
	return "what is removed here stays there"
}

func showOneRelay(w io.Writer, r shownRelay) {
	var next []string
	for _, at := range r.Next {
		next = append(next, timeText(at))
	}
	rate := "as fast as it can"
	if r.BytesRate > 0 {
		rate = api.Bytes(r.BytesRate) + " a second at most"
	}
	hours := "at any time"
	if r.Hours != "" {
		hours = r.Hours + " " + r.Zone
	}
	fields(w, "name", r.Name, "from", r.Repository, "to", r.Target+" ("+r.Ecosystem+")", "sends", r.Holds,
		"only", orNone(r.Only, "everything"), "since", optionalTime(r.Since, "ever"),
		"state", relayState(r.Relay, time.Now()),
		"sent", fmt.Sprintf("%s, last %s", count(r.Sent, "version"), optionalTime(r.LastAt, "never")), "sends at", hours,
		"how fast", rate, "looks for what was missed", r.Schedule+" "+r.Zone, "the next times",
		orNone(next, "none while it is paused"),
		"removals", removalsText(r.Relay), "made", timeText(r.MadeAt)+" by "+r.By)
	if r.Telling > 0 {
		fmt.Fprintf(w, "\nThe labels and withdrawals of %s are still to be told there.\n", count(r.Telling, "package"))
	}
	if r.NotTaken != "" {
		fmt.Fprintf(w, "\nOf labels, withdrawals and removals it did not take: %s\n", oneLine(r.NotTaken))
	}
	var rows [][]string
	for _, v := range r.Versions {
		state := v.State
		if v.NextAt != nil {
			state += ", again at " + timeText(*v.NextAt)
		}
		rows = append(rows, []string{v.PURL, state, strconv.Itoa(v.Attempts), api.Bytes(v.Bytes), oneLine(v.Said)})
	}
	if rows != nil {
		fmt.Fprintln(w)
		table(w, []string{"VERSION", "STATE", "TRIED", "SIZE", "LAST ANSWER"}, []int{2, 3}, rows)
	}
}

// relayFlags are those that making and changing a relay share.
func relayFlags(cmd *cobra.Command, n *api.NewRelay, rate *byteSize) {
	cmd.Flags().StringArrayVar(&n.Only, "only", nil, "a pattern of what is sent, such as pkg:npm/@skerry/*; may be repeated")
	cmd.Flags().StringVar(&n.Holds, "maturity", "releases", "what is sent: releases, snapshots or both")
	cmd.Flags().StringVar(&n.Schedule, "schedule", "17 * * * *", "when it is looked for what was missed, as cron writes it")
	cmd.Flags().StringVar(&n.Zone, "zone", "UTC", "the time zone of the schedule and the hours, such as Europe/Oslo")
	cmd.Flags().StringVar(&n.Hours, "hours", "", "of the day, in which it sends, such as 20:00-06:00")
	cmd.Flags().Var(rate, "rate", "how much it sends a second at most, such as 2MiB")
	cmd.Flags().BoolVar(&n.Removals, "removals", false, "what is removed here is removed there, too, if that is another Crelvo")
	cmd.Flags().BoolVar(&n.Anyway, "anyway", false, "also if the target is not reached now")
	must(cmd.RegisterFlagCompletionFunc("maturity", fixed("releases", "snapshots", "both")))
}

func relayAdd(s *session) *cobra.Command {
	var n api.NewRelay
	var rate byteSize
	cmd := &cobra.Command{Use: "add NAME --from REPO --to DESTINATION", Short: "Send what arrives in a repository on",
		Args: arguments(cobra.ExactArgs(1)),
		Long: "Send what arrives in a repository on to a target, by the protocol of its ecosystem: at once when it\n" +
			"arrives, and by a schedule, which finds what was missed. What is there already is sent, too, unless --from-now\n" +
			"is given. Another Crelvo is told of labels and withdrawals, too, and with --removals of what is removed. The\n" +
			"target is tried before the relay is saved.",
		Example: "  crelvo relay add mainland --from releases --to public-maven --only 'pkg:maven/example.skerry.berth/*' " +
			"--hours 20:00-06:00 --zone Europe/Oslo",
		RunE: func(cmd *cobra.Command, args []string) error {
			n.Name, n.BytesRate = args[0], int64(rate)
			return answer(s, cmd, func(ctx context.Context, c *client.Client) (api.Relay, error) {
				return c.AddRelay(ctx, n)
			}, func(w io.Writer, r api.Relay) {
				fmt.Fprintf(w, "Made the relay %s: what arrives in %s is sent on to %s. %s behind.\n", r.Name, r.Repository,
					r.Target, count(r.Waiting, "version"))
			})
		}}
	cmd.Flags().StringVar(&n.Repository, "from", "", "the repository whose versions are sent on")
	cmd.Flags().StringVar(&n.Target, "to", "", "the target, which crelvo target add makes")
	cmd.Flags().BoolVar(&n.FromNow, "from-now", false, "do not send what is there already")
	relayFlags(cmd, &n, &rate)
	must(cmd.MarkFlagRequired("from"))
	must(cmd.MarkFlagRequired("to"))
	must(cmd.RegisterFlagCompletionFunc("from", s.completeRepositories))
	must(cmd.RegisterFlagCompletionFunc("to", s.completeTargets))
	return cmd
}

func relayEdit(s *session) *cobra.Command {
	var n api.NewRelay
	var rate byteSize
	cmd := &cobra.Command{Use: "edit NAME", Short: "Change a relay; what is not named stays",
		Args: arguments(cobra.ExactArgs(1)), Example: "  crelvo relay edit mainland --rate 2MiB --hours ''",
		RunE: func(cmd *cobra.Command, args []string) error {
			c := api.RelayChange{Target: ifGiven(cmd, "to", &n.Target), Only: ifGiven(cmd, "only", &n.Only),
				Holds: ifGiven(cmd, "maturity", &n.Holds), Schedule: ifGiven(cmd, "schedule", &n.Schedule),
				Zone: ifGiven(cmd, "zone", &n.Zone), Hours: ifGiven(cmd, "hours", &n.Hours),
				BytesRate: ifGiven(cmd, "rate", (*int64)(&rate)), Removals: ifGiven(cmd, "removals", &n.Removals),
				Anyway: n.Anyway}
			if c.Only != nil && len(*c.Only) == 1 && (*c.Only)[0] == "" {
				c.Only = &[]string{}
			}
			return answer(s, cmd, func(ctx context.Context, cl *client.Client) (api.Relay, error) {
				return cl.EditRelay(ctx, args[0], c)
			}, func(w io.Writer, r api.Relay) { showOneRelay(w, shownRelay{Relay: r}) })
		}}
	cmd.Flags().StringVar(&n.Target, "to", "", "another target")
	relayFlags(cmd, &n, &rate)
	must(cmd.RegisterFlagCompletionFunc("to", s.completeTargets))
	return cmd
}

// relayDo is a command that does something with a relay and says that it did.
func relayDo(s *session, name, short, said string,
	do func(c *client.Client, ctx context.Context, name string) error) *cobra.Command {
	return &cobra.Command{Use: name + " NAME", Short: short, Args: arguments(cobra.ExactArgs(1)),
		Example: "  crelvo relay " + name + " tide-tables",
		RunE: func(cmd *cobra.Command, args []string) error {
			return s.done(cmd, func(ctx context.Context, c *client.Client) error { return do(c, ctx, args[0]) }, said, args[0])
		}}
}

func relayRemove(s *session) *cobra.Command {
	return &cobra.Command{Use: "remove NAME", Short: "Remove a relay; what it sent stays there",
		Args: arguments(cobra.ExactArgs(1)), Example: "  crelvo relay remove mainland",
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := s.confirm(cmd, "Remove the relay "+args[0]+"?"); err != nil {
				return err
			}
			return s.done(cmd, func(ctx context.Context, c *client.Client) error { return c.RemoveRelay(ctx, args[0]) },
				"Removed the relay %s.", args[0])
		}}
}
