package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"crelvo/internal/api"
	"crelvo/internal/client"
	"crelvo/internal/core/purl"
	"crelvo/internal/core/safety"
)

func advisoryCommand(s *session) *cobra.Command {
	return group("advisory", "See known vulnerabilities and malicious packages, and what they are about here",
		advisoryList(s), advisoryShow(s), advisoryAffected(s), advisoryImport(s), feedCommand(s))
}

// severityText is how bad something is: high 8.1, or malicious.
func severityText(severity string, score float64, malicious bool) string {
	switch {
	case malicious:
		return "malicious"
	case score > 0:
		return fmt.Sprintf("%s %.1f", severity, score)
	}
	return severity
}

// tellNothingKnown says that nothing can be known where there are no advisories.
func tellNothingKnown(w io.Writer, known api.AdvisoryCounts) bool {
	if known.Advisories == 0 {
		fmt.Fprintln(w, "No advisories are known here, which says nothing of any package. crelvo advisory feed add brings them.")
	}
	return known.Advisories == 0
}

func advisoryList(s *session) *cobra.Command {
	q := client.AdvisoryQuery{}
	cmd := &cobra.Command{Use: "list [WORDS]", Short: "List advisories, which changed last first",
		Args: arguments(cobra.MaximumNArgs(1)),
		Long: "List advisories, which changed last first. WORDS stand in the id, an alias, the summary or the name of a\n" +
			"package.",
		Example: "  crelvo advisory list\n" +
			"  crelvo advisory list kelp --severity high",
		RunE: func(cmd *cobra.Command, args []string) error {
			q.Words = strings.Join(args, " ")
			return answer(s, cmd, func(ctx context.Context, c *client.Client) (api.AdvisoryList, error) {
				return c.Advisories(ctx, q)
			}, func(w io.Writer, list api.AdvisoryList) {
				if tellNothingKnown(w, list.Known) {
					return
				}
				if len(list.Advisories) == 0 {
					fmt.Fprintf(w, "None of %d advisories fits.\n", list.Known.Advisories)
					return
				}
				var rows [][]string
				for _, a := range list.Advisories {
					changed := timeText(a.Modified)
					if a.Withdrawn != nil {
						changed = "withdrawn " + timeText(*a.Withdrawn)
					}
					rows = append(rows, []string{a.ID, severityText(a.Severity, a.Score, a.Malicious), changed, a.By, a.Summary})
				}
				table(w, []string{"ADVISORY", "SEVERITY", "CHANGED", "FROM", "SUMMARY"}, nil, rows)
				if list.More {
					fmt.Fprintln(w, "There are more: --limit, or WORDS.")
				}
			})
		}}
	cmd.Flags().StringVar(&q.Severity, "severity", "", "at least as bad: "+strings.Join(safety.SeverityWords(), ", "))
	cmd.Flags().BoolVar(&q.Withdrawn, "withdrawn", false, "those that were withdrawn too")
	cmd.Flags().IntVar(&q.Limit, "limit", 100, "how many at most")
	must(cmd.RegisterFlagCompletionFunc("severity", fixed(safety.SeverityWords()...)))
	return cmd
}

func advisoryShow(s *session) *cobra.Command {
	return &cobra.Command{Use: "show ID", Short: "Show an advisory, what it is about here, who used that, and where to go",
		Args: arguments(cobra.ExactArgs(1)),
		Long: "Show an advisory, by its id or an alias: which versions it is about, which of them are kept, who had them,\n" +
			"which builds used them, and the version to go to.",
		Example: "  crelvo advisory show ISLE-2026-0007",
		RunE: func(cmd *cobra.Command, args []string) error {
			return answer(s, cmd, func(ctx context.Context, c *client.Client) (api.AdvisoryPage, error) {
				return c.Advisory(ctx, args[0])
			}, showAdvisory)
		}}
}

