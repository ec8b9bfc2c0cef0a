package web

import (
	"context"
	"net/http"
	"time"

	"crelvo/internal/api"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/purl"
	"crelvo/internal/record"
	"crelvo/internal/service/use"
)

// UseOf selects downloads. It is exported for the sake of the reflection that
// reads inputs.
type UseOf struct {
	Repository string `query:"repository" maxLength:"63"`
	PURL       string `query:"purl" maxLength:"1000" doc:"a package, or one version of it"`
	From       string `query:"from" maxLength:"60" doc:"a day, or another moment; left out: 30 days until the other"`
	Until      string `query:"until" maxLength:"60" doc:"a day, or another moment, its day included; left out: today"`
}

func (u UseOf) value(now time.Time) (use.Question, error) {
	q := use.Question{Repository: u.Repository, Package: u.PURL}
	for text, into := range map[string]*time.Time{u.From: &q.From, u.Until: &q.Until} {
		if text == "" {
			continue
		}
		at, err := catalog.ParseMoment(text, now.UTC(), false)
		if err != nil {
			return q, err
		}
		*into = at.UTC().Truncate(24 * time.Hour)
	}
	return q, nil
}

func (w *Server) addUsage() {
	operate(w, "show-use", forSignedIn, http.MethodGet, "/api/v1/use",
		"How often, and by how many, what the caller may read was downloaded",
		func(ctx context.Context, v visit, in *struct {
			UseOf
			By string `query:"by" enum:"day,client,who,version,repository" default:"day"`
		}) (*answer[[]api.UsePart], error) {
			q, err := in.value(w.service.Now())
			if err != nil {
				return nil, err
			}
			parts, err := w.service.Use.UseBy(ctx, v.caller, q, in.By)
			all := []api.UsePart{}
			for _, p := range parts {
				all = append(all, api.UsePart(p))
			}
			return &answer[[]api.UsePart]{all}, err
		})
	operate(w, "list-used-packages", forSignedIn, http.MethodGet, "/api/v1/packages/used",
		"Packages by their use: the most used, rising, falling, or unused",
		func(ctx context.Context, v visit, in *struct {
			UseOf
			Order string `query:"order" enum:"top,rising,falling,unused" default:"top"`
			Limit int    `query:"limit" minimum:"1" maximum:"1000" default:"20"`
		}) (*answer[[]api.UsedPackage], error) {
			q, err := in.value(w.service.Now())
			if err != nil {
				return nil, err
			}
			found, err := w.service.Use.UsedPackages(ctx, v.caller, q, in.Order, in.Limit)
			all := []api.UsedPackage{}
			for _, p := range found {
				all = append(all, w.showUsed(p))
			}
			return &answer[[]api.UsedPackage]{all}, err
		})
	operate(w, "who-uses", forSignedIn, http.MethodGet, "/api/v1/packages/users",
		"Who still uses a version: users, robots, builds, and what needs it",
		func(ctx context.Context, v visit, in *struct {
			PURL       string `query:"purl" required:"true" maxLength:"1000"`
			Repository string `query:"repository" maxLength:"63"`
		}) (*answer[api.WhoUses], error) {
			p, err := purl.ParsePattern(in.PURL)
			if err != nil {
				return nil, err
			}
			who, err := w.service.Use.WhoUses(ctx, v.caller, p, in.Repository)
			shown := api.WhoUses{Users: showUsers(who.Users), Builds: []string{}, Needs: []api.NeededBy{}}
			for _, n := range who.Needs {
				shown.Needs = append(shown.Needs, api.NeededBy{PURL: n.PURL.String(), Wants: n.Wants, Via: n.Via})
			}
			for _, b := range who.Builds {
				shown.Builds = append(shown.Builds, b.Name+"#"+b.Number)
			}
			return &answer[api.WhoUses]{shown}, err
		})
	operate(w, "show-space", forSignedIn, http.MethodGet, "/api/v1/space", "Where storage goes",
		func(ctx context.Context, v visit, in *struct {
			Days int `query:"days" minimum:"1" maximum:"730" default:"90" doc:"how far back"`
		}) (*answer[api.SpacePage], error) {
			space, err := w.service.Use.Space(ctx, v.caller, w.service.Now().AddDate(0, 0, -in.Days))
			return &answer[api.SpacePage]{w.showSpace(space)}, err
		})
}

func (w *Server) showUsed(p record.UsedPackage) api.UsedPackage {
	r, _ := w.service.Directory.RepositoryByID(p.RepositoryID)
	return api.UsedPackage{Repository: r.Name, PURL: purl.PURL{Ecosystem: p.Ecosystem, Namespace: p.Namespace,
		Name: p.Name}.String(), Versions: p.Versions, Bytes: p.Bytes,
		Downloads: p.Downloads, Before: p.Before, Users: p.Users, UsedAt: utc(p.UsedAt)}
}

func (w *Server) showSpace(space use.Space) api.SpacePage {
	page := api.SpacePage{Now: []api.Space{}, Days: []api.SpaceDay{}, Ages: []api.SpaceMonth{},
		Files: space.Files, Bytes: space.Bytes, Unnamed: space.Unnamed, Free: space.Free,
		AsOf: space.AsOf.UTC()}
	for _, s := range space.Now {
		if r, ok := w.service.Directory.RepositoryByID(s.RepositoryID); ok {
			page.Now = append(page.Now, api.Space{Repository: r.Name, Ecosystem: s.Ecosystem, Packages: s.Packages,
				Versions: s.Versions, Bytes: s.Bytes, Shared: s.Shared, Grace: s.Grace})
		}
	}
	for _, s := range space.Days {
		if r, ok := w.service.Directory.RepositoryByID(s.RepositoryID); ok {
			page.Days = append(page.Days, api.SpaceDay{Repository: r.Name, Ecosystem: s.Ecosystem, When: s.Day,
				Versions: s.Versions, Bytes: s.Bytes})
		}
	}
	for _, s := range space.Ages {
		if r, ok := w.service.Directory.RepositoryByID(s.RepositoryID); ok {
			page.Ages = append(page.Ages, api.SpaceMonth{Repository: r.Name, When: s.Month, Versions: s.Versions,
				Bytes: s.Bytes})
		}
	}
	return page
}

func showUsers(users []record.VersionUser) []api.VersionUser {
	shown := make([]api.VersionUser, len(users))
	for i, u := range users {
		shown[i] = api.VersionUser{Name: u.Name, Kind: u.Kind, LastAt: u.LastAt.UTC(), Clients: append([]string{},
			u.Clients...)}
	}
	return shown
}
