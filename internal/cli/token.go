package cli

import (
	"context"
	"crypto/rand"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"crelvo/internal/api"
	"crelvo/internal/client"
)

func tokenCommand(s *session) *cobra.Command {
	return group("token", "List, make and revoke tokens", tokenList(s), tokenNew(s), tokenRevoke(s))
}

func tokenList(s *session) *cobra.Command {
	var owner string
	var all bool
	cmd := &cobra.Command{Use: "list", Short: "List your tokens", Args: arguments(cobra.NoArgs),
		RunE: func(cmd *cobra.Command, _ []string) error {
			return answer(s, cmd, func(ctx context.Context, c *client.Client) ([]api.Token, error) {
				if all {
					return c.AllTokens(ctx)
				}
				return c.Tokens(ctx, owner)
			}, func(w io.Writer, tokens []api.Token) {
				if len(tokens) == 0 {
					fmt.Fprintln(w, "No tokens. Make one: crelvo token new NAME")
					return
				}
				var rows [][]string
				for _, t := range tokens {
					on, soon := orNone(t.On, "all"), ""
					if len(t.Only) > 0 {
						on += " for " + strings.Join(t.Only, ", ")
					}
					switch left := time.Until(t.ExpiresAt); {
					case left <= 0:
						soon = "ENDED"
					case t.EndsSoon:
						soon = "in " + api.Length(left)
					}
					row := []string{t.Name, orNone(t.Can, "all its owner may"), on, timeText(t.ExpiresAt), soon,
						optionalTime(t.UsedAt, "never"), t.UsedFrom, t.UsedClient}
					if all {
						row = append([]string{t.Owner}, row...)
					}
					rows = append(rows, row)
				}
				heads := []string{"NAME", "CAN", "ON", "ENDS", "", "LAST USE", "FROM", "BY"}
				if all {
					heads = append([]string{"OWNER"}, heads...)
				}
				table(w, heads, nil, rows)
			})
		}}
	cmd.Flags().StringVar(&owner, "for", "", "of another user or robot (admins)")
	cmd.Flags().BoolVar(&all, "all", false, "of everybody, those that end first first (admins)")
	return cmd
}

func tokenNew(s *session) *cobra.Command {
	var n api.NewToken
	var expires string
	cmd := &cobra.Command{Use: "new [NAME]", Short: "Make a token; its secret is shown once", Args: arguments(cobra.MaximumNArgs(1)),
		Example: "  crelvo token new laptop --can read\n  crelvo token new --for ci-berth --can publish --on snapshots --expires 12h\n" +
			"  crelvo token new deck --can publish --on snapshots --only 'pkg:npm/@skerry/*'",
		RunE: func(cmd *cobra.Command, args []string) error {
			if expires != "" {
				length, err := parseDuration(expires)
				if err != nil {
					return usageError{err}
				}
				n.Seconds = int64(length.Seconds())
			}
			c, err := s.client()
			if err != nil {
				return err
			}
			n.Name = tokenName(n, args)
			made, err := c.AddToken(cmd.Context(), n)
			if err != nil {
				return err
			}
			return s.show(cmd.OutOrStdout(), made, func() {
				// The secret alone goes to the standard output, so that it can be caught.
				fmt.Fprintf(cmd.ErrOrStderr(), "Token %s, until %s. It is shown this once:\n", made.Name, timeText(made.ExpiresAt))
				fmt.Fprintln(cmd.OutOrStdout(), made.Secret)
			})
		}}
	cmd.Flags().StringVar(&n.For, "for", "", "for another user or robot (admins)")
	cmd.Flags().StringSliceVar(&n.Can, "can", nil, "limit it to: read, publish, promote, remove, manage")
	cmd.Flags().StringSliceVar(&n.On, "on", nil, "limit it to repositories, by name or pattern")
	cmd.Flags().StringSliceVar(&n.Only, "only", nil, "limit it to packages, by pattern")
	cmd.Flags().StringVar(&expires, "expires", "", "how long it lasts, such as 12h or 30d (default 90d)")
	must(cmd.RegisterFlagCompletionFunc("can", fixed("read", "publish", "promote", "remove", "manage")))
	must(cmd.RegisterFlagCompletionFunc("on", s.completeRepositories))
	return cmd
}

func tokenRevoke(s *session) *cobra.Command {
	var owner string
	cmd := &cobra.Command{Use: "revoke NAME", Short: "End a token at once", Args: arguments(cobra.ExactArgs(1)),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := s.client()
			if err != nil {
				return err
			}
			if err := c.RevokeToken(cmd.Context(), owner, args[0]); err != nil {
				return err
			}
			fmt.Fprintf(cmd.OutOrStdout(), "Revoked %s.\n", args[0])
			return nil
		}}
	cmd.Flags().StringVar(&owner, "for", "", "of another user or robot (admins)")
	return cmd
}

// tokenName is the name that was given, or one that says what the token is for.
func tokenName(n api.NewToken, args []string) string {
	if len(args) == 1 {
		return args[0]
	}
	what := strings.Join(append(append([]string{}, n.Can...), n.On...), "-")
	what = strings.Trim(notInNames.ReplaceAllString(strings.ToLower(what), "-"), "-")
	if what == "" {
		what = "token"
	}
	return fmt.Sprintf("%.40s-%s-%s", what, time.Now().UTC().Format("20060102"), strings.ToLower(rand.Text()[:4]))
}