func showAdvisory(w io.Writer, a api.AdvisoryPage) {
	pairs := []string{"advisory", a.ID, "severity", severityText(a.Severity, a.Score, a.Malicious)}
	if len(a.Aliases) > 0 {
		pairs = append(pairs, "also", strings.Join(a.Aliases, ", "))
	}
	if a.Vector != "" {
		pairs = append(pairs, "vector", a.Vector)
	}
	if a.Published != nil {
		pairs = append(pairs, "published", timeText(*a.Published))
	}
	pairs = append(pairs, "changed", timeText(a.Modified), "from", a.By+", "+timeText(a.ArrivedAt))
	if a.Withdrawn != nil {
		pairs = append(pairs, "withdrawn", timeText(*a.Withdrawn))
	}
	fields(w, pairs...)
	for _, text := range []string{a.Summary, a.Details} {
		if text != "" {
			fmt.Fprintf(w, "\n%s\n", strings.TrimSpace(text))
		}
	}
	fmt.Fprintln(w)
	var rows [][]string
	for _, p := range a.About {
		rows = append(rows, []string{p.PURL, p.Versions, strings.Join(p.FixedIn, ", ")})
	}
	table(w, []string{"ABOUT", "VERSIONS", "MENDED IN"}, nil, rows)
	if len(a.Kept) == 0 {
		fmt.Fprintln(w, "\nNothing that it is about is kept where you may read.")
	} else {
		fmt.Fprintln(w, "\nKept here")
		tableOfAffected(w, a.Kept, false)
	}
	rows = nil
	for _, l := range a.Listed {
		rows = append(rows, []string{l.PURL, l.Repository, listedVersions(l), comesIn(l.KeptOut)})
	}
	if rows != nil {
		fmt.Fprintln(w, "\nListed by upstreams, and not kept")
		table(w, []string{"PACKAGE", "REPOSITORY", "VERSIONS", "WHEN ASKED FOR"}, nil, rows)
	}
	rows = nil
	for _, u := range a.Users {
		rows = append(rows, []string{u.Name, u.Kind, timeText(u.LastAt), strings.Join(u.Clients, ", ")})
	}
	if rows != nil {
		fmt.Fprintln(w, "\nDownloaded by")
		table(w, []string{"WHO", "KIND", "LAST", "WITH"}, nil, rows)
	}
	if len(a.Builds) > 0 {
		fmt.Fprintf(w, "\nUsed by the builds %s\n", strings.Join(a.Builds, ", "))
	}
	if len(a.Waivers) > 0 {
		fmt.Fprintln(w, "\nAccepted by")
		tableOfWaivers(w, a.Waivers)
	}
	for _, r := range a.References {
		fmt.Fprintf(w, "\n%s", r.URL)
	}
	if len(a.References) > 0 {
		fmt.Fprintln(w)
	}
}

// mostNamedVersions is how many versions a line names.
const mostNamedVersions = 4

func listedVersions(l api.ListedAffected) string {
	named := l.Versions[:min(len(l.Versions), mostNamedVersions)]
	text := strings.Join(named, ", ")
	if more := l.Total - len(named); more > 0 {
		text += fmt.Sprintf(" and %d more", more)
	}
	return text
}

func comesIn(keptOut bool) string {
	if keptOut {
		return "kept out"
	}
	return "not kept out because of it"
}

// tableOfAffected lists versions, with their advisories or without.
func tableOfAffected(w io.Writer, all []api.Affected, advisories bool) {
	var rows [][]string
	for _, a := range all {
		state := "handed out"
		switch {
		case a.WaivedBy != 0:
			state = fmt.Sprintf("accepted by waiver %d", a.WaivedBy)
		case a.KeptOut:
			state = "kept out"
		}
		better := a.Better
		if better == "" && len(a.FixedIn) > 0 {
			better = a.FixedIn[len(a.FixedIn)-1] + " (not here)"
		}
		version := a.PURL
		if a.Inside != "" {
			at := strings.LastIndexByte(version, '@')
			version = version[:at+1] + cmp.Or(a.Label, purl.ShortVersion(version[at+1:])) + " (has " + a.Inside + ")"
		}
		row := []string{version, a.Repository, state, better, strconv.FormatInt(a.Downloads, 10), optionalTime(a.UsedAt, "never")}
		if advisories {
			row = append([]string{a.Advisory, severityText(a.Severity, a.Score, a.Malicious)}, row...)
		}
		rows = append(rows, row)
	}
	heads, right := []string{"VERSION", "REPOSITORY", "STATE", "GO TO", "DOWNLOADS", "LAST USED"}, []int{4}
	if advisories {
		heads, right = append([]string{"ADVISORY", "SEVERITY"}, heads...), []int{6}
	}
	table(w, heads, right, rows)
}

