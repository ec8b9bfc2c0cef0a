package cli

import (
	"context"
	"crypto/rand"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"crelvo/internal/api"
	"crelvo/internal/client"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
	"crelvo/internal/ecosystem/kinds"
	"crelvo/internal/service/pointing"
)

// pointer is what the command line asks of point.
type pointer struct {
	*session
	name, at, ecosystem, of, shell, project string
	publish, token, useToken                bool
	expires                                 string
}

func pointCommand(s *session) *cobra.Command {
	p := &pointer{session: s}
	var write, check, undo bool
	cmd := &cobra.Command{Use: "point CLIENT --at REPOSITORY",
		Short: "Set a package client up to use a repository, or tell what is wrong with how it is",
		Long: "Tell what belongs in which file so that a package client uses a repository: the address in the\n" +
			"project's file, the secret in your own. --write changes the files, --check does what the client\n" +
			"would do and says what is wrong, --undo takes back what --write did.",
		Example: "  crelvo point npm --at platform\n  crelvo point maven --at platform --publish --write\n" +
			"  crelvo point pip --at platform --check\n" +
			"  crelvo point twine --at releases --publish --token --shell powershell",
		Args: arguments(cobra.ExactArgs(1)),
		ValidArgsFunction: func(cmd *cobra.Command, args []string, toComplete string) ([]string, cobra.ShellCompDirective) {
			return clientNames(), cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			p.name = args[0]
			if write && check || write && undo || check && undo {
				return usageError{fmt.Errorf("choose one of --write, --check and --undo")}
			}
			if p.shell != "" && p.shell != "posix" && p.shell != "powershell" && p.shell != "cmd" {
				return usageError{fmt.Errorf("--shell cannot be %q; choose posix, powershell or cmd", p.shell)}
			}
			if p.of != "" {
				if err := checkPURL(p.of); err != nil {
					return err
				}
			}
			if p.project == "" {
				var err error
				if p.project, err = os.Getwd(); err != nil {
					return err
				}
			}
			c, err := s.client()
			if err != nil {
				return err
			}
			if undo {
				return p.undo(cmd, c)
			}
			setup, err := c.Point(cmd.Context(), p.at, p.name, p.ecosystem, p.publish, p.of)
			if err != nil {
				return err
			}
			switch {
			case write:
				return p.write(cmd, c, setup)
			case check:
				return p.check(cmd, c, setup)
			}
			return p.tell(cmd, c, setup)
		}}
	f := cmd.Flags()
	f.StringVar(&p.at, "at", "", "the repository; best a chain, which answers for everything")
	f.StringVar(&p.ecosystem, "ecosystem", "", "for curl: which packages it fetches")
	f.StringVar(&p.of, "for", "", "a package that is to be used, as a package URL")
	f.BoolVar(&p.publish, "publish", false, "to publish as well")
	f.BoolVar(&p.token, "token", false, "make a token with the least rights that fit, and put it in")
	f.StringVar(&p.expires, "expires", "", "how long that token lasts, such as 12h or 30d (default 90d)")
	f.BoolVar(&p.useToken, "use-token", false, "put in the token that this command signs in with")
	f.StringVar(&p.shell, "shell", "", "only for this shell: posix, powershell or cmd")
	f.StringVar(&p.project, "project", "", "the project's folder (default: this one)")
	f.BoolVar(&write, "write", false, "change the files, after showing how")
	f.BoolVar(&check, "check", false, "do what the client would do, and say what is wrong")
	f.BoolVar(&undo, "undo", false, "take back what --write did last")
	must(cmd.MarkFlagRequired("at"))
	must(cmd.RegisterFlagCompletionFunc("at", s.completeRepositories))
	must(cmd.RegisterFlagCompletionFunc("shell", fixed("posix", "powershell", "cmd")))
	return cmd
}

func clientNames() []string {
	names := []string{"curl"}
	for _, e := range kinds.All() {
		for _, c := range e.Clients() {
			names = append(names, c.Name)
		}
	}
	return names
}

