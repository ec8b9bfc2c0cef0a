package cli

import (
	"context"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"crelvo/internal/api"
	"crelvo/internal/client"
)

func explainCommand(s *session) *cobra.Command {
	var in string
	cmd := &cobra.Command{Use: "explain PURL",
		Short: "Show which repository answers for a package, and why the others do not", Args: arguments(cobra.ExactArgs(1)),
		Example: "  crelvo explain pkg:maven/org.openshore/brine-http@2.1.0 --in platform",
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := checkPURL(args[0]); err != nil {
				return err
			}
			return answer(s, cmd, func(ctx context.Context, c *client.Client) (api.Explanation, error) {
				return c.Explain(ctx, in, args[0])
			}, showExplanation)
		}}
	inFlag(cmd, s, &in, "the repository that a client would ask, such as a chain")
	return cmd
}

func showExplanation(w io.Writer, e api.Explanation) {
	fmt.Fprintf(w, "%s in %s: %s\n", e.PURL, e.Repository, e.Sentence)
	if e.Ours != "" {
		fmt.Fprintf(w, "The name is ours: %s.\n", e.Ours)
	}
	fmt.Fprintln(w)
	var rows [][]string
	for i, step := range e.Steps {
		mark := ""
		if step.Answers {
			mark = "->"
		}
		why := step.Why
		if step.Skipped {
			why += " (skipped, as the chain allows)"
		}
		if len(step.Via) > 0 {
			why = strings.TrimSpace(why + " (through " + strings.Join(step.Via, " and ") + ")")
		}
		rows = append(rows, []string{mark, fmt.Sprint(i + 1), step.Repository, step.Kind, step.Said, why})
	}
	table(w, []string{"", "#", "REPOSITORY", "KIND", "SAYS", "WHY"}, []int{1}, rows)
}
