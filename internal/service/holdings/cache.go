package holdings

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"
	"unsafe"
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
	w := Weigher{Weight: 420 * int64(max(len(p.Versions), known.Value.Room()))}
	for i := range p.Versions {
		v := &p.Versions[i]
		w.Weight += 380 * int64(len(v.Files))
		w.Details(&v.Details)
	}
	return 500 + w.Weight
}

// Weigher sums up about what things take in memory, in bytes; what several of them share
// counts once.
type Weigher struct {
	Weight int64
	// Alone is of what shares nothing, which is found out faster.
	Alone bool
	seen  map[unsafe.Pointer]struct{}
}

// Details adds the details of a version.
func (w *Weigher) Details(d *catalog.Details) {
	w.text(d.Description)
	if len(d.Dependencies) > 0 && w.isNew(unsafe.Pointer(&d.Dependencies[0])) {
		w.Weight += 56 * int64(cap(d.Dependencies))
		for i := range d.Dependencies {
			w.text(d.Dependencies[i].PURL)
			w.text(d.Dependencies[i].Version)
		}
	}
	if len(d.Licences) > 0 && w.isNew(unsafe.Pointer(&d.Licences[0])) {
		w.Weight += 32 * int64(cap(d.Licences))
	}
	if len(d.Native) > 0 {
		w.Weight += 400
	}
	for _, raw := range d.Native {
		if len(raw) > 0 && w.isNew(unsafe.Pointer(&raw[0])) {
			w.Weight += int64(cap(raw))
		}
	}
}

func (w *Weigher) text(t string) {
	if t != "" && w.isNew(unsafe.Pointer(unsafe.StringData(t))) {
		w.Weight += int64(len(t))
	}
}

// isNew tells whether something at an address was not seen before.
func (w *Weigher) isNew(at unsafe.Pointer) bool {
	if w.Alone {
		return true
	}
	if _, ok := w.seen[at]; ok {
		return false
	}
	if w.seen == nil {
		w.seen = map[unsafe.Pointer]struct{}{}
	}
	w.seen[at] = struct{}{}
	return true
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
	return s.remember(key, age, known, now), nil
}

// ahead is how many packages are read by one question.
const ahead = 500

// Ahead reads what is not remembered of packages of one ecosystem in one repository, many
// by one question: they will be asked for one after the other.
func (s *Holdings) Ahead(ctx context.Context, keys []catalog.PackageKey) error {
	_, err := s.Several(ctx, keys)
	return err
}

// Several are those of some packages of one ecosystem in one repository that are there, many of which are read by one
// question.
func (s *Holdings) Several(
	ctx context.Context, keys []catalog.PackageKey,
) (map[catalog.PackageKey]*catalog.Package, error) {
	there := map[catalog.PackageKey]*catalog.Package{}
	var lacking []catalog.PackageKey
	ages := map[catalog.PackageKey]uint64{}
	for _, key := range keys {
		age := s.Age(key)
		if known, ok := s.packages.Get(key); ok && known.Generation == age {
			there[key] = known.Value.Package
		} else {
			lacking, ages[key] = append(lacking, key), age
		}
	}
	for some := range slices.Chunk(lacking, ahead) {
		read, err := s.DB.Packages(ctx, some)
		if err != nil {
			return nil, err
		}
		for key, now := range read {
			known, _ := s.packages.Get(key)
			there[key] = s.remember(key, ages[key], known.Value, now)
		}
	}
	return there, nil
}

// remember keeps what was read of a package, and gives it. What is as it was stays the very
// value, of which documents were made.
func (s *Holdings) remember(key catalog.PackageKey, age uint64, known, now record.Known) *catalog.Package {
	if was := known.Package; was != nil && was.Revision == now.Package.Revision && was.ID == now.Package.ID {
		now.Package = was
	}
	s.packages.Add(key, act.Aged[record.Known]{Value: now, Generation: age})
	return now.Package
}

func (s *Holdings) Purge() {
	s.packages.Purge()
	s.composed.Purge()
}
