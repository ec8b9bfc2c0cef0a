package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"crelvo/internal/api"
	"crelvo/internal/client"
	"crelvo/internal/core/attest"
	"crelvo/internal/core/bundle"
	"crelvo/internal/core/purl"
)

func bundleCommand(s *session) *cobra.Command {
	return group("bundle", "Carry packages in one file to where no network leads", bundleCreate(s), bundleVerify(s),
		bundleShow(s), bundleLoad(s), bundleList(s))
}

func bundleCreate(s *session) *cobra.Command {
	var n api.NewBundle
	var since, to string
	var split byteSize
	cmd := &cobra.Command{Use: "create --from REPO --sign-with KEY --to FILE",
		Short: "Make a bundle of the packages of repositories", Args: arguments(cobra.NoArgs),
		Long: "Make one file of what is kept in repositories, or of some of it, with labels, withdrawals and decisions\n" +
			"about it, signed by a key of the server (crelvo key add NAME --sign). The server on the other side takes it if it\n" +
			"trusts that key. With --with-needs, what the packages need in turn comes along, as far as the same repositories\n" +
			"have it or, if they are mirrors, can fetch it. With --since, what an earlier bundle had is not in this one.",
		Example: "  crelvo bundle create --from releases --sign-with ferry-release --to /media/disk/november.tar\n" +
			"  crelvo bundle create --from releases --since /media/disk/november.tar --sign-with ferry-release --to december.tar\n" +
			"  crelvo bundle create --from releases --from shore-npm --only 'pkg:npm/@skerry/deck-ui' --with-needs " +
			"--sign-with ferry-release --to deck-ui.tar --split 4GiB",
		RunE: func(cmd *cobra.Command, _ []string) (err error) {
			if len(n.From) == 0 || n.SignWith == "" || to == "" {
				return usageError{errors.New("say what is wanted, with which key it is signed, and in which file it goes: " +
					"--from REPO --sign-with KEY --to FILE")}
			}
			if n.Only, err = patternsOf(n.Only); err != nil {
				return err
			}
			if since != "" {
				if n.Since, err = basisOf(since, n); err != nil {
					return err
				}
			}
			c, err := s.client()
			if err != nil {
				return err
			}
			return createBundle(s, cmd, c, n, to, int64(split))
		}}
	flags := cmd.Flags()
	flags.StringArrayVar(&n.From, "from", nil, "a repository; may be repeated")
	flags.StringArrayVar(&n.Only, "only", nil,
		"a pattern of those that are wanted, such as pkg:npm/@skerry/*, or @FILE with one a line; may be repeated")
	flags.BoolVar(&n.WithNeeds, "with-needs", false, "with what they need in turn")
	flags.StringVar(&n.SignWith, "sign-with", "", "the key that it is signed with")
	flags.StringVar(&since, "since", "", "an earlier bundle, whose packages the other side has")
	flags.StringVar(&to, "to", "", "the file that is written")
	flags.Var(&split, "split", "write pieces of this size, such as 4GiB, named FILE.001 and so on")
	must(cmd.RegisterFlagCompletionFunc("from", s.completeRepositories))
	return cmd
}

// basisOf reads which bundle a file is that another one is to go on from: what it left out would never come.
func basisOf(path string, n api.NewBundle) (*api.BundleBasis, error) {
	r, _, err := client.OpenBundle(path)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	from, err := bundle.NewReader(r)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	m, err := bundle.Parse(from.Raw)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	for _, name := range n.From {
		if !slices.Contains(m.From, name) {
			return nil, fmt.Errorf("%s has nothing of %s, so that what is there already would never come: make a bundle of its own",
				path, name)
		}
	}
	if len(m.Only) > 0 && !slices.Equal(m.Only, n.Only) {
		return nil, fmt.Errorf("%s has only %s, so that the rest of what is there already would never come: say the same, "+
			"or make a bundle without --since", path, strings.Join(m.Only, " "))
	}
	return &api.BundleBasis{ID: m.ID, MadeAt: m.MadeAt}, nil
}

