package bundles

import (
	"bytes"
	"cmp"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"io"
	"slices"
	"strings"
	"time"

	"crelvo/internal/api"
	"crelvo/internal/core/access"
	"crelvo/internal/core/bundle"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/chain"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
)

// Wish is a bundle that is asked for.
type Wish struct {
	From      []string // repositories
	Only      []string // patterns of packages and versions that are wanted; none: everything
	WithNeeds bool     // and what they need in turn, of the same repositories
	Key       string   // that it is signed with
	Since     *bundle.Basis
}

// Making is a bundle that is being made.
type Making struct {
	bundle.Manifest
	signed bundle.Signed
	s      *Bundles
	caller access.Caller
	key    string
	// briefly: what publishers said, builds and promotions are left out.
	briefly bool
	builds  map[int64]bool                // of what was gathered, by id, where somebody asks for them; else nil
	at      map[string]catalog.Repository // by name
	only    chain.Filter
}

const (
	// lookedAtOnce is of how many packages is read at a time what there is of them.
	lookedAtOnce = 200
	// overlap is how far a bundle reaches back into the one before it: what was published while that one
	// was made may carry an earlier time.
	overlap = 10 * time.Minute
	// mostPatterns is how many patterns may be wanted, and mostFrom how many repositories.
	mostPatterns = 1000
	mostFrom     = 20
)

// Make finds out what belongs in a bundle, for somebody who manages the repositories that it is made from,
// since it vouches for them, and signs that.
func (s *Bundles) Make(ctx context.Context, caller access.Caller, w Wish) (*Making, error) {
	m := &Making{s: s, caller: caller, key: w.Key, at: map[string]catalog.Repository{}, only: chain.NewFilter(
		&catalog.MirrorSettings{Allow: w.Only}), Manifest: bundle.Manifest{Form: bundle.Form,
		ID: strings.ToLower(rand.Text()), MadeAt: s.Now().UTC().Truncate(time.Microsecond), MadeBy: caller.Name,
		Only: w.Only, Since: w.Since}}
	switch {
	case len(w.From) == 0 || len(w.From) > mostFrom:
		return nil, act.Invalid("no-repository", "a bundle is made from 1 to %d repositories", mostFrom)
	case len(w.Only) > mostPatterns:
		return nil, act.Invalid("too-many-patterns", "a bundle has at most %d patterns", mostPatterns)
	}
	for _, text := range w.Only {
		if _, err := purl.ParsePattern(text); err != nil {
			return nil, err
		}
	}
	for _, name := range w.From {
		r, err := s.directory.Repository(caller, name, access.Manage)
		if err != nil {
			return nil, err
		}
		if r.Gathers() {
			return nil, fault.New(fault.Conflict, "from-chain", "%s is a chain, and keeps nothing itself", r.Name).
				WithHint("Name the repositories behind it.")
		}
		if _, twice := m.at[r.Name]; !twice {
			m.at[r.Name], m.From = r, append(m.From, r.Name)
		}
	}
	signer, err := s.keys.SignerNamed(ctx, w.Key)
	if err != nil {
		return nil, err
	}
	if err := m.gather(ctx); err != nil {
		return nil, err
	}
	if w.WithNeeds {
		if err := m.addNeeds(ctx); err != nil {
			return nil, err
		}
	}
	if err := m.addDecisions(ctx); err != nil {
		return nil, err
	}
	if m.signed.Raw, err = json.MarshalIndent(m.Manifest, "", " "); err != nil {
		return nil, err
	}
	if len(m.signed.Raw) > bundle.MaxManifest {
		return nil, fault.New(fault.TooLarge, "bundle-too-large", "what it would hold takes %s to list, and %s are possible",
			api.Bytes(int64(len(m.signed.Raw))), api.Bytes(bundle.MaxManifest)).
			WithHint("Make several, each of some of it: --only PATTERN.")
	}
	m.signed.Signature, err = signer.Sign(bytes.NewReader(m.signed.Raw))
	return m, err
}

// gather finds what is wanted of the repositories.
func (m *Making) gather(ctx context.Context) error {
	for _, name := range m.From {
		r := m.at[name]
		keys, err := m.s.DB.PackagesOf(ctx, r.ID)
		if err != nil {
			return err
		}
		keys = slices.DeleteFunc(keys, func(key catalog.PackageKey) bool {
			return !m.only.Admits(act.PURLOf(key, "")).Allowed ||
				!m.s.directory.Shows(r.Key(key.Ecosystem, key.Namespace, key.Name))
		})
		if err := m.gatherKeys(ctx, r, keys); err != nil {
			return err
		}
	}
	return nil
}

