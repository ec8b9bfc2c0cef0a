package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"crelvo/internal/api"
	"crelvo/internal/client"
)

func usageCommand(s *session) *cobra.Command {
	var in, from, until, by, order string
	var limit int
	cmd := &cobra.Command{Use: "usage [PURL]", Short: "Show what is downloaded, how often and by how many",
		Args: arguments(cobra.MaximumNArgs(1)),
		Long: "Without a package: the packages that are used most, rise, fall, or that nobody uses. With one, or with " +
			"--by:\n" +
			"its downloads by day, client, who (person, robot, nobody that signed in), version or repository.",
		Example: "  crelvo usage --order unused --in snapshots\n" +
			"  crelvo usage pkg:npm/%40skerry/deck-ui --by version --from 2026-09-01",
		RunE: func(cmd *cobra.Command, args []string) error {
			query := url.Values{"repository": {in}, "from": {from}, "until": {until}}
			if len(args) == 1 {
				query.Set("purl", args[0])
			}
			if len(args) == 1 || by != "" {
				if by != "" {
					query.Set("by", by)
				}
				return answer(s, cmd, func(ctx context.Context, c *client.Client) ([]api.UsePart, error) {
					return c.Use(ctx, query)
				}, func(w io.Writer, all []api.UsePart) {
					var rows [][]string
					for _, p := range all {
						rows = append(rows, []string{p.Part, strconv.FormatInt(p.Downloads, 10), strconv.FormatInt(p.Users, 10)})
					}
					table(w, []string{strings.ToUpper(cmp.Or(by, "day")), "DOWNLOADS", "USERS"}, []int{1, 2}, rows)
				})
			}
			query.Set("order", order)
			query.Set("limit", strconv.Itoa(limit))
			return answer(s, cmd, func(ctx context.Context, c *client.Client) ([]api.UsedPackage, error) {
				return c.UsedPackages(ctx, query)
			}, func(w io.Writer, all []api.UsedPackage) {
				var rows [][]string
				for _, p := range all {
					rows = append(rows, []string{p.PURL, p.Repository, strconv.FormatInt(p.Downloads, 10),
						strconv.FormatInt(p.Before, 10), strconv.FormatInt(p.Users, 10), day(p.UsedAt), strconv.FormatInt(p.Versions, 10),
						api.Bytes(p.Bytes)})
				}
				table(w, []string{"PACKAGE", "IN", "DOWNLOADS", "BEFORE", "USERS", "LAST USED", "VERSIONS", "SIZE"},
					[]int{2, 3, 4, 6, 7}, rows)
			})
		}}
	f := cmd.Flags()
	f.StringVar(&in, "in", "", "only of this repository")
	f.StringVar(&from, "from", "", "since this day; left out: 30 days")
	f.StringVar(&until, "until", "", "until this day; left out: today")
	f.StringVar(&by, "by", "", "by day, client, who, version or repository")
	f.StringVar(&order, "order", "top", "top, rising, falling or unused")
	f.IntVar(&limit, "limit", 20, "at most so many packages")
	must(cmd.RegisterFlagCompletionFunc("in", s.completeRepositories))
	must(cmd.RegisterFlagCompletionFunc("by", fixed("day", "client", "who", "version", "repository")))
	must(cmd.RegisterFlagCompletionFunc("order", fixed("top", "rising", "falling", "unused")))
	return cmd
}

