package repositories

import (
	"context"
	"regexp"
	"slices"
	"strings"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/retention"
	"crelvo/internal/core/safety"
	"crelvo/internal/core/text"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/service/directory"
)

// Totals tells what each of the repositories holds of what is in sight. Chains
// hold nothing, but have the ecosystems of what stands behind them.
func (s *Repositories) Totals(ctx context.Context, repositories ...catalog.Repository) (map[int64]record.Total, error) {
	isChain := func(r catalog.Repository) bool { return r.Gathers() }
	totals, err := s.DB.Totals(ctx, s.directory.ScopeOf(slices.DeleteFunc(slices.Clone(repositories), isChain)...))
	chains := slices.DeleteFunc(slices.Clone(repositories), func(r catalog.Repository) bool { return !isChain(r) })
	if err != nil || len(chains) == 0 {
		return totals, err
	}
	behind, err := s.DB.Totals(ctx, s.directory.ScopeOf(chains...))
	for _, r := range chains {
		var names []string
		for _, m := range s.directory.MembersOf(r) {
			names = append(names, behind[m.ID].Ecosystems...)
			if m.Fetches() {
				names = append(names, m.Ecosystem)
			}
		}
		slices.Sort(names)
		totals[r.ID] = record.Total{RepositoryID: r.ID, Ecosystems: slices.Compact(names)}
	}
	return totals, err
}

// EcosystemsIn tells which ecosystems a repository holds anything of.
func (s *Repositories) EcosystemsIn(ctx context.Context, r catalog.Repository) ([]string, error) {
	members := s.directory.MembersOf(r)
	names, err := s.DB.Ecosystems(ctx, s.directory.ScopeOf(r))
	for _, m := range members {
		if m.Fetches() {
			names = append(names, m.Ecosystem)
		}
	}
	slices.Sort(names)
	return slices.Compact(names), err
}

// NameIn is the name of a member or target of a chain; "" if there is none with
// that id, or the caller may not see it.
func (s *Repositories) NameIn(caller access.Caller, chain catalog.Repository, id int64) string {
	r, ok := s.directory.Known().ByID[id]
	if !ok || !chain.Chain.OpenMembers && !access.Decide(caller, access.Read, access.Of(r)).Allowed {
		return ""
	}
	return r.Name
}

// members names the members of a chain, in their order.
func (s *Repositories) members(r catalog.Repository) []NewMember {
	if r.Chain == nil {
		return nil
	}
	d := s.directory.Known()
	var members []NewMember
	for _, m := range r.Chain.Members {
		members = append(members, NewMember{Name: d.ByID[m.RepositoryID].Name, MaySkip: m.MaySkip})
	}
	return members
}

// RepositoryName is the name of a repository; "" if there is none with that id.
func (s *Repositories) RepositoryName(id int64) string { return s.directory.Known().ByID[id].Name }

// TotalAsOf tells what a repository held at its moment, over all that stands
// behind it.
func (s *Repositories) TotalAsOf(ctx context.Context, r catalog.Repository) (record.Total, error) {
	total, err := s.DB.TotalAsOf(ctx, s.directory.ScopeOf(r), r.AsOf)
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
	case !r.Own() && !r.Fetches() && !r.Gathers():
		return act.Invalid("bad-kind", "a repository cannot be a %q", r.Kind).WithHint("Choose house, mirror or chain.")
	case r.Holds != catalog.Snapshots && r.Holds != catalog.Releases && r.Holds != catalog.Both:
		return fault.New(fault.Invalid, "bad-holds", "a repository cannot hold %q", r.Holds).
			WithHint("Choose snapshots, releases or both.")
	case r.Gathers() && r.Holds != catalog.Both:
		return act.Invalid("holds-nothing", "%s is a chain, and holds what its members hold", r.Name).
			WithHint("Say what the members hold, or leave --holds out.")
	case r.Gathers() && r.FromStore:
		return act.Invalid("holds-nothing", "%s is a chain, and keeps no files that could be read from a store", r.Name).
			WithHint("Say so of its members.")
	case r.LargestFile < 0:
		return act.Invalid("bad-size", "the largest file cannot have %d bytes", r.LargestFile)
	case len(r.Hosts) > maxHosts:
		return act.Invalid("bad-host", "a repository can have %d hosts of its own, and no more", maxHosts)
	case !r.Own() && (r.OnlyBuilds || r.OnlyRobots || r.Closed || r.LargestFile != 0 || len(r.ReleaseTags) > 0):
		return act.Invalid("not-a-house",
			"%s is a %s; only a house repository takes what is published, and can insist on builds, on robots, on closed "+
				"versions or on a size, and say which tags are releases", r.Name, r.Kind)
	case len(r.ReleaseTags) > maxReleaseTags:
		return act.Invalid("bad-pattern", "a repository can have %d patterns of tags that are releases, and no more",
			maxReleaseTags)
	}
	for _, pattern := range r.ReleaseTags {
		if pattern == "" || len(pattern) > 128 || !text.Fit(pattern, false) || strings.Contains(pattern, " ") {
			return act.Invalid("bad-pattern", "%.140q cannot be a pattern of tags", pattern).
				WithHint("Write it as a tag with * for any run of characters, such as r*.")
		}
	}
	return checkAdmission(r)
}