// gatherKeys finds what is wanted of some packages, and reads many of them by few questions.
func (m *Making) gatherKeys(ctx context.Context, r catalog.Repository, keys []catalog.PackageKey) error {
	for len(keys) > 0 {
		n := 1
		for n < min(len(keys), lookedAtOnce) && keys[n].Ecosystem == keys[0].Ecosystem {
			n++
		}
		if err := errors.Join(m.s.holdings.Ahead(ctx, keys[:n]), m.s.safety.Ahead(ctx, keys[:n])); err != nil {
			return err
		}
		if err := m.gatherSome(ctx, r, keys[:n]); err != nil {
			return err
		}
		keys = keys[n:]
	}
	return nil
}

func (m *Making) gatherSome(ctx context.Context, r catalog.Repository, keys []catalog.PackageKey) error {
	for _, key := range keys {
		there, err := m.s.holdings.Package(ctx, key)
		if errors.Is(err, ecosystem.ErrNoPackage) {
			continue
		}
		if err != nil {
			return err
		}
		judge, err := m.s.safety.Judge(ctx, r, key)
		if err != nil {
			return err
		}
		judge.Among(there.Versions)
		wanted := slices.DeleteFunc(slices.Clone(there.Versions), func(v catalog.Version) bool {
			return !m.only.Admits(act.PURLOf(key, v.Version)).Allowed
		})
		var fresh []catalog.Version
		for _, v := range wanted {
			if m.Since != nil && cameAt(v).Before(m.Since.MadeAt.Add(-overlap)) {
				continue
			}
			why := ""
			if verdict := judge.Of(&v); verdict.Refused {
				why = r.Name + " keeps it out: " + verdict.Why
			} else if len(v.Files) == 0 {
				why = r.Name + " keeps none of its files"
			}
			if why != "" {
				m.LeftOut = append(m.LeftOut, bundle.LeftOut{PURL: act.PURLOf(key, v.Version).String(), Why: why})
				continue
			}
			fresh = append(fresh, v)
		}
		if err := m.add(ctx, r, there, fresh, wanted, false); err != nil {
			return err
		}
	}
	return nil
}

// cameAt is when a version came into its repository.
func cameAt(v catalog.Version) time.Time {
	at := v.Arrived
	for _, f := range v.Files {
		if f.AddedAt.After(at) { // a file that was added later, or of a mirror
			at = f.AddedAt
		}
	}
	return at
}

// add adds versions of a package, with the marks of those that are known to be carried.
func (m *Making) add(
	ctx context.Context, r catalog.Repository, there *catalog.Package, fresh, carried []catalog.Version, needed bool,
) error {
	key := there.Key
	p := bundle.Package{Repository: r.Name, Ecosystem: key.Ecosystem, Namespace: key.Namespace, Name: key.Name,
		Labels: map[string]string{}, Withdrawn: map[string]string{}, Versions: []bundle.Version{}}
	marked := fresh
	if m.Since != nil && !there.Changed.Before(m.Since.MadeAt.Add(-overlap)) {
		marked = carried
	}
	for _, v := range marked {
		for _, label := range there.LabelsAt(v.Version) {
			p.Labels[label] = v.Version
		}
		if v.Withdrawn != nil {
			p.Withdrawn[v.Version] = v.Withdrawn.Reason
		}
	}
	if len(fresh) == 0 && (m.Since == nil || len(p.Labels)+len(p.Withdrawn) == 0) {
		return nil
	}
	var titles map[int64]string
	if !m.briefly {
		var err error
		if titles, err = m.s.builds.Titles(ctx, fresh); err != nil {
			return err
		}
	}
	promotions, err := m.promotions(ctx, fresh)
	if err != nil {
		return err
	}
	slices.SortStableFunc(fresh, func(a, b catalog.Version) int {
		return cmp.Or(a.Arrived.Compare(b.Arrived), cmp.Compare(a.ID, b.ID))
	})
	for _, v := range fresh {
		if m.builds != nil && titles[v.BuildID] != "" {
			m.builds[v.BuildID] = true
		}
		one := bundle.Version{Version: v.Version, Upload: v.Upload, Snapshot: v.Snapshot, UploadedAt: v.UploadedAt.UTC(),
			UploadCount: v.UploadCount, PublishedAt: v.PublishedAt.UTC(), PublishedBy: v.PublishedBy, Build: titles[v.BuildID],
			Needed: needed, Promotions: promotions[v.ID]}
		if !m.briefly {
			one.Said = v.Details.Native
		}
		for _, f := range v.Files {
			one.Files = append(one.Files, bundle.File{Name: f.Name, Classifier: f.Classifier, Extension: f.Extension,
				MediaType: f.MediaType, SHA256: f.Digests.SHA256, Size: f.Digests.Size})
		}
		p.Versions = append(p.Versions, one)
	}
	m.Packages = append(m.Packages, p)
	return nil
}

