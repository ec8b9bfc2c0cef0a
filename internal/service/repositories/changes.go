package repositories

import (
	"context"
	"strings"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
)

// Changes are what changed in a repository after some change.
type Changes struct {
	// Complete is that all that changed after it is told; else it is not known any more, or not yet, and whoever asks
	// looks at everything once, and goes on after Number.
	Complete bool
	Number   int64 // after which to go on
	Left     int   // packages that changed
	Some     []record.PackageChange
}

const (
	// MostChanges is how many changes are told at once.
	MostChanges = 1000
	// unfollowed is after how long nobody follows a repository who did not ask.
	unfollowed = 7 * 24 * time.Hour
)

// Changes tells which packages of an ecosystem changed in a repository after a change, in the order in which that could
// be seen. That is known for repositories that somebody asked for within the last days.
func (s *Repositories) Changes(
	ctx context.Context, caller access.Caller, name, ecosystem string, after int64, limit int,
) (c Changes, err error) {
	r, err := s.directory.Repository(caller, name, access.Read)
	if err != nil {
		return c, err
	}
	if r.AsOf != 0 {
		return c, act.Invalid("as-of", "as of a moment nothing changes")
	}
	ids := []int64{}
	of := map[int64]catalog.Repository{}
	for _, m := range s.directory.MembersOf(r) {
		ids = append(ids, m.ID)
		of[m.ID] = m.Repository
	}
	since, given, err := s.DB.Follow(ctx, ids, s.Now())
	if err != nil {
		return c, err
	}
	// A number that was never given is from before the records were put back to an older state.
	c.Complete = after >= since && after > 0 && after <= given
	if c.Number = since; c.Complete {
		c.Number = after
	}
	some, left, last, err := s.DB.PackageChanges(ctx, ids, ecosystem, c.Number, min(limit, MostChanges))
	if err != nil {
		return c, err
	}
	if !c.Complete { // whoever looks at everything sees these, too
		c.Number = last
		return c, nil
	}
	for _, one := range some {
		in := r
		if r.Gathers() && !r.Chain.OpenMembers {
			in = of[one.RepositoryID]
		}
		sees, ok := access.See(caller, in)
		if c.Number = one.Number; ok && sees.Shows(act.PURLOf(in.Key(one.Ecosystem, one.Namespace, one.Name), "")) {
			c.Some = append(c.Some, one)
		}
	}
	if len(some) == 0 {
		c.Number = last
	}
	// How much changes of what somebody may not see is no business of theirs.
	if c.Left = len(c.Some); r.Sight == "" && len(c.Some) == len(some) {
		c.Left = left
	}
	return c, nil
}

// Chores implements act.Busy.
func (s *Repositories) Chores() []act.Chore {
	return []act.Chore{{Every: time.Hour, What: "forgetting changes that nobody follows",
		Do: func(ctx context.Context) error { return s.DB.Unfollow(ctx, s.Now().Add(-unfollowed)) }}}
}

// CrelvoAt takes the address of a repository of a Crelvo apart: https://HOST/at/NAME/ECOSYSTEM/, and of images
// https://HOST/v2/NAME/.
func CrelvoAt(address, ecosystem string) (server, name string, err error) {
	server, rest, ok := strings.Cut(address, "/at/")
	name, door, _ := strings.Cut(rest, "/")
	door, _, _ = strings.Cut(door, "/")
	ok = ok && door == ecosystem
	if ecosystem == "oci" && !ok {
		server, rest, ok = strings.Cut(address, "/v2/")
		name, _, _ = strings.Cut(rest, "/")
	}
	if !ok || name == "" || strings.Contains(name, "@") {
		return "", "", fault.New(fault.Conflict, "not-followed", "%s is no repository of a Crelvo", address).
			WithHint("Only those tell what changes: their addresses are like https://packages.skerry.example/at/releases/%s/.",
				ecosystem)
	}
	return server + "/", name, nil
}
