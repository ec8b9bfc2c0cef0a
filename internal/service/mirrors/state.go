package mirrors

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/chain"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/service/repositories"
	"crelvo/internal/upstream"
)

// State is how a mirror is.
type State struct {
	Repository catalog.Repository
	Contacts   []record.UpstreamContact // in the order of the upstreams
	Hours      []record.MirrorHour
	Stale      []record.StaleDocument
	StaleTotal int
	Following  *record.Following // of one that follows its upstream, and asked it already
}

const (
	maxStateHours = 60 * 24
	shownStale    = 50
)

// Mirror finds a mirror for a caller, who must be able to read all of it: what is
// told of a mirror tells of any of its packages.
func (s *Mirrors) Mirror(caller access.Caller, name string, action access.Action) (catalog.Repository, error) {
	r, err := s.directory.Repository(caller, name, action)
	if err == nil && r.Sight != "" {
		err = fault.New(fault.Denied, "role-missing", "%s needs the role %s on %s, for all packages", caller.Name,
			access.Needed(action), name).
			WithHint("%s.", s.directory.WhoGrants(access.Of(r)))
	}
	if err == nil && !r.Fetches() {
		err = fault.New(fault.Conflict, "not-a-mirror", "%s is a %s, so it has no upstream", name, r.Kind)
	}
	return r, err
}

// State tells how a mirror is, with its counts of the last hours.
func (s *Mirrors) MirrorState(ctx context.Context, caller access.Caller, name string, hours int) (State, error) {
	r, err := s.Mirror(caller, name, access.Read)
	if err != nil {
		return State{}, err
	}
	state := State{Repository: r}
	// What is counted should be seen at once.
	s.counting.WriteNow(ctx)
	contacts, err := s.DB.Contacts(ctx, r.ID)
	if err != nil {
		return state, err
	}
	for _, u := range r.Mirror.Upstreams {
		of := record.UpstreamContact{RepositoryID: r.ID, URL: u.URL}
		for _, c := range contacts {
			if c.URL == u.URL {
				of = c
			}
		}
		state.Contacts = append(state.Contacts, of)
	}
	if r.Mirror.Prefetch.Follow {
		following, err := s.DB.Following(ctx, r.ID)
		if err != nil && !errors.Is(err, record.ErrNotFound) {
			return state, err
		}
		if err == nil {
			state.Following = &following
		}
	}
	since := s.Now().UTC().Truncate(time.Hour).Add(-time.Duration(min(hours, maxStateHours)-1) * time.Hour)
	if state.Hours, err = s.DB.MirrorHours(ctx, r.ID, since); err != nil {
		return state, err
	}
	state.Stale, state.StaleTotal, err = s.DB.StaleDocuments(ctx, r.ID, shownStale)
	return state, err
}

// MirrorContacts tells how all upstreams were last, by mirror.
func (s *Mirrors) MirrorContacts(ctx context.Context) (map[int64][]record.UpstreamContact, error) {
	all, err := s.DB.Contacts(ctx, 0)
	byMirror := map[int64][]record.UpstreamContact{}
	for _, c := range all {
		byMirror[c.RepositoryID] = append(byMirror[c.RepositoryID], c)
	}
	return byMirror, err
}

// Checked is what came of trying an upstream.
type Checked struct {
	URL     string
	Private bool
	OK      bool
	Said    string // in words
	Took    time.Duration
}

// CheckMirror tries the upstreams of settings that need not be saved yet: the
// root, and if sample names a package, its list of versions or the file that
// its version must have. like names a mirror whose secret is used where none is
// given; it may be "".
func (s *Mirrors) CheckMirror(
	ctx context.Context, caller access.Caller, r catalog.Repository, like string, sample purl.PURL,
) ([]Checked, error) {
	if err := s.directory.Allow(caller, access.Manage, act.Everything); err != nil {
		return nil, err
	}
	if like != "" {
		known, err := s.Mirror(caller, like, access.Manage)
		if err != nil {
			return nil, err
		}
		if r.Mirror == nil || len(r.Mirror.Upstreams) == 0 {
			r.Mirror, r.Ecosystem = known.Mirror, known.Ecosystem
		} else if r.Mirror.Secret == "" && !slices.ContainsFunc(r.Mirror.Upstreams, func(u catalog.Upstream) bool {
			return !repositories.KnownHost(known.Mirror, u.URL)
		}) {
			r.Mirror.User, r.Mirror.Secret = known.Mirror.User, known.Mirror.Secret
		}
	}
	if err := s.repositories.CheckMirror(ctx, &r); err != nil {
		return nil, err
	}
	if sample.Name == "" && like != "" {
		if known, ok := s.directory.Known().ByName[like]; ok {
			kept, version, err := s.DB.LastKept(ctx, known.ID)
			if err != nil && !errors.Is(err, record.ErrNotFound) {
				return nil, err
			}
			if err == nil && kept.Ecosystem == r.Ecosystem {
				sample = act.PURLOf(kept, version)
			}
		}
	}
	source, err := upstream.New(*r.Mirror, "crelvo/"+s.Settings.Version, noObserver{}, s.Now)
	if err != nil {
		return nil, err
	}
	defer source.Close()
	e := s.Ecosystems[r.Ecosystem].(ecosystem.Mirrored)
	var all []Checked
	for _, u := range r.Mirror.Upstreams {
		all = append(all, s.checkUpstream(ctx, source, e, u, sample))
	}
	return all, nil
}

