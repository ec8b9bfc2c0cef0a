package web

import (
	"context"
	"encoding/hex"
	"net/http"

	"crelvo/internal/api"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
)

func (w *Server) addVerification() {
	operate(w, "verify-records", forAdmin, http.MethodPost, "/api/v1/records/verification",
		"Compare counts, labels and marks with the rows that they are about, and put right what differs",
		func(ctx context.Context, v visit, _ *none) (*answer[[]api.Mended], error) {
			mended, err := w.service.Retention.VerifyRecords(ctx, v.caller)
			shown := make([]api.Mended, len(mended))
			for i, m := range mended {
				shown[i] = api.Mended(m)
			}
			return &answer[[]api.Mended]{shown}, err
		})
	const runs = "/api/v1/verifications"
	operate(w, "list-verifications", forAdmin, http.MethodGet, runs, "The last runs that read all stored bytes",
		func(ctx context.Context, v visit, _ *none) (*answer[[]api.Verification], error) {
			all, err := w.service.Verifying.Runs(ctx, v.caller)
			shown := make([]api.Verification, len(all))
			for i, run := range all {
				shown[i] = showVerification(run)
			}
			return &answer[[]api.Verification]{shown}, err
		})
	operate(w, "begin-verification", forAdmin, http.MethodPost, runs,
		"Read all stored bytes and compare them with what they should be",
		func(ctx context.Context, v visit, in *answer[api.NewVerification]) (*answer[api.Verification], error) {
			run, err := w.service.Verifying.Begin(ctx, v.caller, in.Body.Repair)
			return &answer[api.Verification]{showVerification(run)}, err
		})
	operate(w, "list-damages", forAdmin, http.MethodGet, "/api/v1/damages",
		"Stored bytes that are, or were, not what they should be, with what they belong to",
		func(ctx context.Context, v visit, _ *none) (*answer[[]api.Damage], error) {
			all, err := w.service.Verifying.Damages(ctx, v.caller)
			shown := make([]api.Damage, len(all))
			for i, d := range all {
				shown[i] = api.Damage{SHA256: hex.EncodeToString(d.SHA256), Size: d.Size, Store: d.Store, What: d.What,
					FoundAt: d.FoundAt.UTC(), MendedAt: utc(d.MendedAt), How: d.How, Of: []api.DamagedFile{}}
				for _, n := range d.Names {
					shown[i].Of = append(shown[i].Of, api.DamagedFile{PURL: act.PURLOf(n.Key(), n.Version).Typed(),
						Repository: n.Repository, File: n.File, By: n.By, Build: n.Build})
				}
			}
			return &answer[[]api.Damage]{shown}, err
		})
}

func showVerification(v record.Verification) api.Verification {
	return api.Verification{ID: v.ID, By: v.By, BegunAt: v.BegunAt.UTC(), EndedAt: utc(v.EndedAt), Repair: v.Repair,
		Files: v.Files, Bytes: v.Bytes, AllFiles: v.AllFiles, AllBytes: v.AllBytes, Damaged: v.Damaged, Mended: v.Mended,
		Unknown: v.Unknown, Waits: v.Said}
}
