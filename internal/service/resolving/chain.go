package resolving

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/chain"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/service/directory"
	"crelvo/internal/service/mirrors"
)

// ours tells why a name is ours in a chain; "" if it is not. It is ours also if
// whoever asks may not see where it was published: what mirrors must not answer
// for does not depend on that. But then it is not said.
func (s *Resolving) ours(ctx context.Context, r catalog.Repository, key catalog.PackageKey) (string, error) {
	var houses []int64
	d := s.directory.Known()
	for _, m := range d.Behind[r.ID] {
		if m.Own() {
			houses = append(houses, m.ID)
		}
	}
	in, err := s.DB.PublishedIn(ctx, houses, key)
	if err != nil {
		return "", err
	}
	members := s.directory.MembersFor(r, key)
	var all, seen []string
	for _, id := range in {
		all = append(all, d.ByID[id].Name)
		if slices.ContainsFunc(members, func(m chain.Member) bool { return m.ID == id }) {
			seen = append(seen, d.ByID[id].Name)
		}
	}
	ours := chain.Ours(d.Claims, act.PURLOf(key, ""), all)
	if ours != "" && len(seen) < len(all) {
		if ours = chain.Ours(d.Claims, act.PURLOf(key, ""), seen); ours == "" {
			ours = oursUnseen
		}
	}
	return ours, nil
}

// oursUnseen is why a name is ours to those who may not know.
const oursUnseen = "for a reason that you may not see"

// inquiry is one question on its way through the members of a chain.
type inquiry struct {
	s       *Resolving
	members []chain.Member
	key     catalog.PackageKey // its repository is the one that was asked
	version string
	holders map[int64]record.Holder
	// found are the packages of the members, where a package was asked for.
	found []*catalog.Package
	// until is when each of them is to be asked again.
	until []time.Time
	// tells: somebody wants to know why, and not only who answers.
	tells bool
	// fetched is what a mirror had to fetch for its answer.
	fetched catalog.FileQuestion
}

func (i *inquiry) at(n int) catalog.PackageKey {
	key := i.key
	key.RepositoryID, key.Sight = i.members[n].ID, ""
	return key
}

// resolve asks the members for a version, one after the other. all asks those
// too whose answer cannot count any more.
func (i *inquiry) resolve(ctx context.Context, ours string, all bool) (chain.Answer, error) {
	var err error
	if i.holders, err = i.s.DB.Holders(ctx, directory.IDsOf(i.members), i.key, i.version); err != nil {
		return chain.Answer{}, err
	}
	q := chain.Question{PURL: act.PURLOf(i.key, i.version), Snapshot: purl.IsSnapshot(i.key.Ecosystem, i.version),
		Ours: ours, All: all}
	answer := chain.Resolve(i.members, q, func(n int) chain.Finding { return i.askAdmitted(ctx, n) })
	return answer, ctx.Err()
}

// askAdmitted finds out whether a member has the version, and lets it in. What a mirror does
// not let in, its upstream is not asked for.
func (i *inquiry) askAdmitted(ctx context.Context, n int) chain.Finding {
	judge, err := i.s.safety.Judge(ctx, i.members[n].Repository, i.at(n))
	var refusal *fault.Error
	if err == nil {
		refusal, err = i.s.refusal(ctx, i.members[n].Repository, judge, i.at(n), i.version)
	}
	switch {
	case errors.Is(err, errUnlisted):
		return chain.Finding{Said: chain.HasNot, Why: err.Error()}
	case err != nil:
		return chain.Finding{Said: chain.Failed, Why: fault.Of(err).Message, Err: err}
	}
	found := chain.Finding{Said: chain.HasIt}
	if refusal == nil || !i.members[n].Fetches() {
		found = i.askVersion(ctx, n)
	}
	if refusal != nil && (found.Said == chain.HasIt || found.Said == chain.Stale) {
		return chain.Finding{Said: chain.KeptOut, Why: errors.Unwrap(refusal).Error(), Err: refusal}
	}
	return found
}

