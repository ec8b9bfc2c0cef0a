package cli

import (
	"context"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"crelvo/internal/api"
	"crelvo/internal/client"
)

func storeCommand(s *session) *cobra.Command {
	return group("store", "See, add and change where bytes are kept, and move repositories from one to another",
		storeList(s), storeShow(s), storeAdd(s), storeEdit(s), storeCheck(s), storeMove(s), storeRemove(s))
}

// completeStores completes names of stores.
func (s *session) completeStores(cmd *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
	var names []string
	if c, err := s.client(); err == nil {
		all, err := c.Stores(cmd.Context())
		if err != nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		for _, store := range all {
			names = append(names, store.Name)
		}
	}
	return names, cobra.ShellCompDirectiveNoFileComp
}

// stateOf says how a store is.
func stateOf(store api.Store) string {
	switch {
	case store.Away != "":
		return "away"
	case store.Waiting > 0:
		return fmt.Sprintf("%d files to come", store.Waiting)
	}
	return "fine"
}

func storeList(s *session) *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List stores", Args: arguments(cobra.NoArgs),
		Example: "  crelvo store list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return answer(s, cmd, func(ctx context.Context, c *client.Client) ([]api.Store, error) {
				return c.Stores(ctx)
			}, func(w io.Writer, all []api.Store) {
				var rows [][]string
				for _, store := range all {
					name := store.Name
					if store.Default {
						name += " (default)"
					}
					rows = append(rows, []string{name, store.Where, strconv.FormatInt(store.Files, 10), api.Bytes(store.Bytes),
						strconv.Itoa(len(store.Repositories)), stateOf(store)})
				}
				table(w, []string{"NAME", "WHERE", "FILES", "SIZE", "REPOSITORIES", "STATE"}, []int{2, 3, 4}, rows)
			})
		}}
}

func showStore(w io.Writer, store api.Store) {
	pairs := []string{"name", store.Name, "kind", store.Kind, "where", store.Where, "default", yesNo(store.Default)}
	for _, pair := range [][2]string{{"prefix", store.Prefix}, {"region", store.Region}, {"addressing", store.Addressing},
		{"encryption", store.Encryption}, {"credentials", store.Credentials}, {"access key", store.AccessKey}} {
		if pair[1] != "" {
			pairs = append(pairs, pair[0], pair[1])
		}
	}
	pairs = append(pairs, "holds", fmt.Sprintf("%d files, %s", store.Files, api.Bytes(store.Bytes)))
	if store.Free > 0 {
		pairs = append(pairs, "free on the disk", api.Bytes(store.Free))
	}
	pairs = append(pairs, "new bytes of", strings.Join(store.Repositories, ", "), "state", stateOf(store))
	if store.Away != "" {
		pairs = append(pairs, "why", store.Away)
	}
	fields(w, pairs...)
}

func storeShow(s *session) *cobra.Command {
	return &cobra.Command{Use: "show NAME", Short: "Show a store", Args: arguments(cobra.ExactArgs(1)),
		Example:           "  crelvo store show archive",
		ValidArgsFunction: s.completeStores,
		RunE: func(cmd *cobra.Command, args []string) error {
			return answer(s, cmd, func(ctx context.Context, c *client.Client) (api.Store, error) {
				return c.Store(ctx, args[0])
			}, showStore)
		}}
}

// storeFlags are what a store is, as flags.
type storeFlags struct {
	folder, endpoint, bucket, prefix, region       string
	addressing, encryption, credentials, accessKey string
	secretFile                                     string
}

func (f *storeFlags) add(cmd *cobra.Command) {
	flags := cmd.Flags()
	flags.StringVar(&f.folder, "folder", "",
		"the whole path of a folder, which every node must find there, on a file system that they share")
	flags.StringVar(&f.endpoint, "endpoint", "", "the address of an object store, such as https://s3.skerry.example")
	flags.StringVar(&f.bucket, "bucket", "", "the bucket, which must be there")
	flags.StringVar(&f.prefix, "prefix", "", "what stands before the names of all objects, such as crelvo/")
	flags.StringVar(&f.region, "region", "", "the region of the bucket")
	flags.StringVar(&f.addressing, "addressing", "",
		"where the name of the bucket stands: path or host (default: what fits the endpoint)")
	flags.StringVar(&f.encryption, "encryption", "",
		"how the object store encrypts: s3, or kms: and the id of a key (default: what the bucket does by itself)")
	flags.StringVar(&f.credentials, "credentials", "",
		"where the key is known: kept (here, encrypted), environment (AWS_ACCESS_KEY_ID and AWS_SECRET_ACCESS_KEY of "+
			"each node) or machine (its role) (default: kept)")
	flags.StringVar(&f.accessKey, "access-key", "", "the access key, where credentials are kept")
	flags.StringVar(&f.secretFile, "secret-file", "", "a file with the secret of the access key; - is the standard input")
	must(cmd.RegisterFlagCompletionFunc("addressing", fixed("path", "host")))
	must(cmd.RegisterFlagCompletionFunc("credentials", fixed("kept", "environment", "machine")))
}

