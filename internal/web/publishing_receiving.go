package web

import (
	"context"
	"net/http"

	"crelvo/internal/api"
	"crelvo/internal/core/purl"
)

func (w *Server) addReceiving() {
	operate(w, "list-receiving", forAnyone, http.MethodGet, "/api/v1/receiving",
		"What is being received and is not complete, what came last first",
		func(ctx context.Context, v visit, in *struct {
			PURL       string `query:"purl" maxLength:"1024" doc:"only of this package"`
			Repository string `query:"repository" maxLength:"63" doc:"left out: every one that the caller may read"`
		}) (*answer[[]api.Receiving], error) {
			var of purl.PURL
			var err error
			if in.PURL != "" {
				if of, err = purl.Parse(in.PURL); err != nil {
					return nil, err
				}
			}
			found, err := w.service.Publishing.Receiving(ctx, v.caller, of, in.Repository)
			all := []api.Receiving{}
			for _, r := range found {
				all = append(all, api.Receiving{PURL: r.PURL.String(), Upload: r.Upload, Repository: r.Repository, By: r.By,
					BegunAt: r.Begun.UTC(), LastAt: r.Last.UTC(),
					Files: r.Files, Bytes: r.Bytes, Lacks: r.Lacks, Until: r.Until.UTC()})
			}
			return &answer[[]api.Receiving]{all}, err
		})
	operate(w, "withdraw", toPublish, http.MethodPost, "/api/v1/repositories/{name}/withdraw",
		"Mark a version as not to be used any more, or take the mark away",
		func(ctx context.Context, v visit, in *struct {
			ByName
			Body api.Withdraw
		}) (*answer[api.Withdraw], error) {
			p, err := purl.Parse(in.Body.PURL)
			if err != nil {
				return nil, err
			}
			return &answer[api.Withdraw]{in.Body}, w.service.Publishing.WithdrawVersion(ctx, v.caller, in.Name, p,
				in.Body.Reason, in.Body.Undo)
		})
}
