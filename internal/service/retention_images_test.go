package service

import (
	"errors"
	"slices"
	"testing"
	"time"

	"crelvo/internal/ecosystem/madeup"
	"crelvo/internal/record/recordtest"
	"crelvo/internal/service/retention"
)

// TestSweptImages: policies count the tags of a family, take what has no tag, and what is for
// some platforms; what an index is made of stays with it.
func TestSweptImages(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	r, key := n.images(t)
	pushed := map[string]string{} // names by digest
	push := func(name string, i madeup.Image, tags ...string) {
		t.Helper()
		pushed[madeup.Digest(i.Manifest)] = name
		if err := errors.Join(n.sendParts(t, key, i), n.push(t, r, i, tags...)); err != nil {
			t.Fatal(err)
		}
		n.later(time.Hour)
	}
	base := imageOf("base")
	for _, version := range []string{"1.5.0-dev.1", "1.5.0-dev.2", "1.5.0-dev.3"} {
		p := madeup.Package{Name: "x", Version: version}
		amd, arm := p.Image("linux/amd64", &base), p.Image("linux/arm64", nil)
		push("amd "+version, amd)
		push("arm "+version, arm)
		push(version, p.Index(amd, arm), version)
	}
	push("stray", imageOf("stray"))
	push("main", imageOf("main"), "main")
	swept := func(text string) (names []string, freed int64) {
		t.Helper()
		plan, err := n.Retention.PlanSweep(t.Context(), n.admin, text, time.Time{}, func(l *retention.PlanLine) error {
			if l.Fate.String() == "swept" {
				names = append(names, pushed[l.Version.Version])
			}
			return nil
		})
		if err != nil {
			t.Fatal(err)
		}
		slices.Sort(names)
		return names, plan.Total.Freed
	}
	const begins = "name: images\nrepositories: [images]\ngrace: 1d\n"
	for text, want := range map[string][]string{
		"keep: [newest 1 of each label-family]": {"1.5.0-dev.1", "1.5.0-dev.2", "amd 1.5.0-dev.1", "amd 1.5.0-dev.2",
			"arm 1.5.0-dev.1", "arm 1.5.0-dev.2", "stray"},
		"where: -label:*\nkeep: [younger than 1h]":          {"stray"},
		"platforms: [linux/arm64]\nkeep: [younger than 1h]": {"arm 1.5.0-dev.1", "arm 1.5.0-dev.2", "arm 1.5.0-dev.3"},
		"keep: [newest 2 of each label-family, labelled main]": {"1.5.0-dev.1", "amd 1.5.0-dev.1",
			"arm 1.5.0-dev.1", "stray"},
	} {
		if got, _ := swept(begins + text + "\n"); !slices.Equal(got, want) {
			t.Errorf("%s\n%q go, want %q", text, got, want)
		}
	}

	// The run takes what the plan says.
	_, freed := swept(begins + "keep: [newest 1 of each label-family]\n")
	n.set(t, begins+"keep: [newest 1 of each label-family]\n")
	v := n.sweep(t, "images", true)
	if v.Versions != 7 || v.Freed != freed || freed <= 0 {
		t.Errorf("%+v; the plan frees %d", v, freed)
	}
	n.set(t, begins+"platforms: [linux/arm64]\nkeep: [younger than 1h]\n")
	if v := n.sweep(t, "images", true); v.Versions != 1 {
		t.Errorf("of arm64 went %+v", v)
	}
	p, err := n.Holdings.Package(t.Context(), key)
	if err != nil {
		t.Fatal(err)
	}
	var left []string
	for _, v := range p.Versions {
		left = append(left, pushed[v.Version])
	}
	slices.Sort(left)
	if want := []string{"1.5.0-dev.3", "amd 1.5.0-dev.3", "main"}; !slices.Equal(left, want) {
		t.Errorf("%q are left, want %q", left, want)
	}
	n.wholeStore(t)
}
