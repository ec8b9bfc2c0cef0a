package web

import (
	"context"
	"net/http"
	"time"

	"crelvo/internal/api"
	"crelvo/internal/core/access"
	"crelvo/internal/core/bundle"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/record"
	"crelvo/internal/service/relays"
)

// RelayName names a relay.
type RelayName struct {
	Name string `path:"name" maxLength:"63"`
}

func (w *Server) addRelays() {
	const path = "/api/v1/relays"
	one := func(v relays.View, err error) (*answer[api.Relay], error) {
		return &answer[api.Relay]{showRelay(v)}, err
	}
	operate(w, "list-relays", forAdmin, http.MethodGet, path, "Relays, and how far they are",
		func(ctx context.Context, v visit, _ *none) (*answer[[]api.Relay], error) {
			all, err := w.service.Relays.Relays(ctx, v.caller)
			shown := make([]api.Relay, len(all))
			for i, r := range all {
				shown[i] = showRelay(r)
			}
			return &answer[[]api.Relay]{shown}, err
		})
	operate(w, "add-relay", forAdmin, http.MethodPost, path, "Send what arrives in a repository on to another server",
		func(ctx context.Context, v visit, in *answer[api.NewRelay]) (*answer[api.Relay], error) {
			n := in.Body
			return one(w.service.Relays.Add(ctx, v.caller, relays.Settings{Name: n.Name, Repository: n.Repository,
				Target: n.Target, Only: n.Only, Holds: catalog.Holds(n.Holds), FromNow: n.FromNow, Removals: n.Removals,
				Schedule: n.Schedule, Zone: n.Zone, Hours: n.Hours, Rate: n.BytesRate}, n.Anyway))
		})
	operate(w, "show-relay", forAdmin, http.MethodGet, path+"/{name}", "A relay, and how far it is",
		func(ctx context.Context, v visit, in *RelayName) (*answer[api.Relay], error) {
			return one(w.service.Relays.Relay(ctx, v.caller, in.Name))
		})
	operate(w, "edit-relay", forAdmin, http.MethodPatch, path+"/{name}", "Change a relay, pause it or let it go on",
		func(ctx context.Context, v visit, in *struct {
			RelayName
			Body api.RelayChange
		}) (*answer[api.Relay], error) {
			c := in.Body
			return one(w.service.Relays.Edit(ctx, v.caller, in.Name, relays.Change{Target: c.Target,
				Schedule: c.Schedule, Zone: c.Zone, Hours: c.Hours, Only: c.Only, Holds: (*catalog.Holds)(c.Holds),
				Rate: c.BytesRate, Paused: c.Paused, Removals: c.Removals}, c.Anyway))
		})
	operate(w, "remove-relay", forAdmin, http.MethodDelete, path+"/{name}", "Remove a relay; what it sent stays there",
		func(ctx context.Context, v visit, in *RelayName) (*none, error) {
			return nil, w.service.Relays.Remove(ctx, v.caller, in.Name)
		})
	operate(w, "check-relay", forAdmin, http.MethodPost, path+"/{name}/check", "Try the target of a relay",
		func(ctx context.Context, v visit, in *RelayName) (*none, error) {
			return nil, w.service.Relays.Check(ctx, v.caller, in.Name)
		})
	operate(w, "run-relay", forAdmin, http.MethodPost, path+"/{name}/run",
		"Look now for what a relay missed, and try again what failed",
		func(ctx context.Context, v visit, in *RelayName) (*answer[api.Relay], error) {
			return one(w.service.Relays.Start(ctx, v.caller, in.Name))
		})
	operate(w, "list-relayed", forAdmin, http.MethodGet, path+"/{name}/versions", "What a relay sends, or sent",
		func(ctx context.Context, v visit, in *struct {
			RelayName
			State string `query:"state" enum:"waiting,sent,failed" default:"waiting"`
		}) (*answer[[]api.RelayedVersion], error) {
			all, err := w.service.Relays.Items(ctx, v.caller, in.Name, in.State)
			shown := make([]api.RelayedVersion, len(all))
			for i, item := range all {
				shown[i] = showRelayed(item)
			}
			return &answer[[]api.RelayedVersion]{shown}, err
		})
}

// addMarks adds what another Crelvo tells by a relay.
func (w *Server) addMarks() {
	operate(w, "take-marks", toPublish, http.MethodPost, "/api/v1/repositories/{name}/marks",
		"Take over labels, withdrawals and removals of a package from another Crelvo, unless other was said later here",
		func(ctx context.Context, v visit, in *struct {
			ByName
			Body bundle.Marks
		}) (*answer[bundle.MarksTaken], error) {
			r, err := w.service.Directory.Repository(v.caller, in.Name, access.Publish)
			if err != nil {
				return nil, err
			}
			p, err := purl.Parse(in.Body.PURL)
			if err != nil {
				return nil, fault.New(fault.Invalid, "bad-purl", "%v", err)
			}
			key := r.Key(p.Ecosystem, p.Namespace, p.Name)
			refused, err := w.service.Publishing.TakeMarks(ctx, v.caller, key, in.Body)
			if err != nil {
				return nil, err
			}
			more, err := w.service.Retention.TakeRemovals(ctx, v.caller, key, in.Body.Removed)
			return &answer[bundle.MarksTaken]{bundle.MarksTaken{Refused: append(append([]string{}, refused...), more...)}}, err
		})
}

func showRelayed(item record.RelayItem) api.RelayedVersion {
	shown := api.RelayedVersion{Upload: item.Upload, Bytes: item.Bytes, State: item.State, Attempts: item.Attempts,
		Since: item.QueuedAt.UTC(), EndedAt: utc(item.EndedAt), Said: item.Said}
	if item.Version != "" {
		shown.PURL = item.PURL().Typed()
	}
	if item.State == record.RelayWaiting && item.Attempts > 0 {
		shown.NextAt = utc(&item.NextAt)
	}
	return shown
}

func showRelay(v relays.View) api.Relay {
	shown := api.Relay{Name: v.Name, Repository: v.Repository, Target: v.Target, Ecosystem: v.Ecosystem,
		Only: append([]string{}, v.Patterns...), Holds: string(v.Holds), Since: utc(v.Since), Schedule: v.Schedule,
		Zone: v.Zone, Next: []time.Time{}, Hours: v.Hours, BytesRate: v.Rate, Paused: v.Paused, Open: v.Open, By: v.ByName,
		Removals: v.Removals, Telling: v.State.Telling, NotTaken: v.State.NotTaken, MadeAt: v.MadeAt.UTC(),
		LookedAt: utc(v.LookedAt), Waiting: v.State.Waiting, Bytes: v.State.Bytes,
		Oldest: utc(v.State.Oldest), Failed: v.State.Failed, Sent: v.State.Sent, LastAt: utc(v.State.LastAt),
		Said: v.State.Said}
	if !v.Paused {
		shown.Next = append(shown.Next, v.Next...)
	}
	return shown
}
