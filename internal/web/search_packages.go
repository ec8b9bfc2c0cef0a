package web

import (
	"cmp"
	"context"
	"encoding/hex"
	"net/http"
	"slices"
	"strings"

	"crelvo/internal/api"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
	"crelvo/internal/ecosystem/kinds"
	"crelvo/internal/service/search"
)

// Which names a package. It is exported for the sake of the reflection that reads
// inputs.
type Which struct {
	PURL       string `query:"purl" required:"true" maxLength:"1024" example:"pkg:maven/example.skerry.berth/berth-planner"`
	Repository string `query:"repository" maxLength:"110" doc:"left out: every one that the caller may read"`
}

func (w *Server) addPackages() {
	operate(w, "search", forAnyone, http.MethodGet, "/api/v1/packages",
		"Packages that fit a query; docs/search.md has its form",
		func(ctx context.Context, v visit, in *struct {
			Query      string `query:"q" maxLength:"1000"`
			Repository string `query:"repository" maxLength:"63"`
			Limit      int    `query:"limit" minimum:"1" maximum:"500" default:"50"`
			Skip       int    `query:"skip" minimum:"0" maximum:"100000"`
		}) (*answer[api.PackageList], error) {
			found, err := w.service.Search.Search(ctx, v.caller, in.Query, in.Repository, in.Limit+1, in.Skip)
			if err != nil {
				return nil, err
			}
			page := api.PackageList{Packages: []api.PackageLine{}, More: len(found) > in.Limit}
			for _, f := range found[:min(len(found), in.Limit)] {
				page.Packages = append(page.Packages, api.PackageLine{PURL: f.PURL().String(), Ecosystem: f.Ecosystem,
					Namespace: f.Namespace, Name: f.Name, Repository: f.Repository.Name, Latest: f.Latest, Versions: f.Versions,
					Bytes: f.Bytes, ChangedAt: f.ChangedAt.UTC(), PublishedBy: f.PublishedBy, Description: f.Description})
			}
			return &answer[api.PackageList]{page}, nil
		})
	operate(w, "list-ecosystems", forAnyone, http.MethodGet, "/api/v1/ecosystems",
		"The kinds of package that the service knows",
		func(context.Context, visit, *none) (*answer[[]api.Ecosystem], error) {
			all := []api.Ecosystem{}
			for _, e := range kinds.All() {
				_, mirrored := e.(ecosystem.Mirrored)
				_, layered := e.(ecosystem.Layered)
				all = append(all, api.Ecosystem{Name: e.Name(), Title: e.Title(), Mirrored: mirrored, Layered: layered})
			}
			return &answer[[]api.Ecosystem]{all}, nil
		})
	operate(w, "show-package", forAnyone, http.MethodGet, "/api/v1/package",
		"A package, or one version of it; of many versions a page",
		func(ctx context.Context, v visit, in *struct {
			Which
			After string `query:"after" maxLength:"255" doc:"go on after this version"`
			Limit int    `query:"limit" minimum:"1" maximum:"1000" default:"100" doc:"how many versions"`
		}) (*answer[api.Package], error) {
			p, err := purl.Parse(in.PURL)
			if err != nil {
				return nil, err
			}
			e := w.service.Ecosystem(p.Ecosystem)
			if e == nil {
				return nil, noEcosystem(p.Ecosystem)
			}
			holdings, paged, err := w.service.Search.Show(ctx, v.caller, p, in.Repository,
				search.VersionPage{After: in.After, Limit: in.Limit})
			if err != nil {
				return nil, err
			}
			shown := showPackage(e, p, holdings)
			shown.Total, shown.Next = paged.Total, paged.Next
			if err := w.addFindings(ctx, p, holdings, shown.Versions); err != nil {
				return nil, err
			}
			return &answer[api.Package]{shown}, nil
		})
	w.addAboutPackages()
}

// addAboutPackages adds what is told of packages besides what they are.
func (w *Server) addAboutPackages() {
	operate(w, "list-label-moves", forAnyone, http.MethodGet, "/api/v1/package/labels",
		"Where the labels of a version, or of all of a package, pointed one after the other, the newest first",
		func(ctx context.Context, v visit, in *Which) (*answer[[]api.LabelMove], error) {
			p, err := purl.Parse(in.PURL)
			if err != nil {
				return nil, err
			}
			moves, err := w.service.Search.LabelMoves(ctx, v.caller, p, in.Repository)
			all := make([]api.LabelMove, len(moves))
			for i, m := range moves {
				all[i] = api.LabelMove{Label: m.Label, Version: m.Version, Before: m.Before, By: m.By, At: m.At.UTC(),
					Until: utc(m.Until)}
			}
			return &answer[[]api.LabelMove]{all}, err
		})
	operate(w, "readme", forAnyone, http.MethodGet, "/api/v1/readme",
		"The text about a version, or about the newest one; 404 if there is none",
		func(ctx context.Context, v visit, in *Which) (*answer[api.Readme], error) {
			p, err := purl.Parse(in.PURL)
			if err != nil {
				return nil, err
			}
			readme, version, err := w.service.Search.ReadmeOf(ctx, v.caller, p, in.Repository)
			if err != nil {
				return nil, err
			}
			html, err := w.readmes.html(ctx, readme)
			return &answer[api.Readme]{api.Readme{Version: version, HTML: html}}, err
		})
}

