package bundles

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"crelvo/internal/core/access"
	"crelvo/internal/core/bundle"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/core/text"
	"crelvo/internal/ecosystem"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/service/keys"
	"crelvo/internal/service/landing"
	"crelvo/internal/service/publishing"
)

// Into says where the packages of a bundle go to: by the repository that they were in, and the others to
// All or, where that is "", to the repository of the same name.
type Into struct {
	All    string
	ByName map[string]string
}

func (i Into) of(name string) string {
	switch to, ok := i.ByName[name]; {
	case ok:
		return to
	case i.All != "":
		return i.All
	}
	return name
}

// Loading is a bundle that is being loaded.
type Loading struct {
	bundle.Manifest
	Keys []string // that signed it, and are trusted here
	// New are versions that are to come, There those that are here already, and Refused those that cannot
	// come: then nothing does.
	New, There int
	Refused    []Refused
	// Lacking are files that have to be sent.
	Lacking map[bundle.Sum]int64

	s      *Bundles
	caller access.Caller
	reader *bundle.Reader
	into   Into
	to     map[string]catalog.Repository // by the name of the repository that it came from
	fresh  []arriving
	seen   map[string]*bundle.Version              // by where they go to, and what they are
	has    map[catalog.PackageKey]*catalog.Package // what is there of the packages in it
	needed map[int64][][]byte                      // SHA-256 of files of new versions, by where they go to
}

// Refused is a version that cannot come, and why.
type Refused struct {
	PURL purl.PURL
	Why  string
}

// arriving is a version that is to come.
type arriving struct {
	landing.Version
	of   *bundle.Version
	from string // the repository that it was in
	to   catalog.Repository
}

func (a arriving) purl() purl.PURL { return act.PURLOf(a.Key, a.of.Version) }

// mostRefused is how many refusals are told.
const mostRefused = 1000

// Open reads what a bundle says of itself and finds out what would become of it. Nobody may load a bundle that
// no key has signed that is trusted here.
func (s *Bundles) Open(ctx context.Context, caller access.Caller, from io.Reader, into Into) (*Loading, error) {
	r, err := bundle.NewReader(from)
	if err != nil {
		return nil, unreadable(err)
	}
	l := &Loading{s: s, caller: caller, reader: r, into: into, to: map[string]catalog.Repository{},
		seen: map[string]*bundle.Version{}, needed: map[int64][][]byte{}}
	known, err := s.keys.Keys(ctx)
	if err != nil {
		return nil, err
	}
	if l.Keys, err = keys.SignersOf(known, bytes.NewReader(r.Raw), r.Signature); err != nil {
		return nil, err
	}
	if l.Keys == nil {
		return nil, fault.New(fault.Conflict, "not-trusted", "it is signed by no key that is trusted here, or was changed since").
			WithHint("If you trust who made it, have an admin add their public key: crelvo key add NAME KEY.asc.")
	}
	if l.Manifest, err = bundle.Parse(r.Raw); err != nil {
		return nil, unreadable(err)
	}
	if l.Since != nil {
		switch loaded, err := s.DB.WasLoaded(ctx, l.Since.ID); {
		case err != nil:
			return nil, err
		case !loaded:
			return nil, fault.New(fault.Conflict, "bundle-before",
				"it goes on from the bundle %s of %s, which was not loaded here", text.Clean(l.Since.ID, false, 64),
				l.Since.MadeAt.UTC().Format(act.TimeForm)).WithHint("Load that one first.")
		}
	}
	if err := l.targets(); err != nil {
		return nil, err
	}
	return l, l.plan(ctx)
}

// unreadable is why a bundle cannot be read.
func unreadable(err error) error {
	var told *fault.Error
	if errors.As(err, &told) && told.Kind != fault.Invalid {
		return err
	}
	return act.Invalid("bad-bundle", "the bundle cannot be read: %v", err).
		WithHint("Look at it with crelvo bundle verify, and carry it over again.")
}

// targets finds the repositories that it goes to.
func (l *Loading) targets() error {
	for _, p := range l.Packages {
		if _, known := l.to[p.Repository]; known {
			continue
		}
		name := l.into.of(p.Repository)
		r, err := l.s.directory.Repository(l.caller, name, access.Publish)
		if err != nil {
			if fault.Of(err).Code == "no-such-repository" {
				return fault.New(fault.NotFound, "no-such-repository", "there is no repository %s here that you may publish to",
					text.Clean(name, false, 64)).WithHint("Say where what was in %s goes to: --to %[1]s=REPO, or --to REPO for all.",
					text.Clean(p.Repository, false, 64))
			}
			return err
		}
		if !r.Own() {
			return fault.New(fault.Conflict, "to-no-house", "%s is a %s, and takes nothing from a bundle", r.Name, r.Kind).
				WithHint("Say which repository takes it: --to REPO.")
		}
		r.Sight = ""
		l.to[p.Repository] = r
	}
	return nil
}

