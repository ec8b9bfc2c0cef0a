package web

import (
	"cmp"
	"context"
	"net/http"
	"strings"

	"crelvo/internal/api"
	corepromotion "crelvo/internal/core/promotion"
	"crelvo/internal/core/purl"
	"crelvo/internal/record"
	"crelvo/internal/service/promotion"
)

// ByID names a promotion.
type ByID struct {
	ID int64 `path:"id"`
}

func (w *Server) addPromotions() {
	const path = "/api/v1/promotions"
	operate(w, "promote", forSignedIn, http.MethodPost, path,
		"Promote a build or versions along a track, or say what that would do",
		func(ctx context.Context, v visit, in *answer[api.NewPromotion]) (*answer[api.AskedPromotion], error) {
			n := in.Body
			r := promotion.Request{Track: n.Track, To: n.To, Build: n.Build, PURLs: n.PURLs, As: n.As, Notes: n.Notes,
				GoOn: n.GoOn}
			ask := w.service.Promotion.Promote
			if n.DryRun {
				ask = w.service.Promotion.PlanPromotion
			}
			p, err := ask(ctx, v.caller, r)
			if err != nil {
				return nil, err
			}
			return &answer[api.AskedPromotion]{api.AskedPromotion{PromotionPage: promotionPage(p.View),
				Problems: append([]string{}, p.Problems...), Already: p.Already}}, nil
		})
	operate(w, "list-promotions", forAnyone, http.MethodGet, path,
		"Promotions from or to what the caller may read, the newest first",
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
			var found []promotion.Summary
			var before int64
			since, err := w.moment(in.Since, false)
			if err != nil {
				return nil, err
			}
			if in.Mine {
				found, err = w.service.Promotion.Waiting(ctx, v.caller)
			} else {
				f := record.PromotionFilter{Track: in.Track, AskedBy: in.By, Words: in.Words, Since: since, Before: in.Before,
					Limit: in.Limit}
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
	w.addPromotion()
}

func (w *Server) addPromotion() {
	const path = "/api/v1/promotions"
	operate(w, "show-promotion", forAnyone, http.MethodGet, path+"/{id}", "A promotion",
		func(ctx context.Context, v visit, in *ByID) (*answer[api.PromotionPage], error) {
			return onePromotion(w.service.Promotion.Promotion(ctx, v.caller, in.ID))
		})
	operate(w, "decide-promotion", forSignedIn, http.MethodPost, path+"/{id}/decision",
		"Approve or refuse a promotion that waits",
		func(ctx context.Context, v visit, in *struct {
			ByID
			Body api.Say
		}) (*answer[api.PromotionPage], error) {
			return onePromotion(w.service.Promotion.Decide(ctx, v.caller, in.ID, in.Body.Approve, in.Body.Comment))
		})
	operate(w, "cancel-promotion", forSignedIn, http.MethodPost, path+"/{id}/cancel", "End a promotion that waits",
		func(ctx context.Context, v visit, in *struct {
			ByID
			Body api.Reason
		}) (*answer[api.PromotionPage], error) {
			return onePromotion(w.service.Promotion.Cancel(ctx, v.caller, in.ID, in.Body.Reason))
		})
	operate(w, "undo-promotion", forSignedIn, http.MethodPost, path+"/{id}/undo",
		"Take a promotion back; with a reason also after somebody downloaded it",
		func(ctx context.Context, v visit, in *struct {
			ByID
			Body api.Reason
		}) (*answer[api.PromotionPage], error) {
			return onePromotion(w.service.Promotion.Undo(ctx, v.caller, in.ID, in.Body.Reason))
		})
	operate(w, "send-on-again", forSignedIn, http.MethodPost, path+"/{id}/send", "Try again to send on what failed",
		func(ctx context.Context, v visit, in *ByID) (*answer[api.PromotionPage], error) {
			return onePromotion(w.service.Promotion.RetryDeliveries(ctx, v.caller, in.ID))
		})
}

func onePromotion(p promotion.View, err error) (*answer[api.PromotionPage], error) {
	if err != nil {
		return nil, err
	}
	return &answer[api.PromotionPage]{promotionPage(p)}, nil
}

func promotionPage(p promotion.View) api.PromotionPage {
	page := api.PromotionPage{Promotion: showPromotion(p.Summary), Planned: append([]api.PlannedVersion{}, p.Planned...),
		Deliveries: []api.Delivery{}}
	targets := map[int64]string{}
	for _, item := range p.Items {
		targets[item.TargetID.Int64] = itemPURL(item, item.ToVersion, item.LabelsTo)
	}
	for _, d := range p.Deliveries {
		line := api.Delivery{Target: d.Target, PURL: targets[d.VersionID], State: d.State, Attempts: d.Attempts,
			Said: d.Said, EndedAt: utc(d.EndedAt)}
		if d.State == "waiting" {
			line.NextAt = utc(&d.NextAt)
		}
		page.Deliveries = append(page.Deliveries, line)
	}
	return page
}

// itemPURL names a version with the first of its labels, where these say what it is.
func itemPURL(i record.PromotionItem, version, labels string) string {
	p := purl.PURL{Ecosystem: i.Ecosystem, Namespace: i.Namespace, Name: i.Name, Version: version}
	if first, _, _ := strings.Cut(labels, " "); first != "" {
		p.Qualifiers = map[string]string{"tag": first}
	}
	return p.String()
}

func showPromotion(p promotion.Summary) api.Promotion {
	shown := api.Promotion{ID: p.ID, State: p.State, Track: p.Track, From: p.From, To: p.To, Build: p.Build,
		Versions: []api.PromotedVersion{}, Notes: p.Notes, Why: p.Why,
		AskedBy: p.AskedBy, AskedAt: p.AskedAt.UTC(), EndedAt: utc(p.EndedAt),
		Answers: append([]corepromotion.Answer{}, p.Answers...), Votes: []api.Vote{}, Files: p.Files, FilesDone: p.FilesDone,
		SignWith: p.SignWith, Restamps: p.Restamps,
		GoOn: p.GoOn, UndoneBy: p.UndoneBy, UndoneAt: utc(p.UndoneAt), UndoReason: p.UndoReason,
		MayVote: p.MayVote, MayUndo: p.MayUndo, MayCancel: p.MayCancel, Next: p.Next}
	for _, item := range p.Items {
		shown.Versions = append(shown.Versions, api.PromotedVersion{PURL: itemPURL(item, item.Version, item.LabelsFrom),
			Upload: item.Upload, To: cmp.Or(item.LabelsTo, item.ToVersion)})
	}
	for _, v := range p.Votes {
		shown.Votes = append(shown.Votes, api.Vote{Who: v.Who, Approve: v.Approve, Comment: v.Comment, At: v.At.UTC()})
	}
	return shown
}
