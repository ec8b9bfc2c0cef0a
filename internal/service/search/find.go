package search

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/bundle"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/core/query"
	"crelvo/internal/ecosystem"
	"crelvo/internal/ecosystem/kinds"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
)

// Match is a package in a search's answer.
type Match struct {
	record.Summary
	Repository catalog.Repository
}

// PURL names the package.
func (f Match) PURL() purl.PURL {
	return purl.PURL{Ecosystem: f.Ecosystem, Namespace: f.Namespace, Name: f.Name}
}

// Search finds packages by a query in what the caller may read. repository may
// be "" for all.
func (s *Search) Search(
	ctx context.Context, caller access.Caller, text, repository string, limit, skip int,
) ([]Match, error) {
	q, err := s.parseQuery(ctx, caller, text)
	if err != nil {
		return nil, err
	}
	readable := s.directory.Readable(caller)
	if repository != "" {
		r, err := s.directory.Repository(caller, repository, access.Read)
		if err != nil {
			return nil, err
		}
		readable = []catalog.Repository{r}
	}
	// Behind a chain are others, which its reader may see through it.
	scope := s.directory.ScopeOf(slices.DeleteFunc(readable, func(r catalog.Repository) bool {
		return r.Gathers() && repository == ""
	})...)
	d := s.directory.Known()
	scope.Repositories = slices.DeleteFunc(scope.Repositories, func(id int64) bool {
		return !fitsRepo(q, d.ByID[id].Name)
	})
	limited, cancel := context.WithTimeout(record.Patiently(ctx), searchLimit)
	defer cancel()
	rows, err := s.DB.Search(limited, scope, q, s.Now(), limit, skip)
	if err != nil && limited.Err() != nil && ctx.Err() == nil {
		return nil, fault.New(fault.Unavailable, "search-too-long", "this search takes longer than %s", searchLimit).
			WithHint("Add a word or a repository, so that fewer versions have to be looked at.")
	}
	var labelled []*record.Summary
	for i := range rows {
		if purl.ByTime(rows[i].Ecosystem) {
			labelled = append(labelled, &rows[i])
		}
	}
	if err == nil {
		err = s.DB.NewestLabels(ctx, labelled)
	}
	found := make([]Match, len(rows))
	for i, row := range rows {
		found[i] = Match{row, d.ByID[row.RepositoryID]}
	}
	return found, err
}

// searchLimit is how long a search may take.
const searchLimit = 10 * time.Second

// fitsRepo tells whether a repository's name fits the conditions repo.
func fitsRepo(q query.Query, name string) bool {
	for _, c := range q.Conditions {
		if ok, err := path.Match(c.Text, name); c.Key == "repo" && (err == nil && ok) == c.Not {
			return false
		}
	}
	return true
}

// maxSaved bounds how deep saved searches may name each other.
const maxSaved = 5

// parseQuery reads a query, with what its saved searches ask for. An @name that
// is no saved search is a word, as scopes are.
func (s *Search) parseQuery(ctx context.Context, caller access.Caller, text string) (query.Query, error) {
	q, err := query.Parse(text)
	if err != nil || len(q.Saved) == 0 {
		return q, err
	}
	saved, err := s.DB.SavedSearches(ctx, caller.ID)
	if err != nil || caller.Anonymous() {
		saved = nil
	}
	for depth := 0; len(q.Saved) > 0; depth++ {
		if depth == maxSaved {
			return q, act.Invalid("circle", "the saved searches name each other more than %d deep", maxSaved)
		}
		names := q.Saved
		q.Saved = nil
		for _, name := range names {
			i := slices.IndexFunc(saved, func(s record.SavedSearch) bool { return s.Name == name })
			if i < 0 {
				q.Words = append(q.Words, "@"+name)
				continue
			}
			inner, err := query.Parse(saved[i].Query)
			if err != nil {
				return q, fmt.Errorf("the saved search @%s: %w", name, err)
			}
			q = q.Join(inner)
			q.Saved = append(q.Saved, inner.Saved...)
		}
	}
	return q, err
}

// Completions proposes how a query could go on.
func (s *Search) Completions(ctx context.Context, caller access.Caller, text string) ([]query.Completion, error) {
	saved, err := s.SavedSearches(ctx, caller)
	return query.Complete(text, func(key string) (values []string) {
		switch key {
		case "repo":
			for _, r := range s.directory.Readable(caller) {
				values = append(values, r.Name)
			}
		case "ecosystem":
			for _, e := range kinds.All() {
				values = append(values, e.Name())
			}
		case "@":
			for _, one := range saved {
				values = append(values, one.Name)
			}
		}
		return slices.Compact(values)
	}), err
}

