package promotion

import (
	"context"
	"slices"
	"strings"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/promotion"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
	"crelvo/internal/record"
	"crelvo/internal/service/builds"
)

// maturing is the ecosystem of an item, if its versions are named by their content: such an
// item stays what it is, and its labels become others.
func (s *Promotion) maturing(item crossingItem) (ecosystem.Maturing, bool) {
	m, ok := s.Ecosystem(item.Ecosystem).(ecosystem.Maturing)
	return m, ok
}

// labelled are the versions that a package URL means whose version is a label, or names it
// as a tag; the very version if it names one.
func (s *Promotion) labelled(ctx context.Context, readable []catalog.Repository, p purl.PURL) ([]string, error) {
	label := p.Version
	if _, ok := s.Ecosystem(p.Ecosystem).(ecosystem.Maturing); !ok || purl.IsVersion(p.Ecosystem, label) {
		return []string{p.Version}, nil
	}
	if label == "" {
		label = p.Qualifiers["tag"]
	}
	found, err := s.DB.Labelled(ctx, builds.RepositoryIDs(readable),
		catalog.PackageKey{Ecosystem: p.Ecosystem, Namespace: p.Namespace, Name: p.Name}, label)
	if len(found) == 0 {
		found = []string{p.Version} // which is not there either
	}
	return found, err
}

// bringAlong adds what belongs to the items: what they are made of, and what is about them.
// What the target has already it keeps.
func (s *Promotion) bringAlong(ctx context.Context, c *crossing) error {
	var ids []int64
	var keys []catalog.PackageKey
	for _, item := range c.items {
		if _, ok := s.maturing(item); ok {
			key := item.Key()
			key.RepositoryID = c.to.ID
			ids, keys = append(ids, item.ID), append(keys, key)
		}
	}
	if len(ids) == 0 {
		return nil
	}
	all, err := s.DB.Along(ctx, ids)
	if err != nil {
		return err
	}
	along := slices.DeleteFunc(slices.Clone(all), func(id int64) bool {
		return slices.ContainsFunc(c.items, func(item crossingItem) bool { return item.ID == id })
	})
	found, err := s.DB.VersionsByID(ctx, along)
	if err != nil {
		return err
	}
	there, err := s.DB.ReleasesOf(ctx, c.to.ID, keys)
	if err != nil {
		return err
	}
	has := func(m record.MadeVersion) bool {
		if c.restamps(promotion.ImageLabels) {
			return false // it may become another
		}
		key := m.Key()
		key.RepositoryID = c.to.ID
		return slices.Contains(there[key], m.Version)
	}
	for _, m := range found {
		if !has(m) {
			c.items = append(c.items, crossingItem{MadeVersion: m, along: true})
		}
	}
	// Of a build, too, what has no label of its own may be there already.
	labels, err := s.DB.LabelsOf(ctx, all)
	if err != nil {
		return err
	}
	left := slices.DeleteFunc(slices.Clone(c.items), func(item crossingItem) bool {
		_, ok := s.maturing(item)
		return ok && len(labels[item.ID]) == 0 && has(item.MadeVersion)
	})
	if len(left) > 0 {
		c.items = left
	}
	return nil
}

// chooseLabels decides which labels an item gets: a snapshot's becomes that of the release
// which follows from it, where the target holds no snapshots, or the one that is asked for.
func (s *Promotion) chooseLabels(
	ctx context.Context, c *crossing, all string, each map[catalog.PackageKey]string,
) error {
	var ids []int64
	for _, item := range c.items {
		if _, ok := s.maturing(item); ok {
			ids = append(ids, item.ID)
		}
	}
	if len(ids) == 0 {
		return nil
	}
	had, err := s.DB.LabelsOf(ctx, ids)
	if err != nil {
		return err
	}
	details, err := s.DB.DetailsOf(ctx, ids)
	if err != nil {
		return err
	}
	for i := range c.items {
		item := &c.items[i]
		m, ok := s.maturing(*item)
		if item.had = had[item.ID]; !ok {
			continue
		}
		_, item.about, _ = m.Belongs(details[item.ID])
		switch {
		case len(item.had) == 0: // it is part of another, or about it
		case item.about != "":
			// Its labels, if it has any, name what it is about, and not a release.
			c.label(item, m, "")
		default:
			wanted, named := each[item.Key()]
			if delete(each, item.Key()); !named {
				wanted = all
			}
			c.label(item, m, wanted)
		}
	}
	return nil
}

// label decides which labels one item gets; wanted is what is asked for, "" is nothing.
func (c *crossing) label(item *crossingItem, m ecosystem.Maturing, wanted string) {
	for _, label := range item.had {
		switch release, snapshot := m.LabelMaturity(c.to, label); {
		case release, snapshot && c.to.Holds.Takes(true):
			item.gets(label)
		case snapshot && wanted == "":
			item.gets(released(label))
		case !release && !snapshot && item.about != "":
			item.gets(label)
		}
	}
	if wanted != "" {
		if !m.IsLabel(wanted) {
			c.problem("%.140q cannot be a label of %s", wanted, item.purl())
		}
		item.gets(wanted)
	}
	for _, label := range item.labels {
		if release, snapshot := m.LabelMaturity(c.to, label); release && !c.to.Holds.Takes(false) ||
			snapshot && !c.to.Holds.Takes(true) {
			c.problem("%s holds %s, and %s is none", c.to.Name, c.to.Holds, label)
		}
	}
	if item.labels == nil && !item.along && item.about == "" {
		c.problem("no release follows from %s of %s; say which label it gets (--as)", strings.Join(item.had, ", "),
			item.Name)
	}
}

// gets adds a label that an item gets.
func (c *crossingItem) gets(label string) {
	if !slices.Contains(c.labels, label) {
		c.labels = append(c.labels, label)
	}
}

// released is the label of the release that a snapshot's leads to.
func released(label string) string {
	before, _, _ := strings.Cut(label, "-")
	return before
}

// accompanies tells whether an item only belongs to another one of its package: it is about
// that, or has no label of its own.
func (s *Promotion) accompanies(c *crossing, item crossingItem) bool {
	_, ok := s.maturing(item)
	return ok && slices.ContainsFunc(c.items, func(o crossingItem) bool {
		return o.Key() == item.Key() && (len(item.had) == 0 && len(o.had) > 0 || item.about == o.Version)
	})
}

// mostLabels is how many labels of a package in the target are looked at.
const mostLabels = 100_000

// labelsThere are, for the gates, the release that an item becomes, and those that the
// target has of its package.
func (s *Promotion) labelsThere(
	ctx context.Context, c *crossing, item crossingItem, there catalog.PackageKey,
) (to string, releases []string, err error) {
	m, _ := s.maturing(item)
	to = item.labels[0]
	all, err := s.DB.Labels(ctx, []int64{c.to.ID}, there, "", mostLabels)
	for _, l := range all {
		if release, _ := m.LabelMaturity(c.to, l.Name); release {
			releases = append(releases, l.Name)
		}
	}
	return to, releases, err
}