// maxUploads is how many uploads of one version are told of.
const maxUploads = 100

// showPackage puts together what several repositories hold of a package.
func showPackage(e ecosystem.Ecosystem, p purl.PURL, holdings []search.Holding) api.Package {
	shown := api.Package{PURL: p.String(), Ecosystem: p.Ecosystem, Namespace: p.Namespace, Name: p.Name,
		Repositories: []string{}, Versions: []api.VersionGroup{}}
	type place struct{ version, repository string }
	groups := map[place]int{}
	for _, h := range holdings {
		shown.Repositories = append(shown.Repositories, h.Repository.Name)
		for _, v := range h.Package.Versions {
			at := place{v.Version, h.Repository.Name}
			i, ok := groups[at]
			if !ok {
				i = len(shown.Versions)
				groups[at] = i
				version := p
				version.Version, version.Qualifiers = v.Version, nil
				shown.Versions = append(shown.Versions, api.VersionGroup{Version: v.Version, Title: v.Version,
					PURL:       version.String(),
					Repository: h.Repository.Name, Snapshot: v.Snapshot, Listed: v.Listed, Uploads: []api.Upload{},
					Labels: h.Package.LabelsAt(v.Version), Withdrawn: showWithdrawal(v.Withdrawn)})
			}
			group := &shown.Versions[i]
			group.Listed = group.Listed && v.Listed
			use := h.Uses[v.ID]
			group.Downloads += use.Downloads
			if use.UsedAt != nil && (group.LastUse == nil || use.UsedAt.After(*group.LastUse)) {
				group.LastUse = utc(use.UsedAt)
			}
			group.Users = max(group.Users, use.Users)
			if group.UploadCount == 0 {
				group.Bytes = cmp.Or(h.Whole[v.Version], v.Size())
				if filed, ok := e.(ecosystem.Filed); ok {
					_, group.Bytes = filed.Holds(v.Details)
				}
			}
			if group.UploadCount++; group.UploadCount <= maxUploads {
				group.Uploads = append(group.Uploads, showUpload(e, p, h, v))
			}
		}
	}
	sortGroups(p.Ecosystem, shown.Versions)
	if m, ok := e.(ecosystem.Maturing); ok {
		for _, h := range holdings {
			showBelonging(m, h, shown.Versions)
		}
	}
	if len(holdings) > 0 {
		describe(&shown, holdings)
	}
	return shown
}

// addFindings adds what advisories say of versions, and why they are kept out.
func (w *Server) addFindings(
	ctx context.Context, p purl.PURL, holdings []search.Holding, groups []api.VersionGroup,
) error {
	for _, h := range holdings {
		if err := w.addInside(ctx, p.Ecosystem, h, groups); err != nil {
			return err
		}
		judge, err := w.service.Safety.Judge(ctx, h.Repository, h.Repository.Key(p.Ecosystem, p.Namespace, p.Name))
		if err != nil {
			return err
		}
		if judge == nil {
			continue
		}
		out := w.service.Resolving.KeptOut(ctx, h.Repository.Key(p.Ecosystem, p.Namespace, p.Name))
		for i := range groups {
			if g := &groups[i]; g.Repository == h.Repository.Name {
				g.KeptOut = out[g.Version]
				for _, f := range judge.Findings(g.Version) {
					g.Findings = append(g.Findings, showFinding(f))
				}
			}
		}
	}
	return nil
}

// mostInside is of how many things inside a version it is told what advisories say.
const mostInside = 20

// addInside adds what advisories say of what versions have inside, where that is known of such.
func (w *Server) addInside(
	ctx context.Context, ecosystemName string, h search.Holding, groups []api.VersionGroup,
) error {
	if _, may := w.service.Ecosystem(ecosystemName).(ecosystem.Maturing); !may {
		return nil
	}
	of, ids := map[int64]string{}, []int64{}
	for _, v := range h.Package.Versions {
		if v.ID != 0 {
			of[v.ID], ids = v.Version, append(ids, v.ID)
		}
	}
	inside, err := w.service.Safety.FindingsInside(ctx, ids)
	for id, all := range inside {
		at := slices.IndexFunc(groups, func(g api.VersionGroup) bool {
			return g.Repository == h.Repository.Name && g.Version == of[id]
		})
		for i := 0; at >= 0 && i < min(len(all), mostInside); i++ {
			shown := showFinding(all[i].Finding)
			shown.Inside = all[i].Of.Typed()
			groups[at].Findings = append(groups[at].Findings, shown)
		}
	}
	return err
}

