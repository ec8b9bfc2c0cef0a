package cli

import (
	"bufio"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"crelvo/internal/api"
	"crelvo/internal/client"
)

func repoCommand(s *session) *cobra.Command {
	return group("repo", "List, make, change and remove repositories", repoList(s), repoShow(s), repoAdd(s), repoEdit(s), repoArrivals(s), repoRemove(s))
}

func repoList(s *session) *cobra.Command {
	var removed bool
	cmd := &cobra.Command{Use: "list", Short: "List the repositories that you may read", Args: arguments(cobra.NoArgs),
		Example: "  crelvo repo list\n  crelvo repo list --removed",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if removed {
				return listRemoved(s, cmd)
			}
			return answer(s, cmd, func(ctx context.Context, c *client.Client) ([]api.Repository, error) {
				return c.Repositories(ctx)
			}, func(w io.Writer, all []api.Repository) {
				if c, err := s.client(); err == nil && c.Token == "" {
					fmt.Fprintf(cmd.ErrOrStderr(), "You are not signed in to %s, so these are what everybody may read. Sign in with crelvo login, or set CRELVO_TOKEN.\n", c.Server)
				}
				if len(all) == 0 {
					fmt.Fprintln(w, "There is no repository that you may read. Make one: crelvo repo add NAME --holds snapshots")
					return
				}
				var rows [][]string
				for _, r := range all {
					row := []string{r.Name, r.Kind, r.Holds, strconv.FormatInt(r.Packages, 10),
						strconv.FormatInt(r.Versions, 10), api.Bytes(r.Bytes), optionalTime(r.LastChange, "never"), r.Description}
					if r.Chain != nil { // it holds nothing itself
						var members []string
						for _, m := range r.Chain.Members {
							members = append(members, m.Name)
						}
						row = []string{r.Name, r.Kind, "-", "-", "-", "-", "-", strings.Join(members, " > ")}
					}
					if r.Mirror != nil {
						for _, c := range r.Mirror.Contacts {
							if c.State == "failing" {
								row[7] = strings.TrimSpace("FAILING: it " + c.Failure + ". " + row[7])
							}
						}
					}
					rows = append(rows, row)
				}
				table(w, []string{"NAME", "KIND", "HOLDS", "PACKAGES", "VERSIONS", "SIZE", "LAST CHANGE", "DESCRIPTION"}, []int{3, 4, 5}, rows)
			})
		}}
	cmd.Flags().BoolVar(&removed, "removed", false, "those that were removed and can be brought back")
	return cmd
}

func listRemoved(s *session, cmd *cobra.Command) error {
	return answer(s, cmd, func(ctx context.Context, c *client.Client) ([]api.RemovedRepository, error) {
		return c.RemovedRepositories(ctx)
	}, func(w io.Writer, all []api.RemovedRepository) {
		if len(all) == 0 {
			fmt.Fprintln(w, "No repository that you could read was removed within the last 14 days.")
			return
		}
		var rows [][]string
		for _, r := range all {
			rows = append(rows, []string{r.Name, r.Kind, timeText(r.At), r.By, timeText(r.Until)})
		}
		table(w, []string{"NAME", "KIND", "REMOVED", "BY", "COMES BACK UNTIL"}, nil, rows)
		fmt.Fprintln(w, "\nBring one back with all that it held: crelvo repo remove NAME --undo")
	})
}

func showRepo(w io.Writer, r api.Repository) {
	pairs := []string{"name", r.Name, "kind", r.Kind}
	if r.Chain == nil {
		pairs = append(pairs, "holds", r.Holds)
	}
	pairs = append(pairs, "description", r.Description, "anonymous reading", yesNo(r.AnonymousRead), "ecosystems", orNone(r.Ecosystems, "none yet"))
	if c := r.Chain; c != nil {
		for i, m := range c.Members {
			name := m.Name
			if m.MaySkip {
				name += " (may be skipped)"
			}
			pairs = append(pairs, fmt.Sprintf("member %d", i+1), name)
		}
		pairs = append(pairs, "releases go to", cmp.Or(c.ReleasesTo, "nowhere"), "snapshots go to", cmp.Or(c.SnapshotsTo, "nowhere"),
			"members are open", yesNo(c.OpenMembers))
		if c.Hidden {
			pairs = append(pairs, "", "it has members that you may not see")
		}
	} else {
		if r.OnlyBuilds {
			pairs = append(pairs, "takes only", "what comes from a build that began here")
		}
		if r.OnlyRobots {
			pairs = append(pairs, "takes only", "what robots publish")
		}
		if r.Closed {
			pairs = append(pairs, "complete versions", "take no further files but signatures")
		}
		if r.LargestFile > 0 {
			pairs = append(pairs, "largest file", api.Bytes(r.LargestFile))
		}
		pairs = append(pairs, "packages", strconv.FormatInt(r.Packages, 10), "versions", strconv.FormatInt(r.Versions, 10), "size", api.Bytes(r.Bytes))
	}
	if m := r.Mirror; m != nil {
		pairs = append(pairs, mirrorFields(m)...)
	}
	pairs = append(pairs, "made", timeText(r.CreatedAt))
	if r.Chain == nil {
		pairs = append(pairs, "last change", optionalTime(r.LastChange, "never"))
	}
	fields(w, append(pairs, "address", r.Address, "you may", orNone(r.May, "nothing"))...)
}

