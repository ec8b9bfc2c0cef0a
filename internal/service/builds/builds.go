package builds

import (
	"context"
	"encoding/hex"
	"regexp"
	"slices"
	"strings"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/junit"
	"crelvo/internal/core/purl"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
)

// Report is what somebody says of a build.
type Report struct {
	Name, Number                  string
	Revision, Branch, Link, Agent string
	StartedAt                     time.Time // zero: when it was begun, or when the last one with the token ended
	Notes                         map[string]string
	JUnit                         []string // reports, as XML
	Made                          []string // package URLs
	Digests                       []string // SHA-256 of files that it published, in hexadecimal
	Used                          []string // package URLs
	In                            string   // the repository that Made and Used are in; "" for any
}

// View is a build with what it made and used, as far as somebody may see it.
type View struct {
	record.Build
	Made      []Output
	Used      []Output
	Documents []record.BuildDocument
}

// Output is a version that a build made or used, with the repository that it is in.
type Output struct {
	record.MadeVersion
	Repository catalog.Repository
	// Licences are those that it states, of which one is enough; none if it states none.
	Licences []string
}

// PURL names it.
func (p Output) PURL() purl.PURL { return act.PURLOf(p.Key(), p.Version) }

const (
	// longestBuild is how long after its beginning a build may still publish.
	longestBuild = 24 * time.Hour
	// MaxDocument is how large a document attached to a build may be, in bytes.
	MaxDocument       = 8 << 20
	maxBuildDocuments = 50
	longestName       = 100
)

