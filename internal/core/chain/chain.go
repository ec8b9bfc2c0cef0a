// Package chain decides which repository of a chain answers for a package, and
// says why the others do not. It is pure: what members know is asked through a
// function.
package chain

import (
	"fmt"
	"slices"
	"strings"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/purl"
)

// Member is a house or mirror repository behind a chain.
type Member struct {
	catalog.Repository
	MaySkip bool
	Via     []string // the chains between, from the outside in
}

// Flatten gives the house and mirror repositories behind a chain in their
// order; chains among the members are replaced by what is behind them. What
// stands there twice counts at its first place.
func Flatten(of catalog.Repository, byID func(int64) (catalog.Repository, bool)) []Member {
	var members []Member
	seen := map[int64]bool{of.ID: true}
	var add func(r catalog.Repository, maySkip bool, via []string)
	add = func(r catalog.Repository, maySkip bool, via []string) {
		for _, m := range r.Chain.Members {
			inner, ok := byID(m.RepositoryID)
			if !ok || seen[inner.ID] {
				continue
			}
			seen[inner.ID] = true
			if inner.Gathers() {
				add(inner, maySkip || m.MaySkip, append(slices.Clip(via), inner.Name))
				continue
			}
			members = append(members, Member{Repository: inner, MaySkip: maySkip || m.MaySkip, Via: via})
		}
	}
	if of.Chain != nil {
		add(of, false, nil)
	}
	return members
}

// Circle finds a way from a chain back to itself, and names the chains on it,
// the first one again at the end; nil if there is none.
func Circle(of catalog.Repository, byID func(int64) (catalog.Repository, bool)) []string {
	visited := map[int64]bool{}
	var find func(r catalog.Repository, way []string) []string
	find = func(r catalog.Repository, way []string) []string {
		if r.Chain == nil {
			return nil
		}
		for _, m := range r.Chain.Members {
			if m.RepositoryID == of.ID {
				return append(way, of.Name)
			}
			inner, ok := byID(m.RepositoryID)
			if !ok || visited[inner.ID] {
				continue
			}
			visited[inner.ID] = true
			if found := find(inner, append(slices.Clip(way), inner.Name)); found != nil {
				return found
			}
		}
		return nil
	}
	return find(of, []string{of.Name})
}

// Said is what a member says of a package or version.
type Said string

// What members say.
const (
	HasIt    Said = "has it"
	Stale    Said = "stale" // has it, as it was before its upstream failed
	HasNot   Said = "not here"
	Failed   Said = "failed"
	Denied   Said = "denied by pattern"
	Claimed  Said = "claimed elsewhere"
	Foreign  Said = "other ecosystem"
	Unfit    Said = "other maturity"
	KeptOut  Said = "kept out" // has it, and does not let it in
	NotAsked Said = "not asked"
)

// Finding is what a member that was asked found.
type Finding struct {
	Said Said // HasIt, Stale, HasNot, KeptOut or Failed
	Why  string
	Err  error // with Failed and KeptOut
}

// Step is one member's part in an explanation.
type Step struct {
	Member
	Finding
	Answers bool
	// Skipped: it failed, and the chain says that it may.
	Skipped bool
}

// Question is what a chain is asked: a package, or one version of it.
type Question struct {
	PURL purl.PURL
	// Snapshot tells the maturity of the version.
	Snapshot bool
	// Ours tells why the name is ours, so that mirrors do not answer for it; ""
	// if it is not.
	Ours string
	// All: every member is asked, though the answer may be known before.
	All bool
}

// Answer is the outcome. Who answers stands in the steps.
type Answer struct {
	Steps []Step
	// Failed is the step that makes an answer impossible, since its member may
	// have what was asked for; -1 if there is none.
	Failed int
}

// Answering lists the members that answer, in the order in which their word
// counts.
func (a Answer) Answering() (members []Step) {
	for _, s := range a.Steps {
		if s.Answers {
			members = append(members, s)
		}
	}
	return members
}

// KeptOut is why nobody answers with what was asked for, if a member has it and does not let
// it in; else nil.
func (a Answer) KeptOut() error {
	for _, s := range a.Steps {
		if s.Said == KeptOut {
			return s.Err
		}
	}
	return nil
}