func (s *Mirrors) checkUpstream(
	ctx context.Context, source *upstream.Source, e ecosystem.Mirrored, u catalog.Upstream, sample purl.PURL,
) Checked {
	checked := Checked{URL: u.URL, Private: u.Private}
	begun := time.Now()
	path, what := "", "its root"
	byPath, isByPath := e.(ecosystem.ByPath)
	guided, isGuided := e.(ecosystem.Guided)
	rooted, isRooted := e.(ecosystem.Rooted)
	isRooted = isRooted && sample.Name == ""
	byContent, isByContent := e.(ecosystem.ByContent)
	key := catalog.PackageKey{Ecosystem: sample.Ecosystem, Namespace: sample.Namespace, Name: sample.Name}
	switch {
	case isByContent && sample.Name != "" && sample.Version == "":
		path, what = byContent.LabelsPath(key), "a list of the tags of "+sample.String()
	case isByContent && sample.Version != "" && !purl.IsVersion(sample.Ecosystem, sample.Version):
		path, what = byContent.LabelPath(key, sample.Version), sample.String()
	case sample.Version != "" && isByPath:
		place, err := e.PlaceOf(byPath.Marker(sample, ""))
		if err != nil {
			checked.Said = fault.Of(err).Message
			return checked
		}
		path, what = byPath.FilePath(place), sample.String()
	case isGuided:
		path, what = guided.Entrance(), "the list of what it offers"
	case sample.Name == "" && isRooted:
		path, what = rooted.Root()
	case sample.Name != "":
		sample.Version = ""
		path, what = e.ListingPath(sample), "a list of the versions of "+sample.String()
		if whole, ok := e.(ecosystem.Sectioned); ok {
			path = whole.WholePath()
		}
	}
	response, err := source.Get(ctx, upstream.Request{Path: path, At: u.URL, Document: true, Accept: e.Accepts()})
	older := false
	if isGuided && errors.Is(err, upstream.ErrAbsent) {
		_, tells, accepts := guided.Older(sample)
		response, err = source.Get(ctx, upstream.Request{Path: tells, At: u.URL, Document: true, Accept: accepts})
		older = err == nil
	}
	checked.Took = time.Since(begun)
	var f *upstream.Failure
	switch {
	case errors.Is(err, upstream.ErrAbsent) && sample.Name == "" && !isGuided:
		checked.OK, checked.Said = true, "it answers, and has nothing at "+what+
			", which is usual; to be sure, name a package that it has"
	case errors.Is(err, upstream.ErrAbsent):
		checked.Said = "it answers, but does not have " + what
	case errors.As(err, &f):
		checked.Said = "it " + f.What
	case err != nil:
		checked.Said = err.Error()
	default:
		checked.OK, checked.Said = true, "it answers and has "+what
		reading := ecosystem.Reading{Reader: &cutReader{from: response.Body, left: maxListing}, Address: response.Address,
			More: func(address string) (io.ReadCloser, error) {
				more, err := source.Get(ctx, upstream.Request{Address: address, At: u.URL, Document: true, Accept: e.Accepts()})
				if err != nil {
					return nil, err
				}
				return more.Body, nil
			}}
		if said, err := readable(ctx, e, reading, sample, older); err != nil {
			checked.OK, checked.Said = false, "it answers, but not "+err.Error()
		} else if said != "" {
			checked.Said = said
		}
		if err := response.Body.Close(); err != nil {
			checked.OK, checked.Said = false, err.Error()
		}
	}
	return checked
}