// createBundle has a bundle made and written, and looks whether all of it came.
func createBundle(
	s *session, cmd *cobra.Command, c *client.Client, n api.NewBundle, to string, split int64,
) (err error) {
	file, err := client.CreateBundle(to, split)
	if err != nil {
		return err
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, file.GiveUp())
		}
	}()
	body, _, err := c.MakeBundle(cmd.Context(), n)
	if err != nil {
		return err
	}
	defer body.Close()
	shown := newProgress(cmd.ErrOrStderr())
	written := io.TeeReader(shown.follow(to, -1, body), file)
	checked, err := client.CheckBundle(written)
	if err == nil {
		_, err = io.Copy(io.Discard, written) // what stands after the last file
	}
	shown.wait()
	if err != nil {
		return fmt.Errorf("the bundle did not come whole: %w", err)
	}
	names, err := file.Done()
	if err != nil {
		return err
	}
	made := shownBundle{Manifest: checked.Manifest, Files: names}
	made.Count, made.Bytes = checked.Totals()
	if err := s.show(cmd.OutOrStdout(), made, func() { showMadeBundle(cmd.OutOrStdout(), made) }); err != nil {
		return err
	}
	if len(made.LeftOut) > 0 {
		return silent(exitFailed)
	}
	return nil
}

// shownBundle is a bundle, as it is shown.
type shownBundle struct {
	bundle.Manifest
	Files    []string `json:"files"`
	Count    int      `json:"count"` // of versions
	Bytes    int64    `json:"bytes"`
	SignedBy []string `json:"signedBy,omitempty"` // files with keys
}

func showMadeBundle(w io.Writer, b shownBundle) {
	fmt.Fprintf(w, "Bundle %s: %s of %s, %s, in %s.\n", b.ID, count(b.Count, "version"),
		count(len(b.Packages), "package"), api.Bytes(b.Bytes), strings.Join(b.Files, ", "))
	showLeftOut(w, b.LeftOut)
}

func showLeftOut(w io.Writer, all []bundle.LeftOut) {
	if len(all) == 0 {
		return
	}
	fmt.Fprintf(w, "\nNot in it:\n")
	rows := make([][]string, len(all))
	for i, l := range all {
		rows[i] = []string{purl.Typed(l.PURL), l.Why}
	}
	table(w, []string{"VERSION", "WHY"}, nil, rows)
}

// readBundle reads a bundle to its end, and tells by which of some keys it is signed.
func readBundle(cmd *cobra.Command, path string, keys []string) (b shownBundle, err error) {
	r, size, err := client.OpenBundle(path)
	if err != nil {
		return b, err
	}
	defer r.Close()
	shown := newProgress(cmd.ErrOrStderr())
	checked, err := client.CheckBundle(shown.follow(path, size, r))
	shown.wait()
	if err != nil {
		return b, fmt.Errorf("%s: %w", path, err)
	}
	b = shownBundle{Manifest: checked.Manifest, Files: []string{path}}
	b.Count, b.Bytes = checked.Totals()
	for _, name := range keys {
		key, err := os.ReadFile(name)
		if err != nil {
			return b, err
		}
		ok, err := attest.SignedBy(string(key), bytes.NewReader(checked.Signed.Raw),
			checked.Signed.Signature, time.Now())
		if err != nil {
			return b, err
		}
		if ok {
			b.SignedBy = append(b.SignedBy, name)
		}
	}
	return b, nil
}

func bundleVerify(s *session) *cobra.Command {
	var keys []string
	cmd := &cobra.Command{Use: "verify FILE --key KEY", Short: "Look whether a bundle is whole, and signed by a key",
		Args: arguments(cobra.ExactArgs(1)),
		Long: "Look, without a server, whether a bundle is whole, every file is what the bundle says, and the bundle is signed by\n" +
			"one of some OpenPGP keys. The public key of the server that made it is at its address below /keys, or by\n" +
			"crelvo key show NAME. The exit code is 1 if something is wrong.",
		Example: "  crelvo bundle verify /media/disk/november.tar --key ferry-release.asc",
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(keys) == 0 {
				return usageError{errors.New("say by which key it must be signed: --key FILE")}
			}
			b, err := readBundle(cmd, args[0], keys)
			if err != nil {
				return err
			}
			if b.SignedBy == nil {
				return fmt.Errorf("%s is whole, but signed by none of %s", args[0], strings.Join(keys, ", "))
			}
			w := cmd.OutOrStdout()
			return s.show(w, b, func() {
				fmt.Fprintf(w, "%s is whole: %s, %s. It is signed by %s.\n", args[0], count(b.Count, "version"), api.Bytes(b.Bytes),
					strings.Join(b.SignedBy, ", "))
			})
		}}
	cmd.Flags().StringArrayVar(&keys, "key", nil, "a file with an armored OpenPGP public key; may be repeated")
	return cmd
}

