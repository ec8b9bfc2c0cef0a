package web

import (
	"context"
	"net/http"
	"slices"
	"strings"

	"crelvo/internal/api"
	"crelvo/internal/core/access"
	corepromotion "crelvo/internal/core/promotion"
	"crelvo/internal/record"
	"crelvo/internal/service/promotion"
)

// TrackByName names a track. It is exported for the sake of the reflection that
// reads inputs.
type TrackByName struct {
	Track string `path:"track" maxLength:"63"`
}

func (w *Server) addTracks() {
	const path = "/api/v1/tracks"
	operate(w, "list-tracks", forAnyone, http.MethodGet, path, "The tracks of which the caller may read a stage",
		func(ctx context.Context, v visit, _ *none) (*answer[[]api.Track], error) {
			tracks, err := w.service.Promotion.Tracks(ctx, v.caller)
			shown := make([]api.Track, len(tracks))
			for i, t := range tracks {
				shown[i] = w.showTrack(v, t)
			}
			return &answer[[]api.Track]{shown}, err
		})
	operate(w, "show-track", forAnyone, http.MethodGet, path+"/{track}",
		"A track with what stands in its stages, and what waits",
		func(ctx context.Context, v visit, in *struct {
			TrackByName
			Limit int `query:"limit" minimum:"1" maximum:"200" default:"12" doc:"how much of each stage"`
		}) (*answer[api.TrackPicture], error) {
			t, err := w.service.Promotion.Track(ctx, v.caller, in.Track)
			if err != nil {
				return nil, err
			}
			standings, err := w.service.Promotion.Standings(ctx, v.caller, t, in.Limit)
			if err != nil {
				return nil, err
			}
			open, _, err := w.service.Promotion.Promotions(ctx, v.caller,
				record.PromotionFilter{Track: t.Name, States: []string{record.PromotionWaiting, record.PromotionUnderway}}, "")
			picture := api.TrackPicture{Track: w.showTrack(v, t), Standings: []api.Standing{}, Waiting: []api.Promotion{}}
			for _, s := range standings {
				r, _ := w.service.Directory.RepositoryByID(s.RepositoryID)
				picture.Standings = append(picture.Standings,
					api.Standing{Repository: r.Name, Build: s.Build, Name: s.Name, PURL: "pkg:" + s.Sample,
						Version: s.Version, Numbers: s.Numbers, Versions: s.Versions, At: s.Arrived.UTC(), MovedOn: s.MovedOn})
			}
			for _, p := range open {
				picture.Waiting = append(picture.Waiting, showPromotion(p))
			}
			return &answer[api.TrackPicture]{picture}, err
		})
	operate(w, "add-track", forAdmin, http.MethodPost, path, "Make a track",
		func(ctx context.Context, v visit, in *answer[api.Track]) (*none, error) {
			return nil, w.service.Promotion.AddTrack(ctx, v.caller, newTrack(in.Body))
		})
	operate(w, "edit-track", forAdmin, http.MethodPut, path+"/{track}", "Write a track anew",
		func(ctx context.Context, v visit, in *struct {
			TrackByName
			Body api.Track
		}) (*none, error) {
			n := newTrack(in.Body)
			n.Name = in.Track
			return nil, w.service.Promotion.EditTrack(ctx, v.caller, n)
		})
	operate(w, "remove-track", forAdmin, http.MethodDelete, path+"/{track}",
		"Remove a track; the record of its promotions stays",
		func(ctx context.Context, v visit, in *TrackByName) (*none, error) {
			return nil, w.service.Promotion.RemoveTrack(ctx, v.caller, in.Track)
		})
	w.addArrivals()
}

func (w *Server) addArrivals() {
	operate(w, "list-arrivals", toRead, http.MethodGet, "/api/v1/repositories/{name}/arrivals",
		"What came into a repository since a moment and is there, and who let it in",
		func(ctx context.Context, v visit, in *struct {
			ByName
			Since string `query:"since" required:"true" maxLength:"60" doc:"a moment"`
			Limit int    `query:"limit" minimum:"1" maximum:"1000" default:"200"`
		}) (*answer[[]api.Arrival], error) {
			since, err := w.moment(in.Since, false)
			if err != nil {
				return nil, err
			}
			found, err := w.service.Promotion.Arrivals(ctx, v.caller, in.Name, since, in.Limit)
			if err != nil {
				return nil, err
			}
			votes, err := w.votesOf(ctx, v, found)
			shown := make([]api.Arrival, len(found))
			for i, a := range found {
				shown[i] = api.Arrival{BuiltVersion: builtVersion(a.MadeVersion, in.Name), Build: a.Build,
					AskedBy: a.AskedBy, Approvers: votes[a.Promotion]}
			}
			return &answer[[]api.Arrival]{shown}, err
		})
}

// votesOf names who approved the promotions of arrivals.
func (w *Server) votesOf(ctx context.Context, v visit, found []record.Arrival) (map[int64]string, error) {
	var ids []int64
	for _, a := range found {
		if a.Promotion != 0 && !slices.Contains(ids, a.Promotion) {
			ids = append(ids, a.Promotion)
		}
	}
	by := map[int64]string{}
	if ids == nil {
		return by, nil
	}
	promotions, _, err := w.service.Promotion.Promotions(ctx, v.caller, record.PromotionFilter{IDs: ids}, "")
	for _, p := range promotions {
		var names []string
		for _, vote := range p.Votes {
			if vote.Approve {
				names = append(names, vote.Who)
			}
		}
		by[p.ID] = strings.Join(names, ", ")
	}
	return by, err
}

func newTrack(t api.Track) promotion.NewTrack {
	n := promotion.NewTrack{Name: t.Name, Description: t.Description}
	for _, s := range t.Stages {
		n.Stages = append(n.Stages, promotion.TrackStage{Repository: s.Repository, Gates: s.Gates, SignWith: s.SignWith,
			Onward: s.Onward, Restamps: s.Restamps})
	}
	return n
}

func (w *Server) showTrack(v visit, t record.Track) api.Track {
	shown := api.Track{Name: t.Name, Description: t.Description}
	for _, s := range t.Stages {
		r, _ := w.service.Directory.RepositoryByID(s.RepositoryID)
		stage := api.Stage{Repository: r.Name, Gates: s.Gates, SignWith: s.SignWith, Onward: s.Onward,
			Restamps: s.Restamps,
			Seen:     w.service.Directory.Allow(v.caller, access.Read, access.Of(r)) == nil,
			May:      w.service.Directory.Allow(v.caller, access.Promote, access.Of(r)) == nil}
		for _, text := range s.Gates {
			if g, err := corepromotion.ParseGate(text); err == nil {
				stage.Sentences = append(stage.Sentences, g.Sentence())
			}
		}
		shown.Stages = append(shown.Stages, stage)
	}
	return shown
}
