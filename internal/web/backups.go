package web

import (
	"context"
	"net/http"

	"crelvo/internal/api"
	"crelvo/internal/record"
)

func (w *Server) addBackups() {
	const path = "/api/v1/backups"
	operate(w, "list-backups", forAdmin, http.MethodGet, path, "The last backups that were made, the last one first",
		func(ctx context.Context, v visit, _ *none) (*answer[[]api.Backup], error) {
			all, err := w.service.Backups.Runs(ctx, v.caller)
			shown := make([]api.Backup, len(all))
			for i, b := range all {
				shown[i] = showBackup(b)
			}
			return &answer[[]api.Backup]{shown}, err
		})
	operate(w, "begin-backup", forAdmin, http.MethodPost, path, "Begin a backup of all records and bytes",
		func(ctx context.Context, v visit, in *answer[api.NewBackup]) (*answer[api.Backup], error) {
			b, err := w.service.Backups.Begin(ctx, v.caller, in.Body.Target)
			return &answer[api.Backup]{showBackup(b)}, err
		})
}

func showBackup(b record.Backup) api.Backup {
	return api.Backup{ID: b.ID, Target: b.Target, Name: b.Name, By: b.By, BegunAt: b.BegunAt.UTC(),
		EndedAt: utc(b.EndedAt), State: b.State, Files: b.Files, Bytes: b.Bytes, NewFiles: b.NewFiles,
		NewBytes: b.NewBytes, Missing: b.Missing, Said: b.Said}
}
