package fileset

import (
	"errors"
	"io"
	"iter"
)

// Comparison is how one set differs from another.
type Comparison struct {
	Added, Changed, Removed, Same int // files, folders and links
	// New is how many bytes of the second are in none of the first's chunks.
	New  int64
	Some []Difference // the first ones, by path
}

// Difference is an entry that is not the same in two sets; a side is nil where it is not there.
type Difference struct {
	Path          string
	Before, After *Entry
}

// errStop ends reading.
var errStop = errors.New("enough was read")

// Entries goes through a manifest; an error comes with the last.
func Entries(r io.Reader) iter.Seq2[Entry, error] {
	return func(yield func(Entry, error) bool) {
		err := Read(r, func(Header) error { return nil }, func(e Entry) error {
			if !yield(e, nil) {
				return errStop
			}
			return nil
		})
		if err != nil && !errors.Is(err, errStop) {
			yield(Entry{}, err)
		}
	}
}

// Compare compares two manifests, and tells of so many differences what they are. The first is read twice.
func Compare(before, after func() (io.ReadCloser, error), most int) (c Comparison, err error) {
	known := map[Digest]bool{}
	first, err := before()
	if err != nil {
		return c, err
	}
	for e, err := range Entries(first) {
		if err != nil {
			return c, errors.Join(err, first.Close())
		}
		for _, chunk := range e.Made() {
			known[chunk.Digest] = true
		}
	}
	if err := first.Close(); err != nil {
		return c, err
	}
	if first, err = before(); err != nil {
		return c, err
	}
	defer first.Close()
	second, err := after()
	if err != nil {
		return c, err
	}
	defer second.Close()
	return c, c.merge(Entries(first), Entries(second), known, most)
}

// side is one of two sets that are gone through together.
type side struct {
	next func() (Entry, error, bool)
	Entry
	more bool
}

func (s *side) step() (err error) {
	s.Entry, err, s.more = s.next()
	return err
}

func (c *Comparison) merge(first, second iter.Seq2[Entry, error], known map[Digest]bool, most int) error {
	var a, b side
	var end func()
	a.next, end = iter.Pull2(first)
	defer end()
	b.next, end = iter.Pull2(second)
	defer end()
	err := errors.Join(a.step(), b.step())
	for err == nil && (a.more || b.more) {
		before, after := a.Entry, b.Entry
		d := Difference{}
		if a.more && (!b.more || before.Path <= after.Path) {
			d.Path, d.Before = before.Path, &before
			err = a.step()
		}
		if b.more && (d.Before == nil || after.Path == d.Path) {
			d.Path, d.After = after.Path, &after
			for _, chunk := range after.Made() {
				if !known[chunk.Digest] {
					known[chunk.Digest] = true
					c.New += int64(chunk.Length)
				}
			}
			err = errors.Join(err, b.step())
		}
		if !c.count(d) && len(c.Some) < most {
			c.Some = append(c.Some, d)
		}
	}
	return err
}

// count tells whether both sides are the same. When a file was changed last is no difference.
func (c *Comparison) count(d Difference) (same bool) {
	switch {
	case d.Before == nil:
		c.Added++
	case d.After == nil:
		c.Removed++
	case d.Before.Kind == d.After.Kind && d.Before.Digest == d.After.Digest && d.Before.Mode == d.After.Mode &&
		d.Before.Target == d.After.Target:
		c.Same++
		return true
	default:
		c.Changed++
	}
	return false
}