func bundleShow(s *session) *cobra.Command {
	return &cobra.Command{Use: "show FILE", Short: "Show what is in a bundle", Args: arguments(cobra.ExactArgs(1)),
		Long: "Show, without a server, what a bundle says that is in it. Whether that is so, crelvo bundle verify finds out.",
		Example: "  crelvo bundle show november.tar\n" +
			"  crelvo bundle show november.tar -o json",
		RunE: func(cmd *cobra.Command, args []string) error {
			r, _, err := client.OpenBundle(args[0])
			if err != nil {
				return err
			}
			defer r.Close()
			from, err := bundle.NewReader(r)
			if err != nil {
				return fmt.Errorf("%s: %w", args[0], err)
			}
			b := shownBundle{Files: args}
			if b.Manifest, err = bundle.Parse(from.Raw); err != nil {
				return fmt.Errorf("%s: %w", args[0], err)
			}
			b.Count, b.Bytes = b.Totals()
			return s.show(cmd.OutOrStdout(), b, func() { showBundle(cmd.OutOrStdout(), b) })
		}}
}

func showBundle(w io.Writer, b shownBundle) {
	fmt.Fprintf(w, "Bundle %s, made %s by %s from %s", b.ID, timeText(b.MadeAt), b.MadeBy, strings.Join(b.From, ", "))
	if b.Since != nil {
		fmt.Fprintf(w, ", going on from %s of %s", b.Since.ID, timeText(b.Since.MadeAt))
	}
	fmt.Fprintf(w, "\n%s of %s, %s", count(b.Count, "version"), count(len(b.Packages), "package"), api.Bytes(b.Bytes))
	if n := len(b.Vettings) + len(b.Waivers); n > 0 {
		fmt.Fprintf(w, ", and %s", count(n, "decision"))
	}
	fmt.Fprint(w, "\n\n")
	var rows [][]string
	for _, p := range b.Packages {
		size, newest, needed := int64(0), "", ""
		for _, v := range p.Versions {
			newest = v.Version
			if digest, ok := strings.CutPrefix(newest, "sha256:"); ok {
				newest = "sha256:" + digest[:min(len(digest), 12)]
			}
			size += v.Bytes()
			if v.Needed {
				needed = "needed"
			}
		}
		rows = append(rows, []string{p.Repository, p.PURL().Typed(), fmt.Sprint(len(p.Versions)), newest, api.Bytes(size),
			needed})
	}
	table(w, []string{"REPOSITORY", "PACKAGE", "VERSIONS", "LAST", "SIZE", "NOTE"}, []int{2, 4}, rows)
	showLeftOut(w, b.LeftOut)
}

func bundleLoad(s *session) *cobra.Command {
	var to []string
	var dry, decisions bool
	cmd := &cobra.Command{Use: "load FILE", Short: "Load a bundle, all of it or nothing",
		Args: arguments(cobra.ExactArgs(1)),
		Long: "Load a bundle that is signed by a key that the server trusts (crelvo key add). What was in a repository goes to\n" +
			"the one of the same name, or to that which --to names. Everything becomes visible at once, or, if one version\n" +
			"cannot come, nothing does. What is there already is passed over, so that the same bundle may be loaded again, and\n" +
			"what arrived before it was ended is not sent again for a day.",
		Example: "  crelvo bundle load /media/disk/november.tar --dry-run\n" +
			"  crelvo bundle load /media/disk/november.tar --to releases\n" +
			"  crelvo bundle load /media/disk/deck-ui.tar --to releases=approved --to shore-npm=approved",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := s.client()
			if err != nil {
				return err
			}
			return loadBundle(s, cmd, c, args[0], to, dry, decisions)
		}}
	cmd.Flags().StringArrayVar(&to, "to", nil,
		"the repository that everything goes to, or FROM=TO for what was in one; may be repeated")
	cmd.Flags().BoolVar(&dry, "dry-run", false, "only show what would come of it")
	cmd.Flags().BoolVar(&decisions, "with-decisions", false, "take over the vettings and waivers that are in it; admins may")
	must(cmd.RegisterFlagCompletionFunc("to", s.completeRepositories))
	return cmd
}

