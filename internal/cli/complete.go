package cli

import (
	"context"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"

	"crelvo/internal/client"
	"crelvo/internal/core/purl"
)

// maxProposed is how many names are proposed at most.
const maxProposed = 100

// completePURLs completes package URLs, and behind an @ their versions.
func (s *session) completePURLs(
	cmd *cobra.Command, args []string, toComplete string,
) ([]string, cobra.ShellCompDirective) {
	return s.complete(cmd, func(ctx context.Context, c *client.Client) (all []string, err error) {
		if name, _, ok := cutVersion(toComplete); ok {
			p, err := c.Package(ctx, name, "")
			for _, v := range p.Versions {
				all = append(all, purl.Typed(v.PURL))
			}
			return slices.Compact(all), err
		}
		query := strings.TrimPrefix(toComplete, "pkg:")
		if i := strings.LastIndexAny(query, "/"); i >= 0 {
			query = query[i+1:]
		}
		found, err := c.Search(ctx, query, "", maxProposed, 0)
		for _, p := range found.Packages {
			if name := purl.Typed(p.PURL); strings.HasPrefix(name, toComplete) && !slices.Contains(all, name) {
				all = append(all, name)
			}
		}
		return all, err
	})
}

// cutVersion parts a package URL that is being typed from its version.
func cutVersion(text string) (name, version string, ok bool) {
	i := strings.LastIndexByte(text, '@')
	if i <= 0 || text[i-1] == '/' {
		return text, "", false
	}
	return text[:i], text[i+1:], true
}

// completeBuilds completes builds, the newest first.
func (s *session) completeBuilds(cmd *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
	return s.complete(cmd, func(ctx context.Context, c *client.Client) (titles []string, err error) {
		page, err := c.Builds(ctx, url.Values{"limit": {"50"}})
		for _, b := range page.Builds {
			titles = append(titles, b.Name+"#"+b.Number)
		}
		return titles, err
	})
}

// completePromotions completes numbers of promotions, with what they are about.
func (s *session) completePromotions(cmd *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
	return s.complete(cmd, func(ctx context.Context, c *client.Client) (numbers []string, err error) {
		page, err := c.Promotions(ctx, url.Values{"limit": {"50"}})
		for _, p := range page.Promotions {
			numbers = append(numbers, fmt.Sprintf("%d\t%s to %s, %s", p.ID, p.Build, p.To, p.State))
		}
		return numbers, err
	})
}

// completeSweeps completes numbers of sweeps.
func (s *session) completeSweeps(cmd *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
	return s.complete(cmd, func(ctx context.Context, c *client.Client) (numbers []string, err error) {
		all, err := c.Sweeps(ctx, url.Values{"limit": {"50"}})
		for _, x := range all {
			numbers = append(numbers, fmt.Sprintf("%d\t%s, %s", x.ID, x.Policy, x.State))
		}
		return numbers, err
	})
}

// completeKeys completes names of keys.
func (s *session) completeKeys(cmd *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
	return s.complete(cmd, func(ctx context.Context, c *client.Client) (names []string, err error) {
		all, err := c.Keys(ctx)
		for _, k := range all {
			names = append(names, k.Name)
		}
		return names, err
	})
}

// completeTargets completes names of targets.
func (s *session) completeTargets(cmd *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
	return s.complete(cmd, func(ctx context.Context, c *client.Client) (names []string, err error) {
		all, err := c.Targets(ctx)
		for _, d := range all {
			names = append(names, d.Name)
		}
		return names, err
	})
}

// completeQuery completes conditions, their values and saved searches.
func (s *session) completeQuery(
	cmd *cobra.Command, _ []string, toComplete string,
) ([]string, cobra.ShellCompDirective) {
	names, directive := s.complete(cmd, func(ctx context.Context, c *client.Client) (all []string, err error) {
		found, err := c.Completions(ctx, toComplete)
		for _, f := range found {
			all = append(all, f.Text+"\t"+f.Means)
		}
		return all, err
	})
	return names, directive | cobra.ShellCompDirectiveNoSpace
}

// addCompletions gives every command whose arguments have a list its completion, by
// what its usage calls them.
func addCompletions(s *session, c *cobra.Command) {
	for _, child := range c.Commands() {
		addCompletions(s, child)
	}
	if c.ValidArgsFunction != nil || c.ValidArgs != nil {
		return
	}
	_, arguments, _ := strings.Cut(c.Use, " ")
	parent := ""
	if c.Parent() != nil {
		parent = c.Parent().Name()
	}
	switch {
	case strings.Contains(arguments, "FILE"): // what the shell completes by itself
	case strings.Contains(arguments, "PURL"):
		c.ValidArgsFunction = s.completePURLs
	case strings.Contains(arguments, "NAME#NUMBER"):
		c.ValidArgsFunction = s.completeBuilds
	case parent == "promotion" && strings.Contains(arguments, "ID"):
		c.ValidArgsFunction = s.completePromotions
	case strings.Contains(arguments, "SWEEP"):
		c.ValidArgsFunction = s.completeSweeps
	case parent == "key" && c.Name() != "add" && strings.Contains(arguments, "NAME"):
		c.ValidArgsFunction = s.completeKeys
	case parent == "target" && c.Name() != "add" && strings.Contains(arguments, "NAME"):
		c.ValidArgsFunction = s.completeTargets
	case strings.Contains(arguments, "QUERY"):
		c.ValidArgsFunction = s.completeQuery
	}
}

// manualCommand writes the man pages.
func manualCommand(root *cobra.Command) *cobra.Command {
	var into string
	cmd := &cobra.Command{Use: "manual", Short: "Write the man pages of all commands into a folder",
		Args: arguments(cobra.NoArgs), Example: "  crelvo manual --into ~/.local/share/man/man1",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if err := os.MkdirAll(into, 0o755); err != nil {
				return err
			}
			root.DisableAutoGenTag = true
			if err := doc.GenManTree(root, &doc.GenManHeader{Title: "CRELVO", Section: "1", Source: "Crelvo " + Version,
				Manual: "Crelvo"}, into); err != nil {
				return err
			}
			pages, err := filepath.Glob(filepath.Join(into, "crelvo*.1"))
			fmt.Fprintf(cmd.OutOrStdout(), "Wrote %d pages into %s.\n", len(pages), into)
			return err
		}}
	cmd.Flags().StringVar(&into, "into", "man1", "the folder")
	return cmd
}
