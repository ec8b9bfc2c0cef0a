package web

import (
	"context"
	"net/http"

	"crelvo/internal/api"
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
}
