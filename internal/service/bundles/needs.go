package bundles

import (
	"context"
	"errors"
	"slices"

	"crelvo/internal/core/bundle"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
	"crelvo/internal/service/act"
	"crelvo/internal/service/publishing"
	"crelvo/internal/service/vetting"
)

// mostNeeds is how many versions are added to a bundle because others need them.
const mostNeeds = 5000

// addNeeds adds what versions need, and what that needs in turn, each in the version that clients take of the
// first of the repositories that has one. What none has is left out, and said to be.
func (m *Making) addNeeds(ctx context.Context) error {
	there, asked, added := map[string]bool{}, map[string]bool{}, 0
	type asker struct {
		of    purl.PURL
		needs []catalog.Dependency
	}
	var asking []asker
	for _, p := range m.Packages {
		for _, v := range p.Versions {
			of := p.PURL()
			of.Version = v.Version
			there[of.String()] = true
			needs, err := m.needsOf(ctx, m.at[p.Repository], of, v)
			if err != nil {
				return err
			}
			asking = append(asking, asker{of, needs})
		}
	}
	for len(asking) > 0 {
		by := asking[0]
		asking = asking[1:]
		for _, d := range by.needs {
			p, err := purl.Parse(d.PURL)
			p.Version, p.Qualifiers = "", nil
			if wanted := p.String() + " " + d.Version; err != nil || !vetting.Needed(d) || asked[wanted] {
				continue
			} else {
				asked[wanted] = true
			}
			r, pkg, v, why, err := m.find(ctx, p, d.Version)
			if err != nil {
				return err
			}
			if v == nil {
				p.Version = d.Version
				m.LeftOut = append(m.LeftOut, bundle.LeftOut{PURL: p.String(), Why: by.of.String() + " needs it: " + why})
				continue
			}
			p.Version = v.Version
			if there[p.String()] {
				continue
			}
			if added++; added > mostNeeds {
				return fault.New(fault.TooLarge, "too-many-needs", "what is wanted needs more than %d versions", mostNeeds).
					WithHint("Make several bundles, each of some of it: --only PATTERN.")
			}
			there[p.String()] = true
			if err := m.add(ctx, r, pkg, []catalog.Version{*v}, nil, true); err != nil {
				return err
			}
			asking = append(asking, asker{p, m.needs(p.Ecosystem, v.Details)})
		}
	}
	m.join()
	return nil
}

// join makes one of what was added of the same package at several times.
func (m *Making) join() {
	at := map[[2]string]int{}
	var joined []bundle.Package
	for _, p := range m.Packages {
		is := [2]string{p.Repository, p.PURL().String()}
		i, known := at[is]
		if !known {
			at[is] = len(joined)
			joined = append(joined, p)
			continue
		}
		joined[i].Versions = append(joined[i].Versions, p.Versions...)
		for label, version := range p.Labels {
			joined[i].Labels[label] = version
		}
		for version, reason := range p.Withdrawn {
			joined[i].Withdrawn[version] = reason
		}
	}
	m.Packages = joined
}

func (m *Making) needs(ecosystemName string, d catalog.Details) []catalog.Dependency {
	m.s.vetting.WithNeeds(ecosystemName, &d)
	return d.Dependencies
}

// needsOf is what a version that is in the bundle already needs.
func (m *Making) needsOf(
	ctx context.Context, r catalog.Repository, of purl.PURL, v bundle.Version,
) ([]catalog.Dependency, error) {
	p, err := m.s.holdings.Package(ctx, catalog.PackageKey{RepositoryID: r.ID, Ecosystem: of.Ecosystem,
		Namespace: of.Namespace, Name: of.Name})
	if errors.Is(err, ecosystem.ErrNoPackage) {
		return nil, nil
	}
	if there := publishing.Find(p, v.Version, v.Upload); err == nil && there != nil {
		return m.needs(of.Ecosystem, there.Details), nil
	}
	return nil, err
}

// find is the version that fits of the first repository that has one, with all of its files kept; nil, and
// why, if none has.
func (m *Making) find(
	ctx context.Context, of purl.PURL, within string,
) (r catalog.Repository, p *catalog.Package, v *catalog.Version, why string, err error) {
	why = "none of the repositories has a version that fits"
	for _, name := range m.From {
		r = m.at[name]
		if r.Fetches() && r.Ecosystem != of.Ecosystem {
			continue
		}
		key := r.Key(of.Ecosystem, of.Namespace, of.Name)
		p, err = m.s.resolving.There(ctx, r, key)
		if errors.Is(err, ecosystem.ErrNoPackage) || fault.Is(err, fault.NotFound) {
			continue
		}
		if err != nil {
			if ctx.Err() != nil || fault.Of(err).Kind == fault.Internal {
				return r, nil, nil, "", err
			}
			why = fault.Of(err).Message
			continue
		}
		judge, err := m.s.safety.Judge(ctx, r, key)
		if err != nil {
			return r, nil, nil, "", err
		}
		judge.Among(p.Versions)
		let := *p
		let.Versions = slices.DeleteFunc(slices.Clone(p.Versions), func(v catalog.Version) bool {
			verdict := judge.Of(&v)
			if verdict.Refused {
				why = name + " keeps it out: " + verdict.Why
			}
			return verdict.Refused
		})
		if v = vetting.Taken(&let, of.Ecosystem, within); v == nil {
			continue
		}
		if p, v, err = m.kept(ctx, r, key, p, v); err == nil && v != nil {
			return r, p, v, "", nil
		}
		if err != nil {
			if ctx.Err() != nil || fault.Of(err).Kind == fault.Internal {
				return r, nil, nil, "", err
			}
			why = fault.Of(err).Message
		}
	}
	return r, nil, nil, why, nil
}

// kept is a version once all of its files are here; nil if they are not to be had.
func (m *Making) kept(
	ctx context.Context, r catalog.Repository, key catalog.PackageKey, p *catalog.Package, v *catalog.Version,
) (*catalog.Package, *catalog.Version, error) {
	if at := m.s.mirrors.Of(r.ID); at != nil {
		like := v.Files
		for i := 0; len(like) == 0 && i < len(p.Versions); i++ {
			like = p.Versions[i].Files
		}
		if _, _, err := m.s.mirrors.Bring(ctx, at, key, v, like); err != nil {
			return nil, nil, err
		}
	}
	key.Sight = ""
	has, err := m.s.holdings.Package(ctx, key)
	if errors.Is(err, ecosystem.ErrNoPackage) {
		return nil, nil, nil
	}
	if err != nil {
		return nil, nil, err
	}
	is := publishing.Find(has, v.Version, v.Upload)
	if is == nil || len(is.Files) == 0 {
		return nil, nil, fault.New(fault.NotFound, "not-kept", "%s does not keep %s", r.Name, act.PURLOf(key, v.Version))
	}
	return has, is, nil
}
