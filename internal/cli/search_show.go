package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"crelvo/internal/api"
	"crelvo/internal/client"
	"crelvo/internal/core/bundle"
	"crelvo/internal/core/purl"
)

func sortedKeys(m map[string]string) []string { return slices.Sorted(maps.Keys(m)) }

func showCommand(s *session) *cobra.Command {
	var in, platform string
	var layers, history, files bool
	cmd := &cobra.Command{Use: "show PURL", Short: "Show a package, or one version of it",
		Args: arguments(cobra.ExactArgs(1)),
		Example: "  crelvo show pkg:maven/example.skerry.berth/berth-planner\n" +
			"  crelvo show pkg:maven/example.skerry.berth/berth-planner@1.4.0\n" +
			"  crelvo show pkg:oci/berth-planner@1.5.0 --layers --platform linux/arm64\n" +
			"  crelvo show pkg:generic/chart-tiles@2026.11.1 --files",
		RunE: func(cmd *cobra.Command, args []string) error {
			asked, err := purl.Parse(args[0])
			if err != nil {
				return usageError{err}
			}
			if layers {
				return answer(s, cmd, func(ctx context.Context, c *client.Client) (api.Makeup, error) {
					return c.Makeup(ctx, args[0], in, platform)
				}, showMakeup)
			}
			if files {
				return s.showSet(cmd, asked, in)
			}
			if history {
				return answer(s, cmd, func(ctx context.Context, c *client.Client) ([]api.LabelMove, error) {
					return c.LabelMoves(ctx, args[0], in)
				}, showMoves)
			}
			var coming []api.Receiving
			err = answer(s, cmd, func(ctx context.Context, c *client.Client) (api.Package, error) {
				var err error
				if coming, err = c.Receiving(ctx, args[0], in); err != nil {
					return api.Package{}, err
				}
				return c.Package(ctx, args[0], in)
			}, func(w io.Writer, p api.Package) {
				if asked.Version == "" {
					showVersions(w, p)
				} else {
					showFiles(w, p)
				}
			})
			if len(coming) > 0 && s.output == "table" {
				fmt.Fprintln(cmd.ErrOrStderr(), "Being received, and not listed yet:")
				receivingTable(cmd.ErrOrStderr(), coming)
			}
			return err
		}}
	cmd.Flags().StringVar(&in, "in", "", "only in this repository")
	cmd.Flags().BoolVar(&layers, "layers", false, "show the layers of an image, and how it is to be run")
	cmd.Flags().BoolVar(&history, "history", false, "show where its labels pointed, one time after the other")
	cmd.Flags().BoolVar(&files, "files", false, "show all files of a file set")
	cmd.MarkFlagsMutuallyExclusive("layers", "history", "files")
	cmd.Flags().StringVar(&platform, "platform", "", "with --layers: which of its platforms; left out: the first")
	must(cmd.RegisterFlagCompletionFunc("in", s.completeRepositories))
	return cmd
}

func showMoves(w io.Writer, all []api.LabelMove) {
	if len(all) == 0 {
		fmt.Fprintln(w, "No label was ever there.")
		return
	}
	var rows [][]string
	for _, m := range all {
		until := "now"
		if m.Until != nil {
			until = timeText(*m.Until)
		}
		rows = append(rows, []string{m.Label, cmp.Or(purl.ShortVersion(m.Before), "-"), purl.ShortVersion(m.Version),
			timeText(m.At), until, m.By})
	}
	table(w, []string{"LABEL", "FROM", "TO", "SINCE", "UNTIL", "BY"}, nil, rows)
}

func receivingCommand(s *session) *cobra.Command {
	var in string
	cmd := &cobra.Command{Use: "receiving [PURL]",
		Short: "List versions that are being received, and what they still lack", Args: arguments(cobra.MaximumNArgs(1)),
		Long: "List versions that are being received. A version is listed when its client says that it is complete or, if " +
			"it\n" +
			"has all that such a version needs, when nothing more comes for a while. One that lacks something is given up " +
			"after a day.",
		Example: "  crelvo receiving\n  crelvo receiving --in releases",
		RunE: func(cmd *cobra.Command, args []string) error {
			return answer(s, cmd, func(ctx context.Context, c *client.Client) ([]api.Receiving, error) {
				return c.Receiving(ctx, strings.Join(args, ""), in)
			}, func(w io.Writer, all []api.Receiving) {
				if len(all) == 0 {
					fmt.Fprintln(w, "Nothing is being received.")
					return
				}
				receivingTable(w, all)
			})
		}}
	cmd.Flags().StringVar(&in, "in", "", "only in this repository")
	must(cmd.RegisterFlagCompletionFunc("in", s.completeRepositories))
	return cmd
}

func receivingTable(w io.Writer, all []api.Receiving) {
	var rows [][]string
	for _, r := range all {
		then := "listed " + timeText(r.Until)
		if r.Lacks != "" {
			then = "lacks " + r.Lacks + "; given up " + timeText(r.Until)
		}
		rows = append(rows, []string{r.PURL, r.Repository, r.By, timeText(r.LastAt), strconv.Itoa(r.Files),
			api.Bytes(r.Bytes), then})
	}
	table(w, []string{"VERSION", "REPOSITORY", "BY", "LAST FILE", "FILES", "SIZE", "IF NOTHING MORE COMES"}, []int{4, 5},
		rows)
}

