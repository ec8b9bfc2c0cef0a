package targets

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"sync"

	"golang.org/x/sync/errgroup"

	"crelvo/internal/core/budget"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/plain"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
	"crelvo/internal/record"
	"crelvo/internal/webspace"
)

const (
	// packagesAtOnce is how many packages are read with one question.
	packagesAtOnce = 200
	// filesAtOnce is how many files are written to a tree side by side.
	filesAtOnce = 8
)

// tree is a plain tree that is being written to.
type tree struct {
	record.Target
	s       *Targets
	speaks  ecosystem.Plain
	space   webspace.Space
	through *http.Transport // all that goes to it over HTTP
	reading Reader

	done   []record.PlainPackage
	failed []error
	gone   []string // files that nothing names any more, when all is written
}

// ownFault is a failure that is a package's own, and not that of the place.
type ownFault struct{ error }

// Unwrap gives what went wrong.
func (f ownFault) Unwrap() error { return f.error }

// mostFailed is how many packages may have a fault of their own until it is taken for something else.
const mostFailed = 20

// packages writes what is new of packages.
func (t *tree) packages(ctx context.Context, some []record.PlainPackage) error {
	versions, err := t.s.DB.PlainVersions(ctx, t.Name, some)
	if err != nil {
		return err
	}
	held, err := t.s.DB.PlainFiles(ctx, t.Name, some)
	if err != nil {
		return err
	}
	if err := t.ahead(ctx, some, versions); err != nil {
		return err
	}
	for _, p := range some {
		key := [2]string{p.Namespace, p.Name}
		err := t.onePackage(ctx, p, versions[key], held[key])
		if err == nil {
			continue
		}
		err = fmt.Errorf("%s: %w", purl.PURL{Ecosystem: t.Ecosystem, Namespace: p.Namespace, Name: p.Name}, err)
		if own := (ownFault{}); !errors.As(err, &own) || len(t.failed) == mostFailed {
			return err
		}
		t.failed = append(t.failed, err) // the others are written
	}
	return nil
}

// ahead reads packages with few questions.
func (t *tree) ahead(
	ctx context.Context, some []record.PlainPackage, versions map[[2]string][]record.PlainVersion,
) error {
	keys := map[int64][]catalog.PackageKey{}
	for _, p := range some {
		seen := map[int64]bool{}
		for _, v := range versions[[2]string{p.Namespace, p.Name}] {
			if r, ok := t.s.directory.RepositoryByID(v.RepositoryID); ok && !seen[r.ID] {
				seen[r.ID] = true
				keys[r.ID] = append(keys[r.ID], r.Key(t.Ecosystem, p.Namespace, p.Name))
			}
		}
	}
	for _, of := range keys {
		if err := t.s.holdings.Ahead(ctx, of); err != nil {
			return err
		}
	}
	return nil
}

// onePackage writes what is new of a package.
func (t *tree) onePackage(
	ctx context.Context, is record.PlainPackage, versions []record.PlainVersion, held []record.PlainFile,
) error {
	p, err := t.packageOf(ctx, is, versions)
	if err != nil {
		return err
	}
	var leaves []ecosystem.Leaf
	now := record.PlainPackage{Namespace: is.Namespace, Name: is.Name, Asked: is.Asked}
	if len(p.Versions) > 0 {
		if leaves, now.Gives, err = t.speaks.Leaves(t.ReadAt, p); err != nil {
			return ownFault{err}
		}
		now.Held, now.Changed = true, &p.Changed
	}
	if err := t.bring(ctx, is, held, leaves); err != nil {
		return err
	}
	if now.Held != is.Held || !bytes.Equal(now.Gives, is.Gives) || now.Held && (is.Changed == nil ||
		!now.Changed.Equal(*is.Changed)) {
		if err := t.s.DB.Within(ctx, func(tx *record.Tx) error { return tx.NotePlainPackage(ctx, t.Name, now) }); err != nil {
			return err
		}
	}
	now.Gives = nil
	t.done = append(t.done, now)
	return nil
}

// packageOf is a package with those versions that belong in the tree, and are let in where they are. Of several
// repositories that have a version, the one counts from which it came first.
func (t *tree) packageOf(
	ctx context.Context, is record.PlainPackage, versions []record.PlainVersion,
) (*catalog.Package, error) {
	out := &catalog.Package{Labels: map[string]string{}}
	type upload struct{ version, upload string }
	from := map[upload]bool{}
	for _, repositoryID := range repositoriesOf(versions) {
		r, ok := t.s.directory.RepositoryByID(repositoryID)
		if !ok {
			continue // it was removed
		}
		key := r.Key(t.Ecosystem, is.Namespace, is.Name)
		there, err := t.s.holdings.Package(ctx, key)
		if errors.Is(err, ecosystem.ErrNoPackage) {
			continue
		}
		if err != nil {
			return nil, err
		}
		judge, err := t.s.safety.Judge(ctx, r, key)
		if err != nil {
			return nil, err
		}
		judge = judge.Among(there.Versions)
		if out.Key.Name == "" {
			out.ID, out.Key, out.Revision = there.ID, key, there.Revision
		}
		if there.Changed.After(out.Changed) {
			out.Changed = there.Changed
		}
		for i := range there.Versions {
			v := &there.Versions[i]
			id := upload{v.Version, v.Upload}
			if from[id] || !slices.ContainsFunc(versions, func(o record.PlainVersion) bool { return o.ID == v.ID }) ||
				judge.Of(v).Refused {
				continue
			}
			from[id] = true
			out.Versions = append(out.Versions, *v)
		}
		for label, version := range there.Labels {
			if _, taken := out.Labels[label]; !taken &&
				slices.ContainsFunc(out.Versions, func(v catalog.Version) bool { return v.Version == version }) {
				out.Labels[label] = version
			}
		}
	}
	return out, nil
}

