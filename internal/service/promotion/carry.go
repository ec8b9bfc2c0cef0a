package promotion

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/service/keys"
	"crelvo/internal/service/store"
	bytestore "crelvo/internal/store"
)

// carrying is a promotion whose files are being made.
type carrying struct {
	*crossing
	sign    *keys.Signer                // nil if nothing is signed
	all     map[string]ecosystem.Stamps // that are restamped, by ecosystem
	staged  []*store.Staging
	recasts []*recasting
	planned bool                   // nothing of it is kept
	placed  []record.PlacedVersion // by item; without files while it is not made
	begun   []bool                 // by item
	depth   int                    // versions that wait for the one that is made
	done    atomic.Int64           // files
}

// execute does a promotion that is underway: first all files that have other
// bytes are written, then everything becomes visible in one transaction.
func (s *Promotion) execute(ctx context.Context, caller access.Caller, p record.Promotion) error {
	c, err := s.again(ctx, p)
	if err != nil {
		return err
	}
	for _, item := range c.items {
		if err := s.directory.Allow(caller, access.Promote,
			access.Object{Repository: c.to, Package: act.PURLOf(item.Key(), "")}); err != nil {
			return err
		}
	}
	if len(c.problems) > 0 {
		return fault.New(fault.Conflict, "cannot-promote", "%s", strings.Join(c.problems, "; "))
	}
	work := &carrying{crossing: c}
	defer func() {
		for _, st := range work.staged {
			st.Discard()
		}
	}()
	alive, stop := context.WithCancel(ctx)
	defer stop()
	go s.Every(alive, act.Chore{Every: time.Second, What: "noting the progress of a promotion",
		Do: func(ctx context.Context) error {
			return s.DB.NoteProgress(ctx, p.ID, int(work.done.Load()), s.Now())
		}})
	placed, err := s.makeFiles(ctx, work)
	if err != nil {
		return err
	}
	labels, err := s.promotedLabels(ctx, c)
	if err != nil {
		return err
	}
	carried := int64(0) // what was made anew has its room already
	for _, v := range placed {
		for _, f := range v.Files {
			carried += f.Digests.Size
		}
	}
	files := make([]*bytestore.Staged, len(work.staged))
	for i, st := range work.staged {
		files[i] = st.File
		carried -= st.Size()
	}
	done, err := s.store.Room(ctx, c.to, carried)
	if err != nil {
		return err
	}
	defer done()
	return s.store.Recorded(ctx, files, func(tx *record.Tx) error {
		return s.place(ctx, tx, caller, p, work, placed, labels)
	})
}

// makeFiles writes the files that get other bytes, and gives what is to be
// recorded.
func (s *Promotion) makeFiles(ctx context.Context, w *carrying) ([]record.PlacedVersion, error) {
	if w.stage.SignWith != "" {
		var err error
		if w.sign, err = s.keys.SignerNamed(ctx, w.stage.SignWith); err != nil {
			return nil, err
		}
	}
	w.placed, w.begun = make([]record.PlacedVersion, len(w.items)), make([]bool, len(w.items))
	w.all = w.stamps()
	for i := range w.items {
		if err := s.makeVersion(ctx, w, i); err != nil {
			return nil, err
		}
	}
	return w.placed, nil
}

// makeVersion makes one version, if that was not begun: those whose digests its files state
// are made before it.
func (s *Promotion) makeVersion(ctx context.Context, w *carrying, i int) error {
	if w.begun[i] {
		return nil
	}
	w.begun[i] = true
	item := &w.items[i]
	v := record.PlacedVersion{SourceID: item.ID, Key: item.Key(), Version: item.to,
		Snapshot: purl.IsSnapshot(item.Ecosystem, item.to)}
	v.Key.RepositoryID = w.to.ID
	if !item.restamped() {
		v.Upload = item.Upload
	}
	if done, err := s.recastVersion(ctx, w, item, &v); err != nil {
		return err
	} else if done { // nothing is left to do
	} else if item.restamped() {
		if err := s.restampVersion(ctx, w, item, &v); err != nil {
			return err
		}
	} else {
		for _, f := range item.files {
			item.rewrite = append(item.rewrite, fileRewrite{f, ecosystem.Rewriting{Name: f.Name}})
			v.Files = append(v.Files, record.PlacedFile{Name: f.Name, Classifier: f.Classifier, Extension: f.Extension,
				MediaType: f.MediaType, Digests: f.Digests})
		}
		w.done.Add(int64(len(item.files)))
	}
	if w.sign != nil {
		if err := s.signVersion(ctx, w, *item, w.sign, &v); err != nil {
			return err
		}
	}
	w.placed[i] = v
	return nil
}

// deepest is how many versions may wait for one another: each holds its file open.
const deepest = 50

