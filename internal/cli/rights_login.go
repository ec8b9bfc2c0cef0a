package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"crelvo/internal/api"
	"crelvo/internal/client"
)

func whoamiCommand(s *session) *cobra.Command {
	return &cobra.Command{Use: "whoami", Short: "Show who you are signed in as", Args: arguments(cobra.NoArgs),
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := s.client()
			if err != nil {
				return err
			}
			me, err := c.Me(cmd.Context())
			if err != nil {
				return err
			}
			if me.Kind == "anonymous" {
				return &api.Problem{Status: 401, Detail: "you are not signed in to " + c.Server,
					Hint: "Sign in with crelvo login, or set CRELVO_TOKEN."}
			}
			w := cmd.OutOrStdout()
			return s.show(w, me, func() {
				var roles []string
				for _, g := range me.Roles {
					role := g.Role + " on " + g.Repositories
					if g.Packages != "" {
						role += " for " + g.Packages
					}
					if g.Through != "" {
						role += " (" + g.Through + ")"
					}
					roles = append(roles, role)
				}
				pairs := []string{"name", me.Name, "kind", me.Kind, "service", c.Server, "token", me.Token, "teams",
					strings.Join(me.Teams, ", ")}
				for i, role := range roles {
					name := ""
					if i == 0 {
						name = "roles"
					}
					pairs = append(pairs, name, role)
				}
				if roles == nil {
					pairs = append(pairs, "roles", "none")
				}
				fields(w, append(pairs, "limited to", strings.Join(me.LimitedTo, ", "))...)
			})
		}}
}

func loginCommand(s *session) *cobra.Command {
	var name, as string
	cmd := &cobra.Command{Use: "login [SERVER]", Short: "Sign in, and keep a token for the other commands",
		Args: arguments(cobra.MaximumNArgs(1)),
		Long: "Sign in, and keep a token for the other commands. What was kept for the server before is revoked.\n" +
			"Several servers are told apart by names: crelvo login --as mainland https://mainland.skerry.example,\n" +
			"then crelvo --server mainland repo list.",
		Example: "  crelvo login http://127.0.0.1:8700\n  crelvo login --as mainland https://mainland.skerry.example\n" +
			"  crelvo login --name deckhand < password-file",
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 1 {
				s.server = args[0]
			}
			c, err := s.client()
			if err != nil {
				return err
			}
			c.Token = ""
			input := newInput(cmd)
			if _, person := onTerminal(cmd); name == "" && !person {
				return usageError{
					fmt.Errorf("--name is missing: without a terminal it says who signs in, and the standard input has the password")}
			}
			if name == "" {
				fmt.Fprintf(cmd.ErrOrStderr(), "Name for %s: ", c.Server)
				if name, err = readLine(cmd.Context(), input); err != nil {
					return err
				}
				name = strings.TrimSpace(name)
			}
			password, err := readPassword(cmd, input)
			if err != nil {
				return err
			}
			c.User, c.Password = name, password
			return s.keepToken(cmd, c, input, as)
		}}
	cmd.Flags().StringVar(&as, "as", "", "a name for the server, by which --server and CRELVO_SERVER know it from then on")
	cmd.Flags().StringVar(&name, "name", "", "the user to sign in as")
	return cmd
}

// ownPassword replaces a password that somebody else gave by one of one's own.
func (s *session) ownPassword(cmd *cobra.Command, c *client.Client, input *bufio.Reader) error {
	fmt.Fprintf(cmd.ErrOrStderr(), "The password of %s was given by somebody else; choose one of your own now.\nNew ",
		c.User)
	password, err := readPassword(cmd, input)
	if err != nil {
		return err
	}
	if password == "" {
		return fmt.Errorf("no new password was given; sign in on the console, or write the new one in a second line")
	}
	if err := c.ChangePassword(cmd.Context(), api.PasswordChange{Old: c.Password, New: password}); err != nil {
		return err
	}
	c.Password = password
	return nil
}

// keepToken makes a token for this machine and stores it.
func (s *session) keepToken(cmd *cobra.Command, c *client.Client, input *bufio.Reader, as string) error {
	host, err := os.Hostname()
	if err != nil {
		host = "machine"
	}
	host = strings.Trim(notInNames.ReplaceAllString(strings.ToLower(host), "-"), "-")
	ask := api.NewToken{Name: fmt.Sprintf("cli-%.30s-%s", host, strconv.FormatInt(time.Now().UnixMilli(), 36))}
	made, err := c.AddToken(cmd.Context(), ask)
	var p *api.Problem
	if errors.As(err, &p) && p.Code == "change-password-first" {
		if err := s.ownPassword(cmd, c, input); err != nil {
			return err
		}
		made, err = c.AddToken(cmd.Context(), ask)
	}
	if err != nil {
		return err
	}
	kept, err := readStored()
	if err != nil {
		return err
	}
	before := kept.tokenOf(c.Server)
	path, err := writeStored(kept.with(as, c.Server, made.Secret))
	if err != nil {
		return err
	}
	if before != "" {
		if err := revokeOwn(cmd.Context(), &client.Client{Server: c.Server, Token: before, Agent: c.Agent}); err != nil {
			fmt.Fprintf(cmd.ErrOrStderr(), "The token that was kept before could not be revoked: %s\n", sentence(err))
		}
	}
	fmt.Fprintf(cmd.OutOrStdout(), "Signed in to %s as %s. The token %s is kept in %s until %s.\n",
		c.Server, c.User, made.Name, path, timeText(made.ExpiresAt))
	return nil
}

func logoutCommand(s *session) *cobra.Command {
	return &cobra.Command{Use: "logout", Short: "Revoke the kept token and forget it", Args: arguments(cobra.NoArgs),
		Example: "  crelvo logout\n  crelvo logout --server mainland",
		RunE: func(cmd *cobra.Command, _ []string) error {
			kept, err := readStored()
			if err != nil {
				return err
			}
			server, err := s.address(kept)
			if err != nil {
				return err
			}
			token := kept.tokenOf(server)
			if token == "" {
				fmt.Fprintf(cmd.OutOrStdout(), "You were not signed in to %s.\n", server)
				return nil
			}
			revokeErr := revokeOwn(cmd.Context(), &client.Client{Server: server, Token: token, Agent: "crelvo/" + Version})
			if _, err := writeStored(kept.without(server)); err != nil {
				return err
			}
			if revokeErr != nil {
				return fmt.Errorf("the token was forgotten here, but not revoked on the server: %w", revokeErr)
			}
			fmt.Fprintf(cmd.OutOrStdout(), "Signed out of %s.\n", server)
			return nil
		}}
}

func revokeOwn(ctx context.Context, c *client.Client) error {
	me, err := c.Me(ctx)
	if err != nil || me.Token == "" {
		return err
	}
	return c.RevokeToken(ctx, "", me.Token)
}