// readable tries whether what an upstream answered with can be read as what was asked for;
// the error goes on after "not".
func readable(
	ctx context.Context, e ecosystem.Mirrored, reading ecosystem.Reading, sample purl.PURL, older bool,
) (said string, err error) {
	guided, isGuided := e.(ecosystem.Guided)
	rooted, isRooted := e.(ecosystem.Rooted)
	byContent, isByContent := e.(ecosystem.ByContent)
	switch {
	case isByContent && sample.Name != "" && sample.Version == "":
		tags, err := byContent.ReadLabels(reading)
		if err != nil {
			return "", fmt.Errorf("with a list of tags: %s", inWords(err))
		}
		return fmt.Sprintf("it answers and lists %s of %s", act.Plural(int64(len(tags)), "tag"), sample), nil
	case isByContent:
	case isRooted && sample.Name == "":
		if err := rooted.ReadRoot(reading); err != nil {
			return "", fmt.Errorf("as a server of such packages: %s", inWords(err))
		}
	case older:
		if err := guided.ReadOlder(reading); err != nil {
			return "", fmt.Errorf("as a server of such packages: %s", inWords(err))
		}
		return "it answers, in the older protocol", nil
	case isGuided:
		if _, err := guided.ReadEntrance(reading); err != nil {
			return "", fmt.Errorf("with a list of what it offers: %s", inWords(err))
		}
	case sample.Name != "" && sample.Version == "":
		if whole, ok := e.(ecosystem.Sectioned); ok {
			part, err := sectionOf(whole, reading, sample.Name)
			if err != nil {
				return "", fmt.Errorf("with a list of versions: %s", inWords(err))
			}
			reading.Reader = bytes.NewReader(part)
		}
		listing, err := e.ReadListing(ctx, sample, reading)
		if err != nil {
			return "", fmt.Errorf("with a list of versions: %s", inWords(err))
		}
		return fmt.Sprintf("it answers and lists %s of %s", act.Plural(int64(len(listing.Versions)), "version"), sample), nil
	}
	return "", nil
}

// inWords is what is wrong with a document of an upstream, as who read it says.
func inWords(err error) string {
	var f *fault.Error
	if errors.As(err, &f) {
		return f.Message
	}
	return err.Error()
}

// noObserver is for trying.
type noObserver struct{}

func (noObserver) Answered(string, time.Time, time.Duration)             {}
func (noObserver) Failed(f *upstream.Failure, at time.Time, _ time.Time) {}
func (noObserver) Allowed(string, upstream.Allowance)                    {}
func (noObserver) Fetched(int64)                                         {}

// TryPatterns tells whether a mirror's patterns let something in; allow and
// deny, if either is not nil, are tried instead of what is saved.
func (s *Mirrors) TryPatterns(
	caller access.Caller, name string, p purl.PURL, allow, deny []string,
) (chain.Admission, error) {
	r, err := s.Mirror(caller, name, access.Read)
	if err != nil {
		return chain.Admission{}, err
	}
	settings := r.Mirror
	if allow != nil || deny != nil {
		settings = &catalog.MirrorSettings{Allow: allow, Deny: deny}
		if err := repositories.CheckPatterns(settings, r.Ecosystem); err != nil {
			return chain.Admission{}, err
		}
	}
	if p.Ecosystem != r.Ecosystem {
		return chain.Admission{Why: fmt.Sprintf("of another ecosystem: %s mirrors %s", r.Name, r.Ecosystem)}, nil
	}
	return chain.Admits(settings, p), nil
}

// Forgotten is what a mirror forgot.
type Forgotten struct{ Copies, Documents int64 }

// Forget drops the copies of a package, or of one version, from a mirror, with
// all that its upstream said of the package, so that it is asked anew.
func (s *Mirrors) Forget(ctx context.Context, caller access.Caller, name string, p purl.PURL) (Forgotten, error) {
	r, err := s.Mirror(caller, name, access.Remove)
	if err != nil {
		return Forgotten{}, err
	}
	key := catalog.PackageKey{RepositoryID: r.ID, Ecosystem: p.Ecosystem, Namespace: p.Namespace, Name: p.Name}
	var forgotten Forgotten
	s.noting.wait(func(w *noted) bool { return w.document.About == key }) // or it would come after this
	err = s.DB.Within(ctx, func(tx *record.Tx) error {
		var versions []string // all
		if p.Version != "" {
			versions = []string{p.Version}
		}
		ids, err := tx.RemoveVersions(ctx, key, versions, 0, s.Now())
		if err != nil {
			return err
		}
		forgotten.Copies = int64(len(ids))
		if forgotten.Documents, err = tx.ForgetUpstreamDocuments(ctx, key); err != nil {
			return err
		}
		if forgotten == (Forgotten{}) {
			return fault.New(fault.NotFound, "nothing-kept", "%s keeps nothing of %s", name, p).
				WithHint("crelvo search --in %s finds what it keeps.", name)
		}
		event := s.Event(caller, record.EventCopiesForgotten)
		event.Repository, event.Subject = name, p.String()
		event.Detail = map[string]string{"copies": fmt.Sprint(forgotten.Copies)}
		return s.Announce(ctx, tx, r, p.Ecosystem, p.Namespace, p.Name, p.Version, event)
	})
	return forgotten, err
}
