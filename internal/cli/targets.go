package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"crelvo/internal/api"
	"crelvo/internal/client"
	"crelvo/internal/ecosystem"
	"crelvo/internal/ecosystem/kinds"
)

func targetCommand(s *session) *cobra.Command {
	return group("target", "List, add, check and remove the places outside that versions go on to", targetList(s),
		targetShow(s), targetAdd(s), targetCheck(s), targetRemove(s))
}

func targetList(s *session) *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List targets", Args: arguments(cobra.NoArgs),
		RunE: func(cmd *cobra.Command, _ []string) error {
			return answer(s, cmd, func(ctx context.Context, c *client.Client) ([]api.Target, error) {
				return c.Targets(ctx)
			}, func(w io.Writer, all []api.Target) {
				var rows [][]string
				for _, d := range all {
					rows = append(rows, []string{d.Name, d.Ecosystem, targetKind(d), d.URL, yesNo(d.HasSecret), targetState(d),
						timeText(d.At), d.By})
				}
				table(w, []string{"NAME", "ECOSYSTEM", "KIND", "ADDRESS", "SIGNS IN", "STATE", "SET", "BY"}, nil, rows)
			})
		}}
}

// targetKind says what a target is.
func targetKind(d api.Target) string {
	if d.Tree == nil {
		return "server"
	}
	return "tree, " + d.Tree.Kind
}

// targetState says in a few words how a target is; of a server nothing is known.
func targetState(d api.Target) string {
	t := d.Tree
	switch {
	case t == nil:
		return ""
	case t.Failure != "":
		return "FAILED, tried again " + optionalTime(t.NextAt, "soon")
	case t.Waiting > 0:
		return count(t.Waiting, "package") + " to be written"
	case t.Packages == 0:
		return "empty"
	}
	return count(t.Packages, "package") + ", " + api.Bytes(t.Bytes)
}

func targetShow(s *session) *cobra.Command {
	return &cobra.Command{Use: "show NAME", Short: "Show a target, and how a tree is", Args: arguments(cobra.ExactArgs(1)),
		Example: "  crelvo target show public-pypi",
		RunE: func(cmd *cobra.Command, args []string) error {
			return answer(s, cmd, func(ctx context.Context, c *client.Client) (api.Target, error) {
				all, err := c.Targets(ctx)
				for _, d := range all {
					if d.Name == args[0] {
						return d, nil
					}
				}
				if err == nil {
					err = fmt.Errorf("there is no target %q: crelvo target list shows those that there are", args[0])
				}
				return api.Target{}, err
			}, func(w io.Writer, d api.Target) {
				lines := []string{"name", d.Name, "ecosystem", d.Ecosystem, "kind", targetKind(d), "address", d.URL,
					"signs in", yesNo(d.HasSecret)}
				if t := d.Tree; t != nil {
					readAt, hostKey := t.ReadAt, t.HostKey
					if readAt == "" {
						readAt = "wherever a web server hands it out"
					}
					lines = append(lines, "read at", readAt, "state", targetState(d), "files",
						fmt.Sprintf("%s, %s", count(t.Files, "file"), api.Bytes(t.Bytes)),
						"all was well", optionalTime(t.WroteAt, "never"))
					if hostKey != "" {
						lines = append(lines, "host key", hostKey)
					}
					if t.Failure != "" {
						lines = append(lines, "what went wrong", oneLine(t.Failure))
					}
				}
				fields(w, append(lines, "set", timeText(d.At)+" by "+d.By)...)
			})
		}}
}

// namesOf are the names of the ecosystems that are something.
func namesOf[T any]() (names []string) {
	for _, e := range kinds.All() {
		if _, ok := e.(T); ok {
			names = append(names, e.Name())
		}
	}
	return names
}

