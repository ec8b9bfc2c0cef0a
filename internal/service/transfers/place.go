package transfers

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"crelvo/internal/core/bundle"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/ecosystem"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/service/publishing"
)

// place makes versions visible, all of them at once. Those that cannot be are noted, and left out.
func (m *moving) place(ctx context.Context, all []coming) error {
	for len(all) > 0 {
		var left []coming
		for _, c := range all {
			// It may have become something else since it was planned.
			rules, err := m.rules(ctx, c.key, c.there, nil)
			if err != nil {
				return err
			}
			if why := rules.refuses(c.version); why != "" {
				if err := m.failed(ctx, []record.TransferItem{c.TransferItem},
					fault.New(fault.Conflict, "refused", "%s", why)); err != nil {
					return err
				}
				continue
			}
			left = append(left, c)
		}
		collisions, err := m.placeAll(ctx, left)
		if err != nil {
			if len(left) == 1 || fault.Of(err).Kind == fault.Internal || ctx.Err() != nil {
				if len(left) == 0 {
					return err
				}
				return m.failed(ctx, itemsOf(left), err)
			}
			// One of them is too much, perhaps.
			half := len(left) / 2
			if err := m.place(ctx, left[:half]); err != nil {
				return err
			}
			all = left[half:]
			continue
		}
		if collisions == nil {
			return nil
		}
		all = nil
		for _, c := range left {
			i := slices.IndexFunc(collisions, func(o record.Collision) bool {
				return o.Key == m.target(c.key) && o.Version == c.Version
			})
			if i < 0 {
				all = append(all, c)
				continue
			}
			if err := m.failed(ctx, []record.TransferItem{c.TransferItem}, collided(collisions[i], m)); err != nil {
				return err
			}
		}
	}
	return nil
}

func itemsOf(all []coming) (items []record.TransferItem) {
	for _, c := range all {
		items = append(items, c.TransferItem)
	}
	return items
}

func collided(c record.Collision, m *moving) error {
	switch {
	case c.NoSource:
		return fault.New(fault.Conflict, "source-gone", "it is not in %s any more", m.from.Name)
	case c.Gone:
		return fault.New(fault.Conflict, "published-before",
			"it was in %s before, with other bytes, and removed; a release does not come back as something else", m.to.Name)
	}
	return fault.New(fault.Conflict, "collision", "it came into %s meanwhile from elsewhere", m.to.Name)
}

// errInTheWay undoes what was begun.
var errInTheWay = errors.New("something is in the way")

// placeAll makes versions visible in one act, or gives what is in their way.
func (m *moving) placeAll(ctx context.Context, all []coming) (collisions []record.Collision, err error) {
	if len(all) == 0 {
		return nil, nil
	}
	placed, came, origins := make([]record.PlacedVersion, len(all)), [][]byte{}, make([]*bundle.Origin, len(all))
	ns, proofs, bytes := make([]int, len(all)), make([][]byte, len(all)), int64(0)
	for i, c := range all {
		placed[i], ns[i], proofs[i], origins[i] = m.placed(c), c.N, proof(c.version), c.origin
		for _, f := range c.version.Files {
			bytes += f.Digests.Size
			if c.placed != nil {
				came = append(came, f.Digests.SHA256[:])
			}
		}
	}
	var keys []catalog.PackageKey
	for _, c := range all {
		keys = append(keys, c.key)
	}
	has, err := m.ahead(ctx, keys)
	if err != nil {
		return nil, err
	}
	done, err := m.s.store.Room(ctx, m.to, bytes)
	if err != nil {
		return nil, err
	}
	defer done()
	err = m.s.store.Recorded(ctx, nil, func(tx *record.Tx) error {
		var ids []int64
		if ids, collisions, err = tx.Place(ctx, placed, m.caller.ID, m.caller.Name, m.s.Now()); err != nil {
			return err
		}
		if collisions != nil {
			return errInTheWay
		}
		if err := m.s.store.WantIn(ctx, tx, m.to, ids, nil); err != nil {
			return err
		}
		if err := tx.SetOrigins(ctx, ids, origins); err != nil {
			return err
		}
		if err := tx.TakeLanded(ctx, m.to.ID, came); err != nil {
			return err
		}
		if err := m.marks(ctx, tx, all, has); err != nil {
			return err
		}
		if err := tx.NoteItems(ctx, m.ID, ns, record.ItemCame, "", proofs); err != nil {
			return err
		}
		return m.announce(ctx, tx, all)
	})
	if collisions != nil {
		return collisions, nil
	}
	return nil, err
}

