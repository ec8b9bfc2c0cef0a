package service

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"
	"time"

	"crelvo/internal/api"
	"crelvo/internal/blob"
	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
	"crelvo/internal/record"
)

// timeForm is how times stand in sentences.
const timeForm = "2006-01-02 15:04 UTC"

// Receive implements ecosystem.Desk: it takes one file of a version.
func (s *Service) Receive(ctx context.Context, caller access.Caller, repository catalog.Repository, e ecosystem.Ecosystem,
	place ecosystem.Place, body io.Reader, length int64) (ecosystem.Receipt, error) {
	repository.Sight = ""
	if err := s.accepts(caller, repository, e, place); err != nil {
		return ecosystem.Receipt{}, err
	}
	if err := s.fits(repository, place.FileName, length); err != nil {
		return ecosystem.Receipt{}, err
	}
	body = &atMost{from: body, left: s.largest(repository)}
	staged, err := s.stage(ctx, body, length, place.FileName)
	if err != nil {
		return ecosystem.Receipt{}, s.broken(ctx, caller, repository, e, place, err)
	}
	defer staged.Discard()
	if err := s.fits(repository, place.FileName, staged.Size()); err != nil {
		return ecosystem.Receipt{}, s.broken(ctx, caller, repository, e, place, err)
	}
	details, err := inspected(ctx, e, place, staged)
	if err != nil {
		return ecosystem.Receipt{}, s.broken(ctx, caller, repository, e, place, err)
	}
	var added record.Added
	err = s.recorded(ctx, []*blob.Staged{staged.file}, func(tx *record.Tx) error {
		if err := s.stillMay(ctx, caller, access.Publish, access.Object{Repository: repository, Package: place.PURL(e.Name())}); err != nil {
			return err
		}
		if place.Snapshot && place.Upload == "" {
			if err := s.nameUpload(ctx, tx, caller, e, repository, &place); err != nil {
				return err
			}
		}
		var err error
		f := s.newFile(caller, repository, e, place)
		f.Digests, f.Details = staged.Digests(), details
		added, err = s.addFile(ctx, tx, e, repository, f)
		if err != nil || !added.Visible || added.Same {
			return err
		}
		event := s.event(caller, "file added")
		event.Repository, event.Subject = repository.Name, place.PURL(e.Name()).String()
		event.Detail = map[string]string{"file": place.FileName}
		return s.announce(ctx, tx, repository, e.Name(), place.Namespace, place.Name, place.Version, event)
	})
	if err != nil {
		return ecosystem.Receipt{}, err
	}
	s.changed(place.Key(e.Name(), repository))
	now := s.Now()
	return ecosystem.Receipt{Same: added.Same, Open: !added.Visible, Quiet: now.Add(s.settings.QuietPeriod), End: now.Add(abandonAfter)}, nil
}

// largest is how large a file may be that is published to a repository, in bytes.
func (s *Service) largest(repository catalog.Repository) int64 {
	if repository.LargestFile > 0 {
		return repository.LargestFile
	}
	return s.settings.LargestFile
}

// LargestFile is how large a file may be that is published to a repository, or
// through a chain to any repository that it leads to, in bytes.
func (s *Service) LargestFile(repository catalog.Repository) int64 {
	if repository.Chain == nil {
		return s.largest(repository)
	}
	most, found := int64(0), false
	for _, id := range []int64{repository.Chain.ReleasesTo, repository.Chain.SnapshotsTo} {
		if r, ok := s.RepositoryByID(id); ok {
			most, found = max(most, s.largest(r)), true
		}
	}
	if !found {
		return s.settings.LargestFile
	}
	return most
}

// fits refuses a file that is larger than a repository takes.
func (s *Service) fits(repository catalog.Repository, name string, size int64) error {
	if most := s.largest(repository); size > most {
		return fault.New(fault.TooLarge, "file-too-large", "%s has %s; %s takes files of up to %s", name, api.Bytes(size), repository.Name, api.Bytes(most)).
			WithHint("An admin of %s can raise that: crelvo repo edit %s --largest-file SIZE.", repository.Name, repository.Name)
	}
	return nil
}