// askVersion finds out whether a member has the version. What is kept answers
// without the upstream.
func (i *inquiry) askVersion(ctx context.Context, n int) chain.Finding {
	member := i.members[n]
	held, kept := i.holders[member.ID]
	if member.Own() {
		if !kept && i.tells {
			gone, err := i.s.removedFrom(ctx, []chain.Member{member}, i.key, i.version)
			if err == nil && gone != nil {
				return chain.Finding{Said: chain.HasNot, Why: gone.Sentence + ". " + gone.Hint}
			}
		}
		if !kept {
			return chain.Finding{Said: chain.HasNot, Why: "it was not published there"}
		}
		return chain.Finding{Said: chain.HasIt, Why: fmt.Sprintf("published on %s by %s",
			held.PublishedAt.UTC().Format(act.TimeForm), held.PublishedBy)}
	}
	m := i.s.mirrors.Of(member.ID)
	if m == nil {
		return chain.Finding{Said: chain.HasNot, Why: "it was just removed"}
	}
	if kept {
		why := fmt.Sprintf("kept since %s", held.PublishedAt.UTC().Format(act.TimeForm))
		if m.Source.Failing() {
			return chain.Finding{Said: chain.Stale, Why: why + "; its upstream fails at the moment"}
		}
		return chain.Finding{Said: chain.HasIt, Why: why}
	}
	if i.key.AsOf != 0 {
		listed, err := i.s.mirrors.ListedThen(ctx, m, i.key, i.version)
		switch {
		case err != nil:
			return chain.Finding{Said: chain.Failed, Why: fault.Of(err).Message, Err: err}
		case listed:
			return chain.Finding{Said: chain.HasIt, Why: "its upstream listed it then"}
		}
		return chain.Finding{Said: chain.HasNot, Why: "it was neither kept nor listed then"}
	}
	has, why, err := i.askUpstream(ctx, n, m)
	switch {
	case err != nil:
		return chain.Finding{Said: chain.Failed, Why: fault.Of(err).Message, Err: err}
	case has:
		return chain.Finding{Said: chain.HasIt, Why: why}
	}
	return chain.Finding{Said: chain.HasNot, Why: why}
}

// askUpstream finds out whether a mirror that keeps nothing of the version
// could have it.
func (i *inquiry) askUpstream(ctx context.Context, n int, m *mirrors.Mirror) (has bool, why string, err error) {
	p := act.PURLOf(i.key, i.version)
	byPath, ok := m.Speaks.(ecosystem.ByPath)
	if !ok || purl.IsSnapshot(p.Ecosystem, p.Version) {
		found, _, err := i.s.mirrors.Package(ctx, m, i.at(n), i.version)
		if errors.Is(err, ecosystem.ErrNoPackage) {
			return false, "its upstream does not list it", nil
		}
		if err != nil {
			return false, "", err
		}
		for _, v := range found.Versions {
			if v.Version == i.version {
				return true, "its upstream lists it", nil
			}
		}
		return false, "its upstream does not list it", nil
	}
	// The file that every version has decides; a list only where that file was
	// not asked for, since lists may lack a version, or have one that is gone.
	marker := byPath.Marker(p, "")
	marker.Key = i.at(n)
	place, err := byPath.PlaceOf(marker)
	if err != nil {
		return false, "", err
	}
	known, err := i.s.mirrors.Document(ctx, m, byPath.FilePath(place), i.at(n))
	if err != nil {
		return false, "", err
	}
	if known != nil && !known.Found && i.laterKept(n) {
		// It was not there, and a later member keeps it: that one need not wait.
		return false, fmt.Sprintf("its upstream did not have it on %s", known.CheckedAt.UTC().Format(act.TimeForm)), nil
	}
	if known == nil {
		listed, err := i.s.mirrors.Document(ctx, m, byPath.ListingPath(act.PURLOf(i.key, "")), i.at(n))
		if err != nil {
			return false, "", err
		}
		if listed != nil && listed.Lists(i.version) {
			return true, "its upstream lists it", nil
		}
	}
	found, err := i.s.File(ctx, marker)
	if found.Fetched {
		i.fetched = marker
	}
	if err == nil && found.Arriving != nil {
		_, _, _, err = found.Arriving.Ready(ctx)
	}
	switch {
	case errors.Is(err, ecosystem.ErrNoFile):
		return false, "its upstream does not have it", nil
	case err != nil:
		return false, "", err
	}
	return true, "its upstream has it", nil
}

// laterKept tells whether a member behind the nth keeps the version.
func (i *inquiry) laterKept(n int) bool {
	for _, m := range i.members[n+1:] {
		if _, ok := i.holders[m.ID]; ok {
			return true
		}
	}
	return false
}