// made gives the digests of what became of a version's file with an extension. Of versions
// that state each other's, the one that was begun first gets them.
func (s *Promotion) made(
	ctx context.Context, w *carrying, of, extension string,
) func(ecosystem.Stamp) (catalog.Digests, bool, error) {
	return func(stamp ecosystem.Stamp) (catalog.Digests, bool, error) {
		i := slices.IndexFunc(w.items, func(o crossingItem) bool {
			return o.Ecosystem == of && o.stamp() == stamp
		})
		if i < 0 || w.depth == deepest && !w.begun[i] {
			return catalog.Digests{}, false, nil
		}
		w.depth++
		defer func() { w.depth-- }()
		if err := s.makeVersion(ctx, w, i); err != nil {
			return catalog.Digests{}, false, err
		}
		for _, f := range w.placed[i].Files {
			if f.Extension == extension {
				return f.Digests, true, nil
			}
		}
		return catalog.Digests{}, false, nil
	}
}

// restampVersion writes the files of a version as those of the release. Those that
// state what others are come last.
func (s *Promotion) restampVersion(
	ctx context.Context, w *carrying, item *crossingItem, v *record.PlacedVersion,
) error {
	e, ok := s.Ecosystem(item.Ecosystem).(ecosystem.Restamping)
	if !ok && item.restated == nil {
		return fault.New(fault.Conflict, "no-restamp", "%s cannot be given another version", item.purl())
	}
	sums := map[string]catalog.Digests{}
	var details catalog.Details
	var later []catalog.File
	one := func(f catalog.File, late bool) error {
		made, digests, known, err := s.restampFile(ctx, w, e, *item, f, sums, late)
		if err != nil {
			return err
		}
		if made.Late && !late {
			later = append(later, f)
			return nil
		}
		item.rewrite = append(item.rewrite, fileRewrite{f, made})
		w.done.Add(1)
		if made.Dropped != "" {
			return nil
		}
		details = details.Merge(known)
		sums[made.Name] = digests
		file := record.PlacedFile{Name: made.Name, Classifier: f.Classifier, Extension: f.Extension,
			MediaType: f.MediaType, Digests: digests}
		if made.WriteTo != nil {
			file.MadeFrom = f.Digests.SHA256[:]
		}
		v.Files = append(v.Files, file)
		return nil
	}
	for _, f := range item.files {
		if err := one(f, false); err != nil {
			return err
		}
	}
	for _, f := range later {
		if err := one(f, true); err != nil {
			return err
		}
	}
	details.Readme = nil // it comes from the source
	v.Details = &details
	return nil
}

// restampFile writes one file, and reads what the result says of itself.
func (s *Promotion) restampFile(ctx context.Context, w *carrying, e ecosystem.Restamping, item crossingItem,
	f catalog.File, sums map[string]catalog.Digests, writeLate bool) (r ecosystem.Rewriting, digests catalog.Digests,
	known catalog.Details, err error) {
	content, err := s.store.Open(ctx, f)
	if err != nil {
		return r, digests, known, err
	}
	defer content.Close()
	if item.restated != nil {
		r = item.rewriting(f)
	} else {
		r, err = e.Restamp(ctx, ecosystem.ToRestamp{SizedReaderAt: ecosystem.Sized(content, f.Digests.Size), File: f,
			Stamp: item.stamp(), All: w.all[item.Ecosystem], Relabelled: w.relabelled,
			Made: s.made(ctx, w, item.Ecosystem, f.Extension)})
	}
	if err != nil {
		return r, digests, known, fault.New(fault.Conflict, "cannot-restamp", "%s: %v", f.Name, err)
	}
	if len(r.Obstacles) > 0 && !w.goOn {
		o := r.Obstacles[0]
		return r, digests, known, fault.New(fault.Conflict, "cannot-restamp", "%s: %s %s", f.Name, o.Entry, o.Reason)
	}
	if r.Dropped != "" || r.Late && !writeLate {
		return r, digests, known, nil
	}
	result := ecosystem.Sized(content, f.Digests.Size)
	digests = f.Digests
	if r.WriteTo != nil {
		reader, writer := io.Pipe()
		go func() {
			writer.CloseWithError(r.WriteTo(writer, func(name string) (catalog.Digests, bool) {
				d, ok := sums[name]
				return d, ok
			}))
		}()
		st, err := s.store.Staging(ctx, w.to, reader, -1, r.Name)
		// Whatever ended the reading ends the writing too.
		err = errors.Join(err, reader.Close())
		if err != nil {
			return r, digests, known, err
		}
		w.staged = append(w.staged, st)
		result, digests = st, st.Digests()
	}
	place := ecosystem.Place{Namespace: item.Namespace, Name: item.Name, Version: item.to, FileName: r.Name,
		Classifier: f.Classifier, Extension: f.Extension}
	if known, err = s.Ecosystem(item.Ecosystem).Inspect(ctx, place, result); err != nil {
		return r, digests, known, fmt.Errorf("what became of %s: %w", f.Name, err)
	}
	return r, digests, known, nil
}

