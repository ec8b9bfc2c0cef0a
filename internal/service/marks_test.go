package service

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/bundle"
	"crelvo/internal/core/fault"
	"crelvo/internal/ecosystem"
	"crelvo/internal/ecosystem/madeup"
	"crelvo/internal/record/recordtest"
	"crelvo/internal/service/rights"
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
