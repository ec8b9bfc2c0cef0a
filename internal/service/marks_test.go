package service

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/bundle"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/junit"
	"crelvo/internal/ecosystem"
	"crelvo/internal/ecosystem/madeup"
	"crelvo/internal/record"
	"crelvo/internal/record/recordtest"
	"crelvo/internal/service/landing"
	"crelvo/internal/service/relays"
	"crelvo/internal/service/rights"
	"crelvo/internal/service/targets"
)

// TestTakeMarks: what another place says of labels and versions is taken if nothing was said later here, of what is
// here, by who may; who says the same twice, or what is older, changes nothing.
func TestTakeMarks(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	ctx := t.Context()
	r := n.both(t, "yard-here")
	key := r.Key("npm", "", "kelp")
	for _, version := range []string{"1.0.0", "1.1.0"} {
		n.npm(t, n.admin, r, madeup.Package{Name: "kelp", Version: version, Licence: "MIT"})
	}
	is := func() string {
		t.Helper()
		p, err := n.Holdings.Package(ctx, key)
		if err != nil {
			t.Fatal(err)
		}
		said := fmt.Sprint(p.Labels["x"])
		for _, v := range p.Versions {
			if v.Withdrawn != nil {
				said += " " + v.Version + " " + v.Withdrawn.Reason
			}
		}
		return said
	}
	begun := n.Now()
	n.later(20 * time.Minute)
	for _, c := range []struct {
		after   time.Duration // of the beginning
		label   string        // "-": nothing is said of it
		version string        // that is withdrawn; "": nothing is said of any
		lifted  bool
		is      string
	}{
		{10 * time.Minute, "1.0.0", "1.0.0", false, "1.0.0 1.0.0 leaks"},
		{9 * time.Minute, "1.1.0", "1.0.0", true, "1.0.0 1.0.0 leaks"},  // was said before
		{10 * time.Minute, "1.1.0", "1.0.0", true, "1.0.0 1.0.0 leaks"}, // at the same time: the first stays
		{12 * time.Minute, "1.0.0", "", false, "1.0.0 1.0.0 leaks"},     // the same once more, later
		{11 * time.Minute, "1.1.0", "1.0.0", true, "1.0.0"},             // after what was said of the version alone
		{13 * time.Minute, "2.0.0", "2.0.0", false, "1.0.0"},            // is not here
		{14 * time.Minute, "", "1.1.0", false, " 1.1.0 leaks"},
		{13 * time.Minute, "1.1.0", "-", false, " 1.1.0 leaks"}, // was taken away since
		{15 * time.Minute, "1.1.0", "1.1.0", true, "1.1.0"},
		{time.Hour, "1.0.0", "1.1.0", false, "1.0.0 1.1.0 leaks"}, // in the future: it counts as said now
		{2 * time.Hour, "1.0.0", "1.1.0", false, "1.0.0 1.1.0 leaks"},
	} {
		at := begun.Add(c.after)
		marks := bundle.Marks{Labels: []bundle.Labelled{{Name: "x", Version: c.label, At: at}}}
		if c.version != "" {
			marks.Withdrawn = []bundle.Withdrawal{{Version: c.version, Reason: "leaks", Lifted: c.lifted, At: at}}
		}
		refused, err := n.Publishing.TakeMarks(ctx, n.admin, key, marks)
		if err != nil || refused != nil || is() != c.is {
			t.Errorf("%+v: it is %q, refused are %v, %v", c, is(), refused, err)
		}
	}
	before := is()
	n.later(time.Minute)
	later := bundle.Marks{Labels: []bundle.Labelled{{Name: "x", Version: "1.1.0", At: n.Now()}}}
	if _, err := n.Publishing.TakeMarks(ctx, n.admin, key, later); err != nil || is() == before {
		t.Errorf("what was said in the future stays for ever: %s, %v", is(), err)
	}
	g, err := rights.NewGrant{Holder: "other", Role: "reader", Repositories: r.Name}.Parse()
	if err == nil {
		err = n.Rights.AddPrincipal(ctx, n.admin, rights.NewPrincipal{Name: "other", Grants: []access.Grant{g}})
	}
	if err != nil {
		t.Fatal(err)
	}
	other, err := n.Rights.CallerNamed(ctx, "other")
	if err != nil {
		t.Fatal(err)
	}
	marks := bundle.Marks{Labels: []bundle.Labelled{{Name: "x", Version: "1.1.0", At: begun.Add(time.Hour)}}}
	if _, err := n.Publishing.TakeMarks(ctx, other, key, marks); fault.Of(err).Kind != fault.Denied {
		t.Errorf("a reader's word is taken: %v", err)
	}
	removed := []bundle.Removal{{Version: "1.0.0", At: begun.Add(-time.Hour)},
		{Version: "2.0.0", At: begun.Add(time.Hour)}}
	if refused, err := n.Retention.TakeRemovals(ctx, n.admin, key, removed); err != nil || refused != nil {
		t.Errorf("%v %v", refused, err)
	}
	removed[0].At = begun.Add(time.Hour)
	if refused, err := n.Retention.TakeRemovals(ctx, other, key, removed); err != nil || len(refused) == 0 {
		t.Errorf("a reader removes: %v %v", refused, err)
	}
	if refused, err := n.Retention.TakeRemovals(ctx, n.admin, key, removed); err != nil || refused != nil {
		t.Errorf("%v %v", refused, err)
	}
	if got := n.there(t, key); len(got) != 1 || !strings.Contains(fmt.Sprint(got), "1.1.0") {
		t.Errorf("there is %v", got)
	}
	_, err = n.Publishing.TakeMarks(ctx, n.admin, r.Key("npm", "", "wrack"), marks)
	if !errors.Is(err, ecosystem.ErrNoPackage) && fault.Of(err).Kind != fault.NotFound {
		t.Errorf("of what is not here: %v", err)
	}
}

