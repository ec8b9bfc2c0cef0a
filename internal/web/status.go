package web

import (
	"context"
	"net/http"

	"crelvo/internal/api"
)

func (w *Server) addStatus() {
	operate(w, "status", forSignedIn, http.MethodGet, "/api/v1/status", "How the service is",
		func(ctx context.Context, v visit, _ *none) (*answer[api.Status], error) {
			status := api.Status{Version: w.settings.Version, StartedAt: w.started.UTC(), Address: v.address, Database: "ok",
				Concerns: []api.Concern{}}
			readable := w.service.Directory.Readable(v.caller)
			totals, err := w.service.Repositories.Totals(ctx, readable...)
			if err != nil {
				status.Database = asFault(err).Message
			}
			for _, r := range readable {
				status.Repositories++
				status.Packages += totals[r.ID].Packages
				status.Versions += totals[r.ID].Versions
				status.Bytes += totals[r.ID].Bytes
			}
			if err == nil {
				concerns, err := w.service.Status.Concerns(ctx, v.caller)
				if err != nil {
					return nil, err
				}
				for _, c := range concerns {
					status.Concerns = append(status.Concerns, api.Concern(c))
				}
			}
			return &answer[api.Status]{status}, nil
		})
}
