package cli

import (
	"context"
	"errors"
	"io"
	"strconv"

	"github.com/spf13/cobra"

	"crelvo/internal/api"
	"crelvo/internal/client"
)

var errGiveWhom = errors.New("say to whom: a user or robot, or --nobody")

func buildNames(s *session) *cobra.Command {
	return &cobra.Command{Use: "names", Short: "List to whom builds belong, by their names", Args: arguments(cobra.NoArgs),
		Long: "A name of builds belongs to the user or robot that an admin gave it to, or to the first that used it\n" +
			"with the right to publish.\n" +
			"Nobody else can begin or record a build of that name.",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return answer(s, cmd, func(ctx context.Context, c *client.Client) ([]api.BuildName, error) {
				return c.BuildNames(ctx)
			}, func(w io.Writer, names []api.BuildName) {
				var rows [][]string
				for _, n := range names {
					how := "used it first"
					if n.GivenBy != "" {
						how = "given by " + n.GivenBy
					}
					rows = append(rows, []string{n.Name, n.Owner, how, timeText(n.At), strconv.Itoa(n.Builds)})
				}
				table(w, []string{"NAME", "OWNER", "HOW", "SINCE", "BUILDS"}, []int{4}, rows)
			})
		}}
}

func buildGive(s *session) *cobra.Command {
	var nobody bool
	cmd := &cobra.Command{Use: "give NAME [WHO]", Short: "Say to which user or robot builds of a name belong",
		Args:    arguments(cobra.RangeArgs(1, 2)),
		Example: "  crelvo build give berth-planner ci-berth\n  crelvo build give berth-planner --nobody",
		RunE: func(cmd *cobra.Command, args []string) error {
			if nobody == (len(args) == 2) {
				return usageError{errGiveWhom}
			}
			to, said := "", "Whoever uses the name next owns it"
			if !nobody {
				to, said = args[1], "It belongs to "+args[1]
			}
			return s.done(cmd, func(ctx context.Context, c *client.Client) error {
				return c.GiveBuildName(ctx, args[0], to)
			}, "Builds called %s: %s.", args[0], said)
		}}
	cmd.Flags().BoolVar(&nobody, "nobody", false, "leave the name to whoever uses it next")
	return cmd
}

func buildRemove(s *session) *cobra.Command {
	return &cobra.Command{Use: "remove NAME#NUMBER", Short: "Drop the record of a build that made nothing",
		Args:    arguments(cobra.ExactArgs(1)),
		Example: "  crelvo build remove 'berth-planner#119'",
		RunE: func(cmd *cobra.Command, args []string) error {
			return s.done(cmd, func(ctx context.Context, c *client.Client) error {
				return c.RemoveBuild(ctx, args[0])
			}, "%s is not on record any more.", args[0])
		}}
}