// atMost gives one byte more than there may be, so that too much is seen, and no
// more than that is stored.
type atMost struct {
	from io.Reader
	left int64
}

// Read implements io.Reader.
func (a *atMost) Read(p []byte) (int, error) {
	if a.left < 0 {
		return 0, io.EOF
	}
	n, err := a.from.Read(p[:min(int64(len(p)), a.left+1)])
	a.left -= int64(n)
	return n, err
}

// inspected is what a file tells of its version, if that is not more than can be
// kept.
func inspected(ctx context.Context, e ecosystem.Ecosystem, place ecosystem.Place, file ecosystem.SizedReaderAt) (catalog.Details, error) {
	d, err := e.Inspect(ctx, place, file)
	if err != nil {
		return d, err
	}
	if size, tooMuch := d.NativeSize(); tooMuch {
		return d, fault.New(fault.TooLarge, "manifest-too-large", "%s says %s of itself, which is more than can be kept", place.FileName, api.Bytes(int64(size))).
			WithHint("Make its manifest shorter.")
	}
	return d, nil
}

// broken notes that a file of an open version did not arrive as it should, and
// gives err back. The client may be gone by now.
func (s *Service) broken(ctx context.Context, caller access.Caller, repository catalog.Repository, e ecosystem.Ecosystem, place ecosystem.Place, err error) error {
	if place.Snapshot && place.Upload == "" {
		return err // it is not known which upload it would have belonged to
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer cancel()
	noteErr := s.db.Within(ctx, func(tx *record.Tx) error {
		return tx.MarkBroken(ctx, s.newFile(caller, repository, e, place))
	})
	if noteErr != nil {
		s.log.Error("a cut upload could not be noted", "error", noteErr)
	}
	return err
}

// newFile is what is recorded of a file whatever its bytes are.
func (s *Service) newFile(caller access.Caller, repository catalog.Repository, e ecosystem.Ecosystem, place ecosystem.Place) record.NewFile {
	now := s.Now()
	if place.UploadedAt.IsZero() {
		place.UploadedAt = now
	}
	return record.NewFile{Key: place.Key(e.Name(), repository),
		Version: place.Version, Upload: place.Upload, Snapshot: place.Snapshot,
		UploadedAt: place.UploadedAt, UploadCount: place.UploadCount,
		Name: place.FileName, Classifier: place.Classifier, Extension: place.Extension,
		PublisherID: caller.ID, PublisherName: caller.Name, Token: caller.Token, BuildID: s.buildOf(caller), At: now, QuietSince: now.Add(-s.settings.QuietPeriod)}
}

// Broken implements ecosystem.Desk.
func (s *Service) Broken(ctx context.Context, f catalog.File) error {
	return s.db.MarkFileBroken(ctx, f)
}

// Target implements ecosystem.Desk.
func (s *Service) Target(caller access.Caller, repository catalog.Repository, snapshot bool) (catalog.Repository, error) {
	if repository.Chain == nil {
		return repository, nil
	}
	id, what := repository.Chain.ReleasesTo, "releases"
	if snapshot {
		id, what = repository.Chain.SnapshotsTo, "snapshots"
	}
	target, ok := s.known().byID[id]
	if !ok {
		return repository, fault.New(fault.Conflict, "no-target", "%s does not take %s", repository.Name, what).
			WithHint("Publish to a house repository, or have an admin name the one that %s of %s go to.", what, repository.Name)
	}
	err := s.Allow(caller, access.Publish, access.Of(target))
	if err != nil && !repository.Chain.OpenMembers && !access.Decide(caller, access.Read, access.Of(target)).Allowed {
		// What stands behind a chain is not told to who may not read it.
		f := fault.Of(err)
		err = fault.New(f.Kind, f.Code, "%s may not publish %s to %s", cmp.Or(caller.Name, "nobody"), what, repository.Name).WithHint("%s.", s.whoGrants(everything))
	}
	target.Sight, _ = s.sightOf(caller, target)
	return target, err
}

// MayPublish implements ecosystem.Desk.
func (s *Service) MayPublish(caller access.Caller, repository catalog.Repository, key catalog.PackageKey) error {
	return s.Allow(caller, access.Publish, access.Object{Repository: repository, Package: purlOf(key, "")})
}

// accepts checks that the caller may publish the package, and that a version of
// that maturity belongs in the repository.
func (s *Service) accepts(caller access.Caller, repository catalog.Repository, e ecosystem.Ecosystem, place ecosystem.Place) error {
	if err := s.Allow(caller, access.Publish, access.Object{Repository: repository, Package: place.PURL(e.Name())}); err != nil {
		return err
	}
	if err := place.Check(); err != nil {
		return err
	}
	if err := s.insists(caller, repository); err != nil {
		return err
	}
	if err := s.Takes(repository, place.Snapshot); err == nil || fault.Of(err).Code != "wrong-maturity" {
		return err
	}
	what := maturity(place.Snapshot)
	err := fault.New(fault.Conflict, "wrong-maturity", "%s holds %s, and %s is a %s", repository.Name, repository.Holds, place.Version, what)
	var better []string
	for _, r := range s.Repositories() {
		if r.Kind == catalog.House && r.Holds.Takes(place.Snapshot) && access.Decide(caller, access.Publish, access.Object{Repository: r, Package: place.PURL(e.Name())}).Allowed {
			better = append(better, r.Name)
		}
	}
	if better == nil {
		return err.WithHint("No repository that you may publish to holds %ss.", what)
	}
	// Those that are named alike first; a reason phrase has room for a few.
	slices.SortStableFunc(better, func(a, b string) int { return alike(b, repository.Name) - alike(a, repository.Name) })
	if more := len(better) - maxNamed; more > 0 {
		better = append(better[:maxNamed], fmt.Sprintf("%d more", more))
	}
	return err.WithHint("It belongs in %s.", strings.Join(better, " or "))
}

// alike is how far two names are the same.
func alike(a, b string) (n int) {
	for n < len(a) && n < len(b) && a[n] == b[n] {
		n++
	}
	return n
}

func maturity(snapshot bool) string {
	if snapshot {
		return "snapshot"
	}
	return "release"
}

// Takes checks that versions of that maturity may be published to a repository.
func (s *Service) Takes(repository catalog.Repository, snapshot bool) error {
	if repository.Kind != catalog.House {
		return fault.New(fault.Conflict, "not-a-house", "%s is a %s; only house repositories take what is published", repository.Name, repository.Kind)
	}
	if !repository.Holds.Takes(snapshot) {
		return fault.New(fault.Conflict, "wrong-maturity", "%s holds %s, and no %s", repository.Name, repository.Holds, maturity(snapshot))
	}
	return nil
}

// nameUpload gives a file of a snapshot that does not say to which upload it
// belongs its place: in the caller's own open upload that lacks it, else in a
// new one.
func (s *Service) nameUpload(ctx context.Context, tx *record.Tx, caller access.Caller, e ecosystem.Ecosystem,
	repository catalog.Repository, place *ecosystem.Place) error {
	key := place.Key(e.Name(), repository)
	if err := tx.LockName(ctx, fmt.Sprint(key, place.Version)); err != nil {
		return err
	}
	open, err := tx.OpenOf(ctx, key)
	if err != nil {
		return err
	}
	quietSince := s.Now().Add(-s.settings.QuietPeriod)
	open = slices.DeleteFunc(open, func(o record.OpenVersion) bool {
		return o.Version != place.Version || o.PublisherID != caller.ID || o.TouchedAt.Before(quietSince)
	})
	ids := make([]int64, len(open))
	for i, o := range open {
		ids[i] = o.ID
	}
	files, err := tx.FilesOf(ctx, ids)
	if err != nil {
		return err
	}
	for _, o := range open {
		name := place.NameOf(o.Upload)
		if !slices.ContainsFunc(files[o.ID], func(f catalog.File) bool { return f.Name == name }) {
			place.Upload, place.UploadedAt, place.FileName = o.Upload, o.UploadedAt, name
			place.UploadCount = o.UploadCount
			return nil
		}
	}
	return s.newUpload(ctx, tx, e, key, place)
}

// addFile records a file, or says in a fault why not.
func (s *Service) addFile(ctx context.Context, tx *record.Tx, e ecosystem.Ecosystem, repository catalog.Repository, f record.NewFile) (record.Added, error) {
	added, err := tx.AddFile(ctx, f)
	if err != nil {
		return added, err
	}
	if added.Visible && !added.Same && !added.Taken && !f.Snapshot {
		return added, s.mayGrow(ctx, tx, e, repository, f, added)
	}
	if !added.Taken {
		return added, nil
	}
	exact := f.Version
	if f.Upload != "" {
		exact = f.Upload
	}
	if !added.Visible {
		return added, fault.New(fault.Conflict, "being-published", "%s is publishing %s %s since %s",
			added.By, f.Key.Name, exact, added.At.UTC().Format(timeForm)).
			WithHint("If that was cut, try again after %s.", added.At.Add(s.settings.QuietPeriod).UTC().Format("15:04:05 UTC"))
	}
	names, err := tx.VersionNames(ctx, f.Key)
	if err != nil {
		return added, err
	}
	if !added.RemovedAt.IsZero() {
		return added, fault.New(fault.Conflict, "published-before", "%s %s was published by %s on %s, and removed on %s; a release does not come back with other bytes",
			f.Key.Name, exact, added.By, added.At.UTC().Format(timeForm), added.RemovedAt.UTC().Format(timeForm)).WithHint("%s", nextFree(f.Key, f.Version, names))
	}
	return added, publishedAlready(f.Key, exact, added.By, added.At, f.Name).WithHint("%s", nextFree(f.Key, f.Version, names))
}

// publishedAlready refuses other bytes for a file of a version.
func publishedAlready(key catalog.PackageKey, exact, by string, at time.Time, file string) *fault.Error {
	return fault.New(fault.Conflict, "published-already", "%s %s was published by %s on %s, with other bytes for %s",
		key.Name, exact, by, at.UTC().Format(timeForm), file)
}

// nextFree says which version is free in place of one, where these are taken.
func nextFree(key catalog.PackageKey, version string, taken []string) string {
	return "The next free version is " + purl.NextFree(version, func(v string) bool {
		return v == version || slices.Contains(taken, purl.NormalVersion(key.Ecosystem, v))
	}) + "."
}

// mayGrow refuses a further file of a release that is complete: what was promoted
// stays what was promoted, and nothing takes the place of what is there.
func (s *Service) mayGrow(ctx context.Context, tx *record.Tx, e ecosystem.Ecosystem, repository catalog.Repository, f record.NewFile, added record.Added) error {
	exact := f.Key.Name + " " + f.Version
	promoted, err := tx.PromotedBy(ctx, added.VersionID)
	if err != nil {
		return err
	}
	if promoted != 0 {
		return fault.New(fault.Conflict, "closed", "%s is part of promotion %d and takes no further files", exact, promoted).
			WithHint("Publish %s with the next version.", f.Name)
	}
	files, err := tx.FilesOf(ctx, []int64{added.VersionID})
	if err != nil {
		return err
	}
	there := slices.DeleteFunc(files[added.VersionID], func(o catalog.File) bool { return o.Name == f.Name })
	if ecosystem.Attests(f.Name, there) {
		return nil
	}
	g, grows := e.(ecosystem.Growing)
	switch {
	case repository.Closed:
		return fault.New(fault.Conflict, "closed", "%s is complete, and %s takes no further files for complete versions", exact, repository.Name).
			WithHint("Publish %s with the next version.", f.Name)
	case !grows:
		return fault.New(fault.Conflict, "closed", "%s is complete since %s and takes no further files", exact, added.At.UTC().Format(timeForm)).
			WithHint("Publish %s with the next version.", f.Name)
	case added.PublisherID != f.PublisherID && (f.BuildID == 0 || f.BuildID != added.BuildID):
		return fault.New(fault.Denied, "others-version", "%s was published by %s; only the same publisher or build may add files to it", exact, added.By).
			WithHint("Publish %s with the next version.", f.Name)
	}
	if why := g.MayNotGrow(there, f.Name, f.Classifier, f.Extension); why != "" {
		return fault.New(fault.Conflict, "closed", "%s is complete, and %s cannot be added to it: %s", exact, f.Name, why).
			WithHint("Publish it with the next version.")
	}
	return nil
}

// announce ends a transaction that changed what can be seen of a package.
func (s *Service) announce(ctx context.Context, tx *record.Tx, repository catalog.Repository,
	ecosystemName, namespace, name, version string, event record.Event) error {
	return tx.Append(ctx, event, record.Change{Kind: "package", RepositoryID: repository.ID, Repository: repository.Name,
		Ecosystem: ecosystemName, Namespace: namespace, Name: name, Version: version})
}

// keeping counts, per digest, who is between storing bytes and recording them.
type keeping struct {
	mu  sync.Mutex
	who map[[32]byte]int
}

// recorded stores staged bytes and then runs do in a transaction. If that
// fails, bytes that no record names are dropped again.
func (s *Service) recorded(ctx context.Context, staged []*blob.Staged, do func(tx *record.Tx) error) error {
	k := &s.keeping
	k.mu.Lock()
	if k.who == nil {
		k.who = map[[32]byte]int{}
	}
	for _, st := range staged {
		k.who[st.Digests.SHA256]++
	}
	k.mu.Unlock()
	err := s.recordKept(ctx, staged, do)
	// Bytes that nothing named may be reclaimed between the two; then all of it is
	// done again.
	for try := 0; record.BytesGone(err) && try < 3; try++ {
		err = s.recordKept(ctx, staged, do)
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	for _, st := range staged {
		digest := st.Digests.SHA256
		if k.who[digest]--; k.who[digest] > 0 {
			continue
		}
		delete(k.who, digest)
		if err == nil {
			continue
		}
		// The commit's answer may have been lost on its way; only records tell.
		clean, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
		known, knowErr := s.db.KnowsBlob(clean, digest)
		if knowErr == nil && !known {
			knowErr = s.blobs.Drop(clean, digest)
		}
		cancel()
		if knowErr != nil {
			s.log.Warn("stored bytes of a failed publication stay until the records can be asked", "sha256", st.Digests.Hex("sha256"), "error", knowErr)
			s.leave(st)
		}
	}
	return err
}

func (s *Service) recordKept(ctx context.Context, staged []*blob.Staged, do func(tx *record.Tx) error) error {
	for _, st := range staged {
		if err := s.blobs.Keep(ctx, st); err != nil {
			return s.storeFault(err)
		}
	}
	return s.db.Within(ctx, func(tx *record.Tx) error {
		if err := do(tx); err != nil {
			return err
		}
		// From here on nobody can reclaim what the records name. Somebody may have
		// done so since it was kept, and may not have come to the end of it.
		for _, st := range staged {
			there, err := s.blobs.Has(ctx, st.Digests.SHA256)
			if err == nil && !there {
				err = s.blobs.Keep(ctx, st)
			}
			if err != nil {
				return s.storeFault(err)
			}
		}
		return nil
	})
}

// Finish implements ecosystem.Desk.
func (s *Service) Finish(ctx context.Context, caller access.Caller, repository catalog.Repository, c ecosystem.Completion) error {
	open, err := s.db.OpenOf(ctx, c.Key)
	if err != nil {
		return err
	}
	ids := make([]int64, len(open))
	for i, o := range open {
		ids[i] = o.ID
	}
	files, err := s.db.FilesOf(ctx, ids)
	if err != nil {
		return err
	}
	var mine []record.OpenVersion
	for _, o := range open {
		if o.PublisherID != caller.ID || !c.Version(o.Version, o.Upload) {
			continue
		}
		if o.BrokenFile != "" {
			missing := o.BrokenFile
			if missing == record.Interrupted {
				missing = "a file, while the server was restarted,"
			}
			return fault.New(fault.Conflict, "broken-upload", "%s did not arrive whole, so %s cannot be completed", missing, o.Version).
				WithHint("Publish it again.")
		}
		if missing := c.Lacks(files[o.ID]); missing != "" {
			return fault.New(fault.Conflict, "not-whole", "%s lacks %s, which did not come with what was sent last", o.Version, missing).
				WithHint("Publish all of it again.")
		}
		mine = append(mine, o)
	}
	return s.complete(ctx, caller, mine)
}

// complete makes versions visible, all of them together.
func (s *Service) complete(ctx context.Context, caller access.Caller, versions []record.OpenVersion) error {
	if len(versions) == 0 {
		return nil
	}
	err := s.db.Within(ctx, func(tx *record.Tx) error {
		for _, v := range versions {
			done, err := tx.Complete(ctx, v.ID, v.Sends, s.Now())
			if err != nil {
				return err
			}
			if !done {
				continue // somebody else was quicker
			}
			if err := s.announceVersion(ctx, tx, caller, "version published", v.Repository, v.PackageKey(), v.Version, v.Upload); err != nil {
				return err
			}
		}
		return nil
	})
	for _, v := range versions {
		s.changed(v.PackageKey())
	}
	return err
}

func (s *Service) announceVersion(ctx context.Context, tx *record.Tx, caller access.Caller, action, repository string,
	key catalog.PackageKey, version, upload string) error {
	event := s.event(caller, action)
	event.Repository = repository
	event.Subject = purl.PURL{Ecosystem: key.Ecosystem, Namespace: key.Namespace, Name: key.Name, Version: version}.String()
	if upload != "" {
		event.Detail = map[string]string{"upload": upload}
	}
	return s.announce(ctx, tx, catalog.Repository{ID: key.RepositoryID, Name: repository},
		key.Ecosystem, key.Namespace, key.Name, version, event)
}

// completeQuiet completes versions whose clients went quiet after sending all
// that such a version needs. Each is looked at once: what is sent later touches
// it again.
func (s *Service) completeQuiet(ctx context.Context) error {
	quietSince := s.Now().Add(-s.settings.QuietPeriod)
	open, err := s.db.OpenBetween(ctx, s.lookedAt, quietSince)
	if err != nil {
		return err
	}
	ids := make([]int64, len(open))
	for i, o := range open {
		ids[i] = o.ID
	}
	files, err := s.db.FilesOf(ctx, ids)
	if err != nil {
		return err
	}
	for _, o := range open {
		e := s.Ecosystem(o.Key.Ecosystem)
		if e == nil || o.BrokenFile != "" {
			continue
		}
		var details catalog.Details
		if err := json.Unmarshal(o.RawDetails, &details); err != nil {
			return err
		}
		if !e.Whole(details, files[o.ID]) {
			continue
		}
		if err := s.complete(ctx, publisherOf(o), []record.OpenVersion{o}); err != nil {
			return err
		}
	}
	s.lookedAt = quietSince
	return nil
}

// giveUp abandons versions that stayed incomplete for long.
func (s *Service) giveUp(ctx context.Context) error {
	open, err := s.db.OpenBetween(ctx, time.Time{}, s.Now().Add(-abandonAfter))
	if err != nil {
		return err
	}
	for _, o := range open {
		if err := s.abandon(ctx, publisherOf(o), o); err != nil {
			return err
		}
	}
	return nil
}

func publisherOf(o record.OpenVersion) access.Caller {
	return access.Caller{ID: o.PublisherID, Name: o.PublishedBy}
}

func (s *Service) abandon(ctx context.Context, publisher access.Caller, o record.OpenVersion) error {
	return s.db.Within(ctx, func(tx *record.Tx) error {
		done, err := tx.Abandon(ctx, o.ID, s.Now())
		if err != nil || !done {
			return err
		}
		event := s.event(publisher, "publication given up")
		event.Repository = o.Repository
		event.Subject = purl.PURL{Ecosystem: o.Key.Ecosystem, Namespace: o.Key.Namespace, Name: o.Key.Name, Version: o.Version}.String()
		event.Detail = map[string]string{"incomplete": o.BrokenFile}
		return tx.Append(ctx, event)
	})
}

func (s *Service) choresOfPublishing() []Chore {
	return []Chore{
		{Every: max(min(s.settings.QuietPeriod/4, 10*time.Second), 50*time.Millisecond), What: "completing quiet versions", Do: s.completeQuiet},
		{Every: time.Minute, What: "giving up versions", Do: s.giveUp},
		{Every: 10 * time.Minute, What: "dropping what was begun", Do: s.dropBegun},
	}
}