// TestTellOnce: another Crelvo is told what was said of a package once, and then what is new and what is about versions
// that were sent since; what it refused for good is told again when it is looked for what was missed.
func TestTellOnce(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	ctx := t.Context()
	r := n.both(t, "yard-here")
	key := r.Key("npm", "", "kelp")
	err := n.Targets.SetTarget(ctx, n.admin, targets.NewTarget{Name: "there", Ecosystem: "npm",
		URL: "http://127.0.0.1:1/at/yard/npm/"})
	if err != nil {
		t.Fatal(err)
	}
	v, err := n.Relays.Add(ctx, n.admin, relays.Settings{Name: "there", Repository: r.Name, Target: "there"}, true)
	if err != nil {
		t.Fatal(err)
	}
	sent := func(version string) {
		t.Helper()
		n.npm(t, n.admin, r, madeup.Package{Name: "kelp", Version: version, Licence: "MIT"})
		some, err := n.DB.Unrelayed(ctx, v.ID, key, 0, 10)
		if err == nil {
			_, err = n.DB.QueueRelayed(ctx, v.ID, some, n.Now())
		}
		if err != nil || len(some) != 1 {
			t.Fatal(some, err)
		}
		leased := n.Now().Add(time.Minute)
		item, ok, err := n.DB.TakeRelayed(ctx, []int64{v.ID}, n.Now(), leased)
		if err != nil || !ok {
			t.Fatal(ok, err)
		}
		now := n.Now()
		item.State, item.EndedAt = record.RelaySent, &now
		if err := errors.Join(n.DB.SetRelayed(ctx, item, item.NextAt),
			n.DB.TellAgain(ctx, v.ID, []int64{item.PackageID}, now)); err != nil {
			t.Fatal(err)
		}
	}
	label := func(name, version string) {
		t.Helper()
		if err := n.Publishing.SetLabel(ctx, n.admin, key, name, version); err != nil {
			t.Fatal(err)
		}
	}
	// told is what is to be told now, and whether it was taken.
	told := func(taken bool) (names []string) {
		t.Helper()
		m, ok, err := n.DB.TakeMark(ctx, []int64{v.ID}, n.Now(), n.Now().Add(time.Minute))
		if err != nil {
			t.Fatal(err)
		}
		if !ok {
			return nil
		}
		marks, revision, err := n.DB.MarksOf(ctx, m, false)
		if err != nil {
			t.Fatal(err)
		}
		for _, l := range marks.Labels {
			names = append(names, l.Name)
		}
		slices.Sort(names)
		leased, now := m.NextAt, n.Now()
		if m.Revision = -1; taken {
			m.Revision, m.ToldAt = revision, &now
		}
		m.NextAt = now
		if err := n.DB.SetMark(ctx, m, taken, leased); err != nil {
			t.Fatal(err)
		}
		return names
	}
	is := func(what string, got []string, want ...string) {
		t.Helper()
		if !slices.Equal(got, want) {
			t.Errorf("%s: told is %v, and not %v", what, got, want)
		}
	}
	sent("1.0.0")
	label("one", "1.0.0")
	label("two", "1.0.0")
	is("at first", told(true), "latest", "one", "two")
	is("then", told(true))
	n.later(time.Hour)
	sent("1.1.0") // which has the label latest now
	n.later(time.Second)
	is("after another version", told(true), "latest")
	label("three", "1.0.0")
	queue := func() {
		t.Helper()
		if _, err := n.DB.QueueMarks(ctx, v.ID, key, n.Now()); err != nil {
			t.Fatal(err)
		}
	}
	queue()
	is("what is refused", told(false), "three")
	is("is not told at once", told(true))
	queue()
	is("but when it is looked for what was missed", told(true), "three")
	queue()
	is("and never again", told(true))
}