func targetAdd(s *session) *cobra.Command {
	var n api.NewTarget
	var secretFile, tree string
	cmd := &cobra.Command{Use: "add NAME",
		Short: "Add a server or a plain tree that versions go on to, or write it anew",
		Long: "Add a place outside that versions go on to, by promotions and relays.\n\n" +
			"With --url it is a repository on another server, to which versions are published by the protocol of their\n" +
			"ecosystem. With --tree it is a plain tree: the repository written out as files that any web server hands out\n" +
			"as they are, and from which the ecosystem's own clients install. It is written to\n" +
			"  a folder of the server's machine       /srv/www/maven\n" +
			"  a machine that speaks SFTP             sftp://web.skerry.example/srv/www/maven\n" +
			"  a machine that speaks FTP (over TLS)   ftps://web.skerry.example/www/maven\n" +
			"  a server that takes PUT (WebDAV)       https://web.skerry.example/maven/\n" +
			"  a bucket that speaks S3                s3+https://s3.skerry.example/BUCKET/PREFIX\n" +
			"The place is tried before it is saved.",
		Args: arguments(cobra.ExactArgs(1)),
		Example: "  crelvo target add public-maven --ecosystem maven --url https://upload.openshore.example/maven/ " +
			"--user skerry --secret-file -\n" +
			"  crelvo target add public-npm --ecosystem npm --tree /srv/www/npm --read-at https://packages.skerry.example/npm/",
		RunE: func(cmd *cobra.Command, args []string) error {
			n.Name, n.Tree = args[0], tree != ""
			if n.Tree == (n.URL != "") {
				return usageError{errors.New("give either --url, of a server, or --tree, the place of a plain tree")}
			}
			if n.Tree {
				n.URL = tree
			}
			if secretFile != "" {
				var err error
				if n.Secret, err = readSecret(cmd, secretFile); err != nil {
					return err
				}
			}
			return s.done(cmd, func(ctx context.Context, c *client.Client) error { return c.SetTarget(ctx, n) },
				"Set the target %s. Have a track send there: crelvo track edit TRACK --into STAGE --onward %s\n"+
					"Or have a repository kept in step: crelvo relay add %s --from REPO --to %s", n.Name, n.Name, n.Name, n.Name)
		}}
	sent, plain := namesOf[ecosystem.Sending](), namesOf[ecosystem.Plain]()
	f := cmd.Flags()
	f.StringVar(&n.Ecosystem, "ecosystem", "maven", "what goes there: "+strings.Join(sent, ", ")+"; to a tree: "+
		strings.Join(plain, ", "))
	f.StringVar(&n.URL, "url", "", "where clients of the ecosystem publish to")
	f.StringVar(&tree, "tree", "", "where a plain tree is written")
	f.StringVar(&n.ReadAt, "read-at", "", "at which address the tree is read, for ecosystems whose documents name it")
	f.StringVar(&n.User, "user", "", "who signs in; left out, the secret is a token or key")
	f.StringVar(&secretFile, "secret-file", "",
		"a file with the password, token or key, of SFTP also a private key; - is the standard input")
	f.StringVar(&n.HostKey, "host-key", "", "the key of a machine that speaks SFTP: SHA256:…")
	f.BoolVar(&n.Anyway, "anyway", false, "also if the tree cannot be written to now")
	must(cmd.RegisterFlagCompletionFunc("ecosystem", fixed(append(sent, plain...)...)))
	return cmd
}

func targetCheck(s *session) *cobra.Command {
	return &cobra.Command{Use: "check NAME", Short: "Try a target, and mend a tree",
		Long: "Try whether a target is there and lets us in. In a plain tree, every file is looked at: what is missing,\n" +
			"or has another size than it was written with, is written again.",
		Args: arguments(cobra.ExactArgs(1)), Example: "  crelvo target check public-pypi",
		RunE: func(cmd *cobra.Command, args []string) error {
			return answer(s, cmd, func(ctx context.Context, c *client.Client) (api.CheckedTarget, error) {
				return c.CheckTarget(ctx, args[0])
			}, func(w io.Writer, found api.CheckedTarget) {
				fmt.Fprintf(w, "%s is there, and lets us in.\n", args[0])
				if found.Files == 0 {
					return
				}
				if found.Missing+found.Other == 0 {
					fmt.Fprintf(w, "All of its %s are as they were written.\n", count(found.Files, "file"))
					return
				}
				fmt.Fprintf(w,
					"Of %s, %s missing, and %s of another size than was written. They are written again.\n",
					count(found.Files, "file"), are(found.Missing), are(found.Other))
				var rows [][]string
				for _, at := range found.MissingFiles {
					rows = append(rows, []string{at, "missing"})
				}
				for _, at := range found.OtherFiles {
					rows = append(rows, []string{at, "other"})
				}
				table(w, []string{"FILE", "IS"}, nil, rows)
			})
		}}
}

func are(n int) string {
	if n == 1 {
		return "1 is"
	}
	return strconv.Itoa(n) + " are"
}

func targetRemove(s *session) *cobra.Command {
	return &cobra.Command{Use: "remove NAME", Short: "Remove a target", Args: arguments(cobra.ExactArgs(1)),
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := s.confirm(cmd, "Remove the target "+args[0]+"? What went there stays there."); err != nil {
				return err
			}
			return s.done(cmd, func(ctx context.Context, c *client.Client) error {
				return c.RemoveTarget(ctx, args[0])
			}, "Removed the target %s.", args[0])
		}}
}
