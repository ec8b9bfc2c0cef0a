package cli

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"crelvo/internal/api"
	"crelvo/internal/client"
	"crelvo/internal/core/purl"
)

func fetchCommand(s *session) *cobra.Command {
	var in, dir, platform string
	var sets fetchFlags
	cmd := &cobra.Command{Use: "fetch PURL", Short: "Download the files of a version, verified",
		Args: arguments(cobra.ExactArgs(1)),
		Long: "Download the files of a version, verified. Without a version it is the newest release, or where\n" +
			"there is none the newest snapshot. The qualifiers type and classifier choose one file.\n\n" +
			"What is there already and right is not fetched again; what is there with other content is\n" +
			"overwritten only after a yes. A transfer that broke off goes on where it was when the same is\n" +
			"fetched again. A container image is written as one archive, an OCI image layout.\n\n" +
			"Of a file set comes only what neither the folder nor those that --like names have; files of the folder that\n" +
			"are others there are replaced.",
		Example: "  crelvo fetch pkg:maven/example.skerry.berth/berth-planner@1.4.0\n" +
			"  crelvo fetch 'pkg:maven/example.skerry.berth/berth-planner@1.4.0?type=jar'\n" +
			"  crelvo fetch pkg:oci/berth-planner@1.4.0 --platform linux/amd64\n" +
			"  crelvo fetch pkg:generic/chart-tiles@2026.11.1 --into tiles --only 'north/*'",
		RunE: func(cmd *cobra.Command, args []string) error {
			asked, err := purl.Parse(args[0])
			if err != nil {
				return usageError{err}
			}
			c, err := s.client()
			if err != nil {
				return err
			}
			if asked.Ecosystem == "oci" {
				return s.fetchImage(cmd, c, asked, in, dir, platform)
			}
			if asked.Ecosystem == fileSet {
				return s.fetchSet(cmd, c, asked, in, sets)
			}
			p, err := c.Package(cmd.Context(), args[0], in)
			if err != nil {
				return err
			}
			v := chooseVersion(p.Versions)
			if v.Listed {
				return onlyListed(v)
			}
			files := chooseFiles(v.Uploads[0].Files, asked.Qualifiers)
			if len(files) == 0 {
				return &api.Problem{Status: 404, Detail: v.PURL + " has no such file", Hint: "crelvo show lists its files."}
			}
			if err := os.MkdirAll(dir, 0o755); err != nil {
				return err
			}
			lacking, err := s.lacking(cmd, dir, files)
			if err != nil {
				return err
			}
			bars := newProgress(cmd.ErrOrStderr())
			defer bars.wait()
			for _, f := range lacking {
				if err := download(cmd.Context(), c, f, targetOf(dir, f), bars); err != nil {
					return err
				}
			}
			bars.wait()
			written := make([]string, len(files))
			for i, f := range files {
				written[i] = targetOf(dir, f)
			}
			w := cmd.OutOrStdout()
			return s.show(w, written, func() {
				for i, target := range written {
					if !slices.ContainsFunc(lacking, func(f api.File) bool { return f.Name == files[i].Name }) {
						target += "  (was there already)"
					}
					fmt.Fprintln(w, target)
				}
			})
		}}
	cmd.Flags().StringVar(&in, "in", "", "only from this repository")
	cmd.Flags().StringVar(&dir, "dir", ".", "the folder to write to")
	cmd.Flags().StringVar(&platform, "platform", "", "of an image for several platforms: the one for this, such as linux/amd64")
	sets.add(cmd)
	must(cmd.RegisterFlagCompletionFunc("in", s.completeRepositories))
	return cmd
}

// onlyListed is that nothing of a version is kept.
func onlyListed(v api.VersionGroup) error {
	return &api.Problem{Status: 404, Detail: v.PURL + " is only listed by the upstream of " + v.Repository +
		", and not kept yet", Hint: "It comes when a build tool asks for it, or with crelvo mirror prefetch."}
}

// chooseVersion is the newest release of what is kept and not withdrawn, else the
// newest snapshot, else whatever is first.
func chooseVersion(versions []api.VersionGroup) api.VersionGroup {
	for _, fits := range []func(api.VersionGroup) bool{
		func(v api.VersionGroup) bool { return !v.Snapshot && !v.Listed && v.Withdrawn == nil },
		func(v api.VersionGroup) bool { return !v.Listed && v.Withdrawn == nil },
		func(v api.VersionGroup) bool { return !v.Listed },
	} {
		if i := slices.IndexFunc(versions, fits); i >= 0 {
			return versions[i]
		}
	}
	return versions[0]
}

func chooseFiles(files []api.File, qualifiers map[string]string) []api.File {
	if qualifiers["type"] == "" && qualifiers["classifier"] == "" {
		return files
	}
	return slices.DeleteFunc(slices.Clone(files), func(f api.File) bool {
		return f.Classifier != qualifiers["classifier"] || qualifiers["type"] != "" && f.Extension != qualifiers["type"]
	})
}

func targetOf(dir string, f api.File) string { return filepath.Join(dir, filepath.Base(f.Name)) }

