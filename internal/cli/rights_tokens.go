package cli

import (
	"context"
	"crypto/rand"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"crelvo/internal/api"
	"crelvo/internal/client"
	"crelvo/internal/core/fault"
)

func tokenCommand(s *session) *cobra.Command {
	return group("token", "List, make, rotate and revoke tokens", tokenList(s), tokenNew(s), tokenRotate(s),
		tokenRevoke(s))
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
	cmd.Flags().BoolVar(&all, "all", false, "of everybody, the ones that end soonest first (admins)")
	return cmd
}

func tokenNew(s *session) *cobra.Command {
	var n api.NewToken
	var expires string
	cmd := &cobra.Command{Use: "new [NAME]", Short: "Make a token; its secret is shown once",
		Args: arguments(cobra.MaximumNArgs(1)),
		Example: "  crelvo token new laptop --can read\n" +
			"  crelvo token new --for ci-berth --can publish --on snapshots --expires 12h\n" +
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
			noteUnfit(cmd, c, n.On...)
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
	cmd := &cobra.Command{Use: "revoke NAME|-", Short: "End a token at once; - reads its secret from the standard input",
		Args: arguments(cobra.ExactArgs(1)), ValidArgsFunction: s.completeTokens,
		Long: "End a token at once. Whoever finds a secret can end it without knowing whose it is: - reads it from the\n" +
			"standard input, finds whose it is, and ends it.",
		Example: "  crelvo token revoke laptop\n  crelvo token revoke - < found-in-a-log",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := s.client()
			if err != nil {
				return err
			}
			if args[0] == "-" {
				return revokeFound(cmd, c)
			}
			if err := c.RevokeToken(cmd.Context(), owner, args[0]); err != nil {
				return err
			}
			return s.said(cmd, "Revoked %s.", args[0])
		}}
	cmd.Flags().StringVar(&owner, "for", "", "of another user or robot (admins)")
	return cmd
}

// revokeFound ends the token whose secret is on the standard input.
func revokeFound(cmd *cobra.Command, c *client.Client) error {
	secret, err := readPassword(cmd, newInput(cmd))
	if err != nil {
		return err
	}
	if secret = strings.TrimSpace(secret); secret == "" {
		return usageError{fmt.Errorf("there is no secret on the standard input")}
	}
	its := &client.Client{Server: c.Server, Token: secret, Agent: c.Agent}
	me, err := its.Me(cmd.Context())
	if err != nil {
		return err
	}
	if me.Token == "" {
		return fmt.Errorf("this is no token")
	}
	if err := its.RevokeToken(cmd.Context(), "", me.Token); err != nil {
		return err
	}
	fmt.Fprintf(cmd.OutOrStdout(), "Revoked the token %s of %s.\n", me.Token, me.Name)
	return nil
}

func tokenRotate(s *session) *cobra.Command {
	var owner, expires string
	cmd := &cobra.Command{Use: "rotate NAME", Short: "Make a token anew with the same limits, and end the old one",
		Args: arguments(cobra.ExactArgs(1)), ValidArgsFunction: s.completeTokens,
		Long: "Make a token anew, with the same limits and as long as before, and end the old one. The new secret is " +
			"shown once.",
		Example: "  crelvo token rotate nightly --for ci-berth > secret",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := s.client()
			if err != nil {
				return err
			}
			all, err := c.Tokens(cmd.Context(), owner)
			if err != nil {
				return err
			}
			i := slices.IndexFunc(all, func(t api.Token) bool { return t.Name == args[0] })
			if i < 0 {
				var names []string
				for _, t := range all {
					names = append(names, t.Name)
				}
				return fault.New(fault.NotFound, "no-such-token", "there is no token %s", args[0]).
					WithHint("%s", meant(args[0], names, "crelvo token list shows them."))
			}
			old := all[i]
			n := api.NewToken{For: owner, Can: old.Can, On: old.On, Only: old.Only,
				Seconds: int64(old.ExpiresAt.Sub(old.CreatedAt).Seconds())}
			if expires != "" {
				length, err := parseDuration(expires)
				if err != nil {
					return usageError{err}
				}
				n.Seconds = int64(length.Seconds())
			}
			base, _, _ := strings.Cut(old.Name, "--")
			n.Name = fmt.Sprintf("%.48s--%s", base, strings.ToLower(rand.Text()[:6]))
			made, err := c.AddToken(cmd.Context(), n)
			if err != nil {
				return err
			}
			if err := c.RevokeToken(cmd.Context(), owner, old.Name); err != nil {
				return fmt.Errorf("the token %s was made, but %s could not be revoked: %w", made.Name, old.Name, err)
			}
			return s.show(cmd.OutOrStdout(), made, func() {
				fmt.Fprintf(cmd.ErrOrStderr(),
					"Token %s, until %s, takes the place of %s, which is revoked. It is shown this once:\n", made.Name,
					timeText(made.ExpiresAt), old.Name)
				fmt.Fprintln(cmd.OutOrStdout(), made.Secret)
			})
		}}
	cmd.Flags().StringVar(&owner, "for", "", "of another user or robot (admins)")
	cmd.Flags().StringVar(&expires, "expires", "",
		"how long it lasts, such as 12h or 30d (default: as long as the old one)")
	return cmd
}

// completeTokens completes names of the caller's tokens.
func (s *session) completeTokens(cmd *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
	return s.complete(cmd, func(ctx context.Context, c *client.Client) (names []string, err error) {
		all, err := c.Tokens(ctx, "")
		for _, t := range all {
			names = append(names, t.Name)
		}
		return names, err
	})
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
