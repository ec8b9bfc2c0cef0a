package publishing

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"strings"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/core/text"
	"crelvo/internal/ecosystem"
	"crelvo/internal/ecosystem/kinds"
	"crelvo/internal/record"
	"crelvo/internal/service/store"
	bytestore "crelvo/internal/store"
)

var _ ecosystem.Staged = (*store.Staging)(nil)

// Publish implements ecosystem.Desk.
func (s *Publishing) Publish(ctx context.Context, caller access.Caller, repository catalog.Repository,
	e ecosystem.Ecosystem,
	p ecosystem.Publication) (ecosystem.Receipt, error) {
	done, err := s.recordPublication(ctx, caller, repository, e, p)
	return ecosystem.Receipt{Same: done.Same}, err
}

// recording is the files of one version on their way to the records.
type recording struct {
	ecosystem.Publication
	caller     access.Caller
	repository catalog.Repository
	ecosystem  ecosystem.Ecosystem
	key        catalog.PackageKey
	stored     []*bytestore.Staged
	details    []catalog.Details
	joined     *catalog.Version // the upload of a snapshot that they belong to; nil if they make a new one

	published Published // what came of it
}

// recordPublication records files of one version, which is visible afterwards.
func (s *Publishing) recordPublication(ctx context.Context, caller access.Caller, repository catalog.Repository,
	e ecosystem.Ecosystem,
	p ecosystem.Publication) (Published, error) {
	repository.Sight = ""
	stored, details, err := s.inspectAll(ctx, caller, repository, e, p.Files)
	if err != nil {
		return Published{}, err
	}
	if m, ok := e.(ecosystem.Maturing); ok {
		if err := s.MaturityByLabels(m, repository, p.Labels); err != nil {
			return Published{}, err
		}
	} else if caller.LabelsLater {
		p.Labels = nil
	}
	first := p.Files[0].Place
	r := recording{Publication: p, caller: caller, repository: repository, ecosystem: e,
		key: first.Key(e.Name(), repository), stored: stored, details: details,
		published: Published{PURL: first.PURL(e.Name()), Repository: repository.Name}}
	if r.joined, err = s.joins(ctx, caller, r.key, p); err != nil {
		return r.published, err
	}
	err = s.store.RecordedBy(ctx, stored, func(ctx context.Context, look func(*record.Tx) error) error {
		if err := s.stillMay(ctx, caller, access.Publish,
			access.Object{Repository: repository, Package: r.published.PURL}); err != nil {
			return err
		}
		if len(p.Files) == 1 && !first.Snapshot && p.MediaType == "" && len(p.Parts) == 0 {
			if done, err := s.recordAtOnce(ctx, &r, func() error { return look(nil) }); err != nil || done {
				return err
			}
		}
		return s.DB.Within(ctx, func(tx *record.Tx) error {
			if err := s.recordAll(ctx, tx, &r); err != nil {
				return err
			}
			return look(tx)
		})
	})
	return r.published, err
}

// file is what is recorded of one of the files, and adds it to what came of it.
func (s *Publishing) file(r *recording, i int, place ecosystem.Place) record.NewFile {
	f := s.newFile(r.caller, r.repository, r.ecosystem, place)
	f.Digests, f.Details, f.Afresh = r.stored[i].Digests, r.details[i], i == 0 && r.joined == nil
	r.published.Files = append(r.published.Files, PublishedFile{Name: place.FileName, Digests: f.Digests,
		Path: r.ecosystem.Name() + "/" + r.ecosystem.Address(r.published.PURL, place.Upload,
			catalog.File{Name: place.FileName})})
	return f
}

// recordAtOnce records the one file of a release in the usual case; done is false if this
// is another one.
func (s *Publishing) recordAtOnce(ctx context.Context, r *recording, look func() error) (done bool, err error) {
	r.published.Files = nil
	event, change := s.aboutVersion(r.caller, record.EventVersionPublished, r.repository.Name, r.key,
		r.published.PURL.Version, "")
	return s.DB.PublishAtOnce(ctx, record.Whole{File: s.file(r, 0, r.Files[0].Place), Labels: r.Labels, Event: event,
		Changes: []record.Change{change}}, look)
}