func advisoryAffected(s *session) *cobra.Command {
	var limit int
	cmd := &cobra.Command{Use: "affected", Short: "List what is kept and advisories are about, the worst first",
		Args: arguments(cobra.NoArgs), Example: "  crelvo advisory affected",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return answer(s, cmd, func(ctx context.Context, c *client.Client) (api.AffectedList, error) {
				return c.Affected(ctx, limit)
			}, func(w io.Writer, list api.AffectedList) {
				switch {
				case tellNothingKnown(w, list.Known):
				case len(list.Affected) == 0:
					fmt.Fprintf(w, "Nothing that is kept where you may read is among what %d advisories are about, as of %s.\n",
						list.Known.Advisories, timeText(list.AsOf))
				default:
					tableOfAffected(w, list.Affected, true)
					if more := list.Total - len(list.Affected); more > 0 {
						fmt.Fprintf(w, "And %d more: --limit.\n", more)
					}
				}
			})
		}}
	cmd.Flags().IntVar(&limit, "limit", 200, "how many at most")
	return cmd
}

func advisoryImport(s *session) *cobra.Command {
	return &cobra.Command{Use: "import FILE…", Short: "Take advisories from files in the OSV format",
		Args: arguments(cobra.MinimumNArgs(1)),
		Long: "Take advisories from files: a record of the OSV format (https://ossf.github.io/osv-schema/), a list of them,\n" +
			"or a zip archive. A record replaces what is known by its id if it changed later; that it changed, its field\n" +
			"modified says.",
		Example: "  crelvo advisory import ours-2026-001.json",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := s.client()
			if err != nil {
				return err
			}
			for _, name := range args {
				f, err := os.Open(name)
				if err != nil {
					return err
				}
				report, err := c.ImportAdvisories(cmd.Context(), filepath.Base(name), f)
				f.Close()
				if err != nil {
					return fmt.Errorf("%s: %w", name, err)
				}
				if err := answer(s, cmd, func(context.Context, *client.Client) (api.FeedReport, error) {
					return report, nil
				}, func(w io.Writer, r api.FeedReport) {
					fmt.Fprintf(w, "%s: %s\n", name, reportText(r))
					for _, fault := range r.Faults {
						fmt.Fprintln(w, "  "+fault)
					}
				}); err != nil {
					return err
				}
			}
			return nil
		}}
}

// reportText says what reading a feed or a file did.
func reportText(r api.FeedReport) string {
	said := fmt.Sprintf("%d new, %d changed of %d records", r.Added, r.Changed, r.Read)
	if r.Foreign > 0 {
		said += fmt.Sprintf("; %d are about no ecosystem that is known here", r.Foreign)
	}
	if r.Failed > 0 {
		said += fmt.Sprintf("; %d cannot be used", r.Failed)
	}
	return said
}

func feedCommand(s *session) *cobra.Command {
	return group("feed", "Say where advisories come from", feedList(s), feedAdd(s), feedRun(s), feedRemove(s))
}

// completeFeeds completes the name of a feed.
func (s *session) completeFeeds(cmd *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
	var names []string
	if c, err := s.client(); err == nil {
		all, err := c.Feeds(cmd.Context())
		if err != nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		for _, f := range all {
			names = append(names, f.Name)
		}
	}
	return names, cobra.ShellCompDirectiveNoFileComp
}

