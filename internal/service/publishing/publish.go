package publishing

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"crelvo/internal/api"
	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/service/directory"
	"crelvo/internal/service/rights"
	"crelvo/internal/service/store"
	bytestore "crelvo/internal/store"
)

// Receive implements ecosystem.Desk: it takes one file of a version.
func (s *Publishing) Receive(ctx context.Context, caller access.Caller, repository catalog.Repository,
	e ecosystem.Ecosystem,
	place ecosystem.Place, body io.Reader, length int64) (ecosystem.Receipt, error) {
	repository.Sight = ""
	if err := s.accepts(caller, repository, e, place); err != nil {
		return ecosystem.Receipt{}, err
	}
	if err := s.fits(repository, place.FileName, length); err != nil {
		return ecosystem.Receipt{}, err
	}
	body = &atMost{from: body, left: s.largest(repository)}
	arrived := s.stillArrives(ctx, place.Key(e.Name(), repository), place)
	staged, err := s.store.Staging(ctx, repository, body, length, place.FileName)
	arrived()
	if err != nil {
		return ecosystem.Receipt{}, s.noteBroken(ctx, caller, repository, e, place, err)
	}
	defer staged.Discard()
	if err := s.fits(repository, place.FileName, staged.Size()); err != nil {
		return ecosystem.Receipt{}, s.noteBroken(ctx, caller, repository, e, place, err)
	}
	details, err := inspected(ctx, e, place, staged)
	if err != nil {
		return ecosystem.Receipt{}, s.noteBroken(ctx, caller, repository, e, place, err)
	}
	added, err := s.receive(ctx, caller, repository, e, &place, staged, details)
	if err != nil {
		return ecosystem.Receipt{}, err
	}
	s.Changed(place.Key(e.Name(), repository))
	now := s.Now()
	return ecosystem.Receipt{Same: added.Same, Open: !added.Visible, Quiet: now.Add(s.Settings.QuietPeriod),
		End: now.Add(abandonAfter)}, nil
}

// touchEvery is how often a version is touched for which a file arrives for long.
const touchEvery = 8 * time.Second

// stillArrives touches the open version of a file now and then until arrived is called: what
// another node was receiving when it died is told by that from what this one receives.
func (s *Publishing) stillArrives(
	ctx context.Context, key catalog.PackageKey, place ecosystem.Place,
) (arrived func()) {
	if s.Alone() {
		return func() {}
	}
	touching, stop := context.WithCancel(context.WithoutCancel(ctx))
	go s.Every(touching, act.Chore{Every: touchEvery, What: "touching what arrives", Always: true,
		Do: func(ctx context.Context) error {
			return s.DB.TouchOpen(ctx, key, place.Version, place.Upload, s.Now())
		}})
	return stop
}

// receive records a file of a version. A file that does not say to which upload of a
// snapshot it belongs is given its place.
func (s *Publishing) receive(
	ctx context.Context, caller access.Caller, repository catalog.Repository, e ecosystem.Ecosystem,
	place *ecosystem.Place, staged *store.Staging, details catalog.Details,
) (added record.Added, err error) {
	file := func() record.NewFile {
		f := s.newFile(caller, repository, e, *place)
		f.Digests, f.Details = staged.Digests(), details
		return f
	}
	recorded := func(ctx context.Context, look func(*record.Tx) error) (err error) {
		if err := s.stillMay(ctx, caller, access.Publish,
			access.Object{Repository: repository, Package: place.PURL(e.Name())}); err != nil {
			return err
		}
		nameless := place.Snapshot && place.Upload == ""
		if !nameless {
			var done bool
			if added, done, err = s.DB.AddAtOnce(ctx, file(), func() error { return look(nil) }); err != nil || done {
				return err
			}
		}
		return s.DB.Within(ctx, func(tx *record.Tx) (err error) {
			if nameless {
				if err := s.nameUpload(ctx, tx, caller, e, repository, place); err != nil {
					return err
				}
			}
			if added, err = s.addFile(ctx, tx, e, repository, file()); err != nil {
				return err
			}
			if added.Visible && !added.Same {
				event := s.Event(caller, record.EventFileAdded)
				event.Repository, event.Subject = repository.Name, place.PURL(e.Name()).String()
				event.Detail = map[string]string{"file": place.FileName}
				if err := s.Announce(ctx, tx, repository, e.Name(), place.Namespace, place.Name, place.Version,
					event); err != nil {
					return err
				}
			}
			return look(tx)
		})
	}
	err = s.store.RecordedBy(ctx, []*bytestore.Staged{staged.File}, recorded)
	return added, err
}

