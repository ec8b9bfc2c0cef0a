package generic

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/fileset"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
)

// put takes one file of a version, which is published when its sender says so; or an archive as a version.
func (g Generic) put(c *ecosystem.Call) error {
	segments := strings.SplitN(strings.TrimSuffix(c.Rest, "/"), "/", 3)
	if len(segments) < 2 || segments[0] == setsDoor {
		return fault.New(fault.NotFound, "no-such-address", "nothing can be put at %.200q", c.Rest).
			WithHint("PUT a file to NAME/VERSION/PATH, or an archive to NAME/VERSION?unpack=tar.gz.")
	}
	k, err := houseKey(c, segments[0], segments[1])
	if err != nil {
		return err
	}
	if form := c.QueryParam("unpack"); form != "" || len(segments) == 2 {
		return g.unpack(c, k, segments[1], form)
	}
	e, err := g.putFile(c, k, segments[1], segments[2])
	if err != nil {
		return err
	}
	if c.QueryParam("complete") != "" {
		return g.complete(c, k, segments[1])
	}
	return c.String(http.StatusAccepted, fmt.Sprintf("%s arrived, %d bytes, SHA-256 %x.\nIt is published with its version: "+
		"send the other files, and then POST to %s%s/%s, within a day.\n", e.Path, e.Size, e.Digest, c.Base(), segments[0],
		segments[1]))
}

// putFile takes one file.
func (g Generic) putFile(c *ecosystem.Call, k catalog.PackageKey, version, at string) (e fileset.Entry, err error) {
	if err := fileset.CheckPath(at, false); err != nil {
		return e, fault.New(fault.Invalid, "bad-path", "%v", err)
	}
	ctx := c.Request().Context()
	w, err := newWriting(ctx, taker(c).Packs(c.Caller, k))
	if err != nil {
		return e, err
	}
	e, err = w.file(whole{c.Request().Body})
	if err := w.end(err); err != nil {
		return e, err
	}
	e.Path, e.Mode, e.Modified = at, 0o644, time.Now().UTC().Truncate(time.Second)
	if text := c.QueryParam("mode"); text != "" {
		mode, err := strconv.ParseUint(text, 8, 16)
		if err != nil || mode > 0o777 {
			return e, fault.New(fault.Invalid, "bad-mode", "%.20q is no mode such as 755", text)
		}
		e.Mode = uint16(mode)
	}
	return e, taker(c).Gather(ctx, c.Caller, k, version, fileset.AppendEntry(nil, e))
}

// whole is a body that must arrive whole.
type whole struct{ io.Reader }

// Read implements io.Reader.
func (w whole) Read(p []byte) (int, error) {
	n, err := w.Reader.Read(p)
	if err != nil && err != io.EOF {
		err = ecosystem.CutUpload(err)
	}
	return n, err
}

// publishGathered publishes what its sender has put one by one.
func (g Generic) publishGathered(c *ecosystem.Call) error {
	segments := strings.Split(strings.Trim(c.Rest, "/"), "/")
	if len(segments) != 2 || segments[0] == setsDoor {
		return fault.New(fault.NotFound, "no-such-address", "nothing can be posted to %.200q", c.Rest).
			WithHint("POST to NAME/VERSION publishes the files that were put there.")
	}
	k, err := houseKey(c, segments[0], segments[1])
	if err != nil {
		return err
	}
	return g.complete(c, k, segments[1])
}

func (g Generic) complete(c *ecosystem.Call, k catalog.PackageKey, version string) error {
	ctx := c.Request().Context()
	by := map[string]fileset.Entry{}
	err := taker(c).Gathered(ctx, c.Caller, k, version, func(r io.Reader) error {
		return fileset.ReadEntries(r, func(e fileset.Entry) error {
			by[e.Path] = e // what was sent last counts
			return nil
		})
	})
	if err != nil {
		return err
	}
	entries := make([]fileset.Entry, 0, len(by))
	for _, e := range by {
		entries = append(entries, e)
	}
	if err := g.publishEntries(c, k, version, entries); err != nil {
		return err
	}
	return taker(c).DropGathered(ctx, c.Caller, k, version)
}

// publishEntries publishes a version of entries whose chunks are there, and answers.
func (g Generic) publishEntries(
	c *ecosystem.Call, k catalog.PackageKey, version string, entries []fileset.Entry,
) error {
	manifest, err := fileset.Manifest(entries, c.QueryParam("description"))
	if err != nil {
		return badManifest(err)
	}
	ctx := c.Request().Context()
	staged, err := c.Desk.Stage(ctx, c.Repository, bytes.NewReader(manifest), int64(len(manifest)), manifestFile)
	if err != nil {
		return err
	}
	defer staged.Discard()
	done, err := g.publish(c, k, version, staged, nil, c.QueryParams()["label"])
	if err != nil {
		return err
	}
	said := "is published in"
	if done.Same {
		said = "was there already, byte for byte, in"
	}
	return c.String(http.StatusCreated, fmt.Sprintf("%s %s %s: %d files, %d bytes\n",
		purl.PURL{Ecosystem: Name, Name: k.Name, Version: version}, said, done.Repository, done.Files, done.Bytes))
}

// unpacked are the forms of archives that can become a set, and those that a set can be had in.
var forms = []string{"tar", "tar.gz", "tar.zst", "zip"}

// unpack publishes an archive as a version.
func (g Generic) unpack(c *ecosystem.Call, k catalog.PackageKey, version, form string) error {
	if form == "" {
		form = map[string]string{"application/zip": "zip", "application/x-tar": "tar", "application/gzip": "tar.gz",
			"application/zstd": "tar.zst"}[contentType(c)]
	}
	if !slices.Contains(forms, form) {
		return fault.New(fault.Invalid, "bad-form", "an archive of the form %.20q cannot become a file set", form).
			WithHint("Say which it is: ?unpack=%s.", strings.Join(forms, ", ?unpack="))
	}
	ctx := c.Request().Context()
	w, err := newWriting(ctx, taker(c).Packs(c.Caller, k))
	if err != nil {
		return err
	}
	var entries []fileset.Entry
	by := map[string]fileset.Entry{}
	err = walk(ctx, c, form, func(e fileset.Entry, r io.Reader) error {
		if e.Kind == fileset.File {
			made, known := by[e.Target]
			if r == nil && !known {
				return fmt.Errorf("its %.100q is another name of %.100q, which does not come before it", e.Path, e.Target)
			}
			if e.Target = ""; r != nil {
				if made, err = w.file(r); err != nil {
					return err
				}
				by[e.Path] = made
			}
			e.Size, e.Digest, e.Chunks = made.Size, made.Digest, made.Chunks
		}
		entries = append(entries, e)
		return nil
	})
	if err := w.end(err); err != nil {
		return badArchive(form, err)
	}
	return g.publishEntries(c, k, version, entries)
}

func badArchive(form string, err error) error {
	var told *fault.Error
	if errors.As(err, &told) {
		return told
	}
	return fault.New(fault.Invalid, "bad-archive", "what was sent cannot be unpacked as %s: %v", form, err).
		WithHint("Nothing of it was published; the archive may have been cut.")
}
