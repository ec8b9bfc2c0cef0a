package helm

import (
	"context"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"path"
	"slices"
	"strings"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/ecosystem"
)

// archiveType and provenanceType are media types of what is answered.
const archiveType, provenanceType = "application/gzip", "text/plain; charset=utf-8"

// Routes implements ecosystem.Ecosystem. Helm itself only reads; charts are sent as files,
// by PUT to their name, or by POST as they are or in a form.
func (k Helm) Routes() []ecosystem.Route {
	return append(ecosystem.Reads(map[string]func(*ecosystem.Call) error{"/" + indexFile: k.index, "/*": k.get}),
		ecosystem.Route{Method: http.MethodPut, Path: "/*", Action: access.Publish, Serve: k.put},
		ecosystem.Route{Method: http.MethodPost, Path: "/*", Action: access.Publish, Serve: k.post})
}

// Refuse implements ecosystem.Ecosystem: helm shows the status line and nothing else, and
// curl, with which charts are sent, the body.
func (Helm) Refuse(c *ecosystem.Call, err error) error { return c.RefuseInReason(fault.Of(err)) }

// get answers with a file at its own address, or below the root by its name alone; anything
// else is a folder for people.
func (k Helm) get(c *ecosystem.Call) error {
	if q, ok := k.Question(c.Repository, c.Rest); ok {
		return k.Answer(c, q, typeOf(q.Name))
	}
	asked := k.named(c.Repository, c.Rest)
	if len(asked) == 0 {
		return c.ShowFolder()
	}
	for _, q := range asked[1:] {
		found, err := c.Desk.File(c.Request().Context(), q)
		if err == nil {
			return c.SendFile(found, typeOf(q.Name), false)
		}
		if !errors.Is(err, ecosystem.ErrNoFile) {
			return err
		}
	}
	return k.Answer(c, asked[0], typeOf(asked[0].Name))
}

func typeOf(name string) string {
	if strings.HasSuffix(name, "."+provenance) {
		return provenanceType
	}
	return archiveType
}

// named are the files that a name may mean: where the version begins in it, it does not
// say. The likeliest is the first.
func (k Helm) named(r catalog.Repository, name string) (all []catalog.FileQuestion) {
	stem, ok := strings.CutSuffix(strings.TrimSuffix(name, "."+provenance), "."+archive)
	if !ok || strings.Contains(name, "/") {
		return nil
	}
	for i := 1; i+1 < len(stem) && len(all) < 5; i++ {
		if next := stem[i+1]; stem[i] != '-' || next != 'v' && (next < '0' || next > '9') {
			continue
		}
		q := catalog.FileQuestion{Key: r.Key(Name, "", stem[:i]), Version: stem[i+1:], Name: name}
		if _, err := k.PlaceOf(q); err == nil {
			all = append(all, q)
		}
	}
	return all
}

// put takes one file.
func (k Helm) put(c *ecosystem.Call) error {
	f, err := k.stage(c, path.Base("/"+c.Rest), c.Request().Body, c.Request().ContentLength)
	if err != nil {
		return err
	}
	defer f.Discard()
	if said := path.Base("/" + c.Rest); said != f.Place.FileName && said != "/" {
		return fault.New(fault.Invalid, "archive-disagrees", "what was sent as %.100q is %s %s", said, f.Place.Name,
			f.Place.Version).WithHint("Send it to %s%s.", c.Base(), f.Place.FileName)
	}
	return k.publish(c, f)
}

// maxFormFiles is how many files a form may have: a chart, and its provenance.
const maxFormFiles = 2

// post takes one file as it is, or a chart with its provenance in a form.
func (k Helm) post(c *ecosystem.Call) error {
	r := c.Request()
	if kind, _, err := mime.ParseMediaType(r.Header.Get("Content-Type")); err != nil || kind != "multipart/form-data" {
		f, err := k.stage(c, "what was sent", r.Body, r.ContentLength)
		if err != nil {
			return err
		}
		defer f.Discard()
		return k.publish(c, f)
	}
	form, err := r.MultipartReader()
	if err != nil {
		return fault.New(fault.Invalid, "bad-form", "the form cannot be read: %v", err)
	}
	var files []ecosystem.StagedFile
	defer func() {
		for _, f := range files {
			f.Discard()
		}
	}()
	for {
		part, err := form.NextPart()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return ecosystem.CutUpload(err)
		}
		if part.FileName() == "" {
			continue // a field that says something, as forms have
		}
		if len(files) == maxFormFiles {
			return fault.New(fault.Invalid, "several-versions", "a form has a chart, and perhaps its provenance, and no more")
		}
		f, err := k.stage(c, part.FileName(), part, -1)
		if err != nil {
			return err
		}
		files = append(files, f)
	}
	return k.publish(c, files...)
}