// plan finds out what becomes of each version, and which files have to be sent.
func (l *Loading) plan(ctx context.Context) error {
	if err := l.look(ctx); err != nil {
		return err
	}
	for some := range slices.Chunk(l.Packages, lookedAtOnce) {
		var named []record.NamedVersion
		for _, p := range some {
			key := l.to[p.Repository].Key(p.Ecosystem, p.Namespace, p.Name)
			for _, v := range p.Versions {
				if !v.Snapshot {
					named = append(named, record.NamedVersion{Key: key, Version: v.Version})
				}
			}
		}
		gone := map[int64][]record.GoneFile{}
		for id := range reposOf(named) {
			var err error
			if gone[id], err = l.s.DB.GoneFiles(ctx, id, named); err != nil {
				return err
			}
		}
		for i := range some {
			l.planPackage(&some[i], gone)
		}
	}
	return l.lacks(ctx)
}

// shelves are the packages of each ecosystem in each repository that some of it go to.
func (l *Loading) shelves(some []bundle.Package) map[string][]catalog.PackageKey {
	all := map[string][]catalog.PackageKey{}
	for _, p := range some {
		key := l.to[p.Repository].Key(p.Ecosystem, p.Namespace, p.Name)
		on := act.Itoa(key.RepositoryID) + " " + p.Ecosystem
		all[on] = append(all[on], key)
	}
	return all
}

func reposOf(named []record.NamedVersion) map[int64]bool {
	ids := map[int64]bool{}
	for _, n := range named {
		ids[n.Key.RepositoryID] = true
	}
	return ids
}

func (l *Loading) planPackage(p *bundle.Package, gone map[int64][]record.GoneFile) {
	to := l.to[p.Repository]
	key := to.Key(p.Ecosystem, p.Namespace, p.Name)
	if why := l.refusesMarks(p, key, to); why != "" {
		l.refuse(act.PURLOf(key, ""), why)
	}
	for i := range p.Versions {
		a := arriving{landing.Version{Version: p.Versions[i], Key: key}, &p.Versions[i], p.Repository, to}
		is := act.Itoa(to.ID) + " " + a.purl().String() + " " + a.Upload
		if twice := l.seen[is]; twice != nil {
			// It came from two repositories that go to one.
			if !slices.Equal(twice.Files, a.Files) {
				l.refuse(a.purl(), "two of the repositories that it was made from have other files of it")
			}
			l.There++
			continue
		}
		l.seen[is] = a.of
		if there := publishing.Find(l.has[key], a.of.Version, a.Upload); there != nil {
			if why := publishing.Differs(a.Kept(nil), there); why != "" {
				l.refuse(a.purl(), to.Name+" has it already, and "+why)
			} else {
				l.There++
			}
			continue
		}
		if why := l.refuses(a, gone[to.ID]); why != "" {
			l.refuse(a.purl(), why)
			continue
		}
		l.New++
		l.fresh = append(l.fresh, a)
		for _, f := range a.Files {
			l.needed[to.ID] = append(l.needed[to.ID], f.SHA256[:])
		}
	}
}

func (l *Loading) refuse(of purl.PURL, why string) {
	if len(l.Refused) < mostRefused {
		l.Refused = append(l.Refused, Refused{of, why})
	}
}

// refusesMarks tells why labels and withdrawals of a package cannot be as the bundle has them; "" if they can.
func (l *Loading) refusesMarks(p *bundle.Package, key catalog.PackageKey, to catalog.Repository) string {
	if len(p.Labels)+len(p.Withdrawn) == 0 {
		return ""
	}
	if err := l.s.directory.Allow(l.caller, access.Publish, access.Object{Repository: to,
		Package: act.PURLOf(key, "")}); err != nil {
		return fault.Of(err).Message
	}
	if m, ok := l.s.Ecosystem(p.Ecosystem).(ecosystem.Maturing); ok {
		if err := l.s.publishing.MaturityByLabels(m, to, slices.Sorted(maps.Keys(p.Labels))); err != nil {
			return fault.Of(err).Message
		}
	}
	return ""
}

// refuses tells why a version cannot come, as far as that can be told without its bytes; "" if it can.
func (l *Loading) refuses(a arriving, gone []record.GoneFile) string {
	e := l.s.Ecosystem(a.Key.Ecosystem)
	if e == nil {
		return "packages of this kind are not known here"
	}
	for _, f := range a.Files {
		if err := l.s.publishing.Accepts(l.caller, a.to, e, a.Place(f), f.Size); err != nil {
			return fault.Of(err).Message
		}
		for _, g := range gone {
			if g.Ecosystem == a.Key.Ecosystem && g.Namespace == a.Key.Namespace && g.Name == a.Key.Name &&
				g.Version == a.of.Version && g.Other(f.Name, f.SHA256) {
				return "it was in " + a.to.Name + " before, with other bytes in " + f.Name +
					", and removed; a release does not come back as something else"
			}
		}
	}
	return ""
}

