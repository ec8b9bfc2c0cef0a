package web

import (
	"context"
	"net/http"
	"net/url"

	"crelvo/internal/api"
	"crelvo/internal/core/access"
	"crelvo/internal/core/purl"
	core "crelvo/internal/core/symbols"
	"crelvo/internal/service/act"
	"crelvo/internal/service/symbols"
)

func (w *Server) addSymbols() {
	operate(w, "find-symbols", forAnyone, http.MethodGet, "/api/v1/symbols",
		"What debuggers may ask for: by its key, by its name, or of a version; at most 200",
		func(ctx context.Context, v visit, in *struct {
			Key        string `query:"key" maxLength:"130" doc:"a build id, a uuid, or a key at symbol servers"`
			Name       string `query:"name" maxLength:"255" doc:"of a file"`
			PURL       string `query:"purl" maxLength:"1024" doc:"a version"`
			Repository string `query:"repository" maxLength:"110" doc:"left out: every one that the caller may read"`
		}) (*answer[[]api.Symbol], error) {
			asked := symbols.Asked{Key: in.Key, Name: in.Name}
			if in.PURL != "" {
				var err error
				if asked.Of, err = purl.Parse(in.PURL); err != nil {
					return nil, err
				}
			}
			repositories := w.service.Directory.Readable(v.caller)
			if in.Repository != "" {
				r, err := w.service.Directory.Repository(v.caller, in.Repository, access.Read)
				if err != nil {
					return nil, err
				}
				repositories = repositories[:0:0]
				repositories = append(repositories, r)
			}
			found, known, err := w.service.Symbols.Tell(ctx, asked, repositories...)
			if err != nil {
				return nil, err
			}
			all := []api.Symbol{}
			for _, s := range found {
				all = append(all, w.showSymbol(s, known[s.Key]))
			}
			return &answer[[]api.Symbol]{all}, nil
		})
	operate(w, "look-for-symbols", forAnyone, http.MethodPost, "/api/v1/symbols/looks",
		"Have a version looked into for what debuggers want, such as the layers of an image; in the background",
		func(ctx context.Context, v visit, in *struct{ Body api.WantedLook }) (*answer[api.LookedFor], error) {
			of, err := purl.Parse(in.Body.PURL)
			if err != nil {
				return nil, err
			}
			wanted, err := w.service.Symbols.Want(ctx, v.caller, of, in.Body.Repository)
			looked := api.LookedFor{Versions: []string{}}
			for _, version := range wanted {
				looked.Versions = append(looked.Versions, act.PURLOf(version.Key, version.Version).String())
			}
			return &answer[api.LookedFor]{looked}, err
		})
}

func (w *Server) showSymbol(s core.At, known bool) api.Symbol {
	r := w.service.Directory.Known().ByID[s.Of.RepositoryID]
	shown := api.Symbol{Format: string(s.Format), Key: s.Key, Code: s.Code, Debug: s.Debug,
		PURL: act.PURLOf(s.Of, s.Version).String(), Upload: s.Upload, Repository: r.Name, Build: s.MadeBy, File: s.File,
		Path: s.Path, Bytes: s.Size, Known: known && s.Code && !s.Debug}
	at := "/at/" + r.Name + "/symbols/"
	name := url.PathEscape(s.Name())
	switch {
	case s.Key == "":
	case s.Format == core.ELF && s.Debug && !s.Code:
		shown.Address = at + "buildid/" + s.Key + "/debuginfo"
	case s.Format == core.ELF:
		shown.Address = at + "buildid/" + s.Key + "/executable"
	case s.Format == core.MachO && s.Debug:
		shown.Address = at + "_.dwarf/mach-uuid-sym-" + s.Key + "/_.dwarf"
	case s.Format == core.MachO:
		shown.Address = at + name + "/mach-uuid-" + s.Key + "/" + name
	default:
		shown.Address = at + name + "/" + s.Key + "/" + name
	}
	return shown
}
