package promotion

import (
	"context"
	"fmt"
	"io"
	"slices"
	"sync"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/fileset"
	"crelvo/internal/core/promotion"
	"crelvo/internal/ecosystem"
	"crelvo/internal/record"
	"crelvo/internal/service/store"
)

// recasting is a version that is made anew as a whole on its way: what it is made from and into.
type recasting struct {
	s    *Promotion
	w    *carrying // nil while it is only planned
	item *crossingItem
	into catalog.PackageKey
	own  map[fileset.Digest]bool // its packs

	mu    sync.Mutex
	packs map[fileset.Digest]*store.Staging // that were written
	fresh map[fileset.Digest]ecosystem.ChunkAt
	named [][]byte // packs of the target that it uses
}

func (s *Promotion) recasting(c *crossing, w *carrying, item *crossingItem) *recasting {
	r := &recasting{s: s, w: w, item: item, into: item.Key(), own: map[fileset.Digest]bool{},
		packs: map[fileset.Digest]*store.Staging{}, fresh: map[fileset.Digest]ecosystem.ChunkAt{}}
	r.into.RepositoryID = c.to.ID
	for _, f := range item.files {
		if f.Extension == fileset.PackExtension {
			r.own[f.Digests.SHA256] = true
		}
	}
	return r
}

// recast says what becomes of a version of an ecosystem whose versions are recast; nil if its files stay as they are.
func (s *Promotion) recast(ctx context.Context, c *crossing, r *recasting) (*ecosystem.Recast, error) {
	e, ok := s.Ecosystem(r.item.Ecosystem).(ecosystem.Recasting)
	if !ok {
		return nil, nil
	}
	return e.Recast(ctx, ecosystem.ToRecast{Name: r.item.Name, Files: r.item.files, Stamp: r.item.stamp(),
		All: c.stamps()[r.item.Ecosystem], Texts: promotion.Texts(c.stage.Restamps), Desk: r})
}

// planRecast finds what changes in an item that is recast; done is false if it is not.
func (s *Promotion) planRecast(ctx context.Context, c *crossing, item *crossingItem) (done bool, err error) {
	made, err := s.recast(ctx, c, s.recasting(c, nil, item))
	if err != nil || made == nil {
		return false, err
	}
	for _, o := range obstaclesOf(made) {
		if !c.goOn {
			c.problem("%s: %s", item.purl(), o)
		}
	}
	item.rewrite, item.newBytes = rewriting(item.files, made), made.NewBytes
	return true, nil
}

// recastVersion writes a version that is recast; done is false if it stays as it is.
func (s *Promotion) recastVersion(
	ctx context.Context, w *carrying, item *crossingItem, v *record.PlacedVersion,
) (done bool, err error) {
	r := s.recasting(w.crossing, w, item)
	made, err := s.recast(ctx, w.crossing, r)
	if err != nil || made == nil {
		return false, err
	}
	if all := obstaclesOf(made); len(all) > 0 && !w.goOn {
		return false, fault.New(fault.Conflict, "cannot-restamp", "%s: %s", item.purl(), all[0])
	}
	item.rewrite = rewriting(item.files, made)
	if w.planned { // much may have to be copied
		v.Files = staying(item.rewrite)
		return true, nil
	}
	files, err := made.Write(ctx)
	if err != nil {
		return false, err
	}
	details := catalog.Details{}
	if v.Files, err = r.placed(ctx, files); err != nil {
		return false, err
	}
	for _, f := range files {
		if f.Staged == nil {
			continue
		}
		known, err := s.Ecosystem(item.Ecosystem).Inspect(ctx, ecosystem.Place{Namespace: item.Namespace, Name: item.Name,
			Version: item.to, FileName: f.Name, Extension: f.Extension}, f.Staged)
		if err != nil {
			return false, fmt.Errorf("what became of %s: %w", f.Name, err)
		}
		details = details.Merge(known)
	}
	details = details.Merge(item.details)
	details.Readme = nil // it comes from the source
	v.Details = &details
	w.recasts = append(w.recasts, r)
	w.done.Add(int64(len(item.files)))
	return true, nil
}

// rewriting is what becomes of each file of a version.
func rewriting(files []catalog.File, made *ecosystem.Recast) (all []fileRewrite) {
	for _, f := range files {
		r, ok := made.Files[f.Name]
		if !ok {
			r.Name = f.Name
		}
		all = append(all, fileRewrite{f, r})
	}
	return all
}

// staying are the files of a version that stay what they are.
func staying(files []fileRewrite) (all []record.PlacedFile) {
	for _, f := range files {
		if f.Dropped == "" && len(f.Changes) == 0 && f.File.Name != catalog.DerivedFile {
			all = append(all, record.PlacedFile{Name: f.File.Name, Extension: f.Extension, MediaType: f.MediaType,
				Digests: f.Digests})
		}
	}
	return all
}

func obstaclesOf(made *ecosystem.Recast) (all []string) {
	for _, r := range made.Files {
		for _, o := range r.Obstacles {
			all = append(all, o.Entry+" "+o.Reason)
		}
	}
	slices.Sort(all)
	return all
}

