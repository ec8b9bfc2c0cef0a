package record

import (
	"bytes"
	"encoding/json"
	"hash/maphash"
	"slices"

	"crelvo/internal/core/catalog"
)

// sharing has the versions of a package share what they say alike: most of them need the
// same as the one before, by the same licence, and there may be 50,000 of them. The zero
// value is of use.
type sharing struct {
	seed  maphash.Seed
	texts map[string]string
	raws  map[uint64]json.RawMessage
	needs map[uint64][]catalog.Dependency
	// last is what was read last, and what it says.
	last    []byte
	details catalog.Details
}

// read reads what is on record of a version's details. They must not be changed.
func (s *sharing) read(raw []byte) (catalog.Details, error) {
	if s.last != nil && bytes.Equal(raw, s.last) {
		return s.details, nil
	}
	var d catalog.Details
	if err := json.Unmarshal(raw, &d); err != nil {
		return d, err
	}
	s.share(&d)
	s.last, s.details = raw, d
	return d, nil
}

// share takes for what the details say what was seen before, where that is the same.
func (s *sharing) share(d *catalog.Details) {
	if s.texts == nil {
		s.seed, s.texts = maphash.MakeSeed(), map[string]string{}
		s.raws, s.needs = map[uint64]json.RawMessage{}, map[uint64][]catalog.Dependency{}
	}
	for _, text := range []*string{&d.Title, &d.Description, &d.Homepage, &d.Source, &d.Packaging, &d.Parent,
		&d.PluginPrefix} {
		*text = s.text(*text)
	}
	for i := range d.Licences {
		d.Licences[i].Name, d.Licences[i].URL = s.text(d.Licences[i].Name), s.text(d.Licences[i].URL)
	}
	for i, author := range d.Authors {
		d.Authors[i] = s.text(author)
	}
	d.Dependencies = s.needed(d.Dependencies)
	for name, raw := range d.Native {
		sum := maphash.Bytes(s.seed, raw)
		if known, ok := s.raws[sum]; ok && bytes.Equal(known, raw) {
			raw = known
		} else {
			s.raws[sum] = raw
		}
		d.Native[name] = raw
	}
}

func (s *sharing) text(t string) string {
	if known, ok := s.texts[t]; ok {
		return known
	}
	s.texts[t] = t
	return t
}

func (s *sharing) needed(list []catalog.Dependency) []catalog.Dependency {
	if len(list) == 0 {
		return list
	}
	var h maphash.Hash
	h.SetSeed(s.seed)
	for _, d := range list {
		maphash.WriteComparable(&h, d)
	}
	if known, ok := s.needs[h.Sum64()]; ok && slices.Equal(known, list) {
		return known
	}
	list = slices.Clip(list)
	for i := range list {
		d := &list[i]
		d.PURL, d.Version, d.Scope = s.text(d.PURL), s.text(d.Version), s.text(d.Scope)
	}
	s.needs[h.Sum64()] = list
	return list
}