// promotions are those that versions went through, here and where they came from, by version id.
func (m *Making) promotions(ctx context.Context, versions []catalog.Version) (map[int64][]bundle.Promotion, error) {
	if len(versions) == 0 || m.briefly {
		return nil, nil
	}
	ids := make([]int64, len(versions))
	for i, v := range versions {
		ids[i] = v.ID
	}
	origins, err := m.s.DB.OriginsOf(ctx, ids)
	if err != nil {
		return nil, err
	}
	here, err := m.s.DB.PromotedTo(ctx, ids)
	all := map[int64][]bundle.Promotion{}
	for id, o := range origins {
		all[id] = o.Promotions
	}
	for id, p := range here {
		p.At = p.At.UTC()
		all[id] = append(all[id], p)
	}
	return all, err
}

// addDecisions adds those that stand about what is in it.
func (m *Making) addDecisions(ctx context.Context) error {
	vettings, err := m.s.DB.StandingVettings(ctx, m.s.Now())
	if err != nil {
		return err
	}
	waivers, err := m.s.DB.StandingWaivers(ctx, m.s.Now())
	if err != nil {
		return err
	}
	about := func(text string) bool {
		pattern, err := purl.ParsePattern(text)
		return err == nil && slices.ContainsFunc(m.Packages, func(p bundle.Package) bool {
			return pattern.MatchName(p.PURL()) && slices.ContainsFunc(p.Versions, func(v bundle.Version) bool {
				of := p.PURL()
				of.Version = v.Version
				return pattern.Match(of)
			})
		})
	}
	for _, v := range vettings {
		if about(v.Pattern) {
			m.Vettings = append(m.Vettings, bundle.Vetting{Pattern: v.Pattern, Refused: v.Refused,
				Repositories: v.Repositories, Reason: v.Reason, By: v.By, MadeAt: v.MadeAt.UTC(), Until: v.Until})
		}
	}
	for _, w := range waivers {
		if about(w.Pattern) {
			m.Waivers = append(m.Waivers, bundle.Waiver{Advisory: w.Advisory, Pattern: w.Pattern,
				Justification: w.Justification, Reason: w.Reason, By: w.By, MadeAt: w.MadeAt.UTC(), Until: w.Until})
		}
	}
	return nil
}

// Write writes the bundle, and puts it on record.
func (m *Making) Write(ctx context.Context, w io.Writer) error {
	b, err := bundle.NewWriter(w, m.signed, m.MadeAt)
	if err != nil {
		return err
	}
	written := map[bundle.Sum]bool{}
	for _, p := range m.Packages {
		for _, v := range p.Versions {
			for _, f := range v.Files {
				if written[f.SHA256] {
					continue
				}
				written[f.SHA256] = true
				if err := m.write(ctx, b, f); err != nil {
					return err
				}
			}
		}
	}
	if err := b.Close(); err != nil {
		return err
	}
	row := record.Bundle{Name: m.ID, MadeAt: m.MadeAt, MadeBy: m.MadeBy, Origin: map[string]string{}, Key: m.key,
		At: m.s.Now(), ByName: m.caller.Name}
	row.Versions, row.Bytes = m.Totals()
	if m.Since != nil {
		row.Since = m.Since.ID
	}
	for _, name := range m.From {
		row.Origin[name] = ""
	}
	event := m.s.Event(m.caller, record.EventBundleMade)
	event.Subject, event.Detail = "bundle "+m.ID, map[string]string{"from": strings.Join(m.From, ", "), "key": m.key,
		"versions": act.Itoa(int64(row.Versions))}
	return m.s.DB.Within(ctx, func(tx *record.Tx) error {
		if err := tx.AddBundle(ctx, row); err != nil {
			return err
		}
		return tx.Append(ctx, event, record.Change{Kind: record.OfBundle})
	})
}

func (m *Making) write(ctx context.Context, b *bundle.Writer, f bundle.File) error {
	r, err := m.s.store.OpenBytes(ctx, f.SHA256, f.Size)
	if err != nil {
		return m.s.store.Fault(err)
	}
	defer r.Close()
	return b.Add(f.SHA256, f.Size, r)
}
