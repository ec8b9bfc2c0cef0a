package service

import (
	"context"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/chain"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/core/retention"
	"crelvo/internal/core/text"
	"crelvo/internal/record"
)

var nameForm = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,61}[a-z0-9]$`)

// checkName checks a name for a repository, user, robot or the like.
func checkName(what, name string) error {
	if nameForm.MatchString(name) {
		return nil
	}
	return fault.New(fault.Invalid, "bad-name", "%q cannot be the name of a %s", name, what).
		WithHint("Use 2 to 63 lower-case letters, digits and hyphens, with no hyphen at either end.")
}

// directory is what is known of all repositories at a moment. It is replaced as
// a whole.
type directory struct {
	byName map[string]catalog.Repository
	byID   map[int64]catalog.Repository
	behind map[int64][]chain.Member // house and mirror repositories behind each chain
	claims []chain.Claim
	// removed are those that can be brought back, by name.
	removed map[string]record.RemovedRepository
}

func (d *directory) find(id int64) (catalog.Repository, bool) {
	r, ok := d.byID[id]
	return r, ok
}

// newDirectory puts the directory together from records.
func (s *Service) newDirectory(all []record.StoredRepository, claims []record.Claim) *directory {
	d := &directory{byName: make(map[string]catalog.Repository, len(all)), byID: make(map[int64]catalog.Repository, len(all)),
		behind: map[int64][]chain.Member{}}
	for _, r := range all {
		if err := s.safe.OpenMirror(r.Secret, r.Mirror); err != nil {
			s.log.Error("a mirror cannot sign in to its upstream", "mirror", r.Name, "error", err)
		}
		d.byName[r.Name], d.byID[r.ID] = r.Repository, r.Repository
	}
	for _, r := range d.byID {
		if r.Kind == catalog.Chain {
			d.behind[r.ID] = chain.Flatten(r, d.find)
		}
	}
	for _, c := range claims {
		pattern, err := purl.ParsePattern(c.Pattern)
		if err != nil {
			s.log.Error("a claim cannot be read", "pattern", c.Pattern, "error", err)
			continue
		}
		d.claims = append(d.claims, chain.Claim{Pattern: pattern, Lifted: c.Lifted, Reason: c.Reason, By: c.By, At: c.At})
	}
	return d
}

// known is what is known of the repositories now.
func (s *Service) known() *directory { return s.repositories.Load() }

// loadRepositories brings the directory up to date. Everything that is cached
// is then out of date.
func (s *Service) loadRepositories(ctx context.Context) error {
	s.loading.Lock()
	defer s.loading.Unlock()
	all, err := s.db.Repositories(ctx)
	if err != nil {
		return err
	}
	claims, err := s.db.Claims(ctx)
	if err != nil {
		return err
	}
	removed, err := s.db.RemovedRepositories(ctx, s.Now().Add(-retention.DefaultGrace))
	if err != nil {
		return err
	}
	d := s.newDirectory(all, claims)
	d.removed = map[string]record.RemovedRepository{}
	for _, r := range removed {
		d.removed[r.Name] = r
	}
	for _, tell := range s.tellLoaded {
		if err := tell(d); err != nil {
			return err
		}
	}
	s.repositories.Store(d)
	s.settingsChanged()
	return nil
}

// Repositories lists all repositories by name, whoever may read them.
func (s *Service) Repositories() []catalog.Repository {
	var all []catalog.Repository
	for _, r := range s.known().byName {
		all = append(all, r)
	}
	slices.SortFunc(all, func(a, b catalog.Repository) int { return strings.Compare(a.Name, b.Name) })
	return all
}

// Readable lists the repositories that the caller may read, by name.
func (s *Service) Readable(caller access.Caller) []catalog.Repository {
	var readable []catalog.Repository
	for _, r := range s.Repositories() {
		var ok bool
		if r.Sight, ok = s.sightOf(caller, r); ok {
			readable = append(readable, r)
		}
	}
	return readable
}

// Repository finds a repository for a caller who wants to do something there.
// One that the caller may not even read looks to a stranger as if it were not
// there. The name may carry a moment: platform@2026-11-01.
func (s *Service) Repository(caller access.Caller, name string, action access.Action) (catalog.Repository, error) {
	name, at, err := catalog.SplitMoment(name, s.Now())
	if err != nil {
		return catalog.Repository{}, err
	}
	if at != 0 && action != access.Read {
		return catalog.Repository{}, fault.New(fault.Conflict, "the-past", "%s as of %s cannot be changed: it is the past", name, at).
			WithHint("Use %s without a moment.", name)
	}
	r, ok := s.known().byName[name]
	r.AsOf = at
	if action == access.Anyone {
		return r, nil // whether it is there is nobody's business yet
	}
	if ok {
		var readable bool
		r.Sight, readable = s.sightOf(caller, r)
		if err := s.Allow(caller, action, access.Of(r)); err == nil {
			return r, nil
		} else if caller.Anonymous() || readable || access.Decide(caller, action, access.Of(r)).TokenLimit {
			return r, err
		}
	} else if caller.Anonymous() {
		// The same answer as for one that is there.
		return r, s.Allow(caller, access.Manage, everything)
	}
	if gone, ok := s.removed(caller, name); ok {
		return r, fault.New(fault.NotFound, "no-such-repository", "%s was removed by %s on %s", name, gone.By, gone.At.UTC().Format(timeForm)).
			WithHint("Until %s an admin can bring it back with all that it held: crelvo repo remove %s --undo.", gone.At.Add(retention.DefaultGrace).UTC().Format(timeForm), name)
	}
	return r, fault.New(fault.NotFound, "no-such-repository", "there is no repository %q that you may read", name).
		WithHint("%s%screlvo repo list shows those that you may read. %s.", s.didYouMean(caller, name), alsoHas(caller, access.Decide(caller, action, access.Of(catalog.Repository{Name: name})),
			access.Of(catalog.Repository{Name: name})), s.whoGrants(everything))
}

// removed finds a repository that was removed, can be brought back, and could be read by
// the caller if it were.
func (s *Service) removed(caller access.Caller, name string) (record.RemovedRepository, bool) {
	r, ok := s.known().removed[name]
	return r, ok && s.Now().Sub(r.At) < retention.DefaultGrace && access.Decide(caller, access.Read, access.Of(catalog.Repository{Name: name})).Allowed
}

// RemovedRepositories lists those that can be brought back and that the caller could
// read if they were, by name.
func (s *Service) RemovedRepositories(caller access.Caller) (all []record.RemovedRepository) {
	d := s.known()
	for _, name := range slices.Sorted(maps.Keys(d.removed)) {
		if r, ok := s.removed(caller, name); ok {
			all = append(all, r)
		}
	}
	return all
}

// didYouMean names the repository that somebody may have meant, of those that they
// may read.
func (s *Service) didYouMean(caller access.Caller, name string) string {
	var names []string
	for _, r := range s.Readable(caller) {
		names = append(names, r.Name)
	}
	if meant := text.Closest(name, names); meant != "" {
		return "Did you mean " + meant + "? "
	}
	return ""
}

// Totals tells what each of the repositories holds of what is in sight. Chains
// hold nothing, but have the ecosystems of what stands behind them.
func (s *Service) Totals(ctx context.Context, repositories ...catalog.Repository) (map[int64]record.Total, error) {
	isChain := func(r catalog.Repository) bool { return r.Kind == catalog.Chain }
	totals, err := s.db.Totals(ctx, s.scopeOf(slices.DeleteFunc(slices.Clone(repositories), isChain)...))
	chains := slices.DeleteFunc(slices.Clone(repositories), func(r catalog.Repository) bool { return !isChain(r) })
	if err != nil || len(chains) == 0 {
		return totals, err
	}
	behind, err := s.db.Totals(ctx, s.scopeOf(chains...))
	for _, r := range chains {
		var names []string
		for _, m := range s.membersOf(r) {
			names = append(names, behind[m.ID].Ecosystems...)
			if m.Kind == catalog.Mirror {
				names = append(names, m.Ecosystem)
			}
		}
		slices.Sort(names)
		totals[r.ID] = record.Total{RepositoryID: r.ID, Ecosystems: slices.Compact(names)}
	}
	return totals, err
}

// EcosystemsIn tells which ecosystems a repository holds anything of.
func (s *Service) EcosystemsIn(ctx context.Context, r catalog.Repository) ([]string, error) {
	members := s.membersOf(r)
	names, err := s.db.Ecosystems(ctx, s.scopeOf(r))
	for _, m := range members {
		if m.Kind == catalog.Mirror {
			names = append(names, m.Ecosystem)
		}
	}
	slices.Sort(names)
	return slices.Compact(names), err
}

func idsOf(members []chain.Member) []int64 {
	ids := make([]int64, len(members))
	for i, m := range members {
		ids[i] = m.ID
	}
	return ids
}

// membersOf are the house and mirror repositories behind a chain that are in its
// sight; any other repository is its own only member.
func (s *Service) membersOf(r catalog.Repository) []chain.Member {
	if r.Kind == catalog.Chain {
		members := s.known().behind[r.ID]
		if r.Sight == "" {
			return members
		}
		if view := s.seenOf(r.Sight); view.partly {
			members = slices.DeleteFunc(slices.Clone(members), func(m chain.Member) bool {
				_, ok := view.members[m.ID]
				return !ok
			})
		}
		return members
	}
	return []chain.Member{{Repository: r}}
}

// NameIn is the name of a member or target of a chain; "" if there is none with
// that id, or the caller may not see it.
func (s *Service) NameIn(caller access.Caller, chain catalog.Repository, id int64) string {
	r, ok := s.known().byID[id]
	if !ok || !chain.Chain.OpenMembers && !access.Decide(caller, access.Read, access.Of(r)).Allowed {
		return ""
	}
	return r.Name
}

// members names the members of a chain, in their order.
func (s *Service) members(r catalog.Repository) []NewMember {
	if r.Chain == nil {
		return nil
	}
	d := s.known()
	var members []NewMember
	for _, m := range r.Chain.Members {
		members = append(members, NewMember{Name: d.byID[m.RepositoryID].Name, MaySkip: m.MaySkip})
	}
	return members
}

// RepositoryName is the name of a repository; "" if there is none with that id.
func (s *Service) RepositoryName(id int64) string { return s.known().byID[id].Name }

// TotalAsOf tells what a repository held at its moment, over all that stands
// behind it.
func (s *Service) TotalAsOf(ctx context.Context, r catalog.Repository) (record.Total, error) {
	total, err := s.db.TotalAsOf(ctx, s.scopeOf(r), r.AsOf)
	if err != nil {
		return total, err
	}
	total.RepositoryID = r.ID
	total.Ecosystems, err = s.EcosystemsIn(ctx, r)
	return total, err
}

// checkSettings checks what a repository is to be like, made or changed, but for what
// its upstreams or members are.
func checkSettings(r catalog.Repository) error {
	switch {
	case r.Kind != catalog.House && r.Kind != catalog.Mirror && r.Kind != catalog.Chain:
		return bad("bad-kind", "a repository cannot be a %q", r.Kind).WithHint("Choose house, mirror or chain.")
	case r.Holds != catalog.Snapshots && r.Holds != catalog.Releases && r.Holds != catalog.Both:
		return fault.New(fault.Invalid, "bad-holds", "a repository cannot hold %q", r.Holds).
			WithHint("Choose snapshots, releases or both.")
	case r.Kind == catalog.Chain && r.Holds != catalog.Both:
		return bad("holds-nothing", "%s is a chain, and holds what its members hold", r.Name).
			WithHint("Say what the members hold, or leave --holds out.")
	case r.LargestFile < 0:
		return bad("bad-size", "the largest file cannot have %d bytes", r.LargestFile)
	case r.Kind != catalog.House && (r.OnlyBuilds || r.OnlyRobots || r.Closed || r.LargestFile != 0):
		return bad("not-a-house", "%s is a %s; only a house repository takes what is published, and can insist on builds, on robots, on closed versions or on a size", r.Name, r.Kind)
	}
	return nil
}

func notAMirror(r catalog.Repository) error {
	return bad("not-a-mirror", "%s is a %s, so it has no upstream", r.Name, r.Kind)
}

func notAChain(r catalog.Repository) error {
	return bad("not-a-chain", "%s is a %s, so it has no members", r.Name, r.Kind)
}

// NewRepository is a repository to be made. The members of a chain are given by
// name.
type NewRepository struct {
	catalog.Repository
	Members                 []NewMember
	ReleasesTo, SnapshotsTo string
	OpenMembers             bool
}

// AddRepository makes a repository.
func (s *Service) AddRepository(ctx context.Context, caller access.Caller, n NewRepository) (catalog.Repository, error) {
	r := n.Repository
	// An admin of a pattern makes houses and chains whose names fit it; where a mirror
	// may lead is for those who look after everything.
	about := access.Of(catalog.Repository{Name: r.Name})
	if r.Kind == catalog.Mirror || r.Name == "" {
		about = everything
	}
	if err := s.Allow(caller, access.Manage, about); err != nil {
		return r, err
	}
	if err := checkName("repository", r.Name); err != nil {
		return r, err
	}
	if err := checkSettings(r); err != nil {
		return r, err
	}
	var err error
	if r.Kind != catalog.Mirror && r.Mirror != nil {
		return r, notAMirror(r)
	}
	if r.Kind != catalog.Chain && (n.Members != nil || n.ReleasesTo != "" || n.SnapshotsTo != "" || n.OpenMembers) {
		return r, notAChain(r)
	}
	switch r.Kind {
	case catalog.House:
		r.Ecosystem, r.Chain = "", nil
	case catalog.Mirror:
		r.Chain = nil
		err = s.checkMirror(ctx, &r)
	case catalog.Chain:
		r.Ecosystem = ""
		r.Chain, err = s.chainOf(caller, nil, n.Members, n.ReleasesTo, n.SnapshotsTo, n.OpenMembers)
	}
	if err != nil {
		return r, err
	}
	sealed, err := s.safe.SealMirror(r.Mirror)
	if err != nil {
		return r, err
	}
	r.CreatedAt = s.Now()
	var made catalog.Repository
	err = s.changeRepository(ctx, func(tx *record.Tx, d *directory) (record.Event, error) {
		if r.Kind == catalog.Chain {
			if err := checkChain(r, d.find); err != nil {
				return record.Event{}, err
			}
		}
		var ok bool
		var err error
		if made, ok, err = tx.AddRepository(ctx, record.StoredRepository{Repository: r, Secret: sealed}); err != nil {
			return record.Event{}, err
		}
		if !ok {
			return record.Event{}, fault.New(fault.Conflict, "name-taken", "there is a repository %q already", r.Name).
				WithHint("Choose another name.")
		}
		event := s.event(caller, "repository made")
		event.Repository = r.Name
		event.Detail = d.settingsOf(r)
		return event, nil
	})
	return made, err
}

// changeRepository runs a transaction about a repository, with the directory as
// the transaction sees it, and brings the directory of this and, through the
// announcement, of every other node up to date.
func (s *Service) changeRepository(ctx context.Context, do func(tx *record.Tx, d *directory) (record.Event, error)) error {
	err := s.db.Within(ctx, func(tx *record.Tx) error {
		if err := tx.LockRepositories(ctx); err != nil {
			return err
		}
		all, err := tx.Repositories(ctx)
		if err != nil {
			return err
		}
		event, err := do(tx, s.newDirectory(all, nil))
		if err != nil {
			return err
		}
		return tx.Append(ctx, event, record.Change{Kind: "repository", Repository: event.Repository})
	})
	if err != nil {
		return err
	}
	return s.loadRepositories(ctx)
}

// RepositoryChange is what is to be different; nil fields stay as they are.
type RepositoryChange struct {
	Holds         *catalog.Holds
	Description   *string
	AnonymousRead *bool
	// OnlyBuilds and OnlyRobots are what a house repository insists on.
	OnlyBuilds, OnlyRobots, Closed *bool
	LargestFile                    *int64
	// Mirror changes the settings of a mirror.
	Mirror func(m *catalog.MirrorSettings)
	// Members, ReleasesTo and SnapshotsTo change a chain.
	Members                 *[]NewMember
	ReleasesTo, SnapshotsTo *string
	OpenMembers             *bool
}

// EditRepository changes the settings of a repository.
func (s *Service) EditRepository(ctx context.Context, caller access.Caller, name string, change RepositoryChange) (catalog.Repository, error) {
	before, err := s.Repository(caller, name, access.Manage)
	if err != nil {
		return before, err
	}
	after := before
	Set(&after.Holds, change.Holds)
	Set(&after.Description, change.Description)
	Set(&after.AnonymousRead, change.AnonymousRead)
	Set(&after.OnlyBuilds, change.OnlyBuilds)
	Set(&after.OnlyRobots, change.OnlyRobots)
	Set(&after.Closed, change.Closed)
	Set(&after.LargestFile, change.LargestFile)
	if err := checkSettings(after); err != nil {
		return before, err
	}
	if change.Mirror != nil {
		if after.Mirror == nil {
			return before, notAMirror(before)
		}
		settings := *before.Mirror
		change.Mirror(&settings)
		after.Mirror = &settings
		if err := s.checkMirror(ctx, &after); err != nil {
			return before, err
		}
		if err := s.mayLead(caller, before.Mirror, &settings); err != nil {
			return before, err
		}
	}
	if change.Members != nil || change.ReleasesTo != nil || change.SnapshotsTo != nil || change.OpenMembers != nil {
		if after.Chain == nil {
			return before, notAChain(before)
		}
		open, members, releases, snapshots := before.Chain.OpenMembers, s.members(before), s.RepositoryName(before.Chain.ReleasesTo), s.RepositoryName(before.Chain.SnapshotsTo)
		Set(&members, change.Members)
		Set(&releases, change.ReleasesTo)
		Set(&snapshots, change.SnapshotsTo)
		Set(&open, change.OpenMembers)
		if after.Chain, err = s.chainOf(caller, before.Chain, members, releases, snapshots, open); err != nil {
			return before, err
		}
	}
	sealed, err := s.safe.SealMirror(after.Mirror)
	if err != nil {
		return before, err
	}
	after.ChangedAt = s.Now()
	return after, s.changeRepository(ctx, func(tx *record.Tx, d *directory) (record.Event, error) {
		if after.Kind == catalog.Chain {
			if err := checkChain(after, d.find); err != nil {
				return record.Event{}, err
			}
		}
		event := s.event(caller, "repository changed")
		event.Repository = name
		event.Detail = map[string]string{}
		was := d.settingsOf(before)
		for k, v := range d.settingsOf(after) {
			if was[k] != v {
				event.Detail[k] = was[k] + " → " + v
			}
		}
		if before.Mirror != nil && before.Mirror.Secret != after.Mirror.Secret {
			event.Detail["secret"] = "changed"
		}
		return event, tx.SetRepository(ctx, record.StoredRepository{Repository: after, Secret: sealed})
	})
}

// Set writes a value that was given, and leaves the field where none was.
func Set[T any](field *T, to *T) {
	if to != nil {
		*field = *to
	}
}

// RemoveRepository takes a repository out of use; one that holds anything only
// if withContents says so. Its records stay.
func (s *Service) RemoveRepository(ctx context.Context, caller access.Caller, name string, withContents bool) error {
	r, err := s.Repository(caller, name, access.Manage)
	if err != nil {
		return err
	}
	return s.changeRepository(ctx, func(tx *record.Tx, d *directory) (record.Event, error) {
		event := s.event(caller, "repository removed")
		event.Repository = name
		if in := chainsWith(d, r.ID); in != nil {
			return event, fault.New(fault.Conflict, "member", "%s stands in the chain %s", name, strings.Join(in, " and ")).
				WithHint("Take it out there first.")
		}
		if err := tx.LockRepository(ctx, r.ID); err != nil {
			return event, err
		}
		packages, err := tx.Packages(ctx, r.ID)
		if err != nil {
			return event, err
		}
		if packages > 0 && !withContents {
			return event, fault.New(fault.Conflict, "not-empty", "%s holds %s", name, plural(packages, "package")).
				WithHint("Say that its contents are to go too (--with-contents), or move them first.")
		}
		return event, tx.RemoveRepository(ctx, r.ID, caller.Name, s.Now())
	})
}

// BringBackRepository puts a repository that was removed into use again, with all that
// it held, within the grace after its removal.
func (s *Service) BringBackRepository(ctx context.Context, caller access.Caller, name string) (catalog.Repository, error) {
	// What it is, is known only once it is there: where a mirror may lead is for those
	// who look after everything, and so is this.
	if err := s.Allow(caller, access.Manage, everything); err != nil {
		return catalog.Repository{}, err
	}
	err := s.changeRepository(ctx, func(tx *record.Tx, d *directory) (record.Event, error) {
		event := s.event(caller, "repository brought back")
		event.Repository = name
		if _, taken := d.byName[name]; taken {
			return event, fault.New(fault.Conflict, "name-taken", "there is a repository %s", name).
				WithHint("Only one can have the name: remove that one first.")
		}
		id, err := tx.BringBackRepository(ctx, name, s.Now().Add(-retention.DefaultGrace))
		if err != nil {
			return event, err
		}
		if id == 0 {
			return event, fault.New(fault.NotFound, "no-such-repository", "no repository %q was removed within the last %d days", name, int(retention.DefaultGrace.Hours()/24))
		}
		all, err := tx.Repositories(ctx)
		if err != nil {
			return event, err
		}
		there := s.newDirectory(all, nil)
		if c := there.byID[id].Chain; c != nil {
			behind := []int64{c.ReleasesTo, c.SnapshotsTo}
			for _, m := range c.Members {
				behind = append(behind, m.RepositoryID)
			}
			if slices.ContainsFunc(behind, func(id int64) bool { return id != 0 && there.byID[id].ID == 0 }) {
				return event, fault.New(fault.Conflict, "member-removed", "a repository behind the chain %s was removed as well", name).
					WithHint("Bring that one back first.")
			}
		}
		return event, nil
	})
	if err != nil {
		return catalog.Repository{}, err
	}
	return s.Repository(caller, name, access.Read)
}

// chainsWith names the chains that a repository is a member or a target of.
func chainsWith(d *directory, id int64) (names []string) {
	for _, r := range d.byID {
		if r.Chain != nil && (r.Chain.ReleasesTo == id || r.Chain.SnapshotsTo == id ||
			slices.ContainsFunc(r.Chain.Members, func(m catalog.Member) bool { return m.RepositoryID == id })) {
			names = append(names, r.Name)
		}
	}
	slices.Sort(names)
	return names
}

// hearRepository takes note of other repositories, settings or claims.
func (s *Service) hearRepository(c record.Change) error {
	if c.Kind != "repository" {
		return nil
	}
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	return s.loadRepositories(ctx)
}
