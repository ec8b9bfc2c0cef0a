package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strconv"

	"github.com/spf13/cobra"

	"crelvo/internal/api"
	"crelvo/internal/client"
)

func verifyCommand(s *session) *cobra.Command {
	var records bool
	cmd := &cobra.Command{Use: "verify --records",
		Short: "Compare what is on record with itself, and put right what differs", Args: arguments(cobra.NoArgs),
		Long: "Compare counts, labels and marks with the versions and files that they are about, and put right what\n" +
			"differs. It also happens every night. What was put right is in the activity record.",
		Example: "  crelvo verify --records",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if !records {
				return usageError{errors.New("say what is to be verified: --records")}
			}
			return answer(s, cmd, func(ctx context.Context, c *client.Client) ([]api.Mended, error) {
				return c.VerifyRecords(ctx)
			}, func(w io.Writer, mended []api.Mended) {
				if len(mended) == 0 {
					fmt.Fprintln(w, "All records agree with each other.")
					return
				}
				var rows [][]string
				for _, m := range mended {
					rows = append(rows, []string{strconv.FormatInt(m.Count, 10), m.What, m.Sample})
				}
				table(w, []string{"PUT RIGHT", "WHAT", "SUCH AS"}, []int{0}, rows)
			})
		}}
	cmd.Flags().BoolVar(&records, "records", false, "counts, labels and marks")
	return cmd
}