// placed is a version as it is where it goes to: with its time, and with whoever published it where it comes
// from a repository of our own.
func (m *moving) placed(c coming) record.PlacedVersion {
	if c.placed != nil {
		return *c.placed
	}
	v := record.PlacedVersion{SourceID: c.version.ID, Key: m.target(c.key), Version: c.Version, Upload: c.Upload,
		Snapshot: c.version.Snapshot}
	if at := published(c.version); !at.IsZero() && !at.Equal(catalog.LongAgo) {
		v.FirstAt = &at
	}
	if m.from.Own() {
		v.By = c.version.PublishedBy
	}
	for _, f := range c.version.Files {
		of := record.PlacedFile{Name: f.Name, Classifier: f.Classifier, Extension: f.Extension, MediaType: f.MediaType,
			Digests: f.Digests}
		if f.MadeFrom != [32]byte{} {
			of.MadeFrom = f.MadeFrom[:]
		}
		v.Files = append(v.Files, of)
	}
	return v
}

// proof is the SHA-256 of the names and digests of a version's files.
func proof(v *catalog.Version) []byte {
	var lines []string
	for _, f := range v.Files {
		lines = append(lines, f.Name+" "+hex.EncodeToString(f.Digests.SHA256[:]))
	}
	slices.Sort(lines)
	sum := sha256.Sum256([]byte(strings.Join(lines, "\n")))
	return sum[:]
}

// marks takes the labels and withdrawals of versions along. A label that leads to something else there
// follows if the repository that they come from has that, too.
func (m *moving) marks(
	ctx context.Context, tx *record.Tx, all []coming, has map[catalog.PackageKey]*catalog.Package,
) error {
	var labels []record.LabelSetting
	for len(all) > 0 {
		n := 1
		for n < len(all) && all[n].key == all[0].key {
			n++
		}
		some, err := m.labelsOf(ctx, tx, all[:n], has[all[0].key])
		if err == nil {
			err = m.withdraw(ctx, tx, all[:n])
		}
		if err != nil {
			return err
		}
		labels, all = append(labels, some...), all[n:]
	}
	return tx.SetLabels(ctx, labels, m.caller.Name, m.s.Now())
}

// labelsOf are those that lead to versions of a package, and are to.
func (m *moving) labelsOf(
	ctx context.Context, tx *record.Tx, all []coming, has *catalog.Package,
) (labels []record.LabelSetting, err error) {
	key, from := m.target(all[0].key), all[0].there
	came := func(version string) bool {
		return slices.ContainsFunc(all, func(c coming) bool { return c.Version == version })
	}
	for _, label := range slices.Sorted(maps.Keys(from.Labels)) {
		version, leads := from.Labels[label], ""
		if has != nil {
			leads = has.Labels[label]
		}
		if !came(version) || leads != "" && !publishing.HasVersion(from, leads) {
			continue
		}
		names := []string{label}
		if maturing, ok := m.s.Ecosystem(key.Ecosystem).(ecosystem.Maturing); ok {
			if names, err = m.s.publishing.Moved(ctx, tx, maturing, m.to, key, names, version); err != nil {
				return nil, err
			}
		}
		for _, name := range names {
			labels = append(labels, record.LabelSetting{Key: key, Name: name, Version: version})
		}
	}
	return labels, nil
}

// withdraw marks those versions of a package as withdrawn that are where they come from.
func (m *moving) withdraw(ctx context.Context, tx *record.Tx, all []coming) error {
	var versions, reasons []string
	for _, c := range all {
		if w := c.version.Withdrawn; w != nil && !slices.Contains(versions, c.Version) {
			versions, reasons = append(versions, c.Version), append(reasons, w.Reason)
		}
	}
	if versions == nil {
		return nil
	}
	return tx.Withdraw(ctx, m.target(all[0].key), versions, reasons, m.caller.Name, m.s.Now())
}

// mostNamed is how many versions an event names.
const mostNamed = 20

// announce tells everybody what came.
func (m *moving) announce(ctx context.Context, tx *record.Tx, all []coming) error {
	event := m.s.event(m.caller, record.EventVersionsTaken, m.Transfer)
	changes := []record.Change{change(m.Transfer)}
	var names []string
	for _, c := range all {
		if len(names) < mostNamed {
			names = append(names, act.PURLOf(c.key, c.Version).Typed())
		}
		changes = append(changes, record.Change{Kind: record.OfPackage, RepositoryID: m.to.ID, Repository: m.to.Name,
			Ecosystem: c.Ecosystem, Namespace: c.Namespace, Name: c.Name, Version: c.Version})
	}
	if more := len(all) - len(names); more > 0 {
		names = append(names, fmt.Sprintf("and %d more", more))
	}
	event.Detail["versions"] = strings.Join(names, " ")
	return tx.Append(ctx, event, changes...)
}
