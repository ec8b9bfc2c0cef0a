package transfers

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"

	"golang.org/x/sync/errgroup"
	"golang.org/x/time/rate"

	"crelvo/internal/core/bundle"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/service/landing"
	"crelvo/internal/service/mirrors"
	"crelvo/internal/service/publishing"
)

const (
	// heldAtOnce is how many bytes of files are asked for at once, but for one that is larger, and lookedIntoAtOnce how
	// many versions are looked into at the same time.
	heldAtOnce = 64 << 20
	// large is from how many bytes on a file comes by itself, and goes on from where it was cut.
	large = 16 << 20
	// tarred is how much more a file has in an archive, at most.
	tarred           = 2048
	lookedIntoAtOnce = 4
	// mostRead is how many bytes are read at once of what comes slowly.
	mostRead = 64 << 10
)

// planHeld plans what comes from another Crelvo that tells what it keeps; told is false if that is none.
func (m *moving) planHeld(ctx context.Context, n *int) (told bool, err error) {
	at := m.s.mirrors.Of(m.from.ID)
	if at == nil {
		return false, nil
	}
	question := bundle.Question{Only: m.Patterns}
	for {
		some, err := m.s.mirrors.Held(ctx, at, question)
		if errors.Is(err, mirrors.ErrNotHeld) && !m.held {
			return false, nil
		}
		if err != nil {
			return false, m.silent(err)
		}
		m.held = true
		if err := m.planTold(ctx, n, some); err != nil {
			return false, err
		}
		if some.Next == "" {
			return true, nil
		}
		question.After = some.Next
	}
}

// silent is the error of another Crelvo that told before what it keeps: that it does not any more may pass.
func (m *moving) silent(err error) error {
	if errors.Is(err, mirrors.ErrNotHeld) {
		return fault.New(fault.Unavailable, "upstream-failed", "%s does not tell any more what it keeps",
			m.from.Mirror.Upstreams[0].URL)
	}
	return err
}

// planTold plans what another Crelvo told of.
func (m *moving) planTold(ctx context.Context, n *int, some bundle.Held) error {
	// What the mirror may read, not everybody may who may read some of the mirror.
	some.Packages = slices.DeleteFunc(some.Packages, func(p bundle.Package) bool {
		return !m.s.directory.Shows(m.from.Key(p.Ecosystem, p.Namespace, p.Name))
	})
	for told := range slices.Chunk(some.Packages, plannedAtOnce) {
		keys, there := make([]catalog.PackageKey, len(told)), make([]*catalog.Package, len(told))
		for i, p := range told {
			keys[i] = m.from.Key(p.Ecosystem, p.Namespace, p.Name)
			there[i] = asThere(keys[i], p)
		}
		has, err := m.ahead(ctx, keys)
		if err != nil {
			return err
		}
		items, err := m.become(ctx, keys, there, has, make([]string, len(keys)))
		if err != nil {
			return err
		}
		if err := m.travels(ctx, items, keys, there); err != nil {
			return err
		}
		if err := m.add(ctx, n, len(told), items); err != nil {
			return err
		}
	}
	var out []record.TransferItem
	for _, l := range some.LeftOut {
		p, ok := m.leftOut(l)
		if !ok {
			continue
		}
		out = append(out, p)
	}
	return m.add(ctx, n, 0, out)
}

// leftOut is a version that its repository keeps out.
func (m *moving) leftOut(l bundle.LeftOut) (item record.TransferItem, ok bool) {
	p, err := purl.Parse(l.PURL)
	if err != nil || p.Ecosystem != m.from.Ecosystem || !m.wanted.Admits(p).Allowed ||
		!m.s.directory.Shows(m.from.Key(p.Ecosystem, p.Namespace, p.Name)) {
		return item, false
	}
	return record.TransferItem{Ecosystem: p.Ecosystem, Namespace: p.Namespace, Name: p.Name, Version: p.Version,
		State: record.ItemRefused, Why: "at " + m.from.Mirror.Upstreams[0].URL + ", " + l.Why}, true
}

