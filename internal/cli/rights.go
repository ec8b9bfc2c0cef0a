package cli

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"crelvo/internal/api"
	"crelvo/internal/client"
	"crelvo/internal/core/purl"
)

func userCommand(s *session) *cobra.Command {
	return group("user", "List, make, change and remove users and robots", userList(s), userAdd(s), userEdit(s),
		userBlock(s, true), userBlock(s, false), userPassword(s), userSignOut(s), userRemove(s))
}

func userList(s *session) *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List users and robots (admins)", Args: arguments(cobra.NoArgs),
		RunE: func(cmd *cobra.Command, _ []string) error {
			return answer(s, cmd, func(ctx context.Context, c *client.Client) ([]api.User, error) {
				return c.Users(ctx, "")
			}, func(w io.Writer, all []api.User) {
				var rows [][]string
				for _, u := range all {
					state := ""
					if u.BlockedAt != nil {
						state = "blocked since " + timeText(*u.BlockedAt)
					}
					rows = append(rows, []string{u.Name, u.Kind, orNone(u.Teams, "none"), strconv.Itoa(u.Tokens),
						strconv.Itoa(u.Sessions),
						optionalTime(u.SeenAt, "never"), strings.TrimSpace(state + " " + u.Description)})
				}
				table(w, []string{"NAME", "KIND", "TEAMS", "TOKENS", "SESSIONS", "LAST SEEN", "DESCRIPTION"}, []int{3, 4}, rows)
			})
		}}
}

// done runs what only needs to be said that it was done.
func (s *session) done(
	cmd *cobra.Command, do func(ctx context.Context, c *client.Client) error, format string, args ...any,
) error {
	c, err := s.client()
	if err != nil {
		return err
	}
	if err := do(cmd.Context(), c); err != nil {
		return err
	}
	return s.said(cmd, format, args...)
}

// said is what a command says that has nothing else to show; for programs as a value.
func (s *session) said(cmd *cobra.Command, format string, args ...any) error {
	text := fmt.Sprintf(format, args...)
	return s.show(cmd.OutOrStdout(), map[string]any{"done": true, "said": text}, func() {
		fmt.Fprintln(cmd.OutOrStdout(), text)
	})
}

// complete completes by a question to the server.
func (s *session) complete(
	cmd *cobra.Command, ask func(ctx context.Context, c *client.Client) ([]string, error),
) ([]string, cobra.ShellCompDirective) {
	c, err := s.client()
	if err != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	names, err := ask(cmd.Context(), c)
	if err != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	return names, cobra.ShellCompDirectiveNoFileComp
}

func userAdd(s *session) *cobra.Command {
	var n api.NewUser
	var robot, askPassword bool
	cmd := &cobra.Command{Use: "add NAME", Short: "Make a user, whose password is shown once, or a robot",
		Args:    arguments(cobra.ExactArgs(1)),
		Example: "  crelvo user add deckhand --description developer\n  crelvo user add ci-berth --robot",
		RunE: func(cmd *cobra.Command, args []string) error {
			n.Name = args[0]
			if robot {
				n.Kind = "robot"
			}
			if askPassword {
				var err error
				if n.Password, err = readPassword(cmd, newInput(cmd)); err != nil {
					return err
				}
			}
			c, err := s.client()
			if err != nil {
				return err
			}
			made, err := c.AddUser(cmd.Context(), n)
			if already, err := alreadySo(err, func() (bool, error) {
				all, err := c.Users(cmd.Context(), "")
				return n.Password == "" && slices.ContainsFunc(all, func(u api.User) bool {
					return u.Name == n.Name && (u.Kind == "robot") == robot && (n.Description == "" || n.Description == u.Description)
				}), err
			}); err != nil {
				return err
			} else if already {
				return s.said(cmd, "It was so already; nothing was changed.")
			}
			return s.show(cmd.OutOrStdout(), made, func() {
				w := cmd.OutOrStdout()
				switch {
				case robot:
					fmt.Fprintf(w,
						"Made the robot %s. It gets in with tokens: crelvo token new --for %s --can publish --on REPOSITORY --expires "+
							"12h\n", n.Name, n.Name)
				case made.Password != "":
					fmt.Fprintf(cmd.ErrOrStderr(),
						"Made the user %s. The password is shown this once, and is to be changed at the first sign-in:\n", n.Name)
					fmt.Fprintln(w, made.Password)
				default:
					fmt.Fprintf(w, "Made the user %s.\n", n.Name)
				}
				fmt.Fprintf(cmd.ErrOrStderr(), "What it may do: crelvo grant add ROLE --to %s --on REPOSITORY\n", n.Name)
			})
		}}
	cmd.Flags().BoolVar(&robot, "robot", false, "a robot: it has no password, only tokens")
	cmd.Flags().BoolVar(&askPassword, "password", false, "ask for its first password, or read it from the standard input")
	cmd.Flags().StringVar(&n.Description, "description", "", "who or what it is")
	return cmd
}

