package directory

import (
	"encoding/json"
	"slices"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/chain"
	"crelvo/internal/core/purl"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
)

// A catalog.Sight is a view as text. It travels in a repository and in every key
// of a package, and so in the keys of everything that is remembered.

// view is the part of a repository that somebody may read. Patterns are texts.
type view struct {
	// Own is what of the repository itself is in sight.
	Own [][]string `json:"own,omitempty"`
	// Partly: not all of what stands behind a chain is in sight.
	Partly bool `json:"partly,omitempty"`
	// Members are then, by id, the repositories that are, and what of them.
	Members map[int64][][]string `json:"members,omitempty"`
}

// SightOf is what the caller may read of a repository; ok is false if nothing.
func (s *Directory) SightOf(caller access.Caller, r catalog.Repository) (sight catalog.Sight, ok bool) {
	own, ok := access.See(caller, r)
	if !ok {
		return "", false
	}
	v := view{Own: textsOf(own)}
	if r.Chain != nil && !r.Chain.OpenMembers {
		whole, members := true, map[int64][][]string{}
		for _, m := range s.Known().Behind[r.ID] {
			seen, ok := s.seeMember(caller, m)
			whole = whole && ok && len(seen) == 0
			if ok {
				members[m.ID] = textsOf(seen)
			}
		}
		if !whole {
			v.Partly, v.Members = true, members
		}
	}
	if v.Own == nil && !v.Partly {
		return "", true
	}
	// It has nothing that could not be written.
	raw, _ := json.Marshal(v)
	return catalog.Sight(raw), true
}

// seeMember tells what the caller may read of what is behind a chain: by itself,
// or through a chain within the chain whose members are open.
func (s *Directory) seeMember(caller access.Caller, m chain.Member) (access.Sight, bool) {
	seen, ok := access.See(caller, m.Repository)
	if ok && len(seen) == 0 {
		return nil, true
	}
	for _, name := range m.Via {
		via := s.Known().ByName[name]
		if via.Chain == nil || !via.Chain.OpenMembers {
			continue
		}
		if all, ok := access.See(caller, via); ok && len(all) == 0 {
			return nil, true
		}
	}
	return seen, ok
}

func textsOf(sight access.Sight) (texts [][]string) {
	for _, list := range sight {
		var line []string
		for _, p := range list {
			line = append(line, p.String())
		}
		slices.Sort(line)
		texts = append(texts, slices.Compact(line))
	}
	return texts
}

// seen is a view that was read.
type seen struct {
	own     access.Sight
	members map[int64]access.Sight
	partly  bool // not all members are seen whole
}

// seenOf reads a sight; what cannot be read shows nothing.
func (s *Directory) seenOf(sight catalog.Sight) seen {
	if known, ok := s.sights.Get(sight); ok {
		return known
	}
	var v view
	nothing := seen{own: access.Sight{nil}}
	if err := json.Unmarshal([]byte(sight), &v); err != nil {
		return nothing
	}
	patternsOf := func(lists [][]string) (read access.Sight) {
		for _, list := range lists {
			var line []purl.Pattern
			for _, text := range list {
				if p, err := purl.ParsePattern(text); err == nil {
					line = append(line, p)
				}
			}
			read = append(read, line)
		}
		return read
	}
	known := seen{own: patternsOf(v.Own), partly: v.Partly, members: map[int64]access.Sight{}}
	for id, lists := range v.Members {
		known.members[id] = patternsOf(lists)
	}
	s.sights.Add(sight, known)
	return known
}

// Shows tells whether a package of the repository of the key is in sight.
func (s *Directory) Shows(key catalog.PackageKey) bool {
	return key.Sight == "" || s.seenOf(key.Sight).own.Shows(act.PURLOf(key, ""))
}

// MembersFor are the members behind a repository that may answer for a package.
func (s *Directory) MembersFor(r catalog.Repository, key catalog.PackageKey) []chain.Member {
	members := s.MembersOf(r)
	if r.Sight == "" {
		return members
	}
	view, p := s.seenOf(r.Sight), act.PURLOf(key, "")
	switch {
	case !view.own.Shows(p):
		return nil
	case !view.partly:
		return members
	}
	return slices.DeleteFunc(slices.Clone(members), func(m chain.Member) bool { return !view.members[m.ID].Shows(p) })
}

// ScopeOf is what a list of the packages of repositories is made of: of each what
// is in its sight, of chains what stands behind them.
func (s *Directory) ScopeOf(repositories ...catalog.Repository) record.Scope {
	scope := record.Scope{Parts: map[int64]access.Sight{}}
	for _, r := range repositories {
		var view seen
		if r.Sight != "" {
			view = s.seenOf(r.Sight)
		}
		for _, m := range s.MembersOf(r) {
			part := slices.Concat(view.own, view.members[m.ID])
			if slices.Contains(scope.Repositories, m.ID) {
				// What is seen whole by one way is seen whole.
				if len(part) == 0 {
					delete(scope.Parts, m.ID)
				}
				continue
			}
			scope.Repositories = append(scope.Repositories, m.ID)
			if len(part) > 0 {
				scope.Parts[m.ID] = part
			}
		}
	}
	return scope
}

// Heard is what the caller may learn of a change; ok is false if nothing.
func (s *Directory) Heard(caller access.Caller, change record.Change) (_ record.Change, ok bool) {
	r, known := s.Known().ByName[change.Repository]
	sees, readable := access.See(caller, r)
	switch change.Kind {
	case record.OfAccess:
		return record.Change{Kind: change.Kind}, !caller.Anonymous()
	case record.OfRepository:
		// What was removed cannot be read any more, but may have been: that there is
		// a change is no secret, its name is.
		if !known || !readable {
			change = record.Change{Kind: change.Kind}
		}
		return change, true
	case record.OfBuild, record.OfPromotion, record.OfTrack, record.OfPolicy, record.OfSweep, record.OfPin,
		record.OfAdvisory, record.OfWaiver, record.OfVetting, record.OfFeed, record.OfKey, record.OfTransfer,
		record.OfRelay, record.OfTarget, record.OfBundle, record.OfFigure:
		// That something changed is no secret; what it was is asked for.
		return record.Change{Kind: change.Kind}, !caller.Anonymous()
	case record.OfPackage:
		return change, known && readable && sees.Shows(purl.PURL{Ecosystem: change.Ecosystem, Namespace: change.Namespace,
			Name: change.Name})
	}
	return change, known && readable
}
