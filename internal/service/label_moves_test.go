package service

import (
	"errors"
	"fmt"
	"slices"
	"testing"
	"time"

	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem/madeup"
	"crelvo/internal/record/recordtest"
	"crelvo/internal/service/search"
)

// TestLabelMoves: where the labels of a version pointed is told one time after the other, by
// whom they were moved, and from where.
func TestLabelMoves(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	r, key := n.images(t)
	digests := map[string]string{"": "-"}
	push := func(name string, tags ...string) {
		t.Helper()
		image := imageOf(name)
		digests[madeup.Digest(image.Manifest)] = name
		if err := errors.Join(n.sendParts(t, key, image), n.push(t, r, image, tags...)); err != nil {
			t.Fatal(err)
		}
		n.later(time.Minute)
	}
	push("a", "main", "1.0.0")
	push("b", "main")
	push("c", "other")
	push("a", "main")
	if err := n.Publishing.SetLabel(t.Context(), n.admin, key, "main", ""); err != nil {
		t.Fatal(err)
	}
	n.later(time.Minute)
	push("b", "main")
	moves := func(text string) (got []string) {
		t.Helper()
		p, err := purl.Parse(text)
		if err != nil {
			t.Fatal(err)
		}
		all, err := n.Search.LabelMoves(t.Context(), n.admin, p, "")
		if err != nil {
			t.Fatal(err)
		}
		for _, m := range all {
			got = append(got, fmt.Sprint(m.Label, " ", digests[m.Before], ">", digests[m.Version], " ", m.Until == nil, " ",
				m.By))
		}
		return got
	}
	whole := []string{"main ->b true admin", "main b>a false admin", "main a>b false admin", "1.0.0 ->a true admin",
		"main ->a false admin"}
	if got := moves("pkg:oci/x@1.0.0"); !slices.Equal(got, whole) {
		t.Errorf("of a: %q, want %q", got, whole)
	}
	if got := moves("pkg:oci/x@other"); !slices.Equal(got, []string{"other ->c true admin"}) {
		t.Errorf("of c: %q", got)
	}
	if got := moves("pkg:oci/x"); len(got) != 6 {
		t.Errorf("of all: %q", got)
	}
}

// TestWholeImages: an index is as large as it and what it is made of, and what these share
// counts once.
func TestWholeImages(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	r, key := n.images(t)
	base := imageOf("base")
	p := madeup.Package{Name: "x", Version: "1.5.0"}
	amd, arm := p.Image("linux/amd64", &base), p.Image("linux/arm64", &base)
	index := p.Index(amd, arm)
	files := map[string]int{}
	for _, i := range []madeup.Image{amd, arm, index} {
		files[madeup.Digest(i.Manifest)] = len(i.Manifest)
		for digest, content := range i.Blobs {
			files[digest] = len(content)
		}
	}
	var want int64
	for _, size := range files {
		want += int64(size)
	}
	if err := errors.Join(n.sendParts(t, key, amd), n.push(t, r, amd), n.sendParts(t, key, arm), n.push(t, r, arm),
		n.push(t, r, index, "1.5.0")); err != nil {
		t.Fatal(err)
	}
	of, err := purl.Parse("pkg:oci/x@1.5.0")
	if err != nil {
		t.Fatal(err)
	}
	holdings, _, err := n.Search.HoldingsOf(t.Context(), n.admin, of, "", search.VersionPage{Limit: 1})
	if err != nil || len(holdings) != 1 || holdings[0].Whole[madeup.Digest(index.Manifest)] != want {
		t.Errorf("%+v, %v; want %d", holdings, err, want)
	}
}