// local is the client that the setup is about, with what it is pointed at.
func (p *pointer) local(setup api.Setup) (ecosystem.PackageClient, ecosystem.Pointing, error) {
	c, _, err := pointing.FindClient(setup.Client.Name, setup.Client.Ecosystem)
	given := setup.Pointing
	made := ecosystem.Pointing{Address: given.Address, ID: given.ID, User: given.User, Everything: given.Everything,
		Releases:  given.Releases,
		Snapshots: given.Snapshots, PublishReleases: given.PublishReleases, PublishSnapshots: given.PublishSnapshots,
		Own: given.Own}
	if p.of != "" && err == nil {
		made.PURL, err = purl.Parse(p.of)
	}
	return c, made, err
}

// newToken makes the token that the setup proposes.
func (p *pointer) newToken(ctx context.Context, c *client.Client, setup api.Setup) (api.MadeToken, error) {
	if p.useToken {
		if c.Token == "" {
			return api.MadeToken{}, fmt.Errorf("--use-token: there is no token; set CRELVO_TOKEN, or sign in with crelvo login")
		}
		return api.MadeToken{Secret: c.Token}, nil
	}
	n := setup.Token
	n.Name = strings.ToLower(fmt.Sprintf("%.40s-%s", n.Name, rand.Text()[:6]))
	if p.expires != "" {
		length, err := parseDuration(p.expires)
		if err != nil {
			return api.MadeToken{}, usageError{err}
		}
		n.Seconds = int64(length.Seconds())
	}
	return c.AddToken(ctx, n)
}

// tell writes what belongs where.
func (p *pointer) tell(cmd *cobra.Command, c *client.Client, setup api.Setup) error {
	if p.token || p.useToken {
		made, err := p.newToken(cmd.Context(), c, setup)
		if err != nil {
			return err
		}
		fill(&setup, made.Secret)
		if made.Name != "" {
			fmt.Fprintf(cmd.ErrOrStderr(), "Made the token %s, until %s; it may %s on %s, and is shown this once.\n", made.Name,
				timeText(made.ExpiresAt),
				strings.Join(made.Can, " and "), strings.Join(made.On, ", "))
		}
	}
	return p.show(cmd.OutOrStdout(), setup, func() { p.showSetup(cmd.OutOrStdout(), setup) })
}

// fill puts a secret in place of what stands for it.
func fill(setup *api.Setup, secret string) {
	put := func(text *string) { *text = strings.ReplaceAll(*text, setup.Placeholder, secret) }
	for i := range setup.Pieces {
		put(&setup.Pieces[i].Text)
	}
	for i := range setup.CI {
		put(&setup.CI[i].Text)
	}
}

func indented(text string) string {
	return "    " + strings.ReplaceAll(strings.TrimRight(text, "\n"), "\n", "\n    ") + "\n"
}

func (p *pointer) showSetup(w io.Writer, setup api.Setup) {
	section := func(title, text string) { fmt.Fprintf(w, "%s:\n\n%s\n", title, indented(text)) }
	for _, piece := range setup.Pieces {
		where := piece.File
		switch {
		case piece.Secret:
			where += ", which is yours alone"
		case !piece.Personal:
			where += " of the project"
		}
		if piece.Windows != "" {
			where += "; on Windows " + piece.Windows
		}
		section(piece.Title+" — "+where, piece.Text)
	}
	section("Then", strings.Join(setup.Commands, "\n"))
	for _, shell := range setup.CI {
		if p.shell == "" || p.shell == shell.Name {
			section("In CI, from its store of secrets ("+shell.Title+")", shell.Text)
		}
	}
	for _, piece := range setup.CIFiles {
		section(piece.Title+" — "+piece.File, piece.Text)
	}
	if setup.Recipe != "" {
		section("In the file that builds a container, so that the secret stays in no layer", setup.Recipe)
		section("and built with", setup.Build)
	}
	if len(setup.Pieces) == 0 {
		fmt.Fprintf(w, "%s keeps this in no file. crelvo point %s --at %s --check tells whether it would work with the token "+
			"in %s.\n", setup.Client.Title, setup.Client.Name, p.at, ecosystem.TokenVariable)
		return
	}
	fmt.Fprintf(w, "crelvo point %s --at %s --write puts it into the files, --check tells whether it works.\n",
		setup.Client.Name, p.at)
	if strings.Contains(setup.Pieces[len(setup.Pieces)-1].Text, setup.Placeholder) {
		fmt.Fprintf(w, "%s stands for a token; --token makes one that may do no more than this needs.\n", setup.Placeholder)
	}
}
