package cli

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"crelvo/internal/api"
	"crelvo/internal/client"
)

func nodeCommand(s *session) *cobra.Command {
	return group("node", "See the programs that serve together, and take one out", nodeList(s), nodeDrain(s))
}

func nodeList(s *session) *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List nodes, and how they are", Args: arguments(cobra.NoArgs),
		Example: "  crelvo node list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return answer(s, cmd, func(ctx context.Context, c *client.Client) ([]api.Node, error) {
				return c.Nodes(ctx)
			}, func(w io.Writer, all []api.Node) {
				var rows [][]string
				for _, n := range all {
					state := n.State
					if n.State == "lost" {
						state = "lost, last seen " + timeText(n.SeenAt)
					}
					rows = append(rows, []string{n.Name, n.Address, n.Version, timeText(n.Since), state,
						strconv.Itoa(n.Requests), strconv.FormatInt(n.Answered, 10), api.Bytes(n.Memory),
						strings.Join(n.Doing, ", ")})
				}
				table(w, []string{"NAME", "ADDRESS", "VERSION", "SINCE", "STATE", "REQUESTS", "IN A MINUTE", "MEMORY", "DOES"},
					[]int{5, 6, 7}, rows)
			})
		}}
}

func nodeDrain(s *session) *cobra.Command {
	var back, wait bool
	cmd := &cobra.Command{Use: "drain NODE", Short: "Take a node out: have it be left alone, and finish what it does",
		Args: arguments(cobra.ExactArgs(1)),
		Long: "Take a node out: it says at /readyz that it is not ready, so that what stands before it sends it nothing\n" +
			"more, finishes what it does, and begins nothing in the background. Then it can be stopped. NODE is its name,\n" +
			"its address, or the beginning of its id.",
		Example: "  crelvo node drain berth-2 --wait\n" +
			"  crelvo node drain berth-2 --back",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := s.client()
			if err != nil {
				return err
			}
			n, err := c.DrainNode(cmd.Context(), args[0], !back)
			if err != nil {
				return err
			}
			if back {
				fmt.Fprintf(cmd.ErrOrStderr(), "%s at %s serves again.\n", n.Name, n.Address)
				return nil
			}
			fmt.Fprintf(cmd.ErrOrStderr(), "%s at %s is left alone from now on.\n", n.Name, n.Address)
			for wait && n.State != "drained" {
				select {
				case <-cmd.Context().Done():
					return cmd.Context().Err()
				case <-time.After(time.Second):
				}
				all, err := c.Nodes(cmd.Context())
				if err != nil {
					return err
				}
				i := slices.IndexFunc(all, func(other api.Node) bool { return other.ID == n.ID })
				if i < 0 {
					fmt.Fprintln(cmd.ErrOrStderr(), "It has ended.")
					return nil
				}
				n = all[i]
			}
			if wait {
				fmt.Fprintln(cmd.ErrOrStderr(), "It does nothing any more, and can be stopped.")
			}
			return nil
		}}
	cmd.Flags().BoolVar(&back, "back", false, "let it serve again")
	cmd.Flags().BoolVar(&wait, "wait", false, "wait until it does nothing any more")
	cmd.MarkFlagsMutuallyExclusive("back", "wait")
	return cmd
}
