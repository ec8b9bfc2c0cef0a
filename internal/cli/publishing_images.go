package cli

import (
	"cmp"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"crelvo/internal/api"
	"crelvo/internal/client"
	"crelvo/internal/core/purl"
)

// imageName is what an image is called, without the host that it was called at.
func imageName(of string) (name, tag string) {
	if first, rest, ok := strings.Cut(of, "/"); ok && (strings.ContainsAny(first, ".:") || first == "localhost") {
		of = strings.TrimPrefix(rest, "library/")
	}
	if at := strings.LastIndexByte(of, ':'); at > strings.LastIndexByte(of, '/') {
		return of[:at], of[at+1:]
	}
	return of, ""
}

// named is under which name and tag an image is published: what as says, and what that leaves
// open as the archive does.
func named(i client.NamedImage, as purl.PURL) (name, tag string, err error) {
	for _, said := range i.Names {
		n, t := imageName(said)
		if t == "" && !strings.Contains(said, "/") {
			n, t = "", said // a layout may say the tag alone
		}
		name, tag = cmp.Or(name, n), cmp.Or(tag, t)
	}
	if as.Name != "" {
		name, tag = strings.TrimPrefix(as.Namespace+"/"+as.Name, "/"), cmp.Or(as.Qualifiers["tag"], as.Version, tag)
	}
	switch {
	case name == "":
		err = usageError{errors.New("the archive does not say what its image is called: name it, as in --as pkg:oci/berth-planner@1.5.0")}
	case tag == "" || strings.Contains(tag, ":"):
		err = usageError{fmt.Errorf("under which tag is not said: name it, as in --as pkg:oci/%s@1.5.0", name)}
	}
	return name, tag, err
}

// publishImages pushes the images of an archive; each is an index or an image with its tag.
func (s *session) publishImages(cmd *cobra.Command, images *client.Images, to string, as purl.PURL) error {
	if as.Name != "" && as.Ecosystem != "oci" {
		return usageError{fmt.Errorf("it has images, which are no %s packages", as.Ecosystem)}
	}
	if len(images.All) == 0 {
		return errors.New("the archive has no images")
	}
	if len(images.All) > 1 && as.Name != "" {
		return usageError{fmt.Errorf("the archive has %d images, which cannot all be %s: leave --as out", len(images.All),
			as)}
	}
	c, err := s.client()
	if err != nil {
		return err
	}
	type line struct{ name, tag string }
	lines := make([]line, len(images.All))
	for n, i := range images.All {
		if lines[n].name, lines[n].tag, err = named(i, as); err != nil {
			return err
		}
	}
	var all []api.Published
	for n, i := range images.All {
		bars := newProgress(cmd.ErrOrStderr())
		bar := bars.count(lines[n].name + ":" + lines[n].tag)
		digest, _, err := c.PushImage(cmd.Context(), i, to, lines[n].name, lines[n].tag, bar)
		bars.wait()
		if err != nil {
			return err
		}
		of := purl.PURL{Ecosystem: "oci", Name: lines[n].name, Version: digest,
			Qualifiers: map[string]string{"tag": lines[n].tag}}
		if at := strings.LastIndexByte(of.Name, '/'); at >= 0 {
			of.Namespace, of.Name = of.Name[:at], of.Name[at+1:]
		}
		all = append(all, api.Published{PURL: of.String(), Repository: to, Name: lines[n].tag, Files: []api.PublishedFile{}})
	}
	w := cmd.OutOrStdout()
	return s.show(w, all, func() {
		for _, p := range all {
			fmt.Fprintf(w, "Published %s in %s\n", p.PURL, p.Repository)
		}
	})
}

// count shows a bar by numbers that are told.
func (p *progress) count(name string) func(done, all int64) {
	if p.bars == nil {
		said := time.Now()
		return func(done, all int64) {
			if time.Since(said) < tellEvery || all == 0 {
				return
			}
			said = time.Now()
			fmt.Fprintf(p.to, "%s: %s of %s (%d %%)\n", name, api.Bytes(done), api.Bytes(all), 100*done/all)
		}
	}
	bar := p.bar(name, 0)
	return func(done, all int64) {
		bar.SetTotal(all, false)
		bar.SetCurrent(done)
	}
}

// fetchImage writes an image into an archive in a folder.
func (s *session) fetchImage(cmd *cobra.Command, c *client.Client, asked purl.PURL, in, dir, platform string) error {
	p, err := c.Package(cmd.Context(), asked.String(), in)
	if err != nil {
		return err
	}
	v := chooseVersion(p.Versions)
	of, err := purl.Parse(v.PURL)
	if err != nil {
		return err
	}
	name := strings.TrimPrefix(of.Namespace+"/"+of.Name, "/")
	tag := cmp.Or(asked.Qualifiers["tag"], of.Qualifiers["tag"])
	if tag == "" && !strings.Contains(asked.Version, ":") {
		tag = asked.Version
	}
	label := cmp.Or(tag, of.Version)
	file := filepath.Join(dir, of.Name+"-"+strings.ReplaceAll(purl.ShortVersion(label), ":", "-")+".tar")
	if platform != "" {
		file = strings.TrimSuffix(file, ".tar") + "-" + strings.ReplaceAll(platform, "/", "-") + ".tar"
	}
	if _, err := os.Stat(file); err == nil {
		if err := s.confirm(cmd, file+" is there. Overwrite?"); err != nil {
			return err
		}
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	part, err := os.OpenFile(filepath.Join(dir, "."+filepath.Base(file)+".part"), os.O_WRONLY|os.O_CREATE, 0o644)
	if err != nil {
		return err
	}
	if lockFile(part) != nil { // and what stands in it is the other's
		return errors.Join(fmt.Errorf("%s is being fetched by another crelvo; wait for it, or stop it", file), part.Close())
	}
	defer os.Remove(part.Name()) // nothing, once it was moved
	if err := part.Truncate(0); err != nil {
		return errors.Join(err, part.Close())
	}
	bars := newProgress(cmd.ErrOrStderr())
	// By its digest, so that it is this very one, whatever becomes of its tag meanwhile.
	_, err = c.PullImage(cmd.Context(), v.Repository, name, of.Version, tag, platform, part, bars.follow)
	bars.wait()
	if err = errors.Join(err, part.Close()); err != nil {
		return err
	}
	if err := os.Rename(part.Name(), file); err != nil {
		return err
	}
	w := cmd.OutOrStdout()
	return s.show(w, []string{file}, func() { fmt.Fprintln(w, file) })
}