// SavedSearches lists what the caller saved, and what others share.
func (s *Search) SavedSearches(ctx context.Context, caller access.Caller) ([]record.SavedSearch, error) {
	if caller.Anonymous() {
		return nil, nil
	}
	return s.DB.SavedSearches(ctx, caller.ID)
}

// SaveSearch keeps a query of the caller under a name.
func (s *Search) SaveSearch(ctx context.Context, caller access.Caller, name, text string, shared bool) error {
	if err := s.directory.Allow(caller, access.SignedIn, act.Everything); err != nil {
		return err
	}
	if err := act.CheckName("saved search", name); err != nil {
		return err
	}
	if _, err := s.parseQuery(ctx, caller, text); err != nil {
		return err
	}
	return s.DB.Within(ctx, func(tx *record.Tx) error {
		if err := tx.SaveSearch(ctx, record.SavedSearch{OwnerID: caller.ID, Name: name, Query: text, Shared: shared,
			At: s.Now()}); err != nil {
			return err
		}
		event := s.Event(caller, record.EventSearchSaved)
		event.Subject, event.Detail = "@"+name, map[string]string{"query": text}
		return tx.Append(ctx, event)
	})
}

// ForgetSearch drops a saved search of the caller.
func (s *Search) ForgetSearch(ctx context.Context, caller access.Caller, name string) error {
	if err := s.directory.Allow(caller, access.SignedIn, act.Everything); err != nil {
		return err
	}
	return s.DB.Within(ctx, func(tx *record.Tx) error {
		done, err := tx.ForgetSearch(ctx, caller.ID, name)
		if err == nil && !done {
			return fault.New(fault.NotFound, "no-such-search", "%s has no saved search %q", caller.Name, name).
				WithHint("Only who saved a search can drop it.")
		}
		if err != nil {
			return err
		}
		event := s.Event(caller, record.EventSavedSearchDropped)
		event.Subject = "@" + name
		return tx.Append(ctx, event)
	})
}

// Holding is a package in one repository.
type Holding struct {
	Repository catalog.Repository
	Package    *catalog.Package
	// Whole are the bytes of versions with those of what they are made of, where an ecosystem
	// has such, by version; each file counts once.
	Whole      map[string]int64
	Uses       map[int64]record.Use // by version id
	Builds     map[int64]string     // titles, by the builds' ids
	Promotions map[int64][]int64    // that versions were part of, by version id
	Origins    map[int64]bundle.Origin
}

// Show gives a package, or one version of it, in every repository that has it
// and that the caller may read. Versions are ordered the newest first, uploads
// of a snapshot too. What is behind a chain, and what the upstream of a mirror
// lists, is shown only if the repository is named. Of a package with many
// versions it is a page; a version is on one page with all its uploads, in
// whichever repositories.
func (s *Search) Show(
	ctx context.Context, caller access.Caller, p purl.PURL, repository string, page VersionPage,
) ([]Holding, Paged, error) {
	holdings, paged, err := s.HoldingsOf(ctx, caller, p, repository, page)
	for i := range holdings {
		h := &holdings[i]
		ids := make([]int64, len(h.Package.Versions))
		for j, v := range h.Package.Versions {
			ids[j] = v.ID
		}
		if h.Uses, err = s.DB.Uses(ctx, ids); err != nil {
			return nil, paged, err
		}
		if h.Promotions, err = s.DB.PromotionsOf(ctx, ids); err != nil {
			return nil, paged, err
		}
		if h.Origins, err = s.DB.OriginsOf(ctx, ids); err != nil {
			return nil, paged, err
		}
		if h.Builds, err = s.builds.Titles(ctx, h.Package.Versions); err != nil {
			return nil, paged, err
		}
	}
	return holdings, paged, err
}

// VersionPage selects versions of a package: so many, from the one on that comes
// after a version in the order of the list. The zero VersionPage is all.
type VersionPage struct {
	After string
	Limit int
}

// Paged tells where a page stands.
type Paged struct {
	Total int    // versions, on all pages
	Next  string // the version to go on after; "" if this was the last page
}

