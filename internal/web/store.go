package web

import (
	"context"
	"net/http"
	"time"

	"crelvo/internal/api"
	"crelvo/internal/record"
	"crelvo/internal/service/store"
)

// ByStore names a store. It is exported for the sake of the reflection that reads inputs.
type ByStore struct {
	Store string `path:"store" maxLength:"63"`
}

func (w *Server) addStores() {
	const path = "/api/v1/stores"
	operate(w, "list-stores", forAdmin, http.MethodGet, path, "Where bytes are kept",
		func(ctx context.Context, v visit, _ *none) (*answer[[]api.Store], error) {
			all, err := w.service.Store.Stores(ctx, v.caller)
			shown := make([]api.Store, len(all))
			for i, s := range all {
				shown[i] = showStore(s)
			}
			return &answer[[]api.Store]{shown}, err
		})
	operate(w, "show-store", forAdmin, http.MethodGet, path+"/{store}", "One store",
		func(ctx context.Context, v visit, in *ByStore) (*answer[api.Store], error) {
			return w.oneStore(ctx, v, in.Store)
		})
	operate(w, "add-store", forAdmin, http.MethodPost, path, "Add a store",
		func(ctx context.Context, v visit, in *answer[api.NewStore]) (*answer[api.Store], error) {
			n := in.Body
			if err := w.service.Store.AddStore(ctx, v.caller, store.NewStore{Name: n.Name, Kind: record.StoreKind(n.Kind),
				Secret: n.Secret, Adopt: n.Adopt, Settings: record.StoreSettings{Folder: n.Folder, Endpoint: n.Endpoint,
					Bucket: n.Bucket, Prefix: n.Prefix, Region: n.Region, Addressing: n.Addressing, Encryption: n.Encryption,
					Credentials: n.Credentials, AccessKey: n.AccessKey}}); err != nil {
				return nil, err
			}
			return w.oneStore(ctx, v, n.Name)
		})
	operate(w, "edit-store", forAdmin, http.MethodPatch, path+"/{store}",
		"Change how a store is reached, or make it the default one",
		func(ctx context.Context, v visit, in *struct {
			ByStore
			Body api.StoreChange
		}) (*answer[api.Store], error) {
			c := in.Body
			if err := w.service.Store.EditStore(ctx, v.caller, in.Store, store.Change{Name: c.Name, Folder: c.Folder,
				Endpoint: c.Endpoint, Bucket: c.Bucket, Prefix: c.Prefix, Region: c.Region, Addressing: c.Addressing,
				Encryption: c.Encryption, Credentials: c.Credentials, AccessKey: c.AccessKey, Secret: c.Secret,
				Default: c.Default}); err != nil {
				return nil, err
			}
			name := in.Store
			if c.Name != nil {
				name = *c.Name
			}
			return w.oneStore(ctx, v, name)
		})
	operate(w, "remove-store", forAdmin, http.MethodDelete, path+"/{store}", "Forget a store that nothing is in",
		func(ctx context.Context, v visit, in *ByStore) (*none, error) {
			return nil, w.service.Store.RemoveStore(ctx, v.caller, in.Store)
		})
	operate(w, "check-store", forAdmin, http.MethodPost, path+"/{store}/checks",
		"Try whether a store does what it must",
		func(ctx context.Context, v visit, in *ByStore) (*answer[api.StoreCheck], error) {
			took, err := w.service.Store.Check(ctx, v.caller, in.Store)
			return &answer[api.StoreCheck]{api.StoreCheck{Name: in.Store, Took: took.Round(time.Millisecond).String()}}, err
		})
	const moves = "/api/v1/store-moves"
	operate(w, "list-store-moves", forAdmin, http.MethodGet, moves, "The last moves of repositories to other stores",
		func(ctx context.Context, v visit, in *struct {
			UnderWay bool `query:"underWay" doc:"only those that have not ended"`
		}) (*answer[[]api.StoreMove], error) {
			all, err := w.service.Store.Moves(ctx, v.caller, in.UnderWay)
			shown := make([]api.StoreMove, len(all))
			for i, m := range all {
				shown[i] = api.StoreMove{ID: m.ID, Repository: m.Repository, Store: m.Store, State: string(m.State),
					Files: m.Files, Bytes: m.Bytes, LeftFiles: m.LeftFiles, LeftBytes: m.LeftBytes, Freed: m.Freed,
					Trouble: m.Trouble, By: m.By, BegunAt: m.BegunAt.UTC(), EndedAt: utc(m.EndedAt)}
			}
			return &answer[[]api.StoreMove]{shown}, err
		})
	operate(w, "begin-store-moves", forAdmin, http.MethodPost, moves,
		"Give repositories another store, and copy what they hold there",
		func(ctx context.Context, v visit, in *answer[api.NewStoreMove]) (*none, error) {
			return nil, w.service.Store.Move(ctx, v.caller, in.Body.Repositories, in.Body.To)
		})
}

func (w *Server) oneStore(ctx context.Context, v visit, name string) (*answer[api.Store], error) {
	s, err := w.service.Store.StoreNamed(ctx, v.caller, name)
	return &answer[api.Store]{showStore(s)}, err
}

func showStore(s store.View) api.Store {
	is := s.Settings
	return api.Store{Name: s.Name, Kind: string(s.Kind), Where: s.Where, Default: s.Default, Folder: is.Folder,
		Endpoint: is.Endpoint, Bucket: is.Bucket, Prefix: is.Prefix, Region: is.Region, Addressing: is.Addressing,
		Encryption: is.Encryption, Credentials: is.Credentials, AccessKey: is.AccessKey, Identity: s.Identity,
		Files: s.Files, Bytes: s.Bytes, Free: s.Free, Waiting: s.Waiting, Away: s.Away,
		Repositories: append([]string{}, s.Repositories...), CreatedAt: s.CreatedAt.UTC()}
}
