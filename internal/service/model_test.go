package service

import (
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem/madeup"
	"crelvo/internal/record"
	"crelvo/internal/record/recordtest"
	"crelvo/internal/service/promotion"
)

// place is where a version is: in a repository, under a version.
type place struct{ repository, version string }

// expected is what should be known of a version.
type expected struct {
	sha256    [32]byte
	withdrawn bool
	back      bool // from a sweep, within the grace: sweeps leave it alone
}

// model is what a package of two repositories on a track should be, after whatever
// was done to it.
type model struct {
	*line
	t      *testing.T
	random *rand.Rand
	seen   map[place]expected
	pinned map[place]bool
	// ever are the bytes that somebody could have had of a release.
	ever map[place][32]byte
	// gone are the versions that sweeps and removals took, by sweep; they can be
	// brought back until their grace ends.
	gone     map[int64]map[place]expected
	promoted []int64
	made     map[int64][]place
	snapshot int // the number of the last one
	did      []string
}

const modelled = "@skerry/part-1"

func (m *model) key(p place) catalog.PackageKey {
	r := m.snapshots
	if p.repository == "releases" {
		r = m.releases
	}
	return r.Key("npm", "@skerry", "part-1")
}

func (m *model) of(p place) purl.PURL {
	return purl.PURL{Ecosystem: "npm", Namespace: "@skerry", Name: "part-1", Version: p.version}
}

// refused notes that something did not go: that must have a reason which a person
// can be told, and it must have changed nothing.
func (m *model) refused(what string, err error) {
	m.did = append(m.did, what+" refused: "+err.Error())
	if f := (*fault.Error)(nil); !errors.As(err, &f) || f.Kind >= 500 {
		m.t.Errorf("%s: %v", what, err)
	}
}

func (m *model) any(of map[place]expected) (place, bool) {
	all := slices.SortedFunc(maps.Keys(of), func(a, b place) int {
		return strings.Compare(a.repository+" "+a.version, b.repository+" "+b.version)
	})
	if len(all) == 0 {
		return place{}, false
	}
	return all[m.random.IntN(len(all))], true
}

func (m *model) publish(p place) {
	made := madeup.Package{Name: modelled, Version: p.version, Licence: "MIT",
		Files: []madeup.Entry{{Name: "package/salt.txt", Content: fmt.Sprint(m.random.IntN(2))}}}
	r := m.snapshots
	if p.repository == "releases" {
		r = m.releases
	}
	_, err := m.Publishing.PublishByHand(m.t.Context(), m.admin, r, purl.PURL{}, handed(made))
	sum := sha256.Sum256(made.NPM())
	if before, ok := m.seen[p]; ok {
		if err == nil && before.sha256 != sum {
			m.t.Errorf("%v was published over with other bytes", p)
		}
		return
	}
	if ever, ok := m.ever[p]; err == nil && ok && ever != sum {
		m.t.Errorf("%v came back with other bytes", p)
	}
	if err != nil {
		m.refused(fmt.Sprintf("publish %v", p), err)
		return
	}
	m.came(p, sum)
}

func (m *model) came(p place, sum [32]byte) {
	m.did = append(m.did, fmt.Sprintf("%v came", p))
	m.seen[p] = expected{sha256: sum}
	if p.repository == "releases" {
		m.ever[p] = sum
	}
}

func (m *model) withdraw() {
	p, ok := m.any(m.seen)
	if !ok {
		return
	}
	e := m.seen[p]
	if err := m.Publishing.WithdrawVersion(m.t.Context(), m.admin, p.repository, m.of(p), "leaks",
		e.withdrawn); err != nil {
		m.refused(fmt.Sprintf("withdraw %v", p), err)
		return
	}
	m.did = append(m.did, fmt.Sprintf("%v withdrawn or no more", p))
	e.withdrawn = !e.withdrawn
	m.seen[p] = e
}

func (m *model) remove() {
	p, ok := m.any(m.seen)
	if !ok {
		return
	}
	v, err := m.Retention.RemoveVersion(m.t.Context(), m.admin, p.repository, m.of(p))
	if m.pinned[p] && err == nil {
		m.t.Errorf("%v was removed though it is pinned", p)
	}
	if err != nil {
		m.refused(fmt.Sprintf("remove %v", p), err)
		return
	}
	m.took(v.ID, p)
}

func (m *model) took(sweep int64, p place) {
	m.did = append(m.did, fmt.Sprintf("%d took %v", sweep, p))
	if m.gone[sweep] == nil {
		m.gone[sweep] = map[place]expected{}
	}
	m.gone[sweep][p] = m.seen[p]
	delete(m.seen, p)
}