// asThere is a package as another Crelvo tells of it.
func asThere(key catalog.PackageKey, p bundle.Package) *catalog.Package {
	there := &catalog.Package{Key: key, Labels: p.Labels}
	for _, v := range p.Versions {
		of := catalog.Version{Version: v.Version, Upload: v.Upload, Snapshot: v.Snapshot, UploadedAt: v.UploadedAt,
			UploadCount: v.UploadCount, PublishedBy: v.PublishedBy, PublishedAt: v.PublishedAt, Outside: true,
			Dated: v.PublishedAt, Files: landing.Version{Version: v}.Kept(nil)}
		if reason, withdrawn := p.Withdrawn[v.Version]; withdrawn {
			of.Withdrawn = &catalog.Withdrawal{Reason: reason}
		}
		there.Versions = append(there.Versions, of)
	}
	return there
}

// travels finds out how many bytes of new versions have to come: those that are nowhere here where who asked for the
// transfer may read them, each once.
func (m *moving) travels(
	ctx context.Context, items []record.TransferItem, keys []catalog.PackageKey, there []*catalog.Package,
) error {
	byKey := make(map[catalog.PackageKey]*catalog.Package, len(keys))
	for i, key := range keys {
		byKey[key] = there[i]
	}
	first := map[bundle.Sum]int{} // the item that it comes with
	sizes := map[bundle.Sum]int64{}
	var sums [][]byte
	for i := range items {
		items[i].Travels = 0
		if items[i].State != record.ItemNew {
			continue
		}
		at := m.from.Key(items[i].Ecosystem, items[i].Namespace, items[i].Name)
		for _, f := range publishing.Find(byKey[at], items[i].Version, items[i].Upload).Files {
			sum := bundle.Sum(f.Digests.SHA256)
			if _, known := first[sum]; !known {
				first[sum], sizes[sum] = i, f.Digests.Size
				sums = append(sums, sum[:])
			}
		}
	}
	usable, err := m.s.landing.Usable(ctx, m.caller, sums, m.to.ID)
	for sum, i := range first {
		if !usable[sum] {
			items[i].Travels += sizes[sum]
		}
	}
	return err
}

// arriving is a version that comes from another Crelvo.
type arriving struct {
	coming
	is landing.Version
}

// gatherHeld has versions told of by another Crelvo, and those of their bytes come that are not here; told is false if
// it does not tell of any. What cannot come is noted.
func (m *moving) gatherHeld(ctx context.Context, items []record.TransferItem) (all []coming, told bool, err error) {
	at := m.s.mirrors.Of(m.from.ID)
	if at == nil {
		return nil, false, nil
	}
	var packages []string
	for _, item := range items {
		of := act.PURLOf(item.Key(0), "").String()
		if n := len(packages); n == 0 || packages[n-1] != of {
			packages = append(packages, of)
		}
	}
	held, err := m.s.mirrors.Held(ctx, at, bundle.Question{Packages: packages})
	if errors.Is(err, mirrors.ErrNotHeld) && !m.held {
		return nil, false, nil
	}
	if err != nil {
		return nil, false, m.silent(err)
	}
	if !m.held { // who places what came before reads it
		m.held = true
	}
	arrive, err := m.find(ctx, items, held)
	if err != nil {
		return nil, true, err
	}
	if arrive, err = m.bytes(ctx, at, packages, arrive); err != nil {
		return nil, true, err
	}
	made := map[string]bool{}
	for _, a := range arrive {
		made[a.is.Build] = true
	}
	builds, err := m.s.builds.TakeOver(ctx, m.caller, slices.DeleteFunc(held.Builds, func(b bundle.Build) bool {
		return !made[b.Title()]
	}))
	if err != nil {
		return nil, true, err
	}
	all, err = m.lookInto(ctx, arrive, builds)
	return all, true, err
}

