package retention

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/core/retention"
	"crelvo/internal/ecosystem"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
)

// PlanLine is a version in the plan of a sweep.
type PlanLine struct {
	Repository catalog.Repository
	Package    purl.PURL // without a version
	retention.Version
	retention.Verdict
	// Freed are the bytes that its removal frees; 0 for what stays.
	Freed int64
}

// PlanTotal sums up a part of a plan.
type PlanTotal struct {
	Name                 string // of the repository, ecosystem, package, reason or month
	Kept, Swept, Outside int    // versions
	KeptBytes            int64
	SweptBytes           int64
	Freed                int64
}

func (t *PlanTotal) add(l *PlanLine) {
	switch l.Fate {
	case retention.Kept:
		t.Kept++
		t.KeptBytes += l.Bytes
	case retention.Swept:
		t.Swept++
		t.SweptBytes += l.Bytes
		t.Freed += l.Freed
	default:
		t.Outside++
	}
}

// SweepPlan is what a run of a policy would do.
type SweepPlan struct {
	Policy retention.Policy
	At     time.Time
	Total  PlanTotal
	// The parts: the packages are those of which most is freed.
	Repositories, Ecosystems, Packages, Reasons, Months []PlanTotal
	// Asks are why a run would stop and ask.
	Asks []string
	// Last is the last sweep of the policy; of what would go now, Then was there
	// then and stayed, New came since.
	Last      *record.Sweep
	Then, New int
}

// mostPackages is how many packages a plan sums up by themselves.
const mostPackages = 50

// planning is a plan that is being made.
type planning struct {
	s      *Retention
	facts  record.Facts
	policy *retention.Policy
	others policiesBeside
	now    time.Time
	at     catalog.Moment // 0 for now, and for what is to come

	held                     map[int64]string
	pins                     map[int64]map[string]string
	promoted, promotedBuilds map[int64]int64
	shares                   *retention.Shares
	rescue                   *retention.Rescue // nil if nothing asks for it
	explains                 bool              // a policy keeps symbols of what stays
}