func storeAdd(s *session) *cobra.Command {
	var f storeFlags
	var adopt bool
	cmd := &cobra.Command{Use: "add NAME", Short: "Add a store: a bucket of an object store that speaks S3, or a folder",
		Args: arguments(cobra.ExactArgs(1)),
		Long: "Add a store: a bucket of an object store that speaks S3, or a folder. It is tried first, and given a name\n" +
			"of its own, by which nodes know it again. Nothing goes there until a repository is given it (repo edit\n" +
			"--store, store move) or it is made the default one (store edit --default).",
		Example: "  crelvo store add bucket --endpoint https://s3.skerry.example --bucket packages --access-key ferry " +
			"--secret-file secret.txt\n" +
			"  crelvo store add archive --folder /mnt/packages/archive",
		RunE: func(cmd *cobra.Command, args []string) error {
			n := api.NewStore{Name: args[0], Kind: "folder", Folder: f.folder, Endpoint: f.endpoint, Bucket: f.bucket,
				Prefix: f.prefix, Region: f.region, Addressing: f.addressing, Encryption: f.encryption,
				Credentials: f.credentials, AccessKey: f.accessKey, Adopt: adopt}
			if f.folder == "" {
				n.Kind = "s3"
			}
			if f.folder == "" && f.bucket == "" {
				return usageError{fmt.Errorf("say where it is: --endpoint and --bucket, or --folder")}
			}
			if f.secretFile != "" {
				var err error
				if n.Secret, err = readSecret(cmd, f.secretFile); err != nil {
					return err
				}
			}
			return answer(s, cmd, func(ctx context.Context, c *client.Client) (api.Store, error) {
				made, err := c.AddStore(ctx, n)
				already, err := alreadySo(err, func() (same bool, err error) {
					made, err = c.Store(ctx, n.Name)
					return made.Folder == n.Folder && made.Bucket == n.Bucket &&
						made.Endpoint == strings.TrimSuffix(n.Endpoint, "/"), err
				})
				if already {
					fmt.Fprintln(cmd.ErrOrStderr(), "It was so already; nothing was changed.")
				}
				return made, err
			}, showStore)
		}}
	f.add(cmd)
	cmd.Flags().BoolVar(&adopt, "adopt", false, "take what belonged to another Crelvo that is no more")
	return cmd
}

func storeEdit(s *session) *cobra.Command {
	var f storeFlags
	var name string
	var byDefault bool
	cmd := &cobra.Command{Use: "edit NAME", Short: "Change how a store is reached, or make it the default one",
		Args: arguments(cobra.ExactArgs(1)), ValidArgsFunction: s.completeStores,
		Long: "Change how a store is reached, or make it the default one. It must be the same store there: one that has\n" +
			"other bytes is a store of its own, to which repositories are moved.",
		Example: "  crelvo store edit bucket --default\n" +
			"  crelvo store edit bucket --access-key ferry-2 --secret-file -",
		RunE: func(cmd *cobra.Command, args []string) error {
			change := api.StoreChange{Name: ifGiven(cmd, "name", &name), Folder: ifGiven(cmd, "folder", &f.folder),
				Endpoint: ifGiven(cmd, "endpoint", &f.endpoint), Bucket: ifGiven(cmd, "bucket", &f.bucket),
				Prefix: ifGiven(cmd, "prefix", &f.prefix), Region: ifGiven(cmd, "region", &f.region),
				Addressing: ifGiven(cmd, "addressing", &f.addressing), Encryption: ifGiven(cmd, "encryption", &f.encryption),
				Credentials: ifGiven(cmd, "credentials", &f.credentials), AccessKey: ifGiven(cmd, "access-key", &f.accessKey),
				Default: ifGiven(cmd, "default", &byDefault)}
			if f.secretFile != "" {
				secret, err := readSecret(cmd, f.secretFile)
				if err != nil {
					return err
				}
				change.Secret = &secret
			}
			if change == (api.StoreChange{}) {
				return usageError{fmt.Errorf("nothing to change was given; see %s --help", cmd.CommandPath())}
			}
			return answer(s, cmd, func(ctx context.Context, c *client.Client) (api.Store, error) {
				return c.EditStore(ctx, args[0], change)
			}, showStore)
		}}
	f.add(cmd)
	cmd.Flags().StringVar(&name, "name", "", "another name")
	cmd.Flags().BoolVar(&byDefault, "default", false, "let what is new in repositories that were given no store go there")
	return cmd
}

func storeCheck(s *session) *cobra.Command {
	return &cobra.Command{Use: "check NAME", Short: "Try whether a store can be written, read, listed and removed from",
		Example: "  crelvo store check archive",
		Args:    arguments(cobra.ExactArgs(1)), ValidArgsFunction: s.completeStores,
		RunE: func(cmd *cobra.Command, args []string) error {
			return answer(s, cmd, func(ctx context.Context, c *client.Client) (api.StoreCheck, error) {
				return c.CheckStore(ctx, args[0])
			}, func(w io.Writer, check api.StoreCheck) {
				fmt.Fprintf(w, "%s does all that a store must; it took %s.\n", check.Name, check.Took)
			})
		}}
}