// resolvePackage asks all members for a package, at the same time, since the
// word of each counts.
func (i *inquiry) resolvePackage(ctx context.Context, ours string) chain.Answer {
	i.found, i.until = make([]*catalog.Package, len(i.members)), make([]time.Time, len(i.members))
	q := chain.Question{PURL: act.PURLOf(i.key, ""), Ours: ours}
	findings := make([]chain.Finding, len(i.members))
	var asking sync.WaitGroup
	for n, m := range i.members {
		i.until[n] = mirrors.Forever
		if chain.Excuse(m, q).Said == "" {
			asking.Go(func() { findings[n] = i.askPackage(ctx, n) })
		}
	}
	asking.Wait()
	return chain.Resolve(i.members, q, func(n int) chain.Finding { return findings[n] })
}

func (i *inquiry) askPackage(ctx context.Context, n int) chain.Finding {
	p, until, err := i.s.packageAdmitted(ctx, i.at(n), i.version)
	i.until[n] = until
	if errors.Is(err, ecosystem.ErrNoPackage) {
		if i.tells {
			if gone, err := i.s.removedFrom(ctx, i.members[n:n+1], i.key, ""); err == nil && gone != nil {
				return chain.Finding{Said: chain.HasNot, Why: gone.Sentence + ". " + gone.Hint}
			}
		}
		return chain.Finding{Said: chain.HasNot, Why: "it has no version of it"}
	}
	if err != nil {
		return chain.Finding{Said: chain.Failed, Why: fault.Of(err).Message, Err: err}
	}
	i.found[n] = p
	if len(p.Versions) == 0 && len(p.KeptOut) > 0 {
		return chain.Finding{Said: chain.KeptOut, Why: p.KeptOut[0].Why}
	}
	names := map[string]bool{}
	newest := ""
	for _, v := range p.Versions {
		names[v.Version] = true
		if newest == "" || purl.Compare(i.key.Ecosystem, v.Version, newest) > 0 {
			newest = v.Version
		}
	}
	why := fmt.Sprintf("%s, the newest %s", act.Plural(int64(len(names)), "version"), newest)
	if len(p.Stale) > 0 {
		return chain.Finding{Said: chain.Stale, Why: why + "; its upstream fails: " + p.Stale[0].Why}
	}
	return chain.Finding{Said: chain.HasIt, Why: why}
}

// chainFile finds a file behind a chain. All files of a release come from the
// member that answers for it.
func (s *Resolving) chainFile(
	ctx context.Context, r catalog.Repository, q catalog.FileQuestion,
) (ecosystem.Found, error) {
	if q.Version == "" {
		return s.chainLabelled(ctx, r, q)
	}
	members := s.directory.MembersFor(r, q.Key)
	ours, err := s.ours(ctx, r, q.Key)
	if err != nil {
		return ecosystem.Found{}, err
	}
	asked := &inquiry{s: s, members: members, key: q.Key, version: q.Version}
	answer, err := asked.resolve(ctx, ours, false)
	if err != nil {
		return ecosystem.Found{}, err
	}
	if answer.Failed >= 0 {
		step := answer.Steps[answer.Failed]
		return ecosystem.Found{}, s.memberFault(r, step.Member, act.PURLOf(q.Key, q.Version).String(), step.Err)
	}
	answering := answer.Answering()
	if len(answering) == 0 {
		if err := answer.KeptOut(); err != nil {
			return ecosystem.Found{}, err
		}
		return ecosystem.Found{}, ecosystem.ErrNoFile
	}
	if q.Name == "" && len(answering) > 1 {
		if q, err = s.newestAmong(ctx, answering, q); err != nil {
			return ecosystem.Found{}, err
		}
	}
	for _, step := range answering {
		of := q
		of.Key.RepositoryID, of.Key.Sight = step.ID, ""
		found, err := s.File(ctx, of)
		if errors.Is(err, ecosystem.ErrNoFile) {
			continue
		}
		found.From = step.Name
		found.Fetched = found.Fetched || asked.fetched == of
		return found, err
	}
	return ecosystem.Found{}, ecosystem.ErrNoFile
}