// recordAll records the files and completes their version.
func (s *Publishing) recordAll(ctx context.Context, tx *record.Tx, r *recording) error {
	var last record.Added
	first := r.Files[0].Place
	r.published.Same, r.published.Files = true, nil // this may be done again
	for i, given := range r.Files {
		place := given.Place
		if r.joined != nil {
			place.Upload, place.UploadedAt, place.UploadCount = r.joined.Upload, r.joined.UploadedAt, r.joined.UploadCount
			r.published.Upload = place.Upload
		} else if place.Snapshot && i == 0 {
			if err := s.newUpload(ctx, tx, r.ecosystem, r.key, &place); err != nil {
				return err
			}
			r.published.Upload = place.Upload
			first = place
		} else if place.Snapshot {
			place.Upload, place.UploadedAt, place.UploadCount = first.Upload, first.UploadedAt, first.UploadCount
			place.FileName = place.NameOf(place.Upload)
		}
		added, err := s.addFile(ctx, tx, r.ecosystem, r.repository, s.file(r, i, place))
		if err != nil {
			return err
		}
		last = added
		r.published.Same = r.published.Same && added.Same
	}
	if !last.Visible {
		if err := s.nameParts(ctx, tx, r, last); err != nil {
			return err
		}
	}
	done, err := tx.Complete(ctx, last.VersionID, last.Sends, s.Now())
	if err != nil {
		return err
	}
	version, labels := r.published.PURL.Version, r.Labels
	if m, ok := r.ecosystem.(ecosystem.Maturing); ok && len(labels) > 0 {
		if labels, err = s.Moved(ctx, tx, m, r.repository, r.key, labels, version); err != nil {
			return err
		}
	}
	for _, label := range labels {
		if err := tx.SetLabel(ctx, r.key, label, version, r.caller.Name, s.Now()); err != nil {
			return err
		}
	}
	action := record.EventFileAdded
	switch {
	case done:
		action = record.EventVersionPublished
	case !last.Visible:
		return fmt.Errorf("%s was recorded, but could not be completed", r.published.PURL)
	case r.published.Same && len(labels) == 0:
		return nil
	case r.published.Same:
		action = record.EventLabelMoved
	}
	event, change := s.aboutVersion(r.caller, action, r.repository.Name, r.key, version, r.published.Upload)
	if len(labels) > 0 {
		if event.Detail == nil {
			event.Detail = map[string]string{}
		}
		event.Detail["labels"] = strings.Join(labels, " ")
	}
	return tx.Append(ctx, event, change)
}

// inspectAll checks that files may be published there, and reads what they are.
func (s *Publishing) inspectAll(ctx context.Context, caller access.Caller, repository catalog.Repository,
	e ecosystem.Ecosystem,
	files []ecosystem.StagedFile) (stored []*bytestore.Staged, details []catalog.Details, err error) {
	stored = make([]*bytestore.Staged, len(files))
	details = make([]catalog.Details, len(files))
	for i, f := range files {
		if err := s.Accepts(caller, repository, e, f.Place, f.Size()); err != nil {
			return nil, nil, err
		}
		if details[i], err = Inspected(ctx, e, f.Place, f, f.Details); err != nil {
			return nil, nil, err
		}
		stored[i] = f.Staged.(*store.Staging).File
	}
	return stored, details, nil
}

// Inspected is what a file tells of its version, and what was said of it besides, if both are the same.
func Inspected(
	ctx context.Context, e ecosystem.Ecosystem, place ecosystem.Place, file ecosystem.SizedReaderAt, said catalog.Details,
) (catalog.Details, error) {
	known, err := inspected(ctx, e, place, file)
	if err != nil {
		return known, err
	}
	if stating, ok := e.(ecosystem.Stating); ok && said.Native != nil {
		if err := stating.Contradicts(said, known); err != nil {
			return known, err
		}
		// They say the same, and clients want the form that the client wrote.
		known.Native = maps.Clone(known.Native)
		maps.Copy(known.Native, said.Native)
	}
	return known.Merge(said), nil
}

// joins finds the upload of a snapshot that files belong to; nil if they make a
// new one.
func (s *Publishing) joins(
	ctx context.Context, caller access.Caller, key catalog.PackageKey, p ecosystem.Publication,
) (*catalog.Version, error) {
	if !p.Joins || !p.Files[0].Place.Snapshot {
		return nil, nil
	}
	known, err := s.holdings.Package(ctx, key)
	if errors.Is(err, ecosystem.ErrNoPackage) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var last *catalog.Version
	for i, v := range known.Versions {
		if v.Version == p.Files[0].Place.Version && (last == nil || v.Newer(*last)) {
			last = &known.Versions[i]
		}
	}
	if last == nil || last.PublishedBy != caller.Name ||
		!p.Beside && s.Now().Sub(last.PublishedAt) > s.Settings.QuietPeriod {
		return nil, nil
	}
	for _, f := range p.Files {
		for _, there := range last.Files {
			if there.Name == f.Place.FileName && there.Digests.SHA256 != f.Digests().SHA256 {
				return nil, nil
			}
		}
	}
	return last, nil
}

// ByHand is a file given by hand: its bytes, the digest of bytes that the service has
// where the caller may read them, or what the caller has sent in pieces.
type ByHand struct {
	Name     string
	Body     io.Reader // or one of the next
	SHA256   *[32]byte
	Arriving *Arriving
}

// Published is a version that was made visible.
type Published struct {
	PURL       purl.PURL
	Repository string // where it is
	Upload     string
	Files      []PublishedFile
	Same       bool // all of it was there already
}