// The bounds of what rules of admission may say.
const (
	longestCooldown = 365 * 24 * time.Hour
	mostAccepts     = 50
	mostLicences    = 200
)

// checkAdmission checks what a repository is to let in.
func checkAdmission(r catalog.Repository) error {
	rules := r.Safety
	switch {
	case rules.Cooldown < 0 || rules.Cooldown > longestCooldown:
		return act.Invalid("bad-cooldown", "a version can be made to wait for 1 to 365 days")
	case r.Own() && (rules.Cooldown > 0 || rules.Vets || len(rules.Accepts) > 0):
		return act.Invalid("not-from-outside",
			"%s is a house; only what comes from outside is made to wait, or for a decision", r.Name).
			WithHint("Say so of the mirror that it comes through, or of a chain.")
	case rules.Cooldown > 0 && r.Ecosystem == "oci":
		return act.Invalid("bad-cooldown", "nobody tells when an image was published, so it cannot be made to wait").
			WithHint("Have images vetted.")
	case len(rules.Accepts) > mostAccepts:
		return act.Invalid("bad-rule", "there can be %d rules that accept, and no more", mostAccepts)
	case len(rules.Licences.Allow)+len(rules.Licences.Refuse) > mostLicences:
		return act.Invalid("bad-licence", "%d licences can be named, and no more", mostLicences)
	}
	for i, list := range [][]string{rules.Licences.Allow, rules.Licences.Refuse} {
		for _, name := range list {
			if wrong := safety.CheckLicence(name, i == 1); wrong != "" {
				return act.Invalid("bad-licence", "%s", wrong)
			}
		}
	}
	return nil
}

// maxReleaseTags is how many patterns of tags that are releases a repository may have.
const maxReleaseTags = 20

// maxHosts is how many names of hosts a repository may have.
const maxHosts = 20

// hostForm is the name of a host (RFC 1123, 2.1) that is more than one label.
var hostForm = regexp.MustCompile(`^[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?(\.[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?)+$`)

// checkHosts checks the names of hosts that a repository is to answer under: each belongs to
// one repository alone.
func checkHosts(r *catalog.Repository, d *directory.State) error {
	var hosts []string
	for _, host := range r.Hosts {
		host = strings.ToLower(strings.TrimSpace(host))
		if len(host) > 253 || !hostForm.MatchString(host) {
			return act.Invalid("bad-host", "%.80q cannot be the name of a host", host).
				WithHint("Write a name without a port, such as images.skerry.example.")
		}
		if slices.Contains(hosts, host) {
			continue
		}
		for _, other := range d.ByName {
			if other.ID != r.ID && slices.Contains(other.Hosts, host) {
				return fault.New(fault.Conflict, "host-taken", "%s answers under %s already", other.Name, host)
			}
		}
		hosts = append(hosts, host)
	}
	r.Hosts = hosts
	return nil
}