// find finds the versions of items in what was told. Those that are not there any more are noted.
func (m *moving) find(ctx context.Context, items []record.TransferItem, held bundle.Held) (all []arriving, err error) {
	byKey := map[catalog.PackageKey]*bundle.Package{}
	there := map[catalog.PackageKey]*catalog.Package{}
	for i := range held.Packages {
		p := &held.Packages[i]
		key := m.from.Key(p.Ecosystem, p.Namespace, p.Name)
		byKey[key], there[key] = p, asThere(key, *p)
	}
	for _, item := range items {
		key := m.from.Key(item.Ecosystem, item.Namespace, item.Name)
		v := publishing.Find(there[key], item.Version, item.Upload)
		if v == nil || !m.s.directory.Shows(key) {
			gone := fault.New(fault.NotFound, "source-gone", "it is not in %s any more", m.from.Name)
			if err := m.failed(ctx, []record.TransferItem{item}, gone); err != nil {
				return nil, err
			}
			continue
		}
		i := slices.IndexFunc(byKey[key].Versions, func(o bundle.Version) bool {
			return o.Version == item.Version && o.Upload == item.Upload
		})
		told := byKey[key].Versions[i]
		all = append(all, arriving{coming{TransferItem: item, key: key, version: v, there: there[key],
			origin: &bundle.Origin{From: m.from.Mirror.Upstreams[0].URL, Promotions: told.Promotions}},
			landing.Version{Version: told, Key: m.target(key)}})
	}
	return all, nil
}

// bytes has the bytes of versions come that are not here, and wait. Versions whose bytes do not come are noted, and
// left out.
func (m *moving) bytes(
	ctx context.Context, at *mirrors.Mirror, packages []string, all []arriving,
) (complete []arriving, err error) {
	sizes := map[bundle.Sum]int64{}
	var sums [][]byte
	for _, a := range all {
		for _, f := range a.is.Files {
			if _, twice := sizes[f.SHA256]; !twice {
				sizes[f.SHA256] = f.Size
				sums = append(sums, f.SHA256[:])
			}
		}
	}
	usable, err := m.s.landing.Usable(ctx, m.caller, sums, m.to.ID)
	if err != nil {
		return nil, err
	}
	lacking := maps.Clone(sizes)
	// An answer is as long as a file may be that the mirror takes, and no longer.
	together := min(heldAtOnce, at.Mirror.Largest/2)
	alone := min(large, together/4)
	var order []bundle.Sum
	for _, sum := range sums {
		switch sum := bundle.Sum(sum); {
		case usable[sum]:
			delete(lacking, sum)
		case sizes[sum] >= alone:
			if err := m.receiveLarge(ctx, at, all, sum, lacking); err != nil {
				return nil, err
			}
		default:
			order = append(order, sum)
		}
	}
	for len(order) > 0 {
		n, size := 1, sizes[order[0]]+tarred
		for n < len(order) && size+sizes[order[n]]+tarred <= together {
			size += sizes[order[n]] + tarred
			n++
		}
		if err := m.receive(ctx, at, packages, order[:n], lacking); err != nil {
			return nil, err
		}
		order = order[n:]
	}
	for _, a := range all {
		i := slices.IndexFunc(a.is.Files, func(f bundle.File) bool { _, lacks := lacking[f.SHA256]; return lacks })
		if i < 0 {
			complete = append(complete, a)
			continue
		}
		lost := fault.New(fault.NotFound, "source-gone", "%s does not send %s", at.Mirror.Upstreams[0].URL,
			a.is.Files[i].Name)
		if err := m.failed(ctx, []record.TransferItem{a.TransferItem}, lost); err != nil {
			return nil, err
		}
	}
	sums = slices.DeleteFunc(sums, func(sum []byte) bool { _, lacks := lacking[bundle.Sum(sum)]; return lacks })
	slices.SortFunc(sums, bytes.Compare)
	return complete, m.s.landing.Keep(ctx, m.caller, m.to, sums, sizes)
}

