package holdings

import (
	"context"
	"errors"
	"fmt"
	"time"
	"weak"

	"crelvo/internal/core/catalog"
	"crelvo/internal/ecosystem"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
)

// weightOf is about what a package takes in memory, in bytes.
func weightOf(known act.Aged[record.Known]) int64 {
	p := known.Value.Package
	if p == nil {
		return 0
	}
	weight := int64(500)
	for i := range p.Versions {
		v := &p.Versions[i]
		weight += 500 + 450*int64(len(v.Files)) + WeightOfDetails(&v.Details)
	}
	return weight
}

// WeightOfDetails is about what the details of a version take in memory, in bytes.
func WeightOfDetails(d *catalog.Details) int64 {
	weight := 300 + 150*int64(len(d.Dependencies)) + int64(len(d.Description))
	if len(d.Native) > 0 {
		weight += 400
	}
	for _, raw := range d.Native {
		weight += int64(cap(raw))
	}
	return weight
}

// renderedKey names a document among those that were made.
type renderedKey struct {
	key   catalog.PackageKey
	which string
}

// rendered is a document and the value that it was made of, which it does not keep alive.
type rendered struct {
	of       weak.Pointer[catalog.Package]
	document ecosystem.Document
}

// Rendered implements ecosystem.Desk.
func (s *Holdings) Rendered(
	p *catalog.Package, which string, render func(before ecosystem.Document) (ecosystem.Document, error),
) (ecosystem.Document, error) {
	key := renderedKey{p.Key, which}
	of := weak.Make(p)
	if known, ok := s.rendered.Get(key); ok && known.of == of {
		return known.document, nil
	}
	made, err, _ := s.rendering.Do(fmt.Sprintf("%p %s", p, which), func() (any, error) {
		known, _ := s.rendered.Get(key)
		if known.of == of {
			return known.document, nil
		}
		d, err := render(known.document)
		if err != nil {
			return ecosystem.Document{}, err
		}
		s.rendered.Add(key, rendered{of, d})
		return d, nil
	})
	if err != nil {
		return ecosystem.Document{}, err
	}
	return made.(ecosystem.Document), nil
}

// Remembered gives a package from memory, or puts it together with find, which
// also tells until when it holds if nothing changes.
func (s *Holdings) Remembered(
	key catalog.PackageKey, find func() (*catalog.Package, time.Time, error),
) (*catalog.Package, time.Time, error) {
	age := s.Age(key)
	known, ok := s.composed.Get(key)
	if ok && known.Generation == age && s.Now().Before(known.Until) {
		return known.Value.Package, known.Until, nil
	}
	p, until, err := find()
	if err == nil {
		s.composed.Add(key, act.Aged[record.Known]{Value: record.Known{Package: p}, Generation: age, Until: until})
	}
	return p, until, err
}

// Package is what is kept of a package in a house or mirror repository.
// What was read of it before is brought up to date.
func (s *Holdings) Package(ctx context.Context, key catalog.PackageKey) (*catalog.Package, error) {
	age := s.Age(key)
	known, ok := s.packages.Get(key)
	if ok && known.Generation == age {
		return known.Value.Package, nil
	}
	// However many ask at once, it is read once.
	reading := s.reading.DoChan(fmt.Sprintf("%v %d", key, age), func() (any, error) {
		return s.read(context.WithoutCancel(ctx), key, age, known.Value)
	})
	select {
	case <-ctx.Done():
		return nil, ctx.Err()
	case read := <-reading:
		p, _ := read.Val.(*catalog.Package)
		return p, read.Err
	}
}

// read reads a package, or brings what was known of it up to date, and remembers it.
func (s *Holdings) read(
	ctx context.Context, key catalog.PackageKey, age uint64, known record.Known,
) (*catalog.Package, error) {
	now, err := s.DB.Package(ctx, key, known)
	if errors.Is(err, record.ErrNotFound) {
		return nil, ecosystem.ErrNoPackage
	}
	if err != nil {
		return nil, err
	}
	// Most of what raises a generation is about another repository.
	if was := known.Package; was != nil && was.Revision == now.Package.Revision && was.ID == now.Package.ID {
		now.Package = was
	}
	s.packages.Add(key, act.Aged[record.Known]{Value: now, Generation: age})
	return now.Package, nil
}

func (s *Holdings) Purge() {
	s.packages.Purge()
	s.composed.Purge()
}