func (m *model) undo() {
	ids := slices.Sorted(maps.Keys(m.gone))
	if len(ids) == 0 {
		return
	}
	id := ids[m.random.IntN(len(ids))]
	back, err := m.Retention.UndoSweep(m.t.Context(), m.admin, id, nil)
	want := map[place]expected{}
	for p, e := range m.gone[id] {
		if _, ok := m.seen[p]; !ok {
			want[p] = e
		}
	}
	if err != nil {
		m.refused(fmt.Sprintf("undo %d", id), err)
	}
	if back.Back != len(want) {
		m.t.Errorf("undoing %d brought %d back and %+v not; want %v", id, back.Back, back.Not, want)
	}
	for p, e := range want {
		e.back = true
		m.seen[p] = e
		delete(m.gone[id], p)
	}
	if len(m.gone[id]) == 0 {
		delete(m.gone, id)
	}
	m.did = append(m.did, fmt.Sprintf("undo %d brought %d back", id, len(want)))
}

func (m *model) promote() {
	snapshot, ok := m.any(m.seen)
	if !ok || snapshot.repository != "snapshots" || m.random.IntN(10) == 0 {
		snapshot = place{"snapshots", "1.0.0-dev.99"} // which was never there
	}
	number, _, _ := strings.Cut(snapshot.version, "-")
	release := place{"releases", number}
	p, err := m.Promotion.Promote(m.t.Context(), m.admin,
		promotion.Request{Track: "ferry", PURLs: []string{m.of(snapshot).String()}})
	source, there := m.seen[snapshot]
	if err == nil && p.Already {
		if _, ok := m.seen[release]; !ok || p.State != record.PromotionDone {
			m.t.Errorf("%v is said to be promoted already, and is not there: %s", snapshot, p.State)
		}
		m.t.Logf("%v was promoted already", snapshot)
		return
	}
	if err == nil && p.State == record.PromotionDone {
		if !there || source.withdrawn {
			m.t.Errorf("%v was promoted though it is not there, or withdrawn", snapshot)
		}
		if _, ok := m.seen[release]; ok {
			m.t.Errorf("%v was promoted over", release)
		}
		known, err := m.Resolving.Package(m.t.Context(), m.key(release))
		if err != nil {
			m.t.Fatal(err)
		}
		for _, v := range known.Versions {
			if v.Version == release.version {
				if ever, ok := m.ever[release]; ok && ever != v.Files[0].Digests.SHA256 {
					m.t.Errorf("%v was promoted with other bytes than it had", release)
				}
				m.came(release, v.Files[0].Digests.SHA256)
			}
		}
		m.promoted = append(m.promoted, p.ID)
		m.made[p.ID] = []place{release}
		return
	}
	if err == nil {
		err = fault.New(fault.Conflict, "not-done", "it is %s: %s", p.State, p.Why)
	}
	m.refused(fmt.Sprintf("promote %v", snapshot), err)
}

func (m *model) undoPromotion() {
	if len(m.promoted) == 0 {
		return
	}
	i := m.random.IntN(len(m.promoted))
	id := m.promoted[i]
	before := len(m.seen)
	p, err := m.Promotion.Undo(m.t.Context(), m.admin, id, "wrong tide")
	if err != nil {
		m.refused(fmt.Sprintf("undo promotion %d", id), err)
		return
	}
	m.did = append(m.did, fmt.Sprintf("promotion %d was undone", id))
	m.promoted = slices.Delete(m.promoted, i, i+1)
	if p.State != record.PromotionUndone {
		m.t.Errorf("%+v", p)
	}
	for _, r := range m.made[id] {
		// What was removed and published anew meanwhile is not the promotion's.
		listed := false
		if found, err := m.Holdings.Package(m.t.Context(), m.key(r)); err == nil {
			listed = slices.ContainsFunc(found.Versions, func(v catalog.Version) bool { return v.Version == r.version })
		}
		if !listed {
			delete(m.seen, r)
		}
		if before > len(m.seen) {
			delete(m.ever, r) // nobody had it, perhaps: then its name is free
		}
	}
}

func (m *model) pin() {
	p, ok := m.any(m.seen)
	if !ok {
		return
	}
	var err error
	if m.pinned[p] {
		err = m.Retention.Unpin(m.t.Context(), m.admin, p.repository, "npm", "@skerry", "part-1", p.version)
	} else {
		err = m.Retention.Pin(m.t.Context(), m.admin, p.repository, "npm", "@skerry", "part-1", p.version, "why not", nil)
	}
	if err != nil {
		m.refused(fmt.Sprintf("pin %v", p), err)
		return
	}
	m.did = append(m.did, fmt.Sprintf("%v pinned or no more", p))
	if m.pinned[p] = !m.pinned[p]; !m.pinned[p] {
		delete(m.pinned, p)
	}
}