func userEdit(s *session) *cobra.Command {
	var description string
	cmd := &cobra.Command{Use: "edit NAME", Short: "Change the description of a user or robot",
		Args: arguments(cobra.ExactArgs(1)), ValidArgsFunction: s.completeUsers,
		RunE: func(cmd *cobra.Command, args []string) error {
			return s.done(cmd, func(ctx context.Context, c *client.Client) error {
				return c.EditUser(ctx, args[0], api.UserChange{Description: &description})
			}, "Changed %s.", args[0])
		}}
	cmd.Flags().StringVar(&description, "description", "", "who or what it is")
	must(cmd.MarkFlagRequired("description"))
	return cmd
}

func userBlock(s *session, block bool) *cobra.Command {
	use, short, said := "block NAME", "Keep a user or robot out: sessions end, tokens do not get in",
		"%s does not get in any more."
	if !block {
		use, short, said = "unblock NAME", "Let a user or robot in again", "%s gets in again."
	}
	return &cobra.Command{Use: use, Short: short, Args: arguments(cobra.ExactArgs(1)), ValidArgsFunction: s.completeUsers,
		RunE: func(cmd *cobra.Command, args []string) error {
			return s.done(cmd, func(ctx context.Context, c *client.Client) error {
				return c.EditUser(ctx, args[0], api.UserChange{Blocked: &block})
			}, said, args[0])
		}}
}

func userPassword(s *session) *cobra.Command {
	return &cobra.Command{Use: "password [NAME]", Short: "Change your password, or give another user a new one (admins)",
		Args: arguments(cobra.MaximumNArgs(1)),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := s.client()
			if err != nil {
				return err
			}
			if len(args) == 1 {
				made, err := c.GivePassword(cmd.Context(), args[0])
				if err != nil {
					return err
				}
				fmt.Fprintf(cmd.ErrOrStderr(),
					"The new password of %s is shown this once, and is to be changed at the next sign-in:\n", made.Name)
				fmt.Fprintln(cmd.OutOrStdout(), made.Password)
				return nil
			}
			input := newInput(cmd)
			var change api.PasswordChange
			fmt.Fprint(cmd.ErrOrStderr(), "So far. ")
			if change.Old, err = readPassword(cmd, input); err != nil {
				return err
			}
			fmt.Fprint(cmd.ErrOrStderr(), "From now on. ")
			if change.New, err = readPassword(cmd, input); err != nil {
				return err
			}
			if err := c.ChangePassword(cmd.Context(), change); err != nil {
				return err
			}
			fmt.Fprintln(cmd.OutOrStdout(), "Changed. Sessions of browsers have ended.")
			return nil
		}}
}

func userSignOut(s *session) *cobra.Command {
	var tokens bool
	cmd := &cobra.Command{Use: "sign-out NAME", Short: "End all sessions of somebody, and with --tokens all tokens",
		Args: arguments(cobra.ExactArgs(1)), ValidArgsFunction: s.completeUsers,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := s.client()
			if err != nil {
				return err
			}
			if tokens {
				if err := s.confirm(cmd, fmt.Sprintf("Revoke all tokens of %s?", args[0])); err != nil {
					return err
				}
			}
			ended, err := c.SignOutEverywhere(cmd.Context(), args[0], tokens)
			if err != nil {
				return err
			}
			fmt.Fprintf(cmd.OutOrStdout(), "Ended %d sessions and %d tokens of %s.\n", ended.Sessions, ended.Tokens, args[0])
			return nil
		}}
	cmd.Flags().BoolVar(&tokens, "tokens", false, "revoke all tokens too")
	return cmd
}

