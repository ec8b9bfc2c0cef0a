package service

import (
	"bytes"
	"fmt"
	"reflect"
	"testing"
	"time"

	"crelvo/internal/core/catalog"
	"crelvo/internal/ecosystem"
	"crelvo/internal/ecosystem/helm"
	"crelvo/internal/ecosystem/madeup"
	"crelvo/internal/record"
	"crelvo/internal/record/recordtest"
)

// chart publishes a chart.
func (n *node) chart(t *testing.T, r catalog.Repository, name, version string) {
	t.Helper()
	content := madeup.Package{Name: name, Version: version}.Chart()
	staged, err := n.Store.Stage(t.Context(), r, bytes.NewReader(content), int64(len(content)), name)
	if err != nil {
		t.Fatal(err)
	}
	defer staged.Discard()
	k := helm.New()
	place, _, err := k.Arrived(t.Context(), name, staged)
	if err == nil {
		_, err = n.Publishing.Publish(t.Context(), n.admin, r, k,
			ecosystem.Publication{Files: []ecosystem.StagedFile{{Place: place, Staged: staged}}})
	}
	if err != nil {
		t.Fatal(err)
	}
}

// listed is a document that has the name of each package, with its versions.
var listed = ecosystem.Joined{ContentType: "text/plain", Between: []byte(" "),
	Begin: func(time.Time) []byte { return nil },
	Each: func(p *catalog.Package) (ecosystem.Part, error) {
		text := p.Key.Name
		for _, v := range ecosystem.Newest(p) {
			if v.Withdrawn == nil {
				text += ":" + v.Version
			}
		}
		return ecosystem.NewPart([]byte(text), nil), nil
	}}

// TestWhole: a document about all packages follows every change, at the node that made it
// and at others, as of a moment and for those who may not see everything.
func TestWhole(t *testing.T) {
	url := recordtest.URL(t)
	n, other := newNode(t, url), newNode(t, url)
	r := n.repository(t)
	whole := func(n *node, r catalog.Repository) string {
		t.Helper()
		w, err := n.Resolving.Whole(t.Context(), r, helm.Name, listed)
		if err != nil {
			t.Fatal(err)
		}
		return string(w.Bytes())
	}
	if got := whole(n, r); got != "" {
		t.Errorf("an empty repository lists %q", got)
	}
	for i := range 3 {
		n.chart(t, r, fmt.Sprintf("gate-%d", i), "1.0.0")
	}
	const three = "gate-0:1.0.0 gate-1:1.0.0 gate-2:1.0.0"
	if got := whole(n, r); got != three {
		t.Errorf("it lists %q", got)
	}
	before, err := n.DB.Now(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	n.chart(t, r, "gate-1", "1.1.0")
	n.chart(t, r, "a-gate", "2.0.0")
	if err := n.Publishing.Withdraw(t.Context(), n.admin, r.Key(helm.Name, "", "gate-2"),
		map[string]*string{"1.0.0": new(string)}); err != nil {
		t.Fatal(err)
	}
	other.ForgetAll() // it hears of nothing, as it does not run
	if err := other.Directory.Load(t.Context()); err != nil {
		t.Fatal(err)
	}
	for name, at := range map[string]*node{"this node": n, "the other": other} {
		if got := whole(at, r); got != "a-gate:2.0.0 gate-0:1.0.0 gate-1:1.0.0:1.1.0 gate-2" {
			t.Errorf("%s lists %q", name, got)
		}
	}
	then := r
	then.AsOf = catalog.MomentOf(before)
	if got := whole(n, then); got != three {
		t.Errorf("as of before it lists %q", got)
	}
}

// TestPackagesAhead: many packages that are read at once are what each is by itself.
func TestPackagesAhead(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	r := n.repository(t)
	var keys []catalog.PackageKey
	for i := range 20 {
		name := fmt.Sprintf("gate-%d", i)
		for version := range 1 + i%3 {
			n.chart(t, r, name, fmt.Sprintf("1.%d.0", version))
		}
		keys = append(keys, r.Key(helm.Name, "", name))
	}
	reason := "it leaks"
	if err := n.Publishing.Withdraw(t.Context(), n.admin, keys[2], map[string]*string{"1.1.0": &reason}); err != nil {
		t.Fatal(err)
	}
	if err := n.Retention.Remove(t.Context(), n.admin, keys[3], []string{"1.0.0"}); err != nil {
		t.Fatal(err)
	}
	now, err := n.DB.Now(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	for _, at := range []catalog.Moment{0, catalog.MomentOf(now)} {
		asked := append([]catalog.PackageKey{r.Key(helm.Name, "", "nothing")}, keys...)
		for i := range asked {
			asked[i].AsOf = at
		}
		all, err := n.DB.Packages(t.Context(), asked)
		if err != nil || len(all) != len(keys)-1 {
			t.Fatalf("%d packages, %v", len(all), err)
		}
		for _, key := range asked {
			one, err := n.DB.Package(t.Context(), key, record.Known{})
			if got := all[key].Package; err == nil && !reflect.DeepEqual(got, one.Package) || (err != nil) != (got == nil) {
				t.Errorf("%s as of %v is\n%+v, and by itself\n%+v, %v", key.Name, at, got, one.Package, err)
			}
		}
	}
	if none, err := n.DB.Packages(t.Context(), nil); err != nil || len(none) != 0 {
		t.Errorf("%v, %v", none, err)
	}
}
