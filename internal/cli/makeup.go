package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"crelvo/internal/api"
	"crelvo/internal/client"
	"crelvo/internal/core/purl"
)

func compareCommand(s *session) *cobra.Command {
	var in, platform string
	var files bool
	cmd := &cobra.Command{Use: "compare PURL OTHER", Short: "Show how one version of an image or a file set differs from another",
		Args: arguments(cobra.ExactArgs(2)),
		Long: "Show how one version of an image differs from another: in its layers, in how it is to be run and, with " +
			"--files,\nin the files that the layers make together; or how one version of a file set does, in its files.\n" +
			"OTHER is a package URL, or another version or tag of the same.",
		Example: "  crelvo compare pkg:oci/berth-planner@1.4.0 1.5.0 --files\n" +
			"  crelvo compare pkg:oci/berth-planner@1.5.0 pkg:oci/fare-engine@1.5.0 --platform linux/arm64\n" +
			"  crelvo compare pkg:generic/chart-tiles@2026.10.1 2026.11.1",
		RunE: func(cmd *cobra.Command, args []string) error {
			before, err := purl.Parse(args[0])
			if err != nil {
				return usageError{err}
			}
			after := args[1]
			if !strings.HasPrefix(after, "pkg:") {
				before.Version, before.Qualifiers = after, nil
				after = before.String()
			}
			return answer(s, cmd, func(ctx context.Context, c *client.Client) (api.Comparison, error) {
				return c.Compare(ctx, client.Side{PURL: args[0], Repository: in}, client.Side{PURL: after, Repository: in},
					platform, files)
			}, showComparison)
		}}
	cmd.Flags().StringVar(&in, "in", "", "only in this repository")
	cmd.Flags().StringVar(&platform, "platform", "", "which of their platforms; left out: the first that both have")
	cmd.Flags().BoolVar(&files, "files", false, "compare the files too, which may take a few seconds")
	must(cmd.RegisterFlagCompletionFunc("in", s.completeRepositories))
	return cmd
}

// oneLine is a text in a table: of several lines, or very long, only the beginning.
func oneLine(s string) string {
	s = strings.Join(strings.Fields(s), " ")
	if r := []rune(s); len(r) > mostShown {
		return string(r[:mostShown]) + "…"
	}
	return s
}

// mostShown is how many characters of a text a table shows.
const mostShown = 120

func showMakeup(w io.Writer, m api.Makeup) {
	fields(w, "version", m.PURL, "called", m.Title, "repository", m.Repository, "platform", m.Platform, "platforms",
		strings.Join(m.Platforms, ", "), "made", optionalTime(m.Made, ""), "size", api.Bytes(m.Bytes))
	fmt.Fprintln(w)
	var rows [][]string
	n := 0
	for _, step := range m.Steps {
		number, size := "", ""
		if step.Layer != "" {
			n++
			number, size = strconv.Itoa(n), api.Bytes(step.Bytes)
		}
		rows = append(rows, []string{number, purl.ShortVersion(step.Layer), size, oneLine(step.By),
			strings.Join(step.Sharing, ", ")})
	}
	table(w, []string{"LAYER", "DIGEST", "SIZE", "MADE BY", "ALSO IN"}, []int{0, 2}, rows)
	if len(m.Settings) == 0 {
		return
	}
	fmt.Fprintln(w)
	rows = nil
	for _, setting := range m.Settings {
		rows = append(rows, []string{setting.Name, oneLine(setting.Value)})
	}
	table(w, []string{"SETTING", "VALUE"}, nil, rows)
}

func showComparison(w io.Writer, c api.Comparison) {
	if asked, err := purl.Parse(c.Before.PURL); err == nil && asked.Ecosystem == fileSet && c.Files != nil {
		showSetComparison(w, c)
		return
	}
	side := func(m api.Makeup) string {
		return strings.Join(strings.Fields(fmt.Sprintf("%s (%s) in %s %s, %s", purl.Typed(m.PURL), m.Title, m.Repository,
			m.Platform, api.Bytes(m.Bytes))), " ")
	}
	same := int64(0)
	for _, l := range c.Same {
		same += l.Bytes
	}
	fields(w, "before", side(c.Before), "after", side(c.After), "layers", fmt.Sprintf("%d of %s in both, %d gone, %d new",
		len(c.Same), api.Bytes(same), len(c.Gone), len(c.New)))
	var rows [][]string
	add := func(what string, steps []api.MadeStep) {
		for _, l := range steps {
			rows = append(rows, []string{what, purl.ShortVersion(l.Layer), api.Bytes(l.Bytes), oneLine(l.By)})
		}
	}
	add("gone", c.Gone)
	add("new", c.New)
	if len(rows) > 0 {
		fmt.Fprintln(w)
		table(w, []string{"LAYER", "DIGEST", "SIZE", "MADE BY"}, []int{2}, rows)
	}
	fmt.Fprintln(w)
	if rows = nil; len(c.Settings) == 0 {
		fmt.Fprintln(w, "Both are set to the same.")
	} else {
		for _, d := range c.Settings {
			rows = append(rows, []string{d.Name, cmp.Or(oneLine(d.Before), "-"), cmp.Or(oneLine(d.After), "-")})
		}
		table(w, []string{"SETTING", "BEFORE", "AFTER"}, nil, rows)
	}
	if c.Files != nil {
		fmt.Fprintln(w)
		showFileDifferences(w, *c.Files)
	}
}

func showFileDifferences(w io.Writer, f api.FileDifferences) {
	if f.LeftOut != "" {
		fmt.Fprintf(w, "Their files were not compared: %s.\n", f.LeftOut)
		return
	}
	fmt.Fprintf(w, "Files: %d added, %d changed, %d removed.\n", f.Added, f.Changed, f.Removed)
	var rows [][]string
	for _, d := range f.Some {
		what, before, after := "changed", "-", "-"
		if d.Before == nil {
			what = "added"
		} else {
			before = layerFile(*d.Before)
		}
		if d.After == nil {
			what = "removed"
		} else {
			after = layerFile(*d.After)
		}
		rows = append(rows, []string{what, d.Path, before, after})
	}
	if len(rows) > 0 {
		table(w, []string{"FILE", "PATH", "BEFORE", "AFTER"}, nil, rows)
	}
	if left := f.Added + f.Changed + f.Removed - len(f.Some); left > 0 {
		fmt.Fprintf(w, "And %d more.\n", left)
	}
}

func layerFile(f api.LayerFile) string {
	if f.Link != "" {
		return "leads to " + f.Link
	}
	return oneLine(strings.Join([]string{api.Bytes(f.Bytes), f.Mode, f.Owner, f.Code}, " "))
}

// showSetComparison shows how one version of a file set differs from another.
func showSetComparison(w io.Writer, c api.Comparison) {
	side := func(m api.Makeup) string {
		return fmt.Sprintf("%s in %s, %s", purl.Typed(m.PURL), m.Repository, api.Bytes(m.Bytes))
	}
	fields(w, "before", side(c.Before), "after", side(c.After), "in both", fmt.Sprintf("%d as they were", c.Files.Same),
		"new", api.Bytes(c.Files.New)+" that the first does not have")
	fmt.Fprintln(w)
	showFileDifferences(w, *c.Files)
}