func userRemove(s *session) *cobra.Command {
	return &cobra.Command{Use: "remove NAME",
		Short: "Remove a user or robot with its tokens and grants; what it published stays",
		Args:  arguments(cobra.ExactArgs(1)), ValidArgsFunction: s.completeUsers,
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := s.confirm(cmd, fmt.Sprintf("Remove %s with its tokens and grants?", args[0])); err != nil {
				return err
			}
			return s.done(cmd, func(ctx context.Context, c *client.Client) error {
				return c.RemoveUser(ctx, args[0])
			}, "Removed %s.", args[0])
		}}
}

func teamCommand(s *session) *cobra.Command {
	return group("team", "List, make, change and remove teams", teamList(s), teamAdd(s), teamEdit(s), teamRemove(s))
}

func teamList(s *session) *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List the teams: all for admins, else yours", Args: arguments(cobra.NoArgs),
		RunE: func(cmd *cobra.Command, _ []string) error {
			return answer(s, cmd, func(ctx context.Context, c *client.Client) ([]api.Team, error) {
				return c.Teams(ctx)
			}, func(w io.Writer, all []api.Team) {
				if len(all) == 0 {
					fmt.Fprintln(w, "No teams. Make one: crelvo team add NAME --members deckhand,ci-berth")
					return
				}
				var rows [][]string
				for _, t := range all {
					rows = append(rows, []string{t.Name, orNone(t.Members, "nobody"), t.Description})
				}
				table(w, []string{"NAME", "MEMBERS", "DESCRIPTION"}, nil, rows)
			})
		}}
}

func teamAdd(s *session) *cobra.Command {
	var n api.NewTeam
	cmd := &cobra.Command{Use: "add NAME", Short: "Make a team of users and robots", Args: arguments(cobra.ExactArgs(1)),
		Example: "  crelvo team add berth-crew --members deckhand,ci-berth",
		RunE: func(cmd *cobra.Command, args []string) error {
			n.Name = args[0]
			return s.once(cmd, func(ctx context.Context, c *client.Client) error { return c.AddTeam(ctx, n) },
				func(ctx context.Context, c *client.Client) (bool, error) {
					all, err := c.Teams(ctx)
					return slices.ContainsFunc(all, func(t api.Team) bool {
						return t.Name == n.Name && sameSet(t.Members, n.Members) &&
							(n.Description == "" || n.Description == t.Description)
					}), err
				},
				"Made the team %s. What it may do: crelvo grant add ROLE --to team:%s --on REPOSITORY", n.Name, n.Name)
		}}
	cmd.Flags().StringVar(&n.Description, "description", "", "who they are")
	cmd.Flags().StringSliceVar(&n.Members, "members", nil, "users and robots who are in it")
	must(cmd.RegisterFlagCompletionFunc("members", s.completeUsers))
	return cmd
}

func teamEdit(s *session) *cobra.Command {
	var change api.TeamChange
	var description string
	cmd := &cobra.Command{Use: "edit NAME", Short: "Let users and robots join or leave a team",
		Args: arguments(cobra.ExactArgs(1)), ValidArgsFunction: s.completeTeams,
		Example: "  crelvo team edit berth-crew --join purser --leave deckhand",
		RunE: func(cmd *cobra.Command, args []string) error {
			if cmd.Flags().Changed("description") {
				change.Description = &description
			}
			if change.Description == nil && change.Join == nil && change.Leave == nil {
				return usageError{fmt.Errorf("nothing to change was given; see %s --help", cmd.CommandPath())}
			}
			return s.done(cmd, func(ctx context.Context, c *client.Client) error {
				return c.EditTeam(ctx, args[0], change)
			}, "Changed the team %s.", args[0])
		}}
	cmd.Flags().StringVar(&description, "description", "", "who they are")
	cmd.Flags().StringSliceVar(&change.Join, "join", nil, "who joins")
	cmd.Flags().StringSliceVar(&change.Leave, "leave", nil, "who leaves")
	must(cmd.RegisterFlagCompletionFunc("join", s.completeUsers))
	return cmd
}

