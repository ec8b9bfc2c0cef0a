package directory

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"net"
	"slices"
	"strings"
	"time"

	"crelvo/internal/api"
	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/chain"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/core/retention"
	"crelvo/internal/core/safety"
	"crelvo/internal/core/text"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
)

// State is what is known of all repositories at a moment. It is replaced as
// a whole.
type State struct {
	ByName map[string]catalog.Repository
	ByID   map[int64]catalog.Repository
	Behind map[int64][]chain.Member // house and mirror repositories behind each chain
	Claims []chain.Claim
	// removed are those that can be brought back, by name.
	removed map[string]record.RemovedRepository
	byHost  map[string]string // names of repositories
}

func (d *State) Find(id int64) (catalog.Repository, bool) {
	r, ok := d.ByID[id]
	return r, ok
}

// NewState puts the directory together from records.
func (s *Directory) NewState(all []record.StoredRepository, claims []record.Claim) *State {
	d := &State{ByName: make(map[string]catalog.Repository, len(all)), ByID: make(map[int64]catalog.Repository, len(all)),
		Behind: map[int64][]chain.Member{}, byHost: map[string]string{}}
	for _, r := range all {
		if err := s.safe.OpenMirror(r.Secret, r.Mirror); err != nil {
			s.Log.Error("a mirror cannot sign in to its upstream", "mirror", r.Name, "error", err)
		}
		d.ByName[r.Name], d.ByID[r.ID] = r.Repository, r.Repository
		for _, host := range r.Hosts {
			d.byHost[host] = r.Name
		}
	}
	for _, r := range d.ByID {
		if r.Gathers() {
			d.Behind[r.ID] = chain.Flatten(r, d.Find)
		}
	}
	for _, c := range claims {
		pattern, err := purl.ParsePattern(c.Pattern)
		if err != nil {
			s.Log.Error("a claim cannot be read", "pattern", c.Pattern, "error", err)
			continue
		}
		d.Claims = append(d.Claims, chain.Claim{Pattern: pattern, Lifted: c.Lifted, Reason: c.Reason, By: c.By, At: c.At})
	}
	return d
}

// Known is what is known of the repositories now.
func (s *Directory) Known() *State { return s.repositories.Load() }

// Subscribe has f called with what is known of the repositories whenever that changes,
// before it counts. Where f fails, all stays as it was.
func (s *Directory) Subscribe(f func(*State) error) { s.tellLoaded = append(s.tellLoaded, f) }

// Load brings the directory up to date. Everything that is cached
// is then out of date.
func (s *Directory) Load(ctx context.Context) error {
	s.loading.Lock()
	defer s.loading.Unlock()
	s.loaded = time.Now()
	all, err := s.DB.Repositories(ctx)
	if err != nil {
		return err
	}
	claims, err := s.DB.Claims(ctx)
	if err != nil {
		return err
	}
	removed, err := s.DB.RemovedRepositories(ctx, s.Now().Add(-retention.DefaultGrace))
	if err != nil {
		return err
	}
	d := s.NewState(all, claims)
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
	s.SettingsChanged()
	return nil
}

// Repositories lists all repositories by name, whoever may read them.
func (s *Directory) Repositories() []catalog.Repository {
	var all []catalog.Repository
	for _, r := range s.Known().ByName {
		all = append(all, r)
	}
	slices.SortFunc(all, func(a, b catalog.Repository) int { return strings.Compare(a.Name, b.Name) })
	return all
}

// Readable lists the repositories that the caller may read, by name.
func (s *Directory) Readable(caller access.Caller) []catalog.Repository {
	var readable []catalog.Repository
	for _, r := range s.Repositories() {
		var ok bool
		if r.Sight, ok = s.SightOf(caller, r); ok {
			readable = append(readable, r)
		}
	}
	return readable
}

// lookAgain is how old what is known of repositories may be for it to be said that one is
// not there.
const lookAgain = 200 * time.Millisecond