// choose finds which versions are on the page, of those that fit; nil if all of them are.
// It looks at each once, however many there are, and puts only those of the page into
// their order.
func (page VersionPage) choose(
	ecosystemName string, holdings []Holding, fits func(*catalog.Version) bool,
) (on map[string]bool, paged Paged) {
	came := map[string]time.Time{}
	if purl.ByTime(ecosystemName) {
		for _, h := range holdings {
			for _, v := range h.Package.Versions {
				if v.PublishedAt.After(came[v.Version]) {
					came[v.Version] = v.PublishedAt
				}
			}
		}
	}
	order := func(a, b string) int {
		if c := purl.Compare(ecosystemName, b, a); c != 0 {
			return c
		}
		return cmp.Or(came[b].Compare(came[a]), strings.Compare(b, a))
	}
	seen := make(map[string]bool, len(holdings[0].Package.Versions))
	var names []string // of the page
	more := false
	for _, h := range holdings {
		for i := len(h.Package.Versions) - 1; i >= 0; i-- { // the newest stand at the end, mostly
			name := h.Package.Versions[i].Version
			if !fits(&h.Package.Versions[i]) || seen[name] {
				continue
			}
			seen[name] = true
			if page.Limit == 0 || page.After != "" && order(name, page.After) <= 0 {
				continue
			}
			if len(names) == page.Limit && order(name, names[page.Limit-1]) > 0 {
				more = true
				continue
			}
			at, _ := slices.BinarySearchFunc(names, name, order)
			if names = slices.Insert(names, at, name); len(names) > page.Limit {
				names, more = names[:page.Limit], true
			}
		}
	}
	paged.Total = len(seen)
	if page.Limit == 0 {
		return nil, paged
	}
	if more {
		paged.Next = names[len(names)-1]
	}
	on = make(map[string]bool, len(names))
	for _, name := range names {
		on[name] = true
	}
	return on, paged
}

// HoldingsOf is Show without what is told besides of the versions.
func (s *Search) HoldingsOf(
	ctx context.Context, caller access.Caller, p purl.PURL, repository string, page VersionPage,
) ([]Holding, Paged, error) {
	readable := s.directory.Readable(caller)
	if repository != "" {
		r, err := s.directory.Repository(caller, repository, access.Read)
		if err != nil {
			return nil, Paged{}, err
		}
		readable = []catalog.Repository{r}
	}
	labelled := map[string]bool{} // what p means, if it names a label in place of a version
	label := cmp.Or(p.Version, p.Qualifiers["tag"])
	_, byLabel := s.Ecosystem(p.Ecosystem).(ecosystem.Maturing)
	byLabel = byLabel && label != "" && !purl.IsVersion(p.Ecosystem, label)
	fits := func(v *catalog.Version) bool {
		return !byLabel && p.Version == "" || v.Version == p.Version || v.Upload == p.Version && p.Version != "" ||
			labelled[v.Version]
	}
	var holdings []Holding
	all := map[int64]*catalog.Package{}
	for _, r := range readable {
		key := r.Key(p.Ecosystem, p.Namespace, p.Name)
		var found *catalog.Package
		var err error
		switch {
		case repository != "":
			found, err = s.resolving.Package(ctx, key)
		case r.Gathers():
			continue
		default:
			if !s.directory.Shows(key) {
				continue
			}
			key.Sight = ""
			found, err = s.holdings.Package(ctx, key)
		}
		if errors.Is(err, ecosystem.ErrNoPackage) {
			continue
		}
		if err != nil {
			return nil, Paged{}, err
		}
		if byLabel && found.Labels[label] != "" {
			labelled[found.Labels[label]] = true
		}
		if slices.ContainsFunc(found.Versions, func(v catalog.Version) bool { return fits(&v) }) {
			holdings = append(holdings, Holding{Repository: r, Package: found})
			all[r.ID] = found
		}
	}
	if holdings == nil {
		for _, r := range readable {
			if r.Gathers() && repository == "" {
				continue
			}
			if why := s.resolving.WhyNot(ctx, r.Key(p.Ecosystem, p.Namespace, p.Name), p.Version); why != nil &&
				(why.Code == "removed" || repository != "") {
				return nil, Paged{}, why
			}
		}
		return nil, Paged{}, fault.New(fault.NotFound, "no-such-package", "no repository that you may read holds %s", p).
			WithHint("crelvo search finds packages by parts of their names.")
	}
	on, paged := page.choose(p.Ecosystem, holdings, fits)
	holdings = shown(holdings, func(v *catalog.Version) bool { return fits(v) && (on == nil || on[v.Version]) })
	if m, ok := s.Ecosystem(p.Ecosystem).(ecosystem.Maturing); ok {
		for i := range holdings {
			holdings[i].Whole = wholeBytes(m, holdings[i].Package, all[holdings[i].Repository.ID])
		}
	}
	return holdings, paged, nil
}