// stage takes a file, and tells what it is.
func (k Helm) stage(
	c *ecosystem.Call, name string, body io.Reader, length int64,
) (f ecosystem.StagedFile, err error) {
	ctx := c.Request().Context()
	staged, err := c.Desk.Stage(ctx, c.Repository, body, length, name)
	if err != nil {
		return f, err
	}
	if f, err = k.arrived(ctx, name, staged); err != nil {
		staged.Discard()
	}
	return f, err
}

// arrived tells what a file is.
func (k Helm) arrived(ctx context.Context, name string, staged ecosystem.Staged) (f ecosystem.StagedFile, err error) {
	f.Staged = staged
	if f.Place, _, err = k.Arrived(ctx, name, staged); err != nil {
		return f, err
	}
	signed, err := isProvenance(staged)
	if signed {
		f.Place = k.At("", f.Place.Name, f.Place.Version, provenance)
	}
	return f, err
}

// publish records what was sent as one version. Provenance alone belongs to a chart that is
// there.
func (k Helm) publish(c *ecosystem.Call, files ...ecosystem.StagedFile) error {
	if len(files) == 0 {
		return fault.New(fault.Invalid, "no-file", "nothing was sent").
			WithHint("Send a chart: curl --user NAME:TOKEN --upload-file NAME-VERSION.tgz %s", c.Base())
	}
	ctx, place := c.Request().Context(), files[0].Place
	if err := oneVersion(files); err != nil {
		return fault.New(fault.Invalid, "several-versions", "%v", err).WithHint("Send charts one after the other.")
	}
	target, err := c.Desk.Target(c.Caller, c.Repository, place.Snapshot)
	if err != nil {
		return err
	}
	alone := len(files) == 1 && place.Extension == provenance
	if alone {
		p, err := c.Desk.Package(ctx, place.Key(Name, target))
		if err != nil && !errors.Is(err, ecosystem.ErrNoPackage) {
			return err
		}
		var there []catalog.Version
		if p != nil {
			there = slices.DeleteFunc(slices.Clone(p.Versions), func(v catalog.Version) bool {
				return v.Version != place.Version
			})
		}
		if len(there) == 0 {
			return fault.New(fault.Conflict, "package-first", "%s does not hold %s %s, so its provenance has no place",
				target.Name, place.Name, place.Version).WithHint("Send the chart first, or both in one form.")
		}
		var charts []catalog.Digests
		for _, v := range there {
			for _, f := range v.Files {
				if f.Extension == archive {
					charts = append(charts, f.Digests)
				}
			}
		}
		if err := proven(files[0], charts...); err != nil {
			return err
		}
	} else if err := provenOf(files); err != nil {
		return err
	}
	if _, err := c.Desk.Publish(ctx, c.Caller, target, k,
		ecosystem.Publication{Files: files, Joins: alone, Beside: alone}); err != nil {
		return err
	}
	return c.String(http.StatusCreated, fmt.Sprintf("%s %s is published in %s\n", place.Name, place.Version, target.Name))
}

// provenOf checks that provenance which came with a chart tells of that very chart.
func provenOf(files []ecosystem.StagedFile) error {
	if len(files) < 2 {
		return nil
	}
	chart, proof := files[0], files[1]
	if chart.Place.Extension == provenance {
		chart, proof = proof, chart
	}
	return proven(proof, chart.Digests())
}

// proven checks that provenance tells of one of some charts.
func proven(proof ecosystem.StagedFile, charts ...catalog.Digests) error {
	text := make([]byte, proof.Size())
	if _, err := proof.ReadAt(text, 0); err != nil {
		return err
	}
	for _, d := range charts {
		if strings.Contains(string(text), d.Hex("sha256")) {
			return nil
		}
	}
	return fault.New(fault.Invalid, "archive-disagrees", "the provenance does not name the digest of the chart").
		WithHint("Sign the chart as it is: helm package --sign.")
}
