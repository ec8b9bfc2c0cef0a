package generic

import (
	"bytes"
	"context"
	"errors"
	"maps"
	"slices"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/fileset"
	"crelvo/internal/ecosystem"
)

// recasting is a version on its way into another repository.
type recasting struct {
	ecosystem.ToRecast
	set      *set
	manifest catalog.File
	texts    map[string]texts // by path, of the files in which something changes
	grown    int64            // bytes by which they become longer together
}

// texts are what changes in a file.
type texts struct {
	size  int64 // that it has then
	edits []ecosystem.Edit
}

// Recast implements ecosystem.Recasting. Who may read the version there must not get by its packs what else is in
// them, so its chunks are put into others where there is something else. And texts are replaced in the files that the
// hop names.
func (g Generic) Recast(ctx context.Context, v ecosystem.ToRecast) (*ecosystem.Recast, error) {
	r := &recasting{ToRecast: v}
	if err := r.open(ctx); err != nil {
		return nil, err
	}
	defer r.set.Close()
	done := &ecosystem.Recast{Files: map[string]ecosystem.Rewriting{}}
	obstacles, err := r.findTexts(ctx)
	if err != nil {
		return nil, err
	}
	left, err := r.leftBehind(ctx)
	if err != nil || len(left) == 0 && len(r.texts) == 0 && len(obstacles) == 0 {
		return nil, err
	}
	for _, pack := range left {
		done.Files[packName(pack)] = ecosystem.Rewriting{
			Dropped: "it has more than the version, whose part of it goes into a pack of its own"}
	}
	manifest := ecosystem.Rewriting{Name: manifestFile, Obstacles: obstacles}
	for _, path := range slices.Sorted(maps.Keys(r.texts)) {
		manifest.Changes = append(manifest.Changes, r.texts[path].edits...)
		done.NewBytes += r.texts[path].size
	}
	if len(r.texts) > 0 {
		done.Files[signatureFile] = ecosystem.Rewriting{Dropped: "it signs the manifest before"}
	}
	done.Files[manifestFile], done.Files[layoutFile] = manifest, ecosystem.Rewriting{Name: layoutFile}
	if len(left) > 0 {
		n, err := r.copied(ctx)
		if err != nil {
			return nil, err
		}
		done.NewBytes += n
	}
	done.Write = r.write
	return done, nil
}

// open opens the version where it comes from.
func (r *recasting) open(ctx context.Context) (err error) {
	var layout catalog.File
	for _, f := range r.Files {
		switch f.Extension {
		case manifestKind:
			r.manifest = f
		case layoutKind:
			layout = f
		}
	}
	r.set = &set{desk: filesOf{r.ToRecast}, kept: layout}
	content, err := r.Desk.Open(ctx, layout)
	if err != nil {
		return err
	}
	r.set.opened = content
	if r.set.layout, err = fileset.OpenLayout(content, layout.Digests.Size); err != nil {
		return errors.Join(unreadable(err), content.Close())
	}
	return nil
}

// filesOf are the files of a version that is recast, as a set is read from.
type filesOf struct{ ecosystem.ToRecast }

// Uploads implements ecosystem.Opener.
func (filesOf) Uploads(context.Context, catalog.PackageKey, string) (*catalog.Package, error) {
	return nil, ecosystem.ErrNoPackage
}

// File implements ecosystem.Opener.
func (v filesOf) File(_ context.Context, q catalog.FileQuestion) (ecosystem.Found, error) {
	i := slices.IndexFunc(v.Files, func(f catalog.File) bool { return f.Name == q.Name })
	if i < 0 {
		return ecosystem.Found{}, ecosystem.ErrNoFile
	}
	return ecosystem.Found{File: v.Files[i]}, nil
}

// Open implements ecosystem.Opener.
func (v filesOf) Open(ctx context.Context, f catalog.File) (ecosystem.SeekableFile, error) {
	return v.Desk.Open(ctx, f)
}

