package cli

import (
	"bytes"
	"cmp"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"
	"github.com/vbauerster/mpb/v8"

	"crelvo/internal/api"
	"crelvo/internal/client"
	"crelvo/internal/core/fileset"
	"crelvo/internal/core/purl"
)

// fileSet is the ecosystem of file sets.
const fileSet = "generic"

// setFlags are those of publish for file sets.
type setFlags struct {
	exclude, labels []string
	description     string
	anyNames        bool
	sign            string
}

func (f *setFlags) add(cmd *cobra.Command) {
	cmd.Flags().StringArrayVar(&f.exclude, "exclude", nil, "of a file set: leave out what matches, such as '*.tmp' or 'cache/'; "+
		"may be repeated")
	cmd.Flags().StringArrayVar(&f.labels, "label", nil, "of a file set: give it this label; may be repeated")
	cmd.Flags().StringVar(&f.description, "description", "", "of a file set: what it is")
	cmd.Flags().StringVar(&f.sign, "sign", "", "of a file set: sign its manifest with this key of gpg")
	cmd.Flags().BoolVar(&f.anyNames, "any-names", false, "of a file set: take names that some systems cannot hold")
}

// publishSet publishes files and folders as a version of a file set.
func (s *session) publishSet(cmd *cobra.Command, paths []string, to string, as purl.PURL, f setFlags) error {
	if as.Version == "" {
		return usageError{fmt.Errorf("--as %s has no version: write %s@VERSION", as, as)}
	}
	c, err := s.client()
	if err != nil {
		return err
	}
	shown := newSetProgress(cmd.ErrOrStderr(), as.Name+" "+as.Version)
	set := client.SendSet{SetFolder: client.SetFolder{Paths: paths, Exclude: f.exclude,
		AnyNames: f.anyNames}, FileSet: client.FileSet{Repository: to, Name: as.Name, Version: as.Version},
		Description: f.description, Labels: f.labels, Told: shown.told, Say: shown.say}
	if f.sign != "" {
		set.Sign = func(ctx context.Context, manifest []byte) ([]byte, error) { return gpgSigns(ctx, f.sign, manifest) }
	}
	done, err := c.PublishSet(cmd.Context(), set)
	shown.end()
	if err != nil {
		return err
	}
	w := cmd.OutOrStdout()
	return s.show(w, done, func() {
		said := "Published"
		if done.Same {
			said = "Was there already, byte for byte:"
		}
		fmt.Fprintf(w, "%s %s in %s\n", said, done.PURL, done.Repository)
		fields(w, "files", fmt.Sprintf("%d, %s", done.Files, api.Bytes(done.Bytes)), "sent", sentOf(done.Sent, done.Bytes),
			"manifest", "SHA-256 "+done.Manifest)
	})
}

// gpgSigns has gpg make an armored detached signature.
func gpgSigns(ctx context.Context, key string, content []byte) ([]byte, error) {
	var out, errs bytes.Buffer
	gpg := exec.CommandContext(ctx, "gpg", "--batch", "--armor", "--detach-sign", "--local-user", key)
	gpg.Stdin, gpg.Stdout, gpg.Stderr = bytes.NewReader(content), &out, &errs
	if err := gpg.Run(); errors.Is(err, exec.ErrNotFound) {
		return nil, errors.New("gpg, which signs, is not on this machine")
	} else if err != nil {
		return nil, fmt.Errorf("gpg does not sign with %s: %s", key, cmp.Or(strings.TrimSpace(errs.String()), err.Error()))
	}
	return out.Bytes(), nil
}

// sentOf says how much of something went over the network.
func sentOf(moved, all int64) string {
	if all == 0 || moved >= all {
		return api.Bytes(moved)
	}
	return fmt.Sprintf("%s; %s were there (%.1f %%)", api.Bytes(moved), api.Bytes(all-moved),
		100*float64(all-moved)/float64(all))
}

// fetchFlags are those of fetch for file sets.
type fetchFlags struct {
	into          string
	only, like    []string
	check, delete bool
	signedBy      string
}