// perhapsNew finds a repository that another node may have made a moment ago.
func (s *Directory) perhapsNew(name string) (r catalog.Repository, ok bool) {
	s.loading.Lock() // whatever is under way may find it
	loaded := s.loaded
	s.loading.Unlock()
	if r, ok = s.Known().ByName[name]; ok || time.Since(loaded) < lookAgain {
		return r, ok
	}
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	// Loading makes everything that is remembered out of date, so that a name that was made
	// up must not lead to it.
	there, err := s.DB.HasRepository(ctx, name)
	if err == nil && there {
		err = s.Load(ctx)
	}
	if err != nil {
		s.Log.Warn("it could not be looked for a new repository", "error", err)
	}
	r, ok = s.Known().ByName[name]
	return r, ok
}

// Repository finds a repository for a caller who wants to do something there.
// One that the caller may not even read looks to a stranger as if it were not
// there. The name may carry a moment: platform@2026-11-01.
func (s *Directory) Repository(caller access.Caller, name string, action access.Action) (catalog.Repository, error) {
	name, at, err := catalog.SplitMoment(name, s.Now())
	if err != nil {
		return catalog.Repository{}, err
	}
	if at != 0 && action != access.Read {
		return catalog.Repository{}, fault.New(fault.Conflict, "the-past", "%s as of %s cannot be changed: it is the past",
			name, at).
			WithHint("Use %s without a moment.", name)
	}
	r, ok := s.Known().ByName[name]
	if !ok && !s.Alone() {
		r, ok = s.perhapsNew(name)
	}
	r.AsOf = at
	if action == access.Anyone {
		return r, nil // whether it is there is nobody's business yet
	}
	if ok {
		var readable bool
		r.Sight, readable = s.SightOf(caller, r)
		if err := s.Allow(caller, action, access.Of(r)); err == nil {
			return r, nil
		} else if caller.Anonymous() || readable || access.Decide(caller, action, access.Of(r)).TokenLimit {
			return r, err
		}
	} else if caller.Anonymous() {
		// The same answer as for one that is there.
		return r, s.Allow(caller, access.Manage, act.Everything)
	}
	if gone, ok := s.removed(caller, name); ok {
		return r, fault.New(fault.NotFound, "no-such-repository", "%s was removed by %s on %s", name, gone.By,
			gone.At.UTC().Format(act.TimeForm)).
			WithHint("Until %s an admin can bring it back with all that it held: crelvo repo remove %s --undo.",
				gone.At.Add(retention.DefaultGrace).UTC().Format(act.TimeForm), name)
	}
	return r, fault.New(fault.NotFound, "no-such-repository", "there is no repository %q that you may read", name).
		WithHint("%s%screlvo repo list shows those that you may read. %s.", s.DidYouMean(caller, name),
			alsoHas(caller, access.Decide(caller, action, access.Of(catalog.Repository{Name: name})),
				access.Of(catalog.Repository{Name: name})), s.WhoGrants(act.Everything))
}

// removed finds a repository that was removed, can be brought back, and could be read by
// the caller if it were.
func (s *Directory) removed(caller access.Caller, name string) (record.RemovedRepository, bool) {
	r, ok := s.Known().removed[name]
	return r, ok && s.Now().Sub(r.At) < retention.DefaultGrace &&
		access.Decide(caller, access.Read, access.Of(catalog.Repository{Name: name})).Allowed
}

// RemovedRepositories lists those that can be brought back and that the caller could
// read if they were, by name.
func (s *Directory) RemovedRepositories(caller access.Caller) (all []record.RemovedRepository) {
	d := s.Known()
	for _, name := range slices.Sorted(maps.Keys(d.removed)) {
		if r, ok := s.removed(caller, name); ok {
			all = append(all, r)
		}
	}
	return all
}

// DidYouMean names the repository that somebody may have meant, of those that they
// may read.
func (s *Directory) DidYouMean(caller access.Caller, name string) string {
	var names []string
	for _, r := range s.Readable(caller) {
		names = append(names, r.Name)
	}
	if meant := text.Closest(name, names); meant != "" {
		return "Did you mean " + meant + "? "
	}
	return ""
}

func IDsOf(members []chain.Member) []int64 {
	ids := make([]int64, len(members))
	for i, m := range members {
		ids[i] = m.ID
	}
	return ids
}