func showVersions(w io.Writer, p api.Package) {
	fields(w, "package", p.PURL, "title", p.Title, "description", p.Description, "homepage", p.Homepage, "source",
		p.Source)
	fmt.Fprintln(w)
	var rows [][]string
	belonging := 0
	for _, v := range p.Versions {
		newest := v.Uploads[0]
		name := v.Version
		switch short := purl.ShortVersion(v.Version); {
		case v.BelongsTo != "":
			belonging++
			continue
		case len(v.Labels) > 0 && short != v.Version:
			name = strings.Join(v.Labels, ", ") + " (" + short + ")"
		case len(v.Labels) > 0:
			name += " (" + strings.Join(v.Labels, ", ") + ")"
		}
		if v.Withdrawn != nil {
			name += " withdrawn"
		}
		if len(v.Findings) > 0 {
			name += " " + v.Findings[0].Advisory
		}
		if v.Listed {
			rows = append(rows, []string{name, v.Repository, "", "", "not kept yet", "", "", ""})
			continue
		}
		rows = append(rows, []string{name, v.Repository, strconv.Itoa(v.UploadCount), api.Bytes(v.Bytes),
			timeText(newest.PublishedAt), newest.PublishedBy, strconv.FormatInt(v.Downloads, 10),
			strconv.FormatInt(v.Users, 10)})
	}
	table(w, []string{"VERSION", "REPOSITORY", "UPLOADS", "SIZE", "NEWEST", "BY", "DOWNLOADS", "USERS"}, []int{2, 3, 6, 7},
		rows)
	if belonging > 0 {
		fmt.Fprintf(w, "\nAnd %d that are part of these, or about them: the platforms of an image, an SBOM. "+
			"A version shows its own (crelvo show %s@VERSION).\n", belonging, p.PURL)
	}
}

func showFiles(w io.Writer, p api.Package) {
	for i, v := range p.Versions {
		if i > 0 {
			fmt.Fprintln(w)
		}
		newest := v.Uploads[0]
		var licences, dependencies []string
		for _, l := range newest.Licences {
			name := l.Name
			if l.Sure > 0 {
				name += fmt.Sprintf(" (not stated, but known by its text, %d %% sure)", l.Sure)
			}
			licences = append(licences, name)
		}
		for _, d := range newest.Dependencies {
			dependencies = append(dependencies, strings.TrimSpace(d.PURL+" "+d.Version))
		}
		withdrawn := ""
		if v.Withdrawn != nil {
			withdrawn = strings.TrimSuffix("yes: "+v.Withdrawn.Reason, ": ")
		}
		holds := ""
		if set := newest.Set; set != nil {
			holds = fmt.Sprintf("%d files, %s; --files shows them", set.Files, api.Bytes(set.Bytes))
		}
		fields(w, "version", v.PURL, "repository", v.Repository, "holds", holds, "labels", strings.Join(v.Labels, ", "), "withdrawn",
			withdrawn, "licence", orNone(licences, "not stated"),
			"dependencies", orNone(dependencies, "none"), "downloads", fmt.Sprintf("%d by %d users", v.Downloads, v.Users),
			"last use", optionalTime(v.LastUse, "never"),
			"advisories", findingsText(v), "kept out", v.KeptOut, "build", newest.Build, "promotions",
			promotionsText(newest.Promotions), "came from", originText(newest.Origin))
		var rows [][]string
		for _, u := range v.Uploads {
			for _, f := range u.Files {
				at, by := u.PublishedAt, u.PublishedBy
				if f.AddedAt.After(u.PublishedAt.Add(time.Second)) { // it came later than the rest
					at, by = f.AddedAt, cmp.Or(f.AddedBy, by)
				}
				rows = append(rows, []string{f.Name, api.Bytes(f.Size), timeText(at), by, f.Checksums["sha256"]})
			}
		}
		table(w, []string{"FILE", "SIZE", "PUBLISHED", "BY", "SHA-256"}, []int{1}, rows)
	}
}

// originText says where a version came from, and how it came to be there; "" if it came from nowhere else.
func originText(o *bundle.Origin) string {
	if o == nil {
		return ""
	}
	said := o.From
	for _, p := range o.Promotions {
		said += fmt.Sprintf("; promoted from %s to %s there by %s, %s", p.From, p.To, p.By, timeText(p.At))
	}
	return said
}

// findingsText says what advisories say of a version.
func findingsText(v api.VersionGroup) string {
	var all []string
	for _, f := range v.Findings {
		text := f.Advisory + ", " + severityText(f.Severity, f.Score, f.Malicious)
		if len(f.FixedIn) > 0 {
			text += ", mended in " + f.FixedIn[len(f.FixedIn)-1]
		}
		all = append(all, text)
	}
	return strings.Join(all, "; ")
}

// promotionsText names the promotions that a version was part of.
func promotionsText(ids []int64) string {
	var names []string
	for _, id := range ids {
		names = append(names, strconv.FormatInt(id, 10))
	}
	return strings.Join(names, ", ")
}
