package web

import (
	"context"
	"net/http"
	"slices"
	"strings"

	"github.com/labstack/echo/v5"

	"crelvo/internal/api"
	"crelvo/internal/core/access"
	"crelvo/internal/core/fault"
	corepromotion "crelvo/internal/core/promotion"
	"crelvo/internal/core/purl"
	"crelvo/internal/record"
	"crelvo/internal/service/keys"
	"crelvo/internal/service/promotion"
)

// TrackByName names a track. It is exported for the sake of the reflection that
// reads inputs.
type TrackByName struct {
	Track string `path:"track" maxLength:"63"`
}

// ByID names a promotion.
type ByID struct {
	ID int64 `path:"id"`
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
	operate(w, "show-track", forAnyone, http.MethodGet, path+"/{track}", "A track with what stands in its stages, and what waits",
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
			open, _, err := w.service.Promotion.Promotions(ctx, v.caller, record.PromotionFilter{Track: t.Name, States: []string{record.PromotionWaiting, record.PromotionUnderway}}, "")
			picture := api.TrackPicture{Track: w.showTrack(v, t), Standings: []api.Standing{}, Waiting: []api.Promotion{}}
			for _, s := range standings {
				r, _ := w.service.Directory.RepositoryByID(s.RepositoryID)
				picture.Standings = append(picture.Standings, api.Standing{Repository: r.Name, Build: s.Build, Name: s.Name, PURL: "pkg:" + s.Sample,
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
	operate(w, "remove-track", forAdmin, http.MethodDelete, path+"/{track}", "Remove a track; the record of its promotions stays",
		func(ctx context.Context, v visit, in *TrackByName) (*none, error) {
			return nil, w.service.Promotion.RemoveTrack(ctx, v.caller, in.Track)
		})
	operate(w, "list-arrivals", toRead, http.MethodGet, "/api/v1/repositories/{name}/arrivals", "What came into a repository since a moment and is there, and who let it in",
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
				shown[i] = api.Arrival{BuiltVersion: builtVersion(a.MadeVersion, in.Name), AskedBy: a.AskedBy, Approvers: votes[a.Promotion]}
				shown[i].Build = a.Build
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
		n.Stages = append(n.Stages, promotion.TrackStage{Repository: s.Repository, Gates: s.Gates, SignWith: s.SignWith, Onward: s.Onward})
	}
	return n
}

func (w *Server) showTrack(v visit, t record.Track) api.Track {
	shown := api.Track{Name: t.Name, Description: t.Description}
	for _, s := range t.Stages {
		r, _ := w.service.Directory.RepositoryByID(s.RepositoryID)
		stage := api.Stage{Repository: r.Name, Gates: s.Gates, SignWith: s.SignWith, Onward: s.Onward,
			Seen: w.service.Directory.Allow(v.caller, access.Read, access.Of(r)) == nil, May: w.service.Directory.Allow(v.caller, access.Promote, access.Of(r)) == nil}
		for _, text := range s.Gates {
			if g, err := corepromotion.ParseGate(text); err == nil {
				stage.Sentences = append(stage.Sentences, g.Sentence())
			}
		}
		shown.Stages = append(shown.Stages, stage)
	}
	return shown
}

func (w *Server) addPromotions() {
	const path = "/api/v1/promotions"
	operate(w, "promote", forSignedIn, http.MethodPost, path, "Promote a build or versions along a track, or say what that would do",
		func(ctx context.Context, v visit, in *answer[api.NewPromotion]) (*answer[api.Promotion], error) {
			n := in.Body
			r := promotion.Request{Track: n.Track, To: n.To, Build: n.Build, PURLs: n.PURLs, As: n.As, Notes: n.Notes, GoOn: n.GoOn}
			if n.DryRun {
				return w.onePromotion(w.service.Promotion.PlanPromotion(ctx, v.caller, r))
			}
			return w.onePromotion(w.service.Promotion.Promote(ctx, v.caller, r))
		})
	operate(w, "list-promotions", forAnyone, http.MethodGet, path, "Promotions from or to what the caller may read, the newest first",
		func(ctx context.Context, v visit, in *struct {
			Track  string `query:"track" maxLength:"63"`
			To     string `query:"to" maxLength:"63" doc:"a repository"`
			State  string `query:"state" enum:"waiting,underway,done,failed,refused,cancelled,undone,"`
			By     string `query:"by" maxLength:"63" doc:"who asked for it"`
			Words  string `query:"q" maxLength:"200" doc:"a part of the name of a package, of the build, or of the notes"`
			Since  string `query:"since" maxLength:"60" doc:"a moment"`
			Mine   bool   `query:"mine" doc:"only those that wait for the caller"`
			Before int64  `query:"before"`
			Limit  int    `query:"limit" minimum:"1" maximum:"500" default:"50"`
		}) (*answer[api.PromotionList], error) {
			var found []promotion.View
			var before int64
			since, err := w.moment(in.Since, false)
			if err != nil {
				return nil, err
			}
			if in.Mine {
				found, err = w.service.Promotion.Waiting(ctx, v.caller)
			} else {
				f := record.PromotionFilter{Track: in.Track, AskedBy: in.By, Words: in.Words, Since: since, Before: in.Before, Limit: in.Limit}
				if in.State != "" {
					f.States = []string{in.State}
				}
				found, before, err = w.service.Promotion.Promotions(ctx, v.caller, f, in.To)
			}
			page := api.PromotionList{Promotions: []api.Promotion{}, Before: before}
			for _, p := range found {
				page.Promotions = append(page.Promotions, showPromotion(p))
			}
			return &answer[api.PromotionList]{page}, err
		})
	operate(w, "show-promotion", forAnyone, http.MethodGet, path+"/{id}", "A promotion",
		func(ctx context.Context, v visit, in *ByID) (*answer[api.Promotion], error) {
			return w.onePromotion(w.service.Promotion.Promotion(ctx, v.caller, in.ID))
		})
	operate(w, "decide-promotion", forSignedIn, http.MethodPost, path+"/{id}/decision", "Approve or refuse a promotion that waits",
		func(ctx context.Context, v visit, in *struct {
			ByID
			Body api.Say
		}) (*answer[api.Promotion], error) {
			return w.onePromotion(w.service.Promotion.Decide(ctx, v.caller, in.ID, in.Body.Approve, in.Body.Comment))
		})
	operate(w, "cancel-promotion", forSignedIn, http.MethodPost, path+"/{id}/cancel", "End a promotion that waits",
		func(ctx context.Context, v visit, in *struct {
			ByID
			Body api.Reason
		}) (*answer[api.Promotion], error) {
			return w.onePromotion(w.service.Promotion.Cancel(ctx, v.caller, in.ID, in.Body.Reason))
		})
	operate(w, "undo-promotion", forSignedIn, http.MethodPost, path+"/{id}/undo", "Take a promotion back; with a reason also after somebody downloaded it",
		func(ctx context.Context, v visit, in *struct {
			ByID
			Body api.Reason
		}) (*answer[api.Promotion], error) {
			return w.onePromotion(w.service.Promotion.Undo(ctx, v.caller, in.ID, in.Body.Reason))
		})
	operate(w, "send-on-again", forSignedIn, http.MethodPost, path+"/{id}/send", "Try again to send on what failed",
		func(ctx context.Context, v visit, in *ByID) (*answer[api.Promotion], error) {
			return w.onePromotion(w.service.Promotion.RetryDeliveries(ctx, v.caller, in.ID))
		})
}

func (w *Server) onePromotion(p promotion.View, err error) (*answer[api.Promotion], error) {
	if err != nil {
		return nil, err
	}
	shown := showPromotion(p)
	for _, v := range p.Planned {
		planned := api.PlannedVersion{PURL: v.PURL, Upload: v.Upload, To: v.To, Restamp: v.Restamp, NewBytes: v.NewBytes, Files: []api.PlannedFile{}}
		for _, f := range v.Files {
			file := api.PlannedFile{Name: f.Name, To: f.To, Size: f.Size, Mentions: f.Mentions, Dropped: f.Dropped, Signed: f.Signed}
			for _, c := range f.Changes {
				file.Changes = append(file.Changes, api.PlannedChange(c))
			}
			planned.Files = append(planned.Files, file)
		}
		shown.Planned = append(shown.Planned, planned)
	}
	shown.Problems = p.Problems
	targets := map[int64]string{}
	for _, item := range p.Items {
		targets[item.TargetID.Int64] = itemPURL(item, item.ToVersion)
	}
	for _, d := range p.Deliveries {
		line := api.Delivery{Destination: d.Destination, PURL: targets[d.VersionID], State: d.State, Attempts: d.Attempts, Said: d.Said, EndedAt: utc(d.EndedAt)}
		if d.State == "waiting" {
			line.NextAt = utc(&d.NextAt)
		}
		shown.Deliveries = append(shown.Deliveries, line)
	}
	return &answer[api.Promotion]{shown}, nil
}

func itemPURL(i record.PromotionItem, version string) string {
	return purl.PURL{Ecosystem: i.Ecosystem, Namespace: i.Namespace, Name: i.Name, Version: version}.String()
}

func showPromotion(p promotion.View) api.Promotion {
	shown := api.Promotion{ID: p.ID, State: p.State, Track: p.Track, From: p.From, To: p.To, Build: p.Build, Versions: []api.PromotedVersion{}, Notes: p.Notes, Why: p.Why,
		AskedBy: p.AskedBy, AskedAt: p.AskedAt.UTC(), EndedAt: utc(p.EndedAt), Answers: append([]corepromotion.Answer{}, p.Answers...), Votes: []api.Vote{}, Files: p.Files, FilesDone: p.FilesDone,
		SignWith: p.SignWith, GoOn: p.GoOn, UndoneBy: p.UndoneBy, UndoneAt: utc(p.UndoneAt), UndoReason: p.UndoReason, MayVote: p.MayVote, MayUndo: p.MayUndo, MayCancel: p.MayCancel, Next: p.Next, Already: p.Already}
	for _, item := range p.Items {
		shown.Versions = append(shown.Versions, api.PromotedVersion{PURL: itemPURL(item, item.Version), Upload: item.Upload, To: item.ToVersion})
	}
	for _, v := range p.Votes {
		shown.Votes = append(shown.Votes, api.Vote{Who: v.Who, Approve: v.Approve, Comment: v.Comment, At: v.At.UTC()})
	}
	return shown
}

func (w *Server) addKeys() {
	const allKeys, destinations = "/api/v1/keys", "/api/v1/destinations"
	operate(w, "list-keys", forSignedIn, http.MethodGet, allKeys, "Public keys: of others, and of those that Crelvo signs with",
		func(ctx context.Context, v visit, _ *none) (*answer[[]api.Key], error) {
			all, err := w.service.Keys.Keys(ctx)
			shown := make([]api.Key, len(all))
			for i, k := range all {
				shown[i] = api.Key{Name: k.Name, Form: k.Form, Signs: k.Signs, Fingerprint: k.Fingerprint, Public: k.Text, Address: v.address + "/keys/" + k.Name, By: k.ByName, At: k.At.UTC()}
			}
			return &answer[[]api.Key]{shown}, err
		})
	operate(w, "add-key", forAdmin, http.MethodPost, allKeys, "Add a public key of others, or a key to sign with",
		func(ctx context.Context, v visit, in *answer[api.NewKey]) (*none, error) {
			return nil, w.service.Keys.AddKey(ctx, v.caller, keys.NewKey{Name: in.Body.Name, Public: in.Body.Public, Secret: in.Body.Secret, Passphrase: in.Body.Passphrase, Owner: in.Body.Owner})
		})
	operate(w, "remove-key", forAdmin, http.MethodDelete, allKeys+"/{key}", "Remove a key",
		func(ctx context.Context, v visit, in *struct {
			Key string `path:"key" maxLength:"63"`
		}) (*none, error) {
			return nil, w.service.Keys.RemoveKey(ctx, v.caller, in.Key)
		})
	operate(w, "list-destinations", forAdmin, http.MethodGet, destinations, "Repositories on other servers that promotions go on to",
		func(ctx context.Context, v visit, _ *none) (*answer[[]api.Destination], error) {
			all, err := w.service.Promotion.Destinations(ctx)
			shown := make([]api.Destination, len(all))
			for i, d := range all {
				shown[i] = api.Destination{Name: d.Name, Ecosystem: d.Ecosystem, URL: d.URL, HasSecret: d.Secret != nil, By: d.ByName, At: d.At.UTC()}
			}
			return &answer[[]api.Destination]{shown}, err
		})
	operate(w, "set-destination", forAdmin, http.MethodPost, destinations, "Make a destination, or write it anew",
		func(ctx context.Context, v visit, in *answer[api.NewDestination]) (*none, error) {
			return nil, w.service.Promotion.SetDestination(ctx, v.caller, promotion.NewDestination(in.Body))
		})
	operate(w, "remove-destination", forAdmin, http.MethodDelete, destinations+"/{destination}", "Remove a destination",
		func(ctx context.Context, v visit, in *struct {
			Destination string `path:"destination" maxLength:"63"`
		}) (*none, error) {
			return nil, w.service.Promotion.RemoveDestination(ctx, v.caller, in.Destination)
		})
	w.route(http.MethodGet, "/keys/:key", forAnyone, w.publicKey)
}

// outsideKey is the name under which the key of requests to outside checks is
// published; no other key can have it.
const outsideKey = "Crelvo-Checks"

// publicKey gives a public key to anybody: whoever verifies a signature needs it.
func (w *Server) publicKey(c *echo.Context) error {
	name := param(c, "key")
	if name == outsideKey {
		text, err := w.service.Promotion.CheckKey()
		if err != nil {
			return err
		}
		return c.String(http.StatusOK, text)
	}
	known, err := w.service.Keys.Keys(c.Request().Context())
	if err != nil {
		return err
	}
	i := slices.IndexFunc(known, func(k keys.View) bool { return k.Name == strings.TrimSuffix(name, ".asc") })
	if i < 0 {
		return fault.New(fault.NotFound, "no-such-key", "there is no key %q", name)
	}
	if known[i].Form == "openpgp" {
		c.Response().Header().Set("Content-Type", "application/pgp-keys")
		_, err := c.Response().Write([]byte(known[i].Text))
		return err
	}
	return c.String(http.StatusOK, known[i].Text)
}
