package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"crelvo/internal/api"
	"crelvo/internal/client"
	"crelvo/internal/core/locked"
)

// checkedFile is a file that names what a build uses, and what would become of that.
type checkedFile struct {
	File     string           `json:"file"`
	What     string           `json:"what"`
	Packages []checkedPackage `json:"packages"`
}

type checkedPackage struct {
	api.CheckedVersion
	Line int `json:"line,omitempty"`
}

// bad tells whether a build would fail for it.
func (p checkedPackage) bad() bool { return p.State != "let in" && p.State != "not known" }

func checkCommand(s *session) *cobra.Command {
	var in, report, to string
	cmd := &cobra.Command{Use: "check FILE...",
		Short: "Tell of lock files and bills of materials what a repository would refuse, before anybody builds",
		Args:  arguments(cobra.MinimumNArgs(1)),
		Long: "Tell of the versions that files name which ones a repository would refuse, and why. Of a folder, the files with\n" +
			"usual names are read, in it and below. These are known:\n\n  " + strings.Join(locked.Forms(), "\n  ") +
			"\n\nA document in the CycloneDX or SPDX format may have any name, and so may what mvn dependency:tree\n" +
			"-DoutputFile=FILE writes.\n" +
			"The exit code is 1 if anything would be refused or is not there.",
		Example: "  crelvo check package-lock.json --in platform\n  crelvo check . --in platform --report sarif --to checked.sarif\n" +
			"  crelvo check dependency-tree.txt --in platform --report junit --to checked.xml",
		RunE: func(cmd *cobra.Command, args []string) error {
			if report != "" && report != "sarif" && report != "junit" {
				return usageError{fmt.Errorf("a report is sarif or junit, not %q", report)}
			}
			files, err := lockedFiles(args)
			if err != nil {
				return err
			}
			c, err := s.client()
			if err != nil {
				return err
			}
			checked, err := checkAll(cmd.Context(), c, in, files)
			if err != nil {
				return err
			}
			if err := reportChecked(s, cmd, checked, in, report, to); err != nil {
				return err
			}
			if slices.ContainsFunc(checked, func(f checkedFile) bool {
				return slices.ContainsFunc(f.Packages,
					checkedPackage.bad)
			}) {
				return silent(exitFailed)
			}
			return nil
		}}
	inFlag(cmd, s, &in, "the repository that the build uses, such as a chain")
	cmd.Flags().StringVar(&report, "report", "", "write it as CI systems read it: sarif or junit")
	cmd.Flags().StringVar(&to, "to", "", "where the report is written (default: to the output)")
	must(cmd.RegisterFlagCompletionFunc("report", fixed("sarif", "junit")))
	return cmd
}

// skipped are folders that have what was installed, and not what a project says.
var skipped = []string{"node_modules", ".git", "vendor", "target", ".venv", "venv", "obj", "bin"}

// lockedFiles reads files, and those with usual names in folders.
func lockedFiles(paths []string) (files []checkedFile, err error) {
	read := func(path string) error {
		stat, err := os.Stat(path)
		if err != nil {
			return err
		}
		if stat.Size() > locked.Largest {
			return fmt.Errorf("%s has more than %s, and cannot be read", path, api.Bytes(locked.Largest))
		}
		raw, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		all, what, err := locked.Read(filepath.ToSlash(path), raw)
		if err != nil {
			return fmt.Errorf("%s: %w", path, err)
		}
		f := checkedFile{File: filepath.ToSlash(path), What: what, Packages: make([]checkedPackage, len(all))}
		for i, p := range all {
			f.Packages[i].PURL, f.Packages[i].Line = p.PURL.Typed(), p.Line
		}
		files = append(files, f)
		return nil
	}
	for _, path := range paths {
		stat, err := os.Stat(path)
		if err != nil {
			return nil, err
		}
		if !stat.IsDir() {
			if err := read(path); err != nil {
				return nil, err
			}
			continue
		}
		before := len(files)
		if err := filepath.WalkDir(path, func(at string, entry fs.DirEntry, err error) error {
			switch {
			case err != nil:
				return err
			case entry.IsDir() && at != path && slices.Contains(skipped, entry.Name()):
				return filepath.SkipDir
			case entry.Type().IsRegular() && locked.Known(entry.Name()):
				return read(at)
			}
			return nil
		}); err != nil {
			return nil, err
		}
		if len(files) == before {
			return nil, usageError{fmt.Errorf("%s has none of the files that are known; see crelvo check --help", path)}
		}
	}
	return files, nil
}