// Resolve finds who answers. For a package, everybody who has it does. A
// release comes whole from the first member that has it. For a snapshot, all
// house members that have it answer together; only if none has, the first
// mirror does. ask is called at most once for each member, with its place in
// members.
func Resolve(members []Member, q Question, ask func(i int) Finding) Answer {
	a := Answer{Steps: make([]Step, len(members)), Failed: -1}
	for i, m := range members {
		a.Steps[i] = Step{Member: m, Finding: Finding{Said: NotAsked}}
	}
	found := false
	for _, i := range order(members, q) {
		m, step := members[i], &a.Steps[i]
		// Its word counts beside that of others.
		together := q.PURL.Version == "" || q.Snapshot && m.Own()
		if !q.All && !together && (found || a.Failed >= 0) {
			continue
		}
		if step.Finding = Excuse(m, q); step.Said == "" {
			step.Finding = ask(i)
		}
		switch {
		case step.Said == HasIt || step.Said == Stale:
			step.Answers = a.Failed < 0 && (!found || together)
			found = found || step.Answers
		case step.Said == KeptOut && q.PURL.Version != "":
			found = found || !q.Snapshot // nobody else answers for it
		case step.Said == Failed && m.MaySkip:
			step.Skipped = true
		case step.Said == Failed && a.Failed < 0 && (!found || together):
			a.Failed = i
		}
	}
	if a.Failed >= 0 {
		for i := range a.Steps {
			a.Steps[i].Answers = false
		}
	}
	return a
}

// order is in which order the members are asked: as they stand, but for a
// snapshot the houses first.
func order(members []Member, q Question) []int {
	all := make([]int, len(members))
	for i := range all {
		all[i] = i
	}
	if q.Snapshot {
		slices.SortStableFunc(all, func(a, b int) int {
			switch first := members[a].Own(); {
			case first == members[b].Own():
				return 0
			case first:
				return -1
			}
			return 1
		})
	}
	return all
}

// Excuse tells why a member need not be asked; Said is "" if it must be.
func Excuse(m Member, q Question) Finding {
	if !m.Fetches() {
		return Finding{}
	}
	if m.Ecosystem != q.PURL.Ecosystem {
		return Finding{Said: Foreign, Why: "it mirrors " + m.Ecosystem}
	}
	if q.Ours != "" {
		return Finding{Said: Claimed, Why: "the name is ours"}
	}
	if v := Admits(m.Mirror, q.PURL); !v.Allowed {
		return Finding{Said: Denied, Why: v.Why}
	}
	if q.PURL.Version != "" && !m.Holds.Takes(q.Snapshot) {
		return Finding{Said: Unfit, Why: fmt.Sprintf("it holds %s", m.Holds)}
	}
	return Finding{}
}

// Admission is whether a mirror lets something in.
type Admission struct {
	Allowed bool
	// ByDeny: a pattern of what is denied fits, as against no pattern of what is
	// allowed.
	ByDeny bool
	Why    string
}

// Filter is the patterns of a mirror, read.
type Filter struct {
	allow, deny []purl.Pattern
	allowed     []string // as it was written
}

// NewFilter reads the patterns of a mirror. Those that cannot be read, which are
// not saved, fit nothing.
func NewFilter(m *catalog.MirrorSettings) Filter {
	read := func(texts []string) (patterns []purl.Pattern) {
		for _, text := range texts {
			if p, err := purl.ParsePattern(text); err == nil {
				patterns = append(patterns, p)
			}
		}
		return patterns
	}
	return Filter{allow: read(m.Allow), deny: read(m.Deny), allowed: m.Allow}
}

// Admits tells whether the patterns let a package or version in. Without a
// version, a package is let in if some version of it could be.
func (f Filter) Admits(p purl.PURL) Admission {
	for _, pattern := range f.deny {
		if p.Version != "" && pattern.Match(p) || p.Version == "" && pattern.Whole() && pattern.MatchName(p) {
			return Admission{ByDeny: true, Why: "denied by " + pattern.String()}
		}
	}
	if len(f.allowed) == 0 {
		return Admission{Allowed: true, Why: "no pattern denies it"}
	}
	for _, pattern := range f.allow {
		if p.Version != "" && pattern.Match(p) || p.Version == "" && pattern.MatchName(p) {
			return Admission{Allowed: true, Why: "allowed by " + pattern.String()}
		}
	}
	return Admission{Why: "not among what is allowed: " + strings.Join(f.allowed, ", ")}
}

// Admits is NewFilter(m).Admits(p), for a single question.
func Admits(m *catalog.MirrorSettings, p purl.PURL) Admission { return NewFilter(m).Admits(p) }