// leftBehind are the packs that do not come along.
func (r *recasting) leftBehind(ctx context.Context) ([]fileset.Pack, error) {
	release, err := holdManifest(ctx, r.manifest.Digests.Size)
	if err != nil {
		return nil, err
	}
	defer release()
	shared, err := r.set.layout.Shared()
	if err != nil {
		return nil, unreadable(err)
	}
	sums := make([][]byte, len(shared))
	for i := range shared {
		sums[i] = shared[i].Digest[:]
	}
	if len(sums) == 0 {
		return nil, nil
	}
	without, err := r.Desk.Without(ctx, sums)
	return slices.DeleteFunc(shared, func(p fileset.Pack) bool {
		return !slices.ContainsFunc(without, func(sum []byte) bool { return bytes.Equal(sum, p.Digest[:]) })
	}), err
}

// copied is how many bytes of chunks are to be copied.
func (r *recasting) copied(ctx context.Context) (n int64, err error) {
	err = r.withManifest(ctx, nil, func(manifest ecosystem.SizedReaderAt) error {
		a, err := r.assemble(ctx, manifest)
		if err != nil {
			return err
		}
		_, chunks := a.builder.Thin(a.foreign)
		for _, c := range chunks {
			n += int64(c.Length)
		}
		return nil
	})
	return n, err
}

// assemble finds out where the chunks of a manifest are.
func (r *recasting) assemble(ctx context.Context, manifest ecosystem.SizedReaderAt) (*assembling, error) {
	a := newAssembling(r.Name, r.Desk)
	err := a.read(ctx, manifest)
	if told := fault.Of(err); told.Code == "chunks-lacking" {
		err = fault.New(fault.Conflict, "bad-pack", "a pack of %s is not what it says, so that nothing can be taken out of it",
			r.Name).WithHint("Publish the version again.")
	}
	return a, err
}

// withManifest reads a manifest while there is memory for it; nil is that of the version.
func (r *recasting) withManifest(
	ctx context.Context, manifest ecosystem.SizedReaderAt, read func(ecosystem.SizedReaderAt) error,
) error {
	if manifest == nil {
		content, err := r.Desk.Open(ctx, r.manifest)
		if err != nil {
			return err
		}
		defer content.Close()
		manifest = ecosystem.Sized(content, r.manifest.Digests.Size)
	}
	release, err := holdManifest(ctx, manifest.Size())
	if err != nil {
		return err
	}
	defer release()
	return read(manifest)
}

// write writes the version anew.
func (r *recasting) write(ctx context.Context) (files []ecosystem.RecastFile, err error) {
	if err := r.open(ctx); err != nil {
		return nil, err
	}
	defer r.set.Close()
	manifest := ecosystem.RecastFile{Name: manifestFile, Extension: manifestKind, SHA256: r.manifest.Digests.SHA256}
	var written ecosystem.SizedReaderAt
	if len(r.texts) > 0 {
		if manifest.Staged, err = r.rewriteManifest(ctx); err != nil {
			return nil, err
		}
		written, manifest.SHA256 = manifest.Staged, manifest.Staged.Digests().SHA256
	}
	files = append(files, manifest)
	for _, f := range r.Files {
		if f.Extension == signatureKind && written == nil {
			files = append(files, ecosystem.RecastFile{Name: f.Name, Extension: f.Extension, MediaType: f.MediaType,
				SHA256: f.Digests.SHA256})
		}
	}
	err = r.withManifest(ctx, written, func(manifest ecosystem.SizedReaderAt) error {
		a, err := r.assemble(ctx, manifest)
		if err != nil {
			return err
		}
		if err := a.gather(ctx, manifest); err != nil {
			return err
		}
		raw, err := a.builder.Build()
		if err != nil {
			return badManifest(err)
		}
		layout, err := r.Desk.Stage(ctx, layoutFile, bytes.NewReader(raw))
		if err != nil {
			return err
		}
		files = append(files, ecosystem.RecastFile{Name: layoutFile, Extension: layoutKind,
			SHA256: layout.Digests().SHA256, Staged: layout})
		for _, pack := range a.builder.Packs() {
			files = append(files, ecosystem.RecastFile{Name: packName(pack), Extension: packKind, MediaType: packType,
				SHA256: pack.Digest})
		}
		return nil
	})
	return files, err
}