// receive has some bytes come.
func (m *moving) receive(
	ctx context.Context, at *mirrors.Mirror, packages []string, sums []bundle.Sum, lacking map[bundle.Sum]int64,
) error {
	body, err := m.s.mirrors.HeldFiles(ctx, at, packages, sums)
	if err != nil {
		return m.silent(err)
	}
	defer body.Close()
	from := bundle.NewFilesReader(m.slowed(ctx, body))
	return m.notWhole(ctx, at, m.s.landing.Receive(ctx, m.caller, from, lacking,
		func(bundle.Sum) catalog.Repository { return m.to }))
}

// receiveLarge has one file come, of one of some versions. One that is not there any more stays lacking.
func (m *moving) receiveLarge(
	ctx context.Context, at *mirrors.Mirror, all []arriving, sum bundle.Sum, lacking map[bundle.Sum]int64,
) error {
	i := slices.IndexFunc(all, func(a arriving) bool {
		return slices.ContainsFunc(a.is.Files, func(f bundle.File) bool { return f.SHA256 == sum })
	})
	of, name := act.PURLOf(all[i].Key(0), "").String(), fmt.Sprintf("held-%d-%.32s", m.ID, sum.String())
	err := m.s.landing.ReceiveLarge(ctx, m.caller, m.to, name, sum, lacking[sum],
		func(from int64) (io.ReadCloser, error) {
			body, err := m.s.mirrors.HeldFile(ctx, at, of, sum, from)
			if err != nil {
				return nil, err
			}
			return readCloser{m.slowed(ctx, body), body}, nil
		})
	switch {
	case err == nil:
		delete(lacking, sum)
	case errors.Is(err, mirrors.ErrNotHeld):
		return nil
	}
	return m.notWhole(ctx, at, err)
}

type readCloser struct {
	io.Reader
	io.Closer
}

// slowed counts what comes, and has it come no faster than it may.
func (m *moving) slowed(ctx context.Context, body io.Reader) io.Reader {
	if m.Rate > 0 && m.limit == nil {
		m.limit = rate.NewLimiter(rate.Limit(m.Rate), mostRead)
	}
	return act.Slowed(ctx, counted{body, m}, m.limit)
}

// notWhole is that what came was cut or changed, which may not happen again.
func (m *moving) notWhole(ctx context.Context, at *mirrors.Mirror, err error) error {
	var damage *landing.Damage
	var cut *landing.Cut
	if errors.As(err, &damage) || errors.As(err, &cut) && ctx.Err() == nil {
		return fault.New(fault.Unavailable, "upstream-failed", "%s did not send all of it: %v",
			at.Mirror.Upstreams[0].URL, err).WithCause(err)
	}
	return err
}

// counted counts what comes.
type counted struct {
	io.Reader
	m *moving
}

// Read implements io.Reader.
func (c counted) Read(p []byte) (int, error) {
	n, err := c.Reader.Read(p)
	c.m.fetched.Add(int64(n))
	return n, err
}

// lookInto looks into versions whose bytes are here. Those that may not come are noted, and left out.
func (m *moving) lookInto(ctx context.Context, all []arriving, builds map[string]int64) (come []coming, err error) {
	var sums [][]byte
	for _, a := range all {
		for _, f := range a.is.Files {
			sums = append(sums, f.SHA256[:])
		}
	}
	known, err := m.s.DB.DigestsOf(ctx, sums)
	if err != nil {
		return nil, err
	}
	why := make([]string, len(all))
	looking, in := errgroup.WithContext(ctx)
	looking.SetLimit(lookedIntoAtOnce)
	for i := range all {
		looking.Go(func() error {
			placed, reason, err := m.s.landing.Look(in, m.to, all[i].is, known)
			placed.BuildID = builds[all[i].is.Build]
			all[i].placed, why[i] = &placed, reason
			return err
		})
	}
	if err := looking.Wait(); err != nil {
		return nil, err
	}
	for i, a := range all {
		if why[i] == "" {
			come = append(come, a.coming)
			continue
		}
		if err := m.failed(ctx, []record.TransferItem{a.TransferItem},
			fault.New(fault.Conflict, "refused", "%s", why[i])); err != nil {
			return nil, err
		}
	}
	return come, nil
}