// wholeBytes are the bytes of some versions of a package with those of what they are made of.
func wholeBytes(m ecosystem.Maturing, some, all *catalog.Package) map[string]int64 {
	at := map[string]*catalog.Version{}
	for i := range all.Versions {
		at[all.Versions[i].Version] = &all.Versions[i]
	}
	whole := map[string]int64{}
	for i := range some.Versions {
		counted := map[[32]byte]bool{}
		open := []string{some.Versions[i].Version}
		seen := map[string]bool{}
		for len(open) > 0 {
			v := at[open[0]]
			if open = open[1:]; v == nil || seen[v.Version] {
				continue
			}
			seen[v.Version] = true
			for _, f := range v.Files {
				if f.Kept() && !counted[f.Digests.SHA256] {
					counted[f.Digests.SHA256] = true
					whole[some.Versions[i].Version] += f.Digests.Size
				}
			}
			parts, _, _ := m.Belongs(v.Details)
			for _, part := range parts {
				open = append(open, part.Version)
			}
		}
	}
	return whole
}

// shown leaves of holdings the versions that are to be shown, in their order.
func shown(holdings []Holding, which func(*catalog.Version) bool) []Holding {
	left := holdings[:0]
	for _, h := range holdings {
		of := *h.Package
		of.Versions = nil
		for i := range h.Package.Versions {
			if v := &h.Package.Versions[i]; which(v) {
				of.Versions = append(of.Versions, *v)
			}
		}
		if len(of.Versions) == 0 {
			continue
		}
		slices.SortFunc(of.Versions, func(a, b catalog.Version) int {
			if c := purl.Compare(of.Key.Ecosystem, b.Version, a.Version); c != 0 {
				return c
			}
			if a.Newer(b) {
				return -1
			}
			return 1
		})
		h.Package = &of
		left = append(left, h)
	}
	return left
}

// mostMoves is how many moves of labels are told.
const mostMoves = 200

// LabelMoves tells where the labels of a version in a repository, or of all its package's,
// pointed one after the other, the newest first.
func (s *Search) LabelMoves(
	ctx context.Context, caller access.Caller, p purl.PURL, repository string,
) ([]record.LabelMove, error) {
	holdings, _, err := s.HoldingsOf(ctx, caller, p, repository, VersionPage{Limit: 1})
	if err != nil {
		return nil, err
	}
	h := holdings[0]
	version := ""
	if p.Version != "" || p.Qualifiers["tag"] != "" {
		version = h.Package.Versions[0].Version
	}
	return s.DB.LabelMoves(ctx, h.Repository.Key(p.Ecosystem, p.Namespace, p.Name), version, mostMoves)
}

// Hits implements ecosystem.Desk.
func (s *Search) Hits(
	ctx context.Context, repository catalog.Repository, ecosystemName string, q ecosystem.Search,
) ([]ecosystem.Hit, int, error) {
	words := strings.FieldsFunc(q.Text, func(r rune) bool { return r == ' ' || r == '/' || r == '\t' || r == ',' })
	asked := record.HitsAsked{Ecosystem: ecosystemName, Words: words[:min(len(words), 10)], Name: q.Name,
		Snapshots: q.Snapshots, Skip: q.Skip, Limit: q.Limit}
	for _, h := range q.Having[:min(len(q.Having), 10)] {
		asked.Having = append(asked.Having, record.Having(h))
	}
	rows, total, err := s.DB.Hits(ctx, s.directory.ScopeOf(repository), asked)
	hits := make([]ecosystem.Hit, len(rows))
	for i, row := range rows {
		hits[i] = ecosystem.Hit{Namespace: row.Namespace, Name: row.Name, Latest: row.Latest, Versions: row.Versions,
			Details:     row.Details,
			PublishedBy: row.PublishedBy, PublishedAt: row.PublishedAt, ChangedAt: row.ChangedAt, Downloads: row.Downloads}
	}
	return hits, total, err
}

// ReadmeOf is the text about a version, or about the newest one, that the caller
// may read, and which version that is.
func (s *Search) ReadmeOf(
	ctx context.Context, caller access.Caller, p purl.PURL, repository string,
) (catalog.Readme, string, error) {
	holdings, _, err := s.HoldingsOf(ctx, caller, p, repository, VersionPage{Limit: 1})
	if err != nil {
		return catalog.Readme{}, "", err
	}
	var newest *catalog.Version
	for _, h := range holdings {
		for i, v := range h.Package.Versions {
			if newest == nil || purl.Compare(p.Ecosystem, v.Version, newest.Version) > 0 ||
				v.Version == newest.Version && v.Newer(*newest) {
				newest = &h.Package.Versions[i]
			}
		}
	}
	readme, err := s.publishing.Readme(ctx, *newest)
	if err == nil && readme == nil {
		err = fault.New(fault.NotFound, "no-readme", "%s has no README", p)
	}
	if err != nil {
		return catalog.Readme{}, "", err
	}
	return *readme, newest.Version, nil
}
