package ecosystemtest

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http/httptest"
	"slices"
	"strings"

	"github.com/labstack/echo/v5"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/ecosystem"
)

// AskDoor makes a request below an ecosystem's own door, and the name of the repository.
func (d *Desk) AskDoor(method, path string, body []byte, headers ...string) *httptest.ResponseRecorder {
	d.t.Helper()
	doored := d.ecosystem.(ecosystem.Doored)
	request := httptest.NewRequest(method, doored.Door()+"/"+d.Repository.Name+"/"+path, bytes.NewReader(body))
	for i := 0; i+1 < len(headers); i += 2 {
		request.Header.Set(headers[i], headers[i+1])
	}
	answer := httptest.NewRecorder()
	call := &ecosystem.Call{Context: echo.New().NewContext(request, answer), Caller: d.Caller, Repository: d.Repository,
		Desk: d}
	rest := strings.TrimPrefix(request.URL.Path, doored.Door()+"/"+d.Repository.Name+"/")
	for _, route := range doored.DoorRoutes() {
		names, ok := ecosystem.MatchPath(route.Path, rest)
		if route.Method != method || !ok {
			continue
		}
		call.Parts = names
		err := route.Serve(call)
		if err != nil {
			err = d.ecosystem.Refuse(call, err)
		}
		if err != nil {
			d.t.Fatal(err)
		}
		return answer
	}
	d.t.Fatalf("%s %s is no route", method, path)
	return nil
}

// named are the files that a publication names by their digests.
func (d *Desk) named(e ecosystem.Ecosystem, p ecosystem.Publication) (files []catalog.File, err error) {
	key := p.Files[0].Place.Key(e.Name(), d.Repository)
	unknown := func(what string) error {
		return fault.New(fault.NotFound, "part-unknown", "there is no %s", what)
	}
	for _, part := range p.Parts {
		f, ok := d.parts[key][part.FileName()]
		switch {
		case !ok:
			return nil, unknown(part.String())
		case f.Digests.Size != part.Size:
			return nil, fault.New(fault.Invalid, "other-size", "%s has another size", part.Sum)
		}
		f.Extension, f.MediaType = part.Extension, part.MediaType
		files = append(files, f)
	}
	for _, version := range p.Needs {
		if known := d.packages[key]; known == nil || !slices.ContainsFunc(known.Versions, func(v catalog.Version) bool {
			return v.Version == version
		}) {
			return nil, unknown(version)
		}
	}
	return files, nil
}

// BeginPart implements ecosystem.PartTaker.
func (d *Desk) BeginPart(context.Context, access.Caller, catalog.PackageKey) (string, error) {
	d.next++
	id := fmt.Sprint("upload", d.next)
	d.begun[id] = nil
	return id, d.Refuses
}

// ContinuePart implements ecosystem.PartTaker.
func (d *Desk) ContinuePart(
	ctx context.Context, caller access.Caller, key catalog.PackageKey, id string, at int64, body io.Reader,
) (int64, error) {
	size, err := d.PartArrived(ctx, caller, key, id)
	if err != nil {
		return 0, err
	}
	if at >= 0 && at != size {
		return size, fault.New(fault.Conflict, "other-offset", "%d bytes are here", size)
	}
	more, err := io.ReadAll(body)
	d.begun[id] = append(d.begun[id], more...)
	return int64(len(d.begun[id])), err
}

// PartArrived implements ecosystem.PartTaker.
func (d *Desk) PartArrived(_ context.Context, _ access.Caller, _ catalog.PackageKey, id string) (int64, error) {
	arrived, ok := d.begun[id]
	if !ok {
		return 0, fault.New(fault.NotFound, "no-such-upload", "no upload %s is going on", id)
	}
	return int64(len(arrived)), nil
}

// DropPart implements ecosystem.PartTaker.
func (d *Desk) DropPart(ctx context.Context, caller access.Caller, key catalog.PackageKey, id string) error {
	_, err := d.PartArrived(ctx, caller, key, id)
	delete(d.begun, id)
	return err
}

// EndPart implements ecosystem.PartTaker.
func (d *Desk) EndPart(
	ctx context.Context, caller access.Caller, key catalog.PackageKey, id string, sum catalog.Sum,
) error {
	arrived := d.begun[id]
	if err := d.DropPart(ctx, caller, key, id); err != nil {
		return err
	}
	return d.TakePart(ctx, caller, key, bytes.NewReader(arrived), int64(len(arrived)), sum)
}