// largest is how large a file may be that is published to a repository, in bytes.
func (s *Publishing) largest(repository catalog.Repository) int64 {
	if repository.LargestFile > 0 {
		return repository.LargestFile
	}
	return s.Settings.LargestFile
}

// LargestFile is how large a file may be that is published to a repository, or
// through a chain to any repository that it leads to, in bytes.
func (s *Publishing) LargestFile(repository catalog.Repository) int64 {
	if repository.Chain == nil {
		return s.largest(repository)
	}
	most, found := int64(0), false
	for _, id := range []int64{repository.Chain.ReleasesTo, repository.Chain.SnapshotsTo} {
		if r, ok := s.directory.RepositoryByID(id); ok {
			most, found = max(most, s.largest(r)), true
		}
	}
	if !found {
		return s.Settings.LargestFile
	}
	return most
}

// fits refuses a file that is larger than a repository takes.
func (s *Publishing) fits(repository catalog.Repository, name string, size int64) error {
	if most := s.largest(repository); size > most {
		return fault.New(fault.TooLarge, "file-too-large", "%s has %s; %s takes files of up to %s", name, api.Bytes(size),
			repository.Name, api.Bytes(most)).
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
func inspected(
	ctx context.Context, e ecosystem.Ecosystem, place ecosystem.Place, file ecosystem.SizedReaderAt,
) (catalog.Details, error) {
	d, err := e.Inspect(ctx, place, file)
	if err != nil {
		return d, err
	}
	if size, tooMuch := d.NativeSize(); tooMuch {
		return d, fault.New(fault.TooLarge, "manifest-too-large", "%s says %s of itself, which is more than can be kept",
			place.FileName, api.Bytes(int64(size))).
			WithHint("Make its manifest shorter.")
	}
	return d, nil
}

// noteBroken notes that a file of an open version did not arrive as it should, and
// gives err back. The client may be gone by now.
func (s *Publishing) noteBroken(
	ctx context.Context, caller access.Caller, repository catalog.Repository, e ecosystem.Ecosystem, place ecosystem.Place,
	err error,
) error {
	if place.Snapshot && place.Upload == "" {
		return err // it is not known which upload it would have belonged to
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer cancel()
	noteErr := s.DB.Within(ctx, func(tx *record.Tx) error {
		return tx.MarkBroken(ctx, s.newFile(caller, repository, e, place))
	})
	if noteErr != nil {
		s.Log.Error("a cut upload could not be noted", "error", noteErr)
	}
	return err
}

// newFile is what is recorded of a file whatever its bytes are.
func (s *Publishing) newFile(
	caller access.Caller, repository catalog.Repository, e ecosystem.Ecosystem, place ecosystem.Place,
) record.NewFile {
	now := s.Now()
	if place.UploadedAt.IsZero() {
		place.UploadedAt = now
	}
	return record.NewFile{Key: place.Key(e.Name(), repository),
		Version: place.Version, Upload: place.Upload, Snapshot: place.Snapshot,
		UploadedAt: place.UploadedAt, UploadCount: place.UploadCount,
		Name: place.FileName, Classifier: place.Classifier, Extension: place.Extension,
		PublisherID: caller.ID, PublisherName: caller.Name, Token: caller.Token, BuildID: s.builds.Of(caller), At: now,
		QuietSince: now.Add(-s.Settings.QuietPeriod)}
}

// Broken implements ecosystem.Desk.
func (s *Publishing) Broken(ctx context.Context, f catalog.File) error {
	return s.DB.MarkFileBroken(ctx, f)
}

// MayPublish implements ecosystem.Desk.
func (s *Publishing) MayPublish(caller access.Caller, repository catalog.Repository, key catalog.PackageKey) error {
	return s.directory.Allow(caller, access.Publish, access.Object{Repository: repository, Package: act.PURLOf(key, "")})
}

// Accepts checks that the caller may publish a file of some bytes there, and that it fits.
func (s *Publishing) Accepts(
	caller access.Caller, repository catalog.Repository, e ecosystem.Ecosystem, place ecosystem.Place, size int64,
) error {
	if err := s.accepts(caller, repository, e, place); err != nil {
		return err
	}
	return s.fits(repository, place.FileName, size)
}

// accepts checks that the caller may publish the package, and that a version of
// that maturity belongs in the repository.
func (s *Publishing) accepts(
	caller access.Caller, repository catalog.Repository, e ecosystem.Ecosystem, place ecosystem.Place,
) error {
	if err := s.directory.Allow(caller, access.Publish,
		access.Object{Repository: repository, Package: place.PURL(e.Name())}); err != nil {
		return err
	}
	if err := place.Check(); err != nil {
		return err
	}
	if err := s.Insists(caller, repository); err != nil {
		return err
	}
	err := s.Takes(repository, place.Snapshot)
	if err == nil || fault.Of(err).Code != "wrong-maturity" {
		return err
	}
	if _, byLabels := e.(ecosystem.Maturing); byLabels {
		return nil
	}
	what := Maturity(place.Snapshot)
	refusal := fault.New(fault.Conflict, "wrong-maturity", "%s holds %s, and %s is a %s", repository.Name,
		repository.Holds, place.Version, what)
	var better []string
	for _, r := range s.directory.Repositories() {
		if r.Accepts(place.Snapshot) &&
			access.Decide(caller, access.Publish, access.Object{Repository: r, Package: place.PURL(e.Name())}).Allowed {
			better = append(better, r.Name)
		}
	}
	if better == nil {
		return refusal.WithHint("No repository that you may publish to holds %ss.", what)
	}
	// Those that are named alike first; a reason phrase has room for a few.
	slices.SortStableFunc(better, func(a, b string) int { return alike(b, repository.Name) - alike(a, repository.Name) })
	if more := len(better) - directory.MaxNamed; more > 0 {
		better = append(better[:directory.MaxNamed], fmt.Sprintf("%d more", more))
	}
	return refusal.WithHint("It belongs in %s.", strings.Join(better, " or "))
}

// alike is how far two names are the same.
func alike(a, b string) (n int) {
	for n < len(a) && n < len(b) && a[n] == b[n] {
		n++
	}
	return n
}

func Maturity(snapshot bool) string {
	if snapshot {
		return "snapshot"
	}
	return "release"
}

// Takes checks that versions of that maturity may be published to a repository.
func (s *Publishing) Takes(repository catalog.Repository, snapshot bool) error {
	if !repository.Own() {
		return fault.New(fault.Conflict, "not-a-house", "%s is a %s; only house repositories take what is published",
			repository.Name, repository.Kind)
	}
	if !repository.Holds.Takes(snapshot) {
		return fault.New(fault.Conflict, "wrong-maturity", "%s holds %s, and no %s", repository.Name, repository.Holds,
			Maturity(snapshot))
	}
	return nil
}

// nameUpload gives a file of a snapshot that does not say to which upload it
// belongs its place: in the caller's own open upload that lacks it, else in a
// new one.
func (s *Publishing) nameUpload(ctx context.Context, tx *record.Tx, caller access.Caller, e ecosystem.Ecosystem,
	repository catalog.Repository, place *ecosystem.Place) error {
	key := place.Key(e.Name(), repository)
	if err := tx.LockName(ctx, fmt.Sprint(key, place.Version)); err != nil {
		return err
	}
	open, err := tx.OpenOf(ctx, key)
	if err != nil {
		return err
	}
	quietSince := s.Now().Add(-s.Settings.QuietPeriod)
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
func (s *Publishing) addFile(
	ctx context.Context, tx *record.Tx, e ecosystem.Ecosystem, repository catalog.Repository, f record.NewFile,
) (record.Added, error) {
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
			added.By, f.Key.Name, exact, added.At.UTC().Format(act.TimeForm)).
			WithHint("If that was cut, try again after %s.", added.At.Add(s.Settings.QuietPeriod).UTC().Format("15:04:05 UTC"))
	}
	names, err := tx.VersionNames(ctx, f.Key)
	if err != nil {
		return added, err
	}
	if !added.RemovedAt.IsZero() {
		return added, fault.New(fault.Conflict, "published-before",
			"%s %s was published by %s on %s, and removed on %s; a release does not come back with other bytes",
			f.Key.Name, exact, added.By, added.At.UTC().Format(act.TimeForm), added.RemovedAt.UTC().Format(act.TimeForm)).
			WithHint("%s", nextFree(f.Key, f.Version, names))
	}
	return added, publishedAlready(f.Key, exact, added.By, added.At, f.Name).
		WithHint("%s", nextFree(f.Key, f.Version, names))
}

// publishedAlready refuses other bytes for a file of a version.
func publishedAlready(key catalog.PackageKey, exact, by string, at time.Time, file string) *fault.Error {
	return fault.New(fault.Conflict, "published-already", "%s %s was published by %s on %s, with other bytes for %s",
		key.Name, exact, by, at.UTC().Format(act.TimeForm), file)
}

// nextFree says which version is free in place of one, where these are taken.
func nextFree(key catalog.PackageKey, version string, taken []string) string {
	return "The next free version is " + purl.NextFree(version, func(v string) bool {
		return v == version || slices.Contains(taken, purl.NormalVersion(key.Ecosystem, v))
	}) + "."
}

// mayGrow refuses a further file of a release that is complete: what was promoted
// stays what was promoted, and nothing takes the place of what is there.
func (s *Publishing) mayGrow(
	ctx context.Context, tx *record.Tx, e ecosystem.Ecosystem, repository catalog.Repository, f record.NewFile,
	added record.Added,
) error {
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
		return fault.New(fault.Conflict, "closed", "%s is complete, and %s takes no further files for complete versions",
			exact, repository.Name).
			WithHint("Publish %s with the next version.", f.Name)
	case !grows:
		return fault.New(fault.Conflict, "closed", "%s is complete since %s and takes no further files", exact,
			added.At.UTC().Format(act.TimeForm)).
			WithHint("Publish %s with the next version.", f.Name)
	case added.PublisherID != f.PublisherID && (f.BuildID == 0 || f.BuildID != added.BuildID):
		return fault.New(fault.Denied, "others-version",
			"%s was published by %s; only the same publisher or build may add files to it", exact, added.By).
			WithHint("Publish %s with the next version.", f.Name)
	}
	if why := g.MayNotGrow(there, f.Name, f.Classifier, f.Extension); why != "" {
		return fault.New(fault.Conflict, "closed", "%s is complete, and %s cannot be added to it: %s", exact, f.Name, why).
			WithHint("Publish it with the next version.")
	}
	return nil
}

func (s *Publishing) Chores() []act.Chore {
	return []act.Chore{
		{Every: max(min(s.Settings.QuietPeriod/4, 10*time.Second), 50*time.Millisecond), What: "completing quiet versions",
			Do: s.completeQuiet},
		{Every: time.Minute, What: "giving up versions", Do: s.giveUp},
		{Every: 10 * time.Minute, What: "dropping what was begun", Do: s.dropBegun},
		{Every: 10 * time.Minute, What: "dropping parts that nothing names", Do: s.dropParts},
	}
}

// Insists checks what a repository asks of everybody who publishes to it.
func (s *Publishing) Insists(caller access.Caller, r catalog.Repository) error {
	if r.OnlyRobots && !caller.Robot {
		return fault.New(fault.Denied, "only-robots", "%s takes only what robots publish, and %s is a person", r.Name,
			caller.Name).
			WithHint("Have CI publish it.")
	}
	if !r.OnlyBuilds {
		return nil
	}
	id := s.builds.Of(caller)
	if id == 0 {
		return fault.New(fault.Denied, "only-builds", "%s takes only what comes from a build that is on record", r.Name).
			WithHint("Begin one first (crelvo build begin NAME#NUMBER), or name it in the header %s.", api.BuildHeader)
	}
	// Anybody who publishes can say that it is a build; it is CI's word that counts.
	for _, b := range s.builds.Open() {
		if b.ID == id && (b.GivenName || caller.Robot) {
			return nil
		}
	}
	return fault.New(fault.Denied, "only-builds", "%s takes only what CI builds, and nobody gave this build's name to %s",
		r.Name, caller.Name).
		WithHint("Have a robot publish it, or an admin give the name: crelvo build give NAME %s.", caller.Name)
}

// stillMay checks once more that a caller may do something, where it began long
// ago: its token may have been revoked or have ended since, or its role taken away.
func (s *Publishing) stillMay(ctx context.Context, caller access.Caller, action access.Action, o access.Object) error {
	now, changed, err := s.Still(ctx, caller)
	if err != nil || !changed {
		return err
	}
	return s.directory.Allow(now, action, o)
}

// Still is a caller that began something long ago as it may do things now; changed is false if nothing has changed
// since, as far as rights go.
func (s *Publishing) Still(ctx context.Context, caller access.Caller) (now access.Caller, changed bool, err error) {
	if !caller.TokenEnds.IsZero() && !s.Now().Before(caller.TokenEnds) {
		return caller, false, rights.Ended(caller.Name, caller.Token)
	}
	if caller.Generation == 0 || s.AccessAge() == caller.Generation { // 0: the program itself
		return caller, false, nil
	}
	now, err = s.rights.Still(ctx, caller.Name, caller.Token)
	now.Build, now.Address = caller.Build, caller.Address
	return now, true, err
}

const abandonAfter = 24 * time.Hour
