package web

import (
	"context"
	"net/http"

	"crelvo/internal/api"
	"crelvo/internal/core/purl"
	"crelvo/internal/core/text"
	"crelvo/internal/record"
	"crelvo/internal/service/transfers"
)

// TransferID names a transfer.
type TransferID struct {
	ID int64 `path:"id" minimum:"1"`
}

func (w *Server) addTransfers() {
	const path = "/api/v1/transfers"
	one := func(v transfers.View, err error) (*answer[api.TransferRun], error) {
		return &answer[api.TransferRun]{w.showTransfer(v)}, err
	}
	operate(w, "list-transfers", forSignedIn, http.MethodGet, path,
		"The last transfers that you began, the last one first; an admin sees everybody's",
		func(ctx context.Context, v visit, _ *none) (*answer[[]api.TransferRun], error) {
			all, err := w.service.Transfers.Transfers(ctx, v.caller)
			shown := make([]api.TransferRun, len(all))
			for i, t := range all {
				shown[i] = w.showTransfer(t)
			}
			return &answer[[]api.TransferRun]{shown}, err
		})
	operate(w, "begin-transfer", forSignedIn, http.MethodPost, path,
		"Take the packages of a repository to another one: planned first, then done in the background",
		func(ctx context.Context, v visit, in *answer[api.NewTransferRun]) (*answer[api.TransferRun], error) {
			wish := transfers.Wish{From: in.Body.From, To: in.Body.To, Only: in.Body.Only, Dry: in.Body.DryRun,
				Rate: in.Body.BytesRate}
			if in.Body.Since != nil {
				wish.Since = *in.Body.Since
			}
			return one(w.service.Transfers.Begin(ctx, v.caller, wish))
		})
	operate(w, "show-transfer", forSignedIn, http.MethodGet, path+"/{id}", "How far a transfer is",
		func(ctx context.Context, v visit, in *TransferID) (*answer[api.TransferRun], error) {
			return one(w.service.Transfers.Transfer(ctx, v.caller, in.ID))
		})
	operate(w, "stop-transfer", forSignedIn, http.MethodDelete, path+"/{id}", "Stop a transfer; what came stays",
		func(ctx context.Context, v visit, in *TransferID) (*answer[api.TransferRun], error) {
			return one(w.service.Transfers.Stop(ctx, v.caller, in.ID))
		})
	operate(w, "list-transfer-versions", forSignedIn, http.MethodGet, path+"/{id}/versions",
		"What becomes of the versions of a transfer, in the order of the plan",
		func(ctx context.Context, v visit, in *struct {
			TransferID
			State string `query:"state" enum:"new,there,refused,came,failed,outside" doc:"outside: refused or failed; left out: all"`
			After int    `query:"after" minimum:"0" doc:"go on after this place in the plan"`
		}) (*answer[api.TransferItems], error) {
			all, err := w.service.Transfers.Items(ctx, v.caller, in.ID, in.State, in.After)
			shown := api.TransferItems{Items: make([]api.TransferItem, len(all)), More: len(all) == transfers.MostItems}
			for i, item := range all {
				of := purl.PURL{Ecosystem: item.Ecosystem, Namespace: item.Namespace, Name: item.Name, Version: item.Version}
				shown.Items[i] = api.TransferItem{N: item.N, PURL: of.Typed(), Upload: item.Upload, Files: item.Files,
					Bytes: item.Bytes, Travels: item.Travels, State: item.State, Why: text.Clean(item.Why, false, longestWhy)}
			}
			return &answer[api.TransferItems]{shown}, err
		})
}

// longestWhy is how many letters are shown of why something did not come.
const longestWhy = 1000

func (w *Server) showTransfer(v transfers.View) api.TransferRun {
	count := func(state string) api.TransferCount {
		c := v.Counts[state]
		return api.TransferCount{Versions: c.Versions, Bytes: c.Bytes, Travels: c.Travels}
	}
	shown := api.TransferRun{ID: v.ID, From: v.From, To: v.To, Only: append([]string{}, v.Patterns...),
		Since: utc(v.Since), DryRun: v.Dry, BytesRate: v.Rate, By: v.ByName, BegunAt: v.BegunAt.UTC(),
		EndedAt: utc(v.EndedAt), State: v.State,
		Why: v.Failure, Packages: v.Packages, Fetched: v.Fetched, ToCome: count(record.ItemNew),
		Came: count(record.ItemCame), There: count(record.ItemThere), Refused: count(record.ItemRefused),
		Failed: count(record.ItemFailed)}
	if left, ok := v.Left(w.service.Now()); ok {
		shown.Left = &left
	}
	return shown
}
