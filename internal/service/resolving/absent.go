package resolving

import (
	"context"
	"fmt"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/chain"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/service/mirrors"
)

// WhyNot implements ecosystem.Desk.
func (s *Resolving) WhyNot(ctx context.Context, key catalog.PackageKey, version string) *fault.Error {
	r, ok := s.directory.Known().ByID[key.RepositoryID]
	if !ok || !s.directory.Shows(key) {
		return nil
	}
	key.Sight, r.Sight = "", key.Sight
	p := act.PURLOf(key, version)
	if f := s.keptOut(ctx, r.Key(key.Ecosystem, key.Namespace, key.Name), version); f != nil {
		return f
	}
	members := s.directory.MembersFor(r, key)
	if key.AsOf == 0 {
		if gone, err := s.removedFrom(ctx, members, key, version); err == nil && gone != nil {
			return fault.New(fault.NotFound, "removed", "%s", gone.Sentence).WithHint("%s", gone.Hint)
		}
	}
	if r.Fetches() {
		if err := (&mirrors.Mirror{Repository: r}).Admits(p); err != nil {
			return fault.Of(err)
		}
	}
	if !r.Gathers() {
		return nil
	}
	ours, err := s.ours(ctx, r, key)
	if err != nil {
		return nil // a refusal without its reason is better than none
	}
	return notLetIn(r, members, p, ours)
}

// notLetIn tells why no mirror of a chain may answer for a package, if that is so.
func notLetIn(r catalog.Repository, members []chain.Member, p purl.PURL, ours string) *fault.Error {
	if ours == oursUnseen {
		return nil
	}
	name := p
	name.Version = ""
	for _, m := range members {
		switch excuse := chain.Excuse(m, chain.Question{PURL: p, Snapshot: purl.IsSnapshot(p.Ecosystem, p.Version),
			Ours: ours}); {
		case excuse.Said == chain.Claimed:
			return fault.New(fault.NotFound, "claimed", "%s has no %s, and %s may not answer for it: the name is ours, %s",
				r.At(), p.Typed(), m.Name, ours).
				WithHint("If it is not, have the claim lifted: crelvo claim lift %s --reason …", name.Typed())
		case excuse.Said == chain.Denied && chain.Admits(m.Mirror, p).ByDeny:
			return fault.New(fault.Denied, "denied-by-pattern", "%s has no %s, and %s does not let it in: it is %s", r.At(),
				p.Typed(), m.Name, excuse.Why).
				WithHint("Whoever looks after %s can change its patterns.", m.Name)
		}
	}
	return nil
}

// Gone tells of what was removed and is not there any more.
type Gone struct {
	record.Removed
	Repository string
	// Sentence tells by what and when it was removed, Hint how it comes back.
	Sentence, Hint string
}

// removedFrom finds what house repositories among members had of a package, or of
// one version of it, and have no more: what was removed last, or nil.
func (s *Resolving) removedFrom(
	ctx context.Context, members []chain.Member, key catalog.PackageKey, version string,
) (*Gone, error) {
	names := map[int64]string{}
	var houses []int64
	for _, m := range members {
		if m.Own() {
			houses = append(houses, m.ID)
			names[m.ID] = m.Name
		}
	}
	if len(houses) == 0 {
		return nil, nil
	}
	all, err := s.DB.RemovedOf(ctx, houses, key, version, 1)
	if err != nil || len(all) == 0 {
		return nil, err
	}
	return s.tellGone(all[0], key, names[all[0].RepositoryID]), nil
}

// tellGone puts in words what was removed.
func (s *Resolving) tellGone(r record.Removed, key catalog.PackageKey, repository string) *Gone {
	p := act.PURLOf(key, r.Version).Typed()
	g := &Gone{Removed: r, Repository: repository,
		Sentence: fmt.Sprintf("%s was removed from %s on %s", p, repository, r.At.UTC().Format(act.TimeForm))}
	switch {
	case r.Sweep != 0 && r.Policy != "":
		g.Sentence += fmt.Sprintf(" by sweep %d of the policy %s", r.Sweep, r.Policy)
	case r.Sweep != 0:
		g.Sentence += fmt.Sprintf(" by %s (sweep %d)", r.By, r.Sweep)
	case r.Promotion != 0:
		g.Sentence += fmt.Sprintf(", when promotion %d was undone", r.Promotion)
	}
	switch {
	case r.Until == nil || !r.Until.After(s.Now()) || r.Reclaimed:
		g.Hint = "Its time of grace is over; publish it again, or take another version."
	case r.Sweep != 0:
		g.Hint = fmt.Sprintf("Until %s it comes back with: crelvo sweep undo %d %s", r.Until.UTC().Format(act.TimeForm),
			r.Sweep, p)
	default:
		g.Hint = "Promote it again."
	}
	return g
}