// lacking are the files that are not in a folder as they should be. It asks before any
// is overwritten.
func (s *session) lacking(cmd *cobra.Command, dir string, files []api.File) (lacking []api.File, err error) {
	var others []string
	for _, f := range files {
		digest := sha256.New()
		content, err := os.Open(targetOf(dir, f))
		if err == nil {
			_, err = io.Copy(digest, content)
			content.Close()
		}
		switch {
		case errors.Is(err, os.ErrNotExist):
		case err != nil:
			return nil, err
		case hex.EncodeToString(digest.Sum(nil)) == f.Checksums["sha256"]:
			continue
		default:
			others = append(others, targetOf(dir, f))
		}
		lacking = append(lacking, f)
	}
	if len(others) > 0 {
		if err := s.confirm(cmd, strings.Join(others, ", ")+map[bool]string{true: " is", false: " are"}[len(others) == 1]+
			" there with other content. Overwrite?"); err != nil {
			return nil, err
		}
	}
	return lacking, nil
}

// download writes a file beside its target and moves it there once its checksum was
// seen to be right. What came before it broke off stays, and the next one goes on from
// there. No link leads it out of the folder, whoever may write there too.
func download(ctx context.Context, c *client.Client, f api.File, target string, bars *progress) error {
	dir, err := os.OpenRoot(filepath.Dir(target))
	if err != nil {
		return err
	}
	defer dir.Close()
	want := f.Checksums["sha256"]
	name := "." + filepath.Base(target) + "." + want[:min(12, len(want))] + ".part"
	part, err := dir.OpenFile(name, os.O_RDWR|os.O_CREATE, 0o644)
	if err != nil {
		return err
	}
	defer part.Close()
	if lockFile(part) != nil || !is(dir, name, part) {
		return fmt.Errorf("%s is being fetched by another crelvo; wait for it, or stop it", target)
	}
	digest := sha256.New()
	have, err := io.Copy(digest, part)
	if err != nil {
		return err
	}
	if whole := have == f.Size && hex.EncodeToString(digest.Sum(nil)) == want; !whole {
		if have >= f.Size {
			have = 0 // it is wrong, so all of it comes again
		}
		if err := fetchRest(ctx, c, f, part, digest, have, bars); err != nil {
			if stat, statErr := part.Stat(); statErr == nil && stat.Size() == 0 {
				_ = dir.Remove(name) // nothing is lost with it
			}
			return err
		}
	}
	if got := hex.EncodeToString(digest.Sum(nil)); got != want {
		_ = dir.Remove(name) // else the next one finds out the same
		return fmt.Errorf("%s arrived damaged: its SHA-256 is %s, not %s. Fetch it again", f.Name, got, want)
	}
	// While it is locked nobody takes it for one to go on with; some systems do not move
	// what is open.
	if dir.Rename(name, filepath.Base(target)) == nil {
		return nil
	}
	if err := part.Close(); err != nil {
		return err
	}
	return dir.Rename(name, filepath.Base(target))
}

// is tells whether a name in a folder is still that of an open file.
func is(dir *os.Root, name string, open *os.File) bool {
	there, err := dir.Lstat(name)
	stat, statErr := open.Stat()
	return err == nil && statErr == nil && os.SameFile(there, stat)
}

// fetchRest appends to what is there of a file, or begins anew if the server does.
func fetchRest(
	ctx context.Context, c *client.Client, f api.File, part *os.File, digest hash.Hash, have int64, bars *progress,
) error {
	body, begins, left, err := c.Download(ctx, f.Path, have)
	if err != nil {
		return err
	}
	defer body.Close()
	if begins == 0 {
		digest.Reset()
	}
	if err := part.Truncate(begins); err != nil {
		return err
	}
	if _, err := part.Seek(begins, io.SeekStart); err != nil {
		return err
	}
	hashing := hashBeside(digest)
	defer hashing.end()
	if _, err = io.CopyBuffer(io.MultiWriter(part, hashing), bars.follow(f.Name, left, body),
		make([]byte, besideChunk)); err != nil && ctx.Err() == nil {
		err = &client.Unreachable{Server: c.Server, Err: err}
	}
	return err
}

// beside computes a digest of what is written to it beside whoever writes.
type beside struct {
	full, empty chan []byte
	ended       chan struct{}
}

// besideChunk is in which pieces that is done, and besideChunks how far the writer may
// be ahead.
const besideChunk, besideChunks = 256 << 10, 8

func hashBeside(digest hash.Hash) *beside {
	b := &beside{full: make(chan []byte, besideChunks), empty: make(chan []byte, besideChunks),
		ended: make(chan struct{})}
	for range besideChunks {
		b.empty <- make([]byte, besideChunk)
	}
	go func() {
		defer close(b.ended)
		for chunk := range b.full {
			digest.Write(chunk)
			b.empty <- chunk
		}
	}()
	return b
}

// Write implements io.Writer.
func (b *beside) Write(p []byte) (int, error) {
	for rest := p; len(rest) > 0; {
		chunk := (<-b.empty)[:besideChunk]
		n := copy(chunk, rest)
		rest = rest[n:]
		b.full <- chunk[:n]
	}
	return len(p), nil
}

// end waits until all of it is in the digest. Nothing may be written any more.
func (b *beside) end() {
	close(b.full)
	<-b.ended
}
