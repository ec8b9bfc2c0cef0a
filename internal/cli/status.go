package cli

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strconv"

	"github.com/spf13/cobra"

	"crelvo/internal/api"
	"crelvo/internal/client"
)

func statusCommand(s *session) *cobra.Command {
	var exit bool
	cmd := &cobra.Command{Use: "status", Short: "Show how the service is, and what is wrong",
		Args: arguments(cobra.NoArgs), Example: "  crelvo status\n  crelvo status --exit-code -o json",
		RunE: func(cmd *cobra.Command, _ []string) error {
			concerned := false
			err := answer(s, cmd, func(ctx context.Context, c *client.Client) (api.Status, error) {
				status, err := c.Status(ctx)
				concerned = status.Database != "ok" || slices.ContainsFunc(status.Concerns, func(c api.Concern) bool {
					return c.Level == "wrong"
				})
				return status, err
			}, func(w io.Writer, status api.Status) {
				fields(w, "service", status.Address, "version", status.Version, "database", status.Database,
					"running since", timeText(status.StartedAt), "repositories", strconv.Itoa(status.Repositories),
					"packages", strconv.FormatInt(status.Packages, 10), "versions", strconv.FormatInt(status.Versions, 10), "size",
					api.Bytes(status.Bytes))
				if len(status.Concerns) == 0 {
					fmt.Fprintln(w, "\nNothing is wrong.")
				}
				for _, c := range status.Concerns {
					fmt.Fprintf(w, "\n%s: %s\n  %s\n", c.Level, c.What, c.Do)
				}
			})
			if err == nil && exit && concerned {
				return silent(exitConcerned)
			}
			return err
		}}
	cmd.Flags().BoolVar(&exit, "exit-code", false, "end with 8 if something is wrong")
	return cmd
}