// lacks finds out which files have to be sent: those that did not come before, and whose bytes are nowhere
// here where the caller may read them.
func (l *Loading) lacks(ctx context.Context) error {
	l.Lacking = map[bundle.Sum]int64{}
	var sums [][]byte
	for _, a := range l.fresh {
		for _, f := range a.Files {
			if _, twice := l.Lacking[f.SHA256]; !twice {
				l.Lacking[f.SHA256] = f.Size
				sums = append(sums, f.SHA256[:])
			}
		}
	}
	if sums == nil {
		return nil
	}
	usable, err := l.s.landing.Usable(ctx, l.caller, sums, slices.Collect(maps.Keys(l.needed))...)
	for sum := range usable {
		delete(l.Lacking, sum)
	}
	return err
}

// Load takes the files, and then makes everything visible, or nothing.
func (l *Loading) Load(ctx context.Context, withDecisions bool) error {
	if err := l.may(withDecisions); err != nil {
		return err
	}
	if err := l.receive(ctx); err != nil {
		return err
	}
	for _, to := range l.to {
		if err := l.landKnown(ctx, to); err != nil {
			return err
		}
	}
	if err := l.stillMay(ctx); err != nil {
		return err
	}
	return l.place(ctx, withDecisions)
}

// landKnown has bytes that were here already wait with those that came, so that nobody takes them away.
func (l *Loading) landKnown(ctx context.Context, to catalog.Repository) error {
	sums := l.needed[to.ID]
	if len(sums) == 0 {
		return nil
	}
	slices.SortFunc(sums, bytes.Compare)
	sums = slices.CompactFunc(sums, bytes.Equal)
	l.needed[to.ID] = sums
	err := l.s.landing.Keep(ctx, l.caller, to, sums, l.Files())
	if errors.Is(err, landing.ErrLacking) {
		return fault.New(fault.Conflict, "bundle-incomplete", "%v", err).
			WithHint("Look at the bundle with crelvo bundle verify, and carry it over again.")
	}
	return err
}

// stillMay checks once more what whoever loads it may do, since it may have taken long to come.
func (l *Loading) stillMay(ctx context.Context) error {
	now, changed, err := l.s.publishing.Still(ctx, l.caller)
	if err != nil || !changed {
		return err
	}
	l.caller, l.to = now, map[string]catalog.Repository{}
	if err := l.targets(); err != nil {
		return err
	}
	for i := range l.Packages {
		p := &l.Packages[i]
		to := l.to[p.Repository]
		key := to.Key(p.Ecosystem, p.Namespace, p.Name)
		if why := l.refusesMarks(p, key, to); why != "" {
			l.refuse(act.PURLOf(key, ""), why)
		}
	}
	for _, a := range l.fresh {
		if why := l.refuses(a, nil); why != "" {
			l.refuse(a.purl(), why)
		}
	}
	return l.may(false)
}

// may tells whether all of it can come, as far as is known before its files do.
func (l *Loading) may(withDecisions bool) error {
	if withDecisions && len(l.Vettings)+len(l.Waivers) > 0 {
		if err := l.s.directory.Allow(l.caller, access.Manage, act.Everything); err != nil {
			return err
		}
	}
	if len(l.Refused) == 0 {
		return nil
	}
	return refusal(l.Refused)
}

// refusal is why nothing of a bundle comes.
func refusal(all []Refused) *fault.Error {
	first := all[0]
	more := ""
	if n := len(all) - 1; n > 0 {
		more = fmt.Sprintf(" (and %d more)", n)
	}
	return fault.New(fault.Conflict, "bundle-refused", "nothing of it came, since %s cannot: %s%s", first.PURL.Typed(),
		strings.TrimSuffix(first.Why, "."), more).
		WithHint("crelvo bundle load FILE --dry-run lists all that cannot come.")
}

// receive takes the files that are sent, and puts on record that they came.
func (l *Loading) receive(ctx context.Context) error {
	to := l.where()
	err := l.s.landing.Receive(ctx, l.caller, l.reader, l.Lacking,
		func(sum bundle.Sum) catalog.Repository { return to[sum] })
	var damage *landing.Damage
	var cut *landing.Cut
	switch {
	case errors.As(err, &damage):
		return act.Invalid("bad-bundle", "%v", damage).
			WithHint("Look at the bundle with crelvo bundle verify, and carry it over again.")
	case errors.As(err, &cut):
		return fault.New(fault.Invalid, "cut-upload", "the bundle did not arrive whole: %v", cut).
			WithHint("Load it again: what arrived need not be sent once more for a day.").WithCause(err)
	}
	return err
}

// where tells for which repository files come first.
func (l *Loading) where() map[bundle.Sum]catalog.Repository {
	to := map[bundle.Sum]catalog.Repository{}
	for _, a := range l.fresh {
		for _, f := range a.Files {
			if _, known := to[f.SHA256]; !known {
				to[f.SHA256] = a.to
			}
		}
	}
	return to
}