func mirrorFields(m *api.Mirror) []string {
	seconds := func(n float64) string { return time.Duration(n * float64(time.Second)).String() }
	var pairs []string
	for i, u := range m.Upstreams {
		what := "upstream"
		if i > 0 {
			what = "falls back on"
		}
		pairs = append(pairs, what, u)
	}
	signIn := "no"
	switch {
	case m.User != "":
		signIn = "as " + m.User
	case m.HasSecret:
		signIn = "with a Bearer token"
	}
	pairs = append(pairs, "signs in", signIn, "proxy", m.Proxy, "may redirect to", strings.Join(m.RedirectTo, ", "),
		"allows", orNone(m.Allow, "everything"), "denies", orNone(m.Deny, "nothing"),
		"documents are fresh for", seconds(m.FreshSeconds), "absence is remembered for", seconds(m.AbsentSeconds),
		"limits", fmt.Sprintf("connect %s, first byte %s, silence %s, %d requests at once, files up to %s", seconds(m.ConnectSeconds),
			seconds(m.FirstByteSeconds), seconds(m.SilenceSeconds), m.Parallel, api.Bytes(m.LargestBytes)))
	if p := m.Prefetch; len(p.Patterns) > 0 {
		when := "by hand only"
		if p.Schedule != "" {
			when = p.Schedule + " in " + p.Zone
		}
		pairs = append(pairs, "prefetches", strings.Join(p.Patterns, ", "), "when", when, "how many", "the newest "+strconv.Itoa(p.Newest))
		var next []string
		for _, at := range p.Next {
			next = append(next, at.Format("Mon 2006-01-02 15:04 MST"))
		}
		pairs = append(pairs, "next times", strings.Join(next, ", "))
	}
	return pairs
}

func repoShow(s *session) *cobra.Command {
	return &cobra.Command{Use: "show NAME", Short: "Show one repository", Args: arguments(cobra.ExactArgs(1)), ValidArgsFunction: s.completeRepositories,
		RunE: func(cmd *cobra.Command, args []string) error {
			return answer(s, cmd, func(ctx context.Context, c *client.Client) (api.Repository, error) {
				return c.Repository(ctx, args[0])
			}, showRepo)
		}}
}

func repoAdd(s *session) *cobra.Command {
	var n api.NewRepository
	var mirror mirrorFlags
	var chain chainFlags
	cmd := &cobra.Command{Use: "add NAME", Short: "Make a repository: a house, a mirror or a chain", Args: arguments(cobra.ExactArgs(1)),
		Example: "  crelvo repo add snapshots --holds snapshots --description 'development builds'\n" +
			"  crelvo repo add shore-maven --kind mirror --upstream https://maven.openshore.example/ --holds releases\n" +
			"  crelvo repo add platform --kind chain --members releases,snapshots,shore-maven --snapshots-to snapshots",
		RunE: func(cmd *cobra.Command, args []string) error {
			n.Name = args[0]
			var err error
			if n.Mirror, err = mirror.change(cmd); err != nil {
				return err
			}
			if n.Chain, err = chain.change(cmd, nil); err != nil {
				return err
			}
			if !cmd.Flags().Changed("kind") {
				switch {
				case n.Mirror != nil:
					n.Kind = "mirror"
				case n.Chain != nil:
					n.Kind = "chain"
				}
			}
			return answer(s, cmd, func(ctx context.Context, c *client.Client) (api.Repository, error) {
				made, err := c.AddRepository(ctx, n)
				if already, err := alreadySo(err, func() (bool, error) {
					var err error
					made, err = c.Repository(ctx, n.Name)
					return sameRepository(cmd, n, made), err
				}); err != nil || !already {
					return made, err
				}
				fmt.Fprintln(cmd.ErrOrStderr(), "It was so already; nothing was changed.")
				return made, nil
			}, showRepo)
		}}
	cmd.Flags().StringVar(&n.Kind, "kind", "house", "house, mirror or chain; with --upstream or --members it need not be said")
	cmd.Flags().StringVar(&n.Ecosystem, "ecosystem", "maven", "what a mirror mirrors")
	cmd.Flags().StringVar(&n.Holds, "holds", "both", "which versions it takes: snapshots, releases or both")
	cmd.Flags().StringVar(&n.Description, "description", "", "what it is for")
	cmd.Flags().BoolVar(&n.AnonymousRead, "anonymous-read", false, "let anybody read without signing in")
	cmd.Flags().BoolVar(&n.OnlyBuilds, "only-builds", false, "take only what comes from a build that began here")
	cmd.Flags().BoolVar(&n.OnlyRobots, "only-robots", false, "take only what robots publish")
	cmd.Flags().BoolVar(&n.Closed, "closed", false, "let versions that are complete take no further files but signatures")
	cmd.Flags().Var((*byteSize)(&n.LargestFile), "largest-file", "the largest file that may be published, such as 2GiB; 0: what the server says")
	mirror.add(cmd)
	chain.add(cmd, s)
	must(cmd.RegisterFlagCompletionFunc("kind", fixed("house", "mirror", "chain")))
	must(cmd.RegisterFlagCompletionFunc("holds", fixed("snapshots", "releases", "both")))
	return cmd
}