// signVersion makes the signatures of a version.
func (s *Promotion) signVersion(
	ctx context.Context, w *carrying, item crossingItem, sign *keys.Signer, v *record.PlacedVersion,
) error {
	for _, f := range slices.Clone(v.Files) {
		if !w.signs(item, f.Name) {
			continue
		}
		signature, err := func() ([]byte, error) {
			for _, st := range w.staged {
				if st.Digests().SHA256 == f.Digests.SHA256 {
					return sign.Sign(io.NewSectionReader(st, 0, st.Size()))
				}
			}
			content, err := s.store.Open(ctx, catalog.File{Name: f.Name, Digests: f.Digests})
			if err != nil {
				return nil, err
			}
			defer content.Close()
			return sign.Sign(content)
		}()
		if err != nil {
			return err
		}
		st, err := s.store.Staging(ctx, w.to, bytes.NewReader(signature), int64(len(signature)), f.Name+signatureEnding)
		if err != nil {
			return err
		}
		w.staged = append(w.staged, st)
		v.Files = append(v.Files, record.PlacedFile{Name: f.Name + signatureEnding, Classifier: f.Classifier,
			Extension: f.Extension + signatureEnding, Digests: st.Digests()})
	}
	return nil
}

// promotedLabels are the labels that move to versions, by the place of those.
func (s *Promotion) promotedLabels(ctx context.Context, c *crossing) (map[int][]string, error) {
	all := map[int][]string{}
	for i, item := range c.items {
		if _, ok := s.maturing(item); ok {
			all[i] = item.labels
			continue
		}
		l, ok := s.Ecosystem(item.Ecosystem).(ecosystem.Labelling)
		if !ok {
			continue
		}
		key := item.Key()
		key.RepositoryID = c.to.ID
		labels, err := s.publishing.LabelsFor(ctx, l, key, item.to)
		if err != nil {
			return nil, err
		}
		all[i] = labels
	}
	return all, nil
}

// place makes everything visible.
func (s *Promotion) place(
	ctx context.Context, tx *record.Tx, caller access.Caller, p record.Promotion, c *carrying,
	placed []record.PlacedVersion, labels map[int][]string,
) error {
	now := s.Now()
	// A promotion that was given up on must not be done after all.
	p.State, p.EndedAt, p.AliveAt, p.Why = record.PromotionDone, &now, now, ""
	done, err := tx.MovePromotion(ctx, p.ID, []string{record.PromotionUnderway}, p)
	if err == nil && !done {
		err = fault.New(fault.Conflict, "not-underway", "promotion %d is not underway any more", p.ID)
	}
	if err != nil {
		return err
	}
	for _, r := range c.recasts {
		if err := r.hold(ctx, tx); err != nil {
			return err
		}
	}
	ids, collisions, err := tx.Place(ctx, placed, caller.ID, caller.Name, now)
	if err != nil {
		return err
	}
	if len(collisions) > 0 {
		first := collisions[0]
		what := act.PURLOf(first.Key, first.Version)
		if first.NoSource {
			return fault.New(fault.Conflict, "source-gone", "what was to become %s is not in %s any more", what, c.from.Name).
				WithHint("Look at the sweeps of %s.", c.from.Name)
		}
		if first.Gone {
			return fault.New(fault.Conflict, "published-before",
				"%s was in %s before, with other bytes, and removed; a release does not come back as something else", what,
				c.to.Name)
		}
		return fault.New(fault.Conflict, "collision", "%s came into %s meanwhile: somebody else was quicker", what,
			c.to.Name).WithHint("Look at the promotions into %s.", c.to.Name)
	}
	for _, r := range c.recasts {
		if err := r.note(ctx, tx); err != nil {
			return err
		}
	}
	if err := s.store.WantIn(ctx, tx, c.to, ids, nil); err != nil {
		return err
	}
	var set []record.LabelSetting
	for i, list := range labels {
		if m, ok := s.maturing(c.items[i]); ok && len(list) > 0 {
			if list, err = s.publishing.Moved(ctx, tx, m, c.to, placed[i].Key, list, placed[i].Version); err != nil {
				return err
			}
		}
		for _, label := range list {
			set = append(set, record.LabelSetting{Key: placed[i].Key, Name: label, Version: placed[i].Version})
		}
	}
	if err := tx.SetLabels(ctx, set, caller.Name, now); err != nil {
		return err
	}
	if err := tx.SetTargets(ctx, p.ID, ids); err != nil {
		return err
	}
	if err := s.sendOn(ctx, tx, p, c.crossing, ids); err != nil {
		return err
	}
	return tx.Append(ctx, s.promotionEvent(caller, record.EventVersionsPromoted, p, c.to.Name),
		s.promotionChanges(p, c.to.ID, c.to.Name)...)
}