// TestLookAtTaken: that somebody else took in bytes for which a version waited, too, does no harm.
func TestLookAtTaken(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	ctx := t.Context()
	from, to := n.both(t, "from-here"), n.both(t, "to-here")
	n.npm(t, n.admin, from, madeup.Package{Name: "kelp", Version: "1.0.0", Licence: "MIT"})
	p, err := n.Holdings.Package(ctx, from.Key("npm", "", "kelp"))
	if err != nil {
		t.Fatal(err)
	}
	f := p.Versions[0].Files[0]
	sum := bundle.Sum(f.Digests.SHA256)
	sums := [][]byte{sum[:]}
	if err := n.Landing.Keep(ctx, n.admin, to, sums, map[bundle.Sum]int64{sum: f.Digests.Size}); err != nil {
		t.Fatal(err)
	}
	// Another one, that waited for them as well, is placed.
	if err := n.DB.Within(ctx, func(tx *record.Tx) error { return tx.TakeLanded(ctx, to.ID, sums) }); err != nil {
		t.Fatal(err)
	}
	known, err := n.DB.DigestsOf(ctx, sums)
	if err != nil {
		t.Fatal(err)
	}
	placed, why, err := n.Landing.Look(ctx, to, landing.Version{Key: to.Key("npm", "", "kelp"), Version: bundle.Version{
		Version: "1.0.0", PublishedAt: n.Now(), Files: []bundle.File{{Name: f.Name, SHA256: sum, Size: f.Digests.Size}}}},
		known)
	if err != nil || why != "" || len(placed.Files) != 1 || placed.Files[0].Digests.MD5 != f.Digests.MD5 {
		t.Errorf("%+v, %s, %v", placed, why, err)
	}
}

// TestTakeOver: builds that another Crelvo tells of are put on record as they are told, cleaned, and never in
// somebody else's name.
func TestTakeOver(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	ctx := t.Context()
	begun := n.Now().Add(-time.Hour).Truncate(time.Microsecond)
	n.both(t, "yard-here") // who may publish nowhere has no builds
	told := []bundle.Build{{Name: "kelp", Number: "7", Revision: "abc\x1b[2J", StartedAt: begun,
		Notes: map[string]string{"runner": "a\x00b"},
		Tests: &junit.Summary{Tests: 3, Failed: -1, Names: []string{"x\u202e"}}},
		{Name: "", Number: "1", StartedAt: begun}, {Name: "kelp", Number: "8", StartedAt: n.Now().Add(time.Hour)}}
	ids, err := n.Builds.TakeOver(ctx, n.admin, told)
	if err != nil || len(ids) != 1 || ids["kelp#7"] == 0 {
		t.Fatal(ids, err)
	}
	again, err := n.Builds.TakeOver(ctx, n.admin, told)
	if err != nil || again["kelp#7"] != ids["kelp#7"] {
		t.Errorf("once more: %v, %v", again, err)
	}
	b, err := n.DB.Build(ctx, record.BuildFilter{Titles: []string{"kelp#7"}})
	if said := fmt.Sprint(b.Revision, b.Notes, b.Tests); err != nil || strings.ContainsAny(said, "\x1b\x00\u202e") ||
		b.Tests.Tests != 3 || b.Tests.Failed != 0 || b.OwnerID != 0 {
		t.Errorf("it is %q, %v", said, err)
	}
	told[0].Revision = "def" // another build of that name and number
	if other, err := n.Builds.TakeOver(ctx, n.admin, told); err != nil || len(other) != 0 {
		t.Errorf("another one: %v, %v", other, err)
	}
	if _, _, err := n.Builds.BeginBuild(ctx, n.admin, "wrack#1"); err != nil {
		t.Fatal(err)
	}
	if err := n.Rights.AddPrincipal(ctx, n.admin, rights.NewPrincipal{Name: "other"}); err != nil {
		t.Fatal(err)
	}
	other, err := n.Rights.CallerNamed(ctx, "other")
	if err != nil {
		t.Fatal(err)
	}
	theirs, err := n.Builds.TakeOver(ctx, other, []bundle.Build{{Name: "wrack", Number: "2", StartedAt: begun}})
	if err != nil || len(theirs) != 0 {
		t.Errorf("somebody speaks for others: %v, %v", theirs, err)
	}
}
