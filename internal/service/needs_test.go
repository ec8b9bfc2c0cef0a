package service

import (
	"maps"
	"slices"
	"testing"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/purl"
	core "crelvo/internal/core/safety"
	"crelvo/internal/record/recordtest"
	"crelvo/internal/service/repositories"
)

// TestNeedsThatFit: what a version needs is looked at in the version that clients take, in turn.
func TestNeedsThatFit(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	files := kelp(t, "kelp", map[string]string{
		"1.0.0": `"dependencies": {"wrack": "^1.0.0", "tide": "^3.0.0"}`}, map[string]int{"1.0.0": 90})
	maps.Copy(files, kelp(t, "wrack", map[string]string{"1.2.0": `"dependencies": {"kelp": ">=1", "tide": "1.x"}`},
		map[string]int{"1.0.0": 90, "1.2.0": 60, "2.0.0": 30}))
	maps.Copy(files, kelp(t, "tide", nil, map[string]int{"1.0.0": 90, "2.0.0": 60}))
	r, err := n.Repositories.AddRepository(t.Context(), n.admin, repositories.NewRepository{
		Repository: catalog.Repository{Name: "shore", Kind: catalog.Mirror, Holds: catalog.Both, Ecosystem: "npm",
			Safety: core.Rules{Vets: true},
			Mirror: &catalog.MirrorSettings{Upstreams: []catalog.Upstream{{URL: newElsewhere(t, files).URL}}}}})
	if err != nil {
		t.Fatal(err)
	}
	a, err := n.Vetting.Assess(t.Context(), n.admin, r.Name, purl.PURL{Ecosystem: "npm", Name: "kelp"})
	if err == nil {
		err = n.Vetting.AddNeeds(t.Context(), &a)
	}
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, need := range a.Needs {
		state := "awaits"
		if need.Absent {
			state = "absent"
		}
		got = append(got, need.PURL.String()+" "+state)
	}
	slices.Sort(got)
	want := []string{"pkg:npm/tide absent", "pkg:npm/tide@1.0.0 awaits", "pkg:npm/wrack@1.2.0 awaits"}
	if !slices.Equal(got, want) {
		t.Errorf("it needs %v, not %v", got, want)
	}
}