// showBelonging says of versions that are named by their content what people call them, and
// to which they belong.
func showBelonging(m ecosystem.Maturing, h search.Holding, groups []api.VersionGroup) {
	at := map[string]*api.VersionGroup{}
	for i := range groups {
		if g := &groups[i]; g.Repository == h.Repository.Name {
			at[g.Version] = g
			g.Title = purl.ShortVersion(g.Version)
			if len(g.Labels) > 0 {
				g.Title = strings.Join(g.Labels, ", ")
			}
		}
	}
	for _, v := range h.Package.Versions {
		parts, about, what := m.Belongs(v.Details)
		if g := at[v.Version]; g != nil {
			g.What = cmp.Or(g.What, what)
			if about != "" && at[about] != nil {
				g.BelongsTo, g.BelongsAs = about, "about"
			}
		}
		for _, part := range parts {
			if g := at[part.Version]; g != nil && len(g.Labels) == 0 {
				g.BelongsTo, g.BelongsAs, g.What = v.Version, "part", cmp.Or(part.What, g.What)
			}
		}
	}
}

// describe takes what the newest version says of the package.
func describe(shown *api.Package, holdings []search.Holding) {
	newest := holdings[0].Package.Versions[0]
	for _, h := range holdings[1:] {
		if v := h.Package.Versions[0]; v.PublishedAt.After(newest.PublishedAt) {
			newest = v
		}
	}
	d := newest.Details
	shown.Title, shown.Description, shown.Homepage, shown.Source = d.Title, d.Description, d.Homepage, d.Source
}

func showWithdrawal(w *catalog.Withdrawal) *api.Withdrawal {
	if w == nil {
		return nil
	}
	shown := &api.Withdrawal{Reason: w.Reason, By: w.By}
	if !w.At.IsZero() {
		shown.At = utc(&w.At)
	}
	return shown
}

func showUpload(e ecosystem.Ecosystem, p purl.PURL, h search.Holding, v catalog.Version) api.Upload {
	r := h.Repository
	p.Version = v.Version
	u := api.Upload{Name: v.Exact(), PublishedBy: v.PublishedBy, PublishedAt: v.PublishedAt.UTC(), Size: v.Size(),
		Build: h.Builds[v.BuildID], Promotions: h.Promotions[v.ID],
		Packaging: v.Details.Packaging, Parent: v.Details.Parent,
		Licences: []api.Licence{}, Authors: append([]string{}, v.Details.Authors...), Dependencies: []api.Dependency{},
		Files: []api.File{}}
	if o, ok := h.Origins[v.ID]; ok {
		u.Origin = &o
	}
	for _, l := range v.Details.Licences {
		u.Licences = append(u.Licences, api.Licence(l))
	}
	for _, d := range v.Details.Dependencies {
		u.Dependencies = append(u.Dependencies, api.Dependency(d))
	}
	filed, sets := e.(ecosystem.Filed)
	if sets {
		u.Set = &api.FileSet{}
		u.Set.Files, u.Set.Bytes = filed.Holds(v.Details)
		u.Size = u.Set.Bytes
	}
	for _, f := range v.Files {
		if sets && filed.KeptAs(f) {
			continue
		}
		if !f.Kept() {
			continue // its bytes are not known
		}
		from := ""
		if f.MadeFrom != [32]byte{} {
			from = hex.EncodeToString(f.MadeFrom[:])
		}
		u.Files = append(u.Files, api.File{Name: f.Name, MadeFrom: from, Classifier: f.Classifier, Extension: f.Extension,
			Size: f.Digests.Size, AddedAt: f.AddedAt.UTC(), AddedBy: f.AddedBy, Checksums: checksums(f.Digests),
			Path: "/at/" + r.At() + "/" + e.Name() + "/" + e.Address(p, v.Upload, f)})
	}
	return u
}

func sortGroups(ecosystemName string, groups []api.VersionGroup) {
	slices.SortStableFunc(groups, func(a, b api.VersionGroup) int {
		if c := purl.Compare(ecosystemName, b.Version, a.Version); c != 0 {
			return c
		}
		if a.Version != b.Version { // what has no order is in that of its coming
			return cmp.Or(b.Uploads[0].PublishedAt.Compare(a.Uploads[0].PublishedAt), strings.Compare(a.Version, b.Version))
		}
		return strings.Compare(a.Repository, b.Repository)
	})
}
