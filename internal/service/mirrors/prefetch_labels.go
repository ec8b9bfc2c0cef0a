package mirrors

import (
	"context"
	"errors"
	"slices"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
	"crelvo/internal/record"
)

const (
	// listedLabels is how many labels of a package are looked at.
	listedLabels = 20_000
	// deepestParts is how deep versions may be made of others.
	deepestParts = 4
)

// labels fetches what labels of a package point to, which are chosen as versions are: the
// newest of those that are releases, and of the others those that a pattern names.
func (p *prefetching) labels(ctx context.Context, of purl.PURL, byContent ecosystem.ByContent) error {
	key := p.m.Key(of.Ecosystem, of.Namespace, of.Name)
	all, err := p.s.Labels(ctx, p.m, key, "", listedLabels)
	if err != nil {
		return err
	}
	if len(all) == 0 {
		return fault.New(fault.NotFound, "no-such-package", "the upstream lists no tags of it")
	}
	var releases, others []string
	maturing, _ := p.m.Speaks.(ecosystem.Maturing)
	for _, l := range all {
		labelled := of
		labelled.Version = l.Name
		if !p.wants(labelled) {
			continue
		}
		release, snapshot := false, false
		if maturing != nil {
			release, snapshot = maturing.LabelMaturity(p.m.Repository, l.Name)
		}
		switch {
		case release:
			releases = append(releases, l.Name)
		case !snapshot && p.names(labelled):
			others = append(others, l.Name)
		}
	}
	slices.SortFunc(releases, func(a, b string) int { return purl.Compare(of.Ecosystem, b, a) })
	releases = releases[:min(len(releases), p.m.Mirror.Prefetch.Newest)]
	for _, label := range append(releases, others...) {
		line := record.PrefetchLine{PURL: of.String() + "@" + label, Outcome: record.PrefetchThere}
		found, err := p.s.File(ctx, p.m, catalog.FileQuestion{Key: key, Label: label})
		if err == nil {
			err = p.whole(ctx, key, found, byContent, &line, 0)
		}
		if errors.Is(err, ecosystem.ErrNoFile) {
			err = fault.New(fault.NotFound, "no-such-version", "the upstream lists it, but does not have it whole")
		}
		if err != nil {
			line.Outcome, line.Why = record.PrefetchFailed, fault.Of(err).Message
		}
		p.add(line)
	}
	return nil
}

// names tells whether a pattern of the rule names the version, and not only its package.
func (p *prefetching) names(of purl.PURL) bool {
	return slices.ContainsFunc(p.m.Mirror.Prefetch.Patterns, func(text string) bool {
		pattern, err := purl.ParsePattern(text)
		return err == nil && !pattern.Whole() && pattern.Match(of)
	})
}

// whole waits until a version is kept, and fetches all that it names: its parts, and the
// versions that it is made of, as far as their platforms are wanted.
func (p *prefetching) whole(
	ctx context.Context, key catalog.PackageKey, found ecosystem.Found, byContent ecosystem.ByContent,
	line *record.PrefetchLine, depth int,
) error {
	kept, err := p.kept(ctx, found, line)
	if err != nil {
		return err
	}
	q := catalog.FileQuestion{Key: key, Version: kept.Name, Name: kept.Name}
	place := ecosystem.Place{Namespace: key.Namespace, Name: key.Name, FileName: kept.Name, Extension: kept.Extension}
	content, err := p.s.store.Open(ctx, kept)
	if err != nil {
		return err
	}
	file := ecosystem.Sized(content, kept.Digests.Size)
	parts, _, err := byContent.Names(ctx, place, file, kept.MediaType)
	if err == nil {
		var details catalog.Details
		details, err = p.m.Speaks.Inspect(ctx, place, file)
		if maturing, ok := p.m.Speaks.(ecosystem.Maturing); ok && err == nil && depth < deepestParts {
			made, _, _ := maturing.Belongs(details)
			err = p.madeOf(ctx, key, made, byContent, line, depth)
		}
	}
	if err = errors.Join(err, content.Close()); err != nil {
		return err
	}
	for _, part := range parts {
		q.Version, q.Name = "", part.FileName()
		found, err := p.s.File(ctx, p.m, q)
		if err == nil {
			_, err = p.kept(ctx, found, line)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// madeOf fetches the versions that one is made of, of the platforms that are wanted.
func (p *prefetching) madeOf(
	ctx context.Context, key catalog.PackageKey, made []ecosystem.VersionPart, byContent ecosystem.ByContent,
	line *record.PrefetchLine, depth int,
) error {
	wanted := p.m.Mirror.Prefetch.Platforms
	for _, part := range made {
		if part.What != "" && len(wanted) > 0 && !slices.ContainsFunc(wanted, func(platform string) bool {
			return purl.Glob(platform, part.What)
		}) {
			continue
		}
		sum, ok := catalog.ParseSum(part.Version)
		if !ok {
			continue
		}
		found, err := p.s.File(ctx, p.m, byContent.FileOf(key, sum))
		if err == nil {
			err = p.whole(ctx, key, found, byContent, line, depth+1)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// kept waits until a file is kept, and counts it if it came for this.
func (p *prefetching) kept(
	ctx context.Context, found ecosystem.Found, line *record.PrefetchLine,
) (catalog.File, error) {
	f, err := found.Kept(ctx)
	if err == nil && found.Fetched {
		line.Outcome = record.PrefetchCame
		line.Files++
		line.Bytes += f.Digests.Size
	}
	return f, err
}