func storeRemove(s *session) *cobra.Command {
	return &cobra.Command{Use: "remove NAME", Short: "Forget a store that nothing is in",
		Example: "  crelvo store remove archive",
		Args:    arguments(cobra.ExactArgs(1)), ValidArgsFunction: s.completeStores,
		RunE: func(cmd *cobra.Command, args []string) error {
			return s.done(cmd, func(ctx context.Context, c *client.Client) error {
				return c.RemoveStore(ctx, args[0])
			}, "Forgot the store %s; what is there was not touched.", args[0])
		}}
}

func storeMove(s *session) *cobra.Command {
	var to string
	var all, wait bool
	cmd := &cobra.Command{Use: "move [REPO]… --to STORE",
		Short: "Give repositories another store, and move what they hold there", ValidArgsFunction: s.completeRepositories,
		Long: "Give repositories another store, and move what they hold there. What is new goes there at once; the rest\n" +
			"is copied in the background, while everything can be read and published as before. Each file is read again\n" +
			"where it was copied to before anybody is led there, and what nobody needs in its old place is dropped at\n" +
			"the end. It goes on after a restart. Without --to, the moves under way are shown.",
		Example: "  crelvo store move releases --to bucket --wait\n" +
			"  crelvo store move --all --to bucket\n" +
			"  crelvo store move",
		RunE: func(cmd *cobra.Command, args []string) error {
			if to == "" {
				if len(args) > 0 || all {
					return usageError{fmt.Errorf("say where to: --to STORE")}
				}
				return answer(s, cmd, func(ctx context.Context, c *client.Client) ([]api.StoreMove, error) {
					return c.StoreMoves(ctx, false)
				}, showStoreMoves)
			}
			c, err := s.client()
			if err != nil {
				return err
			}
			if all {
				if args, err = holding(cmd.Context(), c); err != nil {
					return err
				}
			}
			if len(args) == 0 {
				return usageError{fmt.Errorf("name the repositories, or say --all")}
			}
			if err := c.MoveToStore(cmd.Context(), api.NewStoreMove{Repositories: args, To: to}); err != nil {
				return err
			}
			fmt.Fprintf(cmd.ErrOrStderr(), "What is new in %s goes to %s now; what is there is copied.\n",
				strings.Join(args, ", "), to)
			if !wait {
				return nil
			}
			return waitForMoves(cmd, c)
		}}
	cmd.Flags().StringVar(&to, "to", "", "the store")
	cmd.Flags().BoolVar(&all, "all", false, "all repositories that hold something themselves")
	cmd.Flags().BoolVar(&wait, "wait", false, "wait until all of it is done")
	must(cmd.RegisterFlagCompletionFunc("to", s.completeStores))
	return cmd
}

// holding names the repositories that hold something themselves.
func holding(ctx context.Context, c *client.Client) (names []string, err error) {
	all, err := c.Repositories(ctx)
	for _, r := range all {
		if r.Kind != "chain" {
			names = append(names, r.Name)
		}
	}
	return names, err
}

func showStoreMoves(w io.Writer, all []api.StoreMove) {
	var rows [][]string
	for _, m := range all {
		state := m.State
		if m.EndedAt == nil && m.LeftFiles > 0 {
			state = fmt.Sprintf("%s, %s left", m.State, api.Bytes(m.LeftBytes))
		}
		if m.Trouble != "" {
			state += ": " + m.Trouble
		}
		rows = append(rows, []string{m.Repository, m.Store, strconv.FormatInt(m.Files, 10), api.Bytes(m.Bytes),
			api.Bytes(m.Freed), timeText(m.BegunAt), m.By, state})
	}
	table(w, []string{"REPOSITORY", "TO", "FILES", "SIZE", "FREED", "BEGUN", "BY", "STATE"}, []int{2, 3, 4}, rows)
}

// waitForMoves shows how far moves are until none is under way.
func waitForMoves(cmd *cobra.Command, c *client.Client) error {
	last := ""
	for {
		under, err := c.StoreMoves(cmd.Context(), true)
		if err != nil {
			return err
		}
		if len(under) == 0 {
			fmt.Fprintln(cmd.ErrOrStderr(), "Done.")
			return nil
		}
		m := under[0]
		line := fmt.Sprintf("%d under way; %d files, %s left", len(under), m.LeftFiles, api.Bytes(m.LeftBytes))
		if m.Trouble != "" {
			line += "; " + m.Trouble
		}
		if line != last {
			fmt.Fprintln(cmd.ErrOrStderr(), line)
			last = line
		}
		select {
		case <-cmd.Context().Done():
			return cmd.Context().Err()
		case <-time.After(time.Second):
		}
	}
}
