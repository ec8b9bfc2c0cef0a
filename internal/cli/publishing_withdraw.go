package cli

import (
	"context"
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"crelvo/internal/api"
	"crelvo/internal/client"
)

func withdrawCommand(s *session) *cobra.Command {
	var in string
	var w api.Withdraw
	cmd := &cobra.Command{Use: "withdraw PURL",
		Short: "Mark a version as not to be used any more: yank, unlist or deprecate it", Args: arguments(cobra.ExactArgs(1)),
		Long: "Mark a version as not to be used any more. Clients pass it over, or warn, each in the way of its\n" +
			"ecosystem; who asks for exactly this version still gets it. --undo takes the mark away.",
		Example: "  crelvo withdraw pkg:pypi/tidecast@0.5.0 --in releases --reason 'wrong moon'\n" +
			"  crelvo withdraw pkg:pypi/tidecast@0.5.0 --in releases --undo",
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := checkPURL(args[0]); err != nil {
				return err
			}
			w.PURL = args[0]
			return answer(s, cmd, func(ctx context.Context, c *client.Client) (api.Withdraw, error) {
				return c.Withdraw(ctx, in, w)
			}, func(out io.Writer, _ api.Withdraw) {
				if w.Undo {
					fmt.Fprintf(out, "%s in %s is as good as any again.\n", w.PURL, in)
					return
				}
				fmt.Fprintf(out, "%s in %s is withdrawn.\n", w.PURL, in)
			})
		}}
	inFlag(cmd, s, &in, "the repository that holds it")
	cmd.Flags().StringVar(&w.Reason, "reason", "", "why; clients show it where they can")
	cmd.Flags().BoolVar(&w.Undo, "undo", false, "take the mark away")
	return cmd
}