func loadBundle(s *session, cmd *cobra.Command, c *client.Client, path string, to []string, dry, decisions bool) error {
	r, _, err := client.OpenBundle(path)
	if err != nil {
		return err
	}
	defer r.Close()
	shown := newProgress(cmd.ErrOrStderr())
	defer shown.wait()
	from, err := bundle.NewReader(r)
	if err != nil {
		return fmt.Errorf("%s: %w", path, err)
	}
	plan, err := c.PlanBundle(cmd.Context(), to, from.Signed)
	if err != nil {
		return err
	}
	w := cmd.OutOrStdout()
	if dry {
		if err := s.show(w, plan, func() { showBundlePlan(w, plan) }); err != nil {
			return err
		}
		if len(plan.Refused) > 0 {
			return silent(exitFailed)
		}
		return nil
	}
	if len(plan.Refused) > 0 {
		shown.wait()
		showBundlePlan(cmd.ErrOrStderr(), plan)
		return errors.New("nothing of it came")
	}
	if len(plan.Lacking) > 0 {
		// What it says of itself was read already.
		if err := r.Close(); err != nil {
			return err
		}
		var size int64
		if r, size, err = client.OpenBundle(path); err != nil {
			return err
		}
		defer r.Close()
		if from, err = bundle.NewReader(shown.follow(path, size, r)); err != nil {
			return err
		}
	}
	loaded, err := c.LoadBundle(cmd.Context(), to, decisions, from, plan)
	shown.wait()
	if err != nil {
		return err
	}
	return s.show(w, loaded, func() {
		fmt.Fprintf(w, "Bundle %s is loaded: %s came, %s there already.\n", loaded.ID, count(loaded.New, "version"),
			wereThere(loaded.There))
	})
}

func wereThere(n int) string {
	if n == 1 {
		return "1 was"
	}
	return fmt.Sprintf("%d were", n)
}

func showBundlePlan(w io.Writer, p api.BundlePlan) {
	fmt.Fprintf(w, "Bundle %s, made %s by %s, signed by %s.\n", p.ID, timeText(p.MadeAt), p.MadeBy,
		strings.Join(p.Keys, ", "))
	fmt.Fprintf(w, "%s would come, for which %s travel; %s there already.\n", count(p.New, "version"),
		api.Bytes(p.Travels), wereThere(p.There))
	if p.Decided > 0 {
		fmt.Fprintf(w, "%s would be taken over by --with-decisions.\n", count(p.Decided, "decision"))
	}
	if len(p.Refused) == 0 {
		return
	}
	fmt.Fprint(w, "\nThese cannot come, and then nothing does:\n")
	var rows [][]string
	for _, r := range p.Refused {
		rows = append(rows, []string{r.PURL, r.Why})
	}
	table(w, []string{"VERSION", "WHY"}, nil, rows)
}

func bundleList(s *session) *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List the bundles that were made or loaded last",
		Args:    arguments(cobra.NoArgs),
		Example: "  crelvo bundle list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return answer(s, cmd, func(ctx context.Context, c *client.Client) ([]api.Bundle, error) {
				return c.Bundles(ctx)
			}, func(w io.Writer, all []api.Bundle) {
				var rows [][]string
				for _, b := range all {
					what, versions := "made", fmt.Sprint(b.Versions)
					if b.Loaded {
						what, versions = "loaded", fmt.Sprintf("%d, %d new", b.Versions, b.Came)
					}
					rows = append(rows, []string{b.ID, what, strings.Join(originOf(b), ", "), versions, api.Bytes(b.Bytes),
						b.Key, timeText(b.At), b.By})
				}
				table(w, []string{"BUNDLE", "WAS", "FROM", "VERSIONS", "SIZE", "KEY", "AT", "BY"}, []int{4}, rows)
			})
		}}
}

// originOf are the repositories of a bundle, and where each went to.
func originOf(b api.Bundle) (all []string) {
	for from, to := range b.Origin {
		if to != "" && to != from {
			from += " to " + to
		}
		all = append(all, from)
	}
	slices.Sort(all)
	return all
}