// PublishedFile is one of its files.
type PublishedFile struct {
	Name    string
	Path    string // below the address of the repository
	Digests catalog.Digests
}

// maxHanded is how many files one publication by hand may have.
const maxHanded = 100

// PublishByHand takes package files by hand, recognises them, and makes their
// version visible, all in one act. next gives the files one after the other, and
// io.EOF in the end. as may be zero.
func (s *Publishing) PublishByHand(ctx context.Context, caller access.Caller, repository catalog.Repository,
	as purl.PURL,
	next func() (ByHand, error)) (Published, error) {
	var staged []*store.Staging
	defer func() {
		for _, st := range staged {
			st.Discard()
		}
	}()
	var handed []ecosystem.Handed
	for {
		h, err := next()
		if err == io.EOF {
			break
		}
		if err != nil {
			return Published{}, fault.New(fault.Invalid, "cut-upload", "the files did not arrive whole").WithCause(err)
		}
		if len(staged) == maxHanded {
			return Published{}, fault.New(fault.TooLarge, "too-many-files", "one publication has at most %d files", maxHanded)
		}
		if err := text.CheckFileName(h.Name); err != nil {
			return Published{}, err
		}
		var st *store.Staging
		switch {
		case h.SHA256 != nil:
			st, err = s.hereAlready(ctx, caller, repository, h.Name, *h.SHA256)
		case h.Arriving != nil:
			st, err = s.arrivedWhole(ctx, caller, repository, h.Name, *h.Arriving)
		default:
			st, err = s.store.Staging(ctx, repository, h.Body, -1, h.Name)
		}
		if err != nil {
			return Published{}, err
		}
		staged = append(staged, st)
		handed = append(handed, ecosystem.Handed{Name: h.Name, SizedReaderAt: staged[len(staged)-1]})
	}
	if len(handed) == 0 {
		return Published{}, fault.New(fault.Invalid, "no-file", "no file was sent").
			WithHint("Give at least one package file.")
	}
	e, placed, err := s.recognise(ctx, handed, as)
	if err != nil {
		return Published{}, err
	}
	if repository, err = s.directory.Target(caller, repository, placed[0].Place.Snapshot); err != nil {
		return Published{}, err
	}
	var p ecosystem.Publication
	for _, placed := range placed {
		if placed.File < 0 {
			st, err := s.store.Staging(ctx, repository, bytes.NewReader(placed.Content), int64(len(placed.Content)),
				placed.Place.FileName)
			if err != nil {
				return Published{}, err
			}
			staged = append(staged, st)
			placed.File = len(staged) - 1
		}
		p.Files = append(p.Files, ecosystem.StagedFile{Place: placed.Place, Staged: staged[placed.File]})
	}
	if l, ok := e.(ecosystem.Labelling); ok {
		if p.Labels, err = s.LabelsFor(ctx, l, placed[0].Place.Key(e.Name(), repository),
			placed[0].Place.Version); err != nil {
			return Published{}, err
		}
	}
	return s.recordPublication(ctx, caller, repository, e, p)
}

// LabelsFor are the labels that move to a version that is published by hand.
func (s *Publishing) LabelsFor(
	ctx context.Context, e ecosystem.Labelling, key catalog.PackageKey, version string,
) ([]string, error) {
	p, err := s.resolving.Package(ctx, key)
	if err != nil && !errors.Is(err, ecosystem.ErrNoPackage) {
		return nil, err
	}
	if p == nil {
		p = &catalog.Package{Key: key}
	}
	return e.Labels(p, version), nil
}

// newUpload begins an upload of a snapshot: the next number, and the time now.
func (s *Publishing) newUpload(
	ctx context.Context, tx *record.Tx, e ecosystem.Ecosystem, key catalog.PackageKey, place *ecosystem.Place,
) error {
	if err := tx.LockName(ctx, fmt.Sprint(key, place.Version)); err != nil {
		return err
	}
	last, err := tx.LastUpload(ctx, key, place.Version)
	if err != nil {
		return err
	}
	place.UploadedAt, place.UploadCount = s.Now().UTC().Truncate(time.Second), last+1
	place.Upload = e.UploadName(place.Version, place.UploadedAt, place.UploadCount)
	place.FileName = place.NameOf(place.Upload)
	return nil
}

// recognise finds the ecosystem that the files are of.
func (s *Publishing) recognise(
	ctx context.Context, handed []ecosystem.Handed, as purl.PURL,
) (ecosystem.Ecosystem, []ecosystem.Placed, error) {
	for _, e := range kinds.All() {
		placed, err := e.Place(ctx, handed, as)
		if errors.Is(err, ecosystem.ErrNotMine) {
			continue
		}
		return e, placed, err
	}
	return nil, nil, fault.New(fault.Invalid, "not-recognised", "%s is no package file that Crelvo recognises",
		handed[0].Name).
		WithHint("Say what it is: --as pkg:maven/group/artifact@version.")
}