func repoEdit(s *session) *cobra.Command {
	var holds, description string
	var anonymous, onlyBuilds, onlyRobots, closed bool
	var largest int64
	var mirror mirrorFlags
	var chain chainFlags
	cmd := &cobra.Command{Use: "edit NAME", Short: "Change the settings of a repository", Args: arguments(cobra.ExactArgs(1)), ValidArgsFunction: s.completeRepositories,
		Example: "  crelvo repo edit platform --members releases,snapshots,shore-maven,shore-central\n" +
			"  crelvo repo edit shore-maven --prefetch 'pkg:maven/org.openshore/*' --schedule '30 5 * * 1-5' --zone Europe/Oslo",
		RunE: func(cmd *cobra.Command, args []string) error {
			var change api.RepositoryChange
			if cmd.Flags().Changed("holds") {
				change.Holds = &holds
			}
			if cmd.Flags().Changed("description") {
				change.Description = &description
			}
			if cmd.Flags().Changed("anonymous-read") {
				change.AnonymousRead = &anonymous
			}
			if cmd.Flags().Changed("only-builds") {
				change.OnlyBuilds = &onlyBuilds
			}
			if cmd.Flags().Changed("only-robots") {
				change.OnlyRobots = &onlyRobots
			}
			if cmd.Flags().Changed("closed") {
				change.Closed = &closed
			}
			if cmd.Flags().Changed("largest-file") {
				change.LargestFile = &largest
			}
			var err error
			if change.Mirror, err = mirror.change(cmd); err != nil {
				return err
			}
			c, err := s.client()
			if err != nil {
				return err
			}
			var known *api.Chain
			if cmd.Flags().Changed("members") || cmd.Flags().Changed("may-skip") {
				r, err := c.Repository(cmd.Context(), args[0])
				if err != nil {
					return err
				}
				known = r.Chain
			}
			if change.Chain, err = chain.change(cmd, known); err != nil {
				return err
			}
			if change == (api.RepositoryChange{}) {
				return usageError{fmt.Errorf("nothing to change was given; see %s --help", cmd.CommandPath())}
			}
			return answer(s, cmd, func(ctx context.Context, c *client.Client) (api.Repository, error) {
				return c.EditRepository(ctx, args[0], change)
			}, showRepo)
		}}
	cmd.Flags().StringVar(&holds, "holds", "", "which versions it takes: snapshots, releases or both")
	cmd.Flags().StringVar(&description, "description", "", "what it is for")
	cmd.Flags().BoolVar(&anonymous, "anonymous-read", false, "let anybody read without signing in")
	cmd.Flags().BoolVar(&onlyBuilds, "only-builds", false, "take only what comes from a build that began here")
	cmd.Flags().BoolVar(&onlyRobots, "only-robots", false, "take only what robots publish")
	cmd.Flags().BoolVar(&closed, "closed", false, "let versions that are complete take no further files but signatures")
	cmd.Flags().Var((*byteSize)(&largest), "largest-file", "the largest file that may be published, such as 2GiB; 0: what the server says")
	mirror.add(cmd)
	chain.add(cmd, s)
	must(cmd.RegisterFlagCompletionFunc("holds", fixed("snapshots", "releases", "both")))
	return cmd
}

