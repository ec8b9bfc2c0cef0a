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
)

func quotaCommand(s *session) *cobra.Command {
	return group("quota", "See and say how much repositories, teams and stores may use", quotaList(s), quotaShow(s),
		quotaSet(s), quotaRemove(s))
}

const aboutQuotas = "WHAT is a repository, team:NAME (all repositories that the team is an admin of) or store:NAME.\n" +
	"From the soft bound on the status page and the activity record tell of it; nothing that goes beyond the hard\n" +
	"bound is taken. Mirrors make room by themselves: they drop what was not asked for for longest."

// completeQuotas completes what has a quota.
func (s *session) completeQuotas(cmd *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
	var names []string
	if c, err := s.client(); err == nil {
		all, err := c.Quotas(cmd.Context())
		if err != nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		for _, q := range all {
			names = append(names, q.About)
		}
	}
	return names, cobra.ShellCompDirectiveNoFileComp
}

func quotaList(s *session) *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List quotas, and how much of them is used", Args: arguments(cobra.NoArgs),
		Example: "  crelvo quota list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return answer(s, cmd, func(ctx context.Context, c *client.Client) ([]api.Quota, error) {
				return c.Quotas(ctx)
			}, func(w io.Writer, all []api.Quota) {
				if len(all) == 0 {
					fmt.Fprintln(w, "Nothing has a quota. crelvo quota set gives one.")
					return
				}
				var rows [][]string
				for _, q := range all {
					rows = append(rows, []string{q.About, api.Bytes(q.Used), boundText(q.Soft), boundText(q.Hard), partUsed(q),
						q.State})
				}
				table(w, []string{"OF", "USED", "SOFT", "HARD", "PART", "STATE"}, []int{1, 2, 3, 4}, rows)
			})
		}}
}

func boundText(n int64) string {
	if n == 0 {
		return ""
	}
	return api.Bytes(n)
}

// partUsed is how much is used of the hard bound, or of the soft one where there is no other.
func partUsed(q api.Quota) string {
	most := q.Hard
	if most == 0 {
		most = q.Soft
	}
	return strconv.FormatInt(100*q.Used/max(most, 1), 10) + " %"
}

func showQuota(w io.Writer, q api.QuotaDetail) {
	pairs := []string{"of", q.About, "used", api.Bytes(q.Used) + ", " + partUsed(q.Quota)}
	if q.Soft > 0 {
		pairs = append(pairs, "soft bound", api.Bytes(q.Soft))
	}
	if q.Hard > 0 {
		pairs = append(pairs, "hard bound", api.Bytes(q.Hard))
	}
	if len(q.Repositories) > 0 {
		pairs = append(pairs, "repositories", strings.Join(q.Repositories, ", "))
	}
	pairs = append(pairs, "state", q.State, "counted", timeText(q.AsOf))
	fields(w, pairs...)
	if len(q.Most) > 0 {
		fmt.Fprintln(w, "\nMost is used by")
		var rows [][]string
		for _, u := range q.Most {
			rows = append(rows, []string{u.PURL, u.Repository, api.Bytes(u.Bytes)})
		}
		table(w, []string{"PACKAGE", "REPOSITORY", "SIZE"}, []int{2}, rows)
	}
	for _, sweep := range q.Sweeps {
		fmt.Fprintf(w, "\nA sweep by %s would take out %d versions and free %s: crelvo sweep plan %s shows it.\n",
			sweep.Policy, sweep.Versions, api.Bytes(sweep.Bytes), sweep.Policy)
	}
}

func quotaShow(s *session) *cobra.Command {
	return &cobra.Command{Use: "show WHAT", Short: "Show a quota, what uses most of it, and what sweeps would free",
		Args: arguments(cobra.ExactArgs(1)), Long: "Show a quota.\n" + aboutQuotas,
		Example: "  crelvo quota show snapshots", ValidArgsFunction: s.completeQuotas,
		RunE: func(cmd *cobra.Command, args []string) error {
			return answer(s, cmd, func(ctx context.Context, c *client.Client) (api.QuotaDetail, error) {
				return c.Quota(ctx, args[0])
			}, showQuota)
		}}
}

func quotaSet(s *session) *cobra.Command {
	var soft, hard byteSize
	cmd := &cobra.Command{Use: "set WHAT", Short: "Give a repository, a team or a store a quota, or change it",
		Args: arguments(cobra.ExactArgs(1)), Long: "Give a quota.\n" + aboutQuotas,
		Example: "  crelvo quota set snapshots --soft 80GiB --hard 100GiB\n" +
			"  crelvo quota set team:berth-crew --hard 2TiB\n" +
			"  crelvo quota set store:archive --soft 5TiB\n" +
			"  crelvo quota set snapshots --soft 0",
		ValidArgsFunction: s.completeQuotas,
		RunE: func(cmd *cobra.Command, args []string) error {
			var change api.QuotaChange
			if cmd.Flags().Changed("soft") {
				change.Soft = (*int64)(&soft)
			}
			if cmd.Flags().Changed("hard") {
				change.Hard = (*int64)(&hard)
			}
			if change == (api.QuotaChange{}) {
				return usageError{fmt.Errorf("say how much it may use: --soft, --hard, or both")}
			}
			return answer(s, cmd, func(ctx context.Context, c *client.Client) (api.QuotaDetail, error) {
				return c.SetQuota(ctx, args[0], change)
			}, showQuota)
		}}
	cmd.Flags().Var(&soft, "soft", "from which on it is told; 0 is none")
	cmd.Flags().Var(&hard, "hard", "beyond which nothing is taken; 0 is none")
	return cmd
}

func quotaRemove(s *session) *cobra.Command {
	return &cobra.Command{Use: "remove WHAT", Short: "Take a quota away", Args: arguments(cobra.ExactArgs(1)),
		Example: "  crelvo quota remove snapshots", ValidArgsFunction: s.completeQuotas,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := s.client()
			if err != nil {
				return err
			}
			return c.RemoveQuota(cmd.Context(), args[0])
		}}
}
