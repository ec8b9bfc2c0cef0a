package pypi

import (
	"encoding/hex"
	"io"
	"mime/multipart"
	"net/http"
	"path"
	"strings"

	"golang.org/x/crypto/blake2b"

	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
)

// The limits of the upload form, in bytes and in fields.
const maxForm, maxFormFields = 16 << 20, 5_000

// form is what a client uploads
// (https://docs.pypi.org/api/upload/).
type form struct {
	fields          map[string]string // the first value of each
	name            string
	file, signature ecosystem.Staged
	blake2          string
}

func (f *form) discard() {
	for _, staged := range []ecosystem.Staged{f.file, f.signature} {
		if staged != nil {
			staged.Discard()
		}
	}
}

// upload takes a file as twine sends it.
func (y PyPI) upload(c *ecosystem.Call) error {
	f := &form{fields: map[string]string{}}
	defer f.discard()
	if err := f.read(c); err != nil {
		return err
	}
	place, err := f.check()
	if err != nil {
		return err
	}
	target, err := c.Desk.Target(c.Caller, c.Repository, place.Snapshot)
	if err != nil {
		return err
	}
	p := ecosystem.Publication{Joins: true, Files: []ecosystem.StagedFile{{Place: place, Staged: f.file}}}
	if f.signature != nil {
		signed := place
		signed.FileName += "." + signature
		signed.Extension += "." + signature
		p.Files = append(p.Files, ecosystem.StagedFile{Place: signed, Staged: f.signature})
	}
	receipt, err := c.Desk.Publish(c.Request().Context(), c.Caller, target, y, p)
	if err != nil {
		return err
	}
	if receipt.Same {
		return c.String(http.StatusOK, "These very bytes were here already.\n")
	}
	return c.String(http.StatusOK, "Published.\n")
}

// read reads the form, and stages the files as they come.
func (f *form) read(c *ecosystem.Call) error {
	cut := func(err error) error {
		return fault.New(fault.Invalid, "cut-upload", "the upload did not arrive whole").
			WithHint("Nothing of it was kept; send it again.").WithCause(err)
	}
	parts, err := c.Request().MultipartReader()
	if err != nil {
		return fault.New(fault.Invalid, "no-form", "this address takes uploads as twine sends them").
			WithHint("twine upload --repository-url %s dist/*", c.Base())
	}
	left := int64(maxForm)
	for n := 0; ; n++ {
		part, err := parts.NextPart()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return cut(err)
		}
		if n >= maxFormFields {
			return fault.New(fault.TooLarge, "too-many-fields", "the form has more than %d fields", maxFormFields)
		}
		name := part.FormName()
		if part.FileName() != "" && (name == "content" || name == "gpg_signature") {
			if err := f.stage(c, name, part); err != nil {
				return err
			}
			continue
		}
		raw, err := io.ReadAll(io.LimitReader(part, left+1))
		if err != nil {
			return cut(err)
		}
		if left -= int64(len(raw)); left < 0 {
			return fault.New(fault.TooLarge, "form-too-large", "the form has more than %d bytes besides its files", maxForm)
		}
		if _, known := f.fields[name]; !known {
			f.fields[name] = string(raw)
		}
	}
}

func (f *form) stage(c *ecosystem.Call, name string, part *multipart.Part) error {
	into := &f.file
	body := io.Reader(part)
	if name != "content" {
		into = &f.signature
	}
	if *into != nil {
		return fault.New(fault.Invalid, "several-files", "the form has several files named %s", name).
			WithHint("Send one after the other.")
	}
	sum, err := blake2b.New256(nil)
	if err != nil {
		return err
	}
	// Clients send the name before the file.
	if project := purl.NormalName(Name, f.fields["name"]); project != "" {
		if err := c.Desk.MayPublish(c.Caller, c.Repository, c.Repository.Key(Name, "", project)); err != nil {
			return err
		}
	}
	if *into, err = c.Desk.Stage(c.Request().Context(), c.Repository, io.TeeReader(body, sum), -1,
		part.FileName()); err != nil {
		*into = nil
		return err
	}
	if name == "content" {
		f.name, f.blake2 = part.FileName(), hex.EncodeToString(sum.Sum(nil))
	}
	return nil
}

// check compares what the form says with its file.
func (f *form) check() (ecosystem.Place, error) {
	if action := f.fields[":action"]; action != "file_upload" {
		return ecosystem.Place{}, fault.New(fault.Invalid, "bad-action", "the form asks for %.60q, not for file_upload",
			action)
	}
	if f.file == nil {
		return ecosystem.Place{}, fault.New(fault.Invalid, "no-file", "the form has no file").
			WithHint("The file's field is named content.")
	}
	project := purl.NormalName(Name, f.fields["name"])
	place, ok := parseName(f.name, project)
	if f.name != path.Base(f.name) || !ok || !isDistribution(place.Extension) {
		return place, badFile(f.name)
	}
	if place.Name != project || place.Version != purl.NormalVersion(Name, f.fields["version"]) {
		return place, fault.New(fault.Invalid, "name-disagrees", "%s was sent as %s %s", f.name, f.fields["name"],
			f.fields["version"]).
			WithHint("The name of a file must begin with those of its project and version.")
	}
	got := f.file.Digests()
	for field, sum := range map[string]string{"md5_digest": got.Hex("md5"), "sha256_digest": got.Hex("sha256"),
		"blake2_256_digest": f.blake2} {
		if stated := f.fields[field]; stated != "" && !strings.EqualFold(stated, sum) {
			return place, fault.New(fault.Invalid, "checksum-mismatch", "the %s of %s is %s as received, but %s as sent",
				strings.TrimSuffix(field, "_digest"), f.name, sum, stated).
				WithHint("The file was damaged on its way; send it again.")
		}
	}
	return place, nil
}