func repoRemove(s *session) *cobra.Command {
	var withContents, undo bool
	cmd := &cobra.Command{Use: "remove NAME", Short: "Take a repository out of use", Args: arguments(cobra.ExactArgs(1)), ValidArgsFunction: s.completeRepositories,
		Long:    "Take a repository out of use. Within 14 days --undo brings it back with all that it held; then its bytes are\nfreed. Its name can be given to another meanwhile.",
		Example: "  crelvo repo remove trials\n  crelvo repo remove trials --undo",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := s.client()
			if err != nil {
				return err
			}
			if undo {
				r, err := c.BringBackRepository(cmd.Context(), args[0])
				if err != nil {
					return err
				}
				return s.said(cmd, "%s is back, with %s in %s.", r.Name, counted(r.Packages, "package"), counted(r.Versions, "version"))
			}
			r, err := c.Repository(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			question := fmt.Sprintf("Remove %s?", r.Name)
			if withContents && r.Packages > 0 {
				question = fmt.Sprintf("Remove %s with %d packages in %d versions (%s)?", r.Name, r.Packages, r.Versions, api.Bytes(r.Bytes))
			}
			if err := s.confirm(cmd, question); err != nil {
				return err
			}
			if err := c.RemoveRepository(cmd.Context(), r.Name, withContents); err != nil {
				return err
			}
			return s.said(cmd, "Removed %s. Within 14 days crelvo repo remove %s --undo brings it back.", r.Name, r.Name)
		}}
	cmd.Flags().BoolVar(&withContents, "with-contents", false, "also if it holds anything")
	cmd.Flags().BoolVar(&undo, "undo", false, "bring it back")
	return cmd
}

func statusCommand(s *session) *cobra.Command {
	var exit bool
	cmd := &cobra.Command{Use: "status", Short: "Show how the service is, and what is wrong", Args: arguments(cobra.NoArgs), Example: "  crelvo status\n  crelvo status --exit-code -o json",
		RunE: func(cmd *cobra.Command, _ []string) error {
			concerned := false
			err := answer(s, cmd, func(ctx context.Context, c *client.Client) (api.Status, error) {
				status, err := c.Status(ctx)
				concerned = status.Database != "ok" || slices.ContainsFunc(status.Concerns, func(c api.Concern) bool { return c.Level == "wrong" })
				return status, err
			}, func(w io.Writer, status api.Status) {
				fields(w, "service", status.Address, "version", status.Version, "database", status.Database,
					"running since", timeText(status.StartedAt), "repositories", strconv.Itoa(status.Repositories),
					"packages", strconv.FormatInt(status.Packages, 10), "versions", strconv.FormatInt(status.Versions, 10), "size", api.Bytes(status.Bytes))
				if len(status.Concerns) == 0 {
					fmt.Fprintln(w, "\nNothing is wrong.")
				}
				for _, c := range status.Concerns {
					fmt.Fprintf(w, "\n%s: %s\n  %s\n", c.Level, c.What, c.Do)
				}
			})
			if err == nil && exit && concerned {
				return silent(exitConcerned)
			}
			return err
		}}
	cmd.Flags().BoolVar(&exit, "exit-code", false, "end with 8 if something is wrong")
	return cmd
}

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
				return &api.Problem{Status: 401, Detail: "you are not signed in to " + c.Server, Hint: "Sign in with crelvo login, or set CRELVO_TOKEN."}
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
				pairs := []string{"name", me.Name, "kind", me.Kind, "service", c.Server, "token", me.Token, "teams", strings.Join(me.Teams, ", ")}
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
	cmd := &cobra.Command{Use: "login [SERVER]", Short: "Sign in, and keep a token for the other commands", Args: arguments(cobra.MaximumNArgs(1)),
		Long: "Sign in, and keep a token for the other commands. What was kept for the server before is revoked.\n" +
			"Several servers are told apart by names: crelvo login --as mainland https://mainland.skerry.example,\nthen crelvo --server mainland repo list.",
		Example: "  crelvo login http://127.0.0.1:8700\n  crelvo login --as mainland https://mainland.skerry.example\n  crelvo login --name deckhand < password-file",
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
				return usageError{fmt.Errorf("--name is missing: without a terminal it says who signs in, and the standard input has the password")}
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

var notInNames = regexp.MustCompile(`[^a-z0-9]+`)

// ownPassword replaces a password that somebody else gave by one of one's own.
func (s *session) ownPassword(cmd *cobra.Command, c *client.Client, input *bufio.Reader) error {
	fmt.Fprintf(cmd.ErrOrStderr(), "The password of %s was given by somebody else; choose one of your own now.\nNew ", c.User)
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
	return &cobra.Command{Use: "logout", Short: "Revoke the kept token and forget it", Args: arguments(cobra.NoArgs), Example: "  crelvo logout\n  crelvo logout --server mainland",
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
