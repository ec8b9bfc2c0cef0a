package cli

import (
	"context"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"crelvo/internal/api"
	"crelvo/internal/client"
	"crelvo/internal/ecosystem"
	"crelvo/internal/ecosystem/kinds"
)

func targetCommand(s *session) *cobra.Command {
	list := &cobra.Command{Use: "list", Short: "List targets", Args: arguments(cobra.NoArgs),
		RunE: func(cmd *cobra.Command, _ []string) error {
			return answer(s, cmd, func(ctx context.Context, c *client.Client) ([]api.Target, error) {
				return c.Targets(ctx)
			}, func(w io.Writer, all []api.Target) {
				var rows [][]string
				for _, d := range all {
					rows = append(rows, []string{d.Name, d.Ecosystem, d.URL, yesNo(d.HasSecret), timeText(d.At), d.By})
				}
				table(w, []string{"NAME", "ECOSYSTEM", "ADDRESS", "SIGNS IN", "SET", "BY"}, nil, rows)
			})
		}}
	var n api.NewTarget
	var secretFile string
	add := &cobra.Command{Use: "add NAME",
		Short: "Add a repository on another server that promotions go on to, or write it anew",
		Args:  arguments(cobra.ExactArgs(1)),
		Example: "  crelvo target add public-maven --ecosystem maven --url https://upload.openshore.example/maven/ " +
			"--user skerry --secret-file -",
		RunE: func(cmd *cobra.Command, args []string) error {
			n.Name = args[0]
			if secretFile != "" {
				var err error
				if n.Secret, err = readSecret(cmd, secretFile); err != nil {
					return err
				}
			}
			return s.done(cmd, func(ctx context.Context, c *client.Client) error { return c.SetTarget(ctx, n) },
				"Set the target %s. Have a track send there: crelvo track edit TRACK --into STAGE --onward %s", n.Name, n.Name)
		}}
	var sent []string
	for _, e := range kinds.All() {
		if _, ok := e.(ecosystem.Sending); ok {
			sent = append(sent, e.Name())
		}
	}
	add.Flags().StringVar(&n.Ecosystem, "ecosystem", "maven", "what is sent there: "+strings.Join(sent, ", "))
	add.Flags().StringVar(&n.URL, "url", "", "where clients of the ecosystem publish to")
	add.Flags().StringVar(&n.User, "user", "", "who signs in; left out, the secret is a token or key")
	add.Flags().StringVar(&secretFile, "secret-file", "",
		"a file with the password, token or key; - is the standard input")
	must(add.MarkFlagRequired("url"))
	must(add.RegisterFlagCompletionFunc("ecosystem", fixed(sent...)))
	remove := &cobra.Command{Use: "remove NAME", Short: "Remove a target", Args: arguments(cobra.ExactArgs(1)),
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := s.confirm(cmd, "Remove the target "+args[0]+"?"); err != nil {
				return err
			}
			return s.done(cmd, func(ctx context.Context, c *client.Client) error {
				return c.RemoveTarget(ctx, args[0])
			}, "Removed the target %s.", args[0])
		}}
	return group("target", "List, add and remove the servers that promotions go on to", list, add, remove)
}