// plan works a policy out for repositories, and calls line for every version, in
// the order of the repositories' names, packages and versions. The line is not to
// be kept: the next one takes its place.
func (s *Retention) plan(
	ctx context.Context, facts record.Facts, policy *retention.Policy, repositories []catalog.Repository, asOf time.Time,
	line func(*PlanLine) error,
) (*SweepPlan, error) {
	p := &planning{s: s, facts: facts, policy: policy, now: s.Now()}
	if !asOf.IsZero() {
		if asOf.Before(p.now) {
			p.at = catalog.MomentOf(asOf)
		}
		p.now = asOf
	}
	var err error
	if p.others, err = s.OtherPolicies(ctx, policy.Name); err != nil {
		return nil, err
	}
	plan := &SweepPlan{Policy: *policy, At: p.now}
	if err := p.begin(ctx, repositories); err != nil {
		return nil, err
	}
	// Which bytes are shared is found out while the versions are.
	shared, stop := context.WithCancel(ctx)
	defer stop()
	wait := facts.Beside(shared, func(f record.Facts) (err error) {
		p.shares, err = f.Shares(shared)
		return err
	})
	sums := newSums()
	for _, r := range repositories {
		sums.repository(r.Name)
	}
	l := new(PlanLine)
	err = p.packages(ctx, repositories, func(r catalog.Repository, of *retention.Package,
		verdicts []retention.Verdict) error {
		if err := wait(); err != nil {
			return err
		}
		for i := range of.Versions {
			*l = PlanLine{Repository: r, Package: of.Key, Version: of.Versions[i], Verdict: verdicts[i]}
			if l.Fate == retention.Swept {
				l.Freed = p.shares.Free(l.ID, l.Bytes)
			}
			sums.add(l)
			if err := line(l); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	for _, r := range repositories {
		if err := p.limits(ctx, r, sums, plan); err != nil {
			return nil, err
		}
	}
	if n := sums.total.Swept; policy.MostVersions > 0 && n > policy.MostVersions {
		plan.Asks = append(plan.Asks, fmt.Sprintf("it would take %d versions, and may take %d without asking", n,
			policy.MostVersions))
	}
	sums.into(plan)
	return plan, nil
}

// begin reads what is known of everything at once.
func (p *planning) begin(ctx context.Context, repositories []catalog.Repository) (err error) {
	ids := make([]int64, len(repositories))
	rescues, promotes := false, false
	for i, r := range repositories {
		ids[i] = r.ID
		for _, policy := range p.others.On(p.policy, r) {
			p.explains = p.explains || policy.Is(retention.Symbols)
			rescues = rescues || p.explains || policy.Is(retention.Needed) || policy.Is(retention.InABuild)
			promotes = promotes || policy.Is(retention.Promoted)
		}
	}
	if p.pins, err = p.facts.Pinned(ctx, ids, p.now); err != nil {
		return err
	}
	if p.held, err = p.facts.Held(ctx); err != nil {
		return err
	}
	if promotes {
		if p.promoted, p.promotedBuilds, err = p.facts.Promoted(ctx, p.now); err != nil {
			return err
		}
	}
	if rescues {
		return p.findRescued(ctx, repositories, ids)
	}
	return nil
}

// findRescued finds what stays because of what else stays.
func (p *planning) findRescued(ctx context.Context, repositories []catalog.Repository, ids []int64) error {
	rescue := retention.NewRescue()
	err := p.packages(ctx, repositories, func(_ catalog.Repository, of *retention.Package,
		verdicts []retention.Verdict) error {
		rescue.Judged(of, verdicts)
		return nil
	})
	if err != nil {
		return err
	}
	names, swept := rescue.Names(), rescue.Swept()
	if len(swept) == 0 {
		return nil
	}
	keys := make([]purl.PURL, 0, len(names))
	for _, name := range names {
		key, err := purl.Parse(name)
		if err != nil {
			return err
		}
		keys = append(keys, key)
	}
	if err := p.facts.Elsewhere(ctx, keys, ids, func(of purl.PURL, version string) {
		rescue.Elsewhere(of.String(), version)
	}); err != nil {
		return err
	}
	if err := p.facts.BuildUses(ctx, swept, rescue.Uses, rescue.Kept); err != nil {
		return err
	}
	needs := func(title string, needs []catalog.Dependency) error {
		rescue.Needs(title, needs)
		return nil
	}
	if err := p.facts.Needs(ctx, names, swept, nil, needs); err != nil {
		return err
	}
	if p.explains {
		if err := p.facts.Programs(ctx, swept, rescue.Program); err != nil {
			return err
		}
	}
	for fresh := rescue.Fresh(); len(fresh) > 0; fresh = rescue.Fresh() {
		if err := p.facts.Needs(ctx, names, nil, fresh, needs); err != nil {
			return err
		}
	}
	p.rescue = rescue
	return nil
}

// versionsAtOnce is how many versions are asked for with one question, more or
// less: their order is made by sorting them.
const versionsAtOnce = 2_000_000

// stretch is packages, perhaps of several repositories, that the same policies are
// about: they are read with one question.
type stretch struct {
	policies []*retention.Policy
	packages []record.FactPackage
	in       []catalog.Repository // of each
	rooms    []map[int64]time.Time
	versions int64
}

type judged func(r catalog.Repository, of *retention.Package, verdicts []retention.Verdict) error

// packages judges the packages of repositories, one after the other.
func (p *planning) packages(ctx context.Context, repositories []catalog.Repository, each judged) error {
	var s stretch
	flush := func() error {
		if len(s.packages) == 0 {
			return nil
		}
		err := p.judge(ctx, s, each)
		s = stretch{}
		return err
	}
	for _, r := range repositories {
		policies := p.others.On(p.policy, r)
		all, err := p.facts.Packages(ctx, r.ID, queriesOf(policies), p.at)
		if err != nil {
			return err
		}
		rooms, err := p.rooms(ctx, r, policies)
		if err != nil {
			return err
		}
		if !slices.Equal(policies, s.policies) {
			if err := flush(); err != nil {
				return err
			}
		}
		for _, of := range all {
			if s.versions > versionsAtOnce {
				if err := flush(); err != nil {
					return err
				}
			}
			s.policies, s.versions = policies, s.versions+of.Versions
			s.packages, s.in, s.rooms = append(s.packages, of), append(s.in, r), append(s.rooms, rooms)
		}
	}
	return flush()
}

// rooms finds out for reasons that keep what was used last since when that is.
func (p *planning) rooms(
	ctx context.Context, r catalog.Repository, policies []*retention.Policy,
) (map[int64]time.Time, error) {
	rooms := map[int64]time.Time{}
	for _, policy := range policies {
		for _, reason := range policy.Keep {
			if reason.Kind != retention.LastUsed {
				continue
			}
			since, err := p.facts.Room(ctx, r.ID, reason.Bytes)
			if err != nil {
				return nil, err
			}
			rooms[reason.Bytes] = since
		}
	}
	return rooms, nil
}

// judge judges the packages of a stretch.
func (p *planning) judge(ctx context.Context, s stretch, each judged) error {
	ids := make([]int64, len(s.packages))
	for i, of := range s.packages {
		ids[i] = of.ID
	}
	labels, err := p.facts.Labels(ctx, ids, p.at)
	if err != nil {
		return err
	}
	var grouping []int64
	for _, of := range s.packages {
		if _, ok := p.s.Ecosystem(of.Key.Ecosystem).(ecosystem.Maturing); ok {
			grouping = append(grouping, of.ID)
		}
	}
	belongs, err := p.facts.Belongs(ctx, grouping)
	if err != nil {
		return err
	}
	return p.facts.Versions(ctx, ids, queriesOf(s.policies), p.now, p.at, func(i int, versions []retention.Version) error {
		of := s.packages[i]
		platforms := map[string][]string{} // of parts, by version
		for j := range versions {
			b := belongs[versions[j].ID]
			versions[j].Parts, versions[j].About, versions[j].Platforms = b.Parts, b.About, nil
			for _, part := range b.For {
				versions[j].Platforms = append(versions[j].Platforms, part.Platform)
				platforms[part.Version] = append(platforms[part.Version], part.Platform)
			}
		}
		for j := range versions {
			if len(platforms) > 0 && versions[j].Platforms == nil {
				versions[j].Platforms = platforms[versions[j].Version]
			}
		}
		pack := &retention.Package{Repository: s.in[i].Name, Key: of.Key, Versions: versions, Rooms: s.rooms[i]}
		about := !slices.Contains(of.About, false)
		pins, labels := p.pins[of.ID], labels[of.ID]
		for i := range pack.Versions {
			v := &pack.Versions[i]
			if !about {
				fits := make([]bool, len(v.Fits))
				for j := range fits {
					fits[j] = v.Fits[j] && of.About[j]
				}
				v.Fits = fits
			}
			p.mark(v, pins, labels)
		}
		return each(s.in[i], pack, retention.Judge(s.policies, pack, p.now))
	})
}

// mark adds what is known from elsewhere of a version.
func (p *planning) mark(v *retention.Version, pins map[string]string, labels map[string][]string) {
	v.Labels = labels[v.Version]
	if pins != nil {
		if v.Pinned = pins[v.Version]; v.Pinned == "" && v.Upload != "" {
			v.Pinned = pins[v.Upload]
		}
	}
	v.Held = p.held[v.ID]
	v.PromotedBy = p.promoted[v.ID]
	if v.BuildID != 0 {
		v.BuildPromotedBy = p.promotedBuilds[v.BuildID]
	}
	if p.rescue != nil {
		p.rescue.Mark(v)
	}
}

// limits notes if more of a repository would go than one run may take.
func (p *planning) limits(ctx context.Context, r catalog.Repository, sums *sums, plan *SweepPlan) error {
	if p.policy.MostShare == 0 {
		return nil
	}
	swept := sums.repositories[r.Name].Swept
	count, err := p.facts.Count(ctx, r.ID)
	if err == nil && int64(swept)*100 > count*int64(p.policy.MostShare) {
		plan.Asks = append(plan.Asks,
			fmt.Sprintf("it would take %d of the %d versions of %s, and may take %d%% without asking", swept, count, r.Name,
				p.policy.MostShare))
	}
	return err
}

// sums adds a plan up by its parts.
type sums struct {
	total                                               PlanTotal
	repositories, ecosystems, packages, reasons, months map[string]*PlanTotal
	order                                               []string // of the repositories
	last                                                purl.PURL
	lastName                                            string
	year                                                int
	inYear                                              time.Month
	month                                               string // of those
}

func newSums() *sums {
	return &sums{repositories: map[string]*PlanTotal{}, ecosystems: map[string]*PlanTotal{},
		packages: map[string]*PlanTotal{}, reasons: map[string]*PlanTotal{}, months: map[string]*PlanTotal{}}
}

func (s *sums) repository(name string) {
	s.repositories[name] = &PlanTotal{Name: name}
	s.order = append(s.order, name)
}

func (s *sums) add(l *PlanLine) {
	part := func(all map[string]*PlanTotal, name string) {
		t := all[name]
		if t == nil {
			t = &PlanTotal{Name: name}
			all[name] = t
		}
		t.add(l)
	}
	s.total.add(l)
	part(s.repositories, l.Repository.Name)
	part(s.ecosystems, l.Package.Ecosystem)
	if l.Fate == retention.Swept {
		// They come package by package, and a name takes long to write.
		if of := s.last; of.Name != l.Package.Name || of.Namespace != l.Package.Namespace ||
			of.Ecosystem != l.Package.Ecosystem {
			s.last, s.lastName = l.Package, l.Package.String()
		}
		part(s.packages, s.lastName)
	}
	if l.Fate == retention.Outside {
		return
	}
	part(s.reasons, l.Because)
	if year, month, _ := l.At.UTC().Date(); s.month == "" || year != s.year || month != s.inYear {
		s.year, s.inYear, s.month = year, month, fmt.Sprintf("%04d-%02d", year, month)
	}
	part(s.months, s.month)
}

func (s *sums) into(plan *SweepPlan) {
	list := func(all map[string]*PlanTotal, order func(a, b PlanTotal) int) []PlanTotal {
		found := make([]PlanTotal, 0, len(all))
		for _, name := range slices.Sorted(maps.Keys(all)) {
			found = append(found, *all[name])
		}
		if order != nil {
			slices.SortStableFunc(found, order)
		}
		return found
	}
	plan.Total = s.total
	for _, name := range s.order {
		plan.Repositories = append(plan.Repositories, *s.repositories[name])
	}
	plan.Ecosystems, plan.Months = list(s.ecosystems, nil), list(s.months, nil)
	plan.Packages = list(s.packages, func(a, b PlanTotal) int {
		return cmp.Or(cmp.Compare(b.Freed, a.Freed), cmp.Compare(b.Swept, a.Swept))
	})
	plan.Packages = plan.Packages[:min(len(plan.Packages), mostPackages)]
	plan.Reasons = list(s.reasons, func(a, b PlanTotal) int { return cmp.Compare(b.Kept+b.Swept, a.Kept+a.Swept) })
}

// PlanSweep works out what a policy, saved or not, would do to what the caller may
// read all of, now or as of another moment. It calls line for every version, with
// what is not to be kept.
func (s *Retention) PlanSweep(
	ctx context.Context, caller access.Caller, text string, asOf time.Time, line func(*PlanLine) error,
) (*SweepPlan, error) {
	policy, lines, err := ParsePolicy(text)
	if err != nil {
		return nil, err
	}
	if !asOf.IsZero() && (asOf.Year() < 2000 || asOf.After(s.Now().AddDate(20, 0, 0))) {
		return nil, act.Invalid("bad-moment", "%s is too far away", asOf.UTC().Format(act.TimeForm))
	}
	about := s.about(&policy)
	repositories := s.Wholly(caller, about)
	if len(repositories) == 0 {
		return nil, lines.Wrong("repositories", fault.New(fault.NotFound, "no-such-repository",
			"there is no repository of that name of which you may read everything"))
	}
	var plan *SweepPlan
	last, err := s.DB.LastSweepOf(ctx, policy.Name)
	if err != nil && err != record.ErrNotFound {
		return nil, err
	}
	then, fresh := 0, 0
	ctx = record.Patiently(ctx) // what is asked within too
	err = s.DB.Facts(ctx, func(f record.Facts) (err error) {
		plan, err = s.plan(ctx, f, &policy, repositories, asOf, func(l *PlanLine) error {
			if last.ID != 0 && l.Fate == retention.Swept {
				if l.At.Before(last.BegunAt) {
					then++
				} else {
					fresh++
				}
			}
			return line(l)
		})
		return err
	})
	if err != nil {
		return nil, err
	}
	if last.ID != 0 {
		plan.Last, plan.Then, plan.New = &last, then, fresh
	}
	return plan, nil
}
