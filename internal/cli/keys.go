package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"crelvo/internal/api"
	"crelvo/internal/client"
	"crelvo/internal/core/promotion"
)

var gateForms = promotion.Forms

func keyCommand(s *session) *cobra.Command {
	return group("key", "List, add and remove keys: of others, and those that Crelvo signs with", keyList(s), keyAdd(s),
		keyShow(s), keyRemove(s))
}

func keyList(s *session) *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List keys", Args: arguments(cobra.NoArgs),
		RunE: func(cmd *cobra.Command, _ []string) error {
			return answer(s, cmd, func(ctx context.Context, c *client.Client) ([]api.Key, error) {
				return c.Keys(ctx)
			}, func(w io.Writer, all []api.Key) {
				var rows [][]string
				for _, k := range all {
					use := "verifies what others sign"
					switch {
					case k.Signs:
						use = "signs releases"
					case k.Form == "trusted-root":
						use = "verifies where packages were built"
					}
					rows = append(rows, []string{k.Name, k.Form, use, k.Fingerprint, timeText(k.At), k.By})
				}
				table(w, []string{"NAME", "FORM", "USE", "FINGERPRINT", "ADDED", "BY"}, nil, rows)
			})
		}}
}

func keyAdd(s *session) *cobra.Command {
	var n api.NewKey
	var signs, bring bool
	cmd := &cobra.Command{Use: "add NAME [FILE]", Short: "Add a public key of others, or a key to sign with",
		Args: arguments(cobra.RangeArgs(1, 2)),
		Long: "Add a public key of others from a file: armored OpenPGP for signatures beside files, PEM for statements,\n" +
			"or a Sigstore trusted root (trusted_root.json) for where packages from outside were built.\n" +
			"With --sign, a new OpenPGP key is made that Crelvo signs with; or, with a file, an armored secret key is\n" +
			"brought, whose passphrase is read from the standard input with --passphrase. Secret keys are kept encrypted\n" +
			"and never shown.",
		Example: "  crelvo key add ferry-release --sign --owner 'Skerry releases <releases@skerry.example>'\n" +
			"  crelvo key add berth-ci berth-ci.pem",
		RunE: func(cmd *cobra.Command, args []string) error {
			n.Name = args[0]
			if len(args) == 1 && !signs {
				return usageError{fmt.Errorf("give the file with the public key, or --sign to make a key to sign with")}
			}
			if len(args) == 2 {
				raw, err := os.ReadFile(args[1])
				if err != nil {
					return err
				}
				if signs {
					n.Secret = string(raw)
				} else {
					n.Public = string(raw)
				}
			}
			if bring {
				var err error
				if n.Passphrase, err = readPassword(cmd, newInput(cmd)); err != nil {
					return err
				}
			}
			return s.once(cmd, func(ctx context.Context, c *client.Client) error {
				return c.AddKey(ctx, n)
			}, func(ctx context.Context, c *client.Client) (bool, error) {
				all, err := c.Keys(ctx)
				return slices.ContainsFunc(all, func(k api.Key) bool {
					// A secret key that is brought again cannot be compared with one that is kept.
					return k.Name == n.Name && k.Signs == signs && n.Secret == "" &&
						strings.TrimSpace(k.Public) == strings.TrimSpace(cmp.Or(n.Public, k.Public))
				}), err
			}, "Added the key %s. Anybody gets its public part at /keys/%s.", n.Name, n.Name)
		}}
	cmd.Flags().BoolVar(&signs, "sign", false, "a key that Crelvo signs with")
	cmd.Flags().BoolVar(&bring, "passphrase", false,
		"ask for the passphrase of the secret key, or read it from the standard input")
	cmd.Flags().StringVar(&n.Owner, "owner", "", "whom a new key is of: NAME <ADDRESS>")
	return cmd
}

func keyShow(s *session) *cobra.Command {
	return &cobra.Command{Use: "show NAME", Short: "Print a public key", Args: arguments(cobra.ExactArgs(1)),
		RunE: func(cmd *cobra.Command, args []string) error {
			return answer(s, cmd, func(ctx context.Context, c *client.Client) (api.Key, error) {
				all, err := c.Keys(ctx)
				if err != nil {
					return api.Key{}, err
				}
				if i := slices.IndexFunc(all, func(k api.Key) bool { return k.Name == args[0] }); i >= 0 {
					return all[i], nil
				}
				return api.Key{}, &api.Problem{Status: 404, Detail: "there is no key " + args[0],
					Hint: "crelvo key list shows them."}
			}, func(w io.Writer, k api.Key) { fmt.Fprint(w, k.Public) })
		}}
}

func keyRemove(s *session) *cobra.Command {
	return &cobra.Command{Use: "remove NAME", Short: "Remove a key", Args: arguments(cobra.ExactArgs(1)),
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := s.confirm(cmd, "Remove the key "+args[0]+"?"); err != nil {
				return err
			}
			return s.done(cmd, func(ctx context.Context, c *client.Client) error {
				return c.RemoveKey(ctx, args[0])
			}, "Removed the key %s.", args[0])
		}}
}