func notAMirror(r catalog.Repository) error {
	return act.Invalid("not-a-mirror", "%s is a %s, so it has no upstream", r.Name, r.Kind)
}

func notAChain(r catalog.Repository) error {
	return act.Invalid("not-a-chain", "%s is a %s, so it has no members", r.Name, r.Kind)
}

// NewRepository is a repository to be made. The members of a chain are given by
// name.
type NewRepository struct {
	catalog.Repository
	Members                 []NewMember
	ReleasesTo, SnapshotsTo string
	OpenMembers             bool
	// Store is where what is new in it is kept; "" is the default one.
	Store string
}

// AddRepository makes a repository.
func (s *Repositories) AddRepository(
	ctx context.Context, caller access.Caller, n NewRepository,
) (catalog.Repository, error) {
	r := n.Repository
	// An admin of a pattern makes houses and chains whose names fit it; where a mirror
	// may lead, and who answers under which host, is for those who look after everything.
	about := access.Of(catalog.Repository{Name: r.Name})
	if r.Fetches() || r.Name == "" || len(r.Hosts) > 0 || n.Store != "" || r.FromStore {
		about = act.Everything
	}
	if err := s.directory.Allow(caller, access.Manage, about); err != nil {
		return r, err
	}
	if err := act.CheckName("repository", r.Name); err != nil {
		return r, err
	}
	if err := checkSettings(r); err != nil {
		return r, err
	}
	var err error
	if !r.Fetches() && r.Mirror != nil {
		return r, notAMirror(r)
	}
	if !r.Gathers() && (n.Members != nil || n.ReleasesTo != "" || n.SnapshotsTo != "" || n.OpenMembers) {
		return r, notAChain(r)
	}
	switch r.Kind {
	case catalog.House:
		r.Ecosystem, r.Chain = "", nil
	case catalog.Mirror:
		r.Chain = nil
		err = s.CheckMirror(ctx, &r)
	case catalog.Chain:
		r.Ecosystem = ""
		r.Chain, err = s.chainOf(caller, nil, n.Members, n.ReleasesTo, n.SnapshotsTo, n.OpenMembers)
	}
	if err != nil {
		return r, err
	}
	if r.StoreID, err = s.storeOf(r, n.Store); err != nil {
		return r, err
	}
	if err := s.checkFromStore(r); err != nil {
		return r, err
	}
	sealed, err := s.safe.SealMirror(r.Mirror)
	if err != nil {
		return r, err
	}
	r.CreatedAt = s.Now()
	var made catalog.Repository
	err = s.changeRepository(ctx, func(tx *record.Tx, d *directory.State) (record.Event, error) {
		if r.Gathers() {
			if err := checkChain(r, d.Find); err != nil {
				return record.Event{}, err
			}
		}
		if err := checkHosts(&r, d); err != nil {
			return record.Event{}, err
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
		event := s.Event(caller, record.EventRepositoryMade)
		event.Repository = r.Name
		event.Detail = d.SettingsOf(r)
		return event, nil
	})
	return made, err
}

// storeOf is the store of that name, for a repository; 0 for the default one, where none is
// named.
func (s *Repositories) storeOf(r catalog.Repository, name string) (int16, error) {
	if name != "" && r.Gathers() {
		return 0, act.Invalid("holds-nothing", "%s is a chain, and holds nothing itself", r.Name)
	}
	return s.store.IDOf(name)
}

// checkFromStore refuses that files be read from where nobody can read them.
func (s *Repositories) checkFromStore(r catalog.Repository) error {
	if !r.FromStore || s.store.InBucket(r) {
		return nil
	}
	return act.Invalid("no-object-store", "what is new in %s is kept in a folder, and only an object store can be read by "+
		"clients themselves", r.Name).WithHint("Give it a store in a bucket first: crelvo store list shows those that there are.")
}

// changeRepository runs a transaction about a repository, with the directory as
// the transaction sees it, and brings the directory of this and, through the
// announcement, of every other node up to date.
func (s *Repositories) changeRepository(
	ctx context.Context, do func(tx *record.Tx, d *directory.State) (record.Event, error),
) error {
	err := s.DB.Within(ctx, func(tx *record.Tx) error {
		if err := tx.LockRepositories(ctx); err != nil {
			return err
		}
		all, err := tx.Repositories(ctx)
		if err != nil {
			return err
		}
		event, err := do(tx, s.directory.NewState(all, nil))
		if err != nil {
			return err
		}
		return tx.Append(ctx, event, record.Change{Kind: record.OfRepository, Repository: event.Repository})
	})
	if err != nil {
		return err
	}
	return s.directory.Load(ctx)
}

// SettingsChange is what is to be different; nil fields stay as they are.
type SettingsChange struct {
	Holds         *catalog.Holds
	Description   *string
	AnonymousRead *bool
	// OnlyBuilds and OnlyRobots are what a house repository insists on.
	OnlyBuilds, OnlyRobots, Closed *bool
	LargestFile                    *int64
	Hosts, ReleaseTags             *[]string
	// Store is where what is new in it is kept; "" is the default one.
	Store *string
	// FromStore has clients read large files from the object store itself.
	FromStore *bool
	// Refuse is how bad advisories must be to keep out what they affect.
	Refuse *safety.Severity
	// Admission changes what else it lets in.
	Admission func(r *safety.Rules)
	// Mirror changes the settings of a mirror.
	Mirror func(m *catalog.MirrorSettings)
	// Members, ReleasesTo and SnapshotsTo change a chain.
	Members                 *[]NewMember
	ReleasesTo, SnapshotsTo *string
	OpenMembers             *bool
}

// apply changes what every repository has.
func (change SettingsChange) apply(r *catalog.Repository) {
	act.Set(&r.Holds, change.Holds)
	act.Set(&r.Description, change.Description)
	act.Set(&r.AnonymousRead, change.AnonymousRead)
	act.Set(&r.OnlyBuilds, change.OnlyBuilds)
	act.Set(&r.OnlyRobots, change.OnlyRobots)
	act.Set(&r.Closed, change.Closed)
	act.Set(&r.LargestFile, change.LargestFile)
	act.Set(&r.Hosts, change.Hosts)
	act.Set(&r.ReleaseTags, change.ReleaseTags)
	act.Set(&r.FromStore, change.FromStore)
	act.Set(&r.Safety.Refuse, change.Refuse)
	if change.Admission != nil {
		change.Admission(&r.Safety)
	}
}

// changed is a repository with a change of what every one has, if it may be so.
func (s *Repositories) changed(before catalog.Repository, change SettingsChange) (after catalog.Repository, err error) {
	after = before
	change.apply(&after)
	if change.Store != nil {
		if after.StoreID, err = s.storeOf(after, *change.Store); err != nil {
			return before, err
		}
	}
	if err = checkSettings(after); err == nil && change.FromStore != nil {
		err = s.checkFromStore(after)
	}
	return after, err
}

// EditRepository changes the settings of a repository.
func (s *Repositories) EditRepository(
	ctx context.Context, caller access.Caller, name string, change SettingsChange,
) (catalog.Repository, error) {
	before, err := s.directory.Repository(caller, name, access.Manage)
	if err != nil {
		return before, err
	}
	if change.Hosts != nil || change.Store != nil || change.FromStore != nil {
		if err := s.directory.Allow(caller, access.Manage, act.Everything); err != nil {
			return before, err
		}
	}
	after, err := s.changed(before, change)
	if err != nil {
		return before, err
	}
	if change.Mirror != nil {
		if after.Mirror == nil {
			return before, notAMirror(before)
		}
		settings := *before.Mirror
		change.Mirror(&settings)
		after.Mirror = &settings
		if err := s.CheckMirror(ctx, &after); err != nil {
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
		open, members, releases, snapshots := before.Chain.OpenMembers, s.members(before),
			s.RepositoryName(before.Chain.ReleasesTo), s.RepositoryName(before.Chain.SnapshotsTo)
		act.Set(&members, change.Members)
		act.Set(&releases, change.ReleasesTo)
		act.Set(&snapshots, change.SnapshotsTo)
		act.Set(&open, change.OpenMembers)
		if after.Chain, err = s.chainOf(caller, before.Chain, members, releases, snapshots, open); err != nil {
			return before, err
		}
	}
	sealed, err := s.safe.SealMirror(after.Mirror)
	if err != nil {
		return before, err
	}
	after.ChangedAt = s.Now()
	return after, s.changeRepository(ctx, func(tx *record.Tx, d *directory.State) (record.Event, error) {
		if after.Gathers() {
			if err := checkChain(after, d.Find); err != nil {
				return record.Event{}, err
			}
		}
		if err := checkHosts(&after, d); err != nil {
			return record.Event{}, err
		}
		event := s.Event(caller, record.EventRepositoryChanged)
		event.Repository = name
		event.Detail = map[string]string{}
		was := d.SettingsOf(before)
		for k, v := range d.SettingsOf(after) {
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

// RemoveRepository takes a repository out of use; one that holds anything only
// if withContents says so. Its records stay.
func (s *Repositories) RemoveRepository(
	ctx context.Context, caller access.Caller, name string, withContents bool,
) error {
	r, err := s.directory.Repository(caller, name, access.Manage)
	if err != nil {
		return err
	}
	return s.changeRepository(ctx, func(tx *record.Tx, d *directory.State) (record.Event, error) {
		event := s.Event(caller, record.EventRepositoryRemoved)
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
			return event, fault.New(fault.Conflict, "not-empty", "%s holds %s", name, act.Plural(packages, "package")).
				WithHint("Say that its contents are to go too (--with-contents), or move them first.")
		}
		return event, tx.RemoveRepository(ctx, r.ID, caller.Name, s.Now())
	})
}

// BringBackRepository puts a repository that was removed into use again, with all that
// it held, within the grace after its removal.
func (s *Repositories) BringBackRepository(
	ctx context.Context, caller access.Caller, name string,
) (catalog.Repository, error) {
	// What it is, is known only once it is there: where a mirror may lead is for those
	// who look after everything, and so is this.
	if err := s.directory.Allow(caller, access.Manage, act.Everything); err != nil {
		return catalog.Repository{}, err
	}
	err := s.changeRepository(ctx, func(tx *record.Tx, d *directory.State) (record.Event, error) {
		event := s.Event(caller, record.EventRepositoryBroughtBack)
		event.Repository = name
		if _, taken := d.ByName[name]; taken {
			return event, fault.New(fault.Conflict, "name-taken", "there is a repository %s", name).
				WithHint("Only one can have the name: remove that one first.")
		}
		id, err := tx.BringBackRepository(ctx, name, s.Now().Add(-retention.DefaultGrace))
		if err != nil {
			return event, err
		}
		if id == 0 {
			return event, fault.New(fault.NotFound, "no-such-repository", "no repository %q was removed within the last %d days",
				name, int(retention.DefaultGrace.Hours()/24))
		}
		all, err := tx.Repositories(ctx)
		if err != nil {
			return event, err
		}
		there := s.directory.NewState(all, nil)
		if c := there.ByID[id].Chain; c != nil {
			behind := []int64{c.ReleasesTo, c.SnapshotsTo}
			for _, m := range c.Members {
				behind = append(behind, m.RepositoryID)
			}
			if slices.ContainsFunc(behind, func(id int64) bool { return id != 0 && there.ByID[id].ID == 0 }) {
				return event, fault.New(fault.Conflict, "member-removed", "a repository behind the chain %s was removed as well",
					name).
					WithHint("Bring that one back first.")
			}
		}
		return event, nil
	})
	if err != nil {
		return catalog.Repository{}, err
	}
	return s.directory.Repository(caller, name, access.Read)
}

// chainsWith names the chains that a repository is a member or a target of.
func chainsWith(d *directory.State, id int64) (names []string) {
	for _, r := range d.ByID {
		if r.Chain != nil && (r.Chain.ReleasesTo == id || r.Chain.SnapshotsTo == id ||
			slices.ContainsFunc(r.Chain.Members, func(m catalog.Member) bool { return m.RepositoryID == id })) {
			names = append(names, r.Name)
		}
	}
	slices.Sort(names)
	return names
}