func showFeeds(w io.Writer, all []api.Feed) {
	if len(all) == 0 {
		fmt.Fprintln(w, "There is no feed. crelvo advisory feed add adds one.")
		return
	}
	var rows [][]string
	for _, f := range all {
		state := "waits for its first run"
		switch {
		case f.Running:
			state = "is being read"
		case f.Failure != "":
			state = "failed: " + f.Failure
		case f.EndedAt != nil:
			state = reportText(f.Report)
		}
		rows = append(rows, []string{f.Name, f.Location, (time.Duration(f.EverySeconds) * time.Second).String(),
			optionalTime(f.BegunAt, "never"), state})
	}
	table(w, []string{"FEED", "LOCATION", "EVERY", "READ", "STATE"}, nil, rows)
	for _, f := range all {
		for _, fault := range f.Report.Faults {
			fmt.Fprintf(w, "%s: %s\n", f.Name, fault)
		}
	}
}

func feedList(s *session) *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List the feeds, and what their last runs did",
		Args:    arguments(cobra.NoArgs),
		Example: "  crelvo advisory feed list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return answer(s, cmd, func(ctx context.Context, c *client.Client) ([]api.Feed, error) {
				return c.Feeds(ctx)
			}, showFeeds)
		}}
}

func feedAdd(s *session) *cobra.Command {
	var every string
	cmd := &cobra.Command{Use: "add NAME LOCATION", Short: "Add a source of advisories, and begin to read it",
		Args: arguments(cobra.ExactArgs(2)),
		Long: "Add a source of advisories in the OSV format, and begin to read it. LOCATION is the whole path of a folder or\n" +
			"a zip archive on the server (on every node), or an address with the layout in which OSV publishes: for each\n" +
			"ecosystem a folder of its name, with all.zip, modified_id.csv and a file for each record. What is new is\n" +
			"fetched on its own; a run that was cut off goes on where it was.",
		Example: "  crelvo advisory feed add openshore https://advisories.openshore.example\n" +
			"  crelvo advisory feed add ours /srv/advisories --every 10m",
		RunE: func(cmd *cobra.Command, args []string) error {
			n := api.NewFeed{Name: args[0], Location: args[1]}
			if every != "" {
				length, err := parseDuration(every)
				if err != nil {
					return usageError{err}
				}
				n.EverySeconds = int(length.Seconds())
			}
			return answer(s, cmd, func(ctx context.Context, c *client.Client) ([]api.Feed, error) {
				f, err := c.AddFeed(ctx, n)
				if already, err := alreadySo(err, func() (bool, error) {
					all, err := c.Feeds(ctx)
					for _, there := range all {
						if there.Name == n.Name {
							f = there
							return there.Location == strings.TrimSuffix(n.Location, "/") &&
								(n.EverySeconds == 0 || n.EverySeconds == there.EverySeconds), err
						}
					}
					return false, err
				}); err != nil || !already {
					return []api.Feed{f}, err
				}
				fmt.Fprintln(cmd.ErrOrStderr(), "It was so already; nothing was changed.")
				return []api.Feed{f}, nil
			}, showFeeds)
		}}
	cmd.Flags().StringVar(&every, "every", "", "how often it is read, such as 10m, 6h or 1d (default: every hour)")
	return cmd
}

func feedRun(s *session) *cobra.Command {
	return &cobra.Command{Use: "run NAME", Short: "Read a feed now, in the background",
		Args:    arguments(cobra.ExactArgs(1)),
		Example: "  crelvo advisory feed run openshore", ValidArgsFunction: s.completeFeeds,
		RunE: func(cmd *cobra.Command, args []string) error {
			return answer(s, cmd, func(ctx context.Context, c *client.Client) ([]api.Feed, error) {
				f, err := c.RunFeed(ctx, args[0])
				return []api.Feed{f}, err
			}, showFeeds)
		}}
}

func feedRemove(s *session) *cobra.Command {
	return &cobra.Command{Use: "remove NAME", Short: "Take a feed away; the advisories that it brought stay",
		Args: arguments(cobra.ExactArgs(1)), Example: "  crelvo advisory feed remove openshore",
		ValidArgsFunction: s.completeFeeds,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := s.client()
			if err != nil {
				return err
			}
			if err := c.RemoveFeed(cmd.Context(), args[0]); err != nil {
				return err
			}
			return s.said(cmd, "Removed the feed %s.", args[0])
		}}
}
