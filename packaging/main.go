// Packaging makes what Crelvo is installed from: programs that need nothing, packages for
// Debian and for RPM, an image, a list of what is in them (SBOM), and checksums. Run it in its
// folder, after the console was built; make package and make image do.
package main

import (
	"cmp"
	"context"
	"crypto/sha256"
	"flag"
	"fmt"
	"io"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strings"
	"time"
)

// making is what is to be made.
type making struct {
	into    string
	version string    // as git says it
	at      time.Time // of the last commit, which all files get, so that anybody makes the same
	root    string    // of the sources
}

// platform is an operating system and a processor.
type platform struct{ os, arch string }

func (p platform) String() string { return p.os + "-" + p.arch }

// served are the platforms that the service runs on, and used those that the command line is
// for besides.
var (
	served = []platform{{"linux", "amd64"}, {"linux", "arm64"}}
	used   = []platform{{"darwin", "amd64"}, {"darwin", "arm64"}, {"windows", "amd64"}, {"windows", "arm64"}}
)

func main() {
	m := making{root: ".."}
	var seconds int64
	var only, image string
	flag.StringVar(&m.into, "into", "../dist", "the folder to write to")
	flag.StringVar(&m.version, "version", "development", "the version, as git describes it")
	flag.Int64Var(&seconds, "at", 0, "the time of the last commit, as seconds since 1970")
	flag.StringVar(&only, "only", "", "one platform alone, such as "+platform{"linux", runtime.GOARCH}.String())
	flag.StringVar(&image, "image", "", "make an image alone, as a tar archive of an OCI layout with this name in the folder")
	flag.Parse()
	m.at = time.Unix(seconds, 0).UTC()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	if err := m.make(ctx, only, image); err != nil {
		fmt.Fprintln(os.Stderr, "packaging:", err)
		os.Exit(1)
	}
}

func (m making) make(ctx context.Context, only, image string) error {
	if err := os.MkdirAll(m.into, 0o755); err != nil {
		return err
	}
	wanted := func(p platform) bool { return only == "" || only == p.String() }
	programs := map[platform]string{}
	for _, p := range served {
		if !wanted(p) {
			continue
		}
		path, err := m.build(ctx, p)
		if err != nil {
			return err
		}
		programs[p] = path
	}
	if image != "" {
		return m.image(programs, filepath.Join(m.into, image))
	}
	for _, p := range used {
		if !wanted(p) {
			continue
		}
		if _, err := m.build(ctx, p, "-tags", "commandline"); err != nil {
			return err
		}
	}
	pages, err := m.pages(ctx)
	if err != nil {
		return err
	}
	defer os.RemoveAll(pages)
	for _, p := range served {
		if programs[p] == "" {
			continue
		}
		if err := m.packages(p, programs[p], pages); err != nil {
			return err
		}
		if err := m.contents(programs[p], m.file(p, ".cdx.json")); err != nil {
			return err
		}
	}
	return m.checksums()
}

// file is the path of what is made for a platform.
func (m making) file(p platform, ending string) string {
	return filepath.Join(m.into, "crelvo-"+m.number()+"-"+p.String()+ending)
}

// numbered is the form of a version that git found a tag for.
var numbered = regexp.MustCompile(`^v(\d+\.\d+.*)$`)

// number is the version as packages have it: it begins with a digit, and grows. Where there
// is no tag yet, the time of the commit makes it grow.
func (m making) number() string {
	if found := numbered.FindStringSubmatch(m.version); found != nil {
		return strings.ReplaceAll(found[1], "-", "+")
	}
	return "0~" + m.at.Format("20060102.150405") + "+" + strings.ReplaceAll(m.version, "-", ".")
}

// build makes a program that needs no library.
func (m making) build(ctx context.Context, p platform, more ...string) (string, error) {
	ending := ""
	if p.os == "windows" {
		ending = ".exe"
	}
	into, err := filepath.Abs(m.file(p, ending))
	if err != nil {
		return "", err
	}
	arguments := append([]string{"build", "-trimpath", "-buildvcs=false", "-ldflags", "-s -w -X crelvo/internal/cli.Version=" +
		m.version, "-o", into}, more...)
	command := exec.CommandContext(ctx, "go", append(arguments, "./cmd/crelvo")...)
	command.Dir, command.Stderr = m.root, os.Stderr
	command.Env = append(os.Environ(), "CGO_ENABLED=0", "GOOS="+p.os, "GOARCH="+p.arch)
	if err := command.Run(); err != nil {
		return "", fmt.Errorf("building for %s: %w", p, err)
	}
	return into, nil
}

// pages makes a folder with the man pages, in man, and with what shells complete by.
func (m making) pages(ctx context.Context) (dir string, err error) {
	if dir, err = os.MkdirTemp("", "crelvo-pages-"); err != nil {
		return "", err
	}
	program := func(arguments ...string) *exec.Cmd {
		command := exec.CommandContext(ctx, "go", append([]string{"run", "./cmd/crelvo"}, arguments...)...)
		command.Dir, command.Stderr = m.root, os.Stderr
		command.Env = append(os.Environ(), "SOURCE_DATE_EPOCH="+fmt.Sprint(m.at.Unix()))
		return command
	}
	if err := program("manual", "--into", filepath.Join(dir, "man")).Run(); err != nil {
		return dir, fmt.Errorf("the man pages: %w", err)
	}
	for _, shell := range []string{"bash", "zsh", "fish"} {
		text, err := program("completion", shell).Output()
		if err != nil {
			return dir, fmt.Errorf("completion for %s: %w", shell, err)
		}
		if err := os.WriteFile(filepath.Join(dir, shell), text, 0o644); err != nil {
			return dir, err
		}
	}
	return dir, nil
}

// sums is the name of the file with the checksums.
const sums = "SHA256SUMS"

// checksums writes those of all that was made, in the form of sha256sum.
func (m making) checksums() error {
	entries, err := os.ReadDir(m.into)
	if err != nil {
		return err
	}
	var lines []string
	for _, entry := range entries {
		if entry.Name() == sums || !entry.Type().IsRegular() {
			continue
		}
		file, err := os.Open(filepath.Join(m.into, entry.Name()))
		if err != nil {
			return err
		}
		digest := sha256.New()
		_, err = io.Copy(digest, file)
		if err = cmp.Or(err, file.Close()); err != nil {
			return err
		}
		lines = append(lines, fmt.Sprintf("%x  %s\n", digest.Sum(nil), entry.Name()))
	}
	slices.Sort(lines)
	return os.WriteFile(filepath.Join(m.into, sums), []byte(strings.Join(lines, "")), 0o644)
}