func (f *fetchFlags) add(cmd *cobra.Command) {
	cmd.Flags().StringVar(&f.into, "into", "", "of a file set: the folder that becomes it; left out: NAME-VERSION")
	cmd.Flags().StringArrayVar(&f.only, "only", nil, "of a file set: what matches, such as 'tiles/north/*'; may be repeated")
	cmd.Flags().StringArrayVar(&f.like, "like", nil, "of a file set: a folder that has some of it, such as the version before; "+
		"may be repeated")
	cmd.Flags().BoolVar(&f.check, "check", false, "of a file set: only tell how the folder differs from it")
	cmd.Flags().StringVar(&f.signedBy, "signed-by", "", "of a file set: take it only if the OpenPGP key in this file signed it")
	cmd.Flags().BoolVar(&f.delete, "delete", false, "of a file set: remove from the folder what it does not have")
}

// fetchSet makes a folder a version of a file set.
func (s *session) fetchSet(cmd *cobra.Command, c *client.Client, asked purl.PURL, in string, f fetchFlags) error {
	set, v, err := setOf(cmd.Context(), c, asked, in)
	if err != nil {
		return err
	}
	into := cmp.Or(f.into, asked.Name+"-"+v.Version)
	shown := newSetProgress(cmd.ErrOrStderr(), asked.Name+" "+v.Version)
	wish := client.FetchSet{FileSet: set, Into: into, Only: f.only, Like: f.like, Delete: f.delete, Told: shown.told,
		Say: shown.say}
	if f.signedBy != "" {
		raw, err := os.ReadFile(f.signedBy)
		if err != nil {
			return err
		}
		if !bytes.Contains(raw, []byte("PGP PUBLIC KEY")) {
			return fmt.Errorf("%s is no armored OpenPGP key; gpg --armor --export KEY writes one", f.signedBy)
		}
		wish.SignedBy = string(raw)
	}
	if f.check {
		return s.checkSet(cmd, c, wish, v.PURL)
	}
	done, err := c.FetchSet(cmd.Context(), wish, func(extra []string) error {
		return s.confirm(cmd, fmt.Sprintf("%d files in %s are not in %s, such as %s. Remove them?", len(extra), into, v.PURL,
			extra[0]))
	})
	shown.end()
	if err != nil {
		return err
	}
	w := cmd.OutOrStdout()
	return s.show(w, done, func() {
		fmt.Fprintf(w, "%s is %s\n", into, v.PURL)
		fields(w, "files", fmt.Sprintf("%d, %s", done.Files, api.Bytes(done.Bytes)),
			"written", fmt.Sprintf("%d new, %d changed", len(done.Missing), len(done.Changed)),
			"fetched", sentOf(done.Fetched, done.Bytes))
		if n := len(done.Extra); n > 0 && !f.delete {
			fmt.Fprintf(w, "%d files are there besides, such as %s; --delete removes them.\n", n, done.Extra[0])
		}
	})
}

// showSet lists the files of a version of a file set.
func (s *session) showSet(cmd *cobra.Command, asked purl.PURL, in string) error {
	if asked.Ecosystem != fileSet {
		return usageError{fmt.Errorf("--files is for file sets; crelvo show %s lists the files of a version", asked)}
	}
	c, err := s.client()
	if err != nil {
		return err
	}
	set, _, err := setOf(cmd.Context(), c, asked, in)
	if err != nil {
		return err
	}
	all := []api.SetEntry{}
	err = c.ManifestOf(cmd.Context(), set, func(fileset.Header) error { return nil }, func(e fileset.Entry) error {
		one := api.SetEntry{Name: e.Path, Kind: e.Kind.String(), Bytes: e.Size, Target: e.Target, Modified: &e.Modified}
		if e.Kind != fileset.Link {
			one.Mode = fmt.Sprintf("%o", e.Mode)
		}
		if e.Kind == fileset.File {
			one.SHA256 = hex.EncodeToString(e.Digest[:])
		}
		all = append(all, one)
		return nil
	})
	if err != nil {
		return err
	}
	w := cmd.OutOrStdout()
	return s.show(w, all, func() {
		rows := make([][]string, len(all))
		for i, e := range all {
			size, digest := api.Bytes(e.Bytes), e.SHA256
			switch {
			case e.Target != "":
				size, digest = "link", "leads to "+e.Target
			case e.SHA256 == "":
				size, digest = "folder", ""
			}
			rows[i] = []string{e.Name, size, e.Mode, timeText(*e.Modified), digest}
		}
		table(w, []string{"PATH", "SIZE", "MODE", "CHANGED", "SHA-256"}, []int{1}, rows)
	})
}

