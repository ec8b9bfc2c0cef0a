package web

import (
	"context"
	"net/http"

	"crelvo/internal/api"
	"crelvo/internal/core/purl"
	"crelvo/internal/core/text"
	"crelvo/internal/service/vetting"
)

func (w *Server) addLooks() {
	operate(w, "look-inside", toRead, http.MethodPost, "/api/v1/repositories/{name}/looks",
		"Look into a version that a mirror has or its upstream lists, and compare it with the one before it that is let in",
		func(ctx context.Context, v visit, in *struct {
			ByName
			Body api.LookWish
		}) (*answer[api.LookedInside], error) {
			p, err := purl.Parse(in.Body.PURL)
			if err != nil {
				return nil, err
			}
			inside, err := w.service.Vetting.LookInside(ctx, v.caller, in.Name, p)
			return &answer[api.LookedInside]{showInside(inside)}, err
		})
}

// mostInsideFiles is how many files are named of each list.
const mostInsideFiles, mostCode = 1000, 100

func showInside(in vetting.Inside) api.LookedInside {
	shown := api.LookedInside{PURL: in.PURL.Typed(), Archive: in.Archive.Name, Files: len(in.Archive.Files),
		Bytes: in.Archive.Bytes, Code: []string{}, Before: in.BeforePURL.Version, WhyNot: in.WhyNot,
		Differences: api.FileDifferences{Some: []api.FileDifference{}}}
	for _, path := range in.Archive.Code[:min(len(in.Archive.Code), mostCode)] {
		shown.Code = append(shown.Code, text.Clean(path, false, longestPath))
	}
	d := &shown.Differences
	for _, one := range in.Differences {
		switch {
		case one.Before == nil:
			d.Added++
		case one.After == nil:
			d.Removed++
		default:
			d.Changed++
		}
		if len(d.Some) < mostInsideFiles {
			d.Some = append(d.Some, showFileDifference(one))
		}
	}
	return shown
}
