package quotas

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"crelvo/internal/api"
	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/record"
)

const (
	// countedFor is how long a count is good enough where there is room, and nearFor where
	// little of it is left: less than one part in narrow.
	countedFor, nearFor = time.Minute, time.Second
	narrow              = 10
)

// bounds are all quotas, by what they are about.
type bounds struct {
	all          []*bound
	ofRepository map[int64][]*bound
	ofStore      map[int16]*bound
	ofTeams      bool
}

// bound is a quota and what is used of it.
type bound struct {
	record.Quota
	repositories []int64
	*usage
}

// usage is what is used: what was counted, what came since, and what is on its way. It
// outlives changes of the quota.
type usage struct {
	mu       sync.Mutex
	of       []int64
	counted  int64
	at       time.Time // of the count; zero: there is none
	since    int64
	underWay int64
	wanted   int64 // the largest that did not fit
}

// bounds gives all quotas.
func (s *Quotas) bounds(ctx context.Context) (*bounds, error) {
	if b := s.known.Load(); b != nil {
		return b, nil
	}
	s.loading.Lock()
	defer s.loading.Unlock()
	if b := s.known.Load(); b != nil {
		return b, nil
	}
	before := s.changes.Load()
	all, err := s.DB.Quotas(ctx)
	var grants []record.StoredGrant
	if err == nil && len(all) > 0 {
		grants, err = s.DB.Grants(ctx)
	}
	if err != nil {
		return nil, err
	}
	b := &bounds{ofRepository: map[int64][]*bound{}, ofStore: map[int16]*bound{}}
	usages := map[int64]*usage{}
	for _, q := range all {
		one := &bound{Quota: q}
		switch q.About {
		case record.QuotaOfStore:
			b.ofStore[q.StoreID] = one
		case record.QuotaOfRepository:
			one.repositories = []int64{q.RepositoryID}
		case record.QuotaOfTeam:
			b.ofTeams = true
			one.repositories = s.administered(q.Name, grants)
		}
		for _, id := range one.repositories {
			b.ofRepository[id] = append(b.ofRepository[id], one)
		}
		b.all = append(b.all, one)
		if one.usage = s.usages[q.ID]; one.usage == nil {
			one.usage = new(usage)
		}
		one.usage.isOf(one.repositories)
		usages[q.ID] = one.usage
	}
	s.usages = usages
	s.known.Store(b)
	if s.changes.Load() != before { // it may have been read before that
		s.known.Store(nil)
	}
	return b, nil
}

// isOf has what is used counted anew if it is that of other repositories.
func (u *usage) isOf(repositories []int64) {
	u.mu.Lock()
	defer u.mu.Unlock()
	if !slices.Equal(u.of, repositories) {
		u.of, u.at = repositories, time.Time{}
	}
}

// administered are the repositories that a team is an admin of, those of everybody's admins
// left out.
func (s *Quotas) administered(team string, grants []record.StoredGrant) (ids []int64) {
	holder := access.Caller{ID: -1}
	for _, g := range grants {
		if g.Holder == "team:"+team && g.Repositories != "*" {
			holder.Grants = append(holder.Grants, g.Grant)
		}
	}
	for _, r := range s.directory.Repositories() {
		if !r.Gathers() && access.Decide(holder, access.Manage, access.Of(r)).Allowed {
			ids = append(ids, r.ID)
		}
	}
	return ids
}

// used tells how much is used, what is on its way included; the lock is held.
func (s *Quotas) used(ctx context.Context, b *bound) (int64, error) {
	holds := countedFor
	if n := b.counted + b.since + b.underWay; b.Hard > 0 && n > b.Hard-b.Hard/narrow {
		holds = nearFor
	}
	if now := time.Now(); b.at.IsZero() || now.Sub(b.at) > holds {
		var err error
		if b.About == record.QuotaOfStore {
			b.counted, err = s.DB.StoreBytes(ctx, b.StoreID)
		} else {
			b.counted, err = s.DB.HeldBytes(ctx, b.repositories)
		}
		if err != nil {
			return 0, err
		}
		b.at, b.since = now, 0
	}
	return b.counted + b.since + b.underWay, nil
}

// Recount has what is used counted again, because much of it is gone.
func (s *Quotas) Recount() {
	if b := s.known.Load(); b != nil {
		for _, one := range b.all {
			one.mu.Lock()
			one.at = time.Time{}
			one.mu.Unlock()
		}
	}
}

