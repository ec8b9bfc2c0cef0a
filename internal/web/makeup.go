package web

import (
	"context"
	"fmt"
	"net/http"

	"crelvo/internal/api"
	core "crelvo/internal/core/makeup"
	"crelvo/internal/core/purl"
	"crelvo/internal/core/text"
	"crelvo/internal/service/makeup"
)

// askedOf is a version as a request names it.
func askedOf(named, repository, platform string) (makeup.Asked, error) {
	p, err := purl.Parse(named)
	return makeup.Asked{PURL: p, Repository: repository, Platform: platform}, err
}

func (w *Server) addMakeup() {
	operate(w, "show-makeup", forAnyone, http.MethodGet, "/api/v1/makeup",
		"The layers of a version, how they were made, and how it is to be run",
		func(ctx context.Context, v visit, in *struct {
			Which
			Platform string `query:"platform" maxLength:"100" doc:"of those that it has; left out: the first"`
		}) (*answer[api.Makeup], error) {
			asked, err := askedOf(in.PURL, in.Repository, in.Platform)
			if err != nil {
				return nil, err
			}
			made, err := w.service.Makeup.Of(ctx, v.caller, asked)
			if err != nil {
				return nil, err
			}
			sharing, err := w.service.Makeup.Sharing(ctx, v.caller, made)
			return &answer[api.Makeup]{showMakeup(made, sharing)}, err
		})
	operate(w, "compare-versions", forAnyone, http.MethodGet, "/api/v1/comparison",
		"How one version differs from another: layers, how it is to be run, and files",
		func(ctx context.Context, v visit, in *struct {
			Before           string `query:"before" required:"true" maxLength:"1000" doc:"a version"`
			BeforeRepository string `query:"beforeRepository" maxLength:"63"`
			After            string `query:"after" required:"true" maxLength:"1000" doc:"the one that it is compared with"`
			AfterRepository  string `query:"afterRepository" maxLength:"63"`
			Platform         string `query:"platform" maxLength:"100" doc:"left out: the first that both have"`
			Files            bool   `query:"files" doc:"compare the files in the layers too, which may take a few seconds"`
		}) (*answer[api.Comparison], error) {
			before, err := askedOf(in.Before, in.BeforeRepository, in.Platform)
			if err != nil {
				return nil, err
			}
			after, err := askedOf(in.After, in.AfterRepository, in.Platform)
			if err != nil {
				return nil, err
			}
			c, err := w.service.Makeup.Compare(ctx, v.caller, before, after, in.Files)
			if err != nil {
				return nil, err
			}
			return &answer[api.Comparison]{showComparison(c)}, nil
		})
}

func showMakeup(v makeup.Version, sharing map[string][]string) api.Makeup {
	shown := api.Makeup{PURL: v.PURL.String(), Title: v.Title, Repository: v.Repository, Platform: v.Platform,
		Platforms: append([]string{}, v.Platforms...), Child: v.Child, Settings: []api.Setting{},
		Steps: showSteps(v.Steps, sharing)}
	if !v.Made.IsZero() {
		shown.Made = utc(&v.Made)
	}
	for _, s := range v.Steps {
		shown.Bytes += s.Size
	}
	for _, s := range v.Settings {
		shown.Settings = append(shown.Settings, api.Setting(s))
	}
	return shown
}

func showSteps(steps []core.Step, sharing map[string][]string) []api.MadeStep {
	all := []api.MadeStep{}
	for _, s := range steps {
		all = append(all, api.MadeStep{Layer: s.Layer, MediaType: s.MediaType, Bytes: s.Size, By: s.By,
			Sharing: sharing[s.Layer]})
	}
	return all
}

func showComparison(c makeup.Comparison) api.Comparison {
	shown := api.Comparison{Before: showMakeup(c.Before, nil), After: showMakeup(c.After, nil),
		Same: showSteps(c.Same, nil), Gone: showSteps(c.Comparison.Before, nil), New: showSteps(c.Comparison.After, nil),
		Settings: []api.SettingDifference{}}
	for _, d := range c.Settings {
		shown.Settings = append(shown.Settings, api.SettingDifference(d))
	}
	if f := c.Files; f != nil {
		files := &api.FileDifferences{Added: f.Added, Changed: f.Changed, Removed: f.Removed, LeftOut: f.LeftOut,
			Some: []api.FileDifference{}}
		for _, d := range f.Some {
			files.Some = append(files.Some, showFileDifference(d))
		}
		shown.Files = files
	}
	return shown
}

// longestPath is how many letters the path of a file has that is shown.
const longestPath = 4096

func showFileDifference(d core.FileDifference) api.FileDifference {
	return api.FileDifference{Path: text.Clean(d.Path, false, longestPath), Before: showLayerFile(d.Before),
		After: showLayerFile(d.After)}
}

func showLayerFile(f *core.File) *api.LayerFile {
	if f == nil {
		return nil
	}
	shown := &api.LayerFile{Bytes: f.Size, Owner: f.Owner, Link: text.Clean(f.Link, false, longestPath), Code: f.Code}
	if f.Owner != "" {
		shown.Mode = fmt.Sprintf("%04o", f.Mode)
	}
	return shown
}