// setOf finds the version that is meant, of a snapshot the newest upload.
func setOf(
	ctx context.Context, c *client.Client, asked purl.PURL, in string,
) (set client.FileSet, v api.VersionGroup, err error) {
	p, err := c.Package(ctx, asked.String(), in)
	if err != nil {
		return set, v, err
	}
	v = chooseVersion(p.Versions)
	set = client.FileSet{Repository: cmp.Or(in, v.Repository), Name: asked.Name, Version: v.Version}
	if len(v.Uploads) > 0 {
		set.Version = v.Uploads[0].Name
	}
	return set, v, nil
}

// errDiffers is that a folder is not what it was compared with; that was said.
type errDiffers struct{ what string }

func (e errDiffers) Error() string { return e.what }

func (s *session) checkSet(cmd *cobra.Command, c *client.Client, wish client.FetchSet, version string) error {
	found, err := c.CompareSet(cmd.Context(), wish)
	if err != nil {
		return err
	}
	w := cmd.OutOrStdout()
	if err := s.show(w, found, func() {
		var rows [][]string
		for _, some := range []struct {
			what  string
			paths []string
		}{{"missing", found.Missing}, {"changed", found.Changed}, {"not in it", found.Extra}} {
			for _, path := range some.paths {
				rows = append(rows, []string{some.what, path})
			}
		}
		if len(rows) == 0 {
			fmt.Fprintf(w, "%s has the %d files of %s, %s, as they should be.\n", wish.Into, found.Files, version,
				api.Bytes(found.Bytes))
			return
		}
		table(w, []string{"IS", "PATH"}, nil, rows)
	}); err != nil {
		return err
	}
	if n := len(found.Missing) + len(found.Changed) + len(found.Extra); n > 0 {
		return errDiffers{fmt.Sprintf("%s differs from %s in %d files", wish.Into, version, n)}
	}
	return nil
}

// setProgress shows how far a set is: on a terminal by a bar, else by a line now and then.
type setProgress struct {
	*progress
	name        string
	mu          sync.Mutex
	bar         *mpb.Bar
	began, said time.Time
}

func newSetProgress(w io.Writer, name string) *setProgress {
	return &setProgress{progress: newProgress(w), name: name, began: time.Now(), said: time.Now()}
}

func (p *setProgress) told(is client.SetProgress) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.bars != nil {
		if p.bar == nil {
			p.bar = p.progress.bar(p.name, is.Total)
		}
		p.bar.SetCurrent(is.Done)
		return
	}
	if time.Since(p.said) < tellEvery || is.Total == 0 {
		return
	}
	p.said = time.Now()
	took := time.Since(p.began)
	rate := float64(is.Done) / took.Seconds()
	fmt.Fprintf(p.to, "%s: %s of %s (%d %%), %s/s, %s left; %s over the network\n", p.name, api.Bytes(is.Done),
		api.Bytes(is.Total), 100*is.Done/is.Total, api.Bytes(int64(rate)),
		time.Duration(float64(is.Total-is.Done)/max(rate, 1)*float64(time.Second)).Round(time.Second), api.Bytes(is.Moved))
}

func (p *setProgress) say(format string, args ...any) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.bars == nil {
		fmt.Fprintf(p.to, format+"\n", args...)
	}
}

func (p *setProgress) end() { p.wait() }