// MembersOf are the house and mirror repositories behind a chain that are in its
// sight; any other repository is its own only member.
func (s *Directory) MembersOf(r catalog.Repository) []chain.Member {
	if r.Gathers() {
		members := s.Known().Behind[r.ID]
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

// Hear takes note of other repositories, settings or claims.
func (s *Directory) Hear(c record.Change) error {
	if c.Kind != record.OfRepository {
		return nil
	}
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	return s.Load(ctx)
}

// SettingsOf are the settings of a repository for the activity record; secrets
// are not among them.
func (d *State) SettingsOf(r catalog.Repository) map[string]string {
	yesNo := map[bool]string{true: "yes", false: "no"}
	all := map[string]string{"description": r.Description, "anonymous reading": yesNo[r.AnonymousRead],
		"hosts": strings.Join(r.Hosts, ", ")}
	if refuse := r.Safety.Refuse; refuse != safety.Unknown {
		all["keeps out what advisories are about, from"] = refuse.String()
	}
	if rules := r.Safety; rules.NeedFacts() {
		var accepts []string
		for _, a := range rules.Accepts {
			accepts = append(accepts, a.String())
		}
		all["cooldown"], all["vetted"] = fmt.Sprintf("%dd", rules.Cooldown/(24*time.Hour)), yesNo[rules.Vets]
		all["accepted by themselves"] = strings.Join(accepts, "; ")
		all["licences allowed"] = strings.Join(rules.Licences.Allow, ", ")
		all["licences refused"] = strings.Join(rules.Licences.Refuse, ", ")
		all["without a licence"] = cmp.Or(string(rules.Licences.Unstated), "let in")
	}
	if r.Own() {
		all["only from builds"], all["only by robots"] = yesNo[r.OnlyBuilds], yesNo[r.OnlyRobots]
		all["closed"], all["largest file"] = yesNo[r.Closed], api.Bytes(r.LargestFile)
		all["tags that are releases"] = strings.Join(r.ReleaseTags, ", ")
	}
	if !r.Gathers() {
		all["holds"], all["large files from the store"] = string(r.Holds), yesNo[r.FromStore]
	}
	if m := r.Mirror; m != nil {
		var upstreams []string
		for _, u := range m.Upstreams {
			upstreams = append(upstreams, u.URL)
		}
		all["ecosystem"], all["upstreams"] = r.Ecosystem, strings.Join(upstreams, ", ")
		all["allow"], all["deny"] = strings.Join(m.Allow, ", "), strings.Join(m.Deny, ", ")
		all["limits"] = fmt.Sprintf(
			"fresh for %s, absent for %s, connect %s, first byte %s, silence %s, %d at once, %d bytes",
			m.Freshness, m.AbsentFor, m.Connect, m.FirstByte, m.Silence, m.Parallel, m.Largest)
		all["redirects to"], all["user"] = strings.Join(m.RedirectTo, ", "), m.User
		all["proxy"], all["secret"] = yesNo[m.Proxy != ""], yesNo[m.Secret != ""]
		all["prefetch"] = strings.TrimSpace(strings.Join(m.Prefetch.Patterns, ", ") + " " + m.Prefetch.Schedule + " " +
			m.Prefetch.Zone + " " + strings.Join(m.Prefetch.Platforms, ", "))
	}
	if c := r.Chain; c != nil {
		name := func(id int64) string { return d.ByID[id].Name }
		var members []string
		for _, m := range c.Members {
			member := name(m.RepositoryID)
			if m.MaySkip {
				member += " (may be skipped)"
			}
			members = append(members, member)
		}
		all["members are open"] = yesNo[c.OpenMembers]
		all["members"], all["releases go to"], all["snapshots go to"] = strings.Join(members, ", "), name(c.ReleasesTo),
			name(c.SnapshotsTo)
	}
	return all
}

// AtHost is the name of the repository that answers under the name of a host, which may
// have a port behind it; "" if none does.
func (s *Directory) AtHost(host string) string {
	byHost := s.Known().byHost
	if len(byHost) == 0 {
		return ""
	}
	name, _, err := net.SplitHostPort(host)
	if err != nil {
		name = host
	}
	return byHost[strings.ToLower(name)]
}

// RepositoryByID finds a repository that is in use, whoever may read it.
func (s *Directory) RepositoryByID(id int64) (catalog.Repository, bool) {
	r, ok := s.Known().ByID[id]
	return r, ok
}
