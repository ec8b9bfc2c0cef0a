package makeup

import (
	"context"
	"errors"
	"fmt"
	"time"

	"crelvo/internal/core/budget"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/makeup"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
	"crelvo/internal/record"
)

// unpackFor is how long one comparison may read layers.
const unpackFor = 10 * time.Second

// unpacked is what one may read and keep: 1 GiB of files, and the names of a few hundred
// thousand.
var unpacked = budget.Limits{Bytes: 1 << 30, Held: 48 << 20, Elements: 300_000}

// mostFiles is how many files that differ are named.
const mostFiles = 1000

// atOnce is how many comparisons unpack layers at the same time.
const atOnce = 2

const tooMuch = "their layers have more than can be compared at once"

// files compares the files of two versions.
func (s *Makeup) files(ctx context.Context, before, after Version) (*Files, error) {
	found := &Files{}
	trees, why, err := s.trees(ctx, before, after)
	if err != nil || why != "" {
		found.LeftOut = why
		return found, err
	}
	all := makeup.Differences(trees[0], trees[1])
	for _, d := range all {
		switch {
		case d.Before == nil:
			found.Added++
		case d.After == nil:
			found.Removed++
		default:
			found.Changed++
		}
	}
	found.Some = all[:min(len(all), mostFiles)]
	return found, nil
}

// trees are the files of versions; why is the reason if they cannot be put together.
func (s *Makeup) trees(ctx context.Context, versions ...Version) (trees []makeup.Tree, why string, err error) {
	ctx, cancel := context.WithTimeout(ctx, unpackFor)
	defer cancel()
	select {
	case s.unpacking <- struct{}{}:
		defer func() { <-s.unpacking }()
	case <-ctx.Done():
		return nil, "", fault.New(fault.TooMany, "busy", "others are comparing files; try again in a moment")
	}
	ctx = budget.Afresh(ctx, unpacked)
	known := map[string][]makeup.File{}
	for _, v := range versions {
		e := s.Ecosystem(v.PURL.Ecosystem).(ecosystem.Layered)
		tree := makeup.Tree{}
		for _, l := range v.Layers() {
			files, read := known[l.Layer]
			if !read {
				files, why, err = s.layerFiles(ctx, e, v, l)
				known[l.Layer] = files
			}
			// A layer costs something also where it was read before: there may be thousands.
			if err == nil {
				err = ctx.Err()
			}
			if errors.Is(err, context.DeadlineExceeded) {
				return nil, tooMuch, nil
			}
			if err != nil || why != "" {
				return nil, why, err
			}
			tree.Lay(files)
		}
		trees = append(trees, tree)
	}
	return trees, "", nil
}

// layerFiles are the files of one layer.
func (s *Makeup) layerFiles(
	ctx context.Context, e ecosystem.Layered, v Version, l makeup.Step,
) (files []makeup.File, why string, err error) {
	of := fmt.Sprintf("%s of %s", purl.ShortVersion(l.Layer), v.Title)
	sum, _ := catalog.ParseSum(l.Layer)
	f, err := s.DB.File(ctx, catalog.FileQuestion{Key: v.kept, Name: sum.FileName()})
	if errors.Is(err, record.ErrNotFound) {
		return nil, "the layer " + of + " is not kept here", nil
	}
	if err != nil {
		return nil, "", err
	}
	content, err := s.store.Open(ctx, f)
	if err != nil {
		return nil, "", err
	}
	defer content.Close()
	err = e.LayerFiles(ctx, ecosystem.Sized(content, f.Digests.Size), func(f makeup.File) error {
		files = append(files, f)
		return nil
	})
	spent := (*budget.Spent)(nil)
	switch {
	case errors.As(err, &spent), errors.Is(err, context.DeadlineExceeded):
		return nil, tooMuch, nil
	case err != nil:
		return nil, fmt.Sprintf("the layer %s cannot be compared: %v", of, err), nil
	}
	return files, "", nil
}