func (m *model) sweepAll() {
	v := m.sweep(m.t, "newest", true)
	items, err := m.Retention.SweepItems(m.t.Context(), m.admin, v,
		record.ItemFilter{SweepID: v.ID, After: -1, Limit: 100})
	if err != nil {
		m.t.Fatal(err)
	}
	newest := place{}
	for p := range m.seen {
		if p.repository == "snapshots" && p.version > newest.version { // they sort like texts
			newest = p
		}
	}
	var want, got []string
	for p := range m.seen {
		if p.repository == "snapshots" && p != newest && !m.pinned[p] && !m.seen[p].back {
			want = append(want, p.version)
		}
	}
	for _, item := range items {
		if item.State == record.ItemRemoved {
			got = append(got, item.Version)
			m.took(v.ID, place{"snapshots", item.Version})
		}
	}
	slices.Sort(want)
	slices.Sort(got)
	if !slices.Equal(want, got) {
		m.t.Errorf("the sweep took %v; want %v, since %v is the newest and %v are pinned", got, want, newest, m.pinned)
	}
}

func (m *model) reclaim() {
	if m.random.IntN(2) == 0 {
		m.later(15 * 24 * time.Hour)
		m.gone = map[int64]map[place]expected{}
		for p, e := range m.seen {
			e.back = false
			m.seen[p] = e
		}
	}
	if _, err := m.Retention.Reclaim(m.t.Context(), m.admin, true); err != nil {
		m.refused("reclaim", err)
	}
	m.did = append(m.did, "reclaimed")
}

// check compares what the documents list with what should be there, and reads it.
func (m *model) check() {
	m.t.Helper()
	listed := map[place]expected{}
	for _, repository := range []string{"snapshots", "releases"} {
		known, err := m.Holdings.Package(m.t.Context(), m.key(place{repository: repository}))
		if err != nil {
			if fault.Is(err, fault.Internal) && !strings.Contains(err.Error(), "no such package") {
				m.t.Fatal(err)
			}
			continue
		}
		for _, v := range known.Versions {
			p := place{repository, v.Version}
			listed[p] = expected{sha256: v.Files[0].Digests.SHA256, withdrawn: v.Withdrawn != nil}
			opened, err := m.Store.Open(m.t.Context(), v.Files[0])
			if err != nil {
				m.t.Errorf("%v is listed, and not there: %v", p, err)
				continue
			}
			digest := sha256.New()
			if _, err := io.Copy(digest, opened); err != nil || [32]byte(digest.Sum(nil)) != v.Files[0].Digests.SHA256 {
				m.t.Errorf("%v has other bytes than it says: %v", p, err)
			}
			_ = opened.Close() // it was read
		}
		for name, version := range known.Labels {
			if _, ok := listed[place{repository, version}]; !ok {
				m.t.Errorf("the label %s of %s is at %s, which is not there", name, repository, version)
			}
		}
	}
	for p, e := range m.seen {
		if l, ok := listed[p]; !ok || l.sha256 != e.sha256 || l.withdrawn != e.withdrawn {
			m.t.Errorf("%v is listed as %v; want withdrawn %v", p, ok, e.withdrawn)
		}
	}
	for p := range listed {
		if _, ok := m.seen[p]; !ok {
			m.t.Errorf("%v is listed, and should not be", p)
		}
	}
	if mended, err := m.Retention.VerifyRecords(m.t.Context(), m.admin); err != nil || len(mended) != 0 {
		m.t.Errorf("the records do not agree: %+v, %v", mended, err)
	}
}

// TestModel does to a package whatever can be done to it, in a random order, and
// compares after every step what is listed with what should be. CRELVO_SOAK=1 does
// it with many more seeds.
func TestModel(t *testing.T) {
	seeds, steps := 4, 60
	if os.Getenv("CRELVO_SOAK") != "" {
		seeds, steps = 200, 150
	}
	for seed := range seeds {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			t.Parallel()
			m := &model{line: newLine(t, recordtest.URL(t)), t: t, random: rand.New(rand.NewPCG(uint64(seed), 7)),
				seen: map[place]expected{}, pinned: map[place]bool{},
				ever: map[place][32]byte{}, gone: map[int64]map[place]expected{}, made: map[int64][]place{}}
			m.set(t, "name: newest\nrepositories: [snapshots]\nkeep:\n  - newest 1 of each package\n")
			for range steps {
				number := fmt.Sprintf("1.%d.0", m.random.IntN(4))
				switch n := m.random.IntN(20); {
				case n < 5:
					// Each number once: what a snapshot version has are uploads of its own.
					m.snapshot++
					m.publish(place{"snapshots", fmt.Sprintf("%s-dev.%d", number, 100+m.snapshot)})
				case n < 7:
					m.publish(place{"releases", number})
				case n < 9:
					m.withdraw()
				case n < 11:
					m.remove()
				case n < 13:
					m.undo()
				case n < 15:
					m.promote()
				case n < 16:
					m.undoPromotion()
				case n < 17:
					m.pin()
				case n < 19:
					m.sweepAll()
				default:
					m.reclaim()
				}
				if m.check(); t.Failed() {
					t.Fatalf("after\n%s", strings.Join(m.did, "\n"))
				}
			}
		})
	}
}
