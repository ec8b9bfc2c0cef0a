package cli

import (
	"context"
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"crelvo/internal/api"
	"crelvo/internal/client"
)

func listRemoved(s *session, cmd *cobra.Command) error {
	return answer(s, cmd, func(ctx context.Context, c *client.Client) ([]api.RemovedRepository, error) {
		return c.RemovedRepositories(ctx)
	}, func(w io.Writer, all []api.RemovedRepository) {
		if len(all) == 0 {
			fmt.Fprintln(w, "No repository that you could read was removed within the last 14 days.")
			return
		}
		var rows [][]string
		for _, r := range all {
			rows = append(rows, []string{r.Name, r.Kind, timeText(r.At), r.By, timeText(r.Until)})
		}
		table(w, []string{"NAME", "KIND", "REMOVED", "BY", "COMES BACK UNTIL"}, nil, rows)
		fmt.Fprintln(w, "\nBring one back with all that it held: crelvo repo remove NAME --undo")
	})
}

func repoRemove(s *session) *cobra.Command {
	var withContents, undo bool
	cmd := &cobra.Command{Use: "remove NAME", Short: "Take a repository out of use", Args: arguments(cobra.ExactArgs(1)),
		ValidArgsFunction: s.completeRepositories,
		Long: "Take a repository out of use. Within 14 days --undo brings it back with all that it held; then " +
			"its bytes are\nfreed. Its name can be given to another meanwhile.",
		Example: "  crelvo repo remove trials\n  crelvo repo remove trials --undo",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := s.client()
			if err != nil {
				return err
			}
			if undo {
				r, err := c.BringBackRepository(cmd.Context(), args[0])
				if err != nil {
					return err
				}
				return s.said(cmd, "%s is back, with %s in %s.", r.Name, counted(r.Packages, "package"),
					counted(r.Versions, "version"))
			}
			r, err := c.Repository(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			question := fmt.Sprintf("Remove %s?", r.Name)
			if withContents && r.Packages > 0 {
				question = fmt.Sprintf("Remove %s with %d packages in %d versions (%s)?", r.Name, r.Packages, r.Versions,
					api.Bytes(r.Bytes))
			}
			if err := s.confirm(cmd, question); err != nil {
				return err
			}
			if err := c.RemoveRepository(cmd.Context(), r.Name, withContents); err != nil {
				return err
			}
			return s.said(cmd, "Removed %s. Within 14 days crelvo repo remove %s --undo brings it back.", r.Name, r.Name)
		}}
	cmd.Flags().BoolVar(&withContents, "with-contents", false, "also if it holds anything")
	cmd.Flags().BoolVar(&undo, "undo", false, "bring it back")
	return cmd
}