// TakePart implements ecosystem.PartTaker.
func (d *Desk) TakePart(
	_ context.Context, _ access.Caller, key catalog.PackageKey, body io.Reader, _ int64, sum catalog.Sum,
) error {
	content, err := io.ReadAll(body)
	if err != nil || d.Refuses != nil {
		return cmp.Or(err, d.Refuses)
	}
	is := digestsOf(content)
	if !sum.Of(is) {
		return fault.New(fault.Invalid, "other-digest", "it is not %s", sum)
	}
	d.next++
	d.contents[is.SHA256] = content
	if d.parts[key] == nil {
		d.parts[key] = map[string]catalog.File{}
	}
	d.parts[key][sum.FileName()] = catalog.File{ID: d.next, RepositoryID: d.Repository.ID, Name: sum.FileName(),
		Digests: is, AddedAt: d.Now, AddedBy: d.Caller.Name}
	return nil
}

// LendPart implements ecosystem.PartTaker. It knows no repository but this one.
func (d *Desk) LendPart(
	ctx context.Context, caller access.Caller, key catalog.PackageKey, from ecosystem.Lender, sum catalog.Sum,
) (bool, error) {
	for of, parts := range d.parts {
		f, ok := parts[sum.FileName()]
		if ok && (from == ecosystem.Lender{} || from == ecosystem.Lender{Repository: d.Repository.Name,
			Namespace: of.Namespace, Name: of.Name}) {
			return true, d.TakePart(ctx, caller, key, bytes.NewReader(d.contents[f.Digests.SHA256]), f.Digests.Size, sum)
		}
	}
	return false, nil
}

// RemovePart implements ecosystem.PartTaker.
func (d *Desk) RemovePart(_ context.Context, _ access.Caller, key catalog.PackageKey, sum catalog.Sum) error {
	if p := d.packages[key]; p != nil {
		for _, v := range p.Versions {
			if slices.ContainsFunc(v.Files, func(f catalog.File) bool { return f.Name == sum.FileName() }) {
				return fault.New(fault.Conflict, "part-named", "%s is part of %s", sum, v.Version)
			}
		}
	}
	if _, ok := d.parts[key][sum.FileName()]; !ok {
		return fault.New(fault.NotFound, "no-such-part", "there is no %s", sum)
	}
	delete(d.parts[key], sum.FileName())
	return nil
}

// Labels implements ecosystem.LabelReader.
func (d *Desk) Labels(
	ctx context.Context, key catalog.PackageKey, after string, limit int,
) (all []catalog.Label, err error) {
	p, err := d.Package(ctx, key)
	if err != nil {
		return nil, err
	}
	for name, version := range p.Labels {
		if name > after {
			all = append(all, catalog.Label{Name: name, Version: version})
		}
	}
	slices.SortFunc(all, func(a, b catalog.Label) int { return strings.Compare(a.Name, b.Name) })
	return all[:min(limit, len(all))], nil
}

// WithdrawnLabel implements ecosystem.LabelReader.
func (d *Desk) WithdrawnLabel(
	ctx context.Context, key catalog.PackageKey, label string,
) (version, reason string, ok bool, err error) {
	p, err := d.Package(ctx, key)
	if err != nil {
		return "", "", false, err
	}
	for _, v := range p.Versions {
		if v.Version == p.Labels[label] && v.Withdrawn != nil {
			return v.Version, v.Withdrawn.Reason, true, nil
		}
	}
	return "", "", false, nil
}

// About implements ecosystem.LabelReader.
func (d *Desk) About(
	ctx context.Context, key catalog.PackageKey, subject, after string, limit int,
) (all []catalog.Version, err error) {
	p, err := d.Package(ctx, key)
	if err != nil {
		return nil, err
	}
	for _, v := range p.Versions {
		var about string
		raw, ok := v.Details.Native["subject"]
		if ok {
			if err := json.Unmarshal(raw, &about); err != nil {
				return nil, err
			}
		}
		if about != subject || !ok || v.Version <= after {
			continue
		}
		v.Files = slices.DeleteFunc(slices.Clone(v.Files), func(f catalog.File) bool {
			return f.Name != strings.Replace(v.Version, ":", "-", 1)
		})
		all = append(all, v)
	}
	slices.SortFunc(all, func(a, b catalog.Version) int { return strings.Compare(a.Version, b.Version) })
	return all[:min(limit, len(all))], nil
}
