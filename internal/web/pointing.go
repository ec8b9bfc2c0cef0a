package web

import (
	"context"
	"net/http"

	"crelvo/internal/api"
	"crelvo/internal/core/purl"
	"crelvo/internal/core/splice"
	"crelvo/internal/ecosystem"
	"crelvo/internal/ecosystem/kinds"
	"crelvo/internal/service/pointing"
)

func (w *Server) addPointing() {
	operate(w, "list-clients", forAnyone, http.MethodGet, "/api/v1/clients",
		"The programs that can be pointed at a repository",
		func(context.Context, visit, *none) (*answer[[]api.PackageClient], error) {
			all := []api.PackageClient{}
			for _, e := range kinds.All() {
				for _, c := range append(e.Clients(), ecosystem.Curl(e)) {
					all = append(all, showClient(c, e))
				}
			}
			return &answer[[]api.PackageClient]{all}, nil
		})
	operate(w, "point", toRead, http.MethodGet, "/api/v1/repositories/{name}/point",
		"What points a client at a repository",
		func(ctx context.Context, v visit, in *struct {
			ByName
			Client    string `query:"client" required:"true" maxLength:"30" example:"npm"`
			Ecosystem string `query:"ecosystem" maxLength:"30" doc:"for a client that every ecosystem has, such as curl"`
			Publish   bool   `query:"publish" doc:"to publish as well"`
			PURL      string `query:"purl" maxLength:"1024" doc:"what to use from there"`
		}) (*answer[api.Setup], error) {
			var of purl.PURL
			if in.PURL != "" {
				var err error
				if of, err = purl.Parse(in.PURL); err != nil {
					return nil, err
				}
			}
			p, err := w.service.Pointing.Point(ctx, v.caller, in.Name, in.Client, in.Ecosystem, v.address, in.Publish, of)
			if err != nil {
				return nil, err
			}
			return &answer[api.Setup]{showSetup(p)}, nil
		})
}

func showClient(c ecosystem.PackageClient, e ecosystem.Ecosystem) api.PackageClient {
	return api.PackageClient{Name: c.Name, Title: c.Title, Ecosystem: e.Name(), Publishes: c.Publishes}
}

func showPieces(pieces []ecosystem.Piece) []api.Piece {
	shown := []api.Piece{}
	for _, piece := range pieces {
		shown = append(shown, api.Piece{Title: piece.Title, File: piece.File, Windows: piece.Windows,
			Language: piece.Language,
			Personal: piece.Personal(), Secret: piece.Secret, Text: piece.Text()})
	}
	return shown
}

func showSetup(p pointing.Pointed) api.Setup {
	shown := api.Setup{Client: showClient(p.Client, p.Ecosystem), Placeholder: ecosystem.Placeholder,
		Pieces:   showPieces(p.Client.Parts(p.Pointing)),
		Commands: append([]string{}, p.Client.Commands(p.Pointing)...), CI: []api.Shell{}, CIFiles: []api.Piece{},
		Pointing: api.Pointing{Address: p.Address, ID: p.ID, User: p.User, Everything: p.Everything, Releases: p.Releases,
			Snapshots:       p.Snapshots,
			PublishReleases: p.PublishReleases, PublishSnapshots: p.PublishSnapshots, Own: append([]string{}, p.Own...)},
		Token: api.NewToken{Name: p.Client.Name + "-" + p.ID, On: p.Token.On}}
	for _, can := range p.Token.Can {
		shown.Token.Can = append(shown.Token.Can, string(can))
	}
	variables := []splice.Setting{{Key: ecosystem.TokenVariable, Value: p.Pointing.Token()}}
	if p.Client.Variables != nil {
		variables = p.Client.Variables(p.Pointing)
	} else {
		named := p.Pointing
		named.Secret = p.Client.Reference
		for _, piece := range showPieces(p.Client.Parts(named)) {
			if piece.Secret && p.Client.Reference != "" {
				piece.Title, piece.Secret = "Written by CI before it builds; it names the variable, so it has no secret", false
				shown.CIFiles = append(shown.CIFiles, piece)
			}
		}
	}
	for _, shell := range ecosystem.Shells(variables) {
		shown.CI = append(shown.CI, api.Shell(shell))
	}
	shown.Recipe, shown.Build = ecosystem.InContainer(p.Client, p.Pointing)
	return shown
}