func teamRemove(s *session) *cobra.Command {
	return &cobra.Command{Use: "remove NAME", Short: "Remove a team with its grants", Args: arguments(cobra.ExactArgs(1)),
		ValidArgsFunction: s.completeTeams,
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := s.confirm(cmd, fmt.Sprintf("Remove the team %s with its grants?", args[0])); err != nil {
				return err
			}
			return s.done(cmd, func(ctx context.Context, c *client.Client) error {
				return c.RemoveTeam(ctx, args[0])
			}, "Removed the team %s.", args[0])
		}}
}

func grantCommand(s *session) *cobra.Command {
	return group("grant", "List, give and take away roles, and ask who may do what", grantList(s), grantAdd(s),
		grantRemove(s), grantCheck(s))
}

func grantList(s *session) *cobra.Command {
	var holder, on string
	cmd := &cobra.Command{Use: "list", Short: "List the grants on what you are an admin of", Args: arguments(cobra.NoArgs),
		RunE: func(cmd *cobra.Command, _ []string) error {
			return answer(s, cmd, func(ctx context.Context, c *client.Client) ([]api.Grant, error) {
				all, err := c.Grants(ctx)
				return slices.DeleteFunc(all, func(g api.Grant) bool {
					return holder != "" && g.Holder != holder || on != "" && g.Repositories != on
				}), err
			}, func(w io.Writer, all []api.Grant) {
				var rows [][]string
				for _, g := range all {
					packages := g.Packages
					if packages == "" {
						packages = "all"
					}
					rows = append(rows, []string{strconv.FormatInt(g.ID, 10), g.Holder, g.Role, g.Repositories, packages, g.By,
						timeText(g.At)})
				}
				table(w, []string{"NUMBER", "TO", "ROLE", "ON", "PACKAGES", "GIVEN BY", "AT"}, []int{0}, rows)
			})
		}}
	cmd.Flags().StringVar(&holder, "to", "", "only those of this user, robot, team:NAME, signed-in or anonymous")
	cmd.Flags().StringVar(&on, "on", "", "only those on this repository or pattern")
	return cmd
}

func grantAdd(s *session) *cobra.Command {
	var n api.NewGrant
	cmd := &cobra.Command{Use: "add ROLE --to WHO --on REPOSITORY", Short: "Give somebody a role",
		Args: arguments(cobra.ExactArgs(1)), ValidArgsFunction: fixed(roleNames...),
		Example: "  crelvo grant add publisher --to ci-deck --on snapshots --for 'pkg:npm/@skerry/*'\n" +
			"  crelvo grant add reader --to team:berth-crew --on 'shore-*'\n" +
			"  crelvo grant add reader --to signed-in --on platform",
		RunE: func(cmd *cobra.Command, args []string) error {
			n.Role = args[0]
			if !slices.Contains(roleNames, n.Role) {
				return usageError{fmt.Errorf("there is no role %q; choose %s", n.Role, strings.Join(roleNames, ", "))}
			}
			said := n.Role + " on " + n.Repositories
			if n.Packages != "" {
				said += " for " + n.Packages
			}
			return s.once(cmd, func(ctx context.Context, c *client.Client) error {
				_, err := c.AddGrant(ctx, n)
				if err == nil {
					noteUnfit(cmd, c, n.Repositories)
				}
				return err
			}, func(context.Context, *client.Client) (bool, error) { return true, nil }, "%s is now %s.", n.Holder, said)
		}}
	cmd.Flags().StringVar(&n.Holder, "to", "", "a user, a robot, team:NAME, signed-in or anonymous")
	cmd.Flags().StringVar(&n.Repositories, "on", "", "a repository, or a pattern such as shore-*")
	cmd.Flags().StringVar(&n.Packages, "for", "", "only packages that this pattern fits")
	must(cmd.MarkFlagRequired("to"))
	must(cmd.MarkFlagRequired("on"))
	must(cmd.RegisterFlagCompletionFunc("to", s.completeUsers))
	must(cmd.RegisterFlagCompletionFunc("on", s.completeRepositories))
	return cmd
}

