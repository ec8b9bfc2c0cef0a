package web

import (
	"context"
	"net/http"

	"crelvo/internal/api"
	"crelvo/internal/service/schedule"
)

func (w *Server) addSchedule() {
	operate(w, "next-times", forSignedIn, http.MethodGet, "/api/v1/schedule", "The next times of a schedule",
		func(ctx context.Context, v visit, in *struct {
			Schedule string `query:"schedule" required:"true" maxLength:"200" example:"30 5 * * 1-5"`
			Zone     string `query:"zone" maxLength:"100" default:"UTC"`
		}) (*answer[api.NextTimes], error) {
			next, err := schedule.NextTimes(in.Schedule, in.Zone, w.service.Now(), shownTimes)
			return &answer[api.NextTimes]{api.NextTimes{Next: next}}, err
		})
}