// fits lets in so many bytes for a repository and a store, or says why not. Whoever brings
// them calls done when they are recorded, or will not come.
func (s *Quotas) fits(ctx context.Context, r catalog.Repository, storeID int16, n int64) (done func(), err error) {
	b, err := s.bounds(ctx)
	if err != nil {
		return nil, err
	}
	var let []*bound
	done = func() {
		for _, one := range let {
			one.mu.Lock()
			one.underWay -= n
			one.since += n
			one.mu.Unlock()
		}
	}
	concerned := b.ofRepository[r.ID]
	if store := b.ofStore[storeID]; store != nil {
		concerned = append(concerned[:len(concerned):len(concerned)], store)
	}
	for _, one := range concerned {
		if one.Hard == 0 {
			continue
		}
		one.mu.Lock()
		used, err := s.used(ctx, one)
		if err == nil && used+n > one.Hard && one.since > 0 { // some of it may have been refused since
			one.at = time.Time{}
			used, err = s.used(ctx, one)
		}
		if err == nil && used+n > one.Hard {
			err = errFull
		}
		if err == nil {
			one.underWay += n
			let = append(let, one)
		}
		one.mu.Unlock()
		if err != nil {
			for _, other := range let {
				other.mu.Lock()
				other.underWay -= n
				other.mu.Unlock()
			}
			if errors.Is(err, errFull) {
				err = s.full(ctx, r, one, used, n)
			}
			return nil, err
		}
	}
	return done, nil
}

var errFull = errors.New("it does not fit")

// hintWithin is how long somebody who is refused waits for what would help.
const hintWithin = 2 * time.Second

// full says that something does not fit, and what would help.
func (s *Quotas) full(ctx context.Context, r catalog.Repository, b *bound, used, n int64) error {
	if tight := s.tight.Load(); r.Fetches() && tight != nil && n <= b.Hard/2 { // for more it should not drop so much
		b.mu.Lock()
		b.wanted = max(b.wanted, n)
		b.mu.Unlock()
		(*tight)()
	}
	asking, cancel := context.WithTimeout(ctx, hintWithin)
	defer cancel()
	var hints []string
	var most []record.Heavy
	all, err := s.seenByAll(asking, r)
	if err == nil && all { // who it is that is told is not known here
		most, err = s.DB.Heaviest(asking, []int64{r.ID}, 3)
	}
	if err == nil && len(most) > 0 {
		var names []string
		for _, h := range most {
			p := purl.PURL{Ecosystem: h.Ecosystem, Namespace: h.Namespace, Name: h.Name}
			names = append(names, fmt.Sprintf("%s (%s)", p, api.Bytes(h.Bytes)))
		}
		hints = append(hints, "Most is used by "+strings.Join(names, ", ")+".")
	}
	for _, sweep := range s.swept(asking, r) {
		hints = append(hints,
			fmt.Sprintf("A sweep would free %s: crelvo sweep run %s.", api.Bytes(sweep.Bytes), sweep.Policy))
	}
	hints = append(hints,
		fmt.Sprintf("An admin of the server can give it more: crelvo quota set %s --hard SIZE.", Title(b.Quota)))
	what := "this file has " + api.Bytes(n)
	if n <= 1 { // nobody knows yet how large it will be
		what = "there is no room for this file"
	}
	return fault.New(fault.Full, "quota-reached", "%s may use %s and uses %s; %s", named(b.Quota), api.Bytes(b.Hard),
		api.Bytes(used), what).WithHint("%s", strings.Join(hints, " "))
}

// seenByAll tells whether whoever may do anything in a repository sees all of it: no grant is
// for some of its packages.
func (s *Quotas) seenByAll(ctx context.Context, r catalog.Repository) (bool, error) {
	if r.AnonymousRead {
		return true, nil
	}
	grants, err := s.DB.Grants(ctx)
	return err == nil && !slices.ContainsFunc(grants, func(g record.StoredGrant) bool {
		holder := access.Caller{ID: -1, Grants: []access.Grant{g.Grant}}
		return g.Packages != (purl.Pattern{}) && access.Decide(holder, access.Read, access.Of(r)).Allowed
	}), err
}

func (s *Quotas) swept(ctx context.Context, r catalog.Repository) []Sweepable {
	if s.sweeps == nil {
		return nil
	}
	return s.sweeps(ctx, r)
}

// Title is how commands call what a quota is about.
func Title(q record.Quota) string {
	if q.About == record.QuotaOfRepository {
		return q.Name
	}
	return string(q.About) + ":" + q.Name
}

// named is how people call it.
func named(q record.Quota) string {
	if q.About == record.QuotaOfRepository {
		return q.Name
	}
	return "the " + string(q.About) + " " + q.Name
}