var (
	// buildName may be that of a project and of a workflow in it, with blanks; of at most
	// longestName letters, which would make the expression slow to compile.
	buildName   = regexp.MustCompile(`^[A-Za-z0-9](?:[A-Za-z0-9._/ -]*[A-Za-z0-9._-])?$`)
	buildNumber = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]{0,39}$`)
)

// SplitBuild parts name#number.
func SplitBuild(text string) (name, number string, err error) {
	if i := strings.LastIndexByte(text, '#'); i >= 0 {
		name, number = text[:i], text[i+1:]
	}
	if len(name) > longestName || !buildName.MatchString(name) || !buildNumber.MatchString(number) {
		return "", "", act.Invalid("bad-build", "%.150q names no build", text).
			WithHint("Write it as NAME#NUMBER, such as berth-planner#118; the name may have letters, digits, blanks and . _ / " +
				"-.")
	}
	return name, number, nil
}

// Open are the builds that have not ended.
func (s *Builds) Open() []record.OpenBuild {
	generation := s.buildGeneration.Load()
	if known := s.openBuilds.Load(); known != nil && known.Generation == generation {
		return known.Value
	}
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	open, err := s.DB.OpenBuilds(ctx, s.Now().Add(-longestBuild))
	if err != nil {
		s.Log.Error("the builds that are running could not be read", "error", err)
		return nil
	}
	s.openBuilds.Store(&act.Aged[[]record.OpenBuild]{Value: open, Generation: generation})
	return open
}

// Of is the build that what the caller publishes belongs to: the one that
// the request names, or the only one that began with its token; 0 if there is
// none.
func (s *Builds) Of(caller access.Caller) int64 {
	if caller.Build != 0 || caller.Token == "" {
		return caller.Build
	}
	found := int64(0)
	for _, b := range s.Open() {
		if b.OwnerID == caller.ID && b.Token == caller.Token {
			if found != 0 {
				return 0 // nobody knows which
			}
			found = b.ID
		}
	}
	return found
}

// SayBuild finds the build that a request names, and begins it if need be.
func (s *Builds) SayBuild(ctx context.Context, caller access.Caller, text string) (int64, error) {
	name, number, err := SplitBuild(text)
	if err != nil {
		return 0, err
	}
	for _, b := range s.Open() {
		if b.Title == text && b.OwnerID == caller.ID {
			return b.ID, nil
		}
	}
	b, err := s.recordBegun(ctx, caller, name, number, "")
	return b.ID, err
}

// BeginBuild notes that a build begins. What is published with the caller's token
// belongs to it until it is recorded. beside are other builds that run with the
// token: what is published belongs to none of them unless the upload says to which.
func (s *Builds) BeginBuild(
	ctx context.Context, caller access.Caller, title string,
) (b record.Build, beside []string, err error) {
	if err := s.directory.Allow(caller, access.SignedIn, act.Everything); err != nil {
		return b, nil, err
	}
	name, number, err := SplitBuild(title)
	if err != nil {
		return b, nil, err
	}
	if b, err = s.recordBegun(ctx, caller, name, number, caller.Token); err != nil || caller.Token == "" {
		return b, nil, err
	}
	for _, open := range s.Open() {
		if open.OwnerID == caller.ID && open.Token == caller.Token && open.ID != b.ID {
			beside = append(beside, open.Title)
		}
	}
	return b, beside, nil
}

func (s *Builds) recordBegun(
	ctx context.Context, caller access.Caller, name, number, token string,
) (b record.Build, err error) {
	err = s.changeBuilds(ctx, func(tx *record.Tx) error {
		if _, err := s.speaksFor(ctx, tx, caller, name); err != nil {
			return err
		}
		b = record.Build{Name: name, Number: number, StartedAt: s.Now(), OwnerID: caller.ID, Owner: caller.Name, Token: token}
		id, ok, err := tx.BeginBuild(ctx, b)
		if err != nil {
			return err
		}
		if !ok {
			b, err = tx.Build(ctx, record.BuildFilter{Name: name, Number: number})
			if err == nil && b.OwnerID != caller.ID {
				err = othersBuild(b)
			}
			if err == nil && b.EndedAt != nil {
				err = fault.New(fault.Conflict, "build-ended", "%s was recorded at %s", b.Title(),
					b.EndedAt.UTC().Format(act.TimeForm)).
					WithHint("Give each run of CI a number of its own.")
			}
			return err
		}
		b.ID = id
		event := s.Event(caller, record.EventBuildBegun)
		event.Subject = b.Title()
		return tx.Append(ctx, event, record.Change{Kind: record.OfBuild, Name: b.Title()})
	})
	return b, err
}

func othersBuild(b record.Build) error {
	return fault.New(fault.Conflict, "others-build", "%s was begun by %s", b.Title(), b.Owner).
		WithHint("Give each run of CI a number of its own.")
}

func (s *Builds) changeBuilds(ctx context.Context, do func(tx *record.Tx) error) error {
	err := s.DB.Within(ctx, do)
	s.buildGeneration.Add(1)
	return err
}

// RecordBuild records a build, or adds to what the same caller recorded of it:
// what it made and used, and how its tests went. Without Made and Digests, what
// was published with the caller's token since it began is what it made.
func (s *Builds) RecordBuild(ctx context.Context, caller access.Caller, report Report) (record.Build, error) {
	if err := s.directory.Allow(caller, access.SignedIn, act.Everything); err != nil {
		return record.Build{}, err
	}
	if _, _, err := SplitBuild(report.Name + "#" + report.Number); err != nil {
		return record.Build{}, err
	}
	var tests *junit.Summary
	for i, text := range report.JUnit {
		one, err := junit.Read(strings.NewReader(text))
		if err != nil {
			return record.Build{}, act.Invalid("bad-junit", "test report %d: %v", i+1, err)
		}
		if tests == nil {
			tests = new(junit.Summary)
		}
		tests.Add(one)
	}
	made, err := s.madeOf(ctx, caller, report)
	if err != nil {
		return record.Build{}, err
	}
	used, err := s.VersionsOf(ctx, caller, report.Used, report.In)
	if err != nil {
		return record.Build{}, err
	}
	s.counting.WriteNow(ctx) // what was fetched a moment ago belongs to it too
	var b record.Build
	err = s.changeBuilds(ctx, func(tx *record.Tx) error {
		var err error
		if b, err = s.reported(ctx, tx, caller, report, tests); err != nil {
			return err
		}
		if len(report.Made)+len(report.Digests) == 0 && caller.Token != "" {
			more, err := tx.PublishedWith(ctx, caller.ID, caller.Token, b.StartedAt)
			if err != nil {
				return err
			}
			made = more
		}
		if err := s.allArrived(ctx, tx, caller, b); err != nil {
			return err
		}
		ids := versionIDs(made)
		n, err := tx.GiveToBuild(ctx, b.ID, ids)
		if err == nil && int(n) < len(ids) {
			err = fault.New(fault.Conflict, "made-by-another", "some of what %s is said to have made was made by another build",
				b.Title()).
				WithHint("crelvo show tells which build made a version.")
		}
		if err != nil {
			return err
		}
		if b.Token == "" { // it was begun by a header
			b.Token = caller.Token
		}
		if err := tx.UseBy(ctx, b, versionIDs(used)); err != nil {
			return err
		}
		if b, err = tx.Build(ctx, record.BuildFilter{ID: b.ID}); err != nil {
			return err
		}
		event := s.Event(caller, record.EventBuildRecorded)
		event.Subject = b.Title()
		event.Detail = map[string]string{"made": act.Plural(int64(b.Made), "version"), "revision": b.Revision}
		changes := []record.Change{{Kind: record.OfBuild, Name: b.Title()}}
		for _, m := range made {
			r, _ := s.directory.RepositoryByID(m.RepositoryID)
			changes = append(changes, record.Change{Kind: record.OfPackage, RepositoryID: m.RepositoryID, Repository: r.Name,
				Ecosystem: m.Ecosystem, Namespace: m.Namespace, Name: m.Name, Version: m.Version})
		}
		return tx.Append(ctx, event, changes...)
	})
	return b, err
}

// allArrived refuses to record a build while something that it publishes is being
// received: it would be left out, and of promotions too.
func (s *Builds) allArrived(ctx context.Context, tx *record.Tx, caller access.Caller, b record.Build) error {
	open, err := tx.ArrivingOf(ctx, b.ID)
	if err == nil && caller.Token != "" {
		var more []record.Arriving
		more, err = tx.ArrivingWith(ctx, caller.ID, caller.Token, b.StartedAt)
		open = append(open, more...)
	}
	for _, a := range open {
		if until := a.TouchedAt.Add(s.Settings.QuietPeriod); a.Broken == "" && s.Now().Before(until) {
			f := fault.New(fault.Conflict, "still-arriving", "%s is still being received, so %s cannot be recorded yet",
				purl.PURL{Ecosystem: a.Ecosystem, Namespace: a.Namespace, Name: a.Name, Version: a.Version}, b.Title()).
				WithHint("It is complete when its client says so, or %s after its last file, at %s. Try again then.",
					s.Settings.QuietPeriod, until.UTC().Format("15:04:05 UTC"))
			f.After = until.Sub(s.Now()).Truncate(time.Second) + time.Second
			return f
		}
	}
	return err
}

// reported writes what is said of a build itself.
func (s *Builds) reported(
	ctx context.Context, tx *record.Tx, caller access.Caller, report Report, tests *junit.Summary,
) (record.Build, error) {
	if _, err := s.speaksFor(ctx, tx, caller, report.Name); err != nil {
		return record.Build{}, err
	}
	now := s.Now()
	started := report.StartedAt
	if started.IsZero() {
		started = now.Add(-longestBuild)
		if last, err := tx.Builds(ctx, record.BuildFilter{Name: report.Name, Limit: 1}); err != nil {
			return record.Build{}, err
		} else if len(last) > 0 && last[0].EndedAt != nil && last[0].EndedAt.After(started) &&
			last[0].Number != report.Number {
			started = *last[0].EndedAt
		}
	}
	if started.After(now.Add(time.Minute)) {
		return record.Build{}, act.Invalid("bad-start", "the build cannot have begun at %s, which is in the future",
			started.UTC().Format(act.TimeForm))
	}
	b := record.Build{Name: report.Name, Number: report.Number, StartedAt: started, OwnerID: caller.ID, Owner: caller.Name,
		Token: caller.Token}
	id, fresh, err := tx.BeginBuild(ctx, b)
	if err != nil {
		return b, err
	}
	if b.ID = id; !fresh {
		if b, err = tx.Build(ctx, record.BuildFilter{Name: report.Name, Number: report.Number}); err != nil {
			return b, err
		}
		if b.OwnerID != caller.ID {
			return b, othersBuild(b)
		}
	}
	if b.EndedAt != nil && b.Revision != "" && report.Revision != "" &&
		b.Revision != report.Revision[:min(len(report.Revision), 1000)] {
		return b, fault.New(fault.Conflict, "another-revision", "%s was recorded with the revision %.40s, and this is %.40s",
			b.Title(), b.Revision, report.Revision).
			WithHint("Give each run of CI a number of its own, and each of its workflows a name of its own.")
	}
	set := func(to *string, text string) {
		if text != "" {
			*to = text[:min(len(text), 1000)]
		}
	}
	set(&b.Revision, report.Revision)
	set(&b.Branch, report.Branch)
	set(&b.Link, webOnly(report.Link))
	set(&b.Agent, report.Agent)
	for name, text := range report.Notes {
		if b.Notes == nil {
			b.Notes = map[string]string{}
		}
		b.Notes[name[:min(len(name), 100)]] = text[:min(len(text), 1000)]
	}
	if len(b.Notes) > 100 {
		return b, act.Invalid("too-many-notes", "a build has at most 100 notes")
	}
	if tests != nil {
		b.Tests = tests
	}
	if !report.StartedAt.IsZero() {
		b.StartedAt = report.StartedAt
	}
	if b.EndedAt == nil {
		b.EndedAt = &now
	}
	return b, tx.SetBuild(ctx, b)
}

// webOnly is an address that a person may click on, or "".
func webOnly(address string) string {
	if strings.HasPrefix(address, "https://") || strings.HasPrefix(address, "http://") {
		return address
	}
	return ""
}

func versionIDs(versions []record.MadeVersion) []int64 {
	ids := make([]int64, len(versions))
	for i, v := range versions {
		ids[i] = v.ID
	}
	return ids
}

// housesFor are the house repositories of which the caller may read something.
func (s *Builds) housesFor(caller access.Caller, name string) ([]catalog.Repository, error) {
	if name != "" {
		r, err := s.directory.Repository(caller, name, access.Read)
		return []catalog.Repository{r}, err
	}
	return slices.DeleteFunc(s.directory.Readable(caller), func(r catalog.Repository) bool {
		return !r.Own()
	}), nil
}

// madeOf finds what a build is said to have made. Only who published something,
// or manages the repository that it is in, may say so.
func (s *Builds) madeOf(ctx context.Context, caller access.Caller, report Report) ([]record.MadeVersion, error) {
	made, err := s.VersionsOf(ctx, caller, report.Made, report.In)
	if err != nil {
		return nil, err
	}
	houses, err := s.housesFor(caller, report.In)
	if err != nil {
		return nil, err
	}
	for _, text := range report.Digests {
		sum, err := hex.DecodeString(text)
		if err != nil || len(sum) != 32 {
			return nil, act.Invalid("bad-digest", "%.80q is no SHA-256 in hexadecimal", text)
		}
		found, err := s.DB.VersionsWithDigest(ctx, RepositoryIDs(houses), sum)
		if err != nil {
			return nil, err
		}
		if found = s.InSight(houses, found); len(found) == 0 {
			return nil, fault.New(fault.NotFound, "no-such-file", "no file with the SHA-256 %.12s… was published here", text).
				WithHint("Publish it first, and then record the build.")
		}
		made = append(made, found[0])
	}
	for _, m := range made {
		if r := s.directory.Known().ByID[m.RepositoryID]; m.PublisherID != caller.ID &&
			s.directory.Allow(caller, access.Manage, access.Of(r)) != nil {
			return nil, fault.New(fault.Denied, "others-version", "%s was published by %s, so %s cannot say which build made it",
				act.PURLOf(m.Key(), m.Version), m.PublishedBy, caller.Name).
				WithHint("Record the build with the token that published it.")
		}
	}
	return made, nil
}

// VersionsOf finds the newest version, or upload of one, for each package URL.
func (s *Builds) VersionsOf(
	ctx context.Context, caller access.Caller, purls []string, repository string,
) ([]record.MadeVersion, error) {
	if len(purls) == 0 {
		return nil, nil
	}
	houses, err := s.housesFor(caller, repository)
	if err != nil {
		return nil, err
	}
	var made []record.MadeVersion
	for _, text := range purls {
		p, err := purl.Parse(text)
		if err != nil {
			return nil, err
		}
		if p.Version == "" {
			return nil, act.Invalid("no-version", "%s does not say which version", p).WithHint("Write it as %s@VERSION.", p)
		}
		found, err := s.DB.VersionsNamed(ctx, RepositoryIDs(houses),
			[]record.NamedVersion{{Key: catalog.PackageKey{Ecosystem: p.Ecosystem, Namespace: p.Namespace, Name: p.Name},
				Version: p.Version}})
		if err != nil {
			return nil, err
		}
		if found = s.InSight(houses, found); len(found) == 0 {
			where := "any house repository that you may read"
			if repository != "" {
				where = repository
			}
			return nil, fault.New(fault.NotFound, "no-such-version", "there is no %s in %s", p, where).
				WithHint("Look at crelvo show %s.", p)
		}
		made = append(made, found[0])
	}
	return made, nil
}

func RepositoryIDs(all []catalog.Repository) []int64 {
	ids := make([]int64, len(all))
	for i, r := range all {
		ids[i] = r.ID
	}
	return ids
}

// InSight leaves those that may be seen.
func (s *Builds) InSight(houses []catalog.Repository, versions []record.MadeVersion) []record.MadeVersion {
	return slices.DeleteFunc(versions, func(v record.MadeVersion) bool {
		i := slices.IndexFunc(houses, func(r catalog.Repository) bool { return r.ID == v.RepositoryID })
		return i < 0 || !s.directory.Shows(houses[i].Key(v.Ecosystem, v.Namespace, v.Name))
	})
}

// placed gives versions the repositories that they are in, and leaves out those
// that the caller may not see.
func (s *Builds) placed(caller access.Caller, versions []record.MadeVersion) []Output {
	readable := s.directory.Readable(caller)
	all := []Output{}
	for _, v := range s.InSight(readable, versions) {
		i := slices.IndexFunc(readable, func(r catalog.Repository) bool { return r.ID == v.RepositoryID })
		all = append(all, Output{MadeVersion: v, Repository: readable[i]})
	}
	return all
}

// Builds lists builds of which the caller may see something, or which it began.
func (s *Builds) Builds(ctx context.Context, caller access.Caller, f record.BuildFilter) ([]record.Build, error) {
	scope := s.directory.ScopeOf(s.directory.Readable(caller)...)
	f.Scope, f.OwnerID = &scope, caller.ID
	builds, err := s.DB.Builds(ctx, f)
	if caller.Anonymous() {
		// Where and how an organisation builds is nothing for the public.
		for i := range builds {
			b := &builds[i]
			b.Branch, b.Link, b.Agent, b.Notes, b.Owner = "", "", "", nil, ""
		}
	}
	return builds, err
}

func NoBuild(title string) error {
	return fault.New(fault.NotFound, "no-such-build", "there is no build %s of which you may see anything", title).
		WithHint("crelvo build list shows them.")
}

// Build shows a build.
func (s *Builds) Build(ctx context.Context, caller access.Caller, title string) (v View, err error) {
	name, number, err := SplitBuild(title)
	if err != nil {
		return v, err
	}
	found, err := s.Builds(ctx, caller, record.BuildFilter{Name: name, Number: number, Limit: 1})
	if err != nil {
		return v, err
	}
	if len(found) == 0 {
		return v, NoBuild(title)
	}
	v.Build = found[0]
	made, err := s.DB.MadeBy(ctx, v.ID)
	if err != nil {
		return v, err
	}
	used, err := s.DB.UsedBy(ctx, v.ID)
	if err != nil {
		return v, err
	}
	v.Made, v.Used = s.placed(caller, made), s.placed(caller, used)
	if err := s.addLicences(ctx, v.Made, v.Used); err != nil {
		return v, err
	}
	v.Documents, err = s.DB.Documents(ctx, v.ID)
	return v, err
}

// Titles gives the titles of the builds that made versions, by their ids.
func (s *Builds) Titles(ctx context.Context, versions []catalog.Version) (map[int64]string, error) {
	var ids []int64
	for _, v := range versions {
		if v.BuildID != 0 && !slices.Contains(ids, v.BuildID) {
			ids = append(ids, v.BuildID)
		}
	}
	if ids == nil {
		return nil, nil
	}
	builds, err := s.DB.Builds(ctx, record.BuildFilter{IDs: ids})
	titles := make(map[int64]string, len(builds))
	for _, b := range builds {
		titles[b.ID] = b.Title()
	}
	return titles, err
}

// Hear takes note of builds that were begun or recorded.
func (s *Builds) Hear(c record.Change) error {
	if c.Kind == record.OfBuild {
		s.buildGeneration.Add(1)
	}
	return nil
}

func (s *Builds) Purge() { s.buildGeneration.Add(1) }