// newestAmong makes a question for the newest upload of a snapshot exact, over
// all house members that have uploads.
func (s *Resolving) newestAmong(
	ctx context.Context, answering []chain.Step, q catalog.FileQuestion,
) (catalog.FileQuestion, error) {
	all := new(catalog.Package)
	for _, step := range answering {
		key := q.Key
		key.RepositoryID, key.Sight = step.ID, ""
		p, err := s.packageOf(ctx, key, q.Version)
		if errors.Is(err, ecosystem.ErrNoPackage) {
			continue
		}
		if err != nil {
			return q, err
		}
		all.Versions = append(all.Versions, p.Versions...)
	}
	newest := mirrors.NewestWith(all, q)
	if newest == nil {
		return q, ecosystem.ErrNoFile
	}
	q.Upload, q.Name, q.Classifier, q.Extension = newest.Version.Upload, newest.File, "", ""
	return q, nil
}

// memberFault says that a chain cannot answer, since a member may have what was
// asked for, and cannot tell.
func (s *Resolving) memberFault(r catalog.Repository, member chain.Member, what string, err error) error {
	if !r.Gathers() || !fault.Is(err, fault.Unavailable) {
		return err
	}
	f := fault.Of(err)
	said := fault.New(fault.Unavailable, "member-failed", "%s cannot tell about %s, since its member %s fails: %s", r.Name,
		what, member.Name, f.Message)
	said.Hint, said.Cause = f.Hint, f.Cause
	return said
}

// chainPackage puts together what the members of a chain have of a package.
// until is when a mirror among them is to be asked again.
func (s *Resolving) chainPackage(
	ctx context.Context, r catalog.Repository, key catalog.PackageKey, version string,
) (_ *catalog.Package, until time.Time, err error) {
	members := s.directory.MembersFor(r, key)
	ours, err := s.ours(ctx, r, key)
	if err != nil {
		return nil, until, err
	}
	asked := &inquiry{s: s, members: members, key: key, version: version}
	answer := asked.resolvePackage(ctx, ours)
	if err := ctx.Err(); err != nil {
		return nil, until, err
	}
	if answer.Failed >= 0 {
		step := answer.Steps[answer.Failed]
		return nil, until, s.memberFault(r, step.Member, act.PURLOf(key, version).String(), step.Err)
	}
	var parts []chain.Part
	until = mirrors.Forever
	for n, step := range answer.Steps {
		if asked.until[n].Before(until) {
			until = asked.until[n]
		}
		if step.Answers || step.Said == chain.KeptOut {
			parts = append(parts, chain.Part{House: step.Own(), Package: asked.found[n]})
		}
	}
	merged := chain.Merge(key, parts)
	if merged == nil {
		return nil, until, ecosystem.ErrNoPackage
	}
	return merged, until, nil
}

// Explanation tells who answers for a package or version in a repository.
type Explanation struct {
	PURL       purl.PURL
	Repository catalog.Repository
	Ours       string // why the name is ours; "" if it is not
	// Refusal says that the chain itself does not let in what a member answers with; nil if it
	// does.
	Refusal *fault.Error
	chain.Answer
}

// Explain asks every member of a repository about a package or version, as a
// client's question would.
func (s *Resolving) Explain(ctx context.Context, caller access.Caller, p purl.PURL, name string) (Explanation, error) {
	r, err := s.directory.Repository(caller, name, access.Read)
	if err != nil {
		return Explanation{}, err
	}
	if s.Ecosystem(p.Ecosystem) == nil {
		return Explanation{}, fault.New(fault.NotFound, "no-such-ecosystem", "this server does not know the ecosystem %q",
			p.Ecosystem)
	}
	p.Qualifiers = nil
	explained := Explanation{PURL: p, Repository: r}
	key := r.Key(p.Ecosystem, p.Namespace, p.Name)
	members := s.directory.MembersFor(r, key)
	if r.Gathers() {
		if explained.Ours, err = s.ours(ctx, r, key); err != nil {
			return explained, err
		}
	}
	asked := &inquiry{s: s, members: members, key: key, version: p.Version, tells: key.AsOf == 0}
	if p.Version == "" {
		explained.Answer, err = asked.resolvePackage(ctx, explained.Ours), ctx.Err()
	} else {
		explained.Answer, err = asked.resolve(ctx, explained.Ours, true)
	}
	if err == nil && r.Gathers() && len(explained.Answering()) > 0 {
		explained.Refusal = s.keptOut(ctx, key, p.Version)
	}
	if explained.Ours == oursUnseen {
		explained.Ours = ""
		for i, step := range explained.Steps {
			if step.Said == chain.Claimed {
				explained.Steps[i].Said, explained.Steps[i].Why = chain.HasNot, "nothing of that name is taken from it here"
			}
		}
	}
	return explained, err
}