// repositoriesOf are the repositories of versions, that of the first one first.
func repositoriesOf(versions []record.PlainVersion) (ids []int64) {
	for _, v := range versions {
		if !slices.Contains(ids, v.RepositoryID) {
			ids = append(ids, v.RepositoryID)
		}
	}
	return ids
}

// bring writes the leaves that are not there as they should be, and remembers what is to go.
func (t *tree) bring(
	ctx context.Context, of record.PlainPackage, held []record.PlainFile, leaves []ecosystem.Leaf,
) error {
	holds, wanted := make([]plain.File, len(held)), make([]plain.File, len(leaves))
	for i, f := range held {
		holds[i].Path = f.Path
		copy(holds[i].Sum[:], f.Sum)
	}
	for i, l := range leaves {
		if err := plain.Check(l.Path); err != nil {
			return ownFault{err}
		}
		wanted[i] = plain.File{Path: l.Path, Sum: l.Sum()}
	}
	steps := plain.Between(holds, wanted)
	if len(steps.Write) == 0 {
		t.gone = append(t.gone, steps.Remove...)
		return nil
	}
	var mu sync.Mutex
	var files []record.PlainFile
	var places []int
	one := func(ctx context.Context, i int) error {
		size, err := t.leaf(ctx, leaves[i])
		if err != nil {
			return fmt.Errorf("%s: %w", leaves[i].Path, err)
		}
		mu.Lock()
		defer mu.Unlock()
		files = append(files, record.PlainFile{Path: leaves[i].Path, Sum: wanted[i].Sum[:], Size: size, At: t.s.Now()})
		places = append(places, i)
		return nil
	}
	err := t.inOrder(ctx, steps.Write, func(i int) bool { return leaves[i].Names }, one)
	// What was written is known even if not all of it was.
	noting := context.WithoutCancel(ctx)
	noted := t.s.DB.Within(noting, func(tx *record.Tx) error {
		return tx.NotePlainFiles(noting, t.Name, of, files, places)
	})
	if err == nil {
		err = noted
	}
	if err == nil {
		t.gone = append(t.gone, steps.Remove...)
	}
	return err
}

// inOrder does steps, side by side but for those that come after all before them.
func (t *tree) inOrder(
	ctx context.Context, steps []int, after func(int) bool, do func(context.Context, int) error,
) error {
	for len(steps) > 0 {
		n := 1
		for n < len(steps) && !after(steps[n]) {
			n++
		}
		group, within := errgroup.WithContext(ctx)
		group.SetLimit(filesAtOnce)
		if after(steps[0]) {
			if err := do(ctx, steps[0]); err != nil {
				return err
			}
			steps, n = steps[1:], n-1
		}
		for _, i := range steps[:n] {
			group.Go(func() error { return do(within, i) })
		}
		if err := group.Wait(); err != nil {
			return err
		}
		steps = steps[n:]
	}
	return nil
}

// leaf writes one file, and tells how long it is.
func (t *tree) leaf(ctx context.Context, l ecosystem.Leaf) (size int64, err error) {
	if l.Document != nil {
		return int64(len(l.Document)), t.writeBytes(ctx, l.Path, l.ContentType, l.Document)
	}
	file, err := t.s.store.Open(ctx, l.File)
	if err != nil {
		return 0, ownFault{err}
	}
	defer file.Close()
	size = l.File.Digests.Size
	if l.Make != nil {
		made, err := l.Make(budget.Afresh(ctx, budget.Default), ecosystem.Sized(file, size))
		if err != nil {
			return 0, ownFault{err}
		}
		return int64(len(made)), t.writeBytes(ctx, l.Path, l.ContentType, made)
	}
	read := file
	if t.reading != nil {
		read = t.reading(file)
	}
	return size, t.space.Write(ctx, l.Path, read, size, l.ContentType)
}

func (t *tree) writeBytes(ctx context.Context, at, contentType string, content []byte) error {
	return t.space.Write(ctx, at, bytes.NewReader(content), int64(len(content)), contentType)
}

// roots writes documents about all packages.
func (t *tree) roots(ctx context.Context) error {
	all := record.PlainPackage{}
	held, err := t.s.DB.PlainFiles(ctx, t.Name, []record.PlainPackage{all})
	if err != nil {
		return err
	}
	known, err := t.s.DB.GivenPlain(ctx, t.Name)
	if err != nil {
		return err
	}
	given := make([]ecosystem.Given, len(known))
	for i, p := range known {
		given[i] = ecosystem.Given{Namespace: p.Namespace, Name: p.Name, Gives: p.Gives}
		if p.Changed != nil {
			given[i].Changed = *p.Changed
		}
	}
	leaves, err := t.speaks.Roots(t.ReadAt, given)
	if err != nil {
		return err
	}
	return t.bring(ctx, all, held[[2]string{}], leaves)
}

// removeAll takes away what nothing names any more.
func (t *tree) removeAll(ctx context.Context) error {
	for some := range slices.Chunk(t.gone, packagesAtOnce) {
		for _, at := range some {
			if err := t.space.Remove(ctx, at); err != nil {
				return fmt.Errorf("%s: %w", at, err)
			}
		}
		if err := t.s.DB.Within(ctx, func(tx *record.Tx) error {
			return tx.ForgetPlainFiles(ctx, t.Name, some)
		}); err != nil {
			return err
		}
	}
	return nil
}
