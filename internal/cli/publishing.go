package cli

import (
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"crelvo/internal/api"
	"crelvo/internal/client"
	"crelvo/internal/core/purl"
)

func publishCommand(s *session) *cobra.Command {
	var to, as string
	var sets setFlags
	cmd := &cobra.Command{Use: "publish FILE|DIR…", Short: "Publish package files; all become visible together",
		Args: arguments(cobra.MinimumNArgs(1)),
		Long: "Publish package files. npm tarballs, Python distributions, NuGet packages and jars say themselves what\n" +
			"they are, a jar by the pom inside or beside it; for a third-party jar without one, --as says it and a\n" +
			"pom is made. An archive of container images (an OCI layout, or what docker save writes) is pushed\n" +
			"under the names and tags that it has, or what --as says.\n\n" +
			"With --as pkg:generic/NAME@VERSION a folder, or any files, become a version of a file set. Only what the\n" +
			"server does not have is sent; what was cut off goes on within a day. What a file named " +
			client.IgnoreFile + "\nin the folder lists, a pattern in each line, is left out.",
		Example: "  crelvo publish target/berth-planner-1.4.0.jar --to releases\n" +
			"  crelvo publish dist/tidecast-0.6.0-py3-none-any.whl dist/tidecast-0.6.0.tar.gz --to releases\n" +
			"  crelvo publish brine.jar --to releases --as pkg:maven/org.openshore/brine-http@2.1.0\n" +
			"  crelvo publish image.tar --to snapshots --as pkg:oci/berth-planner@1.5.0-dev.118\n" +
			"  crelvo publish tiles/ --to releases --as pkg:generic/chart-tiles@2026.11.1 --exclude '*.tmp'",
		RunE: func(cmd *cobra.Command, args []string) error {
			if to == "" {
				return usageError{fmt.Errorf("--to is missing: say which repository to publish to")}
			}
			var named purl.PURL
			if as != "" {
				var err error
				if named, err = purl.Parse(as); err != nil {
					return usageError{err}
				}
			}
			if named.Ecosystem == fileSet {
				return s.publishSet(cmd, args, to, named, sets)
			}
			if len(args) == 1 {
				images, err := client.OpenImages(args[0])
				if err != nil {
					return err
				}
				if images != nil {
					return errors.Join(s.publishImages(cmd, images, to, named), images.Close())
				}
			}
			files, err := gather(args)
			if err != nil {
				return err
			}
			c, err := s.client()
			if err != nil {
				return err
			}
			published, err := publishFiles(cmd, c, to, as, files)
			if err != nil {
				return err
			}
			w := cmd.OutOrStdout()
			return s.show(w, published, func() {
				done := "Published"
				if published.Same {
					done = "Was there already, byte for byte:"
				}
				fmt.Fprintf(w, "%s %s in %s", done, published.PURL, published.Repository)
				if published.Name != "" && !strings.HasSuffix(published.PURL, "@"+published.Name) {
					fmt.Fprintf(w, " as %s", published.Name)
				}
				fmt.Fprintln(w)
				var rows [][]string
				for _, f := range published.Files {
					rows = append(rows, []string{f.Name, api.Bytes(f.Size), f.SHA256})
				}
				table(w, []string{"FILE", "SIZE", "SHA-256"}, []int{1}, rows)
			})
		}}
	cmd.Flags().StringVar(&to, "to", "", "the repository to publish to")
	cmd.Flags().StringVar(&as, "as", "", "what it is, as a package URL, if the files do not say so")
	sets.add(cmd)
	must(cmd.RegisterFlagCompletionFunc("to", s.completeRepositories))
	return cmd
}

// publishFiles looks at files, and sends those whose bytes are not there already if
// nothing speaks against them.
func publishFiles(cmd *cobra.Command, c *client.Client, to, as string, paths []string) (none api.Published, err error) {
	files, err := client.Locals(cmd.Context(), paths)
	if err != nil {
		return none, err
	}
	looked, err := c.Look(cmd.Context(), to, as, files)
	if err != nil {
		return none, err
	}
	for _, p := range looked.Publications {
		if r := p.Refusal; r != nil && r.Code != api.ToldLater {
			return none, &api.Problem{Status: http.StatusUnprocessableEntity, Code: r.Code, Detail: r.Detail, Hint: r.Hint}
		}
		for _, f := range p.Files {
			if f.File >= 0 {
				files[f.File].Here, files[f.File].Arrived = f.Here, f.Arrived
			}
		}
	}
	bars := newProgress(cmd.ErrOrStderr())
	defer bars.wait()
	return c.Send(cmd.Context(), to, as, files, bars.follow, func(format string, args ...any) {
		fmt.Fprintf(cmd.ErrOrStderr(), format+"\n", args...)
	})
}

// gather lists the files to publish: those given, those in folders given, and
// the pom beside a single file.
func gather(args []string) ([]string, error) {
	var files []string
	for _, arg := range args {
		stat, err := os.Stat(arg)
		if err != nil {
			return nil, err
		}
		if !stat.IsDir() {
			files = append(files, arg)
			continue
		}
		entries, err := os.ReadDir(arg)
		if err != nil {
			return nil, err
		}
		for _, entry := range entries {
			if entry.Type().IsRegular() && !isChecksum(entry.Name()) {
				files = append(files, filepath.Join(arg, entry.Name()))
			}
		}
	}
	if len(files) == 1 {
		beside := strings.TrimSuffix(files[0], filepath.Ext(files[0])) + ".pom"
		if _, err := os.Stat(beside); err == nil && beside != files[0] {
			files = append(files, beside)
		}
	}
	if len(files) == 0 {
		return nil, fmt.Errorf("there are no files in %s", strings.Join(args, ", "))
	}
	return files, nil
}

func isChecksum(name string) bool {
	return slices.Contains([]string{".md5", ".sha1", ".sha256", ".sha512"}, filepath.Ext(name))
}