// placed are the files of a version that was written.
func (r *recasting) placed(ctx context.Context, files []ecosystem.RecastFile) ([]record.PlacedFile, error) {
	was := map[string]catalog.Digests{}
	known := map[[32]byte]catalog.Digests{}
	for _, f := range r.item.files {
		was[f.Name], known[f.Digests.SHA256] = f.Digests, f.Digests
	}
	for sum, st := range r.packs {
		known[sum] = st.Digests()
	}
	for _, f := range files {
		if _, ok := known[f.SHA256]; !ok && f.Staged == nil {
			r.named = append(r.named, f.SHA256[:])
		}
	}
	if len(r.named) > 0 {
		there, err := r.s.DB.DigestsOf(ctx, r.named)
		if err != nil {
			return nil, err
		}
		for sum, d := range there {
			known[sum] = d
		}
	}
	all := make([]record.PlacedFile, len(files))
	for i, f := range files {
		all[i] = record.PlacedFile{Name: f.Name, Extension: f.Extension, MediaType: f.MediaType, Digests: known[f.SHA256]}
		if f.Staged != nil {
			all[i].Digests = f.Staged.Digests()
			if d, ok := was[f.Name]; ok && d.SHA256 != all[i].Digests.SHA256 {
				all[i].MadeFrom = d.SHA256[:]
			}
		}
		if all[i].Digests.Size == 0 {
			return nil, r.wentAway()
		}
	}
	return all, nil
}

func (r *recasting) wentAway() error {
	return fault.New(fault.Conflict, "chunks-lacking", "bytes that %s uses in %s went away meanwhile", r.item.Name,
		r.w.to.Name).WithHint("Ask for the promotion again.")
}

// hold holds the packs of the target that the version uses.
func (r *recasting) hold(ctx context.Context, tx *record.Tx) error {
	if len(r.named) == 0 {
		return nil
	}
	held, err := tx.HoldParts(ctx, r.into, r.named)
	if err == nil && len(held) < len(r.named) {
		err = r.wentAway()
	}
	return err
}

// note puts on record what the packs have that were written.
func (r *recasting) note(ctx context.Context, tx *record.Tx) error {
	for sum, st := range r.packs {
		chunks, err := fileset.ReadPack(st, st.Size())
		if err != nil {
			return err
		}
		if err := tx.AddPack(ctx, sum, chunks); err != nil {
			return err
		}
	}
	return nil
}

// Chunks implements ecosystem.Packs.
func (r *recasting) Chunks(
	ctx context.Context, digests []fileset.Digest, leftOut map[fileset.Digest]bool,
) (map[fileset.Digest]ecosystem.ChunkAt, error) {
	all, err := r.s.publishing.ChunksAcross(ctx, r.item.Key(), r.into, r.own, digests, leftOut)
	if err != nil {
		return nil, err
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, d := range digests {
		if at, ok := r.fresh[d]; ok && !all[d].Here {
			if all == nil {
				all = map[fileset.Digest]ecosystem.ChunkAt{}
			}
			all[d] = at
		}
	}
	return all, nil
}

// TakePack implements ecosystem.Packs.
func (r *recasting) TakePack(ctx context.Context, body io.Reader, length int64) (pack fileset.Pack, err error) {
	st, err := r.stage(ctx, "a pack", body, length)
	if err != nil {
		return pack, err
	}
	chunks, err := fileset.ReadPack(st, st.Size())
	if err != nil {
		return pack, err
	}
	pack = fileset.Pack{Digest: st.Digests().SHA256, Size: st.Size()}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.packs[pack.Digest] = st
	var at int64
	for _, c := range chunks {
		r.fresh[c.Digest] = ecosystem.ChunkAt{Length: c.Length, Here: true, Where: fileset.Where{Pack: pack, Offset: at}}
		at += int64(c.Length)
	}
	return pack, nil
}

func (r *recasting) stage(ctx context.Context, name string, body io.Reader, length int64) (*store.Staging, error) {
	st, err := r.s.store.Staging(ctx, r.w.to, body, length, name)
	if err != nil {
		return nil, err
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.w.staged = append(r.w.staged, st)
	return st, nil
}

// written is a pack that was written; it stays open.
type written struct{ *io.SectionReader }

// Close implements io.Closer.
func (written) Close() error { return nil }

// OpenPack implements ecosystem.Packs.
func (r *recasting) OpenPack(ctx context.Context, pack fileset.Pack) (ecosystem.SeekableFile, error) {
	r.mu.Lock()
	st := r.packs[pack.Digest]
	r.mu.Unlock()
	if st != nil {
		return written{io.NewSectionReader(st, 0, st.Size())}, nil
	}
	return r.Open(ctx, catalog.File{Name: "a pack", Digests: catalog.Digests{SHA256: pack.Digest, Size: pack.Size}})
}

// Open implements ecosystem.RecastDesk.
func (r *recasting) Open(ctx context.Context, f catalog.File) (ecosystem.SeekableFile, error) {
	return r.s.store.Open(ctx, f)
}

// Without implements ecosystem.RecastDesk.
func (r *recasting) Without(ctx context.Context, sha256s [][]byte) ([][]byte, error) {
	there, err := r.s.DB.PartsAmong(ctx, r.into, sha256s)
	return slices.DeleteFunc(slices.Clone(sha256s), func(sum []byte) bool { return there[[32]byte(sum)] }), err
}

// Stage implements ecosystem.RecastDesk.
func (r *recasting) Stage(ctx context.Context, name string, body io.Reader) (ecosystem.Staged, error) {
	return r.stage(ctx, name, body, -1)
}
