package retention

import (
	"slices"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/purl"
)

// Rescue finds what stays because of what else stays: what something kept needs,
// and what a build used of which something is kept. It is told what a first
// judgement said, and then of needs and uses, until nothing new is rescued.
type Rescue struct {
	names map[string][]*holder // by package URL without a version
	swept map[int64]*holder
	// uses are the swept versions that a build used, by build; kept the builds of
	// which something is.
	uses map[int64][]int64
	made map[int64]string
	kept map[int64]bool

	// programs are, by the version that they are in, those whose symbols are elsewhere.
	programs map[int64][]program

	needed, used, symbols map[int64]string
	fresh                 []int64
}

// program is a program whose symbols are in other versions.
type program struct {
	in      string // the name of its version
	symbols []int64
}

type holder struct {
	id, build int64
	version   string
	stays     bool
	elsewhere bool
}

// NewRescue gives an empty one.
func NewRescue() *Rescue {
	return &Rescue{names: map[string][]*holder{}, swept: map[int64]*holder{}, uses: map[int64][]int64{},
		made: map[int64]string{},
		kept: map[int64]bool{}, needed: map[int64]string{}, used: map[int64]string{},
		programs: map[int64][]program{}, symbols: map[int64]string{}}
}

// Judged tells what a first judgement said of a package, the highest version
// first.
func (r *Rescue) Judged(p *Package, verdicts []Verdict) {
	some := slices.ContainsFunc(verdicts, func(v Verdict) bool { return v.Fate == Swept })
	name := p.Key.String()
	for i, v := range p.Versions {
		stays := verdicts[i].Fate != Swept
		if stays && v.BuildID != 0 {
			r.kept[v.BuildID] = true
		}
		h := &holder{id: v.ID, build: v.BuildID, version: v.Version, stays: stays}
		if !stays {
			r.swept[v.ID] = h
		}
		if some {
			r.names[name] = append(r.names[name], h)
		}
	}
}

// Names are the packages of which something would go.
func (r *Rescue) Names() []string {
	names := make([]string, 0, len(r.names))
	for name := range r.names {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

// Swept are the versions that would go, by their ids.
func (r *Rescue) Swept() []int64 {
	ids := make([]int64, 0, len(r.swept))
	for id, h := range r.swept {
		if !h.stays {
			ids = append(ids, id)
		}
	}
	slices.Sort(ids)
	return ids
}

// Elsewhere tells of a version of a package that stays, in a repository that was
// not judged.
func (r *Rescue) Elsewhere(name, version string) {
	r.names[name] = append(r.names[name], &holder{version: version, stays: true, elsewhere: true})
}

// Kept tells of a build of which something stays.
func (r *Rescue) Kept(build int64) {
	if r.kept[build] {
		return
	}
	r.kept[build] = true
	r.usedBy(build)
}

// Uses tells that a build used a version that would go. title is the build's.
func (r *Rescue) Uses(build int64, title string, version int64) {
	r.uses[build], r.made[build] = append(r.uses[build], version), title
	if r.kept[build] {
		r.usedBy(build)
	}
}

func (r *Rescue) usedBy(build int64) {
	for _, id := range r.uses[build] {
		if h := r.swept[id]; h != nil && !h.stays {
			r.used[id] = r.made[build]
			r.stay(h)
		}
	}
}

func (r *Rescue) stay(h *holder) {
	h.stays = true
	r.fresh = append(r.fresh, h.id)
	if h.build != 0 {
		r.Kept(h.build)
	}
	for _, p := range r.programs[h.id] {
		r.explain(p)
	}
}

// Program tells of a program in a version, which is called title, that other versions have the symbols of, the one
// that was published last at the end. Some of these would go.
func (r *Rescue) Program(version int64, title string, symbols []int64) {
	p := program{title, symbols}
	if h := r.swept[version]; h == nil || h.stays {
		r.explain(p)
		return
	}
	r.programs[version] = append(r.programs[version], p)
}

// explain has the symbols of a program stay, if they would not stay anywhere.
func (r *Rescue) explain(p program) {
	for _, id := range p.symbols {
		if h := r.swept[id]; h == nil || h.stays {
			return
		}
	}
	last := r.swept[p.symbols[len(p.symbols)-1]]
	r.symbols[last.id] = p.in
	r.stay(last)
}

// Needs tells what a version that stays needs; by is its name. The version stays
// that a client would be given for it.
func (r *Rescue) Needs(by string, needs []catalog.Dependency) {
	for _, need := range needs {
		all := r.names[need.PURL]
		if len(all) == 0 {
			continue
		}
		of, err := purl.Parse(need.PURL)
		if err != nil {
			continue
		}
		// Which one that is must not depend on what else stays: else a further
		// reason for one version could let another go.
		var best *holder
		for _, h := range all {
			if fits, known := purl.Fits(of.Ecosystem, need.Version, h.version); known && !fits {
				continue
			}
			if best == nil || better(of.Ecosystem, h, best) {
				best = h
			}
		}
		if best != nil && !best.stays {
			r.needed[best.id] = by
			r.stay(best)
		}
	}
}

// better tells whether a client takes a rather than b, of those that fit: of some
// ecosystems the lowest version, of the others the highest.
func better(ecosystem string, a, b *holder) bool {
	order := purl.Compare(ecosystem, a.version, b.version)
	if order == 0 {
		return a.elsewhere && !b.elsewhere
	}
	return (order > 0) != purl.TakesLowest(ecosystem)
}

// Fresh gives the versions that were rescued since it was asked last: what they
// need is needed too.
func (r *Rescue) Fresh() []int64 {
	fresh := r.fresh
	r.fresh = nil
	return fresh
}

// Mark writes into a version what rescues it.
func (r *Rescue) Mark(v *Version) {
	v.UsedIn, v.NeededBy, v.SymbolsOf = r.used[v.ID], r.needed[v.ID], r.symbols[v.ID]
}