func whoUsesCommand(s *session) *cobra.Command {
	var in string
	cmd := &cobra.Command{Use: "who-uses PURL",
		Short: "Show who still uses a version: users, robots, builds, and what needs it", Args: arguments(cobra.ExactArgs(1)),
		Long: "Show who still uses a version, a range of versions or, without one, a package: who downloaded it, which " +
			"builds\n" +
			"used it, and what needs it, directly and by way of others.",
		Example: "  crelvo who-uses pkg:maven/org.openshore/brine-http@2.1.0\n" +
			"  crelvo who-uses 'pkg:maven/org.openshore/brine-http@vers:maven/<9'\n  crelvo who-uses pkg:npm/kelp-colors",
		RunE: func(cmd *cobra.Command, args []string) error {
			return answer(s, cmd, func(ctx context.Context, c *client.Client) (api.WhoUses, error) {
				return c.WhoUses(ctx, args[0], in)
			}, func(w io.Writer, who api.WhoUses) {
				if len(who.Users)+len(who.Builds)+len(who.Needs) == 0 {
					fmt.Fprintln(w, "Nobody that signed in downloaded it, no recorded build used it, and nothing here needs it.")
					return
				}
				var rows [][]string
				for _, u := range who.Users {
					rows = append(rows, []string{u.Name, u.Kind, timeText(u.LastAt), strings.Join(u.Clients, ", ")})
				}
				table(w, []string{"WHO", "KIND", "LAST DOWNLOAD", "WITH"}, nil, rows)
				fmt.Fprintln(w)
				if len(who.Builds) > 0 {
					fmt.Fprintf(w, "used by the builds\n  %s\n\n", strings.Join(who.Builds, "\n  "))
				}
				rows = nil
				for _, n := range who.Needs {
					rows = append(rows, []string{n.PURL, n.Wants, cmp.Or(n.Via, "directly")})
				}
				if rows != nil {
					table(w, []string{"NEEDED BY", "WHICH WANTS", "BY WAY OF"}, nil, rows)
				}
			})
		}}
	cmd.Flags().StringVar(&in, "in", "", "only in this repository")
	must(cmd.RegisterFlagCompletionFunc("in", s.completeRepositories))
	return cmd
}

func spaceCommand(s *session) *cobra.Command {
	return &cobra.Command{Use: "space", Short: "Show where storage goes", Args: arguments(cobra.NoArgs),
		RunE: func(cmd *cobra.Command, _ []string) error {
			return answer(s, cmd, func(ctx context.Context, c *client.Client) (api.SpacePage, error) {
				return c.Space(ctx, 31)
			}, func(w io.Writer, p api.SpacePage) {
				before := map[string]int64{} // a month ago, or when it was first noted
				for _, d := range p.Days {
					key := d.Repository + " " + d.Ecosystem
					if _, ok := before[key]; !ok {
						before[key] = d.Bytes
					}
				}
				var rows [][]string
				for _, x := range p.Now {
					grown := "-"
					if was, ok := before[x.Repository+" "+x.Ecosystem]; ok {
						grown = signed(x.Bytes - was)
					}
					rows = append(rows, []string{x.Repository, x.Ecosystem, strconv.FormatInt(x.Packages, 10),
						strconv.FormatInt(x.Versions, 10), api.Bytes(x.Bytes), api.Bytes(x.Shared), grown, api.Bytes(x.Grace)})
				}
				table(w, []string{"REPOSITORY", "ECOSYSTEM", "PACKAGES", "VERSIONS", "SIZE", "OF IT SHARED", "SINCE " +
					time.Now().AddDate(0, 0, -31).Format("Jan 2"), "IN GRACE"}, []int{2, 3, 4, 5, 6, 7}, rows)
				if p.Files > 0 {
					fmt.Fprintln(w)
					pairs := []string{"stored once", fmt.Sprintf("%d files, %s", p.Files, api.Bytes(p.Bytes)), "named by nothing",
						api.Bytes(p.Unnamed)}
					if p.Free > 0 {
						pairs = append(pairs, "free on the disk", api.Bytes(p.Free))
					}
					fields(w, pairs...)
				}
				if time.Since(p.AsOf) > time.Minute {
					fmt.Fprintf(w, "\nAs things were at %s; these figures are made anew every few minutes.\n",
						p.AsOf.UTC().Format("2006-01-02 15:04 UTC"))
				}
			})
		}}
}

func signed(bytes int64) string {
	if bytes < 0 {
		return "-" + api.Bytes(-bytes)
	}
	return "+" + api.Bytes(bytes)
}