// checkedAtOnce is about how many versions the server is asked with one request.
const checkedAtOnce = 100

// checkAll asks the server about every version once, some at a time. What it could not find out in
// time it is asked again, as long as it gets further.
func checkAll(ctx context.Context, c *client.Client, in string, files []checkedFile) ([]checkedFile, error) {
	answers := map[string]api.CheckedVersion{}
	var open []string
	for _, f := range files {
		for _, p := range f.Packages {
			if _, known := answers[p.PURL]; !known {
				answers[p.PURL] = api.CheckedVersion{}
				open = append(open, p.PURL)
			}
		}
	}
	for len(open) > 0 {
		var late []string
		for some := range slices.Chunk(open, checkedAtOnce) {
			said, err := c.CheckVersions(ctx, in, some)
			if err != nil {
				return nil, err
			}
			for i, one := range said {
				answers[some[i]] = one
				if one.State == "not known" && strings.Contains(one.Why, "ask again") {
					late = append(late, some[i])
				}
			}
		}
		if len(late) >= len(open) {
			break
		}
		open = late
	}
	for _, f := range files {
		for i := range f.Packages {
			p := &f.Packages[i]
			named := p.PURL
			p.CheckedVersion = answers[named]
			p.PURL = named
		}
	}
	return files, nil
}

// reportChecked writes what was found, as it is wanted.
func reportChecked(s *session, cmd *cobra.Command, checked []checkedFile, in, report, to string) error {
	w := cmd.OutOrStdout()
	write := map[string]func(io.Writer, []checkedFile) error{"sarif": writeSARIF, "junit": writeJUnit}[report]
	switch {
	case report == "":
		return s.show(w, checked, func() { showChecked(w, checked, in) })
	case to == "":
		return write(w, checked)
	}
	f, err := os.Create(to)
	if err != nil {
		return err
	}
	if err := errors.Join(write(f, checked), f.Close()); err != nil {
		return err
	}
	showChecked(w, checked, in)
	return nil
}

func showChecked(w io.Writer, checked []checkedFile, in string) {
	for i, f := range checked {
		if i > 0 {
			fmt.Fprintln(w)
		}
		bad, unknown := 0, 0
		var rows [][]string
		for _, p := range f.Packages {
			if p.State == "let in" {
				continue
			}
			if p.bad() {
				bad++
			} else {
				unknown++
			}
			line := ""
			if p.Line > 0 {
				line = fmt.Sprint(p.Line)
			}
			rows = append(rows, []string{line, p.PURL, p.State, strings.TrimSpace(p.Why + ". " + p.Hint)})
		}
		sum := fmt.Sprintf("%s (%s): %s lets in all of %s", f.File, f.What, in, counted(int64(len(f.Packages)), "package"))
		if bad+unknown > 0 {
			sum = fmt.Sprintf("%s (%s): of %s, %s would refuse %d", f.File, f.What, counted(int64(len(f.Packages)),
				"package"), in, bad)
		}
		if unknown > 0 {
			sum += fmt.Sprintf(", and nothing is known of %d", unknown)
		}
		fmt.Fprintln(w, sum)
		if len(rows) > 0 {
			table(w, []string{"LINE", "PACKAGE", "STATE", "WHY"}, []int{0}, rows)
		}
	}
}
