package web

import (
	"cmp"
	"context"
	"encoding/hex"
	"fmt"
	"net/http"
	"net/url"

	"crelvo/internal/api"
	"crelvo/internal/core/fileset"
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

// addSets adds what is told of the files of file sets.
func (w *Server) addSets() {
	operate(w, "list-set-folder", forAnyone, http.MethodGet, "/api/v1/contents",
		"What stands in a folder of a file set",
		func(ctx context.Context, v visit, in *struct {
			Which
			Folder string `query:"folder" maxLength:"4096" doc:"left out: the set itself; else a path that ends with a slash"`
			After  string `query:"after" maxLength:"255" doc:"go on after this name"`
			Limit  int    `query:"limit" minimum:"1" maximum:"10000" default:"500"`
		}) (*answer[api.SetFolder], error) {
			asked, err := askedOf(in.PURL, in.Repository, "")
			if err != nil {
				return nil, err
			}
			set, lines, more, err := w.service.Makeup.Folder(ctx, v.caller, asked, in.Folder, in.After, in.Limit)
			if err != nil {
				return nil, err
			}
			shown := showSetFolder(set, in.Folder, lines, more)
			if in.Folder+in.After == "" {
				shared, err := w.service.Makeup.Shared(ctx, set)
				if err != nil {
					return nil, err
				}
				for _, o := range shared {
					of := set.PURL
					of.Version = o.Version
					shown.Shared = append(shown.Shared, api.SharedVersion{PURL: of.String(), Version: cmp.Or(o.Upload, o.Version),
						Bytes: o.Bytes})
				}
			}
			return &answer[api.SetFolder]{shown}, nil
		})
}

func showSetFolder(set makeup.Set, folder string, lines []fileset.Line, more bool) api.SetFolder {
	shown := api.SetFolder{PURL: set.PURL.String(), Repository: set.Repository, Folder: folder, Entries: []api.SetEntry{}}
	at := "/at/" + set.Repository + "/" + set.PURL.Ecosystem + "/" + set.PURL.Name + "/" + cmp.Or(set.Upload,
		set.PURL.Version)
	for _, l := range lines {
		e := api.SetEntry{Name: l.Name, Kind: l.Kind.String(), Bytes: l.Size, Files: l.Files, Target: l.Target,
			Path: (&url.URL{Path: at + "/" + l.Path}).EscapedPath()}
		if l.Kind != fileset.Folder {
			e.Modified = utc(&l.Modified)
		}
		if l.Kind != fileset.Link {
			e.Mode = fmt.Sprintf("%o", l.Mode)
		}
		if l.Kind == fileset.File {
			e.SHA256 = hex.EncodeToString(l.Digest[:])
		}
		shown.Entries = append(shown.Entries, e)
	}
	if more {
		shown.Next = lines[len(lines)-1].Name
	}
	return shown
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
			Same: f.Same, New: f.New,
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
	if f.Owner != "" || f.Mode != 0 {
		shown.Mode = fmt.Sprintf("%04o", f.Mode)
	}
	return shown
}