// noteUnfit says of patterns that no repository fits them yet: they count for those
// that come, but may be a slip of the pen.
func noteUnfit(cmd *cobra.Command, c *client.Client, patterns ...string) {
	if !slices.ContainsFunc(patterns, func(p string) bool { return strings.Contains(p, "*") && p != "*" }) {
		return
	}
	all, err := c.Repositories(cmd.Context())
	if err != nil {
		return // what was asked for is done; this is a word beside it
	}
	for _, p := range patterns {
		if strings.Contains(p, "*") && !slices.ContainsFunc(all, func(r api.Repository) bool {
			return purl.Glob(p, r.Name)
		}) {
			fmt.Fprintf(cmd.ErrOrStderr(), "No repository that you may read fits %s yet; it counts for those that come.\n", p)
		}
	}
}

var roleNames = []string{"reader", "publisher", "promoter", "curator", "admin"}

func grantRemove(s *session) *cobra.Command {
	return &cobra.Command{Use: "remove NUMBER", Short: "Take a role away; crelvo grant list shows the numbers",
		Args: arguments(cobra.ExactArgs(1)), ValidArgsFunction: s.completeGrants,
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil {
				return usageError{fmt.Errorf("%q is no number of a grant; crelvo grant list shows them", args[0])}
			}
			return s.done(cmd, func(ctx context.Context, c *client.Client) error {
				return c.RemoveGrant(ctx, id)
			}, "Took the grant %d away.", id)
		}}
}

func grantCheck(s *session) *cobra.Command {
	return &cobra.Command{Use: "check WHO ACTION REPOSITORY [PURL]",
		Short: "Tell whether somebody may do something, and because of which grant", Args: arguments(cobra.RangeArgs(3, 4)),
		Example: "  crelvo grant check ci-deck publish snapshots pkg:npm/@skerry/deck-ui\n" +
			"  crelvo grant check team:berth-crew read releases",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := s.client()
			if err != nil {
				return err
			}
			purl := ""
			if len(args) == 4 {
				purl = args[3]
			}
			verdict, err := c.CheckGrant(cmd.Context(), args[0], args[1], args[2], purl)
			if err != nil {
				return err
			}
			if err := s.show(cmd.OutOrStdout(), verdict, func() {
				fmt.Fprintln(cmd.OutOrStdout(), verdict.Sentence)
			}); err != nil {
				return err
			}
			if !verdict.Allowed {
				return silent(exitNotAllowed)
			}
			return nil
		}}
}

// completeUsers completes names of users and robots.
func (s *session) completeUsers(
	cmd *cobra.Command, args []string, toComplete string,
) ([]string, cobra.ShellCompDirective) {
	c, err := s.client()
	if err != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	all, err := c.Users(cmd.Context(), "")
	if err != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	var names []string
	for _, u := range all {
		names = append(names, u.Name)
	}
	return names, cobra.ShellCompDirectiveNoFileComp
}

// completeTeams completes names of teams.
func (s *session) completeTeams(cmd *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
	return s.complete(cmd, func(ctx context.Context, c *client.Client) (names []string, err error) {
		all, err := c.Teams(ctx)
		for _, t := range all {
			names = append(names, t.Name)
		}
		return names, err
	})
}

// completeGrants completes numbers of grants, with what they give.
func (s *session) completeGrants(cmd *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
	return s.complete(cmd, func(ctx context.Context, c *client.Client) (numbers []string, err error) {
		all, err := c.Grants(ctx)
		for _, g := range all {
			numbers = append(numbers, fmt.Sprintf("%d\t%s %s on %s", g.ID, g.Holder, g.Role, g.Repositories))
		}
		return numbers, err
	})
}
