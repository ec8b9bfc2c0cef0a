package cli

import (
	"context"
	"fmt"
	"io"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"crelvo/internal/api"
	"crelvo/internal/client"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/core/query"
)

func searchCommand(s *session) *cobra.Command {
	var in, save, forget string
	var limit int
	var saved, shared bool
	var keys strings.Builder
	for _, k := range query.Keys {
		fmt.Fprintf(&keys, "  %-22s %s\n", k.Example, k.Means)
	}
	cmd := &cobra.Command{Use: "search [QUERY…]", Short: "Find packages by words, package URL patterns and conditions",
		Long: "Find packages by words of their names, patterns of package URLs and conditions, all of which must fit.\n" +
			"A - before a condition negates it; * stands for any run of characters. The conditions:\n" + keys.String() +
			"\nA query that is saved under a name is asked for by @NAME, alone or with more.",
		Example: "  crelvo search berth\n  crelvo search holds:snapshots 'age:>30d' downloads:0\n" +
			"  crelvo search 'pkg:npm/@skerry/*' -- -repo:snapshots\n" +
			"  crelvo search --save stale-snapshots holds:snapshots 'age:>30d' downloads:0\n  crelvo search @stale-snapshots",
		RunE: func(cmd *cobra.Command, args []string) error {
			text := strings.TrimSpace(strings.Join(args, " "))
			if err := checkQuery(text); err != nil {
				return err
			}
			switch {
			case saved:
				return listSearches(s, cmd)
			case forget != "":
				c, err := s.client()
				if err == nil {
					err = c.ForgetSearch(cmd.Context(), forget)
				}
				if err == nil {
					fmt.Fprintf(cmd.OutOrStdout(), "@%s is dropped.\n", forget)
				}
				return err
			case save != "":
				return answer(s, cmd, func(ctx context.Context, c *client.Client) (api.SaveSearch, error) {
					return c.SaveSearch(ctx, save, api.SaveSearch{Query: text, Shared: shared})
				}, func(w io.Writer, _ api.SaveSearch) {
					fmt.Fprintf(w, "Saved; use it as @%s.\n", save)
				})
			}
			return answer(s, cmd, func(ctx context.Context, c *client.Client) (api.PackageList, error) {
				return c.Search(ctx, text, in, limit, 0)
			}, func(w io.Writer, found api.PackageList) { showFound(w, found, limit) })
		}}
	cmd.Flags().StringVar(&in, "in", "", "only in this repository")
	cmd.Flags().IntVar(&limit, "limit", 50, "at most so many, up to 500")
	cmd.Flags().StringVar(&save, "save", "", "keep the query under this name instead")
	cmd.Flags().BoolVar(&shared, "shared", false, "with --save: for everybody who signs in")
	cmd.Flags().BoolVar(&saved, "saved", false, "list the saved searches")
	cmd.Flags().StringVar(&forget, "forget", "", "drop the saved search of this name")
	must(cmd.RegisterFlagCompletionFunc("in", s.completeRepositories))
	return cmd
}

// checkQuery points at what is wrong with a query.
func checkQuery(text string) error {
	_, err := query.Parse(text)
	if err == nil {
		return nil
	}
	f := fault.Of(err)
	said := f.Message
	var at int
	if _, scanErr := fmt.Sscanf(f.Message, "at character %d", &at); scanErr == nil {
		said += "\n  " + text + "\n  " + strings.Repeat(" ", at-1) + "^"
	}
	if f.Hint != "" {
		said += "\n" + f.Hint
	}
	return usageError{pointedError{said}}
}

func showFound(w io.Writer, found api.PackageList, limit int) {
	if len(found.Packages) == 0 {
		fmt.Fprintln(w, "Nothing found. Try fewer or shorter words, or fewer conditions.")
		return
	}
	var rows [][]string
	for _, p := range found.Packages {
		rows = append(rows, []string{p.PURL, p.Repository, purl.ShortVersion(p.Latest),
			strconv.FormatInt(p.Versions, 10), timeText(p.ChangedAt), p.PublishedBy})
	}
	table(w, []string{"PACKAGE", "REPOSITORY", "NEWEST THAT FITS", "VERSIONS", "LAST CHANGE", "BY"}, []int{3}, rows)
	if found.More {
		fmt.Fprintf(w, "There are more; the first %d are shown (--limit).\n", limit)
	}
}

func listSearches(s *session, cmd *cobra.Command) error {
	return answer(s, cmd, func(ctx context.Context, c *client.Client) ([]api.SavedSearch, error) {
		return c.SavedSearches(ctx)
	}, func(w io.Writer, all []api.SavedSearch) {
		if len(all) == 0 {
			fmt.Fprintln(w, "No search is saved yet: crelvo search --save NAME QUERY.")
			return
		}
		var rows [][]string
		for _, one := range all {
			who := "only " + one.Owner
			if one.Shared {
				who = "everybody, by " + one.Owner
			}
			rows = append(rows, []string{"@" + one.Name, one.Query, who, timeText(one.At)})
		}
		table(w, []string{"NAME", "QUERY", "FOR", "SAVED"}, nil, rows)
	})
}
